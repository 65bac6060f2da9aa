//! Parsing JSON into a flat tree of spans, whatever the text.
//!
//! No recursion: open brackets are on a stack of our own, so depth costs only memory. A fault
//! costs the record it stands in; the parser finds its footing at the next comma or bracket.

use super::Json;
use crate::Code;
use crate::formats::Fault;
use crate::formats::bracket_recovery::{MissingOpen, Open, OpenStack, missing_openers};
use crate::formats::flat_tree::{DEEP, FlatNode, MOST_FAULTS, children, shorten};
use crate::text::{Edit, Span, Text};
use std::collections::HashSet;
use std::sync::Arc;

/// What a node is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Kind {
    Object,
    Array,
    Str,
    /// A number, `true` or `false`.
    Bare,
    Null,
}

/// One value of the file.
#[derive(Debug, Clone, Copy)]
pub(super) struct Node {
    pub kind: Kind,
    /// The value with its brackets; a string without its quotes, of which one may be missing.
    pub span: Span,
    /// The inside of the member name, for a member's value.
    pub name: Option<Span>,
    /// The object or array that it stands in.
    pub parent: Option<usize>,
    /// One past the last node below this one; its next sibling, if there is one.
    pub end: usize,
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

/// All values of a file in document order.
#[derive(Debug, Default)]
pub(super) struct Tree {
    pub nodes: Vec<Node>,
    /// What is wrong with it.
    faults: Vec<Fault>,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum State {
    /// After `{` or `[`: an entry or the end.
    EntryOrEnd,
    /// After a comma: an entry must follow.
    Entry,
    /// After a member name and its colon, or at the start.
    Value,
    /// After a value: a comma or the end.
    AfterValue,
}

struct Parser<'t> {
    bytes: &'t [u8],
    at: usize,
    settings: &'t Json,
    nodes: Vec<Node>,
    /// The objects and arrays that are open. If brackets do not match, they are also closed by the indentation.
    open: OpenStack<'t>,
    /// How many objects and how many arrays are open.
    opened: [usize; 2],
    names: Vec<HashSet<&'t [u8]>>,
    name: Option<Span>,
    comma: usize,
    /// One past the last value read, its closing quote or bracket included.
    value_end: usize,
    faults: Vec<Fault>,
    /// Whether brackets do not match.
    unbalanced: bool,
    /// Closing brackets without a partner.
    strays: Vec<usize>,
    /// Brackets to be read as if they were there, the last one first.
    missing: Vec<MissingOpen>,
}

impl Tree {
    /// The tree of `text`, which is parsed once; faults go to `report`. An unreadable file gives an empty tree. If brackets do
    /// not match, the indentation tells where one is missing.
    pub fn of(text: &Text<'_>, settings: &Json, report: &mut dyn FnMut(Fault)) -> Arc<Tree> {
        let Json { records: _, comments, trailing_commas } = settings;
        let shown = format!("json {comments} {trailing_commas}");
        let tree = text.parsed(&shown, || Tree::parse(text, settings));
        tree.faults.iter().cloned().for_each(report);
        tree
    }

    fn parse(text: &Text<'_>, settings: &Json) -> Tree {
        let mut parser = Parser::new(text, settings, false);
        parser.run();
        if parser.unbalanced {
            parser = Parser::new(text, settings, true);
            parser.run();
            let mut missing = missing_openers(text.as_str(), &parser.strays);
            if !missing.is_empty() {
                missing.reverse();
                parser = Parser { missing, ..Parser::new(text, settings, true) };
                parser.run();
            }
        }
        Tree { nodes: parser.nodes, faults: parser.faults }
    }

    /// The innermost object that `node` stands in.
    pub fn object_around(&self, node: usize) -> Option<usize> {
        let mut around = self.nodes[node].parent;
        while let Some(node) = around.filter(|node| self.nodes[*node].kind != Kind::Object) {
            around = self.nodes[node].parent;
        }
        around
    }

    /// The values directly inside `parent`.
    pub fn children(&self, parent: usize) -> impl Iterator<Item = usize> + '_ {
        children(&self.nodes, Some(parent))
    }
}

