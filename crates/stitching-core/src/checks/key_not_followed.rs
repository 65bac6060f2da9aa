//! A value that should be made from the record's key and is not.

use super::{Check, Run};
use crate::Code;
use crate::formats::{Fault, decode};
use crate::problem::Severity;
use crate::schema::Field;
use crate::tables::{FieldFinder, KEY_SEPARATOR, RecordView};

pub(super) static CHECK: Check = Check {
    code: Code::KEY_NOT_FOLLOWED,
    severity: Severity::Warning,
    about: "a value that should be made from the record's key and is not",
    docs: DOCS,
    run: Run::Field(FieldFinder { applies, find }),
};

const DOCS: &str = "\
What it finds
    A field that the schema says follows the key (`follows = \"{key}_name\"`) and that holds
    something else.

Why it matters
    After a copy by hand it usually still names the record that was copied.

When to ignore it
    When this record shares the text or file of another one on purpose.

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

/// Compares a value with what is made of the record's key.
fn find(record: &RecordView<'_>, field: usize) -> Option<Fault> {
    let described = &record.table.fields[field];
    let (template, key, cell) = (described.follows.as_ref()?, record.key()?, record.cell(field)?);
    let value = decode(record.text, cell).text;
    // Of a key of several parts the last one is the record's own name.
    let own = key.rsplit(KEY_SEPARATOR).next().unwrap_or(&key);
    let expected = template.fill_one(own);
    if value == expected || record.table.rules[described.layout.rules()[0]].is_none(&value) {
        return None;
    }
    let message = format!("`{}` is `{value}`, and for this record it must be `{expected}`", described.name);
    Some(Fault::new(Code::KEY_NOT_FOLLOWED, cell.span, message).help("it is made from the record's key"))
}
