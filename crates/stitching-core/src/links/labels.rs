//! Names as the player sees them.

use super::with_text;
use crate::layers::{LayerId, Stack};
use crate::schema::{Layout, Schema, Table, Texts};
use crate::tables::{Record, files_of, read_all};
use std::collections::HashMap;

/// The texts of the main language, for turning labels that are text keys into words.
#[derive(Debug, Default)]
pub struct Labels {
    texts: HashMap<String, String>,
}

impl Labels {
    /// Reads the texts of the main language in the effective files through layer `through`.
    /// Files that cannot be read give no names.
    pub fn read(stack: &Stack, schema: &Schema, through: LayerId) -> Labels {
        Labels { texts: texts_of(stack, schema, through, 0).into_iter().collect() }
    }

    /// The text of a key in the main language.
    pub fn text(&self, key: &str) -> Option<&str> {
        self.texts.get(key).map(String::as_str)
    }

    /// The keys of the texts that `wanted` holds of.
    pub(crate) fn keys_of(&self, wanted: impl Fn(&str) -> bool) -> impl Iterator<Item = &str> {
        self.texts.iter().filter(move |(_, text)| wanted(text)).map(|(key, _)| key.as_str())
    }

    /// How a record of `table` is called whose label field holds `value`.
    pub fn name(&self, table: &Table, value: &str) -> Option<String> {
        if value.is_empty() {
            return None;
        }
        match text_key(table, table.label?, value) {
            Some(key) => self.text(&key).map(str::to_owned),
            None => Some(value.to_owned()),
        }
    }
}

/// The text key that `value` of `field` stands for, if the field holds text keys.
pub(crate) fn text_key(table: &Table, field: usize, value: &str) -> Option<String> {
    let Layout::Whole(rule) = table.fields[field].layout else { return None };
    table.rules[rule].text.as_ref().map(|template| template.fill_one(value))
}

/// All texts of one language with their keys, in the order of the files.
pub(crate) fn texts_of(
    stack: &Stack,
    schema: &Schema,
    through: LayerId,
    language: usize,
) -> Vec<(String, String)> {
    let mut out = Vec::new();
    for id in schema.text_tables() {
        let table = &schema.tables[id];
        for file in files_of(stack, table, through) {
            let path = &stack.files()[file].path;
            let mut spoken = None;
            let field = match &table.texts {
                Some(Texts::Record { text, language, .. }) => {
                    spoken = Some(*language);
                    *text
                }
                Some(Texts::File(field))
                    if table.language_of(path) == schema.languages.get(language).map(String::as_str) =>
                {
                    *field
                }
                Some(Texts::Fields(fields)) => match fields.iter().find(|(of, _)| *of == language) {
                    Some((_, field)) => *field,
                    None => continue,
                },
                _ => continue,
            };
            let records = with_text(stack, file, |text| read_all(table, path, text)).unwrap_or_default();
            let of_record = |record: &Record| {
                let name = spoken.and_then(|field| record.value(field)).map(|value| value.text.as_str());
                name.and_then(|name| table.texts.as_ref()?.language_called(name))
            };
            for record in
                records.iter().filter(|record| spoken.is_none() || of_record(record) == Some(language))
            {
                if let (Some(key), Some(value)) = (&record.key, record.value(field)) {
                    out.push((key.clone(), value.text.clone()));
                }
            }
        }
    }
    out
}
