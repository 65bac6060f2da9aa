//! Numbers without gaps, and values that do not fall.

use super::{Findings, Found, Scope};
use crate::Error;
use crate::expressions::Value;
use crate::text::number;
use hashbrown::HashMap;
use std::cmp::Ordering;

/// Of more missing numbers than these the first and the last are told.
const MOST_MISSING: i64 = 3;

/// Where the numbers of `field` are not `first`, the next one, and so on, each once.
pub(super) fn gaps(scope: &Scope<'_>, field: &str, first: i64) -> Result<Findings, Error> {
    let path = scope.column(field)?;
    let column = path.own_column();
    Ok(scope.each_group(|group, findings| {
        let mut told = |row: usize, message: String, first: Option<usize>| {
            let found = Found::new(row, column, message);
            findings.add(match first {
                Some(first) => found.related(first, "the first with it"),
                None => found,
            });
        };
        let mut numbers: Vec<(i64, usize)> = Vec::new();
        let mut known: HashMap<i64, usize> = HashMap::new();
        for at in group.iter().copied() {
            let held = path.held(scope.rows, scope.row(at));
            match whole(&held) {
                Some(number) => match known.get(&number) {
                    Some(other) => {
                        let message = format!("{field} {number} is there twice");
                        told(at, message, Some(*other));
                    }
                    None => {
                        known.insert(number, at);
                        numbers.push((number, at));
                    }
                },
                None if held.shown().is_empty() => told(at, format!("{field} is empty"), None),
                None => told(at, format!("{field} is `{}`, no whole number", held.brief()), None),
            }
        }
        numbers.sort_unstable();
        if let Some((highest, at, missing)) = out_of_place(&numbers, first) {
            told(at, format!("{field} is {highest}, and {missing} is missing"), None);
            numbers.pop();
            numbers.push((missing, at));
            numbers.sort_unstable();
        }
        let mut expected = first;
        for (number, at) in numbers {
            match number.cmp(&expected) {
                Ordering::Less => told(at, format!("{field} {number} is below the first, {first}"), None),
                Ordering::Equal => expected = number.saturating_add(1),
                Ordering::Greater => {
                    let missing = number.saturating_sub(expected);
                    let gap: Vec<String> = match missing <= MOST_MISSING {
                        true => (expected..number).map(|own| own.to_string()).collect(),
                        false => vec![format!("{expected} to {}", number - 1)],
                    };
                    let is = if missing == 1 { "is" } else { "are" };
                    told(at, format!("{} {is} missing before {field} {number}", gap.join(", ")), None);
                    expected = number.saturating_add(1);
                }
            }
        }
    }))
}

/// The highest of `numbers` (sorted, from `first` on), where it stands, and the one number that is missing below it, if it would
/// leave no gap there: one number that is wrong, and not two gaps.
fn out_of_place(numbers: &[(i64, usize)], first: i64) -> Option<(i64, usize, i64)> {
    let ((highest, at), others) = numbers.split_last()?;
    let (last, _) = others.last()?;
    let missing = (first..=*last).zip(others).find(|(expected, (number, _))| expected != number)?.0;
    let is_whole = others.first()?.0 >= first
        && last.checked_sub(first)? == i64::try_from(others.len()).ok()?
        && *highest > last.saturating_add(1);
    is_whole.then_some((*highest, *at, missing))
}

fn whole(value: &Value) -> Option<i64> {
    let number = match value {
        Value::Number(number) => *number,
        Value::Text(text) => number(text.trim())?,
        _ => return None,
    };
    (number.fract() == 0.0 && number.abs() < 9e15).then_some(number as i64)
}

/// Where the value of `field` is less than that of the record before it in the same file.
pub(super) fn falls(scope: &Scope<'_>, field: &str) -> Result<Findings, Error> {
    let path = scope.column(field)?;
    let column = path.own_column();
    Ok(scope.each_group(|group, findings| {
        let mut before: Option<(usize, Value)> = None;
        for at in group.iter().copied() {
            let value = path.held(scope.rows, scope.row(at));
            if value.shown().is_empty() {
                continue;
            }
            if let Some((last, held)) = &before
                && scope.row(*last).file == scope.row(at).file
                && value.order(held).is_lt()
            {
                let message =
                    format!("{field} `{}` comes behind `{}`, and is less", value.brief(), held.brief());
                let before = format!("{} is before it", scope.called(*last));
                findings.add(Found::new(at, column, message).related(*last, before));
            }
            before = Some((at, value));
        }
    }))
}

#[cfg(test)]
mod tests {
    use super::out_of_place;
    use rstest::rstest;

    #[rstest]
    #[case::one_far_off(&[1, 2, 4, 77], 1, Some((77, 3)))]
    #[case::the_first_is_missing(&[2, 3, 4, 77], 1, Some((77, 1)))]
    #[case::from_zero(&[0, 2, 9], 0, Some((9, 1)))]
    #[case::a_gap_alone(&[1, 2, 4, 5], 1, None)]
    #[case::two_are_missing(&[1, 4, 77], 1, None)]
    #[case::two_gaps(&[1, 3, 5, 77], 1, None)]
    #[case::the_last_is_next(&[1, 2, 3], 1, None)]
    #[case::far_off_and_no_gap(&[1, 2, 3, 77], 1, None)]
    #[case::below_the_first(&[-1, 1, 3, 77], 1, None)]
    #[case::alone(&[5], 1, None)]
    fn a_number_out_of_place(
        #[case] numbers: &[i64],
        #[case] first: i64,
        #[case] expected: Option<(i64, i64)>,
    ) {
        let numbers: Vec<(i64, usize)> =
            numbers.iter().enumerate().map(|(at, number)| (*number, at)).collect();
        let found = out_of_place(&numbers, first).map(|(highest, _, missing)| (highest, missing));
        assert_eq!(found, expected);
    }
}
