//! What the mod adds over a file of a base layer whose tables count together over all layers.

use super::builder::Builder;
use super::change::Note;
use super::rewrite::{Rewrite, by_cell, cell_edits, changed_meanwhile};
use crate::Error;
use crate::formats::{Adds, Format, NewEntry, Part, Place, Refusal};
use crate::layers::{FileId, RelPath};
use crate::links::{Address, Overrides};
use crate::project::Project;
use crate::reading::View;
use crate::reading::fingerprint;
use crate::schema::{KeyPart, Table, TableId};
use crate::tables::{Value, read_all};
use crate::text::{Edit, EditSet, LoadedText, Span, Text};
use std::collections::{BTreeMap, HashMap, HashSet};

/// The rewrites of each file, and the fingerprint of the text they were found in.
pub(super) type ByFile = BTreeMap<FileId, (Option<u64>, Vec<Rewrite>)>;

/// What the mod adds over a file of a base layer.
pub(super) struct Overlay {
    seen: Option<u64>,
    /// What becomes of its values.
    pub rewrites: Vec<Rewrite>,
}

/// Takes out of `files` those of base layers to which the mod only adds what changes: their tables
/// count together over all layers. What the mod overrides already is left alone.
pub(super) fn take_overlaid(
    project: &Project,
    files: &mut ByFile,
    builder: &mut Builder<'_>,
) -> BTreeMap<FileId, Overlay> {
    let (stack, schema) = (&project.stack, &project.schema);
    let mut out = BTreeMap::new();
    let merged: Vec<FileId> = files.keys().copied().filter(|file| stack.files()[*file].merged).collect();
    if merged.is_empty() {
        return out;
    }
    let overrides = Overrides::read(View::top(stack, schema));
    for file in merged {
        let layer = stack.files()[file].layer;
        if let Some((_, rewrites)) = files.get_mut(&file) {
            rewrites.retain(|rewrite| {
                let key = rewrite.record.as_ref().map(|(_, key)| key.as_str()).unwrap_or_default();
                let is_key = schema.tables[rewrite.table].is_key_field(rewrite.field);
                is_key || !overrides.hides(schema, rewrite.table, key, layer, rewrite.field)
            });
        }
        let adds = |rewrite: &Rewrite| {
            rewrite.record.is_some() && schema.tables[rewrite.table].format.adds().is_some()
        };
        let of_base = !stack.layers()[layer].is_mod;
        let all_add = files.get(&file).is_some_and(|(_, rewrites)| rewrites.iter().all(adds));
        if of_base
            && all_add
            && !builder.is_moved(file)
            && let Some((seen, rewrites)) = files.remove(&file)
            && !rewrites.is_empty()
        {
            let path = stack.files()[file].path.to_string();
            for rewrite in &rewrites {
                let table = &schema.tables[rewrite.table];
                let key = rewrite.record.as_ref().map(|(_, key)| key.as_str()).unwrap_or_default();
                let address = Address::show(&table.name, key);
                if table.is_key_field(rewrite.field) {
                    builder.note(Note::RecordStays(address.clone()));
                }
                builder.note(Note::Added(address, path.clone()));
            }
            out.insert(file, Overlay { seen, rewrites });
        }
    }
    out
}

/// Adds what changes of the records of `file` to the mod's file over it. With `notes`, the notes directly above come
/// along.
pub(super) fn add_over(
    project: &Project,
    builder: &mut Builder<'_>,
    file: FileId,
    overlay: &Overlay,
    notes: bool,
) -> Result<(), Error> {
    let (stack, entry) = (&project.stack, &project.stack.files()[file]);
    let target = stack.find(stack.top(), &entry.path);
    let mut bytes = Vec::new();
    stack.read(file, &mut bytes)?;
    let loaded = LoadedText::new(bytes, entry.encoding);
    let text = loaded.text();
    let below = Below::new(project, file, &text, overlay)?;
    match target {
        Some(target) => builder.edit_with(target, |above, edits| below.added_to(above, edits, notes)),
        None => {
            let above = Text::of_str("");
            let edits = EditSet::new(below.added_to(&above, &EditSet::default(), notes)?);
            let new = edits.ok().and_then(|edits| edits.apply(b"").ok()).unwrap_or_default();
            create_over(project, builder, file, &String::from_utf8_lossy(&new))
        }
    }
}

