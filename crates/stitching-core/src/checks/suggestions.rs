//! The names near to those that lead nowhere, for all problems of a check together: to look for each by itself would
//! take, with thousands of problems and a million keys, a hundred times as long as the check.

use super::{Among, Asked};
use crate::links::{Index, names_in_use};
use crate::tables::{KEY_SEPARATOR, shown_key};
use crate::text::{Near, nearest_of_each};
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// More keys that have a name as a part are not listed, only counted.
const MOST_WITH_PART: usize = 3;

/// What was found for the names that were asked for.
#[derive(Debug, Default)]
pub(super) struct Suggestions {
    near: HashMap<Asked, Near>,
    parts: HashMap<Asked, WithPart>,
}

/// The keys that have a name as a part.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub(super) struct WithPart {
    /// The first few in alphabetical order, as they are shown.
    pub keys: Vec<String>,
    /// How many there are besides.
    pub more: usize,
}

impl Suggestions {
    /// Looks for all of `asked`, in one pass over the names of each sort.
    pub fn find(index: &Index<'_>, asked: impl IntoIterator<Item = Asked>) -> Suggestions {
        let mut by_among: BTreeMap<Among, BTreeSet<String>> = BTreeMap::new();
        for asked in asked {
            by_among.entry(asked.among).or_default().insert(asked.name);
        }
        let mut out = Suggestions::default();
        for (among, names) in by_among {
            match among {
                Among::Keys(table) if index.schema.tables[table].is_by_use() => {
                    let in_use = names_in_use(index.view(), table, None).unwrap_or_default();
                    let in_use: Vec<&str> = in_use.iter().map(|own| own.name.as_str()).collect();
                    out.near_in(among, names, &in_use);
                }
                Among::Keys(table) => {
                    let keys: Vec<&str> = index.keys(table).map(|(_, key)| key).collect();
                    out.near_in(among, names, &keys);
                }
                Among::Values(table, rule) => {
                    let values = index.column_values(table, rule);
                    let values: Vec<&str> = values.iter().map(String::as_str).collect();
                    out.near_in(among, names, &values);
                }
                Among::Paths => {
                    let paths: Vec<&str> = index.paths().collect();
                    out.near_in(among, names, &paths);
                }
                Among::Part(table, part) => {
                    let mut found: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
                    for (_, key) in index.keys(table) {
                        let own = key.split(KEY_SEPARATOR).nth(part).filter(|own| names.contains(*own));
                        if let Some(own) = own {
                            found.entry(own).or_default().insert(key);
                        }
                    }
                    for (name, keys) in found {
                        let shown = keys.iter().take(MOST_WITH_PART).map(|key| shown_key(key)).collect();
                        let more = keys.len().saturating_sub(MOST_WITH_PART);
                        out.parts
                            .insert(Asked { among, name: name.to_owned() }, WithPart { keys: shown, more });
                    }
                }
            }
        }
        out
    }

    fn near_in(&mut self, among: Among, names: BTreeSet<String>, candidates: &[&str]) {
        let wanted: Vec<&str> = names.iter().map(String::as_str).collect();
        let found = nearest_of_each(&wanted, candidates);
        self.near.extend(names.into_iter().zip(found).map(|(name, near)| (Asked { among, name }, near)));
    }

    /// What is near to `name`.
    pub fn near(&self, among: Among, name: &str) -> Option<&Near> {
        self.near.get(&Asked { among, name: name.to_owned() })
    }

    /// The keys of which `name` is a part.
    pub fn with_part(&self, among: Among, name: &str) -> Option<&WithPart> {
        self.parts.get(&Asked { among, name: name.to_owned() })
    }
}
