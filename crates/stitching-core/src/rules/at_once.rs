//! Amounts of records that run at the same time: those of which none waits for another.
//!
//! How long each takes is not known, so any set of records of which none waits for another, directly or through others, may
//! run together. The set with the largest amount is found as the largest antichain of the order of waiting (Dilworth 1950): the
//! sum of all amounts, less the largest flow through the pairs of which one waits for the other.

use super::{Findings, Found, Scope};
use crate::Error;
use crate::expressions::Value;
use crate::text::{number, shown_number};
use std::collections::{HashMap, VecDeque};

/// In more records that are held together nothing is worked out: the time grows with their square.
const MOST_RECORDS: usize = 400;

/// Of more records that run at once only the first are told.
const MOST_SHOWN: usize = 6;

/// The groups in which records that may run at the same time have more than `most` of `amount` together.
pub(super) fn find(scope: &Scope<'_>, amount: &str, waits: &str, most: f64) -> Result<Findings, Error> {
    let (amounts, waits) = (scope.column(amount)?, scope.column(waits)?);
    let column = amounts.own_column();
    Ok(scope.each_group(|group, findings| {
        if group.len() > MOST_RECORDS {
            let message = format!(
                "{} records are held together, and `at_once` looks at {MOST_RECORDS} at most",
                group.len()
            );
            return findings.fail(Error::Usage { message, help: "hold fewer together with `by`".into() });
        }
        let of_row = |at: &usize| match amounts.held(scope.rows, scope.row(*at)) {
            Value::Number(own) if own.is_finite() => own.max(0.0),
            Value::Text(text) => number(text.trim()).filter(|own| own.is_finite()).unwrap_or(0.0).max(0.0),
            _ => 0.0,
        };
        let own: Vec<f64> = group.iter().map(of_row).collect();
        let within: HashMap<usize, usize> = group.iter().enumerate().map(|(own, at)| (*at, own)).collect();
        let of_row = |at: &usize| {
            let before = waits.referred_rows(scope.rows, scope.row(*at)).into_iter();
            before.filter_map(|other| within.get(&other).copied()).collect()
        };
        let before: Vec<Vec<usize>> = group.iter().map(of_row).collect();
        let together = heaviest_antichain(&own, &before);
        let sum: f64 = together.iter().map(|at| own[*at]).sum();
        if sum > most {
            let shown = together.iter().take(MOST_SHOWN).map(|at| scope.called(group[*at]));
            let mut shown = shown.collect::<Vec<_>>().join(", ");
            if together.len() > MOST_SHOWN {
                shown.push_str(", ...");
            }
            let message = format!(
                "{} of {amount} may run at once, and {} is the most: {shown}",
                shown_number(sum, 6),
                shown_number(most, 6)
            );
            let row = together.first().map_or(group[0], |at| group[*at]);
            findings.add(Found::new(row, column, message));
        }
    }))
}

/// Of the records with these weights, each with those that it waits for, the set with the largest sum of which none waits for
/// another; in order.
fn heaviest_antichain(weights: &[f64], before: &[Vec<usize>]) -> Vec<usize> {
    let number = weights.len();
    // Whom each waits for, directly or not.
    let mut waits: Vec<Vec<bool>> = Vec::with_capacity(number);
    for start in 0..number {
        let mut reached = vec![false; number];
        let mut left = before[start].clone();
        while let Some(own) = left.pop() {
            if !std::mem::replace(&mut reached[own], true) {
                left.extend(&before[own]);
            }
        }
        waits.push(reached);
    }
    // In a circle all wait for each other, and for themselves: an order is kept by their numbers.
    let pair = |a: usize, b: usize| a != b && waits[a][b] && (!waits[b][a] || a > b);
    let mut flow = Flow::new(weights);
    flow.run(&pair);
    // A record is in the set if its out-side is reached and its in-side is not.
    let (out_side, in_side) = flow.reached(&pair);
    (0..number).filter(|at| weights[*at] > 0.0 && out_side[*at] && !in_side[*at]).collect()
}

/// A flow from the out-sides of records, each with its weight, to the in-sides of others.
struct Flow {
    left_out: Vec<f64>,
    left_in: Vec<f64>,
    /// What flows from each to each, a row for each second one.
    flows: Vec<f64>,
}

/// Smaller differences come from rounding.
const NOTHING: f64 = 1e-9;

impl Flow {
    fn new(weights: &[f64]) -> Flow {
        let flows = vec![0.0; weights.len() * weights.len()];
        Flow { left_out: weights.to_vec(), left_in: weights.to_vec(), flows }
    }

    /// What flows from one to another.
    fn flow(&mut self, from: usize, to: usize) -> &mut f64 {
        let number = self.left_out.len();
        &mut self.flows[to * number + from]
    }

    /// What flows to one, from each.
    fn flows_to(&self, to: usize) -> &[f64] {
        let number = self.left_out.len();
        &self.flows[to * number..(to + 1) * number]
    }

    /// Adds to the flow as long as there is a way for more (Edmonds and Karp 1972).
    fn run(&mut self, pair: &impl Fn(usize, usize) -> bool) {
        while self.augment(pair) {}
    }

