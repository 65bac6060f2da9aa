//! What values point to: which columns hold the keys of which tables.
//!
//! Most inclusions are coincidences, so that coverage alone says little. What counts, most useful first:
//! whether the values look like identifiers; whether names agree; whether all exceptions are explained (a
//! recurring one stands for "nothing", one close to a key is misspelt); and how many other tables hold the
//! same values.

use super::checked_values::CheckedCounts;
use super::names::agreement;
use super::profile::{Profile, ValueCount};
use super::targets::{Leads, Targets};
use std::cmp::Reverse;
use std::collections::BTreeMap;

/// A column, or several equally named ones taken together, whose values may point somewhere.
#[derive(Debug, Clone)]
pub(super) struct Source<'p> {
    /// The position of its table.
    pub table: usize,
    /// Its name without a number.
    pub name: String,
    /// What it holds; for several columns, each.
    pub profiles: Vec<&'p Profile>,
    /// Whether it is the key of its table.
    pub is_key: bool,
}

impl Source<'_> {
    /// Whether the column called `name` of its table is among its columns.
    fn is_column(&self, name: &str) -> bool {
        name == self.name || super::interpretations::family(name) == self.name
    }
}

/// How far a target has the values of a source.
#[derive(Debug, Clone, Copy, Default)]
pub(super) struct Hits {
    pub target: usize,
    /// How many values, counted as often as they are there.
    pub values: u64,
    /// How many different ones.
    pub distinct: u64,
}

/// What was found of a source before its exceptions were read.
#[derive(Debug, Clone)]
pub(super) struct Suspicion {
    /// How the best target does.
    pub best: Hits,
    /// Others that do about as well, best first.
    pub rivals: Vec<Hits>,
    /// Others that have the values which the best lacks, each with how many it adds.
    pub besides: Vec<Hits>,
    /// How many values there are, and how many different ones.
    pub values: u64,
    pub distinct: u64,
    /// About how many different ones resolve, if not all were kept.
    pub about: u64,
    /// The values that do not resolve, the most frequent first; cut if they are many.
    pub left: Vec<ValueCount>,
}

impl Suspicion {
    /// The same with what a check of all values gave, if there was one.
    pub fn with(&self, checked: Option<CheckedCounts>) -> Suspicion {
        let mut own = self.clone();
        let Some(checked) = checked else { return own };
        let left = checked.left.len() as u64;
        (own.values, own.best.values) = (checked.values, checked.resolved);
        own.left = most_frequent(checked.left.into_values().collect());
        own.distinct = own.best.distinct + left;
        own
    }
}

/// The most frequent of `left`, in an order that is always the same.
fn most_frequent(mut left: Vec<ValueCount>) -> Vec<ValueCount> {
    left.sort_by_key(|seen| (Reverse(seen.count), seen.file, seen.cell.span.start));
    left.truncate(EXCEPTIONS);
    left
}

/// So many exceptions are looked at.
pub(super) const EXCEPTIONS: usize = 24;

