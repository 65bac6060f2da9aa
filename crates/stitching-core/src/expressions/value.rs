//! What an expression gives, and what it is given.

use crate::text::shown_number;

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
