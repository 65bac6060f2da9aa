//! A value that should be made from the record's key and is not.

use super::{Check, Run};
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: "key-not-followed",
    severity: Severity::Warning,
    about: "a value that should be made from the record's key and is not",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A field that the schema says follows the key (`follows = \"{key}_name\"`) and that holds
    something else.

Why it matters
    After a copy by hand it usually still names the record that was copied.

When to ignore it
    When this record shares the text or file of another one on purpose.

Example, wrong
    Reach       NameKey
    frost_cut   old_mill_name

Example, right
    Reach       NameKey
    frost_cut   frost_cut_name
";
