//! What the user should know of a copy.

use super::{CopyRequest, Work};
use crate::Error;
use crate::changes::change::Note;
use crate::links::{Address, Found, Thing};
use crate::rows::Rows;
use crate::schema::TableId;
use std::collections::HashSet;

impl<'p> Work<'p> {
    /// Tells what came along, and what is as in the original and perhaps should not be.
    pub(super) fn tell(
        &mut self,
        found: &Found,
        new_key: &str,
        request: &CopyRequest,
        copied: &HashSet<(TableId, String)>,
        set: &[usize],
    ) -> Result<(), Error> {
        let schema = &self.project.schema;
        for item in &self.items {
            if let Thing::Record(table, old) = &item.thing
                && !(*table == found.table && *old == found.key)
                && copied.contains(&(*table, old.clone()))
            {
                self.builder.note(Note::CameAlong(Address::show(&schema.tables[*table].name, &item.new)));
            }
        }
        if schema.tables[found.table].texts.is_none() {
            self.tell_what_is_same(found, new_key, set)?;
        }
        let is_text = |(table, _): &&(TableId, String)| schema.tables[*table].texts.is_some();
        let texts = copied.iter().filter(is_text).count();
        let others = schema.languages.len().saturating_sub(usize::from(request.name.is_some()));
        if texts > 0 && others > 0 {
            self.builder.note(Note::TextsToWrite(texts));
        }
        Ok(())
    }

    /// Tells in which fields the copy has what the original has, though nearly all records differ in them. The fields `set`
    /// are as the user wants them.
    fn tell_what_is_same(&mut self, found: &Found, new_key: &str, set: &[usize]) -> Result<(), Error> {
        let rows = self.finder.rows(found.table)?;
        let Some(row) = rows.find(&found.key) else { return Ok(()) };
        let mut same = Vec::new();
        for (column, name) in rows.columns.iter().enumerate() {
            let at = rows.fields[column];
            let field = &rows.table.fields[at];
            let is_unique = field.layout.rules().iter().any(|rule| rows.table.rules[*rule].unique);
            let changes = rows.table.is_key_field(at)
                || field.follows.is_some()
                || field.note
                || is_unique
                || set.contains(&at);
            if !changes && row.cells[column].is_some() && is_mostly_different(&rows, column) {
                same.push(name.clone());
            }
        }
        if !same.is_empty() {
            let address = Address::show(&rows.table.name, new_key);
            self.builder.note(Note::SameAsOriginal(address, same.join(", ")));
        }
        Ok(())
    }
}

/// Whether nearly all records have another value in `column`.
fn is_mostly_different(rows: &Rows, column: usize) -> bool {
    const FEWEST: usize = 5;
    let values: Vec<_> = rows
        .rows
        .iter()
        .filter(|row| row.cells[column].is_some())
        .map(|row| row.text(column))
        .filter(|text| !text.is_empty())
        .collect();
    let different: HashSet<&str> = values.iter().map(AsRef::as_ref).collect();
    values.len() >= FEWEST && different.len() * 10 >= values.len() * 9
}
