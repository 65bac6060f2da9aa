//! Nested scripts: `name = { ... }` or `name { ... }`, with entries and bare words inside.
//!
//! What the dialects differ in are settings: what stands between a key and its value, what begins a
//! note, whether a backslash escapes. A record is a block, an entry or a bare word, chosen by a path
//! through the nesting ([`BlockPath`]); a column is such a path below the record, perhaps with what is
//! meant of the place at its end: `{name}`, `{label}` (the word after the name in the block's head),
//! `{2}` and `{2+}` (the second word behind the name, and all from there on), `{value}`, `{items}`; `../` leads to the block around it.
//!
//! No recursion: open blocks are on a stack of our own.

mod bracketed_values;
mod by_indent;
mod editing;
mod editing_by_indent;
mod path;
mod scalars;
mod settings;
mod tree;

pub use path::BlockPath;
pub(super) use settings::KIND;

use super::common_steps;
use super::editing::Editor;
use super::flat_tree::{MOST_FAULTS, NodePath, below, mark_shared, shorten};
use super::misplaced::Nodes;
use super::{
    Cell, Column, ColumnCell, Fault, Form, Format, ITEM, Names, OUTLINED, OffStyle, Outline, RawRecord,
    RecordSink,
};
use crate::Code;
use crate::text::{Span, Text};
use path::{Part, Step, column_path};
use std::collections::HashSet;
use std::sync::Arc;
use tree::{Kind, Lexer, Parser, Tree, classes};

/// The settings of a file of blocks.
#[derive(Debug, Clone)]
pub struct Blocks {
    /// Which places are the records.
    pub records: BlockPath,
    /// What the path leads to.
    pub taken: Taken,
    /// What tells which lines stand inside which.
    pub nesting: Nesting,
    /// What stands between key and value; `None` if a line is a key and its values.
    pub assign: Option<char>,
    /// What begins a note, as far as the end of the line.
    pub comments: Vec<String>,
    /// What opens and closes a note of any length.
    pub block_comment: Option<(String, String)>,
    /// What may stand between entries and counts as a blank.
    pub separators: Vec<char>,
    /// What opens and closes lists of words, which may go on over several lines.
    pub lists: Vec<(char, char)>,
    /// Whether a line of a word and others behind it is an entry too, where a sign stands between key and value.
    pub bare_entries: bool,
    /// Whether a backslash escapes within quotes.
    pub escapes: bool,
    /// Whether a quoted text may go on over several lines.
    pub over_lines: bool,
    /// The word that begins a line which pulls in another file.
    pub include: Option<String>,
}

/// What tells which lines stand inside which.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Nesting {
    /// Braces.
    Braces,
    /// How far they are indented.
    Indent,
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

const RECORD_NAME: &str = "{name}";
/// How many records are looked at to learn their columns.
const SAMPLE: usize = 200;

/// So many words behind the name of a block are columns of their own.
const HEAD_WORDS: usize = 3;

/// The column for the word at a place in the head of a block, of which 0 is its name.
fn head_word(place: usize) -> String {
    match place {
        1 => "{label}".to_owned(),
        place => format!("{{{place}}}"),
    }
}

