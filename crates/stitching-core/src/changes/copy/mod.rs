//! Copying a record with all that belongs to it, under a new name.
//!
//! What a rename would rewrite in the record, and in what belongs to it, is rewritten in the copies; what refers to it from
//! elsewhere goes on meaning the original.

mod arrival;
mod entries;
mod from_other;
mod join;
mod tell;
mod values;

use super::builder::Builder;
use super::change::{Change, Note};
use super::mentions::follow_in_copies;
use super::own_records::{find_table, resolve};
use super::record_finder::RecordFinder;
use super::record_place::{NEW, RecordPlace, Side, beside, last_of_group, last_position};
use super::rename::{
    Hit, Item, ItemIndex, Moves, Visitor, companions, named_by_path, new_key, plan, refuse_duplicates,
    refuse_taken, unfit,
};
use super::reorder::then_beside;
use super::rewrite::Rewrite;
use super::unused_values::UnusedValues;
use crate::Error;
use crate::formats::Place;
use crate::layers::{FileId, RelPath};
use crate::links::{Address, Found, Labels, Thing, belongs_by, second_identifiers, wanted};
use crate::project::Project;
use crate::reading::scan;
use crate::rows::Rows;
use crate::schema::{KeyPart, Schema, TableId};
use crate::tables::{KEY_SEPARATOR, RecordView, shown_key};
use crate::text::{Span, with_word_replaced};
use crate::views::{FreeRequest, free};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap, HashSet};

/// What is to be copied.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
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
    /// Where it stands: behind the original, or those of its group, or beside the record with a key.
    #[serde(default)]
    pub place: RecordPlace,
    /// Where the original is, if not in this project as it is.
    #[serde(default)]
    pub from: Option<CopySource>,
    /// The places in the copies (`path:line`, or `all`) that speak of the original outside of what the schema says, and get the
    /// new name too.
    #[serde(default)]
    pub also: Vec<String>,
}

/// Another layer or project that a record is copied from.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct CopySource {
    /// The name of a layer, or the path of a project, folder or archive.
    pub name: String,
    /// What becomes of references to records that this project lacks.
    pub lacking: Lacking,
}

/// What becomes of references of a copy to records that its new project lacks.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum Lacking {
    /// There must be none.
    #[default]
    Refuse,
    /// These records come along, with what they refer to.
    Bring,
    /// They lead nowhere.
    Leave,
}

/// Which lists that have the original of a copy get the copy too, directly behind it.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum Join {
    /// None.
    #[default]
    None,
    /// All.
    All,
    /// Those of these fields: `table.field`.
    Fields(Vec<String>),
}

impl Join {
    /// What words say: "all", "none" or nothing, or fields as `table.field`.
    pub fn of_words(words: &[String]) -> Join {
        match words.iter().map(String::as_str).collect::<Vec<_>>()[..] {
            [] | ["none"] => Join::None,
            ["all"] => Join::All,
            _ => Join::Fields(words.to_vec()),
        }
    }
}

/// Builds the change that copies a record with all that belongs to it.
///
/// # Errors
/// When the address names no record or several, when the new key is taken or not valid, when something cannot be written,
/// or when a file would collide with another.
pub fn copy(project: &Project, request: &CopyRequest) -> Result<Change, Error> {
    if let Some(source) = &request.from {
        return from_other::copy_from(project, source, request);
    }
    let schema = &project.schema;
    let found = original(project, &request.address)?;
    let table = &schema.tables[found.table];
    let wanted = Address::new_key(schema, found.table, &found.key, &request.new)?;
    let counted = table.key.contains(&KeyPart::Position);
    let has_place = request.place != RecordPlace::Fitting;
    // Only these ask for the other records.
    let rows = match counted || has_place {
        true => Some(Rows::read(project.view(), found.table, &Labels::default())?),
        false => None,
    };
    let beside = rows.as_ref().map(|rows| beside(rows, &request.place)).transpose()?.flatten();
    let new_key = if let (true, Some(rows)) = (counted, &rows) {
        last_position(rows, &found.key, &wanted, found.places[0].file)?
    } else {
        let new = free_key(project, &found, &wanted)?;
        let new_key = new_key(table, &found.key, &new)?;
        refuse_taken(project, found.table, &found.key, &new_key, &new)?;
        new_key
    };
    let from = Address::show(&table.name, &found.key);
    // Where the position is the name, it is known only when the copy is at its place.
    let title = match beside.filter(|_| counted) {
        Some((row, Side::Before)) => format!("copy {from} before {}", row.shown_key()),
        Some((row, Side::After)) => format!("copy {from} behind {}", row.shown_key()),
        None => format!("copy {from} to {}", shown_key(&new_key)),
    };
    let mut without = HashSet::new();
    for name in &request.without {
        without.insert(find_table(schema, name)?);
    }
    let mut work = Work {
        project,
        finder: RecordFinder::new(project),
        builder: Builder::new(project, title),
        items: Vec::new(),
        pending: Vec::new(),
        known: HashMap::new(),
        files: BTreeMap::new(),
        without,
        place: None,
        main: Thing::Record(found.table, found.key.clone()),
        second_identifiers: (0..schema.tables.len()).map(|table| second_identifiers(schema, table)).collect(),
    };
    work.place = match (&rows, beside) {
        (Some(rows), _) if counted => {
            last_of_group(rows, &new_key, found.places[0].file).map(|last| Place::After(last.span))
        }
        (_, beside) => beside.map(|(row, side)| side.of(row.span)),
    };
    work.add_record(&found, &new_key)?;
    while !work.pending.is_empty() {
        work.round()?;
    }
    let names = work.new_names();
    let change = work.finish(&found, &new_key, request)?;
    match beside.filter(|_| counted) {
        Some((row, side)) => then_beside(project, change, found.table, &[new_key], (&row.shown_key(), side)),
        None => follow_in_copies(project, change, &request.also, &names),
    }
}

