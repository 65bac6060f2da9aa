//! Texts that each record of a table has, called as its key with more around it: `BARGE_mill`, `BARGE_mill_DESC`.

use super::profile::{ValueCount, texts_of};
use super::proposal::{Band, Proposal, Topic};
use super::{Studied, Study};
use crate::settings::toml_text;
use crate::tables::key_hash;
use crate::text::LetterCase;
use aho_corasick::AhoCorasick;
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// Texts may be called as so few records by chance.
const LEAST: usize = 5;
/// So many keys of a table are looked for in the keys of texts; what is found is then checked with more of them.
const SAMPLE: usize = 40;
/// So many keys of a table are checked.
const MOST_KEYS: usize = 20_000;
/// So many keys of a table of texts are looked at.
const MOST_TEXTS: usize = 200_000;
/// Shorter keys stand in others by chance.
const SHORTEST: usize = 3;

/// What makes the key of a text of the key of a record.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
struct Around {
    before: String,
    behind: String,
    /// The position of the case in [`CASES`].
    case: usize,
}

/// The cases in which a key is looked for, with what a template says of each.
const CASES: [(Option<LetterCase>, &str); 3] =
    [(None, "{key}"), (Some(LetterCase::Upper), "{key|upper}"), (Some(LetterCase::Lower), "{key|lower}")];

impl Around {
    fn make(&self, key: &str) -> String {
        let key = CASES[self.case].0.map_or_else(|| key.to_owned(), |case| case.apply(key));
        format!("{}{key}{}", self.before, self.behind)
    }

    fn template(&self) -> String {
        format!("{}{}{}", self.before, CASES[self.case].1, self.behind)
    }
}

/// A table with one key, and its keys.
struct Named<'s> {
    own: &'s Studied,
    table: usize,
    field: usize,
    keys: Vec<String>,
}

impl Study<'_> {
    /// The texts that (nearly) all records of a table have under names made of their keys. What one of `said` says already is left
    /// out.
    ///
    /// Cost: a look at each key of texts for all keys in the samples at once.
    pub(super) fn companion_texts(&self, said: &[Proposal]) -> Vec<Proposal> {
        let holds_texts = |own: &Studied| own.texts.is_some() || own.table.texts.is_some();
        if !self.studied.iter().any(holds_texts) {
            return Vec::new();
        }
        let (mut texts, mut named): (Vec<String>, Vec<Named<'_>>) = (Vec::new(), Vec::new());
        for (table, own) in self.studied.iter().enumerate() {
            let [part] = own.key.parts.as_slice() else { continue };
            let Some(field) = own.table.field(part) else { continue };
            let is_texts = holds_texts(own);
            // The texts of records that others are about are those of the others.
            let refers = |other: &Proposal| {
                let is_key = other.table == own.table.name && other.field.as_ref() == Some(part);
                is_key && other.settings.iter().any(|(name, _)| name == "ref")
            };
            let is_about_others =
                own.table.rules.iter().any(|rule| rule.field == field && !rule.refs.is_empty())
                    || said.iter().any(refers);
            let is_number = self.counts[table].columns[field].is_numeric();
            if !is_texts && (is_number || is_about_others) {
                continue;
            }
            let keys = self.keys_of(table, field, if is_texts { MOST_TEXTS } else { MOST_KEYS });
            match is_texts {
                true => texts.extend(keys),
                false if keys.len() >= LEAST => named.push(Named { own, table, field, keys }),
                false => {}
            }
        }
        let known: HashSet<u64> = texts.iter().map(|key| key_hash(key, false)).collect();
        let found = around(&named, &texts);
        let mut out = Vec::new();
        for (at, found) in found.into_iter().enumerate() {
            let Named { own, table, field, keys } = &named[at];
            for around in found {
                let has = |key: &&String| known.contains(&key_hash(&around.make(key), false));
                let fit = keys.iter().filter(has).count();
                let template = around.template();
                if fit < LEAST || fit * 100 < keys.len() * 95 || is_said(said, own, &template) {
                    continue;
                }
                let base = Self::question(
                    own,
                    &own.table.fields[*field].name,
                    &self.counts[*table].columns[*field],
                    "",
                    "text",
                );
                out.push(Proposal {
                    band: Band::Ask,
                    topic: Topic::Companion,
                    field: None,
                    says: format!("each has a text {template}"),
                    settings: vec![("text".to_owned(), toml_text(&template))],
                    values: keys.len() as u64,
                    fit: fit as u64,
                    distinct: keys.len() as u64,
                    ..base
                });
            }
        }
        out
    }

    /// The different values of a key, in the order of the files, at most so many.
    fn keys_of(&self, table: usize, field: usize, most: usize) -> Vec<String> {
        let mut seen: Vec<ValueCount> =
            self.counts[table].columns[field].distinct.values().copied().collect();
        seen.sort_by_key(|seen| (seen.file, seen.cell.span.start));
        seen.truncate(most);
        texts_of(self.stack, &seen)
    }
}

