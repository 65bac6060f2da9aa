//! Values that go on until the bracket is closed with which they begin.

use super::BLANKS;
use super::parser::IniParser;
use crate::Code;
use crate::formats::Fault;
use crate::text::Span;
use memchr::memchr;

/// What a value may begin with that goes on over lines.
pub(super) const OPENING: [char; 3] = ['{', '(', '['];
/// A bracket that is the first thing in the line below its key; `[` would begin a section.
const OPENING_BELOW: [char; 2] = ['{', '('];

/// A value between brackets.
pub(super) struct Bracketed {
    /// What stands on each of its lines, without the brackets around the whole, without blanks and notes. A line with
    /// nothing else has none.
    pub lines: Vec<Span>,
    /// Behind the closing bracket, or behind the last line if there is none.
    pub end: usize,
    /// Where the next line begins that is not read yet.
    pub next: usize,
    /// What is wrong with it.
    pub fault: Option<Fault>,
}

impl IniParser<'_> {
    /// The value between brackets that begins where `value` does or, if that is empty, in the next line that is neither
    /// blank nor a note. `next` is where the line behind `value` begins. `None` if there is none, or if
    /// more than a note follows its closing bracket on the line where it begins: then it is a value like others.
    pub(super) fn bracketed(&self, value: Span, next: usize) -> Option<Bracketed> {
        if !self.format.brackets {
            return None;
        }
        let start = match value.is_empty() {
            true => self.opened_below(next)?,
            false => value.of(self.text).starts_with(OPENING).then_some(value.start as usize)?,
        };
        let mut depth = 0;
        let (mut lines, mut last) = (Vec::new(), start);
        let mut line = start;
        while line < self.text.len() {
            let (end, behind) = self.line_at(line);
            let shown = end - self.text[line..end].trim_start_matches(BLANKS).len();
            if line > start && self.begins_something_else(&self.text[shown..end]) {
                break;
            }
            if line == start || !self.is_note(&self.text[shown..end]) {
                let inside = self.inside(start, shown, end, &mut depth);
                let from = if line == start { start + 1 } else { shown };
                let content = Span::new(from, inside.max(from));
                let content = self.without_blanks(content);
                lines.extend((!content.is_empty()).then_some(content));
                last = (content.end as usize).max(last);
                if depth == 0 {
                    let rest = self.text[inside + 1..end].trim_matches(BLANKS);
                    let is_note = rest.is_empty() || self.is_note(rest);
                    if !is_note && line == start {
                        return None;
                    }
                    let fault = (!is_note).then(|| {
                        let at = end - self.text[inside + 1..end].trim_start_matches(BLANKS).len();
                        Fault::new(
                            Code::SYNTAX_ERROR,
                            Span::new(at, at + rest.len()),
                            "text after the closing bracket",
                        )
                        .help("put it into a line of its own, or look for a bracket too many")
                    });
                    return Some(Bracketed { lines, end: inside + 1, next: behind, fault });
                }
            }
            line = behind;
        }
        let message = format!("the `{}` is never closed", &self.text[start..=start]);
        let fault = Fault::new(Code::SYNTAX_ERROR, Span::new(start, start + 1), message);
        let fault = Some(fault.help("close it behind the last line of the value"));
        Some(Bracketed { lines, end: last.max(start + 1), next: line, fault })
    }

    /// Where a bracket begins the next line that is neither blank nor a note.
    fn opened_below(&self, mut line: usize) -> Option<usize> {
        while line < self.text.len() {
            let (end, behind) = self.line_at(line);
            let shown = self.text[line..end].trim_start_matches(BLANKS);
            if !shown.is_empty() && !self.is_note(shown) {
                return shown.starts_with(OPENING_BELOW).then_some(end - shown.len());
            }
            line = behind;
        }
        None
    }

    /// The end of the line that begins at `start`, and where the next one begins.
    fn line_at(&self, start: usize) -> (usize, usize) {
        let bytes = self.text.as_bytes();
        let line_end = memchr(b'\n', &bytes[start..]).map_or(bytes.len(), |at| start + at);
        let end = if line_end > start && bytes[line_end - 1] == b'\r' { line_end - 1 } else { line_end };
        (end, line_end + 1)
    }

    /// Up to where the line from `from` to `end` belongs to the value whose bracket is at `start`: to the bracket that closes
    /// it, to a note behind it, or to the end. Only brackets of the same kind count for `depth`.
    fn inside(&self, start: usize, from: usize, end: usize, depth: &mut usize) -> usize {
        let bytes = self.text.as_bytes();
        let opening = bytes[start];
        let closing = match opening {
            b'{' => b'}',
            b'(' => b')',
            _ => b']',
        };
        let mut at = from;
        while at < end {
            match bytes[at] {
                b'"' if self.format.quotes => {
                    // One that is not closed on its line hides nothing.
                    at += memchr(b'"', &bytes[at + 1..end]).map_or(0, |close| close + 1);
                }
                byte if byte == opening => *depth += 1,
                byte if byte == closing => {
                    *depth -= 1;
                    if *depth == 0 {
                        return at;
                    }
                }
                b' ' | b'\t' if self.format.trailing_comments && self.is_note(&self.text[at + 1..end]) => {
                    return at;
                }
                _ => {}
            }
            at += 1;
        }
        end
    }

    /// Whether a line inside brackets is a section or a key all the same, so that the bracket was not closed.
    fn begins_something_else(&self, shown: &str) -> bool {
        let is_name = |name: &str, also: &str| {
            name.starts_with(|first: char| first.is_alphabetic() || first == '_')
                && name.chars().all(|own| own.is_alphanumeric() || also.contains(own))
        };
        let section = shown.strip_prefix('[').and_then(|rest| rest.trim_end().strip_suffix(']'));
        let key = shown.split_once(self.format.assign).map(|(key, _)| key.trim_end());
        section.is_some_and(|name| is_name(name, "_-. :/")) || key.is_some_and(|key| is_name(key, "_-."))
    }

    fn without_blanks(&self, span: Span) -> Span {
        let raw = span.of(self.text);
        let start = span.end as usize - raw.trim_start_matches(BLANKS).len();
        Span::new(start, start + raw.trim_matches(BLANKS).len())
    }
}
