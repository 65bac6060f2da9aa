//! Trying on the data what is about to be written: what brings errors is asked instead.

use super::proposal::{Band, Proposal, Topic, with_needs_but};
use super::tables::TEXTS;
use crate::checks::{FaultCounts, FaultGroup, fault_counts};
use crate::{Code, Error, Project};
use std::collections::{BTreeMap, BTreeSet};

/// After so many rounds all that still brings errors is left out.
const ROUNDS: usize = 8;

/// Problems that a file has whatever the schema says, or that say little of the schema.
const OF_THE_DATA: [Code; 8] = [
    Code::PATH_CLASH,
    Code::GUESSED_ENCODING,
    Code::NOT_TEXT,
    Code::UNREADABLE_ENTRY,
    Code::MARKS_DIFFER,
    Code::NOT_STRICT_XML,
    Code::NOT_STRICT_JSON,
    Code::DUPLICATE_MEMBER,
];

/// What a trial came to: positions among the proposals.
#[derive(Debug, Default)]
pub struct Tried {
    /// What is to be written.
    pub taken: Vec<usize>,
    /// What was chosen and is not to be written, each with the reason.
    pub left: Vec<(usize, String)>,
}

/// The proposals that are left out, by position, and why.
type Barred = BTreeMap<usize, String>;

/// Tries what is to be written of `proposals`: those that `chosen` holds of with what they need, but for what brings problems
/// in more than a few in a hundred of the records it is about. That gets a reason and becomes a question; a key that does not
/// tell records apart is left out of its table. `described` gives the project as it would be with some proposals written;
/// `before` are the problems that are there without them. Of those that are `confirmed`, by their positions, the exceptions that they
/// tell of may be problems: someone has seen them.
///
/// Cost: a check of the data for each round; where nothing is wrong, one.
///
/// # Errors
/// When the project cannot be opened for another reason than a proposal.
pub fn tried(
    proposals: &mut [Proposal],
    chosen: impl Fn(usize, &Proposal) -> bool,
    confirmed: &BTreeSet<usize>,
    described: &dyn Fn(&[&Proposal]) -> Result<Project, Error>,
    before: &FaultCounts,
) -> Result<Tried, Error> {
    let wanted: Vec<bool> = proposals.iter().enumerate().map(|(at, own)| chosen(at, own)).collect();
    let mut barred = Barred::new();
    let taken_without = |proposals: &[Proposal], barred: &Barred| {
        with_needs_but(proposals, |at| wanted[at], barred.keys().copied())
    };
    for round in 0..=ROUNDS {
        let taken = taken_without(proposals, &barred);
        let own: Vec<&Proposal> = taken.iter().map(|at| &proposals[*at]).collect();
        if own.is_empty() {
            break;
        }
        let project = match described(&own) {
            Ok(project) => project,
            Err(Error::Description(problems)) => {
                let mut found = false;
                for problem in &problems {
                    let of =
                        taken.iter().copied().filter(|at| is_named(&proposals[*at], &problem.place.source));
                    let reason = format!("it cannot be written: {}", problem.message);
                    for at in of.collect::<Vec<_>>() {
                        found |= bar(proposals, &mut barred, at, &reason);
                    }
                }
                if found {
                    continue;
                }
                // Which of them it is cannot be told by the line.
                let failing = failing(proposals, &taken, &barred, described);
                if failing.is_empty() || round == ROUNDS {
                    return Err(Error::Description(problems));
                }
                for at in failing {
                    bar(proposals, &mut barred, at, "the schema could not be read with it");
                }
                continue;
            }
            Err(other) => return Err(other),
        };
        let counts = counts_of_sound_data(&project);
        let mut change = Change::None;
        for group in more_faults(before, &counts).iter().filter(|own| !OF_THE_DATA.contains(&own.code)) {
            let judged = Judged { counts: &counts, group, confirmed, last: round == ROUNDS };
            change = change.max(judged.judge(proposals, &taken, &mut barred));
        }
        match change {
            // With fewer settings of fields there are no more problems than before.
            Change::None | Change::FewerSettings => break,
            Change::OtherTables => {}
        }
    }
    let taken = taken_without(proposals, &barred);
    let reason = |at: usize| barred.get(&at).cloned().unwrap_or_else(|| NEEDED.to_owned());
    let left = (0..wanted.len()).filter(|at| wanted[*at] && taken.binary_search(at).is_err());
    let left = left.map(|at| (at, reason(at))).collect();
    Ok(Tried { taken, left })
}

/// Why what others are needed for is left out with these.
const NEEDED: &str = "what it needs is not written";

