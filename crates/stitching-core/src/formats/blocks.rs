//! Nested scripts: `name = { ... }` or `name { ... }`, with entries and bare words inside.
//!
//! What the dialects differ in are settings: what stands between a key and its value, what begins a
//! note, whether a backslash escapes. A record is a block, an entry or a bare word, chosen by a path
//! through the nesting ([`BlockPath`]); a column is such a path below the record, perhaps with what is
//! meant of the place at its end: `{name}`, `{label}` (the word after the name in the block's head),
//! `{value}`, `{items}`; `../` leads to the block around it.
//!
//! No recursion: open blocks are on a stack of our own.

use super::adding::{Addition, AddsOver, append, before_close, blanks_before};
use super::flat::{DEEP, FlatNode, LONGEST_NAME, MOST_FAULTS, ancestors, below_all, children, shorten};
use super::indent::OpenStack;
use super::{
    Cell, Column, ColumnCell, Fault, Form, Format, Names, OUTLINED, OffStyle, Outline, RawRecord, RecordSink,
};
use crate::text::{Span, Text};
use std::ops::Range;

/// The settings of a file of blocks.
#[derive(Debug, Clone)]
pub struct Blocks {
    /// Which places are the records.
    pub records: BlockPath,
    /// What the path leads to.
    pub taken: Taken,
    /// What stands between key and value; `None` if a line is a key and its values.
    pub assign: Option<char>,
    /// What begins a note, as far as the end of the line.
    pub comments: Vec<String>,
    /// What may stand between entries and counts as a blank.
    pub separators: Vec<char>,
    /// Whether a backslash escapes within quotes.
    pub escapes: bool,
    /// The word that begins a line which pulls in another file.
    pub include: Option<String>,
}

/// What a path leads to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Taken {
    /// Blocks.
    Blocks,
    /// Entries: a key with its value.
    Entries,
    /// Bare words.
    Items,
    /// The file as a whole: a fragment without a head of its own.
    File,
}

/// A path through the nesting: `convoys/*/leg`, `**/gate`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BlockPath {
    source: String,
    steps: Vec<Step>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Step {
    Name(String),
    Any,
    /// Any number of blocks.
    Deep,
    Up,
}

/// What is meant of the place a column's path leads to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Part {
    Value,
    Name,
    Label,
    Items,
    Includes,
}

impl BlockPath {
    /// Reads a path. `up` tells whether it may begin with `../`.
    ///
    /// # Errors
    /// What is wrong with it.
    pub fn parse(source: &str, up: bool) -> Result<BlockPath, String> {
        let mut steps = Vec::new();
        for part in source.trim_start_matches('/').split('/').filter(|_| !source.is_empty()) {
            steps.push(match part {
                "" => return Err(format!("`{source}` has an empty step")),
                ".." if up && steps.iter().all(|step| *step == Step::Up) => Step::Up,
                ".." => return Err(format!("`..` can only stand at the start of `{source}`")),
                "*" => Step::Any,
                "**" => Step::Deep,
                name => Step::Name(name.to_owned()),
            });
        }
        if steps.last() == Some(&Step::Deep) {
            return Err(format!("`{source}` must say what stands below `**`"));
        }
        Ok(BlockPath { source: source.to_owned(), steps })
    }

    /// The path as written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// The nodes that it leads to from `from` (`None` for the file), in the order of the file.
    fn select(&self, tree: &Tree, text: &str, from: Option<usize>) -> Vec<usize> {
        // A place is a node, or the file as a whole.
        let mut places = vec![from];
        for (number, step) in self.steps.iter().enumerate() {
            let deep = number > 0 && self.steps[number - 1] == Step::Deep;
            let fits = |node: &usize| step.fits(tree, text, *node);
            let mut next: Vec<Option<usize>> = match step {
                Step::Deep => continue,
                Step::Up => places.iter().flatten().map(|node| tree.nodes[*node].parent).collect(),
                _ if deep => below_all(&tree.nodes, &places).into_iter().filter(fits).map(Some).collect(),
                _ => {
                    let inside = places.iter().flat_map(|place| tree.children(*place));
                    inside.filter(fits).map(Some).collect()
                }
            };
            next.dedup();
            places = next;
        }
        places.into_iter().flatten().collect()
    }
}

