//! `stitching show TABLE:KEY`

use crate::args::Show;
use crate::next_step::help_text;
use crate::render::{human, json};
use crate::ui::{BOLD, CYAN, DIM, RED, Ui, count, styled};
use serde::Serialize;
use std::collections::HashMap;
use std::process::ExitCode;
use stitching_core::links::{find_uses, resolve, things_of};
use stitching_core::views::{Companion, TypicalValue, Version, companions, usual, versions};
use stitching_core::views::{FieldDetail, details};
use stitching_core::{Error, Project};

/// The result of `show TABLE:KEY`.
#[derive(Debug, Serialize)]
struct RecordShape<'r> {
    table: &'r str,
    key: &'r str,
    label: Option<&'r str>,
    fields: Vec<json::Placed<'r, FieldShape<'r>>>,
    uses: usize,
    companions: Vec<json::Placed<'r, CompanionShape<'r>>>,
    more_places: usize,
    below: Vec<json::Placed<'r, VersionShape<'r>>>,
}

#[derive(Debug, Serialize)]
struct FieldShape<'r> {
    file: Option<FileShape<'r>>,
    field: &'r str,
    value: &'r str,
    about: Option<&'r str>,
    unit: Option<&'r str>,
    points_to: Vec<TargetShape<'r>>,
    texts: json::MapShape<'r, Option<String>>,
    inherited_from: Option<&'r str>,
    usual: Option<UsualShape<'r>>,
}

/// A file that a field names; without a layer if it is missing.
#[derive(Debug, Serialize)]
struct FileShape<'r> {
    path: &'r str,
    layer: Option<&'r str>,
}

/// A record that a field points to.
#[derive(Debug, Serialize)]
struct TargetShape<'r> {
    table: &'r str,
    key: &'r str,
    label: Option<&'r str>,
}

/// What most records have in a field in which this one has something else.
#[derive(Debug, Serialize)]
struct UsualShape<'r> {
    value: &'r str,
    count: u64,
    of: u64,
}

/// A record of the same key in another table.
#[derive(Debug, Serialize)]
struct CompanionShape<'r> {
    table: &'r str,
    key: &'r str,
}

/// The record as a lower layer has it.
#[derive(Debug, Serialize)]
struct VersionShape<'r> {
    differs: Vec<ValueShape<'r>>,
}

#[derive(Debug, Serialize)]
struct ValueShape<'r> {
    field: &'r str,
    value: Option<&'r str>,
}

/// A word that is neither a record nor a table may be a table misspelt.
fn or_table(project: &Project, what: &str, error: Error) -> Error {
    match (error, project.schema.nearest_table(what).first()) {
        (Error::Unknown { what: "record", name, help }, Some(near)) => Error::Unknown {
            what: "table or record",
            name,
            help: format!("did you mean the table `{near}`? Or, of the records, {}", help_text(&help)).into(),
        },
        (error, _) => error,
    }
}

