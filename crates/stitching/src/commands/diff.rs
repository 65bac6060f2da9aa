//! `stitching diff`

use super::sides::{Named, named};
use crate::args::{Diff, Global};
use crate::render::{human, json, table};
use crate::ui::{BOLD, DIM, GREEN, RED, Ui, YELLOW, count, styled, wants_json};
use serde::Serialize;
use std::cell::OnceCell;
use std::process::ExitCode;
use stitching_core::links::find_table;
use stitching_core::reading::PlaceResolver;
use stitching_core::views::{Difference, How, RecordDifference, TableDifference, difference};
use stitching_core::{Error, Project};

/// The result of `diff`.
#[derive(Debug, Serialize)]
struct DiffShape<'d> {
    from: &'d str,
    to: &'d str,
    tables: Vec<TableShape<'d>>,
    files: Vec<FileShape<'d>>,
}

#[derive(Debug, Serialize)]
struct TableShape<'d> {
    table: &'d str,
    added: usize,
    changed: usize,
    removed: usize,
    columns_added: &'d [String],
    columns_removed: &'d [String],
    records: Vec<json::Placed<'d, RecordShape<'d>>>,
}

#[derive(Debug, Serialize)]
struct RecordShape<'d> {
    how: &'static str,
    key: &'d str,
    label: Option<&'d str>,
    language: Option<&'d str>,
    fields: Vec<FieldShape<'d>>,
}

#[derive(Debug, Serialize)]
struct FieldShape<'d> {
    field: &'d str,
    before: Option<&'d str>,
    after: Option<&'d str>,
}

/// A file that differs, but in no record.
#[derive(Debug, Serialize)]
struct FileShape<'d> {
    path: &'d str,
    how: &'static str,
}

pub fn run(project: &Project, args: &Diff, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    for name in &args.tables {
        find_table(&project.schema, name)?;
    }
    let (first, second) = (OnceCell::new(), OnceCell::new());
    let top = project.stack.top();
    let layer = |layer: usize| Named {
        side: project.view().until(layer),
        project,
        name: project.stack.layers()[layer].name.clone(),
    };
    let before = match &args.from {
        Some(from) => named(project, from, &first)?,
        None => layer(top.checked_sub(1).ok_or_else(|| Error::Usage {
            message: "there is no layer below the mod to compare it with".to_owned(),
            help: "name what to compare with: `stitching diff ../older_version`".into(),
        })?),
    };
    let after = match &args.to {
        Some(to) => named(project, to, &second)?,
        None => layer(top),
    };
    let found = ui.progress("comparing", || difference(before.side, after.side, &args.tables))?;
    if as_json {
        let tables = found.tables.iter().map(|own| shape(own, &before, &after));
        ui.json(&DiffShape {
            from: &before.name,
            to: &after.name,
            tables: tables.collect::<Result<_, _>>()?,
            files: found.files.iter().map(|(path, how)| FileShape { path, how: word(*how) }).collect(),
        });
        return Ok(ExitCode::SUCCESS);
    }
    let mut out = String::new();
    if !args.summary {
        for own in &found.tables {
            out += &one_table(own, &before, &after)?;
        }
        for (path, how) in &found.files {
            out += &format!("{} file {path}\n", mark(*how));
        }
        if !found.files.is_empty() {
            out.push('\n');
        }
    }
    out += &summary(&found, &before, &after, ui);
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}

fn mark(how: How) -> String {
    match how {
        How::Added => styled(GREEN, "+"),
        How::Removed => styled(RED, "-"),
        How::Changed => styled(YELLOW, "~"),
    }
}

fn word(how: How) -> &'static str {
    match how {
        How::Added => "added",
        How::Removed => "removed",
        How::Changed => "changed",
    }
}

fn shown(value: Option<&String>) -> String {
    match value {
        None => styled(DIM, "(not there)"),
        Some(value) if value.is_empty() => styled(DIM, "(empty)"),
        Some(value) => human::clean(value),
    }
}

