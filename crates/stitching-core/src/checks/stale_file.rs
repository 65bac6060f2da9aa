//! A file made from others that is missing, empty, or older than these.

use super::at_places::file_place;
use super::{Check, Run};
use crate::Code;
use crate::layers::FileId;
use crate::links::Index;
use crate::problem::{Problem, Related, Severity};
use crate::schema::{Derived, WhenChanged};
use std::collections::BTreeMap;

pub(super) static CHECK: Check = Check {
    code: Code::STALE_FILE,
    severity: Severity::Warning,
    about: "a file made from others that is missing, empty, or older than these",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A file of a [[derived]] that was changed before one of those that it is made from, that has
    nothing in it, or that is not there though `required` asks for it. Which is older is judged
    by the times of the files alone; unpacking and copying may change them.

Why it matters
    The game goes on with the old map, list or picture, and what was changed does not show.

When to ignore it
    When the times come from unpacking or from a repository, and the game shows what it should.

Example, wrong
    sites/weir.json changed today, and cache/weir.bin a week ago

Example, right
    cache/weir.bin made anew, or removed so that the game makes it
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let mut out = Vec::new();
    for derived in &index.schema.derived {
        older(index, derived, &mut out);
        empty(index, derived, &mut out);
        missing(index, derived, &mut out);
    }
    out.sort_by(|a, b| a.order().cmp(&b.order()));
    out
}

fn older(index: &Index<'_>, derived: &Derived, out: &mut Vec<Problem>) {
    for (file, source) in derived.older_files(index.stack, index.through) {
        let path = &index.stack.files()[source].path;
        let message = format!("`{path}`, which it is made from, was changed later, by the times of both");
        let mut problem = Problem::new(CHECK.code, CHECK.severity, message, file_place(index, file));
        let help = match derived.when_changed {
            WhenChanged::Delete => "remove it, so that the game makes it anew, or make it anew",
            WhenChanged::Empty => "empty it, or make it anew",
            WhenChanged::Report => "make it anew",
        };
        problem.help = Some(help.into());
        problem
            .related
            .push(Related { message: "this was changed later".to_owned(), place: file_place(index, source) });
        out.push(problem);
    }
}

/// Files in which there is nothing, unless that is how the game is told to make them.
fn empty(index: &Index<'_>, derived: &Derived, out: &mut Vec<Problem>) {
    if derived.when_changed == WhenChanged::Empty {
        return;
    }
    for file in &index.files {
        let entry = &index.stack.files()[file.id];
        if entry.size == 0 && derived.files.takes(entry.path.as_str()) {
            let message = "there is nothing in it, and it is made from other files";
            let mut problem = Problem::new(CHECK.code, CHECK.severity, message, file_place(index, file.id));
            problem.help = Some("make it anew, or remove it".into());
            out.push(problem);
        }
    }
}

fn missing(index: &Index<'_>, derived: &Derived, out: &mut Vec<Problem>) {
    // Each with the first of the files that it would be made from.
    let mut wanted: BTreeMap<String, FileId> = BTreeMap::new();
    for file in &index.files {
        if let Some(path) = derived.wanted_for(&index.stack.files()[file.id].path) {
            wanted.entry(path).or_insert(file.id);
        }
    }
    for (path, source) in wanted {
        if !index.has_path(&path) {
            let message = format!("`{path}`, which is made from it, is not there");
            let mut problem = Problem::new(CHECK.code, CHECK.severity, message, file_place(index, source));
            problem.help = Some("make it".into());
            out.push(problem);
        }
    }
}
