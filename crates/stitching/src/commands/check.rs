//! `stitching check`

use crate::args::{Check, Format, Global};
use crate::exit::PROBLEMS;
use crate::render::{github, human, json, sarif};
use crate::ui::{BOLD, DIM, GREEN, RED, Ui, YELLOW, count, grouped, styled, wants_one_of};
use std::collections::BTreeMap;
use std::process::ExitCode;
use stitching_core::checks::{self, Report};
use stitching_core::{Error, Place, Problem, Project, Severity};

pub fn run(project: &Project, args: &Check, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    wants_one_of(global, &[Format::Json, Format::Sarif, Format::Github])?;
    for code in &args.codes {
        super::explain::known(code)?;
    }
    let through = project.through(args.through.through.as_deref())?;
    let report = ui.progress("checking", || checks::check(project.view().until(through)));
    let wanted = |problem: &&Problem| (args.all || !problem.inherited) && wants(args, problem.code.as_str());
    let shown: Vec<&Problem> = report.problems.iter().filter(wanted).collect();
    match global.format {
        Format::Json => ui.json(&json::report(&shown, &report.summary)),
        Format::Sarif => ui.json(&sarif::report(&shown, |place| prefix(project, place))),
        Format::Github => ui.out(&github::report(&shown, |problem| prefix(project, &problem.place))),
        _ => human_report(&report, &shown, args, &human::Paths::of(project), ui),
    }
    let errors = shown.iter().any(|problem| problem.severity == Severity::Error)
        || (report.left_out.iter().any(|(code, _)| wants(args, code.as_str())) && report.summary.errors > 0);
    Ok(if errors { ExitCode::from(PROBLEMS) } else { ExitCode::SUCCESS })
}

/// Whether problems of this code are asked for.
fn wants(args: &Check, code: &str) -> bool {
    args.codes.is_empty() || args.codes.iter().any(|wanted| wanted == code)
}

/// The folder of a place's layer as seen from the project's folder, with a slash behind it.
fn prefix(project: &Project, place: &Place) -> String {
    let layer = project.stack.layers().iter().find(|layer| layer.name == place.layer);
    let folder = project.folder.canonicalize().unwrap_or_else(|_| project.folder.clone());
    let below = layer.and_then(|layer| layer.root.strip_prefix(folder).ok());
    let parts = below
        .map(|below| below.components().map(|part| part.as_os_str().to_string_lossy().into_owned() + "/"));
    parts.map(Iterator::collect).unwrap_or_default()
}

fn human_report(report: &Report, shown: &[&Problem], args: &Check, paths: &human::Paths, ui: &Ui) {
    let mut out = String::new();
    for (problem, also) in human::grouped_alike(shown) {
        out.push_str(&human::problem(problem, &also, paths, ui));
        out.push('\n');
    }
    let summary = &report.summary;
    let mut verdict = human::errors_and_warnings(summary.errors, summary.warnings);
    if args.all && summary.inherited > 0 && summary.errors + summary.warnings == 0 {
        verdict = "no problems of the mod's own".to_owned();
    } else if !args.codes.is_empty() {
        let own = || shown.iter().filter(|problem| !problem.inherited);
        let number = |severity| own().filter(|problem| problem.severity == severity).count();
        let of_codes = human::errors_and_warnings(number(Severity::Error), number(Severity::Warning));
        if of_codes != verdict {
            verdict = format!("{of_codes} of {}, out of {verdict}", listed(&args.codes));
        }
    }
    let style = match (summary.errors, summary.warnings) {
        (0, 0) => GREEN.bold(),
        (0, _) => YELLOW,
        _ => RED,
    };
    out.push_str(&format!(
        "{} in {}, {}, {}\n",
        styled(style, verdict),
        count(summary.files, "file"),
        count(summary.records, "record"),
        count(summary.references, "reference"),
    ));
    if shown.len() > 3 {
        out.push_str(&by_code(shown));
    }
    let left_out = report.left_out.iter().filter(|(code, _)| wants(args, code.as_str()));
    for (code, number) in left_out {
        out.push_str(&format!("{} more of {} are only counted\n", grouped(*number), styled(BOLD, code)));
    }
    if summary.off > 0 {
        let entries =
            if summary.off == 1 { "1 entry is".to_owned() } else { format!("{} entries are", summary.off) };
        out.push_str(&format!("{entries} switched off; `stitching off` lists them\n"));
    }
    if summary.inherited > 0 {
        let of_base = shown.iter().filter(|problem| problem.inherited).count();
        let shows = match (args.all, of_base) {
            (false, _) => "`--all` shows them".to_owned(),
            (true, 0) => "none is of these codes".to_owned(),
            (true, all) if all == summary.inherited => "shown above".to_owned(),
            (true, some) => format!("{} shown above", grouped(some)),
        };
        let has =
            format!("the base has {} of its own, not counted; {shows}", count(summary.inherited, "problem"));
        out.push_str(&format!("{}\n", styled(DIM, has)));
    }
    ui.out(&out);
    if let Some(first) = shown.first() {
        ui.note(&format!("`stitching explain {}` tells more", first.code));
    }
}

/// How many problems there are of each code, most first.
fn by_code(shown: &[&Problem]) -> String {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for problem in shown {
        *counts.entry(problem.code.as_str()).or_default() += 1;
    }
    let mut counts: Vec<(usize, &str)> = counts.into_iter().map(|(code, number)| (number, code)).collect();
    counts.sort_by_key(|(number, code)| (std::cmp::Reverse(*number), *code));
    let lines =
        counts.iter().map(|(number, code)| format!("{:>5}  {}\n", grouped(*number), styled(BOLD, code)));
    lines.collect()
}

/// Names in a row, the last one with "and" before it.
fn listed(names: &[String]) -> String {
    match names {
        [first @ .., last] if !first.is_empty() => format!("{} and {last}", first.join(", ")),
        names => names.concat(),
    }
}
