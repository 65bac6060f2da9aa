//! Recognising delimited text: what stands between the cells, and where the names of the columns are.

use super::recognise::{Lines, Recognised, Settings};
use super::shapes::RecordShape;
use crate::formats::Delimited;
use crate::settings::toml_text;
use crate::text::number;
use std::collections::HashSet;

/// What stands between cells: a character, or any number of blanks.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Between {
    Sign(char),
    Blanks,
}

/// Rows of cells with tabs between them.
pub(super) fn tabs(lines: &Lines<'_>) -> Option<Recognised> {
    delimited(lines, Between::Sign('\t'))
}

/// Rows of cells with another sign between them.
pub(super) fn separated(lines: &Lines<'_>) -> Option<Recognised> {
    [';', ',', '|'].into_iter().find_map(|sign| delimited(lines, Between::Sign(sign)))
}

/// Rows of cells with any number of blanks between them, as in columns set by hand. Words stand so in prose too, so nearly
/// all rows must have the same number of cells, and either some column is of numbers, or there are many rows and no word
/// ends as in a sentence. Rows that all begin with the same word are lines of a known shape.
pub(super) fn spaced(lines: &Lines<'_>) -> Option<Recognised> {
    /// Fewer rows may be alike by chance, with and without numbers.
    const LEAST: (usize, usize) = (4, 8);
    let rows: Vec<Vec<&str>> = lines.lines.iter().map(|line| cells(line, Between::Blanks)).collect();
    let width = rows.last()?.len();
    let fitting = rows.iter().filter(|row| row.len() == width).count();
    let below = rows.get(1..)?;
    let numbers = (0..width).filter(|at| are_numbers(below, *at)).count();
    let signs = rows.iter().flatten().filter(|cell| ["=", ":", "{", "}"].contains(cell)).count();
    let ends = |cell: &&&str| cell.ends_with(['.', ',', ';', ':', '!', '?']);
    let sentences = rows.iter().flatten().filter(ends).count();
    let has_words = width >= 3 && rows.len() >= LEAST.1 && sentences * 50 <= rows.len() * width;
    let is_table = rows.len() >= LEAST.0 && width >= 2 && (numbers > 0 || has_words) && signs == 0;
    let is_one_word = rows.iter().all(|row| row[0] == rows[0][0]);
    if !is_table || is_one_word || fitting * 20 < rows.len() * 19 {
        return None;
    }
    delimited(lines, Between::Blanks)
}

/// The cells of a line; what stands between them in quotes does not count.
fn cells(line: &str, between: Between) -> Vec<&str> {
    let mut quoted = false;
    let mut cut = |next: char, sign: &dyn Fn(char) -> bool, quotes: bool| {
        quoted ^= next == '"' && quotes;
        sign(next) && !quoted
    };
    match between {
        Between::Sign(sign) => line.split(|next| cut(next, &|own| own == sign, sign != '\t')).collect(),
        Between::Blanks => {
            let cells = line.split(|next| cut(next, &|own| own == ' ' || own == '\t', true));
            cells.filter(|cell| !cell.is_empty()).collect()
        }
    }
}

