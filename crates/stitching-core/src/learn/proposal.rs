//! What is proposed for a schema, with what speaks for and against it.

use crate::problem::Place;
use std::collections::{BTreeSet, HashSet};

/// How sure a proposal is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Band {
    /// Fit to be written without review.
    Accept,
    /// To be looked at.
    Ask,
    /// Hardly more than a coincidence.
    Hidden,
}

impl Band {
    /// Its name in output: `accept`, `ask`, `hidden`.
    pub fn name(self) -> &'static str {
        match self {
            Band::Accept => "accept",
            Band::Ask => "ask",
            Band::Hidden => "hidden",
        }
    }
}

/// What a proposal is about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Topic {
    /// A table: its files, its format, its key.
    Table,
    /// What the values of a field point to.
    Link,
    /// What kind of values a field has.
    Values,
    /// What goes with each record of a table.
    Companion,
}

impl Topic {
    /// Its name in output: `table`, `link`, `values`, `companion`.
    pub fn name(self) -> &'static str {
        match self {
            Topic::Table => "table",
            Topic::Link => "link",
            Topic::Values => "values",
            Topic::Companion => "companion",
        }
    }
}

/// A value that does not fit what is proposed.
#[derive(Debug, Clone)]
pub struct Exception {
    /// The value.
    pub text: String,
    /// How often it is there.
    pub count: u64,
    /// Where it is first.
    pub place: Place,
    /// What may be meant.
    pub near: Option<String>,
}

/// Something to write into the schema, with its evidence.
#[derive(Debug, Clone)]
pub struct Proposal {
    /// How sure it is.
    pub band: Band,
    /// What it is about.
    pub topic: Topic,
    /// The table.
    pub table: String,
    /// The field, unless it is about the table.
    pub field: Option<String>,
    /// What is proposed, in words.
    pub says: String,
    /// What it needs besides its own table: the tables that values point to, and the columns (`table.column`) if these are
    /// not the keys.
    pub needs: Vec<String>,
    /// The settings with their values as TOML, in the order in which they are written.
    pub settings: Vec<(String, String)>,
    /// How many values were looked at.
    pub values: u64,
    /// How many of them fit.
    pub fit: u64,
    /// How many different ones there are.
    pub distinct: u64,
    /// Values taken to stand for "nothing", with their counts.
    pub none: Vec<(String, u64)>,
    /// Values that do not fit, the most frequent first; at most a few.
    pub exceptions: Vec<Exception>,
    /// What else would fit about as well.
    pub rivals: Vec<String>,
    /// What speaks for it or against it, in words.
    pub reasons: Vec<String>,
}

/// The positions in `all` of what a user's confirmation of some proposals makes sure as well: fields of other tables
/// that are called the same, point to the same and have no exceptions.
pub fn confirmed_too(all: &[Proposal], confirmed: &[usize]) -> Vec<usize> {
    let is_like = |own: &Proposal, other: &Proposal| {
        own.topic == Topic::Link
            && other.topic == Topic::Link
            && own.field == other.field
            && own.settings == other.settings
            && other.fit == other.values
    };
    (0..all.len())
        .filter(|at| !confirmed.contains(at))
        .filter(|at| confirmed.iter().any(|own| is_like(&all[*own], &all[*at])))
        .collect()
}

/// The positions in `all` of the proposal at position `at` and those that it needs.
pub fn needed_with(all: &[Proposal], at: usize) -> Vec<usize> {
    with_needs(all, |own| own == at)
}

/// The positions in `all` of what is `chosen`, with the proposals for the tables and columns that these need, but without those
/// that are `barred` and all that needs such.
pub(super) fn with_needs_but(
    all: &[Proposal],
    chosen: impl Fn(usize) -> bool,
    barred: impl IntoIterator<Item = usize>,
) -> Vec<usize> {
    let mut out: BTreeSet<usize> = barred.into_iter().collect();
    loop {
        let taken = with_needs(all, |at| chosen(at) && !out.contains(&at));
        let name = |at: &usize| match &all[*at].field {
            None => (all[*at].topic == Topic::Table).then(|| all[*at].table.clone()),
            Some(field) => all[*at].is_needed_by_name().then(|| format!("{}.{field}", all[*at].table)),
        };
        let names: HashSet<String> = out.iter().filter_map(name).collect();
        let lacks = |at: &usize| {
            names.contains(&all[*at].table) || all[*at].needs.iter().any(|need| names.contains(need))
        };
        let more: Vec<usize> = taken.iter().copied().filter(|at| !out.contains(at)).filter(lacks).collect();
        if more.is_empty() {
            return taken.into_iter().filter(|at| !out.contains(at)).collect();
        }
        out.extend(more);
    }
}

/// The positions in `all` of what is `chosen`, with the proposals for the tables and columns that these need.
fn with_needs(all: &[Proposal], chosen: impl Fn(usize) -> bool) -> Vec<usize> {
    let mut taken: Vec<bool> = (0..all.len()).map(chosen).collect();
    loop {
        let needed: Vec<&str> = all
            .iter()
            .zip(&taken)
            .filter(|(_, taken)| **taken)
            .flat_map(|(own, _)| std::iter::once(&own.table).chain(&own.needs))
            .map(String::as_str)
            .collect();
        let is_needed = |own: &Proposal| match &own.field {
            None => own.topic == Topic::Table && needed.contains(&own.table.as_str()),
            Some(field) => {
                let column = format!("{}.{field}", own.table);
                own.is_needed_by_name() && needed.contains(&column.as_str())
            }
        };
        let more: Vec<usize> = (0..all.len()).filter(|at| !taken[*at] && is_needed(&all[*at])).collect();
        if more.is_empty() {
            break;
        }
        more.into_iter().for_each(|at| taken[at] = true);
    }
    (0..all.len()).filter(|at| taken[*at]).collect()
}

impl Proposal {
    /// Whether it says no more than that not all records have the field.
    pub(super) fn is_only_optional(&self) -> bool {
        self.settings.iter().all(|(name, _)| name == "optional")
    }

    /// Whether it is one that others need by the names of table and field: that no two records have the same there, or that
    /// not all have it.
    fn is_needed_by_name(&self) -> bool {
        self.settings.iter().any(|(name, _)| name == "unique" || name == "optional")
    }
}
