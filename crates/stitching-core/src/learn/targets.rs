//! What can be pointed to: the keys of tables, texts, files.

use super::keys::STEM;
use super::names;
use super::profile::Profile;
use super::references::{self, Source};
use super::{Studied, Study};
use crate::tables::{ByHash, key_hash};
use hashbrown::hash_map::Entry;
use std::collections::{BTreeMap, BTreeSet};

/// Where a value can lead.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Leads {
    /// To the records of the table at this position, by their key.
    Record(usize),
    /// To the records of the table at this position, by another column that tells them apart.
    Column(usize),
    /// To a text.
    Text,
    /// To a file, whose path this template makes of the value.
    File(String),
}

/// A set of values that others can point to.
#[derive(Debug, Clone)]
pub(super) struct Target {
    pub leads: Leads,
    /// The name of the table, or what else there is.
    pub name: String,
    /// The column that holds the keys.
    pub column: String,
    /// How many values there are.
    pub keys: usize,
    /// Whether they are numbers that follow one another closely, as they would by themselves.
    pub dense: bool,
    /// Whether most of them have letters.
    pub lettered: bool,
}

/// All values that can be pointed to: for each its targets.
#[derive(Debug, Default)]
pub(super) struct Targets {
    pub list: Vec<Target>,
    /// For each value a target, and where in the chain the next one is.
    first: ByHash<Link>,
    chain: Vec<Link>,
}

/// A target, and the position of the next one for the same value.
type Link = (u32, u32);

const END: u32 = u32::MAX;

impl Targets {
    /// Adds a target with its values, each given once.
    pub fn add(&mut self, target: Target, values: impl Iterator<Item = u64>) {
        let id = self.list.len() as u32;
        self.first.reserve(values.size_hint().0);
        self.list.push(target);
        for value in values {
            match self.first.entry(value) {
                Entry::Vacant(entry) => {
                    entry.insert((id, END));
                }
                Entry::Occupied(mut entry) => {
                    self.chain.push(*entry.get());
                    entry.insert((id, self.chain.len() as u32 - 1));
                }
            }
        }
    }

    /// The targets that have `value`.
    pub fn of(&self, value: u64) -> impl Iterator<Item = usize> + '_ {
        let mut link = self.first.get(&value).copied();
        std::iter::from_fn(move || {
            let (target, next) = link?;
            link = self.chain.get(next as usize).copied();
            Some(target as usize)
        })
    }
}

impl Target {
    /// What it is called in output.
    pub fn shown(&self) -> String {
        match &self.leads {
            Leads::Record(_) => self.name.clone(),
            Leads::Column(_) => format!("{}.{}", self.name, self.column),
            Leads::Text => "texts".to_owned(),
            Leads::File(template) => template.clone(),
        }
    }
}

/// Whether so many different numbers between these follow one another closely from about 0 on.
fn is_dense(low: f64, high: f64, count: usize) -> bool {
    (high - low + 1.0) < count as f64 * 3.0 && low.abs() < 100.0
}

