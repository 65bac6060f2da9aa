//! Indentation as a witness: where brackets or tags do not match, it tells which one is missing.
//!
//! A file is first read without it. Only if something does not match it is read again, and then what
//! begins a line further out than the block around it shows that this block should have been closed.
//! All questions take the same time however deep the nesting and however long the lines are.

use crate::text::{Span, Text};
use std::collections::HashMap;

/// Walks over a text with what is known of the line it is on. It only goes forward.
#[derive(Debug)]
pub(super) struct Line<'t> {
    text: &'t str,
    /// Up to where line ends have been looked for.
    seen: usize,
    start: usize,
    /// The 1-based number of the line.
    pub number: usize,
    /// How many blanks it begins with; a tab counts as eight at most.
    pub indent: usize,
    /// Where what is no blank begins.
    first: usize,
}

impl<'t> Line<'t> {
    /// Begins at the first line of `text`.
    pub fn new(text: &'t str) -> Line<'t> {
        let mut line = Line { text, seen: 0, start: 0, number: 1, indent: 0, first: 0 };
        line.measure(Text::of_file(text).body());
        line
    }

    /// Goes on to the line of byte `at`.
    pub fn go_to(&mut self, at: usize) {
        let bytes = &self.text.as_bytes()[self.seen.min(at)..at];
        if let Some(last) = memchr::memrchr(b'\n', bytes) {
            self.number += memchr::memchr_iter(b'\n', bytes).count();
            self.measure(self.seen + last + 1);
        }
        self.seen = self.seen.max(at);
    }

    /// The column of byte `at`, which must be on this line, if only blanks stand before it.
    pub fn column(&self, at: usize) -> Option<usize> {
        (at == self.first).then_some(self.indent)
    }

    fn measure(&mut self, start: usize) {
        (self.start, self.indent, self.first) = (start, 0, start);
        let rest = &self.text.as_bytes()[start..];
        let blanks = rest.iter().take_while(|byte| matches!(byte, b' ' | b'\t')).count();
        self.indent = indent_of(&rest[..blanks]);
        self.first += blanks;
    }
}

/// A bracket that opens something and is missing.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct MissingOpen {
    /// Where it belongs, in bytes: at the end of the line that heads what is inside.
    pub at: usize,
    /// The last character of that line.
    pub last: Span,
    /// The closing bracket that it would be the partner of, in bytes.
    pub close: usize,
    /// The number of the line of that bracket, 1-based.
    pub line: usize,
}

/// So many closing brackets without a partner are looked into, and so many lines in all.
pub(super) const MOST_STRAYS: usize = 100;
const MOST_LINES: usize = 100_000;

/// Where brackets are missing of which the closing ones, at the bytes `strays`, begin a line each: behind the line before
/// that begins at the same column, with nothing but lines further in between. In the order of the text.
pub(super) fn missing_openers(text: &str, strays: &[usize]) -> Vec<MissingOpen> {
    let mut left = MOST_LINES;
    let mut out: Vec<MissingOpen> = Vec::new();
    for &close in strays.iter().take(MOST_STRAYS) {
        let bytes = text.as_bytes();
        let start_of = |at: usize| memchr::memrchr(b'\n', &bytes[..at]).map_or(0, |end| end + 1);
        let start = start_of(close);
        if !text[start..close].bytes().all(|byte| matches!(byte, b' ' | b'\t')) {
            continue;
        }
        let column = indent_of(&bytes[start..close]);
        let (mut end, mut inside) = (start, false);
        while end > 0 && left > 0 {
            left -= 1;
            let start = start_of(end - 1);
            let line = text[start..end].trim_end();
            end = start;
            let words = line.trim_start_matches([' ', '\t', '\u{feff}']);
            if words.is_empty() {
                continue;
            }
            let indent = indent_of(&line.as_bytes()[..line.len() - words.len()]);
            if indent > column {
                inside = true;
                continue;
            }
            let is_head = indent == column && inside && !words.starts_with(['}', ']', ')', '{', '[']);
            if is_head && out.iter().all(|own| own.at != start + line.len()) {
                let line_number = 1 + memchr::memchr_iter(b'\n', &bytes[..close]).count();
                let at = start + line.len();
                let last = line.chars().next_back().map_or(0, char::len_utf8);
                out.push(MissingOpen { at, last: Span::new(at - last, at), close, line: line_number });
            }
            break;
        }
    }
    out.sort_unstable_by_key(|own| own.at);
    out
}

