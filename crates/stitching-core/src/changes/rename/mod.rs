//! Renaming a record, or a second identifier of it, everywhere.
//!
//! A rename is a list of things that get a new name ([`Thing`]): at first the record; then what
//! carries its key by the schema (a text key, a file); then records whose own key has the renamed
//! value as a part. Each round looks through all files for what points to the things found last,
//! until nothing new turns up. Only then are the edits made, so that a value touched in two rounds
//! is rewritten once.
//!
//! **Limitations.** A file of the base cannot be moved, only copied under its new name. If it refers to
//! what is renamed, the mod gets a copy under the old name too, so that nothing dangles.

mod folder;
mod many;
mod paths;
mod refusals;
mod second_identifier;
mod visitor;

pub use self::folder::rename_folder;
pub use self::many::{NewKeys, rename_many};
use self::paths::is_in_path;
pub(super) use self::paths::{Moves, key_of_path, named_by_path, path_for_key};
use self::refusals::usage;
pub(super) use self::refusals::{new_key, refuse_duplicates, refuse_taken};
pub(super) use self::second_identifier::rename_values;
pub(super) use self::visitor::{ItemIndex, Visitor};
use super::belongings::folders_within;
use super::builder::Builder;
use super::change::{Change, Note};
use super::overlay::{ByFile, add_over, take_overlaid};
use super::rewrite::{Rewrite, by_cell, cell_edits, changed_meanwhile};
use crate::Error;
use crate::layers::{FileId, RelPath};
use crate::links::{
    Address, Found, ReferenceMatcher, Thing, find_by_keys, resolve, second_identifiers, things_of, wanted,
};
use crate::project::Project;
use crate::reading::View;
use crate::reading::{FileHits, Needles, TableScan, fingerprint, load, scan};
use crate::schema::{CompanionKind, KeyPart, Schema, TableId};
use crate::tables::{KEY_SEPARATOR, RecordView, shown_key};
use crate::text::{Edit, Span, Text};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Builds the change that gives the record at `address` the key `new`, everywhere.
///
/// Nothing is written. Keys of several parts are given with `/` between them. An address with a field renames that
/// part of the key; or a second identifier, by whose values others refer to the record.
///
/// # Errors
/// When the address names no record, or a field that is no identifier, when the new key is taken, not valid, or cannot be written
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
    refuse_duplicates(project, &found)?;
    let whole = match found.field {
        None => Address::new_key(schema, found.table, &found.key, new)?,
        Some(_) => new.to_owned(),
    };
    let new = whole.as_str();
    let new_key = match found.field {
        None => new_key(table, &found.key, new)?,
        Some(field) => match table.key.iter().position(|part| *part == KeyPart::Field(field)) {
            Some(part) => new_key(table, &found.key, &with_part(&found.key, part, new))?,
            None => return second_identifier::rename(project, &found, field, new, notes),
        },
    };
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

/// Builds the change that has all references follow records which have other keys already: the table, the former and the new
/// key of each, as kept in memory. A change without files if nothing refers to them.
///
/// # Errors
/// When a reference cannot be written.
pub(super) fn follow_keys(project: &Project, moved: &[(TableId, String, String)]) -> Result<Change, Error> {
    let mut work = Work::new(project, "follow".to_owned());
    work.is_many = true;
    for (table, old, new) in moved {
        work.add(Item { key_done: true, ..Item::new(Thing::Record(*table, old.clone()), new.clone()) })?;
    }
    while !work.pending.is_empty() {
        work.round()?;
    }
    if work.rewrites.is_empty() && work.moved.is_empty() {
        return Ok(Change::default());
    }
    work.finish()
}

/// The key `old` as shown, with `new` as its part at `position`.
fn with_part(old: &str, position: usize, new: &str) -> String {
    let parts = old.split(KEY_SEPARATOR).enumerate();
    parts.map(|(at, old)| if at == position { new } else { old }).collect::<Vec<_>>().join("/")
}

/// What a record gives in one round.
pub(super) enum Hit {
    Rewrite(Rewrite),
    /// A thing that gets a new name with it.
    Also(Item),
    /// A column's value that gets a new name with it, if no other record has it.
    IfAlone(Item),
    /// The values cannot be rewritten, and why.
    Unfit(Span, String),
}