impl Study<'_> {
    /// What can be pointed to: keys of one part, other columns that tell records apart, texts, files.
    pub(super) fn targets(&self) -> Targets {
        let mut targets = Targets::default();
        let mut texts: BTreeSet<u64> = BTreeSet::new();
        for (at, own) in self.studied.iter().enumerate() {
            let [part] = own.key.parts.as_slice() else { continue };
            let is_texts = own.texts.is_some() || own.table.texts.is_some();
            let counts = &self.counts[at];
            let (mut values, numbers, lettered): (Vec<u64>, Option<(f64, f64)>, bool) =
                match own.table.field(part) {
                    Some(field) => {
                        let profile = &counts.columns[field];
                        let range = (profile.numbers > 0).then_some((profile.lowest, profile.highest));
                        (profile.distinct.keys().copied().collect(), range, !profile.is_numeric())
                    }
                    None if *part == own.file_part().name => {
                        let named = own.file_part();
                        let stems = own
                            .files
                            .iter()
                            .map(|file| key_hash(named.text(&self.stack.files()[*file].path), false));
                        let stems: BTreeSet<u64> = stems.collect();
                        (stems.into_iter().collect(), None, true)
                    }
                    None => continue,
                };
            let known: BTreeSet<u64> =
                if self.above[at].is_empty() { BTreeSet::new() } else { values.iter().copied().collect() };
            values.extend(self.above[at].iter().filter(|value| !known.contains(value)));
            if is_texts {
                texts.extend(values);
                continue;
            }
            let keys = values.len();
            let dense = !lettered && numbers.is_some_and(|(low, high)| is_dense(low, high, keys));
            let (name, column) = (own.table.name.clone(), part.clone());
            let target = Target { leads: Leads::Record(at), name, column, keys, dense, lettered };
            targets.add(target, values.into_iter());
        }
        if !texts.is_empty() {
            let target = Target {
                leads: Leads::Text,
                name: "text".to_owned(),
                column: "text".to_owned(),
                keys: texts.len(),
                dense: false,
                lettered: true,
            };
            targets.add(target, texts.into_iter());
        }
        self.add_columns(&mut targets);
        self.add_files(&mut targets);
        targets
    }

    /// Columns beside the key that tell the records of their table apart: of words, or of numbers that the name says are
    /// identifiers, but not those that repeat keys, of their own table or another. Of large tables the values are not
    /// kept.
    fn add_columns(&self, targets: &mut Targets) {
        /// Fewer records may be told apart by any column.
        const LEAST: u64 = 5;
        let mut found: Vec<(Target, Vec<u64>)> = Vec::new();
        for (at, own) in self.studied.iter().enumerate() {
            let counts = &self.counts[at];
            if own.texts.is_some() || own.table.texts.is_some() || counts.records < LEAST {
                continue;
            }
            for (field, profile) in own.table.fields.iter().zip(&counts.columns) {
                let numeric = profile.is_numeric();
                let tells = profile.level == 0
                    && profile.is_unique(counts.records)
                    && profile.is_identifiers()
                    && profile.spaced * 3 < profile.values
                    && (!numeric || names::names_identifier(&field.name));
                if !tells || own.key.parts.contains(&field.name) {
                    continue;
                }
                let mut hits: BTreeMap<usize, usize> = BTreeMap::new();
                for value in profile.distinct.keys() {
                    targets.of(*value).for_each(|target| *hits.entry(target).or_default() += 1);
                }
                if hits.values().any(|hits| hits * 10 >= profile.distinct.len() * 9) {
                    continue;
                }
                let target = Target {
                    leads: Leads::Column(at),
                    name: own.table.name.clone(),
                    column: field.name.clone(),
                    keys: profile.distinct.len(),
                    dense: numeric && is_dense(profile.lowest, profile.highest, profile.distinct.len()),
                    lettered: !numeric,
                };
                found.push((target, profile.distinct.keys().copied().collect()));
            }
        }
        // Of two such columns that hold the same, the one that has more is referred to by the other.
        let mut of_value: BTreeMap<u64, Vec<usize>> = BTreeMap::new();
        for (at, (_, values)) in found.iter().enumerate() {
            values.iter().for_each(|value| of_value.entry(*value).or_default().push(at));
        }
        let repeats_another = |at: usize, values: &[u64]| {
            let mut shared: BTreeMap<usize, usize> = BTreeMap::new();
            values
                .iter()
                .flat_map(|value| &of_value[value])
                .for_each(|other| *shared.entry(*other).or_default() += 1);
            let has_more = |other: usize| (found[other].1.len(), at) > (values.len(), other);
            shared
                .iter()
                .any(|(other, shared)| *other != at && shared * 10 >= values.len() * 9 && has_more(*other))
        };
        let kept: Vec<bool> =
            found.iter().enumerate().map(|(at, own)| !repeats_another(at, &own.1)).collect();
        for ((target, values), _) in found.into_iter().zip(kept).filter(|(_, kept)| *kept) {
            targets.add(target, values.into_iter());
        }
    }

    /// Files that values can name: by their whole path, or by what the template of a folder leaves open.
    fn add_files(&self, targets: &mut Targets) {
        let mut sets: BTreeMap<String, BTreeSet<u64>> = BTreeMap::new();
        let top = self.stack.top();
        for file in self.stack.effective(top) {
            let path = self.stack.files()[file].path.as_str();
            sets.entry("{}".to_owned()).or_default().insert(key_hash(path, false));
            let ending = path
                .rsplit_once('/')
                .map_or(path, |(_, name)| name)
                .rsplit_once('.')
                .map(|(_, ending)| ending);
            let folders = path.match_indices('/').map(|(at, _)| at + 1).take(4);
            for start in folders {
                let (folder, rest) = path.split_at(start);
                sets.entry(format!("{folder}{{}}")).or_default().insert(key_hash(rest, false));
                if let Some(ending) = ending
                    && let Some(stem) = rest.strip_suffix(ending).and_then(|rest| rest.strip_suffix('.'))
                {
                    sets.entry(format!("{folder}{{}}.{ending}")).or_default().insert(key_hash(stem, false));
                }
            }
        }
        for (template, values) in sets {
            let folder = template.split("{}").next().unwrap_or_default().trim_end_matches('/');
            let name = folder.rsplit('/').next().unwrap_or_default().to_owned();
            let (keys, leads) = (values.len(), Leads::File(template.clone()));
            let target =
                Target { leads, name, column: "file".to_owned(), keys, dense: false, lettered: true };
            targets.add(target, values.into_iter());
        }
    }

    /// For each target whose own keys are those of another table, that one: its records add to those there.
    pub(super) fn owners(&self, targets: &Targets) -> BTreeMap<usize, usize> {
        let mut owners = BTreeMap::new();
        for (id, target) in targets.list.iter().enumerate() {
            let Leads::Record(table) = target.leads else { continue };
            let own = &self.studied[table];
            let stems;
            let profiles = match own.table.field(&target.column) {
                Some(field) => {
                    let whole = &self.counts[table].columns[field];
                    vec![self.thinned.get(&(table, field)).unwrap_or(whole)]
                }
                None => {
                    stems = self.stems(own);
                    vec![&stems]
                }
            };
            let is_file = own.table.field(&target.column).is_none();
            let asked: u64 = profiles.iter().map(|own| own.distinct.len() as u64).sum();
            let source = Source { table, name: target.column.clone(), profiles, is_key: true };
            let best = references::hits(&source, targets)
                .into_iter()
                .filter(|hits| hits.target != id && hits.distinct * 50 >= asked * 49)
                .filter(|hits| matches!(targets.list[hits.target].leads, Leads::Record(_)))
                .filter(|hits| {
                    let other = &targets.list[hits.target];
                    if is_file {
                        // A file named after a record adds to it.
                        return other.column != STEM;
                    }
                    if other.column == STEM {
                        return false;
                    }
                    let named = names::agreement(&target.column, &other.name);
                    let own_named = names::agreement(&target.column, &target.name);
                    // Of two tables with the same keys one may be called as its key is.
                    let names_itself = names::agreement(&other.column, &other.name) > own_named;
                    let is_larger = other.keys > target.keys || (other.keys == target.keys && names_itself);
                    named > own_named || (named == own_named && is_larger)
                })
                .max_by_key(|hits| {
                    (
                        names::agreement(&target.column, &targets.list[hits.target].name),
                        targets.list[hits.target].keys,
                    )
                });
            if let Some(best) = best {
                owners.insert(id, best.target);
            }
        }
        owners
    }

    /// The names of a table's files as values.
    fn stems(&self, own: &Studied) -> Profile {
        let mut profile = Profile::default();
        for file in &own.files {
            profile.add_stem(self.stack.files()[*file].path.stem(), *file);
        }
        profile
    }
}
