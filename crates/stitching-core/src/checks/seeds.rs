//! Problems in the making: what reading the files and the index gave, before any words are made.

use super::report::{Context, Placed};
use super::{CHECKS, Check, KnownFaults, Run, follow_ups, one_cause};
use crate::Code;
use crate::links::{Index, Labels};
use crate::problem::{Problem, Severity};
use crate::reading::{FileFault, IndexedFile};
use crate::rows::{Others, declare_computed};
use crate::rules::{declare_needs, tells_names};
use crate::schema::{Table, TableId};
use crate::tables::{LinkKind, Seed, SeedDetail};
use crate::text::Span;
use rayon::prelude::*;
use std::collections::{BTreeMap, HashMap};
use xxhash_rust::xxh3::xxh3_64;

/// So many problems of one check are told at the most; more are only counted.
const MOST_OF_A_CHECK: usize = 10_000;

/// The problems in the making that reading the files gave, and those of files that could not be
/// read.
pub(super) fn seeds_of_files(index: &Index<'_>) -> Vec<Placed> {
    let mut seeds: Vec<Placed> = Vec::new();
    for (file, indexed) in index.files.iter().enumerate() {
        let counts = |seed: &&Seed| {
            if seed.code == Code::MISPLACED {
                return is_misplaced(index, indexed, seed);
            }
            let (Some(table), Some(record)) = (seed.table, seed.record) else { return true };
            if !index.schema.tables[table].merged {
                return true;
            }
            let slot = indexed.facts.tables.iter().position(|facts| facts.table == table).unwrap_or(0) as u32;
            let hidden = seed.rule.is_some_and(|rule| index.is_hidden(file as u32, slot, record, rule));
            // What a record of a higher layer lacks, that of a lower one may have.
            let of_lack = [Code::REQUIRED_EMPTY, Code::INCOMPLETE_NAME].contains(&seed.code);
            let lacking = of_lack && index.adds_to_lower(file as u32, slot, record);
            !hidden && !lacking
        };
        seeds.extend(indexed.facts.seeds.iter().filter(counts).map(|seed| (file as u32, seed.clone())));
        if let Some(FileFault::Text(fault)) = &indexed.fault {
            let fault = super::not_text::fault(fault);
            let (span, code) = (fault.span, fault.code);
            let detail = SeedDetail::Known(Box::new(fault));
            seeds.push((file as u32, Seed { code, table: None, record: None, rule: None, span, detail }));
        }
    }
    drop_what_is_common(index, &mut seeds);
    seeds
}

/// What is wrong by itself, where rules may ask for it.
fn known_faults(index: &Index<'_>, placed: &[Placed]) -> KnownFaults {
    let mut out = KnownFaults::default();
    if index.schema.rules.is_empty() && index.schema.computed.is_empty() {
        return out;
    }
    for (file, seed) in placed {
        let field = seed.table.zip(seed.rule).map(|(table, rule)| {
            let table = &index.schema.tables[table];
            table.fields[table.rules[rule].field].name.clone()
        });
        if follow_ups::is_structural(seed.code) {
            out.damaged.extend(seed.table);
        }
        let of_file = out.at.entry(index.files[*file as usize].id).or_default();
        of_file.entry(seed.span.start).or_default().push((seed.code, field));
    }
    out
}

/// The names of records, if a rule tells them.
fn labels_of_rules(index: &Index<'_>) -> Labels {
    match index.schema.rules.iter().any(tells_names) {
        true => Labels::read(index.view()),
        false => Labels::default(),
    }
}

/// Leaves out what may be meant so, where it is not rare among the records of its table.
fn drop_what_is_common(index: &Index<'_>, seeds: &mut Vec<Placed>) {
    /// One in so many records is rare, and so are a few in a small table.
    const RARE: usize = 10;
    const FEW: usize = 3;
    let table = |seed: &Seed| match &seed.detail {
        SeedDetail::Known(fault) if fault.only_if_rare => seed.table,
        _ => None,
    };
    let mut counts: HashMap<usize, usize> = HashMap::new();
    for table in seeds.iter().filter_map(|(_, seed)| table(seed)) {
        *counts.entry(table).or_default() += 1;
    }
    seeds.retain(|(_, seed)| {
        let is_rare = |table: usize| counts[&table] <= (index.tables[table].records / RARE).max(FEW);
        table(seed).is_none_or(is_rare)
    });
}

/// Whether what seems to be misplaced is: no other table reads it, and its own table has records elsewhere.
fn is_misplaced(index: &Index<'_>, indexed: &IndexedFile, seed: &Seed) -> bool {
    let tables = &indexed.facts.tables;
    let read = || tables.iter().any(|facts| facts.starts.binary_search(&seed.span.start).is_ok());
    seed.table.is_none_or(|table| index.tables[table].records > 0) && !read()
}

