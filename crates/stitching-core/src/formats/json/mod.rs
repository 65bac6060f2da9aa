//! JSON (RFC 8259), strict or with the liberties that many games take.
//!
//! Records are chosen by a path ([`JsonPath`]); a column is a member name, a path below the
//! record (`position.x`, `needs[*]`). `{member}` is the name under which the record is filed, and behind a
//! path (`prices.*.{member}`) the names of the members it leads to; `{parent}.` begins at the object around
//! the record.

mod editing;
mod path;
mod settings;
mod string;
mod tree;

pub use path::{JsonPath, JsonPathError};
pub(super) use settings::KIND;
pub(super) use string::decode_string;

use super::common_steps;
use super::editing::Editor;
use super::flat_tree::{NodePath, mark_shared};
use super::{
    Cell, Column, ColumnCell, Fault, Form, Format, ITEM, OUTLINED, OffStyle, Outline, RawRecord, RecordSink,
};
use crate::text::{Span, Text};
use tree::{Kind, Node, Tree};

/// The settings of a JSON file.
#[derive(Debug, Clone)]
pub struct Json {
    /// Which values are the records.
    pub records: JsonPath,
    /// Whether the game accepts `//` and `/* */` comments.
    pub comments: bool,
    /// Whether the game accepts a comma before a closing bracket.
    pub trailing_commas: bool,
}

/// The column that stands for the name of the member a record is the value of.
const MEMBER: &str = "{member}";
/// The object around the record, before a path that begins there.
const PARENT: &str = "{parent}.";

/// What stands behind the name of a member for the items of its list.
const ITEMS: &str = "[*]";
/// How many records are looked at to learn their members.
const SAMPLE: usize = 200;

