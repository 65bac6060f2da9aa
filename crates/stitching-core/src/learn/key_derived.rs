//! Columns that repeat the key of their own record, perhaps with something before or behind it.

use super::Study;
use super::keys::STEM;
use super::proposal::{Band, Proposal, Topic};
use crate::formats::{Column, Fault, Form, RawRecord, RecordSink, decode};
use crate::layers::{FileId, Stack};
use crate::reading::with_start;
use crate::schema::Table;
use crate::settings::toml_text;
use rayon::prelude::*;
use std::collections::HashMap;

/// How a column is made from the key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Follows {
    /// The position of the field.
    pub field: usize,
    /// What stands before and behind the key.
    pub around: (String, String),
    /// In how many records it is so, and how many have a value there.
    pub fit: u64,
    pub values: u64,
}

/// So many bytes at the start of a file tell whether a column could follow the key.
const START: usize = 1 << 17;
/// More ways than this around a key are no rule.
const MOST_WAYS: usize = 64;

/// Which of `fields` follow the key of `table`, whose key is the column called `key` or the file's name, in these files
/// or in the first bytes of each. Cost: one pass over that.
pub(super) fn follows(
    stack: &Stack,
    table: &Table,
    (files, most): (&[FileId], Option<usize>),
    key: &str,
    fields: &[usize],
) -> Vec<Follows> {
    let key_field = table.field(key);
    if fields.is_empty() || (key_field.is_none() && key != STEM) {
        return Vec::new();
    }
    let all = fields.iter().copied().chain(key_field);
    let columns: Vec<Column<'_>> = all.map(|field| Column::optional(&table.fields[field].name)).collect();
    let empty = || vec![Ways::default(); fields.len()];
    let ways = files
        .par_iter()
        .with_max_len(8)
        .fold(empty, |ways, file| {
            let mut kept = ways;
            let _ = with_start(stack, *file, most.unwrap_or(usize::MAX), |text| {
                let stem = key_field.is_none().then(|| stack.files()[*file].path.stem());
                let ways = std::mem::take(&mut kept);
                let mut sink = Looking { text: text.as_str(), stem, key_at: fields.len(), ways };
                table.format.read(text, &columns, &mut sink);
                kept = sink.ways;
            });
            kept
        })
        .reduce(empty, |mut a, b| {
            for (own, other) in a.iter_mut().zip(b) {
                own.values += other.values;
                other
                    .around
                    .into_iter()
                    .for_each(|(way, count)| *own.around.entry(way).or_default() += count);
            }
            a
        });
    let best = |(field, ways): (&usize, Ways)| {
        let best = ways.around.into_iter().max_by(|a, b| a.1.cmp(&b.1).then(b.0.cmp(&a.0)));
        let (around, fit) = best.unwrap_or_default();
        Follows { field: *field, around, fit, values: ways.values }
    };
    fields.iter().zip(ways).map(best).collect()
}

/// What stands around the key in the values of a column, and how often.
#[derive(Debug, Clone, Default)]
struct Ways {
    values: u64,
    around: HashMap<(String, String), u64>,
}

struct Looking<'t> {
    text: &'t str,
    stem: Option<&'t str>,
    /// The position of the key among the columns that are read.
    key_at: usize,
    ways: Vec<Ways>,
}

impl RecordSink for Looking<'_> {
    fn record(&mut self, record: &RawRecord<'_>) {
        let of_key = record.cells.iter().find(|own| usize::from(own.column) == self.key_at);
        let key = match (self.stem, of_key) {
            (Some(stem), _) => stem.to_owned(),
            (None, Some(own)) => decode(self.text, &own.cell).text.into_owned(),
            (None, None) => return,
        };
        if key.is_empty() {
            return;
        }
        for own in record.cells {
            let Some(ways) = self.ways.get_mut(usize::from(own.column)) else { continue };
            if own.cell.form == Form::Nested {
                continue;
            }
            let value = decode(self.text, &own.cell).text;
            if value.is_empty() {
                continue;
            }
            ways.values += 1;
            let found = memchr::memmem::find(value.as_bytes(), key.as_bytes());
            let Some(at) = found.filter(|_| value.len() >= key.len()) else { continue };
            if ways.around.len() < MOST_WAYS {
                let around = (value[..at].to_owned(), value[at + key.len()..].to_owned());
                *ways.around.entry(around).or_default() += 1;
            } else if let Some(count) =
                ways.around.get_mut(&(value[..at].to_owned(), value[at + key.len()..].to_owned()))
            {
                *count += 1;
            }
        }
    }

    fn fault(&mut self, _fault: Fault) {}
}

impl Study<'_> {
    /// The columns that repeat the key of their record, with the positions of their tables.
    pub(super) fn follows(&self) -> Vec<(usize, Follows)> {
        let mut out = Vec::new();
        for (at, own) in self.studied.iter().enumerate() {
            let counts = &self.counts[at];
            let [key] = own.key.parts.as_slice() else { continue };
            if counts.records < 3 || own.texts.is_some() || own.table.texts.is_some() {
                continue;
            }
            let column = |field: &usize| own.table.fields[*field].column.as_str();
            let could = |field: &usize| {
                let profile = &counts.columns[*field];
                let many = profile.uniqueness() >= 0.9;
                // What is known of a record's place is no value that follows.
                own.table.fields[*field].name != *key
                    && !(column(field).starts_with('{') && own.table.format.knows(column(field)))
                    && profile.values > 2
                    && many
                    && profile.is_identifiers()
            };
            let mut fields: Vec<usize> = own.open.iter().copied().filter(could).collect();
            let look = |files: &[FileId], most: Option<usize>, fields: &[usize]| {
                follows(self.stack, &own.table, (files, most), key, fields)
            };
            // What does not follow it at the start of the first files does not at all.
            let first = look(&own.files[..own.files.len().min(8)], Some(START), &fields);
            let does = |field: &usize| {
                first.iter().any(|found| found.field == *field && found.fit * 2 >= found.values)
            };
            if first.iter().any(|found| found.values > 0) {
                fields.retain(does);
            }
            let found = look(&own.files, None, &fields);
            let whole = |own: &Follows| own.fit >= 3 && own.fit * 100 >= own.values * 95;
            let telling = |found: &Follows| {
                // A number within a number says little.
                !counts.columns[found.field].is_numeric() || found.around == (String::new(), String::new())
            };
            out.extend(
                found.into_iter().filter(|found| whole(found) && telling(found)).map(|found| (at, found)),
            );
        }
        out
    }

    /// A column that follows the key, as a proposal.
    pub(super) fn followed(&self, table: usize, found: &Follows) -> Proposal {
        let own = &self.studied[table];
        let (before, behind) = &found.around;
        let is_plain = |text: &str| !text.contains(['{', '}', '[', ']']);
        let sure = found.fit == found.values && found.values >= 5 && is_plain(before) && is_plain(behind);
        Proposal {
            band: if sure { Band::Accept } else { Band::Ask },
            topic: Topic::Values,
            table: own.table.name.clone(),
            field: Some(own.table.fields[found.field].name.clone()),
            says: "is made from the record's key".to_owned(),
            needs: Vec::new(),
            settings: vec![("follows".to_owned(), toml_text(&format!("{before}{{key}}{behind}")))],
            values: found.values,
            fit: found.fit,
            distinct: found.values,
            none: Vec::new(),
            exceptions: Vec::new(),
            rivals: Vec::new(),
            reasons: vec![format!("{before}{{key}}{behind}")],
        }
    }
}
