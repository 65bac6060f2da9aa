//! What refers to records by their position follows where a change moves them.

use super::change::{Change, FileChange, Note};
use super::rename::follow_keys;
use crate::Code;
use crate::error::{Error, Refusal};
use crate::layers::{FileId, RelPath};
use crate::links::{Address, Thing, Use, find_uses};
use crate::problem::{Problem, Severity};
use crate::project::Project;
use crate::reading::{PlaceResolver, with_text};
use crate::schema::{KeyPart, Schema, Table, TableId};
use crate::tables::{RecordView, RecordVisitor, add_key_fields, read_records};
use crate::text::{EditSet, Span, Text};
use std::collections::{BTreeMap, HashMap, HashSet};

/// Records whose key has their position in it, and which a change moves: the table, and the keys as kept in memory.
#[derive(Debug, Default)]
pub(super) struct PositionMoves {
    /// The former and the new key of each.
    moved: Vec<(TableId, String, String)>,
}

/// Whether a change touches a file with records whose positions something refers to.
pub(super) fn touches_positions(schema: &Schema, change: &Change) -> bool {
    let mut paths = change.files().iter().flat_map(|file| [file.from(), file.to()]).flatten();
    let tables = counted_tables(schema);
    !tables.is_empty() && paths.any(|path| tables.iter().any(|table| schema.tables[*table].takes(path)))
}

/// The tables whose records others name by their position.
fn counted_tables(schema: &Schema) -> Vec<TableId> {
    let targets = schema.tables.iter().flat_map(|table| &table.rules).flat_map(|rule| &rule.refs);
    let targets: HashSet<TableId> = targets.map(|target| target.table).collect();
    let counts = |table: &TableId| schema.tables[*table].key.contains(&KeyPart::Position);
    (0..schema.tables.len()).filter(counts).filter(|table| targets.contains(table)).collect()
}

impl PositionMoves {
    /// The records that `change` moves.
    ///
    /// Cost: the files that it changes are read once more, before and after, where their positions count.
    ///
    /// # Errors
    /// When a file cannot be read, or something refers to a record that goes: it would lead to the next one.
    pub fn of(project: &Project, change: &Change) -> Result<PositionMoves, Error> {
        let schema = &project.schema;
        let mut moves = PositionMoves::default();
        let mut gone: Vec<(TableId, String)> = Vec::new();
        for table in counted_tables(schema) {
            for file in change.files() {
                let (Some(source), Some(path)) = (file.source().file(), place(project, file)) else {
                    continue;
                };
                if !schema.tables[table].takes(path) || !is_effective(project, source) {
                    continue;
                }
                let described = &schema.tables[table];
                let before = with_text(&project.stack, source, |text| keys(described, path, text))?;
                let after = Text::clean(&file.after, file.declared).map(|text| keys(described, path, &text));
                let after = after.unwrap_or_default();
                for (span, key) in before {
                    match new_place(&file.edits, span).and_then(|at| key_at(&after, at)) {
                        Some(new) if *new == key => {}
                        Some(new) => moves.moved.push((table, key, new.clone())),
                        None => gone.push((table, key)),
                    }
                }
            }
        }
        refuse_used(project, change, &gone)?;
        Ok(moves)
    }

    /// The change that has all references follow the moved records, in the project as the change that moved them leaves it.
    ///
    /// # Errors
    /// When a reference cannot be written.
    pub fn followed(self, after: &Project) -> Result<Option<Change>, Error> {
        if self.moved.is_empty() {
            return Ok(None);
        }
        let tables: HashSet<TableId> = self.moved.iter().map(|(table, ..)| *table).collect();
        let change = follow_keys(after, &self.moved)?;
        if change.files().is_empty() {
            return Ok(None);
        }
        let mut names: Vec<String> = tables.iter().map(|id| after.schema.tables[*id].name.clone()).collect();
        names.sort();
        let note = |change: Change, name: String| change.with(Note::PositionsFollow(name));
        Ok(Some(names.into_iter().fold(change, note)))
    }
}

