//! `stitching copy`

use super::edit;
use crate::args::{Copy, Global};
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{CopyRequest, Join, RecordPlace, Step, is_folder};

pub fn run(folder: &Path, args: &Copy, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    if is_folder(&args.address) {
        let has_place = args.after.is_some() || args.before.is_some();
        let of_record = !args.values.is_empty() || !args.join.is_empty() || !args.without.is_empty();
        if of_record || args.name.is_some() || has_place {
            return Err(Error::Usage {
                message: "a folder is copied as it is: it has no fields, name, lists or place".to_owned(),
                help: "leave out what stands behind the new path".into(),
            });
        }
        let step = Step::CopyFolder { from: args.address.clone(), to: args.new.clone() };
        return edit::run(folder, &args.editing, global, ui, |project| step.build(project));
    }
    let place = match (&args.before, &args.after) {
        (Some(key), _) => RecordPlace::Before(key.clone()),
        (_, Some(key)) => RecordPlace::After(key.clone()),
        _ => RecordPlace::Fitting,
    };
    let request = CopyRequest {
        address: args.address.clone(),
        new: args.new.clone(),
        values: args.values.clone(),
        name: args.name.clone(),
        join: Join::of_words(&args.join),
        without: args.without.clone(),
        place,
    };
    edit::run(folder, &args.editing, global, ui, |project| Step::Copy(request).build(project))
}
