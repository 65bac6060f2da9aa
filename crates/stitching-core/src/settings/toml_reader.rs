//! Reading TOML with a place for every mistake.

use super::{MentionKind, Setting};
use crate::Code;
use crate::help::Help;
use crate::problem::{Place, Problem, Severity};
use crate::text::{LineTable, Span, nearest_of};
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A value with its place.
pub(crate) type Value<'t> = Spanned<DeValue<'t>>;

/// One TOML file being read, and what is wrong with it so far.
pub(crate) struct TomlReader<'t> {
    code: Code,
    path: String,
    text: &'t str,
    lines: LineTable,
    /// What is wrong, in the order in which it was found.
    pub problems: Vec<Problem>,
    /// Where tables of the schema are named: the value in the file, in bytes, the table, and how.
    pub table_names: Vec<(std::ops::Range<usize>, String, MentionKind)>,
}

impl<'t> TomlReader<'t> {
    /// Starts on `text`, the content of the file shown as `path`; problems get `code`.
    pub fn new(code: Code, path: &str, text: &'t str) -> TomlReader<'t> {
        TomlReader {
            code,
            path: path.to_owned(),
            text,
            lines: LineTable::new(text, 0),
            problems: Vec::new(),
            table_names: Vec::new(),
        }
    }

    /// Parses the file; syntax errors become problems, and what could be read is given.
    pub fn parse(&mut self) -> DeTable<'t> {
        let (table, errors) = DeTable::parse_recoverable(self.text);
        for error in errors {
            let span = error.span().unwrap_or(0..0);
            self.problem(span, error.message().to_owned(), "this is not valid TOML; see the line it names");
        }
        table.into_inner()
    }

    /// The place of a byte range.
    pub fn place(&self, span: std::ops::Range<usize>) -> Place {
        Place::at(self.text, &self.lines, Span::new(span.start, span.end), &self.path, "")
    }

    /// Notes a mistake.
    pub fn problem(
        &mut self,
        span: std::ops::Range<usize>,
        message: impl Into<String>,
        help: impl Into<Help>,
    ) {
        let mut problem = Problem::new(self.code, Severity::Error, message, self.place(span));
        problem.help = Some(help.into()).filter(|help: &Help| !help.is_empty());
        self.problems.push(problem);
    }

    /// Notes that the value at `span` names a table of the schema.
    pub fn names_table(&mut self, span: std::ops::Range<usize>, table: &str, kind: MentionKind) {
        self.table_names.push((span, table.to_owned(), kind));
    }

    /// The path of the file, as it is shown.
    pub fn path(&self) -> &str {
        &self.path
    }

    /// Notes each key of `table` that is not among `known`, unless `also` takes it.
    pub fn check_keys(&mut self, table: &DeTable<'_>, known: &[Setting], also: impl Fn(&str) -> bool) {
        for key in table.keys() {
            let name: &str = key.get_ref();
            if known.iter().any(|doc| doc.name == name) || also(name) {
                continue;
            }
            let names = known.iter().map(|doc| doc.name);
            let help = match nearest_of(name, names.clone()).first() {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("known here: {}", names.collect::<Vec<_>>().join(", ")),
            };
            self.problem(key.span(), format!("there is no setting `{name}` here"), help);
        }
    }

    /// Notes that `value` is not what was expected.
    pub fn wrong_kind(&mut self, value: &Value<'_>, name: &str, expected: &str) {
        let found = match value.get_ref() {
            DeValue::String(_) => "text",
            DeValue::Integer(_) => "a whole number",
            DeValue::Float(_) => "a number",
            DeValue::Boolean(_) => "true or false",
            DeValue::Datetime(_) => "a date",
            DeValue::Array(_) => "a list",
            DeValue::Table(_) => "a table",
        };
        self.problem(value.span(), format!("`{name}` must be {expected}, and is {found}"), "");
    }

    /// A table inside `parent`.
    pub fn table<'v>(&mut self, parent: &'v DeTable<'t>, name: &str) -> Option<&'v DeTable<'t>> {
        let value = parent.get(name)?;
        let table = value.get_ref().as_table();
        if table.is_none() {
            self.wrong_kind(value, name, "a table");
        }
        table
    }

    /// The tables of a list headed `[[name]]`, each with its place.
    pub fn tables<'v>(
        &mut self,
        parent: &'v DeTable<'t>,
        name: &str,
    ) -> Vec<(std::ops::Range<usize>, &'v DeTable<'t>)> {
        let Some(given) = parent.get(name) else { return Vec::new() };
        let Some(list) = given.get_ref().as_array() else {
            self.wrong_kind(given, name, &format!("a list of tables, each headed [[{name}]]"));
            return Vec::new();
        };
        let mut out = Vec::new();
        for value in list.iter() {
            match value.get_ref().as_table() {
                Some(body) => out.push((value.span(), body)),
                None => self.wrong_kind(value, name, &format!("a table headed [[{name}]]")),
            }
        }
        out
    }

    /// A text and its place.
    pub fn text(&mut self, parent: &DeTable<'t>, name: &str) -> Option<Spanned<String>> {
        let value = parent.get(name)?;
        match value.get_ref().as_str() {
            Some(text) => Some(Spanned::new(value.span(), text.to_owned())),
            None => {
                self.wrong_kind(value, name, "text in quotes");
                None
            }
        }
    }

    /// A truth value; `false` if it is not there.
    pub fn flag(&mut self, parent: &DeTable<'t>, name: &str) -> Option<bool> {
        let value = parent.get(name)?;
        let flag = value.get_ref().as_bool();
        if flag.is_none() {
            self.wrong_kind(value, name, "true or false");
        }
        flag
    }

    /// One text, or a list of texts; numbers count as texts.
    pub fn texts(&mut self, parent: &DeTable<'t>, name: &str) -> Option<Vec<Spanned<String>>> {
        let value = parent.get(name)?;
        let items: Vec<&Value<'_>> = match value.get_ref() {
            DeValue::Array(items) => items.iter().collect(),
            _ => vec![value],
        };
        let mut out = Vec::with_capacity(items.len());
        for item in items {
            let text = match item.get_ref() {
                DeValue::String(text) => text.clone().into_owned(),
                DeValue::Integer(number) => number.to_string(),
                DeValue::Float(number) => number.to_string(),
                _ => {
                    self.wrong_kind(item, name, "text, or a list of texts");
                    continue;
                }
            };
            out.push(Spanned::new(item.span(), text));
        }
        Some(out)
    }
}

/// The texts without their places.
pub(crate) fn plain(texts: Vec<Spanned<String>>) -> Vec<String> {
    texts.into_iter().map(Spanned::into_inner).collect()
}
