//! Text that the format cannot read.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: Code::SYNTAX_ERROR,
    severity: Severity::Error,
    about: "text that the format cannot read",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A quote or bracket that is never closed, a comma that is missing, a line that does not have
    the shape of the others.

Why it matters
    The game stops reading there, or reads something else than you meant.

When to ignore it
    Never. Only the record it stands in is lost to the other checks; all else is still checked.

Example, wrong
    frost_cut_name = \"Frostgate Cut

Example, right
    frost_cut_name = \"Frostgate Cut\"
";
