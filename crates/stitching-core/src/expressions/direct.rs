//! Plain expressions worked out at once: comparisons, sums, tests of texts, put together with `&&`, `||`, `!` and `?:`.
//!
//! The engine takes microseconds for each row, most of it to look functions up and to turn values into its own. What is
//! understood here gives the same; wherever that is in doubt, such as a text where a number is expected, nothing is given and
//! the engine decides, whose errors also say what is wrong.

use super::functions::FUNCTIONS;
use super::{IS_THERE, Scope, Value, question};
use cel::common::ast::operators::{
    CONDITIONAL, EQUALS, IN, LOGICAL_AND, LOGICAL_NOT, LOGICAL_OR, NEGATE, NOT_EQUALS,
};
use cel::common::ast::{Expr, IdedExpr, LiteralValue};
use regex::Regex;
use std::cmp::Ordering;

/// A part of an expression that can be worked out at once.
#[derive(Debug)]
pub(super) enum Direct {
    Constant(Value),
    /// The name at this position.
    Name(usize),
    /// The question at this position.
    Question(usize),
    IsThere(Box<Direct>),
    Not(Box<Direct>),
    Negative(Box<Direct>),
    And(Box<[Direct; 2]>),
    Or(Box<[Direct; 2]>),
    If(Box<[Direct; 3]>),
    /// Whether both are equal, or are not.
    Equal(Box<[Direct; 2]>, bool),
    Within(Box<[Direct; 2]>),
    Arithmetic(fn(f64, f64) -> f64, Arithmetic, Box<[Direct; 2]>),
    Compared(fn(Ordering) -> bool, Box<[Direct; 2]>),
    Text(fn(&str, &str) -> bool, Box<[Direct; 2]>),
    Matches(Regex, Box<Direct>),
    Size(Box<Direct>),
    List(Vec<Direct>),
}

/// What an operation on numbers does besides.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Arithmetic {
    Plain,
    /// Also puts texts together.
    Joins,
    /// Gives nothing for 0 on the right.
    Divides,
}

impl Direct {
    /// Understands a prepared tree whose names have these identifiers; `None` if there is something in it that only the engine
    /// knows.
    pub fn of(tree: &IdedExpr, identifiers: &[String]) -> Option<Direct> {
        let part = |at: &IdedExpr| Direct::of(at, identifiers);
        Some(match &tree.expr {
            Expr::Literal(literal) => Direct::Constant(match literal {
                LiteralValue::Boolean(truth) => Value::Truth(*truth.inner()),
                LiteralValue::Int(number) if number.inner().unsigned_abs() < 1 << 53 => {
                    Value::Number(*number.inner() as f64)
                }
                LiteralValue::Double(number) => Value::Number(*number.inner()),
                LiteralValue::String(text) => Value::Text(text.inner().to_owned()),
                LiteralValue::Null => Value::Nothing,
                _ => return None,
            }),
            Expr::Ident(name) => match question::number(name) {
                Some(number) => Direct::Question(number),
                None => Direct::Name(identifiers.iter().position(|own| own == name)?),
            },
            Expr::List(list) => Direct::List(list.elements.iter().map(part).collect::<Option<_>>()?),
            Expr::Call(call) if call.target.is_none() => {
                let two = || match &call.args[..] {
                    [a, b] => Some(Box::new([part(a)?, part(b)?])),
                    _ => None,
                };
                let one = || match &call.args[..] {
                    [a] => part(a).map(Box::new),
                    _ => None,
                };
                match call.func_name.as_str() {
                    LOGICAL_AND => Direct::And(two()?),
                    LOGICAL_OR => Direct::Or(two()?),
                    LOGICAL_NOT => Direct::Not(one()?),
                    NEGATE => Direct::Negative(one()?),
                    EQUALS => Direct::Equal(two()?, true),
                    NOT_EQUALS => Direct::Equal(two()?, false),
                    IN => Direct::Within(two()?),
                    IS_THERE => Direct::IsThere(one()?),
                    CONDITIONAL => match &call.args[..] {
                        [a, b, c] => Direct::If(Box::new([part(a)?, part(b)?, part(c)?])),
                        _ => return None,
                    },
                    "@starts_with" => Direct::Text(|a, b| a.starts_with(b), two()?),
                    "@ends_with" => Direct::Text(|a, b| a.ends_with(b), two()?),
                    "@contains" => Direct::Text(|a, b| a.contains(b), two()?),
                    "@size" => Direct::Size(one()?),
                    "@matches" => match &call.args[..] {
                        [text, IdedExpr { expr: Expr::Literal(LiteralValue::String(pattern)), .. }] => {
                            Direct::Matches(Regex::new(pattern.inner()).ok()?, Box::new(part(text)?))
                        }
                        _ => return None,
                    },
                    own => Direct::operator(own, &call.args, two()?)?,
                }
            }
            _ => return None,
        })
    }

    /// A comparison or an operation on numbers, by the name of our operator.
    fn operator(name: &str, arguments: &[IdedExpr], sides: Box<[Direct; 2]>) -> Option<Direct> {
        FUNCTIONS.iter().find(|(_, own, _)| *own == name)?;
        let arithmetic: (fn(f64, f64) -> f64, Arithmetic) = match name {
            "@plus" => (|a, b| a + b, Arithmetic::Joins),
            "@minus" => (|a, b| a - b, Arithmetic::Plain),
            "@times" => (|a, b| a * b, Arithmetic::Plain),
            "@over" => (|a, b| a / b, Arithmetic::Divides),
            "@rest" => (|a, b| a % b, Arithmetic::Divides),
            "@less" => return Some(Direct::Compared(Ordering::is_lt, sides)),
            "@at_most" => return Some(Direct::Compared(Ordering::is_le, sides)),
            "@greater" => return Some(Direct::Compared(Ordering::is_gt, sides)),
            "@at_least" => return Some(Direct::Compared(Ordering::is_ge, sides)),
            _ => return None,
        };
        // Whole numbers that stand in the expression divide to whole numbers, and may not grow too large.
        let whole = arguments.iter().all(may_be_whole);
        (!whole).then_some(Direct::Arithmetic(arithmetic.0, arithmetic.1, sides))
    }

