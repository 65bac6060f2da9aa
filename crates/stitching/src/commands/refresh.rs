//! `stitching refresh`

use super::edit;
use crate::args::{Global, Refresh};
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::refresh;

pub fn run(folder: &Path, args: &Refresh, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    edit::run(folder, &args.editing, global, ui, refresh)
}
