//! What the fields of a copy hold that a rename would not change.

use super::{CopyRequest, Seen, Work};
use crate::Error;
use crate::changes::assignment::Assignment;
use crate::changes::field_value::FieldValues;
use crate::changes::record_finder::{RecordFinder, no_label};
use crate::changes::unused_values::UnusedValues;
use crate::layers::RelPath;
use crate::links::{Address, Found, Thing, text_key};
use crate::project::Project;
use crate::rows::Rows;
use crate::schema::{Layout, Schema, Table, TableId, Texts};
use crate::tables::{Record, read_at};
use crate::text::Text;
use std::collections::HashSet;
use std::sync::Arc;

impl<'p> Work<'p> {
    /// What the request says of the fields of the copy.
    pub(super) fn values_of_main(
        &mut self,
        found: &Found,
        request: &CopyRequest,
    ) -> Result<OwnValues, Error> {
        let mut targets = Vec::new();
        for assignment in Assignment::parse_all(&request.values)? {
            let target = self.finder.field(found.table, &assignment.left)?;
            targets.push((target, assignment.action));
        }
        let rows = self.finder.rows(found.table)?;
        let address = Address::show(&rows.table.name, &found.key);
        let gone = || Error::refused(format!("{address} is gone"), "run the command again");
        let row = rows.find(&found.key).ok_or_else(gone)?;
        let fields = FieldValues::new(self.project, &mut self.finder, &rows, 1).assigned(row, &targets)?;
        let mut out = OwnValues {
            record: (found.table, found.key.clone()),
            rows: Arc::clone(&rows),
            fields,
            name: None,
            is_named: false,
        };
        let Some(name) = &request.name else { return Ok(out) };
        let label = rows.table.label.ok_or_else(|| no_label(&rows.table))?;
        let column = rows.fields.iter().position(|field| *field == label);
        let value = column.and_then(|column| row.cells[column].as_ref()).map(|cell| cell.text.as_str());
        match value.and_then(|value| text_key(&rows.table, label, value)) {
            // Its own text, which comes along under another key.
            Some(text) if self.known.contains_key(&Thing::Text(text.clone())) => {
                out.name = Some((text, name.clone()));
            }
            Some(text) => {
                return Err(Error::refused(
                    format!("{address} is called by the text `{text}`, which does not follow from its key"),
                    format!(
                        "give no name for people, and give the copy a text of its own: {}=TEXTKEY; nothing was changed",
                        rows.table.fields[label].name
                    ),
                ));
            }
            None => out.fields.push((label, vec![name.clone()])),
        }
        Ok(out)
    }

    /// Whether copies of records of `table` may hold something else than the originals by themselves.
    pub(super) fn changes_in_copies(&self, table: &Table) -> bool {
        (0..table.fields.len()).any(|field| table.fields[field].note || is_unique(table, field))
    }

    /// What a copy does not take over: notes for people go, and what no two records may have alike is another one. A field that
    /// `original` does not have stays away.
    pub(super) fn of_copy(
        &self,
        one: &Seen,
        original: Option<&Record>,
        taken: &HashSet<usize>,
        unused: &mut UnusedValues,
    ) -> Result<Vec<(usize, Vec<String>)>, Error> {
        let table = &self.project.schema.tables[one.table];
        let is_there = |field: usize| {
            let value = original.and_then(|original| original.value(field));
            value
                .is_some_and(|value| !table.rules[table.fields[field].layout.rules()[0]].is_none(&value.text))
        };
        let mut out = Vec::new();
        for (at, field) in table.fields.iter().enumerate() {
            let is_open = !taken.contains(&at) && !table.is_key_field(at) && is_there(at);
            if !is_open || !matches!(field.layout, Layout::Whole(_)) {
                continue;
            }
            if field.note {
                out.push((at, Vec::new()));
            } else if is_unique(table, at)
                && let Some(value) = unused.next(self.project, one.table, &field.name)?
            {
                out.push((at, vec![value]));
            }
        }
        Ok(out)
    }
}

