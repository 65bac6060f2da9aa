//! Copying a record with all that belongs to it, under a new name.
//!
//! What a rename would rewrite in the record, and in what belongs to it, is rewritten in the copies; what refers to it from
//! elsewhere goes on meaning the original.

use super::assignment::{Argument, Assignment};
use super::builder::Builder;
use super::change::{Change, Note};
use super::field_value::FieldValues;
use super::list_edit::ListValue;
use super::new_values::{NewValues, value_edits, write_values};
use super::record_finder::RecordFinder;
use super::rename::{Hit, Item, Visitor, companions, new_key, plan, refuse_duplicates, refuse_taken};
use super::rewrite::{Rewrite, by_cell, cell_edits};
use super::switch::is_whole_file;
use super::unused_values::UnusedValues;
use crate::Error;
use crate::formats::{Part, Place};
use crate::help::NextStep;
use crate::layers::{FileId, RelPath};
use crate::links::{Address, Found, Thing, belongs_by, resolve, second_identifiers, wanted};
use crate::project::Project;
use crate::reading::scan;
use crate::schema::{KeyPart, Layout, Schema, Table, TableId, Texts};
use crate::tables::{KEY_SEPARATOR, RecordView, RecordVisitor, read_records, shown_key};
use crate::text::{Edit, EditSet, Span, Text};
use crate::views::{FreeRequest, Rows, free};
use std::collections::{BTreeMap, HashMap, HashSet};

/// The word that stands for the next free key.
const NEW: &str = "new";

/// What is to be copied.
#[derive(Debug, Clone, Default)]
pub struct CopyRequest {
    /// The address of a record.
    pub address: String,
    /// The key of the copy, with `/` between its parts; `new` for the next free one, also as a part.
    pub new: String,
    /// What the fields of the copy hold: `FIELD=VALUE`.
    pub values: Vec<String>,
    /// How it is called in the main language.
    pub name: Option<String>,
    /// Which lists that have the original get the copy too.
    pub join: Join,
    /// The tables of which nothing comes along.
    pub without: Vec<String>,
}

/// Which lists that have the original of a copy get the copy too, directly behind it.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub enum Join {
    /// None.
    #[default]
    None,
    /// All.
    All,
    /// Those of these fields: `table.field`.
    Fields(Vec<String>),
}

/// Builds the change that copies a record with all that belongs to it.
///
/// # Errors
/// When the address names no record or several, when the new key is taken or not valid, when something cannot be written,
/// or when a file would collide with another.
pub fn copy(project: &Project, request: &CopyRequest) -> Result<Change, Error> {
    let schema = &project.schema;
    let found = resolve(project.view(), &request.address)?;
    let table = &schema.tables[found.table];
    if found.field.is_some() {
        return Err(Error::Usage {
            message: format!("`{}` names a field, and records are copied", request.address),
            help: format!("name the record: {}", Address::show(&table.name, &found.key)).into(),
        });
    }
    refuse_duplicates(project, &found)?;
    let new = free_key(project, &found, &request.new)?;
    let new_key = new_key(table, &found.key, &new)?;
    refuse_taken(project, found.table, &found.key, &new_key, &new)?;
    refuse_counted(table, &found.key, &new_key)?;
    let from = Address::show(&table.name, &found.key);
    let title = format!("copy {from} to {}", shown_key(&new_key));
    let mut without = HashSet::new();
    for name in &request.without {
        without.insert(crate::links::find_table(schema, name)?);
    }
    let mut work = Work {
        project,
        builder: Builder::new(project, title),
        items: Vec::new(),
        pending: Vec::new(),
        known: HashSet::new(),
        files: BTreeMap::new(),
        without,
        second_identifiers: (0..schema.tables.len()).map(|table| second_identifiers(schema, table)).collect(),
    };
    work.add_record(&found, &new_key)?;
    while !work.pending.is_empty() {
        work.round()?;
    }
    work.finish(&found, &new_key, request)
}

/// The key asked for, with what is free in place of `new`.
fn free_key(project: &Project, found: &Found, wanted: &str) -> Result<String, Error> {
    let table = &project.schema.tables[found.table];
    let parts: Vec<&str> = if table.key.len() == 1 { vec![wanted] } else { wanted.split('/').collect() };
    let Some(at) = parts.iter().position(|part| *part == NEW) else { return Ok(wanted.to_owned()) };
    let old = found.key.split(KEY_SEPARATOR).nth(at).unwrap_or_default();
    let Some(KeyPart::Field(field)) = table.key.get(at) else {
        let near = FreeRequest { near: Some(old.to_owned()), count: 1, ..FreeRequest::default() };
        let name = free(project.view(), found.table, &near)?.values.into_iter().next();
        return Ok(name.map_or_else(|| wanted.to_owned(), |(_, name)| name));
    };
    let name = &table.fields[*field].name;
    let reserved = project.reserved.iter().find(|own| own.field == format!("{}.{name}", table.name));
    let is_number = old.parse::<i64>().is_ok();
    let group = || {
        let others = parts.iter().enumerate().filter(|(own, _)| *own != at);
        others.map(|(_, part)| *part).collect::<Vec<_>>().join("/")
    };
    let request = FreeRequest {
        field: Some(name.clone()),
        count: 1,
        after: is_number && reserved.is_none(),
        near: (!is_number).then(|| old.to_owned()),
        group: (parts.len() > 1 && is_number).then(group),
        block: reserved.map(|own| (own.first, own.last)),
        ..FreeRequest::default()
    };
    let free = match free(project.view(), found.table, &request) {
        Ok(found) => found.values.into_iter().next().map(|(_, value)| value).unwrap_or_default(),
        // Nothing is in the group yet.
        Err(_) if is_number && parts.len() > 1 => "1".to_owned(),
        Err(error) => return Err(error),
    };
    let parts = parts.iter().enumerate().map(|(own, part)| if own == at { free.as_str() } else { part });
    Ok(parts.collect::<Vec<_>>().join("/"))
}

