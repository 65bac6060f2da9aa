//! Editing sections of keys.

use super::{Ini, KEY, Repeated, SECTION, VALUE};
use crate::formats::editing::{
    Anchor, Cells, Dialect, Editor, Entries, EntryNode, Head, Inside, Likeness, NewEntry, Part, Place,
    Refusal, Style, edited,
};
use crate::formats::{Cell, Column, Fault, Form, Format, OffStyle, RawRecord, RecordSink};
use crate::text::{Span, Text};

/// What is special about editing sections.
struct IniDialect<'t> {
    format: &'t Ini,
    /// For each entry the name of its section; for keys that of the section they are in.
    sections: Vec<Span>,
    /// For each entry, whether it is a section.
    is_section: Vec<bool>,
    cells: Cells,
}

/// Takes the places of records, and of the names of their sections.
#[derive(Default)]
struct SectionPlaces(Vec<(Span, Span)>);

impl RecordSink for SectionPlaces {
    fn record(&mut self, record: &RawRecord<'_>) {
        let section = record.cells.first().map_or(Span::default(), |cell| cell.cell.span);
        self.0.push((record.span, section));
    }
    fn fault(&mut self, _fault: Fault) {}
}

/// The places of all sections, or of all keys.
fn places(format: &Ini, text: &Text<'_>, by_key: bool) -> Vec<(Span, Span)> {
    let every = Ini {
        by_key,
        section: None,
        head: Some(String::new()),
        repeated_sections: Repeated::Apart,
        ..format.clone()
    };
    let mut places = SectionPlaces::default();
    every.read(
        text,
        &[Column { name: SECTION, optional: false, related: false, described: true }],
        &mut places,
    );
    places.0
}

/// The editor of a text of sections.
pub(super) fn editor<'t>(format: &'t Ini, text: &Text<'t>) -> Editor<'t> {
    let content = text.as_str();
    let mut keys = places(format, text, true).into_iter().peekable();
    let (mut nodes, mut sections, mut is_section) = (Vec::new(), Vec::new(), Vec::new());
    for (span, name) in places(format, text, false) {
        let section = nodes.len();
        // The keys before the first section have no head.
        let head_end = if name.is_empty() { span.start } else { name.end + 1 };
        let shown = if name.is_empty() {
            keys.peek().map_or(span, |(key, _)| Span { start: key.start, ..span })
        } else {
            span
        };
        nodes.push(EntryNode {
            value: span,
            span: shown,
            inside: Inside::Below((head_end as usize).min(content.len())),
            parent: None,
            end: section + 1,
        });
        sections.push(name);
        is_section.push(true);
        while let Some((key, _)) = keys.next_if(|(key, _)| key.end <= span.end) {
            let end = nodes.len() + 1;
            nodes.push(EntryNode {
                value: key,
                span: key,
                inside: Inside::Nothing,
                parent: Some(section),
                end,
            });
            nodes[section].end = end;
            sections.push(name);
            is_section.push(false);
        }
    }
    let style = Style { marks: format.comments.clone(), blank_lines: 1, ..Style::default() };
    let entries = Entries::new(content, text.body(), text.body(), nodes, style);
    Editor::new(entries, IniDialect { format, sections, is_section, cells: Cells::default() })
}

