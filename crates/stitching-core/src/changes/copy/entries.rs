//! The copies as they stand in their files.

use super::values::{OwnValues, overrides};
use super::{Seen, Work, last_part};
use crate::Error;
use crate::changes::change::Note;
use crate::changes::new_values::{NewValues, value_edits};
use crate::changes::overlay::{insert_over, key_columns, taken_with_parents};
use crate::changes::rewrite::{Rewrite, by_cell, cell_edits};
use crate::changes::switch::is_whole_file;
use crate::changes::unused_values::UnusedValues;
use crate::formats::{NewEntry, Part, Place, Refusal};
use crate::layers::{FileId, LayerId, RelPath};
use crate::links::Thing;
use crate::schema::{Schema, Table, TableId};
use crate::tables::{KEY_SEPARATOR, Record, RecordView, RecordVisitor, read_all, read_records};
use crate::text::with_word_replaced;
use crate::text::{Edit, EditSet, LoadedText, Span, Text};
use std::cmp::Reverse;
use std::collections::{BTreeMap, HashMap, HashSet};

impl<'p> Work<'p> {
    /// The edits that make the copies of `seen`, which stand in one text, of that text.
    fn edits(
        &self,
        path: &RelPath,
        text: &Text<'_>,
        seen: &[Seen],
        own: &mut OwnValues,
        unused: &mut UnusedValues,
    ) -> Result<Vec<Edit>, Error> {
        let schema = &self.project.schema;
        let refused = |reason: String| {
            Error::refused(format!("`{path}`: {reason}"), "choose another key; nothing was changed")
        };
        let mut rewrites: Vec<Rewrite> = seen.iter().flat_map(|one| one.rewrites.iter().cloned()).collect();
        let mut edits = Vec::new();
        let mut values: BTreeMap<TableId, Vec<NewValues>> = BTreeMap::new();
        // Each table of the file is read once, if that is needed.
        let mut read: HashMap<TableId, HashMap<Span, Record>> = HashMap::new();
        for one in seen.iter().filter(|one| self.is_own(one.table, one.key.as_ref())) {
            let table = &schema.tables[one.table];
            let is_main = own.is_of(one);
            let mut fields = if is_main { own.fields.clone() } else { Vec::new() };
            if !fields.is_empty() {
                rewrites.retain(|rewrite| {
                    let inside =
                        one.span.start <= rewrite.cell.span.start && rewrite.cell.span.end <= one.span.end;
                    !(inside
                        && rewrite.table == one.table
                        && fields.iter().any(|(field, _)| *field == rewrite.field))
                });
            }
            let rewritten = one.rewrites.iter().map(|rewrite| rewrite.field);
            let mut taken: HashSet<usize> = fields.iter().map(|(field, _)| *field).chain(rewritten).collect();
            let of_copy = match self.changes_in_copies(table) {
                false => Vec::new(),
                true => {
                    let all = read.entry(one.table).or_insert_with(|| {
                        let all = read_all(table, path, text).into_iter();
                        all.map(|record| (record.span, record)).collect()
                    });
                    self.of_copy(one, all.get(&one.span), &taken, unused)?
                }
            };
            let of_layers = overrides(self.project, &self.finder, one.table, one.key.as_deref(), path)?;
            for (field, values) in of_copy.into_iter().chain(of_layers) {
                if taken.insert(field) {
                    fields.push((field, values));
                }
            }
            fields.extend(own.name_in(schema, one, path, text));
            let new = NewValues { record: one.span, key: one.key.clone(), fields, is_bare: false };
            match is_main {
                // The fields that the schema has are the first ones in both tables.
                true => edits.extend(value_edits(&own.rows.table, path, text, &[new])?),
                false if new.fields.is_empty() => {}
                false => values.entry(one.table).or_default().push(new),
            }
        }
        for (table, values) in values {
            edits.extend(value_edits(&schema.tables[table], path, text, &values)?);
        }
        for of_cell in by_cell(&rewrites) {
            edits.extend(cell_edits(&schema.tables[of_cell[0].table], text, of_cell).map_err(refused)?);
        }
        Ok(edits)
    }

    /// Where a file goes that is one of the copied records and can hold no other: it is called as its record.
    pub(super) fn new_file(&self, file: FileId, seen: &[Seen]) -> Result<Option<RelPath>, Error> {
        let mut own = seen.iter().filter(|one| self.is_own(one.table, one.key.as_ref()));
        let (Some(one), None, false) = (own.next(), own.next(), self.files.contains_key(&file)) else {
            return Ok(None);
        };
        let (table, path) = (&self.project.schema.tables[one.table], &self.project.stack.files()[file].path);
        if table.merged || !is_whole_file(self.project, table, file, &[one.span])? {
            return Ok(None);
        }
        let key = one.key.as_deref().unwrap_or_default();
        let Some(new) = self.new_key_of(one.table, key) else { return Ok(None) };
        let (old, new) = (last_part(key), last_part(new));
        let stem = with_word_replaced(path.stem(), old, new).unwrap_or_else(|| new.to_owned());
        let to =
            path.with_stem(&stem).map_err(|error| Error::refused(error.to_string(), "choose another key"))?;
        Ok(Some(to))
    }

