//! What is proposed for a table as such: its files, its format, its key, its texts.

use super::Studied;
use super::candidates::Candidate;
use super::keys::KeyChoice;
use super::names;
use super::profile::Counts;
use super::proposal::{Band, Proposal, Topic};
use crate::formats::{Po, Xml};
use crate::schema::Table;
use crate::settings::{toml_key, toml_text};

/// What the schema is to say of a table that seems to hold texts.
pub(super) fn texts_setting(
    candidate: &Candidate,
    table: &Table,
    key: &KeyChoice,
    counts: &Counts,
) -> Option<String> {
    if candidate.kind == Po::NAME {
        return Some("\"msgstr\"".to_owned());
    }
    if candidate.shape.key.as_deref() == Some("{key}") {
        return Some("\"{value}\"".to_owned());
    }
    let languages = language_columns(table);
    if !languages.is_empty() {
        let is_plain = languages.iter().all(|(code, at)| *code == table.fields[*at].name);
        let field = |(code, at): &(String, usize)| {
            format!("{} = {}", toml_key(code), toml_text(&table.fields[*at].name))
        };
        let fields: Vec<String> = languages.iter().map(field).collect();
        return Some(if is_plain { "true".to_owned() } else { format!("{{ {} }}", fields.join(", ")) });
    }
    // A map of prose in XML, by the names of its elements.
    let is_prose = |at: usize| counts.columns[at].prose * 2 > counts.columns[at].values;
    if candidate.kind == Xml::NAME && key.parts == ["name()"] && table.fields.len() == 2 && is_prose(1) {
        return Some(toml_text(&table.fields[1].name));
    }
    let by_path = candidate.patterns.iter().any(|pattern| pattern.contains("{lang}"));
    let prose = |at: &usize| {
        let own = &counts.columns[*at];
        own.values > 0 && own.spaced * 10 >= own.values * 3
    };
    let others: Vec<usize> =
        (0..table.fields.len()).filter(|at| !key.parts.contains(&table.fields[*at].name)).collect();
    let text_like = others.iter().copied().filter(prose).collect::<Vec<_>>();
    // A key and its text stand on one line, and nothing above it belongs to them.
    let has_setting = |start: &str| candidate.format.contains(&format!(", {start}"));
    let of_one_line = !has_setting("line = [") && !has_setting("carry = ");
    let quoted_lines = candidate.kind == "lines" && table.fields.len() == 2 && of_one_line;
    match text_like[..] {
        [one] if by_path || (quoted_lines && others.len() == 1) => Some(toml_text(&table.fields[one].name)),
        [] if by_path && others.len() == 1 => Some(toml_text(&table.fields[others[0]].name)),
        _ => None,
    }
}

/// The columns of a table that are texts side by side, one for each language: its code, and the position of the field. None
/// unless there are several and hardly anything else.
pub(super) fn language_columns(table: &Table) -> Vec<(String, usize)> {
    let codes = table
        .fields
        .iter()
        .enumerate()
        .filter_map(|(at, field)| Some((names::language_code(&field.name)?, at)));
    let found: Vec<(String, usize)> = codes.collect();
    let is_once = |(code, _): &(String, usize)| found.iter().filter(|(other, _)| other == code).count() == 1;
    // Words such as `id`, `no` and `it` are codes too.
    const SURE: [&str; 8] = ["en", "de", "fr", "es", "ru", "pl", "ja", "zh"];
    let is_sure = found.iter().any(|(code, _)| SURE.iter().any(|sure| code.starts_with(sure)));
    let are_texts =
        is_sure && found.len() >= 2 && found.len() + 2 >= table.fields.len() && found.iter().all(is_once);
    if are_texts { found } else { Vec::new() }
}

/// What is said of a table besides if it holds texts.
pub(super) const TEXTS: &str = ", texts";

/// In a hundred records so many must have a key of their own; the others may be faults of the data.
const FEWEST_UNIQUE: u64 = 95;

