//! `stitching add`

use super::edit;
use crate::args::{Add, Global};
use crate::sheet;
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{AddRequest, RecordPlace, Step};

pub fn run(folder: &Path, args: &Add, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let place = match (&args.before, &args.after, &args.file) {
        (Some(key), ..) => RecordPlace::Before(key.clone()),
        (_, Some(key), _) => RecordPlace::After(key.clone()),
        (.., Some(path)) => RecordPlace::In(path.clone()),
        _ if args.first => RecordPlace::First,
        _ if args.last => RecordPlace::Last,
        _ => RecordPlace::Fitting,
    };
    let (values, keys): (Vec<String>, Vec<String>) =
        args.arguments.iter().cloned().partition(|argument| argument.contains('='));
    let request = AddRequest {
        table: args.table.clone(),
        keys,
        values,
        like: args.like.clone(),
        place,
        name: args.name.clone(),
        sheet: args.from.as_deref().map(sheet::read).transpose()?,
        missing: args.missing,
    };
    edit::run(folder, &args.editing, global, ui, |project| Step::Add(request).build(project))
}
