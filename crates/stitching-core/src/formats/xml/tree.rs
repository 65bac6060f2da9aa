//! Parsing XML into a flat tree of spans, whatever the text.
//!
//! No recursion: open elements are on a stack of our own. If tags do not match, the file is parsed a
//! second time with the indentation as a witness of where an end tag is missing.

use super::{Cell, Fault, Form, reference};
use crate::Code;
use crate::formats::bracket_recovery::OpenStack;
use crate::formats::bracket_recovery::{MOST_STRAYS, missing_openers};
use crate::formats::flat_tree::{DEEP, FlatNode, MOST_FAULTS, children, shorten};
use crate::text::{Span, Text};
use memchr::{memchr, memchr2, memmem};
use std::collections::{HashMap, HashSet};
use std::ops::Range;
use std::sync::Arc;

/// An element.
#[derive(Debug)]
pub(super) struct Element {
    /// Its name in the start tag, with its prefix.
    pub name: Span,
    /// Its name in the end tag, if it has one.
    pub close_name: Option<Span>,
    /// All of it, from `<` to `>`.
    pub span: Span,
    /// Between its tags; empty for one without content.
    pub content: Span,
    pub parent: Option<usize>,
    /// One past the last element below this one.
    pub end: usize,
    attributes: Range<u32>,
}

impl Element {
    pub fn is_empty(&self) -> bool {
        self.content.is_empty()
    }
}

impl FlatNode for Element {
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

/// An attribute: its name and its value without quotes.
#[derive(Debug, Clone, Copy)]
pub(super) struct Attribute {
    pub name: Span,
    pub value: Span,
}

/// A tag with more attributes than this is looked over with a set.
const MANY_ATTRIBUTES: usize = 16;

/// All elements of a file in document order.
#[derive(Debug, Default)]
pub(super) struct Tree {
    pub elements: Vec<Element>,
    attributes: Vec<Attribute>,
    /// What is wrong with it.
    faults: Vec<Fault>,
}

impl Tree {
    /// The tree of `text`, which is parsed once; faults go to `report`.
    pub fn of(text: &Text<'_>, report: &mut dyn FnMut(Fault)) -> Arc<Tree> {
        let tree = text.parsed("xml", || Tree::parse(text));
        tree.faults.iter().cloned().for_each(report);
        tree
    }

    fn parse(text: &Text<'_>) -> Tree {
        let mut parser = Parser::parse(text, false);
        if parser.unbalanced {
            parser = Parser::parse(text, true);
        }
        Tree { faults: parser.faults, ..parser.tree }
    }

    /// The elements directly inside `parent`, or those at the top.
    pub fn children(&self, parent: Option<usize>) -> impl Iterator<Item = usize> + '_ {
        children(&self.elements, parent)
    }

    pub fn attributes(&self, element: usize) -> &[Attribute] {
        let range = &self.elements[element].attributes;
        &self.attributes[range.start as usize..range.end as usize]
    }

    /// The pieces of an element's own text: without blanks around them, empty ones, notes, and what is
    /// inside other elements.
    pub fn text_runs<'t>(&'t self, element: usize, text: &'t str) -> impl Iterator<Item = Cell> + 't {
        let content = self.elements[element].content;
        let mut children = self.children(Some(element)).map(|child| self.elements[child].span).peekable();
        let mut at = content.start as usize;
        let end = content.end as usize;
        std::iter::from_fn(move || {
            while at < end {
                if let Some(child) = children.next_if(|child| child.start as usize <= at) {
                    at = (child.end as usize).max(at);
                    continue;
                }
                let rest = &text[at..end];
                if rest.starts_with("<!--") {
                    at += rest.find("-->").map_or(rest.len(), |close| close + 3);
                } else if let Some(inner) = rest.strip_prefix("<![CDATA[") {
                    let close = inner.find("]]>");
                    let start = at + 9;
                    let len = close.unwrap_or(inner.len());
                    at = start + close.map_or(len, |close| close + 3);
                    return Some(Cell { span: Span::new(start, start + len), form: Form::XmlCdata });
                } else if rest.starts_with('<') {
                    at += rest.find('>').map_or(rest.len(), |close| close + 1);
                } else {
                    let len = rest.find('<').unwrap_or(rest.len());
                    let run = &rest[..len];
                    let lead = run.len() - run.trim_start().len();
                    let start = at + lead;
                    at += len;
                    let shown = run.trim();
                    if !shown.is_empty() {
                        return Some(Cell {
                            span: Span::new(start, start + shown.len()),
                            form: Form::XmlText,
                        });
                    }
                }
            }
            None
        })
    }