/// What stands around the keys of each table in the keys of texts, for nearly all keys of its sample.
fn around(named: &[Named<'_>], texts: &[String]) -> Vec<Vec<Around>> {
    let mut out: Vec<Vec<Around>> = vec![Vec::new(); named.len()];
    // The table, the key and the case of each pattern.
    let mut patterns: Vec<(usize, usize, usize)> = Vec::new();
    let mut words: Vec<String> = Vec::new();
    for (table, own) in named.iter().enumerate() {
        let step = own.keys.len().div_ceil(SAMPLE).max(1);
        let long =
            own.keys.iter().enumerate().step_by(step).filter(|(_, key)| key.chars().count() >= SHORTEST);
        for (at, key) in long {
            for (case, (letters, _)) in CASES.iter().enumerate() {
                let word = letters.map_or_else(|| key.clone(), |letters| letters.apply(key));
                // What looks the same in another case needs none.
                if case == 0 || word != *key {
                    patterns.push((table, at, case));
                    words.push(word);
                }
            }
        }
    }
    let Ok(searcher) = AhoCorasick::new(&words) else { return out };
    let mut seen: BTreeMap<(usize, Around), BTreeSet<usize>> = BTreeMap::new();
    let mut counts: BTreeMap<usize, BTreeSet<usize>> = BTreeMap::new();
    for (table, at, _) in &patterns {
        counts.entry(*table).or_default().insert(*at);
    }
    let is_inside = |next: Option<char>| next.is_some_and(char::is_alphanumeric);
    for text in texts {
        for hit in searcher.find_overlapping_iter(text) {
            let (before, behind) = (&text[..hit.start()], &text[hit.end()..]);
            let is_part = is_inside(before.chars().next_back()) || is_inside(behind.chars().next());
            let is_all = before.is_empty() && behind.is_empty();
            if is_part || is_all || before.contains(['{', '}']) || behind.contains(['{', '}']) {
                continue;
            }
            let (table, at, case) = patterns[hit.pattern().as_usize()];
            let around = Around { before: before.to_owned(), behind: behind.to_owned(), case };
            seen.entry((table, around)).or_default().insert(at);
        }
    }
    for ((table, around), keys) in seen {
        let all = counts.get(&table).map_or(0, BTreeSet::len);
        if keys.len() >= LEAST && keys.len() * 100 >= all * 95 {
            out[table].push(around);
        }
    }
    out
}

/// Whether a proposal says already that a field of the table holds what `template` makes of the key.
fn is_said(said: &[Proposal], own: &Studied, template: &str) -> bool {
    let follows = ("follows".to_owned(), toml_text(template));
    said.iter().any(|other| other.table == own.table.name && other.settings.contains(&follows))
        || own
            .table
            .fields
            .iter()
            .any(|field| field.follows.as_ref().is_some_and(|own| own.source() == template))
}
