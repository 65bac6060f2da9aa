//! One file a command: it turns flags into a call of the core, and the result into output.

mod add;
mod apply;
mod changed_files;
mod check;
mod compare;
mod copy;
mod corrections;
mod demo;
mod diff;
mod edit;
mod explain;
mod fields;
mod find;
mod fix;
mod free;
mod game_log;
mod history;
mod learn;
mod learn_summary;
mod needs;
mod obeyed;
mod recipe;
mod refresh;
mod remove;
mod rename;
mod renumber;
mod schema_files;
mod set;
mod show;
mod sides;
mod switch;
mod table_edits;
mod tables;
mod text;
mod transfer;
mod uses;
mod watch;

use crate::args::{Cli, Command, Global};
use crate::ui::Ui;
use std::path::{Path, PathBuf};
use std::process::ExitCode;
use std::time::{Duration, SystemTime};
use stitching_core::journal::{CallHook, Journal, Notice, Recovered};
use stitching_core::layers::sweep_caches;
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
        Command::Check(args) => reading(global, ui, |project| check::run(project, args, global, ui)),
        Command::Explain(args) => explain::run(args, global, ui),
        Command::Rename(args) => rename::run(&folder(global)?, args, global, ui),
        Command::Add(args) => add::run(&folder(global)?, args, global, ui),
        Command::Copy(args) => copy::run(&folder(global)?, args, global, ui),
        Command::Remove(args) => remove::run(&folder(global)?, args, global, ui),
        Command::Renumber(args) => renumber::run(&folder(global)?, args, global, ui),
        Command::Fix(args) => fix::run(&folder(global)?, args, global, ui),
        Command::Recipe(args) => recipe::run(&folder(global)?, args, global, ui),
        Command::Watch(args) => watch::run(&folder(global)?, args, global, ui),
        Command::Text(args) => text::run(&folder(global)?, args, global, ui),
        Command::Transfer(args) => transfer::run(&folder(global)?, args, global, ui),
        Command::Refresh(args) => refresh::run(&folder(global)?, args, global, ui),
        Command::Set(args) => set::run(&folder(global)?, args, global, ui),
        Command::Off(args) => switch::off(&folder(global)?, args, global, ui),
        Command::On(args) => switch::on(&folder(global)?, args, global, ui),
        Command::History(args) => history::run(&folder(global)?, args, global, ui),
        Command::Apply(args) => apply::run(&folder(global)?, args, global, ui),
        Command::Undo(args) => history::undo(&folder(global)?, args, global, ui),
        Command::Redo(args) => history::redo(&folder(global)?, args, global, ui),
    }
}

/// The folder of the project that is meant.
pub fn folder(global: &Global) -> Result<PathBuf, Error> {
    match &global.project {
        Some(folder) => Ok(folder.clone()),
        None => Project::find(Path::new(".")),
    }
}

/// Opens the project that is meant for reading: after putting right what an interrupted run left, and locked until the
/// command is done, so that nothing of the mod is replaced meanwhile.
pub fn open(global: &Global, ui: &Ui) -> Result<Project, Error> {
    open_in(&folder(global)?, ui)
}

/// As [`open`], the project in `folder`.
pub fn open_in(folder: &Path, ui: &Ui) -> Result<Project, Error> {
    let observer = |notice: &Notice| tell(notice, ui);
    sweep_caches(folder);
    let (project, locked) = Project::open_with(folder, |mod_root| {
        Journal::new(folder, mod_root, &observer).with_hook(CALL_HOOK).read_lock()
    })?;
    if let Some((recovered, lock)) = locked {
        if let Recovered::Foreign(path) = recovered {
            ui.err(&format!(
                "warning: `{}` tells of an interrupted change, and was not written by you on this computer: nothing in \
                 it is believed. If the project came from somebody else, delete that file",
                path.display()
            ));
        }
        if lock.is_none() {
            ui.err("warning: another stitching has been writing for long; what is read may be half of its change");
        }
        ui.keep_locked(lock);
    }
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
    Ok(project)
}