impl Format for Blocks {
    fn read(&self, text: &Text<'_>, columns: &[Column<'_>], sink: &mut dyn RecordSink) {
        let tree = self.parse(text);
        let faults = &tree.faults;
        let content = text.as_str();
        let records = self.records(&tree, content);
        // Where no braces are, none can be lost.
        if faults.is_empty() && self.taken == Taken::Blocks && self.nesting == Nesting::Braces {
            let own: Vec<usize> = records.iter().flatten().copied().collect();
            let named = match self.records.steps.last() {
                Some(Step::Name(name)) => Some(name.as_str()),
                _ => None,
            };
            let name = |at: usize| if tree.nodes[at].kind == Kind::Block { tree.name(at) } else { None };
            let start = |at: usize| tree.nodes[at].span.start as usize;
            let nodes =
                Nodes { nodes: &tree.nodes, text: content, name: &name, start: &start, shown: str::to_owned };
            nodes.report(&own, self.records.source(), named, sink);
        }
        let mut faults = faults.clone();
        faults.extend(self.missing_signs(&tree, content, columns));
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
        let related = columns.iter().any(|column| column.related);
        let mut cells = Vec::new();
        for record in records {
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
                        Part::Value
                            .cells(&tree, child, &mut |cell| cells.push(ColumnCell::new(column, cell)));
                    }
                }
            }
            for &index in &others {
                let Some((path, part)) = &paths[index] else { continue };
                let mut push = |cell| cells.push(ColumnCell::new(index as u16, cell));
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
            if related {
                mark_shared(&tree.nodes, record, &mut cells);
            }
            let span = record.map_or(Span::new(text.body(), content.len()), |record| tree.nodes[record].span);
            sink.record(&RawRecord { span, cells: &cells });
        }
    }

    fn names(&self, text: &Text<'_>, give: &mut dyn FnMut(&str, Span)) {
        let tree = self.parse(text);
        let mut path = NodePath::new("/");
        for record in self.records(&tree, text.as_str()) {
            path.clear();
            for at in below(&tree.nodes, record) {
                let node = &tree.nodes[at];
                if !matches!(node.kind, Kind::Block | Kind::Entry) {
                    continue;
                }
                if let Some(word) = node.words.clone().next() {
                    let name = tree.words[word].span;
                    path.enter(at, node.end, name.of(text.as_str()));
                    give(path.shown(), name);
                }
            }
        }
    }

    fn has_names(&self) -> bool {
        matches!(self.taken, Taken::Blocks | Taken::File)
    }

    fn columns(&self, text: &Text<'_>) -> Vec<String> {
        let tree = self.parse(text);
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
                push_new(&mut names, &head_word(1));
            }
            for child in tree.children(record) {
                match tree.nodes[child].kind {
                    Kind::Item => push_new(&mut names, "{items}"),
                    Kind::Include => push_new(&mut names, "{includes}"),
                    _ => {
                        let word = tree.nodes[child].words.clone().next();
                        let name = word.map(|word| tree.words[word].span.of(text.as_str()));
                        name.into_iter().for_each(|name| push_new(&mut names, name));
                    }
                }
            }
        }
        names.retain(|name| column_path(name).is_ok());
        names
    }

    fn outline(&self, text: &Text<'_>, outline: &mut Outline) {
        let tree = self.parse(text);
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
                Kind::Entry => outline.add_words(around, within, name, words.get(1..).unwrap_or_default()),
                Kind::Block => {
                    let own = outline.add(around, within, if node.words.is_empty() { ITEM } else { name });
                    for (place, word) in words.iter().enumerate().skip(1).take(HEAD_WORDS) {
                        outline.add_value(own, at + 1, &head_word(place), word);
                    }
                    own
                }
            });
        }
    }

    fn encode(&self, cell: &Cell, _column: &str, value: &str) -> Result<String, String> {
        if value.contains(['\n', '\r']) && !(self.over_lines && cell.form != Form::Plain) {
            return Err("it has a line end in it".to_owned());
        }
        let quoted = || match (self.escapes, value.contains('"')) {
            (true, _) => Ok(value.replace('\\', "\\\\").replace('"', "\\\"")),
            (false, true) => Err("it has a quote in it".to_owned()),
            (false, false) => Ok(value.to_owned()),
        };
        if cell.form == Form::SingleQuoted {
            return Ok(value.replace('\'', "''"));
        }
        if cell.form != Form::Plain {
            return quoted();
        }
        if self.nesting == Nesting::Indent {
            let as_it_is = scalars::is_bare(self, value);
            return if as_it_is {
                Ok(value.to_owned())
            } else {
                quoted().map(|inside| format!("\"{inside}\""))
            };
        }
        let reader = Lexer { format: self, classes: classes(self), text: value, at: 0, unclosed: None };
        if !value.is_empty() && reader.bare_len(0) == value.len() && !reader.at_note(0) {
            return Ok(value.to_owned());
        }
        quoted().map(|inside| format!("\"{inside}\""))
    }

    fn shared_steps(&self, one: &str, other: &str) -> u16 {
        common_steps(one.split('/'), other.split('/'))
    }

    fn records_path(&self) -> Option<&str> {
        Some(self.records.source()).filter(|path| !path.is_empty())
    }

    fn knows(&self, column: &str) -> bool {
        column_path(column).is_ok()
    }

    fn check_column(&self, column: &str) -> Result<(), String> {
        column_path(column).map(|_| ())
    }

    fn editor<'t>(&'t self, text: &Text<'t>) -> Option<Editor<'t>> {
        Some(editing::editor(self, text))
    }

    fn off_style(&self) -> OffStyle {
        match (self.comments.first(), &self.block_comment) {
            (Some(mark), _) => OffStyle::Lines(mark.clone(), false),
            (None, Some((open, _))) if open == "/*" => OffStyle::Wrap("/*", "*/"),
            _ => OffStyle::None,
        }
    }

    fn escape_bytes(&self) -> &'static [u8] {
        match (self.nesting, self.escapes) {
            (Nesting::Indent, true) => b"\\'",
            (Nesting::Indent, false) => b"'",
            (Nesting::Braces, true) => b"\\",
            (Nesting::Braces, false) => b"",
        }
    }
}

