//! A value that is not among those allowed.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;
use crate::schema::ValueRule;
use crate::text::nearest_of;

pub(super) static CHECK: Check = Check {
    code: Code::NOT_A_CHOICE,
    severity: Severity::Error,
    about: "a value that is not among those allowed",
    docs: DOCS,
    run: Run::Value { applies, find, structure: None },
};

const DOCS: &str = "\
What it finds
    A value that is not in the list of choices that the schema gives.

Why it matters
    The game does not know it and ignores the entry or stops.

When to ignore it
    When the game knows more values than the schema does: add it to `choice`.

Example, wrong
    Kind    (choice = [\"canal\", \"river\"])
    cannal

Example, right
    Kind
    canal
";

fn applies(rule: &ValueRule) -> bool {
    !rule.choice.is_empty()
}

fn find(rule: &ValueRule, value: &str) -> Option<(String, Option<String>)> {
    if rule.choice.iter().any(|choice| choice == value) {
        return None;
    }
    let near = nearest_of(value, rule.choice.iter().map(String::as_str));
    let help = match near.first() {
        Some(near) if near.eq_ignore_ascii_case(value) => format!("`{near}` differs only in case"),
        Some(near) => format!("did you mean `{near}`?"),
        None => format!("allowed: {}", rule.choice.join(", ")),
    };
    Some((format!("`{value}` is not one of the values allowed here"), Some(help)))
}
