//! `stitching check`

use super::changed_files::changed_files;
use super::now;
use crate::args::{Check, Format, Global};
use crate::exit::PROBLEMS;
use crate::render::{github, grouped, human, json, junit, sarif};
use crate::ui::{self, BOLD, DIM, GREEN, RED, Ui, YELLOW, count, styled, wants_one_of};
use std::collections::BTreeMap;
use std::io::IsTerminal;
use std::path::PathBuf;
use std::process::ExitCode;
use stitching_core::checks::{self, AcceptedProblem, AcceptedProblems, LastCheck, Report};
use stitching_core::{Error, Place, Problem, Project, Severity};

/// What begins the file of accepted problems.
const HEAD: &str = "# Problems that this project lives with. `stitching check --accept` adds to them, and takes out what is gone.\n";

/// So many problems are shown on a terminal, unless it is said otherwise.
const ON_A_TERMINAL: usize = 100;

pub fn run(project: &Project, args: &Check, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    wants_one_of(global, &[Format::Json, Format::Sarif, Format::Github, Format::Junit])?;
    for code in &args.codes {
        super::explain::known(code, &project.schema)?;
    }
    refuse_what_means_nothing(args, global)?;
    let through = project.through(args.through.through.as_deref())?;
    let view = project.view().until(through);
    let changed = args.changed.as_deref().map(|revision| changed_files(&project.folder, revision));
    let changed = changed.transpose()?;
    let accepted = AcceptedProblems::read(&project.folder)?;
    let is_whole = through == project.stack.top() && !args.schema;
    let mut report = ui.progress("checking", || match args.schema {
        true => checks::check_schema(view),
        false if is_whole => checks::check_unless_kept(project, now()),
        false => checks::check(view),
    });
    if let Some(log) = &args.log {
        return super::game_log::run(project, log, &report, global, ui);
    }
    let gone = if is_whole { report.accept(&accepted) } else { Vec::new() };
    let last = if is_whole { LastCheck::recall(&project.folder) } else { None };
    let (is_new, went) = match &last {
        Some(last) => last.compare(&report.problems),
        None => (vec![true; report.problems.len()], 0),
    };
    let in_changed = |problem: &Problem| {
        changed.as_ref().is_none_or(|changed| {
            file_of(project, &problem.place).is_some_and(|file| changed.contains(&file))
        })
    };
    let wanted = |(problem, is_new): &(&Problem, &bool)| {
        (args.all || problem.counts())
            && wants(args, problem)
            && (!args.since_last || **is_new)
            && in_changed(problem)
    };
    let shown: Vec<&Problem> =
        report.problems.iter().zip(&is_new).filter(wanted).map(|(problem, _)| problem).collect();
    if let Some(reason) = &args.accept {
        return accept(project, accepted, &shown, &gone, reason, ui);
    }
    match global.format {
        Format::Json => ui.json(&json::report(&shown, &report.summary)),
        Format::Sarif => {
            ui.json(&sarif::report(&shown, &project.schema.rules, |place| prefix(project, place)));
        }
        Format::Github => ui.out(&github::report(&shown, |problem| prefix(project, &problem.place))),
        Format::Junit => ui.out(&junit::report(&shown, &report.summary, &human::Paths::of(project))),
        _ => {
            let telling =
                Telling { report: &report, shown: &shown, args, gone: &gone, last: last.is_some(), went };
            telling.tell(&human::Paths::of(project), ui);
        }
    }
    // Who never asks for what is new gets no files for it.
    if is_whole && !global.no_cache && (args.since_last || last.is_some()) {
        // Nothing depends on it.
        let _ = LastCheck::of(&report.problems).remember(&project.folder);
    }
    let errors = shown.iter().any(|problem| problem.severity == Severity::Error)
        || (report.left_out.iter().any(|(code, _)| wants_code(args, code.as_str()))
            && report.summary.errors > 0);
    Ok(if errors { ExitCode::from(PROBLEMS) } else { ExitCode::SUCCESS })
}

/// Refuses options that would be without effect.
fn refuse_what_means_nothing(args: &Check, global: &Global) -> Result<(), Error> {
    let for_people = global.format == Format::Human;
    let refused = |option: &str, why: &str| {
        let message = format!("`{option}` means nothing {why}");
        Err(Error::Usage { message, help: "leave one of them out".into() })
    };
    match args {
        Check { by: Some(_), .. } if !for_people => {
            refused("--by", "with another `--format`, which has all problems")
        }
        Check { limit: Some(_), .. } if !for_people => {
            refused("--limit", "with another `--format`, which has all problems")
        }
        Check { accept: Some(_), .. } if !for_people => refused("--format", "with `--accept`"),
        Check { since_last: true, .. } if global.no_cache => {
            refused("--since-last", "with `--no-cache`, which keeps nothing of earlier checks")
        }
        Check { since_last: true, .. } | Check { accept: Some(_), .. } if args.through.through.is_some() => {
            refused("--through", "with `--since-last` and `--accept`, which are about the whole mod")
        }
        _ => Ok(()),
    }
}

