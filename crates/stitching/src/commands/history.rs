//! `stitching history`, `undo` and `redo`

use super::{edit, open_in, with_journal};
use crate::args::{Editing, Global, History, Turning, Undo};
use crate::render::human::clean;
use crate::render::table;
use crate::ui::{Ui, count, wants_json};
use serde::Serialize;
use std::io::Write;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{ChangeSet, OnConflict, apply};
use stitching_core::help::NextStep;
use stitching_core::journal::{ChangedSince, HistoryItem, Turned};
use stitching_core::reading::View;

/// The result of `history`.
#[derive(Debug, Serialize)]
struct HistoryShape<'h> {
    changes: Vec<ChangeShape<'h>>,
}

/// A change in the history.
#[derive(Debug, Serialize)]
struct ChangeShape<'h> {
    number: usize,
    time: String,
    title: &'h str,
    values: usize,
    files: Vec<Option<&'h str>>,
    undone: bool,
}

impl<'h> From<&'h HistoryItem> for ChangeShape<'h> {
    fn from(item: &'h HistoryItem) -> ChangeShape<'h> {
        let entry = &item.entry;
        ChangeShape {
            number: entry.number,
            time: date(entry.time),
            title: &entry.title,
            values: entry.values,
            files: entry.files.iter().map(|file| file.to.as_deref().or(file.from.as_deref())).collect(),
            undone: item.undone,
        }
    }
}

/// The result of `undo` and `redo`.
#[derive(Debug, Serialize)]
struct TurnedShape<'t> {
    number: usize,
    title: &'t str,
    files: usize,
    left: &'t [String],
    state: &'t str,
}

/// What `history --save` wrote.
#[derive(Debug, Serialize)]
struct Saved<'s> {
    file: &'s str,
    records: usize,
    other_files: &'s [String],
}

pub fn run(folder: &Path, args: &History, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    match &args.save[..] {
        [number, file] => save(folder, number, file, global, ui),
        _ => list(folder, global, ui),
    }
}

/// Writes a change of the history as records and fields.
fn save(folder: &Path, number: &str, file: &str, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let number = number.parse().map_err(|_| Error::Usage {
        message: format!("`{number}` is no number of a change"),
        help: "`stitching history` lists the changes with their numbers".into(),
    })?;
    let change_set = change_set(folder, number, ui)?;
    let text = change_set.to_text();
    let path = Path::new(file);
    let written = std::fs::OpenOptions::new().write(true).create_new(true).open(path);
    let mut written = written.map_err(|source| match source.kind() {
        std::io::ErrorKind::AlreadyExists => Error::Usage {
            message: format!("there is a file `{file}` already"),
            help: "choose another name; what is there stays as it is".into(),
        },
        _ => Error::io("make", path, source),
    })?;
    written.write_all(text.as_bytes()).map_err(|source| Error::io("write", path, source))?;
    let records = change_set.record.len() + change_set.rename.len();
    if as_json {
        ui.json(&Saved { file, records, other_files: &change_set.other_files });
        return Ok(ExitCode::SUCCESS);
    }
    ui.out(&format!("{file}: {}, {}\n", clean(&change_set.title), count(records, "record")));
    if !change_set.other_files.is_empty() {
        let files = change_set.other_files.join(", ");
        ui.note(&format!("note: what changed outside of records is no part of it: {files}"));
    }
    ui.note("`stitching apply FILE` makes it elsewhere");
    Ok(ExitCode::SUCCESS)
}

/// A change of the history as records and fields.
fn change_set(folder: &Path, number: usize, ui: &Ui) -> Result<ChangeSet, Error> {
    let project = open_in(folder, ui)?;
    let states = with_journal(folder, ui, |journal| journal.states(number))?;
    let (before, after) =
        (project.stack.with_staged(&states.before), project.stack.with_staged(&states.after));
    let (before, after) = (View::top(&before, &project.schema), View::top(&after, &project.schema));
    let mut out = ChangeSet::between(&states.entry.title, &states.entry.steps, before, after)?;
    out.other_files.extend(states.archives);
    Ok(out)
}

/// Takes an older change back, record by record, as a change of its own.
fn undo_older(
    folder: &Path,
    number: usize,
    args: &Undo,
    global: &Global,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let change_set = change_set(folder, number, ui)?;
    if let Some(file) = change_set.other_files.first() {
        return Err(Error::refused(
            format!(
                "change {number} touched `{file}` outside of records, and can only be undone when it is the last"
            ),
            "undo the later ones first; nothing was changed",
        ));
    }
    // What writes waits for those who read.
    ui.keep_locked(None);
    let title = format!("undo {number}: {}", change_set.title);
    let editing = Editing { preview: args.preview, allow_errors: args.allow_errors };
    edit::run(folder, &editing, global, ui, |project| {
        apply(project, &change_set.reversed(), &title, OnConflict::Refuse).map_err(later_changes)
    })
}

