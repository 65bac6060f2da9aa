//! A field that holds something other than what follows from others.

use super::{Check, KnownFaults, OfRows, Run};
use crate::expressions::Expression;
use crate::help::NextStep;
use crate::layers::FileId;
use crate::links::Index;
use crate::problem::{Problem, Severity};
use crate::reading::load;
use crate::rows::{ComputedValues, Others};
use crate::schema::Computed;
use crate::tables::shown_key;
use crate::{Code, Error};
use std::collections::{BTreeMap, BTreeSet};

pub(super) static CHECK: Check = Check {
    code: Code::COMPUTED_DIFFERS,
    severity: Severity::Error,
    about: "a field that holds something other than what follows from others",
    docs: DOCS,
    run: Run::Rows(find),
};

const DOCS: &str = "\
What it finds
    A field that a [[computed]] of the schema speaks of, in a record that holds another value
    than the expression gives: a count, a highest number plus one, the same as another field.

Why it matters
    The game believes the number: it reads as many entries as the count says, or gives the next
    new thing a number that is taken.

When to ignore it
    When the game reads something else there than the schema says: put the expression right, or
    say with `when` which records it is for.

Example, wrong
    Reach      Berths
    frost_cut  1               (two berths lie at frost_cut)

Example, right
    Reach      Berths
    frost_cut  2
";

fn find(index: &Index<'_>, others: &Others<'_>, faults: &KnownFaults) -> OfRows {
    let mut out = OfRows::default();
    for computed in index.schema.computed.iter().filter(|own| !faults.hide_any_of(&own.asked, index.schema)) {
        match ComputedValues::of(index.schema, computed, others) {
            Ok(values) => of_values(index, computed, &values, faults, &mut out.problems),
            Err(error) => out.problems.push(mistake(computed, &error)),
        }
    }
    out
}

/// What is wrong with a computed field whose value cannot be worked out.
pub(crate) fn mistake(computed: &Computed, error: &Error) -> Problem {
    let message = format!("the value of `{}` does not follow: {error}", computed.field);
    let mut problem = Problem::new(Code::BAD_SCHEMA, Severity::Error, message, computed.place.clone());
    problem.help = error.help();
    problem
}

fn of_values(
    index: &Index<'_>,
    computed: &Computed,
    values: &ComputedValues,
    faults: &KnownFaults,
    out: &mut Vec<Problem>,
) {
    let table = &index.schema.tables[computed.table];
    let mut by_file: BTreeMap<FileId, Vec<(usize, String)>> = BTreeMap::new();
    // From a value that is wrong by itself a wrong one follows.
    let sources = computed.when.iter().chain([&computed.value]);
    let fields: BTreeSet<String> =
        sources.flat_map(|source| Expression::fields_in(source)).chain([computed.field.clone()]).collect();
    let is_explained = |row: usize| {
        let row = &values.rows.rows[row];
        faults.explain(row.file, row.span, &fields)
    };
    for (row, value) in values.differing().filter(|(row, _)| !is_explained(*row)) {
        let cell = values.rows.rows[row].cells[values.column].as_ref();
        let file = cell.map_or(values.rows.rows[row].file, |cell| cell.file);
        by_file.entry(file).or_default().push((row, value.shown()));
    }
    for (file, rows) in by_file {
        let Ok(loaded) = load(index.stack, file) else { continue };
        for (at, wanted) in rows {
            let row = &values.rows.rows[at];
            let cell = row.cells[values.column].as_ref();
            let place = loaded.place(cell.map_or(row.span, |cell| cell.span));
            let held = values.held(at);
            let is = if held.is_empty() { "holds nothing".to_owned() } else { format!("is `{held}`") };
            let message = format!("{} {is}, and `{wanted}` follows from {}", computed.field, computed.value);
            let mut problem = Problem::new(CHECK.code, CHECK.severity, message, place);
            problem.help = Some(NextStep::RefreshComputed.into());
            problem.table = Some(table.name.clone());
            problem.key = row.key.as_deref().map(shown_key);
            problem.field = Some(computed.field.clone());
            problem.value = Some(held);
            out.push(problem);
        }
    }
}
