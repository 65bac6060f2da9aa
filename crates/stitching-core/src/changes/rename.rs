//! Renaming a record everywhere.
//!
//! A rename is a list of things that get a new name ([`Thing`]): at first the record; then what
//! carries its key by the schema (a text key, a file); then records whose own key has the renamed
//! value as a part. Each round looks through all files for what points to the things found last,
//! until nothing new turns up. Only then are the edits made, so that a value touched in two rounds
//! is rewritten once.
//!
//! **Limitations.** A file of the base cannot be moved, only copied under its new name. If it refers to
//! what is renamed, the mod gets a copy under the old name too, so that nothing dangles.

use super::builder::Builder;
use super::change::{Change, Note};
use super::overlay::{ByFile, add_over, take_overlaid};
use super::rewrite::{Rewrite, by_cell, cell_edits, changed_meanwhile};
use crate::Error;
use crate::formats::decode;
use crate::layers::{FileId, RelPath};
use crate::links::{Address, Found, Thing, Wanted, find_records, own_part, resolve, things_of, wanted};
use crate::project::Project;
use crate::reading::View;
use crate::reading::{FileHits, Needles, TableScan, fingerprint, load, scan};
use crate::schema::{Field, KeyPart, Layout, Schema, Table, TableId, Texts};
use crate::tables::{KEY_SEPARATOR, RecordView, for_each_piece, shown_key};
use crate::text::{Edit, Span, Text};
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// Builds the change that gives the record at `address` the key `new`, everywhere.
///
/// Nothing is written. Keys of several parts are given with `/` between them.
///
/// # Errors
/// When the address names no record, when the new key is taken, not valid, or cannot be written
/// somewhere, when a file would collide with another, or when a file cannot be read or edited.
pub fn rename(project: &Project, address: &str, new: &str) -> Result<Change, Error> {
    rename_with(project, address, new, false)
}

/// As [`rename`]. With `notes`, what the mod adds over a base layer has the notes directly above it.
///
/// # Errors
/// As for [`rename`].
pub fn rename_with(project: &Project, address: &str, new: &str, notes: bool) -> Result<Change, Error> {
    let (stack, schema) = (&project.stack, &project.schema);
    let found = resolve(View::top(stack, schema), address)?;
    let table = &schema.tables[found.table];
    if found.field.is_some() {
        return Err(usage(
            format!("`{address}` names a field, and a record is renamed"),
            "leave the field out",
        ));
    }
    refuse_duplicates(project, &found)?;
    let new_key = new_key(table, &found.key, new)?;
    refuse_taken(project, found.table, &found.key, &new_key, new)?;
    let shown = shown_key(&new_key);
    let title = format!("rename {} to {shown}", Address::show(&table.name, &found.key));
    let mut work = Work::new(project, title);
    work.with_notes = notes;
    work.add_record(&found, &new_key)?;
    while !work.pending.is_empty() {
        work.round()?;
    }
    work.finish()
}

/// What a record gives in one round.
enum Hit {
    Rewrite(Rewrite),
    /// A thing that gets a new name with it.
    Also(Item),
    /// The values cannot be rewritten, and why.
    Unfit(Span, String),
}

/// A thing and its new name. For records the key as kept in memory, for files the path.
#[derive(Debug, Clone)]
struct Item {
    thing: Thing,
    new: String,
    /// Whether the key cells are already rewritten, because what they point to was renamed.
    key_done: bool,
}

struct Work<'p> {
    project: &'p Project,
    pending: Vec<Item>,
    done: HashSet<Thing>,
    rewrites: BTreeMap<FileId, (u64, Vec<Rewrite>)>,
    builder: Builder<'p>,
    /// Whether what is added over a base layer has the notes above it.
    with_notes: bool,
}