/// Whether no two records may have the same in a field that is one value.
pub(super) fn is_unique(table: &Table, field: usize) -> bool {
    matches!(table.fields[field].layout, Layout::Whole(rule) if table.rules[rule].unique)
}

/// What higher layers say of the record of `table` called `key`, in place of the file at `path`: fields, and their values.
pub(super) fn overrides(
    project: &Project,
    finder: &RecordFinder<'_>,
    table: TableId,
    key: Option<&str>,
    path: &RelPath,
) -> Result<Vec<(usize, Vec<String>)>, Error> {
    let (id, table) = (table, &project.schema.tables[table]);
    let Some(key) = key.filter(|_| table.merged) else { return Ok(Vec::new()) };
    let rows = finder.rows(id)?;
    let Some(row) = rows.find(key) else { return Ok(Vec::new()) };
    let stack = &project.stack;
    let lowest = rows
        .paths
        .keys()
        .filter(|file| stack.files()[**file].path == *path)
        .min_by_key(|file| stack.files()[**file].layer);
    let cells = row.cells.iter().enumerate().filter_map(|(column, cell)| {
        let cell = cell.as_ref().filter(|cell| Some(&cell.file) != lowest)?;
        let field = table.field_at(&rows.table.fields[rows.fields[column]].column)?;
        Some((field, cell.values().map(str::to_owned).collect()))
    });
    Ok(cells.filter(|(field, _)| !table.is_key_field(*field)).collect())
}

/// What the request says of the copy of the record that was asked for.
pub(super) struct OwnValues {
    /// That record.
    record: (TableId, String),
    /// The rows of its table, which may have more fields than the schema's.
    pub rows: Arc<Rows>,
    /// Fields of that table, and what they hold.
    pub fields: Vec<(usize, Vec<String>)>,
    /// The key of the text that it is called by, and what that says in the main language.
    name: Option<(String, String)>,
    /// Whether that was written.
    is_named: bool,
}

impl OwnValues {
    /// Whether this is the record that was asked for.
    pub fn is_of(&self, one: &Seen) -> bool {
        one.table == self.record.0 && one.key.as_ref() == Some(&self.record.1)
    }

    /// What a text says in the main language, if it is the one that the copy is called by: the field, and the words.
    pub fn name_in(
        &mut self,
        schema: &Schema,
        one: &Seen,
        path: &RelPath,
        text: &Text<'_>,
    ) -> Option<(usize, Vec<String>)> {
        let (_, name) = self.name.as_ref().filter(|(key, _)| one.key.as_ref() == Some(key))?;
        let name = vec![name.clone()];
        let table = &schema.tables[one.table];
        let main = schema.languages.first().map(String::as_str);
        let field = match table.texts.as_ref()? {
            Texts::File(field) => Some(*field).filter(|_| table.language_of(path) == main),
            Texts::Fields(fields) => fields.iter().find(|(language, _)| *language == 0).map(|(_, own)| *own),
            texts @ Texts::Record { text: field, language, .. } => {
                let record = read_at(table, path, text, one.span)?;
                let language = texts.language_called(&record.value(*language)?.text);
                Some(*field).filter(|_| language == Some(0))
            }
        };
        self.is_named |= field.is_some();
        Some((field?, name))
    }

    /// Refuses where the name that was given is written nowhere.
    pub fn refuse_unnamed(&self, schema: &Schema) -> Result<(), Error> {
        match &self.name {
            Some((text, _)) if !self.is_named => {
                let language = schema.languages.first().map_or("the main language", String::as_str);
                Err(Error::refused(
                    format!("there is no text `{text}` in {language}, whose copy could have the name"),
                    "write that text first; nothing was changed",
                ))
            }
            _ => Ok(()),
        }
    }
}
