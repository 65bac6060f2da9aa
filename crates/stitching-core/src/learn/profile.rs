//! What columns hold: each value once, with its count and a place, and what kinds of values they are.

use crate::formats::{Cell, Column as WantedColumn, Fault, Form, RawRecord, RecordSink, decode};
use crate::layers::{FileId, Stack};
use crate::links::with_text;
use crate::schema::{Table, number};
use crate::tables::key_hash;
use crate::text::{Span, Text};
use hashbrown::HashMap;
use rayon::prelude::*;
use std::collections::BTreeMap;

/// What may stand between the items of a list or the parts of a value.
pub(super) const SEPARATORS: [char; 9] = [';', ',', '|', '>', ':', '/', '+', '&', ' '];
/// A value with so many characters and blanks in it is prose.
const PROSE: usize = 40;

/// A value of a column.
#[derive(Debug, Clone, Copy)]
pub(super) struct Seen {
    /// How often it is there.
    pub count: u32,
    /// Where it is first.
    pub file: u32,
    /// Its place there.
    pub cell: Cell,
    /// If it is a part of the value at the place, its range in the decoded value.
    pub part: Option<(u16, u16)>,
}

/// What a column holds.
#[derive(Debug, Clone, Default)]
pub(super) struct Profile {
    /// How many values there are that are not empty.
    pub values: u64,
    /// How many are empty.
    pub empty: u64,
    /// In how many records it is there, empty or not.
    pub records: u64,
    /// The most values in one record.
    pub most: u32,
    /// How many are whole numbers, numbers at all, and words for yes and no.
    pub integers: u64,
    pub numbers: u64,
    pub booleans: u64,
    /// How many have a letter.
    pub lettered: u64,
    /// How many are prose.
    pub prose: u64,
    /// How many have a blank inside.
    pub spaced: u64,
    /// How many have each of the separators.
    pub separated: [u64; SEPARATORS.len()],
    /// The numbers' range.
    pub lowest: f64,
    pub highest: f64,
    /// Each value by its hash, but for prose and fractions.
    pub distinct: HashMap<u64, Seen>,
}

impl Profile {
    fn add(&mut self, value: &str, file: FileId, cell: Cell, part: Option<(u16, u16)>) {
        if value.is_empty() {
            self.empty += 1;
            return;
        }
        self.values += 1;
        let found = number(value);
        let mut integer = false;
        if let Some(found) = found {
            if self.numbers == 0 {
                (self.lowest, self.highest) = (found, found);
            }
            self.lowest = self.lowest.min(found);
            self.highest = self.highest.max(found);
            self.numbers += 1;
            integer = value.bytes().all(|byte| byte.is_ascii_digit() || byte == b'-' || byte == b'+');
            self.integers += u64::from(integer);
        } else {
            self.lettered += u64::from(value.chars().any(char::is_alphabetic));
            let words = ["true", "false", "yes", "no"];
            self.booleans += u64::from(words.iter().any(|word| word.eq_ignore_ascii_case(value)));
            for (count, separator) in self.separated.iter_mut().zip(SEPARATORS) {
                *count += u64::from(memchr::memchr(separator as u8, value.as_bytes()).is_some());
            }
            if value.contains(' ') {
                self.spaced += 1;
                if value.len() >= PROSE {
                    self.prose += 1;
                    return;
                }
            }
        }
        if found.is_some() && !integer {
            return;
        }
        let seen = Seen { count: 0, file: file as u32, cell, part };
        self.distinct.entry(key_hash(value, false)).or_insert(seen).count += 1;
    }

    /// Takes the name of a file as a value.
    pub fn add_stem(&mut self, stem: &str, file: FileId) {
        self.add(stem, file, Cell { span: Span::default(), form: Form::Plain }, None);
    }

