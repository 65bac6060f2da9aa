//! XML (1.0, fifth edition), read leniently.
//!
//! Records are elements chosen by a path ([`XmlPath`], a part of XPath 1.0); a column is a path below
//! the record: `@id`, `name`, `price/@factor`, `../@wharf`, `.` for the element's own text, `name()` for
//! its name. Nothing outside the file is ever read: a document type is passed over, and entities that it
//! declares stay as they are written.

mod editing;
mod path;
mod settings;
mod tree;

pub use path::XmlPath;
pub(super) use settings::KIND;

use super::common_steps;
use super::editing::Editor;
use super::flat_tree::{NodePath, mark_shared};
use super::misplaced::Nodes;
use super::{
    Cell, Column, ColumnCell, Fault, Form, Format, Names, OUTLINED, OffStyle, Outline, RawRecord, RecordSink,
};
use crate::Code;
use crate::text::{Span, Text, is_xml};
use path::{Place, Simple};
use tree::Tree;

/// The settings of an XML file.
#[derive(Debug, Clone)]
pub struct Xml {
    /// Which elements are the records.
    pub records: XmlPath,
}

/// How many records are looked at to learn their columns.
const SAMPLE: usize = 200;

impl Format for Xml {
    fn read(&self, text: &Text<'_>, columns: &[Column<'_>], sink: &mut dyn RecordSink) {
        let mut sound = true;
        let tree = Tree::of(text, &mut |fault: Fault| {
            sound &= fault.code != Code::SYNTAX_ERROR;
            sink.fault(fault);
        });
        let content = text.as_str();
        let records = self.records.select_records(&tree, content);
        if sound {
            let named = self.records.plain_name();
            let name = |at: usize| Some(tree.elements[at].name);
            let start = |at: usize| tree.elements[at].span.start as usize;
            let shown = |name: &str| format!("<{name}>");
            let nodes = Nodes { nodes: &tree.elements, text: content, name: &name, start: &start, shown };
            nodes.report(&records, self.records.source(), named, sink);
        }
        let paths: Vec<Option<XmlPath>> =
            columns.iter().map(|column| XmlPath::column(column.name).ok()).collect();
        // Nearly all columns are attributes and children of the record; they are found in one pass.
        let kind = |at: &usize| paths[*at].as_ref().map_or(Simple::No, XmlPath::simple);
        let of = |wanted: Simple| (0..columns.len()).filter(move |at| kind(at) == wanted);
        let attributes = of(Simple::Attribute).map(|at| (&columns[at].name[1..], at as u16));
        let mut attributes = Names::new(attributes);
        let mut children = Names::new(of(Simple::Child).map(|at| (columns[at].name, at as u16)));
        let others: Vec<usize> = of(Simple::No).collect();
        let related = columns.iter().any(|column| column.related);
        let mut cells = Vec::new();
        for record in records {
            cells.clear();
            (attributes.next, children.next) = (0, 0);
            if !attributes.names.is_empty() {
                for attribute in tree.attributes(record) {
                    if let Some(column) = attributes.find(attribute.name.of(content).as_bytes()) {
                        let place = Place::Attribute(*attribute);
                        push_cells(&tree, content, place, &mut |cell| {
                            cells.push(ColumnCell::new(column, cell))
                        });
                    }
                }
            }
            if !children.names.is_empty() {
                for child in tree.children(Some(record)) {
                    let name = tree.elements[child].name.of(content).as_bytes();
                    if let Some(column) = children.find(name) {
                        let place = Place::Element(child);
                        if !columns[usize::from(column)].described && has_only_attributes(&tree, child) {
                            let cell = Cell { span: tree.elements[child].span, form: Form::Nested };
                            cells.push(ColumnCell::new(column, cell));
                            continue;
                        }
                        push_cells(&tree, content, place, &mut |cell| {
                            cells.push(ColumnCell::new(column, cell))
                        });
                    }
                }
            }
            for &index in &others {
                let Some(path) = &paths[index] else { continue };
                path.select(&tree, content, record, &mut |place| {
                    push_cells(&tree, content, place, &mut |cell| {
                        cells.push(ColumnCell::new(index as u16, cell));
                    });
                });
            }
            cells.sort_by_key(|cell: &ColumnCell| cell.cell.span.start);
            if related {
                mark_shared(&tree.elements, Some(record), &mut cells);
            }
            sink.record(&RawRecord { span: tree.elements[record].span, cells: &cells });
        }
    }

    fn names(&self, text: &Text<'_>, give: &mut dyn FnMut(&str, Span)) {
        let tree = Tree::of(text, &mut |_| ());
        let content = text.as_str();
        let mut path = NodePath::new("/");
        for record in self.records.select_records(&tree, content) {
            path.clear();
            for at in record..tree.elements[record].end {
                if at > record {
                    let name = tree.elements[at].name;
                    path.enter(at, tree.elements[at].end, name.of(content));
                    give(path.shown(), name);
                }
                for attribute in tree.attributes(at) {
                    let name = attribute.name.of(content);
                    // What says which words are whose is the business of XML.
                    if name != "xmlns" && !name.starts_with("xmlns:") && !name.starts_with("xml:") {
                        give(&path.with(&format!("@{name}")), attribute.name);
                    }
                }
            }
        }
    }

    fn has_names(&self) -> bool {
        true
    }

    fn columns(&self, text: &Text<'_>) -> Vec<String> {
        let tree = Tree::of(text, &mut |_| ());
        let content = text.as_str();
        let mut names: Vec<String> = Vec::new();
        let mut push = |name: String| {
            if !names.contains(&name) && XmlPath::column(&name).is_ok() {
                names.push(name);
            }
        };
        for record in self.records.select_records(&tree, content).into_iter().take(SAMPLE) {
            for attribute in tree.attributes(record) {
                push(format!("@{}", attribute.name.of(content)));
            }
            let mut children = tree.children(Some(record)).peekable();
            if children.peek().is_none() && !tree.elements[record].is_empty() {
                push(".".to_owned());
            }
            for child in children {
                push(tree.elements[child].name.of(content).to_owned());
            }
        }
        names
    }

    fn outline(&self, text: &Text<'_>, outline: &mut Outline) {
        let tree = Tree::of(text, &mut |_| ());
        let content = text.as_str();
        outline.next_file();
        let mut of_elements: Vec<usize> = Vec::new();
        for (at, element) in tree.elements.iter().enumerate().take(OUTLINED) {
            let around = element.parent.map_or(0, |parent| of_elements[parent]);
            // Positions from 1 on, since 0 stands for the file.
            let within = element.parent.map_or(0, |parent| parent + 1);
            let name = element.name.of(content);
            let own = match tree.only_text(at, content) {
                Some(cell) => outline.add_value(around, within, name, cell.span.of(content)),
                None => outline.add(around, within, name),
            };
            for attribute in tree.attributes(at) {
                let name = format!("@{}", attribute.name.of(content));
                outline.add_value(own, at + 1, &name, attribute.value.of(content));
            }
            of_elements.push(own);
        }
    }

    fn encode(&self, cell: &Cell, _column: &str, value: &str) -> Result<String, String> {
        if let Some(wrong) = value.chars().find(|next| !is_xml(*next)) {
            return Err(format!("XML cannot hold the character U+{:04X}", u32::from(wrong)));
        }
        match cell.form {
            Form::XmlCdata if value.contains("]]>") => {
                Err("a CDATA section cannot have `]]>` in it".to_owned())
            }
            Form::XmlCdata => Ok(value.to_owned()),
            Form::XmlName if is_name(value) => Ok(value.to_owned()),
            Form::XmlName => Err("it cannot be the name of an element".to_owned()),
            Form::XmlAttribute(quote) => {
                let value = value
                    .replace('&', "&amp;")
                    .replace('<', "&lt;")
                    .replace('\n', "&#10;")
                    .replace('\r', "&#13;")
                    .replace('\t', "&#9;");
                Ok(if quote == b'"' { value.replace('"', "&quot;") } else { value.replace('\'', "&apos;") })
            }
            _ => {
                let escaped = value.replace('&', "&amp;").replace('<', "&lt;").replace("]]>", "]]&gt;");
                Ok(with_blanks_at_its_ends(&escaped))
            }
        }
    }

    fn may_be_empty(&self) -> bool {
        false
    }

    fn shared_steps(&self, one: &str, other: &str) -> u16 {
        common_steps(one.split('/'), other.split('/'))
    }

    fn records_path(&self) -> Option<&str> {
        Some(self.records.source())
    }

    fn knows(&self, column: &str) -> bool {
        column == "{name}"
    }

    fn check_column(&self, column: &str) -> Result<(), String> {
        XmlPath::column(column).map(|_| ())
    }

    fn editor<'t>(&'t self, text: &Text<'t>) -> Option<Editor<'t>> {
        Some(editing::editor(self, text))
    }

    fn off_style(&self) -> OffStyle {
        OffStyle::Wrap("<!--", "-->")
    }

    fn escape_bytes(&self) -> &'static [u8] {
        b"&"
    }
}

