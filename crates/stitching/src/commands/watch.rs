//! `stitching watch`

use super::open_in;
use crate::args::{Global, Watch};
use crate::render::{human, json};
use crate::ui::{BOLD, DIM, GREEN, RED, Ui, YELLOW, count, styled, wants_json};
use notify::{Config, EventKind, PollWatcher, RecommendedWatcher, RecursiveMode, Watcher};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::sync::mpsc::{Receiver, RecvTimeoutError, channel};
use std::time::{Duration, Instant, SystemTime};
use stitching_core::checks::{AcceptedProblems, Checker, LastCheck, Report};
use stitching_core::layers::OWN_FOLDER;
use stitching_core::{Code, Error, Problem, Project, Severity};

/// After a change nothing is looked at until the files were quiet for so long,
const QUIET: Duration = Duration::from_millis(200);

/// or had so long to become so.
const LONGEST: Duration = Duration::from_secs(3);

/// A file with a fault in its structure may be half written: it is looked at again after so long.
const HALF_WRITTEN: Duration = Duration::from_millis(700);

/// How often files are looked at where the system does not tell of changes.
const POLL: Duration = Duration::from_secs(1);

/// Of more problems that came at once only the first are shown.
const MOST_SHOWN: usize = 20;

pub fn run(folder: &Path, args: &Watch, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let (sender, changes) = channel();
    let watching = Watching::new(args.poll, sender)?;
    let (checker, before) = (Checker::default(), Vec::new());
    let mut session = Session { folder, as_json, ui, watching, checker, before, checks: 0 };
    let mut changed = BTreeSet::new();
    loop {
        match session.check(&changes, &mut changed) {
            Ok(()) => {}
            // A schema that is just being edited opens again with the next save.
            Err(error) if session.checks > 0 => session.tell_error(&error),
            Err(error) => return Err(error),
        }
        changed = wait(&changes)?;
    }
}

/// The system's word on changes.
struct Watching {
    watcher: Box<dyn Watcher>,
    folders: BTreeSet<PathBuf>,
}

impl Watching {
    fn new(
        poll: bool,
        sender: std::sync::mpsc::Sender<notify::Result<notify::Event>>,
    ) -> Result<Watching, Error> {
        // The times of files may have no more than seconds.
        let config = Config::default().with_poll_interval(POLL).with_compare_contents(true);
        let watcher: Box<dyn Watcher> = match poll {
            true => Box::new(PollWatcher::new(sender, config).map_err(|error| cannot_watch(&error))?),
            false => Box::new(RecommendedWatcher::new(sender, config).map_err(|error| cannot_watch(&error))?),
        };
        Ok(Watching { watcher, folders: BTreeSet::new() })
    }

    /// Watches these folders, each with whether also what lies deeper, from now on.
    fn watch(&mut self, folders: &BTreeSet<(PathBuf, bool)>) -> Result<(), Error> {
        for (folder, deep) in folders {
            if self.folders.insert(folder.clone()) {
                let mode = if *deep { RecursiveMode::Recursive } else { RecursiveMode::NonRecursive };
                self.watcher.watch(folder, mode).map_err(|error| cannot_watch(&error))?;
            }
        }
        Ok(())
    }
}

fn cannot_watch(error: &notify::Error) -> Error {
    Error::Usage {
        message: format!("the system does not tell of changes: {error}"),
        help: "`--poll` looks at the files again and again instead".into(),
    }
}

/// Waits until files changed and were quiet for a while; gives their paths.
fn wait(changes: &Receiver<notify::Result<notify::Event>>) -> Result<BTreeSet<PathBuf>, Error> {
    let gone = || Error::Usage {
        message: "the system stopped telling of changes".into(),
        help: "run the command again".into(),
    };
    let mut changed = BTreeSet::new();
    while changed.is_empty() {
        add(changes.recv().map_err(|_| gone())?, &mut changed);
    }
    let since = Instant::now();
    while since.elapsed() < LONGEST {
        match changes.recv_timeout(QUIET) {
            Ok(event) => add(event, &mut changed),
            Err(RecvTimeoutError::Timeout) => break,
            Err(RecvTimeoutError::Disconnected) => return Err(gone()),
        }
    }
    Ok(changed)
}

