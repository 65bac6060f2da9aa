//! What surrounds a record: what most others have, what else goes by its key, what lower layers say.

use crate::Error;
use crate::layers::{FileId, LayerId, Look, Stack, Store};
use crate::links::{Found, Places, find_records, with_text};
use crate::problem::Place;
use crate::schema::{Schema, Table, TableId};
use crate::tables::{Reader, Record, RecordView, all_fields, files_of, read_at, read_records, shown_key};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use xxhash_rust::xxh3::xxh3_64;

/// A value is the usual one if more than this part (a fourth) of the records have it.
const PART: u64 = 4;

/// The commonest value of a field.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Usual {
    /// The value.
    pub value: String,
    /// How many records have it.
    pub count: u64,
    /// How many records there are.
    pub of: u64,
}

/// For each field of `table` by name its commonest value, if one alone is that and more than a fourth of the records have it.
/// Cost: one pass over the table's files.
///
/// # Errors
/// When a file cannot be read.
pub fn usual(
    stack: &Stack,
    schema: &Schema,
    through: LayerId,
    table: TableId,
) -> Result<HashMap<String, Usual>, Error> {
    let described = &schema.tables[table];
    let files = files_of(stack, described, through);
    let mut store = stack.cache().map(|cache| cache.open("usual"));
    let tallies: Vec<(OfFile, Option<New>)> = files
        .par_iter()
        .with_max_len(1)
        .map(|file| {
            // Several tables may draw on the file.
            let kept = store.as_ref().and_then(|store| store.get(stack, *file));
            let kept = kept.and_then(|kept| postcard::from_bytes::<Vec<OfFile>>(&kept).ok());
            let mut kept = kept.unwrap_or_default();
            if let Some(at) = kept.iter().position(|own| own.table == described.name) {
                return Ok((kept.swap_remove(at), None));
            }
            let look = Store::look(stack, *file);
            kept.push(of_file(stack, described, *file)?);
            let bytes = postcard::to_stdvec(&kept).ok();
            Ok((kept.swap_remove(kept.len() - 1), look.zip(bytes)))
        })
        .collect::<Result<_, Error>>()?;
    let (mut records, mut is_new) = (0, false);
    let mut all: HashMap<String, Tally> = HashMap::new();
    for (file, (own, new)) in files.iter().zip(tallies) {
        if let (Some(store), Some((look, bytes))) = (&mut store, new) {
            store.set(stack, *file, &look, bytes);
            is_new = true;
        }
        records += own.records;
        for (name, tally) in own.fields {
            all.entry(name).or_default().add(tally);
        }
    }
    if let (Some(store), Some(cache), true) = (&mut store, stack.cache(), is_new) {
        cache.save(store, stack);
    }
    let usual = all.into_iter().filter_map(|(name, tally)| {
        let mut values: Vec<(u64, String)> = tally.values.into_values().collect();
        values.sort_by_key(|(count, _)| std::cmp::Reverse(*count));
        // Of two values that are equally common none is the usual one.
        let next = values.get(1).map_or(0, |(count, _)| *count);
        let (count, value) = values.into_iter().next()?;
        (count * PART > records && count > 1 && count > next)
            .then_some((name, Usual { value, count, of: records }))
    });
    Ok(usual.collect())
}

/// What is to be kept of a file: how it was before it was read, and what was counted in it.
type New = (Look, Vec<u8>);

/// What the fields of a table hold in one file.
#[derive(Serialize, Deserialize)]
struct OfFile {
    table: String,
    records: u64,
    fields: Vec<(String, Tally)>,
}

fn of_file(stack: &Stack, described: &Table, file: FileId) -> Result<OfFile, Error> {
    let path = &stack.files()[file].path;
    with_text(stack, file, |text| {
        let wide = described.widened(&described.format.columns(text));
        let mut counter =
            Counter { records: 0, fields: wide.fields.iter().map(|_| Tally::default()).collect() };
        read_records(&wide, path, text, &all_fields(&wide), &mut counter);
        let names = wide.fields.iter().map(|field| field.name.clone());
        let fields = names.zip(counter.fields).collect();
        OfFile { table: described.name.clone(), records: counter.records, fields }
    })
}

/// How often each value of a field comes, by its hash, with the value.
#[derive(Default, Serialize, Deserialize)]
struct Tally {
    values: HashMap<u64, (u64, String)>,
    /// Whether there are so many values that no others are counted.
    closed: bool,
}

impl Tally {
    /// When there are more different values than this, only those are counted on that are common so far.
    const MOST: usize = 512;

