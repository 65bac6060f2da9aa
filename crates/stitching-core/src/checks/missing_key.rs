//! A record without a key.

use super::{Check, Run};
use crate::Code;
use crate::formats::Fault;
use crate::problem::Severity;
use crate::schema::KeyPart;
use crate::tables::RecordView;

pub(super) static CHECK: Check = Check {
    code: Code::MISSING_KEY,
    severity: Severity::Error,
    about: "a record without a key",
    docs: DOCS,
    run: Run::Key(find),
};

const DOCS: &str = "\
What it finds
    A record in which a field of the key is empty or missing.

Why it matters
    Nothing can refer to it, and the game may stop reading the file there.

When to ignore it
    Rows that are only notes: tell the format how a note begins with `comment`.

Example, wrong
    Reach   Basin
            north

Example, right
    Reach       Basin
    frost_cut   north
";

/// Says which part of the key is missing.
fn find(record: &RecordView<'_>, part: KeyPart) -> Fault {
    let name = record.table.key_part_name(part);
    let whole = if record.table.key.len() > 1 { "part of its" } else { "its" };
    let span = match part {
        KeyPart::Field(field) => record.cell(field).map_or(record.span.first_byte(), |cell| cell.span),
        _ => record.span,
    };
    Fault::new(Code::MISSING_KEY, span, format!("the record has no `{name}`, which is {whole} key"))
        .help("nothing can refer to a record without a key; give it one, or remove it")
}
