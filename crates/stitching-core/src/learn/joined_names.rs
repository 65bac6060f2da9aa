//! Columns whose values hold both parts of a key, `north.g1`, or a kind and a name, `crew:tow`, in one text.

use super::links::ValuePlaces;
use super::names::{agreement, plain_name};
use super::profile::{ValueCount, texts_of};
use super::proposal::{Band, Proposal, Topic};
use super::siblings::each_record;
use super::targets::{Leads, Targets};
use super::{Studied, Study};
use crate::schema::keys;
use crate::settings::{toml_key, toml_text};
use crate::tables::{KEY_SEPARATOR, key_hash};
use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// The signs that may stand between the two, the longer ones first.
const SIGNS: [&str; 7] = ["::", ":", ".", "/", "|", "-", "_"];
/// What may separate several of them in one value.
const LISTS: [Option<&str>; 3] = [None, Some(","), Some(";")];
/// So many of the different values of a column are tried before all of it is read.
const TRIED: usize = 64;
/// Fewer different ones may fit by chance.
const LEAST: usize = 5;
/// With that many no more are needed to be sure.
const SURE: usize = 10;
/// More kinds are none.
const MOST_KINDS: usize = 12;

/// How a value is taken apart.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Shape {
    list: Option<&'static str>,
    sign: &'static str,
}

/// What the two parts of a value are.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Meaning {
    /// The parts of the key of the table at this position.
    Key(usize),
    /// A kind, and the key of a record of the table that is meant by it: its position, by the kind.
    Kinds(BTreeMap<String, usize>),
}

/// A column with two names in each value.
struct Joined {
    field: usize,
    shape: Shape,
    meaning: Meaning,
}

/// What is counted of a column.
#[derive(Default)]
struct Tally {
    values: u64,
    fit: u64,
    different: HashSet<u64>,
    left: Vec<(String, ValueCount)>,
}

/// A table whose key has two parts, with its keys.
struct Pairs {
    table: usize,
    keys: HashSet<u64>,
}

impl Shape {
    /// The two parts of each item of `value`; `None` if one of them has not two.
    fn pairs<'v>(&self, value: &'v str) -> Option<Vec<(&'v str, &'v str)>> {
        let items: Vec<&str> = match self.list {
            Some(list) => value.split(list).map(str::trim).filter(|item| !item.is_empty()).collect(),
            None => vec![value],
        };
        let pair = |item: &&'v str| {
            let (first, second) = item.split_once(self.sign)?;
            (!first.is_empty() && !second.is_empty()).then_some((first, second))
        };
        items.iter().map(pair).collect()
    }
}

