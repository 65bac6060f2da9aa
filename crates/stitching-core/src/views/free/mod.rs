//! What is not taken yet: numbers, bits, positions in a group, colours, names.

mod colour;

use self::colour::{Colours, Form};
use crate::Error;
use crate::help::{Help, NextStep};
use crate::links::Labels;
use crate::reading::View;
use crate::rows::{Row, Rows};
use crate::schema::{KeyPart, Schema, TableId, ValueRule};
use std::collections::{BTreeMap, BTreeSet};

/// The kinds of things that can be free.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum FreeKind {
    /// A whole number.
    Number,
    /// A power of two.
    Bit,
    /// A whole number among the records that share the rest of the key.
    Position,
    /// A colour.
    Colour,
    /// A word.
    Name,
}

impl FreeKind {
    /// What it is called.
    pub fn name(self) -> &'static str {
        match self {
            FreeKind::Number => "number",
            FreeKind::Bit => "bit",
            FreeKind::Position => "position",
            FreeKind::Colour => "colour",
            FreeKind::Name => "name",
        }
    }
}

/// What is looked for.
#[derive(Debug, Clone, Default)]
pub struct FreeRequest {
    /// The field; the key if there is none.
    pub field: Option<String>,
    /// What it is taken for; by its values if there is none.
    pub kind: Option<FreeKind>,
    /// How many are wanted; in each group.
    pub count: usize,
    /// What they shall be near to, or like.
    pub near: Option<String>,
    /// Whether gaps are passed over.
    pub after: bool,
    /// For positions the rest of the key, as shown; all groups if there is none.
    pub group: Option<String>,
    /// The lowest and highest number that may be given.
    pub block: Option<(i64, i64)>,
}

/// What is free.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Free {
    /// What kind of thing it is.
    pub kind: Option<FreeKind>,
    /// What is free: the group (for positions) and the value.
    pub values: Vec<(Option<String>, String)>,
    /// How many different ones are taken.
    pub taken: usize,
    /// The lowest and highest that are taken, for numbers.
    pub bounds: Option<(i64, i64)>,
    /// The number after the highest that is taken, if it may be given.
    pub next: Option<i64>,
    /// What is known of the value that was asked for, with `near`.
    pub near: Option<Near>,
}

/// A value that was asked for, and what is taken of its kind.
#[derive(Debug, Clone, PartialEq)]
pub struct Near {
    /// Whether it is free itself.
    pub is_free: bool,
    /// The closest value that is taken, for numbers and colours; the same one, for names.
    pub closest: Option<Closest>,
}

/// A value that is taken.
#[derive(Debug, Clone, PartialEq)]
pub struct Closest {
    /// The value.
    pub value: String,
    /// The key of the first record that has it, as shown.
    pub key: String,
    /// How far it is: between numbers their difference, between colours that of CIEDE2000.
    pub distance: f64,
}

