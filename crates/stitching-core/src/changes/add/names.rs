//! Texts that come with new records: their names, and texts that are records themselves.

use super::Work;
use crate::Error;
use crate::changes::assignment::{Action, Assignment};
use crate::changes::change::Note;
use crate::changes::record_finder::RecordFinder;
use crate::links::text_key;
use crate::rows::Row;
use crate::schema::{KeyPart, Layout, Table, TableId, Texts};
use crate::tables::KEY_SEPARATOR;
use std::collections::HashSet;

impl<'p> Work<'p> {
    /// Names the record: in its own field, or by a text in each language.
    pub(super) fn add_name(
        &mut self,
        finder: &mut RecordFinder<'p>,
        table: &Table,
        label: usize,
        name: &str,
        key: &str,
        fields: &mut Vec<(usize, Vec<String>)>,
    ) -> Result<(), Error> {
        let field = &table.fields[label];
        let Layout::Whole(rule) = field.layout else {
            return Err(Error::refused(
                format!(
                    "`{}`, which names the records of `{}`, holds several values",
                    field.name, table.name
                ),
                "give no name for people, and write the field: FIELD=VALUE; nothing was changed",
            ));
        };
        let Some(template) = &table.rules[rule].text else {
            fields.retain(|(field, _)| *field != label);
            fields.push((label, vec![name.to_owned()]));
            return Ok(());
        };
        let given = fields.iter().find(|(field, _)| *field == label).and_then(|(_, values)| values.first());
        let given = given.filter(|value| !table.rules[rule].is_none(value));
        let value = match (&field.follows, given) {
            (_, Some(value)) => value.clone(),
            (Some(follows), None) => follows.fill_one(key.rsplit(KEY_SEPARATOR).next().unwrap_or_default()),
            (None, None) => {
                return Err(Error::Usage {
                    message: format!(
                        "`{}` of the new record has no value, which would say what its text is called",
                        field.name
                    ),
                    help: format!("write it too: {}=KEY_OF_THE_TEXT", field.name).into(),
                });
            }
        };
        let text = template.fill_one(&value);
        let schema = &self.project.schema;
        for id in schema.text_tables() {
            if !self.is_home_of(finder, id, table, label)? {
                continue;
            }
            let languages: Vec<Assignment> = match &schema.tables[id].texts {
                Some(Texts::File(_)) => self
                    .languages_of(finder, id)?
                    .into_iter()
                    .map(|language| Assignment { left: language, action: Action::Set(name.to_owned()) })
                    .collect(),
                Some(Texts::Fields(own)) => {
                    let field = |field: &usize| schema.tables[id].fields[*field].name.clone();
                    let set = || Action::Set(name.to_owned());
                    own.iter().map(|(_, at)| Assignment { left: field(at), action: set() }).collect()
                }
                _ => continue,
            };
            if schema.languages.len() > 1 {
                self.builder.note(Note::NameToTranslate(schema.languages[1..].join(", ")));
            }
            return self.add(finder, id, &text, &languages);
        }
        Err(Error::refused(
            format!("no table of texts has those that the records of `{}` are named with", table.name),
            format!(
                "give no name for people, and add the text `{text}` to the table where it belongs; nothing was changed"
            ),
        ))
    }

    /// The languages of the project that a table of texts with a file for each has texts in.
    fn languages_of(&self, finder: &RecordFinder<'p>, texts: TableId) -> Result<Vec<String>, Error> {
        let schema = &self.project.schema;
        let table = &schema.tables[texts];
        let rows = finder.rows(texts)?;
        let there: HashSet<&str> =
            rows.rows.iter().filter_map(|row| table.language_of(rows.paths.get(&row.file)?)).collect();
        Ok(schema.languages.iter().filter(|language| there.contains(language.as_str())).cloned().collect())
    }

    /// Whether a table of texts has those that the records of `table` are named with; the only one does.
    fn is_home_of(
        &self,
        finder: &mut RecordFinder<'p>,
        texts: TableId,
        table: &Table,
        label: usize,
    ) -> Result<bool, Error> {
        let schema = &self.project.schema;
        if schema.text_tables().count() == 1 {
            return Ok(true);
        }
        let Some(id) = schema.table(&table.name) else { return Ok(false) };
        let rows = finder.rows(id)?;
        let Some(column) = rows.fields.iter().position(|field| *field == label) else { return Ok(false) };
        let some = rows.rows.iter().filter_map(|row| row.cells[column].as_ref()).next_back();
        let key = some.and_then(|cell| text_key(table, label, &cell.text));
        Ok(key.is_some_and(|key| finder.rows_with_key(texts, &key).is_ok_and(|rows| !rows.is_empty())))
    }

    /// Adds a text in the languages that are given by their codes.
    pub(super) fn add_texts(
        &mut self,
        finder: &mut RecordFinder<'p>,
        table: TableId,
        text_field: usize,
        key: &str,
        values: &[Assignment],
    ) -> Result<(), Error> {
        let described = &self.project.schema.tables[table];
        let rows = finder.rows(table)?;
        let language = |row: &Row| described.language_of(rows.paths.get(&row.file)?);
        let stack = &self.project.stack;
        for value in values {
            let own = |row: &&Row| language(row) == Some(value.left.as_str());
            let in_mod = |row: &Row| stack.layers()[stack.files()[row.file].layer].is_mod;
            let row = rows.rows.iter().enumerate().filter(|(_, row)| own(row));
            let row = row.max_by_key(|(at, row)| (in_mod(row), *at)).map(|(_, row)| row);
            let (Some(row), Action::Set(text)) = (row, &value.action) else {
                let languages = &self.project.schema.languages;
                return Err(Error::Usage {
                    message: format!(
                        "`{}` is no language that texts of `{}` are in",
                        value.left, described.name
                    ),
                    help: format!(
                        "write the text for each language: {}=\"...\"",
                        languages.join("=\"...\" ")
                    )
                    .into(),
                });
            };
            let kept = self.new_key(finder, described, row, key)?;
            let mut fields = vec![(text_field, vec![text.clone()])];
            if let [KeyPart::Field(field)] = described.key[..] {
                fields.push((field, vec![kept.clone()]));
            }
            self.put(table, &rows, row, &kept, fields)?;
        }
        if values.is_empty() {
            return Err(Error::Usage {
                message: "no text is given".to_owned(),
                help: "write it for each language: en=\"...\"".into(),
            });
        }
        Ok(())
    }
}
