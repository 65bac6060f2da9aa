//! The settings of the project file and the schema: one list for reading, nearest names, the
//! documentation and the JSON Schema that editors use.

/// One setting.
#[derive(Debug, Clone, Copy)]
pub struct KeyDoc {
    /// Its name.
    pub name: &'static str,
    /// What its value is, as JSON Schema types separated by `|`.
    pub kind: &'static str,
    /// What it says.
    pub about: &'static str,
}

/// A section, as its heading is written, and its settings.
pub type Section = (&'static str, &'static [KeyDoc]);

const fn doc(name: &'static str, kind: &'static str, about: &'static str) -> KeyDoc {
    KeyDoc { name, kind, about }
}

pub(crate) const PROJECT_TOP: &[KeyDoc] = &[
    doc("project", "object", "The project itself."),
    doc("layer", "array", "The layers, lowest first; only the last is ever written."),
    doc("languages", "object", "The languages that texts must exist in."),
];

pub(crate) const PROJECT: &[KeyDoc] = &[
    doc("name", "string", "The name of the mod."),
    doc("schema", "string|array", "The schema files, relative to this file."),
];

pub(crate) const LAYER: &[KeyDoc] = &[
    doc("name", "string", "The name under which the layer is shown."),
    doc("path", "string", "The layer's folder, relative to this file."),
];

pub(crate) const LANGUAGES: &[KeyDoc] = &[
    doc("main", "string", "The language in which names are shown, such as \"en\"."),
    doc("others", "string|array", "The other languages of the mod."),
];

pub(crate) const SCHEMA_TOP: &[KeyDoc] = &[doc("table", "object", "The tables, by name.")];

pub(crate) const TABLE: &[KeyDoc] = &[
    doc("about", "string", "What its records are, for people."),
    doc(
        "files",
        "string|array",
        "Which files hold its records: paths from a layer's root, with `*`, `**`, and `{lang}` for a language.",
    ),
    doc("format", "object|string", "How the files are laid out."),
    doc(
        "key",
        "string|array",
        "What names a record: a field, several, `{stem}` or `{path}` for the file's name, `{member}` for a JSON member.",
    ),
    doc("label", "string", "The field that names a record for people."),
    doc(
        "texts",
        "boolean|string|object",
        "Makes it a table of texts: the field that holds the text, or a field for each language.",
    ),
    doc("ignore_case", "boolean", "Keys that differ only in upper and lower case are the same."),
    doc("fields", "object", "The fields, by name."),
];

pub(crate) const FIELD: &[KeyDoc] = &[
    doc("about", "string", "What it means, for people."),
    doc("unit", "string", "The unit of its numbers, for people."),
    doc("list", "string", "What separates the items, if the value is a list."),
    doc(
        "parts",
        "string",
        "A template that takes the value (or item) apart; each part may have a rule of its own under its name.",
    ),
    doc(
        "follows",
        "string",
        "How the value is made from the record's key: \"{key}\" or \"{key}_name\". Renaming rewrites it.",
    ),
    doc("note", "boolean", "It is a note for people that the game does not read."),
    doc("optional", "boolean", "Not all files have this column."),
];

pub(crate) const RULE: &[KeyDoc] = &[
    doc("type", "string", "text, integer, number or boolean."),
    doc("ref", "string|array", "The table whose key it names, or `table.field`; of several, any one."),
    doc("none", "string|number|array", "Values that mean \"nothing\"."),
    doc("text", "boolean|string", "It is a text key; or a template that makes the text key: \"name_{}\"."),
    doc("file", "string", "It names a file: a template of its path, such as \"layouts/{}.json\"."),
    doc("range", "array", "The lowest and the highest number allowed."),
    doc("choice", "array", "The values allowed."),
    doc("pattern", "string", "A regular expression that the whole value must match."),
    doc("unique", "boolean", "No two records may have the same value."),
    doc("required", "boolean", "It may not be empty or none."),
];

pub(crate) const FORMAT_KIND: &[KeyDoc] = &[doc("kind", "string", "delimited, json, lines or file.")];

pub(crate) const DELIMITED: &[KeyDoc] = &[
    FORMAT_KIND[0],
    doc("delimiter", "string", "The character between cells, or `tab` (the default)."),
    doc("header", "boolean", "Whether the first row names the columns (the default)."),
    doc("columns", "array", "The names of the columns, for files without a header."),
    doc("quotes", "boolean", "Whether cells may stand in double quotes; by default yes, but not with tabs."),
    doc("comment", "string", "What begins a row that is only a note."),
    doc("trim", "boolean", "Blanks around a value do not belong to it."),
    doc("closed", "boolean", "A column that is not described here is a problem."),
];

pub(crate) const JSON: &[KeyDoc] = &[
    FORMAT_KIND[0],
    doc("records", "string", "A JSONPath to the records, such as \"$.objects[*]\"."),
    doc("comments", "boolean", "The game accepts comments."),
    doc("trailing_commas", "boolean", "The game accepts a comma after the last entry."),
];

pub(crate) const LINES: &[KeyDoc] = &[
    FORMAT_KIND[0],
    doc("line", "string", "A template of the line, such as '{key} = \"{text}\"'."),
    doc("comment", "string|array", "What begins a line that is only a note."),
];

/// The sections of `stitching.toml`.
pub const PROJECT_SECTIONS: &[Section] =
    &[("[project]", PROJECT), ("[[layer]]", LAYER), ("[languages]", LANGUAGES)];

/// The sections of a schema file.
pub const SCHEMA_SECTIONS: &[Section] = &[
    ("[table.NAME]", TABLE),
    ("format = { kind = \"delimited\" }", DELIMITED),
    ("format = { kind = \"json\" }", JSON),
    ("format = { kind = \"lines\" }", LINES),
    ("format = { kind = \"file\" }", FORMAT_KIND),
    ("[table.NAME.fields]", FIELD),
    ("rules of a field, or of a part", RULE),
];
