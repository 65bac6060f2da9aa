//! `stitching learn --rules`: what nearly all records obey, which may become rules.

use super::schema_files::{ChangedSchema, schema_files};
use crate::args::Learn;
use crate::render::human::Paths;
use crate::ui::{BOLD, DIM, Ui, count, grouped, styled};
use serde::Serialize;
use std::process::ExitCode;
use stitching_core::layers::LayerId;
use stitching_core::learn::{Obeyed, obeyed};
use stitching_core::{Error, Project};

/// The result of `learn --rules`.
#[derive(Debug, Serialize)]
struct AllShape<'o> {
    rules: Vec<ObeyedShape<'o>>,
}

#[derive(Debug, Serialize)]
struct ObeyedShape<'o> {
    number: usize,
    table: &'o str,
    says: &'o str,
    obey: usize,
    among: usize,
    others: Vec<OtherShape<'o>>,
    rule: String,
}

/// A record that does not obey.
#[derive(Debug, Serialize)]
struct OtherShape<'o> {
    key: Option<&'o str>,
    path: &'o str,
    layer: &'o str,
    line: usize,
    column: usize,
}

/// The rules that were written.
#[derive(Debug, Serialize)]
struct WrittenShape<'o> {
    written: usize,
    files: Vec<&'o str>,
}

/// So many of those that do not obey are shown in a line.
const SHOWN: usize = 4;

pub fn run(
    project: &Project,
    args: &Learn,
    through: LayerId,
    as_json: bool,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let found = ui.progress("studying the data", || obeyed(project.view().until(through)));
    if let Some(table) = args.table.as_ref().filter(|table| project.schema.table(table).is_none()) {
        return Err(Error::Unknown {
            what: "table",
            name: table.clone(),
            help: "rules are about tables that the schema describes: `stitching tables` lists them".into(),
        });
    }
    if !args.accept.is_empty() {
        return write(project, &found, &args.accept, as_json, ui);
    }
    let of_table = |own: &&(usize, &Obeyed)| args.table.as_ref().is_none_or(|table| own.1.table == *table);
    let listed: Vec<(usize, &Obeyed)> =
        found.iter().enumerate().map(|(at, own)| (at + 1, own)).filter(|own| of_table(&own)).collect();
    if as_json {
        ui.json(&AllShape { rules: listed.iter().map(|(number, own)| shape(*number, own)).collect() });
        return Ok(ExitCode::SUCCESS);
    }
    let paths = Paths::of(project);
    let mut out = String::new();
    for (number, own) in &listed {
        let (obey, among) = (grouped(own.obey), grouped(own.among));
        out += &format!("{number:>4} {obey} of {among} {} {}\n", styled(BOLD, &own.table), own.says);
        for (key, place) in own.others.iter().take(SHOWN) {
            let key = key.as_ref().map(|key| format!("{key}  ")).unwrap_or_default();
            out += &format!("       {}\n", styled(DIM, format!("not {key}{}", paths.place(place))));
        }
        let more = (own.among - own.obey).saturating_sub(SHOWN);
        if more > 0 {
            out += &format!("       {}\n", styled(DIM, format!("and {} more", grouped(more))));
        }
    }
    ui.out(&out);
    match listed.is_empty() {
        true => ui.note("there is nothing that nearly all records obey and some do not"),
        false => ui.note(
            "those that do not may be faults; `stitching learn --rules --accept N,...` makes rules of them",
        ),
    }
    Ok(ExitCode::SUCCESS)
}

fn shape(number: usize, own: &Obeyed) -> ObeyedShape<'_> {
    ObeyedShape {
        number,
        table: &own.table,
        says: &own.says,
        obey: own.obey,
        among: own.among,
        others: own
            .others
            .iter()
            .map(|(key, place)| OtherShape {
                key: key.as_deref(),
                path: &place.path,
                layer: &place.layer,
                line: place.line,
                column: place.column,
            })
            .collect(),
        rule: own.rule(),
    }
}

/// Puts rules at the end of the last schema file.
fn write(
    project: &Project,
    found: &[Obeyed],
    numbers: &[usize],
    as_json: bool,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let mut rules = String::new();
    for number in numbers {
        let own = number.checked_sub(1).and_then(|at| found.get(at)).ok_or_else(|| Error::Usage {
            message: format!("there is nothing with the number {number}"),
            help: match found.len() {
                0 => "there is nothing that nearly all records obey and some do not".into(),
                last => format!("the numbers are 1 to {last}").into(),
            },
        })?;
        rules += &format!("\n{}", own.rule());
    }
    let Some(file) = schema_files(project)?.pop() else { return Ok(ExitCode::SUCCESS) };
    let name = file.name;
    let gap = if file.text.is_empty() || file.text.ends_with('\n') { "" } else { "\n" };
    let after = format!("{}{gap}{rules}", file.text);
    let changed = ChangedSchema::of_file(file, after);
    // What is written must be what can be read.
    changed.described(project)?;
    changed.write(project, ui)?;
    if as_json {
        ui.json(&WrittenShape { written: numbers.len(), files: vec![name] });
    } else {
        ui.out(&format!("{} written into {name}\n", count(numbers.len(), "rule")));
        ui.note("give them names and messages there; `stitching check` tells who breaks them");
    }
    Ok(ExitCode::SUCCESS)
}
