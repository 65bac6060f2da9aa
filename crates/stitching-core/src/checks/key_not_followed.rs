//! A value that should be made from the record's key and is not.

use super::report::Context;
use super::{Check, Run, Subject, Words};
use crate::Code;
use crate::formats::{Fault, decode};
use crate::problem::Severity;
use crate::schema::Field;
use crate::tables::{FieldFinder, KEY_SEPARATOR, RecordView, shown_key};

pub(super) static CHECK: Check = Check {
    code: Code::KEY_NOT_FOLLOWED,
    severity: Severity::Warning,
    about: "a value that should be made from the record's key and is not",
    docs: DOCS,
    run: Run::Field { finder: FieldFinder { applies, find }, describe },
};

const DOCS: &str = "\
What it finds
    A field that the schema says follows the key (`follows = \"{key}_name\"`) and that holds
    something else.

Why it matters
    After a copy by hand it usually still names the record that was copied. If it names another
    record that is there, it is an error.

When to ignore it
    When this record shares the text or file of another one on purpose: then the field does not
    follow the key, and the schema should not say so.

Example, wrong
    Reach       NameKey
    frost_cut   old_mill_name

Example, right
    Reach       NameKey
    frost_cut   frost_cut_name
";

fn applies(field: &Field) -> bool {
    field.follows.is_some()
}

/// What the value must be, if the record has a key.
fn expected(field: &Field, key: &str) -> Option<String> {
    // Of a key of several parts the last one is the record's own name.
    Some(field.follows.as_ref()?.fill_one(key.rsplit(KEY_SEPARATOR).next().unwrap_or(key)))
}

/// A value that names another record is an error; one that names none may be right, and the key wrong.
fn describe(context: &Context<'_>, subject: &Subject<'_>) -> Words {
    let field = subject.rule.map(|rule| &subject.table.fields[rule.field]);
    let key = subject.key.unwrap_or_default();
    let expected = field.and_then(|field| expected(field, key)).unwrap_or_default();
    let name = field.map_or("", |field| field.name.as_str());
    // A reference may lead to another record on purpose.
    let is_reference = subject.rule.is_some_and(|rule| !rule.refs.is_empty());
    let own = field.filter(|_| !is_reference);
    let own = own.and_then(|field| field.follows.as_ref()?.extract(subject.value, "key"));
    let parents = key.rfind(KEY_SEPARATOR).map_or("", |at| &key[..=at]);
    let other = own.map(|own| format!("{parents}{own}"));
    let found =
        subject.seed.table.zip(other.as_deref()).and_then(|(table, other)| context.index.find(table, other));
    let message = format!("`{name}` is `{}`, and for this record it must be `{expected}`", subject.value);
    match (found, other) {
        (Some(record), Some(other)) => Words {
            message,
            help: Some("it is made from the record's key, and still names the other one".into()),
            severity: Some(Severity::Error),
            related: Some((format!("it is made from the key of `{}`", shown_key(&other)), record)),
            ..Words::default()
        },
        _ => Words {
            message,
            help: Some("it is made from the record's key; or the key is wrong".into()),
            ..Words::default()
        },
    }
}

/// Compares a value with what is made of the record's key.
fn find(record: &RecordView<'_>, field: usize) -> Option<Fault> {
    let described = &record.table.fields[field];
    let (key, cell) = (record.key()?, record.cell(field)?);
    let value = decode(record.text, cell).text;
    let expected = expected(described, &key)?;
    if value == expected || record.table.rules[described.layout.rules()[0]].is_none(&value) {
        return None;
    }
    Some(Fault::new(Code::KEY_NOT_FOLLOWED, cell.span, format!("`{value}` is not `{expected}`")))
}