    /// The text of an element that has nothing else in it.
    #[inline]
    pub fn only_text(&self, element: usize, text: &str) -> Option<Cell> {
        let own = &self.elements[element];
        if own.end != element + 1 {
            return None;
        }
        let raw = own.content.of(text);
        let shown = raw.trim_ascii();
        if shown.is_empty() || memchr(b'<', shown.as_bytes()).is_some() || shown.trim().len() != shown.len() {
            return None;
        }
        let start = own.content.start as usize + (raw.len() - raw.trim_ascii_start().len());
        Some(Cell { span: Span::new(start, start + shown.len()), form: Form::XmlText })
    }

    /// Where the text of an element stands that has none, if it has an end tag.
    pub fn empty_text(&self, element: usize) -> Option<Cell> {
        let element = &self.elements[element];
        element.close_name?;
        let start = element.content.start as usize;
        Some(Cell { span: Span::new(start, start), form: Form::XmlText })
    }
}

struct Parser<'p> {
    text: &'p str,
    bytes: &'p [u8],
    at: usize,
    tree: Tree,
    open: OpenStack<'p>,
    /// How many elements of each name are open.
    names: HashMap<&'p str, usize>,
    faults: Vec<Fault>,
    unbalanced: bool,
    /// Whether the document type declares entities of its own.
    own_entities: bool,
    roots: usize,
    /// How many end tags close nothing.
    strays: usize,
}

