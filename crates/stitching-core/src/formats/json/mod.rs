//! JSON (RFC 8259), strict or with the liberties that many games take.
//!
//! Records are chosen by a path ([`JsonPath`]); a column is a member name, a path below the
//! record (`position.x`, `needs[*]`). `{member}` is the name under which the record is filed, and behind a
//! path (`prices.*.{member}`) the names of the members it leads to; `{parent}.` begins at the object around
//! the record.

mod path;
mod string;
mod tree;

pub use path::{JsonPath, JsonPathError};
pub(super) use string::decode_string;

use super::{Cell, Column, ColumnCell, Fault, Form, Format, RawRecord, RecordSink};
use crate::text::Text;
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
/// How many records are looked at to learn their members.
const SAMPLE: usize = 200;

impl Format for Json {
    fn read(&self, text: &Text<'_>, columns: &[Column<'_>], sink: &mut dyn RecordSink) {
        let tree = Tree::parse(text, self, &mut |fault: Fault| sink.fault(fault));
        let paths: Vec<Option<FieldPath>> =
            columns.iter().map(|column| FieldPath::parse(column.name).ok()).collect();
        let mut cells = Vec::new();
        for record in self.records.select(&tree, text.as_str(), 0) {
            cells.clear();
            for (index, path) in paths.iter().enumerate() {
                let Some(path) = path else { continue };
                path.cells(&tree, text.as_str(), record, &mut |cell| {
                    cells.push(ColumnCell { column: index as u16, cell });
                });
            }
            cells.sort_by_key(|cell: &ColumnCell| cell.cell.span.start);
            sink.record(&RawRecord { span: tree.nodes[record].span, cells: &cells });
        }
    }

    fn columns(&self, text: &Text<'_>) -> Vec<String> {
        let tree = Tree::parse(text, self, &mut |_| {});
        let mut names: Vec<String> = Vec::new();
        for record in self.records.select(&tree, text.as_str(), 0).into_iter().take(SAMPLE) {
            for child in tree.children(record) {
                let Some(span) = tree.nodes[child].name else { continue };
                let name = decode_string(span.of(text.as_str()), span.start).text.into_owned();
                if FieldPath::parse(&name).is_ok() && !names.contains(&name) {
                    names.push(name);
                }
            }
        }
        names
    }

    fn encode(&self, cell: &Cell, _column: &str, value: &str) -> Result<String, String> {
        let quoted = serde_json::to_string(value).map_err(|error| error.to_string())?;
        Ok(match cell.form {
            Form::JsonBare if tree::is_bare_value(value) => value.to_owned(),
            Form::JsonBare => quoted,
            _ => quoted[1..quoted.len() - 1].to_owned(),
        })
    }

    fn check_column(&self, column: &str) -> Result<(), String> {
        FieldPath::parse(column).map(|_| ()).map_err(|error| error.to_string())
    }

    fn escape_byte(&self) -> Option<u8> {
        Some(b'\\')
    }
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
        Ok(FieldPath { up, path: path?, member })
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
