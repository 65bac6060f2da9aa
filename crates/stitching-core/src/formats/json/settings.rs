//! The settings of the format.

use super::{Json, JsonPath};
use crate::formats::registry::{FormatKind, KIND_SETTING};
use crate::settings::{Setting, TomlReader, Value, setting};
use std::sync::Arc;
use toml::de::DeTable;

impl Json {
    /// What a schema calls the format.
    pub const NAME: &'static str = "json";
}

/// The format as a schema names it.
pub(in crate::formats) static KIND: FormatKind = FormatKind {
    name: Json::NAME,
    about: "Objects chosen by a path.",
    settings: SETTINGS,
    read: |reader, table, value| Some(Arc::new(from_settings(reader, table, value)?)),
};

const SETTINGS: &[Setting] = &[
    KIND_SETTING,
    setting("records", "string", "A JSONPath to the records, such as \"$.objects[*]\"."),
    setting("comments", "boolean", "The game accepts comments."),
    setting("trailing_commas", "boolean", "The game accepts a comma after the last entry."),
];

fn from_settings<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, _value: &Value<'t>) -> Option<Json> {
    reader.check_keys(table, SETTINGS, |_| false);
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
