//! Which value of another field belongs to a value, where a record has several of both: `<step kind="ship" name="sloop"/>`
//! has its own kind and its own name.

use super::RecordView;
use crate::formats::{Cell, ColumnCell};
use std::cell::RefCell;

/// Records with more cells than this are gone through once for each field, even where the field has one value only.
const FEW: usize = 128;

/// For each cell of a record the position of the nearest cell of another field, and how many structures inside the record
/// both are in.
type Companions = Vec<Option<(u32, u16)>>;

/// The companions that were worked out for a record, by field.
#[derive(Debug, Default)]
pub(super) struct KnownCompanions(RefCell<Vec<(usize, Companions)>>);

impl<'a> RecordView<'a> {
    /// The cell of `field` that belongs to the cell at position `at`: the one in the innermost structure that is around
    /// both; of several the last one before it, or else the first one behind it. One that stands in another item of the
    /// list in which the cell is does not belong to it.
    #[inline]
    pub fn cell_beside(&self, at: usize, field: usize) -> Option<&'a Cell> {
        let (found, shared) = self.nearest(at, field)?;
        let fields = &self.table.fields;
        let own = usize::from(self.cells.get(at)?.column);
        let needed = self.table.format.shared_steps(&fields[own].column, &fields[field].column);
        (shared >= needed).then(|| &self.cells[found].cell)
    }

    /// The position of the nearest cell of `field`, and how many structures it shares with the cell at `at`.
    fn nearest(&self, at: usize, field: usize) -> Option<(usize, u16)> {
        let of_field = |cell: &ColumnCell| usize::from(cell.column) == field;
        if self.cells.len() <= FEW {
            let mut all = self.cells.iter().enumerate().filter(|(_, cell)| of_field(cell));
            let (first, _) = all.next()?;
            if all.next().is_none() {
                let between = self.cells.get(first.min(at) + 1..=first.max(at)).unwrap_or_default();
                let shared = between.iter().map(|cell| cell.shared).min();
                return Some((first, shared.unwrap_or(u16::MAX)));
            }
        }
        let mut known = self.companions.0.borrow_mut();
        let index = known.iter().position(|(own, _)| *own == field).unwrap_or_else(|| {
            let cells = self.cells.iter().map(|cell| (of_field(cell), cell.shared));
            known.push((field, companions(cells)));
            known.len() - 1
        });
        let (found, shared) = known[index].1.get(at).copied().flatten()?;
        Some((found as usize, shared))
    }
}

/// The order of a record's cells, for those who have only its values: of each the field, and how many structures it
/// shares with the one before.
#[derive(Debug, Clone, Default)]
pub struct CellOrder(Vec<(u16, u16)>);

impl CellOrder {
    /// That of `cells`.
    pub fn of(cells: &[ColumnCell]) -> CellOrder {
        CellOrder(cells.iter().map(|cell| (cell.column, cell.shared)).collect())
    }

    /// For each value of `field`, in the order of the record, which value of `other` belongs to it (0-based); both must be
    /// in as many structures together as `needed` tells.
    pub fn beside(&self, field: usize, other: usize, needed: u16) -> Vec<Option<usize>> {
        let is = |column: u16, field: usize| usize::from(column) == field;
        let found = companions(self.0.iter().map(|(column, shared)| (is(*column, other), *shared)));
        let mut number = 0;
        let numbers: Vec<usize> = self
            .0
            .iter()
            .map(|(column, _)| {
                number += usize::from(is(*column, other));
                number.saturating_sub(1)
            })
            .collect();
        let own = self.0.iter().zip(found).filter(|((column, _), _)| is(*column, field));
        let belongs = |found: &(u32, u16)| found.1 >= needed;
        own.map(|(_, found)| found.filter(belongs).map(|(at, _)| numbers[at as usize])).collect()
    }
}

/// The nearest of the cells that are of a field, for each cell; of each is given whether it is, and how many structures
/// it shares with the one before. Cost: two passes.
fn companions(cells: impl ExactSizeIterator<Item = (bool, u16)> + DoubleEndedIterator + Clone) -> Companions {
    let nearest = |found: Option<(u32, u16)>, crossed: u16| found.map(|(at, low)| (at, low.min(crossed)));
    let mut before: Option<(u32, u16)> = None;
    let mut out: Companions = Vec::with_capacity(cells.len());
    for (at, (is, shared)) in cells.clone().enumerate() {
        before = if is { Some((at as u32, u16::MAX)) } else { nearest(before, shared) };
        out.push(before);
    }
    let mut after: Option<(u32, u16)> = None;
    for (at, (is, shared)) in cells.enumerate().rev() {
        if is {
            after = Some((at as u32, u16::MAX));
        }
        let is_nearer = match (out[at], after) {
            (Some((_, before)), Some((_, after))) => after > before,
            (before, _) => before.is_none(),
        };
        if is_nearer {
            out[at] = after;
        }
        after = nearest(after, shared);
    }
    out
}

#[cfg(test)]
mod tests {
    use super::companions;
    use rstest::rstest;

    /// A capital is a cell of the field; a digit before a cell tells how many structures it shares with the one before.
    #[rstest]
    #[case::none("0a 0b", "- -")]
    #[case::one_for_all("0K 0a 0b 1c", "0 0 0 0")]
    #[case::each_its_own("0K 1a 0K 1b", "0 0 2 2")]
    #[case::behind("0a 1K 0b 1K", "1 1 3 3")]
    #[case::one_without("0K 1a 0b 0K 1c", "0 0 0 3 3")]
    #[case::side_by_side("0K 0a 0K 0b", "0 0 2 2")]
    #[case::first_behind("0a 0K 0b", "1 1 1")]
    #[case::deeper_wins("0K 0a 2K 0b", "0 2 2 2")]
    #[case::the_outer_for_a_list_below("0K 1a 2b 2c 0K 1d 2e", "0 0 0 0 4 4 4")]
    fn the_cell_that_belongs_to_each(#[case] cells: &str, #[case] expected: &str) {
        let cells: Vec<(bool, u16)> = cells
            .split(' ')
            .map(|cell| (cell.ends_with(char::is_uppercase), u16::from(cell.as_bytes()[0] - b'0')))
            .collect();
        let found = companions(cells.into_iter());
        let shown: Vec<String> =
            found.iter().map(|at| at.map_or_else(|| "-".to_owned(), |(at, _)| at.to_string())).collect();
        assert_eq!(shown.join(" "), expected);
    }
}
