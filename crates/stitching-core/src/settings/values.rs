//! Settings of the sorts that several formats have.

use super::{TomlReader, plain};
use crate::text::Template;
use toml::de::DeTable;

/// The marks that begin a note.
pub(crate) fn marks<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, default: &[&str]) -> Vec<String> {
    let given = reader.texts(table, "comment").map(plain);
    let marks = given.unwrap_or_else(|| default.iter().map(|mark| (*mark).to_owned()).collect());
    marks.into_iter().filter(|mark| !mark.is_empty()).collect()
}

/// What begins a note as far as the end of the line, and what begins and ends one of any length.
pub(crate) type NoteMarks = (Vec<String>, Option<(String, String)>);

/// The marks of notes, where there may be notes over several lines: `/*`, or both marks with a blank between. `None` if
/// there are two kinds of those.
pub(crate) fn note_marks<'t>(
    reader: &mut TomlReader<'t>,
    table: &DeTable<'t>,
    default: &[&str],
) -> Option<NoteMarks> {
    let (over_lines, marks): (Vec<String>, Vec<String>) =
        marks(reader, table, default).into_iter().partition(|mark| pair(mark).is_some());
    if let [_, _, ..] = &over_lines[..] {
        let span = table.get("comment").map_or(0..0, |value| value.span());
        let message = "`comment` has two pairs of marks around notes";
        reader.problem(span, message, "of notes over several lines there is one kind");
        return None;
    }
    Some((marks, over_lines.first().and_then(|mark| pair(mark))))
}

/// The two marks of a note of any length, if `mark` is both of them with a blank between, or the well-known first one.
fn pair(mark: &str) -> Option<(String, String)> {
    let (open, close) = if mark == "/*" { ("/*", "*/") } else { mark.trim().split_once(' ')? };
    Some((open.to_owned(), close.trim().to_owned()))
}

/// A setting that is one of a few words.
pub(crate) fn word<'t, T: Copy>(
    reader: &mut TomlReader<'t>,
    table: &DeTable<'t>,
    name: &str,
    words: &[(&str, T)],
) -> Option<T> {
    let given = reader.text(table, name)?;
    let found = words.iter().find(|(word, _)| word == given.get_ref()).map(|(_, meant)| *meant);
    if found.is_none() {
        let known: Vec<String> = words.iter().map(|(word, _)| format!("\"{word}\"")).collect();
        reader.problem(
            given.span(),
            format!("`{name}` cannot be \"{}\"", given.get_ref()),
            format!("it is one of {}", known.join(", ")),
        );
    }
    found
}

/// A setting that is one character of ASCII.
pub(crate) fn sign<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, name: &str) -> Option<Option<char>> {
    let given = reader.text(table, name)?;
    let mut chars = given.get_ref().chars();
    match (chars.next(), chars.next()) {
        (None, _) => Some(None),
        (Some(one), None) if one.is_ascii_punctuation() && !"{}\"#".contains(one) => Some(Some(one)),
        _ => {
            reader.problem(given.span(), format!("`{name}` must be one sign, such as \"=\" or \":\""), "");
            None
        }
    }
}

/// Parses a template that texts are matched against; a mistake in it becomes a problem.
pub(crate) fn template(
    reader: &mut TomlReader<'_>,
    span: std::ops::Range<usize>,
    source: &str,
) -> Option<Template> {
    let template = name_template(reader, span.clone(), source)?;
    if template.changes_case() {
        let message = format!("`{source}` changes the case of letters, and says what stands in a file");
        reader.problem(
            span,
            message,
            "`|upper`, `|lower` and `|title` are for `text`, `file`, `as` and `follows`",
        );
        return None;
    }
    Some(template)
}

/// Parses a template that only makes names; a mistake in it becomes a problem.
pub(crate) fn name_template(
    reader: &mut TomlReader<'_>,
    span: std::ops::Range<usize>,
    source: &str,
) -> Option<Template> {
    match Template::parse(source) {
        Ok(template) => Some(template),
        Err(error) => {
            let message = format!(
                "in the template `{source}`, character {}: {}",
                source[..error.at].chars().count() + 1,
                error.message
            );
            reader.problem(span, message, "");
            None
        }
    }
}
