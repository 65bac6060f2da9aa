//! Records that are named by their position in another order; what refers to them follows.

use super::builder::Builder;
use super::change::{Change, Note};
use super::record_place::{Side, row_with_key};
use super::rename::follow_keys;
use super::renumber::{Renumbering, in_order};
use super::sequence::Sequence;
use crate::Error;
use crate::formats::Place;
use crate::layers::FileId;
use crate::links::{Address, Labels};
use crate::project::Project;
use crate::rows::{Row, Rows};
use crate::schema::{KeyPart, TableId};
use crate::tables::{KEY_SEPARATOR, shown_key};
use crate::text::Span;
use std::collections::BTreeMap;

/// Builds the change that moves records of `table`, whose key has their position in it, and has all that refers to them follow.
/// Each group (the records of a file whose keys are alike in all but the position; `group`, as keys begin, if only one is meant) is put in
/// order by itself. Notes directly above a record go with it.
///
/// # Errors
/// When nothing moves, a position is not there, or the records of a group do not stand side by side.
pub(super) fn reorder(
    project: &Project,
    table: TableId,
    group: Option<&str>,
    how: &Renumbering,
    title: String,
) -> Result<Change, Error> {
    let rows = Rows::read(project.view(), table, &Labels::default())?;
    let name = &rows.table.name;
    let sorted_by = match how {
        Renumbering::Sort(column) => Some(rows.column(column)?),
        Renumbering::Move(..) => None,
        Renumbering::Close | Renumbering::Open(..) => {
            return Err(Error::Usage {
                message: format!("the records of `{name}` are named by their position, which has no gaps"),
                help: "sort them by a column, or move a block of them".into(),
            });
        }
    };
    let mut groups: BTreeMap<(FileId, String), Vec<&Row>> = BTreeMap::new();
    for row in &rows.rows {
        let Some(key) = &row.key else { continue };
        let own = without_position(&rows, key);
        if group.is_none_or(|group| group == shown_key(&own)) {
            groups.entry((row.file, own)).or_default().push(row);
        }
    }
    if let (Some(group), true) = (group, groups.is_empty()) {
        return Err(Error::Usage {
            message: format!("no record of `{name}` has a key that begins with `{group}`"),
            help: "name the group as its keys begin: frost_cut".into(),
        });
    }
    let mut is_meant = false;
    let mut moved: Vec<(TableId, String, String)> = Vec::new();
    let mut moves: BTreeMap<FileId, Vec<(&Row, Place)>> = BTreeMap::new();
    for ((file, _), mut of_group) in groups {
        of_group.sort_by_key(|row| row.span.start);
        let order = new_order(&of_group, how, sorted_by, &mut is_meant)?;
        moved.extend(new_keys(table, &of_group, &order));
        moves.entry(file).or_default().extend(placed(&of_group, &order));
    }
    if let (Renumbering::Move(first, last, _), false) = (how, is_meant) {
        return Err(Error::Usage {
            message: format!("no record of `{name}` has a position from {first} to {last}"),
            help: "name the positions that its keys have".into(),
        });
    }
    if moved.is_empty() {
        return Err(Error::nothing_to_do("all records are in this order already"));
    }
    let moves = moves
        .into_iter()
        .map(|(file, moves)| (file, moves.into_iter().map(|(row, place)| (row.span, place)).collect()));
    let moves: BTreeMap<FileId, Vec<(Span, Place)>> = moves.collect();
    let mut builder = Builder::new(project, title);
    builder.count_records(moves.values().map(Vec::len).sum());
    moved_records(project, &rows, moves, &moved, builder)
}

/// `change`, which puts records with these `keys` at the ends of their groups, and then moves them beside the record whose key is shown as
/// `other`. Until then no two records are meant by one position, so that what the change writes and what was there are told apart.
///
/// # Errors
/// When the other record stands in another file, or one of them cannot be moved.
pub(super) fn then_beside(
    project: &Project,
    change: Change,
    table: TableId,
    keys: &[String],
    other: (&str, Side),
) -> Result<Change, Error> {
    let mut sequence = Sequence::new(project, change.title());
    sequence.push(change)?;
    for key in keys {
        let moved = move_beside(sequence.project(), table, key, other)?;
        sequence.push_followed(moved)?;
    }
    Ok(sequence.finish())
}

