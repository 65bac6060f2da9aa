//! `stitching explain`

use crate::args::{Explain, Global};
use crate::render::table;
use crate::ui::{BOLD, Ui, styled, wants_json};
use serde::Serialize;
use std::process::ExitCode;
use stitching_core::checks::{self, CHECKS, Check};
use stitching_core::{Code, Error, Severity};

/// A check, as `explain` gives it.
#[derive(Debug, Serialize)]
struct CheckShape {
    code: Code,
    severity: Severity,
    about: &'static str,
    docs: &'static str,
}

impl From<&Check> for CheckShape {
    fn from(check: &Check) -> CheckShape {
        CheckShape { code: check.code, severity: check.severity, about: check.about, docs: check.docs }
    }
}

pub fn run(args: &Explain, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    match &args.code {
        Some(code) => {
            let check = known(code)?;
            if as_json {
                ui.json(&CheckShape::from(check));
            } else {
                let head =
                    format!("{} ({}): {}", styled(BOLD, check.code), check.severity.word(), check.about);
                ui.out(&format!("{head}\n\n{}", check.docs));
            }
        }
        None if as_json => ui.json(&CHECKS.iter().map(|check| CheckShape::from(*check)).collect::<Vec<_>>()),
        None => {
            let row = |check: &&Check| {
                vec![check.code.to_string(), check.severity.word().to_owned(), check.about.to_owned()]
            };
            let rows: Vec<Vec<String>> = CHECKS.iter().map(row).collect();
            ui.out(&table::aligned(&["code", "severity", "about"], &rows, ui.width()));
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// The check with this code, or an error with the nearest one.
pub fn known(code: &str) -> Result<&'static Check, Error> {
    checks::find(code).ok_or_else(|| Error::Unknown {
        what: "problem code",
        name: code.to_owned(),
        help: match checks::nearest(code).first() {
            Some(near) => format!("did you mean `{near}`? `stitching explain` lists them all").into(),
            None => "`stitching explain` lists them all".into(),
        },
    })
}
