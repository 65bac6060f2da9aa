//! Switching a piece of a file off in the format's own comment syntax, and on again byte for byte.
//!
//! Whole lines get a mark in front, `;~off> ` the first and `;~off| ` the others (with the format's own sign
//! for a note); a piece within lines is wrapped, as in `<!--~off: ... -->`. What would end the wrapping
//! early is parted by a `~`, and a `~` doubled, so that notes within are kept.

use crate::text::{Edit, Span, Text};
use memchr::memmem;

/// How a format switches off.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum OffStyle {
    /// Whole lines: the sign that begins a note, and whether it must stand at the very start of the line.
    Lines(String, bool),
    /// Any piece: what opens and what closes a note.
    Wrap(&'static str, &'static str),
    /// Not at all.
    None,
}

impl OffStyle {
    /// What begins a note, if an entry can be made one.
    pub fn mark(self) -> Option<String> {
        match self {
            OffStyle::Lines(mark, _) => Some(mark),
            OffStyle::Wrap(open, _) => Some(open.to_owned()),
            OffStyle::None => None,
        }
    }
}

/// A piece that is switched off.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct OffPiece {
    /// Where it stands, with its marks.
    pub span: Span,
    /// What stood there before.
    pub text: String,
    /// The edits that put it back.
    pub edits: Vec<Edit>,
}

const FIRST: &str = "~off> ";
const MORE: &str = "~off| ";
const INSIDE: &str = "~off: ";
/// What all marks have in common.
pub const OFF_MARK: &str = "~off";

/// Whether `bytes` may have something in them that is off. Cost: a text search.
pub fn may_have_off(bytes: &[u8]) -> bool {
    memmem::find(bytes, OFF_MARK.as_bytes()).is_some()
}

impl OffStyle {
    /// The edits that switch `span` of `text` off; `None` if the format has no way to, or the span does
    /// not cover its lines.
    pub fn switch_off(&self, text: &str, span: Span) -> Option<Vec<Edit>> {
        match self {
            OffStyle::None => None,
            OffStyle::Wrap(open, close) => {
                let inside = part(span.of(text), close);
                let text = format!("{open}{INSIDE}{inside} {close}");
                Some(vec![Edit { span, text }])
            }
            OffStyle::Lines(mark, at_start) => {
                let range = whole_lines(text, span, mark)?;
                let mut edits = Vec::new();
                let mut at = range.start;
                for line in text[range].split_inclusive('\n') {
                    let blanks =
                        if *at_start { 0 } else { line.len() - line.trim_start_matches([' ', '\t']).len() };
                    let word = if edits.is_empty() { FIRST } else { MORE };
                    let place = Span::new(at + blanks, at + blanks);
                    edits.push(Edit { span: place, text: format!("{mark}{word}") });
                    at += line.len();
                }
                Some(edits)
            }
        }
    }

    /// All pieces of `text` that are off, in the order of the text.
    pub fn find_off(&self, text: &str) -> Vec<OffPiece> {
        match self {
            OffStyle::None => Vec::new(),
            OffStyle::Wrap(open, close) => wrapped(text, &format!("{open}{INSIDE}"), close),
            OffStyle::Lines(mark, _) => marked(text, &format!("{mark}{FIRST}"), &format!("{mark}{MORE}")),
        }
    }
}

/// The lines that `span` covers, if nothing but blanks, separators and a note stands beside it.
fn whole_lines(text: &str, span: Span, mark: &str) -> Option<std::ops::Range<usize>> {
    let (start, end) = (span.start as usize, span.end as usize);
    let line_start = text[..start].rfind('\n').map_or(0, |at| at + 1);
    let line_start = line_start.max(Text::of_file(text).body());
    let line_end = text[end..].find('\n').map_or(text.len(), |at| end + at);
    let before = text.get(line_start..start)?.trim();
    let after = text[end..line_end].trim().trim_start_matches([',', ';', '"', '\'']).trim();
    (before.trim_matches(['"', '\'']).is_empty() && (after.is_empty() || after.starts_with(mark)))
        .then_some(line_start..line_end)
}

