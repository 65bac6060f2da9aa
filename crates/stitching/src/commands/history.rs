//! `stitching history`, `undo` and `redo`

use super::{open_in, with_journal};
use crate::args::{Global, Turning};
use crate::render::human::clean;
use crate::render::table;
use crate::ui::{Ui, count, wants_json};
use serde::Serialize;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::journal::{ChangedSince, HistoryItem, Turned};

/// The result of `history`.
#[derive(Debug, Serialize)]
struct History<'h> {
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

pub fn list(folder: &Path, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    // What was interrupted counts as it is put right.
    open_in(folder, ui)?;
    let items = with_journal(folder, ui, |journal| journal.history())?;
    if as_json {
        ui.json(&History { changes: items.iter().map(Into::into).collect() });
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

pub fn undo(folder: &Path, args: &Turning, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let turned = with_journal(folder, ui, |journal| journal.undo(changed_since(args)))?;
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
