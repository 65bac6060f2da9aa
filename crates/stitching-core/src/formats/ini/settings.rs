//! The settings of the format.

use super::{GoesOn, Ini, Repeated};
use crate::formats::registry::{FormatKind, KIND_SETTING};
use crate::settings::{Setting, TomlReader, Value, marks, setting, sign, template, word};
use std::sync::Arc;
use toml::de::DeTable;

impl Ini {
    /// What a schema calls the format.
    pub const NAME: &'static str = "ini";
}

/// The format as a schema names it.
pub(in crate::formats) static KIND: FormatKind = FormatKind {
    name: Ini::NAME,
    about: "Sections of keys with values.",
    settings: SETTINGS,
    read: |reader, table, value| Some(Arc::new(from_settings(reader, table, value)?)),
};

const SETTINGS: &[Setting] = &[
    KIND_SETTING,
    setting("records", "string", "\"sections\" (the default), or \"keys\": each key is a record."),
    setting(
        "section",
        "string",
        "Which sections: a template of their names, such as \"limits\" or \"reach {name}\"; by default all.",
    ),
    setting(
        "head",
        "string",
        "The name under which keys before the first section go; without it they are a problem.",
    ),
    setting("comment", "string|array", "What begins a note; by default `;` and `#`."),
    setting("trailing", "boolean", "A note may follow a value, with a blank before it."),
    setting("assign", "string", "The sign between key and value; by default `=`."),
    setting("quotes", "boolean", "Values may stand in double quotes (the default)."),
    setting(
        "goes_on",
        "string",
        "How a value goes on in the next line: \"never\" (the default), \"backslash\", \"comma\" or \"indent\".",
    ),
    setting(
        "repeated_sections",
        "string",
        "A section that is there twice: \"problem\" (the default), \"apart\", \"merge\" or \"last\".",
    ),
    setting(
        "repeated_keys",
        "string",
        "A key that is there twice in a section: \"problem\" (the default), \"apart\" (several values) or \"last\".",
    ),
    setting(
        "include",
        "string",
        "The word that begins a line which pulls in another file; `{includes}` are their names.",
    ),
    setting("others", "boolean", "Other lines may stand among the keys; `{lines}` are those of a section."),
    setting("ignore_case", "boolean", "Names of keys are compared without case."),
];

fn from_settings<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, _value: &Value<'t>) -> Option<Ini> {
    reader.check_keys(table, SETTINGS, |_| false);
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
    let goes_on = [
        ("never", GoesOn::Never),
        ("backslash", GoesOn::Backslash),
        ("comma", GoesOn::Comma),
        ("indent", GoesOn::Indent),
    ];
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
        include: reader.text(table, "include").map(|text| text.into_inner()).filter(|word| !word.is_empty()),
        others: reader.flag(table, "others").unwrap_or(false),
        ignore_case: reader.flag(table, "ignore_case").unwrap_or(false),
    })
}