impl<'p> Work<'p> {
    fn new(project: &'p Project, title: String) -> Work<'p> {
        Work {
            project,
            pending: Vec::new(),
            done: HashSet::new(),
            rewrites: BTreeMap::new(),
            builder: Builder::new(project, title),
            with_notes: false,
        }
    }

    /// Starts with a record: itself, and the text key or file it stands for.
    fn add_record(&mut self, found: &Found, new_key: &str) -> Result<(), Error> {
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let path = &stack.files()[found.places[0].file].path;
        // The values of other columns stay, so nothing that refers to them changes.
        for thing in things_of(schema, found.table, &found.key, path, |_| None) {
            let new = match &thing {
                Thing::File(path) => renamed_path(&schema.tables[found.table], path, &found.key, new_key)?,
                _ => new_key.to_owned(),
            };
            self.add(Item { thing, new, key_done: false })?;
        }
        // A record named after its file takes the file along.
        let table = &schema.tables[found.table];
        if !table.is_of_files() && named_after_file(table, &found.key, new_key) {
            let new = renamed_path(table, path, &found.key, new_key)?;
            self.add(Item { thing: Thing::File(path.clone()), new, key_done: false })?;
        }
        Ok(())
    }

    /// Puts a thing on the list, unless it is or was there, with what must follow from it.
    fn add(&mut self, item: Item) -> Result<(), Error> {
        if !self.done.insert(item.thing.clone()) {
            return Ok(());
        }
        let schema = &self.project.schema;
        match &item.thing {
            Thing::Text(old) => {
                for table in schema.text_tables() {
                    let thing = Thing::Record(table, old.clone());
                    self.refuse_existing(table, &item.new, old)?;
                    self.add(Item { thing, new: item.new.clone(), key_done: false })?;
                }
            }
            Thing::File(old) => {
                let new = RelPath::parse(&item.new)
                    .map_err(|error| usage(error.to_string(), "choose another key"))?;
                self.move_file(old, &new)?;
                for (id, table) in schema.tables.iter().enumerate().filter(|(_, table)| table.takes(old)) {
                    let name = |path: &RelPath| match table.key[..] {
                        [KeyPart::Stem] => Some(path.stem().to_owned()),
                        [KeyPart::Path] => Some(path.as_str().to_owned()),
                        _ => None,
                    };
                    if let (Some(before), Some(after)) = (name(old), name(&new)) {
                        self.add(Item { thing: Thing::Record(id, before), new: after, key_done: true })?;
                    }
                }
            }
            Thing::Record(table, old) => {
                let name = &schema.tables[*table].name;
                self.builder.rename_key(name, &shown_key(old), &shown_key(&item.new));
            }
            Thing::Column(..) => {}
        }
        self.pending.push(item);
        Ok(())
    }

    /// Looks through all files for what points to the things found last.
    fn round(&mut self) -> Result<(), Error> {
        let items = std::mem::take(&mut self.pending);
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let things: Vec<Thing> = items.iter().map(|item| item.thing.clone()).collect();
        let wanted = wanted(schema, &things);
        let plan: Vec<Option<TableScan>> =
            (0..schema.tables.len()).map(|table| plan(schema, table, &items, &wanted)).collect();
        let look = |table: TableId, record: &RecordView<'_>, hits: &mut Vec<Hit>| {
            Look { schema, items: &items, wanted: &wanted, table, record, hits }.run();
        };
        let found = scan(View::top(stack, schema), &plan, &look)?;
        for file in found {
            self.take(file)?;
        }
        Ok(())
    }

    fn take(&mut self, found: FileHits<Hit>) -> Result<(), Error> {
        let path = self.project.stack.files()[found.file].path.clone();
        for hit in found.hits {
            match hit {
                Hit::Also(item) if self.done.contains(&item.thing) => {}
                Hit::Also(item) => {
                    if let (Thing::Record(table, old), true) = (&item.thing, item.key_done) {
                        let name = &self.project.schema.tables[*table].name;
                        self.refuse_existing(*table, &item.new, old)?;
                        let (before, after) = (Address::show(name, old), Address::show(name, &item.new));
                        self.builder.note(Note::Follows(before, after));
                    }
                    self.add(item)?;
                }
                Hit::Unfit(span, reason) => return Err(self.unfit(found.file, span, reason)),
                Hit::Rewrite(rewrite) => {
                    if !found.editable {
                        return Err(Error::refused(
                            format!(
                                "`{path}` would have to be edited, and bytes in it are not text in its encoding"
                            ),
                            "give its table the right `encoding`, or save the file anew; nothing was changed",
                        ));
                    }
                    let entry = self.rewrites.entry(found.file).or_insert_with(|| (found.seen, Vec::new()));
                    if entry.0 != found.seen {
                        return Err(changed_meanwhile(&path));
                    }
                    entry.1.push(rewrite);
                }
            }
        }
        Ok(())
    }

    fn unfit(&self, file: FileId, span: Span, reason: String) -> Error {
        let place = load(&self.project.stack, file).map(|loaded| loaded.place(span));
        let at = place
            .map(|place| format!("{}:{}:{}: ", place.path, place.line, place.column))
            .unwrap_or_default();
        Error::refused(format!("{at}{reason}"), "choose another key; nothing was changed")
    }

