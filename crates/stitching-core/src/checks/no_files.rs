//! A table for which there is no file.

use super::{Check, Run};
use crate::Code;
use crate::links::Index;
use crate::problem::{Problem, Severity};

pub(super) static CHECK: Check = Check {
    code: Code::NO_FILES,
    severity: Severity::Warning,
    about: "a table for which there is no file",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A table of the schema whose patterns take in no file of any layer.

Why it matters
    Every reference to the table dangles, and none of its records is checked.

When to ignore it
    When the schema is shared with a larger game or mod that has such files.

Example, wrong
    files = \"table/reaches.txt\"

Example, right
    files = \"tables/reaches.txt\"
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let all_read = index.through == index.stack.top();
    let mut taken = vec![!all_read; index.schema.tables.len()];
    for file in index.stack.files().iter().filter(|_| all_read) {
        index.schema.tables_of(&file.path).into_iter().for_each(|table| taken[table] = true);
    }
    let empty = index.schema.tables.iter().enumerate();
    let empty = empty.filter(|(id, table)| !taken[*id] && !table.is_by_use());
    let problem = |(_, table): (usize, &crate::schema::Table)| {
        let patterns: Vec<&str> = table.files.iter().map(|pattern| pattern.source.as_str()).collect();
        let message = format!(
            "no file of any layer fits `{}`, so the table `{}` is empty",
            patterns.join("`, `"),
            table.name
        );
        let mut problem = Problem::new(CHECK.code, CHECK.severity, message, table.place.clone());
        problem.help = Some("patterns are relative to a layer's root, and mind upper and lower case".into());
        problem.table = Some(table.name.clone());
        problem
    };
    empty.map(problem).collect()
}
