//! A column that the header names twice.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: Code::DUPLICATE_COLUMN,
    severity: Severity::Warning,
    about: "a column that the header names twice",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A header with the same column name twice.

Why it matters
    Only one of the two is read, and it is not plain which.

When to ignore it
    When the second one is never filled in.

Example, wrong
    Reach   Basin   Basin

Example, right
    Reach   Basin   BasinNote
";