/// The path of a file that a change edits where it is.
fn place<'c>(project: &'c Project, file: &'c FileChange) -> Option<&'c RelPath> {
    let source = &project.stack.files()[file.source().file()?];
    file.to().filter(|to| **to == source.path)
}

fn is_effective(project: &Project, file: FileId) -> bool {
    project.stack.effective(project.stack.top()).contains(&file)
}

/// The places and keys of all records of a table in a text, by place.
fn keys(table: &Table, path: &RelPath, text: &Text<'_>) -> BTreeMap<Span, String> {
    struct Keys(BTreeMap<Span, String>);
    impl RecordVisitor for Keys {
        fn record(&mut self, record: &RecordView<'_>) {
            self.0.extend(record.key().map(|key| (record.span, key)));
        }
    }
    let mut fields = Vec::new();
    add_key_fields(table, &mut fields);
    let mut found = Keys(BTreeMap::new());
    read_records(table, path, text, &fields, &mut found);
    found.0
}

/// The key of the innermost record around a place.
fn key_at(records: &BTreeMap<Span, String>, at: u32) -> Option<&String> {
    let before = records.range(..=Span { start: at, end: u32::MAX }).rev();
    // Records inside others are few.
    let mut near = before.take(64);
    near.find(|(span, _)| span.start <= at && at < span.end.max(span.start + 1)).map(|(_, key)| key)
}

/// Where a record stands after `edits`; `None` if they take it out.
fn new_place(edits: &EditSet, record: Span) -> Option<u32> {
    let mut shift = 0;
    for edit in edits.edits().iter().take_while(|edit| edit.span.start <= record.start) {
        let covers = edit.span.end >= record.end && !edit.span.is_empty();
        if covers {
            return None;
        }
        if edit.span.end > record.start && edit.span.start < record.start {
            // What stands before the record goes together with its beginning.
            return u32::try_from(i64::from(edit.span.start) + shift + edit.text.len() as i64).ok();
        }
        if edit.span.end <= record.start {
            shift += edit.text.len() as i64 - i64::from(edit.span.end - edit.span.start);
        }
    }
    u32::try_from(i64::from(record.start) + shift).ok()
}

/// Refuses to take away records that something goes on referring to.
fn refuse_used(project: &Project, change: &Change, gone: &[(TableId, String)]) -> Result<(), Error> {
    if gone.is_empty() {
        return Ok(());
    }
    let schema = &project.schema;
    let things: Vec<Thing> = gone.iter().map(|(table, key)| Thing::Record(*table, key.clone())).collect();
    let edited: HashMap<FileId, &FileChange> =
        change.files().iter().filter_map(|file| Some((file.source().file()?, file))).collect();
    let stays = |one: &Use| {
        let is_touched = edited.get(&one.file).is_some_and(|file| {
            let mut edits = file.edits.edits().iter();
            file.to().is_none()
                || edits.any(|edit| edit.span.start <= one.span.start && one.span.end <= edit.span.end)
        });
        !is_touched && !change.leaves_dangling(&schema.tables[one.table].name)
    };
    let mut places = PlaceResolver::new(&project.stack);
    let mut problems = Vec::new();
    for one in find_uses(project.view(), &things)?.iter().filter(|one| stays(one)) {
        let (table, key) = &gone[one.thing];
        let address = Address::show(&schema.tables[*table].name, key);
        let message = format!("this refers to {address}, and would lead to the record that takes its place");
        let place = places.place(one.file, one.span)?;
        let mut problem = Problem::new(Code::DANGLING_REFERENCE, Severity::Error, message, place);
        problem.table = Some(schema.tables[one.table].name.clone());
        problem.key.clone_from(&one.key);
        problem.field = Some(schema.tables[one.table].fields[one.field].name.clone());
        problems.push(problem);
    }
    if problems.is_empty() {
        return Ok(());
    }
    problems.sort_by(|a, b| a.order().cmp(&b.order()));
    Err(Error::Refused(Box::new(Refusal {
        reason: "something refers to a record that would be gone, by its position; nothing was changed"
            .to_owned(),
        help: "have it refer to another record first".into(),
        problems,
    })))
}
