//! Translations taken up into the game's files, and texts that are missing in a language added.

use super::change_set::{ChangeSet, ChangedField, ChangedRecord, HowChanged, OnConflict, apply};
use super::{Change, Note};
use crate::Error;
use crate::Project;
use crate::schema::{Schema, Table, Texts};
use crate::translation::{Translation, language_at};
use crate::views::{TextRecord, TextSurvey};
use std::collections::{BTreeMap, HashMap};

/// Builds the change that writes the translations of a file into the game's texts; those without a translation, and those that
/// are in doubt, are left as they are.
///
/// # Errors
/// When the project has no such language, no text would change, or a file cannot be read or edited.
pub fn take_up(project: &Project, translation: &Translation, title: &str) -> Result<Change, Error> {
    let survey = TextSurvey::read(project.view())?;
    let language = language_at(&survey, &translation.target)?;
    let by_address: HashMap<String, &TextRecord> =
        survey.texts.iter().map(|text| (text.address(&project.schema), text)).collect();
    let (mut records, mut notes) = (Vec::new(), Notes::default());
    for unit in translation.units.iter().filter(|unit| !unit.gone && !unit.target.is_empty()) {
        let Some(text) = by_address.get(&unit.address) else {
            notes.unknown.push(unit.address.clone());
            continue;
        };
        if unit.in_doubt {
            notes.in_doubt += 1;
            continue;
        }
        if matches!(project.schema.tables[text.table].texts, Some(Texts::Record { .. })) {
            notes.by_record += 1;
            continue;
        }
        if text.texts[0].as_ref().is_some_and(|main| main.text != unit.source) {
            notes.changed.push(unit.address.clone());
        }
        records.extend(changed(&project.schema, text, language, &unit.target));
    }
    finish(project, records, title, notes.list())
}

/// Builds the change that adds the texts that are missing in `language`, each with what it says in the main language.
///
/// # Errors
/// When the project has no such language, no text is missing, or a file cannot be read or edited.
pub fn add_missing(project: &Project, language: &str, title: &str) -> Result<Change, Error> {
    let survey = TextSurvey::read(project.view())?;
    let at = language_at(&survey, language)?;
    let missing = survey.texts.iter().filter(|text| text.texts[at].is_none());
    let with_main = missing.filter_map(|text| Some((text, text.texts[0].as_ref()?.text.as_str())));
    let records: Vec<ChangedRecord> =
        with_main.filter_map(|(text, main)| changed(&project.schema, text, at, main)).collect();
    if records.is_empty() {
        return Err(Error::nothing_to_do(format!("no text of the main language is missing in {language}")));
    }
    finish(project, records, title, Vec::new())
}

/// What is to be told of units that are not simply taken up.
#[derive(Default)]
struct Notes {
    unknown: Vec<String>,
    in_doubt: usize,
    /// Texts that say themselves what language they are in: their key does not tell which is meant.
    by_record: usize,
    changed: Vec<String>,
}

impl Notes {
    fn list(self) -> Vec<Note> {
        let mut out = Vec::new();
        if !self.unknown.is_empty() {
            out.push(Note::TextsUnknown(self.unknown));
        }
        if self.in_doubt > 0 {
            out.push(Note::TextsInDoubt(self.in_doubt));
        }
        if self.by_record > 0 {
            out.push(Note::TextsByRecord(self.by_record));
        }
        if !self.changed.is_empty() {
            out.push(Note::TextsChanged(self.changed));
        }
        out
    }
}

fn finish(
    project: &Project,
    record: Vec<ChangedRecord>,
    title: &str,
    notes: Vec<Note>,
) -> Result<Change, Error> {
    if record.is_empty() {
        let why = notes.iter().find_map(|note| match note {
            Note::TextsUnknown(addresses) => Some(format!("; the game has no text {}", addresses.join(", "))),
            Note::TextsInDoubt(number) => Some(format!("; {number} are marked to be looked at again")),
            Note::TextsByRecord(number) => Some(format!(
                "; {number} say themselves what language they are in, and cannot be told apart by their keys"
            )),
            _ => None,
        });
        return Err(Error::nothing_to_do(format!("no text would be another{}", why.unwrap_or_default())));
    }
    let change_set = ChangeSet { record, ..ChangeSet::default() };
    let change = apply(project, &change_set, title, OnConflict::Refuse)?;
    Ok(notes.into_iter().fold(change, Change::with))
}

/// The text with another text in `language`; `None` if it says that already, or its table has no place for the language.
fn changed(schema: &Schema, text: &TextRecord, language: usize, now: &str) -> Option<ChangedRecord> {
    let table = &schema.tables[text.table];
    let own = text.texts[language].as_ref();
    if own.is_some_and(|own| own.text == now) {
        return None;
    }
    let (field, code) = place_of(schema, table, language)?;
    let was = own.map(|own| own.text.clone());
    let is_there = own.is_some() || is_one_record(table);
    let how = if is_there { HowChanged::Changed } else { HowChanged::Added };
    let was = if is_there { Some(was.unwrap_or_default()) } else { None };
    let fields = BTreeMap::from([(field, ChangedField { was, now: Some(now.to_owned()) })]);
    let (table, key) = (table.name.clone(), text.key.clone());
    Some(ChangedRecord { table, key, language: code, how, file: String::new(), fields })
}

/// Whether all languages of a text stand in one record.
fn is_one_record(table: &Table) -> bool {
    matches!(table.texts, Some(Texts::Fields(_)))
}

/// The field with the texts of a language, and the code of the language if that belongs to the name of the text.
fn place_of(schema: &Schema, table: &Table, language: usize) -> Option<(String, Option<String>)> {
    let name = |field: usize| table.fields[field].name.clone();
    match &table.texts {
        None => None,
        Some(Texts::File(field)) => Some((name(*field), Some(schema.languages[language].clone()))),
        Some(Texts::Fields(fields)) => {
            fields.iter().find(|(own, _)| *own == language).map(|(_, field)| (name(*field), None))
        }
        Some(Texts::Record { .. }) => None,
    }
}
