//! What is not taken yet: numbers, bits, positions in a group, colours, names.

use super::{Row, Rows};
use crate::Error;
use crate::help::{Help, NextStep};
use crate::links::Labels;
use crate::reading::View;
use crate::schema::{KeyPart, Rule, Schema, TableId};
use palette::color_difference::Ciede2000;
use palette::{FromColor, Lab, Srgb};
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
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Free {
    /// What kind of thing it is.
    pub kind: Option<FreeKind>,
    /// What is free: the group (for positions) and the value.
    pub values: Vec<(Option<String>, String)>,
    /// How many different ones are taken.
    pub taken: usize,
    /// The lowest and highest that are taken, for numbers.
    pub bounds: Option<(i64, i64)>,
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
            colours(&taken, request, count, &name)?.into_iter().map(|own| (None, own)).collect()
        }
        FreeKind::Name => {
            names(&rows, field, &taken, request, count)?.into_iter().map(|own| (None, own)).collect()
        }
    };
    found.values = given;
    if found.values.is_empty() {
        let within = limits.range.map(|(low, high)| format!(" from {low} to {high}")).unwrap_or_default();
        return Err(Error::refused(
            format!("no {} is free in {name} of `{}`{within}", kind.name(), rows.table.name),
            Help::from("a wider `range` in the schema gives room").then(NextStep::SayBlock),
        ));
    }
    Ok(found)
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
    let refers = |rule: &&Rule| {
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

/// How a colour is written.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Form {
    /// Two hexadecimal digits a part, behind `#`, `0x` or nothing; capitals or not.
    Hex { mark: &'static str, upper: bool },
    /// Three numbers to 255 with this between them.
    Numbers { between: &'static str },
}

impl Form {
    const HEX: [&str; 3] = ["#", "0x", ""];
    const BETWEEN: [&str; 6] = [", ", "; ", ",", ";", " ", "/"];

    /// The form in which all values are colours; digits alone are rather numbers.
    fn of_all(values: &BTreeSet<&str>) -> Option<Form> {
        let first = values.iter().find_map(|value| Form::of(value))?;
        let letters = |value: &&str| value.bytes().any(|byte| byte.is_ascii_alphabetic());
        let bare = matches!(first, Form::Hex { mark: "", .. });
        let all = values.iter().all(|value| first.read(value).is_some());
        // Two colours are as likely three numbers that mean something else.
        (all && (!bare || values.iter().any(letters))).then_some(first)
    }

    fn of(value: &str) -> Option<Form> {
        let upper = value.bytes().any(|byte| matches!(byte, b'A'..=b'F'));
        let hex = Form::HEX.iter().map(|mark| Form::Hex { mark, upper });
        let numbers = Form::BETWEEN.iter().map(|between| Form::Numbers { between });
        hex.chain(numbers).find(|form| form.read(value).is_some())
    }

    fn read(self, value: &str) -> Option<Srgb<u8>> {
        let parts: Vec<u8> = match self {
            Form::Hex { mark, .. } => {
                let digits = value.strip_prefix(mark)?;
                if digits.len() != 6 || !digits.bytes().all(|byte| byte.is_ascii_hexdigit()) {
                    return None;
                }
                let part = |at: usize| u8::from_str_radix(&digits[at..at + 2], 16).ok();
                [0, 2, 4].into_iter().map(part).collect::<Option<_>>()?
            }
            Form::Numbers { between } => {
                value.split(between).map(|part| part.trim().parse().ok()).collect::<Option<_>>()?
            }
        };
        let [red, green, blue] = parts[..] else { return None };
        Some(Srgb::new(red, green, blue))
    }

    fn write(self, colour: Srgb<u8>) -> String {
        let parts = [colour.red, colour.green, colour.blue];
        match self {
            Form::Hex { mark, upper } => {
                let digits: String = parts
                    .iter()
                    .map(|part| if upper { format!("{part:02X}") } else { format!("{part:02x}") })
                    .collect();
                format!("{mark}{digits}")
            }
            Form::Numbers { between } => parts.map(|part| part.to_string()).join(between),
        }
    }
}

/// Colours that the eye tells from all that are taken: by CIEDE2000 (CIE 142-2001) at least this far away.
const APART: f32 = 12.0;

/// The colours that are furthest from those taken, one after another; or those nearest to a given one that are
/// far enough.
fn colours(
    taken: &BTreeSet<&str>,
    request: &FreeRequest,
    count: usize,
    name: &str,
) -> Result<Vec<String>, Error> {
    let form =
        taken.iter().find_map(|value| Form::of(value)).unwrap_or(Form::Hex { mark: "#", upper: false });
    let lab = |colour: Srgb<u8>| Lab::from_color(colour.into_format::<f32>());
    let mut used: Vec<Lab> = taken.iter().filter_map(|value| form.read(value)).map(lab).collect();
    let wanted = |near: &String| {
        let read = Form::of(near).and_then(|form| form.read(near)).map(lab);
        read.ok_or_else(|| Error::Usage {
            message: format!("`{near}` is not a colour"),
            help: format!("{name} holds colours such as `{}`", form.write(Srgb::new(64, 128, 192))).into(),
        })
    };
    let near = request.near.as_ref().map(wanted).transpose()?;
    const STEPS: u32 = 17;
    let grid = (0..STEPS.pow(3)).map(|at| {
        let part = |at: u32| (at % STEPS * 255 / (STEPS - 1)) as u8;
        let colour = Srgb::new(part(at / (STEPS * STEPS)), part(at / STEPS), part(at));
        (colour, lab(colour))
    });
    // How far each colour is from the nearest one taken.
    let mut candidates: Vec<(Srgb<u8>, Lab, f32)> = grid
        .map(|(colour, own)| {
            let distances = used.iter().map(|other| own.difference(*other));
            (colour, own, distances.fold(f32::INFINITY, f32::min))
        })
        .collect();
    let mut out = Vec::new();
    while out.len() < count {
        let best = match near {
            None => candidates
                .iter()
                .filter(|(.., apart)| *apart >= APART)
                .max_by(|a, b| a.2.min(1000.0).total_cmp(&b.2.min(1000.0))),
            Some(near) => candidates
                .iter()
                .filter(|(.., apart)| *apart >= APART)
                .min_by(|a, b| a.1.difference(near).total_cmp(&b.1.difference(near))),
        };
        let Some((colour, own, _)) = best.copied() else { break };
        out.push(form.write(colour));
        used.push(own);
        for (_, other, apart) in &mut candidates {
            *apart = apart.min(own.difference(*other));
        }
    }
    Ok(out)
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
    use super::{Form, Limits};
    use palette::Srgb;
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

    #[rstest]
    #[case("#4a7b2c", (0x4a, 0x7b, 0x2c))]
    #[case("0x4A7B2C", (0x4a, 0x7b, 0x2c))]
    #[case("74, 123, 44", (74, 123, 44))]
    #[case("74 123 44", (74, 123, 44))]
    #[case("74;123;44", (74, 123, 44))]
    fn colours_are_written_as_they_are_read(#[case] text: &str, #[case] parts: (u8, u8, u8)) {
        let form = Form::of(text).expect("a colour");
        assert_eq!(form.read(text), Some(Srgb::new(parts.0, parts.1, parts.2)));
        assert_eq!(form.write(Srgb::new(parts.0, parts.1, parts.2)), text);
    }

    #[rstest]
    #[case("#12345")]
    #[case("1,2")]
    #[case("1,2,300")]
    #[case("#gg0000")]
    #[case("north")]
    fn what_is_no_colour(#[case] text: &str) {
        assert_eq!(Form::of(text), None);
    }
}
