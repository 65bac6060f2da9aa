//! Editing JSON.

use super::tree::{Kind, Node, Tree, is_bare_value};
use super::{FieldPath, Json, MEMBER};
use crate::formats::editing::{
    Anchor, Dialect, Editor, Entries, EntryNode, Head, Inside, KeyOfParents, Likeness, NewEntry, Part,
    Refusal, Style, blanks_before, edited, key_at,
};
use crate::formats::{Cell, Form, Format, OffStyle, decode};
use crate::text::{Span, Text};
use std::sync::Arc;

/// What is special about editing JSON.
struct JsonDialect<'t> {
    format: &'t Json,
    tree: Arc<Tree>,
}

/// The editor of a text in JSON.
pub(super) fn editor<'t>(format: &'t Json, text: &Text<'t>) -> Editor<'t> {
    let tree = Tree::of(text, format, &mut |_| ());
    let content = text.as_str();
    let nodes = tree.nodes.iter().map(|node| EntryNode {
        value: node.span,
        span: entry_of(content, node),
        inside: inside(content, node),
        parent: node.parent,
        end: node.end,
    });
    let style = Style {
        separator: Some(','),
        marks: if format.comments { vec!["//".to_owned()] } else { Vec::new() },
        wrap: format.comments.then(|| ("/*".to_owned(), "*/".to_owned())),
        gap: " ",
        one_root: true,
        ..Style::default()
    };
    let entries = Entries::new(content, text.body(), text.body(), nodes.collect(), style);
    Editor::new(entries, JsonDialect { format, tree })
}

/// A member with its name, or an item, with its quotes.
pub(super) fn entry_of(text: &str, node: &Node) -> Span {
    let quoted = usize::from(node.kind == Kind::Str);
    let start = match node.name {
        // The name of a member may stand without quotes, which is a fault.
        Some(name) if text[..name.start as usize].ends_with('"') => name.start as usize - 1,
        Some(name) => name.start as usize,
        None => node.span.start as usize - quoted,
    };
    let end = node.span.end as usize;
    Span::new(start, end + usize::from(quoted > 0 && text[end..].starts_with('"')))
}

fn inside(text: &str, node: &Node) -> Inside {
    let shown = node.span.of(text);
    match node.kind {
        Kind::Object | Kind::Array if shown.len() > 1 && shown.ends_with(['}', ']']) => {
            Inside::Bracketed(Span { start: node.span.start + 1, end: node.span.end - 1 })
        }
        _ => Inside::Nothing,
    }
}

fn quoted(value: &str) -> Result<String, Refusal> {
    serde_json::to_string(value).map_err(|error| error.to_string())
}

