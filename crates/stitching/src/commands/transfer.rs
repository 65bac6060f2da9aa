//! `stitching transfer`

use super::{edit, open_in};
use crate::args::{Global, Transfer};
use crate::render::human::clean;
use crate::ui::{BOLD, Ui, styled, wants_json};
use serde::Serialize;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{find_transfer, transfer};

/// The result of `transfer` without a name.
#[derive(Debug, Serialize)]
struct List<'s> {
    transfers: Vec<TransferShape<'s>>,
}

/// A transfer.
#[derive(Debug, Serialize)]
struct TransferShape<'s> {
    name: &'s str,
    about: Option<&'s str>,
    from: &'s str,
    to: &'s str,
    in_step: bool,
}

pub fn run(folder: &Path, args: &Transfer, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    if let Some(name) = &args.name {
        return edit::run(folder, &args.editing, global, ui, |project| {
            transfer(project, find_transfer(project, name)?)
        });
    }
    let as_json = wants_json(global)?;
    let project = open_in(folder, ui)?;
    let tables = &project.schema.tables;
    if as_json {
        let transfers = project.schema.transfers.iter().map(|own| TransferShape {
            name: &own.name,
            about: own.about.as_deref(),
            from: &tables[own.from].name,
            to: &tables[own.to].name,
            in_step: own.in_step,
        });
        ui.json(&List { transfers: transfers.collect() });
        return Ok(ExitCode::SUCCESS);
    }
    let mut out = String::new();
    for own in &project.schema.transfers {
        let (from, to) = (&tables[own.from].name, &tables[own.to].name);
        let in_step = if own.in_step { ", with each change" } else { "" };
        out += &format!("{}  from {from} to {to}{in_step}\n", styled(BOLD, &own.name));
        out.extend(own.about.iter().map(|about| format!("    {}\n", clean(about))));
    }
    if out.is_empty() {
        out.push_str("no transfers: the schema describes them as [[transfer]]\n");
    }
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}
