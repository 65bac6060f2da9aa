//! Something in a layer that cannot be used as a file.

use super::{Check, Run};
use crate::Code;
use crate::layers::{LayerFaultKind, LayerId, Stack};
use crate::links::Index;
use crate::problem::{Place, Problem, Severity};
use crate::reading::FileFault;

pub(super) static CHECK: Check = Check {
    code: Code::UNREADABLE_ENTRY,
    severity: Severity::Error,
    about: "a file or link in a layer that cannot be used",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A symbolic link that leads out of its layer or nowhere, a file name that is not Unicode, a
    file or folder that the system does not let us read, an archive that is damaged, an entry of
    an archive that leads out of it, is there twice, is encrypted, or unpacks to far too much.

Why it matters
    What is not read is not checked, and on another machine it may not be there at all.

When to ignore it
    When the file is none of the game's data.

Example, wrong
    mod/tables/reaches.txt -> /home/me/old/reaches.txt

Example, right
    mod/tables/reaches.txt, a file
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let layer = |id: usize| index.stack.layers()[id].name.as_str();
    let mut problems = passed_over(index.stack, index.through);
    for file in &index.files {
        if let Some(FileFault::Unreadable(answer)) = &file.fault {
            let entry = &index.stack.files()[file.id];
            let place = Place::file(entry.path.as_str(), layer(entry.layer));
            let mut problem =
                Problem::new(CHECK.code, CHECK.severity, format!("the file cannot be read: {answer}"), place);
            problem.help =
                Some("give yourself the right to read it, or close the program that holds it".into());
            problems.push(problem);
        }
    }
    problems
}

/// What in the folders of the layers through `through` is passed over, and why.
pub fn passed_over(stack: &Stack, through: LayerId) -> Vec<Problem> {
    let mut problems = Vec::new();
    for fault in stack.faults().iter().filter(|fault| fault.layer <= through) {
        let (message, help) = match &fault.kind {
            LayerFaultKind::Link => {
                ("the link leads out of its layer, or nowhere".to_owned(), "put a real file in its place")
            }
            LayerFaultKind::FolderLink => (
                "a link to a folder, which is not followed: it may lead out of the layer, or in a circle"
                    .to_owned(),
                "put the folder itself in its place; one of a base layer is named as a layer of its own",
            ),
            LayerFaultKind::Name => {
                ("the file name is not plain Unicode, or has a backslash".to_owned(), "rename the file")
            }
            LayerFaultKind::Archive(reason) => (
                format!("it cannot be read as a zip archive: {reason}"),
                "get a sound copy of it, or leave it out of the layer's `archives`",
            ),
            LayerFaultKind::Entry(reason) => (
                format!("this entry of the archive is passed over: {reason}"),
                "pack the archive anew without it, if the game needs it",
            ),
            LayerFaultKind::Unreadable(answer) => {
                (format!("it cannot be listed: {answer}"), "give yourself the right to read it")
            }
        };
        let mut problem = Problem::new(
            CHECK.code,
            CHECK.severity,
            message,
            Place::file(&fault.path, &stack.layers()[fault.layer].name),
        );
        problem.help = Some(help.into());
        problems.push(problem);
    }
    problems
}
