//! Blocks and elements where they do not seem to belong: a bracket or tag that is missing early and one too many late
//! leave a file that matches, and everything between at a wrong place.

use super::bracket_recovery::indent_of;
use super::flat_tree::{FlatNode, MOST_FAULTS, shorten};
use super::{Fault, RecordSink};
use crate::Code;
use crate::text::Span;
use std::collections::HashSet;

/// A tree, and what is needed to know of its nodes.
pub(super) struct Nodes<'n, N> {
    /// All nodes, in the order of the file.
    pub nodes: &'n [N],
    /// The whole text.
    pub text: &'n str,
    /// The name of a block or element, by its position; nothing for other nodes.
    pub name: &'n dyn Fn(usize) -> Option<Span>,
    /// Where the node at a position begins, in bytes.
    pub start: &'n dyn Fn(usize) -> usize,
    /// How a name is shown: `boat`, or `<boat>`.
    pub shown: fn(&str) -> String,
}

impl<N: FlatNode> Nodes<'_, N> {
    /// Reports what stands inside another no further in than that, and is named as one beside it; and what is named as
    /// the records at `path` are named, `name`, and is not among `records` (in the order of the file). Both may be meant
    /// so, and count only where they are rare, but for what stands no further in inside one of its own name.
    pub fn report(&self, records: &[usize], path: &str, name: Option<&str>, sink: &mut dyn RecordSink) {
        let unread = name.map_or_else(Vec::new, |name| self.not_among(records, name));
        let outdented = self.outdented();
        let only_unread = unread.iter().filter(|node| outdented.binary_search(node).is_err());
        for node in outdented.iter().take(MOST_FAULTS).chain(only_unread.take(MOST_FAULTS)) {
            let (parent, shown) = (self.nodes[*node].parent(), self.shown_name(*node));
            let around =
                parent.map(|parent| format!(" inside {}", self.shown_name(parent))).unwrap_or_default();
            let message = match unread.binary_search(node) {
                Ok(_) => {
                    format!("{shown} stands{around}, where no table reads it: records are those at `{path}`")
                }
                Err(_) => format!("{shown} stands{around}, and no further in"),
            };
            let within_its_own = parent.and_then(|parent| self.name_of(parent)) == self.name_of(*node);
            let only_if_rare = !within_its_own || outdented.binary_search(node).is_err();
            sink.fault(Fault { only_if_rare, ..self.fault(*node, message) });
        }
    }

    fn fault(&self, node: usize, message: String) -> Fault {
        let start = (self.start)(node);
        let end = (self.name)(node).map_or(start, |name| name.end as usize);
        let help = "is an end missing before it, and one too many further down?";
        Fault::new(Code::MISPLACED, Span::new(start, end), message).help(help)
    }

    fn name_of(&self, node: usize) -> Option<&str> {
        (self.name)(node).map(|name| name.of(self.text))
    }

    fn shown_name(&self, node: usize) -> String {
        format!("`{}`", (self.shown)(&shorten(self.name_of(node).unwrap_or_default())))
    }

    fn not_among(&self, records: &[usize], name: &str) -> Vec<usize> {
        let mut records = records.iter().copied().peekable();
        let mut found = Vec::new();
        for node in 0..self.nodes.len() {
            let is_named =
                (self.name)(node).is_some_and(|own| own.len() == name.len() && own.of(self.text) == name);
            if records.next_if_eq(&node).is_none() && is_named {
                found.push(node);
            }
        }
        found
    }

    /// The nodes that begin a line no further in than the line of the one they stand in, and are named as one beside that.
    fn outdented(&self) -> Vec<usize> {
        // Children follow each other, so the column of the last parent is mostly that which is asked for.
        let mut around: Option<(usize, Option<usize>)> = None;
        let mut left: Vec<usize> = Vec::new();
        for (at, node) in self.nodes.iter().enumerate() {
            let Some(parent) = node.parent().filter(|_| (self.name)(at).is_some()) else { continue };
            let Some(column) = self.column((self.start)(at)) else { continue };
            let outer = match around {
                Some((known, outer)) if known == parent => outer,
                _ => self.line_indent((self.start)(parent)),
            };
            around = Some((parent, outer));
            if outer.is_some_and(|outer| column <= outer) {
                left.push(at);
            }
        }
        if left.is_empty() {
            return left;
        }
        let named = |node: usize| Some((self.nodes[node].parent(), self.name_of(node)?));
        let beside: HashSet<(Option<usize>, &str)> = (0..self.nodes.len()).filter_map(named).collect();
        left.retain(|node| {
            let around = self.nodes[*node].parent().and_then(|parent| self.nodes[parent].parent());
            self.name_of(*node).is_some_and(|name| beside.contains(&(around, name)))
        });
        left
    }

    /// The column of byte `at`, if only blanks stand before it on its line.
    fn column(&self, at: usize) -> Option<usize> {
        let before = &self.text.as_bytes()[..at];
        let blanks = before.iter().rev().take_while(|byte| matches!(byte, b' ' | b'\t')).count();
        let begins = before.len() == blanks || before[before.len() - blanks - 1] == b'\n';
        begins.then(|| indent_of(&before[before.len() - blanks..]))
    }

    /// How far the line of byte `at` is indented; unknown if the line is very long before it.
    fn line_indent(&self, at: usize) -> Option<usize> {
        const LONGEST: usize = 1000;
        let before = &self.text.as_bytes()[at.saturating_sub(LONGEST)..at];
        let line = match memchr::memrchr(b'\n', before) {
            Some(end) => &before[end + 1..],
            None if at <= LONGEST => before,
            None => return None,
        };
        let blanks = line.iter().take_while(|byte| matches!(byte, b' ' | b'\t')).count();
        Some(indent_of(&line[..blanks]))
    }
}
