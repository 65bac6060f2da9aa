//! `stitching copy`

use super::edit;
use crate::args::{Copy, Global};
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{CopyRequest, CopySource, Join, Lacking, RecordPlace, Step, is_folder};

pub fn run(folder: &Path, args: &Copy, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    if is_folder(&args.address) {
        if args.from.is_some() {
            return Err(Error::Usage {
                message: "a folder is copied within the project, and not from elsewhere".to_owned(),
                help: "leave `--from` out; records with their files come from elsewhere".into(),
            });
        }
        let has_place = args.after.is_some() || args.before.is_some();
        let of_record = !args.values.is_empty()
            || !args.join.is_empty()
            || !args.without.is_empty()
            || !args.also.is_empty();
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
    let lacking = match (args.with_needed, args.editing.allow_errors) {
        (true, _) => Lacking::Bring,
        (false, true) => Lacking::Leave,
        (false, false) => Lacking::Refuse,
    };
    let request = CopyRequest {
        address: args.address.clone(),
        new: args.new.clone(),
        values: args.values.clone(),
        name: args.name.clone(),
        join: Join::of_words(&args.join),
        without: args.without.clone(),
        place,
        also: args.also.clone(),
        from: args.from.clone().map(|name| CopySource { name, lacking }),
    };
    edit::run(folder, &args.editing, global, ui, |project| Step::Copy(request).build(project))
}