/// A thing and its new name. For records the key as kept in memory, for files the path.
#[derive(Debug, Clone)]
pub(super) struct Item {
    pub thing: Thing,
    pub new: String,
    /// What the new name is made of, where a value is what gets a new name and not what it names.
    pub value: Option<String>,
    /// Whether the key cells are already rewritten, because what they point to was renamed.
    pub key_done: bool,
    /// Whether it is still there under its old name: it is a file of a base layer, or a record named after one.
    pub stays: bool,
}

struct Work<'p> {
    project: &'p Project,
    pending: Vec<Item>,
    done: HashSet<Thing>,
    rewrites: BTreeMap<FileId, (u64, Vec<Rewrite>)>,
    builder: Builder<'p>,
    /// The files that are moved.
    moved: HashSet<FileId>,
    /// The paths that files are moved from, and those they are moved to.
    new_paths: HashMap<RelPath, RelPath>,
    /// Whether what is added over a base layer has the notes above it.
    with_notes: bool,
    /// Whether many records are renamed, so that one may get the key that another one leaves.
    is_many: bool,
    /// The keys that are to be free when all is found: the table, the new key, the old one.
    to_be_free: Vec<(TableId, String, String)>,
    /// The rules of each table by whose values others refer to its records, besides the key.
    second_identifiers: Vec<Vec<usize>>,
}

