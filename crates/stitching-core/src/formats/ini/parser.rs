//! Reading the lines of an INI file, section by section.

use super::brackets::Bracketed;
use super::{BLANKS, GoesOn, INCLUDES, Ini, KEY, LINES, Repeated, SECTION, VALUE};
use crate::Code;
use crate::formats::{Cell, Column, ColumnCell, Fault, Form, Names, RawRecord, RecordSink};
use crate::text::{Span, Text};
use memchr::memchr;

/// A section while it is read.
#[derive(Debug, Default)]
pub(super) struct Section {
    /// What stands between the brackets; where the first key stands for those before any section.
    pub name: Span,
    pub span: Span,
    pub cells: Vec<ColumnCell>,
    /// The keys so far, each up to the end of its value, if they are asked for.
    pub seen: Vec<Span>,
    /// Whether it has any key.
    has_keys: bool,
}

/// What a line is.
pub(super) enum Line {
    /// Blank, or a note.
    Nothing,
    /// The inside of the brackets.
    Section(Span),
    /// The same, without its closing bracket.
    OpenSection(Span),
    /// The key and its value with its quotes.
    Key(Span, Span),
    /// More of the value before.
    More(Span),
    /// The name of the file that it pulls in.
    Include(Span),
    /// What is neither a section nor a key.
    Other(Span),
    Wrong(Span, String),
}

pub(super) struct IniParser<'r> {
    pub(super) format: &'r Ini,
    pub(super) text: &'r str,
    at: usize,
    /// The wanted columns.
    wanted: Names<'r>,
    /// What a note may begin with, by byte.
    note_starts: [bool; 256],
    /// For each part of the section's template, and for its whole, the column.
    parts: Vec<Option<u16>>,
    whole: Option<u16>,
    key: Option<u16>,
    value: Option<u16>,
    includes: Option<u16>,
    lines: Option<u16>,
    /// The next section's name, if its line has been read.
    pending: Option<(Span, usize)>,
    started: bool,
    pub keep_names: bool,
    pub spare: Section,
}

