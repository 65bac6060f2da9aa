//! What the formats that nest have in common: trees kept flat, with the nodes in the order of the file.

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

/// A name from a file as messages show it: cut if it is long.
pub(super) fn shorten(name: &str) -> String {
    match name.char_indices().nth(LONGEST_NAME) {
        None => name.to_owned(),
        Some((end, _)) => format!("{}...", &name[..end]),
    }
}
