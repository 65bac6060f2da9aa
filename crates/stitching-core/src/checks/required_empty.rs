//! An empty value where the game needs one.

use super::{Check, Run};
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: "required-empty",
    severity: Severity::Error,
    about: "an empty value where the game needs one",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A field marked `required` that is empty, missing, or one of its none values.

Why it matters
    The game has no default for it.

When to ignore it
    When the game does have one: take `required` out of the schema.

Example, wrong
    Reach       Basin
    frost_cut

Example, right
    Reach       Basin
    frost_cut   north
";
