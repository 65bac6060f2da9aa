//! Finding records by what they hold in a field.

use super::{Found, FoundPlace};
use crate::Error;
use crate::reading::{Needles, TableScan, View, scan};
use crate::schema::TableId;
use crate::tables::{RecordView, add_key_fields};
use crate::text::Span;
use std::collections::HashMap;

/// The records of `table` whose `field` holds `value`, in the order of the files; records of one key as one. One
/// without a key is found by an empty one. Cost: a text search of the table's files, and reading those that hit.
///
/// # Errors
/// When a file cannot be read.
pub fn find_by_value(view: View<'_>, table: TableId, field: usize, value: &str) -> Result<Vec<Found>, Error> {
    let mut fields = vec![field];
    add_key_fields(&view.schema.tables[table], &mut fields);
    let mut needles = Needles::default();
    needles.add(value);
    let plan = TableScan { fields, needles, hashes: None }.alone(view.schema, table);
    let each = |_: TableId, record: &RecordView<'_>, hits: &mut Vec<(String, Span)>| {
        if record.value(field).is_some_and(|own| own == value) {
            hits.push((record.key().unwrap_or_default(), record.span));
        }
    };
    let mut found: Vec<Found> = Vec::new();
    let mut by_key: HashMap<String, usize> = HashMap::new();
    for of_file in scan(view, &plan, &each)? {
        for (key, span) in of_file.hits {
            let place = FoundPlace { file: of_file.file, span };
            let at = *by_key.entry(key.clone()).or_insert(found.len());
            match found.get_mut(at) {
                Some(other) => other.places.push(place),
                None => found.push(Found { table, key, field: None, places: vec![place] }),
            }
        }
    }
    Ok(found)
}
