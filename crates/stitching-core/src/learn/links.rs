//! Where columns point, as proposals.

use super::Study;
use super::checked_values::{Checked, CheckedCounts, check_all};
use super::interpretations::{Way, splits};
use super::joined_names::part_name;
use super::names;
use super::profile::{ColumnRequest, Profile, SAMPLED, ValueCount, profile, texts_of};
use super::proposal::{Band, Exception, Proposal, Topic};
use super::references::{self, Exceptions, Source, Suspicion, explain, suspicions};
use super::targets::{Leads, Target, Targets};
use crate::layers::{FileId, Stack};
use crate::reading::{LoadedFile, load};
use crate::settings::toml_text;
use crate::text::nearest_of;
use hashbrown::HashMap;
use hashbrown::hash_map::Entry;
use std::cell::RefCell;

impl Study<'_> {
    /// Where columns point.
    pub(super) fn links(&self) -> Vec<Proposal> {
        let targets = self.targets();
        let whole = self.ways();
        let sources: Vec<Source<'_>> =
            whole.iter().map(|way| self.source(way, &self.counts[way.table].columns)).collect();
        let owners = self.owners(&targets);
        let found = suspicions(&sources, &targets, &owners);
        // Where the whole does not lead anywhere, the items of a list may.
        let mut parted: Vec<Way> = Vec::new();
        let mut unresolved: Vec<&Way> = Vec::new();
        for (way, (source, found)) in whole.iter().zip(sources.iter().zip(&found)) {
            let resolves = |share: u64| {
                found.as_ref().is_some_and(|found| found.best.distinct * 100 > found.distinct * share)
            };
            if source.is_key {
                continue;
            }
            // Some may have a mark that keeps just them from leading anywhere.
            if !resolves(90) {
                unresolved.push(way);
            }
            if !resolves(50) {
                let ways = splits(source);
                parted.extend(ways.into_iter().map(|split| Way {
                    split,
                    fields: way.fields.clone(),
                    table: way.table,
                }));
            }
        }
        parted.extend(self.decorated(&unresolved));
        self.retain_promising(&mut parted, &targets);
        let wanted: Vec<ColumnRequest> = parted
            .iter()
            .flat_map(|way| {
                way.fields.iter().map(|field| ColumnRequest {
                    table: way.table,
                    field: *field,
                    split: way.split,
                    limit: SAMPLED,
                })
            })
            .collect();
        let parted_counts = profile(self.stack, self.tables, self.files, &wanted);
        let of_way = |way: &Way| -> Vec<&Profile> {
            let own = wanted.iter().filter(|wanted| wanted.table == way.table).enumerate();
            let own =
                own.filter(|(_, wanted)| wanted.split == way.split && way.fields.contains(&wanted.field));
            own.map(|(at, _)| &parted_counts[way.table].columns[at]).collect()
        };
        let parted_sources: Vec<Source<'_>> = parted
            .iter()
            .map(|way| Source { profiles: of_way(way), ..self.source(way, &self.counts[way.table].columns) })
            .collect();
        let parted_found = suspicions(&parted_sources, &targets, &owners);
        // Of several ways to take a value, the one that explains most counts, and of two that do alike the first.
        let mut all: Vec<(&Way, &Source<'_>, &Suspicion)> = Vec::new();
        let mut of_field: HashMap<(usize, &[usize]), usize> = HashMap::new();
        let taken = whole
            .iter()
            .zip(&sources)
            .zip(&found)
            .chain(parted.iter().zip(&parted_sources).zip(&parted_found));
        for ((way, source), found) in taken {
            let Some(found) = found else { continue };
            // Where all lead somewhere, more of them explain more: the items of a list, and not only the first.
            let rank =
                |found: &Suspicion| (found.best.distinct * 1000 / found.distinct.max(1), found.best.values);
            match of_field.entry((way.table, &way.fields)) {
                Entry::Vacant(entry) => {
                    entry.insert(all.len());
                    all.push((way, source, found));
                }
                Entry::Occupied(entry) if rank(found) > rank(all[*entry.get()].2) => {
                    all[*entry.get()] = (way, source, found);
                }
                Entry::Occupied(_) => {}
            }
        }
        let conditional = self.conditional(whole.iter().zip(&sources).zip(&found), &targets);
        let is_told = |way: &Way| {
            let mut told = conditional.iter().map(|own| (&own.table, own.field.as_ref()));
            let own = &self.studied[way.table].table;
            told.any(|(table, field)| {
                *table == own.name && field == way.fields.first().map(|at| &own.fields[*at].name)
            })
        };
        all.retain(|(way, ..)| !is_told(way));
        let checked = self.checked(&all, &targets);
        let all: Vec<(&Way, &Source<'_>, Suspicion)> = all
            .into_iter()
            .zip(checked)
            .map(|((way, source, found), checked)| (way, source, found.with(checked)))
            .collect();
        let left: Vec<ValueCount> = all.iter().flat_map(|(_, _, found)| found.left.iter().copied()).collect();
        let texts = texts_of(self.stack, &left);
        let near = Near { study: self, targets: &targets, indexes: RefCell::default() };
        let places = ValuePlaces::new(self.stack);
        let mut start = 0;
        let mut out = Vec::new();
        for (way, source, found) in &all {
            let own = &texts[start..start + found.left.len()];
            start += found.left.len();
            let numeric = source.profiles.iter().all(|profile| profile.is_numeric());
            let exceptions = explain(found, own, numeric, &|text| near.to(found.best.target, text));
            out.extend(self.link(way, source, found, &exceptions, &targets, &places));
        }
        out.extend(conditional);
        let composite = self.composite(&out, &places);
        out.retain(|own| !composite.iter().any(|new| new.table == own.table && new.field == own.field));
        out.extend(composite);
        let joined = self.joined_names(&targets, &out, &places);
        out.retain(|own| !joined.iter().any(|new| new.table == own.table && new.field == own.field));
        out.extend(joined);
        out.extend(self.companions(&targets, &out, &places));
        out.extend(self.path_links(&targets, &out, &places));
        out
    }

    /// Checks all values of what seems to point somewhere, where only some of them were kept.
    fn checked(
        &self,
        all: &[(&Way, &Source<'_>, &Suspicion)],
        targets: &Targets,
    ) -> Vec<Option<CheckedCounts>> {
        let sampled = |(_, source, _): &&(&Way, &Source<'_>, &Suspicion)| {
            source.profiles.iter().any(|own| own.level > 0)
        };
        let checks: Vec<Checked<'_>> = all
            .iter()
            .filter(sampled)
            .map(|(way, _, found)| {
                let ids: Vec<usize> = std::iter::once(found.best.target)
                    .chain(found.besides.iter().map(|own| own.target))
                    .collect();
                let wanted = way.fields.iter().map(|field| ColumnRequest {
                    table: way.table,
                    field: *field,
                    split: way.split,
                    limit: SAMPLED,
                });
                Checked {
                    wanted: wanted.collect(),
                    resolves: Box::new(move |hash| targets.of(hash).any(|target| ids.contains(&target))),
                }
            })
            .collect();
        let mut counts = check_all(self.stack, self.tables, self.files, &checks).into_iter();
        all.iter().map(|own| if sampled(&own) { counts.next() } else { None }).collect()
    }

    /// A suspicion as a proposal for each of its fields.
    fn link(
        &self,
        way: &Way,
        source: &Source<'_>,
        found: &Suspicion,
        exceptions: &Exceptions,
        targets: &Targets,
        places: &ValuePlaces<'_>,
    ) -> Vec<Proposal> {
        let own = &self.studied[way.table];
        let target = &targets.list[found.best.target];
        let none: u64 = exceptions.none.iter().map(|(_, count)| u64::from(*count)).sum();
        let values = found.values - none.min(found.values);
        let distinct = found.best.distinct;
        let fit = found.best.values;
        if values == 0 || distinct == 0 {
            return Vec::new();
        }
        let named = references::agrees(source, targets, &found.best);
        let misspelt: u64 = exceptions.misspelt.iter().map(|(_, seen, _)| u64::from(seen.count)).sum();
        let explained = (fit + misspelt.min(values / 20 + 1)) as f64 / values as f64;
        let numeric = source.profiles.iter().all(|profile| profile.is_numeric());
        let is_file = matches!(target.leads, Leads::File(_));
        // A file's name loses to a declared key; and to a key loses what else tells records apart, and a text of the same
        // name, unless the column's name speaks of it.
        let counts = |rival: &&references::Hits| match targets.list[rival.target].leads {
            Leads::Record(_) => true,
            Leads::Column(_) | Leads::Text => {
                !matches!(target.leads, Leads::Record(_)) || references::agrees(source, targets, rival) > 0
            }
            Leads::File(_) => is_file,
        };
        let as_good: Vec<&references::Hits> = found
            .rivals
            .iter()
            .filter(|rival| references::agrees(source, targets, rival) >= named)
            .filter(counts)
            .collect();
        let mut reasons = Vec::new();
        match named {
            2 => reasons.push(format!("the name says `{}`", target.name)),
            1 if target.leads == Leads::Record(way.table) && names::names_relation(&source.name) => {
                reasons.push("the name speaks of another of its kind".to_owned());
            }
            1 => reasons.push(format!("the name shares a word with `{}`", target.name)),
            _ => {}
        }
        if numeric {
            reasons.push("the values are numbers, which fit by chance more often".to_owned());
        }
        let band = if numeric {
            let rare = !target.dense && !target.lettered;
            // A column that is called as the key there, and not just `id`, is meant to hold it.
            let last = source.name.rsplit(['/', '.', '@']).next().unwrap_or(&source.name);
            let called_as_key = last.eq_ignore_ascii_case(&target.column)
                && names::agreement(&target.column, &target.name) == 2
                && matches!(target.leads, Leads::Record(table) if table != way.table);
            match (named, explained > 0.98, rare) {
                (2, true, _) if called_as_key && fit == values && distinct >= 3 => Band::Accept,
                (2, true, true) if distinct >= 3 => Band::Accept,
                (2, true, false) if distinct >= 3 && distinct as usize * 2 >= target.keys => Band::Ask,
                (1.., true, _) if distinct >= 2 => Band::Ask,
                (0, true, true) if distinct >= 10 && as_good.is_empty() && fit == values => Band::Ask,
                _ => Band::Hidden,
            }
        } else {
            // Values that lead nowhere, spread over many, are no slips.
            let few_others = exceptions.others.len() <= 2;
            let enough = match named {
                2 => distinct >= 2 || (distinct == 1 && target.keys <= 3),
                1 => distinct >= 3,
                // A whole path is there by no chance.
                _ if target.leads == Leads::File("{}".to_owned()) => distinct >= 3,
                _ => distinct >= 4 && !is_file || distinct >= 6,
            };
            match () {
                () if explained >= 0.97 && enough && as_good.is_empty() && few_others => Band::Accept,
                () if explained >= 0.97 && enough && named == 2 && as_good.len() < 2 => Band::Ask,
                () if explained >= 0.85 && (named > 0 || distinct >= 3) => Band::Ask,
                () if explained >= 0.97 && distinct >= 2 => Band::Ask,
                () => Band::Hidden,
            }
        };
        // A key that happens to be one of another table's is a reference if its name says so, or if all are.
        let adds = fit == values && distinct >= 10 && as_good.is_empty() && !numeric;
        let by_chance = source.is_key && named < 2 && !adds;
        let band = match band {
            Band::Accept if by_chance || !found.besides.is_empty() => Band::Ask,
            band => band,
        };
        let mut settings: Vec<(String, String)> = Vec::new();
        let (what, link): (String, Vec<(String, String)>) = match &target.leads {
            Leads::Record(_) if !found.besides.is_empty() => {
                let names = std::iter::once(&found.best)
                    .chain(&found.besides)
                    .map(|hits| targets.list[hits.target].name.as_str());
                let names: Vec<&str> = names.collect();
                let shown: Vec<String> = names.iter().map(|name| toml_text(name)).collect();
                (
                    format!("points to one of {}", names.join(", ")),
                    vec![("ref".to_owned(), format!("[{}]", shown.join(", ")))],
                )
            }
            Leads::Record(_) if source.is_key && fit == values && target.keys as u64 == values => (
                format!("names the same records as {}, one to one", target.name),
                vec![("ref".to_owned(), toml_text(&target.name))],
            ),
            Leads::Record(_) | Leads::Column(_) => {
                let shown = target.shown();
                (format!("points to {shown}"), vec![("ref".to_owned(), toml_text(&shown))])
            }
            Leads::Text => ("is a text key".to_owned(), vec![("text".to_owned(), "true".to_owned())]),
            Leads::File(template) => {
                (format!("names a file {template}"), vec![("file".to_owned(), toml_text(template))])
            }
        };
        if let Some(list) = way.split.list {
            settings.push(("list".to_owned(), toml_text(&list.to_string())));
            if way.split.counted {
                settings.push(("counted".to_owned(), "true".to_owned()));
            }
        }
        match way.split.part {
            None if way.split.around.is_some() => {
                let name = part_name(&names::stem_words(&target.name).join("_"), "named");
                let (before, behind) = way.split.around.unwrap_or_default();
                let shape = match way.split.may_lack {
                    true => format!("[{}]{{{name}}}", before.text()),
                    false => format!("{}{{{name}}}{}", before.text(), behind.text()),
                };
                settings.push(("parts".to_owned(), toml_text(&shape)));
                let inside: Vec<String> =
                    link.iter().map(|(name, value)| format!("{name} = {value}")).collect();
                settings.push((name, format!("{{ {} }}", inside.join(", "))));
            }
            None => settings.extend(link),
            Some((sign, part)) => {
                let name = part_name(&names::stem_words(&target.name).join("_"), "named");
                let shape = if part == 0 {
                    format!("{{{name}}}{sign}{{amount}}")
                } else {
                    format!("{{what}}{sign}{{{name}}}")
                };
                settings.push(("parts".to_owned(), toml_text(&shape)));
                let inside: Vec<String> =
                    link.iter().map(|(name, value)| format!("{name} = {value}")).collect();
                settings.push((name, format!("{{ {} }}", inside.join(", "))));
            }
        }
        match exceptions.none.as_slice() {
            [] => {}
            [(one, _)] => settings.push(("none".to_owned(), toml_text(one))),
            many => {
                let many: Vec<String> = many.iter().map(|(none, _)| toml_text(none)).collect();
                settings.push(("none".to_owned(), format!("[{}]", many.join(", "))));
            }
        }
        let mut shown: Vec<Exception> = Vec::new();
        for (text, seen, near) in exceptions.misspelt.iter().take(5) {
            shown.extend(places.exception(text, seen, Some(near.clone())));
        }
        for (text, seen) in exceptions.others.iter().take(5) {
            shown.extend(places.exception(text, seen, None));
        }
        let rival = |hits: &references::Hits| targets.list[hits.target].shown();
        let list = if way.split.list.is_some() { "each item " } else { "" };
        let ids = std::iter::once(&found.best).chain(&found.besides);
        let records = ids
            .map(|hits| &targets.list[hits.target])
            .filter(|target| matches!(target.leads, Leads::Record(_) | Leads::Column(_)));
        let column = |target: &Target| matches!(target.leads, Leads::Column(_)).then(|| target.shown());
        let needs: Vec<String> =
            records.flat_map(|target| std::iter::once(target.name.clone()).chain(column(target))).collect();
        let one = |field: &usize| Proposal {
            band,
            topic: Topic::Link,
            table: own.table.name.clone(),
            field: Some(own.table.fields[*field].name.clone()),
            says: format!("{list}{what}"),
            needs: needs.clone(),
            settings: settings.clone(),
            values,
            fit,
            distinct: found.about,
            none: exceptions.none.iter().map(|(none, count)| (none.clone(), u64::from(*count))).collect(),
            exceptions: shown.clone(),
            rivals: found.rivals.iter().take(4).map(rival).collect(),
            reasons: reasons.clone(),
        };
        way.fields.iter().map(one).collect()
    }
}

/// Keys close to a text, by target.
struct Near<'s> {
    study: &'s Study<'s>,
    targets: &'s Targets,
    indexes: RefCell<HashMap<usize, Option<Vec<String>>>>,
}

/// Keys of larger tables are not looked through for what is close.
const MOST_NEAR: usize = 200_000;

impl Near<'_> {
    fn to(&self, target: usize, text: &str) -> Option<String> {
        let mut indexes = self.indexes.borrow_mut();
        let index = indexes.entry(target).or_insert_with(|| {
            let own = &self.targets.list[target];
            let (Leads::Record(table) | Leads::Column(table)) = own.leads else { return None };
            if own.keys > MOST_NEAR {
                return None;
            }
            let studied = &self.study.studied[table];
            let names: Vec<String> = match studied.table.field(&own.column) {
                Some(field) => {
                    let seen: Vec<ValueCount> =
                        self.study.counts[table].columns[field].distinct.values().copied().collect();
                    texts_of(self.study.stack, &seen)
                }
                None => {
                    let stem = |file: &FileId| self.study.stack.files()[*file].path.stem().to_owned();
                    studied.files.iter().map(stem).collect()
                }
            };
            Some(names)
        });
        nearest_of(text, index.as_ref()?.iter().map(String::as_str)).into_iter().next()
    }
}

/// Places of values; each file is loaded once.
pub(super) struct ValuePlaces<'s> {
    stack: &'s Stack,
    files: RefCell<HashMap<u32, Option<LoadedFile>>>,
}

impl<'s> ValuePlaces<'s> {
    /// The places in the files of `stack`.
    pub fn new(stack: &'s Stack) -> ValuePlaces<'s> {
        ValuePlaces { stack, files: RefCell::default() }
    }

    /// A value that does not fit, with its place; `None` if the file cannot be read any more.
    pub fn exception(&self, text: &str, seen: &ValueCount, near: Option<String>) -> Option<Exception> {
        let mut files = self.files.borrow_mut();
        let file = files.entry(seen.file).or_insert_with(|| load(self.stack, seen.file as FileId).ok());
        let place = file.as_ref()?.place(seen.cell.span);
        Some(Exception { text: text.to_owned(), count: u64::from(seen.count), place, near })
    }
}
