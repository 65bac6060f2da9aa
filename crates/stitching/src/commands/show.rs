//! `stitching show`

use crate::args::{Global, Show};
use crate::render::{human, json, table};
use crate::ui::{BOLD, CYAN, DIM, RED, Ui, count, styled, wants_json};
use serde_json::{Map, Value, json};
use std::collections::HashMap;
use std::process::ExitCode;
use stitching_core::links::{
    FieldDetail, Labels, details, find_table, find_uses, resolve, things_of, with_text,
};
use stitching_core::schema::{Table, TableId};
use stitching_core::tables::{read_all, shown_key};
use stitching_core::text::nearest_of;
use stitching_core::{Error, Project};

/// A table with so many rows is cut, unless `--to` says how far.
const MOST_ROWS: usize = 200;

pub fn run(project: &Project, args: &Show, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    if project.schema.table(&args.what).is_some() {
        return show_table(project, args, as_json, ui);
    }
    show_record(project, args, as_json, ui)
}

/// One row of a table: its key, its name, its cells, and where it is.
struct Row {
    key: String,
    label: Option<String>,
    cells: Vec<String>,
    path: String,
    layer: String,
}

fn show_table(project: &Project, args: &Show, as_json: bool, ui: &Ui) -> Result<ExitCode, Error> {
    let id = find_table(&project.schema, &args.what)?;
    let through = project.through(args.through.through.as_deref())?;
    let (names, mut rows) = rows(project, id, through)?;
    let column = |name: &String| {
        names.iter().position(|other| other == name).ok_or_else(|| Error::Unknown {
            what: "column",
            name: name.clone(),
            help: match nearest_of(name, names.iter().map(String::as_str)).first() {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("the columns are {}", names.join(", ")),
            },
        })
    };
    let chosen: Vec<usize> = match args.columns.is_empty() {
        true => (0..names.len()).collect(),
        false => args.columns.iter().map(column).collect::<Result<_, _>>()?,
    };
    if let Some(sort) = &args.sort {
        let by = column(sort)?;
        let number = |row: &Row| row.cells[by].parse::<f64>().ok();
        if rows.iter().all(|row| row.cells[by].is_empty() || number(row).is_some()) {
            rows.sort_by(|a, b| number(a).unwrap_or(f64::MIN).total_cmp(&number(b).unwrap_or(f64::MIN)));
        } else {
            rows.sort_by(|a, b| a.cells[by].cmp(&b.cells[by]));
        }
    }
    if let Some(filter) = &args.filter {
        let filter = filter.to_lowercase();
        let has = |text: &str| text.to_lowercase().contains(&filter);
        rows.retain(|row| {
            has(&row.key)
                || row.label.as_deref().is_some_and(has)
                || chosen.iter().any(|at| has(&row.cells[*at]))
        });
    }
    let all = rows.len();
    let to = args.to.unwrap_or(if as_json { all } else { args.from.saturating_add(MOST_ROWS - 1) }).min(all);
    let from = args.from.max(1).min(all + 1);
    let shown = rows.get(from - 1..to.max(from - 1)).unwrap_or(&[]);
    if as_json {
        let record = |row: &Row| {
            let fields: Map<String, Value> =
                chosen.iter().map(|at| (names[*at].clone(), json!(row.cells[*at]))).collect();
            json!({ "key": row.key, "label": row.label, "path": row.path, "layer": row.layer, "fields": fields })
        };
        ui.json(&json!({ "table": args.what, "records": shown.iter().map(record).collect::<Vec<_>>(), "total": all }));
        return Ok(ExitCode::SUCCESS);
    }
    let described = &project.schema.tables[id];
    // The key is in sight anyway, so that its own column would only repeat it.
    let repeats = |at: &usize| {
        described
            .field(&names[*at])
            .is_some_and(|field| described.key.len() == 1 && described.is_key_field(field))
    };
    let chosen: Vec<usize> = chosen.into_iter().filter(|at| !repeats(at)).collect();
    let with_label = rows.iter().any(|row| row.label.is_some());
    let mut header = vec!["key"];
    if with_label {
        header.push("name");
    }
    header.extend(chosen.iter().map(|at| names[*at].as_str()));
    let line = |row: &Row| {
        let mut cells = vec![human::clean(&row.key)];
        if with_label {
            cells.push(
                row.label.as_ref().map(|label| format!("\"{}\"", human::clean(label))).unwrap_or_default(),
            );
        }
        cells.extend(chosen.iter().map(|at| human::clean(&row.cells[*at])));
        cells
    };
    let lines: Vec<Vec<String>> = shown.iter().map(line).collect();
    let mut out = table::aligned(&header, &lines, ui.width());
    if shown.len() < all {
        out.push_str(&format!("\nrows {from} to {to} of {all}; `--from` and `--to` show others\n"));
    } else {
        out.push_str(&format!("\n{}\n", count(all, "record")));
    }
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}

