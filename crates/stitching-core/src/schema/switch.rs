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
    /// The one that the value of another field calls for.
    ByValue {
        /// The position of the other field.
        field: usize,
        /// Values of the other field, and the position of the rule that they call for.
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

/// A condition on fields of a record.
#[derive(Debug)]
pub struct Condition {
    /// What must hold.
    pub expression: Expression,
    /// The position of the field that each of its names stands for.
    pub fields: Vec<usize>,
}

impl Switch {
    /// The positions of the fields that tell.
    pub fn fields(&self) -> &[usize] {
        match self {
            Switch::ByValue { field, .. } => std::slice::from_ref(field),
            Switch::Where { condition, .. } => &condition.fields,
        }
    }

    /// The position of the rule that holds, if one does; `value` gives what another field of `table` says. A condition
    /// that cannot be worked out does not hold.
    pub fn rule<'v>(
        &self,
        table: &Table,
        mut value: impl FnMut(usize) -> Option<Cow<'v, str>>,
    ) -> Option<usize> {
        match self {
            Switch::ByValue { field, cases } => {
                let told = value(*field).unwrap_or_default();
                let case = cases.iter().find(|(values, _)| values.iter().any(|own| *own == told));
                case.map(|(_, rule)| *rule)
            }
            Switch::Where { condition, rule } => {
                let values = condition.fields.iter().map(|field| value_of(table, *field, value(*field)));
                let values = FieldValues(values.collect());
                condition.expression.holds(&values).is_ok_and(|holds| holds).then_some(*rule)
            }
        }
    }
}

/// The values of the names of a condition.
struct FieldValues(Vec<Value>);

impl Scope for FieldValues {
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

/// What `text` of a field is to an expression.
fn value_of(table: &Table, field: usize, text: Option<Cow<'_, str>>) -> Value {
    let Some(text) = text else { return Value::Nothing };
    let rule = &table.rules[table.fields[field].layout.rules()[0]];
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
