//! Learning a game's data from the data: which tables there are, what names their records, what points
//! where, which values stand for "nothing".
//!
//! The way: `candidates` finds files that hold like records; `profile` reads them once and counts what
//! each column holds; `keys` chooses what names the records; `references` looks each value up among the
//! keys of all tables. The result is a list of [`Proposal`]s, each with its evidence and a [`Band`]. The
//! cost grows with the size of the data and the number of columns, not with pairs of columns.

mod candidates;
mod documentation;
mod follows;
mod keys;
mod names;
mod profile;
mod proposal;
mod recognise;
mod references;
mod shapes;
mod siblings;
mod start;
mod values;
mod write;

pub use documentation::documented;
pub use proposal::{Band, Exception, Proposal, Topic, confirmed_too, with_tables};
pub use start::{Start, start};
pub use write::written;

use crate::layers::{FileId, LayerId, Stack};
use crate::links::{LoadedFile, load, with_text};
use crate::schema::{self, Layout, Schema, Table};
use crate::tables::key_hash;
use crate::text::NearestIndex;
use candidates::{Candidate, Found};
use hashbrown::HashMap;
use keys::{KeyChoice, STEM};
use profile::{
    Affix, Checked, CheckedCounts, Counts, Profile, SAMPLED, SEPARATORS, Seen, Split, Wanted, check_all,
    profile, texts_of,
};
use references::{Exceptions, Leads, Source, Suspicion, Target, Targets, explain, suspicions};
use std::cell::RefCell;
use std::collections::{BTreeMap, BTreeSet};
use write::quoted;

/// What was learned.
#[derive(Debug, Default)]
pub struct Learned {
    /// The proposals: those of one table together, tables in the order of their files, the surest first
    /// within each.
    pub proposals: Vec<Proposal>,
    /// Files of text of which nothing could be made: their paths.
    pub unknown: Vec<String>,
    /// How many files are no text.
    pub binary: usize,
    /// The languages that paths name.
    pub languages: Vec<String>,
    /// How many tables were looked at, and how many records they have.
    pub tables: usize,
    /// How many records they have.
    pub records: u64,
}

/// A table that is looked at.
struct Studied {
    table: Table,
    files: Vec<FileId>,
    /// What it was recognised as, if the schema does not describe it.
    candidate: Option<Candidate>,
    key: KeyChoice,
    /// The fields of which the schema says nothing yet.
    open: Vec<usize>,
    /// What the schema is to say of its texts, if it holds texts.
    texts: Option<String>,
}

/// Files of a table that are looked at for their columns.
const LOOKED_AT: usize = 24;

/// Studies the files that the game would read if the layers ended at `through`; what the mod replaces is taken
/// from the layer below, since mistakes of the mod would spoil the evidence. Nothing is proposed of what
/// `schema` says already.
pub fn learn(stack: &Stack, schema: &Schema, through: LayerId) -> Learned {
    let Found { candidates, unknown, binary, languages } = candidates::candidates(stack, schema, through);
    let mut studied: Vec<Studied> = described(stack, schema, through);
    studied.extend(candidates.into_iter().filter_map(|candidate| undescribed(stack, schema, candidate)));
    let tables: Vec<Table> = studied.iter().map(|own| own.table.clone()).collect();
    let files: Vec<Vec<FileId>> = studied.iter().map(|own| own.files.clone()).collect();
    let all = (0..tables.len()).flat_map(|table| {
        (0..tables[table].fields.len()).map(move |field| Wanted { table, field, split: Split::default() })
    });
    let all: Vec<Wanted> = all.collect();
    let mut counts = profile(stack, &tables, &files, &all, SAMPLED);
    let votes = votes(&studied, &counts);
    for (at, (own, counts)) in studied.iter_mut().zip(&counts).enumerate() {
        if let Some(candidate) = &own.candidate {
            own.key = choose_key(stack, candidate, &own.table, counts, &votes[at]);
            own.texts = texts_setting(candidate, &own.table, &own.key, counts);
        }
    }
    // Of the keys all are needed, so that what points to them can be looked up.
    let key_of = |(table, own): (usize, &Studied)| {
        let [part] = own.key.parts.as_slice() else { return None };
        let field = own.table.field(part).filter(|field| counts[table].columns[*field].level > 0)?;
        Some(Wanted { table, field, split: Split::default() })
    };
    let keys: Vec<Wanted> = studied.iter().enumerate().filter_map(key_of).collect();
    let whole = profile(stack, &tables, &files, &keys, usize::MAX);
    for wanted in &keys {
        let own = std::mem::take(&mut counts[wanted.table].columns[wanted.field]);
        counts[wanted.table].columns[wanted.field] =
            whole[wanted.table].columns.first().cloned().unwrap_or(own);
        let unique = counts[wanted.table].columns[wanted.field].distinct.len() as u64;
        studied[wanted.table].key.unique = unique;
    }
    let above = keys_above(stack, through, &studied, &tables);
    let study =
        Study { stack, studied: &studied, tables: &tables, files: &files, counts: &counts, above: &above };
    let mut proposals: Vec<Proposal> = Vec::new();
    for (at, own) in studied.iter().enumerate() {
        proposals.extend(table_proposal(own, &counts[at]));
    }
    let follows = study.follows();
    let repeats: BTreeSet<(usize, usize)> = follows
        .iter()
        .filter(|(_, own)| own.around.0.is_empty() && own.around.1.is_empty())
        .map(|(table, own)| (*table, own.field))
        .collect();
    let mut links = study.links();
    // What repeats its own key is no reference to its own table.
    links.retain(|link| {
        !repeats.iter().any(|(table, field)| {
            let own = &studied[*table];
            let is_it =
                own.table.name == link.table && link.field.as_ref() == Some(&own.table.fields[*field].name);
            let own_files = own.key.parts == [STEM];
            is_it && !own_files
        })
    });
    proposals.extend(follows.iter().map(|(table, own)| study.followed(*table, own)));
    let linked: BTreeSet<(String, String)> = links
        .iter()
        .filter(|link| link.band != Band::Hidden)
        .filter_map(|link| Some((link.table.clone(), link.field.clone()?)))
        .collect();
    proposals.extend(links);
    proposals.extend(study.kinds(&linked));
    proposals.extend(study.shared(&linked));
    let order: HashMap<&str, usize> =
        studied.iter().enumerate().map(|(at, own)| (own.table.name.as_str(), at)).collect();
    proposals
        .sort_by_key(|own| (order.get(own.table.as_str()).copied(), own.topic != Topic::Table, own.band));
    Learned {
        proposals,
        unknown: unknown.iter().map(|file| stack.files()[*file].path.to_string()).collect(),
        binary,
        languages: languages.into_iter().collect(),
        tables: studied.len(),
        records: counts.iter().map(|counts| counts.records).sum(),
    }
}