pub fn run(project: &Project, args: &Show, as_json: bool, ui: &Ui) -> Result<ExitCode, Error> {
    let (stack, schema) = (&project.stack, &project.schema);
    let through = project.through(args.through.through.as_deref())?;
    let view = project.view().until(through);
    let found = resolve(view, &args.what).map_err(|error| or_table(project, &args.what, error))?;
    let record = details(view, &found)?;
    let described = &schema.tables[found.table];
    let path = &stack.files()[found.places[0].file].path;
    let value = |field: usize| {
        let name = &described.fields[field].name;
        record.fields.iter().find(|field| field.name == *name).map(|field| field.value.text.clone())
    };
    let things = things_of(schema, found.table, &found.key, path, value);
    let uses = find_uses(view, &things)?;
    let names = record.fields.iter().map(|field| field.name.clone()).collect();
    let usual = usual(view, found.table, &names)?;
    let companions = companions(view, &found)?;
    let versions = versions(stack, schema, &found)?;
    let only = found.field.map(|field| described.fields[field].name.as_str());
    let fields: Vec<_> =
        record.fields.iter().filter(|field| only.is_none_or(|only| field.name == only)).collect();
    if as_json {
        let record_shape = RecordShape {
            table: &described.name,
            key: &record.key,
            label: record.label.as_deref(),
            fields: fields.iter().map(|field| field_shape(field, &usual)).collect(),
            uses: uses.len(),
            companions: companions.iter().map(companion).collect(),
            more_places: record.more_places,
            below: versions.iter().map(version).collect(),
        };
        ui.json(&json::placed(record_shape, &record.places[0]));
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
        write_fields(&fields, true, &usual, &mut out);
    }
    let apart = !described.merged || record.places.len() == 1;
    for (at, place) in record.places.iter().enumerate().filter(|_| apart) {
        out.push_str(&format!("  {}\n\n", styled(CYAN, paths.place(place))));
        let here: Vec<_> =
            fields.iter().copied().filter(|field| field.at == at || field.inherited_from.is_some()).collect();
        write_fields(&here, false, &usual, &mut out);
        if !here.is_empty() && place != record.places.last().unwrap_or(place) {
            out.push('\n');
        }
    }
    if record.more_places > 0 {
        let more = count(record.more_places, "more place");
        out.push_str(&format!("\nthe key is there in {more}; `stitching check` lists what is there twice\n"));
    }
    if fields.iter().any(|field| unusual(field, &usual).is_some()) {
        out.push_str(&styled(DIM, "\n* not what is commonest\n"));
    }
    for version in &versions {
        let says = |(name, value): &(String, Option<String>)| match value {
            Some(value) => format!(
                "{name} {}",
                if value.is_empty() { "(empty)".to_owned() } else { human::clean(value) }
            ),
            None => format!("no {name}"),
        };
        let differs = match version.differs.is_empty() {
            true => "the same".to_owned(),
            false => format!("there {}", version.differs.iter().map(says).collect::<Vec<_>>().join(", ")),
        };
        out.push_str(&format!(
            "\nin place of that of {} ({}): {differs}\n",
            version.layer,
            paths.place(&version.place)
        ));
    }
    for (at, companion) in companions.iter().enumerate() {
        let lead = if at == 0 { "\nof the same key: " } else { "                 " };
        let shown = human::record(&companion.table, &companion.key, None);
        out.push_str(&format!("{lead}{shown} at {}\n", styled(CYAN, paths.place(&companion.place))));
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

/// What most records have where this one has something else.
fn unusual<'u>(field: &FieldDetail, usual: &'u HashMap<String, TypicalValue>) -> Option<&'u TypicalValue> {
    usual.get(&field.name).filter(|usual| usual.value != field.value.text)
}

fn field_shape<'r>(
    field: &'r FieldDetail,
    usual: &'r HashMap<String, TypicalValue>,
) -> json::Placed<'r, FieldShape<'r>> {
    let target = |(table, key, label): &'r (String, String, Option<String>)| TargetShape {
        table,
        key,
        label: label.as_deref(),
    };
    let shape = FieldShape {
        file: field.file.as_ref().map(|(path, layer)| FileShape { path, layer: layer.as_deref() }),
        field: &field.name,
        value: &field.value.text,
        about: field.about.as_deref(),
        unit: field.unit.as_deref(),
        points_to: field.points_to.iter().map(target).collect(),
        texts: json::MapShape(&field.texts),
        inherited_from: field.inherited_from.as_deref(),
        usual: unusual(field, usual).map(|usual| UsualShape {
            value: &usual.value,
            count: usual.count,
            of: usual.of,
        }),
    };
    json::placed(shape, &field.place)
}

fn companion(own: &Companion) -> json::Placed<'_, CompanionShape<'_>> {
    json::placed(CompanionShape { table: &own.table, key: &own.key }, &own.place)
}

fn version(own: &Version) -> json::Placed<'_, VersionShape<'_>> {
    let differs = own.differs.iter();
    let differs = differs.map(|(field, value)| ValueShape { field, value: value.as_deref() }).collect();
    json::placed(VersionShape { differs }, &own.place)
}

/// One line a field, and one for each further thing it points to; perhaps with the layer of each value.
fn write_fields(
    fields: &[&FieldDetail],
    with_layer: bool,
    usual: &HashMap<String, TypicalValue>,
    out: &mut String,
) {
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
        let unusual = unusual(field, usual);
        if let Some(usual) = unusual {
            let value =
                if usual.value.is_empty() { "(empty)".to_owned() } else { human::clean(&usual.value) };
            extra.push(styled(DIM, format!("{} of {} have {value}", usual.count, usual.of)));
        }
        if extra.is_empty() {
            extra.extend(field.about.as_ref().map(|about| styled(DIM, about)));
        }
        let pad = values.saturating_sub(field.value.text.chars().count() + unit.chars().count());
        let first = extra.first().map(String::as_str).unwrap_or_default();
        let mark = if unusual.is_some() { "*" } else { " " };
        let line = format!("{mark} {:<names$}  {layer}{value}{unit}{}  {first}", field.name, " ".repeat(pad));
        out.push_str(line.trim_end());
        out.push('\n');
        for more in extra.iter().skip(1) {
            let indent = " ".repeat(names + layer.chars().count());
            out.push_str(&format!("  {indent}  {}  {more}\n", " ".repeat(values)));
        }
    }
}
