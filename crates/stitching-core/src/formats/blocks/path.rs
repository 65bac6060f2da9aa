//! Paths through the nesting of a file of blocks.

use super::tree::{Kind, MOST_WORDS, Tree};
use crate::formats::flat_tree::below_all;
use crate::formats::name_pattern::NamePattern;
use crate::formats::{Cell, Form};

/// A path through the nesting: `convoys/*/leg`, `**/gate`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct BlockPath {
    source: String,
    pub(super) steps: Vec<Step>,
}

#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Step {
    Name(String),
    /// Any of the names that a pattern takes.
    Like(NamePattern),
    Any,
    /// Any number of blocks.
    Deep,
    Up,
}

/// What is meant of the place a column's path leads to.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Part {
    Value,
    Name,
    Label,
    /// Of the words behind the name the one with this number, 0-based; and with `true` all from there on.
    Word(usize, bool),
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
                name => NamePattern::parse(name).map_or_else(|| Step::Name(name.to_owned()), Step::Like),
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
    pub(super) fn select(&self, tree: &Tree, text: &str, from: Option<usize>) -> Vec<usize> {
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
        let kind = tree.nodes[node].kind;
        let name = || tree.name(node).map(|name| name.of(text));
        matches!(kind, Kind::Block | Kind::Entry)
            && match self {
                Step::Name(wanted) => name() == Some(wanted),
                Step::Like(pattern) => name().is_some_and(|name| pattern.takes(name)),
                _ => true,
            }
    }
}

impl Part {
    pub(super) fn cells(self, tree: &Tree, node: usize, push: &mut impl FnMut(Cell)) {
        let here = &tree.nodes[node];
        let words = &tree.words[here.words.clone()];
        match (self, here.kind) {
            (Part::Name, Kind::Block | Kind::Entry) => words.first().copied().into_iter().for_each(push),
            (Part::Label, Kind::Block) => words.get(1).copied().into_iter().for_each(push),
            (Part::Word(first, on), Kind::Block | Kind::Entry) => {
                let most = if on { usize::MAX } else { 1 };
                words.iter().skip(1 + first).take(most).copied().for_each(push);
            }
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
    pub(super) fn children(self, tree: &Tree, node: Option<usize>, push: &mut impl FnMut(Cell)) {
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

/// What `{2}`, the second word behind the name, or `{2+}`, all from there on, stands for.
fn word_number(part: &str) -> Option<Part> {
    let inner = part.strip_prefix('{')?.strip_suffix('}')?;
    let (digits, on) = inner.strip_suffix('+').map_or((inner, false), |digits| (digits, true));
    let number: usize = digits.parse().ok()?;
    Some(Part::Word(number.checked_sub(1).filter(|number| *number < MOST_WORDS)?, on))
}

/// The path of a field. What is only a name may have any signs in it, as the file has them.
fn field_path(source: &str) -> Result<BlockPath, String> {
    let mut path = BlockPath::parse(source, true)?;
    if let [Step::Like(pattern)] = &path.steps[..] {
        path.steps = vec![Step::Name(pattern.source().to_owned())];
    }
    Ok(path)
}

/// A column's name taken apart.
pub(super) fn column_path(column: &str) -> Result<(BlockPath, Part), String> {
    let (path, last) = column.rsplit_once('/').unwrap_or(("", column));
    let part = match last {
        "{name}" | "{member}" => Part::Name,
        "{label}" => Part::Label,
        "{value}" => Part::Value,
        "{items}" => Part::Items,
        "{includes}" => Part::Includes,
        _ if last.starts_with('{') => word_number(last).ok_or_else(|| {
            format!(
                "blocks have no `{last}`; there are {{name}}, {{label}}, {{value}}, {{items}} and {{includes}}, and {{1}}, {{2}}, {{2+}} for the words behind a name"
            )
        })?,
        _ => return Ok((field_path(column)?, Part::Value)),
    };
    Ok((field_path(path)?, part))
}