fn marked(text: &str, first: &str, more: &str) -> Vec<OffPiece> {
    let mut out: Vec<OffPiece> = Vec::new();
    if memmem::find(text.as_bytes(), first.as_bytes()).is_none()
        && memmem::find(text.as_bytes(), more.as_bytes()).is_none()
    {
        return out;
    }
    let (mut at, mut goes_on) = (0, false);
    for line in text.split_inclusive('\n') {
        let shown = line.trim_start_matches([' ', '\t', '\u{feff}']);
        let start = at + (line.len() - shown.len());
        let end = at + line.trim_end_matches(['\r', '\n']).len();
        at += line.len();
        let (is_first, is_more) = (shown.starts_with(first), shown.starts_with(more));
        if !is_first && !is_more {
            goes_on = false;
            continue;
        }
        let mark = if is_first { first } else { more };
        let edit = Edit { span: Span::new(start, start + mark.len()), text: String::new() };
        let own = &text[start + mark.len()..end.max(start + mark.len())];
        match out.last_mut().filter(|_| goes_on && is_more) {
            Some(piece) => {
                piece.text.push('\n');
                piece.text.push_str(own);
                piece.span.end = Span::new(0, end).end;
                piece.edits.push(edit);
            }
            None => {
                out.push(OffPiece { span: Span::new(start, end), text: own.to_owned(), edits: vec![edit] })
            }
        }
        goes_on = true;
    }
    out
}

fn wrapped(text: &str, open: &str, close: &str) -> Vec<OffPiece> {
    let mut out = Vec::new();
    let mut from = 0;
    while let Some(at) = memmem::find(&text.as_bytes()[from..], open.as_bytes()) {
        let start = from + at;
        let inside = start + open.len();
        let Some(len) = text[inside..].find(close) else { break };
        let end = inside + len + close.len();
        let kept = text[inside..inside + len].strip_suffix(' ').unwrap_or(&text[inside..inside + len]);
        let (span, text) = (Span::new(start, end), join(kept));
        out.push(OffPiece { span, edits: vec![Edit { span, text: text.clone() }], text });
        from = end;
    }
    out
}

/// Parts what would close a note: the first two signs of `close` with a `~` between them.
fn part(text: &str, close: &str) -> String {
    let mut signs = close.chars();
    let (first, second) = (signs.next(), signs.next());
    let mut out = String::with_capacity(text.len());
    let mut before = None;
    for next in text.chars() {
        if before == first && Some(next) == second {
            out.push('~');
        }
        out.push(next);
        if next == '~' {
            out.push('~');
        }
        before = Some(next);
    }
    out
}

fn join(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    let mut chars = text.chars().peekable();
    while let Some(next) = chars.next() {
        match next {
            '~' => out.extend(chars.next_if_eq(&'~')),
            other => out.push(other),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::EditSet;
    use proptest::prelude::*;

    fn apply(text: &str, edits: Vec<Edit>) -> String {
        let bytes = EditSet::new(edits).expect("apart").apply(text.as_bytes()).expect("inside");
        String::from_utf8(bytes).expect("text")
    }

    proptest! {
        #[test]
        fn what_is_switched_off_comes_back(
            before in "[a\n]{0,4}", inside in "[a~;/* \t\r\n<>!-]{1,20}", after in "[b\n]{0,4}", which in 0usize..4,
        ) {
            let style = [
                OffStyle::Wrap("<!--", "-->"),
                OffStyle::Wrap("/*", "*/"),
                OffStyle::Lines(";".to_owned(), false),
                OffStyle::Lines("#".to_owned(), true),
            ][which].clone();
            let text = format!("{before}{inside}{after}");
            let span = Span::new(before.len(), before.len() + inside.len());
            let Some(edits) = style.switch_off(&text, span) else { return Ok(()) };
            let off = apply(&text, edits);
            let pieces = style.find_off(&off);
            prop_assert!(!pieces.is_empty());
            let back = pieces.into_iter().flat_map(|piece| piece.edits).collect();
            prop_assert_eq!(apply(&off, back), text);
        }
    }
}