/// What is proposed for a table that the schema does not describe; `None` for others.
pub(super) fn table_proposal(own: &Studied, counts: &Counts) -> Option<Proposal> {
    let candidate = own.candidate.as_ref()?;
    let list = |values: &[String]| match values {
        [one] => toml_text(one),
        many => format!("[{}]", many.iter().map(|value| toml_text(value)).collect::<Vec<_>>().join(", ")),
    };
    let mut settings = vec![
        ("files".to_owned(), list(&candidate.patterns)),
        ("format".to_owned(), candidate.format.clone()),
    ];
    let by_language = candidate.merged || candidate.patterns.iter().any(|pattern| pattern.contains("{lang}"));
    let has_key =
        !own.key.parts.is_empty() && (by_language || own.key.unique * 100 >= counts.records * FEWEST_UNIQUE);
    if has_key {
        settings.push(("key".to_owned(), list(&own.key.parts)));
    }
    let mut reasons: Vec<String> = candidate.doubt.iter().map(|doubt| (*doubt).to_owned()).collect();
    if let Some(encoding) = &candidate.encoding {
        settings.insert(2, ("encoding".to_owned(), toml_text(encoding)));
        reasons.push(format!("that the files are in {encoding} is a guess"));
    }
    if candidate.merged {
        settings.push(("layering".to_owned(), "\"merge\"".to_owned()));
        reasons.push(
            "a file of a higher layer has far less in it than the one below, so that it seems to add to it"
                .to_owned(),
        );
    }
    if let Some(texts) = &own.texts {
        settings.push(("texts".to_owned(), texts.clone()));
    }
    let whole = own.key.unique == counts.records || by_language;
    let nearly = own.key.unique * 100 >= counts.records * 98;
    if own.key.parts.is_empty() {
        reasons.push("nothing names its records".to_owned());
    } else if !has_key {
        let parts = own.key.parts.join("/");
        let unique = own.key.unique;
        reasons.push(format!(
            "nothing names its records: {parts} is different in {unique} of {}",
            counts.records
        ));
    } else if !whole {
        reasons.push(format!(
            "{} of {} records share their key with another",
            counts.records - own.key.unique.min(counts.records),
            counts.records
        ));
    }
    let band = match () {
        () if counts.records == 0 => Band::Hidden,
        () if candidate.doubt.is_some() || !has_key && own.table.fields.len() < 2 => Band::Ask,
        () if !has_key => Band::Accept,
        () if whole || nearly => Band::Accept,
        () => Band::Ask,
    };
    let band = match candidate.shape.whole_file && counts.records == 1 {
        true => {
            reasons.push("it is one file, taken for one record".to_owned());
            band.max(Band::Ask)
        }
        false => band,
    };
    let texts = if own.texts.is_some() { TEXTS } else { "" };
    let needs = key_that_some_lack(own, counts).filter(|_| has_key);
    let needs = needs.map(|field| format!("{}.{field}", own.table.name)).into_iter().collect();
    Some(Proposal {
        band,
        topic: Topic::Table,
        table: own.table.name.clone(),
        field: None,
        says: format!("{} in {}{texts}", candidate.kind, shown_patterns(&candidate.patterns)),
        needs,
        settings,
        values: counts.records,
        fit: if by_language || !has_key { counts.records } else { own.key.unique.min(counts.records) },
        distinct: own.key.unique,
        none: Vec::new(),
        exceptions: Vec::new(),
        rivals: if by_language || !has_key { Vec::new() } else { own.key.rivals.clone() },
        reasons,
    })
}

/// The field that is the key of a table though some of its records do not have it.
fn key_that_some_lack<'o>(own: &'o Studied, counts: &Counts) -> Option<&'o str> {
    let [part] = own.key.parts.as_slice() else { return None };
    let field = own.table.field(part)?;
    (counts.columns[field].values < counts.records).then_some(part)
}

/// What is proposed for the key of a table that some of its records lack.
pub(super) fn optional_key_proposal(own: &Studied, counts: &Counts) -> Option<Proposal> {
    own.candidate.as_ref()?;
    let field = key_that_some_lack(own, counts)?;
    let values = counts.columns[own.table.field(field)?].values;
    let without = counts.records - values;
    Some(Proposal {
        band: Band::Accept,
        topic: Topic::Values,
        table: own.table.name.clone(),
        field: Some(field.to_owned()),
        says: "some records have none".to_owned(),
        needs: Vec::new(),
        settings: vec![("optional".to_owned(), "true".to_owned())],
        values: counts.records,
        fit: counts.records,
        distinct: 0,
        none: Vec::new(),
        exceptions: Vec::new(),
        rivals: Vec::new(),
        reasons: vec![format!(
            "{without} of {} records have no key, and nothing refers to them",
            counts.records
        )],
    })
}

/// Patterns in words: of many the first, and how many there are besides.
fn shown_patterns(patterns: &[String]) -> String {
    const SHOWN: usize = 2;
    match patterns.len().saturating_sub(SHOWN) {
        0 | 1 => patterns.join(", "),
        more => format!("{} and {more} more", patterns[..SHOWN].join(", ")),
    }
}
