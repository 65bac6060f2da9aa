//! Numbers that follow from others: how many records a table has, or how many of them belong to this record or stand in
//! this file; the highest number given away, or the next one that is free.

use super::Study;
use super::keys::STEM;
use super::links::ValuePlaces;
use super::names::{agreement, words};
use super::profile::{ColumnRequest, Profile, SAMPLED, Split, ValueCount, profile};
use super::proposal::{Band, Proposal, Topic};
use super::siblings::each_record;
use crate::layers::FileId;
use crate::schema::Layout;
use crate::settings::toml_text;
use crate::tables::key_hash;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// Of a table of settings at most so many entries are looked at.
const MOST_SETTINGS: u64 = 2000;
/// What does not fit is told of so many records.
const LEFT: usize = 5;

/// Something that can be counted or numbered.
struct Figure {
    /// What it is, in words: `the number of records of goods`.
    says: String,
    /// The table that it is about.
    table: String,
    value: i64,
    /// Whether there may be by chance what is as high: how many records a table has.
    is_count: bool,
}

/// How far a column agrees with what was counted.
#[derive(Default)]
struct Agreement {
    values: u64,
    fit: u64,
    different: BTreeSet<i64>,
    left: Vec<(String, ValueCount)>,
}

impl Agreement {
    fn add(&mut self, text: &str, expected: i64, seen: ValueCount) {
        self.values += 1;
        if text.parse() == Ok(expected) {
            self.fit += 1;
            self.different.insert(expected);
        } else if self.left.len() < LEFT {
            self.left.push((text.to_owned(), seen));
        }
    }

    /// Whether enough different numbers agree, and nearly all.
    fn holds(&self, least: u64) -> bool {
        self.fit >= least && self.different.len() >= 2 && self.fit * 100 >= self.values * 95
    }
}

