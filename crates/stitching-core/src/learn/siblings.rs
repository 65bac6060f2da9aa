//! What several columns of a record say together: a column that tells what another points to, and columns that
//! name a record of another table only together.

use super::file_part::FilePart;
use super::interpretations::Way;
use super::keys::STEM;
use super::links::ValuePlaces;
use super::names::{agreement, names_relation};
use super::profile::{Counts, ValueCount};
use super::proposal::{Band, Proposal, Topic};
use super::references::{self, Source, Suspicion, is_usual_none};
use super::targets::{Leads, Targets};
use super::{Studied, Study};
use crate::formats::{Column, Fault, Form, RawRecord, RecordSink, decode};
use crate::layers::{FileId, Stack};
use crate::reading::with_text;
use crate::schema::Table;
use crate::settings::{toml_key, toml_text};
use crate::tables::{KEY_SEPARATOR, key_hash};
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// So many records of a table are looked at.
const LOOKED_AT: usize = 100_000;

/// A column that tells which table another one points to.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Telling {
    /// The position of the column that tells.
    pub field: usize,
    /// For each of its values the target that is meant; none where the other column points nowhere then.
    pub cases: BTreeMap<String, Option<usize>>,
    /// How many values there are where it leads somewhere, and how many of them do.
    pub values: u64,
    pub fit: u64,
    /// Whether the values name the tables.
    pub named: bool,
}

/// What is counted for one value of a column that may tell.
#[derive(Debug, Default)]
struct Case {
    values: u64,
    /// How many values each target has.
    hits: BTreeMap<usize, u64>,
    different: HashSet<u64>,
}

/// Looks for a column among `siblings` whose values tell to which of the targets those of `field` lead. Cost: one
/// pass over (the first part of) the files.
pub(super) fn telling(
    stack: &Stack,
    table: &Table,
    files: &[FileId],
    field: usize,
    siblings: &[usize],
    targets: &Targets,
) -> Option<Telling> {
    /// More cases are no kinds of things.
    const MOST_CASES: usize = 24;
    let mut counts: Vec<BTreeMap<String, Case>> = siblings.iter().map(|_| BTreeMap::new()).collect();
    let columns: Vec<usize> = std::iter::once(field).chain(siblings.iter().copied()).collect();
    each_record(stack, table, files, &columns, &mut |_, cells| {
        let Some(value) = cells[0].as_ref().filter(|value| !value.text.is_empty()) else { return };
        let hash = key_hash(&value.text, false);
        let hit: BTreeSet<usize> = targets
            .of(hash)
            .filter(|target| matches!(targets.list[*target].leads, Leads::Record(_)))
            .collect();
        for (counts, told) in counts.iter_mut().zip(&cells[1..]) {
            let told = told.as_ref().map(|told| told.text.clone()).unwrap_or_default();
            if counts.len() > MOST_CASES && !counts.contains_key(&told) {
                continue;
            }
            let case = counts.entry(told).or_default();
            case.values += 1;
            case.different.insert(hash);
            for target in &hit {
                *case.hits.entry(*target).or_default() += 1;
            }
        }
    });
    let found = siblings.iter().zip(counts).filter(|(_, cases)| (2..=MOST_CASES).contains(&cases.len()));
    let found = found.filter_map(|(sibling, cases)| told_by(*sibling, cases, targets));
    found.max_by_key(|own| (own.named, own.fit * 1000 / own.values.max(1), own.values))
}