    /// Finds the shortest way for more, and sends as much over it as it takes.
    fn augment(&mut self, pair: &impl Fn(usize, usize) -> bool) -> bool {
        let number = self.left_out.len();
        // From which out-side each in-side was reached, and from which in-side each out-side.
        let (mut to_in, mut to_out) = (vec![usize::MAX; number], vec![usize::MAX; number]);
        let mut is_start = vec![false; number];
        let mut queue: VecDeque<usize> = (0..number).filter(|at| self.left_out[*at] > NOTHING).collect();
        queue.iter().for_each(|at| is_start[*at] = true);
        while let Some(from) = queue.pop_front() {
            for to in 0..number {
                if to_in[to] != usize::MAX || !pair(from, to) {
                    continue;
                }
                to_in[to] = from;
                if self.left_in[to] > NOTHING {
                    self.send(to, &to_in, &to_out, &is_start);
                    return true;
                }
                for (back, flows) in self.flows_to(to).iter().enumerate() {
                    if *flows > NOTHING && !is_start[back] && to_out[back] == usize::MAX {
                        to_out[back] = to;
                        queue.push_back(back);
                    }
                }
            }
        }
        false
    }

    fn send(&mut self, end: usize, to_in: &[usize], to_out: &[usize], is_start: &[bool]) {
        let mut way = Vec::new();
        let mut at = end;
        loop {
            let from = to_in[at];
            way.push((from, at, true));
            if is_start[from] {
                break;
            }
            let back = to_out[from];
            way.push((from, back, false));
            at = back;
        }
        let first = way.last().map_or(0, |(from, ..)| *from);
        let mut amount = self.left_in[end].min(self.left_out[first]);
        for (from, to, forward) in &way {
            if !forward {
                amount = amount.min(*self.flow(*from, *to));
            }
        }
        for (from, to, forward) in way {
            *self.flow(from, to) += if forward { amount } else { -amount };
        }
        self.left_in[end] -= amount;
        self.left_out[first] -= amount;
    }

    /// The out-sides and the in-sides to which more could flow.
    fn reached(&self, pair: &impl Fn(usize, usize) -> bool) -> (Vec<bool>, Vec<bool>) {
        let number = self.left_out.len();
        let mut out_side: Vec<bool> = self.left_out.iter().map(|left| *left > NOTHING).collect();
        let mut in_side = vec![false; number];
        let mut left: Vec<usize> = (0..number).filter(|at| out_side[*at]).collect();
        while let Some(from) = left.pop() {
            for to in (0..number).filter(|to| pair(from, *to)) {
                if std::mem::replace(&mut in_side[to], true) {
                    continue;
                }
                for (back, flows) in self.flows_to(to).iter().enumerate() {
                    if *flows > NOTHING && !std::mem::replace(&mut out_side[back], true) {
                        left.push(back);
                    }
                }
            }
        }
        (out_side, in_side)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case::all_at_once(&[1.0, 2.0, 3.0], vec![vec![], vec![], vec![]], vec![0, 1, 2])]
    #[case::one_after_the_other(&[1.0, 2.0, 3.0], vec![vec![], vec![0], vec![1]], vec![2])]
    #[case::two_behind_one(&[4.0, 2.0, 3.0], vec![vec![], vec![0], vec![0]], vec![1, 2])]
    #[case::one_before_two(&[9.0, 2.0, 3.0], vec![vec![], vec![0], vec![0]], vec![0])]
    #[case::circle(&[1.0, 5.0], vec![vec![1], vec![0]], vec![1])]
    #[case::none(&[], vec![], vec![])]
    fn the_heaviest_set_is_found(
        #[case] weights: &[f64],
        #[case] before: Vec<Vec<usize>>,
        #[case] expected: Vec<usize>,
    ) {
        assert_eq!(heaviest_antichain(weights, &before), expected);
    }

    /// All sets tried.
    fn heaviest_of_all_sets(weights: &[f64], before: &[Vec<usize>]) -> f64 {
        let number = weights.len();
        let mut waits = vec![vec![false; number]; number];
        for own in 0..number {
            for other in &before[own] {
                waits[own][*other] = true;
                let theirs = waits[*other].clone();
                waits[own].iter_mut().zip(theirs).for_each(|(own, theirs)| *own |= theirs);
            }
        }
        let sets = (0u32..1 << number).filter(|set| {
            let has = |at: usize| set >> at & 1 == 1;
            (0..number).all(|a| (0..number).all(|b| !(has(a) && has(b) && waits[a][b])))
        });
        let weight =
            |set: u32| (0..number).filter(|at| set >> at & 1 == 1).map(|at| weights[at]).sum::<f64>();
        sets.map(weight).fold(0.0, f64::max)
    }

    proptest! {
        #[test]
        fn no_other_set_is_heavier(
            weights in prop::collection::vec(0u32..9, 1..9),
            links in prop::collection::vec((0usize..9, 0usize..9), 0..14),
        ) {
            let weights: Vec<f64> = weights.into_iter().map(f64::from).collect();
            let mut before = vec![Vec::new(); weights.len()];
            for (a, b) in links {
                // Each waits for earlier ones only, so that there is no circle.
                let (low, high) = (a.min(b), a.max(b));
                if low != high && high < weights.len() {
                    before[high].push(low);
                }
            }
            let found = heaviest_antichain(&weights, &before);
            let sum: f64 = found.iter().map(|at| weights[*at]).sum();
            prop_assert_eq!(sum, heaviest_of_all_sets(&weights, &before));
        }
    }
}
