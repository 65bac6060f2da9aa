//! `stitching apply`

use super::edit;
use crate::args::{Apply, Global, Side};
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{ChangeSet, OnConflict, apply};

/// Larger files are no change sets, in bytes.
const LARGEST: u64 = 256 << 20;

pub fn run(folder: &Path, args: &Apply, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let name = args.file.display().to_string();
    let io = |source: std::io::Error| match source.kind() {
        std::io::ErrorKind::NotFound => Error::Unknown {
            what: "file",
            name: name.clone(),
            help: "name a file that was written by `stitching history --save`".into(),
        },
        _ => Error::io("read", &args.file, source),
    };
    let size = std::fs::metadata(&args.file).map_err(io)?.len();
    if size > LARGEST {
        return Err(Error::Usage {
            message: format!("`{name}` is larger than any change set"),
            help: "name a file that was written by `stitching history --save`".into(),
        });
    }
    let bytes = std::fs::read(&args.file).map_err(io)?;
    let text = String::from_utf8(bytes).map_err(|error| Error::Usage {
        message: format!("`{name}` is no text: byte {} is not UTF-8", error.utf8_error().valid_up_to() + 1),
        help: "name a file that was written by `stitching history --save`".into(),
    })?;
    let change_set = ChangeSet::parse(&name, &text)?;
    let on_conflict = match args.take {
        None => OnConflict::Refuse,
        Some(Side::Ours) => OnConflict::Ours,
        Some(Side::Theirs) => OnConflict::Theirs,
    };
    if !change_set.other_files.is_empty() {
        let files = change_set.other_files.join(", ");
        ui.note(&format!("note: what changed outside of records is no part of it: {files}"));
    }
    let title =
        format!("apply {}: {}", args.file.file_name().unwrap_or_default().display(), change_set.title);
    edit::run(folder, &args.editing, global, ui, |project| apply(project, &change_set, &title, on_conflict))
}
