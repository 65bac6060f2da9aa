//! A column that a closed table does not describe.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: Code::UNKNOWN_COLUMN,
    severity: Severity::Warning,
    about: "a column that a closed table does not describe",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A column in a file of a table whose format says `closed = true`, which the schema does not
    describe.

Why it matters
    The game ignores a column it does not know; often the name is misspelt.

When to ignore it
    When the column is a note for people: describe it with `note = true`.

Example, wrong
    Reach   Basin   Dephth

Example, right
    Reach   Basin   Depth
";