/// Whether each value of a column goes with one target, or with none.
fn told_by(field: usize, cases: BTreeMap<String, Case>, targets: &Targets) -> Option<Telling> {
    let (mut values, mut fit, mut agree, mut leading) = (0, 0, 0, 0);
    let mut out = BTreeMap::new();
    let mut meant: BTreeSet<usize> = BTreeSet::new();
    for (told, case) in cases {
        // Of several targets with all the values, the one that is named.
        let best = case.hits.iter().max_by_key(|(target, hits)| {
            (**hits, agreement(&told, &targets.list[**target].name), usize::MAX - **target)
        });
        match best {
            Some((target, hits)) if *hits * 100 >= case.values * 95 && !told.is_empty() => {
                (values, fit, leading) = (values + case.values, fit + hits, leading + 1);
                agree += u32::from(agreement(&told, &targets.list[*target].name) == 2);
                // Two values that happen to be there are no evidence.
                if case.different.len() < 3 {
                    agree = agree.saturating_sub(1);
                }
                meant.insert(*target);
                out.insert(told, Some(*target));
            }
            // A number or a word that happens to be a key is no reference.
            None => {
                out.insert(told, None);
            }
            Some((_, hits)) if *hits * 10 <= case.values => {
                out.insert(told, None);
            }
            Some(_) => return None,
        }
    }
    let nowhere = out.values().any(Option::is_none);
    (meant.len() >= 2 || (meant.len() == 1 && nowhere)).then_some(Telling {
        field,
        cases: out,
        values,
        fit,
        named: agree == leading,
    })
}

/// A part of a key of several parts, in the table that has the key or in one that names its records.
#[derive(Debug, Clone, PartialEq, Eq)]
enum Part {
    /// The value of the column at this position.
    Column(usize),
    /// A part of the file's path.
    File(FilePart),
}

/// Some columns of a table that is read.
#[derive(Clone, Copy)]
struct Columns<'t> {
    table: &'t Table,
    files: &'t [FileId],
    parts: &'t [Part],
}

/// How far the values of some columns are, together, keys of a table whose key has several parts.
#[derive(Debug, Clone, Default)]
struct Together {
    /// How many records have a value in each of the columns, but for those that stand for "nothing".
    values: u64,
    /// How many of them name a record.
    fit: u64,
    /// How many could be tried with the other parts of the key taken from another record, and how many name a
    /// record even so.
    tried: u64,
    by_chance: u64,
    /// How many different records they name, and by how many different values.
    distinct: u64,
    names: usize,
    /// Values that stand for "nothing", with their counts.
    none: BTreeMap<String, u64>,
    /// The first values that name none, with their places.
    left: Vec<(String, ValueCount)>,
}

/// With so many different values that all name records of their own file they do so by no chance.
const WITHIN: usize = 5;

/// So many values of one record are looked at.
const MOST_VALUES: usize = 10_000;

/// So many values that do not fit are told.
const LEFT: usize = 5;

/// Looks the values of some columns of one table up among those of the key of another, taken together; the part at
/// position `own` is the one that is asked for. Cost: a pass over (the first part of) the files of both.
fn together(stack: &Stack, owner: Columns<'_>, asking: Columns<'_>, own: usize) -> Together {
    let mut keys: HashSet<(u64, u64)> = HashSet::new();
    let whole = each_key(stack, owner, own, &mut |rest, text, _| {
        keys.insert((rest, key_hash(text, false)));
    });
    let mut out = Together::default();
    if !whole {
        return out;
    }
    let mut different: HashSet<(u64, u64)> = HashSet::new();
    // The other parts of this record's key, and the last ones that were different from them.
    let (mut current, mut other): (Option<u64>, Option<u64>) = (None, None);
    each_key(stack, asking, own, &mut |rest, text, seen| {
        if current != Some(rest) {
            (other, current) = (current, Some(rest));
        }
        let value = key_hash(text, false);
        let fits = keys.contains(&(rest, value));
        if !fits && is_usual_none(text) {
            *out.none.entry(text.to_owned()).or_default() += 1;
            return;
        }
        out.values += 1;
        if fits {
            out.fit += 1;
            different.insert((rest, value));
        } else if out.left.len() < LEFT {
            out.left.extend(seen.map(|seen| (text.to_owned(), seen)));
        }
        if let Some(other) = other {
            out.tried += 1;
            out.by_chance += u64::from(keys.contains(&(other, value)));
        }
    });
    out.distinct = different.len() as u64;
    out.names = different.iter().map(|(_, name)| name).collect::<HashSet<_>>().len();
    out
}