impl Step {
    fn fits(&self, tree: &Tree, text: &str, node: usize) -> bool {
        let node = &tree.nodes[node];
        matches!(node.kind, Kind::Block | Kind::Entry)
            && match self {
                Step::Name(name) => {
                    node.words.clone().next().is_some_and(|word| tree.words[word].span.of(text) == name)
                }
                _ => true,
            }
    }
}

#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Kind {
    Block,
    Entry,
    Item,
    /// A line that pulls in another file; its words are what follows the word that begins it.
    Include,
}

/// A block, an entry or a bare word.
#[derive(Debug)]
struct Node {
    kind: Kind,
    /// The head of a block, the key and values of an entry, or the word: positions in [`Tree::words`].
    words: Range<usize>,
    /// All of it, from its first word to its closing brace.
    span: Span,
    parent: Option<usize>,
    /// One past the last node below this one.
    end: usize,
}

#[derive(Debug, Default)]
struct Tree {
    nodes: Vec<Node>,
    words: Vec<Cell>,
}

impl FlatNode for Node {
    fn parent(&self) -> Option<usize> {
        self.parent
    }

    fn end(&self) -> usize {
        self.end
    }
}

impl Tree {
    fn children(&self, parent: Option<usize>) -> impl Iterator<Item = usize> + '_ {
        children(&self.nodes, parent)
    }
}

const RECORD_NAME: &str = "{name}";
/// How many records are looked at to learn their columns.
const SAMPLE: usize = 200;
/// The head of a block has at most so many words.
const LONGEST_HEAD: usize = 4;

