//! The settings of the format.

use super::rows::IniRows;
use super::{GoesOn, Ini, Repeated};
use crate::formats::Format;
use crate::formats::delimited::{COLUMNS, Delimited, Delimiter, HEADER, SHORT_ROWS, delimiter, header};
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
    read: from_settings,
};

const SETTINGS: &[Setting] = &[
    KIND_SETTING,
    setting(
        "records",
        "string",
        "\"sections\" (the default), \"keys\": each key is a record, or \"rows\": each row of cells in a section is one.",
    ),
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
        "string|array",
        "How a value goes on in the next line: \"never\" (the default), \"backslash\", \"comma\" or \"indent\"; \"brackets\", by itself or beside one of them: until the bracket is closed with which it begins.",
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
    setting(
        "of",
        "string",
        "The records are rows in the value of this key; other rows are the lines that are no keys.",
    ),
    setting(
        "delimiter",
        "string",
        "For rows: the character between cells (by default `,`), `tab`, `blanks`, or `none` where a row is one cell.",
    ),
    HEADER,
    COLUMNS,
    SHORT_ROWS,
];

/// The settings that only rows have.
const OF_ROWS: [&str; 5] = ["of", "delimiter", HEADER.name, COLUMNS.name, SHORT_ROWS.name];

/// What the records are.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Records {
    Sections,
    Keys,
    Rows,
}

fn from_settings<'t>(
    reader: &mut TomlReader<'t>,
    table: &DeTable<'t>,
    _value: &Value<'t>,
) -> Option<Arc<dyn Format>> {
    reader.check_keys(table, SETTINGS, |_| false);
    let kinds = [("sections", Records::Sections), ("keys", Records::Keys), ("rows", Records::Rows)];
    let otherwise = if table.contains_key("of") { Records::Rows } else { Records::Sections };
    let records = word(reader, table, "records", &kinds).unwrap_or(otherwise);
    let sections = sections(reader, table, records == Records::Keys)?;
    if records == Records::Rows {
        return Some(Arc::new(rows(reader, table, sections)?));
    }
    for name in OF_ROWS {
        if let Some(value) = table.get(name) {
            let message = format!("`{name}` says something of rows, and the records are none");
            reader.problem(value.span(), message, "write `records = \"rows\"` if they are");
        }
    }
    Some(Arc::new(sections))
}

/// Rows that stand inside sections.
fn rows<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, mut sections: Ini) -> Option<IniRows> {
    let of = reader.text(table, "of").map(|text| text.into_inner());
    sections.others |= of.is_none();
    // A row ends with its line, so this stands nowhere in one.
    let none = Delimiter::Sign('\n');
    let is_none = table.get("delimiter").and_then(|value| value.get_ref().as_str()) == Some("none");
    let delimiter = if is_none { none } else { delimiter(reader, table, Delimiter::Sign(','))? };
    let cells = Delimited {
        delimiter,
        quoted: sections.quotes,
        comment: None,
        header: header(reader, table)?,
        trim: true,
        short_rows: reader.flag(table, SHORT_ROWS.name).unwrap_or(false),
    };
    Some(IniRows { sections, of, cells })
}

fn sections<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, by_key: bool) -> Option<Ini> {
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
    let (goes_on, brackets) = goes_on(reader, table);
    Some(Ini {
        by_key,
        section,
        head: reader.text(table, "head").map(|text| text.into_inner()),
        comments: marks(reader, table, &[";", "#"]),
        trailing_comments: reader.flag(table, "trailing").unwrap_or(false),
        assign: sign(reader, table, "assign").flatten().unwrap_or('='),
        quotes: reader.flag(table, "quotes").unwrap_or(true),
        goes_on,
        brackets,
        repeated_sections: word(reader, table, "repeated_sections", &repeated).unwrap_or(Repeated::Problem),
        repeated_keys: word(reader, table, "repeated_keys", &repeated).unwrap_or(Repeated::Problem),
        include: reader.text(table, "include").map(|text| text.into_inner()).filter(|word| !word.is_empty()),
        others: reader.flag(table, "others").unwrap_or(false),
        ignore_case: reader.flag(table, "ignore_case").unwrap_or(false),
    })
}

/// How a value goes on in the next line, and whether one in brackets does.
fn goes_on<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>) -> (GoesOn, bool) {
    const BRACKETS: &str = "brackets";
    let words = [
        ("never", GoesOn::Never),
        ("backslash", GoesOn::Backslash),
        ("comma", GoesOn::Comma),
        ("indent", GoesOn::Indent),
    ];
    let all = || words.map(|(word, _)| format!("\"{word}\"")).join(", ");
    let (mut found, mut brackets) = (GoesOn::Never, false);
    let Some(texts) = reader.texts(table, "goes_on") else { return (found, brackets) };
    for text in texts {
        let own = words.iter().find(|(word, _)| word == text.get_ref()).map(|(_, own)| *own);
        match own {
            _ if text.get_ref() == BRACKETS => brackets = true,
            Some(own) if found == GoesOn::Never => found = own,
            Some(_) => {
                let message = "a value goes on in one way, or in brackets, and here are more";
                reader.problem(text.span(), message, "remove one of them");
            }
            None => {
                let message = format!("`goes_on` cannot be \"{}\"", text.get_ref());
                reader.problem(text.span(), message, format!("it is one of {}, \"{BRACKETS}\"", all()));
            }
        }
    }
    (found, brackets)
}