/// Refuses a key of which a part that changes is a position.
fn refuse_counted(table: &Table, old: &str, new: &str) -> Result<(), Error> {
    let parts = table.key.iter().zip(old.split(KEY_SEPARATOR).zip(new.split(KEY_SEPARATOR)));
    for (part, (old, new)) in parts {
        if old != new && *part == KeyPart::Position {
            return Err(Error::refused("a position is no name that a copy could get", "nothing was changed"));
        }
    }
    Ok(())
}

/// What one record has to do with what is copied.
struct Seen {
    table: TableId,
    span: Span,
    key: Option<String>,
    rewrites: Vec<Rewrite>,
    also: Vec<Item>,
}

struct Work<'p> {
    project: &'p Project,
    builder: Builder<'p>,
    /// All that is copied, with its new name.
    items: Vec<Item>,
    /// What was added last.
    pending: Vec<Item>,
    known: HashSet<Thing>,
    /// The files that are copied as a whole, and to where.
    files: BTreeMap<FileId, RelPath>,
    without: HashSet<TableId>,
    second_identifiers: Vec<Vec<usize>>,
}

impl<'p> Work<'p> {
    fn add_record(&mut self, found: &Found, new_key: &str) -> Result<(), Error> {
        let table = &self.project.schema.tables[found.table];
        let thing = Thing::Record(found.table, found.key.clone());
        if table.texts.is_some() {
            return self.add(Item::new(Thing::Text(found.key.clone()), new_key.to_owned()));
        }
        let path = &self.project.stack.files()[found.places[0].file].path;
        if let ([part], true) = (&table.key[..], table.is_keyed_by_file()) {
            let new = match part {
                KeyPart::Path => RelPath::parse(new_key),
                KeyPart::FileName => path.with_name(new_key),
                _ => path.with_stem(new_key),
            };
            let new = new.map_err(|error| Error::refused(error.to_string(), "choose another key"))?;
            self.add(Item::new(Thing::File(path.clone()), new.to_string()))?;
        }
        self.add(Item::new(thing, new_key.to_owned()))
    }

    /// Puts a thing on the list, unless it is there, with what follows from it.
    fn add(&mut self, item: Item) -> Result<(), Error> {
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let left_out = matches!(&item.thing, Thing::Record(table, _) if self.without.contains(table));
        if left_out || !self.known.insert(item.thing.clone()) {
            return Ok(());
        }
        match &item.thing {
            Thing::Text(old) => {
                for table in schema.text_tables() {
                    self.add(Item::new(Thing::Record(table, old.clone()), item.new.clone()))?;
                }
            }
            Thing::File(old) => {
                let file =
                    stack.effective(stack.top()).into_iter().find(|id| stack.files()[*id].path == *old);
                let new = RelPath::parse(&item.new)
                    .map_err(|error| Error::refused(error.to_string(), "choose another key"))?;
                // A file that is there already is taken as it is.
                let is_there =
                    stack.effective(stack.top()).into_iter().any(|id| stack.files()[id].path == new);
                if let (Some(file), false) = (file, is_there) {
                    self.files.insert(file, new.clone());
                }
                for (id, table) in schema.tables.iter().enumerate().filter(|(_, table)| table.takes(old)) {
                    let name = |path: &RelPath| match table.key[..] {
                        [KeyPart::Stem] => Some(path.stem().to_owned()),
                        [KeyPart::FileName] => Some(path.name().to_owned()),
                        [KeyPart::Path] => Some(path.as_str().to_owned()),
                        _ => None,
                    };
                    if let (Some(before), Some(after)) = (name(old), name(&new)) {
                        self.add(Item { key_done: true, ..Item::new(Thing::Record(id, before), after) })?;
                    }
                }
            }
            Thing::Record(table, old) => {
                for item in companions(self.project, *table, old, &item.new) {
                    self.add(item)?;
                }
            }
            Thing::Column(..) => {}
        }
        self.items.push(item.clone());
        self.pending.push(item);
        Ok(())
    }

    fn is_own(&self, table: TableId, key: Option<&String>) -> bool {
        key.is_some_and(|key| self.known.contains(&Thing::Record(table, key.clone())))
    }