impl<'t> Parser<'t> {
    fn new(text: &Text<'t>, settings: &'t Json, by_indent: bool) -> Parser<'t> {
        Parser {
            bytes: text.as_str().as_bytes(),
            at: text.body(),
            settings,
            nodes: Vec::new(),
            open: OpenStack::new(text.as_str(), by_indent),
            opened: [0; 2],
            names: Vec::new(),
            name: None,
            comma: 0,
            value_end: 0,
            faults: Vec::new(),
            unbalanced: false,
            strays: Vec::new(),
            missing: Vec::new(),
        }
    }

    fn run(&mut self) {
        let mut state = State::Value;
        loop {
            self.trivia();
            let Some(&next) = self.bytes.get(self.at) else { break };
            let at = self.at;
            while let Some(missing) = self.missing.pop_if(|missing| missing.at <= at) {
                state = self.open_missing(missing);
            }
            if let Some(now) = self.outdent(next) {
                state = now;
                if self.at != at {
                    continue;
                }
            }
            if self.open.is_empty() && state == State::AfterValue {
                let span = Span::new(self.at, self.bytes.len());
                self.unbalanced = true;
                self.fault(
                    span,
                    "text after the end of the value",
                    "the file holds one value; remove what follows it",
                );
                break;
            }
            state = match state {
                State::Value => self.value(next),
                State::EntryOrEnd | State::Entry => self.entry(next, state == State::Entry),
                State::AfterValue => self.after_value(next),
            };
        }
        if self.nodes.is_empty() {
            let at = Span::new(self.at.min(self.bytes.len()), self.bytes.len());
            self.fault(at, "the file holds no value", "give it at least `{}` or `[]`, or delete it");
        }
        if let Some((place, bracket)) = self.innermost() {
            self.unbalanced = true;
            let message = format!("`{bracket}` is never closed");
            self.fault(place, &message, "add the closing bracket where its block ends");
        }
        while !self.open.is_empty() {
            self.close(self.bytes.len());
        }
    }

    /// At a line that begins further out than what is open: closes what should have been closed before.
    /// Gives the state in which reading goes on, if that changes.
    fn outdent(&mut self, next: u8) -> Option<State> {
        let closing = next == b'}' || next == b']';
        let line = self.open.line.as_mut()?;
        line.go_to(self.at);
        let (column, number) = (line.column(self.at), line.number);
        if closing && self.open.is_stray(self.at) {
            return Some(self.closes_nothing(next));
        }
        let column = column?;
        let mut closed = false;
        while let Some((place, bracket)) = self.innermost() {
            let left = match closing {
                true => self.open.is_left_by_close(column),
                false => self.open.is_left_at(column, false),
            };
            if !left || self.open.len() < 2 {
                break;
            }
            let message =
                format!("`{bracket}` is not closed; a closing bracket is missing at or before line {number}");
            self.fault(place, &message, "add it, or put the indentation right");
            self.close(self.at);
            self.name = None;
            closed = true;
        }
        // As if the comma had been there.
        closed.then_some(if closing { State::AfterValue } else { State::Entry })
    }

    /// The opening bracket of the innermost that is open.
    fn innermost(&self) -> Option<(Span, char)> {
        let node = &self.nodes[self.open.last()?.node];
        let start = node.span.start as usize;
        Some((Span::new(start, start + 1), if node.kind == Kind::Array { '[' } else { '{' }))
    }

    /// Goes on as if the bracket had been there.
    fn open_missing(&mut self, missing: MissingOpen) -> State {
        let (kind, open, close) = match self.bytes[missing.close] {
            b']' => (Kind::Array, '[', ']'),
            _ => (Kind::Object, '{', '}'),
        };
        let message =
            format!("`{open}` is missing behind this; the `{close}` in line {} closes nothing", missing.line);
        self.fault(missing.last, &message, "add it, or remove the one that closes nothing");
        self.push(kind, Span::new(missing.at, missing.at));
        self.opened(kind);
        State::EntryOrEnd
    }

    /// Takes note that the last node is open.
    fn opened(&mut self, kind: Kind) {
        self.open.push(self.nodes.len() - 1);
        self.opened[usize::from(kind == Kind::Array)] += 1;
        self.names.push(HashSet::new());
    }

    /// Passes over a closing bracket without a partner.
    fn closes_nothing(&mut self, bracket: u8) -> State {
        self.unbalanced = true;
        self.strays.push(self.at);
        let message = format!("`{}` closes nothing", bracket as char);
        self.fault(Span::new(self.at, self.at + 1), &message, "remove it, or add its opening bracket");
        self.at += 1;
        State::AfterValue
    }

    /// At the place of an entry: a member in an object, an item in an array.
    fn entry(&mut self, next: u8, after_comma: bool) -> State {
        let in_object = self.top() == Some(Kind::Object);
        match next {
            b'}' | b']' => {
                if after_comma && !self.settings.trailing_commas {
                    self.trailing_comma();
                }
                self.closing(next)
            }
            b',' => {
                self.fault(Span::new(self.at, self.at + 1), "a comma too many", "remove it");
                self.at += 1;
                State::Entry
            }
            b'"' if in_object => self.member(),
            b'{' if in_object && after_comma && self.parent() == Some(Kind::Array) => {
                self.unbalanced = true;
                let message = "the object before this one is not closed";
                self.fault(Span::new(self.at, self.at + 1), message, "add `}` before the comma");
                self.close(self.comma);
                self.name = None;
                self.value(next)
            }
            // In a file in which brackets do not match.
            b'{' if in_object && self.open.line.is_some() && self.bytes[..self.at].ends_with(b"{") => {
                self.unbalanced = true;
                self.fault(
                    Span::new(self.at, self.at + 1),
                    "a `{` too many",
                    "remove it, or close its object",
                );
                self.at += 1;
                State::EntryOrEnd
            }
            b'{' | b'[' if in_object => {
                let place = Span::new(self.at, self.at + 1);
                self.fault(place, "a member name in quotes is expected here", "write `\"name\": value`");
                self.name = None;
                self.value(next)
            }
            _ if in_object => {
                let start = self.at;
                self.skip_token();
                self.fault(
                    Span::new(start, self.at),
                    "a member name in quotes is expected here",
                    "quote the name: `\"name\": value`",
                );
                self.trivia();
                if self.bytes.get(self.at) == Some(&b':') {
                    self.name = Some(Span::new(start, self.at));
                    self.at += 1;
                    return State::Value;
                }
                State::AfterValue
            }
            _ => {
                self.name = None;
                self.value(next)
            }
        }
    }

    fn member(&mut self) -> State {
        let inside = self.string();
        let span = Span { start: inside.start - 1, end: self.at as u32 };
        let name = &self.bytes[inside.range()];
        if self.names.last_mut().is_some_and(|names| !names.insert(name)) {
            let shown = String::from_utf8_lossy(name).into_owned();
            self.report_fault(Fault::new(
                Code::DUPLICATE_MEMBER,
                inside,
                format!("the member `{shown}` stands twice in this object"),
            ));
        }
        self.name = Some(inside);
        self.trivia();
        if self.bytes.get(self.at) == Some(&b':') {
            self.at += 1;
            return State::Value;
        }
        self.fault(span, "the member name has no `:` after it", "write `\"name\": value`");
        if matches!(self.bytes.get(self.at), Some(b',' | b'}' | b']')) {
            self.name = None;
            return State::AfterValue;
        }
        State::Value
    }

    fn value(&mut self, next: u8) -> State {
        match next {
            b'{' | b'[' => {
                let kind = if next == b'{' { Kind::Object } else { Kind::Array };
                let span = Span::new(self.at, self.at + 1);
                self.push(kind, span);
                self.opened(kind);
                if self.open.len() == DEEP {
                    self.fault(
                        span,
                        &format!("{DEEP} brackets are open here, one inside the other"),
                        "look for closing brackets that are missing further up",
                    );
                }
                self.at += 1;
                State::EntryOrEnd
            }
            b'"' => {
                let span = self.string();
                self.push(Kind::Str, span);
                State::AfterValue
            }
            b',' | b'}' | b']' => {
                self.name = None;
                self.fault(
                    Span::new(self.at, self.at + 1),
                    "a value is missing before this",
                    "write the value, or `null`",
                );
                State::AfterValue
            }
            b':' => {
                self.fault(Span::new(self.at, self.at + 1), "a `:` too many", "remove it");
                self.at += 1;
                State::Value
            }
            _ => {
                let start = self.at;
                self.skip_token();
                let span = Span::new(start, self.at);
                let word = String::from_utf8_lossy(&self.bytes[start..self.at]).into_owned();
                let kind = if word == "null" { Kind::Null } else { Kind::Bare };
                if kind == Kind::Bare && !is_bare_value(&word) {
                    self.fault(
                        span,
                        &format!("`{}` is no JSON value", shorten(&word)),
                        "put text in double quotes; numbers look like `3` or `0.5`",
                    );
                }
                self.push(kind, span);
                State::AfterValue
            }
        }
    }

    fn after_value(&mut self, next: u8) -> State {
        match next {
            b',' => {
                self.comma = self.at;
                self.at += 1;
                State::Entry
            }
            b'}' | b']' => self.closing(next),
            _ => {
                let end = self.value_end;
                let place = Span::new(self.at, self.at + 1);
                let edit = Edit { span: Span::new(end, end), text: ",".to_owned() };
                let mut fault = Fault::new(Code::SYNTAX_ERROR, place, "a comma is missing before this");
                fault.fix = Some(("add the comma".to_owned(), edit));
                self.report_fault(fault);
                State::Entry
            }
        }
    }

    /// A closing bracket. One that does not fit closes what was left open inside its partner.
    fn closing(&mut self, bracket: u8) -> State {
        let kind = if bracket == b'}' { Kind::Object } else { Kind::Array };
        // Counted first, so that a file of nothing but wrong brackets is read in one pass.
        let any = self.opened[usize::from(kind == Kind::Array)] > 0;
        let partner =
            if any { self.open.iter().rposition(|open| self.nodes[open.node].kind == kind) } else { None };
        let Some(partner) = partner else { return self.closes_nothing(bracket) };
        if self.open.len() > partner + 1 && partner == 0 && self.goes_on(self.at + 1) {
            // It would end the file, and there is more: then it stands where another one is meant.
            let meant = if bracket == b'}' { ']' } else { '}' };
            self.unbalanced = true;
            let message = format!("`{}` stands where `{meant}` is expected", bracket as char);
            self.fault(Span::new(self.at, self.at + 1), &message, "write the bracket that closes this block");
            self.at += 1;
            self.close(self.at);
            return State::AfterValue;
        }
        while self.open.len() > partner + 1 {
            let Some((place, left)) = self.innermost() else { break };
            self.unbalanced = true;
            let message = format!("`{left}` is not closed before the `{}` around it", bracket as char);
            self.fault(place, &message, "add its closing bracket");
            self.close(self.at);
        }
        self.at += 1;
        self.close(self.at);
        State::AfterValue
    }

    /// Whether anything but blanks stands behind byte `at`.
    fn goes_on(&self, at: usize) -> bool {
        self.bytes[at..].iter().any(|byte| !byte.is_ascii_whitespace())
    }

    fn close(&mut self, end: usize) {
        self.value_end = end;
        self.names.pop();
        if let Some(Open { node, .. }) = self.open.pop() {
            self.opened[usize::from(self.nodes[node].kind == Kind::Array)] -= 1;
            self.nodes[node].end = self.nodes.len();
            self.nodes[node].span.end = Span::new(0, end).end;
        }
    }

    fn push(&mut self, kind: Kind, span: Span) {
        self.value_end = self.at;
        let end = self.nodes.len() + 1;
        let parent = self.open.last().map(|open| open.node);
        self.nodes.push(Node { kind, span, name: self.name.take(), parent, end });
    }

    fn top(&self) -> Option<Kind> {
        self.open.last().map(|open| self.nodes[open.node].kind)
    }

    fn parent(&self) -> Option<Kind> {
        self.open.iter().nth_back(1).map(|open| self.nodes[open.node].kind)
    }

    /// Passes over blanks and comments.
    fn trivia(&mut self) {
        while let Some(&next) = self.bytes.get(self.at) {
            let start = self.at;
            match next {
                b' ' | b'\t' | b'\r' | b'\n' => {
                    self.at += 1;
                    continue;
                }
                b'/' if self.bytes.get(start + 1) == Some(&b'/') => {
                    let end =
                        memchr::memchr(b'\n', &self.bytes[start..]).map_or(self.bytes.len(), |at| start + at);
                    self.at = end;
                }
                b'/' if self.bytes.get(start + 1) == Some(&b'*') => {
                    let end = memchr::memmem::find(&self.bytes[start..], b"*/");
                    if end.is_none() {
                        self.fault(
                            Span::new(start, start + 2),
                            "the comment is never closed",
                            "close it with `*/`",
                        );
                    }
                    self.at = end.map_or(self.bytes.len(), |at| start + at + 2);
                }
                _ => return,
            }
            if !self.settings.comments {
                let span = Span::new(start, self.at);
                let edit = Edit { span, text: String::new() };
                let mut fault =
                    Fault::new(Code::NOT_STRICT_JSON, span, "a comment, which the game does not accept here")
                        .help("if the game does, write `comments = true` in the table's format");
                fault.fix = Some(("remove the comment".to_owned(), edit));
                self.report_fault(fault);
            }
        }
    }

    /// Reads the string that begins here; gives what stands between its quotes.
    fn string(&mut self) -> Span {
        let start = self.at;
        let mut at = start + 1;
        loop {
            match memchr::memchr3(b'"', b'\\', b'\n', &self.bytes[at..]).map(|found| at + found) {
                Some(end) if self.bytes[end] == b'"' => {
                    self.at = end + 1;
                    return Span::new(start + 1, end);
                }
                Some(escape) if self.bytes[escape] == b'\\' => {
                    let meant = self.bytes.get(escape + 1).copied().unwrap_or(b' ');
                    if !b"\"\\/bfnrtu".contains(&meant) {
                        let span = Span::new(escape, escape + 1);
                        self.fault(
                            span,
                            "`\\` is followed by no known escape",
                            "write `\\\\` for a backslash",
                        );
                    }
                    at = (escape + 2).min(self.bytes.len());
                }
                end => {
                    let end = end.unwrap_or(self.bytes.len());
                    // What opens or closes blocks most likely does not belong to the string.
                    let line = &self.bytes[start + 1..end];
                    let kept = line.iter().rposition(|byte| !b" \t\r,:{}[]".contains(byte));
                    let kept = kept.map_or(0, |at| at + 1);
                    let end = start + 1 + kept;
                    self.fault(
                        Span::new(start, start + 1),
                        "the string is not closed on its line",
                        "close it with `\"`",
                    );
                    self.at = end;
                    return Span::new(start + 1, end);
                }
            }
        }
    }

    /// Passes over a word: up to the next blank, comma, colon or bracket, at least one character.
    fn skip_token(&mut self) {
        let start = self.at;
        let ends = |byte: &u8| {
            matches!(byte, b' ' | b'\t' | b'\r' | b'\n' | b',' | b':' | b'{' | b'}' | b'[' | b']' | b'"')
        };
        let len = self.bytes[start..].iter().position(ends).unwrap_or(self.bytes.len() - start);
        self.at = start + len.max(1);
    }

    fn trailing_comma(&mut self) {
        let span = Span::new(self.comma, self.comma + 1);
        let edit = Edit { span, text: String::new() };
        let mut fault = Fault::new(
            Code::NOT_STRICT_JSON,
            span,
            "a comma after the last entry, which the game does not accept here",
        )
        .help("if the game does, write `trailing_commas = true` in the table's format");
        fault.fix = Some(("remove the comma".to_owned(), edit));
        self.report_fault(fault);
    }

    fn fault(&mut self, span: Span, message: &str, help: &str) {
        self.report_fault(Fault::new(Code::SYNTAX_ERROR, span, message).help(help));
    }

    fn report_fault(&mut self, fault: Fault) {
        if self.faults.len() < MOST_FAULTS {
            self.faults.push(fault);
        }
    }
}

/// Whether `word` is a JSON number (RFC 8259, section 6), `true` or `false`.
pub(super) fn is_bare_value(word: &str) -> bool {
    let digits = |text: &str| !text.is_empty() && text.bytes().all(|b| b.is_ascii_digit());
    if matches!(word, "true" | "false") {
        return true;
    }
    let (mantissa, exponent) = match word.split_once(['e', 'E']) {
        Some((mantissa, exponent)) => (mantissa, Some(exponent)),
        None => (word, None),
    };
    let mantissa = mantissa.strip_prefix('-').unwrap_or(mantissa);
    let (whole, fraction) = match mantissa.split_once('.') {
        Some((whole, fraction)) => (whole, Some(fraction)),
        None => (mantissa, None),
    };
    digits(whole)
        && (whole == "0" || !whole.starts_with('0'))
        && fraction.is_none_or(digits)
        && exponent.is_none_or(|text| digits(text.strip_prefix(['+', '-']).unwrap_or(text)))
}