fn delimited(lines: &Lines<'_>, between: Between) -> Option<Recognised> {
    let rows: Vec<Vec<&str>> = lines.lines.iter().map(|line| cells(line, between)).collect();
    let Widths { width, first_is_short, has_short_rows } = Widths::of(&rows, between)?;
    let header = &rows[0];
    let named = header.iter().filter(|cell| is_name(cell)).count();
    let in_note = names_in_note(lines, between, width);
    // Words above numbers are a header; other first rows are so only if there is no better one.
    let stands_out =
        !first_is_short && (0..width).any(|at| number(header[at]).is_none() && are_numbers(&rows[1..], at));
    let has_header = !first_is_short
        && named * 10 >= width * 9
        && unlike_rows(&rows)
        && !is_like_rows(&rows)
        && (stands_out || in_note.is_none());
    let is_prose_like = matches!(between, Between::Sign(',' | '|'));
    if is_prose_like && has_short_rows && !(has_header && header.iter().all(|cell| is_word(cell))) {
        return None;
    }
    if !has_header && is_prose_like {
        // Commas stand in prose too.
        let short = rows.iter().flatten().filter(|cell| cell.split_whitespace().count() <= 3).count();
        if short * 10 < rows.len() * width * 9 || rows.len() < 4 {
            return None;
        }
    }
    let mut settings = Settings::new();
    match between {
        Between::Sign('\t') => {}
        Between::Sign(sign) => settings.push(("delimiter", format!("\"{sign}\""))),
        Between::Blanks => settings.push(("delimiter", "\"blanks\"".to_owned())),
    }
    settings.extend(lines.comment_setting(&[]));
    if is_padded(&rows[1..]) {
        settings.push(("trim", "true".to_owned()));
    }
    if has_header && rows.len() > 3 && names_types(&rows[1]) {
        // A row that says of what type the columns are is a note.
        let row = toml_text(lines.lines[1].trim_end());
        let known = settings.iter().position(|(name, _)| *name == "comment").map(|at| settings.remove(at).1);
        let marks = known.map_or(row.clone(), |known| format!("[{}, {row}]", known.trim_matches(['[', ']'])));
        settings.push(("comment", marks));
    }
    let mut doubt = None;
    let columns: Vec<String> = if has_header {
        header.iter().map(|cell| cell.trim().trim_matches('"').to_owned()).collect()
    } else {
        let names = in_note.unwrap_or_else(|| {
            doubt = Some("it has no header row, so that its columns have letters for names");
            (0..width).map(letters).collect()
        });
        let shown: Vec<String> = names.iter().map(|name| toml_text(name)).collect();
        settings.push(("header", "false".to_owned()));
        settings.push(("columns", format!("[{}]", shown.join(", "))));
        names
    };
    if has_short_rows {
        settings.push(("short_rows", "true".to_owned()));
    }
    let mut shape = RecordShape::plain(None);
    shape.columns = columns;
    Some(Recognised { doubt, ..Recognised::new(Delimited::NAME, settings, vec![shape]) })
}

/// Whether blanks stand around cells as a matter of course, as in columns set by hand; a few are faults.
fn is_padded(rows: &[Vec<&str>]) -> bool {
    /// At least one in so many rows has some.
    const MANY: usize = 4;
    let is_padded = |cell: &str| {
        let cell = cell.trim_end_matches('\r');
        let shown = cell.trim_matches([' ', '\t']);
        !shown.is_empty() && shown.len() < cell.len()
    };
    rows.iter().filter(|row| row.iter().any(|cell| is_padded(cell))).count() * MANY > rows.len()
}

/// How many cells the rows of a file have.
struct Widths {
    /// As many columns there are.
    width: usize,
    /// Whether the first row has fewer, so that it is no header.
    first_is_short: bool,
    /// Whether rows leave out cells at their end as a matter of course.
    has_short_rows: bool,
}

impl Widths {
    /// Those of `rows`; `None` if they are too unlike each other.
    fn of(rows: &[Vec<&str>], between: Between) -> Option<Widths> {
        /// Where at least so many rows are shorter, and one in so many, that is meant so; few are faults.
        const MANY: (usize, usize) = (3, 20);
        let first = rows.first()?.len();
        if first < 2 || rows.len() < 2 {
            return None;
        }
        let of_width = |width: usize| rows.iter().filter(|row| row.len() == width).count();
        let is_by_sign = matches!(between, Between::Sign(_));
        let least = rows.iter().map(Vec::len).min()?;
        let (mut width, widest) = (first, rows.iter().map(Vec::len).max()?);
        // Nearly all rows are like the first; or else none is longer than the longest, of which there are many.
        if of_width(first) * 10 < rows.len() * 9 {
            let is_usual = of_width(widest) * 5 >= rows.len();
            if !is_by_sign || (first < widest && !is_usual) || (between != Between::Sign('\t') && least < 2) {
                return None;
            }
            width = widest;
        }
        let short = rows.iter().filter(|row| row.len() < width).count();
        let has_short_rows = is_by_sign && widest <= width && short >= MANY.0 && short * MANY.1 >= rows.len();
        Some(Widths { width, first_is_short: first < width, has_short_rows })
    }
}

/// Whether a cell is one word, as names of columns mostly are.
fn is_word(cell: &str) -> bool {
    let cell = cell.trim().trim_matches('"');
    let is_letter = |next: char| next.is_alphanumeric() || ['_', '-', '.', ' '].contains(&next);
    !cell.is_empty() && cell.chars().all(is_letter) && cell.split_whitespace().count() <= 3
}

