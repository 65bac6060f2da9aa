//! What names the records of a table.

use super::Studied;
use super::candidates::Candidate;
use super::names::{agreement, names_identifier, names_measure};
use super::profile::{Counts, Profile};
use super::references::{self, Source};
use super::targets::{Leads, Target, Targets};
use crate::formats::{Column, ColumnCell, Fault, Form, Po, RawRecord, RecordSink, decode};
use crate::layers::{FileId, Stack};
use crate::reading::with_text;
use crate::schema::Table;
use crate::tables::key_hash;
use hashbrown::HashSet;
use rayon::prelude::*;
use std::sync::atomic::{AtomicU64, Ordering};
use xxhash_rust::xxh3::Xxh3;

/// What seems to be the key of a table.
#[derive(Debug, Clone, Default)]
pub(super) struct KeyChoice {
    /// Its parts, as a schema writes them.
    pub parts: Vec<String>,
    /// How many records have a key that no other has.
    pub unique: u64,
    /// Others that would do, best first.
    pub rivals: Vec<String>,
}

impl KeyChoice {
    /// Whether so many records that stand inside others have names of their own by it: of one part, or of one that is valid
    /// within the file.
    pub fn names_inner_records(&self, records: u64) -> bool {
        let has_name = match self.parts.as_slice() {
            [own] => names_identifier(own) || own.starts_with('{'),
            [file, own] => file.starts_with('{') && (own.starts_with('{') || names_identifier(own)),
            _ => false,
        };
        has_name && self.unique * 100 >= records * 97
    }
}

/// The name of the file, as a part of a key.
pub(super) const STEM: &str = "{stem}";
/// With a lower score than this a column is no key, though all its values are different.
const DOUBTFUL: f64 = -1.0;
/// With a lower score than this all its values may be different by chance.
const BY_CHANCE: f64 = 0.0;
/// So many of a hundred records have the column that names them; the others are for reading only, such as those that are there
/// to be inherited from.
const MUST_HAVE: u64 = 90;
/// So many columns are tried as parts of a key.
const TRIED: usize = 5;