/// Those of `some` with which the project cannot be opened, found by halves.
fn failing(
    proposals: &[Proposal],
    some: &[usize],
    barred: &Barred,
    described: &dyn Fn(&[&Proposal]) -> Result<Project, Error>,
) -> Vec<usize> {
    let with_needs = with_needs_but(proposals, |at| some.contains(&at), barred.keys().copied());
    let own: Vec<&Proposal> = with_needs.iter().map(|at| &proposals[*at]).collect();
    match some {
        _ if described(&own).is_ok() => Vec::new(),
        [_] => some.to_vec(),
        _ => {
            let (first, rest) = some.split_at(some.len() / 2);
            let mut out = failing(proposals, first, barred, described);
            out.extend(failing(proposals, rest, barred, described));
            out
        }
    }
}

/// What became of what was taken.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
enum Change {
    /// Nothing.
    None,
    /// Settings of fields were left out.
    FewerSettings,
    /// A table was left out, or lost its key: other problems may show now.
    OtherTables,
}

/// The problems of what lies below the mod, since mistakes of the mod say nothing of the schema; of tables that only the mod has
/// those of the mod.
pub fn counts_of_sound_data(project: &Project) -> FaultCounts {
    let (view, top) = (project.view(), project.stack.top());
    if top == 0 {
        return fault_counts(view);
    }
    let mut counts = fault_counts(view.until(top - 1));
    if counts.records.values().all(|records| *records > 0) {
        return counts;
    }
    let of_mod = fault_counts(view);
    let is_only_there = |table: &str| counts.records.get(table) == Some(&0);
    let groups = of_mod.groups.into_iter();
    let more: Vec<FaultGroup> =
        groups.filter(|group| group.table.as_deref().is_some_and(is_only_there)).collect();
    counts.groups.extend(more);
    for (own, of_mod) in [(&mut counts.records, &of_mod.records), (&mut counts.files, &of_mod.files)] {
        for (table, number) in own {
            *number = (*number).max(of_mod.get(table).copied().unwrap_or(0));
        }
    }
    counts
}

/// What `after` has more of than `before`: the groups, each with the number that is new.
pub fn more_faults(before: &FaultCounts, after: &FaultCounts) -> Vec<FaultGroup> {
    let new = |group: &FaultGroup| {
        let known = before.groups.iter().find(|own| is_same(own, group)).map_or(0, |own| own.count);
        let count = group.count.saturating_sub(known);
        (count > 0).then(|| FaultGroup { count, ..group.clone() })
    };
    after.groups.iter().filter_map(new).collect()
}

fn is_same(a: &FaultGroup, b: &FaultGroup) -> bool {
    a.code == b.code && a.table == b.table && a.field == b.field
}

/// Whether a line of a schema is what a proposal wrote: the heading of its table, or its field.
fn is_named(proposal: &Proposal, line: &str) -> bool {
    let line = line.trim();
    match &proposal.field {
        None => {
            let name = line.strip_prefix("[table.").and_then(|rest| rest.split(['.', ']']).next());
            name.is_some_and(|name| name.trim_matches(['"', '\'']) == proposal.table)
                || proposal.settings.iter().any(|(name, value)| line == format!("{name} = {value}"))
        }
        Some(field) => line.split_once(" = {").is_some_and(|(name, rest)| {
            let is_field = name.trim_matches(['"', '\'']) == field.as_str();
            is_field
                && proposal.settings.iter().all(|(name, value)| rest.contains(&format!("{name} = {value}")))
        }),
    }
}

/// Leaves a proposal out, and says why; `false` if it is left out already.
fn bar(proposals: &mut [Proposal], barred: &mut Barred, at: usize, reason: &str) -> bool {
    if barred.contains_key(&at) {
        return false;
    }
    barred.insert(at, reason.to_owned());
    let own = &mut proposals[at];
    own.band = own.band.max(Band::Ask);
    own.reasons.push(reason.to_owned());
    true
}

/// A group of problems that what was written brings.
struct Judged<'c> {
    counts: &'c FaultCounts,
    /// With the number that is new.
    group: &'c FaultGroup,
    confirmed: &'c BTreeSet<usize>,
    /// Whether nothing but leaving out is left.
    last: bool,
}

