//! A comment or trailing comma where the game reads strict JSON.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: Code::NOT_STRICT_JSON,
    severity: Severity::Error,
    about: "a comment or trailing comma where the game reads strict JSON",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A comment, or a comma after the last entry, in a JSON file of a table that does not say the
    game accepts them.

Why it matters
    A strict reader stops there; the game then misses the whole file.

When to ignore it
    When the game does accept it: write `comments = true` or `trailing_commas = true` in the
    table's format.

Example, wrong
    [ \"crane\", \"lamp\", ]

Example, right
    [ \"crane\", \"lamp\" ]
";
