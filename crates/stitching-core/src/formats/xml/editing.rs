//! Editing XML.

use super::path::XmlPath;
use super::tree::{Attribute, Element, Tree};
use super::{Xml, push_cells};
use crate::formats::editing::{
    Anchor, Dialect, Editor, Entries, EntryNode, Head, Inside, KeyOfParents, Likeness, NewEntry, Part,
    Refusal, Style, blanks_before, climb, edited, key_at,
};
use crate::formats::{Cell, Form, Format, OffStyle, decode};
use crate::text::{Span, Text};
use std::sync::Arc;

/// What is special about editing XML.
struct XmlDialect<'t> {
    format: &'t Xml,
    tree: Arc<Tree>,
}

/// The editor of a text in XML.
pub(super) fn editor<'t>(format: &'t Xml, text: &Text<'t>) -> Editor<'t> {
    let tree = Tree::of(text, &mut |_| ());
    let content = text.as_str();
    let nodes = tree.elements.iter().map(|element| EntryNode {
        value: element.span,
        span: element.span,
        inside: inside(content, element),
        parent: element.parent,
        end: element.end,
    });
    let style =
        Style { wrap: Some(("<!--".to_owned(), "-->".to_owned())), one_root: true, ..Style::default() };
    let entries = Entries::new(content, text.body(), text.body(), nodes.collect(), style);
    Editor::new(entries, XmlDialect { format, tree })
}

fn inside(text: &str, element: &Element) -> Inside {
    if element.close_name.is_some() {
        return Inside::Bracketed(element.content);
    }
    let Some(tag) = element.span.of(text).strip_suffix("/>") else { return Inside::Nothing };
    let from = element.span.start as usize + tag.trim_end().len();
    Inside::Closed(Span::new(from, element.span.end as usize), ">", format!("</{}>", element.name.of(text)))
}

/// An attribute's value, as it is written within the quote of `model`, or double quotes.
fn attribute_text(
    format: &Xml,
    text: &str,
    name: &str,
    value: &str,
    model: Option<&Attribute>,
) -> Result<String, Refusal> {
    let (sign, quote) = match model {
        Some(model) => {
            let value = model.value.start as usize;
            (text.get(model.name.end as usize..value - 1).unwrap_or("="), text.as_bytes()[value - 1])
        }
        None => ("=", b'"'),
    };
    let cell = Cell { span: Span::default(), form: Form::XmlAttribute(quote) };
    let quote = char::from(quote);
    Ok(format!("{name}{sign}{quote}{}{quote}", format.encode(&cell, name, value)?))
}

