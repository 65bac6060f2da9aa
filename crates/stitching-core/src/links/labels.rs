//! Texts by their keys, and names as the player sees them.

use crate::Error;
use crate::layers::{FileId, RelPath};
use crate::reading::View;
use crate::reading::{BytePrefilter, Needles, TableScan, key_hashes, scan, with_text};
use crate::schema::{Layout, Schema, Table, TableId, Texts};
use crate::tables::{RecordView, RecordVisitor, add_key_fields, files_of, read_records, read_records_at};
use crate::text::Text;
use rayon::prelude::*;
use std::collections::{BTreeSet, HashMap};

/// The texts of the main language, for turning labels that are text keys into words.
#[derive(Debug, Default)]
pub struct Labels {
    texts: HashMap<String, String>,
}

impl Labels {
    /// Reads the texts of the main language in the effective files through layer `through`.
    /// Files that cannot be read give no names.
    pub fn read(view: View<'_>) -> Labels {
        Labels::of_places(view, None)
    }

    /// The texts of the main language that `quick` finds something in; their keys count as well as what they say. Of
    /// several texts of a key there may be one of a lower layer.
    pub(crate) fn with(view: View<'_>, quick: &BytePrefilter) -> Labels {
        Labels::of_places(view, Some((quick, false)))
    }

    /// The texts of the main language that have one of `keys`; others may be among them.
    pub(crate) fn of_keys<'k>(view: View<'_>, keys: impl IntoIterator<Item = &'k str>) -> Labels {
        let mut keys = keys.into_iter().peekable();
        if keys.peek().is_none() {
            return Labels::default();
        }
        let quick = BytePrefilter::new(None, keys);
        Labels::of_places(view, quick.as_ref().map(|quick| (quick, true)))
    }

    /// The texts of the main language; if there is something to look for, only those where it is found. Whether these are
    /// keys matters where keys do not stand in the file as they are.
    fn of_places(view: View<'_>, quick: Option<(&BytePrefilter, bool)>) -> Labels {
        let View { stack, schema, through } = view;
        let files: Vec<(TableId, FileId)> = schema
            .text_tables()
            .flat_map(|id| {
                files_of(stack, &schema.tables[id], through).into_iter().map(move |file| (id, file))
            })
            .filter(|(id, file)| may_have_main(schema, &schema.tables[*id], &stack.files()[*file].path))
            .collect();
        let read = |(id, file): &(TableId, FileId)| -> Vec<(String, String)> {
            let table = &schema.tables[*id];
            let (fields, has_keys) = fields_of_texts(table);
            let quick = quick.filter(|(_, by_key)| has_keys || !by_key).map(|(quick, _)| quick);
            if quick.is_some_and(|quick| quick.has_nothing(stack, schema, *file)) {
                return Vec::new();
            }
            let path = &stack.files()[*file].path;
            let mut reader = TextsOfMain { schema, found: Vec::new() };
            let look = |text: &Text<'_>| match quick
                .and_then(|quick| quick.places([table].into_iter(), text.as_str()))
            {
                Some(places) if places.is_empty() => {}
                Some(places) => read_records_at(table, path, text, &fields, &places, &mut reader),
                None => read_records(table, path, text, &fields, &mut reader),
            };
            match with_text(stack, *file, look) {
                Ok(()) => reader.found,
                Err(_) => Vec::new(),
            }
        };
        let found: Vec<Vec<(String, String)>> = files.par_iter().with_max_len(1).map(read).collect();
        // What comes later lies higher.
        Labels { texts: found.into_iter().flatten().collect() }
    }

    /// Keeps only those whose text `wanted` holds of.
    pub(crate) fn retain(&mut self, wanted: impl Fn(&str) -> bool) {
        self.texts.retain(|_, text| wanted(text));
    }

    /// The keys.
    pub(crate) fn keys(&self) -> impl Iterator<Item = &str> {
        self.texts.keys().map(String::as_str)
    }

    /// As [`Labels::read`], but only what is needed to name records whose label fields hold `values`, each with its
    /// table. If these are few, little of the files is parsed.
    pub fn of_values<'v>(view: View<'_>, values: impl Iterator<Item = (TableId, &'v str)>) -> Labels {
        let View { schema, .. } = view;
        /// More texts are not worth looking for one by one.
        const MOST: usize = 200;
        let keys: BTreeSet<String> =
            values.filter_map(|(id, value)| label_key(&schema.tables[id], value)).collect();
        if keys.len() > MOST {
            return Labels::read(view);
        }
        match texts_with(view, &keys) {
            Ok(texts) => texts.labels(),
            Err(_) => Labels::read(view),
        }
    }

    /// The text of a key in the main language.
    pub fn text(&self, key: &str) -> Option<&str> {
        self.texts.get(key).map(String::as_str)
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

/// The text key that `value` of the label field stands for, if it holds text keys.
pub(crate) fn label_key(table: &Table, value: &str) -> Option<String> {
    text_key(table, table.label?, value)
}

/// The text key that `value` of `field` stands for, if the field holds text keys.
pub(crate) fn text_key(table: &Table, field: usize, value: &str) -> Option<String> {
    let Layout::Whole(rule) = table.fields[field].layout else { return None };
    table.rules[rule].text.as_ref().map(|template| template.fill_one(value))
}

/// Some texts in all languages, by their keys and the position of the language.
#[derive(Debug, Default)]
pub(crate) struct SomeTexts(HashMap<(String, usize), String>);

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
pub(crate) fn texts_with(view: View<'_>, keys: &BTreeSet<String>) -> Result<SomeTexts, Error> {
    let View { schema, .. } = view;
    let plan = |id: TableId| {
        let table = &schema.tables[id];
        table.texts.as_ref().filter(|_| !keys.is_empty())?;
        let (fields, has_keys) = fields_of_texts(table);
        let mut needles = Needles::default();
        match has_keys {
            true => keys.iter().for_each(|key| needles.add(key)),
            false => needles.add_any(),
        }
        let hashes = keys.iter().flat_map(|key| key_hashes(schema, id, key)).collect();
        Some(TableScan { fields, needles, hashes: Some(hashes) })
    };
    let plan: Vec<Option<TableScan>> = (0..schema.tables.len()).map(plan).collect();
    let found = scan(view, &plan, &|id, record, hits| {
        if let Some(key) = record.key().filter(|key| keys.contains(key)) {
            let own = languages_of(schema, &schema.tables[id], record.path, |field| record.value(field));
            hits.extend(own.into_iter().map(|(language, text)| ((key.clone(), language), text)));
        }
    })?;
    // What comes later lies higher.
    Ok(SomeTexts(found.into_iter().flat_map(|file| file.hits).collect()))
}

/// The fields that keys and texts of a table of texts are in, in order, and whether the keys stand in the file as they
/// are.
fn fields_of_texts(table: &Table) -> (Vec<usize>, bool) {
    let mut fields = Vec::new();
    add_key_fields(table, &mut fields);
    let has_keys = fields.len() == table.key.len();
    match &table.texts {
        None => {}
        Some(Texts::File(field)) => fields.push(*field),
        Some(Texts::Fields(own)) => fields.extend(own.iter().map(|(_, field)| *field)),
        Some(Texts::Record { text, language, .. }) => fields.extend([*text, *language]),
    }
    fields.sort_unstable();
    fields.dedup();
    (fields, has_keys)
}

/// Whether a file of a table of texts may have texts of the main language.
fn may_have_main(schema: &Schema, table: &Table, path: &RelPath) -> bool {
    !matches!(table.texts, Some(Texts::File(_)))
        || table.language_of(path) == schema.languages.first().map(String::as_str)
}

/// Collects keys and texts of the main language.
struct TextsOfMain<'s> {
    schema: &'s Schema,
    found: Vec<(String, String)>,
}

