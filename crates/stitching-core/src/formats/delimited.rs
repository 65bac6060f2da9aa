//! Delimited text: a row a line, cells between delimiters.

mod editing;
mod settings;

use super::editing::Editor;
use super::{
    BlockState, Cell, Column, ColumnCell, Fault, Form, Format, Ignore, OffStyle, RawRecord, RecordSink,
    Sharing,
};
use crate::Code;
use crate::text::{Span, Text, nearest_of};
use memchr::{memchr, memchr2};
pub(super) use settings::KIND;

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

/// What `trim` takes off a value.
const BLANKS: [char; 2] = [' ', '\t'];
/// Marks a position in the row whose column was not asked for.
const UNWANTED: u16 = u16::MAX;
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
            if reader.count > names.len() || (reader.count < names.len() && !self.short_rows) {
                let message =
                    format!("the row has {} and the header {}", counted(reader.count, "column"), names.len());
                sink.fault(Fault::new(Code::COLUMN_COUNT, span, message).help(
                    if reader.count < names.len() {
                        format!(
                            "cells are missing; the last one that is there is `{}`",
                            names[reader.count - 1]
                        )
                    } else {
                        "look for a delimiter too many, or one inside a value".to_owned()
                    },
                ));
            }
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

    fn escape_byte(&self) -> Option<u8> {
        self.quoted.then_some(b'"')
    }
}

impl Delimited {
    /// Whether a row always ends with its line: a quoted value may go over several.
    fn is_line_by_line(&self) -> bool {
        !self.quoted || self.delimiter == Delimiter::Blanks
    }

