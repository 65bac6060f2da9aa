//! Records and fields, drawn from files by the schema.
//!
//! [`read_records`] is the one way to the records of a file; all else (the facts for the index,
//! what is shown, what is renamed) is built on the [`RecordView`]s it gives.

mod beside;
mod by_hash;
mod facts;
mod finders;
mod pieces;
mod record;

pub use beside::CellOrder;
pub(crate) use by_hash::ByHash;
pub(crate) use facts::refers_folded;
pub use facts::{
    Extractor, FileFacts, Link, LinkKind, RuleLinks, Seed, SeedDetail, TableFacts, extract, key_hash,
    path_hash,
};
pub use finders::{
    CellFinder, EmptyFinder, FieldFinder, FileFinder, Finders, IncompleteFinder, KeyFinder, PieceFinder,
    ValueFinder,
};
pub use pieces::{
    Piece, Siblings, beside, each_rule, file_named, for_each_in_path, for_each_piece, key_named, pieces_of,
    split_value, wrong_count,
};
pub use record::{Record, Value, read_all, read_at, read_each, read_from};

use crate::formats::{BlockState, Cell, Column, ColumnCell, Fault, RawRecord, RecordSink, decode};
use crate::layers::{FileId, LayerId, RelPath, Stack};
use crate::schema::{Field, KeyPart, Table};
use crate::text::{Span, Text};
use beside::KnownCompanions;
use std::borrow::Cow;
use std::collections::HashMap;

/// The key of a record as it is kept: its parts joined by a separator that no text has.
pub(crate) use crate::schema::KEY_SEPARATOR;

/// One record of a file, with access to its fields.
#[derive(Debug)]
pub struct RecordView<'a> {
    /// The table it belongs to.
    pub table: &'a Table,
    /// The file it stands in.
    pub path: &'a RelPath,
    /// The whole content of the file.
    pub text: &'a str,
    /// Its position among the records of the file, 0-based.
    pub index: u32,
    /// The whole record.
    pub span: Span,
    /// The cells of the wanted fields; `column` is the position of the field in the table.
    pub cells: &'a [ColumnCell],
    /// Its position among the records of the file with the same other parts of the key, as the table counts; 0 in tables
    /// that do not count.
    pub position: u32,
    /// What the named parts of its file's path say, in the order of [`Table::path_parts`].
    pub path_parts: &'a [String],
    companions: KnownCompanions,
}

impl<'a> RecordView<'a> {
    /// A record of the file at `path` in which nothing stands; `path_parts` are what the named parts of the path say.
    fn without_cells(table: &'a Table, path: &'a RelPath, path_parts: &'a [String]) -> RecordView<'a> {
        let span = Span { start: 0, end: 0 };
        let companions = KnownCompanions::default();
        RecordView { table, path, text: "", index: 0, span, cells: &[], position: 0, path_parts, companions }
    }

    /// The first cell of `field`.
    #[inline]
    pub fn cell(&self, field: usize) -> Option<&'a Cell> {
        self.cells.iter().find(|cell| usize::from(cell.column) == field).map(|cell| &cell.cell)
    }

    /// The value of `field`, if the record or its path has it.
    pub fn value(&self, field: usize) -> Option<String> {
        match self.of_path(field) {
            Some(value) => Some(value.to_owned()),
            None => self.cell(field).map(|cell| decode(self.text, cell).text.into_owned()),
        }
    }

