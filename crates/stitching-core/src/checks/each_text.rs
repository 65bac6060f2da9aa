//! A look at each text of a table, in each of its languages.

use super::at_places::Found;
use crate::links::{Index, language_fields};
use crate::reading::{FileHits, Needles, TableScan, scan};
use crate::schema::TableId;
use crate::tables::{RecordView, all_fields};
use crate::text::Span;

/// A text of a table of texts.
#[derive(Debug)]
pub(super) struct TextAt<'t> {
    /// Its key as kept in memory.
    pub key: &'t str,
    /// Its language, as a position among those of the project.
    pub language: usize,
    /// The text.
    pub text: &'t str,
    table: TableId,
    field: &'t str,
    span: Span,
}

impl TextAt<'_> {
    /// What is wrong with it.
    pub fn found(&self, message: String, help: String) -> Found {
        Found {
            // Each file knows its own.
            file: 0,
            span: Some(self.span),
            table: self.table,
            key: Some(self.key.to_owned()),
            field: Some(self.field.to_owned()),
            value: Some(self.text.to_owned()),
            message,
            help: Some(help.into()),
            ..Found::default()
        }
    }
}

/// What `each` finds in the texts of a table. Cost: a pass over its files.
pub(super) fn each_text(
    index: &Index<'_>,
    id: TableId,
    each: &(dyn Fn(&TextAt<'_>) -> Option<Found> + Sync),
) -> Vec<Found> {
    let table = &index.schema.tables[id];
    let mut needles = Needles::default();
    needles.add_any();
    let plan = TableScan { fields: all_fields(table), needles, hashes: None }.alone(index.schema, id);
    let of_record = |_: TableId, record: &RecordView<'_>, hits: &mut Vec<Found>| {
        let Some(key) = record.key() else { return };
        for (language, at) in language_fields(index.schema, table, record.path, |at| record.value(at)) {
            let (Some(text), Some(cell)) = (record.value(at), record.cell(at)) else { continue };
            let field = table.fields[at].name.as_str();
            let own = TextAt { key: &key, language, text: &text, table: id, field, span: cell.span };
            hits.extend(each(&own));
        }
    };
    let in_file = |of: FileHits<Found>| {
        let file = of.file;
        of.hits.into_iter().map(move |own| Found { file, ..own })
    };
    // What cannot be read is told by itself.
    scan(index.view(), &plan, &of_record).unwrap_or_default().into_iter().flat_map(in_file).collect()
}