/// Whether most cells of a row are names of types of values.
fn names_types(row: &[&str]) -> bool {
    const TYPES: [&str; 24] = [
        "int", "integer", "uint", "long", "short", "byte", "float", "double", "decimal", "number", "string",
        "str", "text", "char", "bool", "boolean", "enum", "list", "array", "date", "vector", "color",
        "int32", "float32",
    ];
    let is_type = |cell: &&&str| {
        let word = cell.trim().trim_matches('"').trim_end_matches("[]").to_lowercase();
        TYPES.contains(&word.as_str())
    };
    let filled = row.iter().filter(|cell| !cell.trim().is_empty()).count();
    filled > 1 && row.iter().filter(is_type).count() * 10 >= filled * 6
}

/// The letters for the column at position `at`, as spreadsheets have them: `A` to `Z`, `AA` and so on.
pub(super) fn letters(at: usize) -> String {
    let last = char::from(b'A' + (at % 26) as u8);
    match at / 26 {
        0 => last.to_string(),
        before => letters(before - 1) + &last.to_string(),
    }
}

/// Whether a cell could name a column.
fn is_name(cell: &str) -> bool {
    let cell = cell.trim().trim_matches('"');
    cell.chars().count() <= 60 && !cell.is_empty() && number(cell).is_none()
}

/// The names of `width` columns in the note above the first row: the header of a file that may have none.
fn names_in_note(lines: &Lines<'_>, between: Between, width: usize) -> Option<Vec<String>> {
    let note = lines.note_above?.trim();
    let names = [between, Between::Sign('\t'), Between::Blanks].map(|between| cells(note, between));
    let names = names.into_iter().find(|names| names.len() == width)?;
    let is_name = |name: &str| {
        is_name(name)
            && name.split_whitespace().count() <= 3
            && name.trim().trim_matches('"').starts_with(|first: char| first.is_alphabetic() || first == '_')
    };
    let named = names.iter().filter(|name| is_name(name)).count();
    // What is said of a column at length is no name; a column has a letter then, as where none has a name.
    let name = |(at, name): (usize, &&str)| match is_name(name) {
        true => name.trim().trim_matches('"').to_owned(),
        false => letters(at),
    };
    let names: Vec<String> = names.iter().enumerate().map(name).collect();
    let different: HashSet<&String> = names.iter().collect();
    (named * 2 >= width && different.len() == width).then_some(names)
}

/// Whether nearly all of the cells at position `at` are numbers.
fn are_numbers(rows: &[Vec<&str>], at: usize) -> bool {
    let cells = || rows.iter().filter_map(|row| row.get(at)).filter(|cell| !cell.trim().is_empty());
    let numbers = cells().filter(|cell| number(cell.trim()).is_some()).count();
    numbers > 0 && numbers * 10 >= cells().count() * 9
}

/// Whether the first row is unlike the others: its cells are not among the values of their columns.
fn unlike_rows(rows: &[Vec<&str>]) -> bool {
    let (header, rest) = (&rows[0], &rows[1..]);
    let repeated = |at: usize| rest.iter().filter(|row| row.get(at) == Some(&header[at])).count();
    let again = (0..header.len()).filter(|at| !header[*at].is_empty() && repeated(*at) > 0).count();
    let mut seen = HashSet::new();
    let twice = header.iter().filter(|cell| !cell.is_empty() && !seen.insert(**cell)).count();
    again * 4 <= header.len() && twice * 2 <= header.len()
}

/// Whether the first row is made like the others: half of its cells begin or end as nearly all below them do (`door.old`
/// above `door.new`), or are codes as long as these (`NW` above `SE`), and no word stands where these are numbers.
fn is_like_rows(rows: &[Vec<&str>]) -> bool {
    /// Fewer cells may be alike by chance.
    const LEAST: usize = 3;
    let (first, rest) = (&rows[0], &rows[1..]);
    if let Some(at) = (0..first.len()).find(|at| are_numbers(rest, *at)) {
        return number(first[at].trim()).is_some();
    }
    let alike = |at: &usize| {
        let own = first[*at].trim();
        let cells = || rest.iter().filter_map(|row| row.get(*at)).map(|cell| cell.trim());
        let nearly_all = |has: &dyn Fn(&str) -> bool| {
            let (count, having) = (cells().count(), cells().filter(|cell| has(cell)).count());
            count >= LEAST && having * 10 >= count * 8
        };
        begins_alike(own).is_some_and(|start| nearly_all(&|cell| cell.starts_with(start)))
            || ends_alike(own).is_some_and(|end| nearly_all(&|cell| cell.ends_with(end)))
            || code_length(own).is_some_and(|length| nearly_all(&|cell| code_length(cell) == Some(length)))
    };
    let count = (0..first.len()).filter(alike).count();
    count > 0 && count * 2 >= first.len()
}

