//! `stitching uses`

use super::needs;
use crate::args::{Global, Uses};
use crate::render::{human, json};
use crate::ui::{BOLD, CYAN, DIM, Ui, count, styled, wants_json};
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};
use std::process::ExitCode;
use stitching_core::links::{Labels, Thing, Use, find_uses, resolve, things_of};
use stitching_core::reading::{PlaceResolver, load};
use stitching_core::schema::Schema;
use stitching_core::tables::shown_key;
use stitching_core::views::Direction;
use stitching_core::views::read_record;
use stitching_core::{Error, Place, Project};

/// The result of `uses`.
#[derive(Debug, Serialize)]
struct UsesShape<'u> {
    record: json::Placed<'u, RecordShape<'u>>,
    uses: Vec<json::Placed<'u, UseShape<'u>>>,
    counts: Counts<'u>,
}

/// What is used.
#[derive(Debug, Serialize)]
struct RecordShape<'u> {
    table: &'u str,
    key: &'u str,
    label: Option<&'u str>,
}

/// A place that uses it.
#[derive(Debug, Serialize)]
struct UseShape<'u> {
    table: &'u str,
    key: Option<&'u str>,
    field: &'u str,
    text: &'u str,
}

fn use_shape<'u>(
    schema: &'u Schema,
    one: &'u Use,
    text: &'u str,
    place: &'u Place,
) -> json::Placed<'u, UseShape<'u>> {
    let table = &schema.tables[one.table];
    let field = &table.fields[one.field].name;
    json::placed(UseShape { table: &table.name, key: one.key.as_deref(), field, text }, place)
}

/// How many uses there are, by table and in all.
#[derive(Debug, Serialize)]
struct Counts<'u> {
    tables: BTreeMap<&'u str, usize>,
    files: usize,
    total: usize,
}

pub fn run(project: &Project, args: &Uses, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let through = project.through(args.through.through.as_deref())?;
    if args.unused {
        return needs::unused(project, args.address.as_deref(), through, as_json, ui);
    }
    let address = args.address.as_deref().unwrap_or_default();
    if args.deep {
        return needs::tree(project, address, Direction::Uses, &args.tree, through, as_json, ui);
    }
    let (stack, schema) = (&project.stack, &project.schema);
    let view = project.view().until(through);
    let found = resolve(view, address)?;
    let record = read_record(stack, schema, &found)?;
    let table = &schema.tables[found.table];
    let value = |field: usize| record.as_ref()?.value(field).map(|value| value.text.clone());
    let key = shown_key(&found.key);
    let label_value = table.label.and_then(value);
    let place = load(stack, found.places[0].file)?.place(found.places[0].span);
    let path = &stack.files()[found.places[0].file].path;
    let things: Vec<Thing> = things_of(schema, found.table, &found.key, path, value);
    let uses = ui.progress("searching", || find_uses(view, &things))?;
    let named = uses.iter().filter_map(|one| Some((one.table, one.label_value.as_deref()?)));
    let own = label_value.as_deref().map(|value| (found.table, value));
    let labels = Labels::of_values(view, named.chain(own));
    let label = label_value.as_ref().and_then(|value| labels.name(table, value));
    let mut places = PlaceResolver::new(stack);
    let mut lines = Vec::new();
    for one in &uses {
        let (place, line) = places.place_and_line(one.file, one.span)?;
        lines.push((line, place));
    }
    let mut by_table: BTreeMap<&str, usize> = BTreeMap::new();
    for one in &uses {
        *by_table.entry(schema.tables[one.table].name.as_str()).or_default() += 1;
    }
    let files: BTreeSet<usize> = uses.iter().map(|one| one.file).collect();
    if as_json {
        let record = RecordShape { table: &table.name, key: &key, label: label.as_deref() };
        ui.json(&UsesShape {
            record: json::placed(record, &place),
            uses: uses
                .iter()
                .zip(&lines)
                .map(|(one, (text, place))| use_shape(schema, one, text, place))
                .collect(),
            counts: Counts { tables: by_table, files: files.len(), total: uses.len() },
        });
        return Ok(ExitCode::SUCCESS);
    }
    let paths = human::Paths::of(project);
    let shown = human::record(&table.name, &key, label.as_deref());
    let mut out = format!("{} at {}\n", styled(BOLD, shown), paths.place(&place));
    let mut last = None;
    for (one, (text, place)) in uses.iter().zip(&lines) {
        if last != Some(one.file) {
            out.push_str(&format!("\n{}\n", styled(CYAN, paths.show(place))));
            last = Some(one.file);
        }
        let user = &schema.tables[one.table];
        let key =
            one.key.as_ref().map_or_else(|| user.name.clone(), |key| human::record(&user.name, key, None));
        let label = one.label_value.as_ref().and_then(|value| labels.name(user, value));
        let label = label.map(|label| format!(" \"{label}\"")).unwrap_or_default();
        let head = format!(
            "{:>6}:{:<4} {key}{label} {}",
            place.line,
            place.column,
            styled(DIM, &user.fields[one.field].name)
        );
        out.push_str(&head);
        out.push('\n');
        // What stands in the path has no line of its own.
        if user.fields[one.field].of_path.is_some() {
            continue;
        }
        let room = ui.width().saturating_sub(14);
        let line: String = human::clean(text.trim()).chars().take(room).collect();
        out.push_str(&format!("             {}\n", styled(DIM, line)));
    }
    let tables: Vec<String> = by_table.iter().map(|(table, number)| format!("{table} {number}")).collect();
    let total = match uses.len() {
        0 => "nothing refers to it".to_owned(),
        number => {
            format!("{} in {}: {}", count(number, "use"), count(files.len(), "file"), tables.join(", "))
        }
    };
    out.push_str(&format!("\n{total}\n"));
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}
