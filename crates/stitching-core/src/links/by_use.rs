//! Tables of which no file declares the names: those that certain fields hold are there.

use super::{FoundPlace, Overrides};
use crate::Error;
use crate::reading::{Needles, TableScan, View, scan};
use crate::schema::TableId;
use crate::tables::{RecordView, add_key_fields, for_each_piece};
use crate::text::Span;
use std::collections::BTreeMap;

/// A name that is there because values hold it.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct NameInUse {
    /// The name, as the first of them writes it.
    pub name: String,
    /// The first value that holds it, in the order of the files.
    pub first: FoundPlace,
    /// The table of the record that has that value, and the position of its field.
    pub first_in: (TableId, usize),
    /// How many values hold it.
    pub uses: usize,
}

/// A value that holds a name.
struct Hit {
    name: String,
    span: Span,
    table: TableId,
    field: usize,
    /// The key of the record, where a higher layer may say otherwise.
    merged: Option<String>,
}

/// The names of `table`, a table by use, in alphabetical order; with `only`, that one alone. Cost: a search of the files of the tables
/// whose fields hold its names, and reading those that hit.
///
/// # Errors
/// When a file cannot be read.
pub fn names_in_use(view: View<'_>, table: TableId, only: Option<&str>) -> Result<Vec<NameInUse>, Error> {
    let schema = view.schema;
    let described = &schema.tables[table];
    let rules = |of: TableId| described.rules_with_names(of);
    let plan: Vec<Option<TableScan>> = (0..schema.tables.len())
        .map(|id| {
            let mut fields = schema.tables[id].fields_of_names(described, id);
            let mut needles = Needles::default();
            match only {
                Some(name) if !described.ignore_case && rules(id).all(|rule| is_plain(view, id, rule)) => {
                    needles.add(name);
                }
                _ => needles.add_any(),
            }
            if fields.is_empty() {
                return None;
            }
            if schema.tables[id].merged {
                add_key_fields(&schema.tables[id], &mut fields);
            }
            Some(TableScan { fields, needles, hashes: None })
        })
        .collect();
    let folded = |name: &str| if described.ignore_case { name.to_lowercase() } else { name.to_owned() };
    let only = only.map(folded);
    let overrides = Overrides::read(view);
    let each = |id: TableId, record: &RecordView<'_>, hits: &mut Vec<Hit>| {
        for rule in rules(id) {
            let field = record.table.rules[rule].field;
            let key = schema.tables[id].merged.then(|| record.key()).flatten();
            for_each_piece(record, field, |piece| {
                let own = &record.table.rules[piece.rule];
                if piece.rule != rule || !piece.fits || own.is_none(piece.text) {
                    return;
                }
                let name = own
                    .shape
                    .as_ref()
                    .map_or_else(|| piece.text.to_owned(), |shape| shape.fill_one(piece.text));
                if only.as_ref().is_none_or(|only| folded(&name) == *only) {
                    hits.push(Hit { name, span: piece.span, table: id, field, merged: key.clone() });
                }
            });
        }
    };
    let mut names: BTreeMap<String, NameInUse> = BTreeMap::new();
    for of_file in scan(view, &plan, &each)? {
        let layer = view.stack.files()[of_file.file].layer;
        for Hit { name, span, table, field, merged } in of_file.hits {
            if merged.is_some_and(|key| overrides.hides(schema, table, &key, layer, field)) {
                continue;
            }
            let first = FoundPlace { file: of_file.file, span };
            let first_in = (table, field);
            let own = names.entry(folded(&name)).or_insert(NameInUse { name, first, first_in, uses: 0 });
            own.uses += 1;
        }
    }
    Ok(names.into_values().collect())
}

/// Whether the values of a rule are the names themselves.
fn is_plain(view: View<'_>, table: TableId, rule: usize) -> bool {
    view.schema.tables[table].rules[rule].shape.is_none()
}
