//! `stitching fields`

use crate::args::{Fields, Global};
use crate::render::{human, json, table};
use crate::ui::{BOLD, DIM, Ui, count, grouped, styled, wants_json};
use serde::Serialize;
use std::io::Read;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::fields::{FieldReport, fields};
use stitching_core::learn::documented;
use stitching_core::links::find_table;
use stitching_core::schema::TableId;
use stitching_core::text::{Text, nearest_of};
use stitching_core::{Error, Project};

/// Commonest values shown of one field, and of each of all.
const OF_ONE: usize = 20;
const OF_ALL: usize = 4;
/// Longer values are cut in the overview.
const LONGEST: usize = 24;

/// The result of `fields`.
#[derive(Debug, Serialize)]
struct FieldsShape<'f> {
    table: &'f str,
    about: Option<&'f str>,
    records: u64,
    fields: Vec<FieldShape<'f>>,
}

/// What one field holds.
#[derive(Debug, Serialize)]
struct FieldShape<'f> {
    field: &'f str,
    about: Option<&'f str>,
    unit: Option<&'f str>,
    kind: &'static str,
    described: bool,
    key: bool,
    points_to: &'f [String],
    values: u64,
    distinct: u64,
    empty: u64,
    absent: u64,
    none: Vec<json::CountShape<'f>>,
    lowest: Option<f64>,
    highest: Option<f64>,
    shortest: Option<&'f str>,
    longest: Option<&'f str>,
    commonest: Vec<CommonShape<'f>>,
    left_over: Vec<json::CountShape<'f>>,
}

/// A common value, with a record that has it.
#[derive(Debug, Serialize)]
struct CommonShape<'f> {
    value: &'f str,
    count: u64,
    example: &'f str,
}

/// The result of `fields --import`.
#[derive(Debug, Serialize)]
struct ImportShape<'f> {
    table: &'f str,
    found: Vec<AboutShape<'f>>,
}

#[derive(Debug, Serialize)]
struct AboutShape<'f> {
    field: Option<&'f str>,
    about: &'f str,
}

impl<'f> From<&'f FieldReport> for FieldShape<'f> {
    fn from(own: &'f FieldReport) -> FieldShape<'f> {
        let commonest =
            own.commonest.iter().map(|(value, count, example)| CommonShape { value, count: *count, example });
        FieldShape {
            field: &own.name,
            about: own.about.as_deref(),
            unit: own.unit.as_deref(),
            kind: own.kind,
            described: own.described,
            key: own.is_key,
            points_to: &own.points_to,
            values: own.values,
            distinct: own.distinct,
            empty: own.empty,
            absent: own.absent,
            none: json::counts(&own.none),
            lowest: own.range.map(|(low, _)| low),
            highest: own.range.map(|(_, high)| high),
            shortest: own.lengths.as_ref().map(|(short, _)| short.as_str()),
            longest: own.lengths.as_ref().map(|(_, long)| long.as_str()),
            commonest: commonest.collect(),
            left_over: json::counts(&own.left_over),
        }
    }
}