/// The columns and rows of a table, in the order of its files.
fn rows(project: &Project, id: TableId, through: usize) -> Result<(Vec<String>, Vec<Row>), Error> {
    let (stack, schema) = (&project.stack, &project.schema);
    let described = &schema.tables[id];
    let files: Vec<usize> = stack
        .effective(through)
        .into_iter()
        .filter(|file| described.takes(&stack.files()[*file].path))
        .collect();
    // All files first, since each may have columns of its own.
    let mut names: Vec<String> = Vec::new();
    for file in &files {
        for column in with_text(stack, *file, |text| described.format.columns(text))? {
            if !names.contains(&column) && !column.is_empty() {
                names.push(column);
            }
        }
    }
    let wide: Table = described.widened(&names);
    for field in &wide.fields {
        if !names.contains(&field.name) && field.name != "{member}" {
            names.push(field.name.clone());
        }
    }
    let labels = Labels::read(stack, schema, through);
    let mut rows = Vec::new();
    // In tables whose layers count together, what a higher layer has stands over what lies below.
    let mut by_key: HashMap<String, usize> = HashMap::new();
    for file in files {
        let entry = &stack.files()[file];
        for record in with_text(stack, file, |text| read_all(&wide, &entry.path, text))? {
            let mut cells = vec![String::new(); names.len()];
            for value in &record.values {
                if let Some(at) = names.iter().position(|name| *name == wide.fields[value.field].name) {
                    if !cells[at].is_empty() {
                        cells[at].push_str(", ");
                    }
                    cells[at].push_str(&value.text);
                }
            }
            let label = wide
                .label
                .and_then(|field| record.value(field))
                .and_then(|value| labels.name(&wide, &value.text));
            let below = record.key.as_ref().filter(|_| described.merged).and_then(|key| by_key.get(key));
            if let Some(&below) = below {
                let row: &mut Row = &mut rows[below];
                for (old, new) in row.cells.iter_mut().zip(cells).filter(|(_, new)| !new.is_empty()) {
                    *old = new;
                }
                row.label = label.or(row.label.take());
                (row.path, row.layer) = (entry.path.to_string(), project.layer_name(file).to_owned());
                continue;
            }
            if let Some(key) = record.key.clone().filter(|_| described.merged) {
                by_key.insert(key, rows.len());
            }
            rows.push(Row {
                key: record.key.as_deref().map(shown_key).unwrap_or_default(),
                label,
                cells,
                path: entry.path.to_string(),
                layer: project.layer_name(file).to_owned(),
            });
        }
    }
    Ok((names, rows))
}

/// A word that is neither a record nor a table may be a table misspelt.
fn or_table(project: &Project, what: &str, error: Error) -> Error {
    match (error, project.schema.nearest_table(what).first()) {
        (Error::Unknown { what: "record", name, help }, Some(near)) => Error::Unknown {
            what: "table or record",
            name,
            help: format!("did you mean the table `{near}`? Or, of the records, {help}"),
        },
        (error, _) => error,
    }
}

