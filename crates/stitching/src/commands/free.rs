//! `stitching free`

use crate::args::{Free, Global, Kind};
use crate::render::human;
use crate::ui::{Ui, count, wants_json};
use serde::Serialize;
use std::process::ExitCode;
use stitching_core::views::{Closest, FreeKind, FreeRequest, Near, free};
use stitching_core::{Error, Project};

/// The result of `free`.
#[derive(Debug, Serialize)]
struct FreeShape<'f, N> {
    table: &'f str,
    field: Option<&'f str>,
    kind: &'f str,
    free: Vec<FreeValue<'f>>,
    taken: usize,
    lowest: Option<N>,
    highest: Option<N>,
    next: Option<N>,
    near: Option<NearShape<'f>>,
    block: Option<[N; 2]>,
}

/// What is known of the value that was asked for.
#[derive(Debug, Serialize)]
struct NearShape<'f> {
    value: &'f str,
    free: bool,
    closest: Option<ClosestShape<'f>>,
}

/// The closest value that is taken, with the record that has it.
#[derive(Debug, Serialize)]
struct ClosestShape<'f> {
    value: &'f str,
    key: &'f str,
    distance: f64,
}

/// A value that is not taken, perhaps within a group.
#[derive(Debug, Serialize)]
struct FreeValue<'f> {
    group: Option<&'f str>,
    value: &'f str,
}

pub fn run(project: &Project, args: &Free, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let through = project.through(args.through.through.as_deref())?;
    let (table, field) = super::fields::table_and_field(project, &args.what)?;
    let kind = args.kind.map(|kind| match kind {
        Kind::Number => FreeKind::Number,
        Kind::Bit => FreeKind::Bit,
        Kind::Position => FreeKind::Position,
        Kind::Colour => FreeKind::Colour,
        Kind::Name => FreeKind::Name,
    });
    let reserved = field.and_then(|field| project.schema.reserved_numbers(table, field));
    let block = args.block.as_deref().map(block).transpose()?;
    let request = FreeRequest {
        field: field.map(str::to_owned),
        kind,
        count: args.count.clamp(1, 100_000),
        near: args.near.clone(),
        after: args.after,
        group: args.group.clone(),
        block: block.or(reserved),
    };
    let found = ui.progress("reading", || free(project.view().until(through), table, &request))?;
    let kind = found.kind.map_or("", FreeKind::name);
    if as_json {
        let values = found.values.iter().map(|(group, value)| FreeValue { group: group.as_deref(), value });
        ui.json(&FreeShape {
            table: &project.schema.tables[table].name,
            field,
            kind,
            free: values.collect(),
            taken: found.taken,
            lowest: found.bounds.map(|(low, _)| low),
            highest: found.bounds.map(|(_, high)| high),
            next: found.next,
            near: args.near.as_deref().zip(found.near.as_ref()).map(near_shape),
            block: request.block.map(|(first, last)| [first, last]),
        });
        return Ok(ExitCode::SUCCESS);
    }
    let alone = args.group.is_some();
    let line = |(group, value): &(Option<String>, String)| match group {
        Some(group) if !alone => format!("{group}/{value}\n"),
        _ => format!("{value}\n"),
    };
    ui.out(&found.values.iter().map(line).collect::<String>());
    if let (Some(value), Some(near)) = (&args.near, &found.near) {
        ui.note(&near_text(&project.schema.tables[table].name, value, near));
    }
    let mut note = format!("{} taken", count(found.taken, kind));
    if let Some((low, high)) = found.bounds {
        note += &format!(", from {low} to {high}");
        if let Some(next) = found.next {
            note += &format!("; after them {next}");
        }
    }
    if let Some((first, last)) = request.block {
        let whose = if block.is_none() { "reserved for this mod" } else { "asked for" };
        note += &format!("; {first} to {last} {whose}");
    }
    if alone || kind != FreeKind::Position.name() {
        ui.note(&note);
    }
    if found.values.len() < request.count
        && found.values.first().is_some_and(|(group, _)| group.is_none() || alone)
    {
        ui.note(&format!("no more than {} free", count(found.values.len(), kind)));
    }
    Ok(ExitCode::SUCCESS)
}

fn near_shape<'f>((value, near): (&'f str, &'f Near)) -> NearShape<'f> {
    let closest = near.closest.as_ref().map(|own| ClosestShape {
        value: &own.value,
        key: &own.key,
        distance: own.distance,
    });
    NearShape { value, free: near.is_free, closest }
}

/// "`#4a7b2c` is free; the closest that is taken is `#4a7b30` of basins:north, 1.2 away".
fn near_text(table: &str, value: &str, near: &Near) -> String {
    let closest = near.closest.as_ref();
    let owner = |own: &Closest| human::record(table, &own.key, None);
    match (near.is_free, closest) {
        (false, Some(own)) if own.distance == 0.0 => format!("`{value}` is taken, by {}", owner(own)),
        (false, _) => format!("`{value}` is taken"),
        (true, None) => format!("`{value}` is free"),
        (true, Some(own)) => {
            let distance = (own.distance * 10.0).round() / 10.0;
            format!(
                "`{value}` is free; the closest that is taken is `{}` of {}, {distance} away",
                own.value,
                owner(own)
            )
        }
    }
}

/// `5000..5999`
fn block(text: &str) -> Result<(i64, i64), Error> {
    let parts = text.split_once("..");
    let ends = parts.and_then(|(first, last)| Some((first.trim().parse().ok()?, last.trim().parse().ok()?)));
    ends.filter(|(first, last)| first <= last).ok_or_else(|| Error::Usage {
        message: format!("`{text}` is not a block of numbers"),
        help: "write the first and the last: `--block 5000..5999`".into(),
    })
}
