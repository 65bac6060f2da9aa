//! Settings: what they are called and mean, and reading them from TOML with a place for every mistake.

mod toml_reader;
mod values;

pub(crate) use toml_reader::{TomlReader, Value, plain};
pub(crate) use values::{marks, name_template, note_marks, sign, template, word};

/// `text` as TOML has it (<https://toml.io/en/v1.0.0#string>).
pub(crate) fn toml_text(text: &str) -> String {
    toml_edit::Value::from(text).to_string().trim().to_owned()
}

/// `key` as TOML has it on the left of a sign: bare where it can be (<https://toml.io/en/v1.0.0#keys>).
pub(crate) fn toml_key(key: &str) -> String {
    let is_bare = |next: char| next.is_ascii_alphanumeric() || "_-".contains(next);
    if !key.is_empty() && key.chars().all(is_bare) { key.to_owned() } else { toml_text(key) }
}

/// The beginning of a text that may be very long, for a message.
pub(crate) fn shortened(text: &str) -> String {
    const SHOWN: usize = 80;
    match text.char_indices().nth(SHOWN) {
        Some((end, _)) => format!("{}...", &text[..end]),
        None => text.to_owned(),
    }
}

/// How a value of a schema names a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum MentionKind {
    /// It begins with the name: the table, a field of it, or the address of a record.
    Name,
    /// The same, as the target of a reference, which may have several.
    Reference,
    /// It is an expression that asks the table.
    Expression,
}

/// One setting.
#[derive(Debug, Clone, Copy)]
pub struct Setting {
    /// Its name.
    pub name: &'static str,
    /// What its value is, as JSON Schema types separated by `|`.
    pub kind: &'static str,
    /// What it says.
    pub about: &'static str,
}

/// A setting with its name, its kinds and what it says.
pub(crate) const fn setting(name: &'static str, kind: &'static str, about: &'static str) -> Setting {
    Setting { name, kind, about }
}