    /// What all records have to do with `items`, by file.
    fn look(&self, items: &[Item]) -> Result<Vec<(FileId, Vec<Seen>)>, Error> {
        let schema = &self.project.schema;
        let things: Vec<Thing> = items.iter().map(|item| item.thing.clone()).collect();
        let wanted = wanted(schema, &things);
        let plan: Vec<_> =
            (0..schema.tables.len()).map(|table| plan(schema, table, items, &wanted)).collect();
        let look = |table: TableId, record: &RecordView<'_>, out: &mut Vec<Seen>| {
            let mut hits: Vec<Hit> = Vec::new();
            let second_identifiers = &self.second_identifiers[table];
            let visitor = Visitor {
                schema,
                items,
                wanted: &wanted,
                second_identifiers,
                table,
                record,
                hits: &mut hits,
            };
            visitor.run();
            let key = record.key();
            if hits.is_empty() && !self.is_own(table, key.as_ref()) {
                return;
            }
            let mut seen = Seen { table, span: record.span, key, rewrites: Vec::new(), also: Vec::new() };
            for hit in hits {
                match hit {
                    Hit::Rewrite(rewrite) => seen.rewrites.push(rewrite),
                    Hit::Also(item) => seen.also.push(item),
                    Hit::IfAlone(_) | Hit::Unfit(..) => {}
                }
            }
            out.push(seen);
        };
        let found = scan(self.project.view(), &plan, &look)?;
        Ok(found.into_iter().map(|of_file| (of_file.file, of_file.hits)).collect())
    }

    /// Looks for what belongs to the things found last.
    fn round(&mut self) -> Result<(), Error> {
        let schema = &self.project.schema;
        let items = std::mem::take(&mut self.pending);
        let mut next = Vec::new();
        for (_, seen) in self.look(&items)? {
            for one in seen {
                let is_own = self.is_own(one.table, one.key.as_ref());
                for item in one.also {
                    let follows = match &item.thing {
                        Thing::Record(table, _) => key_belongs(schema, *table),
                        _ => is_own,
                    };
                    if follows {
                        next.push(item);
                    }
                }
                let owned = |rewrite: &&Rewrite| {
                    let rules = &schema.tables[one.table].rules;
                    rules.iter().any(|rule| rule.field == rewrite.field && rule.owner)
                };
                let belongs = !is_own && one.rewrites.iter().any(|rewrite| owned(&rewrite));
                if let (true, Some(key)) = (belongs && !key_belongs(schema, one.table), &one.key) {
                    let new = self.derived_key(one.table, key)?;
                    next.push(Item::new(Thing::Record(one.table, key.clone()), new));
                }
            }
        }
        next.into_iter().try_for_each(|item| self.add(item))
    }

    /// A new key for a record that belongs to what is copied and has a name of its own: its name with the new name in
    /// place of the old one, or the next free one.
    fn derived_key(&self, table: TableId, key: &str) -> Result<String, Error> {
        let described = &self.project.schema.tables[table];
        let named = self.items.iter().find_map(|item| match &item.thing {
            Thing::Record(_, old) => replaced_word(key, last_part(old), last_part(&item.new)),
            _ => None,
        });
        if let Some(new) = named {
            if refuse_taken(self.project, table, key, &new, &shown_key(&new)).is_ok() {
                return Ok(new);
            }
        }
        let found = Found { table, key: key.to_owned(), field: None, places: Vec::new() };
        let mut parts: Vec<String> = key.split(KEY_SEPARATOR).map(str::to_owned).collect();
        if let Some(last) = parts.last_mut() {
            NEW.clone_into(last);
        }
        let shown = free_key(self.project, &found, &parts.join("/"))?;
        new_key(described, key, &shown)
    }

    fn finish(mut self, found: &Found, new_key: &str, request: &CopyRequest) -> Result<Change, Error> {
        let project = self.project;
        let all = self.look(&self.items)?;
        let mut finder = RecordFinder::new(project);
        let mut own_values = self.values_of_main(&mut finder, found, request)?;
        let mut unused = UnusedValues::default();
        let mut outside: Vec<(FileId, Seen)> = Vec::new();
        let mut by_file: BTreeMap<FileId, Vec<Seen>> = BTreeMap::new();
        let (mut copied, mut values) = (HashSet::new(), 0);
        for (file, seen) in all {
            let is_copied = self.files.contains_key(&file);
            let own: Vec<Span> = seen
                .iter()
                .filter(|one| self.is_own(one.table, one.key.as_ref()))
                .map(|one| one.span)
                .collect();
            for one in seen {
                let within = |own: &Span| own.start <= one.span.start && one.span.end <= own.end;
                if is_copied || own.iter().any(within) {
                    values += one.rewrites.len();
                    if let Some(key) = one.key.clone().filter(|key| self.is_own(one.table, Some(key))) {
                        copied.insert((one.table, key));
                    }
                    by_file.entry(file).or_default().push(one);
                } else {
                    outside.push((file, one));
                }
            }
        }
        self.builder.count(values);
        self.builder.count_records(copied.len());
        self.keep_lowest(&mut by_file);
        for (file, seen) in &by_file {
            if let Some(to) = self.new_file(*file, seen)? {
                self.files.insert(*file, to);
            }
        }
        for (file, to) in self.files.clone() {
            let seen = by_file.remove(&file).unwrap_or_default();
            self.copy_file(file, &to, &seen, &mut own_values, &mut unused)?;
        }
        for (file, seen) in by_file {
            self.copy_records(file, seen, &mut own_values, &mut unused)?;
        }
        self.join(outside, &request.join)?;
        let set: Vec<usize> = own_values.fields.iter().map(|(field, _)| *field).collect();
        self.tell(found, new_key, request, &copied, &set)?;
        self.builder.finish()
    }

    /// What the request says of the fields of the copy.
    fn values_of_main(
        &self,
        finder: &mut RecordFinder<'p>,
        found: &Found,
        request: &CopyRequest,
    ) -> Result<OwnValues, Error> {
        let mut out = OwnValues { table: found.table, rows: None, fields: Vec::new(), name: None };
        let schema = &self.project.schema;
        let table = &schema.tables[found.table];
        if let Some(name) = &request.name {
            let label = table.label.ok_or_else(|| Error::Usage {
                message: format!("the records of `{}` have no name for people", table.name),
                help: "say in the schema which field names them: label = \"FIELD\"".into(),
            })?;
            let Layout::Whole(rule) = table.fields[label].layout else { return Ok(out) };
            match table.rules[rule].text {
                Some(_) => out.name = Some(name.clone()),
                None => out.fields.push((label, vec![name.clone()])),
            }
        }
        let mut assignments: Vec<Assignment> = Vec::new();
        for value in &request.values {
            match Argument::parse(value)? {
                Argument::Assignment(assignment) => assignments.push(assignment),
                Argument::Name(name) => {
                    return Err(Error::Usage {
                        message: format!("`{name}` says nothing of a field"),
                        help: "what the copy holds is written FIELD=VALUE".into(),
                    });
                }
            }
        }
        if assignments.is_empty() {
            return Ok(out);
        }
        let mut targets = Vec::new();
        for assignment in &assignments {
            targets.push((finder.field(found.table, &assignment.left)?, assignment.action.clone()));
        }
        let rows = finder.rows(found.table)?;
        let mut values = FieldValues::new(self.project, finder, &rows, 1);
        let prepared: Vec<_> = targets
            .iter()
            .map(|(target, action)| values.prepare(target, action))
            .collect::<Result<_, Error>>()?;
        let row =
            rows.find(&found.key).ok_or_else(|| Error::refused("the record is gone", "run it again"))?;
        let mut state = values.of_row(row);
        for one in &prepared {
            state.apply(one)?;
        }
        out.fields.extend(state.set());
        out.rows = Some(rows);
        Ok(out)
    }

    /// The edits that make the copies of `seen`, which stand in one text, of that text.
    fn edits(
        &self,
        path: &RelPath,
        text: &Text<'_>,
        seen: &[Seen],
        own: &mut OwnValues,
        unused: &mut UnusedValues,
    ) -> Result<Vec<Edit>, Error> {
        let schema = &self.project.schema;
        let refused = |reason: String| {
            Error::refused(format!("`{path}`: {reason}"), "choose another key; nothing was changed")
        };
        let mut rewrites: Vec<Rewrite> = seen.iter().flat_map(|one| one.rewrites.iter().cloned()).collect();
        let mut edits = Vec::new();
        for one in seen.iter().filter(|one| self.is_own(one.table, one.key.as_ref())) {
            let table = &schema.tables[one.table];
            let is_main = one.table == own.table && self.is_main(one);
            let mut given: Vec<(usize, Vec<String>)> = Vec::new();
            if is_main {
                given.clone_from(&own.fields);
            }
            let taken: Vec<usize> = given
                .iter()
                .map(|(field, _)| *field)
                .chain(one.rewrites.iter().map(|rewrite| rewrite.field))
                .collect();
            let mut more = self.of_copy(table, one, &taken, unused)?;
            let over = self.overrides(one, path)?;
            more.extend(over.into_iter().filter(|(field, _)| !given.iter().any(|(own, _)| own == field)));
            if let (Some(name), Some(Texts::File(field))) = (&own.name, &table.texts) {
                let is_main_language =
                    table.language_of(path) == schema.languages.first().map(String::as_str);
                if is_main_language && self.names_main(one, own.table) {
                    more.push((*field, vec![name.clone()]));
                }
            }
            rewrites.retain(|rewrite| {
                let inside =
                    one.span.start <= rewrite.cell.span.start && rewrite.cell.span.end <= one.span.end;
                !(inside
                    && rewrite.table == one.table
                    && given.iter().any(|(field, _)| *field == rewrite.field))
            });
            let (wide, of_main) = match &own.rows {
                Some(rows) if is_main => (&rows.table, true),
                _ => (table, false),
            };
            if of_main || is_main {
                let values =
                    NewValues { record: one.span, key: one.key.clone(), fields: given, is_bare: false };
                edits.extend(value_edits(wide, path, text, &[values])?);
            }
            let values = NewValues { record: one.span, key: one.key.clone(), fields: more, is_bare: false };
            edits.extend(value_edits(table, path, text, &[values])?);
        }
        for of_cell in by_cell(&rewrites) {
            edits.extend(cell_edits(&schema.tables[of_cell[0].table], text, of_cell).map_err(refused)?);
        }
        Ok(edits)
    }

    /// Where a file goes that is one of the copied records and can hold no other: it is called as its record.
    fn new_file(&self, file: FileId, seen: &[Seen]) -> Result<Option<RelPath>, Error> {
        let mut own = seen.iter().filter(|one| self.is_own(one.table, one.key.as_ref()));
        let (Some(one), None, false) = (own.next(), own.next(), self.files.contains_key(&file)) else {
            return Ok(None);
        };
        let (table, path) = (&self.project.schema.tables[one.table], &self.project.stack.files()[file].path);
        if table.merged || !is_whole_file(self.project, table, file, &[one.span])? {
            return Ok(None);
        }
        let thing = Thing::Record(one.table, one.key.clone().unwrap_or_default());
        let Some(item) = self.items.iter().find(|item| item.thing == thing) else { return Ok(None) };
        let (old, new) = (last_part(one.key.as_deref().unwrap_or_default()), last_part(&item.new));
        let stem = replaced_word(path.stem(), old, new).unwrap_or_else(|| new.to_owned());
        let to =
            path.with_stem(&stem).map_err(|error| Error::refused(error.to_string(), "choose another key"))?;
        Ok(Some(to))
    }

    /// Leaves of records that several layers have a part of the lowest one, which the others are put over.
    fn keep_lowest(&self, by_file: &mut BTreeMap<FileId, Vec<Seen>>) {
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let mut lowest: HashMap<(TableId, String), crate::layers::LayerId> = HashMap::new();
        for (file, seen) in by_file.iter() {
            let layer = stack.files()[*file].layer;
            for one in seen.iter().filter(|one| schema.tables[one.table].merged) {
                if let Some(key) = &one.key {
                    let known = lowest.entry((one.table, key.clone())).or_insert(layer);
                    *known = layer.min(*known);
                }
            }
        }
        for (file, seen) in by_file.iter_mut() {
            let layer = stack.files()[*file].layer;
            seen.retain(|one| {
                let key = one.key.clone().map(|key| (one.table, key));
                key.and_then(|key| lowest.get(&key)).is_none_or(|lowest| *lowest == layer)
            });
        }
        by_file.retain(|_, seen| !seen.is_empty());
    }

    /// What higher layers say of a record in place of the file at `path`.
    fn overrides(&self, one: &Seen, path: &RelPath) -> Result<Vec<(usize, Vec<String>)>, Error> {
        let table = &self.project.schema.tables[one.table];
        let Some(key) = one.key.as_deref().filter(|_| table.merged) else { return Ok(Vec::new()) };
        let rows = Rows::read(self.project.view(), one.table, &crate::links::Labels::default())?;
        let Some(row) = rows.find(key) else { return Ok(Vec::new()) };
        let stack = &self.project.stack;
        let lowest = rows
            .paths
            .keys()
            .filter(|file| stack.files()[**file].path == *path)
            .min_by_key(|file| stack.files()[**file].layer);
        let cells = row.cells.iter().enumerate().filter_map(|(column, cell)| {
            let cell = cell.as_ref().filter(|cell| Some(&cell.file) != lowest)?;
            let field = table.field_at(&rows.table.fields[rows.fields[column]].column)?;
            Some((field, cell.values().map(str::to_owned).collect()))
        });
        Ok(cells.filter(|(field, _)| !table.is_key_field(*field)).collect())
    }

    /// Whether this is the record that was asked for.
    fn is_main(&self, one: &Seen) -> bool {
        let first = self.items.iter().find_map(|item| match &item.thing {
            Thing::Record(table, key) if *table == one.table => Some(key),
            _ => None,
        });
        first == one.key.as_ref()
    }

    /// Whether a text is the one that names the record that was asked for.
    fn names_main(&self, one: &Seen, main: TableId) -> bool {
        let table = &self.project.schema.tables[main];
        let Some(Layout::Whole(rule)) = table.label.map(|label| &table.fields[label].layout) else {
            return false;
        };
        let field = table.rules[*rule].field;
        let value = self.items.iter().find_map(|item| match (&item.thing, &table.fields[field].follows) {
            (Thing::Record(own, key), Some(follows)) if *own == main => {
                Some(follows.fill_one(last_part(key)))
            }
            _ => None,
        });
        let text = value.zip(table.rules[*rule].text.as_ref()).map(|(value, text)| text.fill_one(&value));
        text.as_ref() == one.key.as_ref()
    }

    /// What a copy does not take over: notes for people go, and what no two records may have alike is another one.
    fn of_copy(
        &self,
        table: &Table,
        one: &Seen,
        taken: &[usize],
        unused: &mut UnusedValues,
    ) -> Result<Vec<(usize, Vec<String>)>, Error> {
        let mut out = Vec::new();
        for (at, field) in table.fields.iter().enumerate() {
            if taken.contains(&at) || table.is_key_field(at) {
                continue;
            }
            let Layout::Whole(rule) = field.layout else { continue };
            if field.note {
                out.push((at, Vec::new()));
            } else if table.rules[rule].unique
                && let Some(value) = unused.next(self.project, one.table, &field.name)?
            {
                out.push((at, vec![value]));
            }
        }
        // A field that the record does not have stays away.
        let present = self.present(one)?;
        out.retain(|(field, _)| present.contains(field));
        Ok(out)
    }

    /// The fields that a record has something in that is not none.
    fn present(&self, one: &Seen) -> Result<HashSet<usize>, Error> {
        let table = &self.project.schema.tables[one.table];
        let Some(key) = &one.key else { return Ok(HashSet::new()) };
        let found = crate::links::find_records(self.project.view(), Some(one.table), &shown_key(key))?;
        let place = found.iter().flat_map(|found| &found.places).find(|place| place.span == one.span);
        let Some(place) = place else { return Ok(HashSet::new()) };
        let path = &self.project.stack.files()[place.file].path;
        let record = crate::reading::with_text(&self.project.stack, place.file, |text| {
            crate::tables::read_at(table, path, text, place.span)
        })?;
        let is_some = |value: &crate::tables::Value| {
            let rule = table.fields[value.field].layout.rules()[0];
            !table.rules[rule].is_none(&value.text)
        };
        let values = record.into_iter().flat_map(|record| record.values);
        Ok(values.filter(|value| is_some(value)).map(|value| value.field).collect())
    }

    fn copy_file(
        &mut self,
        file: FileId,
        to: &RelPath,
        seen: &[Seen],
        own: &mut OwnValues,
        unused: &mut UnusedValues,
    ) -> Result<(), Error> {
        let path = self.project.stack.files()[file].path.clone();
        self.builder.note(Note::FileCopied(path.to_string(), to.to_string()));
        if seen.is_empty() {
            return self.builder.copy_to(file, to);
        }
        let bytes = self.builder.bytes(file)?.to_vec();
        let loaded = crate::text::LoadedText::new(bytes, self.project.stack.files()[file].encoding);
        let text = loaded.text();
        let edits = self.edits(&path, &text, seen, own, unused)?;
        let broken = || Error::refused(format!("the edits do not fit `{path}`"), "nothing was changed");
        let edits = EditSet::new(edits).map_err(|_| broken())?;
        if edits.is_empty() {
            return self.builder.copy_to(file, to);
        }
        let after = edits.apply(text.as_str().as_bytes()).map_err(|_| broken())?;
        let after = String::from_utf8(after).map_err(|_| broken())?;
        self.builder.create(to, &after, Some(file))
    }

    /// Puts the copies of the records in a file behind the originals.
    fn copy_records(
        &mut self,
        file: FileId,
        seen: Vec<Seen>,
        own: &mut OwnValues,
        unused: &mut UnusedValues,
    ) -> Result<(), Error> {
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let entry = &stack.files()[file];
        let path = &entry.path;
        let refused = |reason: String| {
            Error::refused(format!("`{path}`: {reason}"), "choose another key; nothing was changed")
        };
        let mut outer: Vec<(TableId, Span)> = Vec::new();
        for one in seen.iter().filter(|one| self.is_own(one.table, one.key.as_ref())) {
            let around = |other: &&Seen| {
                other.span != one.span
                    && other.span.start <= one.span.start
                    && one.span.end <= other.span.end
                    && self.is_own(other.table, other.key.as_ref())
            };
            if !seen.iter().any(|other| around(&other)) && !outer.contains(&(one.table, one.span)) {
                outer.push((one.table, one.span));
            }
        }
        let bytes = self.builder.bytes(file)?.to_vec();
        let loaded = crate::text::LoadedText::new(bytes, entry.encoding);
        let text = loaded.text();
        let edits = EditSet::new(self.edits(path, &text, &seen, own, unused)?)
            .map_err(|error| refused(error.to_string()))?;
        let Some((first, _)) = outer.first() else { return Ok(()) };
        let format = &schema.tables[*first].format;
        let from = format.editor(&text);
        let from = from.ok_or_else(|| refused("nothing in it can be edited".to_owned()))?;
        let mut entries = Vec::new();
        for (id, span) in &outer {
            let table = &schema.tables[*id];
            let key = super::overlay::key_columns(table);
            let part = Part { record: *span, edits: &edits, whole: true, notes: false, key: &key };
            entries.push((*span, from.take(&part).map_err(refused)?));
        }
        let mut behind = ends_of_runs(&schema.tables[*first], path, &text, &outer);
        for one in seen.iter().filter(|one| self.is_own(one.table, one.key.as_ref())) {
            if let Some(last) = self.end_of_group(one, path, &text) {
                behind.insert(one.span, last);
            }
        }
        let is_over = entry.merged && !stack.layers()[entry.layer].is_mod && format.adds().is_some();
        if !is_over {
            return self.builder.edit_with(file, |text, pending| {
                let Some(mut to) = format.editor(text) else { return Ok(Vec::new()) };
                to.expect_edits(pending);
                for (span, entry) in &entries {
                    to.insert(entry, Place::After(*behind.get(span).unwrap_or(span))).map_err(refused)?;
                }
                Ok(to.finish())
            });
        }
        let put = |above: &Text<'_>, pending: &EditSet| {
            let Some(mut to) = format.editor(above) else { return Ok(Vec::new()) };
            to.expect_edits(pending);
            for (_, entry) in &entries {
                to.insert(entry, Place::Last).map_err(refused)?;
            }
            Ok(to.finish())
        };
        match stack.find(stack.top(), path) {
            Some(target) => self.builder.edit_with(target, put),
            None => {
                let new = EditSet::new(put(&Text::of_str(""), &EditSet::default())?);
                let new = new.ok().and_then(|edits| edits.apply(b"").ok()).unwrap_or_default();
                self.builder.create(path, &String::from_utf8_lossy(&new), Some(file))
            }
        }
    }

    /// The last record whose key begins as that of the copy does, where the original's begins in another way.
    fn end_of_group(&self, one: &Seen, path: &RelPath, text: &Text<'_>) -> Option<Span> {
        let old = one.key.as_ref()?;
        let thing = Thing::Record(one.table, old.clone());
        let new = &self.items.iter().find(|item| item.thing == thing)?.new;
        let (group, _) = new.rsplit_once(KEY_SEPARATOR)?;
        let is_other = old.rsplit_once(KEY_SEPARATOR).is_none_or(|(own, _)| own != group);
        let records = || crate::tables::read_all(&self.project.schema.tables[one.table], path, text);
        let is_in = |record: &crate::tables::Record| {
            let key = record.key.as_deref().and_then(|key| key.rsplit_once(KEY_SEPARATOR));
            key.is_some_and(|(own, _)| own == group)
        };
        is_other.then(records)?.into_iter().rfind(is_in).map(|record| record.span)
    }

    /// Puts the copy into lists that have the original, directly behind it.
    fn join(&mut self, outside: Vec<(FileId, Seen)>, join: &Join) -> Result<(), Error> {
        let schema = &self.project.schema;
        let mut by_table: BTreeMap<TableId, BTreeMap<FileId, Vec<NewValues>>> = BTreeMap::new();
        let mut left = 0;
        for (file, one) in outside {
            let table = &schema.tables[one.table];
            let mut fields: Vec<(usize, Vec<String>)> = Vec::new();
            for rewrite in &one.rewrites {
                let field = &table.fields[rewrite.field];
                if field.list.is_none() && !field.column.ends_with("[*]") {
                    continue;
                }
                let name = format!("{}.{}", table.name, field.name);
                let short = name.strip_suffix("[*]").unwrap_or(&name);
                let wanted = match join {
                    Join::None => false,
                    Join::All => true,
                    Join::Fields(names) => names.iter().any(|own| *own == name || own == short),
                };
                if !wanted {
                    left += 1;
                    continue;
                }
                if let Some(values) = self.joined(file, one.span, table, rewrite)? {
                    fields.retain(|(field, _)| *field != rewrite.field);
                    fields.push((rewrite.field, values));
                }
            }
            if !fields.is_empty() {
                let address = Address::show(&table.name, one.key.as_deref().unwrap_or_default());
                for (field, _) in &fields {
                    self.builder.note(Note::Joined(format!("{address}.{}", table.fields[*field].name)));
                }
                let values = NewValues { record: one.span, key: one.key.clone(), fields, is_bare: false };
                by_table.entry(one.table).or_default().entry(file).or_default().push(values);
            }
        }
        if let Join::Fields(names) = join {
            for name in names {
                let (table, field) = name.split_once('.').unwrap_or((name, ""));
                let described = &schema.tables[crate::links::find_table(schema, table)?];
                let known = |own: &str| described.field(own).is_some();
                if !known(field) && !known(&format!("{field}[*]")) {
                    return Err(Error::Unknown {
                        what: "field",
                        name: name.clone(),
                        help: NextStep::ListFields(described.name.clone()).into(),
                    });
                }
            }
        }
        if left > 0 {
            self.builder.note(Note::NotJoined(left));
        }
        for (table, by_file) in by_table {
            write_values(self.project, &mut self.builder, &schema.tables[table], by_file)?;
        }
        Ok(())
    }

    /// The values of a list with the copy behind the original.
    fn joined(
        &self,
        file: FileId,
        record: Span,
        table: &Table,
        rewrite: &Rewrite,
    ) -> Result<Option<Vec<String>>, Error> {
        let path = &self.project.stack.files()[file].path;
        let field = &table.fields[rewrite.field];
        let found = crate::reading::with_text(&self.project.stack, file, |text| {
            crate::tables::read_at(table, path, text, record)
        })?;
        let Some(found) = found else { return Ok(None) };
        let mut out = Vec::new();
        for value in found.values.iter().filter(|value| value.field == rewrite.field) {
            let is_here = value.span == rewrite.cell.span;
            match ListValue::new(table, field, &value.text, None) {
                Some(mut list) if is_here => {
                    let place = std::slice::from_ref(&rewrite.within);
                    let at = list.items_around(place).first().copied();
                    let item = at.and_then(|at| list.items().into_iter().nth(at));
                    if let (Some(at), Some(item)) = (at, item) {
                        let old = &value.text[rewrite.within.clone()];
                        let refused = |reason: String| Error::refused(reason, "nothing was changed");
                        list.insert(at + 1, &item.replacen(old, &rewrite.new, 1)).map_err(refused)?;
                    }
                    out.push(list.into_value());
                }
                None if is_here => out.extend([value.text.clone(), rewrite.new.clone()]),
                _ => out.push(value.text.clone()),
            }
        }
        Ok(Some(out))
    }

    /// Tells what came along, and what is as in the original and perhaps should not be.
    fn tell(
        &mut self,
        found: &Found,
        new_key: &str,
        request: &CopyRequest,
        copied: &HashSet<(TableId, String)>,
        set: &[usize],
    ) -> Result<(), Error> {
        let schema = &self.project.schema;
        for item in &self.items {
            if let Thing::Record(table, old) = &item.thing
                && !(*table == found.table && *old == found.key)
                && copied.contains(&(*table, old.clone()))
            {
                self.builder.note(Note::CameAlong(Address::show(&schema.tables[*table].name, &item.new)));
            }
        }
        if schema.tables[found.table].texts.is_none() {
            self.tell_what_is_same(found, new_key, set)?;
        }
        let is_text = |(table, _): &&(TableId, String)| schema.tables[*table].texts.is_some();
        let texts = copied.iter().filter(is_text).count();
        let others = schema.languages.len().saturating_sub(usize::from(request.name.is_some()));
        if texts > 0 && others > 0 {
            self.builder.note(Note::TextsToWrite(texts));
        }
        Ok(())
    }

    /// Tells in which fields the copy has what the original has, though nearly all records differ in them. The fields `set`
    /// are as the user wants them.
    fn tell_what_is_same(&mut self, found: &Found, new_key: &str, set: &[usize]) -> Result<(), Error> {
        let rows = Rows::read(self.project.view(), found.table, &crate::links::Labels::default())?;
        let Some(row) = rows.find(&found.key) else { return Ok(()) };
        let mut same = Vec::new();
        for (column, name) in rows.columns.iter().enumerate() {
            let at = rows.fields[column];
            let field = &rows.table.fields[at];
            let is_unique = field.layout.rules().iter().any(|rule| rows.table.rules[*rule].unique);
            let changes = rows.table.is_key_field(at)
                || field.follows.is_some()
                || field.note
                || is_unique
                || set.contains(&at);
            if !changes && row.cells[column].is_some() && is_mostly_different(&rows, column) {
                same.push(name.clone());
            }
        }
        if !same.is_empty() {
            let address = Address::show(&rows.table.name, new_key);
            self.builder.note(Note::SameAsOriginal(address, same.join(", ")));
        }
        Ok(())
    }
}