impl Judged<'_> {
    /// Whether there are more problems than a sound game has among so many things.
    fn is_many(&self, among: usize) -> bool {
        /// Of fewer things none may be wrong.
        const FEW: usize = 20;
        self.group.count > (among * 5 / 100).max(usize::from(among >= FEW)) || self.is_everywhere()
    }

    /// Whether half of the files have such a problem: mistakes of people are in few.
    fn is_everywhere(&self) -> bool {
        const FEWEST: usize = 4;
        let table = self.group.table.as_ref();
        let files = table.and_then(|table| self.counts.files.get(table)).copied().unwrap_or(0);
        self.group.files >= FEWEST && self.group.files * 2 >= files
    }

    /// Whether someone who has seen the exceptions of a proposal has taken it, and there are no more problems than these, nor
    /// more than one in ten.
    fn is_known(&self, at: usize, own: &Proposal) -> bool {
        let (count, exceptions) = (self.group.count as u64, own.values - own.fit.min(own.values));
        self.confirmed.contains(&at) && count <= exceptions && count * 10 <= own.values
    }

    /// Puts right or leaves out what brings the problems, unless they are few.
    fn judge(&self, proposals: &mut [Proposal], taken: &[usize], barred: &mut Barred) -> Change {
        let group = self.group;
        let Some(table) = group.table.as_deref() else { return Change::None };
        let records = self.counts.records.get(table).copied().unwrap_or(0);
        let of_table = |own: &Proposal| own.topic == Topic::Table && own.table == table;
        let at_table = taken.iter().copied().find(|at| of_table(&proposals[*at]));
        if let Some(field) = group.field.as_deref() {
            let of_field: Vec<usize> = taken
                .iter()
                .copied()
                .filter(|at| proposals[*at].table == table && proposals[*at].field.as_deref() == Some(field))
                .filter(|at| !proposals[*at].is_only_optional())
                .collect();
            if !of_field.is_empty() {
                let values =
                    of_field.iter().map(|at| proposals[*at].values as usize).max().unwrap_or(records);
                let is_known = of_field.iter().any(|at| self.is_known(*at, &proposals[*at]));
                if is_known || !self.is_many(values.max(1)) {
                    return Change::None;
                }
                let reason = self.reason("values", values);
                let mut is_changed = false;
                for at in of_field {
                    is_changed |= bar(proposals, barred, at, &reason);
                }
                return if is_changed { Change::FewerSettings } else { Change::None };
            }
        }
        let Some(at) = at_table else { return Change::None };
        let is_known = self.is_known(at, &proposals[at]);
        if group.code != Code::CONTESTED_FILE && (is_known || !self.is_many(records)) {
            return Change::None;
        }
        let of_key = [Code::DUPLICATE_KEY, Code::MISSING_KEY].contains(&group.code);
        if of_key && !proposals[at].settings.iter().any(|(name, _)| name == "key") {
            return Change::None; // It is out already.
        }
        if of_key && !self.last && without_key(&mut proposals[at], &self.reason("records", records)) {
            // What names its records by that key is a question now.
            let needs_key = |own: &Proposal| {
                own.needs.iter().any(|need| need == table)
                    || own.table == table && own.settings.iter().any(|(name, _)| name == "follows")
            };
            for at in (0..proposals.len()).filter(|at| needs_key(&proposals[*at])).collect::<Vec<_>>() {
                bar(proposals, barred, at, &format!("no key of `{table}` tells its records apart"));
            }
            return Change::OtherTables;
        }
        let reason = self.reason("records", records);
        // What is said of its fields goes with it.
        let is_changed = bar(proposals, barred, at, &reason);
        if is_changed { Change::OtherTables } else { Change::None }
    }

    fn reason(&self, things: &str, among: usize) -> String {
        let place = &self.group.example.place;
        let at = if place.line > 0 { format!("{}:{}", place.path, place.line) } else { place.path.clone() };
        let often =
            if self.group.count == 1 { "once".to_owned() } else { format!("{} times", self.group.count) };
        let message = &self.group.example.message;
        format!("tried, it brings `{}` {often} among {among} {things}: {message}, in {at}", self.group.code)
    }
}

/// Takes the key out of what is proposed for a table; `false` if there is none, or the table makes no sense without it.
fn without_key(table: &mut Proposal, reason: &str) -> bool {
    let has = |name: &str| table.settings.iter().any(|(own, _)| own == name);
    // Keys and values by themselves are no table.
    let of_keys =
        table.settings.iter().any(|(name, value)| name == "format" && value.contains("records = \"keys\""));
    if !has("key") || has("layering") || of_keys {
        return false;
    }
    table.settings.retain(|(name, _)| name != "key" && name != "texts");
    table.says = table.says.trim_end_matches(TEXTS).to_owned();
    table.reasons.push(reason.to_owned());
    true
}
