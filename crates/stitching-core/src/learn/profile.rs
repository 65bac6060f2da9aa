//! What columns hold: each value once, with its count and a place, and what kinds of values they are.

use crate::formats::{BlockState, Cell, Column as WantedColumn, Fault, Form, RawRecord, RecordSink, decode};
use crate::layers::{FileId, Stack};
use crate::reading::{with_blocks, with_pieces, with_text};
use crate::schema::Table;
use crate::tables::key_hash;
use crate::text::{Span, Text, number};
use hashbrown::HashMap;
use rayon::prelude::*;
use std::collections::BTreeMap;

/// What may stand between the items of a list or the parts of a value.
pub(super) const SEPARATORS: [char; 12] = [';', ',', '|', '>', ':', '/', '+', '&', ' ', '*', '=', '@'];
/// A value with so many characters and blanks in it is prose.
const PROSE: usize = 40;

/// A value of a column.
#[derive(Debug, Clone, Copy)]
pub(super) struct ValueCount {
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
///
/// Each value is kept once with its count; where there are very many, only those are whose hash ends in
/// [`Profile::level`] zero bits. Since that depends on the value alone, two columns keep the same of what they
/// have in common, and what is true of the kept values is true of nearly all.
#[derive(Debug, Clone, Default)]
pub(super) struct Profile {
    /// How many values there are that are not empty.
    pub values: u64,
    /// How many are empty.
    pub empty: u64,
    /// The most values in one record.
    pub most: u32,
    /// How many are whole numbers, and how many numbers at all.
    pub integers: u64,
    pub numbers: u64,
    /// How many are words for yes and no.
    pub booleans: u64,
    /// How many have a letter.
    pub lettered: u64,
    /// How many are prose.
    pub prose: u64,
    /// How many have a blank inside.
    pub spaced: u64,
    /// How many have each of the separators.
    pub separated: [u64; SEPARATORS.len()],
    /// How many are -1, and how many other numbers are below 0.
    pub minus_one: u64,
    pub negative: u64,
    /// The numbers' range.
    pub lowest: f64,
    pub highest: f64,
    /// Each value by its hash, but for prose and fractions.
    pub distinct: HashMap<u64, ValueCount>,
    /// How many zero bits the hashes of the values end in that are kept.
    pub level: u32,
    /// The first few values that are no numbers, in a column that has numbers.
    pub words: HashMap<u64, ValueCount>,
}

/// Where a value stands.
pub(super) struct Place<'c> {
    pub file: FileId,
    /// Where in the file the text begins in which the cell is.
    pub base: u32,
    pub cell: &'c Cell,
}

impl Place<'_> {
    pub fn seen(&self, part: Option<(u16, u16)>) -> ValueCount {
        ValueCount { count: 0, file: self.file as u32, cell: self.cell.moved(self.base), part }
    }
}

/// So many different values are kept of a column that is only looked over.
pub(super) const SAMPLED: usize = 1 << 10;
/// So many values that are no numbers are kept besides.
const WORDS: usize = 64;

/// What is in a value: bits of [`SEPARATORS`] in their order, then a letter.
const LETTER: u16 = 1 << SEPARATORS.len();
const SIGNS: [u16; 256] = {
    let mut signs = [0; 256];
    let mut at = 0;
    while at < SEPARATORS.len() {
        signs[SEPARATORS[at] as usize] = 1 << at;
        at += 1;
    }
    let mut byte = 0;
    while byte < 256 {
        if (byte as u8).is_ascii_alphabetic() || byte >= 128 {
            signs[byte] |= LETTER;
        }
        byte += 1;
    }
    signs
};

