//! Lines described by templates: `{key} = "{text}"`, `include "{path}"`, `placed {kind} at {x} {y}`.
//!
//! The parts of the templates are the columns. A record is a line, of one shape or one of several, one of several things on a line,
//! or a fixed number of lines. Blank lines and notes are passed over; any other line that does not fit is a
//! fault, unless the table only draws on some lines of the file.

mod editing;
mod settings;

use super::editing::Editor;
use super::{Adds, Cell, Column, ColumnCell, Fault, Form, Format, OffStyle, RawRecord, RecordSink, Sharing};
use crate::Code;
use crate::text::{Span, Template, Text};
pub(super) use settings::KIND;
use std::ops::Range;

/// The settings of a file of like lines.
#[derive(Debug, Clone)]
pub struct Lines {
    /// What the lines of a record look like, one after another; mostly there is one.
    pub lines: Vec<Template>,
    /// Other shapes of the line of a record, each of which counts where none before it fits.
    pub alternatives: Vec<Template>,
    /// Marks at the start of a line (after blanks) that make it a note.
    pub comments: Vec<String>,
    /// The marks around a note over several lines, which begins its line.
    pub block_comment: Option<(String, String)>,
    /// Whether a note may stand behind what the template describes, with a blank before it.
    pub trailing_comments: bool,
    /// Whether lines of other shapes are none of the table's business.
    pub others: bool,
    /// Whether what the template describes may stand anywhere in a line, and several times.
    pub anywhere: bool,
    /// Whether a record of one line may go on over the next ones until it fits.
    pub over_lines: bool,
    /// Lines whose parts hold for all records after them, up to the next line of that shape.
    pub carried: Vec<Template>,
}

/// A record goes on over at most so many lines.
const MOST_LINES: usize = 200;

impl Format for Lines {
    fn read(&self, text: &Text<'_>, columns: &[Column<'_>], sink: &mut dyn RecordSink) {
        let mut reader = LineParser::new(self, text, columns);
        while let Some((start, end)) = reader.next_line() {
            reader.records(start, end, sink);
        }
        if let (Some(start), Some((open, close))) = (reader.unclosed, &self.block_comment) {
            let span = Span::new(start, start + open.len());
            let fault = Fault::new(Code::SYNTAX_ERROR, span, "the note is never closed");
            sink.fault(fault.help(format!("close it with `{close}`")));
        }
    }

    fn reads_blocks(&self) -> bool {
        self.lines.len() == 1 && !self.over_lines && self.carried.is_empty() && self.block_comment.is_none()
    }

    fn read_at(
        &self,
        text: &Text<'_>,
        columns: &[Column<'_>],
        offsets: &[usize],
        sink: &mut dyn RecordSink,
    ) -> bool {
        if !self.reads_blocks() {
            return false;
        }
        let mut reader = LineParser::new(self, text, columns);
        for &offset in offsets {
            // In a line that is read already.
            if offset < reader.at {
                continue;
            }
            let before = memchr::memrchr(b'\n', &reader.content.as_bytes()[..offset]);
            reader.at = before.map_or(0, |at| at + 1).max(reader.at);
            let line = reader.raw_line().and_then(|(start, end)| reader.content_of(start, end));
            if let Some((start, end)) = line {
                reader.records(start, end, sink);
            }
        }
        true
    }

    fn columns(&self, _text: &Text<'_>) -> Vec<String> {
        let mut out: Vec<String> = Vec::new();
        for part in self.parts() {
            if !out.iter().any(|own| own == part) {
                out.push(part.to_owned());
            }
        }
        out
    }

    fn encode(&self, _cell: &Cell, column: &str, value: &str) -> Result<String, String> {
        let own = self.templates().filter(|template| template.parts().iter().any(|part| part == column));
        for template in own {
            let filled = template.fill(|part| Some(if part == column { value } else { "x" }.to_owned()));
            let filled = filled.unwrap_or_default();
            // The reader leaves out blanks around a line.
            let filled = filled.trim();
            let starts_comment = self.comments.iter().any(|mark| filled.starts_with(mark.as_str()));
            let line_end = value.contains(['\n', '\r']) && !self.over_lines;
            let shape = self.shapes().position(|shape| shape.source() == template.source());
            let found = match shape {
                _ if self.anywhere => template.find_all(filled).first().and_then(|found| {
                    let part = template.parts().iter().position(|part| part == column)?;
                    filled.get(found.get(part)?.clone()?)
                }),
                Some(shape) if self.lines.len() == 1 => self.value_in(filled, shape, column),
                _ => template.extract(filled, column),
            };
            if line_end || starts_comment || found != Some(value) {
                return Err(format!(
                    "a line of the shape `{}` cannot hold it as {column}",
                    template.source()
                ));
            }
        }
        Ok(value.to_owned())
    }

    fn has_part(&self, name: &str) -> bool {
        self.parts().any(|part| part == name)
    }

    fn check_column(&self, column: &str) -> Result<(), String> {
        if self.has_part(column) {
            return Ok(());
        }
        let parts: Vec<String> =
            self.columns(&Text::of_str("")).iter().map(|part| format!("`{part}`")).collect();
        Err(format!("the line template has no part `{column}`; its parts are {}", parts.join(", ")))
    }

    fn editor<'t>(&'t self, text: &Text<'t>) -> Option<Editor<'t>> {
        Some(editing::editor(self, text))
    }

    fn sharing(&self) -> Sharing {
        Sharing::Freely
    }

    fn adds(&self) -> Option<Adds> {
        // What stands above a record may tell a part of it, and then its place matters.
        (self.carried.is_empty() && !self.anywhere).then_some(Adds::Records)
    }

    fn off_style(&self) -> OffStyle {
        self.comments.first().cloned().map_or(OffStyle::None, |mark| OffStyle::Lines(mark, false))
    }

    fn escape_bytes(&self) -> &'static [u8] {
        b""
    }
}

