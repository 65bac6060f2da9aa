//! A subset of JSONPath (RFC 9535): `$`, `.name`, `['name']`, `[0]`, `.*`, `[*]`, `..name`, `..*`,
//! `['a','b']`; and, beyond it, names by pattern (`room_*`) and all but some (`!meta`).

use super::decode_string;
use super::tree::{Kind, Tree};
use crate::formats::flat_tree::below_all;
use crate::formats::name_pattern::NamePattern;
use std::borrow::Cow;

/// A parsed path.
#[derive(Debug, Clone)]
pub struct JsonPath {
    source: String,
    segments: Vec<Segment>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
struct Segment {
    /// `..`: at any depth.
    deep: bool,
    selector: Selector,
}

#[derive(Debug, Clone, PartialEq, Eq)]
enum Selector {
    Name(String),
    /// Any of these names.
    OneOf(Vec<String>),
    /// Any of the names that a pattern takes.
    Like(NamePattern),
    Index(usize),
    Any,
}

/// Why a path cannot be read.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
#[error("`{path}` is not a path: {message} at character {at}")]
pub struct JsonPathError {
    path: String,
    message: String,
    /// Where, 1-based, in characters.
    pub at: usize,
}

impl JsonPath {
    /// Reads a path.
    ///
    /// # Errors
    /// When it does not begin with `$`, or has something that is not in the subset.
    pub fn parse(source: &str) -> Result<JsonPath, JsonPathError> {
        let error = |rest: &str, message: &str| JsonPathError {
            path: source.to_owned(),
            message: message.to_owned(),
            at: source[..source.len() - rest.len()].chars().count() + 1,
        };
        let mut rest = source.strip_prefix('$').ok_or_else(|| error(source, "`$` is expected"))?;
        let mut segments = Vec::new();
        while !rest.is_empty() {
            let deep = rest.starts_with("..");
            let (selector, after) = if deep && !rest[2..].starts_with('[') {
                name_or_star(&rest[2..])
            } else if let Some(dotted) = rest.strip_prefix('.').filter(|_| !deep) {
                name_or_star(dotted)
            } else {
                bracketed(if deep { &rest[2..] } else { rest })
            }
            .map_err(|(at, message)| error(at, message))?;
            segments.push(Segment { deep, selector });
            rest = after;
        }
        Ok(JsonPath { source: source.to_owned(), segments })
    }

    /// The same path, where what is only a name may have any signs in it, as the file has them.
    pub(super) fn of_field(mut self) -> JsonPath {
        if let [Segment { selector, deep: false }] = &mut self.segments[..]
            && let Selector::Like(pattern) = selector
        {
            *selector = Selector::Name(pattern.source().to_owned());
        }
        self
    }

    /// The path as written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// The names that the path is made of, if it is made of names alone.
    pub(super) fn names(&self) -> Option<Vec<&str>> {
        let names = self.segments.iter().map(|segment| match &segment.selector {
            Selector::Name(name) if !segment.deep => Some(name.as_str()),
            _ => None,
        });
        names.collect()
    }

    /// The path without a last step that leads to all items or members.
    pub(super) fn without_items(&self) -> JsonPath {
        let mut path = self.clone();
        if path.segments.last().is_some_and(|last| last.selector == Selector::Any && !last.deep) {
            path.segments.pop();
        }
        path
    }

