//! Giving the numbers of a field in another order, or with gaps opened and closed; what refers to them follows.

use super::builder::Builder;
use super::change::Change;
use super::new_values::{NewValues, write_values};
use super::own_records::find_table;
use super::rename::{NewKeys, rename_many, rename_values};
use super::reorder::reorder;
use crate::Error;
use crate::help::NextStep;
use crate::layers::FileId;
use crate::links::{Labels, second_identifiers};
use crate::project::Project;
use crate::rows::{Row, Rows};
use crate::schema::{KeyPart, Layout};
use crate::text::{number, written_like};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap, HashSet};

/// The name of the part of a key that is a position.
const POSITION: &str = "position";

/// How numbers change.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub enum Renumbering {
    /// They follow one another without gaps, from the lowest of the field's range on, or the lowest there is.
    Close,
    /// Those from this number on move up by so many.
    Open(i64, i64),
    /// They are given anew in the order of another column, without gaps.
    Sort(String),
    /// Those from the first to the second number move, so that the first of them gets the third.
    Move(i64, i64, i64),
}

/// Builds the change that gives the numbers of `field` of `table` anew. Values that stand for nothing stay. Where the field is
/// the last part of a key of several, the records of each group (`group` if only one is meant) have numbers of their own. Where
/// it is the position in the key, the records move.
///
/// # Errors
/// When there is no such field, it holds something that is no whole number, a number would leave its range or meet another
/// one, or nothing changes.
pub fn renumber(
    project: &Project,
    table: &str,
    field: &str,
    group: Option<&str>,
    how: &Renumbering,
) -> Result<Change, Error> {
    let id = find_table(&project.schema, table)?;
    if [POSITION, "{position}"].contains(&field) && project.schema.tables[id].key.contains(&KeyPart::Position)
    {
        return reorder(project, id, group, how, title(table, POSITION, how));
    }
    let rows = Rows::read(project.view(), id, &Labels::default())?;
    let column = rows.column(field)?;
    let at = rows.fields[column];
    let Layout::Whole(rule) = rows.table.fields[at].layout else {
        return Err(Error::Usage {
            message: format!("`{field}` of `{table}` has parts, and is no number"),
            help: NextStep::ListFields(table.to_owned()).into(),
        });
    };
    let is_key = rows.table.is_key_field(at);
    if is_key && rows.table.key.last() != Some(&KeyPart::Field(at)) {
        return Err(Error::Usage {
            message: format!("`{field}` is not the last part of the key of `{table}`"),
            help: "only that numbers the records of a group; rename them one by one".into(),
        });
    }
    let mut groups: BTreeMap<String, Vec<&Row>> = BTreeMap::new();
    for row in &rows.rows {
        let Some(cell) = &row.cells[column] else { continue };
        if rows.table.rules[rule].is_none(&cell.text) {
            continue;
        }
        let own = match (is_key, row.shown_key().rsplit_once('/')) {
            (true, Some((group, _))) if rows.table.key.len() > 1 => group.to_owned(),
            _ => String::new(),
        };
        if group.is_none_or(|group| group == own) {
            groups.entry(own).or_default().push(row);
        }
    }
    if let (Some(group), true) = (group, groups.is_empty()) {
        return Err(Error::Usage {
            message: format!("no record of `{table}` has a key that begins with `{group}`"),
            help: "name the group as its keys begin: frost_cut".into(),
        });
    }
    let is_numbering =
        is_key || rows.table.rules[rule].unique || second_identifiers(&project.schema, id).contains(&rule);
    let lowest = rows.table.rules[rule].range.map(|(low, _)| low.ceil() as i64);
    let sorted_by = match how {
        Renumbering::Sort(name) => Some(rows.column(name)?),
        _ => None,
    };
    let mut changes: Vec<(&Row, String, String)> = Vec::new();
    for of_group in groups.into_values() {
        let mut numbers: Vec<(i64, &Row)> = Vec::new();
        for row in of_group {
            let text = row.text(column);
            let value = text.trim().parse::<i64>().map_err(|_| Error::Usage {
                message: format!("`{field}` of {table}:{} is `{text}`, and no whole number", row.shown_key()),
                help: NextStep::ListFields(table.to_owned()).into(),
            })?;
            numbers.push((value, row));
        }
        let mut seen: HashMap<i64, &Row> = HashMap::new();
        for (number, row) in &numbers {
            if let (Some(other), false) = (seen.insert(*number, row), is_numbering) {
                return Err(Error::refused(
                    format!(
                        "`{field}` of {table}:{} and of {table}:{} is {number}: it does not number the records",
                        other.shown_key(),
                        row.shown_key()
                    ),
                    "where it should, say so in the schema: unique = true; nothing was changed",
                ));
            }
        }
        let numbers = renumbered(numbers, how, sorted_by, lowest);
        refuse_met(&numbers, table)?;
        for (row, old, new) in numbers {
            if old != new {
                let text = row.text(column).into_owned();
                let new = written_like(&text, new as f64, true);
                changes.push((row, text, new));
            }
        }
    }
    if changes.is_empty() {
        return Err(Error::nothing_to_do("all numbers are so already"));
    }
    let title = title(table, field, how);
    if is_key {
        let pair = |(row, old, new): &(&Row, String, String)| {
            let key = row.shown_key();
            let group = key.strip_suffix(old.as_str()).unwrap_or_default();
            (key.clone(), format!("{group}{new}"))
        };
        let pairs = changes.iter().map(pair).collect();
        return Ok(rename_many(project, table, &NewKeys::Pairs(pairs), false)?.titled(title));
    }
    let values: HashSet<(String, String)> =
        changes.iter().map(|(_, old, new)| (old.clone(), new.clone())).collect();
    if second_identifiers(&project.schema, id).contains(&rule) {
        return rename_values(project, id, rule, values.into_iter().collect(), title);
    }
    let mut builder = Builder::new(project, title);
    builder.count(changes.len());
    builder.count_records(changes.len());
    let mut by_file: BTreeMap<FileId, Vec<NewValues>> = BTreeMap::new();
    for (row, _, new) in changes {
        let fields = vec![(at, vec![new])];
        let values = NewValues { record: row.span, key: row.key.clone(), fields, is_bare: false };
        by_file.entry(row.file).or_default().push(values);
    }
    write_values(project, &mut builder, &rows.table, by_file)?;
    builder.finish()
}