impl RecordVisitor for TextsOfMain<'_> {
    fn record(&mut self, record: &RecordView<'_>) {
        let own = languages_of(self.schema, record.table, record.path, |field| record.value(field));
        let text = own.into_iter().find(|(language, _)| *language == 0).map(|(_, text)| text);
        self.found.extend(record.key().zip(text));
    }
}

/// The texts of a record in the file at `path`, with the positions of their languages; `value` gives what a field holds.
fn languages_of(
    schema: &Schema,
    table: &Table,
    path: &RelPath,
    value: impl Fn(usize) -> Option<String>,
) -> Vec<(usize, String)> {
    let fields = language_fields(schema, table, path, &value);
    fields.into_iter().filter_map(|(language, field)| Some((language, value(field)?))).collect()
}

/// The languages, as positions among those of the project, that a record of texts in the file at `path` may have a text in, each
/// with the field that holds it; `value` gives what a field holds.
pub fn language_fields(
    schema: &Schema,
    table: &Table,
    path: &RelPath,
    value: impl Fn(usize) -> Option<String>,
) -> Vec<(usize, usize)> {
    let own = |language: Option<usize>, field: usize| language.map(|own| (own, field)).into_iter().collect();
    match &table.texts {
        None => Vec::new(),
        Some(Texts::File(field)) => {
            let code = table.language_of(path);
            own(schema.languages.iter().position(|own| Some(own.as_str()) == code), *field)
        }
        Some(Texts::Fields(fields)) => fields.clone(),
        Some(texts @ Texts::Record { text, language, .. }) => {
            own(value(*language).and_then(|name| texts.language_called(&name)), *text)
        }
    }
}
