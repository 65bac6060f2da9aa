//! PO files, as described in the manual of GNU gettext ("The Format of PO Files").
//!
//! A record is an entry; the columns are its keywords (`msgctxt`, `msgid`, `msgid_plural`, `msgstr`,
//! `msgstr[0]`...). A text over several quoted lines is one value. The first entry, whose `msgid` is
//! empty, holds settings and is no record; entries commented out with `#~` are notes.

mod editing;

use super::editing::Editor;
use super::registry::{FormatKind, KIND_SETTING};
use super::{Cell, Column, ColumnCell, Decoded, Fault, Form, Format, OffStyle, RawRecord, RecordSink};
use crate::Code;
use crate::text::{Span, Text};
use std::borrow::Cow;
use std::sync::Arc;

/// A PO file; there is nothing to set.
#[derive(Debug, Clone, Copy)]
pub struct Po;

const KEYWORDS: [&str; 5] = ["msgctxt", "msgid", "msgid_plural", "msgstr", "msgstr[0]"];

impl Po {
    /// What a schema calls the format.
    pub const NAME: &'static str = "po";
}

/// The format as a schema names it.
pub(super) static KIND: FormatKind = FormatKind {
    name: Po::NAME,
    about: "Translations as gettext has them.",
    settings: &[KIND_SETTING],
    read: |reader, table, _| {
        reader.check_keys(table, &[KIND_SETTING], |_| false);
        Some(Arc::new(Po))
    },
};

impl Format for Po {
    fn read(&self, text: &Text<'_>, columns: &[Column<'_>], sink: &mut dyn RecordSink) {
        let content = text.as_str();
        let mut at = text.body();
        let mut entry = Entry::default();
        while at < content.len() {
            let start = at;
            let end = memchr::memchr(b'\n', &content.as_bytes()[at..]).map_or(content.len(), |end| at + end);
            at = end + 1;
            let line = content[start..end].trim_end();
            let shown = line.trim_start();
            let from = start + (line.len() - shown.len());
            if shown.is_empty() || shown.starts_with('#') {
                // Notes stand before their entry.
                entry.give(content, sink);
                continue;
            }
            let keyword = &shown[..shown.find([' ', '\t', '"']).unwrap_or(shown.len())];
            let quoted = shown[keyword.len()..].trim_start();
            let quote_at = from + shown.len() - quoted.len();
            let Some(inside) = inside_quotes(quoted) else {
                let message = "this line is neither a note nor a keyword with a text in quotes";
                let fault = Fault::new(Code::SYNTAX_ERROR, Span::new(from, from + shown.len()), message);
                sink.fault(
                    fault.help("look for a quote that is missing, or one inside the text without `\\`"),
                );
                continue;
            };
            let span = Span::new(quote_at + 1, quote_at + 1 + inside);
            if keyword.is_empty() {
                if !entry.go_on(span) {
                    let message = "a text that belongs to no keyword";
                    sink.fault(
                        Fault::new(Code::SYNTAX_ERROR, span, message).help("write the keyword before it"),
                    );
                }
                continue;
            }
            if !is_keyword(keyword) {
                let message = format!("`{keyword}` is no keyword");
                let fault = Fault::new(Code::SYNTAX_ERROR, Span::new(from, from + keyword.len()), message);
                sink.fault(fault.help("the keywords are msgctxt, msgid, msgid_plural and msgstr"));
                entry.last = None;
                continue;
            }
            let begins = keyword == "msgctxt" || keyword == "msgid";
            if begins && entry.has_text {
                entry.give(content, sink);
            }
            let column = columns.iter().position(|column| column.name == keyword).map(|at| at as u16);
            entry.add(from, keyword, column, span);
        }
        entry.give(content, sink);
    }

    fn columns(&self, text: &Text<'_>) -> Vec<String> {
        let has = |keyword: &&str| *keyword == "msgid" || text.as_str().contains(&format!("\n{keyword} "));
        KEYWORDS.into_iter().filter(has).map(str::to_owned).collect()
    }

    fn encode(&self, _cell: &Cell, _column: &str, value: &str) -> Result<String, String> {
        let mut out = String::with_capacity(value.len());
        for next in value.chars() {
            match next {
                '\\' => out.push_str("\\\\"),
                '"' => out.push_str("\\\""),
                '\n' => out.push_str("\\n"),
                '\t' => out.push_str("\\t"),
                '\r' => out.push_str("\\r"),
                other => out.push(other),
            }
        }
        Ok(out)
    }

    fn check_column(&self, column: &str) -> Result<(), String> {
        match is_keyword(column) {
            true => Ok(()),
            false => Err(format!("a PO file has no `{column}`; its keywords are {}", KEYWORDS.join(", "))),
        }
    }

    fn editor<'t>(&'t self, text: &Text<'t>) -> Option<Editor<'t>> {
        Some(editing::editor(text))
    }

    fn off_style(&self) -> OffStyle {
        OffStyle::Lines("#".to_owned(), false)
    }

    fn escape_bytes(&self) -> &'static [u8] {
        // A text may be cut in two anywhere by a line end.
        b"\""
    }
}