    /// What it gives in `scope`; `None` if the engine must decide.
    pub fn value(&self, scope: &dyn Scope) -> Option<Value> {
        Some(match self {
            Direct::Constant(value) => value.clone(),
            Direct::Name(name) => scope.value(*name),
            Direct::Question(number) => scope.answer(*number).ok()?,
            Direct::IsThere(of) => Value::Truth(!matches!(of.value(scope)?, Value::Nothing)),
            Direct::Not(of) => Value::Truth(!of.truth(scope)?),
            Direct::Negative(of) => match of.value(scope)? {
                Value::Number(number) => Value::Number(-number),
                _ => return None,
            },
            Direct::And(sides) => Value::Truth(sides[0].truth(scope)? && sides[1].truth(scope)?),
            Direct::Or(sides) => Value::Truth(sides[0].truth(scope)? || sides[1].truth(scope)?),
            Direct::If(parts) => parts[if parts[0].truth(scope)? { 1 } else { 2 }].value(scope)?,
            Direct::Equal(sides, wanted) => {
                Value::Truth(is_equal(&sides[0].value(scope)?, &sides[1].value(scope)?)? == *wanted)
            }
            Direct::Within(sides) => match (sides[0].value(scope)?, sides[1].value(scope)?) {
                (one, Value::List(items)) => {
                    let mut found = false;
                    for item in &items {
                        found |= is_equal(&one, item)?;
                    }
                    Value::Truth(found)
                }
                _ => return None,
            },
            Direct::Arithmetic(operation, kind, sides) => {
                match (sides[0].value(scope)?, sides[1].value(scope)?) {
                    (Value::Nothing, _) | (_, Value::Nothing) => Value::Nothing,
                    (Value::Number(_), Value::Number(0.0)) if *kind == Arithmetic::Divides => Value::Nothing,
                    (Value::Number(a), Value::Number(b)) => Value::Number(operation(a, b)),
                    (Value::Text(a), Value::Text(b)) if *kind == Arithmetic::Joins => Value::Text(a + &b),
                    _ => return None,
                }
            }
            Direct::Compared(wanted, sides) => match (sides[0].value(scope)?, sides[1].value(scope)?) {
                (Value::Nothing, _) | (_, Value::Nothing) => Value::Truth(false),
                (Value::Number(a), Value::Number(b)) => Value::Truth(wanted(a.partial_cmp(&b)?)),
                (Value::Text(a), Value::Text(b)) => Value::Truth(wanted(a.cmp(&b))),
                _ => return None,
            },
            Direct::Text(test, sides) => match (sides[0].value(scope)?, sides[1].value(scope)?) {
                (Value::Text(a), Value::Text(b)) => Value::Truth(test(&a, &b)),
                (Value::Nothing, _) | (_, Value::Nothing) => Value::Truth(false),
                _ => return None,
            },
            Direct::Matches(regex, of) => match of.value(scope)? {
                Value::Text(text) => Value::Truth(regex.is_match(&text)),
                Value::Nothing => Value::Truth(false),
                _ => return None,
            },
            Direct::Size(of) => match of.value(scope)? {
                Value::Nothing => Value::Nothing,
                Value::Text(text) => Value::Number(text.chars().count() as f64),
                Value::List(items) => Value::Number(items.len() as f64),
                _ => return None,
            },
            Direct::List(items) => {
                Value::List(items.iter().map(|item| item.value(scope)).collect::<Option<_>>()?)
            }
        })
    }

    fn truth(&self, scope: &dyn Scope) -> Option<bool> {
        match self.value(scope)? {
            Value::Truth(truth) => Some(truth),
            _ => None,
        }
    }
}

/// Whether a part may give a whole number, for which the engine has rules of its own.
fn may_be_whole(part: &IdedExpr) -> bool {
    match &part.expr {
        Expr::Literal(literal) => matches!(literal, LiteralValue::Int(_) | LiteralValue::UInt(_)),
        // The values of fields never are, nor the answers to questions.
        Expr::Ident(_) => false,
        Expr::Call(call) => match call.func_name.as_str() {
            "@plus" | "@minus" | "@times" | "@over" | "@rest" => call.args.iter().all(may_be_whole),
            CONDITIONAL => call.args.iter().skip(1).any(may_be_whole),
            _ => true,
        },
        _ => true,
    }
}

/// Whether two values are equal; `None` where the engine must decide.
fn is_equal(a: &Value, b: &Value) -> Option<bool> {
    Some(match (a, b) {
        (Value::Number(a), Value::Number(b)) => a == b,
        (Value::Text(a), Value::Text(b)) => a == b,
        (Value::Truth(a), Value::Truth(b)) => a == b,
        (Value::Nothing, Value::Nothing) => true,
        (Value::Nothing, Value::Text(_) | Value::Number(_) | Value::Truth(_))
        | (Value::Text(_) | Value::Number(_) | Value::Truth(_), Value::Nothing)
        | (Value::Text(_), Value::Number(_))
        | (Value::Number(_), Value::Text(_)) => false,
        _ => return None,
    })
}
