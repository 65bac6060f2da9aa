//! Files that must be equal and are not.

use super::at_places::file_place;
use super::{Check, Run};
use crate::Code;
use crate::layers::{FileId, RelPath};
use crate::links::Index;
use crate::problem::{Problem, Related, Severity};

pub(super) static CHECK: Check = Check {
    code: Code::PAIRED_DIFFER,
    severity: Severity::Error,
    about: "files that must be equal and are not",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    Files of a [[paired]] of which one has other bytes than the first that is there, or is
    missing.

Why it matters
    The game reads one here and the other there, and goes by both.

When to ignore it
    When only one of them is read: take the [[paired]] out of the schema.

Example, wrong
    site.json says 4 berths, and info/site.json 3

Example, right
    both say 4 berths
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let mut out = Vec::new();
    let file_at = |path: &RelPath| -> Option<FileId> {
        (0..=index.through).rev().find_map(|layer| index.stack.find(layer, path))
    };
    for paired in &index.schema.paired {
        let there: Vec<(&RelPath, Option<FileId>)> =
            paired.files.iter().map(|path| (path, file_at(path))).collect();
        let Some((first, lead)) = there.iter().find_map(|(path, file)| Some((*path, (*file)?))) else {
            continue;
        };
        let (mut own, mut other) = (Vec::new(), Vec::new());
        if index.stack.read(lead, &mut own).is_err() {
            continue;
        }
        for (path, file) in there {
            let (at, message) = match file {
                Some(file) if file == lead => continue,
                Some(file) if index.stack.read(file, &mut other).is_err() || own == other => continue,
                Some(file) => (file, format!("it must be equal to `{first}`, and differs")),
                None => (lead, format!("`{path}` must be equal to it, and is not there")),
            };
            let mut problem = Problem::new(CHECK.code, CHECK.severity, message, file_place(index, at));
            problem.help = Some(format!("copy the right one over the other; `{first}` leads").into());
            if at != lead {
                let message = "this leads".to_owned();
                problem.related.push(Related { message, place: file_place(index, lead) });
            }
            out.push(problem);
        }
    }
    out
}
