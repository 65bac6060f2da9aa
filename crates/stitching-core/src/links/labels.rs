//! Texts by their keys, and names as the player sees them.

use super::lookup::key_hashes;
use super::scan::{Needles, TableScan, scan};
use super::uses::add_key_fields;
use super::with_text;
use crate::Error;
use crate::layers::{LayerId, RelPath, Stack};
use crate::schema::{Layout, Schema, Table, TableId, Texts};
use crate::tables::{files_of, read_all};
use std::collections::{BTreeSet, HashMap};

/// The texts of the main language, for turning labels that are text keys into words.
#[derive(Debug, Default)]
pub struct Labels {
    texts: HashMap<String, String>,
}

impl Labels {
    /// Reads the texts of the main language in the effective files through layer `through`.
    /// Files that cannot be read give no names.
    pub fn read(stack: &Stack, schema: &Schema, through: LayerId) -> Labels {
        let mut texts = HashMap::new();
        for id in schema.text_tables() {
            let table = &schema.tables[id];
            for file in files_of(stack, table, through) {
                let path = &stack.files()[file].path;
                let records = with_text(stack, file, |text| read_all(table, path, text)).unwrap_or_default();
                for record in records {
                    let value = |field| record.value(field).map(|value| value.text.clone());
                    let own = languages_of(schema, table, path, value).into_iter().find(|(of, _)| *of == 0);
                    texts.extend(record.key.zip(own.map(|(_, text)| text)));
                }
            }
        }
        Labels { texts }
    }

    /// As [`Labels::read`], but only what is needed to name records whose label fields hold `values`, each with its
    /// table. If these are few, little of the files is parsed.
    pub fn of_values<'v>(
        stack: &Stack,
        schema: &Schema,
        through: LayerId,
        values: impl Iterator<Item = (TableId, &'v str)>,
    ) -> Labels {
        /// More texts are not worth looking for one by one.
        const MOST: usize = 200;
        let key = |(id, value): (TableId, &str)| {
            let table = &schema.tables[id];
            text_key(table, table.label?, value)
        };
        let keys: BTreeSet<String> = values.filter_map(key).collect();
        if keys.len() > MOST {
            return Labels::read(stack, schema, through);
        }
        match texts_with(stack, schema, through, &keys) {
            Ok(texts) => texts.labels(),
            Err(_) => Labels::read(stack, schema, through),
        }
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

/// Some texts in all languages, by their keys and the position of the language.
#[derive(Debug, Default)]
pub(super) struct SomeTexts(HashMap<(String, usize), String>);

impl SomeTexts {
    /// The text of `key` in the language at position `language`.
    pub fn get(&self, key: &str, language: usize) -> Option<&String> {
        self.0.get(&(key.to_owned(), language))
    }

    /// Those of the main language.
    pub fn labels(&self) -> Labels {
        let main = self.0.iter().filter(|((_, language), _)| *language == 0);
        Labels { texts: main.map(|((key, _), text)| (key.clone(), text.clone())).collect() }
    }
}

/// The texts that have one of `keys`, in the effective files through layer `through`; of several for one key and language
/// that of the highest layer. Only where the keys stand is anything parsed.
///
/// # Errors
/// When a file cannot be read.
pub(super) fn texts_with(
    stack: &Stack,
    schema: &Schema,
    through: LayerId,
    keys: &BTreeSet<String>,
) -> Result<SomeTexts, Error> {
    let plan = |id: TableId| {
        let table = &schema.tables[id];
        let texts = table.texts.as_ref().filter(|_| !keys.is_empty())?;
        let mut fields = Vec::new();
        add_key_fields(table, &mut fields);
        let by_field = fields.len() == table.key.len();
        match texts {
            Texts::File(field) => fields.push(*field),
            Texts::Fields(own) => fields.extend(own.iter().map(|(_, field)| *field)),
            Texts::Record { text, language, .. } => fields.extend([*text, *language]),
        }
        fields.sort_unstable();
        fields.dedup();
        let mut needles = Needles::default();
        match by_field {
            true => keys.iter().for_each(|key| needles.add(key)),
            false => needles.add_any(),
        }
        let hashes = keys.iter().flat_map(|key| key_hashes(schema, id, key)).collect();
        Some(TableScan { fields, needles, hashes: Some(hashes) })
    };
    let plan: Vec<Option<TableScan>> = (0..schema.tables.len()).map(plan).collect();
    let found = scan(stack, schema, through, &plan, &|id, record, hits| {
        if let Some(key) = record.key().filter(|key| keys.contains(key)) {
            let own = languages_of(schema, &schema.tables[id], record.path, |field| record.value(field));
            hits.extend(own.into_iter().map(|(language, text)| ((key.clone(), language), text)));
        }
    })?;
    // What comes later lies higher.
    Ok(SomeTexts(found.into_iter().flat_map(|file| file.hits).collect()))
}

/// The texts of a record of a table of texts, whose values are given by `value`, with the positions of their languages.
fn languages_of(
    schema: &Schema,
    table: &Table,
    path: &RelPath,
    value: impl Fn(usize) -> Option<String>,
) -> Vec<(usize, String)> {
    let own = |language: Option<usize>, field: usize| language.zip(value(field)).into_iter().collect();
    match &table.texts {
        None => Vec::new(),
        Some(Texts::File(field)) => {
            let code = table.language_of(path);
            own(schema.languages.iter().position(|own| Some(own.as_str()) == code), *field)
        }
        Some(Texts::Fields(fields)) => {
            fields.iter().filter_map(|(language, field)| Some((*language, value(*field)?))).collect()
        }
        Some(texts @ Texts::Record { text, language, .. }) => {
            own(value(*language).and_then(|name| texts.language_called(&name)), *text)
        }
    }
}