/// Whether all that an element says is in its attributes.
fn has_only_attributes(tree: &Tree, element: usize) -> bool {
    !tree.attributes(element).is_empty() && tree.elements[element].is_empty()
}

/// The cells of a place: an attribute's value; an element's own text, in several pieces if something
/// stands between them; an element's name in both its tags.
fn push_cells(tree: &Tree, text: &str, place: Place, push: &mut dyn FnMut(Cell)) {
    match place {
        Place::Attribute(attribute) => {
            let quote = text.as_bytes().get(attribute.value.end as usize).copied().unwrap_or(b'"');
            push(Cell { span: attribute.value, form: Form::XmlAttribute(quote) });
        }
        Place::Name(element) => {
            let element = &tree.elements[element];
            push(Cell { span: element.name, form: Form::XmlName });
            if let Some(span) = element.close_name {
                push(Cell { span, form: Form::XmlName });
            }
        }
        Place::Element(element) => {
            if let Some(cell) = tree.only_text(element, text) {
                return push(cell);
            }
            let mut none = true;
            for run in tree.text_runs(element, text) {
                none = false;
                push(run);
            }
            if none && tree.children(Some(element)).next().is_some() {
                push(Cell { span: tree.elements[element].span, form: Form::Nested });
            } else if none && let Some(cell) = tree.empty_text(element) {
                push(cell);
            }
        }
    }
}