/// Refuses a number that moves to one which another record keeps.
fn refuse_met(numbers: &[(&Row, i64, i64)], table: &str) -> Result<(), Error> {
    let kept: HashMap<i64, &Row> =
        numbers.iter().filter(|(_, old, new)| old == new).map(|(row, old, _)| (*old, *row)).collect();
    let met = numbers.iter().find(|(_, old, new)| old != new && kept.contains_key(new));
    let Some((row, _, new)) = met else { return Ok(()) };
    Err(Error::refused(
        format!(
            "{table}:{} would get the number {new}, which {table}:{} has",
            row.shown_key(),
            kept[new].shown_key()
        ),
        "move them to where nothing is; nothing was changed",
    ))
}

fn title(table: &str, field: &str, how: &Renumbering) -> String {
    let what = match how {
        Renumbering::Close => "without gaps".to_owned(),
        Renumbering::Open(from, count) => format!("from {from} on up by {count}"),
        Renumbering::Sort(column) => format!("in the order of {column}"),
        Renumbering::Move(first, last, to) => format!("{first} to {last} moved to {to}"),
    };
    format!("renumber {table}.{field} {what}")
}

/// Each record with its number, before and after.
fn renumbered<'r>(
    mut numbers: Vec<(i64, &'r Row)>,
    how: &Renumbering,
    sorted_by: Option<usize>,
    lowest: Option<i64>,
) -> Vec<(&'r Row, i64, i64)> {
    numbers.sort_by_key(|(number, _)| *number);
    let first = numbers.first().map_or(0, |(number, _)| *number);
    let lowest = lowest.map_or(first, |lowest| lowest.min(first));
    match how {
        Renumbering::Open(from, count) => {
            let moved = |old: i64| if old >= *from { old.saturating_add(*count) } else { old };
            numbers.into_iter().map(|(old, row)| (row, old, moved(old))).collect()
        }
        Renumbering::Move(first, last, to) => {
            let moved = |old: i64| {
                if (*first..=*last).contains(&old) { to.saturating_add(old - first) } else { old }
            };
            numbers.into_iter().map(|(old, row)| (row, old, moved(old))).collect()
        }
        Renumbering::Close | Renumbering::Sort(_) => {
            if let Some(column) = sorted_by {
                numbers.sort_by(|(_, a), (_, b)| in_order(&a.text(column), &b.text(column)));
            }
            // Records that share a number go on sharing it.
            let mut given: HashMap<i64, i64> = HashMap::new();
            let mut next = lowest;
            let mut out = Vec::new();
            for (old, row) in numbers {
                let new = *given.entry(old).or_insert_with(|| {
                    next += 1;
                    next - 1
                });
                out.push((row, old, new));
            }
            out
        }
    }
}