    /// The value of `field` if it is a part of the file's path; `None` for all other fields.
    #[inline]
    pub fn of_path(&self, field: usize) -> Option<&'a str> {
        match self.table.fields[field].of_path? {
            KeyPart::PathPart(part) => self.path_parts.get(part).map(String::as_str),
            part => self.table.of_path(part, self.path),
        }
    }

    /// Appends the key to `out`; on failure gives the part that is missing or empty, and `out` may
    /// have a part of the key.
    #[inline]
    pub fn push_key(&self, out: &mut String) -> Result<(), KeyPart> {
        let may_be_empty = |field: usize| self.table.key.len() > 1 && self.table.fields[field].optional;
        let (begin, mut empty) = (out.len(), 0);
        for (index, part) in self.table.key.iter().enumerate() {
            if index > 0 {
                out.push(KEY_SEPARATOR);
            }
            match part {
                KeyPart::Stem => out.push_str(self.path.stem()),
                KeyPart::FileName => out.push_str(self.path.name()),
                KeyPart::Path => out.push_str(self.path.as_str()),
                KeyPart::PathPart(part) => {
                    out.push_str(self.path_parts.get(*part).map_or("", String::as_str));
                }
                KeyPart::Position => out.push_str(&self.position.to_string()),
                KeyPart::Field(field) => {
                    let Some(cell) = self.cell(*field) else {
                        let column = &self.table.fields[*field].column;
                        match self.table.format.absent(column) {
                            Some(name) => out.push_str(name),
                            None if may_be_empty(*field) => empty += 1,
                            None => return Err(*part),
                        }
                        continue;
                    };
                    let start = out.len();
                    match cell.plain(self.text) {
                        Some(text) => out.push_str(text),
                        None => out.push_str(&decode(self.text, cell).text),
                    }
                    if out.len() == start {
                        if !may_be_empty(*field) {
                            return Err(*part);
                        }
                        empty += 1;
                    }
                }
            }
        }
        // Some part must say something.
        match self.table.key.first() {
            Some(part) if empty > 0 && out[begin..].chars().all(|next| next == KEY_SEPARATOR) => Err(*part),
            _ => Ok(()),
        }
    }

    /// The key, unless a part of it is missing or the table has none.
    pub fn key(&self) -> Option<String> {
        if self.table.key.is_empty() {
            return None;
        }
        let mut key = String::new();
        self.push_key(&mut key).ok().map(|()| key)
    }
}

/// Takes what is read from a file.
pub trait RecordVisitor {
    /// Takes a record. Records come in the order of the file.
    fn record(&mut self, record: &RecordView<'_>);
    /// Takes a fault in the file's layout.
    fn fault(&mut self, _fault: Fault) {}
}

/// Adds the fields of the key, so that records can be named.
pub(crate) fn add_key_fields(table: &Table, fields: &mut Vec<usize>) {
    for part in &table.key {
        if let KeyPart::Field(field) = part
            && !fields.contains(field)
        {
            fields.push(*field);
        }
    }
}

/// Reads the records of `table` in the file at `path`, with the cells of `fields` (positions in
/// the table's fields) only. Cost: one pass over the text.
pub fn read_records(
    table: &Table,
    path: &RelPath,
    text: &Text<'_>,
    fields: &[usize],
    reader: &mut dyn RecordVisitor,
) {
    let mut sink = Sink::new(table, path, text, fields, reader);
    table.format.read(text, &columns(table, fields), &mut sink);
}

/// As [`read_records`] for a file that is read in blocks: the next block of it. `text` is `None` after
/// the last one. [`RecordView::index`] and all places are within the block.
pub fn read_block(
    table: &Table,
    path: &RelPath,
    text: Option<&Text<'_>>,
    fields: &[usize],
    state: &mut BlockState,
    reader: &mut dyn RecordVisitor,
) {
    let empty = Text::of_str("");
    let block = text.unwrap_or(&empty);
    let mut sink = Sink::new(table, path, block, fields, reader);
    match text {
        Some(text) => table.format.read_block(text, &columns(table, fields), state, &mut sink),
        None => table.format.end_blocks(state, &mut sink),
    }
}

/// As [`read_records`], but only the records around the byte `offsets` (sorted), if the format can
/// tell them without reading the rest; otherwise all. [`RecordView::index`] means nothing then.
pub fn read_records_at(
    table: &Table,
    path: &RelPath,
    text: &Text<'_>,
    fields: &[usize],
    offsets: &[usize],
    reader: &mut dyn RecordVisitor,
) {
    let mut sink = Sink::new(table, path, text, fields, reader);
    let columns = columns(table, fields);
    if table.counts_positions() || !table.format.read_at(text, &columns, offsets, &mut sink) {
        table.format.read(text, &columns, &mut sink);
    }
}

fn columns<'t>(table: &'t Table, fields: &[usize]) -> Vec<Column<'t>> {
    let related = table.relates_fields();
    let fields = fields.iter().map(|field| &table.fields[*field]);
    let column = |(field, name): (&'t Field, &'t String)| Column {
        name,
        optional: field.optional || !field.alternatives.is_empty(),
        related,
        described: field.place.is_some(),
    };
    fields.flat_map(|field| field.columns().map(move |name| (field, name))).map(column).collect()
}

