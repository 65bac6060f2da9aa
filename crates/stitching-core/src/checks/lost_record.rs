//! Records of a neighbour's file that a higher file in its place lacks.

use super::at_places::file_place;
use super::{Check, Run};
use crate::Code;
use crate::layers::FileId;
use crate::links::Index;
use crate::problem::{Problem, Related, Severity};
use crate::reading::with_text;
use crate::schema::TableId;
use crate::tables::{RecordView, RecordVisitor, add_key_fields, read_records, shown_key};
use std::collections::BTreeSet;

pub(super) static CHECK: Check = Check {
    code: Code::LOST_RECORD,
    severity: Severity::Warning,
    about: "records that another layer adds to a file, and that a higher file in its place lacks",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A file that replaces the one of a lower layer, where that layer had added records to what it
    replaced itself, and these are nowhere any more.

Why it matters
    Two mods changed the same file of the game. The higher one was made from the game's file and
    silently takes out what the other one added.

When to ignore it
    When the higher mod takes them out on purpose.

Example, wrong
    game: a, b    another mod: a, b, c    this mod: a, b, d

Example, right
    this mod: a, b, c, d
";

/// How many of them are named.
const NAMED: usize = 5;

fn find(index: &Index<'_>) -> Vec<Problem> {
    let mut out = Vec::new();
    if index.through < 2 {
        return out;
    }
    for (id, own) in index.tables.iter().enumerate() {
        let table = &index.schema.tables[id];
        if table.merged || table.key.is_empty() || table.counts_positions() || table.is_of_files() {
            continue;
        }
        for file in &own.files {
            of_file(index, id, index.files[file.file as usize].id, &mut out);
        }
    }
    out.sort_by(|a, b| a.order().cmp(&b.order()));
    out
}

fn of_file(index: &Index<'_>, table: TableId, file: FileId, out: &mut Vec<Problem>) {
    let entry = &index.stack.files()[file];
    let below: Vec<FileId> =
        (0..entry.layer).filter_map(|layer| index.stack.find(layer, &entry.path)).collect();
    for (at, lower) in below.iter().enumerate().rev() {
        // The lowest layer adds nothing: it is the game.
        let layer = index.stack.files()[*lower].layer;
        if layer == 0 {
            break;
        }
        let before = at.checked_sub(1).map(|at| keys(index, table, below[at])).unwrap_or_default();
        let added = keys(index, table, *lower).into_iter().filter(|key| !before.contains(key));
        let lost: Vec<String> = added.filter(|key| index.find(table, key).is_none()).collect();
        if lost.is_empty() {
            continue;
        }
        let names: Vec<String> = lost.iter().take(NAMED).map(|key| format!("`{}`", shown_key(key))).collect();
        let more = match lost.len().saturating_sub(NAMED) {
            0 => String::new(),
            more => format!(" and {more} others"),
        };
        let whose = &index.stack.layers()[layer].name;
        let message = format!(
            "this file takes the place of one to which `{whose}` adds {}{more}, missing here",
            names.join(", ")
        );
        let mut problem = Problem::new(CHECK.code, CHECK.severity, message, file_place(index, file));
        problem.help = Some("take them over from that file".into());
        problem.table = Some(index.schema.tables[table].name.clone());
        let message = "they are here".to_owned();
        problem.related.push(Related { message, place: file_place(index, *lower) });
        out.push(problem);
    }
}

/// The keys of the records of a table in a file, effective or not; none of a file that cannot be read.
fn keys(index: &Index<'_>, id: TableId, file: FileId) -> BTreeSet<String> {
    struct Keys(BTreeSet<String>);
    impl RecordVisitor for Keys {
        fn record(&mut self, record: &RecordView<'_>) {
            self.0.extend(record.key());
        }
    }
    let table = &index.schema.tables[id];
    let mut fields = Vec::new();
    add_key_fields(table, &mut fields);
    let mut found = Keys(BTreeSet::new());
    let path = &index.stack.files()[file].path;
    let read = with_text(index.stack, file, |text| read_records(table, path, text, &fields, &mut found));
    read.map(|()| found.0).unwrap_or_default()
}
