//! Parsing blocks that the indentation of their lines nests, into the tree that those with braces have.
//!
//! ```text
//! crews:
//!   - id: tow            # a block without a name
//!     needs: [rope, oar] # an entry with two values
//!   - id: lamp
//!     home:
//!       place: mill run
//! ```
//!
//! A line is a key with its value, the head of a block (a key alone), or an item behind a mark. What stands further to the
//! right than a head is inside it. Lists and entries may also stand in brackets. No recursion.

use super::Blocks;
use super::scalars::{is_only_mark, is_text_of_lines};
use super::tree::{Kind, Node, Tree};
use crate::Code;
use crate::formats::flat_tree::{DEEP, MOST_FAULTS, shorten};
use crate::formats::{Cell, Fault, Form};
use crate::text::{Span, Text};
use hashbrown::HashSet;
use std::ops::Range;

/// A block whose lines may still come.
pub(super) struct Open {
    pub node: usize,
    /// Where its line begins, in columns.
    pub column: usize,
    /// Whether a mark of an item opens it.
    pub is_item: bool,
    /// Where the lines inside it begin.
    pub inner: Option<usize>,
    /// Where lines inside it begin that are told to be out of place.
    pub misplaced: Option<usize>,
}

impl Open {
    pub fn new(node: usize, column: usize, is_item: bool) -> Open {
        Open { node, column, is_item, inner: None, misplaced: None }
    }
}

/// What may go on over the next lines.
enum Unfinished {
    Nothing,
    /// A value that began on the line of its key, at this column, with the position of its word.
    Value {
        column: usize,
        word: usize,
    },
    /// A text that consists of the lines further to the right than this column, of which there may be none yet.
    Lines {
        column: usize,
        node: usize,
        word: Option<usize>,
    },
}

/// What a line is to what the line before began.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Continued {
    /// It goes on with that, and is read.
    Taken,
    /// It is something new.
    Not,
    /// It stands where it should go on with that, and does not.
    Misplaced,
}

/// Parses a text, whatever it is: its tree, and what is wrong with it. Where the mark of an item is missing, the lines below
/// tell.
pub(super) fn parse(format: &Blocks, text: &Text<'_>) -> (Tree, Vec<Fault>) {
    let mut parser = IndentParser::new(format, text, HashSet::new());
    parser.run(text.body());
    let items = &parser.item_columns;
    let lost = parser.lost_marks.iter().filter(|(column, _)| items.contains(column));
    let lost: HashSet<usize> = lost.map(|(_, start)| *start).collect();
    if !lost.is_empty() {
        parser = IndentParser::new(format, text, lost);
        parser.run(text.body());
    }
    (parser.tree, parser.faults)
}

pub(super) struct IndentParser<'p> {
    pub format: &'p Blocks,
    pub text: &'p str,
    pub tree: Tree,
    faults: Vec<Fault>,
    pub open: Vec<Open>,
    /// Where the lines outside of all blocks begin.
    top: Option<usize>,
    /// Whether the file has parts, each of which may have the same keys.
    has_parts: bool,
    /// One past the last thing read that is no note.
    pub last_end: usize,
    unfinished: Unfinished,
    /// What is before this byte was read with a line before.
    pub read_to: usize,
    /// The columns at which items begin.
    item_columns: HashSet<usize>,
    /// Lines that seem to lack the mark of an item: the column where it belongs, and the byte where the line begins.
    lost_marks: Vec<(usize, usize)>,
    /// The bytes at which lines begin that are known to lack it.
    without_mark: HashSet<usize>,
}