impl Profile {
    /// Counts a value that stands at `place`; keeps about `limit` different ones.
    #[inline]
    fn add(&mut self, value: &str, place: &Place<'_>, part: Option<(u16, u16)>, limit: usize) {
        if value.is_empty() {
            self.empty += 1;
            return;
        }
        self.values += 1;
        let first = value.as_bytes()[0];
        let found = if first.is_ascii_alphabetic() { None } else { number(value) };
        let mut whole = true;
        if let Some(found) = found {
            if self.numbers == 0 {
                (self.lowest, self.highest) = (found, found);
            }
            self.lowest = self.lowest.min(found);
            self.highest = self.highest.max(found);
            self.numbers += 1;
            whole = memchr::memchr3(b'.', b'e', b'E', value.as_bytes()).is_none();
            self.integers += u64::from(whole);
            if found < 0.0 {
                *if value == "-1" { &mut self.minus_one } else { &mut self.negative } += 1;
            }
        } else {
            if value.len() >= PROSE && has_words(value.as_bytes()) {
                self.lettered += 1;
                self.spaced += 1;
                self.prose += 1;
                return;
            }
            let signs = value.bytes().fold(0, |signs, byte| signs | SIGNS[usize::from(byte)]);
            self.lettered += u64::from(signs & LETTER != 0);
            self.booleans += u64::from(is_yes_or_no(value));
            if signs & !LETTER != 0 {
                for (at, count) in self.separated.iter_mut().enumerate() {
                    *count += u64::from(signs >> at & 1);
                }
                self.spaced += u64::from(signs & SIGNS[usize::from(b' ')] != 0);
            }
        }
        if !whole {
            return;
        }
        let hash = key_hash(value, false);
        let seen = || place.seen(part);
        // Among numbers, what is none tells something.
        let tells = found.is_none() && (self.numbers > 0 || self.values <= WORDS as u64);
        if tells && (self.words.len() < WORDS || self.words.contains_key(&hash)) {
            self.words.entry(hash).or_insert_with(seen).count += 1;
        }
        if hash.trailing_zeros() < self.level {
            return;
        }
        self.distinct.entry(hash).or_insert_with(seen).count += 1;
        self.shrink(limit);
    }

    /// Keeps fewer values as long as they are more than `limit`.
    fn shrink(&mut self, limit: usize) {
        while self.distinct.len() > limit {
            self.level += 1;
            let level = self.level;
            self.distinct.retain(|hash, _| hash.trailing_zeros() >= level);
        }
    }

    /// Takes the name of a file as a value.
    pub fn add_stem(&mut self, stem: &str, file: FileId) {
        let cell = Cell { span: Span::default(), form: Form::Plain };
        self.add(stem, &Place { file, base: 0, cell: &cell }, None, usize::MAX);
    }

    fn merge(&mut self, other: Profile, limit: usize) {
        if self.numbers == 0 {
            (self.lowest, self.highest) = (other.lowest, other.highest);
        } else if other.numbers > 0 {
            self.lowest = self.lowest.min(other.lowest);
            self.highest = self.highest.max(other.highest);
        }
        self.values += other.values;
        self.empty += other.empty;
        self.most = self.most.max(other.most);
        self.integers += other.integers;
        self.numbers += other.numbers;
        self.booleans += other.booleans;
        self.lettered += other.lettered;
        self.prose += other.prose;
        self.spaced += other.spaced;
        self.minus_one += other.minus_one;
        self.negative += other.negative;
        self.separated.iter_mut().zip(other.separated).for_each(|(own, other)| *own += other);
        add_values(&mut self.words, other.words);
        self.level = self.level.max(other.level);
        let level = self.level;
        let (mut less, mut more) = (std::mem::take(&mut self.distinct), other.distinct);
        if less.len() > more.len() {
            std::mem::swap(&mut less, &mut more);
        }
        add_values(&mut more, less);
        more.retain(|hash, _| hash.trailing_zeros() >= level);
        self.distinct = more;
        self.shrink(limit);
    }

    /// The same with fewer values, if very many are kept.
    pub fn thinned(&self) -> Option<Profile> {
        if self.distinct.len() <= 4 * SAMPLED {
            return None;
        }
        let level = self.level + (self.distinct.len() / SAMPLED).ilog2();
        let kept = self.distinct.iter().filter(|(hash, _)| hash.trailing_zeros() >= level);
        let distinct = kept.map(|(hash, seen)| (*hash, *seen)).collect();
        Some(Profile { distinct, level, words: HashMap::new(), ..*self })
    }

    /// How many different values there are; about so many, if not all were kept.
    pub fn different(&self) -> u64 {
        ((self.distinct.len() as u64) << self.level).min(self.values)
    }

    /// How many values the kept ones stand for, each counted as often as it is there.
    pub fn kept(&self) -> u64 {
        self.distinct.values().map(|seen| u64::from(seen.count)).sum()
    }

    /// Which share of the values is there once only, 0 to 1.
    pub fn uniqueness(&self) -> f64 {
        self.distinct.len() as f64 / self.kept().max(1) as f64
    }

