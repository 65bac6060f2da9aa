//! A row with more or fewer cells than the header.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: Code::COLUMN_COUNT,
    severity: Severity::Error,
    about: "a row with more or fewer cells than the header",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A row of a delimited table that does not have as many cells as the header has columns.

Why it matters
    Behind a missing or surplus delimiter every value lands in the wrong column.

When to ignore it
    If the game fills missing cells at the end itself, the row still works there; adding the
    empty cells makes it plain.

Example, wrong
    Reach       Basin   Depth
    frost_cut   north

Example, right
    Reach       Basin   Depth
    frost_cut   north   12
";
