//! `stitching rename`

use super::edit;
use crate::args::{Global, Rename};
use crate::sheet;
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{NewKeys, Sheet, SheetLine, Step, is_folder};

pub fn run(folder: &Path, args: &Rename, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    if is_folder(&args.address) {
        return rename_folder(folder, args, global, ui);
    }
    let missing = |message: &str, help: &str| Error::Usage { message: message.to_owned(), help: help.into() };
    let many = match (&args.from, &args.pattern[..], &args.prefix) {
        (Some(path), ..) => Some(NewKeys::Pairs(pairs(&sheet::read(path)?)?)),
        (_, [from, to], _) => Some(NewKeys::Pattern(from.clone(), to.clone())),
        (.., Some(prefix)) => Some(NewKeys::Prefix(prefix.clone())),
        _ => None,
    };
    let (address, notes, also) = (args.address.clone(), args.with_notes, args.also.clone());
    let step = match (many, &args.new) {
        (Some(keys), None) => Step::RenameMany { table: address, keys, notes, also },
        (None, Some(new)) => Step::Rename { address, new: new.clone(), notes, also },
        (Some(_), Some(_)) => {
            return Err(missing(
                "many records get keys by one rule, and `NEWKEY` is for one",
                "name only the table",
            ));
        }
        (None, None) => {
            return Err(missing(
                "the new key is missing",
                "write it behind the address; `--from`, `--pattern` and `--prefix` rename many at once",
            ));
        }
    };
    edit::run(folder, &args.editing, global, ui, |project| step.build(project))
}

/// Renames a folder: its path ends with `/`.
fn rename_folder(folder: &Path, args: &Rename, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let of_keys = args.from.is_some() || !args.pattern.is_empty() || args.prefix.is_some();
    let Some(to) = args.new.clone().filter(|_| !of_keys) else {
        return Err(Error::Usage {
            message: "a folder gets one new path".to_owned(),
            help: "write it behind the old one: sites/weir/ sites/dam/".into(),
        });
    };
    let step = Step::RenameFolder { from: args.address.clone(), to, also: args.also.clone() };
    edit::run(folder, &args.editing, global, ui, |project| step.build(project))
}

/// The old and the new keys in a sheet: the columns `key` and `new`.
fn pairs(sheet: &Sheet) -> Result<Vec<(String, String)>, Error> {
    let new = |line: &SheetLine| {
        let value = line.values.iter().find(|(column, value)| column == "new" && !value.is_empty());
        let value = value.ok_or_else(|| Error::Usage {
            message: format!("`{}`, line {}: it has no `new` key", sheet.name, line.number),
            help: "the columns are `key` and `new`".into(),
        })?;
        Ok((line.key.clone(), value.1.clone()))
    };
    sheet.lines.iter().map(new).collect()
}