/// Conflicts with what is to be undone come from later changes, between which nothing is to be chosen.
fn later_changes(error: Error) -> Error {
    match error {
        Error::Refused(mut refusal) if refusal.help.step == Some(NextStep::ChooseSide) => {
            refusal.help = "undo the later changes of these first, or set them by hand".into();
            Error::Refused(refusal)
        }
        other => other,
    }
}

fn list(folder: &Path, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    // What was interrupted counts as it is put right.
    open_in(folder, ui)?;
    let items = with_journal(folder, ui, |journal| journal.history())?;
    if as_json {
        ui.json(&HistoryShape { changes: items.iter().map(Into::into).collect() });
    } else if items.is_empty() {
        ui.out("no changes yet\n");
    } else {
        let row = |item: &HistoryItem| {
            let entry = &item.entry;
            let files = entry.files_of_mod().to_string();
            let undone = if item.undone { "undone" } else { "" };
            vec![
                entry.number.to_string(),
                date(entry.time),
                files,
                entry.values.to_string(),
                undone.to_owned(),
                clean(&entry.title),
            ]
        };
        let rows: Vec<Vec<String>> = items.iter().map(row).collect();
        let header = ["no.", "when (UTC)", "files", "values", "", "change"];
        ui.out(&table::aligned(&header, &rows, ui.width()));
    }
    Ok(ExitCode::SUCCESS)
}

pub fn undo(folder: &Path, args: &Undo, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    if let Some(number) = args.number {
        let items = with_journal(folder, ui, |journal| journal.history())?;
        let last = items.iter().rfind(|item| !item.undone).map(|item| item.entry.number);
        if args.preview || last != Some(number) {
            return undo_older(folder, number, args, global, ui);
        }
    }
    let turned = with_journal(folder, ui, |journal| journal.undo(changed_since(&args.turning)))?;
    tell(&turned, "undone", "`stitching redo` makes it again", as_json, ui);
    Ok(ExitCode::SUCCESS)
}

pub fn redo(folder: &Path, args: &Turning, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let turned = with_journal(folder, ui, |journal| journal.redo(changed_since(args)))?;
    tell(&turned, "done again", "`stitching undo` takes it back", as_json, ui);
    Ok(ExitCode::SUCCESS)
}

fn changed_since(args: &Turning) -> ChangedSince {
    if args.leave_changed { ChangedSince::Leave } else { ChangedSince::Refuse }
}

fn tell(turned: &Turned, what: &str, next: &str, as_json: bool, ui: &Ui) {
    ui.changed();
    let Turned { entry, left } = turned;
    let files = entry.files_of_mod().saturating_sub(left.len());
    if as_json {
        ui.json(&TurnedShape { number: entry.number, title: &entry.title, files, left, state: what });
        return;
    }
    ui.out(&format!("{what}: {} ({})\n", clean(&entry.title), count(files, "file")));
    for path in left {
        ui.note(&format!("note: `{path}` was changed since, and stays as it is"));
    }
    ui.note(next);
}

/// Seconds since 1970-01-01 as `2026-11-23 08:15`, in UTC.
fn date(seconds: u64) -> String {
    // Days to a date of the proleptic Gregorian calendar, with years that begin in March.
    let (days, rest) = (seconds / 86_400 + 719_468, seconds % 86_400);
    let (era, day_of_era) = (days / 146_097, days % 146_097);
    let year_of_era = (day_of_era - day_of_era / 1_460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let month = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * month + 2) / 5 + 1;
    let (month, carry) = if month < 10 { (month + 3, 0) } else { (month - 9, 1) };
    let year = era * 400 + year_of_era + carry;
    format!("{year:04}-{month:02}-{day:02} {:02}:{:02}", rest / 3_600, rest % 3_600 / 60)
}

#[cfg(test)]
mod tests {
    use super::date;
    use rstest::rstest;

    #[rstest]
    #[case(0, "1970-01-01 00:00")]
    #[case(951_782_400, "2000-02-29 00:00")]
    #[case(1_795_422_300, "2026-11-23 08:25")]
    fn dates(#[case] seconds: u64, #[case] shown: &str) {
        assert_eq!(date(seconds), shown);
    }
}
