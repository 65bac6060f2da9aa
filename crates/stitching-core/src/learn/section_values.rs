//! Values of INI files that go over several lines: after a comma, and tables between brackets.

use super::recognise::{Lines, Settings};
use super::rows::letters;
use super::shapes::RecordShape;
use crate::settings::toml_text;
use std::collections::BTreeMap;

/// A value that goes over several lines, or stands between brackets.
pub(super) struct LongValue<'t> {
    /// Its key.
    pub key: &'t str,
    /// The positions of its lines but the first, which is that of the key.
    pub more: std::ops::Range<usize>,
    /// Whether it stands between brackets.
    pub brackets: bool,
    /// What stands on its lines, without the brackets around the whole.
    pub rows: Vec<&'t str>,
}

/// The values among `lines` that go on: behind a key whose value begins with a bracket or ends with a comma.
pub(super) fn long_values<'t>(lines: &[&'t str]) -> Vec<LongValue<'t>> {
    let mut out = Vec::new();
    let mut at = 0;
    while at < lines.len() {
        let found = key_and_value(lines[at]).and_then(|(key, value)| {
            between_brackets(lines, at, key, value).or_else(|| after_commas(lines, at, key, value))
        });
        at = found.as_ref().map_or(at + 1, |value| value.more.end);
        out.extend(found);
    }
    out
}

fn key_and_value(line: &str) -> Option<(&str, &str)> {
    let (key, value) = line.split_once('=')?;
    let key = key.trim();
    let is_key = !key.is_empty() && key.chars().all(|own| own.is_alphanumeric() || "_-. ".contains(own));
    is_key.then(|| (key, value.trim()))
}

fn between_brackets<'t>(lines: &[&'t str], at: usize, key: &'t str, value: &'t str) -> Option<LongValue<'t>> {
    let below = lines.get(at + 1).map(|line| line.trim());
    let (first, start) = match value.is_empty() {
        true => (at + 1, below?),
        false => (at, value),
    };
    let (open, close) = match start.as_bytes().first()? {
        b'{' => ('{', '}'),
        b'(' => ('(', ')'),
        b'[' if first == at => ('[', ']'),
        _ => return None,
    };
    let mut depth = 0;
    let mut rows = Vec::new();
    for (number, line) in lines.iter().enumerate().skip(first) {
        let line = if number == first { start } else { line.trim() };
        if number > first && key_and_value(line).is_some() {
            return None;
        }
        let mut in_quotes = false;
        for (place, own) in line.char_indices() {
            match own {
                '"' => in_quotes = !in_quotes,
                _ if in_quotes => {}
                _ if own == open => depth += 1,
                _ if own == close => depth -= 1,
                _ => {}
            }
            if depth == 0 {
                let from = if number == first { open.len_utf8() } else { 0 };
                rows.push(line[from..place].trim());
                rows.retain(|row| !row.is_empty());
                let is_end = line[place + 1..].trim().is_empty();
                return is_end.then(|| LongValue { key, more: at + 1..number + 1, brackets: true, rows });
            }
        }
        rows.push(if number == first { line[open.len_utf8()..].trim() } else { line });
    }
    None
}

fn after_commas<'t>(lines: &[&'t str], at: usize, key: &'t str, value: &'t str) -> Option<LongValue<'t>> {
    let mut rows = vec![value];
    let is_more = |line: &str| !line.starts_with('[') && key_and_value(line).is_none();
    while rows.last().is_some_and(|row| row.ends_with(',')) {
        rows.push(lines.get(at + rows.len()).map(|line| line.trim()).filter(|line| is_more(line))?);
    }
    (rows.len() > 1).then(|| LongValue { key, more: at + 1..at + rows.len(), brackets: false, rows })
}

