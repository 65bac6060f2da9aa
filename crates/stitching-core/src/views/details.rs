//! One record with all that is known of it.

use crate::Error;
use crate::layers::{LayerId, RelPath, Stack};
use crate::links::{
    Found, find_by_value, find_in_any_case, find_records, names_in_use, text_key, texts_with,
};
use crate::problem::Place;
use crate::reading::View;
use crate::reading::{Excerpt, LoadedFile, load, prepare, with_text};
use crate::schema::{Layout, Schema, Table, TableId, Target};
use crate::tables::{
    Record, RecordView, RecordVisitor, Value, all_fields, file_named, for_each_in_path, for_each_piece,
    key_named, read_at, read_records_at, shown_key,
};
use crate::text::{Span, Text};
use rayon::prelude::*;
use std::collections::{BTreeSet, HashMap, HashSet};

/// A record with its values, and what they point to.
#[derive(Debug)]
pub struct Details {
    /// The table.
    pub table: TableId,
    /// The key as shown.
    pub key: String,
    /// The name as the player sees it.
    pub label: Option<String>,
    /// Where it is; several places for texts in several languages, and for a key that is there several times.
    pub places: Vec<Place>,
    /// In how many more places it is, of which nothing is told here.
    pub more_places: usize,
    /// The values, in the order of the file; those of all places one after another.
    pub fields: Vec<FieldDetail>,
}

/// A value, and what it points to.
#[derive(Debug)]
pub struct FieldDetail {
    /// The field's name.
    pub name: String,
    /// What it means, by the schema.
    pub about: Option<String>,
    /// The unit of its numbers.
    pub unit: Option<String>,
    /// The value.
    pub value: Value,
    /// Where it stands.
    pub place: Place,
    /// Which of [`Details::places`] it is from; for one that is inherited, which of those of that record.
    pub at: usize,
    /// The key, as shown, of the record from which it is taken, if it is not the record's own.
    pub inherited_from: Option<String>,
    /// The records it names: table, key as shown, name as the player sees it.
    pub points_to: Vec<(String, String, Option<String>)>,
    /// The file it names: its path, and the layer whose file the game would read, if there is one.
    pub file: Option<(String, Option<String>)>,
    /// The texts it stands for: language and text, `None` where it is missing.
    pub texts: Vec<(String, Option<String>)>,
}

/// All that is known of the record `found`.
///
/// # Errors
/// When a file cannot be read.
pub fn details(view: View<'_>, found: &Found) -> Result<Details, Error> {
    let View { stack, schema, .. } = view;
    // Before anything is looked up in parallel.
    prepare(stack, schema);
    let mut details = own_details(view, found)?;
    inherit(view, found, &mut details)?;
    Ok(details)
}

/// Of a key that is there more often, only so many places are told.
const MOST_PLACES: usize = 20;

/// A record at one of its places, as it was read.
struct AtPlace {
    /// Which of the places.
    at: usize,
    loaded: LoadedFile,
    table: Table,
    record: Record,
    /// The pieces that refer to records: the span of their cell, the rule, the text.
    links: Vec<(Span, usize, String)>,
    files: Vec<(Span, String)>,
    named: NamedRecords,
}

/// The records that values name, by table and key as shown: table, key as shown, what the label field holds.
type NamedRecords = HashMap<(Target, String), Vec<(TableId, String, Option<String>)>>;