    /// Whether no value is there twice, and every one of `records` records has it.
    pub fn is_unique(&self, records: u64) -> bool {
        let countable = self.prose == 0 && self.numbers == self.integers;
        self.values > 0
            && countable
            && self.values == records
            && self.most <= 1
            && self.distinct.len() as u64 == self.kept()
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

/// Whether a value has a blank between words, and not only behind the signs of a list.
fn has_words(value: &[u8]) -> bool {
    memchr::memchr_iter(b' ', value).any(|at| at > 0 && !matches!(value[at - 1], b',' | b';' | b'|' | b' '))
}

/// Whether `value` is a word for yes or no, in any case.
fn is_yes_or_no(value: &str) -> bool {
    let word = match value.as_bytes()[0].to_ascii_lowercase() {
        b't' => "true",
        b'f' => "false",
        b'y' => "yes",
        b'n' => "no",
        _ => return false,
    };
    word.eq_ignore_ascii_case(value)
}

/// Adds what is in `other` to `own`.
pub(super) fn add_values(own: &mut HashMap<u64, ValueCount>, other: HashMap<u64, ValueCount>) {
    for (hash, seen) in other {
        let own = own.entry(hash).or_insert(ValueCount { count: 0, ..seen });
        own.count += seen.count;
        // The first place in the order of the files, whatever the threads did.
        if (seen.file, seen.cell.span.start) < (own.file, own.cell.span.start) {
            (own.file, own.cell, own.part) = (seen.file, seen.cell, seen.part);
        }
    }
}

/// How the values of a column are taken apart before they are counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Split {
    /// What separates the items.
    pub list: Option<char>,
    /// What separates the parts of an item, and which part is meant.
    pub part: Option<(char, u8)>,
    /// Whether the first item is the number of those that follow.
    pub counted: bool,
    /// What stands before and behind each item.
    pub around: Option<(Affix, Affix)>,
    /// Whether that stands around some of them only.
    pub may_lack: bool,
}

/// A short text that stands before or behind others.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub(super) struct Affix {
    bytes: [u8; 32],
    len: u8,
}

impl Affix {
    /// `None` if the text is too long.
    pub fn new(text: &str) -> Option<Affix> {
        let mut bytes = [0; 32];
        bytes.get_mut(..text.len())?.copy_from_slice(text.as_bytes());
        Some(Affix { bytes, len: u8::try_from(text.len()).ok()? })
    }

    /// The text.
    pub fn text(&self) -> &str {
        std::str::from_utf8(&self.bytes[..usize::from(self.len)]).unwrap_or_default()
    }
}

impl Split {
    /// The same, unless values are taken as they are.
    pub fn taken_apart(self) -> Option<Split> {
        (self != Split::default()).then_some(self)
    }

    /// The pieces of `value` with their ranges.
    pub fn pieces<'v>(&self, value: &'v str, mut each: impl FnMut(&'v str, (u16, u16))) {
        let mut one = |piece: &'v str| {
            let piece = piece.trim();
            let piece = match self.part {
                None => Some(piece),
                Some((sign, 0)) => piece.split_once(sign).map(|(first, _)| first),
                Some((sign, _)) => {
                    // What begins with the sign has no first part: it is a mark.
                    let parts = piece.split_once(sign).filter(|(first, _)| !first.is_empty());
                    parts.map(|(_, second)| second)
                }
            };
            let inner = |piece: &'v str| match &self.around {
                None => piece,
                Some((before, behind)) => {
                    let inner =
                        piece.strip_prefix(before.text()).and_then(|rest| rest.strip_suffix(behind.text()));
                    inner.unwrap_or(piece)
                }
            };
            let piece = piece.map(str::trim).map(inner);
            let Some(piece) = piece.filter(|piece| !piece.is_empty()) else { return };
            let start = piece.as_ptr() as usize - value.as_ptr() as usize;
            if let (Ok(start), Ok(end)) = (u16::try_from(start), u16::try_from(start + piece.len())) {
                each(piece, (start, end));
            }
        };
        match self.list {
            Some(separator) => value.split(separator).skip(usize::from(self.counted)).for_each(&mut one),
            None => one(value),
        }
    }
}