pub fn run(project: &Project, args: &Fields, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let through = project.through(args.through.through.as_deref())?;
    let (id, field) = table_and_field(project, &args.what)?;
    let name = project.schema.tables[id].name.as_str();
    let most = if field.is_some() { OF_ONE } else { OF_ALL };
    let (records, reports) = ui.progress("reading", || fields(project.view().until(through), id, most))?;
    let shown: Vec<&FieldReport> = match field {
        None => reports.iter().collect(),
        Some(field) => {
            let own = reports.iter().find(|own| own.name == field).ok_or_else(|| Error::Unknown {
                what: "field",
                name: field.to_owned(),
                help: match nearest_of(field, reports.iter().map(|own| own.name.as_str())).first() {
                    Some(near) => format!("did you mean `{name}.{near}`?").into(),
                    None => format!("`stitching fields {name}` lists them").into(),
                },
            })?;
            vec![own]
        }
    };
    if let Some(file) = &args.import {
        let names: Vec<String> = shown.iter().map(|own| own.name.clone()).collect();
        return import(project, id, &names, file, args.write, as_json, ui);
    }
    if as_json {
        ui.json(&FieldsShape {
            table: name,
            about: project.schema.tables[id].about.as_deref(),
            records,
            fields: shown.iter().map(|own| FieldShape::from(*own)).collect(),
        });
        return Ok(ExitCode::SUCCESS);
    }
    match (field, shown.first()) {
        (Some(_), Some(own)) => ui.out(&one(name, own)),
        _ => {
            let about = project.schema.tables[id]
                .about
                .as_ref()
                .map(|about| format!("{about}\n\n"))
                .unwrap_or_default();
            let mut rows: Vec<Vec<String>> = shown.iter().map(|own| row(own)).collect();
            let header = ["field", "kind", "values", "different", "nothing", "points to", "holds"];
            fit(&header, &mut rows, ui.width());
            // Each field stays on a line, even if that is longer than the terminal is wide.
            ui.out(&format!(
                "{about}{}\n{}\n",
                table::aligned(&header, &rows, usize::from(u16::MAX)),
                count(records as usize, "record")
            ));
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// No document that people write is larger; in bytes.
const LARGEST_DOCUMENT: u64 = 64 << 20;

/// Looks in `file` for what the fields `names` of a table mean, and writes it into the schema if that is wanted.
fn import(
    project: &Project,
    table: TableId,
    names: &[String],
    file: &Path,
    write: bool,
    as_json: bool,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let mut bytes = Vec::new();
    std::fs::File::open(file)
        .and_then(|source| source.take(LARGEST_DOCUMENT + 1).read_to_end(&mut bytes))
        .map_err(|source| Error::io("read", file, source))?;
    if bytes.len() as u64 > LARGEST_DOCUMENT {
        return Err(Error::Usage {
            message: format!("`{}` has more than {} MB", file.display(), LARGEST_DOCUMENT >> 20),
            help: "name the document that describes the fields".into(),
        });
    }
    let text = Text::decode(&mut bytes, None);
    let found = documented(&project.schema.tables[table], names, text.as_str());
    if write {
        return super::learn::write(project, &found.iter().collect::<Vec<_>>(), Vec::new(), as_json, ui);
    }
    if as_json {
        let found = found.iter().map(|own| AboutShape { field: own.field.as_deref(), about: &own.says });
        ui.json(&ImportShape { table: &project.schema.tables[table].name, found: found.collect() });
        return Ok(ExitCode::SUCCESS);
    }
    let rows: Vec<Vec<String>> = found
        .iter()
        .map(|own| vec![own.field.clone().unwrap_or_default(), human::clean(&own.says)])
        .collect();
    if rows.is_empty() {
        ui.out("it describes none of the fields that the schema says nothing about\n");
        return Ok(ExitCode::SUCCESS);
    }
    ui.out(&table::aligned(&["field", "about"], &rows, ui.width()));
    ui.note("`--write` adds these descriptions to the schema");
    Ok(ExitCode::SUCCESS)
}

/// The table, and perhaps the field, that `table.field` means: the name of a table may have a dot in it, as may
/// that of a field.
pub fn table_and_field<'w>(project: &Project, what: &'w str) -> Result<(TableId, Option<&'w str>), Error> {
    let dots = what.match_indices('.').map(|(at, _)| at);
    let whole = project.schema.table(what).map(|_| (what, None));
    let split = dots
        .map(|at| (&what[..at], Some(&what[at + 1..])))
        .find(|(table, _)| project.schema.table(table).is_some());
    let first = what.split_once('.').map_or(what, |(table, _)| table);
    let (name, field) = whole.or(split).unwrap_or((first, None));
    Ok((find_table(&project.schema, name)?, field))
}

/// Cuts the last column so that each row stays on one line of `width` characters.
fn fit(header: &[&str], rows: &mut [Vec<String>], width: usize) {
    let last = header.len() - 1;
    let widest = |at: usize| {
        let cells = rows.iter().map(|row| row[at].chars().count());
        cells.chain([header[at].chars().count()]).max().unwrap_or_default() + 2
    };
    let others: usize = (0..last).map(widest).sum();
    let left = width.saturating_sub(others).max(LONGEST);
    for row in rows {
        if row[last].chars().count() > left {
            let kept: String = row[last].chars().take(left - 3).collect();
            row[last] = format!("{}...", kept.trim_end_matches([' ', ',']));
        }
    }
}

fn row(own: &FieldReport) -> Vec<String> {
    let cut = |value: &str| {
        let clean = human::clean(value);
        match clean.char_indices().nth(LONGEST) {
            Some((end, _)) => format!("{}...", &clean[..end]),
            None => clean,
        }
    };
    let none: u64 = own.none.iter().map(|(_, count)| count).sum();
    let nothing = match own.empty + own.absent + none {
        0 => String::new(),
        some => grouped(some as usize),
    };
    let mut points_to = own.points_to.join(", ");
    if !own.left_over.is_empty() {
        let left: u64 = own.left_over.iter().map(|(_, count)| count).sum();
        points_to += &format!(" ({left} nowhere)");
    }
    let commonest: Vec<String> = match own.range {
        Some((low, high)) if own.distinct > OF_ALL as u64 => vec![format!("{low} to {high}")],
        _ if own.is_key || own.distinct == own.values => {
            own.commonest.iter().take(2).map(|(value, ..)| cut(value)).collect()
        }
        _ => own.commonest.iter().map(|(value, count, _)| format!("{} ({count})", cut(value))).collect(),
    };
    let unit = own.unit.as_ref().map(|unit| format!(" in {unit}")).unwrap_or_default();
    vec![
        if own.is_key { format!("{} (key)", own.name) } else { own.name.clone() },
        format!("{}{unit}", own.kind),
        grouped(own.values as usize),
        grouped(own.distinct as usize),
        nothing,
        points_to,
        commonest.join(", "),
    ]
}

/// All about one field.
fn one(table: &str, own: &FieldReport) -> String {
    let mut out = format!("{}\n", styled(BOLD, format!("{table}.{}", own.name)));
    let mut line = |name: &str, text: String| {
        if !text.is_empty() {
            out += &format!("  {}  {text}\n", styled(DIM, format!("{name:<10}")));
        }
    };
    line("about", own.about.clone().unwrap_or_default());
    let unit = own.unit.as_ref().map(|unit| format!(" in {unit}")).unwrap_or_default();
    let key = if own.is_key { ", part of the key" } else { "" };
    let described = if own.described { "" } else { "; the schema does not describe it" };
    line("kind", format!("{}{unit}{key}{described}", own.kind));
    line("values", format!("{}, {} different", grouped(own.values as usize), grouped(own.distinct as usize)));
    if let Some((low, high)) = own.range {
        line("from, to", format!("{low}, {high}"));
    }
    if let Some((short, long)) = &own.lengths {
        line("shortest", human::clean(short));
        line("longest", human::clean(long));
    }
    let listed = |list: &[(String, u64)]| {
        list.iter()
            .map(|(value, count)| format!("{} ({count})", human::clean(value)))
            .collect::<Vec<_>>()
            .join(", ")
    };
    line("none", listed(&own.none));
    let mut nothing = Vec::new();
    if own.empty > 0 {
        nothing.push(format!("{} empty", grouped(own.empty as usize)));
    }
    if own.absent > 0 {
        nothing.push(format!("not there in {}", count(own.absent as usize, "record")));
    }
    line("nothing", nothing.join(", "));
    line("points to", own.points_to.join(", "));
    line("nowhere", listed(&own.left_over));
    if !own.commonest.is_empty() {
        let rows: Vec<Vec<String>> = own
            .commonest
            .iter()
            .map(|(value, count, key)| {
                vec![grouped(*count as usize), human::clean(value), format!("{table}:{key}")]
            })
            .collect();
        out += "\n";
        out += &crate::render::table::aligned(&["times", "value", "for example"], &rows, 120);
        let more = own.distinct.saturating_sub(own.commonest.len() as u64);
        if more > 0 {
            out += &format!("and {} more\n", grouped(more as usize));
        }
    }
    out
}