/// Whether a problem is of a code, or a rule, that is asked for.
fn wants(args: &Check, problem: &Problem) -> bool {
    wants_code(args, problem.code.as_str()) || args.codes.iter().any(|wanted| wanted == problem.name())
}

/// Whether problems of this code are asked for.
fn wants_code(args: &Check, code: &str) -> bool {
    args.codes.is_empty() || args.codes.iter().any(|wanted| wanted == code)
}

/// Puts problems among those that the project lives with.
fn accept(
    project: &Project,
    mut accepted: AcceptedProblems,
    shown: &[&Problem],
    gone: &[AcceptedProblem],
    reason: &str,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    if reason.trim().is_empty() {
        return Err(Error::Usage {
            message: "the reason is empty".into(),
            help: "say why you live with it: in a year nobody knows".into(),
        });
    }
    let own: Vec<&Problem> = shown.iter().copied().filter(|problem| problem.counts()).collect();
    let new = accepted.accept(&own, reason, gone);
    if new == 0 && gone.is_empty() {
        ui.out("nothing to accept\n");
        return Ok(ExitCode::SUCCESS);
    }
    accepted.write(&project.folder, HEAD)?;
    let mut said = format!("{} accepted in {}", count(new, "problem"), AcceptedProblems::FILE);
    if !gone.is_empty() {
        said.push_str(&format!("; {} taken out, since the problem is gone", gone.len()));
    }
    ui.out(&format!("{said}\n"));
    Ok(ExitCode::SUCCESS)
}

/// The file that a place is in, as an absolute path.
fn file_of(project: &Project, place: &Place) -> Option<PathBuf> {
    let layer = project.stack.layers().iter().find(|layer| layer.name == place.layer);
    let file = match layer {
        Some(layer) => layer.root.join(&place.path),
        // The schema and the project file.
        None => project.folder.canonicalize().ok()?.join(&place.path),
    };
    // The place may have `..` in it, or be in an archive, which is then the file.
    let real = file.ancestors().find(|path| path.is_file())?;
    real.canonicalize().ok()
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

/// What is told to people.
struct Telling<'t> {
    report: &'t Report,
    shown: &'t [&'t Problem],
    args: &'t Check,
    /// The accepted problems that are gone.
    gone: &'t [AcceptedProblem],
    /// Whether the last check is known.
    last: bool,
    /// How many problems of the last check are gone.
    went: usize,
}