impl<'r> IniParser<'r> {
    pub fn new(format: &'r Ini, text: &Text<'r>, columns: &[Column<'r>]) -> IniParser<'r> {
        let at = |name: &str| columns.iter().position(|column| column.name == name).map(|at| at as u16);
        let plain = columns.iter().enumerate().filter(|(_, column)| !column.name.starts_with('{'));
        IniParser {
            format,
            text: text.as_str(),
            at: text.body(),
            wanted: Names::new(plain.map(|(at, column)| (column.name, at as u16))),
            note_starts: std::array::from_fn(|byte| {
                format.comments.iter().any(|mark| mark.as_bytes().first() == Some(&(byte as u8)))
            }),
            parts: format.parts().iter().map(|part| at(&format!("{{{part}}}"))).collect(),
            whole: at(SECTION),
            key: at(KEY),
            value: at(VALUE),
            includes: at(INCLUDES),
            lines: at(LINES),
            pending: None,
            started: false,
            keep_names: false,
            spare: Section::default(),
        }
    }

    /// Reads the next section of interest.
    pub fn section(&mut self, sink: &mut dyn RecordSink) -> Option<Section> {
        loop {
            let mut section = std::mem::take(&mut self.spare);
            section.cells.clear();
            section.seen.clear();
            section.has_keys = false;
            let head = !self.started;
            self.started = true;
            let wanted = if head {
                section.name = Span::new(self.at, self.at);
                section.span = section.name;
                let name = self.format.head.as_deref();
                let fits = |name: &str| {
                    self.format.section.as_ref().is_none_or(|section| section.matches(name).is_some())
                };
                self.format.by_key && fits(name.unwrap_or("")) || name.is_some_and(fits)
            } else {
                let (name, start) = self.pending.take()?;
                section.name = name;
                section.span = Span::new(start, name.end as usize + 1);
                self.name_cells(&mut section)
            };
            self.keys(&mut section, wanted, head, sink);
            if wanted && (!head || section.has_keys) {
                return Some(section);
            }
            self.spare = section;
            self.pending.as_ref()?;
        }
    }

    /// The cells of the section's name; gives whether the section is wanted at all.
    fn name_cells(&self, section: &mut Section) -> bool {
        let form = Form::Plain;
        let Some(template) = &self.format.section else {
            let column = self.whole.map(|column| ColumnCell::new(column, Cell { span: section.name, form }));
            section.cells.extend(column);
            return true;
        };
        let Some(parts) = template.matches(section.name.of(self.text)) else { return false };
        if let Some(column) = self.whole.filter(|column| !self.parts.contains(&Some(*column))) {
            section.cells.push(ColumnCell::new(column, Cell { span: section.name, form }));
        }
        for (range, column) in parts.into_iter().zip(&self.parts) {
            if let (Some(range), Some(column)) = (range, *column) {
                let start = section.name.start as usize;
                let span = Span::new(start + range.start, start + range.end);
                section.cells.push(ColumnCell::new(column, Cell { span, form }));
            }
        }
        true
    }

    /// Reads the keys up to the next section.
    fn keys(&mut self, section: &mut Section, wanted: bool, head: bool, sink: &mut dyn RecordSink) {
        let names = section.cells.len();
        let mut last: Option<u16> = None;
        let mut reported = false;
        self.wanted.next = 0;
        while self.at < self.text.len() {
            let start = self.at;
            let bytes = self.text.as_bytes();
            let line_end = memchr(b'\n', &bytes[start..]).map_or(bytes.len(), |at| start + at);
            let end = if line_end > start && bytes[line_end - 1] == b'\r' { line_end - 1 } else { line_end };
            self.at = line_end + 1;
            if last.is_none()
                && let Some((key, value)) = self.plain_line(start, end)
            {
                section.has_keys = true;
                section.span.end = value.end;
                if wanted {
                    last = Some(self.key_value(section, names, key, value, sink))
                        .filter(|_| self.continues(value));
                    continue;
                }
                if !head {
                    continue;
                }
            }
            match self.line(start, end, last.is_some()) {
                Line::Nothing => {}
                Line::OpenSection(name) => {
                    let fault = Fault::new(Code::SYNTAX_ERROR, name, "the section's name has no `]`");
                    sink.fault(fault.help("close the name with `]`"));
                    self.pending = Some((name, (name.start as usize).saturating_sub(1).max(start)));
                    return;
                }
                Line::Section(name) => {
                    let open = self.text[start..].find('[').map_or(start, |at| start + at);
                    let rest = self.text[name.end as usize..end].trim_start_matches(BLANKS);
                    if name.of(self.text).starts_with('[') || rest.starts_with("]]") {
                        let fault =
                            Fault::new(Code::SYNTAX_ERROR, name, "the section's name has a bracket too many");
                        sink.fault(fault.help("write `[` before the name and `]` behind it"));
                    }
                    self.pending = Some((name, open));
                    return;
                }
                Line::Include(span) => {
                    last = None;
                    self.line_cell(section, self.includes, wanted, span);
                }
                Line::Other(span) => {
                    last = None;
                    self.line_cell(section, self.lines, wanted, span);
                }
                Line::Wrong(span, message) => {
                    last = None;
                    sink.fault(Fault::new(Code::SYNTAX_ERROR, span, message).help(self.help()));
                }
                Line::More(span) => {
                    section.span.end = span.end;
                    if let Some(key) =
                        section.seen.last_mut().filter(|_| self.format.by_key && last.is_some())
                    {
                        key.end = span.end;
                    }
                    if let Some(column) = last.filter(|column| *column != u16::MAX) {
                        self.value_cell(section, column, span);
                    }
                    last = last.filter(|_| self.continues(span));
                }
                Line::Key(key, value) => {
                    let may_be_there = self.format.head.is_some() || self.format.section.is_some();
                    if head && !wanted && !self.format.by_key && !may_be_there && !reported {
                        let message =
                            format!("the key `{}` stands before the first section", key.of(self.text));
                        let help = "move it into a section; if the game reads such keys, write `head = \"NAME\"` in the table's format";
                        sink.fault(Fault::new(Code::SYNTAX_ERROR, key, message).help(help));
                        reported = true;
                    }
                    if wanted && self.is_open_quote(value) {
                        let quote = Span { start: value.start, end: value.start + 1 };
                        let fault =
                            Fault::new(Code::SYNTAX_ERROR, quote, "the quote is not closed on its line");
                        sink.fault(fault.help("close it with `\"`"));
                    }
                    section.has_keys = true;
                    if let Some(value) = self.bracketed(value, self.at) {
                        self.bracketed_value(section, names, key, value, wanted, sink);
                        last = None;
                        continue;
                    }
                    section.span.end = section.span.end.max(value.end.max(key.end));
                    last = wanted.then(|| self.key_value(section, names, key, value, sink));
                    last = last.filter(|_| self.continues(value));
                }
            }
        }
    }

    /// Takes a key whose value stands between brackets, and goes on behind it.
    fn bracketed_value(
        &mut self,
        section: &mut Section,
        names: usize,
        key: Span,
        value: Bracketed,
        wanted: bool,
        sink: &mut dyn RecordSink,
    ) {
        self.at = value.next;
        section.span.end = section.span.end.max(value.end as u32);
        if !wanted {
            return;
        }
        if let Some(fault) = value.fault {
            sink.fault(fault);
        }
        let mut lines = value.lines.into_iter();
        let first = lines.next().unwrap_or_else(|| Span::new(value.end - 1, value.end - 1));
        let column = self.key_value(section, names, key, first, sink);
        lines.for_each(|line| self.value_cell(section, column, line));
        if let Some(key) = section.seen.last_mut().filter(|_| self.format.by_key) {
            key.end = value.end as u32;
        }
    }

    /// Whether a value begins with a quote that is nowhere closed.
    fn is_open_quote(&self, value: Span) -> bool {
        let raw = value.of(self.text);
        let may_be = self.format.quotes && self.format.goes_on == GoesOn::Never;
        let is_odd = || raw.bytes().filter(|byte| *byte == b'"').count() % 2 == 1;
        let is_doubled = raw.len() > 2 && (raw.starts_with("\"\"") || raw.ends_with("\"\""));
        may_be && raw.strip_prefix('"').is_some_and(|rest| !rest.contains('"') || (is_doubled && is_odd()))
    }

    /// Tells of a value that begins with another sign directly behind the one between key and value.
    fn second_sign(&self, value: Span, sink: &mut dyn RecordSink) {
        let (assign, at) = (self.format.assign as u8, value.start as usize);
        let bytes = self.text.as_bytes();
        if bytes.get(at) == Some(&assign) && at > 0 && bytes[at - 1] == assign && !value.is_empty() {
            let span = Span { start: value.start, end: value.start + 1 };
            let message = format!("a `{}` too many", self.format.assign);
            sink.fault(Fault::new(Code::SYNTAX_ERROR, span, message).help("remove it"));
        }
    }

    /// Takes a line that is no key into the column of such lines.
    fn line_cell(&self, section: &mut Section, column: Option<u16>, wanted: bool, span: Span) {
        section.has_keys = true;
        section.span.end = section.span.end.max(span.end);
        if let (Some(column), true) = (column, wanted) {
            self.value_cell(section, column, span);
        }
    }

    /// Whether the value can have more lines. The column of a value that is not wanted is `u16::MAX`.
    fn continues(&self, value: Span) -> bool {
        match self.format.goes_on {
            GoesOn::Never => false,
            GoesOn::Indent => true,
            GoesOn::Comma => self.text[value.end as usize..].trim_start_matches(BLANKS).starts_with(','),
            GoesOn::Backslash => self.text.as_bytes().get(value.end as usize) == Some(&b'\\'),
        }
    }

    /// Takes a key and its value; gives the column, `u16::MAX` for one that is not wanted.
    fn key_value(
        &mut self,
        section: &mut Section,
        names: usize,
        key: Span,
        value: Span,
        sink: &mut dyn RecordSink,
    ) -> u16 {
        self.second_sign(value, sink);
        let name = key.of(self.text);
        if self.format.by_key {
            if let Some(column) = self.key {
                section.cells.push(ColumnCell::new(column, Cell { span: key, form: Form::Plain }));
            }
            section.seen.push(Span { end: value.end.max(key.end), ..key });
            let column = self.value.unwrap_or(u16::MAX);
            self.value_cell(section, column, value);
            return column;
        }
        let column = self.column(name);
        let repeated = match self.format.repeated_keys {
            Repeated::Apart | Repeated::Merge => false,
            // Keys that nothing asks for are not looked at, so that long sections stay cheap.
            _ => match column {
                Some(column) => section.cells[names..].iter().any(|cell| cell.column == column),
                None => false,
            },
        };
        if repeated && self.format.repeated_keys == Repeated::Problem {
            let message = format!("the key `{name}` stands twice in this section");
            let help =
                "remove one; if the game takes both, write `repeated_keys = \"apart\"` in the table's format";
            sink.fault(Fault::new(Code::DUPLICATE_MEMBER, key, message).help(help));
        } else if let (true, Some(column)) = (repeated, column) {
            let mut at = 0;
            section.cells.retain(|cell| {
                at += 1;
                at <= names || cell.column != column
            });
        }
        if self.keep_names {
            section.seen.push(key);
        }
        let column = column.unwrap_or(u16::MAX);
        self.value_cell(section, column, value);
        column
    }

    /// The wanted column called `name`. Sections mostly have their keys in the order of the schema.
    #[inline]
    fn column(&mut self, name: &str) -> Option<u16> {
        let found = self.wanted.find(name.as_bytes());
        if found.is_none() && self.format.ignore_case {
            let same = |(own, _): &&(&[u8], u16)| {
                std::str::from_utf8(own).is_ok_and(|own| self.format.same(own, name))
            };
            return self.wanted.names.iter().find(same).map(|(_, column)| *column);
        }
        found
    }

    /// Whether a note begins at the start of `text`.
    #[inline]
    pub(super) fn is_note(&self, text: &str) -> bool {
        let first = text.as_bytes().first();
        first.is_some_and(|byte| self.note_starts[usize::from(*byte)])
            && self.format.comments.iter().any(|mark| text.starts_with(mark.as_str()))
    }

    fn value_cell(&self, section: &mut Section, column: u16, value: Span) {
        if column == u16::MAX {
            return;
        }
        let raw = value.of(self.text);
        let quoted = self.format.quotes && raw.as_bytes().first() == Some(&b'"');
        let inside = if quoted { raw[1..].strip_suffix('"') } else { None };
        let cell = match inside.filter(|inside| !inside.contains('"')) {
            Some(_) => {
                Cell { span: Span::new(value.start as usize + 1, value.end as usize - 1), form: Form::Quoted }
            }
            None => Cell { span: value, form: Form::Plain },
        };
        section.cells.push(ColumnCell::new(column, cell));
    }

    /// The key and value of a line like nearly all: no note, no quote, no blank before it.
    #[inline]
    fn plain_line(&self, start: usize, end: usize) -> Option<(Span, Span)> {
        let bytes = &self.text.as_bytes()[start..end];
        let first = *bytes.first()?;
        if !first.is_ascii_alphanumeric()
            || self.note_starts[usize::from(first)]
            || self.format.trailing_comments
            || self.format.include.is_some()
        {
            return None;
        }
        let assign = memchr(self.format.assign as u8, bytes)?;
        let blank = |byte: &u8| *byte == b' ' || *byte == b'\t';
        let mut key_end = assign;
        while key_end > 0 && blank(&bytes[key_end - 1]) {
            key_end -= 1;
        }
        let mut from = assign + 1;
        while from < bytes.len() && blank(&bytes[from]) {
            from += 1;
        }
        let mut to = bytes.len();
        while to > from && blank(&bytes[to - 1]) {
            to -= 1;
        }
        let is_mark = |byte| byte == b'\\' || (byte == b',' && self.format.goes_on == GoesOn::Comma);
        let special = match bytes.get(from).filter(|_| from < to) {
            None => self.format.brackets,
            Some(b'"') => true,
            Some(b'{' | b'(' | b'[') if self.format.brackets => true,
            Some(_) => is_mark(bytes[to - 1]),
        };
        (!special).then(|| (Span::new(start, start + key_end), Span::new(start + from, start + to)))
    }

    pub fn line(&self, start: usize, end: usize, in_value: bool) -> Line {
        let line = &self.text[start..end];
        let from = end - trim_start(line).len();
        let shown = &self.text[from..end];
        if shown.is_empty() || self.is_note(shown) {
            return Line::Nothing;
        }
        let goes_on = match self.format.goes_on {
            GoesOn::Backslash => true,
            GoesOn::Comma => !self.begins_anew(shown),
            GoesOn::Indent | GoesOn::Never => from > start,
        };
        if in_value && goes_on {
            return Line::More(self.value_span(from, end));
        }
        let include = self.format.include.as_ref().and_then(|word| shown.strip_prefix(word.as_str()));
        if let Some(name) = include.filter(|name| name.starts_with(BLANKS)) {
            return Line::Include(self.value_span(end - name.len(), end));
        }
        if let Some(inside) = shown.strip_prefix('[') {
            let close = inside.find(']');
            let name = inside[..close.unwrap_or(inside.len())].trim_matches(BLANKS);
            let name_start = name.as_ptr() as usize - self.text.as_ptr() as usize;
            let name = Span::new(name_start, name_start + name.len());
            return if close.is_some() { Line::Section(name) } else { Line::OpenSection(name) };
        }
        let Some(at) = memchr(self.format.assign as u8, shown.as_bytes()) else {
            let span = Span::new(from, from + shown.trim_end_matches(BLANKS).len());
            if self.format.others {
                return Line::Other(span);
            }
            let message = format!("this line is neither a section nor `key {} value`", self.format.assign);
            return Line::Wrong(span, message);
        };
        let key = trim_end(&shown[..at]);
        if key.is_empty() {
            let message = format!("there is no key before the `{}`", self.format.assign);
            return Line::Wrong(Span::new(from, from + 1), message);
        }
        let value = self.value_span(from + at + self.format.assign.len_utf8(), end);
        Line::Key(Span::new(from, from + key.len()), value)
    }

    /// Whether a line behind a comma is a section or a key all the same: the comma was one too many.
    fn begins_anew(&self, line: &str) -> bool {
        let key = line.split(self.format.assign).next().unwrap_or_default();
        let is_word =
            |key: &str| key.bytes().all(|byte| byte.is_ascii_alphanumeric() || b"_-.".contains(&byte));
        line.starts_with('[') || (key.len() < line.len() && is_word(trim_end(key)))
    }

    /// A value within a line: without blanks around it, the note behind it, or the mark that it goes on.
    fn value_span(&self, start: usize, end: usize) -> Span {
        let raw = &self.text[start..end];
        let value = trim_start(raw);
        let start = end - value.len();
        if self.format.quotes
            && let Some(inside) = value.strip_prefix('"')
            && let Some(close) = inside.find('"')
        {
            let after = inside[close + 1..].trim_start_matches(BLANKS);
            let note = self.is_note(after);
            if after.is_empty() || note && self.format.trailing_comments {
                return Span::new(start, start + close + 2);
            }
        }
        let mut value = value;
        if self.format.trailing_comments {
            let notes = self.format.comments.iter().filter_map(|mark| noted_at(value, mark));
            let at_once = self.is_note(value);
            value = &value[..if at_once { 0 } else { notes.min().unwrap_or(value.len()) }];
        }
        value = trim_end(value);
        if self.format.goes_on == GoesOn::Backslash {
            value = value.strip_suffix('\\').unwrap_or(value);
            // The mark is looked for directly behind the value.
        }
        if self.format.goes_on == GoesOn::Comma {
            value = trim_end(value.strip_suffix(',').unwrap_or(value));
        }
        Span::new(start, start + value.len())
    }

    fn help(&self) -> String {
        match self.format.comments.first() {
            Some(mark) => format!("a note begins with `{mark}`"),
            None => "look for a sign that is missing".to_owned(),
        }
    }

    /// Gives the records of a section.
    pub fn give(&self, section: &Section, sink: &mut dyn RecordSink) {
        if !self.format.by_key {
            sink.record(&RawRecord { span: section.span, cells: &section.cells });
            return;
        }
        let is_name =
            |cell: &&ColumnCell| cell.cell.span.end <= section.name.end && Some(cell.column) != self.key;
        let names: Vec<ColumnCell> = section.cells.iter().take_while(is_name).copied().collect();
        let mut cells = names.clone();
        let mut rest = section.cells[names.len()..].iter().peekable();
        for (number, key) in section.seen.iter().enumerate() {
            let next = section.seen.get(number + 1).map_or(u32::MAX, |next| next.start);
            let mut own = Vec::new();
            while let Some(cell) = rest.next_if(|cell| cell.cell.span.start < next) {
                own.push(*cell);
            }
            cells.truncate(names.len());
            cells.extend(own);
            sink.record(&RawRecord { span: *key, cells: &cells });
        }
    }
}

/// `text` without the blanks before it.
#[inline]
fn trim_start(text: &str) -> &str {
    let blanks = text.bytes().take_while(|byte| *byte == b' ' || *byte == b'\t').count();
    &text[blanks..]
}

/// `text` without the blanks behind it.
#[inline]
fn trim_end(text: &str) -> &str {
    let blanks = text.bytes().rev().take_while(|byte| *byte == b' ' || *byte == b'\t').count();
    &text[..text.len() - blanks]
}

/// Where a note behind a value begins: at `mark` with a blank before it.
pub(super) fn noted_at(value: &str, mark: &str) -> Option<usize> {
    let marks = value.match_indices(mark).map(|(at, _)| at);
    let mut after_blank = marks.filter(|at| value[..*at].ends_with(BLANKS));
    after_blank.next().map(|at| value[..at].trim_end_matches(BLANKS).len())
}