/// The single column, or the place, that names the records best, with a score; `votes` tells for each column how many
/// others hold its values. `None` if no single one does.
fn single(
    stack: &Stack,
    candidate: &Candidate,
    table: &Table,
    counts: &Counts,
    votes: &[u32],
) -> Option<(f64, KeyChoice)> {
    let place = candidate.shape.key.as_deref();
    let names_itself = |(at, own): (usize, &Profile)| {
        is_nearly_unique(own, counts.records)
            && own.is_identifiers()
            && counts.records > 2
            && names_identifier(&table.fields[at].name)
    };
    let file_part = candidate.file_part();
    let stems: HashSet<&str> =
        candidate.files.iter().map(|file| file_part.text(&stack.files()[*file].path)).collect();
    let stems_differ = stems.len() == candidate.files.len();
    let without_number = |stem: &str| stem.trim_matches(|next: char| next.is_ascii_digit()).to_owned();
    let numbered = stems.iter().map(|stem| without_number(stem)).collect::<HashSet<_>>().len() == 1;
    let is_file = candidate.shape.whole_file && counts.records as usize == candidate.files.len();
    if candidate.shape.whole_file
        && (stems_differ || !is_file)
        && !counts.columns.iter().enumerate().any(names_itself)
    {
        let file =
            KeyChoice { parts: vec![file_part.name.clone()], unique: counts.records, rivals: Vec::new() };
        return Some((f64::INFINITY, file));
    }
    // A record may be there once in each language, or in several layers that count together.
    let by_language = candidate.merged || candidate.patterns.iter().any(|pattern| pattern.contains("{lang}"));
    let of_files = table.fields.len();
    let mut found: Vec<(f64, usize)> = Vec::new();
    for (at, (field, own)) in table.fields.iter().zip(&counts.columns).enumerate() {
        let unique = own.is_unique(counts.records);
        // What the format has for naming things is what names them, even where another column would do.
        let is_declared = ["{label}", "{2}", "{name}", "{member}", "{section}", "name()"];
        let is_declared = is_declared.contains(&field.name.as_str());
        let nearly = is_nearly_unique(own, counts.records) || is_declared && names_most(own, counts.records);
        let in_each_language =
            by_language && (Some(field.name.as_str()) == place || at == 0) && own.values > 0;
        if !(unique || nearly || in_each_language) || !own.is_identifiers() {
            continue;
        }
        let mut score = 0.0;
        let is_place = Some(field.name.as_str()) == place;
        score += if is_place || is_declared { 5.0 } else { 0.0 };
        score += if at == 0 { 2.0 } else { -0.2 * at as f64 };
        score += f64::from(votes[at].min(3)) * 1.5;
        // Beside a file's name, a name inside it is what the player sees rather than an identifier, unless files just have numbers.
        let is_label = place == Some(STEM) && !numbered && field.name.to_lowercase().ends_with("name");
        score += if names_identifier(&field.name) && !is_label { 3.0 } else { 0.0 };
        score += if agreement(&field.name, &candidate.name) == 2 { 3.0 } else { 0.0 };
        score += if own.lettered * 2 > own.values { 1.0 } else { 0.0 };
        score -= if own.spaced * 3 > own.values && !is_place { 4.0 } else { 0.0 };
        score -= if own.separated[5] * 2 > own.values { 1.0 } else { 0.0 };
        // Lists are different from each other too.
        let listed = own.separated[..5].iter().any(|with| with * 10 > own.values * 3);
        score -= if listed && !is_place { 6.0 } else { 0.0 };
        // One that is there twice in some records is the key only if others point to it.
        let is_apart = own.distinct.len() as u64 == own.kept();
        score -= match (unique || in_each_language, is_apart, votes[at]) {
            (true, ..) => 0.0,
            (false, false, 0) => 4.0,
            (false, ..) => 1.0,
        };
        // What others point to is what names the records, whatever the files are called.
        let is_pointed_to = place == Some(STEM) && votes[at] > votes[of_files];
        score += if is_pointed_to && names_identifier(&field.name) { 5.0 } else { 0.0 };
        // What says how much or how long names nothing, even where no two are the same.
        let is_measure = own.is_numeric() && names_measure(&field.name) && !is_place;
        score -= if at > 0 && is_measure && votes[at] == 0 { 3.0 } else { 0.0 };
        // A column of unique numbers with large gaps and ends is a measure rather than a name.
        score -= if own.numbers > 0 && own.lowest < 0.0 { 2.0 } else { 0.0 };
        found.push((score, at));
    }
    // The file's name, where each file has one record of them. It loses to a column that says it has identifiers.
    if place == Some(STEM) && counts.records as usize == candidate.files.len() && stems_differ {
        let by_itself = if numbered { 1.0 } else { 5.0 };
        found.push((by_itself + f64::from(votes[of_files].min(3)) * 1.5, of_files));
    }
    found.sort_by(|a, b| b.0.total_cmp(&a.0).then(a.1.cmp(&b.1)));
    let (score, best) = *found.first().filter(|(score, _)| *score > DOUBTFUL)?;
    let name = |at: usize| table.fields.get(at).map_or(file_part.name.clone(), |field| field.name.clone());
    let share = counts.columns.get(best).map_or(1.0, Profile::uniqueness);
    let choice = KeyChoice {
        parts: vec![name(best)],
        unique: (share * counts.records as f64) as u64,
        rivals: found[1..].iter().take(3).map(|(_, at)| name(*at)).collect(),
    };
    Some((score, choice))
}

/// Whether all records have a value of their own in a column, or nearly all of many: a few that are there twice are faults
/// of the data.
fn is_nearly_unique(own: &Profile, records: u64) -> bool {
    let nearly = own.values > 0
        && own.most <= 1
        && records >= 20
        && own.uniqueness() >= 0.95
        && own.values * 100 >= records * MUST_HAVE;
    nearly || own.is_unique(records)
}

