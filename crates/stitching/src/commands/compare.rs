//! `stitching compare`

use super::sides::{Named, named};
use crate::args::{Compare, Global};
use crate::render::{human, json};
use crate::ui::{BOLD, CYAN, DIM, Ui, YELLOW, count, styled, wants_json};
use serde::Serialize;
use std::cell::OnceCell;
use std::process::ExitCode;
use stitching_core::links::{Found, resolve};
use stitching_core::views::{Details, FieldDetail, details};
use stitching_core::{Error, Project};

/// The result of `compare`.
#[derive(Debug, Serialize)]
struct Comparison<'c> {
    one: json::Placed<'c, RecordShape<'c>>,
    other: json::Placed<'c, RecordShape<'c>>,
    fields: Vec<FieldShape<'c>>,
    differ: usize,
}

/// A record that is compared.
#[derive(Debug, Serialize)]
struct RecordShape<'c> {
    table: &'c str,
    key: &'c str,
    label: Option<&'c str>,
}

fn record_shape<'c>(details: &'c Details, table: &'c str) -> json::Placed<'c, RecordShape<'c>> {
    let head = RecordShape { table, key: &details.key, label: details.label.as_deref() };
    json::placed(head, &details.places[0])
}

/// A field in both.
#[derive(Debug, Serialize)]
struct FieldShape<'c> {
    field: &'c str,
    one: Option<&'c str>,
    other: Option<&'c str>,
    same: bool,
}

pub fn run(project: &Project, args: &Compare, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let through = project.through(args.through.through.as_deref())?;
    let one = Named { side: project.view().until(through), project, name: String::new() };
    let kept = OnceCell::new();
    let other = match &args.against {
        Some(against) => named(project, against, &kept)?,
        None => Named { side: one.side, project, name: String::new() },
    };
    if args.other.is_none() && args.against.is_none() {
        return Err(Error::Usage {
            message: "there is nothing to compare the record with".to_owned(),
            help: format!(
                "name another record, or where the other is: `stitching compare {} --against {}`",
                args.one,
                project.stack.layers()[0].name
            )
            .into(),
        });
    }
    let (first, left) = read(&one, &args.one)?;
    // The key alone names the record, but with the table it is found in the other state, too.
    let address = args.other.clone().unwrap_or_else(|| {
        stitching_core::links::Address::show(&one.side.schema.tables[first.table].name, &first.key)
    });
    let (second, right) = read(&other, &address)?;
    let pairs = pairs(&left, &right);
    let tables = (&one.side.schema.tables[first.table].name, &other.side.schema.tables[second.table].name);
    if as_json {
        let fields = pairs.iter().map(|pair| FieldShape {
            field: &pair.name,
            one: pair.one.as_deref(),
            other: pair.other.as_deref(),
            same: pair.same(),
        });
        ui.json(&Comparison {
            one: record_shape(&left, tables.0),
            other: record_shape(&right, tables.1),
            fields: fields.collect(),
            differ: pairs.iter().filter(|pair| !pair.same()).count(),
        });
        return Ok(ExitCode::SUCCESS);
    }
    let head = |details: &Details, table: &str, named: &Named<'_>| {
        let shown = human::record(table, &details.key, details.label.as_deref());
        format!(
            "{}  {}\n",
            styled(BOLD, shown),
            styled(CYAN, human::Paths::of(named.project).place(&details.places[0]))
        )
    };
    let mut out = head(&left, tables.0, &one) + &head(&right, tables.1, &other) + "\n";
    let width =
        |texts: &mut dyn Iterator<Item = &str>| texts.map(|text| text.chars().count()).max().unwrap_or(0);
    let names = width(&mut pairs.iter().map(|pair| pair.name.as_str()));
    let shown = |value: &Option<String>| value.as_deref().map_or("(not there)".to_owned(), human::clean);
    const WIDEST: usize = 40;
    let ones: Vec<String> = pairs.iter().map(|pair| shown(&pair.one)).collect();
    let values = width(&mut ones.iter().map(String::as_str)).min(WIDEST);
    for (pair, one) in pairs.iter().zip(&ones).filter(|(pair, _)| !pair.same()) {
        let other = shown(&pair.other);
        out += &format!("{} {:<names$}  {one:<values$}  {other}\n", styled(YELLOW, "~"), pair.name);
    }
    for (pair, one) in pairs.iter().zip(&ones).filter(|(pair, _)| pair.same()) {
        out += &styled(DIM, format!("  {:<names$}  {one}", pair.name));
        out.push('\n');
    }
    let differ = pairs.iter().filter(|pair| !pair.same()).count();
    out += &match differ {
        0 => "\nthe two are the same\n".to_owned(),
        1 => "\n1 field differs\n".to_owned(),
        differ => format!("\n{} differ\n", count(differ, "field")),
    };
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}

fn read(named: &Named<'_>, address: &str) -> Result<(Found, Details), Error> {
    let side = named.side;
    let found = resolve(side, address).map_err(|error| match error {
        Error::Unknown { what, name, help } if !named.name.is_empty() => {
            Error::Unknown { what, name: format!("{name}` in `{}", named.name), help }
        }
        other => other,
    })?;
    let details = details(side, &found)?;
    Ok((found, details))
}

/// What two records say in a field.
struct Pair {
    name: String,
    one: Option<String>,
    other: Option<String>,
}

impl Pair {
    fn same(&self) -> bool {
        self.one == self.other
    }
}

/// All fields that one of the records has, in the order of the first and then of the second.
fn pairs(one: &Details, other: &Details) -> Vec<Pair> {
    let says = |details: &Details, name: &str| {
        let own = details.fields.iter().filter(|field| field.name == name).map(says);
        let own: Vec<String> = own.collect();
        (!own.is_empty()).then(|| own.join(", "))
    };
    let mut pairs: Vec<Pair> = Vec::new();
    for name in one.fields.iter().chain(&other.fields).map(|field| &field.name) {
        if !pairs.iter().any(|pair| pair.name == *name) {
            pairs.push(Pair { name: name.clone(), one: says(one, name), other: says(other, name) });
        }
    }
    pairs
}

/// A value, with the name of what it stands for.
fn says(field: &FieldDetail) -> String {
    let mut out = field.value.text.clone();
    if let Some((_, Some(text))) = field.texts.first() {
        out += &format!(" \"{text}\"");
    }
    for name in field.points_to.iter().filter_map(|(_, _, label)| label.as_ref()) {
        out += &format!(" \"{name}\"");
    }
    out
}
