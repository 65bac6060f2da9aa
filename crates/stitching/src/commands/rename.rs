//! `stitching rename`

use super::edit;
use crate::args::{Global, Rename};
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::rename_with;

pub fn run(folder: &Path, args: &Rename, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    edit::run(folder, &args.editing, global, ui, |project| {
        rename_with(project, &args.address, &args.new, args.with_notes)
    })
}
