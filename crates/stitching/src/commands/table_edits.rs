//! `stitching learn --rename`, `--join` and `--split`: what a person says to the tables that were learned.

use super::schema_files::{ChangedSchema, description_files};
use crate::render::human::Paths;
use crate::ui::{Ui, count};
use serde::Serialize;
use std::process::ExitCode;
use stitching_core::checks::{FaultCounts, FaultGroup};
use stitching_core::learn::{
    DescriptionFile, counts_of_sound_data, more_faults, with_table_renamed, with_table_split,
    with_tables_joined,
};
use stitching_core::links::find_table;
use stitching_core::schema::FilePattern;
use stitching_core::{Error, Project};

/// What became of tables.
#[derive(Debug, Serialize)]
struct TablesShape<'p> {
    /// The tables as they are called now.
    tables: Vec<&'p str>,
    /// The files that were written.
    files: Vec<&'p str>,
}

/// `--rename OLD=NEW`: gives a table another name, wherever the project names it.
pub fn rename(project: &Project, given: &str, as_json: bool, ui: &Ui) -> Result<ExitCode, Error> {
    let Some((old, new)) = given.split_once('=') else {
        return Err(usage(given, "names no new name", "write `--rename OLD=NEW`"));
    };
    find_table(&project.schema, old)?;
    let files = description_files(project)?;
    let after = with_table_renamed(&project.schema, &files, old, new)?;
    let changed = tried(project, &files, after, (old, new), ui)?;
    changed.write(project, ui)?;
    report(&[new], &changed, format!("{old} is called {new} now"), as_json, ui);
    Ok(ExitCode::SUCCESS)
}

/// `--join TABLE,OTHER`: the records of the second are records of the first.
pub fn join(project: &Project, given: &[String], as_json: bool, ui: &Ui) -> Result<ExitCode, Error> {
    let [into, from] = given else {
        return Err(usage(
            &given.join(","),
            "is not two tables",
            "write `--join TABLE,OTHER`: the first stays",
        ));
    };
    for name in [into, from] {
        find_table(&project.schema, name)?;
    }
    if into == from {
        return Err(usage(&given.join(","), "is one table", "write `--join TABLE,OTHER`: the first stays"));
    }
    let files = description_files(project)?;
    let after = with_tables_joined(&project.schema, &files, into, from)?;
    let changed = tried(project, &files, after, (from, into), ui)?;
    changed.write(project, ui)?;
    report(&[into], &changed, format!("what was in {from} is in {into} now"), as_json, ui);
    Ok(ExitCode::SUCCESS)
}

/// `--split TABLE=NEW:PATTERN`: the files of the pattern are a table of their own.
pub fn split(project: &Project, given: &str, as_json: bool, ui: &Ui) -> Result<ExitCode, Error> {
    let parts = given.split_once('=').and_then(|(table, rest)| Some((table, rest.split_once(':')?)));
    let Some((table, (new, pattern))) = parts else {
        let help = "write `--split TABLE=NEW:PATTERN`, for example --split boats=barges:data/barges*.txt";
        return Err(usage(given, "does not name a table, a new one and its files", help));
    };
    let id = find_table(&project.schema, table)?;
    let taken = FilePattern::parse(pattern).map_err(|error| Error::refused(error.message, error.help))?;
    let described = &project.schema.tables[id];
    let mut paths: Vec<&str> = project.stack.files().iter().map(|file| file.path.as_str()).collect();
    paths.retain(|path| described.files.iter().any(|own| own.takes(path)));
    paths.sort_unstable();
    paths.dedup();
    let (theirs, rest): (Vec<&str>, Vec<&str>) = paths.iter().partition(|path| taken.takes(path));
    if theirs.is_empty() || rest.is_empty() {
        let which = if theirs.is_empty() { "none" } else { "all" };
        let message =
            format!("`{pattern}` stands for {which} of the {} of `{table}`", count(paths.len(), "file"));
        return Err(Error::refused(message, "`stitching tables` shows its files; nothing was changed"));
    }
    // A pattern that has none of the others stays; the rest is named file by file.
    let (apart, mixed): (Vec<&FilePattern>, Vec<&FilePattern>) =
        described.files.iter().partition(|own| !theirs.iter().any(|path| own.takes(path)));
    let mut patterns: Vec<String> = apart.iter().map(|own| own.source.clone()).collect();
    let named = rest
        .iter()
        .filter(|path| mixed.iter().any(|own| own.takes(path)) && !apart.iter().any(|own| own.takes(path)));
    let named: Vec<String> = named.map(|path| (*path).to_owned()).collect();
    const MOST: usize = 200;
    if named.len() > MOST {
        let message = format!("{} would have to be named one by one", count(named.len(), "other file"));
        let help = "split off the smaller part, or write the patterns into the schema; nothing was changed";
        return Err(Error::refused(message, help));
    }
    let is_named = !named.is_empty();
    patterns.extend(named);
    let files = description_files(project)?;
    let after = with_table_split(&project.schema, &files, table, (new, pattern), &patterns)?;
    let changed = tried(project, &files, after, (new, table), ui)?;
    changed.write(project, ui)?;
    let files = count(theirs.len(), "file");
    report(&[table, new], &changed, format!("{new} has {files} that {table} had"), as_json, ui);
    if is_named {
        ui.note(&format!(
            "`{table}` names its files one by one now; a pattern for them takes in new ones too"
        ));
    }
    Ok(ExitCode::SUCCESS)
}

fn usage(given: &str, wrong: &str, help: &'static str) -> Error {
    Error::Usage { message: format!("`{given}` {wrong}"), help: help.into() }
}

fn report(tables: &[&str], changed: &ChangedSchema<'_>, said: String, as_json: bool, ui: &Ui) {
    if as_json {
        ui.json(&TablesShape { tables: tables.to_vec(), files: changed.names() });
    } else {
        ui.out(&format!("{said}\n"));
    }
}

/// The files as they would be, unless the project could not be opened with them, or more would be wrong: problems of the two
/// tables count together.
fn tried<'p>(
    project: &'p Project,
    before: &[DescriptionFile],
    after: Vec<DescriptionFile>,
    tables: (&str, &str),
    ui: &Ui,
) -> Result<ChangedSchema<'p>, Error> {
    let changed = ChangedSchema::of_files(project, before, after);
    let brought = ui.progress("trying it on the data", || {
        let described = changed.described(project)?;
        let known = together(counts_of_sound_data(project), tables);
        Ok::<_, Error>(more_faults(&known, &together(counts_of_sound_data(&described), tables)))
    })?;
    match brought.first() {
        None => Ok(changed),
        Some(first) => {
            let all: usize = brought.iter().map(|group| group.count).sum();
            let place = Paths::of(project).place(&first.example.place);
            Err(Error::refused(
                format!(
                    "it would bring {}, the first at {place}: {}",
                    count(all, "problem"),
                    first.example.message
                ),
                "put that right in the schema or the data first; nothing was changed",
            ))
        }
    }
}

/// The counts with those of two tables added up.
fn together(counts: FaultCounts, (from, into): (&str, &str)) -> FaultCounts {
    let mut groups: Vec<FaultGroup> = Vec::new();
    for mut group in counts.groups {
        if group.table.as_deref() == Some(from) {
            group.table = Some(into.to_owned());
        }
        let same = |own: &&mut FaultGroup| {
            own.code == group.code && own.table == group.table && own.field == group.field
        };
        match groups.iter_mut().find(same) {
            Some(known) => known.count += group.count,
            None => groups.push(group),
        }
    }
    FaultCounts { groups, ..counts }
}