/// What is free in `table`. Values that stand for "nothing" are never given, here or in a field that refers to it.
///
/// # Errors
/// When the field is not there, its values are not of the kind that is wanted, none is free, or a file cannot be
/// read.
pub fn free(view: View<'_>, table: TableId, request: &FreeRequest) -> Result<Free, Error> {
    let View { schema, .. } = view;
    let rows = Rows::read(view, table, &Labels::default())?;
    let field = match &request.field {
        Some(name) => Some(rows.column(name)?),
        None => key_column(&rows),
    };
    let name = request.field.clone().unwrap_or_else(|| "its key".to_owned());
    let values: Vec<String> = rows.rows.iter().map(|row| value(row, field)).collect();
    let none = none_values(schema, &rows, field);
    let taken: BTreeSet<&str> = values
        .iter()
        .map(String::as_str)
        .filter(|value| !value.is_empty() && !none.contains(*value))
        .collect();
    let kind = request.kind.unwrap_or_else(|| kind_of(&rows, field, &taken));
    let numbers = || {
        let wrong = taken.iter().find(|value| value.trim().parse::<i64>().is_err());
        match wrong {
            None => Ok(taken
                .iter()
                .filter_map(|value| value.trim().parse::<i64>().ok())
                .collect::<BTreeSet<i64>>()),
            Some(wrong) => Err(Error::Usage {
                message: format!(
                    "{name} of `{}` holds `{wrong}`, which is not a whole number",
                    rows.table.name
                ),
                help: NextStep::SayKindOfFree.into(),
            }),
        }
    };
    let never: BTreeSet<i64> = none.iter().filter_map(|none| none.trim().parse().ok()).collect();
    let range = field.and_then(|column| range_of(&rows, column));
    let limits = Limits { range: request.block.or(range), never, after: request.after };
    let count = request.count.max(1);
    let mut found = Free { kind: Some(kind), taken: taken.len(), ..Free::default() };
    let given = match kind {
        FreeKind::Number => {
            let numbers = numbers()?;
            found.bounds = numbers.first().copied().zip(numbers.last().copied());
            found.next = limits.next(&numbers);
            let near = near_number(request)?;
            limits
                .free(&numbers, count, near, 0)
                .into_iter()
                .map(|number| (None, number.to_string()))
                .collect()
        }
        FreeKind::Bit => {
            let used = numbers()?.into_iter().fold(0, |used, number| used | number);
            let bits = (0..63).map(|bit| 1i64 << bit).filter(|bit| used & bit == 0);
            let above = |bit: &i64| !request.after || *bit > used;
            let allowed = |bit: &i64| limits.range.is_none_or(|(low, high)| (low..=high).contains(bit));
            bits.filter(above).filter(allowed).take(count).map(|bit| (None, bit.to_string())).collect()
        }
        FreeKind::Position => positions(&rows, field, &limits, request, count, &mut found)?,
        FreeKind::Colour => {
            Colours::of(&taken).free(request, count, &name)?.into_iter().map(|own| (None, own)).collect()
        }
        FreeKind::Name => {
            names(&rows, field, &taken, request, count)?.into_iter().map(|own| (None, own)).collect()
        }
    };
    found.values = given;
    if let Some(near) = &request.near {
        let closest = match kind {
            FreeKind::Colour => {
                Colours::of(&taken).closest(near, &name)?.map(|(own, apart)| (own, f64::from(apart)))
            }
            FreeKind::Number => closest_number(&taken, near),
            FreeKind::Name => taken.get(near.as_str()).map(|own| (*own, 0.0)),
            FreeKind::Bit | FreeKind::Position => None,
        };
        let key = |text: &str| {
            let row = rows.rows.iter().zip(&values).find(|(_, value)| *value == text);
            row.map(|(row, _)| row.shown_key()).unwrap_or_default()
        };
        let is_taken = taken.contains(near.as_str()) || closest.is_some_and(|(_, distance)| distance == 0.0);
        found.near = (kind != FreeKind::Position).then(|| Near {
            is_free: !is_taken && !none.contains(near),
            closest: closest.map(|(value, distance)| Closest {
                value: value.to_owned(),
                key: key(value),
                distance,
            }),
        });
    }
    if found.values.is_empty() {
        let within = limits.range.map(|(low, high)| format!(" from {low} to {high}")).unwrap_or_default();
        return Err(Error::refused(
            format!("no {} is free in {name} of `{}`{within}", kind.name(), rows.table.name),
            Help::from("a wider `range` in the schema gives room").then(NextStep::SayBlock),
        ));
    }
    Ok(found)
}

/// The number among those taken that is closest to `near`, and how far it is.
fn closest_number<'t>(taken: &BTreeSet<&'t str>, near: &str) -> Option<(&'t str, f64)> {
    let near: i64 = near.trim().parse().ok()?;
    let far = |text: &&'t str| Some((*text, text.trim().parse::<i64>().ok()?.abs_diff(near)));
    let (text, distance) = taken.iter().filter_map(far).min_by_key(|(_, distance)| *distance)?;
    Some((text, distance as f64))
}

