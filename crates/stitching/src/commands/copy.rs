//! `stitching copy`

use super::edit;
use crate::args::{Copy, Global};
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{CopyRequest, Join, Step};

pub fn run(folder: &Path, args: &Copy, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let request = CopyRequest {
        address: args.address.clone(),
        new: args.new.clone(),
        values: args.values.clone(),
        name: args.name.clone(),
        join: Join::of_words(&args.join),
        without: args.without.clone(),
    };
    edit::run(folder, &args.editing, global, ui, |project| Step::Copy(request).build(project))
}