/// Adds the files that an event tells of. What the tool does itself is none, nor is reading.
fn add(event: notify::Result<notify::Event>, changed: &mut BTreeSet<PathBuf>) {
    let own = |path: &PathBuf| path.components().any(|part| part.as_os_str() == OWN_FOLDER);
    match event {
        Ok(event) if matches!(event.kind, EventKind::Access(_)) => {}
        Ok(event) => changed.extend(event.paths.into_iter().filter(|path| !own(path))),
        // Some were lost: all is looked at.
        Err(error) => changed.extend(error.paths.into_iter().chain([PathBuf::new()])),
    }
}

/// The checks of one run.
struct Session<'s> {
    folder: &'s Path,
    as_json: bool,
    ui: &'s Ui,
    watching: Watching,
    checker: Checker,
    /// What the last check found.
    before: Vec<Problem>,
    checks: usize,
}

impl Session<'_> {
    /// Checks, and tells what came and what went. Where a file seems to be half written, that is done a second time first.
    fn check(
        &mut self,
        changes: &Receiver<notify::Result<notify::Event>>,
        changed: &mut BTreeSet<PathBuf>,
    ) -> Result<(), Error> {
        let (mut project, mut report) = self.report()?;
        if self.checks > 0 && self.seems_half_written(&report) {
            std::thread::sleep(HALF_WRITTEN);
            changes.try_iter().for_each(|event| add(event, changed));
            (project, report) = self.report()?;
        }
        let now: Vec<Problem> = report.problems.iter().filter(|own| own.counts()).cloned().collect();
        let (is_new, _) = LastCheck::of(&self.before).compare(&now);
        let (is_gone, _) = LastCheck::of(&now).compare(&self.before);
        let came: Vec<&Problem> = chosen(&now, &is_new);
        let went: Vec<&Problem> = chosen(&self.before, &is_gone);
        let names = names(changed, &project);
        match self.as_json {
            true => self.tell_json(names, &came, &went, &report),
            false => self.tell(&names, &came, &went, &report, &human::Paths::of(&project)),
        }
        self.checks += 1;
        self.before = now;
        Ok(())
    }

    /// What there is now. Nobody is kept from writing while nothing is read.
    fn report(&mut self) -> Result<(Project, Report), Error> {
        let project = open_in(self.folder, self.ui)?;
        // What changes from here on is looked at again.
        self.watching.watch(&folders(self.folder, &project))?;
        let mut report = self.checker.check(&project, SystemTime::now());
        if self.ui.verbose {
            self.ui.err(&format!("{} read", count(self.checker.files_read(), "file")));
        }
        report.accept(&AcceptedProblems::read(self.folder)?);
        self.ui.keep_locked(None);
        Ok((project, report))
    }

    /// Whether a file has a fault in its structure that it did not have before.
    fn seems_half_written(&self, report: &Report) -> bool {
        let structural = [Code::SYNTAX_ERROR, Code::COLUMN_COUNT, Code::NOT_TEXT];
        let (is_new, _) = LastCheck::of(&self.before).compare(&report.problems);
        let found = chosen(&report.problems, &is_new);
        found.into_iter().any(|own| own.counts() && structural.contains(&own.code))
    }

    fn tell_json(&self, changed: Vec<String>, came: &[&Problem], went: &[&Problem], report: &Report) {
        let shapes = |problems: &[&'_ Problem]| -> Vec<serde_json::Value> {
            let shape = |own: &&Problem| serde_json::to_value(json::ProblemShape::from(*own));
            problems.iter().filter_map(|own| shape(own).ok()).collect()
        };
        let line = serde_json::json!({
            "changed": changed,
            "came": shapes(came),
            "went": shapes(went),
            "errors": report.summary.errors,
            "warnings": report.summary.warnings,
        });
        self.ui.out(&format!("{line}\n"));
        self.ui.show();
    }

    fn tell(
        &self,
        changed: &[String],
        came: &[&Problem],
        went: &[&Problem],
        report: &Report,
        paths: &human::Paths,
    ) {
        let mut out = String::new();
        if self.checks > 0 {
            const MOST: usize = 3;
            let more = changed.len().saturating_sub(MOST);
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            let first = changed.iter().take(MOST).cloned().collect::<Vec<_>>().join(", ");
            out.push_str(&format!("{}\n", styled(DIM, format!("changed: {first}{more}"))));
        }
        // The same slip in many lines is told once.
        let (gone, new) = (human::grouped_alike(went), human::grouped_alike(came));
        for (own, also) in gone.iter().take(MOST_SHOWN) {
            out.push_str(&format!("  {} {}\n", styled(GREEN, "gone"), line(own, also, paths)));
        }
        for (own, also) in new.iter().take(MOST_SHOWN) {
            let style = if own.severity == Severity::Error { RED } else { YELLOW };
            out.push_str(&format!("  {} {}\n", styled(style, own.severity.word()), line(own, also, paths)));
        }
        let hidden = gone.len().saturating_sub(MOST_SHOWN) + new.len().saturating_sub(MOST_SHOWN);
        if hidden > 0 {
            out.push_str(&format!("  and {hidden} more; `stitching check` shows all\n"));
        }
        let (errors, warnings) = (report.summary.errors, report.summary.warnings);
        let verdict = human::errors_and_warnings(errors, warnings);
        let style = match (errors, warnings) {
            (0, 0) => GREEN,
            (0, _) => YELLOW,
            _ => RED,
        };
        let change = match (self.checks, came.len(), went.len()) {
            (0, ..) => "; waiting for changes, Ctrl-C ends".to_owned(),
            (_, 0, 0) => ", as before".to_owned(),
            (_, came, went) => format!(": {came} came, {went} went"),
        };
        out.push_str(&format!("{}{change}\n", styled(style, verdict)));
        self.ui.out(&out);
        self.ui.show();
    }

    fn tell_error(&self, error: &Error) {
        // Of a description with mistakes the first one.
        let first = match error {
            Error::Description(problems) => problems.first(),
            _ => None,
        };
        let message = first.map_or_else(
            || error.to_string(),
            |own| format!("{}:{}: {}", own.place.path, own.place.line, own.message),
        );
        match self.as_json {
            true => self.ui.out(&format!("{}\n", serde_json::json!({ "error": message }))),
            false => self.ui.out(&format!("  {} {message}\n", styled(RED, "not checked:"))),
        }
        self.ui.show();
    }
}

