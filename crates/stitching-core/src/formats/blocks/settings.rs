//! The settings of the format.

use super::{BlockPath, Blocks, Nesting, Taken};
use crate::formats::registry::{FormatKind, KIND_SETTING};
use crate::settings::{Setting, TomlReader, Value, note_marks, setting, sign};
use std::sync::Arc;
use toml::de::DeTable;

impl Blocks {
    /// What a schema calls the format.
    pub const NAME: &'static str = "blocks";
}

/// The format as a schema names it.
pub(in crate::formats) static KIND: FormatKind = FormatKind {
    name: Blocks::NAME,
    about: "Nested scripts, with braces or by indentation.",
    settings: SETTINGS,
    read: |reader, table, value| Some(Arc::new(from_settings(reader, table, value)?)),
};

const SETTINGS: &[Setting] = &[
    KIND_SETTING,
    setting(
        "records",
        "string",
        "The path to the blocks that are records, such as \"convoys/*\"; \".\" for the file as a whole.",
    ),
    setting("entries", "string", "Instead: the path to the entries that are records, such as \"limits/*\"."),
    setting("items", "string", "Instead: the path to the blocks whose bare words are records."),
    setting(
        "nesting",
        "string",
        "What tells which lines stand inside which: \"braces\" (the default), or \"indent\": how far to the right they begin. Items of lists stand behind `-` then.",
    ),
    setting(
        "assign",
        "string",
        "The sign between key and value (by default `=`, with nesting by indentation `:`); empty if a line is a key and its values.",
    ),
    setting(
        "comment",
        "string|array",
        "What begins a note; by default `#`. `/*` begins one that ends with `*/`; of others that go over several lines give both marks with a blank between.",
    ),
    setting("separators", "string", "Signs between entries that count as blanks; by default `,` and `;`."),
    setting(
        "lists",
        "string|array",
        "The brackets around lists of words, such as \"()\" or [\"()\", \"[]\"]; a list may go on over several lines.",
    ),
    setting(
        "bare_entries",
        "boolean",
        "A word with others behind it on its line is an entry too, beside those with the sign of `assign`.",
    ),
    setting("escapes", "boolean", "A backslash escapes within quotes."),
    setting("over_lines", "boolean", "A quoted text may go on over several lines."),
    setting("include", "string", "The word that begins a line which pulls in another file."),
];

fn from_settings<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, value: &Value<'t>) -> Option<Blocks> {
    reader.check_keys(table, SETTINGS, |_| false);
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
    let nesting = nesting(reader, table)?;
    let (comments, block_comment) = note_marks(reader, table, &["#"])?;
    let separators = reader.text(table, "separators").map(|text| text.into_inner());
    if let (Nesting::Indent, Some(_), Some(value)) = (nesting, &block_comment, table.get("comment")) {
        let message = "a note over several lines cannot stand where indentation nests";
        reader.problem(
            value.span(),
            message,
            "give the marks that begin a note as far as the end of its line",
        );
    }
    let assign =
        sign(reader, table, "assign").unwrap_or(Some(if nesting == Nesting::Indent { ':' } else { '=' }));
    let bare_entries = reader.flag(table, "bare_entries").unwrap_or(false);
    if let (Some(value), true, None) = (table.get("bare_entries"), bare_entries, assign) {
        let message = "`bare_entries` means nothing where `assign` is empty: all entries are such";
        reader.problem(value.span(), message, "remove one of them");
    }
    let lists = brackets(reader, table, assign)?;
    Some(Blocks {
        records,
        taken,
        nesting,
        assign,
        comments,
        block_comment,
        separators: separators
            .unwrap_or_else(|| ",;".to_owned())
            .chars()
            .filter(|next| !"{}\"\n".contains(*next))
            .filter(|next| !lists.iter().any(|(open, close)| open == next || close == next))
            .collect(),
        lists,
        bare_entries,
        escapes: reader.flag(table, "escapes").unwrap_or(false),
        over_lines: reader.flag(table, "over_lines").unwrap_or(false),
        include: reader.text(table, "include").map(|text| text.into_inner()).filter(|word| !word.is_empty()),
    })
}

/// What tells which lines stand inside which; `None` if something is wrong with that.
fn nesting<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>) -> Option<Nesting> {
    let Some(given) = reader.text(table, "nesting") else { return Some(Nesting::Braces) };
    let nesting = match given.get_ref().as_str() {
        "braces" => Nesting::Braces,
        "indent" => Nesting::Indent,
        other => {
            let message = format!("`nesting` cannot be \"{other}\"");
            reader.problem(given.span(), message, "it is \"braces\" or \"indent\"");
            return None;
        }
    };
    for name in ["separators", "lists", "bare_entries", "include"] {
        if let (Nesting::Indent, Some(value)) = (nesting, table.get(name)) {
            let message = format!("`{name}` means nothing where indentation nests");
            reader.problem(value.span(), message, "leave it out");
        }
    }
    Some(nesting)
}

/// The brackets of `lists`; `None` if something is wrong with them.
fn brackets<'t>(
    reader: &mut TomlReader<'t>,
    table: &DeTable<'t>,
    assign: Option<char>,
) -> Option<Vec<(char, char)>> {
    let mut out: Vec<(char, char)> = Vec::new();
    for given in reader.texts(table, "lists").unwrap_or_default() {
        let signs: Vec<char> = given.get_ref().chars().collect();
        let is_free = |sign: char| {
            sign.is_ascii_punctuation()
                && !"{}\"".contains(sign)
                && Some(sign) != assign
                && !out.iter().any(|(open, close)| *open == sign || *close == sign)
        };
        match signs[..] {
            [open, close] if open != close && is_free(open) && is_free(close) => out.push((open, close)),
            _ => {
                let message = format!("`{}` is no pair of brackets", given.get_ref());
                let help = "write the sign that opens a list and the one that closes it, such as \"()\"";
                reader.problem(given.span(), message, help);
                return None;
            }
        }
    }
    Some(out)
}