/// Whether most records have a value of their own in a column, and the few others none: a block that only begins a table
/// (`local goods = {}`) has no name.
fn names_most(own: &Profile, records: u64) -> bool {
    const FEWEST: u64 = 4;
    own.values >= FEWEST
        && own.values < records
        && own.values * 100 >= records * 80
        && own.is_unique(own.values)
}

/// The path, where each file has one record and files in different folders have one name.
fn path_of_files(candidate: &Candidate, counts: &Counts) -> Option<KeyChoice> {
    let is_file = candidate.shape.whole_file && counts.records as usize == candidate.files.len();
    let parts = vec!["{path}".to_owned()];
    is_file.then(|| KeyChoice { parts, unique: counts.records, rivals: Vec::new() })
}

/// Several columns that together name the records; if none do, what comes nearest. One that does so by itself, `alone`, is not
/// among them: with any other it would name them too.
fn several(
    stack: &Stack,
    candidate: &Candidate,
    table: &Table,
    counts: &Counts,
    alone: Option<&str>,
) -> Option<KeyChoice> {
    let fits =
        |own: &Profile| own.values * 100 >= counts.records * 99 && own.is_identifiers() && own.most <= 1;
    let is_measure = |at: &usize| counts.columns[*at].is_numeric() && names_measure(&table.fields[*at].name);
    let mut columns: Vec<usize> =
        (0..table.fields.len()).filter(|at| fits(&counts.columns[*at]) && !is_measure(at)).collect();
    columns.retain(|at| Some(table.fields[*at].name.as_str()) != alone);
    // Few values in many records make no key, and what has many is best.
    let spread = |at: &usize| counts.columns[*at].different();
    columns.sort_by_key(|at| (std::cmp::Reverse(usize::from(*at < TRIED)), *at));
    columns.retain(|at| spread(at) > 1);
    columns.truncate(TRIED);
    let has_stem = candidate.files.len() > 1;
    let mut combinations: Vec<Vec<Option<usize>>> = Vec::new();
    if has_stem {
        combinations.push(vec![None]);
        combinations.extend(columns.iter().map(|at| vec![None, Some(*at)]));
    }
    for (number, a) in columns.iter().enumerate() {
        for b in &columns[number + 1..] {
            combinations.push(vec![Some(*a), Some(*b)]);
            if has_stem {
                combinations.push(vec![None, Some(*a), Some(*b)]);
            }
        }
    }
    if let [a, b, c, ..] = columns[..] {
        combinations.push(vec![Some(a), Some(b), Some(c)]);
    }
    if let [a, b, c, d, ..] = columns[..] {
        combinations.push(vec![Some(a), Some(b), Some(d)]);
        combinations.push(vec![Some(a), Some(b), Some(c), Some(d)]);
    }
    // So many records of a thousand may have a name that another has too.
    const DOUBLES: u64 = 5;
    let allowed = counts.records * DOUBLES / 1000;
    let distinct = together(stack, table, candidate, &combinations, allowed);
    let whole = |at: &usize| distinct[*at] as u64 * 1000 >= counts.records * (1000 - DOUBLES);
    let rank = |at: &usize| {
        let parts = &combinations[*at];
        let first = parts.iter().flatten().copied().sum::<usize>();
        let is_weak = |at: &&usize| {
            let profile = &counts.columns[**at];
            profile.is_numeric() && !counts_on(profile)
        };
        let weak = parts.iter().flatten().filter(is_weak).count();
        (parts.len(), weak * 3 + first)
    };
    let mut fitting: Vec<usize> = (0..combinations.len()).filter(whole).collect();
    fitting.sort_by_key(rank);
    let shown = |parts: &Vec<Option<usize>>| -> Vec<String> {
        let name = |part: &Option<usize>| match part {
            None => candidate.file_part().name,
            Some(at) => table.fields[*at].name.clone(),
        };
        parts.iter().map(name).collect()
    };
    let best = *fitting.first()?;
    Some(KeyChoice {
        parts: shown(&combinations[best]),
        unique: distinct[best] as u64,
        rivals: fitting[1..].iter().take(3).map(|at| shown(&combinations[*at]).join("/")).collect(),
    })
}

