//! What is switched off in the mod: pieces commented out by the tool, and pieces it keeps aside.

use crate::formats::{OFF_MARK, OffPiece, may_have_off};
use crate::layers::{FileId, Stack};
use crate::problem::Place;
use crate::reading::{ByteNeedles, bytes_have, with_text};
use crate::schema::{Schema, TableId};
use crate::tables::{KEY_SEPARATOR, read_all};
use crate::text::{EditSet, LineTable, Span, Text};
use rayon::prelude::*;
use std::collections::HashSet;

/// Something that is switched off.
#[derive(Debug, Clone)]
pub struct Switched {
    /// Where it stands, or stood.
    pub place: Place,
    /// What it is, if it can be told: the table, the key as kept in memory, and the field if it is not a
    /// whole record.
    pub what: Option<(TableId, String, Option<String>)>,
    /// What stands there without the marks.
    pub text: String,
    /// How it can be put back.
    pub source: SwitchedBy,
}

/// How something was switched off.
#[derive(Debug, Clone)]
pub enum SwitchedBy {
    /// By marks in this file.
    Marks(FileId, OffPiece),
    /// It is kept aside, at this position among [`Stack::kept`].
    SetAside(usize),
}

/// All that is switched off in the mod layer, in the order of the files. Files that cannot be read have
/// nothing.
///
/// Cost: a text search in the files of the mod; those that have marks are parsed.
pub fn switched(stack: &Stack, schema: &Schema) -> Vec<Switched> {
    let all: Vec<FileId> = (0..stack.files().len()).collect();
    switched_in(stack, schema, &all)
}

/// As [`switched`], when it is known that only `files` can have marks.
pub fn switched_in(stack: &Stack, schema: &Schema, files: &[FileId]) -> Vec<Switched> {
    let of_mod = |file: &FileId| stack.layers()[stack.files()[*file].layer].is_mod;
    let files: Vec<FileId> = files.iter().copied().filter(of_mod).collect();
    let mut out: Vec<Switched> =
        files.par_iter().with_max_len(1).flat_map_iter(|file| in_file(stack, schema, *file)).collect();
    let layer = stack.layers().last().map(|layer| layer.name.clone()).unwrap_or_default();
    for (at, kept) in stack.kept().iter().enumerate() {
        let what = schema.table(&kept.table).map(|table| (table, kept.key.clone(), kept.field.clone()));
        let (place, text) = (Place::file(&kept.path, &layer), kept.text.clone());
        out.push(Switched { place, what, text, source: SwitchedBy::SetAside(at) });
    }
    out
}

fn in_file(stack: &Stack, schema: &Schema, file: FileId) -> Vec<Switched> {
    let path = &stack.files()[file].path;
    let tables = schema.tables_of(path);
    if tables.is_empty() || tables.iter().all(|id| schema.tables[*id].is_of_files()) {
        return Vec::new();
    }
    let wanted = ByteNeedles { needles: &[OFF_MARK.to_owned()], longest: OFF_MARK.len() };
    if bytes_have(stack, file, &wanted, &[], may_have_off) == Some(false) {
        return Vec::new();
    }
    let look = |text: &Text<'_>| {
        if !may_have_off(text.as_str().as_bytes()) {
            return Vec::new();
        }
        let (mut out, mut known) = (Vec::new(), HashSet::new());
        let lines = LineTable::new(text.as_str(), text.body());
        for &table in &tables {
            for piece in schema.tables[table].format.off_style().find_off(text.as_str()) {
                // Several tables may draw on one file in one syntax.
                if !known.insert(piece.span) {
                    continue;
                }
                let layer = &stack.layers()[stack.files()[file].layer].name;
                let place = Place::at(text.as_str(), &lines, piece.span, path.as_str(), layer);
                let what = identify(stack, schema, file, &tables, text, &piece);
                let shown = piece.text.clone();
                out.push(Switched { place, what, text: shown, source: SwitchedBy::Marks(file, piece) });
            }
        }
        out
    };
    with_text(stack, file, look).unwrap_or_default()
}

/// What a piece would be if it were put back.
fn identify(
    stack: &Stack,
    schema: &Schema,
    file: FileId,
    tables: &[TableId],
    text: &Text<'_>,
    piece: &OffPiece,
) -> Option<(TableId, String, Option<String>)> {
    let edits = EditSet::new(piece.edits.clone()).ok()?;
    let restored = edits.apply_to(text.as_str())?;
    let grown = restored.len() as i64 - text.as_str().len() as i64;
    let region = Span { start: piece.span.start, end: (i64::from(piece.span.end) + grown) as u32 };
    let inside = |span: Span| span.start >= region.start && span.end <= region.end;
    let whole = Text::of_file(&restored);
    let path = &stack.files()[file].path;
    let read = tables.iter().map(|id| (*id, read_all(&schema.tables[*id], path, &whole)));
    let read: Vec<_> = read.collect();
    for (id, records) in &read {
        let record = records.iter().find(|record| inside(record.span) && record.key.is_some());
        if let Some(key) = record.and_then(|record| record.key.clone()) {
            return Some((*id, key, None));
        }
    }
    for (id, records) in &read {
        let around = records
            .iter()
            .filter(|record| record.span.start <= region.start && region.end <= record.span.end);
        for record in around {
            let table = schema.tables[*id].widened(&schema.tables[*id].format.columns(&whole));
            let wide = read_all(&table, path, &whole);
            let own = wide.iter().find(|other| other.span == record.span)?;
            let value = own.values.iter().find(|value| inside(value.span) && !value.nested);
            if let (Some(key), Some(value)) = (&record.key, value) {
                return Some((*id, key.clone(), Some(table.fields[value.field].name.clone())));
            }
        }
    }
    None
}

impl Switched {
    /// The address of what is off, for people.
    pub fn address(&self, schema: &Schema) -> Option<String> {
        let (table, key, field) = self.what.as_ref()?;
        let record = super::Address::show(&schema.tables[*table].name, &key.replace(KEY_SEPARATOR, "/"));
        Some(match field {
            None => record,
            Some(field) => format!("{record}.{field}"),
        })
    }
}
