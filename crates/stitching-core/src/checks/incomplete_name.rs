//! A value that names a record or a file only together with another field, which the record lacks.

use super::{Check, Run};
use crate::Code;
use crate::formats::Fault;
use crate::problem::Severity;
use crate::schema::{KeyPart, NamedBy, ValueRule};
use crate::tables::{LinkKind, Piece, RecordView};

pub(super) static CHECK: Check = Check {
    code: Code::INCOMPLETE_NAME,
    severity: Severity::Error,
    about: "a value that names something only together with a field that is missing",
    docs: DOCS,
    run: Run::Incomplete(find),
};

const DOCS: &str = "\
What it finds
    A value that names a record by several fields (`with`), or a file whose path has other
    fields in it (`file = \"{Folder}/{}.txt\"`), where the record has nothing in one of these.
    Where that part of the target's key is `optional`, a missing one stands for an empty one.

Why it matters
    The value leads nowhere: nobody can tell which record or file is meant.

When to ignore it
    When the game takes another one then: leave the value out of the schema, or describe the
    two cases with `when`.

Example, wrong
    Call  Route  Stop
    c1           3

Example, right
    Call  Route  Stop
    c1    north  3
";

/// Says which other field is missing.
fn find(record: &RecordView<'_>, rule: &ValueRule, piece: &Piece<'_>, kind: LinkKind) -> Option<Fault> {
    let parts: &[NamedBy] = match kind {
        LinkKind::Reference => &rule.with,
        LinkKind::File => rule.file.as_ref()?.parts(),
        LinkKind::Text | LinkKind::Value => return None,
    };
    let is_missing = |part: &NamedBy| match part {
        NamedBy::Record(KeyPart::Field(field)) => {
            let cell = record.cell_beside(piece.at, *field);
            cell.is_none_or(|cell| cell.span.is_empty()).then_some(*field)
        }
        _ => None,
    };
    let name = &record.table.fields[parts.iter().find_map(is_missing)?].name;
    let what = if kind == LinkKind::File { "a file" } else { "a record" };
    let message = format!("`{}` names {what} together with `{name}`, and that is missing", piece.text);
    let fault = Fault::new(Code::INCOMPLETE_NAME, piece.span, message);
    Some(fault.help(format!("give the record a `{name}`, or leave this out too")))
}
