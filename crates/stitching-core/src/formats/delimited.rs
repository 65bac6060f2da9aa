//! Delimited text: a row a line, cells between delimiters.

mod editing;
mod rows;
mod settings;

use super::editing::Editor;
use super::{
    BlockState, Cell, Column, Fault, Form, Format, Ignore, OffStyle, RawRecord, RecordSink, Sharing,
};
use crate::Code;
use crate::text::{Span, Text, nearest_of};
use rows::BLANKS;
pub(super) use rows::{HeaderRow, Rows, UNWANTED};
pub(super) use settings::KIND;
pub(super) use settings::{COLUMNS, HEADER, SHORT_ROWS, delimiter, header};

/// The settings of a delimited file.
#[derive(Debug, Clone)]
pub struct Delimited {
    /// What stands between cells.
    pub delimiter: Delimiter,
    /// Whether a cell may stand in double quotes, with a quote inside written twice.
    pub quoted: bool,
    /// What begins a row that is only a note.
    pub comment: Option<String>,
    /// Where the names of the columns come from.
    pub header: Header,
    /// Whether blanks around a value do not belong to it.
    pub trim: bool,
    /// Whether a row may leave out cells at its end.
    pub short_rows: bool,
}

/// What stands between cells.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Delimiter {
    /// This character: two in a row have an empty cell between them.
    Sign(char),
    /// Any number of blanks and tabs. No cell is empty, unless it is quoted; a quoted cell ends on its line.
    Blanks,
}

/// Where the names of the columns come from.
#[derive(Debug, Clone)]
pub enum Header {
    /// The first row that is no comment.
    FirstRow,
    /// The schema; the file begins with data.
    Named(Vec<String>),
}

/// A column further apart than this from a missing one is not suggested in its place.
const NEAR: usize = 2;

impl Format for Delimited {
    fn read(&self, text: &Text<'_>, columns: &[Column<'_>], sink: &mut dyn RecordSink) {
        let mut state = BlockState::default();
        self.read_block(text, columns, &mut state, sink);
        self.end_blocks(&state, sink);
    }

    fn reads_blocks(&self) -> bool {
        self.is_line_by_line()
    }

    fn read_block(
        &self,
        text: &Text<'_>,
        columns: &[Column<'_>],
        state: &mut BlockState,
        sink: &mut dyn RecordSink,
    ) {
        let mut reader = Rows::new(self, text);
        if state.header.is_none() {
            let found = match &self.header {
                Header::Named(names) => {
                    let span = Span::new(text.body(), text.body());
                    Some(HeaderRow { names: names.clone(), places: Vec::new(), span })
                }
                Header::FirstRow => reader.header(sink),
            };
            // A block of nothing but notes may stand before the header.
            let Some(header) = found else { return };
            let positions = self.bind(&header, columns, sink);
            state.header = Some((header.names, positions));
        }
        let Some((names, positions)) = &state.header else { return };
        let last_wanted = positions.iter().rposition(|&column| column != UNWANTED).map_or(0, |at| at + 1);
        let mut cells = Vec::with_capacity(columns.len());
        while let Some(span) = reader.row(&positions[..last_wanted], &mut cells, sink) {
            self.check_count(reader.count, names, span, sink);
            sink.record(&RawRecord { span, cells: &cells });
        }
    }

    fn end_blocks(&self, state: &BlockState, sink: &mut dyn RecordSink) {
        if state.header.is_none() {
            let fault =
                Fault::new(Code::SYNTAX_ERROR, Span::default(), "the file is empty: it has no header row");
            sink.fault(fault.help("give it the header of the other files of its table, or delete it"));
        }
    }

    fn names(&self, text: &Text<'_>, give: &mut dyn FnMut(&str, Span)) {
        if let Header::FirstRow = &self.header
            && let Some(header) = Rows::new(self, text).header(&mut Ignore)
        {
            header.names.iter().zip(&header.places).for_each(|(name, place)| give(name, *place));
        }
    }

    fn has_names(&self) -> bool {
        matches!(self.header, Header::FirstRow)
    }

    fn columns(&self, text: &Text<'_>) -> Vec<String> {
        match &self.header {
            Header::Named(names) => names.clone(),
            Header::FirstRow => {
                Rows::new(self, text).header(&mut Ignore).map_or_else(Vec::new, |header| header.names)
            }
        }
    }

    fn encode(&self, cell: &Cell, column: &str, value: &str) -> Result<String, String> {
        let lines = value.contains(['\n', '\r']);
        let one_line = lines && self.delimiter == Delimiter::Blanks;
        if cell.form == Form::Doubled && !one_line {
            return Ok(value.replace('"', "\"\""));
        }
        let comment = self.comment.as_ref().is_some_and(|mark| value.starts_with(mark.as_str()));
        let blanks = self.trim && value.trim_matches(BLANKS) != value;
        let opens_quote = self.quoted && value.starts_with('"');
        let cut = match self.delimiter {
            Delimiter::Sign(sign) => value.contains(sign),
            Delimiter::Blanks => value.is_empty() || value.contains(BLANKS),
        };
        if !(cut || lines || comment || blanks || opens_quote) {
            return Ok(value.to_owned());
        }
        if self.quoted && !one_line {
            return Ok(format!("\"{}\"", value.replace('"', "\"\"")));
        }
        Err(match one_line {
            true => format!("the column `{column}` cannot hold it: a row ends with its line"),
            false => format!(
                "the column `{column}` cannot hold it: the file has no quotes, and it is empty, or has a delimiter, a line end, outer blanks or a comment mark in it"
            ),
        })
    }

    fn check_column(&self, column: &str) -> Result<(), String> {
        match &self.header {
            Header::Named(names) if !names.iter().any(|name| name == column) => {
                let nearest = nearest_of(column, names.iter().map(String::as_str));
                Err(match nearest.first() {
                    Some(name) => format!("`columns` has no `{column}`; the nearest is `{name}`"),
                    None => format!("`columns` has no `{column}`"),
                })
            }
            _ => super::no_parent(column, "a table"),
        }
    }

    fn read_at(
        &self,
        text: &Text<'_>,
        columns: &[Column<'_>],
        offsets: &[usize],
        sink: &mut dyn RecordSink,
    ) -> bool {
        if !self.is_line_by_line() {
            return false;
        }
        let mut reader = Rows::new(self, text);
        let span = Span::new(text.body(), text.body());
        let header = match &self.header {
            Header::Named(names) => HeaderRow { names: names.clone(), places: Vec::new(), span },
            Header::FirstRow => match reader.header(&mut Ignore) {
                Some(header) => header,
                None => return true,
            },
        };
        let positions = self.bind(&header, columns, &mut Ignore);
        let (bytes, mut cells) = (text.as_str().as_bytes(), Vec::with_capacity(columns.len()));
        for &offset in offsets {
            // Within the header, or in a row that is read already.
            if offset < reader.at {
                continue;
            }
            reader.at =
                memchr::memrchr(b'\n', &bytes[..offset]).map_or(text.body(), |at| at + 1).max(reader.at);
            if let Some(span) = reader.row(&positions, &mut cells, sink) {
                sink.record(&RawRecord { span, cells: &cells });
            }
        }
        true
    }

    fn sharing(&self) -> Sharing {
        Sharing::Never
    }

    fn editor<'t>(&'t self, text: &Text<'t>) -> Option<Editor<'t>> {
        Some(editing::editor(self, text))
    }

    fn off_style(&self) -> OffStyle {
        self.comment.clone().map_or(OffStyle::None, |mark| OffStyle::Lines(mark, true))
    }

    fn escape_bytes(&self) -> &'static [u8] {
        if self.quoted { b"\"" } else { b"" }
    }
}

