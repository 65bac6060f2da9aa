//! Positions that must not coincide, or must keep a distance.

use super::{Findings, Found, Scope};
use crate::Error;
use crate::expressions::Value;
use crate::rows::ColumnPath;
use crate::text::{number, shown_number};
use hashbrown::HashMap;

/// In one cell of the grid no more positions than these are looked at for one record.
const MOST_IN_CELL: usize = 1000;

/// How many cells on each side a position is compared with: a cell is as long as the distance.
const REACH: i64 = 1;

/// The records whose position in `fields` is nearer than `distance` to that of an earlier one; the same if it is 0.
pub(super) fn find(scope: &Scope<'_>, fields: &[String], distance: f64) -> Result<Findings, Error> {
    let paths = fields.iter().map(|name| scope.column(name)).collect::<Result<Vec<_>, Error>>()?;
    let column = paths.iter().find_map(ColumnPath::own_column);
    let steps = [1, 2, 3].map(steps);
    Ok(scope.each_group(|group, findings| {
        let mut grid: HashMap<Cell, Vec<(usize, Position)>> = HashMap::new();
        for at in group.iter().copied() {
            let Some(position) = position(scope, &paths, at) else { continue };
            let cell: Cell = match distance > 0.0 {
                true => position.at.map(|own| (own / distance).floor() as i64),
                // Equal numbers, to their last bit.
                false => position.at.map(|own| (own + 0.0).to_bits().cast_signed()),
            };
            let steps = if distance > 0.0 { &steps[position.number - 1][..] } else { &[[0; 3]] };
            let near = steps.iter().map(|step| [0, 1, 2].map(|axis| cell[axis].saturating_add(step[axis])));
            let conflict = near.filter_map(|cell| grid.get(&cell)).find_map(|others| {
                let others = others.iter().take(MOST_IN_CELL);
                let with_distance = others.map(|(other, theirs)| (*other, between(&position, theirs)));
                with_distance.into_iter().find(|(_, own)| *own < distance || *own == 0.0)
            });
            if let Some((other, own)) = conflict {
                let message = match own == 0.0 {
                    true => format!("{} is at the same place", scope.called(other)),
                    false => format!(
                        "{} is only {} away, and {} is the least",
                        scope.called(other),
                        shown_number(own, 6),
                        shown_number(distance, 6)
                    ),
                };
                findings.add(Found::new(at, column, message).related(other, "the other one"));
            }
            grid.entry(cell).or_default().push((at, position));
        }
    }))
}

/// A cell of the grid; axes that a position does not have are 0.
type Cell = [i64; 3];

/// One, two or three numbers.
#[derive(Debug, Clone, Copy)]
struct Position {
    at: [f64; 3],
    number: usize,
}

/// The ways from a cell to those around it, on so many axes, with itself; the nearest first.
fn steps(axes: usize) -> Vec<Cell> {
    let reach = |axis: usize| if axis < axes { -REACH..=REACH } else { 0..=0 };
    let mut out: Vec<Cell> = Vec::new();
    for a in reach(0) {
        for b in reach(1) {
            out.extend(reach(2).map(|c| [a, b, c]));
        }
    }
    out.sort_by_key(|step| step.iter().map(|own| own.abs()).sum::<i64>());
    out
}

/// The numbers of a record; `None` if one of them is missing, or there are more than three.
fn position(scope: &Scope<'_>, paths: &[ColumnPath], at: usize) -> Option<Position> {
    let mut out = Position { at: [0.0; 3], number: 0 };
    let mut add = |item: &Value| {
        let number = match item {
            Value::Number(number) => *number,
            Value::Text(text) => number(text.trim())?,
            _ => return None,
        };
        *out.at.get_mut(out.number)? = Some(number).filter(|number| number.is_finite())?;
        out.number += 1;
        Some(())
    };
    for path in paths {
        match path.held(scope.rows, scope.row(at)) {
            Value::List(items) => items.iter().try_for_each(&mut add)?,
            one => add(&one)?,
        }
    }
    (out.number > 0).then_some(out)
}

fn between(a: &Position, b: &Position) -> f64 {
    if a.number != b.number {
        return f64::INFINITY;
    }
    a.at.iter().zip(&b.at).map(|(a, b)| (a - b) * (a - b)).sum::<f64>().sqrt()
}
