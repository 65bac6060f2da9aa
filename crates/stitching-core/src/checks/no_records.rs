//! A table whose files have no record at the path that the schema gives.

use super::{Check, Run};
use crate::Code;
use crate::links::Index;
use crate::problem::{Problem, Severity};
use crate::tables::Seed;

pub(super) static CHECK: Check = Check {
    code: Code::NO_RECORDS,
    severity: Severity::Warning,
    about: "a table whose files have no record at the path that the schema gives",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A table of which there are files, and in none of them is anything at the path `records`.

Why it matters
    The path is misspelt, or the files are of another shape: the table is empty, every reference to
    it dangles, and nothing in these files is checked.

When to ignore it
    When the files have no such entries yet.

Example, wrong
    records = \"/wharf/offers\"     # in the files: <wharf><offer .../></wharf>

Example, right
    records = \"/wharf/offer\"
";

/// What is said of the schema is said once, of all layers together: a lower layer has no fault of its own by it.
fn find(index: &Index<'_>) -> Vec<Problem> {
    if index.through != index.stack.top() {
        return Vec::new();
    }
    let mut problems = Vec::new();
    for (id, table) in index.schema.tables.iter().enumerate() {
        let own = &index.tables[id];
        let (Some(path), true) = (table.format.records_path(), own.records == 0 && !own.files.is_empty())
        else {
            continue;
        };
        // What cannot be read may have them.
        let unreadable = |seed: &Seed| seed.code == Code::SYNTAX_ERROR;
        if own.files.iter().any(|file| index.files[file.file as usize].facts.seeds.iter().any(unreadable)) {
            continue;
        }
        let files = match own.files.len() {
            1 => "the file".to_owned(),
            count => format!("any of the {count} files"),
        };
        let message = format!("there is nothing at `{path}` in {files} of `{}`", table.name);
        let mut problem = Problem::new(CHECK.code, CHECK.severity, message, table.place.clone());
        problem.help = Some(
            "look at the path in `records`: names are as in the files, with upper and lower case".into(),
        );
        problem.table = Some(table.name.clone());
        problems.push(problem);
    }
    problems
}