    /// Leaves of records that several layers have a part of the lowest one, which the others are put over.
    pub(super) fn keep_lowest(&self, by_file: &mut BTreeMap<FileId, Vec<Seen>>) {
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let mut lowest: HashMap<(TableId, String), LayerId> = HashMap::new();
        for (file, seen) in by_file.iter() {
            let layer = stack.files()[*file].layer;
            for one in seen.iter().filter(|one| schema.tables[one.table].merged) {
                if let Some(key) = &one.key {
                    let known = lowest.entry((one.table, key.clone())).or_insert(layer);
                    *known = layer.min(*known);
                }
            }
        }
        for (file, seen) in by_file.iter_mut() {
            let layer = stack.files()[*file].layer;
            seen.retain(|one| {
                let key = one.key.clone().map(|key| (one.table, key));
                key.and_then(|key| lowest.get(&key)).is_none_or(|lowest| *lowest == layer)
            });
        }
        by_file.retain(|_, seen| !seen.is_empty());
    }

    pub(super) fn copy_file(
        &mut self,
        file: FileId,
        to: &RelPath,
        seen: &[Seen],
        own: &mut OwnValues,
        unused: &mut UnusedValues,
    ) -> Result<(), Error> {
        let path = self.project.stack.files()[file].path.clone();
        self.builder.note(Note::FileCopied(path.to_string(), to.to_string()));
        if seen.is_empty() {
            return self.builder.copy_to(file, to);
        }
        let bytes = self.builder.bytes(file)?.to_vec();
        let loaded = LoadedText::new(bytes, self.project.stack.files()[file].encoding);
        let text = loaded.text();
        let edits = self.edits(&path, &text, seen, own, unused)?;
        let broken = || Error::refused(format!("the edits do not fit `{path}`"), "nothing was changed");
        let edits = EditSet::new(edits).map_err(|_| broken())?;
        if edits.is_empty() {
            return self.builder.copy_to(file, to);
        }
        let after = edits.apply_to(text.as_str()).ok_or_else(broken)?;
        self.builder.create(to, &after, Some(file))
    }

    /// Puts the copies of the records in a file behind the originals.
    pub(super) fn copy_records(
        &mut self,
        file: FileId,
        seen: Vec<Seen>,
        own: &mut OwnValues,
        unused: &mut UnusedValues,
    ) -> Result<(), Error> {
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let entry = &stack.files()[file];
        let path = &entry.path;
        let refused = |reason: String| {
            Error::refused(format!("`{path}`: {reason}"), "choose another key; nothing was changed")
        };
        let copied = seen.iter().filter(|one| self.is_own(one.table, one.key.as_ref()));
        let outer = outermost(copied.map(|one| (one.table, one.span)).collect());
        let bytes = self.builder.bytes(file)?.to_vec();
        let loaded = LoadedText::new(bytes, entry.encoding);
        let text = loaded.text();
        let edits = EditSet::new(self.edits(path, &text, &seen, own, unused)?)
            .map_err(|error| refused(error.to_string()))?;
        let Some((first, _)) = outer.first() else { return Ok(()) };
        let format = &schema.tables[*first].format;
        let entries = taken_entries(schema, (path, &text), &outer, &edits, false).map_err(refused)?;
        let runs = ends_of_runs(&schema.tables[*first], path, &text, &outer);
        let mut places: HashMap<Span, Place> =
            runs.into_iter().map(|(span, last)| (span, Place::After(last))).collect();
        let mut ends: HashMap<TableId, HashMap<String, Span>> = HashMap::new();
        for one in seen.iter().filter(|one| self.is_own(one.table, one.key.as_ref())) {
            let Some((old, new)) =
                one.key.as_ref().and_then(|key| Some((key, self.new_key_of(one.table, key)?)))
            else {
                continue;
            };
            let is_main = self.main == Thing::Record(one.table, old.clone());
            if let Some(asked) = self.place.filter(|_| is_main) {
                places.insert(one.span, asked);
                continue;
            }
            let table = &schema.tables[one.table];
            let new_group = group_of(new).filter(|group| group_of(old) != Some(group));
            let last = new_group.and_then(|group| {
                let ends = ends.entry(one.table).or_insert_with(|| ends_of_groups(table, path, &text));
                ends.get(group).copied()
            });
            if let Some(last) = last {
                places.insert(one.span, Place::After(last));
            } else if is_elsewhere(table, old, new) {
                places.insert(one.span, Place::Last);
            }
        }
        let is_over = entry.merged && !stack.layers()[entry.layer].is_mod && format.adds().is_some();
        if !is_over {
            return self.builder.edit_with(file, |text, pending| {
                let Some(mut to) = format.editor(text) else { return Ok(Vec::new()) };
                to.expect_edits(pending);
                for (span, entry) in &entries {
                    to.insert(entry, *places.get(span).unwrap_or(&Place::After(*span))).map_err(refused)?;
                }
                Ok(to.finish())
            });
        }
        let entries: Vec<NewEntry> = entries.into_iter().map(|(_, entry)| entry).collect();
        insert_over(self.project, &mut self.builder, file, format.as_ref(), &entries)
    }