/// As [`details`], without what the record inherits.
fn own_details(view: View<'_>, found: &Found) -> Result<Details, Error> {
    let View { stack, schema, through } = view;
    let mut details = Details {
        table: found.table,
        key: shown_key(&found.key),
        label: None,
        places: Vec::new(),
        more_places: 0,
        fields: Vec::new(),
    };
    if schema.tables[found.table].is_by_use() {
        name_in_use(view, found, &mut details)?;
        return Ok(details);
    }
    let merged = schema.tables[found.table].merged;
    let mut places = found.places.clone();
    if merged {
        // The topmost layer's values come first, and what it does not have from those below.
        places.sort_by_key(|place| std::cmp::Reverse(stack.files()[place.file].layer));
    }
    details.more_places = places.len().saturating_sub(MOST_PLACES);
    places.truncate(MOST_PLACES);
    let mut read: Vec<AtPlace> = Vec::new();
    for (at, place) in places.iter().enumerate() {
        let loaded = load(stack, place.file)?;
        details.places.push(loaded.place(place.span));
        let path = &stack.files()[place.file].path;
        let (table, record, Links { links, files, .. }) = with_text(stack, place.file, |text| {
            let table = schema.tables[found.table].widened(&schema.tables[found.table].format.columns(text));
            let record = read_at(&table, path, text, place.span);
            let mut links = Links { span: place.span, links: Vec::new(), files: Vec::new() };
            let offset = place.span.start as usize;
            read_records_at(&table, path, text, &all_fields(&table), &[offset], &mut links);
            (table, record, links)
        })?;
        let Some(mut record) = record else { continue };
        record.values.extend(values_in_path(&table, path));
        let named = named_records(view, &table, &links)?;
        read.push(AtPlace { at, loaded, table, record, links, files, named });
    }
    // All texts at once: those of its own fields, and the names of what it refers to.
    let texts = texts_with(view, &text_keys(schema, &read))?;
    let labels = texts.labels();
    let mut given: HashSet<String> = HashSet::new();
    for AtPlace { at, loaded, table, record, mut links, files, named } in read {
        if let Some(value) = table.label.and_then(|field| record.value(field)) {
            details.label = details.label.or_else(|| labels.name(&table, &value.text));
        }
        let mut values = record.values;
        values.sort_by_key(|value| value.span);
        values.retain(|value| !given.contains(&table.fields[value.field].name));
        if merged {
            given.extend(values.iter().map(|value| table.fields[value.field].name.clone()));
        }
        for value in values {
            let field = &table.fields[value.field];
            let of_language = |key: String| {
                let all = schema.languages.iter().enumerate();
                all.map(|(at, code)| (code.clone(), texts.get(&key, at).cloned())).collect()
            };
            let own_texts = text_key_of(&table, &value).map(of_language);
            let mut points_to = Vec::new();
            for (_, rule, text) in links.extract_if(.., |(span, rule, _)| {
                *span == value.span && table.rules[*rule].field == value.field
            }) {
                for target in &table.rules[rule].refs {
                    for (id, key, label) in named.get(&(*target, text.clone())).into_iter().flatten() {
                        let other = &schema.tables[*id];
                        let label = label.as_ref().and_then(|value| labels.name(other, value));
                        points_to.push((other.name.clone(), key.clone(), label));
                    }
                }
            }
            details.fields.push(FieldDetail {
                name: field.name.clone(),
                about: field.about.clone(),
                unit: field.unit.clone(),
                place: loaded.place(value.span),
                at,
                inherited_from: None,
                points_to,
                file: files
                    .iter()
                    .find(|(span, _)| *span == value.span)
                    .map(|(_, path)| file_at(stack, through, path)),
                texts: own_texts.unwrap_or_default(),
                value,
            });
        }
    }
    Ok(details)
}

/// What the path of a file says for the fields of `table` that are parts of it; they stand at the beginning of the text.
fn values_in_path(table: &Table, path: &RelPath) -> Vec<Value> {
    let mut out: Vec<Value> = Vec::new();
    for_each_in_path(table, path, &mut |field, _, piece| {
        // Several rules may be for one value.
        if out.iter().all(|known| known.field != field) {
            out.push(Value { field, text: piece.text.to_owned(), span: piece.span, nested: false });
        }
    });
    out
}

