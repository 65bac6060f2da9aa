//! The `format` of a table.

use super::keys;
use super::toml_reader::{TomlReader, Value, plain};
use crate::formats::{
    BlockPath, Blocks, Delimited, Delimiter, Format, GoesOn, Header, Ini, Json, JsonPath, Lines, Po,
    Repeated, Taken, WholeFile, Xml, XmlPath,
};
use crate::text::{Template, nearest_of};
use std::sync::Arc;
use toml::de::{DeTable, DeValue};

/// The kinds of format by the names they have in a schema.
const KINDS: [&str; 8] = ["delimited", "ini", "xml", "json", "blocks", "lines", "po", "file"];

/// Reads a format; `None` (and a problem) if it makes no sense.
pub(super) fn read<'t>(
    reader: &mut TomlReader<'t>,
    value: &Value<'t>,
) -> Option<(&'static str, Arc<dyn Format>)> {
    let empty = DeTable::new();
    let (kind, kind_span, table) = match value.get_ref() {
        DeValue::String(kind) => (kind.clone().into_owned(), value.span(), &empty),
        DeValue::Table(table) => match reader.text(table, "kind") {
            Some(kind) => (kind.get_ref().clone(), kind.span(), table),
            None => {
                if !table.contains_key("kind") {
                    reader.problem(
                        value.span(),
                        "the format has no `kind`",
                        format!("it is one of {}", KINDS.join(", ")),
                    );
                }
                return None;
            }
        },
        _ => {
            reader.wrong_kind(value, "format", "a table such as { kind = \"delimited\" }");
            return None;
        }
    };
    let (name, format): (&'static str, Option<Arc<dyn Format>>) = match kind.as_str() {
        "delimited" => ("delimited", delimited(reader, table).map(|format| Arc::new(format) as _)),
        "json" => ("json", json(reader, table).map(|format| Arc::new(format) as _)),
        "lines" => ("lines", lines(reader, table, value).map(|format| Arc::new(format) as _)),
        "ini" => ("ini", ini(reader, table).map(|format| Arc::new(format) as _)),
        "xml" => ("xml", xml(reader, table, value).map(|format| Arc::new(format) as _)),
        "blocks" => ("blocks", blocks(reader, table, value).map(|format| Arc::new(format) as _)),
        "po" => {
            reader.check_keys(table, keys::FORMAT_KIND, |_| false);
            ("po", Some(Arc::new(Po)))
        }
        "file" => {
            reader.check_keys(table, keys::FORMAT_KIND, |_| false);
            ("file", Some(Arc::new(WholeFile)))
        }
        other => {
            let near = nearest_of(other, KINDS);
            let help = match near.first() {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("it is one of {}", KINDS.join(", ")),
            };
            reader.problem(kind_span, format!("there is no format `{other}`"), help);
            return None;
        }
    };
    Some((name, format?))
}

fn delimited<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>) -> Option<Delimited> {
    reader.check_keys(table, keys::DELIMITED, |_| false);
    let delimiter = match reader.text(table, "delimiter") {
        None => Delimiter::Sign('\t'),
        Some(text) => {
            let mut chars = text.get_ref().chars();
            match (text.get_ref().as_str(), chars.next(), chars.next()) {
                ("tab", ..) => Delimiter::Sign('\t'),
                ("blanks", ..) => Delimiter::Blanks,
                (_, Some(one), None) if one != '"' && one != '\n' && one != '\r' => Delimiter::Sign(one),
                _ => {
                    let help = "`blanks` stands for any number of blanks and tabs";
                    reader.problem(text.span(), "`delimiter` must be one character, `tab` or `blanks`", help);
                    return None;
                }
            }
        }
    };
    let columns = reader.texts(table, "columns").map(plain);
    let header = match (reader.flag(table, "header"), columns) {
        (Some(false), Some(columns)) => Header::Named(columns),
        (None | Some(true), None) => Header::FirstRow,
        (Some(false), None) => {
            let span = table.get("header").map_or(0..0, Value::span);
            reader.problem(
                span,
                "without a header the columns have no names",
                "name them: columns = [\"First\", \"Second\"]",
            );
            return None;
        }
        (_, Some(_)) => {
            let span = table.get("columns").map_or(0..0, Value::span);
            reader.problem(
                span,
                "`columns` names columns that the header names already",
                "write `header = false` if the files have no header",
            );
            return None;
        }
    };
    Some(Delimited {
        delimiter,
        header,
        quoted: reader.flag(table, "quotes").unwrap_or(delimiter != Delimiter::Sign('\t')),
        comment: reader.text(table, "comment").map(|text| text.into_inner()).filter(|mark| !mark.is_empty()),
        trim: reader.flag(table, "trim").unwrap_or(false),
        closed: reader.flag(table, "closed").unwrap_or(false),
    })
}