/// The column that tells the records apart: the key, or the last part of one of several.
fn key_column(rows: &Rows) -> Option<usize> {
    match rows.table.key.last() {
        Some(KeyPart::Field(field)) => rows.fields.iter().position(|own| own == field),
        _ => None,
    }
}

fn value(row: &Row, column: Option<usize>) -> String {
    match column {
        Some(column) => row.text(column).into_owned(),
        None => row.shown_key(),
    }
}

/// What stands for "nothing" in the column, and in the fields that refer to it.
fn none_values(schema: &Schema, rows: &Rows, column: Option<usize>) -> BTreeSet<String> {
    let field = column.map(|column| rows.fields[column]);
    let of_column = rows.table.rules.iter().filter(|rule| Some(rule.field) == field);
    let refers = |rule: &&ValueRule| {
        let to_column = |own: usize| Some(rows.table.rules[own].field) == field;
        let is_key = column.is_none() || column == key_column(rows);
        rule.refs.iter().any(|target| target.table == rows.id && target.rule.map_or(is_key, to_column))
    };
    let referring = schema.tables.iter().flat_map(|table| &table.rules).filter(refers);
    of_column.chain(referring).flat_map(|rule| rule.none.iter().cloned()).collect()
}

fn range_of(rows: &Rows, column: usize) -> Option<(i64, i64)> {
    let rule = rows.table.rules.iter().find(|rule| rule.field == rows.fields[column])?;
    let (low, high) = rule.range?;
    let bound = |number: f64| number.clamp(-9e15, 9e15) as i64;
    Some((bound(low.ceil()), bound(high.floor())))
}

/// What the values of a column are most likely taken for.
fn kind_of(rows: &Rows, column: Option<usize>, taken: &BTreeSet<&str>) -> FreeKind {
    let numbers: Option<Vec<i64>> = taken.iter().map(|value| value.trim().parse().ok()).collect();
    let in_group =
        rows.table.key.len() > 1 && column.is_some_and(|column| rows.table.is_key_field(rows.fields[column]));
    match numbers {
        Some(numbers) if !numbers.is_empty() => {
            const SURE: usize = 4;
            let is_bit = |number: &i64| *number > 0 && number.count_ones() == 1;
            let bits = numbers.iter().filter(|number| **number != 0);
            if in_group {
                FreeKind::Position
            } else if bits.clone().count() >= SURE && bits.clone().all(is_bit) {
                FreeKind::Bit
            } else {
                FreeKind::Number
            }
        }
        _ if !taken.is_empty() && Form::of_all(taken).is_some() => FreeKind::Colour,
        _ => FreeKind::Name,
    }
}

fn near_number(request: &FreeRequest) -> Result<Option<i64>, Error> {
    let Some(near) = &request.near else { return Ok(None) };
    near.trim().parse().map(Some).map_err(|_| Error::Usage {
        message: format!("`{near}` is not a whole number"),
        help: "what it is to be near is a number, a colour or a name, as the field holds them".into(),
    })
}

/// Which numbers may be given.
struct Limits {
    range: Option<(i64, i64)>,
    never: BTreeSet<i64>,
    after: bool,
}

impl Limits {
    /// The number after the highest of `taken` within the range, if it may be given.
    fn next(&self, taken: &BTreeSet<i64>) -> Option<i64> {
        let (low, high) = self.range.unwrap_or((i64::MIN, i64::MAX));
        let mut next = taken.range(low..=high).next_back()?.checked_add(1)?;
        while self.never.contains(&next) {
            next = next.checked_add(1)?;
        }
        (next <= high).then_some(next)
    }