/// The text key that a value stands for, unless it stands for "nothing".
fn text_key_of(table: &Table, value: &Value) -> Option<String> {
    let is_none = table.rules.iter().any(|rule| rule.field == value.field && rule.is_none(&value.text));
    text_key(table, value.field, &value.text).filter(|_| !is_none)
}

/// The keys of all texts that must be known to tell of a record.
fn text_keys(schema: &Schema, read: &[AtPlace]) -> BTreeSet<String> {
    let mut keys = BTreeSet::new();
    for own in read {
        keys.extend(own.record.values.iter().filter_map(|value| text_key_of(&own.table, value)));
        let label = |table: &Table, value: &str| text_key(table, table.label?, value);
        let value = own.table.label.and_then(|field| own.record.value(field));
        keys.extend(value.and_then(|value| label(&own.table, &value.text)));
        for (id, _, value) in own.named.values().flatten() {
            keys.extend(value.as_ref().and_then(|value| label(&schema.tables[*id], value)));
        }
    }
    keys
}

/// The records that the values of a record name; looked up in parallel.
fn named_records(
    view: View<'_>,
    table: &Table,
    links: &[(Span, usize, String)],
) -> Result<NamedRecords, Error> {
    let View { stack, schema, .. } = view;
    let mut wanted: Vec<(Target, String, bool)> = Vec::new();
    for (_, rule, text) in links {
        let rule = &table.rules[*rule];
        wanted.extend(rule.refs.iter().map(|target| (*target, text.clone(), rule.ignore_case)));
    }
    wanted.sort();
    wanted.dedup();
    let look = |(target, text, any_case): (Target, String, bool)| {
        let mut named = Vec::new();
        let found = match target.rule {
            None if any_case => find_in_any_case(view, target.table, &text)?,
            None => find_records(view, Some(target.table), &text)?,
            Some(rule) => {
                find_by_value(view, target.table, schema.tables[target.table].rules[rule].field, &text)?
            }
        };
        for found in found.into_iter().take(MOST_PLACES) {
            let label = label_value(stack, schema, &found)?;
            named.push((found.table, shown_key(&found.key), label));
        }
        Ok(((target, text), named))
    };
    wanted.into_par_iter().map(look).collect()
}

/// Adds what the record takes from the records that it inherits from, the nearest first.
fn inherit(view: View<'_>, found: &Found, details: &mut Details) -> Result<(), Error> {
    let View { schema, .. } = view;
    const DEEPEST: usize = 20;
    let table = &schema.tables[found.table];
    let from = |record: &Details, table: &Table| {
        let inherits =
            |field: &&FieldDetail| table.field(&field.name).is_some_and(|at| table.fields[at].inherit);
        let named = record.fields.iter().filter(|field| field.inherited_from.is_none()).find(inherits)?;
        named.points_to.first().map(|(table, key, _)| (table.clone(), key.clone()))
    };
    let mut next = from(details, table);
    let mut seen = vec![(table.name.clone(), details.key.clone())];
    while let Some((name, key)) = next.take() {
        if seen.contains(&(name.clone(), key.clone())) || seen.len() > DEEPEST {
            break;
        }
        let Some(id) = schema.table(&name) else { break };
        let Some(parent) = find_records(view, Some(id), &key)?.into_iter().next() else {
            break;
        };
        let own = own_details(view, &parent)?;
        next = from(&own, &schema.tables[id]);
        seen.push((name.clone(), key.clone()));
        let described = &schema.tables[id];
        let is_key = |name: &str| described.field(name).is_some_and(|field| described.is_key_field(field));
        let lacks = |field: &FieldDetail| {
            !is_key(&field.name) && !details.fields.iter().any(|own| own.name == field.name)
        };
        let taken: Vec<FieldDetail> = own.fields.into_iter().filter(lacks).collect();
        let taken = taken.into_iter().map(|field| FieldDetail { inherited_from: Some(key.clone()), ..field });
        details.fields.extend(taken);
    }
    Ok(())
}