impl IniDialect<'_> {
    /// The name of the key of an entry, and what stands between it and its value.
    fn key<'t>(&self, entries: &Entries<'t>, node: usize) -> Option<(&'t str, &'t str)> {
        if self.is_section[node] {
            return None;
        }
        let line = entries.node(node).span.of(entries.text());
        let sign = line.find(self.format.assign)?;
        let name = line[..sign].trim_end();
        let behind = &line[sign + self.format.assign.len_utf8()..];
        let value = line.len() - behind.trim_start_matches([' ', '\t']).len();
        Some((name.trim_start(), &line[name.len()..value]))
    }

    fn name<'t>(&self, entries: &Entries<'t>, node: usize) -> Option<&'t str> {
        self.key(entries, node).map(|(name, _)| name)
    }

    /// The text of a key with its value, written as `model` is.
    fn key_text(
        &self,
        entries: &Entries<'_>,
        name: &str,
        value: &str,
        model: Option<usize>,
    ) -> Result<String, Refusal> {
        let assign = model.and_then(|node| Some(self.key(entries, node)?.1)).map(str::to_owned);
        let any = || entries.numbers().find_map(|node| Some(self.key(entries, node)?.1.to_owned()));
        let assign = assign.or_else(any).unwrap_or_else(|| format!(" {} ", self.format.assign));
        let is_quoted = |node: usize| {
            let line = entries.node(node).span.of(entries.text());
            self.key(entries, node).is_some_and(|(name, assign)| {
                line.trim_start()[name.len()..]
                    .strip_prefix(assign)
                    .is_some_and(|value| value.starts_with('"'))
            })
        };
        let form = match model.is_some_and(is_quoted) && self.format.quotes {
            true => Form::Quoted,
            false => Form::Plain,
        };
        self.format.encode(&Cell { span: Span::default(), form: Form::Plain }, KEY, name)?;
        let text = self.format.encode(&Cell { span: Span::default(), form }, VALUE, value)?;
        let text = if form == Form::Quoted { format!("\"{text}\"") } else { text };
        Ok(format!("{name}{assign}{text}"))
    }

    /// Puts a key into a section.
    fn add_key(
        &self,
        entries: &mut Entries<'_>,
        section: usize,
        name: &str,
        value: &str,
    ) -> Result<(), Refusal> {
        let (anchor, model) = entries.field_place(Some(section), name, |node| self.name(entries, node));
        let model = model.or_else(|| entries.children(Some(section)).last());
        let text = self.key_text(entries, name, value, model)?;
        entries.add(Some(section), anchor, NewEntry { text, ..NewEntry::default() });
        Ok(())
    }

    /// The keys of a section that are called `column`.
    fn keys_called(&self, entries: &Entries<'_>, section: usize, column: &str) -> Vec<usize> {
        let called =
            |node: &usize| self.name(entries, *node).is_some_and(|name| self.format.same(name, column));
        entries.children(Some(section)).filter(called).collect()
    }

    /// The section that is a record, in which `column` can be a list.
    fn section(&self, record: Option<usize>, column: &str) -> Result<usize, Refusal> {
        let section = record.filter(|node| self.is_section[*node] && !column.starts_with('{'));
        section.ok_or_else(|| format!("`{column}` is no list"))
    }

    /// A name as names are compared.
    fn folded(&self, name: &str) -> String {
        if self.format.ignore_case { name.to_lowercase() } else { name.to_owned() }
    }

    fn head(&self, open: String, name: &str) -> Head {
        let name = name.trim().to_owned();
        Head {
            open,
            close: String::new(),
            name,
            key: Vec::new(),
            key_entries: Vec::new(),
            indent: Some(String::new()),
        }
    }
}