/// The tables that the schema describes, with all columns that their files have.
fn described(stack: &Stack, schema: &Schema, through: LayerId) -> Vec<Studied> {
    let files = candidates::files_to_study(stack, through);
    let mut of: Vec<Vec<FileId>> = vec![Vec::new(); schema.tables.len()];
    for file in files {
        schema.tables_of(&stack.files()[file].path).into_iter().for_each(|table| of[table].push(file));
    }
    schema
        .tables
        .iter()
        .zip(of)
        .filter(|(table, _)| !table.is_of_files())
        .map(|(table, files)| {
            let wide = table.widened(&columns_of(stack, table, &files, &[]));
            let says_nothing = |field: &usize| {
                let own = &wide.fields[*field];
                let Layout::Whole(rule) = own.layout else { return false };
                !wide.rules[rule].says_something()
                    && own.list.is_none()
                    && own.follows.is_none()
                    && !own.note
                    && !own.inherit
            };
            let open = (0..wide.fields.len()).filter(says_nothing).collect();
            let parts = wide.key.iter().map(|part| wide.key_part_name(*part).to_owned()).collect();
            let key = KeyChoice { parts, ..KeyChoice::default() };
            Studied { table: wide, files, candidate: None, key, open, texts: None }
        })
        .collect()
}

/// For each table the keys that the mod has in files which take the place of those that are studied: other files
/// of the mod point to them.
fn keys_above(stack: &Stack, through: LayerId, studied: &[Studied], tables: &[Table]) -> Vec<Vec<u64>> {
    let effective = stack.effective(through);
    let of_mod: Vec<FileId> =
        effective.into_iter().filter(|file| stack.layers()[stack.files()[*file].layer].is_mod).collect();
    let replacing = |own: &Studied| -> Vec<FileId> {
        let paths: BTreeSet<&str> = own.files.iter().map(|file| stack.files()[*file].path.as_str()).collect();
        let takes =
            |file: &&FileId| paths.contains(stack.files()[**file].path.as_str()) && !own.files.contains(file);
        of_mod.iter().filter(takes).copied().collect()
    };
    let files: Vec<Vec<FileId>> = studied.iter().map(replacing).collect();
    let wanted = studied.iter().enumerate().filter_map(|(table, own)| {
        let [part] = own.key.parts.as_slice() else { return None };
        Some(Wanted { table, field: own.table.field(part)?, split: Split::default() })
    });
    let wanted: Vec<Wanted> = wanted.filter(|wanted| !files[wanted.table].is_empty()).collect();
    let counts = profile(stack, tables, &files, &wanted, usize::MAX);
    let keys = |counts: &Counts| counts.columns.iter().flat_map(|own| own.distinct.keys().copied()).collect();
    counts.iter().map(keys).collect()
}

/// A candidate as a table that can be read.
fn undescribed(stack: &Stack, schema: &Schema, candidate: Candidate) -> Option<Studied> {
    let patterns: Vec<String> = candidate.patterns.iter().map(|pattern| quoted(pattern)).collect();
    let source = format!(
        "[table.t]\nfiles = [{}]\nformat = {}\nkey = \"{{path}}\"\n",
        patterns.join(", "),
        candidate.format
    );
    let (read, problems) = schema::read(&[("learned".to_owned(), source)], &schema.languages);
    if !problems.is_empty() {
        return None;
    }
    let mut table = read.tables.into_iter().next()?;
    table.name = candidate.name.clone();
    let columns = columns_of(stack, &table, &candidate.files, &candidate.shape.columns);
    let table = table.widened(&columns);
    let open = (0..table.fields.len()).collect();
    let (files, key) = (candidate.files.clone(), KeyChoice::default());
    Some(Studied { table, files, candidate: Some(candidate), key, open, texts: None })
}

/// The columns that the files of a table have: `known` first, then those that the format tells of.
fn columns_of(stack: &Stack, table: &Table, files: &[FileId], known: &[String]) -> Vec<String> {
    let mut out: Vec<String> = known.to_vec();
    let nested = !known.is_empty() && matches!(table.format_name, "json" | "xml" | "blocks");
    if nested {
        return out;
    }
    let step = files.len().div_ceil(LOOKED_AT).max(1);
    let mut seen: BTreeSet<String> = out.iter().cloned().collect();
    for file in files.iter().step_by(step) {
        let columns = with_text(stack, *file, |text| {
            let sample = crate::text::Text::of_file(recognise::sample(text.as_str()));
            table.format.columns(&sample)
        });
        for column in columns.unwrap_or_default() {
            if seen.insert(column.clone()) {
                out.push(column);
            }
        }
    }
    out
}

/// For each table and field how many columns elsewhere seem to hold its values: what others point to is
/// most likely the key.
fn votes(studied: &[Studied], counts: &[Counts]) -> Vec<Vec<u32>> {
    let mut targets = Targets::default();
    let mut fields: Vec<(usize, usize)> = Vec::new();
    for (table, own) in studied.iter().enumerate().filter(|(_, own)| own.candidate.is_some()) {
        for (field, profile) in counts[table].columns.iter().enumerate() {
            if profile.is_unique(counts[table].records) && profile.is_identifiers() && !profile.is_numeric() {
                fields.push((table, field));
                let target = Target {
                    leads: Leads::Record(table),
                    name: own.table.name.clone(),
                    column: own.table.fields[field].name.clone(),
                    keys: profile.distinct.len(),
                    dense: false,
                    lettered: true,
                };
                targets.add(target, profile.distinct.keys().copied());
            }
        }
    }
    let level = |(table, field): (usize, usize)| counts[table].columns[field].level;
    let mut votes: Vec<Vec<u32>> = counts.iter().map(|own| vec![0; own.columns.len()]).collect();
    for (table, own) in studied.iter().enumerate() {
        let by_language =
            own.candidate.as_ref().is_some_and(|own| own.kind == "po" || own.patterns[0].contains("{lang}"));
        for (field, profile) in counts[table].columns.iter().enumerate() {
            if by_language || profile.distinct.len() < 3 || profile.is_numeric() || !profile.is_identifiers()
            {
                continue;
            }
            let name = own.table.fields[field].name.clone();
            let source = Source { table, name, profiles: vec![profile], is_key: false };
            for hits in references::hits(&source, &targets) {
                let target = fields[hits.target];
                // Of what was not kept of the target nothing can be said.
                let known =
                    profile.distinct.keys().filter(|hash| hash.trailing_zeros() >= level(target)).count();
                if known >= 3 && hits.distinct * 10 >= known as u64 * 9 && target != (table, field) {
                    votes[target.0][target.1] += 1;
                }
            }
        }
    }
    votes
}

