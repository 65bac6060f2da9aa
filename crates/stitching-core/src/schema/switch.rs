//! Rules of one value of which others of the record's values tell the one that holds.

use super::Table;
use crate::Error;
use crate::expressions::{Expression, Scope, Value};
use crate::schema::ValueType;
use crate::text::number;
use std::borrow::Cow;
use std::sync::Arc;

/// Which rule holds in place of another one.
#[derive(Debug, Clone)]
pub enum Switch {
    /// The one that another value calls for.
    ByValue {
        /// The other value.
        by: Beside,
        /// What it may be, and the position of the rule that this calls for.
        cases: Vec<(Vec<String>, usize)>,
    },
    /// One, where a condition holds.
    Where {
        /// What must hold.
        condition: Arc<Condition>,
        /// The position of the rule.
        rule: usize,
    },
}

/// A value that stands beside another one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Beside {
    /// That of the field at this position.
    Field(usize),
    /// The part with the rule at this position, of the same value or the same item of a list.
    Part(usize),
}

/// A condition on what stands beside a value.
#[derive(Debug)]
pub struct Condition {
    /// What must hold.
    pub expression: Expression,
    /// The value that each of its names stands for.
    pub values: Vec<Beside>,
}

impl Switch {
    /// The positions of the fields that tell.
    pub fn fields(&self) -> impl Iterator<Item = usize> + '_ {
        let values = match self {
            Switch::ByValue { by, .. } => std::slice::from_ref(by),
            Switch::Where { condition, .. } => &condition.values,
        };
        values.iter().filter_map(|value| match value {
            Beside::Field(field) => Some(*field),
            Beside::Part(_) => None,
        })
    }

    /// The position of the rule that holds, if one does; `value` gives another value of the record, which is of `table`. A
    /// condition that cannot be worked out does not hold.
    pub fn rule<'v>(
        &self,
        table: &Table,
        mut value: impl FnMut(Beside) -> Option<Cow<'v, str>>,
    ) -> Option<usize> {
        match self {
            Switch::ByValue { by, cases } => {
                let told = value(*by).unwrap_or_default();
                let case = cases.iter().find(|(values, _)| values.iter().any(|own| *own == told));
                case.map(|(_, rule)| *rule)
            }
            Switch::Where { condition, rule } => {
                let values = condition.values.iter().map(|own| value_of(table, *own, value(*own)));
                let values = NamedValues(values.collect());
                condition.expression.holds(&values).is_ok_and(|holds| holds).then_some(*rule)
            }
        }
    }
}

/// The values of the names of a condition.
struct NamedValues(Vec<Value>);

impl Scope for NamedValues {
    fn value(&self, name: usize) -> Value {
        self.0.get(name).cloned().unwrap_or(Value::Nothing)
    }

    fn answer(&self, _: usize) -> Result<Value, Error> {
        // A condition that asks such a question is refused when the schema is read.
        Ok(Value::Nothing)
    }

    fn shown(&self) -> String {
        "the record".to_owned()
    }
}

/// What `text` of a value is to an expression.
fn value_of(table: &Table, value: Beside, text: Option<Cow<'_, str>>) -> Value {
    let Some(text) = text else { return Value::Nothing };
    let rule = match value {
        Beside::Field(field) => table.fields[field].layout.rules()[0],
        Beside::Part(rule) => rule,
    };
    let rule = &table.rules[rule];
    if rule.is_none(&text) {
        return Value::Nothing;
    }
    // A code such as `007` is no number.
    let is_code = || {
        let digits = text.trim_start_matches(['-', '+']).as_bytes();
        digits.len() > 1 && digits[0] == b'0' && digits[1].is_ascii_digit()
    };
    match rule.kind {
        ValueType::Boolean => {
            Value::Truth(["true", "yes", "1"].iter().any(|yes| text.eq_ignore_ascii_case(yes)))
        }
        ValueType::Text if is_code() => Value::Text(text.into_owned()),
        _ => number(text.trim()).map_or_else(|| Value::Text(text.clone().into_owned()), Value::Number),
    }
}