/// The tables that stand in the values of keys: between brackets, with a first row that names the columns in quotes, and
/// as many cells in each row.
pub(super) fn tables_in_values<'t>(texts: impl Iterator<Item = &'t str>) -> Vec<RecordShape> {
    // For each key, how many values are tables and how many are not, and the columns.
    let mut keys: BTreeMap<String, (usize, usize, Vec<String>)> = BTreeMap::new();
    for text in texts {
        for value in long_values(&Lines::of(text).lines).into_iter().filter(|value| value.brackets) {
            let (tables, others, columns) = keys.entry(value.key.to_owned()).or_default();
            match header(&value.rows) {
                Some(names) => {
                    *tables += 1;
                    let new: Vec<String> = names.into_iter().filter(|name| !columns.contains(name)).collect();
                    columns.extend(new);
                }
                None => *others += 1,
            }
        }
    }
    let tables = keys.into_iter().filter(|(_, (tables, others, _))| *tables > 0 && *others == 0);
    let shape = |(key, (_, _, columns)): (String, (usize, usize, Vec<String>))| RecordShape {
        records: Some(("of", key.clone())),
        name: Some(key),
        columns,
        ..RecordShape::default()
    };
    tables.map(shape).collect()
}

/// The signs that stand between the cells of rows.
const DELIMITERS: [char; 4] = [',', ';', '|', '\t'];

/// Whether two lines that are no keys may be rows of one grid: they have as many cells, or are equally long.
pub(super) fn is_like_row(one: &str, other: &str) -> bool {
    let has_as_many = |sign: &char| {
        let count = one.matches(*sign).count();
        count > 0 && other.matches(*sign).count() == count
    };
    one.chars().count() == other.chars().count() || DELIMITERS.iter().any(has_as_many)
}

/// The rows of cells that stand in sections beside their keys, where all sections have such of as many cells.
pub(super) fn rows_in_sections<'t>(texts: impl Iterator<Item = &'t str>) -> Option<RecordShape> {
    /// Fewer rows, or rows in fewer sections, may look so by chance.
    const FEWEST: (usize, usize) = (6, 2);
    let (mut rows, mut sections, mut keys) = (Vec::new(), 0, 0);
    for text in texts {
        let sample = Lines::of(text);
        let mut lines = sample.lines.iter().map(|line| line.trim()).peekable();
        while let Some(line) = lines.next() {
            keys += usize::from(key_and_value(line).is_some());
            if !line.starts_with('[') {
                continue;
            }
            let before = rows.len();
            while let Some(line) = lines.next_if(|line| !line.starts_with('[')) {
                match key_and_value(line) {
                    Some(_) => keys += 1,
                    None => rows.push(line.to_owned()),
                }
            }
            sections += usize::from(rows.len() > before);
        }
    }
    if keys == 0 || rows.len() < FEWEST.0 || sections < FEWEST.1 {
        return None;
    }
    let cells = |row: &String, sign: char| row.trim_end_matches(sign).matches(sign).count();
    let sign = DELIMITERS.into_iter().find(|sign| {
        let count = cells(&rows[0], *sign);
        count > 0 && rows.iter().all(|row| cells(row, *sign) == count)
    })?;
    let columns: Vec<String> = (0..=cells(&rows[0], sign)).map(letters).collect();
    let shown: Vec<String> = columns.iter().map(|name| toml_text(name)).collect();
    let mut settings: Settings =
        vec![("header", "false".to_owned()), ("columns", format!("[{}]", shown.join(", ")))];
    match sign {
        ',' => {}
        '\t' => settings.push(("delimiter", "\"tab\"".to_owned())),
        sign => settings.push(("delimiter", format!("\"{sign}\""))),
    }
    Some(RecordShape {
        records: Some(("records", "rows".to_owned())),
        name: Some("rows".to_owned()),
        settings,
        columns,
        ..RecordShape::default()
    })
}