/// Builds the change that moves the record with the key `key`, as kept in memory, beside another one of its file, whose key is shown as
/// `other`, and has all that refers to those that get other positions follow.
///
/// # Errors
/// When one of them is not there, they stand in different files, or it cannot be moved.
fn move_beside(project: &Project, table: TableId, key: &str, other: (&str, Side)) -> Result<Change, Error> {
    let rows = Rows::read(project.view(), table, &Labels::default())?;
    let (beside, side) = (row_with_key(&rows, other.0)?, other.1);
    let row = row_with_key(&rows, &shown_key(key))?;
    if row.file != beside.file {
        return Err(Error::refused(
            format!("{} stands in another file", Address::show(&rows.table.name, other.0)),
            "name one of the same file; nothing was changed",
        ));
    }
    let own = without_position(&rows, key);
    let is_of_group = |row: &&Row| {
        row.file == beside.file && row.key.as_ref().is_some_and(|key| without_position(&rows, key) == own)
    };
    let mut of_group: Vec<&Row> = rows.rows.iter().filter(is_of_group).collect();
    of_group.sort_by_key(|row| row.span.start);
    let others = of_group.iter().filter(|other| other.span != row.span);
    let before = others.filter(|other| other.span.start < beside.span.start).count()
        + usize::from(side == Side::After && is_of_group(&beside));
    let mut order: Vec<usize> = (0..of_group.len()).filter(|at| of_group[*at].span != row.span).collect();
    order.extend(of_group.iter().position(|own| own.span == row.span));
    order[before..].rotate_right(1);
    let moved = new_keys(table, &of_group, &order);
    let moves = BTreeMap::from([(row.file, vec![(row.span, side.of(beside.span))])]);
    moved_records(project, &rows, moves, &moved, Builder::new(project, "move"))
}

/// The former and the new key of each record of a group that another order gives another position.
fn new_keys(table: TableId, of_group: &[&Row], order: &[usize]) -> Vec<(TableId, String, String)> {
    let key = |(to, from): (usize, &usize)| {
        (to != *from)
            .then(|| Some((table, of_group[*from].key.clone()?, of_group[to].key.clone()?)))
            .flatten()
    };
    order.iter().enumerate().filter_map(key).collect()
}

/// The change of `builder` that moves records, by file, and has what refers to them by the keys that change follow.
fn moved_records(
    project: &Project,
    rows: &Rows,
    moves: BTreeMap<FileId, Vec<(Span, Place)>>,
    moved: &[(TableId, String, String)],
    mut builder: Builder<'_>,
) -> Result<Change, Error> {
    for (file, moves) in moves {
        let path = &project.stack.files()[file].path;
        let refused = |reason: String| {
            Error::refused(format!("`{path}`: {reason}"), "move them by hand; nothing was changed")
        };
        builder.edit_with(file, |text, _| {
            let Some(mut editor) = rows.table.format.editor(text) else { return Ok(Vec::new()) };
            for (record, place) in moves {
                editor.move_to(record, place).map_err(refused)?;
            }
            Ok(editor.finish())
        })?;
    }
    let change = builder.finish()?;
    let mut sequence = Sequence::new(project, change.title());
    sequence.push_followed(change)?;
    let following = follow_keys(sequence.project(), moved)?;
    if !following.files().is_empty() {
        sequence.push_followed(following.with(Note::PositionsFollow(rows.table.name.clone())))?;
    }
    Ok(sequence.finish())
}

/// A key as kept in memory without its position.
fn without_position(rows: &Rows, key: &str) -> String {
    let parts = rows.table.key.iter().zip(key.split(KEY_SEPARATOR));
    let others = parts.filter(|(part, _)| **part != KeyPart::Position).map(|(_, own)| own);
    others.collect::<Vec<_>>().join(&KEY_SEPARATOR.to_string())
}