fn json<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>) -> Option<Json> {
    reader.check_keys(table, keys::JSON, |_| false);
    let (source, span) = match reader.text(table, "records") {
        Some(text) => (text.get_ref().clone(), text.span()),
        None => ("$[*]".to_owned(), 0..0),
    };
    let records = match JsonPath::parse(&source) {
        Ok(path) => path,
        Err(error) => {
            let help = "a path looks like `$.objects[*]`: `.name`, `[0]`, `[*]` and `..name` are understood";
            reader.problem(span, error.to_string(), help);
            return None;
        }
    };
    Some(Json {
        records,
        comments: reader.flag(table, "comments").unwrap_or(false),
        trailing_commas: reader.flag(table, "trailing_commas").unwrap_or(false),
    })
}

fn lines<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, value: &Value<'t>) -> Option<Lines> {
    reader.check_keys(table, keys::LINES, |_| false);
    if !table.contains_key("line") {
        reader.problem(
            value.span(),
            "the format has no `line`",
            "describe a line, such as line = '{key} = \"{text}\"'",
        );
        return None;
    }
    let mut shapes = |name: &str| -> Option<Vec<Template>> {
        let texts = reader.texts(table, name).unwrap_or_default();
        texts.into_iter().map(|text| template(reader, text.span(), text.get_ref())).collect()
    };
    let lines = Lines {
        lines: shapes("line")?,
        carried: shapes("carry")?,
        comments: marks(reader, table, &[]),
        trailing_comments: reader.flag(table, "trailing").unwrap_or(false),
        others: reader.flag(table, "others").unwrap_or(false),
        anywhere: reader.flag(table, "anywhere").unwrap_or(false),
        over_lines: reader.flag(table, "over_lines").unwrap_or(false),
    };
    if lines.lines.len() != 1 && (lines.anywhere || lines.over_lines || lines.lines.is_empty()) {
        let message = "`anywhere` and `over_lines` are for one template in `line`";
        reader.problem(value.span(), message, "a list of templates describes a record of that many lines");
        return None;
    }
    let mut seen: Vec<&String> = Vec::new();
    for part in lines.carried.iter().chain(&lines.lines).flat_map(|template| template.parts()) {
        if seen.contains(&part) {
            let message = format!("the part `{{{part}}}` stands in two templates of the format");
            reader.problem(value.span(), message, "give each part its own name");
            return None;
        }
        seen.push(part);
    }
    Some(lines)
}

/// The marks that begin a note.
fn marks<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, default: &[&str]) -> Vec<String> {
    let given = reader.texts(table, "comment").map(plain);
    let marks = given.unwrap_or_else(|| default.iter().map(|mark| (*mark).to_owned()).collect());
    marks.into_iter().filter(|mark| !mark.is_empty()).collect()
}

