//! `stitching copy`

use super::edit;
use crate::args::{Copy, Global};
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{CopyRequest, Join, copy};

pub fn run(folder: &Path, args: &Copy, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let join = match args.join.iter().map(String::as_str).collect::<Vec<_>>()[..] {
        [] | ["none"] => Join::None,
        ["all"] => Join::All,
        _ => Join::Fields(args.join.clone()),
    };
    let request = CopyRequest {
        address: args.address.clone(),
        new: args.new.clone(),
        values: args.values.clone(),
        name: args.name.clone(),
        join,
        without: args.without.clone(),
    };
    edit::run(folder, &args.editing, global, ui, |project| copy(project, &request))
}
