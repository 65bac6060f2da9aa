//! What all commands that change files do with their change: try it out, show it or write it, and tell
//! what was done.

use super::{CALL_HOOK, no_mod, open_in, tell};
use crate::args::{Editing, Global};
use crate::ui::{BOLD, CYAN, DIM, GREEN, RED, Ui, count, styled, wants_json};
use serde::Serialize;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::changes::{Change, Note, Source, Step, in_step, unified_diff, verify};
use stitching_core::journal::{Journal, Notice};
use stitching_core::layers::RelPath;
use stitching_core::{Error, Project};

/// Files listed one by one; more are counted.
const LISTED: usize = 12;

/// Builds a change of the project in `folder` with `build` and writes it, or shows it if that is asked for.
pub fn run(
    folder: &Path,
    args: &Editing,
    global: &Global,
    ui: &Ui,
    build: impl FnOnce(&Project) -> Result<Change, Error>,
) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    // What is read must not change under our hands, neither while a change is built nor while it is shown.
    let observer = |notice: &Notice| tell(notice, ui);
    let (project, held) = if args.preview {
        (open_in(folder, ui)?, None)
    } else {
        let (project, held) = Project::open_with(folder, |mod_root| {
            Journal::new(folder, mod_root, &observer).with_hook(CALL_HOOK).hold()
        })?;
        (project, Some(held.ok_or_else(no_mod)?))
    };
    let project = &project;
    let change = ui.progress("looking for uses", || in_step(project, build(project)?))?;
    let tried = match args.allow_errors {
        true => Ok(()),
        false => ui.progress("trying it out", || verify(project, &change)),
    };
    let Some(held) = held else {
        let diff = unified_diff(project, &change)?;
        if as_json {
            tried?;
            ui.json(&ChangeShape { diff: Some(&diff), ..ChangeShape::of(&change) });
            return Ok(ExitCode::SUCCESS);
        }
        ui.out_owned(coloured(diff));
        ui.note(&format!("nothing was written: {}", amount(&change)));
        tell_notes(&change, ui);
        // What is shown helps to see why it would be refused.
        tried?;
        return Ok(ExitCode::SUCCESS);
    };
    tried?;
    let number = ui.progress("writing", || held.commit(&project.stack, &change))?;
    ui.changed();
    if as_json {
        ui.json(&ChangeShape { written: true, number: Some(number), ..ChangeShape::of(&change) });
        return Ok(ExitCode::SUCCESS);
    }
    let mut out = format!("{}: {}\n", change.title(), amount(&change));
    for file in change.files().iter().take(LISTED) {
        let edits = match (file.to(), file.source()) {
            (None, _) => "removed".to_owned(),
            (_, Source::New) => "new".to_owned(),
            // It took the place of another one, or another its own.
            (to, _) if file.former_path().is_some() && (file.from().is_none() || file.from() == to) => {
                "moved".to_owned()
            }
            _ if !file.edits().is_empty() => count(file.edits().edits().len(), "edit"),
            (_, Source::CopyOf(_)) => "copied".to_owned(),
            (_, Source::Own(_)) => "moved".to_owned(),
        };
        out.push_str(&format!("    {:<40} {}\n", file.path(), styled(DIM, edits)));
    }
    if change.files().len() > LISTED {
        out.push_str(&format!("    and {}\n", count(change.files().len() - LISTED, "more file")));
    }
    ui.out(&out);
    tell_notes(&change, ui);
    ui.note("`stitching undo` takes it back");
    Ok(ExitCode::SUCCESS)
}

/// How much a change changes.
fn amount(change: &Change) -> String {
    let of_records = match change.records() {
        0 => String::new(),
        number => format!(" of {}", count(number, "record")),
    };
    if change.values() == 0 && change.records() > 0 {
        return format!("{} in {}", count(change.records(), "record"), count(change.files().len(), "file"));
    }
    if change.values() == 0 {
        return count(change.files().len(), "file");
    }
    format!("{}{of_records} in {}", count(change.values(), "value"), count(change.files().len(), "file"))
}

