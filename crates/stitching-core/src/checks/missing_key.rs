//! A record without a key.

use super::{Check, Run};
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: "missing-key",
    severity: Severity::Error,
    about: "a record without a key",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A record in which a field of the key is empty or missing.

Why it matters
    Nothing can refer to it, and the game may stop reading the file there.

When to ignore it
    Rows that are only notes: tell the format how a note begins with `comment`.

Example, wrong
    Reach   Basin
            north

Example, right
    Reach       Basin
    frost_cut   north
";