/// Whether a column counts the records of a group: numbers from 0 or 1 on without a gap.
fn counts_on(profile: &Profile) -> bool {
    profile.integers == profile.values
        && (0.0..=1.0).contains(&profile.lowest)
        && profile.highest - profile.lowest + 1.0 == profile.different() as f64
}

/// How many different values the columns of each combination have together; `None` is the file's name. A combination of which
/// more than `allowed` records have what others have too is given up, and has none; when all are, no more files are read.
fn together(
    stack: &Stack,
    table: &Table,
    candidate: &Candidate,
    combinations: &[Vec<Option<usize>>],
    allowed: u64,
) -> Vec<usize> {
    let (files, file_part) = (&candidate.files, candidate.file_part());
    let mut fields: Vec<usize> = combinations.iter().flatten().flatten().copied().collect();
    fields.sort_unstable();
    fields.dedup();
    let columns: Vec<Column<'_>> =
        fields.iter().map(|field| Column::optional(&table.fields[*field].name)).collect();
    let places: Vec<Vec<Option<usize>>> = combinations
        .iter()
        .map(|parts| {
            parts.iter().map(|part| part.map(|at| fields.partition_point(|own| *own < at))).collect()
        })
        .collect();
    let empty = || vec![HashSet::<u64>::new(); combinations.len()];
    let doubles: Vec<AtomicU64> = combinations.iter().map(|_| AtomicU64::new(0)).collect();
    let is_given_up = |doubles: &AtomicU64| doubles.load(Ordering::Relaxed) > allowed;
    let sets = files
        .par_iter()
        .with_max_len(8)
        .fold(empty, |sets, file| {
            if doubles.iter().all(is_given_up) {
                return sets;
            }
            let path = &stack.files()[*file].path;
            let mut kept = sets;
            let _ = with_text(stack, *file, |text| {
                let values = vec![None; columns.len()];
                let sets = std::mem::take(&mut kept);
                let name = file_part.text(path);
                let (text_of, doubles) = (text.as_str(), &doubles[..]);
                let mut own =
                    Together { text: text_of, name, places: &places, sets, values, doubles, allowed };
                table.format.read(text, &columns, &mut own);
                kept = own.sets;
            });
            kept
        })
        .reduce(empty, |mut a, b| {
            a.iter_mut().zip(b).for_each(|(own, other)| own.extend(other));
            a
        });
    let given_up = doubles.iter().map(is_given_up);
    sets.iter().zip(given_up).map(|(set, given_up)| if given_up { 0 } else { set.len() }).collect()
}

struct Together<'t> {
    text: &'t str,
    /// What names the file.
    name: &'t str,
    places: &'t [Vec<Option<usize>>],
    sets: Vec<HashSet<u64>>,
    values: Vec<Option<String>>,
    /// For each combination how many records have what others have too, and how many may.
    doubles: &'t [AtomicU64],
    allowed: u64,
}