/// Makes the mod's file over `file`, a file of a base layer.
///
/// # Errors
/// As [`Builder::create`]; and when it must say that it adds to those below, and a new one does not.
fn create_over(project: &Project, builder: &mut Builder<'_>, file: FileId, text: &str) -> Result<(), Error> {
    let path = &project.stack.files()[file].path;
    let tables = project.schema.tables_of(path).into_iter().map(|table| &project.schema.tables[table]);
    if !tables.filter_map(|table| table.layering_mark.as_ref()).all(|mark| mark.adds(text)) {
        return Err(Error::refused(
            format!(
                "the mod has no `{path}`, and a new one without the mark of `adds` would replace the one below"
            ),
            "make one with nothing but the mark in it, and run the command again; nothing was changed",
        ));
    }
    builder.create(path, text, Some(file))
}

/// A file of a base layer, and what becomes of its records in the mod.
struct Below<'b> {
    project: &'b Project,
    path: &'b RelPath,
    text: &'b Text<'b>,
    /// For each record its edits, and whether its key is among them.
    records: BTreeMap<(TableId, Span), (EditSet, bool)>,
}

impl<'b> Below<'b> {
    fn new(
        project: &'b Project,
        file: FileId,
        text: &'b Text<'b>,
        overlay: &Overlay,
    ) -> Result<Below<'b>, Error> {
        let path = &project.stack.files()[file].path;
        if overlay.seen.is_some_and(|seen| seen != fingerprint(text)) {
            return Err(changed_meanwhile(path));
        }
        let refused = |reason: String| refused(path, &reason);
        let mut records: BTreeMap<(TableId, Span), (EditSet, bool)> = BTreeMap::new();
        for of_cell in by_cell(&overlay.rewrites) {
            let Some((record, _)) = &of_cell[0].record else { continue };
            let id = of_cell[0].table;
            let table = &project.schema.tables[id];
            let is_key = table.is_key_field(of_cell[0].field);
            let own = records.entry((id, *record)).or_default();
            let edits = cell_edits(table, text, of_cell).map_err(refused)?;
            own.0.add(edits).map_err(|error| refused(error.to_string()))?;
            own.1 |= is_key;
        }
        Ok(Below { project, path, text, records })
    }

    /// The edits that add the records to the file that lies above, which gets `pending` too.
    fn added_to(&self, above: &Text<'_>, pending: &EditSet, notes: bool) -> Result<Vec<Edit>, Error> {
        let schema = &self.project.schema;
        let mut edits = Vec::new();
        let mut by_format: BTreeMap<&str, Vec<TableId>> = BTreeMap::new();
        for (table, _) in self.records.keys() {
            let tables = by_format.entry(schema.tables[*table].format_name).or_default();
            if !tables.contains(table) {
                tables.push(*table);
            }
        }
        for tables in by_format.into_values() {
            let format = &schema.tables[tables[0]].format;
            let (Some(from), Some(mut to)) = (format.editor(self.text), format.editor(above)) else {
                continue;
            };
            to.expect_edits(pending);
            for id in tables {
                let table = &schema.tables[id];
                let there = match table.format.adds() {
                    Some(Adds::Records) => self.already_there(id, above, pending)?,
                    _ => HashMap::new(),
                };
                for lacking in there.values().flatten() {
                    let set = to.set(lacking.record, &lacking.column, &lacking.value);
                    set.map_err(|reason| refused(self.path, &reason))?;
                }
                let key = key_columns(table);
                let own =
                    self.records.range((id, Span::default())..).take_while(|((table, _), _)| *table == id);
                for ((_, record), (edits, whole)) in
                    own.filter(|((_, record), _)| !there.contains_key(record))
                {
                    let part = Part { record: *record, edits, whole: *whole, notes, key: &key };
                    let added = from.take(&part).and_then(|entry| to.insert(&entry, Place::Last));
                    added.map_err(|reason| {
                        refused(
                            self.path,
                            &format!("there is no place in it for what changes of the base: {reason}"),
                        )
                    })?;
                }
            }
            edits.extend(to.finish());
        }
        Ok(edits)
    }

    /// The records of a table that the file above has already, by their places below; with what it is to say of each besides. Of
    /// one that gets another key that is all that it lacks, of others what changes.
    fn already_there(
        &self,
        id: TableId,
        above: &Text<'_>,
        pending: &EditSet,
    ) -> Result<HashMap<Span, Vec<Lacking>>, Error> {
        let table = &self.project.schema.tables[id];
        let own = |(table, _): &&(TableId, Span)| *table == id;
        let all =
            self.records.iter().filter(|(at, _)| own(at)).flat_map(|(_, (edits, _))| edits.edits().to_vec());
        let applied = |text: &Text<'_>, edits: &EditSet| edits.apply_to(text.as_str()).unwrap_or_default();
        let edited = applied(self.text, &EditSet::new(all.collect()).unwrap_or_default());
        let (edited, expected) = (Text::of_file(&edited), applied(above, pending));
        let expected = Text::of_file(&expected);
        let table = table.widened(&table.format.columns(&edited)).widened(&table.format.columns(&expected));
        // Neither edits nor rewrites change the order of the records.
        let mut there: HashMap<String, (Span, HashSet<usize>)> = HashMap::new();
        let places = read_all(&table, self.path, above).into_iter().map(|record| record.span);
        for (place, record) in places.zip(read_all(&table, self.path, &expected)) {
            let own = there.entry(record.key.unwrap_or_default()).or_insert((place, HashSet::new()));
            own.1.extend(record.values.iter().map(|value| value.field));
        }
        let mut out = HashMap::new();
        if there.is_empty() {
            return Ok(out);
        }
        let before = read_all(&table, self.path, self.text);
        for (before, after) in before.into_iter().zip(read_all(&table, self.path, &edited)) {
            let Some((_, whole)) = self.records.get(&(id, before.span)) else { continue };
            let Some((place, fields)) = after.key.as_deref().and_then(|key| there.get(key)) else { continue };
            let is_new = |value: &Value| before.value(value.field).is_none_or(|old| old.text != value.text);
            let lacking = after.values.iter().filter(|own| !fields.contains(&own.field));
            let lacking: Vec<&Value> = lacking.filter(|own| *whole || is_new(own)).collect();
            for own in &lacking {
                let alike = lacking.iter().filter(|other| other.field == own.field).count();
                if own.nested || alike > 1 {
                    let record = Address::show(&table.name, before.key.as_deref().unwrap_or_default());
                    let field = &table.fields[own.field].name;
                    let reason = format!(
                        "`{}` of the mod has {record} without `{field}`, which the base says, and it is no single value",
                        self.path
                    );
                    return Err(Error::refused(reason, "put it there by hand first; nothing was changed"));
                }
            }
            let lacking = lacking.into_iter().map(|own| Lacking {
                record: *place,
                column: table.fields[own.field].column.clone(),
                value: own.text.clone(),
            });
            out.insert(before.span, lacking.collect());
        }
        Ok(out)
    }
}