/// A diff with what goes in red and what comes in green, where colours are shown.
fn coloured(diff: String) -> String {
    if anstream::AutoStream::choice(&std::io::stdout()) == anstream::ColorChoice::Never {
        return diff;
    }
    let mut out = String::with_capacity(diff.len());
    for line in diff.split_inclusive('\n') {
        let style = match line.as_bytes().first() {
            Some(b'-') => RED,
            Some(b'+') => GREEN,
            Some(b'@') => CYAN,
            Some(b'd') => BOLD,
            _ => {
                out.push_str(line);
                continue;
            }
        };
        let _ = write!(out, "{style}{line}{style:#}");
    }
    out
}

fn tell_notes(change: &Change, ui: &Ui) {
    let (brought_up, others): (Vec<&Note>, Vec<&Note>) =
        change.notes().iter().partition(|note| matches!(note, Note::BroughtUp(..)));
    if brought_up.len() > LISTED / 4 {
        let number = count(brought_up.len(), "file");
        ui.note(&format!("note: {number} lay only in a base layer; the mod now has copies of them (`--format json` names them)"));
    } else {
        brought_up.iter().for_each(|note| ui.note(&format!("note: {}", sentence(note))));
    }
    let (copied, others): (Vec<&Note>, Vec<&Note>) =
        others.into_iter().partition(|note| matches!(note, Note::FileCopied(..)));
    if copied.len() > LISTED / 4 {
        ui.note(&format!("note: {} are copies (`--format json` names them)", count(copied.len(), "file")));
    } else {
        copied.iter().for_each(|note| ui.note(&format!("note: {}", sentence(note))));
    }
    let (follows, others): (Vec<&Note>, Vec<&Note>) =
        others.into_iter().partition(|note| matches!(note, Note::Follows(..)));
    if follows.len() > LISTED / 4 {
        let number = count(follows.len(), "record");
        ui.note(&format!("note: {number} have the renamed key as a part of their own, and follow (`--format json` names them)"));
    } else {
        follows.iter().for_each(|note| ui.note(&format!("note: {}", sentence(note))));
    }
    let (along, others): (Vec<&Note>, Vec<&Note>) =
        others.into_iter().partition(|note| matches!(note, Note::WentAlong(..)));
    if !along.is_empty() {
        ui.note(&format!("note: gone with it: {}", listed(&along)));
    }
    let (came, others): (Vec<&Note>, Vec<&Note>) =
        others.into_iter().partition(|note| matches!(note, Note::CameAlong(..)));
    if !came.is_empty() {
        ui.note(&format!("note: came along: {}", listed(&came)));
    }
    let (detached, others): (Vec<&Note>, Vec<&Note>) =
        others.into_iter().partition(|note| matches!(note, Note::Detached(..)));
    if !detached.is_empty() {
        ui.note(&format!("note: does not refer to it any more: {}", listed(&detached)));
    }
    let (put_right, others): (Vec<&Note>, Vec<&Note>) =
        others.into_iter().partition(|note| matches!(note, Note::PutRight(..)));
    if !put_right.is_empty() {
        ui.note(&format!("note: put right: {}", listed(&put_right)));
    }
    let (still, others): (Vec<&Note>, Vec<&Note>) =
        others.into_iter().partition(|note| matches!(note, Note::StillNames(..)));
    others.iter().for_each(|note| ui.note(&format!("note: {}", sentence(note))));
    tell_old_names(&still, change, ui);
}

