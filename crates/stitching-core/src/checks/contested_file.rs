//! A file whose records two tables claim.

use super::{Check, Run};
use crate::links::Index;
use crate::problem::{Place, Problem, Related, Severity};
use crate::schema::Table;

pub(super) static CHECK: Check = Check {
    code: "contested-file",
    severity: Severity::Warning,
    about: "a file whose records two tables claim",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A file that the patterns of two tables take in, so that the same text would be records of
    both. Tables of whole files, and JSON tables that take different records out of one file,
    do not get in each other's way.

Why it matters
    One of the two reads the file with the wrong columns, and reports what is no problem.

When to ignore it
    Never; make the pattern of one of them narrower.

Example, wrong
    [table.reaches]  files = \"tables/*.txt\"
    [table.locks]    files = \"tables/locks.txt\"

Example, right
    [table.reaches]  files = \"tables/reaches.txt\"
    [table.locks]    files = \"tables/locks.txt\"
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let mut problems = Vec::new();
    for file in &index.files {
        let entry = &index.stack.files()[file.id];
        let claims = index.schema.tables_of(&entry.path);
        let claims: Vec<&Table> = claims.into_iter().map(|id| &index.schema.tables[id]).collect();
        for (at, later) in claims.iter().enumerate() {
            let Some(first) = claims[..at].iter().find(|first| contest(first, later)) else { continue };
            let place = Place::file(entry.path.as_str(), &index.stack.layers()[entry.layer].name);
            let message = format!("the tables `{}` and `{}` both take this file", first.name, later.name);
            let mut problem = Problem::new(CHECK.code, CHECK.severity, message, place);
            problem.help = Some("make the pattern in `files` of one of them narrower".to_owned());
            problem.table = Some(later.name.clone());
            for table in [first, later] {
                let message = format!("`{}` is described here", table.name);
                problem.related.push(Related { message, place: table.place.clone() });
            }
            problems.push(problem);
        }
    }
    problems
}

fn contest(a: &Table, b: &Table) -> bool {
    // One file may hold several kinds of records in different places of it.
    let apart = match (a.format_name, b.format_name) {
        ("delimited", "delimited") => false,
        ("lines", _) | (_, "lines") => true,
        (one, other) => one == other && format!("{:?}", a.format) != format!("{:?}", b.format),
    };
    !a.is_of_files() && !b.is_of_files() && !apart
}