/// Words that names of columns end with.
const OF_COLUMNS: [&str; 12] =
    ["id", "key", "name", "code", "number", "nr", "no", "ref", "type", "text", "value", "file"];

/// How long a code of upper case letters is, in bytes, unless it names a column: `ID`.
fn code_length(cell: &str) -> Option<usize> {
    let is_code = cell.len() > 1 && cell.bytes().all(|byte| byte.is_ascii_uppercase());
    (is_code && !OF_COLUMNS.contains(&cell.to_lowercase().as_str())).then_some(cell.len())
}

/// What stands before a sign in `cell`, with the sign, unless the rest says that it names a column: `good_id`.
fn begins_alike(cell: &str) -> Option<&str> {
    let at = cell.find(['.', '_', '/', ':', '-', '$', '@', ' '])?;
    let (start, rest) = cell.split_at(at + 1);
    let rest = rest.to_lowercase();
    let last = rest.rsplit(|next: char| !next.is_alphanumeric()).next().unwrap_or_default();
    (start.len() > 1 && !last.is_empty() && !OF_COLUMNS.contains(&last)).then_some(start)
}

/// The ending of a file's name, or of a sentence.
fn ends_alike(cell: &str) -> Option<&str> {
    if let Some(sign) = cell.strip_suffix(['.', '!', '?']) {
        return sign.contains(' ').then(|| &cell[sign.len()..]);
    }
    let at = cell.rfind('.')?;
    let ending = &cell[at..];
    ((2..=5).contains(&ending.len()) && at > 0 && !ending.contains(' ')).then_some(ending)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn rows(text: &str) -> Vec<Vec<&str>> {
        text.lines().map(|line| line.split('\t').collect()).collect()
    }

    #[rstest]
    #[case::keys_and_texts("door.a\tthe gate\ndoor.b\tthe lock\ndoor.c\tthe pier\ndoor.d\tthe quay", true)]
    #[case::sentences("a\tIt is cold.\nb\tGo on then.\nc\tNobody is here.\nd\tThe ice holds.", true)]
    #[case::files("low\tlow/a.png\nhigh\tb.png\nmid\tc.png\nfar\td.png", true)]
    #[case::a_header("good_id\tname\ngood_coal\tCoal\ngood_salt\tSalt\ngood_wool\tWool", false)]
    #[case::numbers_below("door.a\tdepth\ndoor.b\t3\ndoor.c\t4\ndoor.d\t5", false)]
    #[case::numbers_everywhere("door.a\t4\ndoor.b\t3\ndoor.c\t4\ndoor.d\t5", true)]
    #[case::codes("NW\tNorth Weir\nSE\tSouth End\nMQ\tMill Quay\nLB\tLow Bend", true)]
    #[case::a_header_above_codes("ID\tName\nSE\tSouth End\nMQ\tMill Quay\nLB\tLow Bend", false)]
    #[case::two_rows("door.a\tthe gate\ndoor.b\tthe lock", false)]
    #[case::nothing_alike("Reach\tBasin\nfrost_cut\tnorth\nmill_run\tsouth\nlow_bend\tsouth", false)]
    fn a_first_row_that_is_data(#[case] text: &str, #[case] expected: bool) {
        assert_eq!(is_like_rows(&rows(text)), expected);
    }

    #[rstest]
    #[case(0, "A")]
    #[case(25, "Z")]
    #[case(26, "AA")]
    #[case(701, "ZZ")]
    #[case(702, "AAA")]
    fn columns_without_names(#[case] at: usize, #[case] expected: &str) {
        assert_eq!(letters(at), expected);
    }

    #[rstest]
    #[case::tabs_and_blanks("a  b\t c ", "a|b|c")]
    #[case::quotes("a \"b c\" d", "a|\"b c\"|d")]
    #[case::nothing("   ", "")]
    fn cells_between_blanks(#[case] line: &str, #[case] expected: &str) {
        assert_eq!(cells(line, Between::Blanks).join("|"), expected);
    }
}
