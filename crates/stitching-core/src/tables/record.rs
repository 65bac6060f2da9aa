//! Records with all their values, for showing and searching.

use super::{CellOrder, RecordView, RecordVisitor, read_records, read_records_at};
use crate::formats::{ColumnCell, Form, decode};
use crate::layers::RelPath;
use crate::schema::Table;
use crate::text::{Span, Text};

/// A record, detached from its file.
#[derive(Debug, Clone)]
pub struct Record {
    /// Its position among the records of its file, 0-based.
    pub index: u32,
    /// The key as kept in memory, if it has one.
    pub key: Option<String>,
    /// The whole record.
    pub span: Span,
    /// Its values in the order of the fields asked for.
    pub values: Vec<Value>,
    /// Its [position](RecordView::position).
    pub position: u32,
    /// In what order its values stand in the file, in tables in which [fields are related](Table::relates_fields).
    pub order: CellOrder,
}

/// A value of a record.
#[derive(Debug, Clone)]
pub struct Value {
    /// The position of the field in the table's fields.
    pub field: usize,
    /// What it says.
    pub text: String,
    /// Where it stands, without quotes.
    pub span: Span,
    /// Whether it is a structure shown as it is written.
    pub nested: bool,
}

impl Record {
    /// The first value of `field`.
    pub fn value(&self, field: usize) -> Option<&Value> {
        self.values.iter().find(|value| value.field == field)
    }
}

impl Record {
    /// Puts `upper` over this one, a record of a lower layer with the same key, where the two count together: the
    /// fields that it has take the place of those here.
    pub fn lay_over(&mut self, upper: Record) {
        self.values.retain(|own| !upper.values.iter().any(|value| value.field == own.field));
        self.values.extend(upper.values);
        (self.order, self.position) = (upper.order, upper.position);
        (self.index, self.span) = (upper.index, upper.span);
    }
}

/// Reads all records of `table` in a file, with all fields of the table.
pub fn read_all(table: &Table, path: &RelPath, text: &Text<'_>) -> Vec<Record> {
    let mut records = Vec::new();
    read_each(table, path, text, &super::all_fields(table), &mut |record| records.push(record));
    records
}

/// Reads all records of `table` in a file with these fields, which must be those of its key at least, and gives each to `each`.
pub fn read_each(
    table: &Table,
    path: &RelPath,
    text: &Text<'_>,
    fields: &[usize],
    each: &mut dyn FnMut(Record),
) {
    read_records(table, path, text, fields, &mut Collector { only: Only::All, each });
}

/// Reads the record of `table` that covers exactly `span`, with all fields of the table.
pub fn read_at(table: &Table, path: &RelPath, text: &Text<'_>, span: Span) -> Option<Record> {
    read_only(table, path, text, Only::Span(span))
}

/// Reads the record of `table` that begins at byte `start`, with all fields of the table.
pub fn read_from(table: &Table, path: &RelPath, text: &Text<'_>, start: u32) -> Option<Record> {
    read_only(table, path, text, Only::From(start))
}

fn read_only(table: &Table, path: &RelPath, text: &Text<'_>, only: Only) -> Option<Record> {
    let start = match only {
        Only::All => 0,
        Only::Span(span) => span.start,
        Only::From(start) => start,
    };
    let mut found = None;
    let mut collector = Collector { only, each: &mut |record| found = Some(record) };
    read_records_at(table, path, text, &super::all_fields(table), &[start as usize], &mut collector);
    found
}

/// Which records are wanted.
#[derive(Clone, Copy)]
enum Only {
    All,
    Span(Span),
    From(u32),
}

struct Collector<'c> {
    only: Only,
    each: &'c mut dyn FnMut(Record),
}

impl RecordVisitor for Collector<'_> {
    fn record(&mut self, record: &RecordView<'_>) {
        let wanted = match self.only {
            Only::All => true,
            Only::Span(span) => span == record.span,
            Only::From(start) => start == record.span.start,
        };
        if !wanted {
            return;
        }
        let value = |cell: &ColumnCell| Value {
            field: usize::from(cell.column),
            text: decode(record.text, &cell.cell).text.into_owned(),
            span: cell.cell.span,
            nested: cell.cell.form == Form::Nested,
        };
        let mut values: Vec<Value> = record.cells.iter().map(value).collect();
        values.sort_by_key(|value| value.field);
        let order = match record.table.relates_fields() {
            true => CellOrder::of(record.cells),
            false => CellOrder::default(),
        };
        (self.each)(Record {
            index: record.index,
            key: record.key(),
            span: record.span,
            values,
            position: record.position,
            order,
        });
    }
}