impl Format for Json {
    fn read(&self, text: &Text<'_>, columns: &[Column<'_>], sink: &mut dyn RecordSink) {
        let tree = Tree::of(text, self, &mut |fault: Fault| sink.fault(fault));
        let paths: Vec<Option<FieldPath>> =
            columns.iter().map(|column| FieldPath::parse(column.name).ok()).collect();
        let related = columns.iter().any(|column| column.related);
        let mut cells = Vec::new();
        for record in self.records.select(&tree, text.as_str(), 0) {
            cells.clear();
            for (index, path) in paths.iter().enumerate() {
                let Some(path) = path else { continue };
                path.cells(&tree, text.as_str(), record, &mut |cell| {
                    cells.push(ColumnCell::new(index as u16, cell));
                });
            }
            cells.sort_by_key(|cell: &ColumnCell| cell.cell.span.start);
            if related {
                mark_shared(&tree.nodes, Some(record), &mut cells);
            }
            sink.record(&RawRecord { span: tree.nodes[record].span, cells: &cells });
        }
    }

    fn names(&self, text: &Text<'_>, give: &mut dyn FnMut(&str, Span)) {
        let tree = Tree::of(text, self, &mut |_| {});
        let mut path = NodePath::new(".");
        for record in self.records.select(&tree, text.as_str(), 0) {
            path.clear();
            for at in record + 1..tree.nodes[record].end {
                let node = &tree.nodes[at];
                match node.name {
                    Some(span) => {
                        path.enter(at, node.end, &decode_string(span.of(text.as_str()), span.start).text);
                        give(path.shown(), span);
                    }
                    None => path.enter(at, node.end, ITEMS),
                }
            }
        }
    }

    fn has_names(&self) -> bool {
        true
    }

    fn columns(&self, text: &Text<'_>) -> Vec<String> {
        let tree = Tree::of(text, self, &mut |_| {});
        // Of each name whether all its values are lists.
        let mut names: Vec<(String, bool)> = Vec::new();
        for record in self.records.select(&tree, text.as_str(), 0).into_iter().take(SAMPLE) {
            for child in tree.children(record) {
                let Some(span) = tree.nodes[child].name else { continue };
                let name = decode_string(span.of(text.as_str()), span.start).text.into_owned();
                let is_list = tree.nodes[child].kind == Kind::Array;
                match names.iter_mut().find(|(known, _)| *known == name) {
                    Some((_, all)) => *all &= is_list || tree.nodes[child].kind == Kind::Null,
                    None if FieldPath::parse(&name).is_ok() => names.push((name, is_list)),
                    None => {}
                }
            }
        }
        names.into_iter().map(|(name, is_list)| if is_list { name + ITEMS } else { name }).collect()
    }

    fn outline(&self, text: &Text<'_>, outline: &mut Outline) {
        let tree = Tree::of(text, self, &mut |_| {});
        outline.next_file();
        let mut of_nodes: Vec<usize> = Vec::new();
        for node in tree.nodes.iter().take(OUTLINED) {
            let Some(parent) = node.parent else {
                of_nodes.push(0);
                continue;
            };
            let name = node.name.map_or(ITEM.into(), |span| decode_string(span.of(text.as_str()), 0).text);
            let around = of_nodes[parent];
            of_nodes.push(match node.kind {
                Kind::Object | Kind::Array | Kind::Null => outline.add(around, parent, &name),
                Kind::Str | Kind::Bare => {
                    outline.add_value(around, parent, &name, node.span.of(text.as_str()))
                }
            });
        }
    }

    fn encode(&self, cell: &Cell, _column: &str, value: &str) -> Result<String, String> {
        let quoted = serde_json::to_string(value).map_err(|error| error.to_string())?;
        Ok(match cell.form {
            Form::JsonBare if tree::is_bare_value(value) => value.to_owned(),
            Form::JsonBare => quoted,
            _ => quoted[1..quoted.len() - 1].to_owned(),
        })
    }

    fn may_be_empty(&self) -> bool {
        false
    }

    fn shared_steps(&self, one: &str, other: &str) -> u16 {
        fn steps(column: &str) -> impl Iterator<Item = &str> {
            let path = column.strip_prefix('$').map_or(column, |path| path.strip_prefix('.').unwrap_or(path));
            path.split(['.', '['])
        }
        // The name of a member stands in the object around it, and not in its value.
        let most = |column: &str| match column.strip_suffix(MEMBER) {
            Some(path) => steps(path.trim_end_matches('.')).count().saturating_sub(1) as u16,
            None => u16::MAX,
        };
        common_steps(steps(one), steps(other)).min(most(one)).min(most(other))
    }

    fn records_path(&self) -> Option<&str> {
        Some(self.records.source())
    }

    fn knows(&self, column: &str) -> bool {
        column == MEMBER
    }

    fn check_column(&self, column: &str) -> Result<(), String> {
        if let Some(outer) = column.strip_prefix("../") {
            let outer = outer.trim_matches(['{', '}']);
            return Err(format!("the object around the record is `{PARENT}`: write `{PARENT}{outer}`"));
        }
        if column.starts_with('{') && column.ends_with('}') && column != MEMBER {
            return Err(format!("`{column}` is not known of a record in JSON; `{MEMBER}` is, its name"));
        }
        FieldPath::parse(column).map(|_| ()).map_err(|error| error.to_string())
    }

    fn editor<'t>(&'t self, text: &Text<'t>) -> Option<Editor<'t>> {
        Some(editing::editor(self, text))
    }

    fn off_style(&self) -> OffStyle {
        if self.comments { OffStyle::Wrap("/*", "*/") } else { OffStyle::None }
    }

    fn wrapped_span(&self, text: &str, span: Span) -> Span {
        let span = self.with_separator(text, span);
        let shown = span.of(text);
        let lead = shown.len() - shown.trim_start().len();
        Span::new(span.start as usize + lead, span.start as usize + lead + shown.trim().len())
    }

    fn with_separator(&self, text: &str, span: Span) -> Span {
        // A record is the value of a member, or an item.
        let name = self.member_start(text, span);
        let (start, end) = (name.unwrap_or(span.start as usize), span.end as usize);
        let blank = |next: char| next.is_ascii_whitespace();
        // Notes may stand between a value and its comma.
        let after = end + past_notes(&text[end..]);
        if text[after..].starts_with(',') {
            let rest = &text[after + 1..];
            // Up to the next entry, so that the first entry of a line leaves no hole.
            return Span::new(start, text.len() - rest.trim_start_matches(blank).len());
        }
        let before = text[..start].trim_end_matches(blank);
        match before.chars().next_back() {
            Some(',') => Span::new(before.len() - 1, end),
            Some('[' | '{') | None => Span::new(start, end),
            Some(_) => Span::new(self.comma_before(text, span).unwrap_or(start), end),
        }
    }

    fn escape_bytes(&self) -> &'static [u8] {
        b"\\"
    }
}

impl Json {
    /// Where the comma stands that separates the value at `span` from the one before it, with notes between.
    fn comma_before(&self, text: &str, span: Span) -> Option<usize> {
        let tree = Tree::of(&Text::of_str(text), self, &mut |_| ());
        let node = tree.nodes.iter().position(|node| node.span == span)?;
        let before = tree.children(tree.nodes[node].parent?).take_while(|child| *child < node).last()?;
        let end = tree.nodes[before].span.end as usize;
        let comma = end + past_notes(&text[end..]);
        text[comma..].starts_with(',').then_some(comma)
    }

