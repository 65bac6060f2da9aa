//! A number outside its limits.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;
use crate::schema::ValueRule;
use crate::text::number;

pub(super) static CHECK: Check = Check {
    code: Code::OUT_OF_RANGE,
    severity: Severity::Error,
    about: "a number outside its limits",
    docs: DOCS,
    run: Run::Value { applies, find, structure: None },
};

const DOCS: &str = "\
What it finds
    A number below or above the range that the schema gives.

Why it matters
    The game cuts it off, wraps it round, or reads past the end of a list.

When to ignore it
    When the limit in the schema is a guess that the game does not share.

Example, wrong
    Landing    (range = [0, 63])
    64

Example, right
    Landing
    63
";

fn applies(rule: &ValueRule) -> bool {
    rule.range.is_some()
}

fn find(rule: &ValueRule, value: &str) -> Option<(String, Option<String>)> {
    let ((low, high), found) = (rule.range?, number(value)?);
    let message = if found < low {
        format!("{value} is below the lowest allowed, {low}")
    } else if found > high {
        format!("{value} is above the highest allowed, {high}")
    } else {
        return None;
    };
    Some((message, None))
}