impl Blocks {
    /// The tree of `text`, which is parsed once, and what is wrong with it.
    fn parse(&self, text: &Text<'_>) -> Arc<Tree> {
        // Which of its nodes are records does not matter.
        let Blocks { records: _, taken: _, nesting, assign, comments, block_comment, separators, .. } = self;
        let Blocks { lists, bare_entries, escapes, over_lines, include, .. } = self;
        let how = (nesting, assign, comments, block_comment, separators);
        let settings = format!("blocks {how:?} {:?}", (lists, bare_entries, escapes, over_lines, include));
        text.parsed(&settings, || {
            let (tree, faults) = match self.nesting {
                Nesting::Braces => Parser::parse_well(self, text),
                Nesting::Indent => by_indent::parse(self, text),
            };
            Tree { faults, ..tree }
        })
    }

    /// Bare words side by side on a line, among entries, of which the first is what a field is called: the sign between them
    /// was lost.
    fn missing_signs(&self, tree: &Tree, text: &str, columns: &[Column<'_>]) -> Vec<Fault> {
        let by_braces = self.nesting == Nesting::Braces && !self.bare_entries;
        let Some(assign) = self.assign.filter(|_| by_braces) else { return Vec::new() };
        let last = |column: &Column<'_>| column.name.rsplit('/').next().unwrap_or_default().to_owned();
        let fields: HashSet<String> = columns.iter().map(last).filter(|name| !name.contains('{')).collect();
        let mut faults = Vec::new();
        let mut among_entries: (Option<usize>, bool) = (None, false);
        for (at, pair) in tree.nodes.windows(2).enumerate() {
            let [word, value] = pair else { continue };
            let side_by_side =
                word.kind == Kind::Item && value.kind == Kind::Item && word.parent == value.parent;
            let between = text.get(word.span.end as usize..value.span.start as usize).unwrap_or("\n");
            if !side_by_side || between.contains('\n') || !fields.contains(word.span.of(text)) {
                continue;
            }
            let Some(parent) = word.parent else { continue };
            if among_entries.0 != Some(parent) {
                let is_entry = |child: usize| matches!(tree.nodes[child].kind, Kind::Entry | Kind::Block);
                among_entries = (Some(parent), tree.children(Some(parent)).any(is_entry));
            }
            if among_entries.1 {
                let name = tree.name(at).map_or("", |name| name.of(text));
                let message = format!("`{assign}` is missing behind `{}`", shorten(name));
                let fault = Fault::new(Code::SYNTAX_ERROR, word.span, message);
                faults.push(fault.help(format!("write `{name} {assign} {}`", shorten(value.span.of(text)))));
                if faults.len() == MOST_FAULTS {
                    break;
                }
            }
        }
        faults
    }

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
