//! A value of the wrong kind.

use super::{Check, Run};
use crate::Code;
use crate::formats::{Cell, Fault, Form};
use crate::problem::Severity;
use crate::schema::{Field, Layout, ValueRule, ValueType};
use crate::tables::RecordView;

pub(super) static CHECK: Check = Check {
    code: Code::WRONG_TYPE,
    severity: Severity::Error,
    about: "a value of the wrong kind",
    docs: DOCS,
    run: Run::Value { applies, find, structure: Some(structure) },
};

const DOCS: &str = "\
What it finds
    A value that is not a whole number, a number or a truth value where the schema says so.

Why it matters
    The game reads 0, or stops.

When to ignore it
    When the column really holds text: change its `type`.

Example, wrong
    Depth
    1O

Example, right
    Depth
    10
";

fn applies(rule: &ValueRule) -> bool {
    rule.kind != ValueType::Text
}

fn find(rule: &ValueRule, value: &str) -> Option<(String, Option<String>)> {
    if rule.kind.accepts(value) {
        return None;
    }
    let trimmed = value.trim();
    let help = if trimmed != value && rule.kind.accepts(trimmed) {
        Some("there are blanks around it".to_owned())
    } else if rule.kind == ValueType::Integer
        && rule.kind.accepts(value.split(['.', ',']).next().unwrap_or(""))
    {
        Some("it must have no decimal part".to_owned())
    } else if rule.kind == ValueType::Number && value.contains(',') {
        Some("the decimal sign is a point".to_owned())
    } else {
        None
    };
    Some((format!("`{value}` is not {}", rule.kind.expected()), help))
}

/// Whether the last step of a column's path is any name.
fn is_any_name(column: &str) -> bool {
    column.rsplit(['.', '/']).next().is_some_and(|last| last == "*" || last == "@*")
}

/// A structure where a single value is expected.
fn structure(_record: &RecordView<'_>, field: &Field, cell: &Cell) -> Option<Fault> {
    // What is looked for in all values, whatever they are called, is looked for inside of structures too.
    let is_any = matches!(field.layout, Layout::Found(..)) || is_any_name(&field.column);
    if is_any {
        return None;
    }
    let message = || format!("`{}` holds a structure, and a single value is expected", field.name);
    (cell.form == Form::Nested).then(|| Fault::new(Code::WRONG_TYPE, cell.span.first_byte(), message()))
}
