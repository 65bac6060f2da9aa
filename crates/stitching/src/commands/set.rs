//! `stitching set`

use super::edit;
use crate::args::{Global, Set};
use crate::sheet;
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{SetRequest, Step};

pub fn run(folder: &Path, args: &Set, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let request = SetRequest {
        arguments: args.arguments.clone(),
        condition: args.condition.clone(),
        all: args.all,
        sheet: args.from.as_deref().map(sheet::read).transpose()?,
    };
    edit::run(folder, &args.editing, global, ui, |project| Step::Set(request).build(project))
}