#[derive(Default)]
struct Entry {
    cells: Vec<ColumnCell>,
    span: Option<Span>,
    /// Whether its `msgstr` was read, so that the next `msgid` begins another.
    has_text: bool,
    /// What the last keyword gave: its column if that is wanted.
    last: Option<Option<u16>>,
    /// The `msgid`, to know the first entry.
    id: Option<Span>,
    in_id: bool,
}

impl Entry {
    fn add(&mut self, start: usize, keyword: &str, column: Option<u16>, span: Span) {
        self.has_text |= keyword.starts_with("msgstr");
        self.in_id = keyword == "msgid";
        if self.in_id {
            self.id = Some(span);
        }
        let begin = self.span.map_or(Span::new(start, start).start, |span| span.start);
        self.span = Some(Span { start: begin, end: span.end + 1 });
        self.last = Some(column);
        if let Some(column) = column {
            self.cells.push(ColumnCell::new(column, Cell { span, form: Form::PoText }));
        }
    }

    /// Adds a further line to the last text; `false` if there is none.
    fn go_on(&mut self, span: Span) -> bool {
        let (Some(column), Some(own)) = (self.last, &mut self.span) else { return false };
        own.end = span.end + 1;
        if self.in_id
            && let Some(id) = &mut self.id
        {
            id.end = span.end;
        }
        if let (Some(_), Some(cell)) = (column, self.cells.last_mut()) {
            cell.cell.span.end = span.end;
        }
        true
    }

    fn give(&mut self, text: &str, sink: &mut dyn RecordSink) {
        let entry = std::mem::take(self);
        let (Some(span), Some(id)) = (entry.span, entry.id) else { return };
        let is_settings = decode(id.of(text), id.start).text.is_empty();
        if !is_settings {
            sink.record(&RawRecord { span, cells: &entry.cells });
        }
    }
}

fn is_keyword(word: &str) -> bool {
    let plural = || {
        let number = word.strip_prefix("msgstr[")?.strip_suffix(']')?;
        (!number.is_empty() && number.bytes().all(|byte| byte.is_ascii_digit())).then_some(())
    };
    ["msgctxt", "msgid", "msgid_plural", "msgstr"].contains(&word) || plural().is_some()
}

/// How many bytes stand between the quotes of a quoted text that ends with its closing quote.
fn inside_quotes(quoted: &str) -> Option<usize> {
    let body = quoted.strip_prefix('"')?;
    let mut escaped = false;
    for (at, byte) in body.bytes().enumerate() {
        match byte {
            _ if escaped => escaped = false,
            b'\\' => escaped = true,
            b'"' => return (at + 1 == body.len()).then_some(at),
            _ => {}
        }
    }
    None
}

/// Reads a text over one or more quoted lines: what stands between the quotes, with escapes undone.
pub(super) fn decode(raw: &str, start: u32) -> Decoded<'_> {
    let (mut text, mut map) = (String::with_capacity(raw.len()), Vec::with_capacity(raw.len() + 1));
    let mut at = 0;
    while let Some(next) = raw[at..].chars().next() {
        // From the quote at the end of a line to that at the start of the next.
        if next == '"' {
            at += 1 + raw[at + 1..].find('"').map_or(raw.len() - at - 1, |quote| quote + 1);
            continue;
        }
        let (meant, len) = super::blocks::escape(&raw[at..]).unwrap_or((next, next.len_utf8()));
        let step = u32::from(meant == next && len == next.len_utf8());
        map.extend((0..meant.len_utf8() as u32).map(|byte| start + at as u32 + byte * step));
        text.push(meant);
        at += len;
    }
    map.push(start + raw.len() as u32);
    Decoded { text: Cow::Owned(text), start, map: Some(map) }
}