/// The names of the columns, if `rows` are a table with a header.
fn header(rows: &[&str]) -> Option<Vec<String>> {
    let mut cells = rows.iter().map(|row| row.trim_end_matches(',').split(',').map(str::trim));
    let name = |cell: &str| {
        let name = cell.strip_prefix('"')?.strip_suffix('"')?;
        let is_name = name.starts_with(|first: char| first.is_alphabetic() || first == '_')
            && name.chars().all(|own| own.is_alphanumeric() || "_- ".contains(own));
        is_name.then(|| name.to_owned())
    };
    let names: Vec<String> = cells.next()?.map(name).collect::<Option<_>>()?;
    let count = names.len();
    let fits = cells.all(|row| (1..=count).contains(&row.count()));
    (count > 1 && fits).then_some(names)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::on_its_line("a = { x, y }\nb = 1\n", "a 1..1 {x, y}")]
    #[case::below("a =\n{ x\n y }\nb = 1\n", "a 1..3 {x|y}")]
    #[case::nested("a = ( (1, 2),\n (3)\n)\n", "a 1..3 {(1, 2),|(3)}")]
    #[case::bracket_in_quotes("a = { \"}\"\n}\n", "a 1..2 {\"}\"}")]
    #[case::more_behind_it("a = (b) + (c)\n", "")]
    #[case::never_closed("a = { b\nc = 1\n", "")]
    #[case::a_section_is_none("a =\n[b]\n", "")]
    #[case::commas("a = 1,\n 2,\n 3\nb = 4\n", "a 1..3 1,|2,|3")]
    #[case::a_comma_too_many("a = 1,\nb = 4\n", "")]
    #[case::a_comma_at_the_end("a = 1,\n", "")]
    fn values(#[case] text: &str, #[case] expected: &str) {
        let lines: Vec<&str> = text.lines().collect();
        let shown = |value: &LongValue<'_>| {
            let rows = value.rows.join("|");
            let rows = if value.brackets { format!("{{{rows}}}") } else { rows };
            format!("{} {:?} {rows}", value.key, value.more)
        };
        let found: Vec<String> = long_values(&lines).iter().map(shown).collect();
        assert_eq!(found.join("; "), expected);
    }

    #[rstest]
    #[case::beside_keys(
        "[a]\nx = 1\np, 1\nq, 2\nr, 3\n[b]\nx = 2\np, 1\nq, 2\nr, 3\n",
        "header = false, columns = [\"A\", \"B\"]"
    )]
    #[case::another_sign(
        "[a]\nx = 1\np|1|s\nq|2|s\nr|3|s\n[b]\nx = 2\np|1|s\nq|2|s\nr|3|s\n",
        "header = false, columns = [\"A\", \"B\", \"C\"], delimiter = \"|\""
    )]
    #[case::of_one_section("[a]\nx = 1\np, 1\nq, 2\nr, 3\np, 1\nq, 2\nr, 3\n", "none")]
    #[case::of_other_lengths("[a]\nx = 1\np, 1\nq, 2\nr, 3, 4\n[b]\nx = 2\np, 1\nq, 2\nr, 3\n", "none")]
    #[case::no_cells("[a]\nx = 1\n010\n011\n010\n[b]\nx = 2\n010\n011\n010\n", "none")]
    fn rows(#[case] text: &str, #[case] expected: &str) {
        let found = rows_in_sections(std::iter::once(text));
        let shown = |own: RecordShape| {
            let settings = own.settings.iter().map(|(name, value)| format!("{name} = {value}"));
            settings.collect::<Vec<_>>().join(", ")
        };
        assert_eq!(found.map_or("none".to_owned(), shown), expected);
    }

    #[rstest]
    #[case::a_table("[x]\nneeds = { \"kind\", \"name\"\n \"a\", \"b\" }\n", "needs: kind name")]
    #[case::rows_cut_short(
        "[x]\nneeds = { \"kind\", \"name\"\n \"a\",\n \"b\", \"c\" }\n",
        "needs: kind name"
    )]
    #[case::more_columns_elsewhere(
        "[x]\nneeds = { \"kind\", \"name\" }\n[y]\nneeds = { \"name\", \"range\"\n \"a\", \"b\" }\n",
        "needs: kind name range"
    )]
    #[case::a_list("[x]\nneeds = { \"a\"\n \"b\" }\n", "")]
    #[case::numbers("[x]\nat = { 1, 2\n 3, 4 }\n", "")]
    #[case::not_everywhere("[x]\nat = { \"a\", \"b\" }\n[y]\nat = { 3, 4 }\n", "")]
    #[case::longer_rows("[x]\nat = { \"a\", \"b\"\n 1, 2, 3 }\n", "")]
    fn tables(#[case] text: &str, #[case] expected: &str) {
        let found = tables_in_values(std::iter::once(text));
        let shown = |shape: &RecordShape| {
            let key = shape.records.as_ref().map_or("", |(_, key)| key.as_str());
            format!("{key}: {}", shape.columns.join(" "))
        };
        assert_eq!(found.iter().map(shown).collect::<Vec<_>>().join(" | "), expected);
    }
}