impl Dialect for IniDialect<'_> {
    fn set(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        value: &str,
    ) -> Result<(), Refusal> {
        let record = record.ok_or("there is no such section")?;
        let text = Text::of_file(entries.text());
        match self.cells.of(self.format, &text, column, entries.node(record).value).as_slice() {
            [] => {}
            [cell] => {
                let new = self.format.encode(cell, column, value)?;
                entries.edit(cell.span, new);
                return Ok(());
            }
            _ => return Err(format!("`{column}` holds several values")),
        }
        match self.is_section[record] && !column.starts_with('{') {
            true => self.add_key(entries, record, column, value),
            false => Err(format!("there is no place that is `{column}` yet")),
        }
    }

    fn take(&self, entries: &Entries<'_>, record: usize, part: &Part<'_>) -> Result<NewEntry, Refusal> {
        let text = entries.text();
        let end = entries.line_end(false);
        let name = self.sections[record];
        let section = edited(text, name, part.edits);
        let of_section = match self.is_section[record] {
            true => record,
            false => entries.node(record).parent.unwrap_or(record),
        };
        // Sections of one name are told apart by a key in them.
        let of_key = |key: &usize| {
            let name = self.name(entries, *key).unwrap_or("");
            part.key.iter().any(|own| !own.starts_with('{') && self.format.same(name, own))
        };
        let naming: Vec<usize> = match self.is_section[record] {
            true => entries.children(Some(record)).filter(of_key).collect(),
            false => Vec::new(),
        };
        let head = (!name.is_empty()).then(|| {
            let notes = if part.notes && self.is_section[record] {
                entries.notes_above(of_section)
            } else {
                Vec::new()
            };
            let notes: String = notes.iter().map(|note| format!("{note}{end}")).collect();
            let own = |key: &usize| {
                let line = edited(text, entries.node(*key).span, part.edits);
                let name = self.name(entries, *key).unwrap_or("").to_owned();
                ((name, self.value_of(&line)), line)
            };
            let (key, key_entries) = naming.iter().map(own).unzip();
            Head { key, key_entries, ..self.head(format!("{notes}[{section}]"), &section) }
        });
        let one = |key: usize| {
            let span = entries.node(key).span;
            NewEntry {
                heads: head.iter().cloned().collect(),
                notes: if part.notes { entries.notes_above(key) } else { Vec::new() },
                note_behind: if part.notes { entries.note_behind(key).to_owned() } else { String::new() },
                text: edited(text, span, part.edits),
                is_rigid: true,
                indent: Some(String::new()),
                ..NewEntry::default()
            }
        };
        if !self.is_section[record] {
            return Ok(one(record));
        }
        let touched = |key: &usize| {
            let span = entries.node(*key).span;
            let within =
                |edit: &crate::text::Edit| edit.span.start >= span.start && edit.span.end <= span.end;
            part.whole || part.edits.edits().iter().any(within)
        };
        let keys = entries.children(Some(record)).filter(|key| touched(key) && !naming.contains(key));
        let named = |key: usize| self.name(entries, key).unwrap_or("").to_owned();
        let mut parts: Vec<(String, NewEntry)> = keys.map(|key| (named(key), one(key))).collect();
        // A section that is nothing but its key.
        if let (true, Some((first, others))) = (parts.is_empty() && part.whole, naming.split_first()) {
            let mut only = one(*first);
            for head in &mut only.heads {
                head.key_entries =
                    others.iter().map(|key| edited(text, entries.node(*key).span, part.edits)).collect();
            }
            parts.push((named(*first), only));
        }
        let notes = if part.notes { entries.notes_above(record) } else { Vec::new() };
        Ok(NewEntry {
            parts,
            notes,
            text: edited(text, entries.node(record).span, part.edits),
            is_rigid: true,
            indent: Some(String::new()),
            heads: Vec::new(),
            ..NewEntry::default()
        })
    }

    fn is_parent(&self, entries: &Entries<'_>, node: usize, head: &Head) -> Likeness {
        let name = entries.expected(self.sections[node]);
        let has = |(column, value): &(String, String)| {
            let mut keys = self.keys_called(entries, node, column).into_iter();
            keys.any(|key| self.value_of(&entries.expected(entries.node(key).span)) == *value)
        };
        let is_it =
            self.is_section[node] && self.format.same(name.trim(), &head.name) && head.key.iter().all(has);
        if is_it { Likeness::Same } else { Likeness::Other }
    }

    fn insert(&self, entries: &mut Entries<'_>, entry: &NewEntry, place: Place) -> Result<(), Refusal> {
        // Beside another one it goes as it is.
        if matches!(place, Place::Before(_) | Place::After(_)) {
            return entries.insert(entry, place, self);
        }
        if entry.parts.is_empty() {
            return match entry.heads.is_empty() && self.is_key(&entry.text) {
                true => self.insert_into_head(entries, entry),
                false => entries.insert(entry, place, self),
            };
        }
        for (name, own) in &entry.parts {
            if own.heads.is_empty() {
                self.insert_into_head(entries, own)?;
                continue;
            }
            let head = &own.heads[0];
            let section = entries.parent(None, head, self);
            // What is there already stays as it is.
            if section.is_some_and(|section| !self.keys_called(entries, section, name).is_empty()) {
                continue;
            }
            entries.insert(own, place, self)?;
        }
        Ok(())
    }

    fn insert_item(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        item: &str,
        at: usize,
    ) -> Result<(), Refusal> {
        let section = self.section(record, column)?;
        let keys = self.keys_called(entries, section, column);
        let Some(beside) = keys.get(at).or(keys.last()).copied() else {
            return self.add_key(entries, section, column, item);
        };
        let name = self.name(entries, beside).unwrap_or(column);
        let text = self.key_text(entries, name, item, Some(beside))?;
        let anchor = if at < keys.len() { Anchor::Before(beside) } else { Anchor::After(beside) };
        entries.add(Some(section), anchor, NewEntry { text, ..NewEntry::default() });
        Ok(())
    }

    fn remove_item(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        at: usize,
    ) -> Result<(), Refusal> {
        let section = self.section(record, column)?;
        let keys = self.keys_called(entries, section, column);
        let key = keys.get(at).ok_or_else(|| format!("`{column}` has no item {}", at + 1))?;
        entries.remove(*key);
        Ok(())
    }

    fn is_entry_of(&self, _entries: &Entries<'_>, node: usize, _cell: Span) -> bool {
        !self.is_section[node]
    }

    fn as_dialect(&self) -> &dyn Dialect {
        self
    }

    fn parent_name(&self, entries: &Entries<'_>, node: usize) -> String {
        self.folded(entries.expected(self.sections[node]).trim())
    }

    fn head_name(&self, head: &Head) -> String {
        self.folded(&head.name)
    }

    fn off_style(&self) -> OffStyle {
        self.format.off_style()
    }
}

impl IniDialect<'_> {
    /// What stands behind the sign of a key, without quotes.
    fn value_of(&self, line: &str) -> String {
        let value = line.split_once(self.format.assign).map_or("", |(_, value)| value).trim();
        let inner = value.strip_prefix('"').and_then(|value| value.strip_suffix('"'));
        inner.filter(|_| self.format.quotes).unwrap_or(value).to_owned()
    }

    /// Whether a text is a key with its value, and no section.
    fn is_key(&self, text: &str) -> bool {
        !text.trim_start().starts_with('[')
    }

    /// Puts a key where those stand that are in no section.
    fn insert_into_head(&self, entries: &mut Entries<'_>, key: &NewEntry) -> Result<(), Refusal> {
        let head = entries.numbers().find(|node| self.is_section[*node] && self.sections[*node].is_empty());
        match head {
            Some(head) => {
                let name = key.text.split(self.format.assign).next().unwrap_or("").trim();
                if self.keys_called(entries, head, name).is_empty() {
                    entries.add(Some(head), Anchor::Last, key.clone());
                }
            }
            None => entries.add(None, Anchor::First, key.clone()),
        }
        Ok(())
    }
}
