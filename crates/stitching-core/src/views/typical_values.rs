//! What most records of a table have.

use crate::Error;
use crate::formats::{Cell, decode};
use crate::layers::{FileId, FileStamp, Stack, Store};
use crate::reading::View;
use crate::reading::with_text;
use crate::schema::{Table, TableId};
use crate::tables::{ByHash, RecordView, RecordVisitor, files_of, read_records};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use xxhash_rust::xxh3::xxh3_64;

/// The name of the cache.
const NAME: &str = "typical-values";

/// A value is the usual one if more than this part (a fourth) of the records have it.
const PART: u64 = 4;

/// Of a file no value is kept that less than this part of its records have: it may be a usual one all the same, but then it
/// is kept of other files, and counted in this one.
const KEPT_PART: u64 = 32;

/// When a field has more different values in a file than this, only those are counted on that are common so far.
const MOST: usize = 4096;

/// Of longer lists it is not told which values are there twice.
const LONGEST_LIST: usize = 1000;

/// The commonest value of a field.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TypicalValue {
    /// The value.
    pub value: String,
    /// How many records have it.
    pub count: u64,
    /// How many records there are.
    pub of: u64,
}

/// For each of the fields called `names` of `table` its commonest value, if one alone is that and more than a fourth of the
/// records have it.
///
/// Cost: one pass over the table's files, of which as little is kept as can be for the next time.
///
/// # Errors
/// When a file cannot be read.
pub fn usual(
    view: View<'_>,
    table: TableId,
    names: &BTreeSet<String>,
) -> Result<HashMap<String, TypicalValue>, Error> {
    let View { stack, schema, through } = view;
    let described = &schema.tables[table];
    let mut store = stack.cache().map(|cache| cache.open(NAME));
    let mut files: Vec<Counted> = files_of(stack, described, through)
        .par_iter()
        .with_max_len(1)
        .map(|file| Counted::with_fields(stack, described, *file, store.as_ref(), names))
        .collect::<Result<_, Error>>()?;
    let candidates = candidates(&files, names);
    files
        .par_iter_mut()
        .with_max_len(1)
        .try_for_each(|file| file.count_rest(stack, described, &candidates))?;
    let of: u64 = files.iter().map(|file| file.own().records).sum();
    let mut found = HashMap::new();
    for (name, values) in &candidates {
        let count =
            |value: &String| files.iter().map(|file| file.own().field(name).count(value)).sum::<u64>();
        let mut counts: Vec<(u64, &String)> = values.iter().map(|value| (count(value), value)).collect();
        counts.sort_by(|a, b| b.cmp(a));
        // Of two values that are equally common none is the usual one.
        let next = counts.get(1).map_or(0, |(count, _)| *count);
        if let Some((count, value)) = counts.first()
            && count * PART > of
            && *count > 1
            && *count > next
        {
            found.insert(name.clone(), TypicalValue { value: (*value).clone(), count: *count, of });
        }
    }
    if let (Some(store), Some(cache)) = (&mut store, stack.cache()) {
        files.into_iter().for_each(|file| file.keep(stack, store));
        cache.save(store, stack);
    }
    Ok(found)
}

/// For each field the values that may be the usual one.
fn candidates(files: &[Counted], names: &BTreeSet<String>) -> BTreeMap<String, Vec<String>> {
    let of: u64 = files.iter().map(|file| file.own().records).sum();
    let of_field = |name: &String| -> Vec<String> {
        let mut rest = 0;
        let mut counts: HashMap<&str, u64> = HashMap::new();
        for field in files.iter().map(|file| file.own().field(name)) {
            rest += field.rest;
            for (value, count) in &field.counts {
                // What is not kept is counted for all, so it does not count here again.
                *counts.entry(value).or_default() += count.saturating_sub(field.rest);
            }
        }
        let may_be = |(value, count): (&str, u64)| ((count + rest) * PART > of).then(|| value.to_owned());
        counts.into_iter().filter_map(may_be).collect()
    };
    names.iter().map(|name| (name.clone(), of_field(name))).collect()
}

/// A file whose fields are counted.
struct Counted {
    file: FileId,
    /// How the file was before it was read; none if nothing new was found out.
    look: Option<FileStamp>,
    /// What is kept of the file, for each table that draws on it.
    all: Vec<OfFile>,
    /// The position of the table's own.
    at: usize,
}