impl XmlDialect<'_> {
    fn name<'t>(&self, entries: &Entries<'t>, node: usize) -> &'t str {
        self.tree.elements[node].name.of(entries.text())
    }

    fn cells(&self, text: &str, path: &XmlPath, record: usize) -> Vec<Cell> {
        let mut cells = Vec::new();
        path.select(&self.tree, text, record, &mut |place| {
            push_cells(&self.tree, text, place, &mut |cell| cells.push(cell));
        });
        cells
    }

    /// An attribute that shows how they are written.
    fn any_attribute(&self) -> Option<&Attribute> {
        (0..self.tree.elements.len()).find_map(|element| self.tree.attributes(element).first())
    }

    /// Gives an element an attribute that it does not have.
    fn add_attribute(
        &self,
        entries: &mut Entries<'_>,
        element: usize,
        name: &str,
        value: &str,
    ) -> Result<(), Refusal> {
        let text = entries.text();
        let own = self.tree.attributes(element);
        let of = |other: usize| self.tree.attributes(other);
        let named = |attribute: &Attribute, name: &str| attribute.name.of(text) == name;
        let same_name = |other: &usize| self.name(entries, *other) == self.name(entries, element);
        let model = entries.near(element).filter(same_name).find_map(|other| {
            let at = of(other).iter().position(|attribute| named(attribute, name))?;
            Some((other, at))
        });
        let here = |name: &str| own.iter().find(|attribute| named(attribute, name));
        let before = model
            .and_then(|(other, at)| of(other)[..at].iter().rev().find_map(|own| here(own.name.of(text))));
        let behind =
            model.and_then(|(other, at)| of(other)[at + 1..].iter().find_map(|own| here(own.name.of(text))));
        let shown = own.first().or_else(|| self.any_attribute());
        let new = attribute_text(self.format, text, name, value, shown)?;
        let blanks = |attribute: &Attribute| {
            let at = attribute.name.start as usize;
            let before = &text[..at];
            before[before.trim_end().len()..].to_owned()
        };
        match (before.or(own.last().filter(|_| behind.is_none())), behind) {
            (Some(before), _) => {
                let at = before.value.end as usize + 1;
                let gap = blanks(before);
                entries.edit(Span::new(at, at), format!("{gap}{new}"));
            }
            (None, Some(behind)) => {
                let at = behind.name.start as usize;
                let gap = blanks(behind);
                entries.edit(Span::new(at, at), format!("{new}{gap}"));
            }
            (None, None) => {
                let at = self.tree.elements[element].name.end as usize;
                entries.edit(Span::new(at, at), format!(" {new}"));
            }
        }
        Ok(())
    }

    /// An element without content, ending as others in the file do.
    fn closed(&self, text: &str, start: &str) -> String {
        let padded = self.tree.elements.iter().any(|element| element.span.of(text).ends_with(" />"));
        format!("{start}{}", if padded { " />" } else { "/>" })
    }

    /// The text of a new element that holds `value`, as its text or in an attribute.
    fn element(
        &self,
        text: &str,
        names: &[&str],
        attribute: Option<&str>,
        value: &str,
    ) -> Result<String, Refusal> {
        let Some((last, around)) = names.split_last() else { return Err("it has no name".to_owned()) };
        let mut out = match attribute {
            Some(attribute) => {
                let attribute = attribute_text(self.format, text, attribute, value, self.any_attribute())?;
                self.closed(text, &format!("<{last} {attribute}"))
            }
            None => {
                let cell = Cell { span: Span::default(), form: Form::XmlText };
                format!("<{last}>{}</{last}>", self.format.encode(&cell, last, value)?)
            }
        };
        for name in around.iter().rev() {
            out = format!("<{name}>{out}</{name}>");
        }
        Ok(out)
    }

    /// Puts the element that `names` lead to into `record`, with those on the way that are not there.
    fn add_element(
        &self,
        entries: &mut Entries<'_>,
        record: usize,
        names: &[&str],
        attribute: Option<&str>,
        value: &str,
    ) -> Result<(), Refusal> {
        let (mut element, mut missing) = (record, names);
        while let [name, rest @ ..] = missing {
            let Some(child) =
                entries.children(Some(element)).find(|child| self.name(entries, *child) == *name)
            else {
                break;
            };
            (element, missing) = (child, rest);
        }
        match (missing.first(), attribute) {
            (None, Some(attribute)) => self.add_attribute(entries, element, attribute, value),
            (None, None) => {
                let cell = Cell { span: Span::default(), form: Form::XmlText };
                let text = self.format.encode(&cell, "", value)?;
                if entries.children(Some(element)).next().is_some() {
                    return Err("it holds other elements".to_owned());
                }
                match &entries.node(element).inside {
                    Inside::Bracketed(content) => {
                        let content = *content;
                        entries.edit(content, text);
                    }
                    _ => entries.add(Some(element), Anchor::Last, NewEntry { text, ..NewEntry::default() }),
                }
                Ok(())
            }
            (Some(first), _) => {
                if !entries.node(element).inside.holds() {
                    return Err("nothing can be put into the element".to_owned());
                }
                let (anchor, model) =
                    entries.field_place(Some(element), first, |node| Some(self.name(entries, node)));
                let text = self.element(entries.text(), missing, attribute, value)?;
                let at = model
                    .or_else(|| entries.near(element).find_map(|other| entries.children(Some(other)).next()));
                let indent =
                    at.and_then(|node| blanks_before(entries.text(), entries.node(node).span.start as usize));
                let indent = indent.map(str::to_owned);
                entries.add(Some(element), anchor, NewEntry { text, indent, ..NewEntry::default() });
                Ok(())
            }
        }
    }

    /// The names that lead to a list of elements, and the attribute of each that is meant.
    fn list<'p>(&self, path: &'p XmlPath, column: &str) -> Result<(Vec<&'p str>, Option<&'p str>), Refusal> {
        let found = path.names().filter(|(names, _)| !names.is_empty());
        found.ok_or_else(|| format!("`{column}` is no list of elements"))
    }
}