impl Format for Blocks {
    fn read(&self, text: &Text<'_>, columns: &[Column<'_>], sink: &mut dyn RecordSink) {
        let (tree, faults) = Parser::parse_well(self, text);
        faults.into_iter().for_each(|fault| sink.fault(fault));
        let paths: Vec<Option<(BlockPath, Part)>> =
            columns.iter().map(|column| column_path(column.name).ok()).collect();
        // Nearly all columns are the values of entries of the record; they are found in one pass over it.
        let simple = |path: &Option<(BlockPath, Part)>| match path {
            Some((path, Part::Value)) => matches!(path.steps[..], [Step::Name(_)]),
            _ => false,
        };
        let names = (0..columns.len()).filter(|at| simple(&paths[*at]));
        let mut names = Names::new(names.map(|at| (columns[at].name, at as u16)));
        let others: Vec<usize> = (0..columns.len()).filter(|at| !simple(&paths[*at])).collect();
        let mut cells = Vec::new();
        let content = text.as_str();
        for record in self.records(&tree, content) {
            cells.clear();
            names.next = 0;
            if !names.names.is_empty() {
                for child in tree.children(record) {
                    let own = &tree.nodes[child];
                    if !matches!(own.kind, Kind::Block | Kind::Entry) || own.words.is_empty() {
                        continue;
                    }
                    let name = tree.words[own.words.start].span.of(content).as_bytes();
                    if let Some(column) = names.find(name) {
                        Part::Value.cells(&tree, child, &mut |cell| cells.push(ColumnCell { column, cell }));
                    }
                }
            }
            for &index in &others {
                let Some((path, part)) = &paths[index] else { continue };
                let mut push = |cell| cells.push(ColumnCell { column: index as u16, cell });
                match (path.steps.is_empty(), record) {
                    (true, Some(record)) => part.cells(&tree, record, &mut push),
                    (true, None) => part.children(&tree, None, &mut push),
                    (false, _) => {
                        let nodes = path.select(&tree, content, record);
                        nodes.into_iter().for_each(|node| part.cells(&tree, node, &mut push));
                    }
                }
            }
            cells.sort_by_key(|cell: &ColumnCell| cell.cell.span.start);
            let span = record.map_or(Span::new(text.body(), content.len()), |record| tree.nodes[record].span);
            sink.record(&RawRecord { span, cells: &cells });
        }
    }

    fn columns(&self, text: &Text<'_>) -> Vec<String> {
        let (tree, _) = Parser::parse_well(self, text);
        let mut names: Vec<String> = match self.taken {
            Taken::Blocks => vec![RECORD_NAME.to_owned()],
            Taken::Entries => vec![RECORD_NAME.to_owned(), "{value}".to_owned()],
            Taken::Items => vec!["{value}".to_owned()],
            Taken::File => Vec::new(),
        };
        for record in self.records(&tree, text.as_str()).into_iter().take(SAMPLE) {
            let has_label =
                |record: usize| tree.nodes[record].kind == Kind::Block && tree.nodes[record].words.len() > 1;
            if record.is_some_and(has_label) {
                push_new(&mut names, "{label}");
            }
            for child in tree.children(record) {
                match tree.nodes[child].kind {
                    Kind::Item => push_new(&mut names, "{items}"),
                    Kind::Include => push_new(&mut names, "{includes}"),
                    _ => {
                        let word = tree.nodes[child].words.clone().next();
                        let name = word.map_or("", |word| tree.words[word].span.of(text.as_str()));
                        push_new(&mut names, name);
                    }
                }
            }
        }
        names.retain(|name| column_path(name).is_ok());
        names
    }

    fn outline(&self, text: &Text<'_>, outline: &mut Outline) {
        let (tree, _) = Parser::parse_well(self, text);
        outline.next_file();
        let mut of_nodes: Vec<usize> = Vec::new();
        for (at, node) in tree.nodes.iter().enumerate().take(OUTLINED) {
            let around = node.parent.map_or(0, |parent| of_nodes[parent]);
            // Positions from 1 on, since 0 stands for the file.
            let within = node.parent.map_or(0, |parent| parent + 1);
            let words: Vec<&str> =
                tree.words[node.words.clone()].iter().map(|word| word.span.of(text.as_str())).collect();
            let name = words.first().copied().unwrap_or_default();
            of_nodes.push(match node.kind {
                Kind::Include => outline.add_value(around, within, "{includes}", name),
                Kind::Item => outline.add_value(around, within, "{items}", name),
                Kind::Entry => {
                    outline.add_value(around, within, name, words.get(1).copied().unwrap_or_default())
                }
                Kind::Block => {
                    let own = outline.add(around, within, name);
                    if let Some(label) = words.get(1) {
                        outline.add_value(own, at + 1, "{label}", label);
                    }
                    own
                }
            });
        }
    }

    fn encode(&self, cell: &Cell, _column: &str, value: &str) -> Result<String, String> {
        if value.contains(['\n', '\r']) {
            return Err("it has a line end in it".to_owned());
        }
        let quoted = || match (self.escapes, value.contains('"')) {
            (true, _) => Ok(value.replace('\\', "\\\\").replace('"', "\\\"")),
            (false, true) => Err("it has a quote in it".to_owned()),
            (false, false) => Ok(value.to_owned()),
        };
        if cell.form != Form::Plain {
            return quoted();
        }
        let reader = Reader { format: self, classes: classes(self), text: value, at: 0 };
        if !value.is_empty() && reader.bare_len(0) == value.len() && !reader.at_note(0) {
            return Ok(value.to_owned());
        }
        quoted().map(|inside| format!("\"{inside}\""))
    }

    fn knows(&self, column: &str) -> bool {
        column_path(column).is_ok()
    }

    fn check_column(&self, column: &str) -> Result<(), String> {
        column_path(column).map(|_| ())
    }

    fn adds_over(&self) -> Option<&dyn AddsOver> {
        Some(self)
    }

    fn off_style(&self) -> OffStyle {
        self.comments.first().cloned().map_or(OffStyle::None, |mark| OffStyle::Lines(mark, false))
    }

    fn entry(&self, text: &Text<'_>, cell: Span) -> Option<Span> {
        let (tree, _) = Parser::parse_well(self, text);
        let inside = |node: &&Node| node.span.start <= cell.start && cell.end <= node.span.end;
        tree.nodes.iter().rfind(inside).map(|node| node.span)
    }

    fn escape_byte(&self) -> Option<u8> {
        self.escapes.then_some(b'\\')
    }
}

