//! A value that does not have the shape asked for.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;
use crate::schema::ValueRule;

pub(super) static CHECK: Check = Check {
    code: Code::PATTERN_MISMATCH,
    severity: Severity::Error,
    about: "a value that does not have the shape asked for",
    docs: DOCS,
    run: Run::Value { applies, find, structure: None },
};

const DOCS: &str = "\
What it finds
    A value that does not match the regular expression that the schema gives.

Why it matters
    Identifiers with blanks, capitals or signs the game does not expect are often not found.

When to ignore it
    When the pattern in the schema is stricter than the game.

Example, wrong
    Reach    (pattern = \"[a-z][a-z0-9_]*\")
    Frost Cut

Example, right
    Reach
    frost_cut
";

fn applies(rule: &ValueRule) -> bool {
    rule.pattern.is_some()
}

fn find(rule: &ValueRule, value: &str) -> Option<(String, Option<String>)> {
    let pattern = rule.pattern.as_ref()?;
    if pattern.matches(value) {
        return None;
    }
    let lower = value.to_lowercase();
    let help = if pattern.matches(value.trim()) {
        Some("there are blanks around it".to_owned())
    } else if pattern.matches(&lower) {
        Some(format!("in lower case, `{lower}`, it would be right"))
    } else {
        None
    };
    Some((format!("`{value}` does not have the shape `{}`", pattern.written()), help))
}