impl<'p> Work<'p> {
    fn new(project: &'p Project, title: String) -> Work<'p> {
        Work {
            project,
            pending: Vec::new(),
            done: HashSet::new(),
            rewrites: BTreeMap::new(),
            builder: Builder::new(project, title),
            moved: HashSet::new(),
            new_paths: HashMap::new(),
            with_notes: false,
            is_many: false,
            to_be_free: Vec::new(),
            second_identifiers: (0..project.schema.tables.len())
                .map(|table| second_identifiers(&project.schema, table))
                .collect(),
        }
    }

    /// Starts with a record: itself, and the text key or file it stands for.
    fn add_record(&mut self, found: &Found, new_key: &str) -> Result<(), Error> {
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let path = &stack.files()[found.places[0].file].path;
        let table = &schema.tables[found.table];
        let of_base = !self.is_in_mod(found.places[0].file);
        let in_path = is_in_path(table, &found.key, new_key);
        let stays = of_base && in_path;
        // The values of other columns stay, so nothing that refers to them changes.
        for thing in things_of(schema, found.table, &found.key, path, |_| None) {
            let new = match &thing {
                Thing::File(path) => path_for_key(table, path, &found.key, new_key)?.path,
                _ => new_key.to_owned(),
            };
            self.add(Item { stays, ..Item::new(thing, new) })?;
        }
        // A record named after its file takes the file along.
        if in_path {
            let files: Vec<FileId> = found.places.iter().map(|place| place.file).collect();
            self.take_moves(Moves::for_key(self.project, found.table, &files, &found.key, new_key)?)?;
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
                    self.add(Item { stays: item.stays, ..Item::new(thing, item.new.clone()) })?;
                }
            }
            Thing::File(old) => {
                let new = RelPath::parse(&item.new)
                    .map_err(|error| usage(error.to_string(), "choose another key"))?;
                let stays = self.move_file(old, &new)?;
                self.follow_moved_file(old, &new, stays)?;
            }
            Thing::Record(table, old) => {
                let name = &schema.tables[*table].name;
                self.builder.rename_key(name, &shown_key(old), &shown_key(&item.new));
                let companions = companions(self.project, *table, old, &item.new);
                let paths = companions.iter().filter_map(|item| match &item.thing {
                    Thing::File(path) => Some(path),
                    _ => None,
                });
                let (paths, described): (Vec<&RelPath>, _) = (paths.collect(), &schema.tables[*table]);
                let folders = schema.companions_of(*table).filter(|own| own.kind == CompanionKind::Folder);
                for folder in folders.filter_map(|folder| folder.path_for(described, old)) {
                    for folder in folders_within(&folder, &paths) {
                        self.builder.remove_folder(folder);
                    }
                }
                companions.into_iter().try_for_each(|companion| self.add(companion))?;
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
        let index = ItemIndex::new(schema, &items);
        let look = |table: TableId, record: &RecordView<'_>, hits: &mut Vec<Hit>| {
            let second_identifiers = &self.second_identifiers[table];
            let (items, wanted, moved) = (&index, &wanted, &self.new_paths);
            Visitor { schema, items, wanted, second_identifiers, moved, table, record, hits }.run();
        };
        let found = scan(View::top(stack, schema), &plan, &look)?;
        for file in found {
            self.take(file)?;
        }
        let moves = Moves::in_paths(self.project, &items, &wanted, &self.new_paths, &|_, _| true)?;
        self.take_moves(moves)
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
                Hit::IfAlone(item) => self.add_if_alone(item)?,
                Hit::Unfit(span, reason) => return Err(unfit(self.project, found.file, span, &reason)),
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

    /// Puts a column's value on the list, unless several records have it: what refers to it still finds one.
    fn add_if_alone(&mut self, item: Item) -> Result<(), Error> {
        if self.done.contains(&item.thing) {
            return Ok(());
        }
        if let Thing::Column(table, rule, old) = &item.thing
            && second_identifier::held_by_others(self.project, *table, *rule, old)?
        {
            // Many records may have it, and it is looked for once.
            self.done.insert(item.thing);
            return Ok(());
        }
        self.add(item)
    }

    fn is_in_mod(&self, file: FileId) -> bool {
        let stack = &self.project.stack;
        stack.layers()[stack.files()[file].layer].is_mod
    }

    /// Moves the effective file at `old` to `new`; gives whether it stays under its old path too, in a base layer.
    fn move_file(&mut self, old: &RelPath, new: &RelPath) -> Result<bool, Error> {
        let stack = &self.project.stack;
        let mut effective = stack.effective(stack.top()).into_iter();
        match effective.find(|id| stack.files()[*id].path == *old) {
            Some(file) => {
                self.builder.move_to(file, new)?;
                self.moved.insert(file);
                self.new_paths.insert(old.clone(), new.clone());
                Ok(!self.is_in_mod(file))
            }
            None => Ok(false),
        }
    }

    /// Refuses a key that a record of `table` has already, other than the one renamed from `old`.
    fn refuse_existing(&mut self, table: TableId, new: &str, old: &str) -> Result<(), Error> {
        if self.is_many {
            self.to_be_free.push((table, new.to_owned(), old.to_owned()));
            return Ok(());
        }
        refuse_taken(self.project, table, old, new, &shown_key(new))
    }

    /// Refuses keys that records have already which keep them.
    fn refuse_kept(&self) -> Result<(), Error> {
        let schema = &self.project.schema;
        let stay = |(table, new, _): &&(TableId, String, String)| {
            !self.done.contains(&Thing::Record(*table, new.clone()))
        };
        let wanted: HashSet<(TableId, String)> =
            self.to_be_free.iter().filter(stay).map(|(table, new, _)| (*table, new.clone())).collect();
        if wanted.is_empty() {
            return Ok(());
        }
        let there = find_by_keys(self.project.view(), &wanted)?;
        let is_there = |(table, new, _): &&(TableId, String, String)| {
            there.iter().any(|found| found.table == *table && found.key == *new)
        };
        let Some((table, new, _)) = self.to_be_free.iter().find(is_there) else { return Ok(()) };
        let shown = Address::show(&schema.tables[*table].name, new);
        let reason = format!("there is a record {shown} already, and it keeps its key");
        Err(Error::refused(reason, "choose another key; nothing was changed"))
    }

    /// Makes the edits of all files.
    fn finish(mut self) -> Result<Change, Error> {
        self.refuse_kept()?;
        let project = self.project;
        let mut files: ByFile = BTreeMap::new();
        for (file, (seen, rewrites)) in std::mem::take(&mut self.rewrites) {
            files.insert(file, (Some(seen), rewrites));
        }
        let overlaid = take_overlaid(project, &mut files, &mut self.builder);
        let of_overlays = overlaid.values().map(|overlay| overlay.rewrites.len()).sum::<usize>();
        // A value may have to follow for several reasons.
        let values = |rewrites: &[Rewrite]| by_cell(rewrites).iter().map(Vec::len).sum::<usize>();
        self.builder.count(files.values().map(|(_, own)| values(own)).sum::<usize>() + of_overlays);
        let files: Vec<_> = files.into_iter().filter(|(_, (_, rewrites))| !rewrites.is_empty()).collect();
        self.builder.edit_all(&files, |file, text, (seen, rewrites)| {
            file_edits(project, file, text, *seen, rewrites)
        })?;
        for (file, (seen, rewrites)) in &files {
            if self.moved.contains(file) && !self.is_in_mod(*file) {
                let needed: Vec<Rewrite> = rewrites.iter().filter(|own| own.needed).cloned().collect();
                let make = |text: &Text<'_>| file_edits(project, *file, text, *seen, &needed);
                self.builder.edit_left_behind(*file, make)?;
            }
        }
        for (file, overlay) in overlaid {
            add_over(project, &mut self.builder, file, &overlay, self.with_notes)?;
        }
        self.builder.finish()
    }
}

/// Says where something cannot be rewritten, and why.
pub(super) fn unfit(project: &Project, file: FileId, span: Span, reason: &str) -> Error {
    let place = load(&project.stack, file).map(|loaded| loaded.place(span));
    let at =
        place.map(|place| format!("{}:{}:{}: ", place.path, place.line, place.column)).unwrap_or_default();
    Error::refused(format!("{at}{reason}"), "choose another key; nothing was changed")
}

/// What goes with a record, with its new name: texts, and files that are there.
pub(super) fn companions(project: &Project, table: TableId, old: &str, new: &str) -> Vec<Item> {
    let (stack, schema) = (&project.stack, &project.schema);
    let described = &schema.tables[table];
    let mut out = Vec::new();
    for companion in schema.companions_of(table) {
        let (from, to) = (companion.name_for(described, old), companion.name_for(described, new));
        if from == to {
            continue;
        }
        match (companion.kind, companion.path_for(described, old)) {
            (CompanionKind::Text, _) => out.push(Item::new(Thing::Text(from), to)),
            (CompanionKind::File, Some(path)) => out.push(Item::new(Thing::File(path), to)),
            (CompanionKind::Folder, Some(folder)) => {
                let (from, to) = (format!("{folder}/"), to.trim_end_matches('/'));
                for file in stack.effective(stack.top()) {
                    let path = &stack.files()[file].path;
                    if let Some(rest) = path.as_str().strip_prefix(&from) {
                        out.push(Item::new(Thing::File(path.clone()), format!("{to}/{rest}")));
                    }
                }
            }
            (CompanionKind::File | CompanionKind::Folder, None) => {}
        }
    }
    out
}

/// More keys are not worth searching for one by one.
const MOST_SEARCHED: usize = 32;

/// What to read of a table in one round; `None` if nothing of it can matter.
pub(super) fn plan(
    schema: &Schema,
    id: TableId,
    items: &[Item],
    wanted: &ReferenceMatcher,
) -> Option<TableScan> {
    let table = &schema.tables[id];
    let mut fields = wanted.fields_to_read(schema, id);
    let mut needles = if fields.is_empty() { Needles::default() } else { wanted.needles(id) };
    let own: Vec<&str> = items
        .iter()
        .filter_map(|item| match &item.thing {
            Thing::Record(table, old) if *table == id => Some(old.as_str()),
            Thing::Column(table, _, old) if *table == id && !item.key_done => Some(old.as_str()),
            _ => None,
        })
        .collect();
    if fields.is_empty() && own.is_empty() {
        return None;
    }
    let by_file = table.key.iter().any(|part| !matches!(part, KeyPart::Field(_)));
    let many = own.len() > MOST_SEARCHED;
    for key in own {
        if table.ignore_case || by_file || many {
            needles.add_any();
            fields = crate::tables::all_fields(table);
            continue;
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
