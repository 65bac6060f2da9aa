//! `stitching uses`

use crate::args::{Global, Uses};
use crate::render::{human, json};
use crate::ui::{BOLD, CYAN, DIM, Ui, count, styled, wants_json};
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};
use std::process::ExitCode;
use stitching_core::links::{Labels, LoadedFile, Thing, Use, details, find_uses, load, resolve, things_of};
use stitching_core::{Error, Project};

pub fn run(project: &Project, args: &Uses, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let (stack, schema) = (&project.stack, &project.schema);
    let through = project.through(args.through.through.as_deref())?;
    let found = resolve(stack, schema, through, &args.address)?;
    let record = details(stack, schema, through, &found)?;
    let table = &schema.tables[found.table];
    let value = |field: usize| {
        let name = &table.fields[field].name;
        record.fields.iter().find(|field| field.name == *name).map(|field| field.value.text.clone())
    };
    let path = &stack.files()[found.places[0].file].path;
    let things: Vec<Thing> = things_of(schema, found.table, &found.key, path, value);
    let uses = ui.progress("searching", || find_uses(stack, schema, through, &things))?;
    let mut lines = Vec::new();
    let mut loaded: Option<(usize, LoadedFile)> = None;
    for one in &uses {
        if loaded.as_ref().is_none_or(|(file, _)| *file != one.file) {
            loaded = Some((one.file, load(stack, one.file)?));
        }
        let Some((_, file)) = &loaded else { continue };
        let place = file.place(one.span);
        lines.push((file.line(place.line).to_owned(), place));
    }
    let mut by_table: BTreeMap<&str, usize> = BTreeMap::new();
    for one in &uses {
        *by_table.entry(schema.tables[one.table].name.as_str()).or_default() += 1;
    }
    let files: BTreeSet<usize> = uses.iter().map(|one| one.file).collect();
    if as_json {
        let of_record = json!({ "table": table.name, "key": record.key, "label": record.label });
        let shape = |(one, (text, place)): (&Use, &(String, stitching_core::Place))| {
            let fields = &schema.tables[one.table].fields;
            let head = json!({
                "table": schema.tables[one.table].name,
                "key": one.key,
                "field": fields[one.field].name,
                "text": text,
            });
            json::with_place(head, place)
        };
        ui.json(&json!({
            "record": json::with_place(of_record, &record.places[0]),
            "uses": uses.iter().zip(&lines).map(shape).collect::<Vec<_>>(),
            "counts": { "tables": by_table, "files": files.len(), "total": uses.len() },
        }));
        return Ok(ExitCode::SUCCESS);
    }
    let shown = human::record(&table.name, &record.key, record.label.as_deref());
    let mut out = format!("{} at {}\n", styled(BOLD, shown), human::place(&record.places[0]));
    let labels = Labels::read(stack, schema, through);
    let mut last = None;
    for (one, (text, place)) in uses.iter().zip(&lines) {
        if last != Some(one.file) {
            let layer = if place.layer.is_empty() { String::new() } else { format!(" ({})", place.layer) };
            out.push_str(&format!("\n{}{}\n", styled(CYAN, &place.path), styled(DIM, layer)));
            last = Some(one.file);
        }
        let user = &schema.tables[one.table];
        let key = one.key.as_ref().map_or_else(|| user.name.clone(), |key| human::record(&user.name, key, None));
        // In a table of texts the line itself says it all.
        let label = user.label.and_then(|_| label_of(project, &labels, one, through));
        let label = label.map(|label| format!(" \"{label}\"")).unwrap_or_default();
        let head = format!("{:>6}:{:<4} {key}{label} {}", place.line, place.column, styled(DIM, &user.fields[one.field].name));
        out.push_str(&head);
        out.push('\n');
        let room = ui.width().saturating_sub(14);
        let line: String = human::clean(text.trim()).chars().take(room).collect();
        out.push_str(&format!("             {}\n", styled(DIM, line)));
    }
    let tables: Vec<String> = by_table.iter().map(|(table, number)| format!("{table} {number}")).collect();
    let total = match uses.len() {
        0 => "nothing refers to it".to_owned(),
        number => format!("{} in {}: {}", count(number, "use"), count(files.len(), "file"), tables.join(", ")),
    };
    out.push_str(&format!("\n{total}\n"));
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}

/// How the record that has a use is called.
fn label_of(project: &Project, labels: &Labels, one: &Use, through: usize) -> Option<String> {
    let (stack, schema) = (&project.stack, &project.schema);
    let table = &schema.tables[one.table];
    let address = stitching_core::links::Address::show(&table.name, one.key.as_ref()?);
    let found = resolve(stack, schema, through, &address).ok()?;
    let place = found.places.first()?;
    let path = &stack.files()[place.file].path;
    let value = stitching_core::links::with_text(stack, place.file, |text| {
        let records = stitching_core::tables::read_all(table, path, text);
        let record = records.into_iter().find(|record| record.span == place.span)?;
        record.value(table.label?).map(|value| value.text.clone())
    });
    labels.name(table, &value.ok()??)
}
