//! A column that the schema describes and the header lacks.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: Code::MISSING_COLUMN,
    severity: Severity::Error,
    about: "a column that the schema describes and the header lacks",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A file of a table whose header does not have a column that the schema describes.

Why it matters
    The game looks the column up by name; without it every record lacks the value.

When to ignore it
    When not all files of the table have the column: mark the field `optional = true`.

Example, wrong
    Reach   Bassin   Depth

Example, right
    Reach   Basin   Depth
";
