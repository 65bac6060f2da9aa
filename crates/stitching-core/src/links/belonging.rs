//! What belongs to a record: records that are nothing without it, and what it names.

use super::Thing;
use crate::layers::RelPath;
use crate::schema::{CompanionKind, KeyPart, Schema, TableId};
use crate::tables::{RecordView, file_named, for_each_piece};

/// Whether a record of `table` belongs to what it refers to by the rule at position `rule`: the schema says so, or the
/// reference is all that its key is made of.
pub fn belongs_by(schema: &Schema, table: TableId, rule: usize) -> bool {
    let table = &schema.tables[table];
    let own = &table.rules[rule];
    let key = table.fields[own.field].of_path.unwrap_or(KeyPart::Field(own.field));
    own.owner || own.points() && own.part.is_none() && table.key == [key]
}

/// The texts and files that a record names, by its fields or since they go with each record of its table; each once.
pub fn named_by(schema: &Schema, table: TableId, record: &RecordView<'_>) -> Vec<Thing> {
    let described = record.table;
    let mut out = Vec::new();
    let mut add = |thing: Thing| {
        if !out.contains(&thing) {
            out.push(thing);
        }
    };
    for field in 0..described.fields.len() {
        for_each_piece(record, field, |piece| {
            let rule = &described.rules[piece.rule];
            if !piece.fits || rule.is_none(piece.text) {
                return;
            }
            if let Some(text) = &rule.text {
                add(Thing::Text(text.fill_one(piece.text)));
            }
            if let Some(path) = file_named(record, rule, piece).and_then(|file| RelPath::parse(&file).ok()) {
                add(Thing::File(path));
            }
        });
    }
    if let Some(key) = record.key() {
        for companion in schema.companions_of(table) {
            match (companion.kind, companion.path_for(described, &key)) {
                (CompanionKind::Text, _) => add(Thing::Text(companion.name_for(described, &key))),
                (CompanionKind::File, Some(path)) => add(Thing::File(path)),
                (CompanionKind::File | CompanionKind::Folder, _) => {}
            }
        }
    }
    out
}