/// The links of one kind that lead nowhere, as far as they are to be kept.
fn dangling_links(
    index: &Index<'_>,
    check: &Check,
    kind: LinkKind,
    keep: &(impl Fn(&Placed) -> bool + Sync),
) -> Vec<Placed> {
    let of_file = |(file, indexed): (usize, &IndexedFile)| {
        let mut seeds = Vec::new();
        for (slot, facts) in indexed.facts.tables.iter().enumerate() {
            let table = &index.schema.tables[facts.table];
            for links in facts.links.iter().filter(|links| links.kind == kind) {
                let rule = &table.rules[links.rule];
                for link in links.links.iter().filter(|link| !index.resolves(rule, kind, link)) {
                    if index.is_hidden(file as u32, slot as u32, link.record, links.rule) {
                        continue;
                    }
                    let seed = Seed {
                        code: check.code,
                        table: Some(facts.table),
                        record: Some(link.record),
                        rule: Some(links.rule),
                        span: Span { start: link.start, end: link.start },
                        detail: SeedDetail::Link(link.hash),
                    };
                    let placed = (file as u32, seed);
                    if keep(&placed) {
                        seeds.push(placed);
                    }
                }
            }
            one_for_each_value(table, facts.table, &mut seeds);
        }
        seeds
    };
    index.files.par_iter().enumerate().with_max_len(1).flat_map_iter(of_file).collect()
}

/// A value that leads nowhere by several rules that must all hold is told by the first of them.
fn one_for_each_value(table: &Table, id: TableId, seeds: &mut Vec<Placed>) {
    if table.rules.iter().all(|rule| rule.also.is_empty()) {
        return;
    }
    let of_value = |(_, seed): &Placed| match (seed.table, seed.rule) {
        (Some(own), Some(rule)) if own == id => Some((seed.record, table.rules[rule].field, seed.span.start)),
        _ => None,
    };
    // They come by rule, and the order of equals is kept: the first rule of each value stays.
    seeds.sort_by_key(of_value);
    seeds.dedup_by(|later, first| of_value(later).is_some() && of_value(later) == of_value(first));
}

/// All problems of an index in the making, and those that need no files to be read again.
pub(super) struct Seeds {
    placed: Vec<Placed>,
    whole: Vec<Problem>,
    /// How many problems of a check there are besides.
    more: BTreeMap<(Code, Severity), usize>,
}

/// What tells problems of one identity from most others, by hash, without their words.
pub(super) type Marks = hashbrown::HashSet<u64>;

impl Seeds {
    /// Finds them; only those that have one of the marks `like`, if these are given: a base may have millions of
    /// problems of its own, of which few are told.
    pub fn find(index: &Index<'_>, like: Option<&Marks>) -> Seeds {
        let paths: Vec<u64> = (0..index.files.len()).map(|file| path_hash_of(index, file as u32)).collect();
        let keep = |placed: &Placed| {
            let path = paths[placed.0 as usize];
            like.is_none_or(|like| marks(index, path, placed).iter().any(|mark| like.contains(mark)))
        };
        let placed = seeds_of_files(index);
        let mut seeds = Seeds { placed, whole: Vec::new(), more: BTreeMap::new() };
        let labels = labels_of_rules(index);
        let others = Others::new(index.view(), &labels);
        index.schema.rules.iter().for_each(|rule| declare_needs(rule, &others));
        index.schema.computed.iter().for_each(|computed| declare_computed(computed, &others));
        seeds.placed.retain(|placed| keep(placed));
        for check in CHECKS {
            match check.run {
                Run::Link { kind, .. } => seeds.placed.extend(dangling_links(index, check, kind, &keep)),
                Run::Index { find, .. } => seeds.placed.extend(find(index).into_iter().filter(keep)),
                Run::Stack(find) => seeds.whole.extend(find(index)),
                // Reading the files found it.
                _ => {}
            }
        }
        let faults = known_faults(index, &seeds.placed);
        for check in CHECKS {
            if let Run::Rows(find) = check.run {
                let found = find(index, &others, &faults);
                seeds.whole.extend(found.problems);
                for (severity, number) in found.more {
                    *seeds.more.entry((check.code, severity)).or_default() += number;
                }
            }
        }
        follow_ups::leave_out(index, &mut seeds.placed, &mut seeds.whole);
        seeds
    }

    /// The problems in the making, and those that are made already.
    pub fn into_parts(self) -> (Vec<Placed>, Vec<Problem>) {
        (self.placed, self.whole)
    }

    /// Whether nothing is wrong.
    pub fn is_empty(&self) -> bool {
        self.placed.is_empty() && self.whole.is_empty()
    }

    /// Leaves one problem where all values of a field have the same, first one that has none of the marks `of_base`.
    pub fn join(&mut self, index: &Index<'_>, of_base: &Marks) {
        let is_of_base = |placed: &Placed| {
            marks(index, path_hash_of(index, placed.0), placed).iter().any(|mark| of_base.contains(mark))
        };
        one_cause::join(index, &mut self.placed, is_of_base);
    }

