//! The settings of the format.

use super::{Xml, XmlPath};
use crate::formats::registry::{FormatKind, KIND_SETTING};
use crate::settings::{Setting, TomlReader, Value, setting};
use std::sync::Arc;
use toml::de::DeTable;

impl Xml {
    /// What a schema calls the format.
    pub const NAME: &'static str = "xml";
}

/// The format as a schema names it.
pub(in crate::formats) static KIND: FormatKind = FormatKind {
    name: Xml::NAME,
    about: "Elements chosen by a path.",
    settings: SETTINGS,
    read: |reader, table, value| Some(Arc::new(from_settings(reader, table, value)?)),
};

const SETTINGS: &[Setting] =
    &[KIND_SETTING, setting("records", "string", "An XPath to the records, such as \"/wharf/offer\".")];

fn from_settings<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, value: &Value<'t>) -> Option<Xml> {
    reader.check_keys(table, SETTINGS, |_| false);
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
