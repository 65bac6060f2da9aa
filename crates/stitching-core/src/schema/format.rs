//! The `format` of a table.

use super::keys;
use super::toml_reader::{TomlReader, Value, plain};
use crate::formats::{Delimited, Format, Header, Json, JsonPath, Lines, WholeFile};
use crate::text::{Template, nearest_of};
use std::sync::Arc;
use toml::de::{DeTable, DeValue};

/// The kinds of format by the names they have in a schema.
const KINDS: [&str; 4] = ["delimited", "json", "lines", "file"];

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
        None => '\t',
        Some(text) => {
            let mut chars = text.get_ref().chars();
            match (text.get_ref().as_str(), chars.next(), chars.next()) {
                ("tab", ..) => '\t',
                (_, Some(one), None) if one != '"' && one != '\n' && one != '\r' => one,
                _ => {
                    reader.problem(text.span(), "`delimiter` must be one character or `tab`", "");
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
        quoted: reader.flag(table, "quotes").unwrap_or(delimiter != '\t'),
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
    let Some(line) = reader.text(table, "line") else {
        if !table.contains_key("line") {
            reader.problem(
                value.span(),
                "the format has no `line`",
                "describe a line, such as line = '{key} = \"{text}\"'",
            );
        }
        return None;
    };
    let line = template(reader, line.span(), line.get_ref())?;
    let comments = reader.texts(table, "comment").map(plain).unwrap_or_default();
    Some(Lines { line, comments: comments.into_iter().filter(|mark| !mark.is_empty()).collect() })
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