    /// For each position in a row, which of the wanted columns it is.
    fn bind(&self, header: &HeaderRow, columns: &[Column<'_>], sink: &mut dyn RecordSink) -> Vec<u16> {
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

/// The row that names the columns.
struct HeaderRow {
    names: Vec<String>,
    /// Where each name stands; nothing if the schema gives the names.
    places: Vec<Span>,
    span: Span,
}

impl HeaderRow {
    /// Where the name at `position` stands.
    fn place(&self, position: usize) -> Span {
        self.places.get(position).copied().unwrap_or(self.span)
    }
}

/// Walks over the rows of a text.
struct Rows<'t> {
    text: &'t str,
    at: usize,
    delimiter: Between,
    quoted: bool,
    trim: bool,
    comment: Option<&'t [u8]>,
    /// How many cells the last row had.
    count: usize,
}

/// The delimiter as bytes; nearly always just one.
enum Between {
    Byte(u8),
    Text(Box<memchr::memmem::Finder<'static>>, usize),
    Blanks,
}

impl Between {
    fn new(delimiter: Delimiter) -> Between {
        let Delimiter::Sign(sign) = delimiter else { return Between::Blanks };
        let mut buffer = [0; 4];
        match sign.encode_utf8(&mut buffer).as_bytes() {
            [byte] => Between::Byte(*byte),
            bytes => Between::Text(Box::new(memchr::memmem::Finder::new(bytes).into_owned()), bytes.len()),
        }
    }

    #[inline]
    fn find(&self, bytes: &[u8]) -> Option<usize> {
        match self {
            Between::Byte(byte) => memchr(*byte, bytes),
            Between::Text(finder, _) => finder.find(bytes),
            Between::Blanks => memchr2(b' ', b'\t', bytes),
        }
    }

    #[inline]
    fn len(&self) -> usize {
        match self {
            Between::Byte(_) | Between::Blanks => 1,
            Between::Text(_, len) => *len,
        }
    }

    fn count(&self, bytes: &[u8]) -> usize {
        match self {
            Between::Byte(byte) => memchr::memchr_iter(*byte, bytes).count(),
            Between::Text(finder, _) => finder.find_iter(bytes).count(),
            Between::Blanks => memchr::memchr2_iter(b' ', b'\t', bytes).count(),
        }
    }
}

impl<'t> Rows<'t> {
    fn new(format: &'t Delimited, text: &Text<'t>) -> Rows<'t> {
        Rows {
            text: text.as_str(),
            at: text.body(),
            delimiter: Between::new(format.delimiter),
            quoted: format.quoted,
            trim: format.trim,
            comment: format.comment.as_ref().map(|mark| mark.as_bytes()),
            count: 0,
        }
    }

    /// The names in the first row that is no comment, and the row's place.
    fn header(&mut self, sink: &mut dyn RecordSink) -> Option<HeaderRow> {
        let every: Vec<u16> = (0..UNWANTED).collect();
        let mut cells = Vec::new();
        let span = self.row(&every, &mut cells, sink)?;
        let name = |cell: &ColumnCell| super::decode(self.text, &cell.cell).text.trim().to_owned();
        let places = cells.iter().map(|cell| cell.cell.span).collect();
        Some(HeaderRow { names: cells.iter().map(name).collect(), places, span })
    }

    /// Reads the next row that is neither blank nor a comment; `cells` gets those whose position
    /// is wanted. Gives the row's place without its line ending, `None` at the end.
    fn row(
        &mut self,
        wanted: &[u16],
        cells: &mut Vec<ColumnCell>,
        sink: &mut dyn RecordSink,
    ) -> Option<Span> {
        let bytes = self.text.as_bytes();
        loop {
            if self.at >= bytes.len() {
                return None;
            }
            let start = self.at;
            let line_end = memchr(b'\n', &bytes[start..]).map_or(bytes.len(), |at| start + at);
            let end = without_return(bytes, start, line_end);
            let by_blanks = matches!(self.delimiter, Between::Blanks);
            let first = if by_blanks { after_blanks(bytes, start, end) } else { start };
            let comment = self.comment.is_some_and(|mark| bytes[first..].starts_with(mark));
            if comment || bytes[first..end].iter().all(|byte| *byte == b' ') {
                self.at = line_end + 1;
                continue;
            }
            cells.clear();
            self.count = 0;
            if by_blanks {
                self.blank_row(first, end, wanted, cells, sink);
                self.at = line_end + 1;
                return Some(Span::new(first, without_blanks(bytes, first, end)));
            }
            if self.quoted && memchr(b'"', &bytes[start..end]).is_some() {
                return Some(self.quoted_row(start, wanted, cells, sink));
            }
            self.plain_row(start, end, wanted, cells);
            self.at = line_end + 1;
            return Some(Span::new(start, end));
        }
    }

    fn plain_row(&mut self, start: usize, end: usize, wanted: &[u16], cells: &mut Vec<ColumnCell>) {
        match self.delimiter {
            Between::Byte(byte) => self.byte_row(byte, start, end, wanted, cells),
            Between::Text(..) | Between::Blanks => self.text_row(start, end, wanted, cells),
        }
    }

    /// A row whose delimiter is one byte. Cells are short, so a call of `memchr` for each would cost
    /// more than looking at the row eight bytes at a time.
    fn byte_row(
        &mut self,
        delimiter: u8,
        start: usize,
        end: usize,
        wanted: &[u16],
        cells: &mut Vec<ColumnCell>,
    ) {
        let line = &self.text.as_bytes()[start..end];
        let (mut from, mut count) = (start, 0);
        let (words, rest) = line.as_chunks::<8>();
        let masks = words.iter().map(|word| equal_bytes(*word, delimiter)).enumerate();
        let mut last = [!delimiter; 8];
        last[..rest.len()].copy_from_slice(rest);
        for (at, mut mask) in masks.chain([(words.len(), equal_bytes(last, delimiter))]) {
            while mask != 0 {
                let cell_end = start + at * 8 + mask.trailing_zeros() as usize / 8;
                mask &= mask - 1;
                let Some(&column) = wanted.get(count) else {
                    self.count = count + 1 + self.delimiter.count(&line[from - start..]);
                    return;
                };
                count += 1;
                if column != UNWANTED {
                    let cell = Cell { span: self.trimmed(from, cell_end), form: Form::Plain };
                    cells.push(ColumnCell::new(column, cell));
                }
                from = cell_end + 1;
            }
        }
        self.last_cell(from, end, count, wanted, cells);
    }

    fn text_row(&mut self, start: usize, end: usize, wanted: &[u16], cells: &mut Vec<ColumnCell>) {
        let bytes = &self.text.as_bytes()[..end];
        let (mut from, mut count) = (start, 0);
        while let Some(at) = self.delimiter.find(&bytes[from..]) {
            if let Some(&column) = wanted.get(count).filter(|column| **column != UNWANTED) {
                let cell = Cell { span: self.trimmed(from, from + at), form: Form::Plain };
                cells.push(ColumnCell::new(column, cell));
            }
            count += 1;
            from += at + self.delimiter.len();
        }
        self.last_cell(from, end, count, wanted, cells);
    }

    /// The cell behind the last delimiter, which is the one at position `count`.
    fn last_cell(
        &mut self,
        from: usize,
        end: usize,
        count: usize,
        wanted: &[u16],
        cells: &mut Vec<ColumnCell>,
    ) {
        if let Some(&column) = wanted.get(count).filter(|column| **column != UNWANTED) {
            cells.push(ColumnCell::new(column, Cell { span: self.trimmed(from, end), form: Form::Plain }));
        }
        self.count = count + 1;
    }

    /// A row whose cells any number of blanks separate, from its first cell at `start` on.
    fn blank_row(
        &mut self,
        start: usize,
        end: usize,
        wanted: &[u16],
        cells: &mut Vec<ColumnCell>,
        sink: &mut dyn RecordSink,
    ) {
        let bytes = &self.text.as_bytes()[..end];
        let mut at = start;
        while at < end {
            let (cell, next) =
                if self.quoted && bytes[at] == b'"' {
                    let close = quote_within(bytes, at + 1);
                    if close.is_none() {
                        let fault = Fault::new(
                            Code::SYNTAX_ERROR,
                            Span::new(at, at + 1),
                            "the quote is not closed on its line",
                        );
                        sink.fault(fault.help(
                            "close it at the end of the value; a quote inside a value is written twice",
                        ));
                    }
                    let close = close.unwrap_or(end);
                    (Cell { span: Span::new(at + 1, close), form: Form::Doubled }, (close + 1).min(end))
                } else {
                    let next = memchr2(b' ', b'\t', &bytes[at..]).map_or(end, |len| at + len);
                    (Cell { span: Span::new(at, next), form: Form::Plain }, next)
                };
            if let Some(&column) = wanted.get(self.count).filter(|column| **column != UNWANTED) {
                cells.push(ColumnCell::new(column, cell));
            }
            self.count += 1;
            let behind = after_blanks(bytes, next, end);
            if behind == next && next < end {
                let fault =
                    Fault::new(Code::SYNTAX_ERROR, Span::new(next, end), "text after the closing quote");
                sink.fault(fault.help("a blank stands between two cells"));
            }
            at = behind;
        }
    }

    /// Reads a row in which some cell is quoted, so that it may go over several lines.
    fn quoted_row(
        &mut self,
        start: usize,
        wanted: &[u16],
        cells: &mut Vec<ColumnCell>,
        sink: &mut dyn RecordSink,
    ) -> Span {
        let bytes = self.text.as_bytes();
        let mut from = start;
        loop {
            let cell;
            let mut next;
            let quote = self.past_blanks(from);
            if bytes.get(quote) == Some(&b'"') {
                from = quote;
                let close = self.closing_quote(from + 1);
                let end = close.unwrap_or_else(|| line_end(bytes, from));
                cell = Cell { span: Span::new(from + 1, end), form: Form::Doubled };
                next = close.map_or(end, |at| at + 1);
                if close.is_none() {
                    let span = Span::new(from, from + 1);
                    let fault = Fault::new(Code::SYNTAX_ERROR, span, "the quote is never closed");
                    sink.fault(
                        fault.help(
                            "close it at the end of the value; a quote inside a value is written twice",
                        ),
                    );
                }
                next = self.past_blanks(next);
                let rest_end = self.cell_end(next);
                let stray = without_return(bytes, next, rest_end);
                if stray > next {
                    let fault = Fault::new(
                        Code::SYNTAX_ERROR,
                        Span::new(next, stray),
                        "text after the closing quote",
                    );
                    sink.fault(fault.help("a quote inside a quoted value is written twice"));
                }
                next = rest_end;
            } else {
                next = self.cell_end(from);
                let end = without_return(bytes, from, next);
                cell = Cell { span: self.trimmed(from, end), form: Form::Plain };
            }
            if let Some(&column) = wanted.get(self.count).filter(|column| **column != UNWANTED) {
                cells.push(ColumnCell::new(column, cell));
            }
            self.count += 1;
            if next >= bytes.len() || bytes[next] == b'\n' {
                self.at = next + 1;
                return Span::new(start, without_return(bytes, start, next));
            }
            from = next + self.delimiter.len();
        }
    }

    /// Where a value begins that is looked for from `from` on, if blanks around it do not count.
    fn past_blanks(&self, from: usize) -> usize {
        if !self.trim {
            return from;
        }
        let rest = &self.text.as_bytes()[from..];
        let delimiter = |byte: u8| matches!(self.delimiter, Between::Byte(own) if own == byte);
        let blank = |byte: &&u8| BLANKS.contains(&char::from(**byte)) && !delimiter(**byte);
        let blanks = rest.iter().take_while(blank);
        from + blanks.count()
    }

    /// Where the unquoted rest of a cell that goes on at `from` ends: at a delimiter or line end.
    fn cell_end(&self, from: usize) -> usize {
        let bytes = self.text.as_bytes();
        let found = match &self.delimiter {
            Between::Byte(byte) => memchr2(*byte, b'\n', &bytes[from..]).map(|at| from + at),
            Between::Text(..) | Between::Blanks => {
                let end = line_end(bytes, from);
                Some(self.delimiter.find(&bytes[from..end]).map_or(end, |at| from + at))
            }
        };
        found.unwrap_or(bytes.len())
    }

    /// The quote that ends a value which begins at `from`, doubled quotes passed over.
    ///
    /// A quote on a later line with no delimiter or line end behind it is the beginning of some
    /// other value: then this one is not closed, and only its own row is lost.
    fn closing_quote(&self, from: usize) -> Option<usize> {
        let bytes = self.text.as_bytes();
        let at = quote_within(bytes, from)?;
        let rest = &bytes[at + 1..];
        let ends = rest.is_empty() || rest[0] == b'\n' || rest.starts_with(b"\r\n");
        let closes = ends || self.delimiter.find(&rest[..rest.len().min(4)]) == Some(0);
        (closes || memchr(b'\n', &bytes[from..at]).is_none()).then_some(at)
    }

    #[inline]
    fn trimmed(&self, start: usize, end: usize) -> Span {
        if !self.trim {
            return Span { start: start as u32, end: end as u32 };
        }
        let value = &self.text[start..end];
        let lead = value.len() - value.trim_start_matches(BLANKS).len();
        let trail = value.len() - value.trim_end_matches(BLANKS).len();
        Span::new(start + lead, (start + lead).max(end - trail))
    }
}

/// The top bit of each byte of `word` that is `wanted`, the first byte lowest.
#[inline]
fn equal_bytes(word: [u8; 8], wanted: u8) -> u64 {
    const ONES: u64 = u64::MAX / 0xFF;
    const LOW_BITS: u64 = ONES * 0x7F;
    let differs = u64::from_le_bytes(word) ^ (ONES * u64::from(wanted));
    // No carry leaves a byte here, so that each byte is judged by itself.
    !(((differs & LOW_BITS) + LOW_BITS) | differs | LOW_BITS)
}

fn line_end(bytes: &[u8], from: usize) -> usize {
    memchr(b'\n', &bytes[from..]).map_or(bytes.len(), |at| from + at)
}

fn without_return(bytes: &[u8], start: usize, end: usize) -> usize {
    if end > start && bytes[end - 1] == b'\r' { end - 1 } else { end }
}

/// Where the blanks end that begin at `start`.
fn after_blanks(bytes: &[u8], start: usize, end: usize) -> usize {
    let blanks = bytes[start..end].iter().take_while(|byte| BLANKS.contains(&char::from(**byte)));
    start + blanks.count()
}

/// Where what begins at `start` ends without the blanks before `end`.
fn without_blanks(bytes: &[u8], start: usize, end: usize) -> usize {
    let blanks = bytes[start..end].iter().rev().take_while(|byte| BLANKS.contains(&char::from(**byte)));
    end - blanks.count()
}

/// The quote that ends a value which begins at `from`, doubled quotes passed over.
fn quote_within(bytes: &[u8], from: usize) -> Option<usize> {
    let mut at = from;
    loop {
        at += memchr(b'"', &bytes[at..])?;
        if bytes.get(at + 1) != Some(&b'"') {
            return Some(at);
        }
        at += 2;
    }
}

fn counted(number: usize, word: &str) -> String {
    if number == 1 { format!("1 {word}") } else { format!("{number} {word}s") }
}
