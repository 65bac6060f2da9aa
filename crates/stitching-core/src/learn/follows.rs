//! Columns that repeat the key of their own record, perhaps with something before or behind it.

use super::keys::STEM;
use crate::formats::{Column, Fault, Form, RawRecord, RecordSink, decode};
use crate::layers::{FileId, Stack};
use crate::links::with_text;
use crate::schema::Table;
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

/// More ways than this around a key are no rule.
const MOST_WAYS: usize = 64;

/// Which of `fields` follow the key of `table`, whose key is the column called `key` or the file's name.
/// Cost: one pass over the files.
pub(super) fn follows(
    stack: &Stack,
    table: &Table,
    files: &[FileId],
    key: &str,
    fields: &[usize],
) -> Vec<Follows> {
    let key_field = table.field(key);
    if fields.is_empty() || (key_field.is_none() && key != STEM) {
        return Vec::new();
    }
    let all = fields.iter().copied().chain(key_field);
    let columns: Vec<Column<'_>> =
        all.map(|field| Column { name: &table.fields[field].name, optional: true }).collect();
    let empty = || vec![Ways::default(); fields.len()];
    let ways = files
        .par_iter()
        .with_max_len(8)
        .fold(empty, |ways, file| {
            let mut kept = ways;
            let _ = with_text(stack, *file, |text| {
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
        let (around, fit) = ways.around.into_iter().max_by(|a, b| a.1.cmp(&b.1).then(b.0.cmp(&a.0)))?;
        Some(Follows { field: *field, around, fit, values: ways.values })
    };
    fields.iter().zip(ways).filter_map(best).collect()
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
