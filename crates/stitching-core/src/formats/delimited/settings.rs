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
    setting("header", "boolean", "Whether the first row names the columns (the default)."),
    setting("columns", "array", "The names of the columns, for files without a header."),
    setting(
        "quotes",
        "boolean",
        "Whether cells may stand in double quotes; by default yes, but not with tabs.",
    ),
    setting("comment", "string", "What begins a row that is only a note."),
    setting("trim", "boolean", "Blanks around a value do not belong to it."),
    setting("short_rows", "boolean", "A row may leave out cells at its end."),
];

fn from_settings<'t>(
    reader: &mut TomlReader<'t>,
    table: &DeTable<'t>,
    _value: &Value<'t>,
) -> Option<Delimited> {
    reader.check_keys(table, SETTINGS, |_| false);
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
        short_rows: reader.flag(table, "short_rows").unwrap_or(false),
    })
}