    /// Moves the effective file at `old` to `new`.
    fn move_file(&mut self, old: &RelPath, new: &RelPath) -> Result<(), Error> {
        let stack = &self.project.stack;
        let mut effective = stack.effective(stack.top()).into_iter();
        match effective.find(|id| stack.files()[*id].path == *old) {
            Some(file) => self.builder.move_to(file, new),
            None => Ok(()),
        }
    }

    /// Refuses a key that a record of `table` has already, other than the one renamed from `old`.
    fn refuse_existing(&self, table: TableId, new: &str, old: &str) -> Result<(), Error> {
        refuse_taken(self.project, table, old, new, &shown_key(new))
    }

    /// Makes the edits of all files.
    fn finish(mut self) -> Result<Change, Error> {
        let project = self.project;
        let mut files: ByFile = BTreeMap::new();
        for (file, (seen, rewrites)) in std::mem::take(&mut self.rewrites) {
            files.insert(file, (Some(seen), rewrites));
        }
        let overlaid = take_overlaid(project, &mut files, &mut self.builder);
        let of_overlays = overlaid.values().map(|overlay| overlay.rewrites.len()).sum::<usize>();
        self.builder.count(files.values().map(|(_, rewrites)| rewrites.len()).sum::<usize>() + of_overlays);
        let files: Vec<_> = files.into_iter().filter(|(_, (_, rewrites))| !rewrites.is_empty()).collect();
        self.builder.edit_all(&files, |file, text, (seen, rewrites)| {
            file_edits(project, file, text, *seen, rewrites)
        })?;
        for (file, overlay) in overlaid {
            add_over(project, &mut self.builder, file, &overlay, self.with_notes)?;
        }
        self.builder.finish()
    }
}

/// What one record has to do with the things of a round.
struct Look<'l, 'r> {
    schema: &'l Schema,
    items: &'l [Item],
    wanted: &'l Wanted,
    table: TableId,
    record: &'l RecordView<'r>,
    hits: &'l mut Vec<Hit>,
}

impl Look<'_, '_> {
    fn run(mut self) {
        let key = self.record.key();
        let mut rewritten: Vec<(usize, String)> = Vec::new();
        for field in self.wanted.fields(self.schema, self.table) {
            self.references(field, &mut rewritten);
        }
        let Some(key) = key else { return };
        let own = self.items.iter().find(|item| matches!(&item.thing, Thing::Record(table, old) if *table == self.table && same_key(self.record.table, old, &key)));
        if let Some(item) = own {
            let item = item.clone();
            self.own_key(&key, &item);
            return;
        }
        // The record's own key has the renamed value as a part: it gets a new key with it.
        let parts = self.record.table.key.iter().zip(key.split(KEY_SEPARATOR));
        let new_parts: Vec<&str> = parts
            .map(|(part, old)| match part {
                KeyPart::Field(field) => {
                    rewritten.iter().find(|(of, _)| of == field).map_or(old, |(_, new)| new.as_str())
                }
                _ => old,
            })
            .collect();
        self.follow_to_file(&key, &rewritten);
        let new_key = new_parts.join(&KEY_SEPARATOR.to_string());
        if new_key != key {
            let thing = Thing::Record(self.table, key);
            self.hits.push(Hit::Also(Item { thing, new: new_key, key_done: true }));
        }
    }

    /// A file named after its record, in which a field repeats that name and is rewritten, is renamed too.
    fn follow_to_file(&mut self, key: &str, rewritten: &[(usize, String)]) {
        let table = self.record.table;
        if table.key != [KeyPart::Stem] {
            return;
        }
        for (field, new) in rewritten {
            let Some(follows) = &table.fields[*field].follows else { continue };
            let repeats = self.record.value(*field).is_some_and(|value| value == follows.fill_one(key));
            let new = follows.extract(new, "key").filter(|_| repeats);
            if let Some(new) = new.and_then(|new| self.record.path.with_stem(new).ok()) {
                let thing = Thing::File(self.record.path.clone());
                self.hits.push(Hit::Also(Item { thing, new: new.to_string(), key_done: false }));
            }
        }
    }