impl Delimited {
    /// Whether a row always ends with its line: a quoted value may go over several.
    fn is_line_by_line(&self) -> bool {
        !self.quoted || self.delimiter == Delimiter::Blanks
    }

    /// Tells of a row with `count` cells that has too many of them, or too few.
    pub(in crate::formats) fn check_count(
        &self,
        count: usize,
        names: &[String],
        span: Span,
        sink: &mut dyn RecordSink,
    ) {
        if count == names.len() || (count < names.len() && self.short_rows) {
            return;
        }
        let message = format!("the row has {} and the header {}", counted(count, "column"), names.len());
        let fault = Fault::new(Code::COLUMN_COUNT, span, message);
        sink.fault(fault.help(match count.checked_sub(1).and_then(|last| names.get(last)) {
            Some(last) if count < names.len() => {
                format!("cells are missing; the last one that is there is `{last}`")
            }
            _ => "look for a delimiter too many, or one inside a value".to_owned(),
        }));
    }

    /// For each position in a row, which of the wanted columns it is.
    pub(in crate::formats) fn bind(
        &self,
        header: &HeaderRow,
        columns: &[Column<'_>],
        sink: &mut dyn RecordSink,
    ) -> Vec<u16> {
        let names = &header.names;
        let mut positions = vec![UNWANTED; names.len()];
        let is_known = |name: &str| columns.iter().any(|column| column.name == name);
        let unknown: Vec<(usize, &str)> =
            names.iter().map(String::as_str).enumerate().filter(|(_, name)| !is_known(name)).collect();
        let is_again = |position: &usize| names[..*position].contains(&names[*position]);
        let again: Vec<usize> =
            (0..names.len()).filter(|at| !names[*at].is_empty() && is_again(at)).collect();
        let lacks = |column: &&Column<'_>| !column.optional && names.iter().all(|name| name != column.name);
        // One name that is there twice while another is not there stands in its place.
        let in_place = match (again.as_slice(), columns.iter().filter(lacks).count()) {
            ([again], 1) => Some(*again),
            _ => None,
        };
        for (index, Column { name: column, optional, .. }) in columns.iter().enumerate() {
            let Some(position) = names.iter().position(|name| name == column) else {
                if *optional {
                    continue;
                }
                if let Some(again) = in_place {
                    let message = format!("the header has no column `{column}`");
                    let help = format!("it has `{}` twice: is one of them meant?", names[again]);
                    sink.fault(Fault::new(Code::MISSING_COLUMN, header.place(again), message).help(help));
                    continue;
                }
                let near = nearest_of(column, unknown.iter().map(|(_, name)| *name));
                let near = near.first().filter(|name| strsim::osa_distance(name, column) <= NEAR);
                let message = format!("the header has no column `{column}`");
                let at = near.and_then(|near| names.iter().position(|name| name == near));
                let at = at.map_or(header.span, |at| header.place(at));
                sink.fault(Fault::new(Code::MISSING_COLUMN, at, message).help(match near {
                    Some(name) => format!("it has `{name}`, which is nearly the same"),
                    None => "the schema describes this column; mark it `optional = true` if not all files have it"
                        .to_owned(),
                }));
                continue;
            };
            positions[position] = index as u16;
        }
        for position in again.into_iter().filter(|_| in_place.is_none()) {
            let message =
                format!("the header has the column `{}` twice; the first one is read", names[position]);
            sink.fault(Fault::new(Code::DUPLICATE_COLUMN, header.place(position), message));
        }
        positions
    }
}

fn counted(number: usize, word: &str) -> String {
    if number == 1 { format!("1 {word}") } else { format!("{number} {word}s") }
}
