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
    doc(
        "reserved",
        "object",
        "Numbers set aside for this mod, by `\"table.field\"`: a list of the first and the last; `stitching free` keeps to them.",
    ),
];

pub(crate) const PROJECT: &[KeyDoc] = &[
    doc("name", "string", "The name of the mod."),
    doc("schema", "string|array", "The schema files, relative to this file."),
];

pub(crate) const LAYER: &[KeyDoc] = &[
    doc("name", "string", "The name under which the layer is shown."),
    doc("path", "string", "The layer's folder or zip archive, relative to this file."),
    doc(
        "archives",
        "string|array",
        "Which of its files are zip archives whose entries count as files too; by default \"**/*.zip\".",
    ),
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
        "encoding",
        "string",
        "What the files are written in, such as \"windows-1250\" or \"utf-16le\"; by default it is recognised.",
    ),
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
    doc(
        "layering",
        "string",
        "\"replace\" (the default): the topmost layer's file counts alone; \"merge\": the files of all layers count together, and a higher one overrides single fields.",
    ),
    doc(
        "replaces",
        "string",
        "With layering = \"merge\": a regular expression; a file in which it is found replaces those below all the same.",
    ),
    doc(
        "language",
        "string",
        "For a table of texts: the field that names the language of each record, where the path does not.",
    ),
    doc(
        "languages",
        "object",
        "What that field calls the project's languages: { german = \"de\" }; by default their codes.",
    ),
    doc(
        "byte_order_mark",
        "string",
        "\"required\" or \"forbidden\": whether the files must begin with a byte order mark.",
    ),
    doc("ignore_case", "boolean", "Keys that differ only in upper and lower case are the same."),
    doc("fields", "object", "The fields, by name."),
];

pub(crate) const FIELD: &[KeyDoc] = &[
    doc("about", "string", "What it means, for people."),
    doc("unit", "string", "The unit of its numbers, for people."),
    doc("list", "string", "What separates the items, if the value is a list."),
    doc("counted", "boolean", "The first item of the list is the number of those that follow."),
    doc(
        "find",
        "string",
        "A regular expression that finds parts in a longer text, each a named group: 'open (?<lock>\\w+)'. Each group may have a rule of its own under its name.",
    ),
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
    doc("inherit", "boolean", "It names a record from which this one takes what it does not have itself."),
    doc("note", "boolean", "It is a note for people that the game does not read."),
    doc("optional", "boolean", "Not all files have this column."),
];

pub(crate) const RULE: &[KeyDoc] = &[
    doc("type", "string", "text, integer, number or boolean."),
    doc(
        "ref",
        "string|array|object",
        "The table whose key it names, or `table.field`; of several, any one. With `by`, a table for each value of that field.",
    ),
    doc("by", "string", "The field that tells which of the tables in `ref` is meant."),
    doc("as", "string", "How the key that it names is made from the value: \"_{}\"."),
    doc(
        "with",
        "array",
        "The parts of the key that it names, if that has several: fields of this record, \"{stem}\" or \"{path}\" for its file, and \"{}\" for the value.",
    ),
    doc(
        "when",
        "object",
        "The rule holds only where another field has a certain value: { Kind = [\"gate\", \"lift\"] }.",
    ),
    doc("none", "string|number|array", "Values that mean \"nothing\"."),
    doc("text", "boolean|string", "It is a text key; or a template that makes the text key: \"name_{}\"."),
    doc("file", "string", "It names a file: a template of its path, such as \"layouts/{}.json\"."),
    doc("range", "array", "The lowest and the highest number allowed."),
    doc("choice", "array", "The values allowed."),
    doc("pattern", "string", "A regular expression that the whole value must match."),
    doc("unique", "boolean", "No two records may have the same value."),
    doc("required", "boolean", "It may not be empty or none."),
];

pub(crate) const FORMAT_KIND: &[KeyDoc] =
    &[doc("kind", "string", "delimited, ini, xml, json, blocks, lines, po or file.")];