/// The record that is to be copied.
///
/// # Errors
/// When the address names none, several, or a field.
fn original(project: &Project, address: &str) -> Result<Found, Error> {
    let found = resolve(project.view(), address)?;
    if found.field.is_some() {
        let record = Address::show(&project.schema.tables[found.table].name, &found.key);
        return Err(Error::Usage {
            message: format!("`{address}` names a field, and records are copied"),
            help: format!("name the record: {record}").into(),
        });
    }
    refuse_duplicates(project, &found)?;
    Ok(found)
}

/// The key asked for, with what is free in place of `new`.
fn free_key(project: &Project, found: &Found, wanted: &str) -> Result<String, Error> {
    let table = &project.schema.tables[found.table];
    let parts: Vec<&str> = if table.key.len() == 1 { vec![wanted] } else { wanted.split('/').collect() };
    let Some(at) = parts.iter().position(|part| *part == NEW) else { return Ok(wanted.to_owned()) };
    let old = found.key.split(KEY_SEPARATOR).nth(at).unwrap_or_default();
    let Some(KeyPart::Field(field)) = table.key.get(at) else {
        let near = FreeRequest { near: Some(old.to_owned()), count: 1, ..FreeRequest::default() };
        let name = free(project.view(), found.table, &near)?.values.into_iter().next().map(|(_, name)| name);
        let name = name.as_deref().unwrap_or(NEW);
        let parts = parts.iter().enumerate().map(|(own, part)| if own == at { name } else { part });
        return Ok(parts.collect::<Vec<_>>().join("/"));
    };
    let name = &table.fields[*field].name;
    let reserved = project.schema.reserved_numbers(found.table, name);
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
        block: reserved,
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

/// What one record has to do with what is copied.
struct Seen {
    table: TableId,
    span: Span,
    key: Option<String>,
    rewrites: Vec<Rewrite>,
    also: Vec<Item>,
    /// What cannot be rewritten, and why.
    unfit: Vec<(Span, String)>,
}

struct Work<'p> {
    project: &'p Project,
    finder: RecordFinder<'p>,
    builder: Builder<'p>,
    /// All that is copied, with its new name.
    items: Vec<Item>,
    /// What was added last.
    pending: Vec<Item>,
    /// The same by what is copied.
    known: HashMap<Thing, String>,
    /// The files that are copied as a whole, and to where.
    files: BTreeMap<FileId, RelPath>,
    without: HashSet<TableId>,
    /// The record that is asked for, and where its copy stands if not behind it.
    main: Thing,
    place: Option<Place>,
    second_identifiers: Vec<Vec<usize>>,
}

impl<'p> Work<'p> {
    fn add_record(&mut self, found: &Found, new_key: &str) -> Result<(), Error> {
        let table = &self.project.schema.tables[found.table];
        let thing = Thing::Record(found.table, found.key.clone());
        if table.texts.is_some() {
            return self.add(Item::new(Thing::Text(found.key.clone()), new_key.to_owned()));
        }
        if table.is_keyed_by_path() {
            let file = found.places[0].file;
            let moves = Moves::for_key(self.project, found.table, &[file], &found.key, new_key)?;
            for item in self.copied_files(moves) {
                self.add(item)?;
            }
        }
        self.add(Item::new(thing, new_key.to_owned()))
    }