/// The order of two values: by number where both are numbers.
pub(super) fn in_order(a: &str, b: &str) -> std::cmp::Ordering {
    match (number(a), number(b)) {
        (Some(a), Some(b)) => a.total_cmp(&b),
        _ => a.cmp(b),
    }
}

#[cfg(test)]
mod tests {
    use super::{Renumbering, renumbered};
    use crate::rows::{Row, RowCell};
    use crate::tables::CellOrder;
    use crate::text::Span;
    use rstest::rstest;

    fn row(name: &str) -> Row {
        let span = Span::new(0, 1);
        let cell = RowCell { text: name.into(), file: 0, span, more: Vec::new() };
        let order = CellOrder::default();
        Row { key: None, label: None, cells: vec![Some(cell)], file: 0, span, number: 1, position: 1, order }
    }

    #[rstest]
    #[case::gaps_close(&Renumbering::Close, &[2, 3, 7], Some(1), &[1, 2, 3])]
    #[case::below_the_lowest(&Renumbering::Close, &[0, 5], Some(1), &[0, 1])]
    #[case::without_a_range(&Renumbering::Close, &[4, 9], None, &[4, 5])]
    #[case::shared_stays_shared(&Renumbering::Close, &[2, 2, 9], Some(1), &[1, 1, 2])]
    #[case::room_is_made(&Renumbering::Open(3, 2), &[1, 3, 4], None, &[1, 5, 6])]
    #[case::a_block_moves(&Renumbering::Move(3, 4, 10), &[2, 3, 4, 5], None, &[2, 10, 11, 5])]
    #[case::no_overflow(&Renumbering::Open(0, 1), &[i64::MAX], None, &[i64::MAX])]
    #[case::nothing(&Renumbering::Close, &[], Some(1), &[])]
    fn numbers_are_given(
        #[case] how: &Renumbering,
        #[case] old: &[i64],
        #[case] lowest: Option<i64>,
        #[case] new: &[i64],
    ) {
        let one = row("a");
        let numbers = old.iter().map(|number| (*number, &one)).collect();
        let given: Vec<i64> =
            renumbered(numbers, how, None, lowest).into_iter().map(|(_, _, new)| new).collect();
        assert_eq!(given, new);
    }

    #[test]
    fn sorting_goes_by_number_where_all_are_numbers() {
        let rows = ["10", "9", "-1"].map(row);
        let numbers = rows.iter().enumerate().map(|(at, row)| (at as i64 + 5, row)).collect();
        let sort = Renumbering::Sort("Depth".to_owned());
        let given = renumbered(numbers, &sort, Some(0), Some(1));
        let given: Vec<(String, i64)> =
            given.into_iter().map(|(row, _, new)| (row.text(0).to_string(), new)).collect();
        assert_eq!(given, [("-1".to_owned(), 1), ("9".to_owned(), 2), ("10".to_owned(), 3)]);
    }
}
