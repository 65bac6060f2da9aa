//! `stitching renumber`

use super::edit;
use crate::args::{Global, Renumber};
use crate::ui::Ui;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::Error;
use stitching_core::changes::{Renumbering, Step};

pub fn run(folder: &Path, args: &Renumber, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let Some((table, field)) = args.field.split_once('.') else {
        return Err(Error::Usage {
            message: format!("`{}` names no field", args.field),
            help: format!("write it behind the table: {}.FIELD", args.field).into(),
        });
    };
    let how = match (args.open, &args.sort, &args.block) {
        (Some(from), ..) => Renumbering::Open(from, args.by),
        (_, Some(column), _) => Renumbering::Sort(column.clone()),
        (.., Some(block)) => {
            let (first, last) = numbers(block)?;
            let to = args.to.ok_or_else(|| Error::Usage {
                message: "`--move` says what moves, and not where".to_owned(),
                help: "write `--to N` behind it, the new number of the first".into(),
            })?;
            Renumbering::Move(first, last, to)
        }
        _ => Renumbering::Close,
    };
    let (table, field) = (table.to_owned(), field.to_owned());
    let step = Step::Renumber { table, field, group: args.group.clone(), how };
    edit::run(folder, &args.editing, global, ui, |project| step.build(project))
}

/// The first and the last number of `FIRST..LAST`.
fn numbers(block: &str) -> Result<(i64, i64), Error> {
    let parsed =
        block.split_once("..").and_then(|(first, last)| Some((first.parse().ok()?, last.parse().ok()?)));
    parsed.filter(|(first, last)| first <= last).ok_or_else(|| Error::Usage {
        message: format!("`{block}` is no block of numbers"),
        help: "write the first and the last: 10..19".into(),
    })
}