impl Lines {
    fn templates(&self) -> impl Iterator<Item = &Template> {
        self.carried.iter().chain(&self.lines).chain(&self.alternatives)
    }

    fn parts(&self) -> impl Iterator<Item = &str> {
        self.templates().flat_map(|template| template.parts()).map(String::as_str)
    }

    /// The shapes that a record of one line may have, in the order in which they are tried.
    fn shapes(&self) -> impl Iterator<Item = &Template> {
        self.lines.iter().take(1).chain(&self.alternatives)
    }

    /// The shape of a line, which may have a note behind it.
    fn shape_of(&self, line: &str) -> Option<LineShape> {
        self.shapes().enumerate().find_map(|(number, template)| {
            let (places, end) = self.matches(template, line)?;
            Some(LineShape { number, places, end })
        })
    }

    /// What a reader finds as `column` in a line that is to have the shape of this number; nothing where that has another shape.
    fn value_in<'l>(&self, line: &'l str, shape: usize, column: &str) -> Option<&'l str> {
        // The reader leaves out blanks around a line.
        let line = line.trim();
        let is_note = self.comments.iter().any(|mark| line.starts_with(mark.as_str()));
        let is_line = self.over_lines || !line.contains(['\n', '\r']);
        let found = self.shape_of(line).filter(|found| found.number == shape && !is_note && is_line)?;
        let part = self.shapes().nth(shape)?.parts().iter().position(|part| part == column)?;
        line.get(found.places.get(part)?.clone()?)
    }

    /// The places of the parts of a line, and where what they are of ends: a note may stand behind it.
    fn matches(&self, template: &Template, line: &str) -> Option<(Places, usize)> {
        if !self.trailing_comments {
            return Some((template.matches(line)?, line.len()));
        }
        let marks = self.comments.iter().flat_map(|mark| line.match_indices(mark.as_str()));
        let mut ends: Vec<usize> =
            marks.map(|(at, _)| at).filter(|at| line[..*at].ends_with([' ', '\t'])).collect();
        ends.push(line.len());
        ends.sort_unstable();
        // The first mark with which it fits is where the note begins.
        ends.into_iter().find_map(|end| {
            let content = line[..end].trim_end();
            Some((template.matches(content)?, content.len()))
        })
    }

    fn help(&self) -> String {
        match self.comments.first() {
            Some(mark) => format!("a line that is a note begins with `{mark}`"),
            None => "look for a quote, sign or part that is missing".to_owned(),
        }
    }
}

