//! `stitching off` and `stitching on`

use super::{edit, open_in};
use crate::args::{Global, Off, On};
use crate::render::{human, json};
use crate::ui::{BOLD, CYAN, Ui, count, styled, wants_json};
use serde::Serialize;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::changes::{switch_off, switch_on};
use stitching_core::links::{Switched, SwitchedBy, switched};
use stitching_core::{Error, Project};

pub fn off(folder: &Path, args: &Off, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    match &args.address {
        Some(address) => edit::run(folder, &args.editing, global, ui, |project| switch_off(project, address)),
        None => list(&open_in(folder, ui)?, global, ui),
    }
}

pub fn on(folder: &Path, args: &On, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    edit::run(folder, &args.editing, global, ui, |project| switch_on(project, &args.address))
}

/// The result of `off` without an address.
#[derive(Debug, Serialize)]
struct AllOff<'o> {
    off: Vec<json::Placed<'o, OffShape<'o>>>,
}

/// Something that is off.
#[derive(Debug, Serialize)]
struct OffShape<'o> {
    address: Option<String>,
    text: &'o str,
    kept_aside: bool,
}

impl<'o> OffShape<'o> {
    fn new(project: &Project, own: &'o Switched) -> OffShape<'o> {
        OffShape {
            address: own.address(&project.schema),
            text: &own.text,
            kept_aside: matches!(own.source, SwitchedBy::SetAside(_)),
        }
    }
}

/// Lists what is off.
fn list(project: &Project, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let all = switched(&project.stack, &project.schema);
    if wants_json(global)? {
        let shape = |own| json::placed(OffShape::new(project, own), &own.place);
        ui.json(&AllOff { off: all.iter().map(shape).collect() });
        return Ok(ExitCode::SUCCESS);
    }
    let paths = human::Paths::of(project);
    let mut out = String::new();
    for own in &all {
        let address = own.address(&project.schema).unwrap_or_else(|| "(not a record)".to_owned());
        let aside = if matches!(own.source, SwitchedBy::SetAside(_)) { ", kept aside" } else { "" };
        let shown = match own.text.trim().trim_matches(',').trim() {
            "" => "(the whole file)",
            text => text,
        };
        let lines: Vec<&str> = shown.lines().collect();
        let first = lines.first().map(|line| human::clean(line.trim())).unwrap_or_default();
        let more =
            if lines.len() > 1 { format!(" ... {}", count(lines.len(), "line")) } else { String::new() };
        let place = styled(CYAN, paths.place(&own.place));
        out.push_str(&format!("{}\n    {place}{aside}\n    {first}{more}\n", styled(BOLD, address)));
    }
    match all.len() {
        0 => out.push_str("nothing is off\n"),
        number => out
            .push_str(&format!("\n{} off; `stitching on ADDRESS` switches one on\n", count(number, "entry"))),
    }
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}