/// A column to be looked at: its table, its position there, and how it is taken apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct ColumnRequest {
    /// The position of the table.
    pub table: usize,
    /// The position of the field.
    pub field: usize,
    /// How it is taken apart.
    pub split: Split,
    /// About how many different values are kept of it.
    pub limit: usize,
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
    wanted: &[ColumnRequest],
) -> Vec<Counts> {
    let of_table =
        |table: usize| wanted.iter().filter(move |wanted| wanted.table == table).collect::<Vec<_>>();
    let wanted: Vec<Vec<&ColumnRequest>> = (0..tables.len()).map(of_table).collect();
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
        let fresh =
            |table: usize| Counts { records: 0, columns: vec![Profile::default(); wanted[table].len()] };
        let one = |table: usize, text: &Text<'_>, base, state: &mut BlockState, counts: &mut Counts| {
            count(&tables[table], text, (file, base), state, &wanted[table], counts);
        };
        let mut whole: Vec<usize> = Vec::new();
        for table in of_file {
            let each = |text: &Text<'_>, base, state: &mut BlockState, counts: &mut Counts| {
                one(table, text, base, state, counts);
            };
            match over_blocks(stack, &tables[table], file, &fresh(table), each) {
                Some(of_file) => counts[table].add(of_file, &wanted[table]),
                None => whole.push(table),
            }
        }
        // What is read as a whole is parsed once for all tables in it.
        if !whole.is_empty() {
            let _ = with_text(stack, file, |text| {
                for table in whole {
                    let mut of_file = fresh(table);
                    one(table, text, 0, &mut BlockState::default(), &mut of_file);
                    counts[table].add(of_file, &wanted[table]);
                }
            });
        }
        counts
    };
    let work: Vec<(FileId, Vec<usize>)> = by_file.into_iter().collect();
    work.into_par_iter().with_max_len(8).fold(empty, read).reduce(empty, |mut a, b| {
        let tables = a.iter_mut().zip(b).zip(&wanted);
        tables.for_each(|((own, other), wanted)| own.add(other, wanted));
        a
    })
}

impl Counts {
    fn add(&mut self, other: Counts, wanted: &[&ColumnRequest]) {
        self.records += other.records;
        let columns = self.columns.iter_mut().zip(other.columns).zip(wanted);
        columns.for_each(|((own, other), wanted)| own.merge(other, wanted.limit));
    }
}

/// Gives the text of a file to `each`, block by block with the byte offset of the block; `None` where it can only be read as a
/// whole. What `each` counts begins with `fresh`.
pub(super) fn over_blocks<C: Clone>(
    stack: &Stack,
    table: &Table,
    file: FileId,
    fresh: &C,
    mut each: impl FnMut(&Text<'_>, u32, &mut BlockState, &mut C),
) -> Option<C> {
    let by_blocks = stack.is_plain(file) && stack.files()[file].encoding.is_none();
    if !table.reads_blocks() || !by_blocks {
        return None;
    }
    let (mut counts, mut state) = (fresh.clone(), BlockState::default());
    let read = with_blocks(stack, file, |text, base| each(text, base as u32, &mut state, &mut counts));
    (!matches!(read, Ok(false))).then_some(counts)
}

fn count(
    table: &Table,
    text: &Text<'_>,
    place: (FileId, u32),
    state: &mut BlockState,
    wanted: &[&ColumnRequest],
    counts: &mut Counts,
) {
    // One column may be wanted in several ways.
    let mut fields: Vec<usize> = wanted.iter().map(|wanted| wanted.field).collect();
    fields.sort_unstable();
    fields.dedup();
    let columns: Vec<WantedColumn<'_>> =
        fields.iter().map(|field| WantedColumn::optional(&table.fields[*field].name)).collect();
    let ways = fields
        .iter()
        .map(|field| (0..wanted.len()).filter(|at| wanted[*at].field == *field).collect::<Vec<usize>>());
    let mut sink = Counting {
        text: text.as_str(),
        place,
        ways: ways.collect(),
        splits: wanted.iter().map(|wanted| wanted.split.taken_apart()).collect(),
        counts,
        in_record: vec![0; wanted.len()],
        limits: wanted.iter().map(|wanted| wanted.limit).collect(),
    };
    table.format.read_block(text, &columns, state, &mut sink);
}

struct Counting<'c> {
    text: &'c str,
    /// The file, and where in it the text begins.
    place: (FileId, u32),
    /// For each column read, the positions of the profiles that it goes to.
    ways: Vec<Vec<usize>>,
    /// How the values of each profile are taken apart, if they are.
    splits: Vec<Option<Split>>,
    counts: &'c mut Counts,
    in_record: Vec<u32>,
    /// How many different values each profile keeps.
    limits: Vec<usize>,
}

impl RecordSink for Counting<'_> {
    fn record(&mut self, record: &RawRecord<'_>) {
        self.counts.records += 1;
        self.in_record.fill(0);
        for own in record.cells {
            // The name of an element stands in both of its tags.
            let before = (own.cell.span.start as usize).checked_sub(1);
            let is_end_tag = own.cell.form == Form::XmlName
                && before.is_some_and(|before| self.text.as_bytes().get(before) == Some(&b'/'));
            if own.cell.form == Form::Nested || is_end_tag {
                continue;
            }
            let value = own.cell.value(self.text);
            let place = Place { file: self.place.0, base: self.place.1, cell: &own.cell };
            for way in &self.ways[usize::from(own.column)] {
                let profile = &mut self.counts.columns[*way];
                self.in_record[*way] += 1;
                profile.most = profile.most.max(self.in_record[*way]);
                match &self.splits[*way] {
                    None => profile.add(&value, &place, None, self.limits[*way]),
                    Some(split) => split.pieces(&value, |piece, range| {
                        profile.add(piece, &place, Some(range), self.limits[*way]);
                    }),
                }
            }
        }
    }

    fn fault(&mut self, _fault: Fault) {}
}