/// Where old names still stand, a line for each name.
fn tell_old_names(notes: &[&Note], change: &Change, ui: &Ui) {
    let mut by_word: BTreeMap<&str, Vec<&str>> = BTreeMap::new();
    for note in notes {
        if let Note::StillNames(place, word) = note {
            by_word.entry(word).or_default().push(place);
        }
    }
    if by_word.is_empty() {
        return;
    }
    for (word, places) in by_word.iter().take(LISTED) {
        let more = match places.len().saturating_sub(LISTED) {
            0 => String::new(),
            more => format!(" and {}", count(more, "more place")),
        };
        let shown = places.iter().take(LISTED).copied().collect::<Vec<_>>().join(", ");
        ui.note(&format!("note: `{word}` still stands at {shown}{more}"));
    }
    if by_word.len() > LISTED {
        let more = count(by_word.len() - LISTED, "more old name");
        ui.note(&format!("note: so do {more} (`--format json` names the places)"));
    }
    let may_follow =
        |step: &Step| matches!(step, Step::Rename { .. } | Step::RenameMany { .. } | Step::Copy(_));
    if change.steps().iter().any(may_follow) {
        ui.note("note: with `--also PLACE`, or `--also all`, the new name stands there too");
    }
}

/// The addresses that notes of one kind tell; of a table with many only how many there are.
fn listed(notes: &[&Note]) -> String {
    const EACH: usize = 3;
    let address = |note: &&Note| match note {
        Note::WentAlong(address)
        | Note::CameAlong(address)
        | Note::Detached(address)
        | Note::PutRight(address) => address.clone(),
        other => sentence(other),
    };
    let mut by_table: Vec<(String, Vec<String>)> = Vec::new();
    for address in notes.iter().map(address) {
        let table = address.split(':').next().unwrap_or_default().to_owned();
        match by_table.iter_mut().find(|(own, _)| *own == table) {
            Some((_, addresses)) => addresses.push(address),
            None => by_table.push((table, vec![address])),
        }
    }
    let shown = |(table, addresses): (String, Vec<String>)| match addresses.len() {
        0..=EACH => addresses.join(", "),
        number => format!("{number} of {table}"),
    };
    by_table.into_iter().map(shown).collect::<Vec<_>>().join(", ")
}