impl JsonDialect<'_> {
    fn name<'t>(&self, entries: &Entries<'t>, node: usize) -> Option<&'t str> {
        Some(self.tree.nodes[node].name?.of(entries.text()))
    }

    /// What stands between the name of a member and its value.
    fn colon<'t>(&self, entries: &Entries<'t>, node: usize) -> Option<&'t str> {
        let own = &self.tree.nodes[node];
        let quote = u32::from(own.kind == Kind::Str);
        let span = Span { start: own.name?.end + 1, end: own.span.start - quote };
        Some(span.of(entries.text())).filter(|colon| colon.trim() == ":")
    }

    /// A value as it is written: as that of `model` is, or as a number if it is one.
    fn literal(&self, value: &str, model: Option<usize>) -> Result<String, Refusal> {
        match model.map(|node| self.tree.nodes[node].kind) {
            Some(Kind::Str) => quoted(value),
            _ if is_bare_value(value) => Ok(value.to_owned()),
            _ => quoted(value),
        }
    }

    fn path(&self, column: &str) -> Result<FieldPath, Refusal> {
        FieldPath::parse(column).map_err(|error| error.to_string())
    }

    fn write(
        &self,
        entries: &mut Entries<'_>,
        cell: &Cell,
        column: &str,
        value: &str,
    ) -> Result<(), Refusal> {
        let text = self.format.encode(cell, column, value)?;
        entries.edit(cell.span, text);
        Ok(())
    }

    /// The array that a column leads to, from a record; `None` if there is none yet.
    fn array(&self, entries: &Entries<'_>, record: usize, column: &str) -> Result<Option<usize>, Refusal> {
        let path = self.path(column)?.path.without_items();
        let found = path.select(&self.tree, entries.text(), record);
        match found.first() {
            None => Ok(None),
            Some(node) if self.tree.nodes[*node].kind == Kind::Array => Ok(Some(*node)),
            Some(_) => Err(format!("`{column}` holds one value, and no list")),
        }
    }

    /// Puts the member that `names` lead to into `record`, with the objects on the way that are not there.
    fn add_member(
        &self,
        entries: &mut Entries<'_>,
        record: usize,
        names: &[&str],
        value: impl Fn(Option<usize>) -> Result<String, Refusal>,
    ) -> Result<(), Refusal> {
        let (mut object, mut missing) = (record, names);
        while let [name, rest @ ..] = missing {
            let quoted_name = quoted(name)?;
            let raw = &quoted_name[1..quoted_name.len() - 1];
            let Some(child) =
                entries.children(Some(object)).find(|child| self.name(entries, *child) == Some(raw))
            else {
                break;
            };
            if self.tree.nodes[child].kind == Kind::Null && rest.is_empty() {
                let text = value(None)?;
                entries.edit(self.tree.nodes[child].span, text);
                return Ok(());
            }
            if self.tree.nodes[child].kind != Kind::Object {
                return Err(format!("`{name}` is no object"));
            }
            object = child;
            missing = rest;
        }
        let Some((first, deeper)) = missing.split_first() else {
            return Err("it holds something else there".to_owned());
        };
        if self.tree.nodes[object].kind != Kind::Object {
            return Err("the record is no object".to_owned());
        }
        let first = quoted(first)?;
        let (anchor, model) =
            entries.field_place(Some(object), &first[1..first.len() - 1], |node| self.name(entries, node));
        let any = || entries.children(Some(object)).chain(entries.numbers());
        let colon = model.and_then(|node| self.colon(entries, node));
        let colon =
            colon.or_else(|| any().find_map(|node| self.colon(entries, node))).unwrap_or(": ").to_owned();
        let mut text = value(model.filter(|_| deeper.is_empty()))?;
        for name in deeper.iter().rev() {
            text = format!("{{{}{colon}{text}}}", quoted(name)?);
        }
        entries.add(
            Some(object),
            anchor,
            NewEntry { text: format!("{first}{colon}{text}"), ..NewEntry::default() },
        );
        Ok(())
    }
}