impl Study<'_> {
    /// The columns whose values hold both parts of a key or a kind and a name; those of which `links` are sure are left alone.
    ///
    /// Cost: a look at some values of each column; of those that seem to be such, and of the tables with keys of two parts, a
    /// pass over the files.
    pub(super) fn joined_names(
        &self,
        targets: &Targets,
        links: &[Proposal],
        places: &ValuePlaces<'_>,
    ) -> Vec<Proposal> {
        let pairs = OnceCell::new();
        let mut out = Vec::new();
        for (table, own) in self.studied.iter().enumerate() {
            let is_sure = |name: &String| {
                let of_field =
                    |link: &&Proposal| link.table == own.table.name && link.field.as_ref() == Some(name);
                links.iter().filter(of_field).any(|link| link.band == Band::Accept)
            };
            let is_free = |field: &&usize| {
                let name = &own.table.fields[**field].name;
                let profile = &self.counts[table].columns[**field];
                let is_text = !profile.is_numeric() && profile.prose * 2 < profile.values.max(1);
                is_text && profile.distinct.len() >= LEAST && !own.key.parts.contains(name) && !is_sure(name)
            };
            let meant = |field: &usize| {
                let (shape, meaning) = self.meaning_of(table, *field, targets, &pairs)?;
                Some(Joined { field: *field, shape, meaning })
            };
            let found: Vec<Joined> = own.open.iter().filter(is_free).filter_map(meant).collect();
            if found.is_empty() {
                continue;
            }
            let tallies = self.tally_of(own, &found, targets, &pairs);
            for (column, tally) in found.iter().zip(tallies) {
                out.extend(self.joined(table, column, &tally, targets, places));
            }
        }
        out
    }

    /// The tables whose keys consist of two fields.
    fn pairs(&self) -> Vec<Pairs> {
        let pair = |(table, own): (usize, &Studied)| {
            let [first, second] = own.key.parts.as_slice() else { return None };
            let fields = [own.table.field(first)?, own.table.field(second)?];
            let mut keys = HashSet::new();
            each_record(self.stack, &own.table, &own.files, &fields, &mut |_, values| {
                if let [Some(first), Some(second)] = values {
                    keys.insert(joined_hash(&first.text, &second.text));
                }
            });
            Some(Pairs { table, keys })
        };
        self.studied.iter().enumerate().filter_map(pair).collect()
    }

    /// What some values of a column seem to be.
    fn meaning_of(
        &self,
        table: usize,
        field: usize,
        targets: &Targets,
        pairs: &OnceCell<Vec<Pairs>>,
    ) -> Option<(Shape, Meaning)> {
        let profile = &self.counts[table].columns[field];
        let mut seen: Vec<ValueCount> = profile.distinct.values().copied().collect();
        seen.sort_by_key(|seen| (seen.file, seen.cell.span.start));
        seen.truncate(TRIED);
        let texts = texts_of(self.stack, &seen);
        for sign in SIGNS {
            for list in LISTS {
                let shape = Shape { list, sign };
                let apart: Vec<_> = texts.iter().filter_map(|text| shape.pairs(text)).collect();
                if apart.len() * 10 < texts.len() * 9 {
                    continue;
                }
                let all: Vec<(&str, &str)> = apart.into_iter().flatten().collect();
                let different: BTreeSet<&(&str, &str)> = all.iter().collect();
                if different.len() < LEAST {
                    continue;
                }
                let of_pairs = pairs.get_or_init(|| self.pairs()).iter().filter(|own| own.table != table);
                let fit =
                    |own: &&Pairs| all.iter().filter(|(a, b)| own.keys.contains(&joined_hash(a, b))).count();
                let best = of_pairs.map(|own| (fit(&own), own.table)).max();
                if let Some((_, owner)) = best.filter(|(fit, _)| fit * 100 >= all.len() * 95) {
                    return Some((shape, Meaning::Key(owner)));
                }
                if let Some(kinds) = kinds_of(&all, targets) {
                    return Some((shape, Meaning::Kinds(kinds)));
                }
            }
        }
        None
    }

    /// What all values of the columns are.
    fn tally_of(
        &self,
        own: &Studied,
        found: &[Joined],
        targets: &Targets,
        pairs: &OnceCell<Vec<Pairs>>,
    ) -> Vec<Tally> {
        let mut tallies: Vec<Tally> = found.iter().map(|_| Tally::default()).collect();
        let fields: Vec<usize> = found.iter().map(|own| own.field).collect();
        each_record(self.stack, &own.table, &own.files, &fields, &mut |_, values| {
            for ((tally, column), value) in tallies.iter_mut().zip(found).zip(values) {
                let Some(value) = value.as_ref().filter(|value| !value.text.is_empty()) else { continue };
                let leads = |(first, second): &(&str, &str)| match &column.meaning {
                    Meaning::Key(owner) => {
                        let mut of_pairs = pairs.get_or_init(|| self.pairs()).iter();
                        let own = of_pairs.find(|own| own.table == *owner);
                        own.is_some_and(|own| own.keys.contains(&joined_hash(first, second)))
                    }
                    Meaning::Kinds(kinds) => kinds
                        .get(*first)
                        .is_some_and(|target| targets.of(key_hash(second, false)).any(|own| own == *target)),
                };
                let parts = column.shape.pairs(&value.text).unwrap_or_else(|| vec![("", "")]);
                for part in &parts {
                    tally.values += 1;
                    if leads(part) {
                        tally.fit += 1;
                        tally.different.insert(joined_hash(part.0, part.1));
                    } else if tally.left.len() < 5 {
                        tally.left.push((value.text.clone(), value.seen));
                    }
                }
            }
        });
        tallies
    }

    /// What is proposed of a column, if nearly all of its values fit.
    fn joined(
        &self,
        table: usize,
        column: &Joined,
        tally: &Tally,
        targets: &Targets,
        places: &ValuePlaces<'_>,
    ) -> Option<Proposal> {
        if tally.different.len() < LEAST || tally.fit * 100 < tally.values * 95 {
            return None;
        }
        let own = &self.studied[table];
        let Joined { field, shape, meaning } = column;
        let name = &own.table.fields[*field].name;
        let (says, parts, needs) = match meaning {
            Meaning::Key(owner) => {
                let owner = &self.studied[*owner];
                let [first, second] = owner.key.parts.as_slice() else { return None };
                let (first, second) = (part_name(first, "within"), part_name(second, "what"));
                let rule = format!(
                    "{{ ref = {}, with = [{}, \"{{}}\"] }}",
                    toml_text(&owner.table.name),
                    toml_text(&first)
                );
                let says = format!("holds both parts of a key of {}", owner.table.name);
                (says, [(first, None), (second, Some(rule))], vec![owner.table.name.clone()])
            }
            Meaning::Kinds(kinds) => {
                let target = |target: &usize| targets.list[*target].name.clone();
                let case = |(kind, own): (&String, &usize)| {
                    format!("{} = {}", toml_key(kind), toml_text(&target(own)))
                };
                let cases: Vec<String> = kinds.iter().map(case).collect();
                let choice: Vec<String> = kinds.keys().map(|kind| toml_text(kind)).collect();
                let tables: BTreeSet<String> = kinds.values().map(target).collect();
                let tables: Vec<String> = tables.into_iter().collect();
                let says = format!("holds a kind and a name: of {}", tables.join(", "));
                let rule = format!("{{ ref = {{ {} }}, by = \"kind\" }}", cases.join(", "));
                let kind = format!("{{ choice = [{}] }}", choice.join(", "));
                (says, [("kind".to_owned(), Some(kind)), ("name".to_owned(), Some(rule))], tables)
            }
        };
        let [(first, _), (second, _)] = &parts;
        if first == second {
            return None;
        }
        let template = format!("{{{first}}}{}{{{second}}}", shape.sign);
        let mut settings = vec![("parts".to_owned(), toml_text(&template))];
        settings.extend(shape.list.map(|list| ("list".to_owned(), toml_text(list))));
        settings.extend(parts.iter().filter_map(|(name, rule)| Some((name.clone(), rule.clone()?))));
        let left = tally.left.iter().filter_map(|(text, seen)| places.exception(text, seen, None));
        let is_sure = tally.fit == tally.values && tally.different.len() >= SURE;
        Some(Proposal {
            band: if is_sure { Band::Accept } else { Band::Ask },
            topic: Topic::Link,
            says,
            needs,
            settings,
            values: tally.values,
            fit: tally.fit,
            exceptions: left.collect(),
            ..Self::question(own, name, &self.counts[table].columns[*field], "", "parts")
        })
    }
}