impl Study<'_> {
    /// Columns of numbers that follow from others. `links` is what points somewhere; `linked` names the columns that
    /// do, by table and field.
    pub(super) fn computed(&self, links: &[Proposal], linked: &BTreeSet<(String, String)>) -> Vec<Proposal> {
        let places = ValuePlaces::new(self.stack);
        let mut out = Vec::new();
        for (at, own) in self.studied.iter().enumerate() {
            let is_texts = own.texts.is_some() || own.table.texts.is_some();
            let is_open = |field: &usize| {
                let name = &own.table.fields[*field].name;
                let profile = &self.counts[at].columns[*field];
                !linked.contains(&(own.table.name.clone(), name.clone()))
                    && !own.key.parts.contains(name)
                    && profile.most <= 1
                    && are_whole(profile)
            };
            let numbers: Vec<usize> = own.open.iter().chain(&own.bare).copied().filter(is_open).collect();
            if is_texts {
                continue;
            }
            let before = out.len();
            out.extend(self.counted_by_record(at, &numbers, links, &places));
            out.extend(self.counted_by_file(at, &numbers, &places));
            if out.len() == before {
                out.extend(self.counted_once(at, &numbers, &places));
            }
        }
        out
    }

    /// Columns with the number of records of another table that point to this one.
    fn counted_by_record(
        &self,
        at: usize,
        numbers: &[usize],
        links: &[Proposal],
        places: &ValuePlaces<'_>,
    ) -> Vec<Proposal> {
        /// In fewer records it is a coincidence.
        const LEAST: u64 = 5;
        let own = &self.studied[at];
        let several = |field: &&usize| self.counts[at].columns[**field].distinct.len() >= 2;
        let numbers: Vec<usize> = numbers.iter().filter(several).copied().collect();
        let [key] = own.key.parts.as_slice() else { return Vec::new() };
        let key = own.table.field(key);
        let target = toml_text(&own.table.name);
        let learned = links
            .iter()
            .filter(|link| link.band != Band::Hidden)
            .filter(|link| link.settings.first() == Some(&("ref".to_owned(), target.clone())))
            .filter(|link| link.settings.iter().all(|(name, _)| name == "ref" || name == "none"))
            .filter_map(|link| {
                let from = self.studied.iter().position(|other| other.table.name == link.table)?;
                let field = self.studied[from].table.field(link.field.as_ref()?)?;
                Some((from, field, self.counts[from].columns[field].clone()))
            });
        let described = if numbers.is_empty() { Vec::new() } else { self.described_links(at) };
        let pointing: Vec<(usize, usize, Profile)> =
            learned.chain(described).filter(|(from, _, profile)| profile.level == 0 && *from != at).collect();
        if numbers.is_empty() || pointing.is_empty() {
            return Vec::new();
        }
        let columns: Vec<usize> = numbers.iter().copied().chain(key).collect();
        let mut found: Vec<Vec<Agreement>> =
            numbers.iter().map(|_| pointing.iter().map(|_| Agreement::default()).collect()).collect();
        each_record(self.stack, &own.table, &own.files, &columns, &mut |file, cells| {
            let of_key = match key {
                Some(_) => cells.last().and_then(|cell| cell.as_ref()).map(|cell| cell.text.as_str()),
                None => Some(self.stack.files()[file].path.stem()),
            };
            let Some(hash) = of_key.map(|key| key_hash(key, false)) else { return };
            for (cell, found) in cells.iter().zip(&mut found) {
                let Some(cell) = cell.as_ref().filter(|cell| !cell.text.is_empty()) else { continue };
                for (own, (.., profile)) in found.iter_mut().zip(&pointing) {
                    let count = profile.distinct.get(&hash).map_or(0, |seen| seen.count);
                    own.add(&cell.text, i64::from(count), cell.seen);
                }
            }
        });
        let mut out = Vec::new();
        for (field, found) in numbers.iter().zip(found) {
            let best = found.into_iter().zip(&pointing).filter(|(own, _)| own.holds(LEAST));
            let Some((own_found, (from, through, _))) = best.max_by_key(|(own, _)| own.fit) else { continue };
            let from = &self.studied[*from].table;
            let says =
                format!("how many records of {} have this one as {}", from.name, from.fields[*through].name);
            out.push(self.says(at, *field, &says, own_found, places));
        }
        out
    }

    /// The columns that point to the table at position `at` by the schema, if it is small: the table, the field, and what
    /// it holds.
    fn described_links(&self, at: usize) -> Vec<(usize, usize, Profile)> {
        let Some(id) = self.studied[at].described.filter(|_| self.counts[at].records <= SAMPLED as u64)
        else {
            return Vec::new();
        };
        let mut wanted = Vec::new();
        for (table, own) in self.studied.iter().enumerate() {
            for (field, described) in own.table.fields.iter().enumerate() {
                let Layout::Whole(rule) = described.layout else { continue };
                let refs = &own.table.rules[rule].refs;
                if refs.iter().any(|target| target.table == id && target.rule.is_none())
                    && described.list.is_none()
                {
                    wanted.push(ColumnRequest { table, field, split: Split::default(), limit: SAMPLED });
                }
            }
        }
        let counts = profile(self.stack, self.tables, self.files, &wanted);
        let mut columns: Vec<_> = counts.into_iter().map(|own| own.columns.into_iter()).collect();
        let with = |wanted: ColumnRequest| Some((wanted.table, wanted.field, columns[wanted.table].next()?));
        wanted.into_iter().filter_map(with).collect()
    }

    /// Columns of records of which there is one in each file: how many records of another table stand in that file, or
    /// the number after the highest that they have.
    fn counted_by_file(&self, at: usize, numbers: &[usize], places: &ValuePlaces<'_>) -> Vec<Proposal> {
        /// In fewer files it is a coincidence.
        const LEAST: u64 = 3;
        let own = &self.studied[at];
        let one_each = own.files.len() as u64 == self.counts[at].records && own.files.len() > 1;
        if !one_each || numbers.is_empty() {
            return Vec::new();
        }
        // For each other table in these files, how many records stand in each, and the next number there.
        let mut figures: Vec<(String, HashMap<FileId, i64>)> = Vec::new();
        for (other_at, other) in self.studied.iter().enumerate() {
            if other_at == at || other.files != own.files {
                continue;
            }
            let number = other.key.parts.iter().find_map(|part| {
                let field = other.table.field(part)?;
                are_whole(&self.counts[other_at].columns[field]).then_some(field)
            });
            let column = number.or((!other.table.fields.is_empty()).then_some(0));
            let (mut counts, mut next): (HashMap<FileId, i64>, HashMap<FileId, i64>) = Default::default();
            let columns: Vec<usize> = column.into_iter().collect();
            each_record(self.stack, &other.table, &other.files, &columns, &mut |file, cells| {
                *counts.entry(file).or_default() += 1;
                let found =
                    cells.first().and_then(Option::as_ref).and_then(|cell| cell.text.parse::<i64>().ok());
                if let Some(found) = found.and_then(|found| found.checked_add(1)).filter(|_| number.is_some())
                {
                    let next = next.entry(file).or_insert(found);
                    *next = found.max(*next);
                }
            });
            figures.push((format!("how many records of {} are in the file", other.table.name), counts));
            if let Some(field) = number {
                let name = &other.table.fields[field].name;
                figures.push((
                    format!("the highest {name} of {} in the file, plus one", other.table.name),
                    next,
                ));
            }
        }
        let mut found: Vec<Vec<Agreement>> =
            numbers.iter().map(|_| figures.iter().map(|_| Agreement::default()).collect()).collect();
        if figures.is_empty() {
            return Vec::new();
        }
        each_record(self.stack, &own.table, &own.files, numbers, &mut |file, cells| {
            for (cell, found) in cells.iter().zip(&mut found) {
                let Some(cell) = cell.as_ref().filter(|cell| !cell.text.is_empty()) else { continue };
                for (own, (_, figures)) in found.iter_mut().zip(&figures) {
                    own.add(&cell.text, figures.get(&file).copied().unwrap_or_default(), cell.seen);
                }
            }
        });
        let mut out = Vec::new();
        for (field, found) in numbers.iter().zip(found) {
            let best = found.into_iter().zip(&figures).filter(|(own, _)| own.holds(LEAST));
            if let Some((own_found, (says, _))) = best.max_by_key(|(own, _)| own.fit) {
                out.push(self.says(at, *field, says, own_found, places));
            }
        }
        out
    }

    /// Numbers that are there once, in settings or at the head of a file: how many records a table has, the highest
    /// number in it, or the next one.
    fn counted_once(&self, at: usize, numbers: &[usize], places: &ValuePlaces<'_>) -> Vec<Proposal> {
        let (own, counts) = (&self.studied[at], &self.counts[at]);
        let figures = self.figures(at);
        // Either one record, whose columns are the settings, or records of a name and a value.
        if counts.records == 1 {
            let mut found: Vec<(usize, String)> = Vec::new();
            each_record(self.stack, &own.table, &own.files, numbers, &mut |_, cells| {
                for (field, cell) in numbers.iter().zip(cells) {
                    let Some(cell) = cell else { continue };
                    let name = &own.table.fields[*field].name;
                    found.extend(told_by(name, &cell.text, &figures).map(|says| (*field, says)));
                }
            });
            let one = || Agreement { values: 1, fit: 1, ..Agreement::default() };
            return found.iter().map(|(field, says)| self.says(at, *field, says, one(), places)).collect();
        }
        let name = own.key.parts.last().and_then(|part| own.table.field(part));
        let name = name.filter(|_| counts.records <= MOST_SETTINGS && own.key.parts[0] != STEM);
        let others: Vec<usize> = (0..own.table.fields.len())
            .filter(|field| !own.key.parts.contains(&own.table.fields[*field].name))
            .collect();
        let (Some(name), [value]) = (name, &others[..]) else { return Vec::new() };
        let value = *value;
        if !(own.open.contains(&value) || own.bare.contains(&value)) {
            return Vec::new();
        }
        let mut found: Vec<(String, String)> = Vec::new();
        each_record(self.stack, &own.table, &own.files, &[name, value], &mut |_, cells| {
            if let [Some(name), Some(value)] = cells {
                found
                    .extend(told_by(&name.text, &value.text, &figures).map(|says| (name.text.clone(), says)));
            }
        });
        let all: Vec<String> = found.iter().map(|(name, says)| format!("`{name}` is {says}")).collect();
        let fit = all.len() as u64;
        let agreement = Agreement { values: fit, fit, ..Agreement::default() };
        let one = (fit > 0).then(|| self.says(at, value, &all.join("; "), agreement, places));
        one.into_iter().collect()
    }

    /// What can be counted in the tables but that at position `but`.
    fn figures(&self, but: usize) -> Vec<Figure> {
        let mut out = Vec::new();
        let tables = self.studied.iter().zip(self.counts).enumerate().filter(|(at, _)| *at != but);
        for (_, (own, counts)) in tables {
            let table = &own.table.name;
            let figure =
                |says: String, value: i64, is_count| Figure { says, table: table.clone(), value, is_count };
            out.push(figure(format!("the number of records of {table}"), counts.records as i64, true));
            for (field, profile) in own.table.fields.iter().zip(&counts.columns) {
                if are_whole(profile) && profile.is_unique(counts.records) {
                    let (name, highest) = (&field.name, profile.highest as i64);
                    let next = highest.saturating_add(1);
                    out.push(figure(format!("the highest {name} of {table}"), highest, false));
                    out.push(figure(format!("the highest {name} of {table}, plus one"), next, false));
                }
            }
        }
        out
    }

    /// A proposal that says what the numbers of a column are.
    fn says(
        &self,
        at: usize,
        field: usize,
        says: &str,
        found: Agreement,
        places: &ValuePlaces<'_>,
    ) -> Proposal {
        let own = &self.studied[at];
        let exceptions = found.left.iter().filter_map(|(text, seen)| places.exception(text, seen, None));
        let mut about = says.to_owned();
        if let Some(first) = about.get_mut(..1) {
            first.make_ascii_uppercase();
        }
        Proposal {
            band: Band::Ask,
            topic: Topic::Values,
            table: own.table.name.clone(),
            field: Some(own.table.fields[field].name.clone()),
            says: says.to_owned(),
            needs: Vec::new(),
            settings: vec![("about".to_owned(), toml_text(&format!("{about}.")))],
            values: found.values,
            fit: found.fit,
            distinct: found.different.len() as u64,
            none: Vec::new(),
            exceptions: exceptions.collect(),
            rivals: Vec::new(),
            reasons: Vec::new(),
        }
    }
}

