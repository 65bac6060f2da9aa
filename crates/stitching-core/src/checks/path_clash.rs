//! Two files whose paths differ only in upper and lower case.

use super::{Check, Run};
use crate::Code;
use crate::links::Index;
use crate::problem::{Place, Problem, Related, Severity};
use std::collections::HashMap;

pub(super) static CHECK: Check = Check {
    code: Code::PATH_CLASH,
    severity: Severity::Warning,
    about: "two files whose paths differ only in upper and lower case",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    Two files, in one layer or in two, whose paths are the same but for upper and lower case.

Why it matters
    On Windows and macOS they are one file: the mod's file then replaces the base's, or one of
    the two is lost when the mod is unpacked. Elsewhere both are there.

When to ignore it
    When mod and game only ever run on one system, and you mean what happens there.

Example, wrong
    game/tables/reaches.txt and mod/Tables/reaches.txt

Example, right
    game/tables/reaches.txt and mod/tables/reaches.txt
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let mut seen: HashMap<String, usize> = HashMap::new();
    let mut problems = Vec::new();
    for file in &index.files {
        let entry = &index.stack.files()[file.id];
        let first = *seen.entry(entry.path.folded()).or_insert(file.id);
        // Files of one path in several layers may count together.
        if index.stack.files()[first].path == entry.path {
            continue;
        }
        // The one in the higher layer is the one to be renamed.
        let (low, high) =
            if index.stack.files()[first].layer > entry.layer { (file.id, first) } else { (first, file.id) };
        let place = |id: usize| {
            let entry = &index.stack.files()[id];
            Place::file(entry.path.as_str(), &index.stack.layers()[entry.layer].name)
        };
        let message = format!("the path differs from `{}` only in case", index.stack.files()[low].path);
        let mut problem = Problem::new(CHECK.code, CHECK.severity, message, place(high));
        problem.help = Some("rename one of them: on Windows and macOS they are one file".into());
        problem.related.push(Related { message: "the other file".to_owned(), place: place(low) });
        problems.push(problem);
    }
    problems
}