    /// `count` numbers that are not in `taken`: those nearest to `near`, or the lowest gaps and then those after
    /// the highest. Where nothing is taken they begin at `first`.
    fn free(&self, taken: &BTreeSet<i64>, count: usize, near: Option<i64>, first: i64) -> Vec<i64> {
        let (low, high) = self.range.unwrap_or((i64::MIN, i64::MAX));
        let is_free = |number: &i64| {
            (low..=high).contains(number) && !taken.contains(number) && !self.never.contains(number)
        };
        if let Some(near) = near {
            // No more can lie in between than are taken.
            let reach = (taken.len() + self.never.len() + count) as i64;
            let near = near.clamp(low, high);
            let steps = (0..=reach).flat_map(|step| {
                let below = near.checked_sub(step).filter(|_| step > 0);
                [near.checked_add(step), below]
            });
            let floor =
                if self.range.is_some() { low } else { taken.first().map_or(0, |lowest| (*lowest).min(0)) };
            return steps.flatten().filter(|number| *number >= floor).filter(is_free).take(count).collect();
        }
        let start = match (self.after, self.range) {
            (true, _) => {
                taken.range(low..=high).next_back().map_or(first.max(low), |last| last.saturating_add(1))
            }
            (false, Some((low, _))) => low,
            (false, None) => taken.first().copied().unwrap_or(first),
        };
        let mut out = Vec::new();
        let mut next = start;
        while out.len() < count && next <= high {
            // Long runs of taken numbers are passed over one by one; there are no more than are taken.
            if is_free(&next) {
                out.push(next);
            }
            match next.checked_add(1) {
                Some(after) => next = after,
                None => break,
            }
        }
        out
    }
}

fn positions(
    rows: &Rows,
    column: Option<usize>,
    limits: &Limits,
    request: &FreeRequest,
    count: usize,
    found: &mut Free,
) -> Result<Vec<(Option<String>, String)>, Error> {
    let part = column.and_then(|column| {
        rows.table.key.iter().position(|part| *part == KeyPart::Field(rows.fields[column]))
    });
    let (Some(column), Some(part)) = (column, part.filter(|_| rows.table.key.len() > 1)) else {
        return Err(Error::Usage {
            message: format!("the keys of `{}` do not count records within groups", rows.table.name),
            help: "a position is one part of a key of several; name its field".into(),
        });
    };
    let mut groups: BTreeMap<String, BTreeSet<i64>> = BTreeMap::new();
    let mut order: Vec<String> = Vec::new();
    for row in &rows.rows {
        let Some(key) = &row.key else { continue };
        let parts = key.split(crate::schema::KEY_SEPARATOR).enumerate();
        let rest: Vec<&str> = parts.filter(|(at, _)| *at != part).map(|(_, text)| text).collect();
        let group = rest.join("/");
        let own = groups.entry(group.clone()).or_insert_with(|| {
            order.push(group);
            BTreeSet::new()
        });
        own.extend(row.text(column).trim().parse::<i64>().ok());
    }
    let near = near_number(request)?;
    // A group that is new begins where the others do.
    let first = groups.values().filter_map(|own| own.first().copied()).min().unwrap_or(1);
    if let Some(group) = &request.group {
        let own = groups.remove(group).unwrap_or_default();
        found.taken = own.len();
        found.bounds = own.first().copied().zip(own.last().copied());
        let values = limits.with_first_gap(&own, count, near, first);
        return Ok(values.into_iter().map(|number| (Some(group.clone()), number.to_string())).collect());
    }
    let of_group = |group: String| {
        let values = limits.with_first_gap(&groups[&group], count, near, first);
        values.into_iter().map(move |number| (Some(group.clone()), number.to_string()))
    };
    Ok(order.into_iter().flat_map(of_group).collect())
}

impl Limits {
    /// As [`Limits::free`], but a gap before the lowest counts too.
    fn with_first_gap(&self, taken: &BTreeSet<i64>, count: usize, near: Option<i64>, first: i64) -> Vec<i64> {
        let range = self.range.or(Some((first, i64::MAX)));
        Limits { range, never: self.never.clone(), after: self.after }.free(taken, count, near, first)
    }
}