impl RecordSink for Together<'_> {
    fn record(&mut self, record: &RawRecord<'_>) {
        self.values.fill(None);
        let shown = |cell: &&ColumnCell| cell.cell.form != Form::Nested;
        for own in record.cells.iter().filter(shown) {
            let value = &mut self.values[usize::from(own.column)];
            if value.is_none() {
                *value = Some(decode(self.text, &own.cell).text.into_owned());
            }
        }
        for ((set, places), doubles) in self.sets.iter_mut().zip(self.places).zip(self.doubles) {
            if doubles.load(Ordering::Relaxed) > self.allowed {
                *set = HashSet::new();
                continue;
            }
            let mut hasher = Xxh3::new();
            for place in places {
                let part = match place {
                    None => Some(self.name),
                    Some(at) => self.values[*at].as_deref(),
                };
                hasher.update(part.unwrap_or_default().as_bytes());
                hasher.update(&[0]);
            }
            if !set.insert(hasher.digest()) {
                doubles.fetch_add(1, Ordering::Relaxed);
            }
        }
    }

    fn fault(&mut self, _fault: Fault) {}
}

/// For each table and field, and last for the names of its files, how many columns elsewhere seem to hold the values: what
/// others point to is most likely the key.
pub(super) fn votes(stack: &Stack, studied: &[Studied], counts: &[Counts]) -> Vec<Vec<u32>> {
    let mut targets = Targets::default();
    let mut fields: Vec<(usize, usize)> = Vec::new();
    for (table, own) in studied.iter().enumerate().filter(|(_, own)| own.candidate.is_some()) {
        for (field, profile) in counts[table].columns.iter().enumerate() {
            let unique = is_nearly_unique(profile, counts[table].records);
            if unique && profile.is_identifiers() && !profile.is_numeric() {
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
        let named = own.candidate.as_ref().filter(|own| own.shape.key.as_deref() == Some(STEM));
        if let Some(part) = named.map(Candidate::file_part) {
            let name = |file: &FileId| key_hash(part.text(&stack.files()[*file].path), false);
            let stems: HashSet<u64> = own.files.iter().map(name).collect();
            fields.push((table, counts[table].columns.len()));
            let target = Target {
                leads: Leads::Record(table),
                name: own.table.name.clone(),
                column: STEM.to_owned(),
                keys: stems.len(),
                dense: false,
                lettered: true,
            };
            targets.add(target, stems.into_iter());
        }
    }
    let level = |(table, field): (usize, usize)| counts[table].columns.get(field).map_or(0, |own| own.level);
    let mut votes: Vec<Vec<u32>> = counts.iter().map(|own| vec![0; own.columns.len() + 1]).collect();
    for (table, own) in studied.iter().enumerate() {
        let by_language = own
            .candidate
            .as_ref()
            .is_some_and(|own| own.kind == Po::NAME || own.patterns[0].contains("{lang}"));
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
                // A column that repeats the names of its own files does not point to them.
                let is_own_file = target == (table, counts[table].columns.len());
                let is_other = target != (table, field) && !is_own_file;
                if known >= 3 && hits.distinct * 10 >= known as u64 * 9 && is_other {
                    votes[target.0][target.1] += 1;
                }
            }
        }
    }
    votes
}

/// What names the records of a candidate; `votes` as for [`single`].
pub(super) fn choose_key(
    stack: &Stack,
    candidate: &Candidate,
    table: &Table,
    counts: &Counts,
    votes: &[u32],
) -> KeyChoice {
    let of_keys = match candidate.shape.key.as_deref() {
        Some("{section}/{key}") => Some(vec!["{section}".to_owned(), "{key}".to_owned()]),
        Some("{key}") => Some(vec!["{key}".to_owned()]),
        _ => None,
    };
    if let Some(parts) = of_keys {
        return KeyChoice { parts, unique: counts.records, rivals: Vec::new() };
    }
    let (score, one) = single(stack, candidate, table, counts, votes).unzip();
    // A number that happens to be different in each record is no better a name than the columns before it together.
    let by_chance = score.is_some_and(|score| score < BY_CHANCE);
    let alone = one.as_ref().and_then(|one| one.parts.first()).map(String::as_str);
    let together = || several(stack, candidate, table, counts, alone);
    let together = if by_chance || one.is_none() { together() } else { None };
    let found = together.or(one).or_else(|| path_of_files(candidate, counts));
    found.unwrap_or_default()
}
