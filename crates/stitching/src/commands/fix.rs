//! `stitching fix`

use super::edit;
use crate::args::{Fix, Global};
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{FixRequest, fix};

pub fn run(folder: &Path, args: &Fix, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let request = FixRequest { which: args.which.clone(), all: args.all };
    edit::run(folder, &args.editing, global, ui, |project| fix(project, &request))
}