impl Dialect for XmlDialect<'_> {
    fn set(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        value: &str,
    ) -> Result<(), Refusal> {
        let record = record.ok_or("the record is the file as a whole")?;
        let path = XmlPath::column(column)?;
        let cells = self.cells(entries.text(), &path, record);
        let is_name = cells.iter().all(|cell| cell.form == Form::XmlName);
        match cells.as_slice() {
            [] => {}
            [Cell { form: Form::Nested, .. }] => return Err(format!("`{column}` holds other elements")),
            all if all.len() == 1 || is_name => {
                for cell in all {
                    let text = self.format.encode(cell, column, value)?;
                    entries.edit(cell.span, text);
                }
                return Ok(());
            }
            _ => return Err(format!("`{column}` holds several values")),
        }
        let names = path.names().ok_or_else(|| format!("there is no place that is `{column}` yet"))?;
        self.add_element(entries, record, &names.0, names.1, value)
    }

    fn take(&self, entries: &Entries<'_>, record: usize, part: &Part<'_>) -> Result<NewEntry, Refusal> {
        let text = entries.text();
        let of_key = self.key_of_parents(entries, record, part.key);
        let head = |node: usize| {
            let own = &self.tree.elements[node];
            let key = key_at(&of_key, node);
            let is_of_key = |child: usize| {
                let first = |column: &str| {
                    let path = XmlPath::column(column).ok()?;
                    path.names()?.0.first().map(|name| (*name).to_owned())
                };
                key.iter().any(|(column, _)| first(column).as_deref() == Some(self.name(entries, child)))
            };
            let name = own.name.of(text);
            Head {
                open: text[own.span.start as usize..own.content.start as usize].to_owned(),
                close: format!("</{name}>"),
                name: name.to_owned(),
                key_entries: entries.texts_of(node, is_of_key),
                key,
                indent: blanks_before(text, own.span.start as usize).map(str::to_owned),
            }
        };
        let span = entries.node(record).span;
        let lines = |cell: Cell| cell.span.of(text).contains('\n');
        let inside = record..self.tree.elements[record].end;
        let heads: Vec<Head> = entries.ancestors(record).into_iter().map(head).collect();
        let root = entries
            .ancestors(record)
            .first()
            .map_or(span.start as usize, |root| entries.node(*root).span.start as usize);
        let declaration =
            text[entries.body()..root].find("?>").map(|at| &text[entries.body()..entries.body() + at + 2]);
        Ok(NewEntry {
            prolog: declaration.unwrap_or("").to_owned(),
            heads,
            notes: if part.notes { entries.notes_above(record) } else { Vec::new() },
            text: edited(text, span, part.edits),
            indent: blanks_before(text, span.start as usize).map(str::to_owned),
            is_rigid: inside.into_iter().any(|node| self.tree.text_runs(node, text).any(lines)),
            ..NewEntry::default()
        })
    }

    fn is_parent(&self, entries: &Entries<'_>, node: usize, head: &Head) -> Likeness {
        let text = entries.text();
        if entries.expected(self.tree.elements[node].name) != head.name {
            return Likeness::Other;
        }
        if head.key.is_empty() {
            let own = &self.tree.elements[node];
            let open = &text[own.span.start as usize..own.content.start as usize];
            return if open == head.open { Likeness::Same } else { Likeness::Name };
        }
        let has = |(column, value): &(String, String)| {
            let Ok(path) = XmlPath::column(column) else { return false };
            self.cells(text, &path, node).iter().any(|cell| entries.expected_value(cell) == *value)
        };
        if head.key.iter().all(has) { Likeness::Same } else { Likeness::Other }
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
        let path = XmlPath::column(column)?;
        let (names, attribute) = self.list(&path, column)?;
        let items = path.elements_from(&self.tree, entries.text(), record);
        let Some(last) = items.last() else {
            return self.add_element(entries, record, &names, attribute, item);
        };
        let name = &names[names.len() - 1..];
        let text = self.element(entries.text(), name, attribute, item)?;
        let anchor = items.get(at).map_or(Anchor::After(*last), |item| Anchor::Before(*item));
        let beside = items.get(at).copied().unwrap_or(*last);
        let container = entries.node(beside).parent;
        entries.add(container, anchor, NewEntry { text, ..NewEntry::default() });
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
        let path = XmlPath::column(column)?;
        self.list(&path, column)?;
        let items = path.elements_from(&self.tree, entries.text(), record);
        let item = items.get(at).ok_or_else(|| format!("`{column}` has no item {}", at + 1))?;
        entries.remove(*item);
        Ok(())
    }

    fn is_entry_of(&self, _entries: &Entries<'_>, node: usize, cell: Span) -> bool {
        let own = &self.tree.elements[node];
        // An attribute and a name cannot be without their tag.
        own.span == cell || (own.content.start <= cell.start && cell.end <= own.content.end)
    }

    fn is_emptied(&self, entries: &Entries<'_>, node: usize) -> bool {
        let attributes = self.tree.attributes(node);
        let has_children = entries.children(Some(node)).next().is_some();
        (has_children || !attributes.is_empty())
            && (!has_children || entries.all_go(node))
            && attributes.iter().all(|attribute| entries.is_cut(attribute.value))
            && self.tree.text_runs(node, entries.text()).next().is_none()
    }

    fn cut_of_value(&self, entries: &Entries<'_>, node: usize, cell: Span) -> Option<Span> {
        let attribute = self.tree.attributes(node).iter().find(|attribute| attribute.value == cell)?;
        let before = &entries.text()[..attribute.name.start as usize];
        // With its closing quote, and the blanks before it.
        Some(Span::new(before.trim_end().len(), attribute.value.end as usize + 1))
    }

    fn as_dialect(&self) -> &dyn Dialect {
        self
    }

    fn parent_name(&self, entries: &Entries<'_>, node: usize) -> String {
        entries.expected(self.tree.elements[node].name)
    }

    fn off_style(&self) -> OffStyle {
        self.format.off_style()
    }
}

impl XmlDialect<'_> {
    /// What the key of a record uses of the elements around it: the node, the column as seen from there, the value.
    fn key_of_parents(&self, entries: &Entries<'_>, record: usize, key: &[&str]) -> KeyOfParents {
        let (text, mut out) = (entries.text(), Vec::new());
        for column in key {
            let Some((node, rest)) = climb(entries, record, column) else { continue };
            let Ok(path) = XmlPath::column(rest) else {
                continue;
            };
            if let Some(cell) = self.cells(text, &path, node).first() {
                out.push((node, rest.to_owned(), decode(text, cell).text.into_owned()));
            }
        }
        out
    }
}
