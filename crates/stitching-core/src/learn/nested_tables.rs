//! Records inside records: what belongs to the inner ones is no column of those around them.

use super::Studied;
use super::recognise::SAMPLE_BYTES;
use crate::formats::{Blocks, Column, ColumnCell, Fault, Ini, Json, RawRecord, RecordSink, Xml};
use crate::layers::{FileId, Stack};
use crate::reading::with_start;
use crate::schema::Table;
use crate::text::Span;
use std::collections::{BTreeMap, BTreeSet};

/// So many files that two tables share are looked at.
const LOOKED_AT: usize = 12;

/// For each of `studied` the fields whose values all stand in records of another table, which lie inside its own.
///
/// Cost: a look at the beginnings of a few files for each table that shares its files with another.
pub(super) fn fields_of_inner_tables(stack: &Stack, studied: &[Studied]) -> Vec<BTreeSet<usize>> {
    let mut out: Vec<BTreeSet<usize>> = vec![BTreeSet::new(); studied.len()];
    let mut sharing: BTreeMap<FileId, Vec<usize>> = BTreeMap::new();
    for (at, own) in studied.iter().enumerate() {
        if matches!(own.table.format_name, Json::NAME | Xml::NAME | Blocks::NAME | Ini::NAME) {
            own.files.first().into_iter().for_each(|file| sharing.entry(*file).or_default().push(at));
        }
    }
    for tables in sharing.into_values().filter(|tables| tables.len() > 1) {
        let seen: Vec<Vec<FileRecords>> = tables.iter().map(|at| look(stack, &studied[*at])).collect();
        for (outer, around) in tables.iter().zip(&seen) {
            for (inner, inside) in tables.iter().zip(&seen).filter(|(inner, _)| *inner != outer) {
                let has_records = inside.iter().any(|own| !own.records.is_empty());
                if has_records && inside.iter().zip(around).all(|(inside, around)| inside.lies_in(around)) {
                    let fields = 0..studied[*outer].table.fields.len();
                    out[*outer].extend(fields.filter(|field| are_in(*field, around, inside)));
                    // The first row in a value is no record.
                    let source = studied[*inner].table.format.source_column();
                    out[*outer].extend(source.and_then(|key| studied[*outer].table.field(key)));
                }
            }
        }
    }
    out
}

/// The records of a table in one file, and the places of their values by field.
#[derive(Default)]
struct FileRecords {
    records: Vec<Span>,
    values: Vec<(usize, Span)>,
}

impl FileRecords {
    /// Whether each record lies in one of `other` that is larger.
    fn lies_in(&self, other: &FileRecords) -> bool {
        let is_larger = |own: &Span, around: &Span| around.end - around.start > own.end - own.start;
        let lies = |own: &Span| around(&other.records, *own).is_some_and(|around| is_larger(own, &around));
        self.records.iter().all(lies)
    }
}

/// Whether all values of `field` lie in records of `inside`, file by file, and there are some.
fn are_in(field: usize, of: &[FileRecords], inside: &[FileRecords]) -> bool {
    let mut count = 0;
    let all = of.iter().zip(inside).all(|(own, inside)| {
        let mut values = own.values.iter().filter(|(at, _)| *at == field);
        values.all(|(_, span)| {
            count += 1;
            around(&inside.records, *span).is_some()
        })
    });
    all && count > 0
}

/// The one of `records`, in the order of their beginnings, that `span` lies in.
fn around(records: &[Span], span: Span) -> Option<Span> {
    let before = records.partition_point(|own| own.start <= span.start);
    records[..before].last().copied().filter(|own| span.end <= own.end)
}

fn look(stack: &Stack, own: &Studied) -> Vec<FileRecords> {
    let names = own.table.fields.iter().map(|field| Column::optional(&field.name));
    let columns: Vec<Column<'_>> = names.collect();
    let of_file = |file: &FileId| {
        let mut seen = FileRecords::default();
        let read =
            with_start(stack, *file, SAMPLE_BYTES, |text| read_into(&own.table, text, &columns, &mut seen));
        // What cannot be read has nothing in it.
        read.map_or_else(|_| FileRecords::default(), |()| seen)
    };
    own.files.iter().take(LOOKED_AT).map(of_file).collect()
}

fn read_into(table: &Table, text: &crate::text::Text<'_>, columns: &[Column<'_>], seen: &mut FileRecords) {
    table.format.read(text, columns, seen);
    seen.records.sort_by_key(|span| span.start);
}

impl RecordSink for FileRecords {
    fn record(&mut self, record: &RawRecord<'_>) {
        self.records.push(record.span);
        let place = |own: &ColumnCell| (usize::from(own.column), own.cell.span);
        self.values.extend(record.cells.iter().map(place));
    }

    fn fault(&mut self, _fault: Fault) {}
}
