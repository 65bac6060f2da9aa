//! Parsing blocks into a flat tree of spans, whatever the text.
//!
//! No recursion: open blocks are on a stack of our own. Where braces do not match, the indentation tells where one is
//! missing.

use super::Blocks;
use crate::Code;
use crate::formats::bracket_recovery::{MissingOpen, OpenStack, missing_openers};
use crate::formats::flat_tree::{DEEP, FlatNode, LONGEST_NAME, MOST_FAULTS, children, shorten};
use crate::formats::{Cell, Fault, Form};
use crate::text::{Span, Text};
use std::collections::HashSet;
use std::ops::Range;

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Block,
    Entry,
    Item,
    /// A line that pulls in another file; its words are what follows the word that begins it.
    Include,
}

/// A block, an entry or a bare word.
#[derive(Debug)]
pub(super) struct Node {
    pub kind: Kind,
    /// The head of a block, the key and values of an entry, or the word: positions in [`Tree::words`].
    pub words: Range<usize>,
    /// All of it, from its first word to its closing brace.
    pub span: Span,
    pub parent: Option<usize>,
    /// One past the last node below this one.
    pub end: usize,
}

#[derive(Debug, Default)]
pub(super) struct Tree {
    pub nodes: Vec<Node>,
    pub words: Vec<Cell>,
    /// What is wrong with it.
    pub faults: Vec<Fault>,
}

impl FlatNode for Node {
    fn parent(&self) -> Option<usize> {
        self.parent
    }

    fn end(&self) -> usize {
        self.end
    }

    fn span(&self) -> Span {
        self.span
    }
}

impl Tree {
    /// The first word of a node.
    pub fn name(&self, node: usize) -> Option<Span> {
        Some(self.words.get(self.nodes[node].words.clone())?.first()?.span)
    }

    pub fn children(&self, parent: Option<usize>) -> impl Iterator<Item = usize> + '_ {
        children(&self.nodes, parent)
    }
}

/// The words behind a name can be spoken of up to this one.
pub(super) const MOST_WORDS: usize = 1000;

/// What a byte may be.
pub(super) type Classes = [u8; 256];
/// It ends a bare word.
const ENDS: u8 = 1;
/// A note, an include or a separator may begin with it.
const BEGINS: u8 = 2;

pub(super) fn classes(format: &Blocks) -> Classes {
    let mut classes = [0; 256];
    for byte in b" \t\r\n{}\"" {
        classes[usize::from(*byte)] |= ENDS;
    }
    let brackets = format.lists.iter().flat_map(|(open, close)| [open, close]);
    let signs = format.assign.iter().chain(&format.separators).chain(brackets);
    for sign in signs.filter(|sign| sign.is_ascii()) {
        classes[*sign as usize] |= ENDS;
    }
    let mut buffer = [0; 4];
    for sign in &format.separators {
        classes[usize::from(sign.encode_utf8(&mut buffer).as_bytes()[0])] |= BEGINS;
    }
    let opens = format.block_comment.iter().map(|(open, _)| open);
    let marks = format.comments.iter().chain(&format.include).chain(opens);
    for first in marks.filter_map(|mark| mark.as_bytes().first()) {
        classes[usize::from(*first)] |= BEGINS;
    }
    classes
}

/// Reads words.
pub(super) struct Lexer<'r> {
    pub format: &'r Blocks,
    pub classes: Classes,
    pub text: &'r str,
    pub at: usize,
    /// Where a note of any length begins that is never closed.
    pub unclosed: Option<usize>,
}

