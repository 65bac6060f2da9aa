//! `stitching rename`

use super::edit;
use crate::args::{Global, Rename};
use crate::ui::Ui;
use std::process::ExitCode;
use stitching_core::changes::rename_with;
use stitching_core::{Error, Project};

pub fn run(project: &Project, args: &Rename, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    edit::run(project, &args.editing, global, ui, |project| {
        rename_with(project, &args.address, &args.new, args.with_notes)
    })
}
