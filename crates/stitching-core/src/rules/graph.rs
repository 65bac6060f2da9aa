//! References of records to records of the same table: circles, records that nothing leads to, links that do not lead back.

use super::{Findings, Found, Scope, holds_or_null};
use crate::Error;
use crate::help::Help;
use crate::rows::{ColumnPath, Formula};
use std::collections::{HashMap, HashSet};

/// Of a longer circle only the beginning is told.
const MOST_SHOWN: usize = 8;

/// What the rows of a group lead to in the same group, by their positions in it.
struct Links {
    /// For each row the rows that it leads to, and for each the position of the row in the group.
    onward: Vec<Vec<usize>>,
}

impl Links {
    fn of(scope: &Scope<'_>, path: &ColumnPath, group: &[usize]) -> Links {
        let within: HashMap<usize, usize> = group.iter().enumerate().map(|(own, at)| (*at, own)).collect();
        let of_row = |at: &usize| {
            let referred = path.referred_rows(scope.rows, scope.row(*at)).into_iter();
            referred.filter_map(|other| within.get(&other).copied()).collect()
        };
        Links { onward: group.iter().map(of_row).collect() }
    }

    /// The circles: of rows that lead to each other the shortest way around that begins with the first of them.
    fn circles(&self) -> Vec<Vec<usize>> {
        let mut out = Vec::new();
        for part in self.strongly_connected() {
            let first = part.iter().copied().min().unwrap_or_default();
            if part.len() > 1 || self.onward[first].contains(&first) {
                out.push(self.way_around(first, &part.into_iter().collect()));
            }
        }
        out.sort();
        out
    }

    /// The parts in which each row leads to each other. After Tarjan (1972), without recursion.
    fn strongly_connected(&self) -> Vec<Vec<usize>> {
        const NEW: usize = usize::MAX;
        let number = self.onward.len();
        let (mut index, mut low) = (vec![NEW; number], vec![0; number]);
        let (mut stack, mut on_stack, mut next) = (Vec::new(), vec![false; number], 0);
        let mut out = Vec::new();
        for start in 0..number {
            if index[start] != NEW {
                continue;
            }
            let mut work = vec![(start, 0)];
            while let Some((own, done)) = work.pop() {
                if done == 0 {
                    (index[own], low[own]) = (next, next);
                    next += 1;
                    stack.push(own);
                    on_stack[own] = true;
                }
                match self.onward[own].get(done) {
                    Some(other) => {
                        work.push((own, done + 1));
                        if index[*other] == NEW {
                            work.push((*other, 0));
                        } else if on_stack[*other] {
                            low[own] = low[own].min(index[*other]);
                        }
                    }
                    None => {
                        if let Some((parent, _)) = work.last() {
                            low[*parent] = low[*parent].min(low[own]);
                        }
                        if low[own] == index[own] {
                            let begin = stack.iter().rposition(|other| *other == own).unwrap_or(0);
                            let part = stack.split_off(begin);
                            part.iter().for_each(|other| on_stack[*other] = false);
                            out.push(part);
                        }
                    }
                }
            }
        }
        out
    }

    /// The shortest way from `first` through `part` back to it.
    fn way_around(&self, first: usize, part: &HashSet<usize>) -> Vec<usize> {
        let mut before: HashMap<usize, usize> = HashMap::new();
        let mut queue = std::collections::VecDeque::from([first]);
        while let Some(own) = queue.pop_front() {
            for other in self.onward[own].iter().copied().filter(|other| part.contains(other)) {
                if other == first {
                    let mut way = vec![own];
                    while let Some(earlier) = way.last().and_then(|last| before.get(last)) {
                        way.push(*earlier);
                    }
                    way.reverse();
                    return way;
                }
                if other != first && !before.contains_key(&other) {
                    before.insert(other, own);
                    queue.push_back(other);
                }
            }
        }
        vec![first]
    }
}

/// A column with references to the same table.
fn path(scope: &Scope<'_>, field: &str) -> Result<ColumnPath, Error> {
    let path = scope.column(field)?;
    match path.refers_to(scope.rows, scope.rows.id) {
        true => Ok(path),
        false => Err(Error::Usage {
            message: format!("`{field}` refers to no record of `{}`", scope.rows.table.name),
            help: Help::from(format!("describe it with ref = \"{}\"", scope.rows.table.name)),
        }),
    }
}