    fn count(&mut self, text: &str) {
        let hash = xxh3_64(text.as_bytes());
        if let Some((count, _)) = self.values.get_mut(&hash) {
            *count += 1;
        } else if !self.closed {
            self.values.insert(hash, (1, text.to_owned()));
            if self.values.len() > Tally::MOST {
                let seen: u64 = self.values.values().map(|(count, _)| count).sum();
                self.values.retain(|_, (count, _)| *count * PART > seen);
                self.closed = true;
            }
        }
    }

    fn add(&mut self, other: Tally) {
        for (hash, (count, value)) in other.values {
            self.values.entry(hash).or_insert((0, value)).0 += count;
        }
    }
}

struct Counter {
    records: u64,
    fields: Vec<Tally>,
}

impl Reader for Counter {
    fn record(&mut self, record: &RecordView<'_>) {
        self.records += 1;
        for cell in record.cells {
            let tally = &mut self.fields[usize::from(cell.column)];
            if tally.closed && tally.values.is_empty() {
                continue;
            }
            match cell.cell.plain(record.text) {
                Some(text) => tally.count(text),
                None => tally.count(&crate::formats::decode(record.text, &cell.cell).text),
            }
        }
    }
}

/// A record of another table that goes by the same key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Companion {
    /// Its table.
    pub table: String,
    /// Its key as shown.
    pub key: String,
    /// Where it is.
    pub place: Place,
}

/// The records of other tables with the key of `found`.
///
/// # Errors
/// When a file cannot be read.
pub fn companions(
    stack: &Stack,
    schema: &Schema,
    through: LayerId,
    found: &Found,
) -> Result<Vec<Companion>, Error> {
    let mut places = Places::new(stack);
    let mut out = Vec::new();
    for other in find_records(stack, schema, through, None, &shown_key(&found.key))? {
        let is_text = schema.tables[other.table].texts.is_some();
        let Some(at) = other.places.first().filter(|_| other.table != found.table && !is_text) else {
            continue;
        };
        out.push(Companion {
            table: schema.tables[other.table].name.clone(),
            key: shown_key(&other.key),
            place: places.place(at.file, at.span)?,
        });
    }
    Ok(out)
}

/// What a lower layer has in place of a record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Version {
    /// The layer.
    pub layer: String,
    /// Where the record is there.
    pub place: Place,
    /// The fields that say something else there: name, and what they say; `None` for one that it lacks.
    pub differs: Vec<(String, Option<String>)>,
}

/// What the layers below that of `found` have in its place, highest first. In a table whose layers count
/// together there is nothing in place of anything.
///
/// # Errors
/// When a file cannot be read.
pub fn versions(stack: &Stack, schema: &Schema, found: &Found) -> Result<Vec<Version>, Error> {
    let described = &schema.tables[found.table];
    let Some(at) = found.places.first().filter(|_| !described.merged && described.texts.is_none()) else {
        return Ok(Vec::new());
    };
    let read = |place: &crate::links::FoundPlace| -> Result<Option<Vec<(String, String)>>, Error> {
        let path = &stack.files()[place.file].path;
        with_text(stack, place.file, |text| {
            let wide = described.widened(&described.format.columns(text));
            let values = |record: Record| -> Vec<(String, String)> {
                let values = record.values.into_iter().filter(|value| !value.nested);
                values.map(|value| (wide.fields[value.field].name.clone(), value.text)).collect()
            };
            read_at(&wide, path, text, place.span).map(values)
        })
    };
    let own = read(at)?.unwrap_or_default();
    let mut places = Places::new(stack);
    let mut out = Vec::new();
    let mut below = stack.files()[at.file].layer;
    while let Some(layer) = below.checked_sub(1) {
        let other = find_records(stack, schema, layer, Some(found.table), &shown_key(&found.key))?.pop();
        let Some(place) = other.and_then(|other| other.places.first().copied()) else { break };
        let there = read(&place)?.unwrap_or_default();
        let says = |list: &[(String, String)], name: &str| -> Vec<String> {
            list.iter().filter(|(own, _)| own == name).map(|(_, value)| value.clone()).collect()
        };
        let mut names: Vec<&String> = there.iter().chain(&own).map(|(name, _)| name).collect();
        let mut seen = std::collections::HashSet::new();
        names.retain(|name| seen.insert(*name));
        let differs = names.into_iter().filter_map(|name| {
            let theirs = says(&there, name);
            (theirs != says(&own, name))
                .then(|| (name.clone(), (!theirs.is_empty()).then(|| theirs.join(", "))))
        });
        below = stack.files()[place.file].layer;
        out.push(Version {
            layer: stack.layers()[below].name.clone(),
            place: places.place(place.file, place.span)?,
            differs: differs.collect(),
        });
    }
    Ok(out)
}
