//! What an expression gives, and what it is given.

use crate::text::shown_number;
use std::cmp::Ordering;

/// A value of an expression.
#[derive(Debug, Clone, PartialEq)]
pub enum Value {
    /// Nothing: no value, a none value, or a reference that leads nowhere.
    Nothing,
    /// A number.
    Number(f64),
    /// True or false.
    Truth(bool),
    /// A text.
    Text(String),
    /// Several values.
    List(Vec<Value>),
    /// Values by name.
    Record(Vec<(String, Value)>),
}

impl Value {
    /// The order in which values are sorted: nothing, then numbers, then truths, then texts, then lists.
    pub fn order(&self, other: &Value) -> Ordering {
        let rank = |held: &Value| match held {
            Value::Nothing => 0,
            Value::Number(_) => 1,
            Value::Truth(_) => 2,
            Value::Text(_) => 3,
            Value::List(_) => 4,
            Value::Record(_) => 5,
        };
        match (self, other) {
            (Value::Number(a), Value::Number(b)) => a.total_cmp(b),
            (Value::Truth(a), Value::Truth(b)) => a.cmp(b),
            (Value::Text(a), Value::Text(b)) => a.cmp(b),
            (Value::List(a), Value::List(b)) => {
                let pairs = a.iter().zip(b).map(|(a, b)| a.order(b));
                pairs.fold(Ordering::Equal, Ordering::then).then(a.len().cmp(&b.len()))
            }
            _ => rank(self).cmp(&rank(other)),
        }
    }

    /// As [`Value::shown`], for people: numbers to six digits.
    pub fn brief(&self) -> String {
        match self {
            Value::Number(number) => shown_number(*number, 6),
            Value::List(items) => items.iter().map(Value::brief).collect::<Vec<_>>().join(", "),
            other => other.shown(),
        }
    }

    /// As it is shown: nothing is empty, the values of a list stand with a comma and a blank between them.
    pub fn shown(&self) -> String {
        match self {
            Value::Nothing => String::new(),
            Value::Number(number) => shown_number(*number, 12),
            Value::Truth(truth) => truth.to_string(),
            Value::Text(text) => text.clone(),
            Value::List(items) => items.iter().map(Value::shown).collect::<Vec<_>>().join(", "),
            Value::Record(fields) => {
                let shown = |(name, value): &(String, Value)| format!("{name}: {}", value.shown());
                fields.iter().map(shown).collect::<Vec<_>>().join(", ")
            }
        }
    }
}
