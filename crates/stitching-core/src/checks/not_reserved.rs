//! A new name or number of the mod outside what the project reserves for it.

use super::at_places::{Found, problems_at};
use super::{Check, Run};
use crate::Code;
use crate::layers::LayerId;
use crate::links::Index;
use crate::problem::{Problem, Severity};
use crate::reading::{FileHits, Needles, TableScan, scan};
use crate::schema::{Reserved, ReservedValues, TableId};
use crate::tables::{RecordView, add_key_fields, shown_key};
use std::collections::HashSet;

pub(super) static CHECK: Check = Check {
    code: Code::NOT_RESERVED,
    severity: Severity::Warning,
    about: "a new name or number of the mod outside what the project reserves for it",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A value of a field, or a key of a table, in [reserved] of stitching.toml that the mod brings,
    that no layer below has, and that is not among the numbers reserved or does not begin so.

Why it matters
    Two mods that take the same free number, or the same name for a new thing, cannot be played
    together, and neither author notices.

When to ignore it
    When it replaces something of another mod on purpose.

Example, wrong
    \"reaches.Landing\" = [5000, 5999], and a new reach with Landing 64

Example, right
    \"reaches.Landing\" = [5000, 5999], and a new reach with Landing 5001
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    if index.through != index.stack.top() || index.through == 0 {
        return Vec::new();
    }
    let found = index.schema.reserved.iter().flat_map(|reserved| of_field(index, reserved));
    problems_at(index, &CHECK, found.collect())
}

fn of_field(index: &Index<'_>, reserved: &Reserved) -> Vec<Found> {
    let is_of_mod = |own: &FileHits<Found>| index.stack.layers()[index.stack.files()[own.file].layer].is_mod;
    let mut found: Vec<Found> = Vec::new();
    for of in values(index, reserved, index.through, &|value| !reserved.values.has(value)) {
        if is_of_mod(&of) {
            let file = of.file;
            found.extend(of.hits.into_iter().map(|own| Found { file, ..own }));
        }
    }
    if found.is_empty() {
        return found;
    }
    let wanted: HashSet<String> = found.iter().filter_map(|own| own.value.clone()).collect();
    let below = values(index, reserved, index.through - 1, &|value| wanted.contains(value));
    let below: HashSet<String> =
        below.into_iter().flat_map(|of| of.hits).filter_map(|own| own.value).collect();
    found.retain(|own| own.value.as_ref().is_some_and(|value| !below.contains(value)));
    found
}

/// The values of what is reserved, through a layer, of which `wanted` holds.
fn values(
    index: &Index<'_>,
    reserved: &Reserved,
    through: LayerId,
    wanted: &(dyn Fn(&str) -> bool + Sync),
) -> Vec<FileHits<Found>> {
    let table = &index.schema.tables[reserved.table];
    let mut fields: Vec<usize> = reserved.field.into_iter().collect();
    add_key_fields(table, &mut fields);
    let mut needles = Needles::default();
    needles.add_any();
    let plan = TableScan { fields, needles, hashes: None }.alone(index.schema, reserved.table);
    let whose = match &reserved.values {
        ReservedValues::Numbers(first, last) => format!("{first} to {last} are reserved for the mod"),
        ReservedValues::Prefix(prefix) => format!("what begins with `{prefix}` is reserved for the mod"),
    };
    let each = |_: TableId, record: &RecordView<'_>, hits: &mut Vec<Found>| {
        let key = record.key();
        let (value, span) = match reserved.field {
            Some(field) => (record.value(field), record.cell(field).map(|cell| cell.span)),
            None => (key.as_deref().map(shown_key), Some(record.span)),
        };
        let is_none = |value: &str| match reserved.field {
            Some(field) => {
                let rules = table.fields[field].layout.rules();
                value.is_empty() || rules.into_iter().any(|rule| table.rules[rule].is_none(value))
            }
            None => value.is_empty(),
        };
        let Some(value) = value.filter(|value| !is_none(value) && wanted(value)) else { return };
        hits.push(Found {
            file: 0,
            span,
            table: reserved.table,
            key,
            field: reserved.field.map(|field| table.fields[field].name.clone()),
            message: format!("`{value}` is new, and {whose}"),
            value: Some(value),
            help: Some("take one of those, or reserve more".into()),
            ..Found::default()
        });
    };
    scan(index.view().until(through), &plan, &each).unwrap_or_default()
}
