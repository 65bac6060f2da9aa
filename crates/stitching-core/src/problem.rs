//! Something found wrong in the user's data, with its place and what would put it right.

use crate::Code;
use crate::help::Help;
use crate::text::{EditSet, LineTable, Span};
use serde::{Deserialize, Serialize};

/// How much a problem matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Severity {
    /// The game will fail on it, or ignore it; `check` ends with status 1.
    Error,
    /// Probably not meant.
    Warning,
}

impl Severity {
    /// The word used in all outputs.
    pub fn word(self) -> &'static str {
        match self {
            Severity::Error => "error",
            Severity::Warning => "warning",
        }
    }
}

/// A place in a file: lines and columns are 1-based, columns count Unicode characters.
#[derive(Debug, Clone, Default, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
pub struct Place {
    /// Relative to the layer's root, `/` between folders. For project and schema files, relative to
    /// the project's folder.
    pub path: String,
    /// The layer's name; empty for project and schema files.
    pub layer: String,
    /// 1-based; 0 when the problem is about the file as a whole.
    pub line: usize,
    /// 1-based, in characters; 0 as for `line`.
    pub column: usize,
    /// First byte of the span in the file, 0-based.
    pub start: u32,
    /// One past the last byte in the file.
    pub end: u32,
    /// The span in the text, which is in UTF-8 whatever the file is in.
    pub in_text: Span,
    /// The text of the whole line, without its ending, for showing; cut around the place if long.
    pub source: String,
    /// Where `source` begins, as a 0-based byte offset into the text.
    pub source_start: u32,
}

/// Longer lines are cut around the place when they are kept for showing.
const SHOWN: usize = 400;

impl Place {
    /// The place of `span` in `text`, the whole content of the file at `path` in `layer`, a file of UTF-8.
    pub fn at(text: &str, lines: &LineTable, span: Span, path: &str, layer: &str) -> Place {
        let (line, column) = lines.line_column(text, span.start);
        let whole = lines.line(text, line).unwrap_or("");
        let line_start = whole.as_ptr() as usize - text.as_ptr() as usize;
        let (mut from, mut to) = (0, whole.len());
        if whole.len() > SHOWN {
            let at = (span.start as usize).saturating_sub(line_start).min(whole.len());
            from = whole.floor_char_boundary(at.saturating_sub(SHOWN / 4));
            to = whole.ceil_char_boundary((at + SHOWN).min(whole.len()));
        }
        Place {
            path: path.to_owned(),
            layer: layer.to_owned(),
            line,
            column,
            start: span.start,
            end: span.end,
            in_text: span,
            source: whole[from..to].to_owned(),
            source_start: Span::new(line_start + from, 0).start,
        }
    }

    /// The file as a whole.
    pub fn file(path: &str, layer: &str) -> Place {
        Place { path: path.to_owned(), layer: layer.to_owned(), ..Place::default() }
    }
}

/// Another place that explains the problem.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Related {
    /// What is to be seen there.
    pub message: String,
    /// Where.
    pub place: Place,
}

/// A change that would put the problem right.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Fix {
    /// What it does, as an order: "remove the comma".
    pub title: String,
    /// The edits, in the file the problem is in.
    pub edits: EditSet,
    /// Whether the file then means what it is sure to mean; otherwise someone should look at it first.
    pub is_safe: bool,
}

/// Something found wrong.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Problem {
    /// The name of the check, as `stitching explain` knows it.
    pub code: Code,
    /// The rule of the schema that is not met, if it is about one.
    pub rule: Option<String>,
    /// How much it matters.
    pub severity: Severity,
    /// Lower case, names in backticks, found and expected.
    pub message: String,
    /// Where it is.
    pub place: Place,
    /// What to do, or the nearest names.
    pub help: Option<Help>,
    /// The table of the record, if it is about one.
    pub table: Option<String>,
    /// The record's key, as written in addresses.
    pub key: Option<String>,
    /// The record's name as the player sees it.
    pub label: Option<String>,
    /// The field.
    pub field: Option<String>,
    /// The value found.
    pub value: Option<String>,
    /// Places that explain it.
    pub related: Vec<Related>,
    /// What would put it right.
    pub fixes: Vec<Fix>,
    /// What is most likely meant by the name that is wrong: the path of a file, or the column of a field.
    pub meant: Option<String>,
    /// Whether a base layer has the same problem by itself.
    pub inherited: bool,
    /// Why one lives with it, if one does.
    pub accepted: Option<String>,
}

impl Problem {
    /// A problem with nothing but a code, a message and a place; the rest is filled in as known.
    pub fn new(code: Code, severity: Severity, message: impl Into<String>, place: Place) -> Problem {
        Problem {
            code,
            rule: None,
            severity,
            message: message.into(),
            place,
            help: None,
            table: None,
            key: None,
            label: None,
            field: None,
            value: None,
            related: Vec::new(),
            fixes: Vec::new(),
            meant: None,
            inherited: false,
            accepted: None,
        }
    }

    /// Whether it is one of the mod's own, or caused by it, with which one does not live.
    pub fn counts(&self) -> bool {
        !self.inherited && self.accepted.is_none()
    }

    /// What it is called: the rule that is not met, or else the name of the check.
    pub fn name(&self) -> &str {
        self.rule.as_deref().unwrap_or(self.code.as_str())
    }

    /// The order in which problems are listed: by file, place, code, message.
    pub fn order(&self) -> impl Ord + '_ {
        let place = &self.place;
        (&place.path, &place.layer, place.start, place.end, self.code, &self.message)
    }
}
