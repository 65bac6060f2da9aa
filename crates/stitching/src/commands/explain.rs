//! `stitching explain`

use crate::args::{Explain, Global};
use crate::render::{explanation, table};
use crate::ui::{BOLD, Ui, styled, wants_json};
use serde::Serialize;
use std::process::ExitCode;
use stitching_core::checks::{self, CHECKS, Check};
use stitching_core::schema::{Rule, Schema};
use stitching_core::text::nearest_of;
use stitching_core::{Code, Error, Project, Severity};

/// A check or a rule, as `explain` gives it.
#[derive(Debug, Serialize)]
struct Explained<'e> {
    code: Code,
    #[serde(skip_serializing_if = "Option::is_none")]
    rule: Option<&'e str>,
    severity: Severity,
    about: String,
    docs: String,
}

impl Explained<'_> {
    fn of_check(check: &Check) -> Explained<'static> {
        let (about, docs) = (check.about.to_owned(), check.docs.to_owned());
        Explained { code: check.code, rule: None, severity: check.severity, about, docs }
    }

    fn of_rule(rule: &Rule) -> Explained<'_> {
        Explained {
            code: Code::RULE_NOT_MET,
            rule: Some(&rule.name),
            severity: rule.severity,
            about: explanation::headline(rule),
            docs: explanation::of_rule(rule),
        }
    }

    fn name(&self) -> &str {
        self.rule.unwrap_or(self.code.as_str())
    }
}

pub fn run(args: &Explain, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    // What the program finds is explained everywhere, the rules of a schema where there is one.
    let check = args.code.as_ref().and_then(|code| checks::find(code));
    let project = match check {
        Some(_) => None,
        None => super::folder(global).ok().map(|folder| Project::open(&folder)).transpose()?,
    };
    let schema = project.as_ref().map(|project| &project.schema);
    match &args.code {
        Some(code) => {
            let explained = match check {
                Some(check) => Explained::of_check(check),
                None => Explained::of_rule(rule(code, schema)?),
            };
            if as_json {
                ui.json(&explained);
            } else {
                let head = format!(
                    "{} ({}): {}",
                    styled(BOLD, explained.name()),
                    explained.severity.word(),
                    explained.about
                );
                ui.out(&format!("{head}\n\n{}", explained.docs));
            }
        }
        None => {
            let rules = schema.iter().flat_map(|schema| &schema.rules).map(Explained::of_rule);
            let all: Vec<Explained<'_>> =
                CHECKS.iter().map(|check| Explained::of_check(check)).chain(rules).collect();
            if as_json {
                ui.json(&all);
            } else {
                let row = |own: &Explained<'_>| {
                    vec![own.name().to_owned(), own.severity.word().to_owned(), own.about.clone()]
                };
                let rows: Vec<Vec<String>> = all.iter().map(row).collect();
                ui.out(&table::aligned(&["code", "severity", "about"], &rows, ui.width()));
            }
        }
    }
    Ok(ExitCode::SUCCESS)
}

/// That there is a check with this code, or a rule of this name.
///
/// # Errors
/// When there is none, with the nearest name.
pub fn known(code: &str, schema: &Schema) -> Result<(), Error> {
    match checks::find(code) {
        Some(_) => Ok(()),
        None => rule(code, Some(schema)).map(drop),
    }
}

/// The rule called `name`, or an error with the nearest code or rule.
fn rule<'s>(name: &str, schema: Option<&'s Schema>) -> Result<&'s Rule, Error> {
    let rules = || schema.iter().flat_map(|schema| &schema.rules);
    rules().find(|rule| rule.name == name).ok_or_else(|| Error::Unknown {
        what: "problem code",
        name: name.to_owned(),
        help: {
            let codes = CHECKS.iter().map(|check| check.code.as_str());
            match nearest_of(name, codes.chain(rules().map(|rule| rule.name.as_str()))).first() {
                Some(near) => format!("did you mean `{near}`? `stitching explain` lists them all").into(),
                None => "`stitching explain` lists them all".into(),
            }
        },
    })
}
