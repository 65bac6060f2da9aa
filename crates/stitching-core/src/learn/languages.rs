//! Files that are there once for each language.

use super::candidates::Candidate;
use super::names::{is_language, plain_name};
use super::recognise::format_source;
use super::shapes::{Place, RecordShape};
use crate::formats::{Ini, Po};
use crate::layers::{FileId, Stack};
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// Tables whose paths differ only in a language become one, with `{lang}` in the pattern.
pub(super) fn with_languages(
    stack: &Stack,
    parts: Vec<Candidate>,
    languages: &mut BTreeSet<String>,
) -> Vec<Candidate> {
    let mut out: Vec<Candidate> = Vec::new();
    let mut by_pattern: BTreeMap<(String, Option<Place>), (Candidate, BTreeSet<String>)> = BTreeMap::new();
    for part in &parts {
        for file in &part.files {
            let path = stack.files()[*file].path.as_str();
            let Some((pattern, language)) = language_pattern(path) else { continue };
            let entry =
                by_pattern.entry((pattern.clone(), part.shape.records.clone())).or_insert_with(|| {
                    let patterns = vec![pattern.clone()];
                    (Candidate { patterns, files: Vec::new(), ..part.clone() }, BTreeSet::new())
                });
            entry.0.files.push(*file);
            entry.1.insert(language);
        }
    }
    // A code alone says little, unless the files are there for translations.
    by_pattern.retain(|_, (own, codes)| codes.len() >= 2 || own.kind == Po::NAME);
    let kept: HashSet<FileId> = by_pattern.values().flat_map(|(own, _)| own.files.iter().copied()).collect();
    for (mut own, codes) in by_pattern.into_values() {
        languages.extend(codes);
        if own.kind == Ini::NAME && own.shape.whole_file {
            // Keys with values, once for each language, are texts.
            own.shape = RecordShape {
                records: Some(("records", "keys".to_owned())),
                ..RecordShape::plain(Some("{key}"))
            };
            let head = own.format.find("head = \"main\"").map(|_| ("head", "\"main\"".to_owned()));
            own.format = format_source(own.kind, own.shape.records.as_ref(), &head.into_iter().collect());
        }
        own.name = name_of_pattern(&own.patterns[0]);
        out.push(own);
    }
    for mut part in parts {
        let before = part.files.len();
        part.files.retain(|file| !kept.contains(file));
        if part.files.is_empty() {
            continue;
        }
        if part.files.len() < before {
            part.patterns = part.files.iter().map(|file| stack.files()[*file].path.to_string()).collect();
        }
        out.push(part);
    }
    out
}

/// The path with `{lang}` in place of the part that is a language, and the language.
pub(super) fn language_pattern(path: &str) -> Option<(String, String)> {
    let mut parts: Vec<String> = path.split('/').map(str::to_owned).collect();
    let last = parts.len() - 1;
    let (stem, ending) = match parts[last].rsplit_once('.') {
        Some((stem, ending)) => (stem.to_owned(), format!(".{ending}")),
        None => (parts[last].clone(), String::new()),
    };
    if is_language(&stem) {
        parts[last] = format!("{{lang}}{ending}");
        return Some((parts.join("/"), stem));
    }
    if let Some((head, code)) = stem.rsplit_once(['_', '-', '.'])
        && is_language(code)
    {
        let sign = &stem[head.len()..=head.len()];
        parts[last] = format!("{head}{sign}{{lang}}{ending}");
        return Some((parts.join("/"), code.to_owned()));
    }
    let at = parts[..last].iter().position(|part| is_language(part))?;
    let code = std::mem::replace(&mut parts[at], "{lang}".to_owned());
    Some((parts.join("/"), code))
}

/// A name for the files of a pattern: its last part that says something.
fn name_of_pattern(pattern: &str) -> String {
    let parts = pattern.split('/').rev();
    let mut names = parts.map(|part| {
        let part = part.rsplit_once('.').map_or(part, |(stem, _)| stem);
        plain_name(part.replace("{lang}", "").replace('*', "").trim_matches(['_', '-', '.']))
    });
    names.find(|name| !name.is_empty()).unwrap_or_else(|| "texts".to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("text/en.txt", Some(("text/{lang}.txt", "en")))]
    #[case("text/names_de.csv", Some(("text/names_{lang}.csv", "de")))]
    #[case("text/pl/names.csv", Some(("text/{lang}/names.csv", "pl")))]
    #[case("text/german.po", Some(("text/{lang}.po", "german")))]
    #[case("tables/reaches.txt", None)]
    #[case("tables/barge_xx.txt", None)]
    fn languages_in_paths(#[case] path: &str, #[case] expected: Option<(&str, &str)>) {
        let found = language_pattern(path);
        assert_eq!(found.as_ref().map(|(pattern, code)| (pattern.as_str(), code.as_str())), expected);
    }
}