impl<'p> IndentParser<'p> {
    fn new(format: &'p Blocks, text: &Text<'p>, without_mark: HashSet<usize>) -> IndentParser<'p> {
        IndentParser {
            format,
            text: text.as_str(),
            tree: Tree::default(),
            faults: Vec::new(),
            open: Vec::new(),
            top: None,
            has_parts: false,
            last_end: text.body(),
            unfinished: Unfinished::Nothing,
            read_to: text.body(),
            item_columns: HashSet::new(),
            lost_marks: Vec::new(),
            without_mark,
        }
    }

    fn run(&mut self, body: usize) {
        let mut at = body;
        while at < self.text.len() {
            let end = self.line_end(at);
            if at >= self.read_to {
                self.line(at, end);
            }
            at = end + 1;
        }
        while !self.open.is_empty() {
            self.close();
        }
        if !self.has_parts {
            self.repeated_keys(None);
        }
    }

    pub fn line_end(&self, at: usize) -> usize {
        memchr::memchr(b'\n', &self.text.as_bytes()[at..]).map_or(self.text.len(), |end| at + end)
    }

    fn line(&mut self, begin: usize, end: usize) {
        let line = &self.text[begin..end];
        let content = line.trim();
        let start = begin + (line.len() - line.trim_start().len());
        let column = column_of(&line[..start - begin]);
        let before = self.continued(start, column, content);
        if before == Continued::Taken || content.is_empty() || self.is_note(content) {
            return;
        }
        let is_mark = column == 0 && self.format.assign == Some(':');
        let is_line = |mark: &str| {
            content.strip_prefix(mark).is_some_and(|rest| rest.is_empty() || rest.starts_with(' '))
        };
        if is_mark && (is_line("---") || is_line("...") || content.starts_with('%')) {
            while !self.open.is_empty() {
                self.close();
            }
            self.has_parts |= self.top.take().is_some();
            return;
        }
        if self.without_mark.contains(&start) {
            let shown = shorten(content);
            let message = format!("`{ITEM_MARK}` is missing before `{shown}`");
            self.fault(start, content.len(), message, "add it, with a blank behind it");
            let ends = |top: &Open| top.column >= column || (top.column + 1 == column && top.is_item);
            while self.open.last().is_some_and(ends) {
                self.close();
            }
            self.open_block(start, column - 1, true, 0..0, start);
            let inner = column + 1;
            if let Some(open) = self.open.last_mut() {
                open.inner = Some(inner);
            }
            return self.content(start, begin + line.trim_end().len(), inner, false);
        }
        let lacks_blank = self.lacks_blank(content, column);
        let is_item = self.item_len(content).is_some() || lacks_blank;
        if is_item {
            self.item_columns.insert(column);
        }
        while let Some(top) = self.open.last() {
            // The items of a list may stand right below its head.
            let is_list = is_item && column == top.column && !top.is_item;
            if column > top.column || is_list {
                break;
            }
            self.close();
        }
        let (inner, misplaced) = match self.open.last_mut() {
            Some(open) => (open.inner.get_or_insert(column), Some(&mut open.misplaced)),
            None => (self.top.get_or_insert(column), None),
        };
        let beside = *inner;
        let is_known = misplaced.as_ref().is_some_and(|column_of| **column_of == Some(column));
        if before == Continued::Misplaced || is_known {
            // That is told, and others may stand like it.
            if let Some(misplaced) = misplaced {
                *misplaced = Some(column);
            }
            return self.content(start, begin + line.trim_end().len(), column, lacks_blank);
        }
        if beside != column {
            *inner = column;
            let message = format!(
                "this line is indented by {column}, and those beside it by {beside}: it is not clear where it belongs"
            );
            self.fault(start, content.len(), message, "indent it like the lines that it belongs to");
        }
        self.content(start, begin + line.trim_end().len(), column, lacks_blank);
    }

    /// Takes a line that goes on with what the line before began.
    fn continued(&mut self, start: usize, column: usize, content: &str) -> Continued {
        let end = start + content.len();
        match self.unfinished {
            Unfinished::Nothing => Continued::Not,
            Unfinished::Lines { column: head, node, word } => {
                if content.is_empty() {
                    return Continued::Taken;
                }
                if column <= head {
                    self.unfinished = Unfinished::Nothing;
                    return Continued::Not;
                }
                match word {
                    Some(word) => self.tree.words[word].span.end = Span::new(0, end).end,
                    None => {
                        let word = self.tree.words.len();
                        self.tree.words.push(Cell { span: Span::new(start, end), form: Form::Plain });
                        self.tree.nodes[node].words.end = word + 1;
                        self.unfinished = Unfinished::Lines { column: head, node, word: Some(word) };
                    }
                }
                self.end_leaf(node, end);
                Continued::Taken
            }
            Unfinished::Value { column: head, word } => {
                if content.is_empty() || self.is_note(content) {
                    return Continued::Not;
                }
                self.unfinished = Unfinished::Nothing;
                if column <= head {
                    return Continued::Not;
                }
                let behind = self.without_note(start, end);
                if self.item_len(content).is_none() && self.sign_in(start, behind).is_none() {
                    self.tree.words[word].span.end = Span::new(0, behind).end;
                    let node = self.tree.nodes.len() - 1;
                    self.end_leaf(node, behind);
                    self.unfinished = Unfinished::Value { column: head, word };
                    return Continued::Taken;
                }
                let node = self.tree.nodes.len() - 1;
                if let (Kind::Item, Some(sign)) = (self.tree.nodes[node].kind, self.format.assign) {
                    // Most likely the sign is missing there, and what follows is inside.
                    let span = self.tree.words[word].span;
                    let message = format!("there is no `{sign}` in this item, and keys stand below it");
                    self.fault(span.start as usize, span.len(), message, "write its key and its value");
                    let words = self.tree.words.len();
                    let item = &mut self.tree.nodes[node];
                    (item.kind, item.words) = (Kind::Block, words..words);
                    self.open.push(Open::new(node, head, true));
                    return Continued::Not;
                }
                if let (Some(mark), true) = (head.checked_sub(1), column == head + 1) {
                    self.lost_marks.push((mark, self.tree.nodes[node].span.start as usize));
                }
                let message =
                    "this is indented below a line that has a value, and stands in no block".to_owned();
                self.fault(
                    start,
                    content.len(),
                    message,
                    "indent it like that line, or take the value there away",
                );
                Continued::Misplaced
            }
        }
    }

    /// Lets a leaf end at byte `end`.
    fn end_leaf(&mut self, node: usize, end: usize) {
        self.tree.nodes[node].span.end = Span::new(0, end).end;
        self.last_end = end;
    }

    pub fn is_note(&self, content: &str) -> bool {
        self.format.comments.iter().any(|mark| content.starts_with(mark.as_str()))
    }

    /// The length of the mark of an item at the start of `content`, if one stands there, perhaps doubled.
    fn item_len(&self, content: &str) -> Option<usize> {
        let bytes = content.as_bytes();
        let len = bytes.iter().take_while(|byte| **byte == ITEM_MARK.as_bytes()[0]).count();
        (len > 0 && matches!(bytes.get(len), None | Some(b' ' | b'\t'))).then_some(len)
    }

    /// Whether `content` is most likely an item, like others at `column`, whose mark has no blank behind it.
    fn lacks_blank(&self, content: &str, column: usize) -> bool {
        let rest = content.strip_prefix(ITEM_MARK);
        rest.is_some_and(|rest| rest.starts_with(char::is_alphabetic))
            && self.open.iter().any(|open| open.is_item && open.column == column)
    }

    /// What stands from `start` to `end`, at `column`: an item (whose mark perhaps lacks the blank behind it), a key with its
    /// value, the head of a block.
    fn content(&mut self, mut start: usize, end: usize, mut column: usize, lacks_blank: bool) {
        if lacks_blank {
            let message = format!("there is no blank behind `{ITEM_MARK}`");
            self.fault(start, ITEM_MARK.len(), message, "put one there");
        }
        let behind = self.without_note(start, end);
        let mut first = lacks_blank.then_some(ITEM_MARK.len());
        while let Some(len) = first.take().or_else(|| self.item_len(&self.text[start..end])) {
            let behind = behind.max(start + len);
            let rest = self.text[start + len..behind].trim_start();
            let at = behind - rest.len();
            if len > ITEM_MARK.len() {
                self.fault(start, len, format!("there is more than one `{ITEM_MARK}`"), "leave one");
            }
            if rest.is_empty() || is_only_mark(rest) {
                return self.open_block(start, column, true, 0..0, start + len);
            }
            let nests =
                self.item_len(rest).is_some() || (!rest.starts_with(['[', '{']) && self.is_entry(at, behind));
            if !nests {
                return self.item(start, at, end, column);
            }
            self.open_block(start, column, true, 0..0, start + len);
            // The lines below stand as if the mark were as it should be.
            let is_sound = len == ITEM_MARK.len() && at > start + len;
            column += if is_sound { at - start } else { ITEM_MARK.len() + 1 };
            if let Some(open) = self.open.last_mut() {
                open.inner = Some(column);
            }
            start = at;
        }
        if self.brackets_below_key(start, end) {
            return;
        }
        match self.format.assign {
            Some(sign) => self.assigned(start, end, column, sign),
            None => self.bare(start, end, column),
        }
    }

    /// The key on the line above, if it has no value yet and nothing stands inside it.
    fn key_without_value(&self) -> Option<&Open> {
        let open = self.open.last().filter(|open| !open.is_item)?;
        let is_bare = self.tree.nodes.len() == open.node + 1 && self.tree.nodes[open.node].words.len() == 1;
        is_bare.then_some(open)
    }

    /// Takes brackets that begin a line as the value of the key on the line above; gives whether there is such a key.
    fn brackets_below_key(&mut self, start: usize, end: usize) -> bool {
        if !self.text[start..end].starts_with(['[', '{']) {
            return false;
        }
        if self.key_without_value().is_none() {
            return false;
        }
        let Some((open, key)) = self.open.pop().zip(self.tree.nodes.pop()) else { return false };
        if self.brackets(start, end, open.column, key.words.start, key.span.start as usize) {
            return true;
        }
        self.tree.nodes.push(key);
        self.open.push(open);
        false
    }

    fn is_entry(&self, start: usize, end: usize) -> bool {
        match self.format.assign {
            Some(_) => self.sign_in(start, end).is_some(),
            None => self.text[start..end].contains([' ', '\t']),
        }
    }

    /// A key with its value or the head of a block, where a sign stands between the two.
    fn assigned(&mut self, start: usize, end: usize, column: usize, sign: char) {
        let behind = self.without_note(start, end);
        let Some(at) = self.sign_in(start, behind) else {
            if self.value_below_key(start, end, behind) {
                return;
            }
            let shown = shorten(&self.text[start..behind]);
            let message = format!("there is no `{sign}` behind `{shown}`");
            if self.next_column(end).is_some_and(|next| next > column) {
                self.fault(start, behind - start, message, "add it");
                self.tree.words.push(Cell { span: Span::new(start, behind), form: Form::Plain });
                let words = self.tree.words.len() - 1..self.tree.words.len();
                return self.open_block(start, column, false, words, behind);
            }
            self.fault(start, behind - start, message, "write the key and its value");
            return self.item(start, start, end, column);
        };
        let first = self.tree.words.len();
        let key = match self.quoted(start, at) {
            Some((cell, _)) => cell,
            None => Cell { span: trimmed(self.text, start, at), form: Form::Plain },
        };
        let mut key = key;
        let shown = key.span.of(self.text);
        let doubled = shown.len() - shown.trim_end_matches(sign).len();
        if doubled > 0 && key.form == Form::Plain {
            key.span.end -= doubled as u32;
            let message = format!("there is more than one `{sign}`");
            self.fault(key.span.end as usize, doubled, message, "leave one");
        }
        self.tree.words.push(key);
        if key.span.is_empty() && key.form == Form::Plain {
            let message = format!("there is no key before `{sign}`");
            self.fault(at, sign.len_utf8(), message, "remove it, or write the key");
        }
        let value = trimmed(self.text, at + sign.len_utf8(), behind);
        let text = value.of(self.text);
        let from = value.start as usize + self.tags_len(text);
        if text.is_empty() || is_only_mark(text) {
            let label = Cell { span: value, form: Form::Plain };
            if text.starts_with('!') {
                self.tree.words.push(label);
            }
            return self.open_block(start, column, false, first..self.tree.words.len(), behind);
        }
        if sign == ':' && is_text_of_lines(&self.text[from..behind]) {
            let node = self.leaf(Kind::Entry, first, start, behind);
            self.unfinished = Unfinished::Lines { column, node, word: None };
            return;
        }
        self.value(Kind::Entry, first, start, from..end, column);
    }

    /// The value at `place` (as far as the end of its line), of the entry or item at byte `start` whose words begin with `first`.
    fn value(&mut self, kind: Kind, first: usize, start: usize, place: Range<usize>, column: usize) {
        let Range { start: from, end } = place;
        if self.text[from..end].starts_with(['[', '{']) && self.brackets(from, end, column, first, start) {
            return;
        }
        let (cell, end) = self.scalar(from, end);
        self.tree.words.push(cell);
        self.leaf(kind, first, start, end);
        if cell.form == Form::Plain {
            self.unfinished = Unfinished::Value { column, word: self.tree.words.len() - 1 };
        }
    }

    /// Takes the text from `start` to `behind`, on a line that ends at `end`, as the value of the key on the line above that has
    /// none; gives whether there is such a key.
    fn value_below_key(&mut self, start: usize, end: usize, behind: usize) -> bool {
        let Some(open) = self.key_without_value() else { return false };
        let (node, column) = (open.node, open.column);
        // What is a key that lost its sign has other keys beside it or below, or one word behind it.
        let own_column = open.inner.unwrap_or_default();
        let is_key = match self.next_line(end) {
            Some((next, _)) if next > own_column => true,
            Some((next, place)) if next == own_column => self.sign_in(place.start, place.end).is_some(),
            _ => self.text[start..behind].split_whitespace().count() == 2,
        };
        let quoted = self.quoted(start, end).filter(|(_, after)| *after >= behind);
        if is_key && quoted.is_none() {
            return false;
        }
        let cell =
            quoted.map_or(Cell { span: Span::new(start, behind), form: Form::Plain }, |(cell, _)| cell);
        self.tree.words.push(cell);
        self.open.pop();
        let key = &mut self.tree.nodes[node];
        key.kind = Kind::Entry;
        key.words.end += 1;
        self.end_leaf(node, behind);
        if quoted.is_none() {
            self.unfinished = Unfinished::Value { column, word: self.tree.words.len() - 1 };
        }
        true
    }

    /// Words side by side: the head of a block if what follows is further to the right, or an entry.
    fn bare(&mut self, start: usize, end: usize, column: usize) {
        let behind = self.without_note(start, end);
        let first = self.tree.words.len();
        let mut at = start;
        while at < behind {
            let quoted = self.quoted(at, behind);
            if quoted.is_none() && self.text[at..behind].starts_with(['"', '\'']) {
                self.open_quote(at);
            }
            let (cell, next) = quoted.unwrap_or_else(|| {
                let len = self.text[at..behind].find([' ', '\t']).unwrap_or(behind - at);
                (Cell { span: Span::new(at, at + len), form: Form::Plain }, at + len)
            });
            self.tree.words.push(cell);
            at = behind - self.text[next..behind].trim_start().len();
        }
        if self.next_column(end).is_some_and(|next| next > column) {
            return self.open_block(start, column, false, first..self.tree.words.len(), behind);
        }
        let kind = if self.tree.words.len() - first == 1 { Kind::Item } else { Kind::Entry };
        self.leaf(kind, first, start, behind);
    }

    /// The column of the next line that is neither blank nor a note.
    fn next_column(&self, end: usize) -> Option<usize> {
        self.next_line(end).map(|(column, _)| column)
    }

    /// The column of the next line that is neither blank nor a note, and its place without the blanks around it.
    fn next_line(&self, mut end: usize) -> Option<(usize, Range<usize>)> {
        while end < self.text.len() {
            let begin = end + 1;
            end = self.line_end(begin.min(self.text.len()));
            let line = self.text.get(begin..end)?;
            if !line.trim().is_empty() && !self.is_note(line.trim()) {
                let place = trimmed(self.text, begin, end).range();
                return Some((column_of(&self.text[begin..place.start]), place));
            }
        }
        None
    }

    /// An item with one value, which begins at byte `at`, behind its mark.
    fn item(&mut self, start: usize, at: usize, end: usize, column: usize) {
        let first = self.tree.words.len();
        let at = at + self.tags_len(self.text[at..end].trim_end());
        self.value(Kind::Item, first, start, at..end, column);
    }

    fn open_block(&mut self, start: usize, column: usize, is_item: bool, words: Range<usize>, end: usize) {
        let node = self.push(Kind::Block, words, start);
        self.open.push(Open::new(node, column, is_item));
        self.last_end = end;
        if self.open.len() == DEEP {
            let message = format!("{DEEP} blocks are open here, one inside the other");
            self.fault(start, 1, message, "no game reads data that deep; look at the indentation further up");
        }
    }

    pub fn push(&mut self, kind: Kind, words: Range<usize>, start: usize) -> usize {
        let parent = self.open.last().map(|open| open.node);
        let node = self.tree.nodes.len();
        let words = if words.is_empty() { self.tree.words.len()..self.tree.words.len() } else { words };
        self.tree.nodes.push(Node { kind, words, span: Span::new(start, start), parent, end: node + 1 });
        node
    }

    pub fn leaf(&mut self, kind: Kind, first: usize, start: usize, end: usize) -> usize {
        let node = self.push(kind, first..self.tree.words.len(), start);
        self.end_leaf(node, end);
        node
    }

    /// Closes the innermost block, behind the last thing in it.
    pub fn close(&mut self) {
        let Some(open) = self.open.pop() else { return };
        self.repeated_keys(Some(open.node));
        let len = self.tree.nodes.len();
        let node = &mut self.tree.nodes[open.node];
        node.end = len;
        node.span.end = Span::new(0, self.last_end).end.max(node.span.start);
    }

    /// Tells of keys that stand twice in a block, or outside of all, where each has one value.
    fn repeated_keys(&mut self, block: Option<usize>) {
        if !self.is_strict() {
            return;
        }
        if let Some(block) = block {
            self.tree.nodes[block].end = self.tree.nodes.len();
        }
        let mut seen = HashSet::new();
        let has_key = |child: &usize| self.tree.nodes[*child].kind != Kind::Item;
        let keys = self.tree.children(block).filter(has_key);
        let keys = keys.filter_map(|child| self.tree.nodes[child].words.clone().next());
        let twice: Vec<Span> = keys
            .map(|word| self.tree.words[word].span)
            .filter(|key| !seen.insert(key.of(self.text)))
            .collect();
        let Some(first) = twice.first() else { return };
        let shown = shorten(first.of(self.text));
        // Most likely the line that begins another block is missing.
        let (message, help) = match twice.len() - 1 {
            0 => (format!("`{shown}` stands twice in this block"), "remove one of them".to_owned()),
            more => {
                let head =
                    format!("add the `{ITEM_MARK}` or the key where another block begins, or remove them");
                (format!("`{shown}` stands twice in this block, and {more} more keys"), head)
            }
        };
        if self.faults.len() < MOST_FAULTS {
            self.faults.push(Fault::new(Code::DUPLICATE_MEMBER, *first, message).help(&help));
        }
    }

    pub fn fault(&mut self, at: usize, len: usize, message: String, help: &str) {
        if self.faults.len() < MOST_FAULTS {
            let span = Span::new(at, at + len.max(1).min(self.text.len() - at));
            self.faults.push(Fault::new(Code::SYNTAX_ERROR, span, message).help(help));
        }
    }
}

/// What begins an item of a list.
pub(super) const ITEM_MARK: &str = "-";

/// How far to the right `blanks` lead: a tab goes on to the next multiple of eight.
pub(super) fn column_of(blanks: &str) -> usize {
    blanks.bytes().fold(0, |column, byte| if byte == b'\t' { (column / 8 + 1) * 8 } else { column + 1 })
}

/// The place of what stands between two bytes, without the blanks around it.
pub(super) fn trimmed(text: &str, start: usize, end: usize) -> Span {
    let own = &text[start..end];
    let begin = start + (own.len() - own.trim_start().len());
    Span::new(begin, begin + own.trim().len())
}
