//! Sections of keys: `[section]`, then `key = value` lines.
//!
//! A record is a section, with its keys as columns, or a single key, with the columns `{key}` and
//! `{value}`. The section's name is `{section}`, or the parts of a template (`[[reach {name}]]`); `{includes}` are the
//! files that its lines pull in, `{lines}` its lines that are no keys. A value
//! that goes over several lines has a cell for each, and so has a key that is written several times. Rows of cells that
//! stand inside sections are records of their own ([`rows`]).

mod brackets;
mod editing;
mod parser;
mod rows;
mod settings;

use super::editing::Editor;
use super::{Adds, Cell, Column, ColumnCell, Form, Format, Ignore, OffStyle, RecordSink};
use crate::text::{Span, Template, Text};
use parser::{IniParser, Line, Section, noted_at};
pub(super) use settings::KIND;
use std::collections::HashMap;

/// The settings of an INI file.
#[derive(Debug, Clone)]
pub struct Ini {
    /// Whether each key is a record, and not each section.
    pub by_key: bool,
    /// Which sections: a template of their names, whose parts are columns; `None` for all.
    pub section: Option<Template>,
    /// Under what name the keys before the first section go; `None` if there may be none.
    pub head: Option<String>,
    /// What begins a note.
    pub comments: Vec<String>,
    /// Whether a note may follow a value, with a blank before it.
    pub trailing_comments: bool,
    /// What stands between key and value.
    pub assign: char,
    /// Whether a value may stand in double quotes.
    pub quotes: bool,
    /// How a value goes on in the next line.
    pub goes_on: GoesOn,
    /// Whether a value that begins with a bracket, on its own line or the next, goes on until that is closed.
    pub brackets: bool,
    /// What it means that a section is there twice.
    pub repeated_sections: Repeated,
    /// What it means that a key is there twice in a section.
    pub repeated_keys: Repeated,
    /// The word that begins a line which pulls in another file.
    pub include: Option<String>,
    /// Whether other lines may stand among the keys.
    pub others: bool,
    /// Whether names are compared without case.
    pub ignore_case: bool,
}

/// How a value goes on in the next line.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum GoesOn {
    /// It does not.
    Never,
    /// After a backslash at the end of the line.
    Backslash,
    /// After a comma at the end of the line.
    Comma,
    /// As long as lines begin with a blank.
    Indent,
}

/// What it means that a name is there twice.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Repeated {
    /// A mistake.
    Problem,
    /// Each counts for itself.
    Apart,
    /// They are one.
    Merge,
    /// The last one counts.
    Last,
}

const SECTION: &str = "{section}";
const KEY: &str = "{key}";
const VALUE: &str = "{value}";
const INCLUDES: &str = "{includes}";
const LINES: &str = "{lines}";
const BLANKS: [char; 2] = [' ', '\t'];
/// How many sections are looked at to learn their keys.
const SAMPLE: usize = 200;