fn show_record(project: &Project, args: &Show, as_json: bool, ui: &Ui) -> Result<ExitCode, Error> {
    let (stack, schema) = (&project.stack, &project.schema);
    let through = project.through(args.through.through.as_deref())?;
    let found =
        resolve(stack, schema, through, &args.what).map_err(|error| or_table(project, &args.what, error))?;
    let record = details(stack, schema, through, &found)?;
    let described = &schema.tables[found.table];
    let path = &stack.files()[found.places[0].file].path;
    let value = |field: usize| {
        let name = &described.fields[field].name;
        record.fields.iter().find(|field| field.name == *name).map(|field| field.value.text.clone())
    };
    let things = things_of(schema, found.table, &found.key, path, value);
    let uses = find_uses(stack, schema, through, &things)?;
    let only = found.field.map(|field| described.fields[field].name.as_str());
    let fields: Vec<_> =
        record.fields.iter().filter(|field| only.is_none_or(|only| field.name == only)).collect();
    if as_json {
        let shape = |field: &&FieldDetail| {
            let points_to = field
                .points_to
                .iter()
                .map(|(table, key, label)| json!({ "table": table, "key": key, "label": label }));
            let texts: Map<String, Value> =
                field.texts.iter().map(|(language, text)| (language.clone(), json!(text))).collect();
            let file = field.file.as_ref().map(|(path, layer)| json!({ "path": path, "layer": layer }));
            let head = json!({
                "file": file, "field": field.name, "value": field.value.text, "about": field.about, "unit": field.unit,
                "points_to": points_to.collect::<Vec<_>>(), "texts": texts, "inherited_from": field.inherited_from,
            });
            json::with_place(head, &field.place)
        };
        let head = json!({
            "table": described.name, "key": record.key, "label": record.label,
            "fields": fields.iter().map(shape).collect::<Vec<_>>(), "uses": uses.len(),
        });
        ui.json(&json::with_place(head, &record.places[0]));
        return Ok(ExitCode::SUCCESS);
    }
    let mut out =
        format!("{}\n", styled(BOLD, human::record(&described.name, &record.key, record.label.as_deref())));
    let paths = human::Paths::of(project);
    if described.merged && record.places.len() > 1 {
        for place in &record.places {
            out.push_str(&format!("  {}\n", styled(CYAN, paths.place(place))));
        }
        out.push('\n');
        write_fields(&fields, true, &mut out);
    }
    for place in record.places.iter().filter(|_| !described.merged || record.places.len() == 1) {
        out.push_str(&format!("  {}\n\n", styled(CYAN, paths.place(place))));
        let here: Vec<_> = fields
            .iter()
            .copied()
            .filter(|field| field.place.path == place.path || field.inherited_from.is_some())
            .collect();
        write_fields(&here, false, &mut out);
        if !here.is_empty() && place != record.places.last().unwrap_or(place) {
            out.push('\n');
        }
    }
    out.push_str(&match uses.len() {
        0 => "\nnothing refers to it\n".to_owned(),
        1 => format!("\n1 place refers to it; `stitching uses {}` shows it\n", args.what),
        number => {
            format!("\n{} refer to it; `stitching uses {}` lists them\n", count(number, "place"), args.what)
        }
    });
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}

/// One line a field, and one for each further thing it points to; perhaps with the layer of each value.
fn write_fields(fields: &[&FieldDetail], with_layer: bool, out: &mut String) {
    /// Longer values do not push what stands behind them further to the right.
    const WIDEST: usize = 32;
    let names = fields.iter().map(|field| field.name.chars().count()).max().unwrap_or(0);
    let layers = fields.iter().map(|field| field.place.layer.chars().count()).max().unwrap_or(0);
    let values = fields.iter().map(|field| field.value.text.chars().count()).max().unwrap_or(0).min(WIDEST);
    for field in fields {
        let value = human::clean(&field.value.text);
        let value = if value.is_empty() { styled(DIM, "(empty)") } else { value };
        let unit = field
            .unit
            .as_ref()
            .filter(|_| !field.value.text.is_empty())
            .map(|unit| format!(" {unit}"))
            .unwrap_or_default();
        let mut extra: Vec<String> = Vec::new();
        let layer = if with_layer { format!("{:<layers$}  ", field.place.layer) } else { String::new() };
        for (table, key, label) in &field.points_to {
            extra.push(format!("-> {}", human::record(table, key, label.as_deref())));
        }
        if let Some((path, layer)) = &field.file {
            extra.push(match layer {
                Some(layer) => format!("file {path} ({layer})"),
                None => format!("file {path} {}", styled(RED, "missing")),
            });
        }
        for (language, text) in &field.texts {
            extra.push(match text {
                Some(text) => format!("{language} \"{}\"", human::clean(text)),
                None => format!("{language} {}", styled(RED, "missing")),
            });
        }
        if let Some(from) = &field.inherited_from {
            extra.insert(0, styled(DIM, format!("from {from}")));
        }
        if extra.is_empty() {
            extra.extend(field.about.as_ref().map(|about| styled(DIM, about)));
        }
        let pad = values.saturating_sub(field.value.text.chars().count() + unit.chars().count());
        let first = extra.first().map(String::as_str).unwrap_or_default();
        let line = format!("  {:<names$}  {layer}{value}{unit}{}  {first}", field.name, " ".repeat(pad));
        out.push_str(line.trim_end());
        out.push('\n');
        for more in extra.iter().skip(1) {
            let indent = " ".repeat(names + layer.chars().count());
            out.push_str(&format!("  {indent}  {}  {more}\n", " ".repeat(values)));
        }
    }
}