fn sentence(note: &Note) -> String {
    match note {
        Note::BroughtUp(path, layer) => {
            format!("`{path}` lay only in the layer `{layer}`; the mod now has a copy of it")
        }
        Note::Added(address, path) => {
            format!("{address} lies in a base layer; the mod's `{path}` now has what changes of it")
        }
        Note::RecordStays(address) => {
            format!(
                "{address} is still in a base layer under its old key, where nothing refers to it any more"
            )
        }
        Note::CountsAgain(address, layer) => {
            format!("{address} is still there: what the layer `{layer}` says of it counts again")
        }
        Note::FileKeptAside(path) => {
            format!("`{path}` is taken out of the mod and kept in `.stitching/off`")
        }
        Note::PositionsFollow(table) => {
            format!("records of `{table}` have other positions now, and what refers to them follows")
        }
        Note::KeptAside(path) => {
            format!(
                "it cannot be made a note in `{path}`; it was taken out and is kept in `.stitching/off.json`"
            )
        }
        Note::Moved(from, to) => format!("`{from}` is now `{to}`"),
        Note::StaysInBase(from, to) => {
            format!(
                "`{from}` lies in a base layer, which is never written: the mod has it as `{to}`, and the old file is still seen by the game"
            )
        }
        Note::Follows(before, after) => {
            format!("{before} becomes {after}, since its key names the renamed record")
        }
        Note::CameAlong(address) => format!("{address} came along"),
        Note::FileCopied(from, to) => format!("`{to}` is a copy of `{from}`"),
        Note::StillNamesMore(number) => format!("{} still have an old name", count(*number, "further place")),
        Note::StillNames(place, word) => format!("{place} still has `{word}`"),
        Note::Lacks(path) => format!("`{path}` is named in the copy, and is not there"),
        Note::FileKept(path) => format!("`{path}` is there already, and stays as it is"),
        Note::RecordKept(address) => format!("{address} is there already, and stays as it is"),
        Note::FileBrought(path) => format!("`{path}` comes along"),
        Note::Joined(address) => format!("{address} has the copy behind the original"),
        Note::NotJoined(number) => {
            let lists = if *number == 1 { "one list has".to_owned() } else { format!("{number} lists have") };
            format!(
                "{lists} the original and not the copy; `--join all` or `--join TABLE.FIELD` puts it behind it"
            )
        }
        Note::SameAsOriginal(address, names) => {
            format!("{address} has the same as the original in fields in which nearly all differ: {names}")
        }
        Note::FixesToLookAt(number) => {
            let (have, them) = if *number == 1 { ("has", "it") } else { ("have", "them") };
            format!(
                "{} {have} a fix to look at first: `stitching fix --all --preview` shows {them}",
                count(*number, "more problem")
            )
        }
        Note::NameToTranslate(languages) => {
            format!("the name is the same in {languages}, and still to be translated")
        }
        Note::TextsUnknown(addresses) => format!("the game has no text {}", first_of(addresses)),
        Note::TextsInDoubt(number) => {
            let are = if *number == 1 { "is" } else { "are" };
            format!("{} {are} marked to be looked at again, and left out", count(*number, "translation"))
        }
        Note::TextsByRecord(number) => format!(
            "{} left out: its records say themselves what language they are in",
            count(*number, "text")
        ),
        Note::TextsChanged(addresses) => {
            format!("not what was translated any more: {}", first_of(addresses))
        }
        Note::TextsToWrite(number) => {
            let are = if *number == 1 { "is" } else { "are" };
            format!("{} {are} as in the original and {are} still to be written", count(*number, "text"))
        }
        Note::WentAlong(address) => format!("{address} belongs to it, and is gone too"),
        Note::Detached(address) => format!("{address} does not refer to it any more"),
        Note::LeftDangling(address, path) => format!("{address} in `{path}` leads nowhere now"),
        Note::Shared(what, number) => {
            format!("{what} stays: it is named from {} more", count(*number, "place"))
        }
        Note::PutRight(what) => format!("{what} is put right"),
        Note::DerivedRemoved(path) => {
            format!("`{path}` is removed, since what it is made from changed")
        }
        Note::DerivedEmptied(path) => {
            format!("`{path}` has nothing in it any more, since what it is made from changed")
        }
        Note::MeetsCondition(address, condition) => {
            format!("{address} meets the condition too, and was not there then: {condition}")
        }
        Note::Stale(path) => format!("`{path}` is stale: make it anew from what changed"),
        Note::ReferredTo(number) => {
            format!("what changed is referred to from {}", count(*number, "place"))
        }
    }
}

/// The result of commands that change files.
#[derive(Debug, Serialize)]
struct ChangeShape<'c> {
    title: &'c str,
    values: usize,
    records: usize,
    files: Vec<FileShape<'c>>,
    notes: Vec<String>,
    written: bool,
    /// Its number in the history, if it is written.
    #[serde(skip_serializing_if = "Option::is_none")]
    number: Option<usize>,
    /// What it would do, if it is only shown.
    #[serde(skip_serializing_if = "Option::is_none")]
    diff: Option<&'c str>,
}

/// A file that changes.
#[derive(Debug, Serialize)]
struct FileShape<'c> {
    path: &'c str,
    former_path: Option<&'c str>,
    brought_up: bool,
    edits: usize,
}

impl<'c> ChangeShape<'c> {
    fn of(change: &'c Change) -> ChangeShape<'c> {
        let files = change.files().iter().map(|file| FileShape {
            path: file.path(),
            former_path: file.former_path().map(RelPath::as_str),
            brought_up: file.is_copy(),
            edits: file.edits().edits().len(),
        });
        ChangeShape {
            title: change.title(),
            values: change.values(),
            records: change.records(),
            files: files.collect(),
            notes: change.notes().iter().map(sentence).collect(),
            written: false,
            number: None,
            diff: None,
        }
    }
}

/// The first of many names.
fn first_of(names: &[String]) -> String {
    const MOST: usize = 5;
    let shown = names.iter().take(MOST).cloned().collect::<Vec<_>>().join(", ");
    match names.len().saturating_sub(MOST) {
        0 => shown,
        more => format!("{shown} and {more} more"),
    }
}