/// Gives for each record the hash of all parts but that at position `own`, the text of that one, and its place; records
/// that lack a part are left out. Whether that were all, as for [`each_record`].
fn each_key(
    stack: &Stack,
    from: Columns<'_>,
    own: usize,
    each: &mut dyn FnMut(u64, &str, Option<ValueCount>),
) -> bool {
    let columns: Vec<usize> = from
        .parts
        .iter()
        .filter_map(|part| match part {
            Part::Column(field) => Some(*field),
            Part::File(_) => None,
        })
        .collect();
    each_record(stack, from.table, from.files, &columns, &mut |file, cells| {
        let mut cells = cells.iter();
        let (mut rest, mut value, mut more) = (String::new(), None, &[][..]);
        for (at, part) in from.parts.iter().enumerate() {
            let (text, seen) = match part {
                Part::File(part) => (part.text(&stack.files()[file].path), None),
                Part::Column(_) => match cells.next().and_then(Option::as_ref) {
                    Some(found) => {
                        // Which of several values belong together is not known: only where the others are of the path.
                        more = if columns.len() == 1 { &found.more[..] } else { &[] };
                        (found.text.as_str(), Some(found.seen))
                    }
                    None => return,
                },
            };
            if text.is_empty() {
                return;
            }
            if at == own {
                value = Some((text, seen));
            } else {
                rest.push_str(text);
                rest.push(KEY_SEPARATOR);
            }
        }
        if let Some((text, seen)) = value {
            let rest = key_hash(&rest, false);
            each(rest, text, seen);
            more.iter()
                .filter(|(text, _)| !text.is_empty())
                .for_each(|(text, seen)| each(rest, text, Some(*seen)));
        }
    })
}

/// Gives the texts of `columns` (positions in the table's fields) of each record, with its file. Whether that
/// were all: of large tables only the first records are given.
pub(super) fn each_record(
    stack: &Stack,
    table: &Table,
    files: &[FileId],
    columns: &[usize],
    each: &mut dyn FnMut(FileId, &[Option<Value>]),
) -> bool {
    let wanted: Vec<Column<'_>> =
        columns.iter().map(|field| Column::optional(&table.fields[*field].name)).collect();
    let mut left = LOOKED_AT;
    for file in files {
        if left == 0 {
            return false;
        }
        let read = with_text(stack, *file, |text| {
            let mut sink = Cells { text: text.as_str(), file: *file, count: columns.len(), left, each };
            table.format.read(text, &wanted, &mut sink);
            sink.left
        });
        left = read.unwrap_or(left);
    }
    left > 0
}

/// A value of a record, and where it stands.
#[derive(Debug, Clone)]
pub(super) struct Value {
    pub text: String,
    pub seen: ValueCount,
    /// The further values that the record has there.
    pub more: Vec<(String, ValueCount)>,
}

struct Cells<'c> {
    text: &'c str,
    file: FileId,
    count: usize,
    left: usize,
    each: &'c mut dyn FnMut(FileId, &[Option<Value>]),
}

impl RecordSink for Cells<'_> {
    fn record(&mut self, record: &RawRecord<'_>) {
        if self.left == 0 {
            return;
        }
        self.left -= 1;
        let mut cells: Vec<Option<Value>> = vec![None; self.count];
        for own in record.cells.iter().filter(|own| own.cell.form != Form::Nested) {
            let text = decode(self.text, &own.cell).text.trim().to_owned();
            let seen = ValueCount { count: 1, file: self.file as u32, cell: own.cell, part: None };
            match &mut cells[usize::from(own.column)] {
                Some(first) if first.more.len() < MOST_VALUES => first.more.push((text, seen)),
                Some(_) => {}
                empty => *empty = Some(Value { text, seen, more: Vec::new() }),
            }
        }
        (self.each)(self.file, &cells);
    }

    fn fault(&mut self, _fault: Fault) {}
}