/// Which table each kind means, if the first parts of `all` are kinds and the second keys of tables; each once of at least two.
fn kinds_of(all: &[(&str, &str)], targets: &Targets) -> Option<BTreeMap<String, usize>> {
    let mut names: BTreeMap<&str, BTreeSet<&str>> = BTreeMap::new();
    for (kind, name) in all {
        names.entry(kind).or_default().insert(name);
    }
    if !(2..=MOST_KINDS).contains(&names.len()) {
        return None;
    }
    let mut kinds = BTreeMap::new();
    for (kind, names) in names {
        let mut hits: BTreeMap<usize, usize> = BTreeMap::new();
        for name in &names {
            let own: BTreeSet<usize> = targets.of(key_hash(name, false)).collect();
            own.into_iter().for_each(|target| *hits.entry(target).or_default() += 1);
        }
        let is_record = |target: &usize| matches!(targets.list[*target].leads, Leads::Record(_));
        let best = hits.into_iter().filter(|(target, _)| is_record(target)).max_by_key(|(target, hits)| {
            (*hits, agreement(kind, &targets.list[*target].name), usize::MAX - *target)
        });
        let (target, hits) = best?;
        let is_named = agreement(kind, &targets.list[target].name) == 2;
        if hits * 100 < names.len() * 95 || (names.len() < 2 && !is_named) {
            return None;
        }
        kinds.insert(kind.to_owned(), target);
    }
    let tables: BTreeSet<usize> = kinds.values().copied().collect();
    (tables.len() >= 2).then_some(kinds)
}

/// The hash of a key of these two parts.
fn joined_hash(first: &str, second: &str) -> u64 {
    key_hash(&format!("{first}{KEY_SEPARATOR}{second}"), false)
}

/// A name for a part of a value that holds what the field `name` of another table does; `other` if that means something else
/// in the description of a field.
pub(super) fn part_name(name: &str, other: &str) -> String {
    let plain = plain_name(name);
    // Settings of a field stand beside its parts.
    let is_setting = |own: &str| keys::FIELD.iter().chain(keys::RULE).any(|setting| setting.name == own);
    if plain.is_empty() || is_setting(&plain) { other.to_owned() } else { plain }
}
