//! What the mod adds over a file of a base layer whose tables count together over all layers.

use super::change::{FileChange, Note};
use super::rewrite::{Rewrite, by_cell, cell_edits, changed_meanwhile};
use crate::Error;
use crate::formats::Addition;
use crate::layers::{FileId, RelPath};
use crate::links::{Address, Overrides, fingerprint};
use crate::project::Project;
use crate::schema::{Table, TableId};
use crate::tables::read_all;
use crate::text::{Edit, EditSet, Span, Text};
use std::collections::{BTreeMap, BTreeSet};

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
    moves: &BTreeMap<FileId, RelPath>,
    notes: &mut BTreeSet<Note>,
) -> BTreeMap<FileId, Overlay> {
    let (stack, schema) = (&project.stack, &project.schema);
    let mut out = BTreeMap::new();
    let merged: Vec<FileId> = files.keys().copied().filter(|file| stack.files()[*file].merged).collect();
    if merged.is_empty() {
        return out;
    }
    let overrides = Overrides::read(stack, schema, stack.top());
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
            rewrite.record.is_some() && schema.tables[rewrite.table].format.adds_over().is_some()
        };
        let of_base = !stack.layers()[layer].is_mod;
        let all_add = files.get(&file).is_some_and(|(_, rewrites)| rewrites.iter().all(adds));
        if of_base
            && all_add
            && !moves.contains_key(&file)
            && let Some((seen, rewrites)) = files.remove(&file)
            && !rewrites.is_empty()
        {
            let path = stack.files()[file].path.to_string();
            for rewrite in &rewrites {
                let table = &schema.tables[rewrite.table];
                let key = rewrite.record.as_ref().map(|(_, key)| key.as_str()).unwrap_or_default();
                let address = Address::show(&table.name, key);
                if table.is_key_field(rewrite.field) {
                    notes.insert(Note::RecordStays(address.clone()));
                }
                notes.insert(Note::Added(address, path.clone()));
            }
            out.insert(file, Overlay { seen, rewrites });
        }
    }
    out
}

/// The mod's file over `file` with the changed values added; `own` is what the change does to it anyway.
pub(super) fn overlay_change(
    project: &Project,
    file: FileId,
    overlay: &Overlay,
    own: Option<FileChange>,
    notes: bool,
) -> Result<FileChange, Error> {
    let (stack, entry) = (&project.stack, &project.stack.files()[file]);
    let target = stack.find(stack.top(), &entry.path);
    let mut before = Vec::new();
    stack.read(target.unwrap_or(file), &mut before)?;
    let mut buffer = before.clone();
    let old = Text::decode(&mut buffer, entry.encoding);
    let refused = |reason: String| {
        Error::refused(format!("`{}`: {reason}", entry.path), "choose another key; nothing was changed")
    };
    let mut new = match (&own, target) {
        (Some(own), _) => {
            let bytes =
                own.edits.apply(old.as_str().as_bytes()).map_err(|error| refused(error.to_string()))?;
            String::from_utf8(bytes).map_err(|error| refused(error.to_string()))?
        }
        (None, Some(_)) => old.as_str().to_owned(),
        (None, None) => String::new(),
    };
    let mut below = Vec::new();
    stack.read(file, &mut below)?;
    let below = Text::decode(&mut below, entry.encoding);
    if overlay.seen.is_some_and(|seen| seen != fingerprint(&below)) {
        return Err(changed_meanwhile(&entry.path));
    }
    // The edits of each record, and whether its key is among them.
    let mut records: BTreeMap<(TableId, Span), (Vec<Edit>, bool)> = BTreeMap::new();
    for of_cell in by_cell(&overlay.rewrites) {
        let Some((record, _)) = &of_cell[0].record else { continue };
        let id = of_cell[0].table;
        let table = &project.schema.tables[id];
        let is_key = table.is_key_field(of_cell[0].field);
        let own = records.entry((id, *record)).or_default();
        own.0.extend(cell_edits(table, &below, of_cell).map_err(refused)?);
        own.1 |= is_key;
    }
    for ((id, record), (edits, whole)) in records {
        let table = &project.schema.tables[id];
        let edits = EditSet::new(edits).map_err(|error| refused(error.to_string()))?;
        let Some(adds) = table.format.adds_over() else { continue };
        if !adds.adds_values() && is_there(table, &entry.path, &below, record, &edits, &new) {
            return Err(refused(
                "the mod has a part of the record already, and the rest cannot be added to it".to_owned(),
            ));
        }
        let added =
            adds.add_over(&Addition { below: &below, record, edits: &edits, whole, notes, above: &new });
        new = added
            .ok_or_else(|| refused("there is no place in it for what changes of the base".to_owned()))?;
    }
    let edit = one_edit(old.as_str(), &new, target.is_none());
    FileChange::new(project, target.unwrap_or(file), &entry.path, &before, Some(&old), edit)
}

/// Whether `above` has the record already that the one at `record` of `below` becomes with `edits`.
fn is_there(
    table: &Table,
    path: &RelPath,
    below: &Text<'_>,
    record: Span,
    edits: &EditSet,
    above: &str,
) -> bool {
    let edited = edits.apply(below.as_str().as_bytes()).ok().and_then(|bytes| String::from_utf8(bytes).ok());
    let Some(edited) = edited else { return false };
    let at = read_all(table, path, below).iter().position(|own| own.span == record);
    let after = read_all(table, path, &Text::of_file(&edited));
    let key = at.and_then(|at| after.get(at)?.key.clone());
    key.is_some() && read_all(table, path, &Text::of_file(above)).iter().any(|own| own.key == key)
}

/// The one edit that turns `old` into `new`: what is equal at both ends stays.
fn one_edit(old: &str, new: &str, whole: bool) -> EditSet {
    let equal = |a: &mut dyn Iterator<Item = char>, b: &mut dyn Iterator<Item = char>| {
        a.zip(b).take_while(|(a, b)| a == b).map(|(a, _)| a.len_utf8()).sum::<usize>()
    };
    let head = if whole { 0 } else { equal(&mut old.chars(), &mut new.chars()) };
    let tail = if whole { 0 } else { equal(&mut old[head..].chars().rev(), &mut new[head..].chars().rev()) };
    let edit = Edit { span: Span::new(head, old.len() - tail), text: new[head..new.len() - tail].to_owned() };
    EditSet::new(vec![edit]).unwrap_or_default()
}
