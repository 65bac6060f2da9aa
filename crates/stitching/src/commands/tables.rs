//! `stitching tables`

use crate::args::{Global, Tables};
use crate::render::table;
use crate::ui::{Ui, wants_json};
use serde::Serialize;
use std::process::ExitCode;
use stitching_core::{Error, Project, checks};

/// The result of `tables`.
#[derive(Debug, Serialize)]
struct AllTables<'t> {
    tables: Vec<TableShape<'t>>,
}

/// A table in short.
#[derive(Debug, Serialize)]
struct TableShape<'t> {
    table: &'t str,
    about: Option<&'t str>,
    format: &'t str,
    patterns: Vec<&'t str>,
    key: Vec<&'t str>,
    files: usize,
    files_in_mod: usize,
    records: usize,
    problems: usize,
}

pub fn run(project: &Project, args: &Tables, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let through = project.through(args.through.through.as_deref())?;
    let report = ui.progress("reading", || checks::check(project.view().until(through)));
    let mut shapes = Vec::new();
    let mut rows = Vec::new();
    for (described, own) in project.schema.tables.iter().zip(&report.tables) {
        let problems = report
            .problems
            .iter()
            .filter(|problem| problem.table.as_deref() == Some(&described.name))
            .count();
        let key: Vec<&str> = described.key.iter().map(|part| described.key_part_name(*part)).collect();
        let patterns: Vec<&str> = described.files.iter().map(|pattern| pattern.source.as_str()).collect();
        shapes.push(TableShape {
            table: &described.name,
            about: described.about.as_deref(),
            format: described.format_name,
            patterns: patterns.clone(),
            key: key.clone(),
            files: own.files,
            files_in_mod: own.files_in_mod,
            records: own.records,
            problems,
        });
        rows.push(vec![
            described.name.clone(),
            own.records.to_string(),
            own.files.to_string(),
            own.files_in_mod.to_string(),
            if problems > 0 { problems.to_string() } else { String::new() },
            key.join("/"),
            match described.is_by_use() {
                true => format!("in use: {}", described.by_use_names(&project.schema).join(", ")),
                false => shown(&patterns),
            },
        ]);
    }
    if as_json {
        ui.json(&AllTables { tables: shapes });
    } else {
        let header = ["table", "records", "files", "in mod", "problems", "key", "where"];
        ui.out(&table::aligned(&header, &rows, ui.width()));
    }
    Ok(ExitCode::SUCCESS)
}

/// Patterns in a line: of many the first, and how many there are besides.
fn shown(patterns: &[&str]) -> String {
    const SHOWN: usize = 2;
    match patterns.len().saturating_sub(SHOWN) {
        0 | 1 => patterns.join(", "),
        more => format!("{} and {more} more", patterns[..SHOWN].join(", ")),
    }
}