pub(crate) const DELIMITED: &[KeyDoc] = &[
    FORMAT_KIND[0],
    doc(
        "delimiter",
        "string",
        "The character between cells, or `tab` (the default), or `blanks` for any number of blanks and tabs.",
    ),
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
    doc(
        "line",
        "string|array",
        "A template of the line, such as '{key} = \"{text}\"'; or of each line of a record of several.",
    ),
    doc("comment", "string|array", "What begins a line that is only a note."),
    doc("trailing", "boolean", "A note may stand behind what the template describes."),
    doc("others", "boolean", "Lines of other shapes are passed over: the table draws on some lines only."),
    doc(
        "anywhere",
        "boolean",
        "What the template describes may stand anywhere in a line, and several times.",
    ),
    doc("over_lines", "boolean", "A record may go on over the next lines until it fits the template."),
    doc(
        "carry",
        "string|array",
        "Templates of lines whose parts hold for all records after them, such as 'folder {folder}'.",
    ),
];

pub(crate) const INI: &[KeyDoc] = &[
    FORMAT_KIND[0],
    doc("records", "string", "\"sections\" (the default), or \"keys\": each key is a record."),
    doc(
        "section",
        "string",
        "Which sections: a template of their names, such as \"limits\" or \"reach {name}\"; by default all.",
    ),
    doc(
        "head",
        "string",
        "The name under which keys before the first section go; without it they are a problem.",
    ),
    doc("comment", "string|array", "What begins a note; by default `;` and `#`."),
    doc("trailing", "boolean", "A note may follow a value, with a blank before it."),
    doc("assign", "string", "The sign between key and value; by default `=`."),
    doc("quotes", "boolean", "Values may stand in double quotes (the default)."),
    doc(
        "goes_on",
        "string",
        "How a value goes on in the next line: \"never\" (the default), \"backslash\" or \"indent\".",
    ),
    doc(
        "repeated_sections",
        "string",
        "A section that is there twice: \"problem\" (the default), \"apart\", \"merge\" or \"last\".",
    ),
    doc(
        "repeated_keys",
        "string",
        "A key that is there twice in a section: \"problem\" (the default), \"apart\" (several values) or \"last\".",
    ),
    doc("ignore_case", "boolean", "Names of keys are compared without case."),
];

pub(crate) const XML: &[KeyDoc] =
    &[FORMAT_KIND[0], doc("records", "string", "An XPath to the records, such as \"/wharf/offer\".")];

pub(crate) const BLOCKS: &[KeyDoc] = &[
    FORMAT_KIND[0],
    doc(
        "records",
        "string",
        "The path to the blocks that are records, such as \"convoys/*\"; \".\" for the file as a whole.",
    ),
    doc("entries", "string", "Instead: the path to the entries that are records, such as \"limits/*\"."),
    doc("items", "string", "Instead: the path to the blocks whose bare words are records."),
    doc(
        "assign",
        "string",
        "The sign between key and value (by default `=`); empty if a line is a key and its values.",
    ),
    doc("comment", "string|array", "What begins a note; by default `#`."),
    doc("separators", "string", "Signs between entries that count as blanks; by default `,` and `;`."),
    doc("escapes", "boolean", "A backslash escapes within quotes."),
    doc("include", "string", "The word that begins a line which pulls in another file."),
];

/// The sections of `stitching.toml`.
pub const PROJECT_SECTIONS: &[Section] =
    &[("[project]", PROJECT), ("[[layer]]", LAYER), ("[languages]", LANGUAGES)];

/// The sections of a schema file.
pub const SCHEMA_SECTIONS: &[Section] = &[
    ("[table.NAME]", TABLE),
    ("format = { kind = \"delimited\" }", DELIMITED),
    ("format = { kind = \"ini\" }", INI),
    ("format = { kind = \"xml\" }", XML),
    ("format = { kind = \"json\" }", JSON),
    ("format = { kind = \"blocks\" }", BLOCKS),
    ("format = { kind = \"lines\" }", LINES),
    ("format = { kind = \"po\" } or { kind = \"file\" }", FORMAT_KIND),
    ("[table.NAME.fields]", FIELD),
    ("rules of a field, or of a part", RULE),
];