impl Lexer<'_> {
    fn byte(&self, at: usize) -> Option<u8> {
        self.text.as_bytes().get(at).copied()
    }

    pub fn at_note(&self, at: usize) -> bool {
        let rest = &self.text.as_bytes()[at..];
        self.format.comments.iter().any(|mark| rest.starts_with(mark.as_bytes()))
    }

    /// Whether a separator stands at byte `at`, and its length.
    fn separator(&self, at: usize) -> Option<usize> {
        let found = self.format.separators.iter().find(|separator| self.text[at..].starts_with(**separator));
        found.map(|separator| separator.len_utf8())
    }

    /// The length of the bare word at byte `at`.
    #[inline]
    pub fn bare_len(&self, at: usize) -> usize {
        let bytes = &self.text.as_bytes()[at..];
        let end = bytes.iter().position(|byte| self.classes[usize::from(*byte)] & ENDS != 0);
        let end = end.unwrap_or(bytes.len());
        match &self.format.block_comment {
            Some((open, _)) => memchr::memmem::find(&bytes[..end], open.as_bytes()).unwrap_or(end),
            None => end,
        }
    }

    /// One past the end of the note of any length that begins at byte `at`, if one does.
    fn block_note_end(&mut self, at: usize) -> Option<usize> {
        let (open, close) = self.format.block_comment.as_ref()?;
        let rest = self.text[at..].strip_prefix(open.as_str())?;
        match memchr::memmem::find(rest.as_bytes(), close.as_bytes()) {
            Some(end) => Some(at + open.len() + end + close.len()),
            None => {
                self.unclosed = Some(at);
                Some(self.text.len())
            }
        }
    }

    /// Passes over blanks, separators and notes; gives whether a line end was among them.
    fn blanks(&mut self) -> bool {
        let mut line_end = false;
        while let Some(next) = self.byte(self.at) {
            match next {
                b'\n' => {
                    line_end = true;
                    self.at += 1;
                }
                b' ' | b'\t' | b'\r' => self.at += 1,
                _ if self.classes[usize::from(next)] & BEGINS == 0 => break,
                _ if let Some(end) = self.block_note_end(self.at) => {
                    line_end |= self.text[self.at..end].contains('\n');
                    self.at = end;
                }
                _ if self.at_note(self.at) && !self.at_include() => self.at = self.line_end(),
                _ => match self.separator(self.at) {
                    // Where a line is an entry, a separator ends it as a line end does.
                    Some(len) => {
                        self.at += len;
                        line_end |= self.format.assign.is_none() && next == b';';
                    }
                    None => break,
                },
            }
        }
        line_end
    }

    fn line_end(&self) -> usize {
        memchr::memchr(b'\n', &self.text.as_bytes()[self.at..]).map_or(self.text.len(), |at| self.at + at)
    }

    fn at_include(&self) -> bool {
        let Some(include) = &self.format.include else { return false };
        if self.byte(self.at).is_none_or(|next| self.classes[usize::from(next)] & BEGINS == 0) {
            return false;
        }
        let rest = &self.text.as_bytes()[self.at..];
        let ends = rest.get(include.len()).is_none_or(|next| next.is_ascii_whitespace() || *next == b'"');
        rest.starts_with(include.as_bytes()) && ends
    }
}

pub(super) struct Parser<'p> {
    reader: Lexer<'p>,
    tree: Tree,
    open: OpenStack<'p>,
    faults: Vec<Fault>,
    /// How many blocks were left open, or closed without being open.
    unbalanced: usize,
    /// Closing braces without a partner.
    strays: Vec<usize>,
    /// Braces to be read as if they were there, the last one first.
    missing: Vec<MissingOpen>,
    /// Up to this byte no word begins the head of a block.
    no_head_before: usize,
    /// Where lists begin that are known to be closed nowhere.
    unclosed_lists: HashSet<usize>,
}

impl<'p> Parser<'p> {
    /// Parses a file. If braces are missing, the indentation tells where.
    pub fn parse_well(format: &'p Blocks, text: &Text<'p>) -> (Tree, Vec<Fault>) {
        let mut parser = Parser::new(format, text, false);
        parser.run();
        if parser.unbalanced > 0 {
            parser = Parser::new(format, text, true);
            parser.run();
            let mut missing = missing_openers(text.as_str(), &parser.strays);
            if !missing.is_empty() {
                missing.reverse();
                parser = Parser { missing, ..Parser::new(format, text, true) };
                parser.run();
            }
        }
        (parser.tree, parser.faults)
    }