/// The circles of the references in `field`.
pub(super) fn circles(scope: &Scope<'_>, field: &str) -> Result<Findings, Error> {
    let path = path(scope, field)?;
    let column = path.own_column();
    Ok(scope.each_group(|group, findings| {
        for way in Links::of(scope, &path, group).circles() {
            let mut shown: Vec<String> =
                way.iter().take(MOST_SHOWN).map(|own| scope.called(group[*own])).collect();
            if way.len() > MOST_SHOWN {
                shown.push("...".to_owned());
            }
            shown.extend(shown.first().cloned());
            let message = match way.len() {
                1 => format!("{field} of {} leads to itself", shown[0]),
                _ => format!("{field} leads in a circle: {}", shown.join(", ")),
            };
            let found = Found::new(group[way[0]], column, message);
            findings.add(match way.get(1) {
                Some(next) => found.related(group[*next], "the next one"),
                None => found,
            });
        }
    }))
}

/// The records that are not reached through `field` from those that meet the condition `from`.
pub(super) fn unreached(scope: &Scope<'_>, field: &str, from: &str) -> Result<Findings, Error> {
    let path = path(scope, field)?;
    let condition = Formula::parse(from, scope.rows, &[], scope.others)?;
    Ok(scope.each_group(|group, findings| {
        let links = Links::of(scope, &path, group);
        let mut reached = vec![false; group.len()];
        let mut left = Vec::new();
        for (own, at) in group.iter().enumerate() {
            match holds_or_null(&condition, scope.rows, scope.row(*at)) {
                Ok(true) => left.push(own),
                Ok(false) => {}
                Err(error) => findings.fail(error),
            }
        }
        let has_start = !left.is_empty();
        while let Some(own) = left.pop() {
            if !std::mem::replace(&mut reached[own], true) {
                left.extend(links.onward[own].iter().copied().filter(|other| !reached[*other]));
            }
        }
        let mut told = |row: usize, message: String| findings.add(Found::new(row, None, message));
        if let (false, Some(first)) = (has_start, group.first()) {
            // One problem for all that cannot be reached.
            return told(*first, format!("no record meets `{from}`, from which all should be reached"));
        }
        for (at, _) in group.iter().zip(reached).filter(|(_, reached)| !reached) {
            told(*at, format!("{} is not reached through {field}", scope.called(*at)));
        }
    }))
}

/// The records that one names in `there`, and that do not name it in `back`.
pub(super) fn one_way(scope: &Scope<'_>, there: &str, back: &str) -> Result<Findings, Error> {
    let (forward, backward) = (path(scope, there)?, path(scope, back)?);
    Ok(scope.each_group(|group, findings| {
        let known = [&forward, &backward].map(|path| {
            let of_row = |at: &usize| {
                let referred = path.referred_rows(scope.rows, scope.row(*at)).into_iter();
                referred.map(|other| (*at, other)).collect::<Vec<_>>()
            };
            group.iter().flat_map(of_row).collect::<Vec<(usize, usize)>>()
        });
        let sets = [0, 1].map(|side| known[side].iter().copied().collect::<HashSet<_>>());
        let mut told =
            |path: &ColumnPath, links: &[(usize, usize)], other: &HashSet<(usize, usize)>, field: &str| {
                for (own, to) in links.iter().filter(|(own, to)| !other.contains(&(*to, *own))) {
                    let message = format!(
                        "{} names {} here, which does not name it in {field}",
                        scope.called(*own),
                        scope.called(*to)
                    );
                    let found = Found::new(*own, path.own_column(), message);
                    findings.add(found.related(*to, "this one does not lead back"));
                }
            };
        told(&forward, &known[0], &sets[1], back);
        if there != back {
            told(&backward, &known[1], &sets[0], there);
        }
    }))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::none(vec![vec![1], vec![2], vec![]], vec![])]
    #[case::itself(vec![vec![0]], vec![vec![0]])]
    #[case::two(vec![vec![1], vec![0]], vec![vec![0, 1]])]
    #[case::shortest(vec![vec![1], vec![2], vec![3, 0], vec![0]], vec![vec![0, 1, 2]])]
    #[case::two_circles(vec![vec![1], vec![0], vec![3], vec![2]], vec![vec![0, 1], vec![2, 3]])]
    #[case::tail(vec![vec![1], vec![2], vec![1]], vec![vec![1, 2]])]
    fn circles_are_found(#[case] onward: Vec<Vec<usize>>, #[case] circles: Vec<Vec<usize>>) {
        assert_eq!(Links { onward }.circles(), circles);
    }

    #[test]
    fn a_long_chain_is_no_circle_and_needs_no_deep_stack() {
        let number = 1_000_000;
        let onward = (0..number).map(|own| if own + 1 < number { vec![own + 1] } else { vec![] }).collect();
        assert!(Links { onward }.circles().is_empty());
    }
}
