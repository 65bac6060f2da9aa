//! `stitching remove`

use super::edit;
use crate::args::{Global, Remove};
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{RemoveRequest, Step};

pub fn run(folder: &Path, args: &Remove, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let request = RemoveRequest {
        addresses: args.addresses.clone(),
        detach: args.detach,
        cascade: args.cascade,
        keep: args.keep.clone(),
        with_unused: args.with_unused,
    };
    edit::run(folder, &args.editing, global, ui, |project| Step::Remove(request).build(project))
}