/// Says what happens while the journal works.
pub fn tell(notice: &Notice, ui: &Ui) {
    match notice {
        Notice::WaitingForWriter => ui.note("waiting for another stitching, which is writing"),
        Notice::WaitingForReaders => ui.note("waiting for other commands, which are reading the mod"),
        Notice::Finishing(title) => ui.err(&format!("finishing a change that was interrupted: {title}")),
        Notice::TakingBack(title) => ui.err(&format!("taking back a change that was interrupted: {title}")),
        Notice::SetAside { path, aside } => ui.err(&format!(
            "warning: another program saved `{path}` at the same time; the other version is kept beside it as `{aside}`"
        )),
        Notice::LeftOver(reason) => ui.err(&format!(
            "warning: temporary files (`.stitching-*`) are left: {reason}; the next command tries again to remove them"
        )),
    }
}

/// Opens the project for a command that uses what an earlier run found out about the files. Of small
/// projects nothing is kept: to look through them takes no time.
fn reading(
    global: &Global,
    ui: &Ui,
    run: impl FnOnce(&Project) -> Result<ExitCode, Error>,
) -> Result<ExitCode, Error> {
    const KEEP_FROM: u64 = 16 << 20;
    let always = is_cached_always();
    let mut project = open(global, ui)?;
    let size: u64 = project.stack.files().iter().map(|file| file.size).sum();
    if !global.no_cache && (always || size >= KEEP_FROM) {
        project = project.with_cache();
    }
    let result = run(&project);
    let troubles = project.stack.cache().map(stitching_core::layers::Cache::troubles);
    for trouble in troubles.into_iter().flatten().filter(|_| ui.verbose) {
        ui.err(&trouble);
    }
    result
}

/// Whether what is found out is kept of small projects too: the tests ask for it, in debug builds.
fn is_cached_always() -> bool {
    cfg!(debug_assertions) && std::env::var_os("STITCHING_TEST_CACHE_ALL").is_some()
}

/// What the clock says. Where the tests ask for caches, files that were written just now are none that may still change.
fn now() -> SystemTime {
    SystemTime::now() + if is_cached_always() { Duration::from_secs(10) } else { Duration::ZERO }
}

/// Does something with the journal of the project in `folder`.
pub fn with_journal<T>(
    folder: &Path,
    ui: &Ui,
    work: impl FnOnce(Journal<'_>) -> Result<T, Error>,
) -> Result<T, Error> {
    let observer = |notice: &Notice| tell(notice, ui);
    // The project is opened before: nothing may fail behind a change that was made.
    let mod_root = Project::open(folder)?.stack.mod_root().ok_or_else(no_mod)?;
    work(Journal::new(folder, mod_root, &observer).with_hook(CALL_HOOK))
}

/// Why nothing can be written.
pub fn no_mod() -> Error {
    Error::refused("the project has no mod layer to write to", "add a [[layer]] to stitching.toml")
}

/// In release builds every call passes.
#[cfg(not(debug_assertions))]
pub const CALL_HOOK: &CallHook<'static> = stitching_core::journal::NO_HOOK;

/// In debug builds the tests let the program die, or calls fail, where they choose.
#[cfg(debug_assertions)]
pub const CALL_HOOK: &CallHook<'static> = &|_| {
    use std::sync::atomic::{AtomicUsize, Ordering};
    static COUNT: AtomicUsize = AtomicUsize::new(0);
    let at = |name| std::env::var(name).ok().and_then(|at| at.parse::<usize>().ok());
    let now = COUNT.fetch_add(1, Ordering::SeqCst) + 1;
    if at("STITCHING_TEST_DIE_AT") == Some(now) {
        std::process::abort();
    }
    let fails_from = at("STITCHING_TEST_FAIL_FROM").is_some_and(|from| now >= from);
    if fails_from || at("STITCHING_TEST_FAIL_AT") == Some(now) {
        return Err(std::io::Error::from(std::io::ErrorKind::StorageFull));
    }
    Ok(())
};