    /// The nodes the path leads to from `from`, in the order of the file.
    pub(super) fn select(&self, tree: &Tree, text: &str, from: usize) -> Vec<usize> {
        if tree.nodes.is_empty() {
            return Vec::new();
        }
        let mut nodes = vec![from];
        for segment in &self.segments {
            if segment.deep {
                // From each node itself and from all that is below it.
                let inside = below_all(&tree.nodes, &nodes.iter().copied().map(Some).collect::<Vec<_>>());
                nodes.extend(inside);
                nodes.sort_unstable();
                nodes.dedup();
            }
            let mut found = Vec::new();
            for node in nodes {
                segment.selector.children(tree, text, node, &mut found);
            }
            // What is inside nested objects is not in the order of the file.
            found.sort_unstable();
            found.dedup();
            nodes = found;
        }
        nodes
    }
}

impl Selector {
    fn children(&self, tree: &Tree, text: &str, parent: usize, found: &mut Vec<usize>) {
        match self {
            Selector::Any => found.extend(tree.children(parent)),
            Selector::Index(index) if tree.nodes[parent].kind == Kind::Array => {
                found.extend(tree.children(parent).nth(*index));
            }
            Selector::Index(_) => {}
            Selector::Name(name) => {
                found.extend(
                    tree.children(parent)
                        .find(|child| name_of(tree, text, *child).is_some_and(|own| own == *name)),
                );
            }
            Selector::OneOf(names) => found.extend(tree.children(parent).filter(|child| {
                name_of(tree, text, *child).is_some_and(|own| names.iter().any(|name| own == *name))
            })),
            Selector::Like(pattern) => found.extend(
                tree.children(parent)
                    .filter(|child| name_of(tree, text, *child).is_some_and(|own| pattern.takes(&own))),
            ),
        }
    }
}

/// The name of a member.
fn name_of<'t>(tree: &Tree, text: &'t str, node: usize) -> Option<Cow<'t, str>> {
    tree.nodes[node].name.map(|span| match span.of(text) {
        raw if raw.contains('\\') => decode_string(raw, 0).text,
        raw => Cow::Borrowed(raw),
    })
}

type Read<'s> = Result<(Selector, &'s str), (&'s str, &'static str)>;

fn name_or_star(rest: &str) -> Read<'_> {
    if let Some(after) =
        rest.strip_prefix('*').filter(|after| after.is_empty() || after.starts_with(['.', '[']))
    {
        return Ok((Selector::Any, after));
    }
    let end = rest.find(['.', '[', ']', '\'', '"']).unwrap_or(rest.len());
    if end == 0 {
        return Err((rest, "a member name or `*` is expected"));
    }
    let name = &rest[..end];
    let selector = NamePattern::parse(name).map_or_else(|| Selector::Name(name.to_owned()), Selector::Like);
    Ok((selector, &rest[end..]))
}

fn bracketed(rest: &str) -> Read<'_> {
    let inner = rest.strip_prefix('[').ok_or((rest, "`.` or `[` is expected"))?;
    let close = |after: &'static str| (inner, after);
    if let Some(quote) = inner.chars().next().filter(|c| ['\'', '"'].contains(c)) {
        let end = inner[1..].find(quote).ok_or(close("the quote is never closed"))?;
        let mut names = vec![inner[1..=end].to_owned()];
        let mut rest = &inner[end + 2..];
        while let Some(next) = rest.strip_prefix(',') {
            let next = next.trim_start();
            let quote = next
                .chars()
                .next()
                .filter(|c| ['\'', '"'].contains(c))
                .ok_or(close("a quoted name is expected"))?;
            let end = next[1..].find(quote).ok_or(close("the quote is never closed"))?;
            names.push(next[1..=end].to_owned());
            rest = &next[end + 2..];
        }
        let after = rest.strip_prefix(']').ok_or(close("`]` is expected after the quote"))?;
        let selector = match names.len() {
            1 => Selector::Name(names.remove(0)),
            _ => Selector::OneOf(names),
        };
        return Ok((selector, after));
    }
    let end = inner.find(']').ok_or(close("`]` is missing"))?;
    let after = &inner[end + 1..];
    match &inner[..end] {
        "*" => Ok((Selector::Any, after)),
        digits => match digits.parse() {
            Ok(index) => Ok((Selector::Index(index), after)),
            Err(_) => Err((inner, "a number, `*` or a quoted name is expected")),
        },
    }
}