/// Where the parts of a template stand, in bytes; nothing for one that is left out.
type Places = Vec<Option<Range<usize>>>;

/// Which shape a line has.
struct LineShape {
    /// Its position among the shapes.
    number: usize,
    places: Places,
    /// Where it ends in the line, in bytes.
    end: usize,
}

/// For each part of a template, the wanted column.
type WantedColumns = Vec<Option<u16>>;

struct LineParser<'r> {
    format: &'r Lines,
    content: &'r str,
    at: usize,
    lines: Vec<WantedColumns>,
    alternatives: Vec<WantedColumns>,
    carried: Vec<WantedColumns>,
    /// The cells that the last line of each carried shape gave.
    held: Vec<Vec<ColumnCell>>,
    cells: Vec<ColumnCell>,
    /// Where a note begins that is never closed.
    unclosed: Option<usize>,
    /// Up to where lines are known not to fit by themselves, in bytes; and whether the line that begins there does.
    tried: usize,
    fits: bool,
}

impl<'r> LineParser<'r> {
    fn new(format: &'r Lines, text: &Text<'r>, columns: &[Column<'_>]) -> LineParser<'r> {
        let wanted = |template: &Template| {
            let at =
                |part: &String| columns.iter().position(|column| column.name == *part).map(|at| at as u16);
            template.parts().iter().map(at).collect()
        };
        LineParser {
            format,
            content: text.as_str(),
            at: text.body(),
            lines: format.lines.iter().map(wanted).collect(),
            alternatives: format.alternatives.iter().map(wanted).collect(),
            carried: format.carried.iter().map(wanted).collect(),
            held: vec![Vec::new(); format.carried.len()],
            cells: Vec::new(),
            unclosed: None,
            tried: 0,
            fits: false,
        }
    }

    /// The next line that is neither blank nor a note, without blanks around it.
    fn next_line(&mut self) -> Option<(usize, usize)> {
        loop {
            let (start, end) = self.raw_line()?;
            if self.pass_note(start, end) {
                continue;
            }
            if let Some(line) = self.content_of(start, end) {
                return Some(line);
            }
        }
    }

    /// Passes over a note over several lines, with the rest of its last line, if one begins in the line.
    fn pass_note(&mut self, start: usize, end: usize) -> bool {
        let Some((open, close)) = &self.format.block_comment else { return false };
        let shown = self.content[start..end].trim_start();
        if !shown.starts_with(open.as_str()) {
            return false;
        }
        let inside = end - shown.len() + open.len();
        match memchr::memmem::find(&self.content.as_bytes()[inside..], close.as_bytes()) {
            Some(found) => {
                let rest = inside + found + close.len();
                let end = memchr::memchr(b'\n', &self.content.as_bytes()[rest..]);
                self.at = end.map_or(self.content.len(), |end| rest + end + 1);
            }
            None => {
                self.unclosed = Some(end - shown.len());
                self.at = self.content.len();
            }
        }
        true
    }

    /// A line without blanks around it; `None` for a blank one and a note.
    fn content_of(&self, start: usize, end: usize) -> Option<(usize, usize)> {
        let shown = self.content[start..end].trim_start();
        if shown.is_empty() || self.format.comments.iter().any(|mark| shown.starts_with(mark.as_str())) {
            return None;
        }
        let start = end - shown.len();
        Some((start, start + shown.trim_end().len()))
    }

    /// The records that begin in a line.
    fn records(&mut self, start: usize, end: usize, sink: &mut dyn RecordSink) {
        if self.carry(start, end) {
            return;
        }
        if self.format.anywhere {
            self.several(start, end, sink);
        } else if self.format.lines.len() > 1 {
            self.shape(start, end, sink);
        } else {
            self.single(start, end, sink);
        }
    }

    fn raw_line(&mut self) -> Option<(usize, usize)> {
        let start = self.at;
        if start >= self.content.len() {
            return None;
        }
        let bytes = &self.content.as_bytes()[start..];
        let end = memchr::memchr(b'\n', bytes).map_or(self.content.len(), |at| start + at);
        self.at = end + 1;
        Some((start, end))
    }

    /// Takes note of a line whose parts hold for what follows.
    fn carry(&mut self, start: usize, end: usize) -> bool {
        for (number, template) in self.format.carried.iter().enumerate() {
            if let Some(found) = template.matches(&self.content[start..end]) {
                let own = &self.carried[number];
                // What another shape of line said of the same part holds no longer.
                let is_said = |cell: &ColumnCell| own.contains(&Some(cell.column));
                self.held.iter_mut().for_each(|held| held.retain(|cell| !is_said(cell)));
                push(&mut self.held[number], found, own, start);
                return true;
            }
        }
        false
    }

    fn give(&mut self, span: Span, sink: &mut dyn RecordSink) {
        self.cells.extend(self.held.iter().flatten());
        sink.record(&RawRecord { span, cells: &self.cells });
    }

    /// A record of one line, or of as many as it takes until it fits.
    fn single(&mut self, start: usize, end: usize, sink: &mut dyn RecordSink) {
        let template = &self.format.lines[0];
        let found = self.format.shape_of(&self.content[start..end]);
        let mut found = found.map(|shape| (shape.number, shape.places));
        let mut end = end;
        if found.is_none() && self.format.over_lines && template.may_begin(&self.content[start..end]) {
            let mark = self.at;
            // A line that fits by itself is the next record.
            let limit = self.next_that_fits();
            for _ in 0..MOST_LINES {
                let Some((next, next_end)) = self.raw_line().filter(|(next, _)| *next < limit) else { break };
                let last = next + self.content[next..next_end].trim_end().len();
                if template.may_end(&self.content[next..last]) {
                    found = template.matches(&self.content[start..last]).map(|places| (0, places));
                }
                if found.is_some() {
                    end = last;
                    break;
                }
            }
            if found.is_none() {
                self.at = mark;
            }
        }
        let Some((shape, found)) = found else {
            if !self.format.others {
                let shapes: Vec<String> =
                    self.format.shapes().map(|shape| format!("`{}`", shape.source())).collect();
                let message = match &shapes[..] {
                    [alone] => format!("this line does not have the shape {alone}"),
                    all => format!("this line has none of the shapes {}", all.join(", ")),
                };
                let fault = Fault::new(Code::SYNTAX_ERROR, Span::new(start, end), message);
                sink.fault(fault.help(self.format.help()));
            }
            return;
        };
        self.cells.clear();
        let wanted = if shape == 0 { &self.lines[0] } else { &self.alternatives[shape - 1] };
        push(&mut self.cells, found, wanted, start);
        self.give(Span::new(start, end), sink);
    }

    /// Where the next line begins that fits by itself, among so many as a record may have; or else where these end. Each
    /// line is tried once.
    fn next_that_fits(&mut self) -> usize {
        let mark = self.at;
        if self.tried < mark {
            (self.tried, self.fits) = (mark, false);
        }
        self.at = self.tried;
        let mut lines = 0;
        while !self.fits && lines < MOST_LINES {
            let Some((start, end)) = self.raw_line() else { break };
            lines += 1;
            self.fits = self.format.lines[0].matches(self.content[start..end].trim()).is_some();
            self.tried = if self.fits { start } else { self.at };
        }
        self.at = mark;
        self.tried
    }

    fn several(&mut self, start: usize, end: usize, sink: &mut dyn RecordSink) {
        let found = self.format.lines[0].find_all(&self.content[start..end]);
        if found.is_empty() && !self.format.others {
            let message = format!("nothing in this line has the shape `{}`", self.format.lines[0].source());
            sink.fault(
                Fault::new(Code::SYNTAX_ERROR, Span::new(start, end), message).help(self.format.help()),
            );
        }
        for mut parts in found {
            let whole = parts.pop().flatten().unwrap_or(0..0);
            self.cells.clear();
            push(&mut self.cells, parts, &self.lines[0], start);
            self.give(Span::new(start + whole.start, start + whole.end), sink);
        }
    }

    /// A record of several lines, one for each template. In it a blank line is a line like others.
    fn shape(&mut self, start: usize, end: usize, sink: &mut dyn RecordSink) {
        let count = self.format.lines.len();
        let mut cells = Vec::new();
        let (mut at, mut last) = ((start, end), end);
        for number in 0..count {
            let template = &self.format.lines[number];
            let Some(found) = template.matches(&self.content[at.0..at.1]) else {
                if number == 0 && self.format.others {
                    return;
                }
                let message = format!(
                    "line {} of {count} of this record does not have the shape `{}`",
                    number + 1,
                    template.source()
                );
                let fault = Fault::new(Code::SYNTAX_ERROR, Span::new(at.0, at.1), message);
                sink.fault(fault.help("look for a line that is missing in the record, or one too many"));
                return self.skip_record(count - number - 1);
            };
            push(&mut cells, found, &self.lines[number], at.0);
            last = at.1;
            if number + 1 < count {
                let Some((next, next_end)) = self.inner_line() else {
                    let message = format!("the record has {}, and should have {count}", counted(number + 1));
                    let fault = Fault::new(Code::SYNTAX_ERROR, Span::new(start, end), message);
                    sink.fault(fault.help("the file ends too early"));
                    return;
                };
                at = (next, next_end);
            }
        }
        self.cells = cells;
        self.give(Span::new(start, last), sink);
    }

    /// The next line within a record: notes are passed over, blank lines are not.
    fn inner_line(&mut self) -> Option<(usize, usize)> {
        loop {
            let (start, end) = self.raw_line()?;
            if self.pass_note(start, end) {
                continue;
            }
            let shown = self.content[start..end].trim();
            if !self.format.comments.iter().any(|mark| shown.starts_with(mark.as_str())) {
                let lead = self.content[start..end].len() - self.content[start..end].trim_start().len();
                let start = if shown.is_empty() { start } else { start + lead };
                return Some((start, start + shown.len()));
            }
        }
    }

    /// Passes over the rest of a record: to the next blank line, or as many lines as it should have.
    fn skip_record(&mut self, left: usize) {
        let mark = self.at;
        for _ in 0..left * 2 + 2 {
            let Some((start, end)) = self.raw_line() else { break };
            if self.content[start..end].trim().is_empty() {
                return;
            }
        }
        self.at = mark;
        for _ in 0..left {
            self.raw_line();
        }
    }
}

fn push(cells: &mut Vec<ColumnCell>, found: Places, wanted: &[Option<u16>], start: usize) {
    for (range, column) in found.into_iter().zip(wanted) {
        if let (Some(range), Some(column)) = (range, *column) {
            let span = Span::new(start + range.start, start + range.end);
            cells.push(ColumnCell::new(column, Cell { span, form: Form::Plain }));
        }
    }
}

fn counted(lines: usize) -> String {
    if lines == 1 { "1 line".to_owned() } else { format!("{lines} lines") }
}
