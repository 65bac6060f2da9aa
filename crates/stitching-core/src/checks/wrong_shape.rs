//! A value or item without the parts it should have.

use super::{Check, Run};
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: "wrong-shape",
    severity: Severity::Error,
    about: "a value or item without the parts it should have",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A value, or an item of a list, that does not fit the template given by `parts`.

Why it matters
    The game takes it apart in the same way and gets nothing.

When to ignore it
    When the shape differs on purpose, describe what may be missing in square brackets.

Example, wrong
    Cargo = coal:40;peat          (parts = \"{good}:{amount}\")

Example, right
    Cargo = coal:40;peat:20
";