/// Names like a given one, with a number behind it in the way of the names that are there.
fn names(
    rows: &Rows,
    column: Option<usize>,
    taken: &BTreeSet<&str>,
    request: &FreeRequest,
    count: usize,
) -> Result<Vec<String>, Error> {
    let folded: BTreeSet<String> = taken.iter().map(|value| value.to_lowercase()).collect();
    let Some(near) = request.near.as_ref().filter(|near| !near.is_empty()) else {
        return Err(Error::Usage {
            message: format!("`{}` goes by names, and any that is not taken is free", rows.table.name),
            help: NextStep::NameSimilar(rows.table.name.clone()).into(),
        });
    };
    let numbered = |name: &str| {
        let stem = name.trim_end_matches(|c: char| c.is_ascii_digit());
        (stem.to_owned(), name[stem.len()..].to_owned())
    };
    let (stem, digits) = numbered(near);
    // Where most numbered names have a mark before the number, a new one has it too.
    let between = || {
        let mut marks: BTreeMap<&str, usize> = BTreeMap::from([("_", 1), ("-", 0), ("", 0)]);
        for name in taken {
            let (stem, digits) = numbered(name);
            if !digits.is_empty() && !stem.is_empty() {
                let mark = if stem.ends_with('_') {
                    "_"
                } else if stem.ends_with('-') {
                    "-"
                } else {
                    ""
                };
                *marks.entry(mark).or_default() += 1;
            }
        }
        marks.into_iter().max_by_key(|(_, count)| *count).map_or("_", |(mark, _)| mark)
    };
    let (stem, first, width) = match digits.parse::<u64>() {
        Ok(number) if !stem.is_empty() => (stem, number, digits.len()),
        _ => (format!("{near}{}", between()), 2, 1),
    };
    let rule = column.map(|column| rows.fields[column]);
    let rule = rows.table.rules.iter().find(|own| Some(own.field) == rule);
    let fits =
        |name: &String| rule.and_then(|rule| rule.pattern.as_ref()).is_none_or(|own| own.matches(name));
    let itself = std::iter::once(near.clone());
    let numbered = (first..first.saturating_add(taken.len() as u64 + count as u64 + 1))
        .map(|number| format!("{stem}{number:0width$}"));
    let free = itself.chain(numbered).filter(|name| !folded.contains(&name.to_lowercase()) && fits(name));
    let mut seen = BTreeSet::new();
    Ok(free.filter(|name| seen.insert(name.clone())).take(count).collect())
}

#[cfg(test)]
mod tests {
    use super::Limits;
    use rstest::rstest;
    use std::collections::BTreeSet;

    #[rstest]
    #[case::gap(&[1, 2, 4], None, &[], false, None, 2, &[3, 5])]
    #[case::after(&[1, 2, 4], None, &[], true, None, 2, &[5, 6])]
    #[case::nothing_taken(&[], None, &[], false, None, 1, &[0])]
    #[case::never_none(&[-1, 1], None, &[0], false, None, 1, &[2])]
    #[case::in_block(&[1, 5000], Some((5000, 5002)), &[], false, None, 5, &[5001, 5002])]
    #[case::before_the_lowest_in_a_block(&[12], Some((10, 20)), &[], false, None, 2, &[10, 11])]
    #[case::after_in_block(&[5, 5000], Some((10, 20)), &[], true, None, 1, &[10])]
    #[case::near(&[1, 2, 3, 10], None, &[], false, Some(2), 2, &[4, 0])]
    #[case::full(&[1, 2], Some((1, 2)), &[], false, None, 1, &[])]
    #[case::at_the_end(&[i64::MAX], None, &[], true, None, 1, &[])]
    fn numbers(
        #[case] taken: &[i64],
        #[case] range: Option<(i64, i64)>,
        #[case] never: &[i64],
        #[case] after: bool,
        #[case] near: Option<i64>,
        #[case] count: usize,
        #[case] expected: &[i64],
    ) {
        let limits = Limits { range, never: never.iter().copied().collect(), after };
        let taken: BTreeSet<i64> = taken.iter().copied().collect();
        assert_eq!(limits.free(&taken, count, near, 0), expected);
    }
}