/// A setting that is one of a few words.
fn word<'t, T: Copy>(
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
fn sign<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, name: &str) -> Option<Option<char>> {
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

fn ini<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>) -> Option<Ini> {
    reader.check_keys(table, keys::INI, |_| false);
    let section = match reader.text(table, "section") {
        None => None,
        Some(text) => Some(template(reader, text.span(), text.get_ref())?),
    };
    let repeated = [
        ("problem", Repeated::Problem),
        ("apart", Repeated::Apart),
        ("merge", Repeated::Merge),
        ("last", Repeated::Last),
    ];
    let goes_on = [("never", GoesOn::Never), ("backslash", GoesOn::Backslash), ("indent", GoesOn::Indent)];
    let by_key = word(reader, table, "records", &[("sections", false), ("keys", true)]).unwrap_or(false);
    Some(Ini {
        by_key,
        section,
        head: reader.text(table, "head").map(|text| text.into_inner()),
        comments: marks(reader, table, &[";", "#"]),
        trailing_comments: reader.flag(table, "trailing").unwrap_or(false),
        assign: sign(reader, table, "assign").flatten().unwrap_or('='),
        quotes: reader.flag(table, "quotes").unwrap_or(true),
        goes_on: word(reader, table, "goes_on", &goes_on).unwrap_or(GoesOn::Never),
        repeated_sections: word(reader, table, "repeated_sections", &repeated).unwrap_or(Repeated::Problem),
        repeated_keys: word(reader, table, "repeated_keys", &repeated).unwrap_or(Repeated::Problem),
        ignore_case: reader.flag(table, "ignore_case").unwrap_or(false),
    })
}

fn xml<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, value: &Value<'t>) -> Option<Xml> {
    reader.check_keys(table, keys::XML, |_| false);
    let Some(source) = reader.text(table, "records") else {
        if !table.contains_key("records") {
            let help = "say which elements they are, such as records = \"/wharf/offer\"";
            reader.problem(value.span(), "the format has no `records`", help);
        }
        return None;
    };
    match XmlPath::records(source.get_ref()) {
        Ok(records) => Some(Xml { records }),
        Err(message) => {
            let help = "a path looks like `/wharf/offer`: `//offer`, `*`, `[@good]` and `[@good='coal']` are understood";
            reader.problem(source.span(), message, help);
            None
        }
    }
}

fn blocks<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, value: &Value<'t>) -> Option<Blocks> {
    reader.check_keys(table, keys::BLOCKS, |_| false);
    let kinds = [("records", Taken::Blocks), ("entries", Taken::Entries), ("items", Taken::Items)];
    let given: Vec<(&str, Taken)> = kinds.into_iter().filter(|(name, _)| table.contains_key(*name)).collect();
    let [(name, taken)] = given[..] else {
        let message = "the format must have one of `records`, `entries` and `items`";
        let help =
            "say where the records are: records = \"convoys/*\" for blocks, entries = \"limits/*\" for keys";
        reader.problem(value.span(), message, help);
        return None;
    };
    let source = reader.text(table, name)?;
    // A fragment without a head of its own is a record as a whole.
    let (taken, path) = match (taken, source.get_ref().as_str()) {
        (Taken::Blocks, ".") => (Taken::File, ""),
        (taken, path) => (taken, path),
    };
    let records = match BlockPath::parse(path, false) {
        Ok(records) if matches!(taken, Taken::Blocks | Taken::Entries) && records.source().is_empty() => {
            reader.problem(source.span(), format!("`{name}` is empty"), "`*` stands for any name");
            return None;
        }
        Ok(records) => records,
        Err(message) => {
            reader.problem(
                source.span(),
                message,
                "a path looks like `convoys/*`; `**` stands for any depth",
            );
            return None;
        }
    };
    let separators = reader.text(table, "separators").map(|text| text.into_inner());
    Some(Blocks {
        records,
        taken,
        assign: sign(reader, table, "assign").unwrap_or(Some('=')),
        comments: marks(reader, table, &["#"]),
        separators: separators
            .unwrap_or_else(|| ",;".to_owned())
            .chars()
            .filter(|next| !"{}\"\n".contains(*next))
            .collect(),
        escapes: reader.flag(table, "escapes").unwrap_or(false),
        include: reader.text(table, "include").map(|text| text.into_inner()).filter(|word| !word.is_empty()),
    })
}

/// Parses a template; a mistake in it becomes a problem.
pub(super) fn template(
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