impl Blocks {
    /// The records; `None` stands for the file.
    fn records(&self, tree: &Tree, text: &str) -> Vec<Option<usize>> {
        let kind = match self.taken {
            Taken::File => return vec![None],
            Taken::Blocks => Kind::Block,
            Taken::Entries => Kind::Entry,
            Taken::Items => {
                let places = match self.records.steps.is_empty() {
                    true => vec![None],
                    false => self.records.select(tree, text, None).into_iter().map(Some).collect(),
                };
                let items = places.into_iter().flat_map(|place| tree.children(place));
                return items.filter(|node| tree.nodes[*node].kind == Kind::Item).map(Some).collect();
            }
        };
        let found = self.records.select(tree, text, None).into_iter();
        found.filter(|node| tree.nodes[*node].kind == kind).map(Some).collect()
    }
}

impl AddsOver for Blocks {
    fn add_over(&self, what: &Addition<'_>) -> Option<String> {
        let Addition { below, record, above, .. } = *what;
        let (text, (tree, _)) = (below.as_str(), Parser::parse_well(self, below));
        let node = tree.nodes.iter().position(|node| node.span == record)?;
        let snippet = what.edited(record)?;
        let indent = blanks_before(text, record.start as usize).unwrap_or("");
        let end = what.line_end();
        let chain = ancestors(&tree.nodes, node);
        let there = Text::of_file(above);
        let (own, _) = Parser::parse_well(self, &there);
        let head = |tree: &Tree, text: &str, node: usize| {
            let words = &tree.words[tree.nodes[node].words.clone()];
            words.iter().map(|word| word.span.of(text).to_owned()).collect::<Vec<_>>()
        };
        let mut place = None;
        let mut missing = chain.as_slice();
        while let [first, rest @ ..] = missing {
            let same = |child: &usize| {
                own.nodes[*child].kind == Kind::Block
                    && head(&own, above, *child) == head(&tree, text, *first)
            };
            let Some(found) = own.children(place).find(same) else { break };
            place = Some(found);
            missing = rest;
        }
        // The blocks around it that are not there yet come along, with nothing else in them.
        let mut lines = String::new();
        let blanks = |node: &usize| blanks_before(text, tree.nodes[*node].span.start as usize).unwrap_or("");
        for around in missing {
            let span = tree.nodes[*around].span;
            let open = span.of(text).find('{')? + 1;
            lines.push_str(&format!("{}{}{end}", blanks(around), &span.of(text)[..open]));
        }
        let depth = missing.len();
        let last = own.children(place).last().filter(|_| depth == 0);
        let indent =
            last.and_then(|last| blanks_before(above, own.nodes[last].span.start as usize)).unwrap_or(indent);
        lines.push_str(&format!("{indent}{snippet}"));
        for around in missing.iter().rev() {
            lines.push_str(&format!("{end}{}}}", blanks(around)));
        }
        match place {
            None => Some(append(above, &lines, end)),
            Some(container) => {
                let close = own.nodes[container].span.end as usize - 1;
                let (indent, snippet) =
                    lines.split_at(lines.len() - lines.trim_start_matches([' ', '\t']).len());
                above[close..].starts_with('}').then(|| before_close(above, close, snippet, indent, end))
            }
        }
    }
}