    /// Rewrites the values of `field` that point to one of the things.
    fn references(&mut self, field: usize, rewritten: &mut Vec<(usize, String)>) {
        let (record, wanted, items, table) = (self.record, self.wanted, self.items, self.table);
        let hits = &mut *self.hits;
        for_each_piece(record, field, |piece| {
            let rule = &record.table.rules[piece.rule];
            let Some(item) = wanted.thing(table, record, piece).map(|thing| &items[thing]) else { return };
            let new = match &item.thing {
                Thing::Text(_) => {
                    rule.text.as_ref().and_then(|template| template.extract(&item.new, "")).map(str::to_owned)
                }
                Thing::File(_) => {
                    rule.file.as_ref().and_then(|template| template.extract(&item.new, "")).map(str::to_owned)
                }
                Thing::Record(_, old) if !rule.with.is_empty() => {
                    // The other parts of the key stand in other fields of the record.
                    let parts =
                        rule.with.iter().zip(old.split(KEY_SEPARATOR).zip(item.new.split(KEY_SEPARATOR)));
                    for (part, (old, new)) in parts {
                        if let (Some(KeyPart::Field(field)), true) = (part, old != new)
                            && let Some(cell) = record.cell(*field)
                        {
                            let within = 0..decode(record.text, cell).text.len();
                            let (field, cell, new) = (*field, *cell, new.to_owned());
                            let record = merged_record(record);
                            hits.push(Hit::Rewrite(Rewrite { table, record, field, cell, within, new }));
                        }
                    }
                    let own = own_part(rule, &item.new);
                    if own == own_part(rule, old) {
                        return;
                    }
                    rule.shape
                        .as_ref()
                        .map_or(Some(own), |template| template.extract(own, ""))
                        .map(str::to_owned)
                }
                Thing::Record(..) => {
                    let own = item.new.as_str();
                    rule.shape
                        .as_ref()
                        .map_or(Some(own), |template| template.extract(own, ""))
                        .map(str::to_owned)
                }
                Thing::Column(..) => Some(item.new.clone()),
            };
            match new {
                Some(new) => {
                    rewritten.push((field, new.clone()));
                    hits.push(Hit::Rewrite(Rewrite {
                        table,
                        record: merged_record(record),
                        field,
                        cell: *piece.cell,
                        within: piece.within.clone(),
                        new,
                    }));
                }
                None => hits.push(Hit::Unfit(
                    piece.span,
                    format!("`{}` does not fit what this field makes of its value", item.new),
                )),
            }
        });
    }

    /// The record itself gets a new key: its key cells, and what carries the key.
    fn own_key(&mut self, key: &str, item: &Item) {
        let table = self.record.table;
        let (old_parts, new_parts) = (key.split(KEY_SEPARATOR), item.new.split(KEY_SEPARATOR));
        for ((part, old), new) in table.key.iter().zip(old_parts).zip(new_parts) {
            if let (KeyPart::Field(field), true) = (part, old != new) {
                if !item.key_done {
                    if self.record.cell(*field).is_none() {
                        let reason =
                            format!("`{old}` is a name that the schema gives; it stands nowhere in the file");
                        self.hits.push(Hit::Unfit(self.record.span, reason));
                    }
                    self.rewrite_whole(*field, new);
                }
                // What the key itself names goes along.
                if names_something(table, &table.fields[*field]) {
                    self.carry(*field, old, new);
                }
            }
        }
        let last = |key: &str| key.rsplit(KEY_SEPARATOR).next().unwrap_or_default().to_owned();
        let (old, new) = (last(key), last(&item.new));
        for field in 0..table.fields.len() {
            if table.is_key_field(field) {
                continue;
            }
            let Some(value) = self.record.value(field) else { continue };
            let Some((old_value, new_value)) = carried(table, &table.fields[field], &value, &old, &new)
            else {
                continue;
            };
            if old_value == new_value {
                continue;
            }
            self.carry(field, &old_value, &new_value);
        }
    }

    /// A value that is made from the key: it is rewritten, and what it names is renamed.
    fn carry(&mut self, field: usize, old: &str, new: &str) {
        let Layout::Whole(rule) = self.record.table.fields[field].layout else { return };
        let described = &self.record.table.rules[rule];
        let mut named = false;
        if let Some(template) = &described.text {
            let thing = Thing::Text(template.fill_one(old));
            self.hits.push(Hit::Also(Item { thing, new: template.fill_one(new), key_done: false }));
            named = true;
        }
        if let Some(template) = &described.file
            && let Ok(path) = RelPath::parse(&template.fill_one(old))
        {
            let thing = Thing::File(path);
            self.hits.push(Hit::Also(Item { thing, new: template.fill_one(new), key_done: false }));
            named = true;
        }
        // What is named is looked for in the next round, and this value found with the others.
        if !named && described.refs.is_empty() {
            self.rewrite_whole(field, new);
        }
    }