/// Whether all values of a column are whole numbers that are not below 0.
fn are_whole(profile: &Profile) -> bool {
    profile.values > 0
        && profile.integers == profile.values
        && profile.lowest >= 0.0
        && profile.highest < 1e15
}

/// Which of `figures` a setting called `name` tells with its `value`: that whose table the name names; else, where the
/// name says only that something is counted, the one figure that is as high. `None` if it tells none.
fn told_by(name: &str, value: &str, figures: &[Figure]) -> Option<String> {
    /// Smaller numbers are met by chance.
    const RARE: i64 = 20;
    let value: i64 = value.parse().ok()?;
    let said = words(name);
    let has = |list: &[&str]| said.iter().any(|word| list.contains(&word.as_str()));
    let counts = has(&["count", "number", "num", "total", "amount", "size", "how"]);
    let highest = has(&["max", "maximum", "highest", "last", "top", "limit", "next", "free", "new"]);
    let mut fitting: Vec<&Figure> = figures.iter().filter(|own| own.value == value && value > 0).collect();
    // What the name speaks of comes first.
    fitting.retain(|own| own.is_count && (counts || !highest) || !own.is_count && (highest || !counts));
    let named: Vec<&&Figure> = fitting.iter().filter(|own| agreement(name, &own.table) == 2).collect();
    if let Some(first) = named.first() {
        return Some(first.says.clone());
    }
    let tables: BTreeMap<&str, &&Figure> = fitting.iter().map(|own| (own.table.as_str(), own)).collect();
    let only = tables.len() == 1 && value >= RARE && (counts || highest);
    only.then(|| tables.values().next().map(|own| own.says.clone())).flatten()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("goods_count", "12", Some("the number of records of goods"))]
    #[case("goods", "12", Some("the number of records of goods"))]
    #[case("max_reach", "63", Some("the highest Number of reaches"))]
    #[case("NextReach", "64", Some("the highest Number of reaches, plus one"))]
    #[case::by_its_size_alone("next", "64", Some("the highest Number of reaches, plus one"))]
    #[case::too_small("total", "12", None)]
    #[case::of_another("reach_count", "12", None)]
    #[case::says_nothing("depth", "64", None)]
    #[case::no_number("goods_count", "a dozen", None)]
    fn settings_that_count(#[case] name: &str, #[case] value: &str, #[case] expected: Option<&str>) {
        let figure = |says: &str, table: &str, value, is_count| Figure {
            says: says.to_owned(),
            table: table.to_owned(),
            value,
            is_count,
        };
        let figures = [
            figure("the number of records of goods", "goods", 12, true),
            figure("the number of records of reaches", "reaches", 40, true),
            figure("the highest Number of reaches", "reaches", 63, false),
            figure("the highest Number of reaches, plus one", "reaches", 64, false),
        ];
        assert_eq!(told_by(name, value, &figures).as_deref(), expected);
    }
}
