//! Looking up all values of columns that seem to point somewhere, where only some of them were kept.

use super::profile::{ColumnRequest, Place, Split, ValueCount, add_values, over_blocks};
use crate::formats::{BlockState, Column as WantedColumn, Fault, Form, RawRecord, RecordSink};
use crate::layers::{FileId, Stack};
use crate::reading::with_text;
use crate::schema::Table;
use crate::tables::key_hash;
use crate::text::Text;
use hashbrown::HashMap;
use rayon::prelude::*;
use std::collections::BTreeMap;

/// A column that seems to point somewhere, and how its values are to be checked.
pub(super) struct Checked<'c> {
    /// Its fields and how they are taken apart.
    pub wanted: Vec<ColumnRequest>,
    /// Whether a value, given by its hash, resolves.
    pub resolves: Box<dyn Fn(u64) -> bool + Sync + 'c>,
}

/// What a check of all values of a column gave.
#[derive(Debug, Clone, Default)]
pub(super) struct CheckedCounts {
    pub values: u64,
    pub resolved: u64,
    /// The values that do not resolve.
    pub left: HashMap<u64, ValueCount>,
}

/// So many values that do not resolve are kept of one column.
const MOST_LEFT: usize = 10_000;

/// Checks all values of columns, not only those that were kept of them.
pub(super) fn check_all(
    stack: &Stack,
    tables: &[Table],
    files: &[Vec<FileId>],
    checked: &[Checked<'_>],
) -> Vec<CheckedCounts> {
    let mut by_file: BTreeMap<FileId, Vec<usize>> = BTreeMap::new();
    for (at, own) in checked.iter().enumerate() {
        let table = own.wanted.first().map(|wanted| wanted.table);
        table
            .into_iter()
            .flat_map(|table| &files[table])
            .for_each(|file| by_file.entry(*file).or_default().push(at));
    }
    let empty = || vec![CheckedCounts::default(); checked.len()];
    let read = |mut counts: Vec<CheckedCounts>, (file, own): (FileId, Vec<usize>)| {
        let mut of_table: BTreeMap<usize, Vec<usize>> = BTreeMap::new();
        own.iter().for_each(|at| of_table.entry(checked[*at].wanted[0].table).or_default().push(*at));
        for (table, own) in of_table {
            let table = &tables[table];
            let wanted = || {
                own.iter()
                    .enumerate()
                    .flat_map(|(at, id)| checked[*id].wanted.iter().map(move |wanted| (at, wanted)))
            };
            let columns: Vec<WantedColumn<'_>> = wanted()
                .map(|(_, wanted)| WantedColumn::optional(&table.fields[wanted.field].name))
                .collect();
            let ways: Vec<(usize, Option<Split>)> =
                wanted().map(|(at, wanted)| (at, wanted.split.taken_apart())).collect();
            let checks: Vec<&Checked<'_>> = own.iter().map(|id| &checked[*id]).collect();
            let fresh = vec![CheckedCounts::default(); own.len()];
            let mut each =
                |text: &Text<'_>, base, state: &mut BlockState, counts: &mut Vec<CheckedCounts>| {
                    let mut sink = Checking {
                        text: text.as_str(),
                        place: (file, base),
                        ways: &ways,
                        checks: &checks,
                        counts,
                    };
                    table.format.read_block(text, &columns, state, &mut sink);
                };
            let of_file = over_blocks(stack, table, file, &fresh, &mut each).unwrap_or_else(|| {
                let mut counts = fresh.clone();
                let _ = with_text(stack, file, |text| {
                    each(text, 0, &mut BlockState::default(), &mut counts);
                });
                counts
            });
            own.iter().zip(of_file).for_each(|(id, of_file)| counts[*id].add(of_file));
        }
        counts
    };
    let work: Vec<(FileId, Vec<usize>)> = by_file.into_iter().collect();
    work.into_par_iter().with_max_len(8).fold(empty, read).reduce(empty, |mut a, b| {
        a.iter_mut().zip(b).for_each(|(own, other)| own.add(other));
        a
    })
}

impl CheckedCounts {
    fn add(&mut self, other: CheckedCounts) {
        self.values += other.values;
        self.resolved += other.resolved;
        add_values(&mut self.left, other.left);
    }
}

struct Checking<'c> {
    text: &'c str,
    /// The file, and where in it the text begins.
    place: (FileId, u32),
    /// For each column read, the check that it belongs to and how it is taken apart, if it is.
    ways: &'c [(usize, Option<Split>)],
    checks: &'c [&'c Checked<'c>],
    counts: &'c mut Vec<CheckedCounts>,
}

impl RecordSink for Checking<'_> {
    fn record(&mut self, record: &RawRecord<'_>) {
        for own in record.cells.iter().filter(|own| own.cell.form != Form::Nested) {
            let value = own.cell.value(self.text);
            let (at, split) = &self.ways[usize::from(own.column)];
            let at = *at;
            let counts = &mut self.counts[at];
            let place = Place { file: self.place.0, base: self.place.1, cell: &own.cell };
            let mut one = |piece: &str, part: Option<(u16, u16)>| {
                if piece.is_empty() {
                    return;
                }
                counts.values += 1;
                let hash = key_hash(piece, false);
                if (self.checks[at].resolves)(hash) {
                    counts.resolved += 1;
                } else if counts.left.len() < MOST_LEFT || counts.left.contains_key(&hash) {
                    counts.left.entry(hash).or_insert_with(|| place.seen(part)).count += 1;
                }
            };
            match split {
                None => one(&value, None),
                Some(split) => split.pieces(&value, |piece, range| one(piece, Some(range))),
            }
        }
    }

    fn fault(&mut self, _fault: Fault) {}
}