    fn rewrite_whole(&mut self, field: usize, new: &str) {
        if let Some(cell) = self.record.cell(field) {
            let within = 0..decode(self.record.text, cell).text.len();
            let record = merged_record(self.record);
            let rewrite =
                Rewrite { table: self.table, record, field, cell: *cell, within, new: new.to_owned() };
            self.hits.push(Hit::Rewrite(rewrite));
        }
    }
}

/// What must be remembered of a record in a table whose layers count together.
fn merged_record(record: &RecordView<'_>) -> Option<(Span, String)> {
    record.table.merged.then(|| record.key()).flatten().map(|key| (record.span, key))
}

/// If `value` of `field` carries the key `old`, the value and what it becomes with the key `new`.
fn carried(table: &Table, field: &Field, value: &str, old: &str, new: &str) -> Option<(String, String)> {
    if let Some(follows) = &field.follows {
        return (value == follows.fill_one(old)).then(|| (value.to_owned(), follows.fill_one(new)));
    }
    (names_something(table, field) && value == old).then(|| (old.to_owned(), new.to_owned()))
}

/// Whether the values of `field` name texts or files.
fn names_something(table: &Table, field: &Field) -> bool {
    let Layout::Whole(rule) = field.layout else { return false };
    table.rules[rule].text.is_some() || table.rules[rule].file.is_some()
}

/// What to read of a table in one round; `None` if nothing of it can matter.
fn plan(schema: &Schema, id: TableId, items: &[Item], wanted: &Wanted) -> Option<TableScan> {
    let table = &schema.tables[id];
    let mut fields = wanted.fields_to_read(schema, id);
    let mut needles = if fields.is_empty() { Needles::default() } else { wanted.needles(id) };
    let own: Vec<&str> = items
        .iter()
        .filter_map(|item| match &item.thing {
            Thing::Record(table, old) if *table == id => Some(old.as_str()),
            _ => None,
        })
        .collect();
    if fields.is_empty() && own.is_empty() {
        return None;
    }
    let by_file = table.key.iter().any(|part| !matches!(part, KeyPart::Field(_)));
    for key in own {
        if table.ignore_case || by_file {
            needles.add_any();
        }
        needles.add(key.split(KEY_SEPARATOR).max_by_key(|part| part.len()).unwrap_or(key));
        fields = crate::tables::all_fields(table);
    }
    crate::tables::add_key_fields(table, &mut fields);
    Some(TableScan { fields, needles, hashes: None })
}

/// The edits that make the rewrites of a file.
fn file_edits(
    project: &Project,
    file: FileId,
    text: &Text<'_>,
    seen: Option<u64>,
    rewrites: &[Rewrite],
) -> Result<Vec<Edit>, Error> {
    let path = &project.stack.files()[file].path;
    if seen.is_some_and(|seen| seen != fingerprint(text)) {
        return Err(changed_meanwhile(path));
    }
    let refused = |reason: String| {
        Error::refused(format!("`{path}`: {reason}"), "choose another key; nothing was changed")
    };
    let mut edits = Vec::new();
    for own in by_cell(rewrites) {
        edits.extend(cell_edits(&project.schema.tables[own[0].table], text, own).map_err(refused)?);
    }
    Ok(edits)
}

/// The new key as kept in memory, checked against the rules of its fields.
fn new_key(table: &Table, old: &str, new: &str) -> Result<String, Error> {
    let parts: Vec<&str> = if table.key.len() == 1 { vec![new] } else { new.split('/').collect() };
    let shown = shown_key(old);
    if parts.len() != table.key.len() {
        let message = format!(
            "the keys of `{}` have {} parts, and `{new}` has {}",
            table.name,
            table.key.len(),
            parts.len()
        );
        return Err(usage(message, "write all parts with `/` between them, also those that stay"));
    }
    if new == shown {
        return Err(Error::refused(format!("`{new}` is its key already"), "nothing to do"));
    }
    for ((part, old), new) in table.key.iter().zip(old.split(KEY_SEPARATOR)).zip(&parts) {
        if old == *new {
            continue;
        }
        let refused = |reason: String| Error::refused(reason, "choose another key; nothing was changed");
        if new.is_empty() || new.trim() != *new || new.chars().any(char::is_control) {
            return Err(refused(format!(
                "`{new}` cannot be a key: it is empty, has blanks around it or a control character in it"
            )));
        }
        match part {
            KeyPart::Path => RelPath::parse(new)
                .and_then(|path| path.check_portable())
                .map_err(|error| refused(error.to_string()))?,
            KeyPart::Stem if table.key.len() > 1 => {
                return Err(refused(format!(
                    "the part `{old}` is the name of a file that holds other records too"
                )));
            }
            KeyPart::Stem if new.contains(['/', '\\']) => {
                return Err(refused(format!("`{new}` cannot be a file's name")));
            }
            KeyPart::Stem => {}
            KeyPart::Field(field) => {
                let rules = table.rules.iter().filter(|rule| rule.field == *field && rule.part.is_none());
                for rule in rules {
                    if rule.is_none(new) {
                        return Err(refused(format!(
                            "`{new}` stands for \"nothing\" in `{}`",
                            table.fields[*field].name
                        )));
                    }
                    if let Some((message, help)) = crate::checks::value_problem(rule, new) {
                        return Err(Error::refused(
                            message,
                            help.unwrap_or_else(|| "choose another key; nothing was changed".to_owned()),
                        ));
                    }
                }
            }
        }
    }
    Ok(parts.join(&KEY_SEPARATOR.to_string()))
}