/// For each of `sources` the target that it most likely points to. `owners` tells for a target the one that
/// its own keys point to, if they do.
pub(super) fn suspicions(
    sources: &[Source<'_>],
    targets: &Targets,
    owners: &BTreeMap<usize, usize>,
) -> Vec<Option<Suspicion>> {
    use rayon::prelude::*;
    sources.par_iter().map(|source| suspicion(source, targets, owners)).collect()
}

/// How each target does that has any of the values.
pub(super) fn hits(source: &Source<'_>, targets: &Targets) -> Vec<Hits> {
    let mut hits = vec![Hits::default(); targets.list.len()];
    for profile in &source.profiles {
        for (value, seen) in &profile.distinct {
            for target in targets.of(*value) {
                hits[target].values += u64::from(seen.count);
                hits[target].distinct += 1;
            }
        }
    }
    hits.iter_mut().enumerate().for_each(|(at, hits)| hits.target = at);
    hits.retain(|hits| hits.distinct > 0);
    hits
}

fn suspicion(source: &Source<'_>, targets: &Targets, owners: &BTreeMap<usize, usize>) -> Option<Suspicion> {
    let mut hits = hits(source, targets);
    // A column that tells records apart does not point to itself, nor to another of its table that does: that is the same record.
    let tells_apart = source.profiles.iter().all(|profile| profile.different() == profile.values);
    hits.retain(|hits| {
        let target = &targets.list[hits.target];
        target.leads != Leads::Column(source.table) || !(tells_apart || source.is_column(&target.column))
    });
    if source.is_key {
        // A key is no reference to its own table, nor to one that adds to it.
        let is_own = |target: usize| {
            let leads = &targets.list[target].leads;
            *leads == Leads::Record(source.table) || *leads == Leads::Column(source.table)
        };
        let own = (0..targets.list.len()).find(|target| is_own(*target));
        hits.retain(|hits| {
            !is_own(hits.target) && own.is_none_or(|own| owners.get(&hits.target) != Some(&own))
        });
        if let Some(own) = own
            && !owners.contains_key(&own)
        {
            // Files named after its records do not make it a name of these files.
            hits.retain(|hits| !matches!(targets.list[hits.target].leads, Leads::File(_)));
        }
    }
    let distinct: u64 = source.profiles.iter().map(|profile| profile.distinct.len() as u64).sum();
    let values: u64 = source.profiles.iter().map(|profile| profile.kept()).sum();
    let most = hits.iter().map(|hits| hits.distinct).max()?;
    let besides = besides(source, targets, owners, &hits, distinct);
    if besides.is_empty()
        && most * 2 < distinct
        && !(hits.iter().any(|hits| hits.values * 2 >= values) && most >= 3)
    {
        return None;
    }
    // Those that explain about as much as the best.
    hits.retain(|hits| {
        hits.distinct * 20 >= most * 19
            || (hits.distinct * 10 >= most * 9 && agrees(source, targets, hits) == 2)
    });
    let all: Vec<usize> = hits.iter().map(|hits| hits.target).collect();
    let rank = |hits: &Hits| {
        let target = &targets.list[hits.target];
        let kind = match target.leads {
            Leads::Record(_) => 0,
            Leads::Column(_) => 1,
            Leads::Text => 2,
            Leads::File(_) => 3,
        };
        let depends = owners.get(&hits.target).is_some_and(|owner| all.contains(owner));
        let full_path = matches!(&target.leads, Leads::File(template) if template != "{}");
        (
            Reverse(agrees(source, targets, hits)),
            depends,
            Reverse(hits.distinct * 50 / most),
            kind,
            full_path,
            target.keys,
            hits.target,
        )
    };
    hits.sort_by_key(rank);
    let mut best = *hits.first()?;
    if let Some(first) = besides.first() {
        best = *first;
        hits.clear();
    }
    let resolves = |value: u64| {
        targets
            .of(value)
            .any(|target| target == best.target || besides.iter().any(|other| other.target == target))
    };
    let mut left: Vec<ValueCount> = Vec::new();
    for profile in &source.profiles {
        let unresolved = profile.distinct.iter().filter(|(value, _)| !resolves(**value));
        left.extend(unresolved.map(|(_, seen)| *seen));
    }
    best.values += besides.iter().skip(1).map(|other| other.values).sum::<u64>();
    best.distinct += besides.iter().skip(1).map(|other| other.distinct).sum::<u64>();
    let rivals = hits.iter().skip(1).copied().filter(|rival| owners.get(&rival.target) != Some(&best.target));
    Some(Suspicion {
        best,
        rivals: rivals.collect(),
        besides: besides.into_iter().skip(1).collect(),
        values,
        distinct,
        about: best.distinct << source.profiles.iter().map(|profile| profile.level).max().unwrap_or_default(),
        left: most_frequent(left),
    })
}

/// If no single target has nearly all values but a few together do: these, each with what it adds.
fn besides(
    source: &Source<'_>,
    targets: &Targets,
    owners: &BTreeMap<usize, usize>,
    hits: &[Hits],
    distinct: u64,
) -> Vec<Hits> {
    /// More tables than this are a coincidence.
    const MOST: usize = 4;
    /// A table that adds fewer values is too.
    const FEWEST: u64 = 3;
    let records = |hits: &&Hits| matches!(targets.list[hits.target].leads, Leads::Record(_));
    let numeric = source.profiles.iter().all(|profile| profile.is_numeric());
    let enough = |covered: u64| covered * 100 >= distinct.saturating_sub(1) * 97;
    if numeric || source.is_key || hits.iter().any(|hits| hits.distinct * 10 >= distinct * 8) {
        return Vec::new();
    }
    let mut chosen: Vec<Hits> = Vec::new();
    let mut covered = 0;
    while !enough(covered) && chosen.len() < MOST {
        let mut adds = vec![Hits::default(); targets.list.len()];
        for profile in &source.profiles {
            for (value, seen) in &profile.distinct {
                if targets.of(*value).any(|target| chosen.iter().any(|own| own.target == target)) {
                    continue;
                }
                for target in targets.of(*value) {
                    adds[target].values += u64::from(seen.count);
                    adds[target].distinct += 1;
                }
            }
        }
        let open =
            hits.iter().filter(records).filter(|hits| !chosen.iter().any(|own| own.target == hits.target));
        let best = open.max_by_key(|hits| {
            let target = &targets.list[hits.target];
            let adds_to_another = owners.contains_key(&hits.target);
            (adds[hits.target].distinct, !adds_to_another, Reverse(target.keys), Reverse(hits.target))
        });
        let Some(best) = best.filter(|hits| {
            adds[hits.target].distinct >= FEWEST && adds[hits.target].distinct * 10 >= distinct
        }) else {
            return Vec::new();
        };
        covered += adds[best.target].distinct;
        chosen.push(Hits { target: best.target, ..adds[best.target] });
    }
    if chosen.len() > 1 { chosen } else { Vec::new() }
}

/// How well the name of a source names a target: 0 to 2. A name such as `next` names its own table, a little.
pub(super) fn agrees(source: &Source<'_>, targets: &Targets, hits: &Hits) -> u8 {
    let target = &targets.list[hits.target];
    let by_table = agreement(&source.name, &target.name);
    let generic = super::names::stem_words(&target.column)
        .iter()
        .all(|word| word.len() < 3 || ["name", "key", "section", "member", "stem"].contains(&word.as_str()));
    let by_column = if generic { 0 } else { agreement(&source.name, &target.column) };
    let is_own = target.leads == Leads::Record(source.table);
    let by_relation = u8::from(is_own && super::names::names_relation(&source.name));
    by_table.max(by_column).max(by_relation)
}

/// What the values that do not resolve turned out to be.
#[derive(Debug, Clone, Default)]
pub(super) struct Exceptions {
    /// Values that stand for "nothing", with their counts.
    pub none: Vec<(String, u32)>,
    /// Values close to a key, and the key.
    pub misspelt: Vec<(String, ValueCount, String)>,
    /// All others.
    pub others: Vec<(String, ValueCount)>,
    /// How many values these are in all, those beyond the first ones included.
    pub unexplained: u64,
}

/// Words and signs that stand for "nothing" in many games' data.
const USUAL_NONE: [&str; 18] = [
    "-", "--", "0", "-1", "none", "null", "nil", "n/a", "na", "nothing", "no", "empty", "x", "*", "~", "?",
    "_", ".",
];
/// The highest numbers that a few bytes hold.
const HIGHEST: [&str; 6] = ["255", "127", "65535", "32767", "4294967295", "2147483647"];

/// Whether `text` is a sign or word that stands for "nothing" in many games' data.
pub(super) fn is_usual_none(text: &str) -> bool {
    USUAL_NONE.iter().any(|none| none.eq_ignore_ascii_case(text))
}

/// Tells what the exceptions of a suspicion are. `near` gives a key of the target close to a text.
pub(super) fn explain(
    suspicion: &Suspicion,
    texts: &[String],
    numeric: bool,
    near: &dyn Fn(&str) -> Option<String>,
) -> Exceptions {
    let mut out = Exceptions::default();
    let resolved = suspicion.best.values;
    let unresolved_values = suspicion.values - resolved;
    let shown: u64 = suspicion.left.iter().map(|seen| u64::from(seen.count)).sum();
    let most = suspicion.left.first().map_or(0, |seen| seen.count);
    for (seen, text) in suspicion.left.iter().zip(texts) {
        let usual =
            USUAL_NONE.iter().any(|none| none.eq_ignore_ascii_case(text)) || HIGHEST.contains(&text.as_str());
        // A value that stands out: it is there again and again, and nothing else is.
        let recurring = seen.count >= 3
            && u64::from(seen.count) * 50 >= suspicion.values
            && u64::from(seen.count) * 10 >= unresolved_values * 6
            && seen.count == most;
        let close = if usual || numeric || text.chars().count() < 4 { None } else { near(text) };
        // A key that is misspelt time and again is still misspelt, unless it is more frequent than the keys.
        let per_key = resolved / suspicion.best.distinct.max(1);
        match close {
            Some(key) if u64::from(seen.count) <= per_key.max(2) => {
                out.misspelt.push((text.clone(), *seen, key))
            }
            _ if usual && out.none.iter().any(|(none, _)| none == text) => {
                let own = out.none.iter_mut().find(|(none, _)| none == text);
                own.into_iter().for_each(|own| own.1 += seen.count);
            }
            _ if usual && out.none.len() < 2 => out.none.push((text.clone(), seen.count)),
            _ if recurring && out.none.is_empty() => out.none.push((text.clone(), seen.count)),
            _ => {
                out.unexplained += u64::from(seen.count);
                out.others.push((text.clone(), *seen));
            }
        }
    }
    out.unexplained += unresolved_values - shown.min(unresolved_values);
    out
}