impl Format for Ini {
    fn read(&self, text: &Text<'_>, columns: &[Column<'_>], sink: &mut dyn RecordSink) {
        let mut reader = IniParser::new(self, text, columns);
        let gather = !self.by_key && matches!(self.repeated_sections, Repeated::Merge | Repeated::Last);
        let mut gathered: Vec<Section> = Vec::new();
        while let Some(section) = reader.section(sink) {
            if gather {
                gathered.push(section);
                continue;
            }
            reader.give(&section, sink);
            reader.spare = section;
        }
        for section in self.one_each(text.as_str(), gathered) {
            reader.give(&section, sink);
        }
    }

    fn names(&self, text: &Text<'_>, give: &mut dyn FnMut(&str, Span)) {
        let mut reader = IniParser::new(self, text, &[]);
        reader.keep_names = true;
        while let Some(section) = reader.section(&mut Ignore) {
            section.seen.iter().for_each(|name| give(name.of(text.as_str()), *name));
        }
    }

    fn has_names(&self) -> bool {
        !self.by_key
    }

    fn columns(&self, text: &Text<'_>) -> Vec<String> {
        if self.by_key {
            return [SECTION, KEY, VALUE].map(str::to_owned).to_vec();
        }
        let mut reader = IniParser::new(self, text, &[]);
        reader.keep_names = true;
        let mut names = self.name_columns();
        let of_lines = [(self.include.is_some(), INCLUDES), (self.others, LINES)];
        names.extend(of_lines.iter().filter(|(there, _)| *there).map(|(_, name)| (*name).to_owned()));
        for _ in 0..SAMPLE {
            let Some(section) = reader.section(&mut Ignore) else { break };
            for name in section.seen {
                let name = name.of(text.as_str());
                if !names.iter().any(|known| self.same(known, name)) {
                    names.push(name.to_owned());
                }
            }
        }
        names
    }

    fn encode(&self, cell: &Cell, column: &str, value: &str) -> Result<String, String> {
        if value.contains(['\n', '\r']) {
            return Err("it has a line end in it".to_owned());
        }
        let comment = |value: &str| self.comments.iter().any(|mark| value.starts_with(mark.as_str()));
        if let Some(part) = column.strip_prefix('{').and_then(|column| column.strip_suffix('}')) {
            match column {
                VALUE => {}
                LINES => {
                    let reader = IniParser::new(self, &Text::of_str(value), &[]);
                    return match reader.line(0, value.len(), false) {
                        Line::Other(span) if span.len() == value.len() => Ok(value.to_owned()),
                        _ => Err("it would be read as something else than such a line".to_owned()),
                    };
                }
                INCLUDES if cell.form == Form::Quoted && value.contains('"') => {
                    return Err("it has a quote in it".to_owned());
                }
                INCLUDES if value.is_empty() || value.trim_matches(BLANKS) != value => {
                    return Err("the name of a file cannot be so".to_owned());
                }
                INCLUDES => return Ok(value.to_owned()),
                KEY => {
                    let bad = value.is_empty() || value.trim_matches(BLANKS) != value;
                    if bad || value.contains(self.assign) || value.starts_with('[') || comment(value) {
                        return Err("the name of a key cannot hold it".to_owned());
                    }
                    return Ok(value.to_owned());
                }
                _ => {
                    let whole = column == SECTION
                        || self.section.as_ref().is_none_or(|section| {
                            let filled =
                                section.fill(|name| Some(if name == part { value } else { "x" }.to_owned()));
                            section.extract(&filled.unwrap_or_default(), part) == Some(value)
                        });
                    if value.contains(']') || value.trim_matches(BLANKS) != value || !whole {
                        return Err("the name of a section cannot hold it".to_owned());
                    }
                    return Ok(value.to_owned());
                }
            }
        }
        if cell.form == Form::Quoted {
            return if value.contains('"') {
                Err("it has a quote in it".to_owned())
            } else {
                Ok(value.to_owned())
            };
        }
        let quoted = self.quotes && value.starts_with('"');
        let noted = self.trailing_comments
            && (comment(value) || self.comments.iter().any(|mark| noted_at(value, mark).is_some()));
        let goes_on = (self.goes_on == GoesOn::Backslash && value.ends_with('\\'))
            || (self.brackets && value.starts_with(brackets::OPENING));
        if value.trim_matches(BLANKS) == value && !quoted && !noted && !goes_on {
            return Ok(value.to_owned());
        }
        match self.quotes && !value.contains('"') {
            true => Ok(format!("\"{value}\"")),
            false => Err(format!(
                "the key `{column}` cannot hold it: it begins or ends with a blank, or would be read as a note"
            )),
        }
    }

    fn knows(&self, column: &str) -> bool {
        self.check_column(column).is_ok()
    }

    fn check_column(&self, column: &str) -> Result<(), String> {
        let Some(part) = column.strip_prefix('{').and_then(|column| column.strip_suffix('}')) else {
            return match self.by_key {
                true => Err(format!(
                    "each key is a record here, so there is no column `{column}`; there are `{{section}}`, `{{key}}` and `{{value}}`"
                )),
                false => super::no_parent(column, "an INI file"),
            };
        };
        let known = column == SECTION
            || (column == INCLUDES && self.include.is_some() && !self.by_key)
            || (column == LINES && self.others && !self.by_key)
            || (self.by_key && [KEY, VALUE].contains(&column))
            || self.parts().iter().any(|name| name == part);
        if known { Ok(()) } else { Err(format!("an INI file has no column `{column}`")) }
    }

    fn off_style(&self) -> OffStyle {
        self.comments.first().cloned().map_or(OffStyle::None, |mark| OffStyle::Lines(mark, false))
    }

    fn escape_bytes(&self) -> &'static [u8] {
        b""
    }

    fn editor<'t>(&'t self, text: &Text<'t>) -> Option<Editor<'t>> {
        Some(editing::editor(self, text))
    }

    fn adds(&self) -> Option<Adds> {
        Some(Adds::Values)
    }

    fn absent(&self, column: &str) -> Option<&str> {
        self.head.as_deref().filter(|_| column == SECTION)
    }

    fn folds_columns(&self) -> bool {
        self.ignore_case && !self.by_key
    }
}

impl Ini {
    /// The parts of the template of sections.
    pub(super) fn parts(&self) -> &[String] {
        self.section.as_ref().map_or(&[], |section| section.parts())
    }

    /// The columns that tell of a section's name: the parts of its template, or the whole.
    fn name_columns(&self) -> Vec<String> {
        match self.parts() {
            [] => vec![SECTION.to_owned()],
            parts => parts.iter().map(|part| format!("{{{part}}}")).collect(),
        }
    }

    fn same(&self, a: &str, b: &str) -> bool {
        a == b || (self.ignore_case && a.to_lowercase() == b.to_lowercase())
    }

    /// Sections of one name made one: merged into the first, or the last one alone.
    fn one_each(&self, text: &str, sections: Vec<Section>) -> Vec<Section> {
        let mut out: Vec<Section> = Vec::with_capacity(sections.len());
        let mut places: HashMap<String, usize> = HashMap::new();
        for section in sections {
            let name = section.name.of(text);
            let name = if self.ignore_case { name.to_lowercase() } else { name.to_owned() };
            match places.get(&name) {
                None => {
                    places.insert(name, out.len());
                    out.push(section);
                }
                Some(&at) if self.repeated_sections == Repeated::Last => out[at] = section,
                Some(&at) => {
                    let named = |cell: &ColumnCell| cell.cell.span.end <= section.name.end;
                    out[at].cells.extend(section.cells.into_iter().filter(|cell| !named(cell)));
                }
            }
        }
        out
    }
}