impl Part {
    fn cells(self, tree: &Tree, node: usize, push: &mut impl FnMut(Cell)) {
        let here = &tree.nodes[node];
        let words = &tree.words[here.words.clone()];
        match (self, here.kind) {
            (Part::Name, Kind::Block | Kind::Entry) => words.first().copied().into_iter().for_each(push),
            (Part::Label, Kind::Block) => words.get(1).copied().into_iter().for_each(push),
            (Part::Value, Kind::Entry) => words.iter().skip(1).copied().for_each(push),
            (Part::Value | Part::Name, Kind::Item) => words.iter().copied().for_each(push),
            (Part::Value, Kind::Block) => {
                let mut kinds = tree.children(Some(node)).map(|child| tree.nodes[child].kind);
                if kinds.all(|kind| kind == Kind::Item) {
                    Part::Items.children(tree, Some(node), push);
                } else {
                    push(Cell { span: here.span, form: Form::Nested });
                }
            }
            (Part::Items | Part::Includes, Kind::Block) => self.children(tree, Some(node), push),
            _ => {}
        }
    }

    /// The bare words in a block, or in the file, or the names of the files that it pulls in.
    fn children(self, tree: &Tree, node: Option<usize>, push: &mut impl FnMut(Cell)) {
        let wanted = match self {
            Part::Items => Kind::Item,
            Part::Includes => Kind::Include,
            _ => return,
        };
        for child in tree.children(node).filter(|child| tree.nodes[*child].kind == wanted) {
            if let Some(word) = tree.nodes[child].words.clone().next() {
                push(tree.words[word]);
            }
        }
    }
}

/// A column's name taken apart.
fn column_path(column: &str) -> Result<(BlockPath, Part), String> {
    let (path, last) = column.rsplit_once('/').unwrap_or(("", column));
    let part = match last {
        "{name}" | "{member}" => Part::Name,
        "{label}" => Part::Label,
        "{value}" => Part::Value,
        "{items}" => Part::Items,
        "{includes}" => Part::Includes,
        _ if last.starts_with('{') => {
            return Err(format!(
                "blocks have no `{last}`; there are {{name}}, {{label}}, {{value}}, {{items}} and {{includes}}"
            ));
        }
        _ => return Ok((BlockPath::parse(column, true)?, Part::Value)),
    };
    Ok((BlockPath::parse(path, true)?, part))
}

fn push_new(names: &mut Vec<String>, name: &str) {
    if !name.contains('/') && !names.iter().any(|known| known == name) {
        names.push(name.to_owned());
    }
}

/// What a backslash at the start of `raw` stands for, with the bytes it takes.
pub(super) fn escape(raw: &str) -> Option<(char, usize)> {
    let meant = match raw.strip_prefix('\\')?.chars().next()? {
        'n' => '\n',
        't' => '\t',
        'r' => '\r',
        same @ ('"' | '\\') => same,
        _ => return None,
    };
    Some((meant, 2))
}

/// What a byte may be.
type Classes = [u8; 256];
/// It ends a bare word.
const ENDS: u8 = 1;
/// A note, an include or a separator may begin with it.
const BEGINS: u8 = 2;

fn classes(format: &Blocks) -> Classes {
    let mut classes = [0; 256];
    for byte in b" \t\r\n{}\"" {
        classes[usize::from(*byte)] |= ENDS;
    }
    for sign in format.assign.iter().chain(&format.separators).filter(|sign| sign.is_ascii()) {
        classes[*sign as usize] |= ENDS;
    }
    let mut buffer = [0; 4];
    for sign in &format.separators {
        classes[usize::from(sign.encode_utf8(&mut buffer).as_bytes()[0])] |= BEGINS;
    }
    for first in format.comments.iter().chain(&format.include).filter_map(|mark| mark.as_bytes().first()) {
        classes[usize::from(*first)] |= BEGINS;
    }
    classes
}

/// Reads words.
struct Reader<'r> {
    format: &'r Blocks,
    classes: Classes,
    text: &'r str,
    at: usize,
}

