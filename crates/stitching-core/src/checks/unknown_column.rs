//! A name that a closed table does not describe.

use super::at_places::{Found, problems_at};
use super::{Check, Run};
use crate::Code;
use crate::formats::Delimited;
use crate::layers::FileId;
use crate::links::Index;
use crate::problem::{Fix, Problem, Severity};
use crate::reading::{with_start, with_text};
use crate::rules::named_fields;
use crate::schema::{KnownNames, Table, TableId};
use crate::tables::{all_fields, files_of, read_each};
use crate::text::{Edit, EditSet, Span, Text, nearest_of};
use rayon::prelude::*;
use std::collections::{BTreeMap, HashMap};

pub(super) static CHECK: Check = Check {
    code: Code::UNKNOWN_COLUMN,
    severity: Severity::Warning,
    about: "a name that a closed table does not describe",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A column, key, member, attribute, element or entry in the records of a table with
    `closed = true` that none of its fields stands for. Of several in a file with one name the
    first is shown, with how many there are.

Why it matters
    The game ignores a name it does not know, and takes the value that it has by itself; often
    the name is misspelt.

When to ignore it
    When it is a note for people: describe it with `note = true`.

Example, wrong
    [owls]
    wgae = 12

Example, right
    [owls]
    wage = 12
";

/// A name that is in a file more often is no slip.
const MOST_FIXED: usize = 1000;

/// So much of a table of rows is read to find its header.
const HEADER: usize = 64 * 1024;

fn find(index: &Index<'_>) -> Vec<Problem> {
    let closed = index.schema.tables.iter().enumerate().filter(|(_, table)| table.closed);
    let files: Vec<(TableId, FileId)> = closed
        .flat_map(|(id, table)| {
            files_of(index.stack, table, index.through).into_iter().map(move |file| (id, file))
        })
        .collect();
    let found = files.par_iter().with_max_len(1).flat_map_iter(|(table, file)| {
        let look = |text: &Text<'_>| unknown_names(index, *table, *file, text);
        let found = match index.schema.tables[*table].reads_blocks() {
            true => with_start(index.stack, *file, HEADER, look),
            false => with_text(index.stack, *file, look),
        };
        found.unwrap_or_default()
    });
    problems_at(index, &CHECK, found.collect())
}

/// The names in a file that no field of the table stands for, each once.
fn unknown_names(index: &Index<'_>, id: TableId, file: FileId, text: &Text<'_>) -> Vec<Found> {
    let table = &index.schema.tables[id];
    let others = records_of_others(index, id, file, text);
    let described = known_names(index, id);
    // Whether each name is known: most stand in each record.
    let mut names: HashMap<String, bool> = HashMap::new();
    let mut unknown: BTreeMap<String, (Vec<Span>, usize)> = BTreeMap::new();
    table.format.names(text, &mut |path, span| {
        let is_known = match names.get(path) {
            Some(is_known) => *is_known,
            None => *names.entry(path.to_owned()).or_insert(path.is_empty() || described.knows(path)),
        };
        if !is_known && !is_inside(&others, span) {
            let (spans, number) = unknown.entry(path.to_owned()).or_default();
            *number += 1;
            if spans.len() < MOST_FIXED {
                spans.push(span);
            }
        }
    });
    // What is inside something unknown is not told besides.
    let paths: Vec<String> = unknown.keys().cloned().collect();
    let is_within = |path: &str, around: &String| {
        path.strip_prefix(around.as_str()).is_some_and(|rest| rest.starts_with(['.', '/', '[']))
    };
    let told = unknown.into_iter().filter(|(path, _)| !paths.iter().any(|around| is_within(path, around)));
    // A header has each column once, so that another name is meant; a record may lack what others have.
    let is_taken = |column: &str| table.format_name == Delimited::NAME && names.contains_key(column);
    let columns = || table.fields.iter().map(|field| field.column.as_str()).filter(|own| !is_taken(own));
    told.map(|(path, (spans, number))| {
        let as_deep = columns().map(|column| first_steps(column, path.matches(['/', '.']).count()));
        let near = nearest_of(&path, as_deep).into_iter().next();
        problem(table, (id, file), &path, (&spans, number), near)
    })
    .collect()
}

/// The names that the fields of a table stand for, and those that its rules and what is computed of it speak of.
fn known_names(index: &Index<'_>, id: TableId) -> KnownNames {
    let mut known = KnownNames::of(&index.schema.tables[id]);
    let computed = index.schema.computed.iter().filter(|own| own.table == id);
    computed.for_each(|own| known.add(&own.field));
    let rules = index.schema.rules.iter().filter(|rule| rule.table == id);
    rules.flat_map(named_fields).for_each(|name| known.add(&name));
    known
}

/// The problem of a name that is there `number` times, first at `spans`, of which `near` is the nearest that is known.
fn problem(
    table: &Table,
    (id, file): (TableId, FileId),
    path: &str,
    (spans, number): (&[Span], usize),
    near: Option<String>,
) -> Found {
    let what = if table.format_name == Delimited::NAME { "column" } else { "field" };
    let more = if number > 1 { format!("; it is in the file {number} times") } else { String::new() };
    Found {
        file,
        span: spans.first().copied(),
        table: id,
        key: None,
        field: None,
        value: Some(path.to_owned()),
        message: format!("the schema does not know the {what} `{path}`{more}"),
        fix: near.as_deref().filter(|_| number == spans.len()).and_then(|near| fix(path, near, spans)),
        help: near.as_ref().map(|name| format!("the nearest it knows is `{name}`").into()),
        meant: near,
    }
}

/// The beginning of the path of a column, with as many steps behind the first one.
fn first_steps(column: &str, behind: usize) -> &str {
    column.match_indices(['/', '.']).nth(behind).map_or(column, |(end, _)| &column[..end])
}

/// The name that is `near` in the place of the last one of `path`, if both are inside of the same.
fn fix(path: &str, near: &str, spans: &[Span]) -> Option<Fix> {
    let split = |path: &str| path.rfind(['/', '.']).map_or(0, |at| at + 1);
    let (own, other) = (split(path), split(near));
    let name = near[other..].trim_start_matches('@');
    // A path that says more than a name cannot be written in the place of one.
    let is_name = !name.contains(['*', '[', '{', '!', '\'']);
    if path[..own] != near[..other]
        || path[own..].starts_with('@') != near[other..].starts_with('@')
        || !is_name
    {
        return None;
    }
    let edits = spans.iter().map(|span| Edit { span: *span, text: name.to_owned() }).collect();
    Some(Fix { title: format!("write `{name}`"), edits: EditSet::new(edits).ok()?, is_safe: false })
}

/// Where records of other tables stand inside those of the table, sorted and apart: what is in them is for those tables to
/// know.
fn records_of_others(index: &Index<'_>, id: TableId, file: FileId, text: &Text<'_>) -> Vec<Span> {
    let path = &index.stack.files()[file].path;
    let others: Vec<TableId> =
        index.schema.tables_of(path).into_iter().filter(|other| *other != id).collect();
    if others.is_empty() {
        return Vec::new();
    }
    let spans = |table: TableId| {
        let mut spans = Vec::new();
        let table = &index.schema.tables[table];
        read_each(table, path, text, &all_fields(table), &mut |record| spans.push(record.span));
        spans.sort_unstable();
        spans
    };
    let own = spans(id);
    let is_inside = |span: &Span| {
        let around = own[..own.partition_point(|own| own.start <= span.start)].last();
        around.is_some_and(|around| span.end <= around.end && span != around)
    };
    let mut inside: Vec<Span> = others.into_iter().flat_map(spans).filter(is_inside).collect();
    inside.sort_unstable_by_key(|span| (span.start, std::cmp::Reverse(span.end)));
    // What stands inside one of them needs no place of its own.
    inside.dedup_by(|next, before| next.end <= before.end);
    inside
}

/// Whether `span` is in one of `spans`, which are sorted and apart.
fn is_inside(spans: &[Span], span: Span) -> bool {
    let before = spans.partition_point(|own| own.start <= span.start);
    before.checked_sub(1).is_some_and(|at| span.end <= spans[at].end)
}
