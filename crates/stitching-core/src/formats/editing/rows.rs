//! What the editors of formats without nesting share: records and their cells, as the reader gives them.

use super::{Entries, EntryNode, Inside, NewEntry, Part, Style, blanks_before, edited};
use crate::formats::{Cell, Column, Fault, Format, RawRecord, RecordSink};
use crate::text::{Span, Text};
use std::cell::RefCell;
use std::collections::HashMap;

/// The records of a text as entries that hold nothing.
pub(in crate::formats) fn row_entries<'t>(
    format: &dyn Format,
    text: &Text<'t>,
    head_end: usize,
    style: Style,
) -> Entries<'t> {
    struct Rows(Vec<EntryNode>);
    impl RecordSink for Rows {
        fn record(&mut self, record: &RawRecord<'_>) {
            let (span, end) = (record.span, self.0.len() + 1);
            self.0.push(EntryNode { value: span, span, inside: Inside::Nothing, parent: None, end });
        }
        fn fault(&mut self, _fault: Fault) {}
    }
    let mut rows = Rows(Vec::new());
    format.read(text, &[], &mut rows);
    Entries::new(text.as_str(), text.body(), head_end, rows.0, style)
}

/// A record that is a line, as it is put elsewhere: as it is, with the blanks before it.
pub(in crate::formats) fn line_entry(entries: &Entries<'_>, record: usize, part: &Part<'_>) -> NewEntry {
    let (text, span) = (entries.text(), entries.node(record).span);
    NewEntry {
        notes: if part.notes { entries.notes_above(record) } else { Vec::new() },
        text: edited(text, span, part.edits),
        indent: blanks_before(text, span.start as usize).map(str::to_owned),
        is_rigid: true,
        ..NewEntry::default()
    }
}

/// The cells of records by column; each column is read once, when it is first asked for.
#[derive(Default)]
pub(in crate::formats) struct Cells {
    by_column: RefCell<HashMap<String, HashMap<Span, Vec<Cell>>>>,
}

impl Cells {
    /// The cells that `record` has in `column`, in the order of the file.
    pub fn of(&self, format: &dyn Format, text: &Text<'_>, column: &str, record: Span) -> Vec<Cell> {
        let mut by_column = self.by_column.borrow_mut();
        let own = by_column.entry(column.to_owned()).or_insert_with(|| read(format, text, column));
        own.get(&record).cloned().unwrap_or_default()
    }
}

fn read(format: &dyn Format, text: &Text<'_>, column: &str) -> HashMap<Span, Vec<Cell>> {
    struct Found(HashMap<Span, Vec<Cell>>);
    impl RecordSink for Found {
        fn record(&mut self, record: &RawRecord<'_>) {
            let cells = self.0.entry(record.span).or_default();
            cells.extend(record.cells.iter().map(|cell| cell.cell));
        }
        fn fault(&mut self, _fault: Fault) {}
    }
    let mut found = Found(HashMap::new());
    format.read(text, &[Column::optional(column)], &mut found);
    found.0
}
