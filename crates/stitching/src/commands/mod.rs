//! One file a command: it turns flags into a call of the core, and the result into output.

mod check;
mod compare;
mod demo;
mod diff;
mod edit;
mod explain;
mod fields;
mod find;
mod free;
mod history;
mod learn;
mod needs;
mod rename;
mod show;
mod sides;
mod switch;
mod tables;
mod uses;

use crate::args::{Cli, Command, Global};
use crate::ui::Ui;
use std::process::ExitCode;
use stitching_core::journal::{Journal, NO_HOOK, Recovered, StepHook};
use stitching_core::{Error, Project};

/// Runs the command that was asked for.
pub fn run(cli: &Cli, ui: &Ui) -> Result<ExitCode, Error> {
    let global = &cli.global;
    match &cli.command {
        Command::Demo(args) => demo::run(args, global, ui),
        Command::Init(args) => learn::init(args, global, ui),
        Command::Learn(args) => learn::run(&open(global, ui)?, args, global, ui),
        Command::Tables(args) => tables::run(&open(global, ui)?, args, global, ui),
        Command::Show(args) => reading(global, ui, |project| show::run(project, args, global, ui)),
        Command::Fields(args) => fields::run(&open(global, ui)?, args, global, ui),
        Command::Find(args) => reading(global, ui, |project| find::run(project, args, global, ui)),
        Command::Uses(args) => reading(global, ui, |project| uses::run(project, args, global, ui)),
        Command::Free(args) => free::run(&open(global, ui)?, args, global, ui),
        Command::Compare(args) => reading(global, ui, |project| compare::run(project, args, global, ui)),
        Command::Diff(args) => diff::run(&open(global, ui)?, args, global, ui),
        Command::Needs(args) => needs::run(&open(global, ui)?, args, global, ui),
        Command::Check(args) => check::run(&open(global, ui)?, args, global, ui),
        Command::Explain(args) => explain::run(args, global, ui),
        Command::Rename(args) => rename::run(&open(global, ui)?, args, global, ui),
        Command::Off(args) => switch::off(&open(global, ui)?, args, global, ui),
        Command::On(args) => switch::on(&open(global, ui)?, args, global, ui),
        Command::History => history::list(&open(global, ui)?, global, ui),
        Command::Undo => history::undo(&open(global, ui)?, global, ui),
        Command::Redo => history::redo(&open(global, ui)?, global, ui),
    }
}

/// Opens the project that is meant, after putting right what an interrupted run left.
pub fn open(global: &Global, ui: &Ui) -> Result<Project, Error> {
    let folder = match &global.project {
        Some(folder) => folder.clone(),
        None => Project::find(std::path::Path::new("."))?,
    };
    let project = Project::open(&folder)?;
    for layer in project.stack.layers().iter().filter(|_| ui.verbose) {
        let id = project.layer(&layer.name)?;
        let files = project.stack.files().iter().filter(|file| file.layer == id).count();
        ui.err(&format!(
            "layer {}: {}, {}",
            layer.name,
            layer.root.display(),
            crate::ui::count(files, "file")
        ));
    }
    let Some(journal) = journal(&project) else { return Ok(project) };
    match journal.recover()? {
        Recovered::Nothing => return Ok(project),
        Recovered::Finished(title) => ui.note(&format!("an interrupted change was finished: {title}")),
        Recovered::TakenBack(title) => ui.note(&format!("an interrupted change was taken back: {title}")),
    }
    Project::open(&folder)
}

/// Opens the project for a command that looks records up, with what an earlier run found out about the files. Of small
/// projects nothing is kept: to look through them takes no time.
fn reading(
    global: &Global,
    ui: &Ui,
    run: impl FnOnce(&Project) -> Result<ExitCode, Error>,
) -> Result<ExitCode, Error> {
    const KEEP_FROM: u64 = 16 << 20;
    let mut project = open(global, ui)?;
    let size: u64 = project.stack.files().iter().map(|file| file.size).sum();
    if !global.no_cache && size >= KEEP_FROM {
        project = project.with_cache()?;
    }
    let result = run(&project);
    let troubles = project.stack.cache().map(stitching_core::layers::Cache::troubles);
    for trouble in troubles.into_iter().flatten().filter(|_| ui.verbose) {
        ui.err(&trouble);
    }
    result
}

/// The journal of a project; `None` if it has no layer to write to.
pub fn journal(project: &Project) -> Option<Journal<'static>> {
    Some(Journal::new(&project.folder, project.stack.mod_root()?, STEP_HOOK))
}

/// In release builds every step passes.
#[cfg(not(debug_assertions))]
const STEP_HOOK: &StepHook<'static> = NO_HOOK;

/// In debug builds the tests let the program die, or fail, at a step of their choice.
#[cfg(debug_assertions)]
const STEP_HOOK: &StepHook<'static> = &|step: stitching_core::journal::Step| {
    use std::sync::atomic::{AtomicUsize, Ordering};
    static COUNT: AtomicUsize = AtomicUsize::new(0);
    let at = |name| std::env::var(name).ok().and_then(|at| at.parse::<usize>().ok());
    let now = COUNT.fetch_add(1, Ordering::SeqCst) + 1;
    if at("STITCHING_TEST_DIE_AT") == Some(now) {
        std::process::abort();
    }
    if at("STITCHING_TEST_FAIL_AT") == Some(now) && step != stitching_core::journal::Step::Clean {
        return Err(std::io::Error::from(std::io::ErrorKind::StorageFull));
    }
    NO_HOOK(step)
};