/// The file at `path`, and the layer it is in.
fn file_at(stack: &Stack, through: LayerId, path: &str) -> (String, Option<String>) {
    let found = RelPath::parse(path).ok().and_then(|path| {
        let layers = (0..=through).rev();
        layers.into_iter().find(|layer| stack.find(*layer, &path).is_some())
    });
    (path.to_owned(), found.map(|layer| stack.layers()[layer].name.clone()))
}

/// The record `found` at the first of its places, with the fields that the schema describes.
///
/// # Errors
/// When the file cannot be read.
pub fn read_record(stack: &Stack, schema: &Schema, found: &Found) -> Result<Option<Record>, Error> {
    let Some(place) = found.places.first() else { return Ok(None) };
    if schema.tables[found.table].is_by_use() {
        return Ok(None);
    }
    let path = &stack.files()[place.file].path;
    with_text(stack, place.file, |text| read_at(&schema.tables[found.table], path, text, place.span))
}

/// Of a name of a table by use: where it stands first, and how many values hold it.
fn name_in_use(view: View<'_>, found: &Found, details: &mut Details) -> Result<(), Error> {
    let fields = &view.schema.tables[found.table].fields;
    for own in names_in_use(view, found.table, Some(&found.key))? {
        let place = load(view.stack, own.first.file)?.place(own.first.span);
        for (at, (field, text)) in fields.iter().zip([own.name, own.uses.to_string()]).enumerate() {
            details.fields.push(FieldDetail {
                name: field.name.clone(),
                about: None,
                unit: None,
                value: Value { field: at, text, span: own.first.span, nested: false },
                place: place.clone(),
                at: 0,
                inherited_from: None,
                points_to: Vec::new(),
                file: None,
                texts: Vec::new(),
            });
        }
        details.places.push(place);
    }
    Ok(())
}

/// What the label field of a record holds.
fn label_value(stack: &Stack, schema: &Schema, found: &Found) -> Result<Option<String>, Error> {
    let table = &schema.tables[found.table];
    let (Some(label), Some(place)) = (table.label, found.places.first()) else { return Ok(None) };
    let of_record = |record: Record| record.value(label).map(|value| value.text.clone());
    let line = place.span.start as usize;
    let excerpt = Excerpt::read(stack, place.file, &[line]).filter(|_| table.reads_blocks());
    if let Some((excerpt, start)) = excerpt.as_ref().and_then(|own| Some((own, *own.offsets.first()?))) {
        let (path, text) = (&stack.files()[place.file].path, Text::of_file(&excerpt.text));
        let here = Span::new(start, start + place.span.len());
        if let Some(record) = read_at(table, path, &text, here) {
            return Ok(of_record(record));
        }
    }
    Ok(read_record(stack, schema, found)?.and_then(of_record))
}

/// The pieces of a record that refer to records: the span of their cell, the rule, the text.
struct Links {
    span: Span,
    links: Vec<(Span, usize, String)>,
    /// The files that whole values name: the span of the cell, the path.
    files: Vec<(Span, String)>,
}

impl RecordVisitor for Links {
    fn record(&mut self, record: &RecordView<'_>) {
        if record.span != self.span {
            return;
        }
        for field in 0..record.table.fields.len() {
            for_each_piece(record, field, |piece| {
                let rule = &record.table.rules[piece.rule];
                if !piece.fits || rule.is_none(piece.text) {
                    return;
                }
                let described = &record.table.fields[field];
                let is_whole = matches!(described.layout, Layout::Whole(_)) && described.list.is_none();
                if let Some(path) = file_named(record, rule, piece).filter(|_| is_whole) {
                    self.files.push((piece.cell.span, path));
                }
                if !rule.refs.is_empty()
                    && let Some(named) = key_named(record, rule, piece)
                {
                    self.links.push((piece.cell.span, piece.rule, shown_key(&named)));
                }
            });
        }
    }
}
