//! Walking over the rows of a delimited text.

use super::{Delimited, Delimiter};
use crate::Code;
use crate::formats::{Cell, ColumnCell, Fault, Form, RecordSink, decode};
use crate::text::{Span, Text};
use memchr::{memchr, memchr2};
use std::sync::LazyLock;

/// What `trim` takes off a value.
pub(super) const BLANKS: [char; 2] = [' ', '\t'];
/// Marks a position in the row whose column was not asked for.
pub(in crate::formats) const UNWANTED: u16 = u16::MAX;

/// The row that names the columns.
pub(in crate::formats) struct HeaderRow {
    pub names: Vec<String>,
    /// Where each name stands; nothing if the schema gives the names.
    pub places: Vec<Span>,
    pub span: Span,
}

impl HeaderRow {
    /// Where the name at `position` stands.
    pub fn place(&self, position: usize) -> Span {
        self.places.get(position).copied().unwrap_or(self.span)
    }
}

/// Walks over the rows of a text.
pub(in crate::formats) struct Rows<'t> {
    text: &'t str,
    /// The byte at which it goes on.
    pub at: usize,
    delimiter: Between,
    quoted: bool,
    trim: bool,
    comment: Option<&'t [u8]>,
    /// How many cells the last row had.
    pub count: usize,
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
    pub fn new(format: &'t Delimited, text: &Text<'t>) -> Rows<'t> {
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

    /// Walks over the rows from `start` to `end` of a text, in bytes; places are those in the text.
    pub fn within(format: &'t Delimited, text: &'t str, start: usize, end: usize) -> Rows<'t> {
        Rows { at: start, ..Rows::new(format, &Text::of_str(&text[..end])) }
    }

    /// The names in the first row that is no comment, and the row's place.
    pub fn header(&mut self, sink: &mut dyn RecordSink) -> Option<HeaderRow> {
        // Made once: there may be a million files with a header each.
        static EVERY: LazyLock<Vec<u16>> = LazyLock::new(|| (0..UNWANTED).collect());
        let mut cells = Vec::new();
        let span = self.row(&EVERY, &mut cells, sink)?;
        let name = |cell: &ColumnCell| decode(self.text, &cell.cell).text.trim().to_owned();
        let places = cells.iter().map(|cell| cell.cell.span).collect();
        Some(HeaderRow { names: cells.iter().map(name).collect(), places, span })
    }

    /// Reads the next row that is neither blank nor a comment; `cells` gets those whose position
    /// is wanted. Gives the row's place without its line ending, `None` at the end.
    pub fn row(
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