/// The field that each of the [`columns`] is of.
fn fields_of_columns<'f>(table: &Table, fields: &'f [usize]) -> Cow<'f, [usize]> {
    let count = |field: &usize| table.fields[*field].columns().count();
    match fields.iter().all(|field| count(field) == 1) {
        true => Cow::Borrowed(fields),
        false => {
            Cow::Owned(fields.iter().flat_map(|field| std::iter::repeat_n(*field, count(field))).collect())
        }
    }
}

/// Turns what a format reads into views of records.
struct Sink<'a, 'r> {
    table: &'a Table,
    path: &'a RelPath,
    text: &'a str,
    /// The field that each column is of.
    fields: Cow<'a, [usize]>,
    /// Whether the position of each wanted field is its position in the table, as it mostly is.
    all_in_order: bool,
    /// Whether some field has several columns.
    has_alternatives: bool,
    cells: Vec<ColumnCell>,
    next: u32,
    /// How many records there were so far, by the other parts of the key; in tables that count them.
    counts: Option<HashMap<String, u32>>,
    path_parts: Vec<String>,
    reader: &'r mut dyn RecordVisitor,
}

impl<'a, 'r> Sink<'a, 'r> {
    fn new(
        table: &'a Table,
        path: &'a RelPath,
        text: &Text<'a>,
        fields: &'a [usize],
        reader: &'r mut dyn RecordVisitor,
    ) -> Sink<'a, 'r> {
        let fields = fields_of_columns(table, fields);
        let all_in_order = fields.iter().enumerate().all(|(at, field)| at == *field);
        let has_alternatives = fields.windows(2).any(|pair| pair[0] == pair[1]);
        Sink {
            table,
            path,
            text: text.as_str(),
            fields,
            all_in_order,
            has_alternatives,
            cells: Vec::new(),
            next: 0,
            counts: table.counts_positions().then(HashMap::new),
            path_parts: path_parts(table, path),
            reader,
        }
    }
}

impl RecordSink for Sink<'_, '_> {
    fn record(&mut self, record: &RawRecord<'_>) {
        let cells = if self.all_in_order {
            record.cells
        } else {
            self.cells.clear();
            let fields = &self.fields;
            // The columns of a field stand one behind the other.
            let is_first = |cell: &&ColumnCell| {
                let column = usize::from(cell.column);
                let has = |other: usize| record.cells.iter().any(|cell| usize::from(cell.column) == other);
                !(0..column).rev().take_while(|other| fields[*other] == fields[column]).any(has)
            };
            let counts = |cell: &&ColumnCell| !self.has_alternatives || is_first(cell);
            self.cells.extend(
                record
                    .cells
                    .iter()
                    .filter(counts)
                    .map(|cell| ColumnCell { column: fields[usize::from(cell.column)] as u16, ..*cell }),
            );
            &self.cells
        };
        let mut view = RecordView {
            table: self.table,
            path: self.path,
            text: self.text,
            index: self.next,
            span: record.span,
            cells,
            position: 0,
            path_parts: &self.path_parts,
            companions: KnownCompanions::default(),
        };
        if let Some(counts) = &mut self.counts {
            // With the position as 0, records are told apart by the rest of the key.
            let mut others = String::new();
            if view.push_key(&mut others).is_ok() {
                let count = counts.entry(others).or_default();
                view.position = self.table.first + *count;
                *count += 1;
            }
        }
        self.next += 1;
        self.reader.record(&view);
    }

    fn fault(&mut self, fault: Fault) {
        self.reader.fault(fault);
    }
}

/// What the named parts of the path say, in the order of [`Table::path_parts`].
fn path_parts(table: &Table, path: &RelPath) -> Vec<String> {
    let parts = 0..table.path_parts().len();
    parts.map(|part| table.path_part(path, part).unwrap_or_default().to_owned()).collect()
}

/// All fields of a table, for [`read_records`].
pub fn all_fields(table: &Table) -> Vec<usize> {
    (0..table.fields.len()).collect()
}

/// The files of `table` that the game would read if the layers ended at `through`, in the order of their paths.
pub fn files_of(stack: &Stack, table: &Table, through: LayerId) -> Vec<FileId> {
    let files = stack.effective(through).into_iter();
    files.filter(|file| table.takes(&stack.files()[*file].path)).collect()
}

/// The key as people see and write it: its parts with `/` between.
pub fn shown_key(key: &str) -> String {
    key.replace(KEY_SEPARATOR, "/")
}
