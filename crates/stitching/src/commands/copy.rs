//! `stitching copy`

use super::edit;
use crate::args::{Copy, Global};
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{CopyRequest, Join, Step};

pub fn run(folder: &Path, args: &Copy, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    if args.address.ends_with('/') {
        if !args.values.is_empty() || args.name.is_some() || !args.join.is_empty() || !args.without.is_empty()
        {
            return Err(Error::Usage {
                message: "a folder is copied as it is: it has no fields, name or lists".to_owned(),
                help: "leave out what stands behind the new path".into(),
            });
        }
        let step = Step::CopyFolder { from: args.address.clone(), to: args.new.clone() };
        return edit::run(folder, &args.editing, global, ui, |project| step.build(project));
    }
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
