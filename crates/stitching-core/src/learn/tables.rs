//! What is proposed for a table as such: its files, its format, its key, its texts.

use super::Studied;
use super::candidates::Candidate;
use super::keys::KeyChoice;
use super::names;
use super::profile::Counts;
use super::proposal::{Band, Proposal, Topic};
use crate::formats::Po;
use crate::schema::Table;
use crate::settings::toml_text;

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
    let languages: Vec<&str> = table
        .fields
        .iter()
        .map(|field| field.name.as_str())
        .filter(|name| names::is_language(name))
        .collect();
    if languages.len() >= 2 && languages.len() + 2 >= table.fields.len() {
        return Some("true".to_owned());
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
        ("key".to_owned(), list(&own.key.parts)),
    ];
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
    let by_language = candidate.merged || candidate.patterns.iter().any(|pattern| pattern.contains("{lang}"));
    let whole = own.key.unique == counts.records || by_language;
    let nearly = own.key.unique * 100 >= counts.records * 98;
    if own.key.unique == 0 && !by_language {
        reasons.push("no columns were found that name a record".to_owned());
    } else if !whole {
        reasons.push(format!(
            "{} of {} records share their key with another",
            counts.records - own.key.unique.min(counts.records),
            counts.records
        ));
    }
    let band = match () {
        () if counts.records == 0 => Band::Hidden,
        () if candidate.doubt.is_some() || own.key.unique == 0 && !by_language => Band::Ask,
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
    let texts = if own.texts.is_some() { ", texts" } else { "" };
    Some(Proposal {
        band,
        topic: Topic::Table,
        table: own.table.name.clone(),
        field: None,
        says: format!("{} in {}{texts}", candidate.kind, candidate.patterns.join(", ")),
        needs: Vec::new(),
        settings,
        values: counts.records,
        fit: if by_language { counts.records } else { own.key.unique.min(counts.records) },
        distinct: own.key.unique,
        none: Vec::new(),
        exceptions: Vec::new(),
        rivals: if by_language { Vec::new() } else { own.key.rivals.clone() },
        reasons,
    })
}
