//! Values of a field of which none leads anywhere: that is no list of slips but one mistake, in the schema or in which
//! files there are, and it is told once.

use super::report::Placed;
use super::{CHECKS, Run};
use crate::Code;
use crate::links::Index;
use crate::schema::TableId;
use crate::tables::{LinkKind, SeedDetail};
use std::collections::{HashMap, HashSet};

/// So many values must lead nowhere, and so many different ones among them, before one cause is thought of.
const MANY: usize = 20;
const DIFFERENT: usize = 10;

/// What leads nowhere of one field.
#[derive(Default)]
struct Nowhere {
    count: usize,
    /// Different values, up to [`DIFFERENT`].
    values: HashSet<u64>,
}

/// Leaves one problem of each field of which no value leads anywhere: the first that is not `of_base`, or else the first.
pub(super) fn join(index: &Index<'_>, placed: &mut Vec<Placed>, of_base: impl Fn(&Placed) -> bool) {
    let mut nowhere: HashMap<(Code, TableId, usize), Nowhere> = HashMap::new();
    for own in placed.iter() {
        if let (Some(of), SeedDetail::Link(value)) = (field_of(own), &own.1.detail) {
            let nowhere = nowhere.entry(of).or_default();
            nowhere.count += 1;
            if nowhere.values.len() < DIFFERENT {
                nowhere.values.insert(*value);
            }
        }
    }
    nowhere.retain(|(code, table, rule), own| {
        own.count >= MANY
            && own.values.len() >= DIFFERENT
            && own.count == links_of(index, *code, *table, *rule)
    });
    if nowhere.is_empty() {
        return;
    }
    let joined = |own: &Placed| field_of(own).filter(|of| nowhere.contains_key(of));
    let mut first: HashMap<(Code, TableId, usize), (bool, usize)> = HashMap::new();
    for (at, own) in placed.iter().enumerate() {
        let Some(of) = joined(own) else { continue };
        // By the order of the places, and those of the base last.
        let order = |at: usize| (placed[at].0, placed[at].1.span);
        let is_of_base = of_base(own);
        let best = first.entry(of).or_insert((is_of_base, at));
        if (is_of_base, order(at)) < (best.0, order(best.1)) {
            *best = (is_of_base, at);
        }
    }
    let kept: HashSet<usize> = first.into_values().map(|(_, at)| at).collect();
    let mut at = 0..;
    placed.retain_mut(|own| {
        let at = at.next().unwrap_or_default();
        let Some(of) = field_of(own).filter(|of| nowhere.contains_key(of)) else { return true };
        if let SeedDetail::Link(value) = own.1.detail {
            own.1.detail = SeedDetail::NoLink(value, nowhere[&of].count);
        }
        kept.contains(&at)
    });
}

fn field_of((_, seed): &Placed) -> Option<(Code, TableId, usize)> {
    Some((seed.code, seed.table?, seed.rule?))
}

/// How many values of a rule are looked up by the check of this code; none if they may lead somewhere in part, as texts
/// that are there in one language.
fn links_of(index: &Index<'_>, code: Code, table: TableId, rule: usize) -> usize {
    let kind = CHECKS.iter().find(|check| check.code == code).and_then(|check| match check.run {
        Run::Link { kind, .. } if kind != LinkKind::Text => Some(kind),
        _ => None,
    });
    let facts = index.tables[table].files.iter().map(|own| index.facts(own.file, own.slot));
    let links = facts.flat_map(|facts| &facts.links);
    links.filter(|links| links.rule == rule && Some(links.kind) == kind).map(|links| links.links.len()).sum()
}