fn choose_key(
    stack: &Stack,
    candidate: &Candidate,
    table: &Table,
    counts: &Counts,
    votes: &[u32],
) -> KeyChoice {
    if candidate.shape.key.as_deref() == Some("{section}/{key}") {
        let parts = vec!["{section}".to_owned(), "{key}".to_owned()];
        return KeyChoice { parts, unique: counts.records, rivals: Vec::new() };
    }
    keys::single(candidate, table, counts, votes)
        .or_else(|| keys::several(stack, candidate, table, counts))
        .unwrap_or_else(|| {
            // Nothing names the records: the place does as well as anything.
            let first = table.fields.first().map(|field| field.name.clone());
            let part = candidate.shape.key.clone().filter(|key| table.field(key).is_some()).or(first);
            KeyChoice { parts: part.into_iter().collect(), unique: 0, rivals: Vec::new() }
        })
}

/// What the schema is to say of a table that seems to hold texts.
fn texts_setting(candidate: &Candidate, table: &Table, key: &KeyChoice, counts: &Counts) -> Option<String> {
    if candidate.kind == "po" {
        return Some("\"msgstr\"".to_owned());
    }
    let languages: Vec<&str> = table
        .fields
        .iter()
        .map(|field| field.name.as_str())
        .filter(|name| names::is_language(name))
        .collect();
    if languages.len() >= 2 && languages.len() + 2 >= table.fields.len() {
        return Some("true".to_owned());
    }
    let by_path = candidate.patterns.iter().any(|pattern| pattern.contains("{lang}"));
    let prose = |at: &usize| {
        let own = &counts.columns[*at];
        own.values > 0 && own.spaced * 10 >= own.values * 3
    };
    let others: Vec<usize> =
        (0..table.fields.len()).filter(|at| !key.parts.contains(&table.fields[*at].name)).collect();
    let text_like = others.iter().copied().filter(prose).collect::<Vec<_>>();
    let quoted_lines = candidate.kind == "lines" && table.fields.len() == 2;
    match text_like[..] {
        [one] if by_path || (quoted_lines && others.len() == 1) => Some(quoted(&table.fields[one].name)),
        [] if by_path && others.len() == 1 => Some(quoted(&table.fields[others[0]].name)),
        _ => None,
    }
}

fn table_proposal(own: &Studied, counts: &Counts) -> Option<Proposal> {
    let candidate = own.candidate.as_ref()?;
    let list = |values: &[String]| match values {
        [one] => quoted(one),
        many => format!("[{}]", many.iter().map(|value| quoted(value)).collect::<Vec<_>>().join(", ")),
    };
    let mut settings = vec![
        ("files".to_owned(), list(&candidate.patterns)),
        ("format".to_owned(), candidate.format.clone()),
        ("key".to_owned(), list(&own.key.parts)),
    ];
    let mut reasons: Vec<String> = candidate.doubt.iter().map(|doubt| (*doubt).to_owned()).collect();
    if let Some(encoding) = &candidate.encoding {
        settings.insert(2, ("encoding".to_owned(), quoted(encoding)));
        reasons.push(format!("that the files are in {encoding} is a guess"));
    }
    if candidate.merged {
        settings.push(("layering".to_owned(), "\"merge\"".to_owned()));
        reasons.push(
            "a file of a higher layer has far less in it than the one below, so that it seems to add to it"
                .to_owned(),
        );
    }
    if let Some(texts) = &own.texts {
        settings.push(("texts".to_owned(), texts.clone()));
    }
    let by_language = candidate.merged || candidate.patterns.iter().any(|pattern| pattern.contains("{lang}"));
    let whole = own.key.unique == counts.records || by_language;
    let nearly = own.key.unique * 100 >= counts.records * 98;
    if own.key.unique == 0 && !by_language {
        reasons.push("no columns were found that name a record".to_owned());
    } else if !whole {
        reasons.push(format!(
            "{} of {} records share their key with another",
            counts.records - own.key.unique.min(counts.records),
            counts.records
        ));
    }
    let band = match () {
        () if counts.records == 0 => Band::Hidden,
        () if candidate.doubt.is_some() || own.key.unique == 0 && !by_language => Band::Ask,
        () if whole || nearly => Band::Accept,
        () => Band::Ask,
    };
    let band = match candidate.shape.whole_file && counts.records == 1 {
        true => {
            reasons.push("it is one file, taken for one record".to_owned());
            band.max(Band::Ask)
        }
        false => band,
    };
    let texts = if own.texts.is_some() { ", texts" } else { "" };
    Some(Proposal {
        band,
        topic: Topic::Table,
        table: own.table.name.clone(),
        field: None,
        says: format!("{} in {}{texts}", candidate.kind, candidate.patterns.join(", ")),
        needs: Vec::new(),
        settings,
        values: counts.records,
        fit: if by_language { counts.records } else { own.key.unique.min(counts.records) },
        distinct: own.key.unique,
        none: Vec::new(),
        exceptions: Vec::new(),
        rivals: if by_language { Vec::new() } else { own.key.rivals.clone() },
        reasons,
    })
}

/// All that the columns are judged by.
struct Study<'s> {
    stack: &'s Stack,
    studied: &'s [Studied],
    tables: &'s [Table],
    files: &'s [Vec<FileId>],
    counts: &'s [Counts],
    /// For each table the keys, by their hashes, that only files of the mod have which take the place of those
    /// that are studied.
    above: &'s [Vec<u64>],
}

/// A column in one of the ways in which it can be taken.
struct Way {
    /// The fields, which are more than one if their names differ only in a number.
    fields: Vec<usize>,
    table: usize,
    split: Split,
}