/// What a record of the mod is to say besides.
struct Lacking {
    record: Span,
    column: String,
    value: String,
}

fn refused(path: &RelPath, reason: &str) -> Error {
    Error::refused(format!("`{path}`: {reason}"), "choose another key; nothing was changed")
}

/// Records of one table taken out of a text that has all edits, also those of what lies around the records. Cost: reading the text
/// twice, however many there are.
pub(super) fn taken_with_parents(
    table: &Table,
    (path, text): (&RelPath, &Text<'_>),
    records: &[Span],
    edits: &EditSet,
    notes: bool,
) -> Result<Vec<NewEntry>, Refusal> {
    // The edits change no order, so each record is the same one behind them.
    let numbers: HashMap<Span, usize> =
        read_all(table, path, text).into_iter().enumerate().map(|(at, record)| (record.span, at)).collect();
    let after = edits.apply_to(text.as_str()).ok_or("the edits do not fit it")?;
    let after = Text::of_file(&after);
    let spans: Vec<Span> = read_all(table, path, &after).into_iter().map(|record| record.span).collect();
    let editor = table.format.editor(&after).ok_or("there is nothing to edit in files of this format")?;
    let (key, none) = (key_columns(table), EditSet::default());
    let taken = records.iter().map(|record| {
        let record = numbers.get(record).and_then(|at| spans.get(*at));
        let record = *record.ok_or("a record is not where it was")?;
        editor.take(&Part { record, edits: &none, whole: true, notes, key: &key })
    });
    taken.collect()
}

/// A record of a base layer, and what the mod's file over it is to have of it.
pub(super) struct Added {
    /// Its place in the file of the base.
    pub record: Span,
    /// The columns, where single values can be added; else the whole record.
    pub columns: Vec<String>,
}

/// Adds `records` of `file`, a file of a base layer, with `edits` to the mod's file over it.
pub(super) fn add_records_over(
    project: &Project,
    builder: &mut Builder<'_>,
    table: &Table,
    file: FileId,
    edits: Vec<Edit>,
    records: &[Added],
) -> Result<(), Error> {
    let entry = &project.stack.files()[file];
    let path = &entry.path;
    let edits = EditSet::new(edits).map_err(|error| refused(path, &error.to_string()))?;
    let spans: Vec<Span> = records.iter().map(|added| added.record).collect();
    let taken = taken_with_parents(table, (path, &builder.text(file)?), &spans, &edits, false);
    let mut entries = taken.map_err(|reason| refused(path, &reason))?;
    if table.format.adds() == Some(Adds::Values) {
        for (entry, Added { columns, .. }) in entries.iter_mut().zip(records) {
            entry.parts.retain(|(name, _)| columns.contains(name));
        }
    }
    insert_over(project, builder, file, table.format.as_ref(), &entries)
}

/// Puts `entries` into the mod's file over `file`, a file of a base layer; one that is not there is made.
pub(super) fn insert_over(
    project: &Project,
    builder: &mut Builder<'_>,
    file: FileId,
    format: &dyn Format,
    entries: &[NewEntry],
) -> Result<(), Error> {
    let (stack, path) = (&project.stack, &project.stack.files()[file].path);
    let put = |above: &Text<'_>, pending: &EditSet| {
        let Some(mut to) = format.editor(above) else { return Ok(Vec::new()) };
        to.expect_edits(pending);
        for entry in entries {
            to.insert(entry, Place::Last)
                .map_err(|reason| refused(path, &format!("there is no place in the mod's file: {reason}")))?;
        }
        Ok(to.finish())
    };
    match stack.find(stack.top(), path).filter(|target| *target != file) {
        Some(target) => builder.edit_with(target, put),
        None => {
            let edits = EditSet::new(put(&Text::of_str(""), &EditSet::default())?);
            let new = edits.ok().and_then(|edits| edits.apply(b"").ok()).unwrap_or_default();
            create_over(project, builder, file, &String::from_utf8_lossy(&new))
        }
    }
}

/// The columns that the key of `table` is made of.
pub(super) fn key_columns(table: &Table) -> Vec<&str> {
    let column = |part: &KeyPart| match part {
        KeyPart::Field(field) => Some(table.fields[*field].column.as_str()),
        _ => None,
    };
    table.key.iter().filter_map(column).collect()
}