/// Refuses a key that another record of the table has already.
fn refuse_taken(project: &Project, table: TableId, old: &str, new: &str, shown: &str) -> Result<(), Error> {
    let (stack, schema) = (&project.stack, &project.schema);
    let mut others = find_records(View::top(stack, schema), Some(table), shown)?;
    others.retain(|other| other.key != old && (other.key == new || schema.tables[table].ignore_case));
    let Some(other) = others.pop() else { return Ok(()) };
    let place = other.places.first().and_then(|place| Some(load(stack, place.file).ok()?.place(place.span)));
    let at = place
        .map(|place| format!(", at {}:{} of the layer `{}`", place.path, place.line, place.layer))
        .unwrap_or_default();
    let shown = Address::show(&schema.tables[table].name, &other.key);
    Err(Error::refused(
        format!("there is a record {shown} already{at}"),
        "choose another key; nothing was changed",
    ))
}

/// Refuses to rename what an address does not name alone.
fn refuse_duplicates(project: &Project, found: &Found) -> Result<(), Error> {
    let (stack, table) = (&project.stack, &project.schema.tables[found.table]);
    let language = |file: FileId| table.language_of(&stack.files()[file].path).map(str::to_owned);
    // In a table whose layers count together each layer may have a part of the record.
    let layer = |file: FileId| table.merged.then(|| stack.files()[file].layer);
    // Texts that say themselves what language they are in stand side by side.
    if matches!(table.texts, Some(Texts::Record { .. })) {
        return Ok(());
    }
    let mut seen = BTreeSet::new();
    let repeated = found.places.iter().find(|place| !seen.insert((language(place.file), layer(place.file))));
    let Some(place) = repeated else { return Ok(()) };
    let at = load(stack, place.file)?.place(place.span);
    let shown = Address::show(&table.name, &found.key);
    let reason = format!("{shown} is there more than once, also at {}:{}", at.path, at.line);
    Err(Error::refused(reason, "put the duplicate right first; `stitching check` shows both places"))
}

/// Whether the part of the key that changes is the file's name.
fn named_after_file(table: &Table, old: &str, new: &str) -> bool {
    let parts = table.key.iter().zip(old.split(KEY_SEPARATOR)).zip(new.split(KEY_SEPARATOR));
    parts.into_iter().any(|((part, old), new)| old != new && !matches!(part, KeyPart::Field(_)))
}

/// The path of a file whose record gets the key `new`.
fn renamed_path(table: &Table, path: &RelPath, old: &str, new: &str) -> Result<String, Error> {
    let changed = table
        .key
        .iter()
        .zip(old.split(KEY_SEPARATOR))
        .zip(new.split(KEY_SEPARATOR))
        .find(|((_, old), new)| old != new);
    let renamed = match changed {
        Some(((KeyPart::Path, _), new)) => RelPath::parse(new),
        Some(((KeyPart::Stem, _), new)) => path.with_stem(new),
        _ => Ok(path.clone()),
    };
    renamed.map(|path| path.to_string()).map_err(|error| usage(error.to_string(), "choose another key"))
}

fn same_key(table: &Table, a: &str, b: &str) -> bool {
    a == b || (table.ignore_case && a.to_lowercase() == b.to_lowercase())
}

fn usage(message: String, help: &str) -> Error {
    Error::Usage { message, help: help.to_owned() }
}
