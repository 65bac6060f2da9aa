//! Values in brackets within lines that their indentation nests: lists and entries, one inside the other.

use super::by_indent::{IndentParser, Open, column_of, trimmed};
use super::tree::Kind;
use crate::formats::flat_tree::shorten;
use crate::formats::{Cell, Form};
use std::ops::Range;

impl IndentParser<'_> {
    /// Reads the value in brackets at byte `at`: a list, or entries, of the entry or item whose words begin with `first`. It may go
    /// on over lines that are further to the right than `column`. Gives whether it is closed.
    pub(super) fn brackets(
        &mut self,
        at: usize,
        end: usize,
        column: usize,
        first: usize,
        start: usize,
    ) -> bool {
        let Some(close) = self.closing_bracket(at, end, column) else {
            let shown = &self.text[at..=at];
            let closing = if shown == "[" { "]" } else { "}" };
            let message = format!("the `{shown}` is not closed");
            self.fault(at, 1, message, &format!("close it with `{closing}`"));
            return false;
        };
        let inside = &self.text[at + 1..close];
        let sign = self.format.assign.unwrap_or(':');
        if self.text[at..].starts_with('{') && !inside.contains(sign) && !inside.trim().is_empty() {
            // A text with a part in braces.
            return false;
        }
        let rest = self.text[close + 1..self.line_end(close)].trim();
        if !rest.is_empty() && !self.is_note(rest) {
            if !self.is_strict() {
                // A text that only begins so.
                return false;
            }
            let message = "something stands behind the bracket that closes the value".to_owned();
            self.fault(close, 1, message, "remove one of them, or put all of it in quotes");
        }
        self.read_to = close + 1;
        let has_key = self.tree.words.len() > first;
        if self.text.as_bytes()[at] == b'[' && has_key && !inside.contains(['[', '{', ':']) {
            let mut next = at + 1;
            while let Some((cell, behind)) = self.in_brackets(next, close) {
                match cell.span.is_empty() && cell.form == Form::Plain {
                    false => self.tree.words.push(cell),
                    true if !inside.trim().is_empty() => self.empty_item(cell.span.start as usize),
                    true => {}
                }
                next = behind;
            }
            self.leaf(Kind::Entry, first, start, close + 1);
            return true;
        }
        self.nested_brackets(at, close, first, start);
        true
    }

    /// Tells of a comma at byte `at` with nothing before it.
    fn empty_item(&mut self, at: usize) {
        self.fault(at, 1, "there is nothing before this comma".to_owned(), "remove it, or write the item");
    }

    /// The bracket that closes the one at byte `at`.
    fn closing_bracket(&self, at: usize, end: usize, column: usize) -> Option<usize> {
        let bytes = self.text.as_bytes();
        let mut open: Vec<u8> = Vec::new();
        let (mut next, mut line_end) = (at, end);
        loop {
            if next >= line_end {
                let begin = self.line_end(next.min(self.text.len())) + 1;
                let line = self.text.get(begin..self.line_end(begin.min(self.text.len())))?;
                let content = line.trim_start();
                let deeper = column_of(&line[..line.len() - content.len()]) > column;
                if !deeper && !content.is_empty() && !content.starts_with([']', '}']) {
                    return None;
                }
                (next, line_end) = (begin, begin + line.len());
                continue;
            }
            match bytes[next] {
                b'[' => open.push(b']'),
                b'{' => open.push(b'}'),
                _ if self.at_note(next) => {
                    next = line_end;
                    continue;
                }
                b'"' | b'\'' if starts_value(&self.text[at..next]) => {
                    let (_, behind) = self.quoted(next, line_end)?;
                    next = behind;
                    continue;
                }
                close @ (b']' | b'}') => {
                    if open.pop() != Some(close) {
                        return None;
                    }
                    if open.is_empty() {
                        return Some(next);
                    }
                }
                _ => {}
            }
            next += 1;
        }
    }

    /// Whether a note begins at byte `at`, which may be within a letter, behind a blank.
    fn at_note(&self, at: usize) -> bool {
        let (before, rest) = self.text.as_bytes().split_at(at);
        let is_apart = before.last().is_some_and(u8::is_ascii_whitespace);
        is_apart && self.format.comments.iter().any(|mark| rest.starts_with(mark.as_bytes()))
    }

    /// The first byte from `at` on, before `end`, that is neither a blank nor in a note.
    fn past_notes(&self, mut at: usize, end: usize) -> usize {
        loop {
            at = end - self.text[at..end].trim_start().len();
            if at >= end || !self.at_note(at) {
                return at;
            }
            at = self.line_end(at).min(end);
        }
    }

    /// The word at byte `at`, in quotes or as far as a sign, a note or the end of the line, and the byte behind it.
    fn word_in_brackets(&self, at: usize, end: usize) -> (Cell, usize) {
        self.quoted(at, end).unwrap_or_else(|| {
            let mut len = up_to_sign(&self.text[at..end]).len();
            if let Some(note) = (at + 1..at + len).find(|at| self.at_note(*at)) {
                len = note - at;
            }
            (Cell { span: trimmed(self.text, at, at + len), form: Form::Plain }, at + len)
        })
    }

    /// The value between brackets that begins behind byte `at`, and the byte behind it and its comma; `None` at `end`.
    fn in_brackets(&self, at: usize, end: usize) -> Option<(Cell, usize)> {
        let start = self.past_notes(at, end);
        if start >= end {
            return None;
        }
        let (cell, behind) = self.word_in_brackets(start, end);
        let at = self.past_notes(behind, end);
        Some((cell, if self.text[at..end].starts_with(',') { at + 1 } else { at }))
    }

    /// What stands between the brackets at the bytes `at` and `close`, with others inside them, as blocks.
    fn nested_brackets(&mut self, at: usize, close: usize, first: usize, start: usize) {
        // The blocks that are open, and whether each holds entries.
        let mut inside: Vec<(usize, bool)> = Vec::new();
        let base = self.open.len();
        let mut words = first..self.tree.words.len();
        let mut begin = start;
        let mut next = at;
        while next <= close {
            match self.text.as_bytes()[next] {
                open @ (b'[' | b'{') => {
                    let node = self.push(Kind::Block, std::mem::replace(&mut words, 0..0), begin);
                    self.open.push(Open::new(node, 0, false));
                    inside.push((node, open == b'{'));
                    next += 1;
                }
                b']' | b'}' => {
                    self.last_end = next + 1;
                    inside.pop();
                    self.close();
                    words = 0..0;
                    next += 1;
                }
                b',' => {
                    if self.text[at..next].trim_end().ends_with([',', '[', '{']) {
                        self.empty_item(next);
                    }
                    next += 1;
                }
                b' ' | b'\t' | b'\r' | b'\n' => next += 1,
                _ if self.at_note(next) => next = self.line_end(next).min(close),
                _ => {
                    begin = next;
                    let has_entries = inside.last().is_some_and(|(_, entries)| *entries);
                    next = self.value_in_brackets(next, close, has_entries, &mut words);
                }
            }
            if self.text.as_bytes().get(next).is_some_and(|byte| matches!(byte, b'[' | b'{'))
                && words.is_empty()
            {
                begin = next;
            }
        }
        while self.open.len() > base {
            self.close();
        }
    }

    /// A word, or a key with what follows, at byte `at` within brackets; gives the byte behind it. Where other brackets follow a
    /// key, `words` gets it.
    fn value_in_brackets(
        &mut self,
        at: usize,
        close: usize,
        has_entries: bool,
        words: &mut Range<usize>,
    ) -> usize {
        let first = self.tree.words.len();
        let sign = self.format.assign.filter(|_| has_entries);
        let at = at + self.tags_len(up_to_sign(&self.text[at..close]));
        let (mut cell, behind) = self.word_in_brackets(at, close);
        // Brackets are no words, and something is read each time.
        let mut behind = behind.max(at + 1);
        let Some(sign) = sign else {
            if self.is_strict() && cell.form == Form::Plain && cell.span.of(self.text).contains(": ") {
                // A key with its value is a block in a list.
                let node = self.push(Kind::Block, 0..0, at);
                self.open.push(Open::new(node, 0, true));
                let behind = self.value_in_brackets(at, close, true, words);
                self.last_end = behind;
                self.close();
                return behind;
            }
            self.tree.words.push(cell);
            self.leaf(Kind::Item, first, at, behind);
            return behind;
        };
        if cell.form == Form::Plain {
            let text = cell.span.of(self.text);
            let Some(found) = text.find(sign) else {
                let message = format!("there is no `{sign}` behind `{}`", shorten(text));
                self.fault(at, text.len(), message, "write the key and its value");
                self.tree.words.push(cell);
                self.leaf(Kind::Entry, first, at, behind);
                return behind;
            };
            behind = at + found;
            cell.span = trimmed(self.text, at, behind);
        }
        self.tree.words.push(cell);
        let rest = self.text[behind..close].trim_start();
        let mut value = close - rest.len();
        if rest.starts_with(sign) {
            let signs = rest.len() - rest.trim_start_matches(sign).len();
            value += signs;
            if signs > sign.len_utf8() {
                self.fault(value - signs, signs, format!("there is more than one `{sign}`"), "leave one");
            }
        }
        value = close - self.text[value..close].trim_start().len();
        value += self.tags_len(up_to_sign(&self.text[value..close]));
        match self.text[value..close].bytes().next() {
            Some(b'[' | b'{') => {
                *words = first..self.tree.words.len();
                value
            }
            None | Some(b',' | b']' | b'}') => {
                self.leaf(Kind::Entry, first, at, behind);
                value.max(at + 1)
            }
            Some(_) => {
                let (cell, behind) = self.word_in_brackets(value, close);
                self.tree.words.push(cell);
                self.leaf(Kind::Entry, first, at, behind);
                behind
            }
        }
    }
}

/// As much of `text`, which stands in brackets, as can be one value.
fn up_to_sign(text: &str) -> &str {
    &text[..text.find([',', '[', ']', '{', '}', '\n']).unwrap_or(text.len())]
}

/// Whether a value begins behind `before`, within brackets.
fn starts_value(before: &str) -> bool {
    before.trim_end().ends_with(['[', '{', ',', ':', '='])
}