    fn merge(&mut self, other: Profile) {
        if self.numbers == 0 {
            (self.lowest, self.highest) = (other.lowest, other.highest);
        } else if other.numbers > 0 {
            self.lowest = self.lowest.min(other.lowest);
            self.highest = self.highest.max(other.highest);
        }
        self.values += other.values;
        self.empty += other.empty;
        self.records += other.records;
        self.most = self.most.max(other.most);
        self.integers += other.integers;
        self.numbers += other.numbers;
        self.booleans += other.booleans;
        self.lettered += other.lettered;
        self.prose += other.prose;
        self.spaced += other.spaced;
        self.separated.iter_mut().zip(other.separated).for_each(|(own, other)| *own += other);
        if self.distinct.len() < other.distinct.len() {
            let own = std::mem::replace(&mut self.distinct, other.distinct);
            self.take(own);
        } else {
            self.take(other.distinct);
        }
    }

    fn take(&mut self, other: HashMap<u64, Seen>) {
        for (hash, seen) in other {
            let own = self.distinct.entry(hash).or_insert(Seen { count: 0, ..seen });
            own.count += seen.count;
            // The first place in the order of the files, whatever the threads did.
            if (seen.file, seen.cell.span.start) < (own.file, own.cell.span.start) {
                (own.file, own.cell, own.part) = (seen.file, seen.cell, seen.part);
            }
        }
    }

    /// Whether no value is there twice, and every one of `records` records has it.
    pub fn is_unique(&self, records: u64) -> bool {
        self.values > 0
            && self.values == records
            && self.distinct.len() as u64 == self.values
            && self.most <= 1
    }

    /// Whether the values could be identifiers: not prose, not fractions.
    pub fn is_identifiers(&self) -> bool {
        self.values > 0 && self.prose * 20 <= self.values && (self.numbers == self.integers)
    }

    /// Whether nearly all are numbers.
    pub fn is_numeric(&self) -> bool {
        self.lettered * 20 < self.values
    }
}

/// How the values of a column are taken apart before they are counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Split {
    /// What separates the items.
    pub list: Option<char>,
    /// What separates the parts of an item, and which part is meant.
    pub part: Option<(char, u8)>,
}

impl Split {
    /// The pieces of `value` with their ranges.
    fn pieces<'v>(self, value: &'v str, mut each: impl FnMut(&'v str, (u16, u16))) {
        let mut one = |piece: &'v str| {
            let piece = match self.part {
                None => Some(piece),
                Some((sign, 0)) => piece.split_once(sign).map(|(first, _)| first),
                Some((sign, _)) => piece.split_once(sign).map(|(_, second)| second),
            };
            let Some(piece) = piece.map(str::trim).filter(|piece| !piece.is_empty()) else { return };
            let start = piece.as_ptr() as usize - value.as_ptr() as usize;
            if let (Ok(start), Ok(end)) = (u16::try_from(start), u16::try_from(start + piece.len())) {
                each(piece, (start, end));
            }
        };
        match self.list {
            Some(separator) => value.split(separator).for_each(&mut one),
            None => one(value),
        }
    }
}

/// A column to be looked at: its table, its position there, and how it is taken apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct Wanted {
    /// The position of the table.
    pub table: usize,
    /// The position of the field.
    pub field: usize,
    /// How it is taken apart.
    pub split: Split,
}

/// What is known of a table after one pass.
#[derive(Debug, Clone, Default)]
pub(super) struct Counts {
    /// How many records there are.
    pub records: u64,
    /// What each of the wanted columns holds.
    pub columns: Vec<Profile>,
}

/// Reads the wanted columns of `tables`, whose files are `files`. One pass over each file for each table.
pub(super) fn profile(
    stack: &Stack,
    tables: &[Table],
    files: &[Vec<FileId>],
    wanted: &[Wanted],
) -> Vec<Counts> {
    let of_table =
        |table: usize| wanted.iter().filter(move |wanted| wanted.table == table).collect::<Vec<_>>();
    let wanted: Vec<Vec<&Wanted>> = (0..tables.len()).map(of_table).collect();
    let mut by_file: BTreeMap<FileId, Vec<usize>> = BTreeMap::new();
    for (table, files) in files.iter().enumerate().filter(|(table, _)| !wanted[*table].is_empty()) {
        files.iter().for_each(|file| by_file.entry(*file).or_default().push(table));
    }
    let empty = || -> Vec<Counts> {
        let counts =
            wanted.iter().map(|own| Counts { records: 0, columns: vec![Profile::default(); own.len()] });
        counts.collect()
    };
    let read = |mut counts: Vec<Counts>, (file, of_file): (FileId, Vec<usize>)| {
        let _ = with_text(stack, file, |text| {
            for table in &of_file {
                count(&tables[*table], text, file, &wanted[*table], &mut counts[*table]);
            }
        });
        counts
    };
    let work: Vec<(FileId, Vec<usize>)> = by_file.into_iter().collect();
    work.into_par_iter().with_max_len(8).fold(empty, read).reduce(empty, |mut a, b| {
        for (own, other) in a.iter_mut().zip(b) {
            own.records += other.records;
            own.columns.iter_mut().zip(other.columns).for_each(|(own, other)| own.merge(other));
        }
        a
    })
}

