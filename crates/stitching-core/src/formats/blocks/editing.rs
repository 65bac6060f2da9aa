//! Editing blocks.

use super::by_indent::ITEM_MARK;
use super::editing_by_indent::{self, head_end};
use super::path::{BlockPath, Part, Step, column_path};
use super::tree::{Kind, Node, Tree};
use super::{Blocks, Nesting};
use crate::formats::editing::{
    Anchor, Dialect, Editor, Entries, EntryNode, Head, Inside, KeyOfParents, Likeness, NewEntry,
    Part as TakenPart, Refusal, Style, blanks_before, climb, edited, key_at,
};
use crate::formats::{Cell, Form, Format, OffStyle, decode};
use crate::text::{Span, Text};
use std::collections::HashMap;
use std::sync::Arc;

/// What is special about editing blocks.
pub(super) struct BlockDialect<'t> {
    pub format: &'t Blocks,
    pub tree: Arc<Tree>,
}

/// The editor of a text in blocks.
pub(super) fn editor<'t>(format: &'t Blocks, text: &Text<'t>) -> Editor<'t> {
    let tree = format.parse(text);
    let content = text.as_str();
    let nodes = tree.nodes.iter().enumerate().map(|(at, node)| EntryNode {
        value: node.span,
        span: node.span,
        inside: inside(format, content, &tree, at),
        parent: node.parent,
        end: node.end,
    });
    let by_indent = format.nesting == Nesting::Indent;
    let separator = usual_separator(format, content, &tree).filter(|_| !by_indent);
    let style = Style {
        separator,
        optional_separators: if by_indent { vec![','] } else { format.separators.clone() },
        nests_by_indent: by_indent,
        marks: format.comments.clone(),
        wrap: format.block_comment.clone(),
        gap: match (format.assign, format.separators.contains(&';')) {
            (Some(_), _) => " ",
            _ if separator.is_some() => " ",
            (None, true) => "; ",
            // An entry ends with its line.
            (None, false) => "\n",
        },
        ..Style::default()
    };
    let entries = Entries::new(content, text.body(), text.body(), nodes.collect(), style);
    Editor::new(entries, BlockDialect { format, tree })
}

/// The sign that stands between what lies in one block, nearly everywhere in a text: there it must not be missing, as between the
/// fields of a table in a script.
fn usual_separator(format: &Blocks, text: &str, tree: &Tree) -> Option<char> {
    let mut before: HashMap<usize, &Node> = HashMap::new();
    let (mut pairs, mut with) = (0usize, vec![0usize; format.separators.len()]);
    for node in &tree.nodes {
        let Some(previous) = node.parent.and_then(|parent| before.insert(parent, node)) else { continue };
        pairs += 1;
        let gap = text.get(previous.span.end as usize..node.span.start as usize).unwrap_or_default();
        let first = gap.trim_start().chars().next();
        if let Some(at) = format.separators.iter().position(|sign| Some(*sign) == first) {
            with[at] += 1;
        }
    }
    let (most, sign) = with.into_iter().zip(&format.separators).max_by_key(|(most, _)| *most)?;
    (most > 0 && most * 100 >= pairs * 95).then_some(*sign)
}

/// One past the `{` of a block.
fn open_end(text: &str, tree: &Tree, node: usize) -> Option<usize> {
    let own = &tree.nodes[node];
    let head = tree.words[own.words.clone()].last().map_or(own.span.start, |word| word.span.end) as usize;
    let brace = text.get(head..own.span.end as usize)?.find('{')?;
    Some(head + brace + 1)
}

fn inside(format: &Blocks, text: &str, tree: &Tree, node: usize) -> Inside {
    let own = &tree.nodes[node];
    if format.nesting == Nesting::Indent {
        return editing_by_indent::inside(format, text, tree, node);
    }
    match open_end(text, tree, node).filter(|_| own.kind == Kind::Block) {
        Some(open) if own.span.of(text).ends_with('}') => {
            Inside::Bracketed(Span::new(open, own.span.end as usize - 1))
        }
        _ => Inside::Nothing,
    }
}

