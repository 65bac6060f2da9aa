//! The functions and operators of expressions, as far as they are ours.

use super::Value;
use cel::common::ast::operators;
use cel::{Context, Env, ExecutionError, Value as Native};
use regex::Regex;
use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::{Arc, LazyLock};

/// A value as the engine has it.
pub(super) fn to_engine(value: &Value) -> Native {
    match value {
        Value::Nothing => Native::Null,
        Value::Number(number) => Native::Float(*number),
        Value::Truth(truth) => Native::Bool(*truth),
        Value::Text(text) => Native::String(Arc::new(text.clone())),
        Value::List(items) => Native::List(Arc::new(items.iter().map(to_engine).collect())),
        Value::Record(fields) => {
            let fields = fields.iter().map(|(name, value)| (name.clone(), to_engine(value)));
            fields.collect::<HashMap<String, Native>>().into()
        }
    }
}

/// A value of the engine as ours; `None` for what we have no kind for.
pub(super) fn from_engine(value: Native) -> Option<Value> {
    Some(match value {
        Native::Null => Value::Nothing,
        Native::Int(number) => Value::Number(number as f64),
        Native::UInt(number) => Value::Number(number as f64),
        Native::Float(number) => Value::Number(number),
        Native::Bool(truth) => Value::Truth(truth),
        Native::String(text) => Value::Text(text.to_string()),
        Native::List(items) => Value::List(items.iter().cloned().map(from_engine).collect::<Option<_>>()?),
        _ => return None,
    })
}

/// The functions that every expression may use: those of the language, and ours. Made once, since that takes longer than
/// most expressions.
pub(super) static LIBRARY: LazyLock<Result<Context<'static, 'static>, String>> = LazyLock::new(library);

fn library() -> Result<Context<'static, 'static>, String> {
    let mut context = Context::with_env(Arc::new(Env::stdlib()));
    let operators =
        FUNCTIONS.iter().try_for_each(|(_, name, function)| context.add_function(name, *function));
    let is_there = |value: Native| !matches!(value, Native::Null);
    let added = operators.and_then(|()| context.add_function(IS_THERE, is_there));
    added.map_err(|error| error.to_string())?;
    add_text_functions(&mut context)?;
    Ok(context)
}

/// What the test `has(column)` becomes.
pub(super) const IS_THERE: &str = "@is_there";

type Operator = fn(Native, Native) -> Result<Native, ExecutionError>;

/// The operators of CEL that we replace, with the names of ours.
pub(super) const FUNCTIONS: [(&str, &str, Operator); 9] = [
    (operators::ADD, "@plus", |a, b| arithmetic('+', a, b)),
    (operators::SUBSTRACT, "@minus", |a, b| arithmetic('-', a, b)),
    (operators::MULTIPLY, "@times", |a, b| arithmetic('*', a, b)),
    (operators::DIVIDE, "@over", |a, b| arithmetic('/', a, b)),
    (operators::MODULO, "@rest", |a, b| arithmetic('%', a, b)),
    (operators::LESS, "@less", |a, b| compared(a, b, |order| order.is_lt())),
    (operators::LESS_EQUALS, "@at_most", |a, b| compared(a, b, |order| order.is_le())),
    (operators::GREATER, "@greater", |a, b| compared(a, b, |order| order.is_gt())),
    (operators::GREATER_EQUALS, "@at_least", |a, b| compared(a, b, |order| order.is_ge())),
];

/// The functions of CEL that we replace, called as such or behind what they are about, with the names of ours: those
/// of CEL fail on nothing.
pub(super) const TEXT_FUNCTIONS: [(&str, &str); 5] = [
    MATCHES,
    ("startsWith", "@starts_with"),
    ("endsWith", "@ends_with"),
    ("contains", "@contains"),
    ("size", "@size"),
];

/// Makes the functions of [`TEXT_FUNCTIONS`] known.
fn add_text_functions(context: &mut Context<'_, '_>) -> Result<(), String> {
    let of_two: [(&str, Operator); 4] = [
        (MATCHES.1, matches),
        ("@starts_with", |a, b| text_test("startsWith", a, b, |a, b| a.starts_with(b))),
        ("@ends_with", |a, b| text_test("endsWith", a, b, |a, b| a.ends_with(b))),
        ("@contains", |a, b| text_test("contains", a, b, |a, b| a.contains(b))),
    ];
    let added = of_two.into_iter().try_for_each(|(name, function)| context.add_function(name, function));
    let added = added.and_then(|()| context.add_function("flag", flag as Operator));
    let size = size as fn(Native) -> Result<Native, ExecutionError>;
    added.and_then(|()| context.add_function("@size", size)).map_err(|error| error.to_string())
}

