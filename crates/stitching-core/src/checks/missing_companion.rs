//! A record without the text, file or folder that must go with it.

use super::at_places::{Found, problems_at};
use super::{Check, Run};
use crate::Code;
use crate::links::{Index, RecordId};
use crate::problem::{Problem, Severity};
use crate::schema::{Companion, CompanionKind};
use crate::tables::{key_hash, path_hash};
use crate::text::Span;
use std::collections::HashSet;

pub(super) static CHECK: Check = Check {
    code: Code::MISSING_COMPANION,
    severity: Severity::Error,
    about: "a record without the text, file or folder that must go with it",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A record for which the text, file or folder of a [[companion]] with `required = true` is not
    there. A text must be there in each language of the project.

Why it matters
    The game makes its name of the record's key and does not find it: an empty name, a missing
    picture, or a stop.

When to ignore it
    When the game does without: take `required` out of the [[companion]].

Example, wrong
    table = \"reaches\", file = \"layouts/{key}.json\", and frost_cut has no layouts/frost_cut.json

Example, right
    layouts/frost_cut.json is there
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let mut required = index.schema.companions.iter().filter(|companion| companion.required).peekable();
    if required.peek().is_none() {
        return Vec::new();
    }
    let mut folders = None;
    let mut found = Vec::new();
    for companion in required {
        let is_missing = |key: &str| match companion.kind {
            CompanionKind::Text => missing_text(index, companion, key),
            CompanionKind::File | CompanionKind::Folder => {
                let table = &index.schema.tables[companion.table];
                // A key may make a name that is no path: there is no such file either.
                let path = companion.name_for(table, key);
                let path = path.trim_end_matches('/').to_owned();
                if companion.kind == CompanionKind::File {
                    return (!index.has_path(&path)).then(|| format!("there is no file `{path}`"));
                }
                let folders = folders.get_or_insert_with(|| folders_of(index));
                let is_there = path_hash(&path).is_some_and(|hash| folders.contains(&hash));
                (!is_there).then(|| format!("there is no folder `{path}`"))
            }
        };
        of_companion(index, companion, is_missing, &mut found);
    }
    problems_at(index, &CHECK, found)
}

fn of_companion(
    index: &Index<'_>,
    companion: &Companion,
    mut is_missing: impl FnMut(&str) -> Option<String>,
    out: &mut Vec<Found>,
) {
    // A key that stands there several times is told once.
    let mut seen: HashSet<&str> = HashSet::new();
    for (record, key) in index.keys(companion.table).filter(|(_, key)| !key.is_empty()) {
        let RecordId { file, slot, record } = record;
        let Some(missing) = seen.insert(key).then(|| is_missing(key)).flatten() else { continue };
        let start = index.facts(file, slot).starts.get(record as usize).copied().unwrap_or(0);
        out.push(Found {
            file: index.files[file as usize].id,
            span: Some(Span { start, end: start }),
            table: companion.table,
            key: Some(key.to_owned()),
            field: None,
            value: None,
            message: format!("{missing}, and each record needs it"),
            help: Some("add it, or put the key right".into()),
            ..Found::default()
        });
    }
}

fn missing_text(index: &Index<'_>, companion: &Companion, key: &str) -> Option<String> {
    let name = companion.name_for(&index.schema.tables[companion.table], key);
    let there = index.text_languages(key_hash(&name, false));
    if there & index.all_languages() == 0 {
        return Some(format!("there is no text `{name}`"));
    }
    let languages = index.schema.languages.iter().enumerate();
    let missing = languages.filter(|(at, _)| there & (1 << at) == 0).map(|(_, code)| code.as_str());
    let missing: Vec<&str> = missing.collect();
    (!missing.is_empty()).then(|| format!("the text `{name}` is missing in {}", missing.join(", ")))
}

/// The folders in which there are files, by the hashes of their paths.
fn folders_of(index: &Index<'_>) -> HashSet<u64> {
    let paths = index.paths();
    let folders = paths.flat_map(|path| path.match_indices('/').map(|(end, _)| &path[..end]));
    folders.filter_map(path_hash).collect()
}
