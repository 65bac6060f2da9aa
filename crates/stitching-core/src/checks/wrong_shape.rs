//! A value or item without the parts it should have.

use super::{Check, Run};
use crate::Code;
use crate::formats::Fault;
use crate::problem::Severity;
use crate::schema::Layout;
use crate::tables::{Piece, RecordView};

pub(super) static CHECK: Check = Check {
    code: Code::WRONG_SHAPE,
    severity: Severity::Error,
    about: "a value or item without the parts it should have",
    docs: DOCS,
    run: Run::Piece(find),
};

const DOCS: &str = "\
What it finds
    A value, or an item of a list, that does not fit the template given by `parts`; and an item of a
    list whose quotes are not closed, or have other text behind them.

Why it matters
    The game takes it apart in the same way and gets nothing.

When to ignore it
    When the shape differs on purpose, describe what may be missing in square brackets.

Example, wrong
    Cargo = coal:40;peat          (parts = \"{good}:{amount}\")

Example, right
    Cargo = coal:40;peat:20
";

/// Says what shape the piece should have.
fn find(record: &RecordView<'_>, piece: &Piece<'_>) -> Option<Fault> {
    let field = &record.table.fields[record.table.rules[piece.rule].field];
    if field.list.as_ref().is_some_and(|list| list.quoted && piece.text.starts_with('"')) {
        let is_open = piece.text.matches('"').count() % 2 == 1;
        let (message, help) = match is_open {
            true => ("the quote that begins here is not closed", "write `\"` behind the item"),
            false => ("other text stands behind the quotes", "put it into them, or a separator before it"),
        };
        return Some(Fault::new(Code::WRONG_SHAPE, piece.span, message.to_owned()).help(help.to_owned()));
    }
    let Layout::Parts(template, _) = &field.layout else { return None };
    let message = format!("`{}` does not have the shape `{}`", piece.text, template.source());
    let mut fault = Fault::new(Code::WRONG_SHAPE, piece.span, message);
    fault.help = field.list.as_ref().map(|list| format!("items are separated by {}", list.shown()));
    Some(fault)
}
