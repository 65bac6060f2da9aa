//! Keys and values in lines that their indentation nests: where they end, in quotes and without, and the notes behind them.

use super::Blocks;
use super::by_indent::{ITEM_MARK, IndentParser};
use crate::formats::{Cell, Form};
use crate::text::Span;

impl IndentParser<'_> {
    /// As [`without_note`], for the notes of the format.
    pub fn without_note(&self, start: usize, end: usize) -> usize {
        without_note(&self.format.comments, self.text, start, end)
    }

    /// The byte of the sign between a key and its value in a line, if it has one.
    pub fn sign_in(&self, start: usize, end: usize) -> Option<usize> {
        let sign = self.format.assign?;
        let from = match self.quoted(start, end) {
            Some((_, behind)) => behind,
            None => start,
        };
        let text = &self.text[from..end];
        let is_sign = |at: &usize| {
            // A colon within a word is a part of it.
            let rest = &text[at + sign.len_utf8()..];
            sign != ':' || rest.is_empty() || rest.starts_with([' ', '\t'])
        };
        let mut found = text.match_indices(sign).map(|(at, _)| at);
        let at = found.find(is_sign)?;
        // Nothing but blanks may stand between a quoted key and the sign.
        (from == start || text[..at].trim().is_empty()).then_some(from + at)
    }

    /// The quoted text at byte `start`, and the byte behind it; `None` if there is none, or it is not closed before `end`.
    pub fn quoted(&self, start: usize, end: usize) -> Option<(Cell, usize)> {
        let quote = self.text[start..end].bytes().next().filter(|next| matches!(next, b'"' | b'\''))?;
        let bytes = &self.text.as_bytes()[..end];
        let mut at = start + 1;
        loop {
            let found = at + memchr::memchr2(quote, b'\\', &bytes[at..])?;
            match bytes[found] {
                b'\\' if quote == b'"' && self.format.escapes => at = (found + 2).min(end),
                b'\\' => at = found + 1,
                _ if quote == b'\'' && bytes.get(found + 1) == Some(&b'\'') => at = found + 2,
                _ => {
                    let form = match (quote, self.format.escapes) {
                        (b'\'', _) => Form::SingleQuoted,
                        (_, true) => Form::Backslashed,
                        (_, false) => Form::Quoted,
                    };
                    return Some((Cell { span: Span::new(start + 1, found), form }, found + 1));
                }
            }
        }
    }

    /// The value that begins at byte `start` of a line that ends at `end`, in quotes or as far as a note, and the byte behind it.
    pub fn scalar(&mut self, start: usize, end: usize) -> (Cell, usize) {
        let limit = if self.format.over_lines { self.text.len() } else { end };
        match self.quoted(start, limit) {
            Some((cell, behind)) => {
                let rest = self.text[behind..self.line_end(behind)].trim();
                if rest.is_empty() || self.is_note(rest) {
                    self.read_to = behind;
                    return (cell, behind);
                }
                if self.is_strict() {
                    let message = "a text goes on behind the quote that closes it".to_owned();
                    self.fault(
                        start,
                        behind - start,
                        message,
                        "remove the quote, or put all of it in quotes",
                    );
                }
            }
            None if self.text[start..end].starts_with(['"', '\'']) => {
                self.open_quote(start);
            }
            None => {}
        }
        let bare = Span::new(start, self.without_note(start, end));
        let text = bare.of(self.text);
        if self.is_strict() && !text.starts_with(['"', '\'']) {
            let lone_quote = text.find('"').filter(|at| *at + 1 == text.len());
            if let Some(at) = lone_quote {
                self.fault(start + at, 1, "this quote is opened nowhere".to_owned(), "remove it, or open it");
            } else if let Some(at) = text.find(": ") {
                let message = "`:` in a value that is not in quotes".to_owned();
                self.fault(start + at, 1, message, "put the value in quotes, or on a line of its own");
            }
        }
        (Cell { span: bare, form: Form::Plain }, bare.end as usize)
    }

    /// As [`tags_len`], where the format has tags.
    pub fn tags_len(&self, value: &str) -> usize {
        if self.is_strict() { tags_len(value) } else { 0 }
    }

    /// Whether signs in values that are not in quotes are mistakes.
    pub fn is_strict(&self) -> bool {
        self.format.assign == Some(':')
    }

    /// Tells of the quote at byte `at`, which is not closed.
    pub fn open_quote(&mut self, at: usize) {
        let help = format!("close it with `{}`", &self.text[at..=at]);
        self.fault(at, 1, "the quote is not closed on its line".to_owned(), &help);
    }
}

/// Where what stands from `start` to `end` ends without a note behind it that one of `marks` begins, and without the blanks before
/// that.
pub(super) fn without_note(marks: &[String], text: &str, start: usize, end: usize) -> usize {
    let text = &text[start..end];
    let bytes = text.as_bytes();
    let is_apart = |at: &usize| *at == 0 || bytes[at - 1].is_ascii_whitespace();
    let begins = |mark: &String| match mark.as_bytes() {
        [byte] => memchr::memchr_iter(*byte, bytes).find(is_apart),
        mark => memchr::memmem::find_iter(bytes, mark).find(is_apart),
    };
    let note = marks.iter().filter_map(begins).min();
    start + note.map_or(text, |note| &text[..note]).trim_end().len()
}

/// How long the tags and the anchor are that stand before a value, with the blanks behind them.
pub(super) fn tags_len(value: &str) -> usize {
    let mut rest = value;
    while rest.starts_with(['!', '&']) {
        let Some(end) = rest.find([' ', '\t']) else { break };
        rest = rest[end..].trim_start();
    }
    value.len() - rest.len()
}

/// Whether a value is only a tag or the name of an anchor, or both, and what it is about stands in the lines below.
pub(super) fn is_only_mark(value: &str) -> bool {
    value.split([' ', '\t']).all(|word| word.starts_with(['!', '&']) && word.len() > 1)
}

/// Whether a value says that the lines below are a text: `|`, `>-`, `|2`.
pub(super) fn is_text_of_lines(value: &str) -> bool {
    value.strip_prefix(['|', '>']).is_some_and(|rest| rest.chars().all(|next| "+-0123456789".contains(next)))
}

/// Whether `value` can stand anywhere as it is, without quotes.
pub(super) fn is_bare(format: &Blocks, value: &str) -> bool {
    let begins_note = |mark: &String| {
        value.match_indices(mark.as_str()).any(|(at, _)| at == 0 || value[..at].ends_with([' ', '\t']))
    };
    let has_sign = || match format.assign {
        Some(':') => value.ends_with(':') || value.contains(": ") || value.contains(":\t"),
        Some(sign) => value.contains(sign),
        None => value.contains([' ', '\t']),
    };
    !value.is_empty()
        && value.trim() == value
        && !value.starts_with(['"', '\'', '!', '&', '*', '|', '>', '%', '@', '`', '?'])
        && value != ITEM_MARK
        && !value.starts_with("- ")
        && !value.contains(['[', ']', '{', '}', ','])
        && !format.comments.iter().any(begins_note)
        && !has_sign()
}
