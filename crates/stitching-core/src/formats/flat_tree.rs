//! What the formats that nest have in common: trees kept flat, with the nodes in the order of the file.

use super::ColumnCell;
use crate::text::Span;
use std::ops::Range;

/// After so many faults in one file nothing more is said about it.
pub(super) const MOST_FAULTS: usize = 200;
/// Deeper nesting is reported: no data that people write goes so deep.
pub(super) const DEEP: usize = 500;
/// Names from a file are cut to so many characters in messages.
pub(super) const LONGEST_NAME: usize = 40;

/// A node of a flat tree.
pub(super) trait FlatNode {
    /// The node it stands in.
    fn parent(&self) -> Option<usize>;
    /// One past the last node below it: its next sibling, if there is one.
    fn end(&self) -> usize;
    /// Where it stands in the file.
    fn span(&self) -> Span;
}

/// The nodes inside `parent` at any depth; all of them without one.
pub(super) fn below<N: FlatNode>(nodes: &[N], parent: Option<usize>) -> Range<usize> {
    parent.map_or(0..nodes.len(), |parent| parent + 1..nodes[parent].end())
}

/// The nodes that stand inside one of `parents` (in the order of the file) at any depth, each once.
pub(super) fn below_all<N: FlatNode>(nodes: &[N], parents: &[Option<usize>]) -> Vec<usize> {
    let mut out = Vec::new();
    let mut covered = 0;
    for parent in parents {
        let range = below(nodes, *parent);
        out.extend(range.start.max(covered)..range.end);
        covered = covered.max(range.end);
    }
    out
}

/// The nodes directly inside `parent`, or those at the top.
pub(super) fn children<N: FlatNode>(nodes: &[N], parent: Option<usize>) -> impl Iterator<Item = usize> + '_ {
    let range = below(nodes, parent);
    let mut next = range.start;
    std::iter::from_fn(move || {
        let child = next;
        (child < range.end).then(|| {
            next = nodes[child].end();
            child
        })
    })
}

/// The nodes that `node` stands in, the outermost first.
pub(super) fn ancestors<N: FlatNode>(nodes: &[N], node: usize) -> Vec<usize> {
    let mut out: Vec<usize> =
        std::iter::successors(nodes[node].parent(), |around| nodes[*around].parent()).collect();
    out.reverse();
    out
}

/// Tells of each of `cells`, which are of `record` (the file as a whole without one) and in the order of the file, how
/// many structures inside the record it shares with the one before.
pub(super) fn mark_shared<N: FlatNode>(nodes: &[N], record: Option<usize>, cells: &mut [ColumnCell]) {
    let range = record.map_or(0..nodes.len(), |record| record..nodes[record].end());
    let innermost = |at: u32| {
        let next = range.start + nodes[range.clone()].partition_point(|node| node.span().start <= at);
        let mut found = next.checked_sub(1).filter(|node| range.contains(node));
        while let Some(node) = found.filter(|node| nodes[*node].span().end <= at) {
            found = nodes[node].parent().filter(|parent| range.contains(parent));
        }
        found
    };
    let mut before: Option<usize> = None;
    for cell in cells {
        let own = innermost(cell.cell.span.start);
        let is_around = |node: &usize| own.is_some_and(|own| (*node..nodes[*node].end()).contains(&own));
        let outwards = |node: &usize| nodes[*node].parent().filter(|parent| range.contains(parent));
        let common = std::iter::successors(before, outwards).find(is_around);
        let depth = std::iter::successors(common, outwards).filter(|node| Some(*node) != record).count();
        cell.shared = u16::try_from(depth).unwrap_or(u16::MAX);
        before = own;
    }
}

/// The path to the node that a walk in the order of the file has come to: the names of the nodes around it and its own.
pub(super) struct NodePath {
    separator: &'static str,
    text: String,
    /// For each node of the path, one past the last node below it, and how long the path was before it, in bytes.
    open: Vec<(usize, usize)>,
}

impl NodePath {
    /// An empty path, whose steps will have `separator` between them.
    pub fn new(separator: &'static str) -> NodePath {
        NodePath { separator, text: String::new(), open: Vec::new() }
    }

    /// Forgets all steps.
    pub fn clear(&mut self) {
        self.text.clear();
        self.open.clear();
    }

    /// Goes on to the node at `at`, which ends before `end` and is called `name`; no separator stands before a `[`.
    pub fn enter(&mut self, at: usize, end: usize, name: &str) {
        while let Some((_, before)) = self.open.pop_if(|(end, _)| *end <= at) {
            self.text.truncate(before);
        }
        self.open.push((end, self.text.len()));
        self.text.push_str(self.separator_before(name));
        self.text.push_str(name);
    }

    /// The path.
    pub fn shown(&self) -> &str {
        &self.text
    }

    /// The path with one more step.
    pub fn with(&self, name: &str) -> String {
        format!("{}{}{name}", self.text, self.separator_before(name))
    }

    fn separator_before(&self, name: &str) -> &'static str {
        if self.text.is_empty() || name.starts_with('[') { "" } else { self.separator }
    }
}

/// A name from a file as messages show it: cut if it is long.
pub(super) fn shorten(name: &str) -> String {
    match name.char_indices().nth(LONGEST_NAME) {
        None => name.to_owned(),
        Some((end, _)) => format!("{}...", &name[..end]),
    }
}
