//! Looking through all files for a few values: a text search first, and only where it hits is
//! anything parsed.

use super::View;
use super::excerpt::Excerpt;
use super::{lookup, with_text};
use crate::Error;
use crate::layers::{FileId, Stack};
use crate::schema::{Schema, Table, TableId};
use crate::tables::{RecordView, RecordVisitor, read_records, read_records_at};
use crate::text::{Span, Text};
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
        let escaped = table.format.escape_bytes().iter().any(|byte| memchr::memchr(*byte, bytes).is_some());
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

impl TableScan {
    /// The plan that looks at `table` alone, by this scan.
    pub fn alone(self, schema: &Schema, table: TableId) -> Vec<Option<TableScan>> {
        let mut plan: Vec<Option<TableScan>> = (0..schema.tables.len()).map(|_| None).collect();
        plan[table] = Some(self);
        plan
    }
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
    view: View<'_>,
    plan: &[Option<TableScan>],
    each: &(dyn Fn(usize, &RecordView<'_>, &mut Vec<T>) + Sync),
) -> Result<Vec<FileHits<T>>, Error> {
    let View { stack, schema, through } = view;
    if plan.iter().flatten().any(|plan| plan.hashes.is_some()) {
        lookup::prepare(stack, schema);
    }
    let files = stack.effective(through);
    let results: Vec<Option<FileHits<T>>> = files
        .par_iter()
        .with_max_len(1)
        .map(|id| Scanned::new(stack, schema, *id, plan).map_or(Ok(None), |own| own.whole(each)))
        .collect::<Result<_, Error>>()?;
    Ok(results.into_iter().flatten().collect())
}

/// Moves the places that a hit tells, by what it is given, from a part of a file to the whole.
pub type Moving<'m, T> = &'m (dyn Fn(&mut T, &dyn Fn(Span) -> Span) + Sync);

/// As [`scan`], for those who only want to know what is there: where an earlier run found out where to look, no more of
/// a file is read than that, and `moving` puts the places right.
///
/// # Errors
/// When a file cannot be read.
pub fn glance<T: Send>(
    view: View<'_>,
    plan: &[Option<TableScan>],
    each: &(dyn Fn(usize, &RecordView<'_>, &mut Vec<T>) + Sync),
    moving: Moving<'_, T>,
) -> Result<Vec<(FileId, Vec<T>)>, Error> {
    let View { stack, schema, through } = view;
    if plan.iter().flatten().any(|plan| plan.hashes.is_some()) {
        lookup::prepare(stack, schema);
    }
    let look = |id: &FileId| -> Result<Option<(FileId, Vec<T>)>, Error> {
        let Some(own) = Scanned::new(stack, schema, *id, plan) else { return Ok(None) };
        if let Some(hits) = own.lines(each, moving) {
            return Ok((!hits.is_empty()).then_some((*id, hits)));
        }
        Ok(own.whole(each)?.map(|found| (*id, found.hits)))
    };
    let files = stack.effective(through);
    let results: Vec<Option<(FileId, Vec<T>)>> =
        files.par_iter().with_max_len(1).map(look).collect::<Result<_, Error>>()?;
    Ok(results.into_iter().flatten().collect())
}

/// A file in which something may be found.
struct Scanned<'s> {
    stack: &'s Stack,
    schema: &'s Schema,
    file: FileId,
    plan: &'s [Option<TableScan>],
    tables: Vec<TableId>,
    /// Where it may be found, if that is known.
    known: Option<Vec<usize>>,
}

impl<'s> Scanned<'s> {
    /// `None` if nothing is to be found in the file.
    fn new(
        stack: &'s Stack,
        schema: &'s Schema,
        file: FileId,
        plan: &'s [Option<TableScan>],
    ) -> Option<Scanned<'s>> {
        let mut tables = schema.tables_of(&stack.files()[file].path);
        tables.retain(|id| plan[*id].is_some());
        if tables.is_empty() {
            return None;
        }
        let hashes: Option<Vec<u64>> = tables
            .iter()
            .map(|id| plan[*id].as_ref().and_then(|plan| plan.hashes.clone()))
            .collect::<Option<Vec<_>>>()
            .map(|hashes| hashes.into_iter().flatten().collect());
        let known = hashes.and_then(|hashes| lookup::offsets(stack, file, &hashes));
        let is_there = known.as_ref().is_none_or(|known| !known.is_empty());
        is_there.then_some(Scanned { stack, schema, file, plan, tables, known })
    }

    /// What is found in the lines where it should be; `None` if the whole file must be read.
    fn lines<T>(
        &self,
        each: &(dyn Fn(usize, &RecordView<'_>, &mut Vec<T>) + Sync),
        moving: Moving<'_, T>,
    ) -> Option<Vec<T>> {
        let known = self.known.as_ref()?;
        let tables = || self.tables.iter().map(|id| &self.schema.tables[*id]);
        if !tables().all(|table| table.reads_blocks()) {
            return None;
        }
        let excerpt = Excerpt::read(self.stack, self.file, known)?;
        // Notes may stand before the header, and more of them than were read.
        let beginning = Text::of_file(excerpt.beginning());
        if tables().any(|table| table.format.columns(&beginning).is_empty()) {
            return None;
        }
        let text = Text::of_file(&excerpt.text);
        let mut hits = self.at(&text, &excerpt.offsets, each);
        hits.iter_mut().for_each(|hit| moving(hit, &|span| excerpt.in_file(span)));
        Some(hits)
    }

    fn at<T>(
        &self,
        text: &Text<'_>,
        offsets: &[usize],
        each: &(dyn Fn(usize, &RecordView<'_>, &mut Vec<T>) + Sync),
    ) -> Vec<T> {
        let mut hits = Vec::new();
        for &id in &self.tables {
            let (table, Some(plan)) = (&self.schema.tables[id], &self.plan[id]) else { continue };
            let mut visitor = Visitor { table: id, each, hits: &mut hits };
            let path = &self.stack.files()[self.file].path;
            read_records_at(table, path, text, &plan.fields, offsets, &mut visitor);
        }
        hits
    }

    /// What is found in the file, read as a whole.
    fn whole<T>(
        &self,
        each: &(dyn Fn(usize, &RecordView<'_>, &mut Vec<T>) + Sync),
    ) -> Result<Option<FileHits<T>>, Error> {
        let path = &self.stack.files()[self.file].path;
        let look = |text: &Text<'_>| {
            let hits = match &self.known {
                Some(known) => self.at(text, known, each),
                None => {
                    let mut hits = Vec::new();
                    for &id in &self.tables {
                        let (table, Some(plan)) = (&self.schema.tables[id], &self.plan[id]) else { continue };
                        let mut visitor = Visitor { table: id, each, hits: &mut hits };
                        match plan.needles.offsets(table, text.as_str()) {
                            None => read_records(table, path, text, &plan.fields, &mut visitor),
                            Some(offsets) if offsets.is_empty() && !table.is_of_files() => {}
                            Some(offsets) => {
                                read_records_at(table, path, text, &plan.fields, &offsets, &mut visitor);
                            }
                        }
                    }
                    hits
                }
            };
            (!hits.is_empty()).then(|| FileHits {
                file: self.file,
                hits,
                seen: fingerprint(text),
                editable: text.editable(),
            })
        };
        with_text(self.stack, self.file, look)
    }
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

impl<T> RecordVisitor for Visitor<'_, T> {
    fn record(&mut self, record: &RecordView<'_>) {
        (self.each)(self.table, record, self.hits);
    }
}
