//! What is special about editing blocks that indentation nests: nothing closes them, and values in brackets have commas.

use super::by_indent::ITEM_MARK;
use super::editing::BlockDialect;
use super::scalars::{tags_len, without_note};
use super::tree::{Kind, Tree};
use super::{Blocks, Nesting};
use crate::formats::editing::{Anchor, Entries, Inside, NewEntry, Refusal, line_content_end};
use crate::formats::{Cell, Form};
use crate::text::Span;

/// One past the sign behind the key of an entry or block, or past the key where there is none.
fn key_end(format: &Blocks, text: &str, key: &Cell) -> usize {
    let behind = key.span.end as usize + usize::from(key.form != Form::Plain);
    let sign = format.assign.and_then(|sign| Some(text.get(behind..)?.find(sign)? + sign.len_utf8()));
    behind + sign.unwrap_or_default()
}

/// One past the head of a block: its key with the sign, a tag and an anchor, or the mark of an item.
pub(super) fn head_end(format: &Blocks, text: &str, tree: &Tree, node: usize) -> usize {
    let own = &tree.nodes[node];
    match tree.words[own.words.clone()].first() {
        None => own.span.start as usize + ITEM_MARK.len(),
        Some(key) => {
            let behind = key_end(format, text, key);
            without_note(&format.comments, text, behind, line_content_end(text, behind))
        }
    }
}

/// Whether the value of an entry or block stands in brackets.
fn is_in_brackets(format: &Blocks, text: &str, tree: &Tree, node: usize) -> bool {
    let own = &tree.nodes[node];
    let words = &tree.words[own.words.clone()];
    let begin =
        words.first().map_or(own.span.start as usize + ITEM_MARK.len(), |key| key_end(format, text, key));
    let end = match (own.kind, words.get(1)) {
        // What stands before the first value opens the list.
        (Kind::Entry, Some(value)) => value.span.start,
        _ => own.span.end,
    };
    let value = text.get(begin..end as usize).unwrap_or("").trim_start();
    // A value that only begins with a bracket is a word itself.
    format.nesting == Nesting::Indent
        && own.span.of(text).ends_with([']', '}'])
        && value[tags_len(value)..].starts_with(['[', '{'])
}

/// Where the entries within a node stand. What is in brackets takes no others.
pub(super) fn inside(format: &Blocks, text: &str, tree: &Tree, node: usize) -> Inside {
    match tree.nodes[node].kind {
        Kind::Block if !is_in_brackets(format, text, tree, node) => {
            Inside::Below(head_end(format, text, tree, node))
        }
        _ => Inside::Nothing,
    }
}

impl BlockDialect<'_> {
    /// Puts the entry or block that `names` lead to into `block`, each name on a line of its own, with what stands between a key
    /// and its value, and the value as written; a line end may stand before that.
    pub fn add_lines(
        &self,
        entries: &mut Entries<'_>,
        block: Option<usize>,
        anchor: Anchor,
        names: &[&str],
        (assign, value): (&str, &str),
    ) -> Result<(), Refusal> {
        let unit = entries.indent_unit().unwrap_or("  ").to_owned();
        let head = assign.trim_end();
        let mut text = String::new();
        for (depth, name) in names.iter().enumerate() {
            let name = self.word(name, None)?;
            text += &match depth + 1 == names.len() {
                true => {
                    let value = value.replace('\n', &format!("\n{}", unit.repeat(depth + 1)));
                    format!("{name}{assign}{value}")
                }
                false => format!("{name}{head}\n{}", unit.repeat(depth + 1)),
            };
        }
        // What opens a block may stand on the line of the first thing in it, and nothing can come between.
        let is_first = |node: usize| entries.children(block).next() == Some(node);
        let anchor = match (anchor, entries.children(block).next()) {
            (Anchor::First, Some(first)) if !entries.has_own_start(first) => Anchor::After(first),
            (Anchor::Before(node), _) if is_first(node) && !entries.has_own_start(node) => {
                Anchor::After(node)
            }
            (anchor, _) => anchor,
        };
        let indent = Some(String::new());
        entries.add(block, anchor, NewEntry { text, indent, ..NewEntry::default() });
        Ok(())
    }

    /// Whether the value of an entry or block stands in brackets, in a text that indentation nests.
    pub fn is_in_brackets(&self, text: &str, node: usize) -> bool {
        is_in_brackets(self.format, text, &self.tree, node)
    }

    /// Puts `text` into the list in brackets that `entry` has as its value, as the value with the number `at`.
    pub fn insert_in_brackets(&self, entries: &mut Entries<'_>, entry: usize, text: &str, at: usize) {
        let own = &self.tree.nodes[entry];
        let values: Vec<usize> = own.words.clone().skip(1).collect();
        let (place, new) = match (values.get(at), values.last()) {
            (Some(word), _) => (self.whole_word(*word).start, format!("{text}, ")),
            (None, Some(last)) => (self.whole_word(*last).end, format!(", {text}")),
            // Before the bracket that closes it.
            (None, None) => (own.span.end - 1, text.to_owned()),
        };
        entries.edit(Span { start: place, end: place }, new);
    }

    /// Takes the value with the number `at` out of a list in brackets whose key and values are `words`.
    pub fn remove_in_brackets(&self, entries: &mut Entries<'_>, words: &[usize], at: usize) {
        let own = self.whole_word(words[at + 1]);
        let gone = match words.get(at + 2) {
            Some(next) => Span { start: own.start, end: self.whole_word(*next).start },
            None if at > 0 => Span { start: self.whole_word(words[at]).end, end: own.end },
            None => own,
        };
        entries.edit(gone, "");
    }
}
