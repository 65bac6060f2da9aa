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
use crate::text::{Edit, Span, Text};
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
        let effective: HashSet<FileId> = project.stack.effective(project.stack.top()).into_iter().collect();
        for table in counted_tables(schema) {
            for file in change.files() {
                let (Some(source), Some(path)) = (file.source().file(), place(project, file)) else {
                    continue;
                };
                if !schema.tables[table].takes(path) || !effective.contains(&source) {
                    continue;
                }
                let described = &schema.tables[table];
                let before = with_text(&project.stack, source, |text| keys(described, path, text))?;
                let after = Text::clean(&file.after, file.declared).map(|text| keys(described, path, &text));
                let after = after.unwrap_or_default();
                let mut shifts = Shifts::new(file.edits.edits());
                for (span, key) in before {
                    match shifts.new_place(span).and_then(|at| key_at(&after, at)) {
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

/// Where records stand after edits, asked in the order of their beginnings: each edit is looked at once.
struct Shifts<'e> {
    /// The edits from the first on that does not lie before the last record.
    left: &'e [Edit],
    /// By how many bytes those before it move what is behind them.
    shift: i64,
}

impl<'e> Shifts<'e> {
    fn new(edits: &'e [Edit]) -> Shifts<'e> {
        Shifts { left: edits, shift: 0 }
    }

    /// Where a record begins after the edits; `None` if they take it out.
    fn new_place(&mut self, record: Span) -> Option<u32> {
        while let Some((edit, left)) =
            self.left.split_first().filter(|(edit, _)| edit.span.end <= record.start)
        {
            self.shift += edit.text.len() as i64 - edit.span.len() as i64;
            self.left = left;
        }
        let start = match self.left.first().filter(|edit| edit.span.start <= record.start) {
            Some(edit) if edit.span.end >= record.end => return None,
            // What stands before the record goes together with its beginning.
            Some(edit) if edit.span.start < record.start => {
                i64::from(edit.span.start) + edit.text.len() as i64
            }
            _ => i64::from(record.start),
        };
        u32::try_from(start + self.shift).ok()
    }
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
            let edits = file.edits.edits();
            let before = edits.partition_point(|edit| edit.span.start <= one.span.start);
            let last = before.checked_sub(1).map(|at| &edits[at]);
            file.to().is_none() || last.is_some_and(|edit| one.span.end <= edit.span.end)
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

#[cfg(test)]
mod tests {
    use super::Shifts;
    use crate::text::{Edit, Span};
    use rstest::rstest;

    /// Records are `a` at 0 to 2, `b` at 3 to 5 and `c` at 6 to 8, with a line end behind each.
    #[rstest]
    #[case::nothing(&[], &[Some(0), Some(3), Some(6)])]
    #[case::a_line_before_the_second(&[(3, 3, "xx\n")], &[Some(0), Some(6), Some(9)])]
    #[case::a_line_behind_the_first(&[(2, 2, "\nxx")], &[Some(0), Some(6), Some(9)])]
    #[case::the_second_goes_with_its_line_end(&[(3, 6, "")], &[Some(0), None, Some(3)])]
    #[case::the_second_goes_with_the_line_end_before(&[(2, 5, "")], &[Some(0), None, Some(3)])]
    #[case::the_beginning_changes(&[(3, 4, "long")], &[Some(0), Some(3), Some(9)])]
    #[case::what_stands_before_goes_with_the_beginning(&[(2, 4, "\nx")], &[Some(0), Some(4), Some(6)])]
    #[case::two_edits(&[(0, 3, ""), (6, 6, "yy\n")], &[None, Some(0), Some(6)])]
    fn where_records_go(#[case] edits: &[(u32, u32, &str)], #[case] expected: &[Option<u32>]) {
        let edit = |(start, end, text): &(u32, u32, &str)| Edit {
            span: Span { start: *start, end: *end },
            text: (*text).to_owned(),
        };
        let edits: Vec<Edit> = edits.iter().map(edit).collect();
        let mut shifts = Shifts::new(&edits);
        let records = [0, 3, 6].map(|start| Span { start, end: start + 2 });
        assert_eq!(records.map(|record| shifts.new_place(record)), expected);
    }
}