impl Reader<'_> {
    fn byte(&self, at: usize) -> Option<u8> {
        self.text.as_bytes().get(at).copied()
    }

    fn at_note(&self, at: usize) -> bool {
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
    fn bare_len(&self, at: usize) -> usize {
        let bytes = &self.text.as_bytes()[at..];
        bytes.iter().position(|byte| self.classes[usize::from(*byte)] & ENDS != 0).unwrap_or(bytes.len())
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

struct Parser<'p> {
    reader: Reader<'p>,
    tree: Tree,
    open: OpenStack<'p>,
    faults: Vec<Fault>,
    /// How many blocks were left open, or closed without being open.
    unbalanced: usize,
}

impl<'p> Parser<'p> {
    /// Parses a file. If braces are missing, the indentation tells where.
    fn parse_well(format: &'p Blocks, text: &Text<'p>) -> (Tree, Vec<Fault>) {
        let plain = Parser::parse(format, text, false);
        let parser = if plain.unbalanced > 0 { Parser::parse(format, text, true) } else { plain };
        (parser.tree, parser.faults)
    }

    fn parse(format: &'p Blocks, text: &Text<'p>, by_indent: bool) -> Parser<'p> {
        let mut parser = Parser {
            reader: Reader { format, classes: classes(format), text: text.as_str(), at: text.body() },
            tree: Tree::default(),
            open: OpenStack::new(text.as_str(), by_indent),
            faults: Vec::new(),
            unbalanced: 0,
        };
        parser.run();
        parser
    }

    fn run(&mut self) {
        loop {
            self.reader.blanks();
            let start = self.reader.at;
            let Some(next) = self.reader.byte(start) else { break };
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
                b'{' => {
                    self.outdent(start, None);
                    self.reader.at += 1;
                    let words = self.tree.words.len();
                    self.push(Kind::Block, words..words, start);
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
        while let Some(open) = self.open.pop() {
            self.close(open.node, end);
        }
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
        let name = self.tree.words[first];
        // A quote may be what is wrong, and then the line says nothing.
        if name.form == Form::Plain {
            self.outdent(start, Some(name.span));
        }
        let word_end = self.reader.at;
        match self.reader.format.assign {
            Some(assign) => {
                let mut line_end = self.reader.blanks();
                if self.reader.byte(self.reader.at) == Some(assign as u8) {
                    self.reader.at += 1;
                    self.reader.blanks();
                    match self.reader.byte(self.reader.at) {
                        Some(b'{') => return self.block(first, start),
                        Some(next) if next != b'}' && next != assign as u8 => {
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
                while !line_end && self.is_word() && self.tree.words.len() - first < LONGEST_HEAD {
                    self.word();
                    line_end = self.reader.blanks();
                }
                if self.reader.byte(self.reader.at) == Some(b'{') {
                    return self.block(first, start);
                }
                // They were bare words, and are read again one by one.
                self.reader.at = word_end;
                self.tree.words.truncate(words);
                self.faults.truncate(faults);
                self.push_leaf(Kind::Item, first, start, word_end);
            }
            None => {
                let mut end = word_end;
                let mut line_end = self.reader.blanks();
                while !line_end && self.is_word() {
                    self.word();
                    end = self.reader.at;
                    line_end = self.reader.blanks();
                }
                if self.reader.byte(self.reader.at) == Some(b'{') {
                    return self.block(first, start);
                }
                let kind = if self.tree.words.len() - first == 1 { Kind::Item } else { Kind::Entry };
                self.push_leaf(kind, first, start, end);
            }
        }
    }

    fn is_word(&self) -> bool {
        let next = self.reader.byte(self.reader.at);
        let assign = self.reader.format.assign.map(|assign| assign as u8);
        next.is_some_and(|next| next != b'{' && next != b'}' && Some(next) != assign)
            && !self.reader.at_include()
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
                end => {
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
            self.faults.push(Fault::new("syntax-error", Span::new(at, at + len), message).help(help));
        }
    }
}
