//! A field that the schema describes and no record has.

use super::{Check, Run};
use crate::Code;
use crate::links::Index;
use crate::problem::{Problem, Severity};

pub(super) static CHECK: Check = Check {
    code: Code::UNUSED_FIELD,
    severity: Severity::Warning,
    about: "a field that the schema describes and no record has",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A field that the schema names, in `fields`, as `label` or elsewhere, and that no record of any
    layer has.

Why it matters
    The name is misspelt, most of the time: what the schema says of the field is checked nowhere.

When to ignore it
    When the game knows the field and no record needs it: mark it `optional = true`.

Example, wrong
    [table.reaches.fields]
    Bassin = { ref = \"basins\" }     # the column is called Basin

Example, right
    [table.reaches.fields]
    Basin = { ref = \"basins\" }
";

/// What is said of the schema is said once, of all layers together: a lower layer has no fault of its own by it.
fn find(index: &Index<'_>) -> Vec<Problem> {
    if index.through != index.stack.top() {
        return Vec::new();
    }
    let mut problems = Vec::new();
    for (id, table) in index.schema.tables.iter().enumerate().filter(|(id, _)| index.tables[*id].records > 0)
    {
        let mut present = vec![false; table.fields.len()];
        for own in &index.tables[id].files {
            let facts = index.facts(own.file, own.slot);
            present.iter_mut().zip(&facts.present).for_each(|(present, own)| *present |= own);
        }
        let unused = table.fields.iter().enumerate().filter(|(at, field)| {
            // A record without its key is told itself.
            !present[*at] && !field.optional && !table.is_key_field(*at)
        });
        for (_, field) in unused {
            let Some(place) = &field.place else { continue };
            let message = format!("no record of `{}` has `{}`", table.name, field.name);
            let mut problem = Problem::new(CHECK.code, CHECK.severity, message, (**place).clone());
            problem.help = Some("look at its name; if no record needs it, mark it `optional = true`".into());
            problem.table = Some(table.name.clone());
            problem.field = Some(field.name.clone());
            problems.push(problem);
        }
    }
    problems
}