/// The texts of values, by file and place. Each file is read once at most.
pub(super) fn texts_of(stack: &Stack, seen: &[ValueCount]) -> Vec<String> {
    let mut by_file: BTreeMap<u32, Vec<usize>> = BTreeMap::new();
    for (at, seen) in seen.iter().enumerate() {
        by_file.entry(seen.file).or_default().push(at);
    }
    let by_file: Vec<(u32, Vec<usize>)> = by_file.into_iter().collect();
    let found: Vec<(usize, String)> = by_file
        .par_iter()
        .flat_map_iter(|(file, own)| {
            let spans: Vec<Span> = own.iter().map(|at| seen[*at].cell.span).collect();
            let mut texts = Vec::with_capacity(own.len());
            // A file that cannot be read any more gives no texts.
            let _ = with_pieces(stack, *file as FileId, &spans, |number, content| {
                let ValueCount { cell, part, .. } = seen[own[number]];
                let here = Cell { span: Span::new(0, content.len()), ..cell };
                let value = decode(content, &here).text;
                let range = part.map_or(0..value.len(), |(start, end)| start.into()..end.into());
                texts.push((own[number], value.get(range).unwrap_or_default().to_owned()));
            });
            texts
        })
        .collect();
    let mut out = vec![String::new(); seen.len()];
    found.into_iter().for_each(|(at, text)| out[at] = text);
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::prose("the old mill stands by the weir", true)]
    #[case::list("coal, peat, salt", false)]
    #[case::list_with_more_blanks("coal;  peat", false)]
    #[case::one_word("coal", false)]
    #[case::list_of_names("Old Mill, New Mill", true)]
    fn words_with_blanks_between(#[case] value: &str, #[case] expected: bool) {
        assert_eq!(has_words(value.as_bytes()), expected);
    }

    fn profile_of(values: impl Iterator<Item = String>, limit: usize) -> Profile {
        let mut profile = Profile::default();
        let cell = Cell { span: Span::default(), form: Form::Plain };
        let place = Place { file: 0, base: 0, cell: &cell };
        values.for_each(|value| profile.add(&value, &place, None, limit));
        profile
    }

    #[test]
    fn samples_of_two_columns_have_the_same_values_in_common() {
        let many = profile_of((0..50_000).map(|at| format!("k{at}")), 1000);
        let some = profile_of((10_000..12_000).map(|at| format!("k{at}")), 1000);
        assert!(many.level > some.level && some.level > 0);
        assert!(many.distinct.len() <= 1000 && many.distinct.len() > 400);
        assert!((40_000..60_000).contains(&many.different()), "{}", many.different());
        let shared = some.distinct.keys().filter(|hash| hash.trailing_zeros() >= many.level);
        assert!(shared.clone().count() > 10);
        assert!(shared.into_iter().all(|hash| many.distinct.contains_key(hash)));
    }

    #[test]
    fn what_two_threads_counted_is_what_one_counts() {
        let value = |at: usize| format!("v{}", at % 700);
        let whole = profile_of((0..5000).map(value), 300);
        let mut parts = profile_of((0..2100).map(value), 300);
        parts.merge(profile_of((2100..5000).map(value), 300), 300);
        assert_eq!((whole.values, whole.level), (parts.values, parts.level));
        let counts = |own: &Profile| {
            let mut all: Vec<(u64, u32)> =
                own.distinct.iter().map(|(hash, seen)| (*hash, seen.count)).collect();
            all.sort_unstable();
            all
        };
        assert_eq!(counts(&whole), counts(&parts));
    }

    #[test]
    fn kinds_are_counted() {
        let values = ["-1", "3", "4.5", "x", "yes", "a b", "", "a;b", &"long text of many words ".repeat(3)];
        let own = profile_of(values.iter().map(|value| (*value).to_owned()), 100);
        assert_eq!((own.values, own.empty, own.numbers, own.integers), (8, 1, 3, 2));
        assert_eq!((own.minus_one, own.negative, own.booleans, own.prose, own.spaced), (1, 0, 1, 1, 2));
        assert_eq!((own.lowest, own.highest, own.lettered), (-1.0, 4.5, 5));
        assert_eq!(own.separated[0], 1, "one has a semicolon");
    }
}
