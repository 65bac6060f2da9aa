//! A name that only its use makes, that stands at one place alone, and that is nearly another one.

use super::at_places::{Found, problems_at};
use super::{Check, Run};
use crate::Code;
use crate::links::{Index, names_in_use};
use crate::problem::{Problem, Severity};
use crate::reading::{Needles, TableScan, scan};
use crate::schema::TableId;
use crate::tables::{RecordView, add_key_fields, for_each_piece, key_hash};
use crate::text::nearest_of_each;
use std::collections::HashMap;

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
    let (mut lone, mut others): (Vec<&str>, Vec<&str>) = (Vec::new(), Vec::new());
    for own in &names {
        let count = index.name_count(table, key_hash(&own.name, described.ignore_case));
        match count.declared + count.referred > 1 {
            true => others.push(&own.name),
            false => lone.push(&own.name),
        }
    }
    let near = nearest_of_each(&lone, &others).into_iter().map(|near| match near.in_case {
        Some(other) => vec![other],
        None => near.names,
    });
    let near: HashMap<&str, Vec<String>> =
        lone.iter().copied().zip(near).filter(|(_, near)| !near.is_empty()).collect();
    if near.is_empty() {
        return Vec::new();
    }
    let rules = |of: TableId| described.rules_with_names(of);
    let plan: Vec<Option<TableScan>> = (0..index.schema.tables.len())
        .map(|id| {
            let own = &index.schema.tables[id];
            let mut fields = own.fields_of_names(described, id);
            if fields.is_empty() {
                return None;
            }
            add_key_fields(own, &mut fields);
            let mut needles = Needles::default();
            needles.add_any();
            Some(TableScan { fields, needles, hashes: None })
        })
        .collect();
    let each = |id: TableId, record: &RecordView<'_>, hits: &mut Vec<Found>| {
        for rule in rules(id) {
            let field = record.table.rules[rule].field;
            for_each_piece(record, field, |piece| {
                let own = &record.table.rules[piece.rule];
                if piece.rule != rule || !piece.fits || own.is_none(piece.text) {
                    return;
                }
                let shaped = own.shape.as_ref().map(|shape| shape.fill_one(piece.text));
                let name = shaped.as_deref().unwrap_or(piece.text);
                let Some(near) = near.get(name) else { return };
                let help = match &near[..] {
                    [one] => format!("did you mean `{one}`?"),
                    several => format!("the nearest are `{}`", several.join("`, `")),
                };
                hits.push(Found {
                    file: 0,
                    span: Some(piece.span),
                    table: id,
                    key: record.key(),
                    field: Some(record.table.fields[field].name.clone()),
                    value: Some(piece.text.to_owned()),
                    message: format!("`{name}` is a name of `{}` at this place only", described.name),
                    help: Some(help.into()),
                });
            });
        }
    };
    let found = scan(index.view(), &plan, &each).unwrap_or_default();
    let in_file = |(file, own): (_, Vec<Found>)| own.into_iter().map(move |own| Found { file, ..own });
    found.into_iter().map(|of_file| (of_file.file, of_file.hits)).flat_map(in_file).collect()
}