    fn new(format: &'p Blocks, text: &Text<'p>, by_indent: bool) -> Parser<'p> {
        Parser {
            reader: Lexer {
                format,
                classes: classes(format),
                text: text.as_str(),
                at: text.body(),
                unclosed: None,
            },
            tree: Tree::default(),
            open: OpenStack::new(text.as_str(), by_indent),
            faults: Vec::new(),
            unbalanced: 0,
            strays: Vec::new(),
            missing: Vec::new(),
            no_head_before: 0,
            unclosed_lists: HashSet::new(),
        }
    }

    fn run(&mut self) {
        loop {
            self.reader.blanks();
            let start = self.reader.at;
            let Some(next) = self.reader.byte(start) else { break };
            // One that belongs behind words of another shape than that of a head.
            while let Some(missing) = self.missing.pop_if(|missing| missing.at <= start) {
                self.missing_brace(missing);
                let words = self.tree.words.len();
                self.push(Kind::Block, words..words, missing.at);
            }
            if let Some(line) = &mut self.open.line {
                line.go_to(start);
            }
            if self.reader.at_include() {
                self.include(start);
                continue;
            }
            match next {
                b'}' => {
                    self.reader.at += 1;
                    self.close_brace(start);
                }
                b'{' if self.is_doubled(start) => {
                    self.reader.at += 1;
                    self.unbalanced += 1;
                    self.fault(start, 1, "a `{` too many".to_owned(), "remove it, or close its block");
                }
                b'{' => {
                    self.outdent(start, None);
                    self.reader.at += 1;
                    let words = self.tree.words.len();
                    self.push(Kind::Block, words..words, start);
                }
                _ if self.opened_list().is_some() => self.items_in_brackets(),
                _ if self.is_list_end(next) => {
                    self.reader.at += 1;
                    let message = format!("`{}` closes nothing", next as char);
                    self.fault(start, 1, message, "remove it, or add the bracket that it closes");
                }
                _ if Some(next as char) == self.reader.format.assign => {
                    self.reader.at += 1;
                    self.fault(
                        start,
                        1,
                        "there is no key before this".to_owned(),
                        "remove it, or write the key",
                    );
                }
                _ => self.words(start),
            }
        }
        let end = self.reader.text.trim_end().len();
        if let Some(innermost) = self.open.last() {
            self.unbalanced += self.open.len();
            let at = self.tree.nodes[innermost.node].span.start as usize;
            let name = self.name(innermost.node);
            self.fault(at, 1, format!("{name} is never closed"), "add a `}` where it ends");
        }
        if let Some(start) = self.reader.unclosed {
            let (open, close) = self.reader.format.block_comment.clone().unwrap_or_default();
            let message = "the note is never closed".to_owned();
            self.fault(start, open.len(), message, &format!("close it with `{close}`"));
        }
        while let Some(open) = self.open.pop() {
            self.close(open.node, end);
        }
    }

    /// Whether a brace stands directly behind another one, in a file in which braces do not match.
    fn is_doubled(&self, at: usize) -> bool {
        self.open.line.is_some() && self.reader.text[..at].ends_with('{')
    }

    /// A line that pulls in another file.
    fn include(&mut self, start: usize) {
        let end = self.reader.line_end();
        let first = self.tree.words.len();
        self.reader.at = start + self.reader.format.include.as_ref().map_or(0, String::len);
        if !self.reader.blanks() && self.reader.at < end && self.is_word() {
            self.word();
        }
        let own = self.reader.text[start..end].trim_end().len();
        self.push_leaf(Kind::Include, first, start, start + own);
        self.reader.at = end;
    }

    /// Reads the words that begin here: the head of a block, an entry, or a bare word.
    fn words(&mut self, start: usize) {
        let first = self.tree.words.len();
        self.word();
        self.subscript(first);
        let name = self.tree.words[first];
        // A quote may be what is wrong, and then the line says nothing.
        if name.form == Form::Plain {
            self.outdent(start, Some(name.span));
        }
        let word_end = self.reader.at;
        match self.reader.format.assign {
            Some(assign) => {
                let mut line_end = self.reader.blanks();
                if self.is_missing(first, start) {
                    return;
                }
                if self.reader.byte(self.reader.at) == Some(assign as u8) {
                    self.reader.at += 1;
                    self.reader.blanks();
                    if self.is_missing(first, start) {
                        return;
                    }
                    match self.reader.byte(self.reader.at) {
                        Some(b'{') => return self.block(first, start),
                        Some(_) if self.opened_list().is_some() => {
                            self.list();
                            self.push_leaf(Kind::Entry, first, start, self.reader.at);
                        }
                        Some(next) if next != b'}' && next != assign as u8 && !self.is_list_end(next) => {
                            self.word();
                            self.push_leaf(Kind::Entry, first, start, self.reader.at);
                        }
                        _ => {
                            let message =
                                format!("the key `{}` has no value", shorten(name.span.of(self.reader.text)));
                            self.fault(start, name.span.len().max(1), message, "write the value");
                            self.push_leaf(Kind::Entry, first, start, word_end);
                        }
                    }
                    return;
                }
                // `convoy frost_run {`: further words of a head stand on the same line.
                let (words, faults) = (self.tree.words.len(), self.faults.len());
                let (mut end, mut has_list) = (word_end, false);
                let may_be_head = start >= self.no_head_before;
                while may_be_head && !line_end {
                    match self.opened_list() {
                        Some(_) => {
                            self.list();
                            has_list = true;
                        }
                        None if self.is_word() => self.word(),
                        None => break,
                    }
                    end = self.reader.at;
                    line_end = self.reader.blanks();
                }
                if self.is_missing(first, start) {
                    return;
                }
                if may_be_head && self.reader.byte(self.reader.at) == Some(b'{') {
                    return self.block(first, start);
                }
                let is_sign = self.reader.byte(self.reader.at) == Some(assign as u8);
                if has_list || (self.reader.format.bare_entries && end > word_end && !is_sign) {
                    return self.push_leaf(Kind::Entry, first, start, end);
                }
                self.no_head_before = self.no_head_before.max(end);
                // They were bare words, and are read again one by one.
                self.reader.at = word_end;
                self.tree.words.truncate(words);
                self.faults.truncate(faults);
                self.push_leaf(Kind::Item, first, start, word_end);
            }
            None => {
                let mut end = word_end;
                let mut line_end = self.reader.blanks();
                let mut has_list = false;
                while !line_end && (self.opened_list().is_some() || self.is_word()) {
                    match self.opened_list() {
                        Some(_) => {
                            self.list();
                            has_list = true;
                        }
                        None => self.word(),
                    }
                    end = self.reader.at;
                    line_end = self.reader.blanks();
                }
                if self.is_missing(first, start) {
                    return;
                }
                if self.reader.byte(self.reader.at) == Some(b'{') {
                    return self.block(first, start);
                }
                let is_item = self.tree.words.len() - first == 1 && !has_list;
                let kind = if is_item { Kind::Item } else { Kind::Entry };
                self.push_leaf(kind, first, start, end);
            }
        }
    }

    /// Reads a name in brackets and quotes before a sign, as scripts have them: `goods["coal"] =` is `goods` with `coal` behind it, and
    /// `["coal"] =` is `coal`. The word `first`, which ends with the opening bracket, is read.
    fn subscript(&mut self, first: usize) {
        let Some(assign) = self.reader.format.assign else { return };
        let (name, start, faults) = (self.tree.words[first].span, self.reader.at, self.faults.len());
        let is_list = self.reader.format.lists.iter().any(|(open, _)| *open == '[');
        let opens = self.tree.words[first].form == Form::Plain && name.of(self.reader.text).ends_with('[');
        if is_list || !opens || self.reader.byte(start) != Some(b'"') {
            return;
        }
        self.word();
        let end = self.reader.at;
        let rest = self.reader.text[end..].strip_prefix(']').map(|rest| rest.trim_start_matches([' ', '\t']));
        if self.faults.len() == faults && rest.is_some_and(|rest| rest.starts_with(assign)) {
            self.reader.at = end + 1;
            match name.len() {
                1 => drop(self.tree.words.remove(first)),
                _ => self.tree.words[first].span.end -= 1,
            }
            return;
        }
        self.tree.words.truncate(first + 1);
        self.faults.truncate(faults);
        self.reader.at = start;
    }

    fn is_word(&self) -> bool {
        let next = self.reader.byte(self.reader.at);
        let assign = self.reader.format.assign.map(|assign| assign as u8);
        next.is_some_and(|next| {
            next != b'{' && next != b'}' && Some(next) != assign && !self.is_list_end(next)
        }) && self.opened_list().is_none()
            && !self.reader.at_include()
    }

    /// What closes the list that is opened here, if one is.
    fn opened_list(&self) -> Option<u8> {
        let next = self.reader.byte(self.reader.at)?;
        let found = self.reader.format.lists.iter().find(|(open, _)| *open as u32 == u32::from(next));
        found.map(|(_, close)| *close as u8)
    }

    fn is_list_end(&self, next: u8) -> bool {
        self.reader.format.lists.iter().any(|(_, close)| *close as u32 == u32::from(next))
    }

    /// A list that stands alone: its words are bare words of the block.
    fn items_in_brackets(&mut self) {
        let first = self.tree.words.len();
        self.list();
        for word in first..self.tree.words.len() {
            let span = self.tree.words[word].span;
            let parent = self.open.last().map(|open| open.node);
            let end = self.tree.nodes.len() + 1;
            self.tree.nodes.push(Node { kind: Kind::Item, words: word..word + 1, span, parent, end });
        }
    }

    /// Reads the words of the list that is opened here, also those of lists inside it, over as many lines as it takes.
    /// One that is not closed ends with its line.
    fn list(&mut self) {
        let (start, first, faults) = (self.reader.at, self.tree.words.len(), self.faults.len());
        let mut open: Vec<(u8, usize)> = Vec::new();
        while !self.unclosed_lists.contains(&start) {
            let at = self.reader.at;
            match (self.opened_list(), self.reader.byte(at)) {
                (Some(close), _) => {
                    open.push((close, at));
                    self.reader.at += 1;
                }
                (None, Some(next)) if open.last().is_some_and(|(close, _)| *close == next) => {
                    open.pop();
                    self.reader.at += 1;
                }
                (None, Some(_)) if self.is_word() => self.word(),
                _ => break,
            }
            if open.is_empty() {
                return;
            }
            self.reader.blanks();
        }
        // Those inside it that are not closed either are not gone through again.
        self.unclosed_lists.extend(open.iter().map(|(_, at)| *at));
        self.tree.words.truncate(first);
        self.faults.truncate(faults);
        self.reader.at = start;
        let close = self.opened_list().unwrap_or_default() as char;
        self.fault(start, 1, "the list is not closed".to_owned(), &format!("close it with `{close}`"));
        self.reader.at += 1;
        loop {
            let end = self.reader.at;
            if self.reader.blanks() || !self.is_word() {
                self.reader.at = end;
                return;
            }
            self.word();
        }
    }

    /// Reads one word, bare or quoted.
    fn word(&mut self) {
        let start = self.reader.at;
        if self.reader.byte(start) != Some(b'"') {
            let len = self.reader.bare_len(start).max(1);
            // A bare word may be a single byte of several only if the settings are odd; never cut one.
            let end =
                (start + len..=self.reader.text.len()).find(|at| self.reader.text.is_char_boundary(*at));
            self.reader.at = end.unwrap_or(self.reader.text.len());
            self.tree.words.push(Cell { span: Span::new(start, self.reader.at), form: Form::Plain });
            return;
        }
        let bytes = self.reader.text.as_bytes();
        let mut at = start + 1;
        let form = if self.reader.format.escapes { Form::Backslashed } else { Form::Quoted };
        loop {
            match memchr::memchr3(b'"', b'\\', b'\n', &bytes[at..]).map(|found| at + found) {
                Some(end) if bytes[end] == b'"' => {
                    self.reader.at = end + 1;
                    self.tree.words.push(Cell { span: Span::new(start + 1, end), form });
                    return;
                }
                Some(back) if bytes[back] == b'\\' => {
                    at = if self.reader.format.escapes { (back + 2).min(bytes.len()) } else { back + 1 };
                }
                Some(end) if self.reader.format.over_lines => at = end + 1,
                end => {
                    let end = end.or_else(|| memchr::memchr(b'\n', &bytes[start..]).map(|end| start + end));
                    let end = end.unwrap_or(bytes.len());
                    // What closes the block most likely does not belong to the text.
                    let kept = self.reader.text.get(start + 1..end).unwrap_or("");
                    let kept = kept.trim_end_matches(['\r', ' ', '\t', '}']);
                    self.reader.at = start + 1 + kept.len();
                    self.fault(
                        start,
                        1,
                        "the quote is not closed on its line".to_owned(),
                        "close it with `\"`",
                    );
                    self.tree.words.push(Cell { span: Span::new(start + 1, self.reader.at), form });
                    return;
                }
            }
        }
    }

    /// At the `{` of a block whose head begins with word `first`.
    fn block(&mut self, first: usize, start: usize) {
        self.reader.at += 1;
        self.push(Kind::Block, first..self.tree.words.len(), start);
    }

    /// Goes on as if the brace had been there, if one is missing behind the words from `first` on.
    fn is_missing(&mut self, first: usize, start: usize) -> bool {
        let at = self.reader.at;
        let Some(missing) = self.missing.pop_if(|missing| missing.at <= at) else { return false };
        self.missing_brace(missing);
        self.push(Kind::Block, first..self.tree.words.len(), start);
        true
    }

    fn missing_brace(&mut self, missing: MissingOpen) {
        let message =
            format!("`{{` is missing behind this; the `}}` in line {} closes nothing", missing.line);
        let (at, len) = (missing.last.start as usize, missing.last.len());
        self.fault(at, len, message, "add it, or remove the one that closes nothing");
    }

    fn push(&mut self, kind: Kind, words: Range<usize>, start: usize) {
        let parent = self.open.last().map(|open| open.node);
        let node = self.tree.nodes.len();
        self.tree.nodes.push(Node { kind, words, span: Span::new(start, start), parent, end: node + 1 });
        self.open.push(node);
        if self.open.len() == DEEP {
            let message = format!("{DEEP} blocks are open here, one inside the other");
            self.fault(start, 1, message, "look for closing braces that are missing further up");
        }
    }

    fn push_leaf(&mut self, kind: Kind, first: usize, start: usize, end: usize) {
        let parent = self.open.last().map(|open| open.node);
        let node = self.tree.nodes.len();
        let words = first..self.tree.words.len();
        self.tree.nodes.push(Node { kind, words, span: Span::new(start, end), parent, end: node + 1 });
    }

    fn close_brace(&mut self, at: usize) {
        // By the indentation it may belong to a block further out, or to one whose head is lost.
        if self.open.is_stray(at) {
            return self.stray_brace(at);
        }
        let column = self.open.line.as_ref().and_then(|line| line.column(at));
        if let Some(partner) = column.and_then(|column| self.open.at_column(column)) {
            while self.open.len() > partner + 1 {
                self.leave(at);
            }
        }
        match self.open.pop() {
            Some(open) => self.close(open.node, at + 1),
            None => self.stray_brace(at),
        }
    }

    fn stray_brace(&mut self, at: usize) {
        self.unbalanced += 1;
        self.strays.push(at);
        self.fault(at, 1, "`}` closes nothing".to_owned(), "remove it, or add the `{` that it closes");
    }

    /// What stands further out than the block around it shows that a closing brace is missing before.
    fn outdent(&mut self, start: usize, name: Option<Span>) {
        let Some(column) = self.open.line.as_ref().and_then(|line| line.column(start)) else { return };
        while let Some(open) = self.open.last() {
            let same = name.is_some_and(|name| self.name_of(open.node) == Some(name.of(self.reader.text)));
            if !self.open.is_left_at(column, same) {
                return;
            }
            self.leave(start);
        }
    }

    /// Closes the innermost block before `at`, where something shows that it should have been closed.
    fn leave(&mut self, at: usize) {
        let Some(open) = self.open.pop() else { return };
        let line = self.open.line.as_ref().map_or(0, |line| line.number);
        let own = self.name(open.node);
        let rest = &self.reader.text[at..];
        let ends = |next: char| next.is_whitespace() || "{}=".contains(next);
        let word = rest.char_indices().take(LONGEST_NAME + 1).take_while(|(_, next)| !ends(*next)).last();
        let next = &rest[..word.map_or(0, |(at, last)| at + last.len_utf8())];
        let message = match next {
            "" => format!("{own} is not closed; a closing brace is missing at or before line {line}"),
            next => format!(
                "`{}` inside {own}; a closing brace is missing at or before line {line}",
                shorten(next)
            ),
        };
        self.fault(at, next.len().max(1), message, "add the `}`, or put the indentation right");
        let end = self.reader.text[..at].trim_end().len();
        self.close(open.node, end);
    }

    fn close(&mut self, node: usize, end: usize) {
        let len = self.tree.nodes.len();
        let node = &mut self.tree.nodes[node];
        node.end = len;
        node.span.end = Span::new(0, end).end.max(node.span.start);
    }

    fn name_of(&self, node: usize) -> Option<&str> {
        let word = self.tree.nodes[node].words.clone().next()?;
        Some(self.tree.words[word].span.of(self.reader.text))
    }

    fn name(&self, node: usize) -> String {
        self.name_of(node).map_or_else(|| "the block".to_owned(), |name| format!("`{}`", shorten(name)))
    }

    fn fault(&mut self, at: usize, len: usize, message: String, help: &str) {
        if self.faults.len() < MOST_FAULTS {
            self.faults.push(Fault::new(Code::SYNTAX_ERROR, Span::new(at, at + len), message).help(help));
        }
    }
}