    /// Puts a thing on the list, unless it is there, with what follows from it.
    fn add(&mut self, item: Item) -> Result<(), Error> {
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let left_out = matches!(&item.thing, Thing::Record(table, _) if self.without.contains(table));
        if left_out || self.known.contains_key(&item.thing) {
            return Ok(());
        }
        self.known.insert(item.thing.clone(), item.new.clone());
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
                // A file that is there already stays as it is.
                let is_there =
                    stack.effective(stack.top()).into_iter().any(|id| stack.files()[id].path == new);
                if let (Some(file), false) = (file, is_there) {
                    self.files.insert(file, new.clone());
                } else if is_there {
                    self.builder.note(Note::FileKept(new.to_string()));
                }
                if !is_there {
                    for item in named_by_path(self.project, old, &new)? {
                        self.add(item)?;
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

    /// The names of what is copied, and those of the copies.
    fn new_names(&self) -> BTreeMap<String, String> {
        let mut out = BTreeMap::new();
        for item in &self.items {
            match &item.thing {
                Thing::Record(_, old) => {
                    let parts = old.split(KEY_SEPARATOR).zip(item.new.split(KEY_SEPARATOR));
                    out.extend(parts.map(|(old, new)| (old.to_owned(), new.to_owned())));
                }
                Thing::Text(old) => drop(out.insert(old.clone(), item.new.clone())),
                Thing::File(_) | Thing::Column(..) => {}
            }
        }
        out.retain(|old, new| old != new);
        out
    }

    fn is_own(&self, table: TableId, key: Option<&String>) -> bool {
        key.is_some_and(|key| self.known.contains_key(&Thing::Record(table, key.clone())))
    }

    /// What all records have to do with `items`, by file.
    fn look(&self, items: &[Item]) -> Result<Vec<(FileId, Vec<Seen>)>, Error> {
        let schema = &self.project.schema;
        let things: Vec<Thing> = items.iter().map(|item| item.thing.clone()).collect();
        let wanted = wanted(schema, &things);
        let plan: Vec<_> =
            (0..schema.tables.len()).map(|table| plan(schema, table, items, &wanted)).collect();
        let index = ItemIndex::new(schema, items);
        let copied = self.files.iter();
        let moved =
            copied.map(|(file, new)| (self.project.stack.files()[*file].path.clone(), new.clone())).collect();
        let look = |table: TableId, record: &RecordView<'_>, out: &mut Vec<Seen>| {
            let mut hits: Vec<Hit> = Vec::new();
            let second_identifiers = &self.second_identifiers[table];
            let visitor = Visitor {
                moved: &moved,
                schema,
                items: &index,
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
            let (rewrites, also, unfit) = (Vec::new(), Vec::new(), Vec::new());
            let mut seen = Seen { table, span: record.span, key, rewrites, also, unfit };
            for hit in hits {
                match hit {
                    Hit::Rewrite(rewrite) => seen.rewrites.push(rewrite),
                    Hit::Also(item) => seen.also.push(item),
                    Hit::Unfit(span, reason) => seen.unfit.push((span, reason)),
                    // The original keeps its own.
                    Hit::IfAlone(_) => {}
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
        let mut next = self.files_that_belong(&items)?;
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

    /// The files that belong to some of `items` by their paths, with the paths of the copies.
    fn files_that_belong(&self, items: &[Item]) -> Result<Vec<Item>, Error> {
        let schema = &self.project.schema;
        let things: Vec<Thing> = items.iter().map(|item| item.thing.clone()).collect();
        let wanted = wanted(schema, &things);
        let belongs =
            |table: TableId, rule: usize| !self.without.contains(&table) && belongs_by(schema, table, rule);
        let moves = Moves::in_paths(self.project, items, &wanted, &HashMap::new(), &belongs)?;
        Ok(self.copied_files(moves))
    }

    /// The files that are copied to where `moves` has them.
    fn copied_files(&self, moves: Moves) -> Vec<Item> {
        let (files, _) = moves.all(self.project);
        let path = |file: FileId| self.project.stack.files()[file].path.clone();
        files.into_iter().map(|(file, new)| Item::new(Thing::File(path(file)), new)).collect()
    }

    /// A new key for a record that belongs to what is copied and has a name of its own: its name with the new name in
    /// place of the old one, or the next free one.
    fn derived_key(&self, table: TableId, key: &str) -> Result<String, Error> {
        let described = &self.project.schema.tables[table];
        let named = self.items.iter().find_map(|item| match &item.thing {
            Thing::Record(_, old) => with_word_replaced(key, last_part(old), last_part(&item.new)),
            _ => None,
        });
        if let Some(new) = named
            && refuse_taken(self.project, table, key, &new, &shown_key(&new)).is_ok()
        {
            return Ok(new);
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
        let mut own_values = self.values_of_main(found, request)?;
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
                    if let Some((span, reason)) = one.unfit.first() {
                        return Err(unfit(project, file, *span, reason));
                    }
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
        own_values.refuse_unnamed(&project.schema)?;
        self.join(outside, &request.join)?;
        let set: Vec<usize> = own_values.fields.iter().map(|(field, _)| *field).collect();
        self.tell(found, new_key, request, &copied, &set)?;
        self.builder.finish()
    }
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