impl Study<'_> {
    /// Where columns point.
    fn links(&self) -> Vec<Proposal> {
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
            let resolves = found.as_ref().is_some_and(|found| found.best.distinct * 2 > found.distinct);
            if !resolves && !source.is_key {
                unresolved.push(way);
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
        let wanted: Vec<Wanted> = parted
            .iter()
            .flat_map(|way| {
                way.fields.iter().map(|field| Wanted { table: way.table, field: *field, split: way.split })
            })
            .collect();
        let parted_counts = profile(self.stack, self.tables, self.files, &wanted, SAMPLED);
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
        let mut all: Vec<(&Way, &Source<'_>, &Suspicion)> = Vec::new();
        for (way, (source, found)) in whole.iter().zip(sources.iter().zip(&found)) {
            all.extend(found.as_ref().map(|found| (way, source, found)));
        }
        // Of several ways to take a value apart, the one that explains most counts.
        let mut best: BTreeMap<(usize, Vec<usize>), (u64, usize)> = BTreeMap::new();
        for (at, (way, found)) in parted.iter().zip(&parted_found).enumerate() {
            let Some(found) = found else { continue };
            let share = found.best.distinct * 1000 / found.distinct.max(1);
            let own = best.entry((way.table, way.fields.clone())).or_insert((0, at));
            if share > own.0 {
                *own = (share, at);
            }
        }
        for (_, at) in best.values() {
            if let Some(found) = &parted_found[*at] {
                all.push((&parted[*at], &parted_sources[*at], found));
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
        let left: Vec<Seen> = all.iter().flat_map(|(_, _, found)| found.left.iter().copied()).collect();
        let texts = texts_of(self.stack, &left);
        let near = Near { study: self, targets: &targets, indexes: RefCell::default() };
        let places = Places { stack: self.stack, files: RefCell::default() };
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
        let composite = self.composite(&out);
        out.retain(|own| !composite.iter().any(|new| new.table == own.table && new.field == own.field));
        out.extend(composite);
        out
    }

    /// The ways in which something that all values have before or behind them is taken away.
    fn decorated(&self, ways: &[&Way]) -> Vec<Way> {
        /// So many values are looked at, and no fewer than so many say anything.
        const TRIED: usize = 100;
        const LEAST: usize = 4;
        let seen: Vec<Vec<Seen>> = ways.iter().map(|way| self.some_values(way, TRIED)).collect();
        let texts = texts_of(self.stack, &seen.concat());
        let mut start = 0;
        let mut out = Vec::new();
        for (way, seen) in ways.iter().zip(&seen) {
            let own = &texts[start..start + seen.len()];
            start += seen.len();
            let own: Vec<&str> =
                own.iter().map(String::as_str).filter(|text| !references::is_usual_none(text)).collect();
            let around = if own.len() >= LEAST { shared_around(&own) } else { Vec::new() };
            out.extend(around.into_iter().map(|around| Way {
                fields: way.fields.clone(),
                table: way.table,
                split: Split { around: Some(around), ..Split::default() },
            }));
        }
        out
    }

    /// Columns of which another one tells to which table they point.
    fn conditional<'a>(
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
            let one_does = found.as_ref().is_some_and(|found| {
                found.best.values * 100 >= found.values * 97 || found.best.distinct == found.distinct
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
            };
            let siblings: Vec<usize> = (0..own.table.fields.len()).filter(could_tell).collect();
            if siblings.is_empty() {
                continue;
            }
            let told = siblings::telling(self.stack, &own.table, &own.files, field, &siblings, targets);
            let Some(told) = told.filter(|told| told.values >= LEAST) else { continue };
            let by = &own.table.fields[told.field].name;
            let cases: Vec<(&String, &str)> = told
                .cases
                .iter()
                .filter_map(|(value, target)| Some((value, targets.list[(*target)?].name.as_str())))
                .collect();
            let is_bare = |value: &str| {
                value.bytes().all(|byte| byte.is_ascii_alphanumeric() || byte == b'_' || byte == b'-')
            };
            let name = |value: &String| if is_bare(value) { value.clone() } else { quoted(value) };
            let refs: Vec<String> =
                cases.iter().map(|(value, table)| format!("{} = {}", name(value), quoted(table))).collect();
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
                    ("by".to_owned(), quoted(by)),
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

    /// Columns that together name a record of a table whose key has several parts: those with the names of the
    /// parts. `links` is what points somewhere by itself.
    fn composite(&self, links: &[Proposal]) -> Vec<Proposal> {
        let mut out = Vec::new();
        let fields = |own: &Studied, names: &[String]| -> Option<Vec<usize>> {
            names.iter().map(|name| own.table.field(name)).collect()
        };
        for (at, owner) in self.studied.iter().enumerate() {
            let Some(key) = fields(owner, &owner.key.parts).filter(|key| key.len() > 1) else { continue };
            for (other, own) in self.studied.iter().enumerate().filter(|(other, _)| *other != at) {
                let Some(columns) = fields(own, &owner.key.parts) else { continue };
                let is_linked = |field: &usize| {
                    links.iter().any(|link| {
                        link.band != Band::Hidden
                            && link.table == own.table.name
                            && link.field.as_ref() == Some(&own.table.fields[*field].name)
                    })
                };
                let free = columns.iter().rev().find(|field| own.open.contains(field) && !is_linked(field));
                let same_key = own.key.parts == owner.key.parts;
                let Some(field) =
                    free.filter(|_| !same_key || self.counts[other].records < self.counts[at].records)
                else {
                    continue;
                };
                let found = siblings::together(
                    self.stack,
                    (&owner.table, &owner.files, &key),
                    (&own.table, &own.files, &columns),
                );
                if found.distinct < 4 || found.fit * 100 < found.values * 95 {
                    continue;
                }
                let with: Vec<String> = owner
                    .key
                    .parts
                    .iter()
                    .zip(&columns)
                    .map(|(name, column)| quoted(if column == field { "{}" } else { name }))
                    .collect();
                let sure = found.fit == found.values && found.distinct >= 8 && !same_key;
                out.push(Proposal {
                    band: if sure { Band::Accept } else { Band::Ask },
                    topic: Topic::Link,
                    table: own.table.name.clone(),
                    field: Some(own.table.fields[*field].name.clone()),
                    says: format!(
                        "points to {}, together with {}",
                        owner.table.name,
                        owner.key.parts.join(" and ")
                    ),
                    needs: vec![owner.table.name.clone()],
                    settings: vec![
                        ("ref".to_owned(), quoted(&owner.table.name)),
                        ("with".to_owned(), format!("[{}]", with.join(", "))),
                    ],
                    values: found.values,
                    fit: found.fit,
                    distinct: found.distinct,
                    none: Vec::new(),
                    exceptions: Vec::new(),
                    rivals: Vec::new(),
                    reasons: vec!["the columns are called as the parts of the key".to_owned()],
                });
            }
        }
        out
    }

    /// About `most` of the different values of a way's columns, spread over the files.
    fn some_values(&self, way: &Way, most: usize) -> Vec<Seen> {
        let columns = way.fields.iter().map(|field| &self.counts[way.table].columns[*field]);
        let mut seen: Vec<Seen> = columns.flat_map(|column| column.distinct.values().copied()).collect();
        seen.sort_by_key(|seen| (seen.file, seen.cell.span.start));
        let step = seen.len().div_ceil(most).max(1);
        seen.into_iter().step_by(step).collect()
    }

    /// Keeps those ways to take values apart in which the pieces of a few values lead somewhere.
    fn retain_promising(&self, ways: &mut Vec<Way>, targets: &Targets) {
        /// So many values of each column are tried.
        const TRIED: usize = 200;
        let seen: Vec<Vec<Seen>> = ways.iter().map(|way| self.some_values(way, TRIED)).collect();
        let texts = texts_of(self.stack, &seen.concat());
        let mut start = 0;
        let promising = |(way, seen): (&mut Way, &Vec<Seen>)| {
            let own = &texts[start..start + seen.len()];
            start += seen.len();
            way.split.counted = way.split.list.is_some_and(|list| are_counted(own, list));
            let (mut pieces, mut hits) = (0u32, vec![0u32; targets.list.len()]);
            for text in own {
                way.split.pieces(text, |piece, _| {
                    pieces += 1;
                    targets.of(key_hash(piece, false)).for_each(|target| hits[target] += 1);
                });
            }
            // One of several tables may have them, and some may stand for "nothing".
            hits.iter().any(|hits| *hits > 0 && hits * 5 >= pieces)
        };
        let keep: Vec<bool> = ways.iter_mut().zip(&seen).map(promising).collect();
        let mut keep = keep.into_iter();
        ways.retain(|_| keep.next().unwrap_or_default());
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
                let wanted = way.fields.iter().map(|field| Wanted {
                    table: way.table,
                    field: *field,
                    split: way.split,
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

    /// The columns that could point somewhere, those taken together whose names differ only in a number.
    fn ways(&self) -> Vec<Way> {
        let mut out: Vec<Way> = Vec::new();
        let no_texts = |own: &&(usize, &Studied)| own.1.texts.is_none() && own.1.table.texts.is_none();
        for (table, own) in
            self.studied.iter().enumerate().collect::<Vec<_>>().iter().filter(no_texts).copied()
        {
            let mut families: BTreeMap<(String, bool), Vec<usize>> = BTreeMap::new();
            for field in &own.open {
                let profile = &self.counts[table].columns[*field];
                if profile.is_identifiers() {
                    let name = &own.table.fields[*field].name;
                    families.entry((family(name), profile.is_numeric())).or_default().push(*field);
                }
            }
            let names = |field: &usize| own.table.fields[*field].name.as_str();
            let (families, singles): (Vec<_>, Vec<_>) =
                families.into_values().partition(|fields| are_numbered(fields.iter().map(names)));
            let singles = singles.into_iter().flatten().map(|field| vec![field]);
            let families = families.into_iter().chain(singles);
            out.extend(families.map(|fields| Way { fields, table, split: Split::default() }));
        }
        out
    }

    fn source<'p>(&self, way: &Way, columns: &'p [Profile]) -> Source<'p> {
        let own = &self.studied[way.table];
        let name = &own.table.fields[way.fields[0]].name;
        let is_key = own.key.parts.len() == 1
            && way.fields.iter().any(|field| own.table.fields[*field].name == own.key.parts[0]);
        Source {
            table: way.table,
            name: if way.fields.len() > 1 { family(name) } else { name.clone() },
            profiles: way.fields.iter().map(|field| &columns[*field]).collect(),
            is_key,
        }
    }

    /// What can be pointed to: keys of one part, texts, files.
    fn targets(&self) -> Targets {
        let mut targets = Targets::default();
        let mut texts: BTreeSet<u64> = BTreeSet::new();
        for (at, own) in self.studied.iter().enumerate() {
            let [part] = own.key.parts.as_slice() else { continue };
            let is_texts = own.texts.is_some() || own.table.texts.is_some();
            let counts = &self.counts[at];
            let (mut values, numbers, lettered): (Vec<u64>, Option<(f64, f64)>, bool) = match own
                .table
                .field(part)
            {
                Some(field) => {
                    let profile = &counts.columns[field];
                    let range = (profile.numbers > 0).then_some((profile.lowest, profile.highest));
                    (profile.distinct.keys().copied().collect(), range, !profile.is_numeric())
                }
                None if part == STEM => {
                    let stems =
                        own.files.iter().map(|file| key_hash(self.stack.files()[*file].path.stem(), false));
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
            let dense = !lettered
                && numbers
                    .is_some_and(|(low, high)| (high - low + 1.0) < keys as f64 * 3.0 && low.abs() < 100.0);
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
        self.add_files(&mut targets);
        targets
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
    fn owners(&self, targets: &Targets) -> BTreeMap<usize, usize> {
        let mut owners = BTreeMap::new();
        for (id, target) in targets.list.iter().enumerate() {
            let Leads::Record(table) = target.leads else { continue };
            let own = &self.studied[table];
            let stems;
            let profiles = match own.table.field(&target.column) {
                Some(field) => vec![&self.counts[table].columns[field]],
                None => {
                    stems = self.stems(own);
                    vec![&stems]
                }
            };
            let is_file = own.table.field(&target.column).is_none();
            let source = Source { table, name: target.column.clone(), profiles, is_key: true };
            let best = references::hits(&source, targets)
                .into_iter()
                .filter(|hits| hits.target != id && hits.distinct * 50 >= target.keys as u64 * 49)
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
                    named > own_named || (named == own_named && other.keys > target.keys)
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

    /// A suspicion as a proposal for each of its fields.
    fn link(
        &self,
        way: &Way,
        source: &Source<'_>,
        found: &Suspicion,
        exceptions: &Exceptions,
        targets: &Targets,
        places: &Places<'_>,
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
        // A file's name loses to a declared key.
        let counts = |rival: &&references::Hits| {
            is_file || !matches!(targets.list[rival.target].leads, Leads::File(_))
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
            1 => reasons.push(format!("the name shares a word with `{}`", target.name)),
            _ => {}
        }
        if numeric {
            reasons.push("the values are numbers, which fit by chance more often".to_owned());
        }
        let band = if numeric {
            let rare = !target.dense && !target.lettered;
            match (named, explained > 0.98, rare) {
                (2, true, true) if distinct >= 3 => Band::Accept,
                (2, true, false) if distinct >= 3 && distinct as usize * 2 >= target.keys => Band::Ask,
                (1.., true, _) if distinct >= 2 => Band::Ask,
                (0, true, true) if distinct >= 10 && as_good.is_empty() && fit == values => Band::Ask,
                _ => Band::Hidden,
            }
        } else {
            let enough = match named {
                2 => distinct >= 2 || (distinct == 1 && target.keys <= 3),
                1 => distinct >= 3,
                _ => distinct >= 4 && !is_file || distinct >= 6,
            };
            match () {
                () if explained >= 0.97 && enough && as_good.is_empty() => Band::Accept,
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
                let shown: Vec<String> = names.iter().map(|name| quoted(name)).collect();
                (
                    format!("points to one of {}", names.join(", ")),
                    vec![("ref".to_owned(), format!("[{}]", shown.join(", ")))],
                )
            }
            Leads::Record(_) if source.is_key && fit == values && found.about as usize == target.keys => (
                format!("names the same records as {}, one to one", target.name),
                vec![("ref".to_owned(), quoted(&target.name))],
            ),
            Leads::Record(_) => {
                (format!("points to {}", target.name), vec![("ref".to_owned(), quoted(&target.name))])
            }
            Leads::Text => ("is a text key".to_owned(), vec![("text".to_owned(), "true".to_owned())]),
            Leads::File(template) => {
                (format!("names a file {template}"), vec![("file".to_owned(), quoted(template))])
            }
        };
        if let Some(list) = way.split.list {
            settings.push(("list".to_owned(), quoted(&list.to_string())));
            if way.split.counted {
                settings.push(("counted".to_owned(), "true".to_owned()));
            }
        }
        match way.split.part {
            None if way.split.around.is_some() => {
                let name = names::stem_words(&target.name).join("_");
                let name = if name.is_empty() { "what".to_owned() } else { name };
                let (before, behind) = way.split.around.unwrap_or_default();
                settings.push((
                    "parts".to_owned(),
                    quoted(&format!("{}{{{name}}}{}", before.text(), behind.text())),
                ));
                let inside: Vec<String> =
                    link.iter().map(|(name, value)| format!("{name} = {value}")).collect();
                settings.push((name, format!("{{ {} }}", inside.join(", "))));
            }
            None => settings.extend(link),
            Some((sign, part)) => {
                let name = names::stem_words(&target.name).join("_");
                let name = if name.is_empty() { "what".to_owned() } else { name };
                let shape = if part == 0 {
                    format!("{{{name}}}{sign}{{amount}}")
                } else {
                    format!("{{what}}{sign}{{{name}}}")
                };
                settings.push(("parts".to_owned(), quoted(&shape)));
                let inside: Vec<String> =
                    link.iter().map(|(name, value)| format!("{name} = {value}")).collect();
                settings.push((name, format!("{{ {} }}", inside.join(", "))));
            }
        }
        match exceptions.none.as_slice() {
            [] => {}
            [(one, _)] => settings.push(("none".to_owned(), quoted(one))),
            many => {
                let many: Vec<String> = many.iter().map(|(none, _)| quoted(none)).collect();
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
            .filter(|target| matches!(target.leads, Leads::Record(_)));
        let needs: Vec<String> = records.map(|target| target.name.clone()).collect();
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

    /// A question about the values of a column: what it `says`, and the setting that would say `true`.
    fn question(own: &Studied, name: &str, profile: &Profile, says: &str, setting: &str) -> Proposal {
        Proposal {
            band: Band::Ask,
            topic: Topic::Values,
            table: own.table.name.clone(),
            field: Some(name.to_owned()),
            says: says.to_owned(),
            needs: Vec::new(),
            settings: vec![(setting.to_owned(), "true".to_owned())],
            values: profile.values,
            fit: profile.values,
            distinct: profile.different(),
            none: Vec::new(),
            exceptions: Vec::new(),
            rivals: Vec::new(),
            reasons: Vec::new(),
        }
    }

    /// The columns that repeat the key of their record, with the positions of their tables.
    fn follows(&self) -> Vec<(usize, follows::Follows)> {
        let mut out = Vec::new();
        for (at, own) in self.studied.iter().enumerate() {
            let counts = &self.counts[at];
            let [key] = own.key.parts.as_slice() else { continue };
            if counts.records < 3 || own.texts.is_some() || own.table.texts.is_some() {
                continue;
            }
            let could = |field: &usize| {
                let profile = &counts.columns[*field];
                let many = profile.uniqueness() >= 0.9;
                own.table.fields[*field].name != *key
                    && profile.values > 2
                    && many
                    && profile.is_identifiers()
            };
            let mut fields: Vec<usize> = own.open.iter().copied().filter(could).collect();
            let look = |files: &[FileId], fields: &[usize]| {
                follows::follows(self.stack, &own.table, files, key, fields)
            };
            if own.files.len() > 1 {
                // What does not follow it in the first files does not at all.
                let first = look(&own.files[..own.files.len().min(8)], &fields);
                let no = |field: &usize| {
                    first.iter().any(|found| found.field == *field && found.fit * 2 < found.values)
                };
                let none = |field: &usize| !first.iter().any(|found| found.field == *field);
                fields.retain(|field| !no(field) && !none(field));
            }
            let found = look(&own.files, &fields);
            let whole = |own: &follows::Follows| own.fit >= 3 && own.fit * 100 >= own.values * 95;
            let telling = |found: &follows::Follows| {
                // A number within a number says little.
                !counts.columns[found.field].is_numeric() || found.around == (String::new(), String::new())
            };
            out.extend(
                found.into_iter().filter(|found| whole(found) && telling(found)).map(|found| (at, found)),
            );
        }
        out
    }

    /// A column that follows the key, as a proposal.
    fn followed(&self, table: usize, found: &follows::Follows) -> Proposal {
        let own = &self.studied[table];
        let (before, behind) = &found.around;
        let is_plain = |text: &str| !text.contains(['{', '}', '[', ']']);
        let sure = found.fit == found.values && found.values >= 5 && is_plain(before) && is_plain(behind);
        Proposal {
            band: if sure { Band::Accept } else { Band::Ask },
            topic: Topic::Values,
            table: own.table.name.clone(),
            field: Some(own.table.fields[found.field].name.clone()),
            says: "is made from the record's key".to_owned(),
            needs: Vec::new(),
            settings: vec![("follows".to_owned(), quoted(&format!("{before}{{key}}{behind}")))],
            values: found.values,
            fit: found.fit,
            distinct: found.values,
            none: Vec::new(),
            exceptions: Vec::new(),
            rivals: Vec::new(),
            reasons: vec![format!("{before}{{key}}{behind}")],
        }
    }

    /// What kinds of values the columns hold that point nowhere.
    fn kinds(&self, linked: &BTreeSet<(String, String)>) -> Vec<Proposal> {
        let mut asked: Vec<(usize, usize, Vec<Seen>)> = Vec::new();
        for (table, own) in self.studied.iter().enumerate() {
            let is_texts = own.texts.is_some() || own.table.texts.is_some();
            for field in own.open.iter().filter(|_| !is_texts) {
                let name = &own.table.fields[*field].name;
                if !linked.contains(&(own.table.name.clone(), name.clone())) {
                    asked.push((table, *field, values::telling(&self.counts[table].columns[*field])));
                }
            }
        }
        let seen: Vec<Seen> = asked.iter().flat_map(|(_, _, seen)| seen.iter().copied()).collect();
        let texts = texts_of(self.stack, &seen);
        let mut start = 0;
        let mut out = Vec::new();
        for (table, field, seen) in asked {
            let own_texts = &texts[start..start + seen.len()];
            start += seen.len();
            let own = &self.studied[table];
            let name = &own.table.fields[field].name;
            let profile = &self.counts[table].columns[field];
            let is_key = own.key.parts.contains(name);
            if names::is_note(name) {
                out.push(Self::question(own, name, profile, "a note for people, by its name", "note"));
                continue;
            }
            let unique = !is_key && values::seems_unique(name, profile, self.counts[table].records);
            let kind = values::kind_of(profile, is_key, &seen, own_texts);
            let base = Self::question(own, name, profile, "no two are the same", "unique");
            if let Some(values::Total { separator, total }) = values::total(profile, own_texts) {
                let says = format!("lists of numbers that add up to {total}");
                let settings = vec![
                    ("list".to_owned(), quoted(&separator.to_string())),
                    ("type".to_owned(), quoted("number")),
                    ("about".to_owned(), quoted(&format!("The items add up to {total}."))),
                ];
                out.push(Proposal { says, settings, ..base });
                continue;
            }
            let dense = values::is_dense(profile) && !is_key;
            if unique || dense {
                let says = match dense {
                    true => format!("numbered from {} to {} without a gap", profile.lowest, profile.highest),
                    false => base.says.clone(),
                };
                out.push(Proposal { says, ..base.clone() });
            }
            if let Some(bits) = values::bits(profile, own_texts).filter(|_| !is_key) {
                let shown: Vec<String> = bits.iter().map(i64::to_string).collect();
                let says = format!("flag bits: {}", shown.join(", "));
                let settings =
                    vec![("about".to_owned(), quoted(&format!("Flag bits: {}.", shown.join(", "))))];
                out.push(Proposal { says, settings, ..base.clone() });
            }
            if let Some((low, high)) = values::range(profile).filter(|_| !is_key && !dense) {
                let says = format!("numbers from {low} to {high}, so far");
                let settings = vec![("range".to_owned(), format!("[{low}, {high}]"))];
                out.push(Proposal { band: Band::Hidden, says, settings, ..base.clone() });
            }
            if let Some(kind) = kind.filter(|_| name != STEM) {
                let values::Kind { band, says, settings, fit, reasons, none } = kind;
                out.push(Proposal { band, says, settings, fit, reasons, none, ..base });
            }
        }
        out
    }
}

impl Study<'_> {
    /// Columns of one name in several tables that point nowhere and hold much the same words.
    fn shared(&self, linked: &BTreeSet<(String, String)>) -> Vec<Proposal> {
        let mut by_name: BTreeMap<String, Vec<(usize, usize)>> = BTreeMap::new();
        for (table, own) in self.studied.iter().enumerate() {
            let is_texts = own.texts.is_some() || own.table.texts.is_some();
            for field in own.open.iter().filter(|_| !is_texts) {
                let name = &own.table.fields[*field].name;
                let profile = &self.counts[table].columns[*field];
                let words = profile.level == 0
                    && profile.distinct.len() >= 2
                    && profile.lettered == profile.values
                    && profile.booleans == 0
                    && profile.is_identifiers();
                let points = linked.contains(&(own.table.name.clone(), name.clone()));
                if words && !points && !own.key.parts.contains(name) {
                    by_name.entry(name.to_lowercase()).or_default().push((table, *field));
                }
            }
        }
        let mut out = Vec::new();
        for columns in by_name.into_values().filter(|columns| columns.len() > 1) {
            for (at, field) in &columns {
                let own = &self.counts[*at].columns[*field].distinct;
                let with = columns.iter().filter(|(table, other)| {
                    let others = &self.counts[*table].columns[*other].distinct;
                    let both = own.keys().filter(|hash| others.contains_key(*hash)).count();
                    (table, other) != (at, field) && both >= 2 && both * 10 >= own.len().min(others.len()) * 6
                });
                let with: Vec<String> = with
                    .map(|(table, other)| {
                        let other_table = &self.studied[*table].table;
                        format!("{}.{}", other_table.name, other_table.fields[*other].name)
                    })
                    .collect();
                if with.is_empty() {
                    continue;
                }
                let table = &self.studied[*at];
                let name = &table.table.fields[*field].name;
                let says = format!("the same words as in {}", with.join(", "));
                let about = format!("The same words as in {}.", with.join(", "));
                let base = Self::question(table, name, &self.counts[*at].columns[*field], "", "about");
                out.push(Proposal { says, settings: vec![("about".to_owned(), quoted(&about))], ..base });
            }
        }
        out
    }
}

impl Target {
    fn shown(&self) -> String {
        match &self.leads {
            Leads::Record(_) => self.name.clone(),
            Leads::Text => "texts".to_owned(),
            Leads::File(template) => template.clone(),
        }
    }
}

/// The name of a column without the number at its end.
fn family(name: &str) -> String {
    let stem = name.trim_end_matches(|next: char| next.is_ascii_digit());
    if stem.is_empty() { name.to_owned() } else { stem.trim_end_matches(['_', '-', ' ']).to_owned() }
}

/// Whether `names` differ only in numbers that follow one another, from 0 or 1 on.
fn are_numbered<'n>(names: impl Iterator<Item = &'n str>) -> bool {
    let number =
        |name: &str| name.trim_start_matches(|next: char| !next.is_ascii_digit()).parse::<usize>().ok();
    let ends: Option<BTreeSet<usize>> =
        names.map(|name| number(name.rsplit(|next: char| !next.is_ascii_digit()).next()?)).collect();
    ends.is_some_and(|ends| {
        let first = ends.first().copied().unwrap_or(2);
        ends.len() > 1 && first < 2 && ends.last().is_some_and(|last| last + 1 - first == ends.len())
    })
}

/// The ways to take the values of a column apart that its signs suggest.
fn splits(source: &Source<'_>) -> Vec<Split> {
    let lettered: u64 = source.profiles.iter().map(|profile| profile.lettered).sum();
    let prose: u64 = source.profiles.iter().map(|profile| profile.prose).sum();
    if lettered == 0 || prose * 4 > lettered {
        return Vec::new();
    }
    let share = |at: usize| {
        let with: u64 = source.profiles.iter().map(|profile| profile.separated[at]).sum();
        with as f64 / lettered as f64
    };
    let at = |sign: char| SEPARATORS.iter().position(|own| *own == sign).unwrap_or_default();
    let mut out = Vec::new();
    let colon = share(at(':'));
    for sign in [';', ',', '|', '>', '+', '&', '/', ' '] {
        if share(at(sign)) < 0.1 {
            continue;
        }
        out.push(Split { list: Some(sign), ..Split::default() });
        if colon > 0.5 {
            out.push(Split { list: Some(sign), part: Some((':', 0)), ..Split::default() });
        }
    }
    if colon > 0.5 {
        out.push(Split { part: Some((':', 0)), ..Split::default() });
        out.push(Split { part: Some((':', 1)), ..Split::default() });
    }
    out
}

/// What all of `texts` have before and behind something of their own: in each way in which that can be cut at a sign,
/// since what they name may begin and end alike too.
fn shared_around(texts: &[&str]) -> Vec<(Affix, Affix)> {
    /// So many cuts on either side are tried.
    const CUTS: usize = 3;
    let Some(first) = texts.first() else { return Vec::new() };
    let before = texts.iter().fold(first.len(), |len, text| {
        let same = first.bytes().zip(text.bytes()).take_while(|(a, b)| a == b).count();
        len.min(same)
    });
    let behind = texts.iter().fold(first.len(), |len, text| {
        let same = first.bytes().rev().zip(text.bytes().rev()).take_while(|(a, b)| a == b).count();
        len.min(same)
    });
    let before = &first[..first.floor_char_boundary(before)];
    let behind = &first[first.ceil_char_boundary(first.len() - behind)..];
    // Words are not cut, and what a template would read otherwise is left alone.
    let is_sign = |c: &(usize, char)| !c.1.is_alphanumeric();
    let plain = |text: &&str| !text.contains(['{', '}', '[', ']', '"']);
    let ends = before.char_indices().filter(is_sign).map(|(at, c)| &before[..at + c.len_utf8()]);
    let starts = behind.char_indices().filter(is_sign).map(|(at, _)| &behind[at..]);
    let befores: Vec<&str> = std::iter::once("").chain(ends).filter(plain).take(CUTS + 1).collect();
    let mut behinds: Vec<&str> = starts.filter(plain).collect();
    behinds.reverse();
    behinds.truncate(CUTS);
    behinds.push("");
    let mut out = Vec::new();
    for before in &befores {
        for behind in &behinds {
            let long_enough = texts.iter().all(|text| text.len() > before.len() + behind.len());
            if long_enough && !(before.is_empty() && behind.is_empty()) {
                out.extend(Affix::new(before).zip(Affix::new(behind)));
            }
        }
    }
    out
}

/// Whether each of `texts` is a list whose first item is the number of the others.
fn are_counted(texts: &[String], separator: char) -> bool {
    const LEAST: usize = 4;
    let counted = |text: &&String| {
        let mut items = text.split(separator);
        let first = items.next().and_then(|first| first.trim().parse::<usize>().ok());
        first.is_some_and(|first| first == items.count())
    };
    let lists = || texts.iter().filter(|text| text.contains(separator));
    lists().count() >= LEAST && lists().all(|text| counted(&text))
}

/// Keys close to a text, by target.
struct Near<'s> {
    study: &'s Study<'s>,
    targets: &'s Targets,
    indexes: RefCell<HashMap<usize, Option<NearestIndex>>>,
}

/// Keys of larger tables are not looked through for what is close.
const MOST_NEAR: usize = 200_000;

impl Near<'_> {
    fn to(&self, target: usize, text: &str) -> Option<String> {
        let mut indexes = self.indexes.borrow_mut();
        let index = indexes.entry(target).or_insert_with(|| {
            let own = &self.targets.list[target];
            let Leads::Record(table) = own.leads else { return None };
            if own.keys > MOST_NEAR {
                return None;
            }
            let studied = &self.study.studied[table];
            let names: Vec<String> = match studied.table.field(&own.column) {
                Some(field) => {
                    let seen: Vec<Seen> =
                        self.study.counts[table].columns[field].distinct.values().copied().collect();
                    texts_of(self.study.stack, &seen)
                }
                None => {
                    let stem = |file: &FileId| self.study.stack.files()[*file].path.stem().to_owned();
                    studied.files.iter().map(stem).collect()
                }
            };
            Some(NearestIndex::new(names))
        });
        index.as_ref()?.nearest(text).into_iter().next()
    }
}

/// Places of values; each file is loaded once.
struct Places<'s> {
    stack: &'s Stack,
    files: RefCell<HashMap<u32, Option<LoadedFile>>>,
}

impl Places<'_> {
    fn exception(&self, text: &str, seen: &Seen, near: Option<String>) -> Option<Exception> {
        let mut files = self.files.borrow_mut();
        let file = files.entry(seen.file).or_insert_with(|| load(self.stack, seen.file as FileId).ok());
        let place = file.as_ref()?.place(seen.cell.span);
        Some(Exception { text: text.to_owned(), count: u64::from(seen.count), place, near })
    }
}
