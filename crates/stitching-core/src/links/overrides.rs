//! Tables whose files in all layers count together: which values of lower layers a higher one has too,
//! so that the game does not see them.

use crate::layers::LayerId;
use crate::reading::View;
use crate::reading::with_text;
use crate::schema::{Schema, TableId};
use crate::tables::{files_of, read_all};
use std::collections::{HashMap, HashSet};

/// For each such table, by key, the layers above the lowest that have the record, and with which fields.
#[derive(Debug, Default)]
pub struct Overrides {
    tables: HashMap<TableId, HashMap<String, Vec<Override>>>,
}

/// A layer that has a record, and which of its fields.
type Override = (LayerId, HashSet<usize>);

impl Overrides {
    /// Reads the files of such tables in all layers but the lowest, up to `through`. Files that cannot be
    /// read override nothing.
    pub fn read(view: View<'_>) -> Overrides {
        let View { stack, schema, through } = view;
        let mut overrides = Overrides::default();
        for (id, table) in schema.tables.iter().enumerate().filter(|(_, table)| table.merged) {
            let files = files_of(stack, table, through).into_iter();
            for file in files.filter(|file| stack.files()[*file].layer > 0) {
                let entry = &stack.files()[file];
                let read = with_text(stack, file, |text| read_all(table, &entry.path, text));
                for record in read.unwrap_or_default() {
                    let Some(key) = record.key else { continue };
                    let key = if table.ignore_case { key.to_lowercase() } else { key };
                    let fields = record.values.iter().map(|value| value.field).collect();
                    let own = overrides.tables.entry(id).or_default();
                    own.entry(key).or_default().push((entry.layer, fields));
                }
            }
        }
        overrides
    }

    /// Whether nothing is overridden at all.
    pub fn is_empty(&self) -> bool {
        self.tables.is_empty()
    }

    /// Whether a layer above `layer` has `field` of the record with `key` (as kept in memory).
    pub fn hides(&self, schema: &Schema, table: TableId, key: &str, layer: LayerId, field: usize) -> bool {
        self.layers(schema, table, key).any(|(other, fields)| *other > layer && fields.contains(&field))
    }

    fn layers(&self, schema: &Schema, table: TableId, key: &str) -> impl Iterator<Item = &Override> {
        let folded = schema.tables[table].ignore_case.then(|| key.to_lowercase());
        let own = self.tables.get(&table).and_then(|own| own.get(folded.as_deref().unwrap_or(key)));
        own.into_iter().flatten()
    }
}