fn count(table: &Table, text: &Text<'_>, file: FileId, wanted: &[&Wanted], counts: &mut Counts) {
    // One column may be wanted in several ways.
    let mut fields: Vec<usize> = wanted.iter().map(|wanted| wanted.field).collect();
    fields.sort_unstable();
    fields.dedup();
    let columns: Vec<WantedColumn<'_>> = fields
        .iter()
        .map(|field| WantedColumn { name: &table.fields[*field].name, optional: true })
        .collect();
    let ways = fields
        .iter()
        .map(|field| (0..wanted.len()).filter(|at| wanted[*at].field == *field).collect::<Vec<usize>>());
    let mut sink = Counting {
        text: text.as_str(),
        file,
        ways: ways.collect(),
        splits: wanted.iter().map(|wanted| wanted.split).collect(),
        counts,
        in_record: vec![0; wanted.len()],
    };
    table.format.read(text, &columns, &mut sink);
}

struct Counting<'c> {
    text: &'c str,
    file: FileId,
    /// For each column read, the positions of the profiles that it goes to.
    ways: Vec<Vec<usize>>,
    splits: Vec<Split>,
    counts: &'c mut Counts,
    in_record: Vec<u32>,
}

impl RecordSink for Counting<'_> {
    fn record(&mut self, record: &RawRecord<'_>) {
        self.counts.records += 1;
        self.in_record.fill(0);
        for own in record.cells {
            if own.cell.form == Form::Nested {
                continue;
            }
            let decoded;
            let value = match own.cell.plain(self.text) {
                Some(plain) => plain,
                None => {
                    decoded = decode(self.text, &own.cell).text;
                    &decoded
                }
            };
            for way in &self.ways[usize::from(own.column)] {
                let profile = &mut self.counts.columns[*way];
                profile.records += u64::from(self.in_record[*way] == 0);
                self.in_record[*way] += 1;
                profile.most = profile.most.max(self.in_record[*way]);
                match self.splits[*way] {
                    split if split == Split::default() => profile.add(value, self.file, own.cell, None),
                    split => split.pieces(value, |piece, range| {
                        profile.add(piece, self.file, own.cell, Some(range));
                    }),
                }
            }
        }
    }

    fn fault(&mut self, _fault: Fault) {}
}

/// The texts of values, by file and place. Each file is read once.
pub(super) fn texts_of(stack: &Stack, seen: &[Seen]) -> Vec<String> {
    let mut by_file: BTreeMap<u32, Vec<usize>> = BTreeMap::new();
    for (at, seen) in seen.iter().enumerate() {
        by_file.entry(seen.file).or_default().push(at);
    }
    let by_file: Vec<(u32, Vec<usize>)> = by_file.into_iter().collect();
    let found: Vec<(usize, String)> = by_file
        .par_iter()
        .flat_map_iter(|(file, own)| {
            let texts = with_text(stack, *file as FileId, |text| {
                let content = text.as_str();
                let one = |at: &usize| {
                    let Seen { cell, part, .. } = seen[*at];
                    let inside = content.get(cell.span.range()).is_some();
                    let value = if inside { decode(content, &cell).text } else { Default::default() };
                    let range = part.map_or(0..value.len(), |(start, end)| start.into()..end.into());
                    (*at, value.get(range).unwrap_or_default().to_owned())
                };
                own.iter().map(one).collect::<Vec<_>>()
            });
            texts.unwrap_or_default()
        })
        .collect();
    let mut out = vec![String::new(); seen.len()];
    found.into_iter().for_each(|(at, text)| out[at] = text);
    out
}