    /// Keeps of each check only so many as can be told in little memory and time, first those that have none of the
    /// marks `of_base`; gives how many are left out.
    pub fn cut(&mut self, index: &Index<'_>, of_base: &Marks) -> Vec<LeftOut> {
        let mut numbers: HashMap<Code, usize> = HashMap::new();
        for (_, seed) in &self.placed {
            *numbers.entry(seed.code).or_default() += 1;
        }
        let mut of_whole: BTreeMap<(Code, Severity), usize> = BTreeMap::new();
        let more = &mut self.more;
        self.whole.retain(|problem| {
            let identity = (problem.code, problem.severity);
            let number = of_whole.entry(identity).or_default();
            *number += 1;
            if *number > MOST_OF_A_CHECK {
                *more.entry(identity).or_default() += 1;
            }
            *number <= MOST_OF_A_CHECK
        });
        let left_out = |((code, severity), number): (&(Code, Severity), &usize)| LeftOut {
            code: *code,
            severity: *severity,
            inherited: false,
            number: *number,
        };
        let mut out: Vec<LeftOut> = self.more.iter().map(left_out).collect();
        if numbers.values().all(|number| *number <= MOST_OF_A_CHECK) {
            return out;
        }
        let path = |file: u32| path_hash_of(index, file);
        let inherited =
            |placed: &Placed| marks(index, path(placed.0), placed).iter().any(|mark| of_base.contains(mark));
        let mut kept: HashMap<Code, usize> = HashMap::new();
        let mut left_out: BTreeMap<(Code, bool), usize> = BTreeMap::new();
        let (later, first): (Vec<Placed>, Vec<Placed>) =
            std::mem::take(&mut self.placed).into_iter().partition(inherited);
        for (placed, inherited) in
            first.into_iter().map(|own| (own, false)).chain(later.into_iter().map(|own| (own, true)))
        {
            let number = kept.entry(placed.1.code).or_default();
            if *number < MOST_OF_A_CHECK {
                *number += 1;
                self.placed.push(placed);
            } else {
                *left_out.entry((placed.1.code, inherited)).or_default() += 1;
            }
        }
        let left_out = left_out.into_iter().filter_map(|((code, inherited), number)| {
            Some(LeftOut { code, severity: super::check_of(code)?.severity, inherited, number })
        });
        out.extend(left_out);
        out
    }

    /// The marks of all of them.
    pub fn marks(&self, index: &Index<'_>) -> Marks {
        let of = |placed: &Placed| marks(index, path_hash_of(index, placed.0), placed);
        self.placed.iter().flat_map(of).collect()
    }

    /// Makes problems of them, sorted. With `suggest` their words say what is near to a name that leads nowhere.
    pub fn problems(self, index: &Index<'_>, suggest: bool) -> Vec<Problem> {
        let mut problems = self.whole;
        problems.extend(Context::new(index, &self.placed).problems(self.placed, suggest));
        problems.sort_by(|a, b| a.order().cmp(&b.order()));
        problems
    }
}

/// Problems of one check that are only counted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct LeftOut {
    pub code: Code,
    pub severity: Severity,
    /// Whether the base seems to have them by itself.
    pub inherited: bool,
    pub number: usize,
}

fn path_hash_of(index: &Index<'_>, file: u32) -> u64 {
    xxh3_64(index.stack.files()[index.files[file as usize].id].path.as_str().as_bytes())
}

/// Two problems that are the same have a mark in common: that of the check, the file, the field and the record's key, or
/// that of the check, the file, the field and the value or the message.
fn marks(index: &Index<'_>, path: u64, (file, seed): &Placed) -> [u64; 2] {
    // Only equality counts, and a few that are equal by chance cost only time.
    let mix = |a: u64, b: u64| (a.rotate_left(29) ^ b).wrapping_mul(0x9e37_79b9_7f4a_7c15);
    let number = |of: Option<usize>| of.map_or(u64::MAX, |of| of as u64);
    let group =
        mix(mix(path, xxh3_64(seed.code.as_str().as_bytes())), mix(number(seed.table), number(seed.rule)));
    let facts = &index.files[*file as usize].facts.tables;
    let facts = facts.iter().find(|facts| Some(facts.table) == seed.table);
    let key = facts.and_then(|facts| facts.hashes.get(seed.record? as usize).copied());
    let detail = match &seed.detail {
        SeedDetail::Known(fault) => xxh3_64(fault.message.as_bytes()),
        SeedDetail::Link(hash) | SeedDetail::NoLink(hash, _) => *hash,
        SeedDetail::Same(..) => 0,
    };
    [mix(mix(group, 1), key.unwrap_or(0)), mix(mix(group, 2), detail)]
}