fn chosen<'p>(problems: &'p [Problem], is: &[bool]) -> Vec<&'p Problem> {
    problems.iter().zip(is).filter(|(_, is)| **is).map(|(problem, _)| problem).collect()
}

/// A problem in one line; `also` are the lines of the same file that have it too.
fn line(problem: &Problem, also: &[usize], paths: &human::Paths) -> String {
    let message = problem.message.lines().next().unwrap_or_default();
    let also = match also.len() {
        0 => String::new(),
        1 => " (and in another line)".to_owned(),
        number => format!(" (and in {number} more lines)"),
    };
    format!("{} {}  {message}{also}", styled(BOLD, problem.name()), paths.place(&problem.place))
}

/// The folders whose files matter, each with whether also what lies deeper.
fn folders(folder: &Path, project: &Project) -> BTreeSet<(PathBuf, bool)> {
    let real = |path: &Path| path.canonicalize().unwrap_or_else(|_| path.to_owned());
    let mut out: BTreeSet<(PathBuf, bool)> = BTreeSet::new();
    for layer in project.stack.layers() {
        match layer.root.is_dir() {
            true => drop(out.insert((real(&layer.root), true))),
            // An archive is replaced within its folder.
            false => out.extend(layer.root.parent().map(|own| (real(own), false))),
        }
    }
    let described = project.schema_files.iter().filter_map(|name| folder.join(name).parent().map(real));
    for own in described.chain([real(folder)]) {
        if !out.contains(&(own.clone(), true)) {
            out.insert((own, false));
        }
    }
    out
}

/// What changed, as seen from the layers.
fn names(changed: &BTreeSet<PathBuf>, project: &Project) -> Vec<String> {
    let name = |path: &PathBuf| {
        let roots = project.stack.layers().iter().map(|layer| layer.root.as_path());
        let below = roots.filter_map(|root| path.strip_prefix(root).ok()).next();
        let file_name = || path.file_name().map(|name| name.to_string_lossy().into_owned());
        let shown =
            below.filter(|own| !own.as_os_str().is_empty()).map(|own| own.to_string_lossy().into_owned());
        shown.or_else(file_name).unwrap_or_else(|| "many files".to_owned())
    };
    // What is gone again was mostly somebody's temporary file.
    let there: Vec<&PathBuf> = changed.iter().filter(|path| path.is_file()).collect();
    let shown = if there.is_empty() { changed.iter().collect() } else { there };
    let mut out: Vec<String> = shown.into_iter().map(name).collect();
    out.dedup();
    out
}