/// What a reference at the start of `raw` stands for, with the bytes it takes (XML 1.0, sections 4.1 and
/// 4.6). Entities that a document declares itself are not known.
pub(super) fn reference(raw: &str) -> Option<(char, usize)> {
    let body = raw.strip_prefix('&')?;
    let name = &body[..body.bytes().take(12).position(|byte| byte == b';')?];
    let meant = match name {
        "amp" => '&',
        "lt" => '<',
        "gt" => '>',
        "quot" => '"',
        "apos" => '\'',
        _ => {
            let number = name.strip_prefix('#')?;
            let code = match number.strip_prefix('x') {
                Some(hex) => u32::from_str_radix(hex, 16),
                None => number.parse(),
            };
            char::from_u32(code.ok()?).filter(|meant| is_xml(*meant))?
        }
    };
    Some((meant, name.len() + 2))
}

/// Whether a text can be the name of an element (XML 1.0, section 2.3, a little wider).
fn is_name(name: &str) -> bool {
    let start = |next: char| next.is_alphabetic() || "_:".contains(next);
    name.starts_with(start)
        && name.chars().all(|next| start(next) || next.is_alphanumeric() || "-.\u{b7}".contains(next))
}

/// The text of an element with references (section 4.1 of XML 1.0) for the blanks that it begins and ends with: those that stand
/// there as they are do not count.
fn with_blanks_at_its_ends(text: &str) -> String {
    let inner = text.trim();
    let reference = |blank: char| format!("&#{};", u32::from(blank));
    let before = text.len() - text.trim_start().len();
    let (lead, trail) =
        if inner.is_empty() { (text, "") } else { (&text[..before], &text[before + inner.len()..]) };
    let references = |blanks: &str| blanks.chars().map(reference).collect::<String>();
    references(lead) + inner + &references(trail)
}
