//! `stitching show`

mod record;
mod table;

use crate::args::{Format, Global, Show};
use crate::ui::{Ui, wants_json, wants_one_of};
use std::process::ExitCode;
use stitching_core::{Error, Project};

pub fn run(project: &Project, args: &Show, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    match project.schema.table(&args.what) {
        Some(id) => {
            wants_one_of(global, &[Format::Json, Format::JsonLines, Format::Delimited, Format::Markdown])?;
            table::run(project, id, args, global, ui)
        }
        None => record::run(project, args, wants_json(global)?, ui),
    }
}
