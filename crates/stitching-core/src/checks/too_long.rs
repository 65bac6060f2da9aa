//! A value with more letters than there is room for.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;
use crate::schema::ValueRule;

pub(super) static CHECK: Check = Check {
    code: Code::TOO_LONG,
    severity: Severity::Warning,
    about: "a value with more letters than there is room for",
    docs: DOCS,
    run: Run::Value { applies, find, structure: None },
};

const DOCS: &str = "\
What it finds
    A value with more characters than `longest` of its field allows.

Why it matters
    The game cuts it off, writes over what stands beside it, or stops.

When to ignore it
    When it is seen to fit: letters differ in width.

Example, wrong
    longest = 12, and the name is The Old Mill Reach

Example, right
    longest = 12, and the name is Mill Reach
";

/// Text keys are not shown themselves; their texts are looked at by another check.
fn applies(rule: &ValueRule) -> bool {
    rule.longest.is_some() && rule.text.is_none()
}

fn find(rule: &ValueRule, value: &str) -> Option<(String, Option<String>)> {
    let longest = rule.longest?;
    // No text has more characters than bytes.
    let length = if value.len() > longest { value.chars().count() } else { 0 };
    (length > longest)
        .then(|| (format!("this has {length} characters, and there is room for {longest}"), None))
}
