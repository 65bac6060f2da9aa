//! A name that only its use makes, that stands at one place alone, and that is nearly another one.

use super::at_places::{Found, problems_at};
use super::{Check, Run};
use crate::Code;
use crate::links::{Index, NameInUse, names_in_use};
use crate::problem::{Problem, Severity};
use crate::schema::TableId;
use crate::tables::key_hash;
use crate::text::nearest_of_each;

pub(super) static CHECK: Check = Check {
    code: Code::LONE_NAME,
    severity: Severity::Warning,
    about: "a name that stands at one place alone and is nearly another one",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    In a table with `by_use`, a name that one value alone holds and none refers to, and from which
    a name that is used more often differs by a slip.

Why it matters
    Where nothing declares the names, a misspelt one is a name of its own: the game waits for a mood
    that nobody sets, and says nothing.

When to ignore it
    When the two really are different names.

Example, wrong
    SetsMood
    calm
    clam
    calm

Example, right
    SetsMood
    calm
    calm
    calm
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let by_use = (0..index.schema.tables.len()).filter(|id| index.schema.tables[*id].is_by_use());
    let found = by_use.flat_map(|table| in_table(index, table)).collect();
    problems_at(index, &CHECK, found)
}

fn in_table(index: &Index<'_>, table: TableId) -> Vec<Found> {
    let described = &index.schema.tables[table];
    if !index.has_lone_names(table) {
        return Vec::new();
    }
    let Ok(names) = names_in_use(index.view(), table, None) else { return Vec::new() };
    let (mut lone, mut others): (Vec<&NameInUse>, Vec<&str>) = (Vec::new(), Vec::new());
    for own in &names {
        let count = index.name_count(table, key_hash(&own.name, described.ignore_case));
        match count.declared + count.referred > 1 {
            true => others.push(&own.name),
            false => lone.push(own),
        }
    }
    let wanted: Vec<&str> = lone.iter().map(|own| own.name.as_str()).collect();
    let mut out = Vec::new();
    for (own, near) in lone.into_iter().zip(nearest_of_each(&wanted, &others)) {
        let near = near.in_case.map_or(near.names, |other| vec![other]);
        let help = match &near[..] {
            [] => continue,
            [one] => format!("did you mean `{one}`?"),
            several => format!("the nearest are `{}`", several.join("`, `")),
        };
        let (holder, field) = own.first_in;
        out.push(Found {
            file: own.first.file,
            span: Some(own.first.span),
            table: holder,
            key: index.key_at(own.first.file, holder, own.first.span),
            field: Some(index.schema.tables[holder].fields[field].name.clone()),
            value: Some(own.name.clone()),
            message: format!("`{}` is a name of `{}` at this place only", own.name, described.name),
            help: Some(help.into()),
            ..Found::default()
        });
    }
    out
}