/// A word in quotes.
const QUOTED: Cell = Cell { span: Span { start: 0, end: 0 }, form: Form::Quoted };

impl BlockDialect<'_> {
    fn name<'t>(&self, entries: &Entries<'t>, node: usize) -> Option<&'t str> {
        let own = &self.tree.nodes[node];
        let is_named = matches!(own.kind, Kind::Block | Kind::Entry);
        let word = own.words.clone().next().filter(|_| is_named)?;
        Some(self.tree.words[word].span.of(entries.text()))
    }

    /// All of a word, with its quotes.
    pub fn whole_word(&self, word: usize) -> Span {
        let own = &self.tree.words[word];
        let quote = u32::from(own.form != Form::Plain);
        Span { start: own.span.start - quote, end: own.span.end + quote }
    }

    fn cells(&self, text: &str, path: &BlockPath, part: Part, record: Option<usize>) -> Vec<Cell> {
        let mut cells = Vec::new();
        let mut push = |cell| cells.push(cell);
        match (path.steps.is_empty(), record) {
            (true, Some(record)) => part.cells(&self.tree, record, &mut push),
            (true, None) => part.children(&self.tree, None, &mut push),
            (false, _) => {
                let nodes = path.select(&self.tree, text, record);
                nodes.into_iter().for_each(|node| part.cells(&self.tree, node, &mut push));
            }
        }
        cells
    }

    /// A word as it is written: in quotes if `model` is, or if it must be.
    pub fn word(&self, value: &str, model: Option<usize>) -> Result<String, Refusal> {
        let form = model.map_or(Form::Plain, |word| self.tree.words[word].form);
        let text = self.format.encode(&Cell { span: Span::default(), form }, "", value)?;
        Ok(match form {
            Form::Plain => text,
            Form::SingleQuoted => format!("'{text}'"),
            _ => format!("\"{text}\""),
        })
    }

    /// What stands between a key and its value.
    fn assign<'t>(&self, entries: &Entries<'t>, node: usize) -> Option<&'t str> {
        let own = &self.tree.nodes[node];
        let mut words = own.words.clone().filter(|_| own.kind == Kind::Entry);
        let (key, value) = (words.next()?, words.next()?);
        let between =
            entries.text().get(self.whole_word(key).end as usize..self.whole_word(value).start as usize);
        between.map(|between| between.strip_prefix(']').unwrap_or(between))
    }

    /// Whether the name of a node stands in brackets and quotes: `["coal"] = 4`.
    fn is_name_in_brackets(&self, text: &str, node: usize) -> bool {
        let own = &self.tree.nodes[node];
        let name = own.words.clone().next().map(|word| self.whole_word(word));
        name.is_some_and(|name| {
            self.format.assign.is_some()
                && text[..name.start as usize].ends_with('[')
                && text[name.end as usize..].starts_with(']')
        })
    }

    /// What stands between the head of a block and what is inside it.
    fn open<'t>(&self, entries: &Entries<'t>, node: usize) -> Option<&'t str> {
        let own = &self.tree.nodes[node];
        let head = own.words.clone().next_back().filter(|_| own.kind == Kind::Block)?;
        let between = entries
            .text()
            .get(self.whole_word(head).end as usize..open_end(entries.text(), &self.tree, node)?);
        between.map(|between| between.strip_prefix(']').unwrap_or(between))
    }

    /// Puts the entry or block that `names` lead to into `record`, with the blocks on the way that are not there. The value may
    /// be the first item of a list, on a line of its own.
    fn add_entry(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        names: &[&str],
        (value, is_item): (&str, bool),
    ) -> Result<(), Refusal> {
        let (mut block, mut missing) = (record, names);
        while let [name, rest @ ..] = missing {
            let is_block = |child: &usize| {
                self.tree.nodes[*child].kind == Kind::Block && self.name(entries, *child) == Some(name)
            };
            let Some(child) = entries.children(block).find(is_block).filter(|_| !rest.is_empty()) else {
                break;
            };
            (block, missing) = (Some(child), rest);
        }
        let Some((first, deeper)) = missing.split_first() else {
            return Err("it holds something else there".to_owned());
        };
        if block.is_some_and(|block| !entries.node(block).inside.holds()) {
            return Err("the record is no block, and nothing can be put into it".to_owned());
        }
        let (anchor, model) = entries.field_place(block, first, |node| self.name(entries, node));
        let is_entry = |node: &usize| self.tree.nodes[*node].kind == Kind::Entry;
        let model = model.filter(is_entry).filter(|_| deeper.is_empty());
        let near = || model.into_iter().chain(entries.children(block)).chain(entries.numbers());
        let assign = near().find_map(|node| self.assign(entries, node)).map(str::to_owned);
        let assign = assign.unwrap_or_else(|| match self.format.assign {
            Some(sign) => format!(" {sign} "),
            None => " ".to_owned(),
        });
        let model_value = model.and_then(|node| self.tree.nodes[node].words.clone().nth(1));
        if self.by_indent() {
            let value = self.word(value, model_value)?;
            let (assign, value) = match is_item {
                true => (assign.trim_end().to_owned(), format!("\n{ITEM_MARK} {value}")),
                false => (assign, value),
            };
            return self.add_lines(entries, block, anchor, missing, (&assign, &value));
        }
        let mut text = self.word(value, model_value)?;
        let mut alike =
            model.map_or_else(|| entries.children(block).collect(), |model| vec![model]).into_iter();
        let in_brackets = alike.any(|node| self.is_name_in_brackets(entries.text(), node));
        for (depth, name) in missing.iter().enumerate().rev() {
            let name = match in_brackets && depth == 0 {
                true => format!("[\"{}\"]", self.format.encode(&QUOTED, "", name)?),
                false => self.word(name, None)?,
            };
            text = if depth + 1 == missing.len() {
                format!("{name}{assign}{text}")
            } else {
                let open = entries.numbers().find_map(|node| self.open(entries, node));
                let open = open.map_or_else(|| format!("{}{{", assign.trim_end()), str::to_owned);
                format!("{name}{open} {text} }}")
            };
        }
        entries.add(block, anchor, NewEntry { text, ..NewEntry::default() });
        Ok(())
    }

    pub fn by_indent(&self) -> bool {
        self.format.nesting == Nesting::Indent
    }

    /// Whether a node is an entry with its values side by side.
    fn holds_values(&self, text: &str, node: usize) -> bool {
        let own = &self.tree.nodes[node];
        own.kind == Kind::Entry
            && (self.format.assign.is_none() || own.words.len() > 2 || self.is_in_brackets(text, node))
    }

    /// What a column leads to as a list.
    fn list(&self, entries: &Entries<'_>, record: Option<usize>, column: &str) -> Result<List, Refusal> {
        let (path, part) = column_path(column)?;
        let text = entries.text();
        let items = |container: Option<usize>| {
            let items =
                entries.children(container).filter(|child| self.tree.nodes[*child].kind == Kind::Item);
            List::Words(container, items.collect())
        };
        let nodes = match path.steps.is_empty() {
            true => return if part == Part::Items { Ok(items(record)) } else { Err(no_list(column)) },
            false => path.select(&self.tree, text, record),
        };
        match (part, nodes.as_slice()) {
            (Part::Items, [block, ..]) => Ok(items(Some(*block))),
            (Part::Value, []) => Ok(List::Nothing),
            (Part::Value, [only]) if self.tree.nodes[*only].kind == Kind::Block => {
                let mut kinds = entries.children(Some(*only)).map(|child| self.tree.nodes[child].kind);
                if kinds.all(|kind| kind == Kind::Item) {
                    Ok(items(Some(*only)))
                } else {
                    Err(no_list(column))
                }
            }
            (Part::Value, [only]) if self.holds_values(text, *only) => Ok(List::Values(*only)),
            (Part::Value, all) if all.iter().all(|node| self.tree.nodes[*node].kind == Kind::Entry) => {
                Ok(List::Entries(all.to_vec()))
            }
            _ => Err(no_list(column)),
        }
    }
}

