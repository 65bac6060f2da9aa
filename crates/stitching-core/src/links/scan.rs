//! Looking through all files for a few values: a text search first, and only where it hits is
//! anything parsed.

use super::{lookup, with_text};
use crate::Error;
use crate::layers::{FileId, LayerId, Stack};
use crate::schema::{Schema, Table};
use crate::tables::{Reader, RecordView, read_records, read_records_at};
use crate::text::Text;
use memchr::memmem::Finder;
use rayon::prelude::*;

/// The texts to search for in the files of a table.
#[derive(Debug, Clone, Default)]
pub struct Needles {
    finders: Vec<Finder<'static>>,
    everywhere: bool,
}

impl Needles {
    /// Adds a text that a file of interest must have.
    pub fn add(&mut self, needle: &str) {
        if needle.is_empty() {
            self.everywhere = true;
        } else if !self.finders.iter().any(|finder| finder.needle() == needle.as_bytes()) {
            self.finders.push(Finder::new(needle).into_owned());
        }
    }

    /// Gives up the search: what is looked for may be written in several ways.
    pub fn add_any(&mut self) {
        self.everywhere = true;
    }

    /// The places of all needles, sorted; `None` if every file must be parsed, because it may
    /// hold them in another form (an escape, another case).
    fn offsets(&self, table: &Table, text: &str) -> Option<Vec<usize>> {
        let bytes = text.as_bytes();
        let escaped = table.format.escape_byte().is_some_and(|byte| memchr::memchr(byte, bytes).is_some());
        if self.everywhere || escaped {
            return None;
        }
        let mut offsets: Vec<usize> =
            self.finders.iter().flat_map(|finder| finder.find_iter(bytes)).collect();
        if self.finders.len() > 1 {
            offsets.sort_unstable();
        }
        Some(offsets)
    }
}

/// What to look at in the files of one table.
#[derive(Debug, Clone, Default)]
pub struct TableScan {
    /// The fields to read, as positions in the table's fields.
    pub fields: Vec<usize>,
    /// What a file must have to be parsed.
    pub needles: Needles,
    /// The hashes of all that is looked for, if it is keys and what values point to.
    pub hashes: Option<Vec<u64>>,
}

/// What was found in one file.
#[derive(Debug)]
pub struct FileHits<T> {
    /// The file.
    pub file: FileId,
    /// What was found, in the order of the file for each table.
    pub hits: Vec<T>,
    /// A fingerprint of the file's text as it was read, to notice a change before it is read again.
    pub seen: u64,
    /// Whether the file's text stands for exactly its bytes, so that it may be edited.
    pub editable: bool,
}

/// Gives each record of interest in the effective files through layer `through` to `each`, which
/// adds to the hits of its file what it wants. Files are read in parallel; the result is sorted by
/// path. `plan` has an entry for each table; `None` passes a table over.
///
/// # Errors
/// When a file cannot be read.
pub fn scan<T: Send>(
    stack: &Stack,
    schema: &Schema,
    through: LayerId,
    plan: &[Option<TableScan>],
    each: &(dyn Fn(usize, &RecordView<'_>, &mut Vec<T>) + Sync),
) -> Result<Vec<FileHits<T>>, Error> {
    if plan.iter().flatten().any(|plan| plan.hashes.is_some()) {
        lookup::prepare(stack, schema);
    }
    let files = stack.effective(through);
    let results: Vec<Option<FileHits<T>>> = files
        .par_iter()
        .with_max_len(1)
        .map(|id| scan_file(stack, schema, *id, plan, each))
        .collect::<Result<_, Error>>()?;
    Ok(results.into_iter().flatten().collect())
}

fn scan_file<T>(
    stack: &Stack,
    schema: &Schema,
    file: FileId,
    plan: &[Option<TableScan>],
    each: &(dyn Fn(usize, &RecordView<'_>, &mut Vec<T>) + Sync),
) -> Result<Option<FileHits<T>>, Error> {
    let path = &stack.files()[file].path;
    let mut tables = schema.tables_of(path);
    tables.retain(|id| plan[*id].is_some());
    if tables.is_empty() {
        return Ok(None);
    }
    let hashes: Option<Vec<u64>> = tables
        .iter()
        .map(|id| plan[*id].as_ref().and_then(|plan| plan.hashes.clone()))
        .collect::<Option<Vec<_>>>()
        .map(|hashes| hashes.into_iter().flatten().collect());
    let known = hashes.and_then(|hashes| lookup::offsets(stack, file, &hashes));
    if known.as_ref().is_some_and(Vec::is_empty) {
        return Ok(None);
    }
    let look = |text: &Text<'_>| {
        let mut hits = Vec::new();
        for &id in &tables {
            let (table, Some(plan)) = (&schema.tables[id], &plan[id]) else { continue };
            let mut visitor = Visitor { table: id, each, hits: &mut hits };
            if let Some(known) = &known {
                read_records_at(table, path, text, &plan.fields, known, &mut visitor);
                continue;
            }
            match plan.needles.offsets(table, text.as_str()) {
                None => read_records(table, path, text, &plan.fields, &mut visitor),
                Some(offsets) if offsets.is_empty() && !table.is_of_files() => {}
                Some(offsets) => read_records_at(table, path, text, &plan.fields, &offsets, &mut visitor),
            }
        }
        (!hits.is_empty()).then(|| FileHits {
            file,
            hits,
            seen: fingerprint(text),
            editable: text.editable(),
        })
    };
    with_text(stack, file, look)
}

/// A quick hash of a text. It guards against a change within one run, not against malice.
pub fn fingerprint(text: &Text<'_>) -> u64 {
    xxhash_rust::xxh3::xxh3_64(text.as_str().as_bytes())
}

struct Visitor<'v, T> {
    table: usize,
    each: &'v (dyn Fn(usize, &RecordView<'_>, &mut Vec<T>) + Sync),
    hits: &'v mut Vec<T>,
}

impl<T> Reader for Visitor<'_, T> {
    fn record(&mut self, record: &RecordView<'_>) {
        (self.each)(self.table, record, self.hits);
    }
}