impl Dialect for JsonDialect<'_> {
    fn set(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        value: &str,
    ) -> Result<(), Refusal> {
        let record = record.ok_or("the record is the file as a whole")?;
        let path = self.path(column)?;
        let mut cells: Vec<Cell> = Vec::new();
        path.cells(&self.tree, entries.text(), record, &mut |cell| cells.push(cell));
        match cells.as_slice() {
            [] => {}
            [Cell { form: Form::Nested, .. }] => return Err(format!("`{column}` holds other values")),
            [one] => return self.write(entries, one, column, value),
            _ => return Err(format!("`{column}` holds several values")),
        }
        let names = path.path.names().filter(|names| path.up == 0 && !path.member && !names.is_empty());
        let names = names.ok_or_else(|| format!("there is no place that is `{column}` yet"))?;
        self.add_member(entries, record, &names, |model| self.literal(value, model))
    }

    fn take(&self, entries: &Entries<'_>, record: usize, part: &Part<'_>) -> Result<NewEntry, Refusal> {
        let text = entries.text();
        let of_key = self.key_of_parents(text, record, part.key);
        let head = |node: usize| {
            let own = &self.tree.nodes[node];
            let (open, close) = if own.kind == Kind::Object { ("{", "}") } else { ("[", "]") };
            let name = own.name.map_or("", |name| name.of(text));
            let key = key_at(&of_key, node);
            let is_of_key = |child: usize| {
                let first = |column: &str| {
                    let path = FieldPath::parse(column).ok()?;
                    path.path.names()?.first().map(|name| (*name).to_owned())
                };
                let name = self.name(entries, child);
                key.iter().any(|(column, _)| first(column).as_deref() == name && name.is_some())
            };
            let label = own.name.map_or(String::new(), |name| format!("\"{}\": ", name.of(text)));
            Head {
                open: format!("{label}{open}"),
                close: close.to_owned(),
                name: name.to_owned(),
                key_entries: entries.texts_of(node, is_of_key),
                key,
                indent: blanks_before(text, entries.node(node).span.start as usize).map(str::to_owned),
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
        let own = &self.tree.nodes[node];
        let opens = if own.kind == Kind::Object { '{' } else { '[' };
        if own.name.map_or(String::new(), |name| entries.expected(name)) != head.name
            || !head.open.ends_with(opens)
        {
            return Likeness::Other;
        }
        if head.key.is_empty() {
            return Likeness::Name;
        }
        let has = |(column, value): &(String, String)| {
            let Ok(path) = FieldPath::parse(column) else { return false };
            let mut found = false;
            path.cells(&self.tree, entries.text(), node, &mut |cell| {
                found |= entries.expected_value(&cell) == *value;
            });
            found
        };
        if head.key.iter().all(has) { Likeness::Same } else { Likeness::Other }
    }

    fn insert_list(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        items: &[String],
    ) -> Result<(), Refusal> {
        let node = record.ok_or("the record is the file as a whole")?;
        if self.array(entries, node, column)?.is_some() {
            return self.insert_each(entries, record, column, items);
        }
        let path = self.path(column)?.path.without_items();
        let names = path.names().ok_or_else(|| format!("there is no list that is `{column}` yet"))?;
        let items = items.iter().map(|item| self.literal(item, None)).collect::<Result<Vec<_>, _>>()?;
        self.add_member(entries, node, &names, |_| Ok(format!("[{}]", items.join(", "))))
    }

    fn insert_item(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        item: &str,
        at: usize,
    ) -> Result<(), Refusal> {
        let record = record.ok_or("the record is the file as a whole")?;
        let Some(array) = self.array(entries, record, column)? else {
            let path = self.path(column)?.path.without_items();
            let names = path.names().ok_or_else(|| format!("there is no list that is `{column}` yet"))?;
            return self
                .add_member(entries, record, &names, |_| Ok(format!("[{}]", self.literal(item, None)?)));
        };
        let items: Vec<usize> = entries.children(Some(array)).collect();
        let text = self.literal(item, items.first().copied())?;
        let anchor = match items.get(at) {
            Some(item) => Anchor::Before(*item),
            None => Anchor::Last,
        };
        entries.add(Some(array), anchor, NewEntry { text, ..NewEntry::default() });
        Ok(())
    }

    fn remove_item(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        at: usize,
    ) -> Result<(), Refusal> {
        let record = record.ok_or("the record is the file as a whole")?;
        let array = self.array(entries, record, column)?;
        let item = array.and_then(|array| entries.children(Some(array)).nth(at));
        entries.remove(item.ok_or_else(|| format!("`{column}` has no item {}", at + 1))?);
        Ok(())
    }

    fn is_entry_of(&self, entries: &Entries<'_>, node: usize, cell: Span) -> bool {
        entries.node(node).value == cell
    }

    fn as_dialect(&self) -> &dyn Dialect {
        self
    }

    fn parent_name(&self, entries: &Entries<'_>, node: usize) -> String {
        self.tree.nodes[node].name.map_or_else(String::new, |name| entries.expected(name))
    }

    fn off_style(&self) -> OffStyle {
        self.format.off_style()
    }

    fn wrapped_span(&self, text: &str, span: Span) -> Span {
        self.format.wrapped_span(text, span)
    }
}

impl JsonDialect<'_> {
    /// What the key of a record uses of the objects around it: the node, the column as seen from there, the value.
    fn key_of_parents(&self, text: &str, record: usize, key: &[&str]) -> KeyOfParents {
        let mut out = Vec::new();
        for column in key {
            let Ok(path) = FieldPath::parse(column) else { continue };
            let around = |node: usize| self.tree.object_around(node);
            let node = (0..path.up).try_fold(record, |node, _| around(node));
            let Some(node) = node.filter(|_| path.up > 0) else { continue };
            let rest = column.trim_start_matches(super::PARENT);
            if rest == MEMBER {
                // It is the name, by which parents are told apart anyway.
                continue;
            }
            let mut value = None;
            path.cells(&self.tree, text, record, &mut |cell| {
                value = value.take().or(Some(decode(text, &cell).text.into_owned()))
            });
            if let Some(value) = value {
                out.push((node, rest.to_owned(), value));
            }
        }
        out
    }
}