impl<'p> Parser<'p> {
    fn parse(text: &Text<'p>, by_indent: bool) -> Parser<'p> {
        let mut parser = Parser {
            text: text.as_str(),
            bytes: text.as_str().as_bytes(),
            at: text.body(),
            tree: Tree::default(),
            open: OpenStack::new(text.as_str(), by_indent),
            names: HashMap::new(),
            faults: Vec::new(),
            unbalanced: false,
            own_entities: false,
            roots: 0,
            strays: 0,
        };
        parser.run();
        parser
    }

    fn run(&mut self) {
        let start = self.at;
        while let Some(found) = memchr(b'<', &self.bytes[self.at..]) {
            let tag = self.at + found;
            self.characters(self.at, tag);
            self.at = tag;
            if let Some(line) = &mut self.open.line {
                line.go_to(tag);
            }
            match self.bytes.get(tag + 1) {
                Some(b'/') => self.end_tag(tag),
                Some(b'!') => self.declaration(tag),
                Some(b'?') => self.skip_to(tag, "?>", "the instruction is never closed"),
                Some(next)
                    if next.is_ascii_alphabetic() || *next == b'_' || *next == b':' || *next >= 0x80 =>
                {
                    self.start_tag(tag);
                }
                _ => {
                    let message = "a `<` that begins no tag";
                    self.fault(
                        Code::SYNTAX_ERROR,
                        tag,
                        1,
                        message.to_owned(),
                        "write `&lt;` for the sign itself",
                    );
                    self.at = tag + 1;
                }
            }
        }
        self.characters(self.at, self.bytes.len());
        if self.tree.elements.is_empty() && self.faults.is_empty() {
            let message = "the file has no element";
            self.fault(
                Code::SYNTAX_ERROR,
                start,
                0,
                message.to_owned(),
                "give it a root element, or delete it",
            );
        }
        while let Some(element) = self.pop() {
            self.unbalanced = true;
            let (at, name) = self.name(element);
            let shown = shorten(name);
            let message = format!("`<{shown}>` is never closed");
            self.fault(
                Code::SYNTAX_ERROR,
                at,
                name.len() + 1,
                message,
                &format!("add `</{shown}>` where it ends"),
            );
            self.close(element, self.bytes.len(), self.bytes.len());
        }
    }

    /// Text between tags: every `&` in it must begin a reference, and outside of all elements there is none.
    fn characters(&mut self, start: usize, end: usize) {
        let run = &self.text[start..end];
        // Behind a tag and before a line end: no text that a reader would miss.
        if start > 0
            && self.bytes[start - 1] == b'>'
            && run.starts_with('>')
            && run.contains('\n')
            && run.trim_end() == ">"
        {
            let message = "a `>` too many".to_owned();
            self.fault(Code::SYNTAX_ERROR, start, 1, message, "remove it; as text it is `&gt;`");
        }
        if self.open.is_empty() {
            let run = &self.text[start..end];
            if let Some(at) = run.find(|next: char| !next.is_whitespace() && next != '\u{feff}') {
                let message = "text outside of all elements";
                let help = "move it into an element, or remove it";
                self.fault(
                    Code::SYNTAX_ERROR,
                    start + at,
                    run.trim().len().min(40),
                    message.to_owned(),
                    help,
                );
            }
            return;
        }
        self.references(start, end);
    }

    fn references(&mut self, start: usize, end: usize) {
        for at in memchr::memchr_iter(b'&', &self.bytes[start..end]).collect::<Vec<_>>() {
            let at = start + at;
            if reference(&self.text[at..end]).is_some() {
                continue;
            }
            let rest = &self.text[at + 1..end];
            let len = rest.find(|next: char| !next.is_alphanumeric()).unwrap_or(rest.len());
            let named = len > 0 && rest[len..].starts_with(';');
            if named && self.own_entities {
                continue;
            }
            let (len, message) = match named {
                true => (len + 2, format!("nothing says what `&{};` stands for", &rest[..len])),
                false => (1, "a `&` that begins no reference".to_owned()),
            };
            let fix = crate::text::Edit { span: Span::new(at, at + 1), text: "&amp;".to_owned() };
            let help = "strict readers refuse the file; write `&amp;` for the sign itself";
            if self.faults.len() < MOST_FAULTS {
                let mut fault = Fault::new(Code::NOT_STRICT_XML, Span::new(at, at + len), message).help(help);
                fault.fix = Some(("write `&amp;`".to_owned(), fix));
                self.faults.push(fault);
            }
        }
    }

    fn start_tag(&mut self, tag: usize) {
        let name_end = self.name_end(tag + 1);
        let name = Span::new(tag + 1, name_end);
        self.outdent(tag, name);
        let first = self.tree.attributes.len();
        self.at = name_end;
        let closed = self.attributes(name);
        let attributes = first as u32..self.tree.attributes.len() as u32;
        let parent = self.open.last().map(|open| open.node);
        if parent.is_none() {
            self.roots += 1;
            // Where something is wrong before, it may be no root at all.
            if self.roots == 2 && self.faults.iter().all(|fault| fault.code != Code::SYNTAX_ERROR) {
                let message = "a second root element".to_owned();
                let help = "strict readers stop before it; put one element around all";
                self.fault(Code::NOT_STRICT_XML, tag, name.len() + 1, message, help);
            }
        }
        let element = self.tree.elements.len();
        self.tree.elements.push(Element {
            name,
            close_name: None,
            span: Span::new(tag, self.at),
            content: Span::new(self.at, self.at),
            parent,
            end: element + 1,
            attributes,
        });
        if closed {
            return;
        }
        self.open.push(element);
        *self.names.entry(name.of(self.text)).or_default() += 1;
        if self.open.len() == DEEP {
            let message = format!("{DEEP} elements are open here, one inside the other");
            self.fault(Code::SYNTAX_ERROR, tag, 1, message, "look for end tags that are missing further up");
        }
    }

    /// Reads the attributes up to the end of the tag; gives whether it closes itself.
    fn attributes(&mut self, tag_name: Span) -> bool {
        let first = self.tree.attributes.len();
        let mut known = HashSet::new();
        loop {
            while self.bytes.get(self.at).is_some_and(u8::is_ascii_whitespace) {
                self.at += 1;
            }
            let start = self.at;
            match self.bytes.get(start) {
                Some(b'>') => {
                    self.at += 1;
                    return false;
                }
                Some(b'/') if self.bytes.get(start + 1) == Some(&b'>') => {
                    self.at += 2;
                    return true;
                }
                None | Some(b'<') => {
                    let name = tag_name.of(self.text);
                    let message = format!("the tag `<{name}` is not closed with `>`");
                    self.fault(
                        Code::SYNTAX_ERROR,
                        tag_name.start as usize - 1,
                        name.len() + 1,
                        message,
                        "close it with `>` or `/>`",
                    );
                    return false;
                }
                Some(b'=' | b'/' | b'"' | b'\'') => {
                    self.fault(
                        Code::SYNTAX_ERROR,
                        start,
                        1,
                        "an attribute's name is expected here".to_owned(),
                        "attributes look like `name=\"value\"`",
                    );
                    self.at += 1;
                    continue;
                }
                Some(_) => {}
            }
            let name = Span::new(start, self.name_end(start));
            self.at = name.end as usize;
            self.blanks();
            if self.bytes.get(self.at) != Some(&b'=') {
                let message = format!("the attribute `{}` has no value", name.of(self.text));
                self.fault(
                    Code::SYNTAX_ERROR,
                    start,
                    name.len(),
                    message,
                    "attributes look like `name=\"value\"`",
                );
                continue;
            }
            self.at += 1;
            self.blanks();
            let Some(value) = self.attribute_value(name) else { continue };
            let own = &self.tree.attributes[first..];
            let mut names = own.iter().map(|attribute| attribute.name.of(self.text));
            let twice = if own.len() < MANY_ATTRIBUTES {
                names.any(|known| known == name.of(self.text))
            } else {
                if known.is_empty() {
                    known.extend(names);
                }
                !known.insert(name.of(self.text))
            };
            if twice {
                let message = format!("the attribute `{}` stands twice in this tag", name.of(self.text));
                self.fault(Code::DUPLICATE_MEMBER, start, name.len(), message, "remove one of them");
                continue;
            }
            self.tree.attributes.push(Attribute { name, value });
        }
    }

    fn attribute_value(&mut self, name: Span) -> Option<Span> {
        let start = self.at;
        let quote = self.bytes.get(start).copied().filter(|quote| [b'"', b'\''].contains(quote));
        let Some(quote) = quote else {
            let message = format!("the value of `{}` is not in quotes", name.of(self.text));
            self.fault(Code::SYNTAX_ERROR, start.min(self.bytes.len()), 1, message, "put it in quotes");
            let ends = |byte: &u8| byte.is_ascii_whitespace() || *byte == b'>' || *byte == b'<';
            let len = self.bytes[start.min(self.bytes.len())..].iter().position(ends);
            self.at = len.map_or(self.bytes.len(), |len| start + len);
            return None;
        };
        // A `<` cannot stand in a value: one shows that the closing quote is missing.
        let found = memchr2(quote, b'<', &self.bytes[start + 1..]).map(|at| start + 1 + at);
        match found {
            Some(end) if self.bytes[end] == quote => {
                self.at = end + 1;
                self.references(start + 1, end);
                Some(Span::new(start + 1, end))
            }
            end => {
                let end = end.unwrap_or(self.bytes.len());
                // The value most likely ends where its line or tag does.
                let inside = &self.text[start + 1..end];
                let kept = inside.find(['>', '\n']).unwrap_or(inside.len());
                let kept = inside[..kept].trim_end_matches(['/', ' ', '\r', '\t']);
                self.at = start + 1 + kept.len();
                self.fault(
                    Code::SYNTAX_ERROR,
                    start,
                    1,
                    "the quote is never closed".to_owned(),
                    "close it, or write `&lt;` for a `<` in the value",
                );
                None
            }
        }
    }

    fn blanks(&mut self) {
        while self.bytes.get(self.at).is_some_and(u8::is_ascii_whitespace) {
            self.at += 1;
        }
    }

    fn name_end(&self, start: usize) -> usize {
        let ends = |byte: &u8| {
            matches!(*byte, b' ' | b'\t' | b'\r' | b'\n' | b'\x0c' | b'/' | b'>' | b'=' | b'<' | b'"' | b'\'')
        };
        self.bytes[start..].iter().position(ends).map_or(self.bytes.len(), |len| start + len)
    }

    fn end_tag(&mut self, tag: usize) {
        let slashes = self.bytes[tag + 2..].iter().take_while(|byte| **byte == b'/').count();
        if slashes > 0 {
            self.fault(Code::SYNTAX_ERROR, tag + 2, slashes, "a `/` too many".to_owned(), "remove it");
        }
        let start = tag + 2 + slashes;
        let name = Span::new(start, self.name_end(start));
        let shown = name.of(self.text);
        let close = memchr2(b'>', b'<', &self.bytes[name.end as usize..]).map(|at| name.end as usize + at);
        self.at = match close {
            Some(at) if self.bytes[at] == b'>' => at + 1,
            at => {
                let message = format!("the tag `</{shown}` is not closed with `>`");
                self.fault(Code::SYNTAX_ERROR, tag, name.len() + 2, message, "close it with `>`");
                at.unwrap_or(self.bytes.len())
            }
        };
        let Some(partner) = self.partner(tag, shown) else {
            self.unbalanced = true;
            self.strays += 1;
            let head = if self.strays <= MOST_STRAYS { self.head_of(tag, shown) } else { None };
            if let Some((head, line)) = head {
                let message = format!(
                    "`<{}` is expected here; the `</{}>` in line {line} closes nothing",
                    shorten(shown),
                    shorten(shown)
                );
                let help = "write the start tag, or remove the end tag";
                return self.fault(Code::SYNTAX_ERROR, head, name.len(), message, help);
            }
            let message = format!("`</{}>` closes nothing", shorten(shown));
            let help = format!("remove it, or add `<{}>`", shorten(shown));
            return self.fault(Code::SYNTAX_ERROR, tag, name.len() + 3, message, &help);
        };
        while self.open.len() > partner + 1 {
            let Some(element) = self.pop() else { break };
            self.unbalanced = true;
            let (at, inner) = self.name(element);
            let message = format!("`<{}>` is not closed before `</{}>`", shorten(inner), shorten(shown));
            self.fault(
                Code::SYNTAX_ERROR,
                at,
                inner.len() + 1,
                message,
                &format!("add `</{}>`", shorten(inner)),
            );
            self.close(element, tag, tag);
        }
        if let Some(element) = self.pop() {
            self.tree.elements[element].close_name = Some(name);
            self.close(element, tag, self.at);
        }
    }

    /// Where the name of an element stands without `<`, by the indentation the one that the end tag at byte `tag` closes; and
    /// the number of the line of that end tag.
    fn head_of(&self, tag: usize, name: &str) -> Option<(usize, usize)> {
        let missing = missing_openers(self.text, &[tag]).into_iter().next()?;
        let line = self.text[..missing.at].rfind('\n').map_or(0, |end| end + 1);
        let head = line + self.text[line..missing.at].len() - self.text[line..missing.at].trim_start().len();
        (!name.is_empty() && self.text[head..].starts_with(name)).then_some((head, missing.line))
    }

    /// The position among the open elements of the one that the end tag at byte `tag` closes.
    fn partner(&self, tag: usize, name: &str) -> Option<usize> {
        let same = |node: usize| self.tree.elements[node].name.of(self.text) == name;
        // Nearly always it is the innermost.
        let innermost = self.open.last().is_some_and(|open| same(open.node));
        let column = self.open.line.as_ref().and_then(|line| line.column(tag));
        if innermost && column.is_none() {
            return Some(self.open.len() - 1);
        }
        // Counted first, so that a file of nothing but wrong tags is read in one pass.
        let named = self.names.get(name).is_some_and(|count| *count > 0);
        let named = named.then(|| self.open.iter().rposition(|open| same(open.node))).flatten();
        let placed = column.and_then(|column| self.open.at_column(column));
        match (named, placed) {
            (Some(named), Some(placed)) if named != placed => {
                // Of several of one name the column tells which one is meant.
                let indent = column.unwrap_or(0);
                let mut near = (0..self.open.len()).rev().zip(self.open.iter().rev()).take(DEEP);
                let exact = near.find(|(_, open)| open.indent == indent && same(open.node));
                exact.map(|(at, _)| at).or(Some(named))
            }
            (Some(named), _) => Some(named),
            // The name of one of the two tags may be what is wrong. Of those that begin on the line the
            // outermost is meant.
            (None, Some(placed)) => {
                let on_line = self.open.iter().rev().skip(self.open.len() - 1 - placed);
                let indent = column.unwrap_or(0);
                let inner = on_line.take_while(|open| open.indent == indent).count();
                Some(placed + 1 - inner.max(1))
            }
            (None, None) => None,
        }
    }

    /// Takes the innermost element from those that are open.
    fn pop(&mut self) -> Option<usize> {
        let element = self.open.pop()?.node;
        if let Some(count) = self.names.get_mut(self.tree.elements[element].name.of(self.text)) {
            *count -= 1;
        }
        Some(element)
    }

    /// A start tag further out than the element around it shows that an end tag is missing before.
    fn outdent(&mut self, tag: usize, name: Span) {
        let line = self.open.line.as_ref().map(|line| (line.column(tag), line.number));
        let Some((Some(column), number)) = line else { return };
        while let Some(open) = self.open.last() {
            let (at, own) = self.name(open.node);
            if !self.open.is_left_at(column, own == name.of(self.text)) {
                return;
            }
            let Some(element) = self.pop() else { return };
            let shown = shorten(own);
            let message =
                format!("`<{shown}>` is not closed; `</{shown}>` is missing at or before line {number}");
            let help = format!("add `</{shown}>`, or put the indentation right");
            self.fault(Code::SYNTAX_ERROR, at, own.len() + 1, message, &help);
            self.close(element, tag, tag);
        }
    }

    fn close(&mut self, element: usize, content_end: usize, end: usize) {
        let count = self.tree.elements.len();
        let element = &mut self.tree.elements[element];
        element.end = count;
        element.content.end = Span::new(0, content_end).end;
        element.span.end = Span::new(0, end).end;
    }

    /// A note, a CDATA section or the document type.
    fn declaration(&mut self, tag: usize) {
        let rest = &self.bytes[tag..];
        if rest.starts_with(b"<!--") {
            return self.note(tag);
        }
        if rest.starts_with(b"<![CDATA[") {
            if self.open.is_empty() {
                let message = "text outside of all elements".to_owned();
                self.fault(Code::SYNTAX_ERROR, tag, 9, message, "move it into an element, or remove it");
            }
            return self.skip_to(tag, "]]>", "the CDATA section is never closed");
        }
        if !rest.starts_with(b"<!DOCTYPE") || !self.open.is_empty() {
            return self.no_declaration(tag);
        }
        // The document type; it may have declarations in brackets, and quotes with anything in them.
        let (mut at, mut brackets) = (tag + 2, 0usize);
        while let Some(&next) = self.bytes.get(at) {
            match next {
                b'[' => brackets += 1,
                b']' => brackets = brackets.saturating_sub(1),
                b'>' if brackets == 0 => break,
                b'"' | b'\'' => {
                    at += 1 + memchr(next, &self.bytes[at + 1..]).unwrap_or(0);
                }
                b'<' if self.bytes[at..].starts_with(b"<!ENTITY") => self.own_entities = true,
                _ => {}
            }
            at += 1;
        }
        if at >= self.bytes.len() {
            self.fault(
                Code::SYNTAX_ERROR,
                tag,
                2,
                "the declaration is never closed".to_owned(),
                "close it with `>`",
            );
            self.at = tag + 2;
            return;
        }
        self.at = at + 1;
    }

    /// A note, in which `--` cannot stand (XML 1.0, 2.5).
    fn note(&mut self, tag: usize) {
        self.skip_to(tag, "-->", "the note is never closed");
        let inside = self.bytes.get(tag + 4..self.at.saturating_sub(3)).unwrap_or_default();
        let ends_in_dash = inside.ends_with(b"-").then(|| inside.len() - 1);
        if let Some(at) = memmem::find(inside, b"--").or(ends_in_dash) {
            let message = "two dashes, one after the other, inside a note".to_owned();
            let help = "strict readers refuse the file; write something else there";
            self.fault(Code::NOT_STRICT_XML, tag + 4 + at, 2, message, help);
        }
    }

    /// What begins with `<!` and is neither a note, a CDATA section nor the document type. What follows is read on.
    fn no_declaration(&mut self, tag: usize) {
        let word =
            self.text[tag + 2..].split(|next: char| !next.is_ascii_alphanumeric()).next().unwrap_or_default();
        let shown = shorten(word);
        let (message, help) = match (self.bytes.get(tag + 2), shown.as_ref()) {
            (Some(b'-'), _) => {
                ("a note begins with `<!--`".to_owned(), "add the second `-`, or remove the `!-`")
            }
            (_, "DOCTYPE") => {
                ("the document type stands inside an element".to_owned(), "move it to the top of the file")
            }
            (_, word) => {
                (format!("`<!{word}` begins nothing that XML has"), "write `&lt;` for the sign itself")
            }
        };
        self.fault(Code::SYNTAX_ERROR, tag, 2 + word.len().clamp(1, 40), message, help);
        self.at = tag + 2;
    }

    fn skip_to(&mut self, tag: usize, close: &str, message: &str) {
        match memmem::find(&self.bytes[tag + 2..], close.as_bytes()) {
            Some(at) => self.at = tag + 2 + at + close.len(),
            None => {
                self.fault(
                    Code::SYNTAX_ERROR,
                    tag,
                    2,
                    message.to_owned(),
                    &format!("close it with `{close}`"),
                );
                // It most likely ends on its line.
                self.at = memchr(b'\n', &self.bytes[tag..]).map_or(self.bytes.len(), |at| tag + at);
            }
        }
    }

    fn name(&self, element: usize) -> (usize, &'p str) {
        let name = self.tree.elements[element].name;
        (name.start as usize - 1, name.of(self.text))
    }

    fn fault(&mut self, code: Code, at: usize, len: usize, message: String, help: &str) {
        if self.faults.len() < MOST_FAULTS {
            let end = (at + len).min(self.bytes.len()).max(at);
            self.faults.push(Fault::new(code, Span::new(at, end), message).help(help));
        }
    }
}