/// What the fields of a table hold in one file.
#[derive(Debug, Default, Serialize, Deserialize)]
struct OfFile {
    table: String,
    records: u64,
    fields: Vec<OfField>,
}

/// How often the values of a field come in one file.
#[derive(Debug, Default, Clone, Serialize, Deserialize)]
struct OfField {
    name: String,
    counts: Vec<(String, u64)>,
    /// No other value comes more often.
    rest: u64,
}

impl OfFile {
    fn field(&self, name: &str) -> &OfField {
        static NONE: OfField = OfField { name: String::new(), counts: Vec::new(), rest: 0 };
        self.fields.iter().find(|field| field.name == name).unwrap_or(&NONE)
    }
}

impl OfField {
    fn known(&self, value: &str) -> Option<u64> {
        self.counts.iter().find(|(own, _)| own == value).map(|(_, count)| *count)
    }

    fn count(&self, value: &str) -> u64 {
        self.known(value).unwrap_or(0)
    }
}

impl Counted {
    /// A file with what is kept of it, and what must be counted still of the fields called `names`.
    fn with_fields(
        stack: &Stack,
        table: &Table,
        file: FileId,
        store: Option<&Store>,
        names: &BTreeSet<String>,
    ) -> Result<Counted, Error> {
        let kept = store.and_then(|store| store.get(stack, file));
        let kept = kept.and_then(|kept| postcard::from_bytes::<Vec<OfFile>>(&kept).ok());
        let mut all = kept.unwrap_or_default();
        // Several tables may draw on the file.
        let at = all.iter().position(|own| own.table == table.name).unwrap_or_else(|| {
            all.push(OfFile { table: table.name.clone(), ..OfFile::default() });
            all.len() - 1
        });
        let is_known = |name: &&String| all[at].fields.iter().any(|field| field.name == **name);
        let missing: Vec<String> = names.iter().filter(|name| !is_known(name)).cloned().collect();
        let mut own = Counted { file, look: None, all, at };
        if !missing.is_empty() {
            own.look = Store::look(stack, file);
            let tallies = missing.into_iter().map(|name| (name, Tally::default())).collect();
            let (records, fields) = own.read(stack, table, tallies, Tally::common)?;
            own.all[at].records = records;
            own.all[at].fields.extend(fields);
        }
        Ok(own)
    }

    fn own(&self) -> &OfFile {
        &self.all[self.at]
    }

    /// Counts those of the candidates of which it is not known how often they come here.
    fn count_rest(
        &mut self,
        stack: &Stack,
        table: &Table,
        candidates: &BTreeMap<String, Vec<String>>,
    ) -> Result<(), Error> {
        let unknown = |(name, values): (&String, &Vec<String>)| {
            let field = self.own().field(name);
            let mut values = values.iter().filter(|own| field.known(own).is_none()).peekable();
            (field.rest > 0 && values.peek().is_some()).then(|| (name.clone(), Tally::of(values)))
        };
        let tallies: Vec<(String, Tally)> = candidates.iter().filter_map(unknown).collect();
        if tallies.is_empty() {
            return Ok(());
        }
        let look = self.look.take().or_else(|| Store::look(stack, self.file));
        let (_, fields) = self.read(stack, table, tallies, |name, tally, _| {
            let of = |value: &String| Some((value.clone(), tally.count_of(value)?));
            OfField {
                name: name.to_owned(),
                counts: candidates[name].iter().filter_map(of).collect(),
                rest: 0,
            }
        })?;
        self.look = look;
        let own = &mut self.all[self.at];
        for found in fields {
            if let Some(field) = own.fields.iter_mut().find(|field| field.name == found.name) {
                field.counts.extend(found.counts);
            }
        }
        Ok(())
    }

