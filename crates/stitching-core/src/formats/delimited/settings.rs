//! The settings of the format.

use super::{Delimited, Delimiter, Header};
use crate::formats::registry::{FormatKind, KIND_SETTING};
use crate::settings::{Setting, TomlReader, Value, plain, setting};
use std::sync::Arc;
use toml::de::DeTable;

impl Delimited {
    /// What a schema calls the format.
    pub const NAME: &'static str = "delimited";
}

/// The format as a schema names it.
pub(in crate::formats) static KIND: FormatKind = FormatKind {
    name: Delimited::NAME,
    about: "A row a line, cells between delimiters.",
    settings: SETTINGS,
    read: |reader, table, value| Some(Arc::new(from_settings(reader, table, value)?)),
};

const SETTINGS: &[Setting] = &[
    KIND_SETTING,
    setting(
        "delimiter",
        "string",
        "The character between cells, or `tab` (the default), or `blanks` for any number of blanks and tabs.",
    ),
    HEADER,
    COLUMNS,
    setting(
        "quotes",
        "boolean",
        "Whether cells may stand in double quotes; by default yes, but not with tabs.",
    ),
    setting("comment", "string", "What begins a row that is only a note."),
    setting("trim", "boolean", "Blanks around a value do not belong to it."),
    SHORT_ROWS,
];

pub(in crate::formats) const HEADER: Setting =
    setting("header", "boolean", "Whether the first row names the columns (the default).");
pub(in crate::formats) const COLUMNS: Setting =
    setting("columns", "array", "The names of the columns, for files without a header.");
pub(in crate::formats) const SHORT_ROWS: Setting =
    setting("short_rows", "boolean", "A row may leave out cells at its end.");

fn from_settings<'t>(
    reader: &mut TomlReader<'t>,
    table: &DeTable<'t>,
    _value: &Value<'t>,
) -> Option<Delimited> {
    reader.check_keys(table, SETTINGS, |_| false);
    let delimiter = delimiter(reader, table, Delimiter::Sign('\t'))?;
    Some(Delimited {
        delimiter,
        header: header(reader, table)?,
        quoted: reader.flag(table, "quotes").unwrap_or(delimiter != Delimiter::Sign('\t')),
        comment: reader.text(table, "comment").map(|text| text.into_inner()).filter(|mark| !mark.is_empty()),
        trim: reader.flag(table, "trim").unwrap_or(false),
        short_rows: reader.flag(table, "short_rows").unwrap_or(false),
    })
}

/// What stands between cells: the setting `delimiter`, or `otherwise`.
pub(in crate::formats) fn delimiter<'t>(
    reader: &mut TomlReader<'t>,
    table: &DeTable<'t>,
    otherwise: Delimiter,
) -> Option<Delimiter> {
    let Some(text) = reader.text(table, "delimiter") else { return Some(otherwise) };
    let mut chars = text.get_ref().chars();
    match (text.get_ref().as_str(), chars.next(), chars.next()) {
        ("tab", ..) => Some(Delimiter::Sign('\t')),
        ("blanks", ..) => Some(Delimiter::Blanks),
        (_, Some(one), None) if one != '"' && one != '\n' && one != '\r' => Some(Delimiter::Sign(one)),
        _ => {
            let help = "`blanks` stands for any number of blanks and tabs";
            reader.problem(text.span(), "`delimiter` must be one character, `tab` or `blanks`", help);
            None
        }
    }
}

/// Where the names of the columns come from: the settings `header` and `columns`.
pub(in crate::formats) fn header<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>) -> Option<Header> {
    let columns = reader.texts(table, "columns").map(plain);
    match (reader.flag(table, "header"), columns) {
        (Some(false), Some(columns)) => Some(Header::Named(columns)),
        (None | Some(true), None) => Some(Header::FirstRow),
        (Some(false), None) => {
            let span = table.get("header").map_or(0..0, Value::span);
            reader.problem(
                span,
                "without a header the columns have no names",
                "name them: columns = [\"First\", \"Second\"]",
            );
            None
        }
        (_, Some(_)) => {
            let span = table.get("columns").map_or(0..0, Value::span);
            reader.problem(
                span,
                "`columns` names columns that the header names already",
                "write `header = false` if the files have no header",
            );
            None
        }
    }
}
