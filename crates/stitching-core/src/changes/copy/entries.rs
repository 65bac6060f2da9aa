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
use crate::tables::{KEY_SEPARATOR, RecordView, RecordVisitor, read_all, read_records};
use crate::text::with_word_replaced;
use crate::text::{Edit, EditSet, LoadedText, Span, Text};
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
        for one in seen.iter().filter(|one| self.is_own(one.table, one.key.as_ref())) {
            let table = &schema.tables[one.table];
            let is_main = own.is_of(one);
            let mut fields = if is_main { own.fields.clone() } else { Vec::new() };
            rewrites.retain(|rewrite| {
                let inside =
                    one.span.start <= rewrite.cell.span.start && rewrite.cell.span.end <= one.span.end;
                !(inside
                    && rewrite.table == one.table
                    && fields.iter().any(|(field, _)| *field == rewrite.field))
            });
            let rewritten = one.rewrites.iter().map(|rewrite| rewrite.field);
            let mut taken: HashSet<usize> = fields.iter().map(|(field, _)| *field).chain(rewritten).collect();
            for other in [
                self.of_copy(table, one, (path, text), &taken, unused)?,
                overrides(self.project, &self.finder, one.table, one.key.as_deref(), path)?,
            ] {
                for (field, values) in other {
                    if taken.insert(field) {
                        fields.push((field, values));
                    }
                }
            }
            fields.extend(own.name_in(schema, one, path, text));
            // The fields that the schema has are the first ones in both tables.
            let wide = if is_main { &own.rows.table } else { table };
            let values = NewValues { record: one.span, key: one.key.clone(), fields, is_bare: false };
            edits.extend(value_edits(wide, path, text, &[values])?);
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
        let thing = Thing::Record(one.table, one.key.clone().unwrap_or_default());
        let Some(item) = self.items.iter().find(|item| item.thing == thing) else { return Ok(None) };
        let (old, new) = (last_part(one.key.as_deref().unwrap_or_default()), last_part(&item.new));
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
        let mut outer: Vec<(TableId, Span)> = Vec::new();
        for one in seen.iter().filter(|one| self.is_own(one.table, one.key.as_ref())) {
            let around = |other: &&Seen| {
                other.span != one.span
                    && other.span.start <= one.span.start
                    && one.span.end <= other.span.end
                    && self.is_own(other.table, other.key.as_ref())
            };
            if !seen.iter().any(|other| around(&other)) && !outer.contains(&(one.table, one.span)) {
                outer.push((one.table, one.span));
            }
        }
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
        for one in seen.iter().filter(|one| self.is_own(one.table, one.key.as_ref())) {
            let thing = one.key.clone().map(|key| Thing::Record(one.table, key));
            if let Some(asked) = self.place.filter(|_| thing.as_ref() == Some(&self.main)) {
                places.insert(one.span, asked);
            } else if let Some(last) = self.end_of_group(one, path, &text) {
                places.insert(one.span, Place::After(last));
            } else if self.is_elsewhere(one) {
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

    /// Whether the copy of a record lies in something else than the original: a part of its key, which is another one, stands
    /// around it.
    fn is_elsewhere(&self, one: &Seen) -> bool {
        let table = &self.project.schema.tables[one.table];
        let Some(old) = &one.key else { return false };
        let thing = Thing::Record(one.table, old.clone());
        let Some(item) = self.items.iter().find(|item| item.thing == thing) else { return false };
        let parts = table.key.iter().zip(old.split(KEY_SEPARATOR).zip(item.new.split(KEY_SEPARATOR)));
        parts.into_iter().any(|(part, (old, new))| old != new && table.stands_around(*part))
    }

    /// The last record whose key begins as that of the copy does, where the original's begins in another way.
    fn end_of_group(&self, one: &Seen, path: &RelPath, text: &Text<'_>) -> Option<Span> {
        let old = one.key.as_ref()?;
        let thing = Thing::Record(one.table, old.clone());
        let new = &self.items.iter().find(|item| item.thing == thing)?.new;
        let (group, _) = new.rsplit_once(KEY_SEPARATOR)?;
        let is_other = old.rsplit_once(KEY_SEPARATOR).is_none_or(|(own, _)| own != group);
        let records = || read_all(&self.project.schema.tables[one.table], path, text);
        let is_in = |record: &crate::tables::Record| {
            let key = record.key.as_deref().and_then(|key| key.rsplit_once(KEY_SEPARATOR));
            key.is_some_and(|(own, _)| own == group)
        };
        is_other.then(records)?.into_iter().rfind(is_in).map(|record| record.span)
    }
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