/// The ways in which blocks hold a list.
enum List {
    /// It is not there yet.
    Nothing,
    /// Bare words in a block, or at the top.
    Words(Option<usize>, Vec<usize>),
    /// The values of one entry.
    Values(usize),
    /// Entries of one name.
    Entries(Vec<usize>),
}

fn no_list(column: &str) -> Refusal {
    format!("`{column}` is no list")
}

fn no_item(column: &str, at: usize) -> Refusal {
    format!("`{column}` has no item {}", at + 1)
}

/// The names that a path is made of, if it is made of names alone.
fn names(path: &BlockPath) -> Option<Vec<&str>> {
    let names = path.steps.iter().map(|step| match step {
        Step::Name(name) => Some(name.as_str()),
        _ => None,
    });
    names.collect()
}

impl Dialect for BlockDialect<'_> {
    fn set(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        value: &str,
    ) -> Result<(), Refusal> {
        let (path, part) = column_path(column)?;
        match self.cells(entries.text(), &path, part, record).as_slice() {
            [] => {}
            [Cell { form: Form::Nested, .. }] => return Err(format!("`{column}` holds other entries")),
            [cell] => {
                let text = self.format.encode(cell, column, value)?;
                entries.edit(cell.span, text);
                return Ok(());
            }
            _ => return Err(format!("`{column}` holds several values")),
        }
        if let (Part::Label, true, Some(record)) = (part, path.steps.is_empty(), record) {
            let own = &self.tree.nodes[record];
            let first = own.words.clone().next().filter(|_| own.kind == Kind::Block);
            let at = self.whole_word(first.ok_or("it has no head")?).end as usize;
            let word = self.word(value, None)?;
            entries.edit(Span::new(at, at), format!(" {word}"));
            return Ok(());
        }
        let names = names(&path).filter(|names| part == Part::Value && !names.is_empty());
        let names = names.ok_or_else(|| format!("there is no place that is `{column}` yet"))?;
        let nodes = path.select(&self.tree, entries.text(), record);
        if let [list] = nodes[..]
            && self.tree.nodes[list].kind == Kind::Entry
            && self.is_in_brackets(entries.text(), list)
        {
            return self.insert_item(entries, record, column, value, 0);
        }
        // A block with nothing in it is a list without items.
        let empty = |node: &&usize| {
            self.tree.nodes[**node].kind == Kind::Block && entries.children(Some(**node)).next().is_none()
        };
        if let Some(block) = path.select(&self.tree, entries.text(), record).iter().find(empty) {
            let text = self.word(value, None)?;
            if self.by_indent() {
                // A key without a value.
                let at = head_end(self.format, entries.text(), &self.tree, *block);
                entries.edit(Span::new(at, at), format!(" {text}"));
                return Ok(());
            }
            entries.add(Some(*block), Anchor::Last, NewEntry { text, ..NewEntry::default() });
            return Ok(());
        }
        self.add_entry(entries, record, &names, (value, false))
    }

    fn take(&self, entries: &Entries<'_>, record: usize, part: &TakenPart<'_>) -> Result<NewEntry, Refusal> {
        let text = entries.text();
        let of_key = self.key_of_parents(entries, record, part.key);
        let head = |node: usize| {
            let own = self.tree.nodes[node].span;
            let key = key_at(&of_key, node);
            let is_of_key = |child: usize| {
                let first = |column: &str| {
                    let (path, _) = column_path(column).ok()?;
                    names(&path)?.first().map(|name| (*name).to_owned())
                };
                let name = self.name(entries, child);
                name.is_some() && key.iter().any(|(column, _)| first(column).as_deref() == name)
            };
            let open = match self.by_indent() {
                true => Some(head_end(self.format, text, &self.tree, node)),
                false => open_end(text, &self.tree, node),
            };
            let open = open.unwrap_or(own.end as usize);
            Head {
                open: text[own.start as usize..open].to_owned(),
                close: if self.by_indent() { String::new() } else { "}".to_owned() },
                name: self.head_words(text, node),
                key_entries: entries.texts_of(node, is_of_key),
                key,
                indent: blanks_before(text, own.start as usize).map(str::to_owned),
            }
        };
        let span = entries.node(record).span;
        Ok(NewEntry {
            heads: entries.ancestors(record).into_iter().map(head).collect(),
            notes: if part.notes { entries.notes_above(record) } else { Vec::new() },
            text: edited(text, span, part.edits),
            indent: blanks_before(text, span.start as usize).map(str::to_owned),
            ..NewEntry::default()
        })
    }

    fn is_parent(&self, entries: &Entries<'_>, node: usize, head: &Head) -> Likeness {
        let text = entries.text();
        if self.tree.nodes[node].kind != Kind::Block {
            return Likeness::Other;
        }
        let words = &self.tree.words[self.tree.nodes[node].words.clone()];
        let own = words.iter().map(|word| entries.expected(word.span)).collect::<Vec<_>>().join("\n");
        let first = |name: &str| name.split('\n').next().map(str::to_owned);
        let same = match head.key.as_slice() {
            [] => own == head.name,
            key => {
                first(&own) == first(&head.name)
                    && key.iter().all(|(column, value)| {
                        let Ok((path, part)) = column_path(column) else { return false };
                        let cells = self.cells(text, &path, part, Some(node));
                        cells.iter().any(|cell| entries.expected_value(cell) == *value)
                    })
            }
        };
        if same { Likeness::Same } else { Likeness::Other }
    }

    fn insert_item(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        item: &str,
        at: usize,
    ) -> Result<(), Refusal> {
        match self.list(entries, record, column)? {
            List::Nothing => {
                let (path, _) = column_path(column)?;
                let names = names(&path).ok_or_else(|| no_list(column))?;
                self.add_entry(entries, record, &names, (item, self.by_indent()))
            }
            List::Words(container, words) => {
                let model = words.first().and_then(|node| self.tree.nodes[*node].words.clone().next());
                let mut text = self.word(item, model)?;
                if self.by_indent() {
                    if container.is_some_and(|block| self.is_in_brackets(entries.text(), block)) {
                        return Err(format!("`{column}` stands in brackets with other things"));
                    }
                    text = format!("{ITEM_MARK} {text}");
                }
                let anchor = match (words.get(at), words.last()) {
                    (Some(word), _) => Anchor::Before(*word),
                    (None, Some(last)) => Anchor::After(*last),
                    (None, None) => Anchor::Last,
                };
                entries.add(container, anchor, NewEntry { text, ..NewEntry::default() });
                Ok(())
            }
            List::Values(entry) => {
                let values: Vec<usize> = self.tree.nodes[entry].words.clone().skip(1).collect();
                let text = self.word(item, values.first().copied())?;
                if self.is_in_brackets(entries.text(), entry) {
                    self.insert_in_brackets(entries, entry, &text, at);
                    return Ok(());
                }
                let (place, new) = match (values.get(at), values.last()) {
                    (Some(word), _) => (self.whole_word(*word).start, format!("{text} ")),
                    (None, Some(last)) => (self.whole_word(*last).end, format!(" {text}")),
                    (None, None) => (self.tree.nodes[entry].span.end, format!(" {text}")),
                };
                entries.edit(Span { start: place, end: place }, new);
                Ok(())
            }
            List::Entries(all) => {
                let beside = all.get(at).or(all.last()).copied().ok_or_else(|| no_list(column))?;
                let words: Vec<usize> = self.tree.nodes[beside].words.clone().collect();
                let name = self.whole_word(words[0]).of(entries.text()).to_owned();
                let assign = self.assign(entries, beside).unwrap_or(" ").to_owned();
                let text = format!("{name}{assign}{}", self.word(item, words.get(1).copied())?);
                let anchor = if at < all.len() { Anchor::Before(beside) } else { Anchor::After(beside) };
                entries.add(entries.node(beside).parent, anchor, NewEntry { text, ..NewEntry::default() });
                Ok(())
            }
        }
    }

    fn remove_item(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        at: usize,
    ) -> Result<(), Refusal> {
        match self.list(entries, record, column)? {
            List::Nothing => Err(no_item(column, at)),
            List::Words(_, nodes) | List::Entries(nodes) => {
                entries.remove(*nodes.get(at).ok_or_else(|| no_item(column, at))?);
                Ok(())
            }
            List::Values(entry) => {
                let words: Vec<usize> = self.tree.nodes[entry].words.clone().collect();
                if self.is_in_brackets(entries.text(), entry) {
                    words.get(at + 1).ok_or_else(|| no_item(column, at))?;
                    self.remove_in_brackets(entries, &words, at);
                    return Ok(());
                }
                if words.len() == 2 && at == 0 {
                    entries.remove(entry);
                    return Ok(());
                }
                let word = *words.get(at + 1).ok_or_else(|| no_item(column, at))?;
                let (own, before) = (self.whole_word(word), self.whole_word(words[at]).end);
                let is_blank = |start: u32, end: u32| {
                    let between = entries.text().get(start as usize..end as usize);
                    between.is_some_and(|between| between.trim().is_empty())
                };
                // Behind the bracket that opens a list, the blanks that go are those that follow.
                let next = words.get(at + 2).map(|next| self.whole_word(*next).start);
                let gone = match next.filter(|next| is_blank(own.end, *next)) {
                    _ if is_blank(before, own.start) => Span { start: before, end: own.end },
                    Some(next) => Span { start: own.start, end: next },
                    None => own,
                };
                entries.edit(gone, "");
                Ok(())
            }
        }
    }

    fn is_entry_of(&self, entries: &Entries<'_>, node: usize, cell: Span) -> bool {
        let own = entries.node(node);
        // What stands in the head of a block cannot be without it.
        own.span == cell || !own.inside.holds() || cell.start as usize >= entries.inside_start(Some(node))
    }

    fn as_dialect(&self) -> &dyn Dialect {
        self
    }

    fn parent_name(&self, entries: &Entries<'_>, node: usize) -> String {
        let first = self.tree.nodes[node].words.clone().next();
        first.map_or_else(String::new, |word| entries.expected(self.tree.words[word].span))
    }

    fn head_name(&self, head: &Head) -> String {
        head.name.split('\n').next().unwrap_or_default().to_owned()
    }

    fn off_style(&self) -> OffStyle {
        self.format.off_style()
    }
}

impl BlockDialect<'_> {
    /// The words of a block's head, one a line.
    fn head_words(&self, text: &str, node: usize) -> String {
        let words = &self.tree.words[self.tree.nodes[node].words.clone()];
        words.iter().map(|word| word.span.of(text)).collect::<Vec<_>>().join("\n")
    }

    /// What the key of a record uses of the blocks around it: the node, the column as seen from there, the value.
    fn key_of_parents(&self, entries: &Entries<'_>, record: usize, key: &[&str]) -> KeyOfParents {
        let (text, mut out) = (entries.text(), Vec::new());
        for column in key {
            let Some((node, rest)) = climb(entries, record, column) else { continue };
            let Ok((path, part)) = column_path(rest) else {
                continue;
            };
            if let Some(cell) = self.cells(text, &path, part, Some(node)).first() {
                out.push((node, rest.to_owned(), decode(text, cell).text.into_owned()));
            }
        }
        out
    }
}