/// Compares two texts; with nothing it is false.
fn text_test(
    name: &str,
    text: Native,
    part: Native,
    test: fn(&str, &str) -> bool,
) -> Result<Native, ExecutionError> {
    match (&text, &part) {
        (Native::String(text), Native::String(part)) => Ok(Native::Bool(test(text, part))),
        (Native::Null, _) | (_, Native::Null) => Ok(Native::Bool(false)),
        _ => Err(ExecutionError::function_error(name, format!("`{name}` takes two texts"))),
    }
}

/// Whether all bits of the second number are in the first; nothing has none.
fn flag(number: Native, flag: Native) -> Result<Native, ExecutionError> {
    let bits = |value: &Native| match from_engine(value.clone()) {
        Some(Value::Number(number)) if number.fract() == 0.0 => Some(number as i64),
        _ => None,
    };
    match (&number, bits(&number), bits(&flag)) {
        (Native::Null, _, Some(_)) => Ok(Native::Bool(false)),
        (_, Some(number), Some(flag)) => Ok(Native::Bool(number & flag == flag)),
        _ => {
            let message = "`flag` takes two whole numbers, such as flag(Traits, 4)";
            Err(ExecutionError::function_error("flag", message.to_owned()))
        }
    }
}

/// How many letters a text or items a list has; nothing has nothing.
fn size(value: Native) -> Result<Native, ExecutionError> {
    let count = match &value {
        Native::Null => return Ok(Native::Null),
        Native::String(text) => text.chars().count(),
        Native::List(items) => items.len(),
        Native::Map(map) => map.map.len(),
        _ => return Err(ExecutionError::function_error("size", "`size` takes a text or a list".to_owned())),
    };
    Ok(Native::Int(i64::try_from(count).unwrap_or(i64::MAX)))
}

/// The function of CEL that looks for a regular expression, and the name of ours, which reads an expression once.
const MATCHES: (&str, &str) = ("matches", "@matches");

/// Whether a text matches a regular expression; nothing matches none.
fn matches(text: Native, pattern: Native) -> Result<Native, ExecutionError> {
    /// More expressions than these are not kept; a formula has a few.
    const MOST: usize = 64;
    thread_local! {
        static KNOWN: RefCell<HashMap<Arc<String>, Option<Regex>>> = RefCell::default();
    }
    let fails = |message: String| ExecutionError::function_error("matches", message);
    let (Native::String(text), Native::String(pattern)) = (&text, &pattern) else {
        return match matches!(text, Native::Null) || matches!(pattern, Native::Null) {
            true => Ok(Native::Bool(false)),
            false => Err(fails("`matches` takes two texts".to_owned())),
        };
    };
    KNOWN.with_borrow_mut(|known| {
        if known.len() >= MOST && !known.contains_key(pattern) {
            known.clear();
        }
        let regex = known.entry(Arc::clone(pattern)).or_insert_with(|| Regex::new(pattern).ok());
        let regex =
            regex.as_ref().ok_or_else(|| fails(format!("`{pattern}` is not a regular expression")))?;
        Ok(Native::Bool(regex.is_match(text)))
    })
}

fn as_number(value: &Native) -> Option<f64> {
    match value {
        Native::Int(number) => Some(*number as f64),
        Native::UInt(number) => Some(*number as f64),
        Native::Float(number) => Some(*number),
        _ => None,
    }
}

/// With nothing in it, it gives nothing.
fn arithmetic(operator: char, a: Native, b: Native) -> Result<Native, ExecutionError> {
    let fails = |message: String| ExecutionError::function_error("arithmetic", message);
    if matches!(a, Native::Null) || matches!(b, Native::Null) {
        return Ok(Native::Null);
    }
    if let (Some(left), Some(right), false) =
        (as_number(&a), as_number(&b), matches!((&a, &b), (Native::Int(_), Native::Int(_))))
    {
        if matches!(operator, '/' | '%') && right == 0.0 {
            return Ok(Native::Null);
        }
        return Ok(Native::Float(match operator {
            '+' => left + right,
            '-' => left - right,
            '*' => left * right,
            '/' => left / right,
            _ => left % right,
        }));
    }
    let shown = |value: &Native| from_engine(value.clone()).map(|value| value.shown()).unwrap_or_default();
    let message = format!("`{}` {operator} `{}` are not two numbers", shown(&a), shown(&b));
    let result = match operator {
        '+' => a + b,
        '-' => a - b,
        '*' => a * b,
        '/' => a / b,
        _ => a % b,
    };
    result.map_err(|_| fails(message))
}

fn compared(a: Native, b: Native, wanted: fn(std::cmp::Ordering) -> bool) -> Result<Native, ExecutionError> {
    if matches!(a, Native::Null) || matches!(b, Native::Null) {
        return Ok(Native::Bool(false));
    }
    match a.partial_cmp(&b) {
        Some(order) => Ok(Native::Bool(wanted(order))),
        None => {
            let shown =
                |value: &Native| from_engine(value.clone()).map(|value| value.shown()).unwrap_or_default();
            let message = format!("`{}` and `{}` cannot be compared", shown(&a), shown(&b));
            Err(ExecutionError::function_error("comparison", message))
        }
    }
}