fn one_table(own: &TableDifference, before: &Named<'_>, after: &Named<'_>) -> Result<String, Error> {
    let mut out = format!("{}\n", styled(BOLD, &own.name));
    for (names, how) in [(&own.columns_added, How::Added), (&own.columns_removed, How::Removed)] {
        for name in names {
            out += &format!("{} column {name}\n", mark(how));
        }
    }
    let (mut old, mut new) = (PlaceResolver::new(before.side.stack), PlaceResolver::new(after.side.stack));
    for record in &own.records {
        let (side, places) = if record.how == How::Removed { (before, &mut old) } else { (after, &mut new) };
        let place = places.place(record.file, record.span)?;
        let language = record.language.as_ref().map(|language| format!(" ({language})")).unwrap_or_default();
        let name = human::record(&own.name, &record.key, record.label.as_deref());
        let at = styled(DIM, human::Paths::of(side.project).place(&place));
        out += &format!("{} {name}{language}  {at}\n", mark(record.how));
        // What was added says its key already.
        let is_key = |name: &str| {
            let described = after.side.schema.table(&own.name).map(|id| &after.side.schema.tables[id]);
            described.is_some_and(|table| table.field(name).is_some_and(|field| table.is_key_field(field)))
        };
        let fields =
            || record.fields.iter().filter(|field| record.how == How::Changed || !is_key(&field.name));
        let widest = fields().map(|field| field.name.chars().count()).max().unwrap_or(0);
        for field in fields() {
            let name = format!("{:<widest$}", field.name);
            out += &match record.how {
                How::Changed => {
                    format!(
                        "    {name}  {} -> {}\n",
                        shown(field.before.as_ref()),
                        shown(field.after.as_ref())
                    )
                }
                How::Added => format!("    {name}  {}\n", shown(field.after.as_ref())),
                // What is gone is told by its name.
                How::Removed => continue,
            };
        }
    }
    out.push('\n');
    Ok(out)
}

fn summary(found: &Difference, before: &Named<'_>, after: &Named<'_>, ui: &Ui) -> String {
    let number = |count: usize| if count == 0 { String::new() } else { count.to_string() };
    let row = |own: &TableDifference| {
        let counts = [How::Added, How::Changed, How::Removed].map(|how| number(own.count(how)));
        std::iter::once(own.name.clone()).chain(counts).collect::<Vec<String>>()
    };
    let rows: Vec<Vec<String>> = found.tables.iter().map(row).collect();
    let between = format!("{} against {}", after.name, before.name);
    let files = match found.files.len() {
        0 => String::new(),
        1 => "; 1 file differs outside all records".to_owned(),
        files => format!("; {} differ outside all records", count(files, "file")),
    };
    if rows.is_empty() {
        return format!("{between}: no record differs{files}\n");
    }
    let records: usize = found.tables.iter().map(|own| own.records.len()).sum();
    let differ = if records == 1 { "differs" } else { "differ" };
    format!(
        "{}\n{between}: {} {differ} in {}{files}\n",
        table::aligned(&["table", "added", "changed", "removed"], &rows, ui.width()),
        count(records, "record"),
        count(rows.len(), "table")
    )
}

fn shape<'d>(
    own: &'d TableDifference,
    before: &Named<'_>,
    after: &Named<'_>,
) -> Result<TableShape<'d>, Error> {
    let (mut old, mut new) = (PlaceResolver::new(before.side.stack), PlaceResolver::new(after.side.stack));
    let mut record = |record: &'d RecordDifference| {
        let places = if record.how == How::Removed { &mut old } else { &mut new };
        let fields = record.fields.iter().map(|field| FieldShape {
            field: &field.name,
            before: field.before.as_deref(),
            after: field.after.as_deref(),
        });
        let head = RecordShape {
            how: word(record.how),
            key: &record.key,
            label: record.label.as_deref(),
            language: record.language.as_deref(),
            fields: fields.collect(),
        };
        Ok(json::placed(head, places.place(record.file, record.span)?))
    };
    Ok(TableShape {
        table: &own.name,
        added: own.count(How::Added),
        changed: own.count(How::Changed),
        removed: own.count(How::Removed),
        columns_added: &own.columns_added,
        columns_removed: &own.columns_removed,
        records: own.records.iter().map(&mut record).collect::<Result<_, Error>>()?,
    })
}