    /// Where the name of the member begins whose value is at `span`.
    fn member_start(&self, text: &str, span: Span) -> Option<usize> {
        match name_before(&text[..span.start as usize]) {
            Before::Item => None,
            Before::Name(start) => Some(start),
            Before::Unclear => {
                let tree = Tree::of(&Text::of_str(text), self, &mut |_| ());
                let node = tree.nodes.iter().find(|node| node.span == span)?;
                node.name.map(|name| name.start as usize - 1)
            }
        }
    }
}

/// The bytes of the blanks and notes with which `text` begins.
fn past_notes(text: &str) -> usize {
    let mut rest = text;
    loop {
        rest = rest.trim_start_matches(|next: char| next.is_ascii_whitespace());
        let end = match rest.get(..2) {
            Some("/*") => rest.find("*/").map(|at| at + 2),
            Some("//") => rest.find('\n'),
            _ => None,
        };
        match end {
            Some(end) => rest = &rest[end..],
            None => return text.len() - rest.len(),
        }
    }
}

/// What stands before a value.
enum Before {
    /// It is an item of an array, or the whole text.
    Item,
    /// The name of a member, whose quote is at this byte.
    Name(usize),
    /// A note, or a name without quotes: only reading it all tells.
    Unclear,
}

/// Looks at the end of what stands before a value.
fn name_before(text: &str) -> Before {
    let text = text.trim_end_matches(|next: char| next.is_ascii_whitespace());
    let Some(before_colon) = text.strip_suffix(':') else {
        return if text.is_empty() || text.ends_with(['[', ',']) { Before::Item } else { Before::Unclear };
    };
    // The last line must have no note, in which a quote would be no quote.
    let name = before_colon.trim_end_matches(|next: char| next.is_ascii_whitespace());
    let Some(inside) = name.strip_suffix('"') else { return Before::Unclear };
    let mut end = inside.len();
    while let Some(quote) = inside[..end].rfind('"') {
        let escapes = inside[..quote].bytes().rev().take_while(|byte| *byte == b'\\').count();
        if escapes % 2 == 0 {
            let lead = inside[..quote].trim_end_matches(|next: char| next.is_ascii_whitespace());
            let plain = !inside[quote..].contains('\n') && lead.ends_with(['{', ',']);
            return if plain { Before::Name(quote) } else { Before::Unclear };
        }
        end = quote;
    }
    Before::Unclear
}

/// A field's name taken apart: how far up it begins, the path from there, and whether what is meant is
/// the name of the member it leads to.
struct FieldPath {
    up: usize,
    path: JsonPath,
    member: bool,
}

impl FieldPath {
    fn parse(column: &str) -> Result<FieldPath, JsonPathError> {
        let (mut up, mut rest) = (0, column);
        while let Some(after) = rest.strip_prefix(PARENT) {
            up += 1;
            rest = after;
        }
        let (rest, member) = match rest.strip_suffix(MEMBER) {
            Some(rest) => (rest.strip_suffix('.').unwrap_or(rest), true),
            None => (rest, false),
        };
        let path = match rest {
            "" if member => JsonPath::parse("$"),
            rest if rest.starts_with('$') => JsonPath::parse(rest),
            rest => JsonPath::parse(&format!("$.{rest}")),
        };
        Ok(FieldPath { up, path: path?.of_field(), member })
    }

    fn cells(&self, tree: &Tree, text: &str, record: usize, push: &mut impl FnMut(Cell)) {
        let mut from = Some(record);
        for _ in 0..self.up {
            from = from.and_then(|node| tree.object_around(node));
        }
        let Some(from) = from else { return };
        for node in self.path.select(tree, text, from) {
            match (self.member, tree.nodes[node].name) {
                (true, Some(span)) => push(Cell { span, form: Form::JsonString }),
                (true, None) => {}
                (false, _) => push_value(tree, node, push),
            }
        }
    }
}

/// Gives the scalar at `node`, or the scalars in the array there. `null` counts as absent.
fn push_value(tree: &Tree, node: usize, push: &mut impl FnMut(Cell)) {
    match scalar(&tree.nodes[node]) {
        Some(cell) => push(cell),
        None if tree.nodes[node].kind == Kind::Array => {
            for child in tree.children(node) {
                if let Some(cell) = scalar(&tree.nodes[child]) {
                    push(cell);
                }
            }
        }
        None if tree.nodes[node].kind == Kind::Object => {
            push(Cell { span: tree.nodes[node].span, form: Form::Nested });
        }
        None => {}
    }
}

fn scalar(node: &Node) -> Option<Cell> {
    let span = node.span;
    match node.kind {
        Kind::Str => Some(Cell { span, form: Form::JsonString }),
        Kind::Bare => Some(Cell { span, form: Form::JsonBare }),
        Kind::Null | Kind::Object | Kind::Array => None,
    }
}