/// The records of a group in the new order, by their places in the old one. Notes whether any is meant.
///
/// # Errors
/// When some of them are to go where no position is.
fn new_order(
    of_group: &[&Row],
    how: &Renumbering,
    sorted_by: Option<usize>,
    is_meant: &mut bool,
) -> Result<Vec<usize>, Error> {
    let mut order: Vec<usize> = (0..of_group.len()).collect();
    match (how, sorted_by) {
        (_, Some(column)) => {
            order.sort_by(|a, b| in_order(&of_group[*a].text(column), &of_group[*b].text(column)));
        }
        (Renumbering::Move(first, last, to), _) => {
            let is_moved = |at: &usize| (*first..=*last).contains(&i64::from(of_group[*at].position));
            let block: Vec<usize> = order.iter().copied().filter(is_moved).collect();
            if block.is_empty() {
                return Ok(order);
            }
            *is_meant = true;
            order.retain(|at| !is_moved(at));
            let start = of_group.first().map_or(0, |row| i64::from(row.position));
            let at = usize::try_from(to.saturating_sub(start)).ok().filter(|at| *at <= order.len());
            let at = at.ok_or_else(|| {
                let last = start + order.len() as i64;
                Error::refused(
                    format!("the first of them cannot get the position {to}: those of the group are {start} to {last}"),
                    "nothing was changed",
                )
            })?;
            order.splice(at..at, block);
        }
        _ => {}
    }
    Ok(order)
}

/// The records that move, and where each goes: as few as can be. Those that stay are the longest run in order, and the
/// others go beside them.
fn placed<'r>(of_group: &[&'r Row], order: &[usize]) -> Vec<(&'r Row, Place)> {
    let stays = longest_ascending(order);
    let mut out = Vec::new();
    let first = order.iter().position(|at| stays[*at]).map(|at| of_group[order[at]].span);
    let mut last = None;
    for at in order {
        let row = of_group[*at];
        if stays[*at] {
            last = Some(row.span);
            continue;
        }
        let place = last.map(Place::After).or(first.map(Place::Before));
        out.extend(place.map(|place| (row, place)));
    }
    out
}

/// Which of the numbers from 0 on in `order` are in one longest ascending sequence of it.
fn longest_ascending(order: &[usize]) -> Vec<bool> {
    // The places in `order` of the lowest ends of sequences of each length, and what stands before each.
    let mut ends: Vec<usize> = Vec::new();
    let mut before: Vec<Option<usize>> = vec![None; order.len()];
    for (at, number) in order.iter().enumerate() {
        let length = ends.partition_point(|end| order[*end] < *number);
        before[at] = length.checked_sub(1).map(|last| ends[last]);
        if length == ends.len() {
            ends.push(at);
        } else {
            ends[length] = at;
        }
    }
    let mut out = vec![false; order.len()];
    let mut next = ends.last().copied();
    while let Some(at) = next {
        out[order[at]] = true;
        next = before[at];
    }
    out
}

#[cfg(test)]
mod tests {
    use super::longest_ascending;
    use rstest::rstest;

    #[rstest]
    #[case::nothing(&[], &[])]
    #[case::in_order(&[0, 1, 2], &[0, 1, 2])]
    #[case::turned_round(&[2, 1, 0], &[0])]
    #[case::one_back(&[1, 2, 3, 0], &[1, 2, 3])]
    #[case::one_forward(&[3, 0, 1, 2], &[0, 1, 2])]
    #[case::two_blocks(&[2, 3, 4, 0, 1], &[2, 3, 4])]
    #[case::mixed(&[4, 0, 3, 1, 2], &[0, 1, 2])]
    fn what_stays(#[case] order: &[usize], #[case] expected: &[usize]) {
        let stays = longest_ascending(order);
        let found: Vec<usize> = (0..order.len()).filter(|at| stays[*at]).collect();
        assert_eq!(found, expected);
    }
}