    /// The key that the copy of a record gets.
    fn new_key_of(&self, table: TableId, old: &str) -> Option<&str> {
        self.known.get(&Thing::Record(table, old.to_owned())).map(String::as_str)
    }
}

/// Whether the copy of a record lies in something else than the original: a part of its key, which is another one, stands around
/// it.
fn is_elsewhere(table: &Table, old: &str, new: &str) -> bool {
    let parts = table.key.iter().zip(old.split(KEY_SEPARATOR).zip(new.split(KEY_SEPARATOR)));
    parts.into_iter().any(|(part, (old, new))| old != new && table.stands_around(*part))
}

/// All parts of a key but the last.
fn group_of(key: &str) -> Option<&str> {
    key.rsplit_once(KEY_SEPARATOR).map(|(group, _)| group)
}

/// The last record of a file whose key begins so, for each group of a table.
fn ends_of_groups(table: &Table, path: &RelPath, text: &Text<'_>) -> HashMap<String, Span> {
    let records = read_all(table, path, text).into_iter();
    records.filter_map(|record| Some((group_of(record.key.as_deref()?)?.to_owned(), record.span))).collect()
}

/// The records at some places of the text at `path`, as they are with `edits`; all in the format of the first. With `notes`, the
/// notes directly above come along.
pub(super) fn taken_entries(
    schema: &Schema,
    (path, text): (&RelPath, &Text<'_>),
    records: &[(TableId, Span)],
    edits: &EditSet,
    notes: bool,
) -> Result<Vec<(Span, NewEntry)>, Refusal> {
    let Some((first, _)) = records.first() else { return Ok(Vec::new()) };
    let format = &schema.tables[*first].format;
    let from = format.editor(text).ok_or_else(|| "nothing in it can be edited".to_owned())?;
    let mut out = Vec::with_capacity(records.len());
    // Those of one table that stand together are taken at once.
    for alike in records.chunk_by(|one, other| one.0 == other.0) {
        let table = &schema.tables[alike[0].0];
        let spans: Vec<Span> = alike.iter().map(|(_, span)| *span).collect();
        let entries = if table.key.iter().any(|part| table.stands_around(*part)) {
            taken_with_parents(table, (path, text), &spans, edits, notes)?
        } else {
            let key = key_columns(table);
            let part = |record: &Span| Part { record: *record, edits, whole: true, notes, key: &key };
            spans.iter().map(|record| from.take(&part(record))).collect::<Result<_, _>>()?
        };
        out.extend(spans.into_iter().zip(entries));
    }
    Ok(out)
}

/// Those records that lie in no other, in the order of the text.
pub(super) fn outermost(mut records: Vec<(TableId, Span)>) -> Vec<(TableId, Span)> {
    records.sort_by_key(|(_, span)| (span.start, Reverse(span.end)));
    let mut last: Option<Span> = None;
    records.retain(|(_, span)| {
        let is_outer = last.is_none_or(|last| span.end > last.end);
        last = if is_outer { Some(*span) } else { last };
        is_outer
    });
    records
}

/// For each of the records at `places` the last one of those that stand directly behind one another: their copies keep
/// together behind it.
fn ends_of_runs(
    table: &Table,
    path: &RelPath,
    text: &Text<'_>,
    places: &[(TableId, Span)],
) -> HashMap<Span, Span> {
    struct Spans(Vec<Span>);
    impl RecordVisitor for Spans {
        fn record(&mut self, record: &RecordView<'_>) {
            self.0.push(record.span);
        }
    }
    let mut all = Spans(Vec::new());
    read_records(table, path, text, &[], &mut all);
    let own: HashSet<Span> = places.iter().map(|(_, span)| *span).collect();
    let mut out = HashMap::new();
    let mut last = None;
    for span in all.0.into_iter().rev() {
        last = own.contains(&span).then(|| last.unwrap_or(span));
        out.extend(last.map(|last| (span, last)));
    }
    out
}