impl Study<'_> {
    /// Columns of which another one tells to which table they point.
    pub(super) fn conditional<'a>(
        &self,
        all: impl Iterator<Item = ((&'a Way, &'a Source<'a>), &'a Option<Suspicion>)>,
        targets: &Targets,
    ) -> Vec<Proposal> {
        /// Fewer values say little.
        const LEAST: u64 = 8;
        let mut out = Vec::new();
        for ((way, source), found) in all {
            let numeric = source.profiles.iter().all(|profile| profile.is_numeric());
            let [field] = way.fields[..] else { continue };
            // Where several tables together have the values, another column may tell which one.
            let one_does = found.as_ref().is_some_and(|found| {
                found.besides.is_empty()
                    && (found.best.values * 100 >= found.values * 97 || found.best.distinct == found.distinct)
            });
            let values: u64 = source.profiles.iter().map(|profile| profile.values).sum();
            if source.is_key || numeric || one_does || values < LEAST {
                continue;
            }
            // Some of its values lead to records; of a column that is sampled, some of those that were kept.
            let kept: u64 = source.profiles.iter().map(|profile| profile.distinct.len() as u64).sum();
            let lead = |hits: &references::Hits| matches!(targets.list[hits.target].leads, Leads::Record(_));
            let hits = references::hits(source, targets);
            if !hits.iter().filter(|hits| lead(hits)).any(|hits| hits.distinct * 10 >= kept) {
                continue;
            }
            let own = &self.studied[way.table];
            let counts = &self.counts[way.table];
            let could_tell = |sibling: &usize| {
                let profile = &counts.columns[*sibling];
                let few = profile.level == 0 && (1..=24).contains(&profile.distinct.len());
                *sibling != field
                    && few
                    && profile.prose == 0
                    && profile.most <= 1
                    && profile.values * 10 >= counts.records * 9
                    // What is there once or twice tells nothing of a kind.
                    && profile.values >= 3 * profile.distinct.len() as u64
            };
            let siblings: Vec<usize> = (0..own.table.fields.len()).filter(could_tell).collect();
            if siblings.is_empty() {
                continue;
            }
            let told = telling(self.stack, &own.table, &own.files, field, &siblings, targets);
            let Some(told) = told.filter(|told| told.values >= LEAST) else { continue };
            let by = &own.table.fields[told.field].name;
            let cases: Vec<(&String, &str)> = told
                .cases
                .iter()
                .filter_map(|(value, target)| Some((value, targets.list[(*target)?].name.as_str())))
                .collect();
            let refs: Vec<String> = cases
                .iter()
                .map(|(value, table)| format!("{} = {}", toml_key(value), toml_text(table)))
                .collect();
            let shown: Vec<String> =
                cases.iter().map(|(value, table)| format!("{table} where {by} is {value}")).collect();
            let mut needs: Vec<String> = cases.iter().map(|(_, table)| (*table).to_owned()).collect();
            needs.dedup();
            let elsewhere = told.cases.values().filter(|target| target.is_none()).count();
            let mut reasons = Vec::new();
            if told.named {
                reasons.push(format!("the values of `{by}` name the tables"));
            }
            if elsewhere > 0 {
                reasons.push(format!("with {elsewhere} other values of `{by}` it points nowhere"));
            }
            out.push(Proposal {
                band: if told.named && told.fit == told.values { Band::Accept } else { Band::Ask },
                topic: Topic::Link,
                table: own.table.name.clone(),
                field: Some(own.table.fields[field].name.clone()),
                says: format!("points to {}", shown.join(", ")),
                needs,
                settings: vec![
                    ("ref".to_owned(), format!("{{ {} }}", refs.join(", "))),
                    ("by".to_owned(), toml_text(by)),
                ],
                values: told.values,
                fit: told.fit,
                distinct: source.profiles.iter().map(|profile| profile.different()).sum(),
                none: Vec::new(),
                exceptions: Vec::new(),
                rivals: Vec::new(),
                reasons,
            });
        }
        out
    }

    /// Columns that name a record of a table whose key has several parts, together with what else the record has of
    /// that key: columns called as its other parts, or the file that it stands in. `links` is what points somewhere by
    /// itself.
    pub(super) fn composite(&self, links: &[Proposal], places: &ValuePlaces<'_>) -> Vec<Proposal> {
        let linked: HashSet<(&str, &str)> = links
            .iter()
            .filter(|link| link.band != Band::Hidden)
            .filter_map(|link| Some((link.table.as_str(), link.field.as_deref()?)))
            .collect();
        let mut out: Vec<Proposal> = Vec::new();
        for owner in self.studied.iter().filter(|own| own.key.parts.len() > 1) {
            for (at, own) in self.studied.iter().enumerate() {
                let is_open = |field: &usize, out: &[Proposal]| {
                    let name = &own.table.fields[*field].name;
                    !linked.contains(&(own.table.name.as_str(), name.as_str()))
                        && !out
                            .iter()
                            .any(|new| new.table == own.table.name && new.field.as_ref() == Some(name))
                };
                // What names a record within its parent comes last mostly; one part is enough to name the record.
                let parts = (0..owner.key.parts.len())
                    .rev()
                    .filter(|part| owner.key.parts[*part] != owner.file_part().name);
                // Where the schema has it that one column names the record with the others, these need not.
                let is_said = own.table.rules.iter().any(|rule| {
                    !rule.with.is_empty()
                        && rule.refs.iter().any(|target| Some(target.table) == owner.described)
                });
                for part in parts.filter(|_| !is_said) {
                    let before = out.len();
                    for field in self.could_name_within(owner, part, at) {
                        if is_open(&field, &out) {
                            out.extend(self.within(owner, part, (own, field), places));
                        }
                    }
                    if out.len() > before {
                        break;
                    }
                }
            }
        }
        out
    }

    /// The columns of the table at position `at` that could hold the part at position `part` of the owner's key.
    fn could_name_within(&self, owner: &Studied, part: usize, at: usize) -> Vec<usize> {
        /// Each is looked at in a pass over the files, so that of very wide tables only the first ones are.
        const MOST: usize = 24;
        let own = &self.studied[at];
        let is_texts = own.texts.is_some() || own.table.texts.is_some();
        let has = |(position, name): (usize, &String)| {
            position == part
                || match name.as_str() {
                    // Files in the same folder have the same part of the path.
                    name if name == owner.file_part().name => {
                        own.files == owner.files || name != STEM && own.file_part() == owner.file_part()
                    }
                    name => own.table.field(name).is_some(),
                }
        };
        let is_owner = std::ptr::eq(own, owner);
        if is_texts || !owner.key.parts.iter().enumerate().all(has) {
            return Vec::new();
        }
        let Some(keys) = self.counts_of(owner).zip(owner.table.field(&owner.key.parts[part])) else {
            return Vec::new();
        };
        let keys = &keys.0.columns[keys.1];
        let could = |field: &usize| {
            let profile = &self.counts[at].columns[*field];
            let name = &own.table.fields[*field].name;
            let is_part = owner.key.parts.contains(name) && (is_owner || *name != owner.key.parts[part]);
            let kept = profile.distinct.keys().filter(|hash| hash.trailing_zeros() >= keys.level);
            let known = kept.clone().filter(|hash| keys.distinct.contains_key(*hash)).count();
            !is_part && profile.is_identifiers() && known > 0 && known * 10 >= kept.count() * 8
        };
        own.open.iter().copied().filter(could).take(MOST).collect()
    }

    fn counts_of(&self, own: &Studied) -> Option<&Counts> {
        let at = self.studied.iter().position(|other| std::ptr::eq(other, own))?;
        self.counts.get(at)
    }

    /// What is proposed if `field` of `own` holds the part at position `part` of the owner's key.
    fn within(
        &self,
        owner: &Studied,
        part: usize,
        (own, field): (&Studied, usize),
        places: &ValuePlaces<'_>,
    ) -> Option<Proposal> {
        let file = owner.file_part();
        let columns = |table: &Table, instead: Option<usize>| -> Option<Vec<Part>> {
            let one = |(at, name): (usize, &String)| match (instead, name.as_str()) {
                (Some(field), _) if at == part => Some(Part::Column(field)),
                (_, name) if name == file.name => Some(Part::File(file.clone())),
                (_, name) => table.field(name).map(Part::Column),
            };
            owner.key.parts.iter().enumerate().map(one).collect()
        };
        let (key, asking) = (columns(&owner.table, None)?, columns(&own.table, Some(field))?);
        let owners = Columns { table: &owner.table, files: &owner.files, parts: &key };
        let askers = Columns { table: &own.table, files: &own.files, parts: &asking };
        let found = together(self.stack, owners, askers, part);
        let name = &own.table.fields[field].name;
        let same_name = *name == owner.key.parts[part];
        let is_relation = std::ptr::eq(own, owner) && names_relation(name);
        let named = same_name || is_relation || agreement(name, &owner.table.name) == 2;
        // Where other parents would do as well, only the name says that this one is meant.
        let parent_counts = found.tried > 0 && found.by_chance * 10 <= found.tried * 8;
        let numeric = self.counts_of(own).is_some_and(|counts| counts.columns[field].is_numeric());
        // Where the parents have all the same names inside, nothing tells which is meant but that it is its own.
        let is_within = found.fit == found.values && found.names >= WITHIN;
        if found.distinct < 4
            || found.fit * 100 < found.values * 95
            || !(named || (parent_counts || is_within) && !numeric)
        {
            return None;
        }
        let same_key = own.key.parts == owner.key.parts && own.table.name != owner.table.name;
        if same_key && same_name && self.counts_of(own)?.records >= self.counts_of(owner)?.records {
            return None;
        }
        let with: Vec<String> = owner
            .key
            .parts
            .iter()
            .enumerate()
            .map(|(at, name)| toml_text(if at == part { "{}" } else { name }))
            .collect();
        let others: Vec<&str> = owner
            .key
            .parts
            .iter()
            .enumerate()
            .filter(|(at, _)| *at != part)
            .map(|(_, name)| if name == STEM { "the file's name" } else { name.as_str() })
            .collect();
        let sure = found.fit == found.values
            && found.distinct >= 8
            && !same_key
            && (named || found.by_chance * 2 <= found.tried);
        let mut settings = vec![
            ("ref".to_owned(), toml_text(&owner.table.name)),
            ("with".to_owned(), format!("[{}]", with.join(", "))),
        ];
        let none: Vec<String> = found.none.keys().map(|none| toml_text(none)).collect();
        match none.as_slice() {
            [] => {}
            [one] => settings.push(("none".to_owned(), one.clone())),
            many => settings.push(("none".to_owned(), format!("[{}]", many.join(", ")))),
        }
        let mut reasons = Vec::new();
        if same_name {
            reasons.push("the columns are called as the parts of the key".to_owned());
        } else if named {
            reasons.push(format!("the name says `{}`", owner.table.name));
        }
        if let Some(share) = (found.by_chance * 100).checked_div(found.tried) {
            reasons.push(format!("with {} of another record {share} % would fit", others.join(" and ")));
        }
        Some(Proposal {
            band: if sure { Band::Accept } else { Band::Ask },
            topic: Topic::Link,
            table: own.table.name.clone(),
            field: Some(name.clone()),
            says: format!("points to {}, together with {}", owner.table.name, others.join(" and ")),
            needs: vec![owner.table.name.clone()],
            settings,
            values: found.values,
            fit: found.fit,
            distinct: found.distinct,
            none: found.none.into_iter().collect(),
            exceptions: found
                .left
                .iter()
                .filter_map(|(text, seen)| places.exception(text, seen, None))
                .collect(),
            rivals: Vec::new(),
            reasons,
        })
    }
}