/// For each of the records at `places` the last one of those that stand directly behind one another: their copies keep
/// together behind it.
fn ends_of_runs(
    table: &Table,
    path: &RelPath,
    text: &Text<'_>,
    places: &[(TableId, Span)],
) -> HashMap<Span, Span> {
    struct Spans(Vec<Span>);
    impl RecordVisitor for Spans {
        fn record(&mut self, record: &RecordView<'_>) {
            self.0.push(record.span);
        }
    }
    let mut all = Spans(Vec::new());
    read_records(table, path, text, &[], &mut all);
    let own: HashSet<Span> = places.iter().map(|(_, span)| *span).collect();
    let mut out = HashMap::new();
    let mut last = None;
    for span in all.0.into_iter().rev() {
        last = own.contains(&span).then(|| last.unwrap_or(span));
        out.extend(last.map(|last| (span, last)));
    }
    out
}

/// What the request says of the copy of the record that was asked for.
struct OwnValues {
    table: TableId,
    /// The rows in whose table the fields are, if they may be others than those of the schema.
    rows: Option<std::sync::Arc<Rows>>,
    fields: Vec<(usize, Vec<String>)>,
    /// What its text in the main language says.
    name: Option<String>,
}

/// Whether the records of `table` whose key has a reference belong to what that refers to.
fn key_belongs(schema: &Schema, table: TableId) -> bool {
    let described = &schema.tables[table];
    let of_key = |rule: &usize| described.is_key_field(described.rules[*rule].field);
    (0..described.rules.len()).filter(of_key).any(|rule| belongs_by(schema, table, rule))
}

/// The last part of a key.
fn last_part(key: &str) -> &str {
    key.rsplit(KEY_SEPARATOR).next().unwrap_or(key)
}

/// `text` with `new` in place of `old`, where that stands in it as a whole word; `_` ends a word too.
fn replaced_word(text: &str, old: &str, new: &str) -> Option<String> {
    let is_end = |next: Option<char>| next.is_none_or(|next| !next.is_alphanumeric());
    let at = text.match_indices(old).map(|(at, _)| at).find(|at| {
        !old.is_empty()
            && is_end(text[..*at].chars().next_back())
            && is_end(text[at + old.len()..].chars().next())
    })?;
    Some(format!("{}{new}{}", &text[..at], &text[at + old.len()..]))
}

/// Whether nearly all records have another value in `column`.
fn is_mostly_different(rows: &Rows, column: usize) -> bool {
    const FEWEST: usize = 5;
    let values: Vec<_> = rows
        .rows
        .iter()
        .filter(|row| row.cells[column].is_some())
        .map(|row| row.text(column))
        .filter(|text| !text.is_empty())
        .collect();
    let different: HashSet<&str> = values.iter().map(AsRef::as_ref).collect();
    values.len() >= FEWEST && different.len() * 10 >= values.len() * 9
}