/// How far `blanks` at the beginning of a line indent it; a tab counts as eight at most.
pub(super) fn indent_of(blanks: &[u8]) -> usize {
    blanks.iter().fold(0, |indent, byte| if *byte == b'\t' { (indent / 8 + 1) * 8 } else { indent + 1 })
}

/// Something that is open: a block, an element, an object.
#[derive(Debug, Clone, Copy)]
pub(super) struct Open {
    /// Its node.
    pub node: usize,
    /// Where the line begins on which it was opened, and how far that is indented.
    line: usize,
    pub indent: usize,
    /// The column of the first thing inside it that begins a line.
    inner: Option<usize>,
}

impl Open {
    /// Whether what is inside is further in.
    fn is_deeper(&self) -> bool {
        self.inner.is_some_and(|inner| inner > self.indent)
    }
}

/// What is open, the innermost last.
#[derive(Debug)]
pub(super) struct OpenStack<'t> {
    open: Vec<Open>,
    /// The line that reading has come to, if the indentation is a witness.
    pub line: Option<Line<'t>>,
    /// How many are open for each column at which their line begins.
    columns: HashMap<usize, usize>,
    /// How many of them have things inside that are further in.
    deeper: usize,
}

impl<'t> OpenStack<'t> {
    /// Nothing is open. `by_indent` makes the indentation of `text` a witness.
    pub fn new(text: &'t str, by_indent: bool) -> OpenStack<'t> {
        let line = by_indent.then(|| Line::new(text));
        OpenStack { open: Vec::new(), line, columns: HashMap::new(), deeper: 0 }
    }

    /// How many are open.
    pub fn len(&self) -> usize {
        self.open.len()
    }

    /// Whether nothing is.
    pub fn is_empty(&self) -> bool {
        self.open.is_empty()
    }

    /// The innermost.
    pub fn last(&self) -> Option<&Open> {
        self.open.last()
    }

    /// All, the outermost first.
    pub fn iter(&self) -> impl DoubleEndedIterator<Item = &Open> + ExactSizeIterator {
        self.open.iter()
    }

    /// Opens `node`, whose head begins on the line that reading has come to.
    pub fn push(&mut self, node: usize) {
        let (line, indent) = self.line.as_ref().map_or((0, 0), |line| (line.start, line.indent));
        if self.line.is_some() {
            *self.columns.entry(indent).or_default() += 1;
        }
        self.open.push(Open { node, line, indent, inner: None });
    }

    /// Closes the innermost.
    pub fn pop(&mut self) -> Option<Open> {
        let open = self.open.pop()?;
        if self.line.is_some()
            && let Some(count) = self.columns.get_mut(&open.indent)
        {
            *count -= 1;
        }
        self.deeper -= usize::from(open.is_deeper());
        Some(open)
    }

    /// The position of the innermost whose line begins at `column`.
    pub fn at_column(&self, column: usize) -> Option<usize> {
        let any = self.columns.get(&column).is_some_and(|count| *count > 0);
        // What is further in than the one that is found will be closed, so that the search pays.
        if any { self.open.iter().rposition(|open| open.indent == column) } else { None }
    }

    /// Whether what begins a line at `column` shows that the innermost should have been closed before: it
    /// is not further in, though this file is indented, or it is the `same` kind of thing.
    pub fn is_left_at(&mut self, column: usize, same: bool) -> bool {
        let others = self.deeper;
        let Some(open) = self.open.last_mut() else { return false };
        let first = open.inner.is_none();
        if first {
            open.inner = Some(column);
            self.deeper += usize::from(open.is_deeper());
        }
        let indented = open.is_deeper() || (first && others > 0);
        column <= open.indent && (indented || same)
    }

    /// Whether a closing bracket that begins a line at `column` shows that the innermost should have been
    /// closed before.
    pub fn is_left_by_close(&self, column: usize) -> bool {
        self.open
            .last()
            .is_some_and(|open| open.indent > column && (open.is_deeper() || open.inner.is_none()))
    }

    /// Whether a closing bracket at byte `at` closes nothing that is open: it begins a line further in than
    /// the innermost, and none begins there; or it stands within a line further in than one that was
    /// opened on another line.
    pub fn is_stray(&self, at: usize) -> bool {
        let (Some(line), Some(open)) = (&self.line, self.open.last()) else { return false };
        match line.column(at) {
            Some(column) => open.indent < column && open.inner.is_some() && self.at_column(column).is_none(),
            None => open.line < line.start && open.indent < line.indent,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_line_knows_its_number_and_its_blanks() {
        let text = "\u{feff}  one\n\ttwo three\r\n\n    \tfour";
        let mut line = Line::new(text);
        let mut at = |word: &str| {
            let at = text.find(word).expect("it is there");
            line.go_to(at);
            (line.number, line.indent, line.column(at))
        };
        assert_eq!(at("one"), (1, 2, Some(2)));
        assert_eq!(at("two"), (2, 8, Some(8)));
        assert_eq!(at("three"), (2, 8, None));
        assert_eq!(at("four"), (4, 8, Some(8)));
    }

    /// `^` marks closing brackets without a partner; the lines behind which brackets are missing are told.
    #[rstest]
    #[case::one("a =\n  b\n^", "a =")]
    #[case::nested("x {\n  a =\n    b\n\n    c {\n    }\n  ^\n}", "  a =")]
    #[case::two("a\n  b\n^\nc\n  d\n^\n", "a|c")]
    #[case::with_tabs("a\n\tb\n\t\tc\n\t^\n", "\tb")]
    #[case::nothing_inside("a\n^", "")]
    #[case::head_is_a_bracket("{\n  b\n^", "")]
    #[case::within_a_line("a\n  b\nc ^", "")]
    #[case::only_further_in("    b\n^", "")]
    #[case::crlf("a =\r\n  b\r\n^\r\n", "a =")]
    fn what_is_not_opened(#[case] marked: &str, #[case] expected: &str) {
        let strays: Vec<usize> = marked.match_indices('^').map(|(at, _)| at).collect();
        let text = marked.replace('^', "}");
        let found: Vec<&str> = missing_openers(&text, &strays)
            .iter()
            .map(|own| text[..own.at].rsplit('\n').next().unwrap_or_default())
            .collect();
        assert_eq!(found.join("|"), expected);
    }

    #[test]
    fn what_stands_further_out_closes_what_is_open() {
        // Two levels; the second is left by what begins at its own column, the first is not.
        let text = "a\n  b\n    c\n  d\n";
        let mut open = OpenStack::new(text, true);
        let go_to = |open: &mut OpenStack<'_>, at: usize| {
            if let Some(line) = &mut open.line {
                line.go_to(at);
            }
        };
        open.push(0);
        go_to(&mut open, 4);
        assert!(!open.is_left_at(2, false));
        open.push(1);
        go_to(&mut open, 10);
        assert!(!open.is_left_at(4, false));
        go_to(&mut open, 14);
        assert!(open.is_left_at(2, false));
        open.pop();
        assert!(!open.is_left_at(2, false));
        assert_eq!(open.at_column(2), None);
        assert_eq!(open.at_column(0), Some(0));
    }
}
