//! A number with a flag in it that is none of those known.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;
use crate::schema::{ValueRule, ValueType};
use crate::text::number;

pub(super) static CHECK: Check = Check {
    code: Code::UNKNOWN_FLAG,
    severity: Severity::Error,
    about: "a number with a flag in it that is none of those known",
    docs: DOCS,
    run: Run::Value { applies, find, structure: None },
};

const DOCS: &str = "\
What it finds
    A number that is no sum of the `flags` which the schema gives: a bit of it is in none of
    them, or it is below 0 or no whole number.

Why it matters
    Each bit switches something on. One that nobody knows switches on something else, or, in
    another version of the game, nothing any more.

When to ignore it
    When the game knows the flag: add it to `flags`.

Example, wrong
    Traits    (flags = [1, 2, 4])
    9

Example, right
    Traits
    5
";

/// Larger whole numbers are not exact.
const LARGEST: f64 = 9_007_199_254_740_992.0;

fn applies(rule: &ValueRule) -> bool {
    !rule.flags.is_empty()
}

fn find(rule: &ValueRule, value: &str) -> Option<(String, Option<String>)> {
    let known = rule.flags.iter().fold(0, |all, flag| all | flag);
    let shown: Vec<String> = rule.flags.iter().map(u64::to_string).collect();
    let help = Some(format!("the flags are {}", shown.join(", ")));
    let found = number(value)?;
    let is_told = rule.kind == ValueType::Integer && !rule.kind.accepts(value);
    if is_told {
        return None;
    }
    if found < 0.0 || found.fract() != 0.0 || found > LARGEST {
        return Some((format!("{value} is no sum of flags"), help));
    }
    let unknown = found as u64 & !known;
    let bits: Vec<String> =
        (0..64).map(|bit| 1u64 << bit).filter(|bit| unknown & bit != 0).map(|bit| bit.to_string()).collect();
    match bits.as_slice() {
        [] => None,
        [one] if unknown == found as u64 => Some((format!("{one} is none of the flags"), help)),
        [one] => Some((format!("{value} has {one} in it, which is none of the flags"), help)),
        many => {
            Some((format!("{value} has {} in it, which are none of the flags", many.join(" and ")), help))
        }
    }
}
