//! What several columns of a record say together: a column that tells what another points to, and columns that
//! name a record of another table only together.

use super::names::agreement;
use super::references::{Leads, Targets};
use crate::formats::{Column, Fault, Form, RawRecord, RecordSink, decode};
use crate::layers::{FileId, Stack};
use crate::links::with_text;
use crate::schema::Table;
use crate::tables::key_hash;
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// So many records of a table are looked at.
const LOOKED_AT: usize = 100_000;

/// A column that tells which table another one points to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Telling {
    /// The position of the column that tells.
    pub field: usize,
    /// For each of its values the target that is meant; none where the other column points nowhere then.
    pub cases: BTreeMap<String, Option<usize>>,
    /// How many values there are where it leads somewhere, and how many of them do.
    pub values: u64,
    pub fit: u64,
    /// Whether the values name the tables.
    pub named: bool,
}

/// What is counted for one value of a column that may tell.
#[derive(Debug, Default)]
struct Case {
    values: u64,
    /// How many values each target has.
    hits: BTreeMap<usize, u64>,
    different: HashSet<u64>,
}

/// Looks for a column among `siblings` whose values tell to which of the targets those of `field` lead. Cost: one
/// pass over (the first part of) the files.
pub(super) fn telling(
    stack: &Stack,
    table: &Table,
    files: &[FileId],
    field: usize,
    siblings: &[usize],
    targets: &Targets,
) -> Option<Telling> {
    /// More cases are no kinds of things.
    const MOST_CASES: usize = 24;
    let mut counts: Vec<BTreeMap<String, Case>> = siblings.iter().map(|_| BTreeMap::new()).collect();
    let columns: Vec<usize> = std::iter::once(field).chain(siblings.iter().copied()).collect();
    each_record(stack, table, files, &columns, &mut |_, cells| {
        let Some(value) = cells[0].as_ref().filter(|value| !value.is_empty()) else { return };
        let hash = key_hash(value, false);
        let hit: BTreeSet<usize> = targets
            .of(hash)
            .filter(|target| matches!(targets.list[*target].leads, Leads::Record(_)))
            .collect();
        for (counts, told) in counts.iter_mut().zip(&cells[1..]) {
            let told = told.clone().unwrap_or_default();
            if counts.len() > MOST_CASES && !counts.contains_key(&told) {
                continue;
            }
            let case = counts.entry(told).or_default();
            case.values += 1;
            case.different.insert(hash);
            for target in &hit {
                *case.hits.entry(*target).or_default() += 1;
            }
        }
    });
    let found = siblings.iter().zip(counts).filter(|(_, cases)| (2..=MOST_CASES).contains(&cases.len()));
    let found = found.filter_map(|(sibling, cases)| told_by(*sibling, cases, targets));
    found.max_by_key(|own| (own.named, own.fit * 1000 / own.values.max(1), own.values))
}

/// Whether each value of a column goes with one target, or with none.
fn told_by(field: usize, cases: BTreeMap<String, Case>, targets: &Targets) -> Option<Telling> {
    let (mut values, mut fit, mut agree, mut leading) = (0, 0, 0, 0);
    let mut out = BTreeMap::new();
    let mut meant: BTreeSet<usize> = BTreeSet::new();
    for (told, case) in cases {
        // Of several targets with all the values, the one that is named.
        let best = case.hits.iter().max_by_key(|(target, hits)| {
            (**hits, agreement(&told, &targets.list[**target].name), usize::MAX - **target)
        });
        match best {
            Some((target, hits)) if *hits * 100 >= case.values * 95 && !told.is_empty() => {
                (values, fit, leading) = (values + case.values, fit + hits, leading + 1);
                agree += u32::from(agreement(&told, &targets.list[*target].name) == 2);
                // Two values that happen to be there are no evidence.
                if case.different.len() < 3 {
                    agree = agree.saturating_sub(1);
                }
                meant.insert(*target);
                out.insert(told, Some(*target));
            }
            // A number or a word that happens to be a key is no reference.
            None => {
                out.insert(told, None);
            }
            Some((_, hits)) if *hits * 10 <= case.values => {
                out.insert(told, None);
            }
            Some(_) => return None,
        }
    }
    let nowhere = out.values().any(Option::is_none);
    (meant.len() >= 2 || (meant.len() == 1 && nowhere)).then_some(Telling {
        field,
        cases: out,
        values,
        fit,
        named: agree == leading,
    })
}

/// How far the values of some columns are, together, keys of a table whose key has several parts.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub(super) struct Together {
    /// How many records have a value in each of the columns.
    pub values: u64,
    /// How many of them name a record.
    pub fit: u64,
    /// How many different records they name.
    pub distinct: u64,
    /// How many keys there are.
    pub keys: u64,
}

/// Looks the values of `columns` of one table up among those of `key` of another, taken together. Cost: a pass over
/// (the first part of) the files of both.
pub(super) fn together(
    stack: &Stack,
    (owner, owner_files, key): (&Table, &[FileId], &[usize]),
    (table, files, columns): (&Table, &[FileId], &[usize]),
) -> Together {
    let hash = |cells: &[Option<String>]| -> Option<u64> {
        let parts: Option<Vec<&str>> =
            cells.iter().map(|cell| cell.as_deref().filter(|text| !text.is_empty())).collect();
        parts.map(|parts| key_hash(&parts.join("\u{1f}"), false))
    };
    let mut keys: HashSet<u64> = HashSet::new();
    let whole = each_record(stack, owner, owner_files, key, &mut |_, cells| keys.extend(hash(cells)));
    let mut out = Together { keys: keys.len() as u64, ..Together::default() };
    if !whole {
        return out;
    }
    let mut different: HashSet<u64> = HashSet::new();
    each_record(stack, table, files, columns, &mut |_, cells| {
        let Some(hash) = hash(cells) else { return };
        out.values += 1;
        if keys.contains(&hash) {
            out.fit += 1;
            different.insert(hash);
        }
    });
    out.distinct = different.len() as u64;
    out
}

/// Gives the texts of `columns` (positions in the table's fields) of each record, with its file. Whether that
/// were all: of large tables only the first records are given.
fn each_record(
    stack: &Stack,
    table: &Table,
    files: &[FileId],
    columns: &[usize],
    each: &mut dyn FnMut(FileId, &[Option<String>]),
) -> bool {
    let wanted: Vec<Column<'_>> =
        columns.iter().map(|field| Column { name: &table.fields[*field].name, optional: true }).collect();
    let mut left = LOOKED_AT;
    for file in files {
        if left == 0 {
            return false;
        }
        let read = with_text(stack, *file, |text| {
            let mut sink = Cells { text: text.as_str(), file: *file, count: columns.len(), left, each };
            table.format.read(text, &wanted, &mut sink);
            sink.left
        });
        left = read.unwrap_or(left);
    }
    left > 0
}

struct Cells<'c> {
    text: &'c str,
    file: FileId,
    count: usize,
    left: usize,
    each: &'c mut dyn FnMut(FileId, &[Option<String>]),
}

impl RecordSink for Cells<'_> {
    fn record(&mut self, record: &RawRecord<'_>) {
        if self.left == 0 {
            return;
        }
        self.left -= 1;
        let mut cells: Vec<Option<String>> = vec![None; self.count];
        for own in record.cells.iter().filter(|own| own.cell.form != Form::Nested) {
            let cell = &mut cells[usize::from(own.column)];
            if cell.is_none() {
                *cell = Some(decode(self.text, &own.cell).text.trim().to_owned());
            }
        }
        (self.each)(self.file, &cells);
    }

    fn fault(&mut self, _fault: Fault) {}
}