impl Telling<'_> {
    fn tell(&self, paths: &human::Paths, ui: &Ui) {
        let mut out = String::new();
        let limit = match self.args.limit {
            Some(0) => usize::MAX,
            Some(limit) => limit,
            None if std::io::stdout().is_terminal() => ON_A_TERMINAL,
            None => usize::MAX,
        };
        let first = &self.shown[..self.shown.len().min(limit)];
        match self.args.by {
            Some(by) => out.push_str(&grouped::report(self.shown, by, limit, paths)),
            None => {
                for (problem, also) in human::grouped_alike(first) {
                    out.push_str(&human::problem(problem, &also, paths, ui));
                    out.push('\n');
                }
            }
        }
        let left = self.shown.len() - first.len();
        if left > 0 {
            let more = format!("{} more not shown; `--limit 0` shows all", ui::grouped(left));
            out.push_str(&format!("{more}\n"));
        }
        out.push_str(&self.verdict());
        if self.shown.len() > 3 && self.args.by.is_none() {
            out.push_str(&by_code(self.shown));
        }
        self.asides(&mut out);
        ui.out(&out);
        if let Some(first) = self.shown.first().filter(|_| self.args.by.is_none()) {
            ui.note(&format!("`stitching explain {}` tells more", first.name()));
        }
    }

    /// One line: how many errors and warnings, in how much.
    fn verdict(&self) -> String {
        let summary = &self.report.summary;
        let mut verdict = human::errors_and_warnings(summary.errors, summary.warnings);
        if self.args.all && summary.inherited > 0 && summary.errors + summary.warnings == 0 {
            verdict = "no problems of the mod's own".to_owned();
        } else {
            let own = || self.shown.iter().filter(|problem| problem.counts());
            let number = |severity| own().filter(|problem| problem.severity == severity).count();
            let chosen = human::errors_and_warnings(number(Severity::Error), number(Severity::Warning));
            let mut of = Vec::new();
            if !self.args.codes.is_empty() {
                of.push(format!("of {}", listed(&self.args.codes)));
            }
            if let Some(revision) = &self.args.changed {
                of.push(format!("in files changed since {revision}"));
            }
            if self.args.since_last && self.last {
                of.push("since the last check".to_owned());
            }
            if !of.is_empty() && chosen != verdict {
                verdict = format!("{chosen} {}, out of {verdict}", of.join(" "));
            }
        }
        let style = match (summary.errors, summary.warnings) {
            (0, 0) => GREEN.bold(),
            (0, _) => YELLOW,
            _ => RED,
        };
        format!(
            "{} in {}, {}, {}\n",
            styled(style, verdict),
            count(summary.files, "file"),
            count(summary.records, "record"),
            count(summary.references, "reference"),
        )
    }

    /// What else there is to know.
    fn asides(&self, out: &mut String) {
        let (summary, args) = (&self.report.summary, self.args);
        for (code, number) in self.report.left_out.iter().filter(|(code, _)| wants_code(args, code.as_str()))
        {
            let (number, code) = (ui::grouped(*number), styled(BOLD, code));
            out.push_str(&format!("{number} more of {code} are only counted\n"));
        }
        if args.since_last {
            out.push_str(&match (self.last, self.went) {
                (false, _) => "no earlier check is known: all is new\n".to_owned(),
                (true, 0) => "nothing is gone since the last check\n".to_owned(),
                (true, went) => format!("{} gone since the last check\n", are(went, "problem")),
            });
        }
        if summary.off > 0 {
            let entries = if summary.off == 1 {
                "1 entry is".to_owned()
            } else {
                format!("{} entries are", summary.off)
            };
            out.push_str(&format!("{entries} switched off; `stitching off` lists them\n"));
        }
        if summary.accepted > 0 {
            let shows = if args.all { "" } else { "; `--all` shows them" };
            let has = format!("{} accepted, not counted{shows}", are(summary.accepted, "problem"));
            out.push_str(&format!("{}\n", styled(DIM, has)));
        }
        if summary.silenced > 0 {
            let has = format!("{} off by [severity]", are(summary.silenced, "problem"));
            out.push_str(&format!("{}\n", styled(DIM, has)));
        }
        if !self.gone.is_empty() {
            const MOST: usize = 3;
            let names: Vec<String> = self.gone.iter().take(MOST).map(AcceptedProblem::shown).collect();
            let more = self.gone.len().saturating_sub(MOST);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let number = are(self.gone.len(), "accepted problem");
            out.push_str(&format!("{number} gone: {}{more}; `--accept` takes them out\n", names.join("; ")));
        }
        if summary.inherited > 0 {
            let of_base = self.shown.iter().filter(|problem| problem.inherited).count();
            let shows = match (args.all, of_base) {
                (false, _) => "`--all` shows them".to_owned(),
                (true, 0) => "none is of these codes".to_owned(),
                (true, all) if all == summary.inherited => "shown above".to_owned(),
                (true, some) => format!("{} shown above", ui::grouped(some)),
            };
            let has = format!(
                "the base has {} of its own, not counted; {shows}",
                count(summary.inherited, "problem")
            );
            out.push_str(&format!("{}\n", styled(DIM, has)));
        }
    }
}

/// "1 problem is", "2 problems are".
fn are(number: usize, word: &str) -> String {
    format!("{} {}", count(number, word), if number == 1 { "is" } else { "are" })
}

/// How many problems there are of each code, most first.
fn by_code(shown: &[&Problem]) -> String {
    let mut counts: BTreeMap<&str, usize> = BTreeMap::new();
    for problem in shown {
        *counts.entry(problem.name()).or_default() += 1;
    }
    let mut counts: Vec<(usize, &str)> = counts.into_iter().map(|(code, number)| (number, code)).collect();
    counts.sort_by_key(|(number, code)| (std::cmp::Reverse(*number), *code));
    let lines =
        counts.iter().map(|(number, code)| format!("{:>5}  {}\n", ui::grouped(*number), styled(BOLD, code)));
    lines.collect()
}

/// Names in a row, the last one with "and" before it.
fn listed(names: &[String]) -> String {
    match names {
        [first @ .., last] if !first.is_empty() => format!("{} and {last}", first.join(", ")),
        names => names.concat(),
    }
}