    /// Counts the values of the fields called so in the file with the tallies given for them. Gives how many records there
    /// are, and what `finish` makes of each name, tally and the text of the file.
    fn read(
        &self,
        stack: &Stack,
        table: &Table,
        tallies: Vec<(String, Tally)>,
        finish: impl Fn(&str, &mut Tally, &str) -> OfField,
    ) -> Result<(u64, Vec<OfField>), Error> {
        let (names, tallies): (Vec<String>, Vec<Tally>) = tallies.into_iter().unzip();
        let wide = table.widened(&names);
        let path = &stack.files()[self.file].path;
        with_text(stack, self.file, |text| {
            // What the format cannot read there are no values of.
            let positions: Vec<Option<usize>> = names.iter().map(|name| wide.field(name)).collect();
            let mut of_fields = vec![None; wide.fields.len()];
            for (at, field) in positions.iter().enumerate() {
                if let Some(field) = field {
                    of_fields[*field] = Some(at);
                }
            }
            let fields: Vec<usize> = positions.into_iter().flatten().collect();
            let counted = vec![(0, Vec::new()); tallies.len()];
            let mut counter = Counter { records: 0, counted, tallies, of_fields };
            read_records(&wide, path, text, &fields, &mut counter);
            let tallies = names.iter().zip(&mut counter.tallies);
            let fields = tallies.map(|(name, tally)| finish(name, tally, text.as_str())).collect();
            (counter.records, fields)
        })
    }

    fn keep(self, stack: &Stack, store: &mut Store) {
        if let Some((look, bytes)) = self.look.zip(postcard::to_stdvec(&self.all).ok()) {
            store.set(stack, self.file, &look, bytes);
        }
    }
}

/// How often each value of a field comes, by its hash, with the first of its cells.
#[derive(Debug, Default)]
struct Tally {
    values: ByHash<(u64, Option<Cell>)>,
    /// How many values there were.
    total: u64,
    /// Whether no others are counted.
    closed: bool,
    /// No value that is not counted comes more often, as far as that is known.
    rest: u64,
}

impl Tally {
    /// Counts these values alone.
    fn of<'v>(values: impl Iterator<Item = &'v String>) -> Tally {
        let values = values.map(|value| (xxh3_64(value.as_bytes()), (0, None))).collect();
        Tally { values, closed: true, ..Tally::default() }
    }

    fn count(&mut self, hash: u64, cell: Cell) {
        self.total += 1;
        if self.closed {
            if let Some((count, _)) = self.values.get_mut(&hash) {
                *count += 1;
            }
            return;
        }
        self.values.entry(hash).or_insert((0, Some(cell))).0 += 1;
        if self.values.len() > MOST {
            self.closed = true;
            self.drop_rare();
        }
    }

    /// Forgets the values that come too rarely to be kept.
    fn drop_rare(&mut self) {
        let (rest, least) = (&mut self.rest, self.total / KEPT_PART);
        self.values.retain(|_, (count, _)| {
            let keeps = *count >= least;
            if !keeps {
                *rest = (*rest).max(*count);
            }
            keeps
        });
    }

    /// The values that are common in a file with this text.
    fn common(name: &str, tally: &mut Tally, text: &str) -> OfField {
        tally.drop_rare();
        let value = |(count, cell): &(u64, Option<Cell>)| {
            Some((decode(text, cell.as_ref()?).text.into_owned(), *count))
        };
        let mut counts: Vec<(String, u64)> = tally.values.values().filter_map(value).collect();
        counts.sort();
        OfField { name: name.to_owned(), counts, rest: tally.rest }
    }

    /// How often a value comes; `None` if it is not counted.
    fn count_of(&self, value: &str) -> Option<u64> {
        self.values.get(&xxh3_64(value.as_bytes())).map(|(count, _)| *count)
    }
}

struct Counter {
    records: u64,
    /// Of each tally the last record with a value, and the hashes of those that were counted there.
    counted: Vec<(u64, Vec<u64>)>,
    tallies: Vec<Tally>,
    /// For each field of the table its tally.
    of_fields: Vec<Option<usize>>,
}

impl RecordVisitor for Counter {
    fn record(&mut self, record: &RecordView<'_>) {
        self.records += 1;
        for own in record.cells {
            let Some(at) = self.of_fields[usize::from(own.column)] else { continue };
            let tally = &mut self.tallies[at];
            if tally.closed && tally.values.is_empty() {
                continue;
            }
            let hash = xxh3_64(own.cell.value(record.text).as_bytes());
            // A value that a list has several times is there in one record all the same.
            let (last, hashes) = &mut self.counted[at];
            if *last != self.records {
                *last = self.records;
                hashes.clear();
            }
            if hashes.len() < LONGEST_LIST {
                if hashes.contains(&hash) {
                    continue;
                }
                hashes.push(hash);
            }
            tally.count(hash, own.cell);
        }
    }
}
