//! Writing several files so that a crash at any instant leaves all of it or none.
//!
//! 1. `pending.json` is written with the phase `staging` and the names of all temporary files.
//! 2. The new bytes of each file are written beside their target and synced; of each file that is
//!    replaced or deleted, a second name (or a copy, where the file system has no second names)
//!    is kept beside it.
//! 3. The targets are compared with what was read: a file changed since is not overwritten.
//! 4. `pending.json` is replaced by one with the phase `committing`. This is the instant at which
//!    the change is made: before it a crash takes everything back, after it the next start
//!    finishes the work.
//! 5. The new files are renamed over their targets, deleted ones removed, folders synced, the
//!    second names dropped, and last `pending.json`.
//!
//! When a step fails while the process lives on, everything is taken back at once, also in phase
//! 5, from the second names.
//!
//! **Limitations.** A second name is made with a hard link. Where that fails the file is copied.

use super::Recovered;
use super::target::{Roots, Target};
use crate::Error;
use crate::layers::Fingerprint;
use crate::text::Patch;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::fs::{self, File};
use std::io::{self, Write};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// What is about to be done to a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Step {
    /// `pending.json` is written.
    Intend,
    /// New bytes are written beside their target.
    Stage,
    /// Staged bytes are brought to the disk.
    Sync,
    /// The old file gets a second name.
    Keep,
    /// `pending.json` gets the phase in which the change is made.
    Decide,
    /// A staged file takes its target's place.
    Replace,
    /// A file is deleted.
    Delete,
    /// Second names and `pending.json` are dropped.
    Clean,
}

/// Asked before each step; an error stands for the step having failed. For tests.
pub type StepHook<'h> = dyn Fn(Step) -> io::Result<()> + Sync + 'h;

/// The hook that lets every step pass.
pub const NO_HOOK: &StepHook<'static> = &|_| Ok(());

/// Names of the files that are there only while a change is written begin like this.
pub(crate) const TEMPORARY: &str = ".stitching-";

/// Set while step 5 runs.
pub(super) static COMMITTING: AtomicBool = AtomicBool::new(false);

/// What a target must be for an operation to go on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Expected {
    Is(Fingerprint),
    Absent,
    Anything,
}

/// Where new bytes come from.
#[derive(Debug)]
pub(super) enum Content {
    Bytes(Arc<Vec<u8>>),
    /// The bytes of a file, with some replaced.
    Patched(PathBuf, Patch),
    /// There are none: the target is deleted.
    Nothing,
}

/// One file to write or to delete.
#[derive(Debug)]
pub(super) struct Operation {
    target: Target,
    content: Content,
    /// What the new bytes are known by.
    after: Option<Fingerprint>,
    expected: Expected,
}

impl Operation {
    pub fn new(
        target: Target,
        content: Content,
        after: Option<Fingerprint>,
        expected: Expected,
    ) -> Operation {
        Operation { target, content, after, expected }
    }

    pub fn write(target: Target, bytes: Vec<u8>, expected: Expected) -> Operation {
        let after = Some(Fingerprint::of_bytes(blake3::hash(&bytes)));
        Operation::new(target, Content::Bytes(Arc::new(bytes)), after, expected)
    }

    pub fn delete(target: Target, expected: Expected) -> Operation {
        Operation::new(target, Content::Nothing, None, expected)
    }
}

/// `pending.json`.
#[derive(Debug, Serialize, Deserialize)]
struct Pending {
    title: String,
    phase: Phase,
    items: Vec<Item>,
}

#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
enum Phase {
    Staging,
    Committing,
    /// Something failed after the instant of decision; what was there before is put back.
    TakingBack,
}

/// One operation as it is kept in `pending.json`.
#[derive(Debug, Serialize, Deserialize)]
struct Item {
    target: Target,
    /// The name of the staged file beside the target; `None` to delete.
    staged: Option<String>,
    /// The name of the second name of the old file beside the target.
    kept: String,
    /// What the old bytes are known by, where they matter.
    before: Option<Fingerprint>,
    /// What the new bytes are known by.
    after: Option<Fingerprint>,
    /// Folders that had to be made, the outermost first, as targets.
    made: Vec<Target>,
}

pub(super) struct Transaction {
    title: String,
    operations: Vec<Operation>,
}

impl Transaction {
    pub fn new(title: &str, operations: Vec<Operation>) -> Transaction {
        Transaction { title: title.to_owned(), operations }
    }

    /// Does it all, or nothing.
    pub fn run(self, roots: &Roots, hook: &StepHook<'_>) -> Result<(), Error> {
        let places: Vec<PathBuf> = self
            .operations
            .iter()
            .map(|operation| roots.place(&operation.target))
            .collect::<Result<_, _>>()?;
        for place in &places {
            refuse_read_only(place)?;
        }
        let mut pending = Pending { title: self.title.clone(), phase: Phase::Staging, items: Vec::new() };
        for (number, operation) in self.operations.iter().enumerate() {
            pending.items.push(Item {
                target: operation.target.clone(),
                staged: (!matches!(operation.content, Content::Nothing))
                    .then(|| format!("{TEMPORARY}new-{number}")),
                kept: format!("{TEMPORARY}old-{number}"),
                before: match &operation.expected {
                    Expected::Is(fingerprint) => Some(fingerprint.clone()),
                    Expected::Absent | Expected::Anything => None,
                },
                after: operation.after.clone(),
                made: missing_folders(roots, &operation.target)?,
            });
        }
        let done = self.stage_and_commit(&mut pending, &places, roots, hook);
        COMMITTING.store(false, Ordering::SeqCst);
        done.inspect_err(|error| {
            // A simulated crash leaves everything as a real one would.
            if !is_crash(error) {
                if pending.phase == Phase::Committing {
                    pending.phase = Phase::TakingBack;
                    // Without it a crash in the next instant would be taken for one in step 5.
                    let _ = write_pending(roots, &pending);
                }
                // What cannot be taken back now is taken back at the next start.
                let _ = take_back(&pending, roots, NO_HOOK);
            }
        })
    }

    fn stage_and_commit(
        &self,
        pending: &mut Pending,
        places: &[PathBuf],
        roots: &Roots,
        hook: &StepHook<'_>,
    ) -> Result<(), Error> {
        step(hook, Step::Intend, &pending_path(roots))?;
        write_pending(roots, pending)?;
        let work: Vec<(&Operation, &Item, &PathBuf)> =
            self.operations.iter().zip(&pending.items).zip(places).map(|((a, b), c)| (a, b, c)).collect();
        work.par_iter()
            .with_max_len(1)
            .try_for_each(|(operation, item, place)| stage(operation, item, place, hook))?;
        work.par_iter().with_max_len(1).try_for_each(|(operation, _, place)| operation.check(place))?;
        step(hook, Step::Decide, &pending_path(roots))?;
        COMMITTING.store(true, Ordering::SeqCst);
        pending.phase = Phase::Committing;
        write_pending(roots, pending)?;
        finish(pending, roots, hook)
    }
}

impl Operation {
    /// Refuses when the target is not what it was when it was read.
    fn check(&self, place: &Path) -> Result<(), Error> {
        let path = &self.target.path;
        let reason = match &self.expected {
            Expected::Anything => return Ok(()),
            Expected::Absent if place.symlink_metadata().is_err() => return Ok(()),
            Expected::Absent => format!("there is a file `{path}` in the mod already"),
            Expected::Is(fingerprint) => {
                let now = fingerprint.now(place).map_err(|source| Error::io("read", place, source))?;
                match now {
                    Some(now) if now == *fingerprint => return Ok(()),
                    None if !place.exists() => format!("`{path}` is gone from the mod"),
                    _ => format!("`{path}` was changed by another program meanwhile"),
                }
            }
        };
        Err(Error::refused(reason, "run the command again; nothing was changed"))
    }
}

/// Writes the new bytes beside the target and gives the old file a second name.
fn stage(operation: &Operation, item: &Item, place: &Path, hook: &StepHook<'_>) -> Result<(), Error> {
    let folder = place.parent().unwrap_or(Path::new(""));
    if let Some(name) = &item.staged {
        let staged = folder.join(name);
        step(hook, Step::Stage, place)?;
        fs::create_dir_all(folder).map_err(|source| Error::io("write", folder, source))?;
        let io = |source| Error::io("write", place, source);
        let mut file = File::create(&staged).map_err(io)?;
        match &operation.content {
            Content::Bytes(bytes) => file.write_all(bytes).map_err(io)?,
            Content::Patched(source, patch) => {
                let mut before = File::open(source).map_err(|error| Error::io("read", source, error))?;
                let size = before.metadata().map_err(|error| Error::io("read", source, error))?.len();
                patch.copy(&mut before, size, &mut file).map_err(io)?;
            }
            Content::Nothing => {}
        }
        if let Ok(old) = fs::metadata(place) {
            file.set_permissions(old.permissions()).map_err(io)?;
        }
        step(hook, Step::Sync, place)?;
        file.sync_all().map_err(io)?;
    }
    if place.exists() {
        step(hook, Step::Keep, place)?;
        let kept = folder.join(&item.kept);
        let linked = fs::hard_link(place, &kept).or_else(|_| fs::copy(place, &kept).map(|_| ()));
        linked.map_err(|source| Error::io("write", &kept, source))?;
    }
    Ok(())
}

/// Step 5: all is staged; puts it in place. Can be repeated after a crash.
fn finish(pending: &Pending, roots: &Roots, hook: &StepHook<'_>) -> Result<(), Error> {
    let mut folders = Vec::new();
    for item in &pending.items {
        let place = roots.place(&item.target)?;
        let folder = place.parent().unwrap_or(Path::new("")).to_owned();
        match &item.staged {
            Some(name) => {
                let staged = folder.join(name);
                if staged.exists() {
                    step(hook, Step::Replace, &place)?;
                    fs::rename(&staged, &place).map_err(|source| Error::io("write", &place, source))?;
                }
            }
            None => {
                step(hook, Step::Delete, &place)?;
                remove(&place)?;
            }
        }
        if !folders.contains(&folder) {
            folders.push(folder);
        }
    }
    for folder in &folders {
        sync_folder(folder);
    }
    step(hook, Step::Clean, &pending_path(roots))?;
    for item in &pending.items {
        let place = roots.place(&item.target)?;
        remove(&place.with_file_name(&item.kept))?;
    }
    remove(&pending_path(roots))
}

/// Puts back what was there before, in any phase. Can be repeated after a crash.
fn take_back(pending: &Pending, roots: &Roots, hook: &StepHook<'_>) -> Result<(), Error> {
    for item in pending.items.iter().rev() {
        let place = roots.place(&item.target)?;
        let kept = place.with_file_name(&item.kept);
        if pending.phase == Phase::TakingBack {
            step(hook, Step::Replace, &place)?;
            // Whatever else stands there was never replaced, or was edited since: it stays.
            let replaced = now_of(item.after.as_ref(), &place) == item.after;
            if replaced && kept.exists() {
                fs::rename(&kept, &place).map_err(|source| Error::io("write", &place, source))?;
            } else if replaced {
                remove(&place)?;
            }
        }
        // Renaming a file over its own second name leaves both.
        remove(&kept)?;
        if let Some(staged) = &item.staged {
            remove(&place.with_file_name(staged))?;
        }
        for folder in item.made.iter().rev() {
            // A folder in which something else lies by now is not ours to remove.
            let _ = fs::remove_dir(roots.place(folder)?);
        }
    }
    remove(&pending_path(roots))
}

pub(super) fn is_pending(roots: &Roots) -> bool {
    pending_path(roots).exists()
}

/// Finishes or takes back what an earlier run left; the lock must be held.
pub(super) fn recover(roots: &Roots, hook: &StepHook<'_>) -> Result<Recovered, Error> {
    let path = pending_path(roots);
    let bytes = match fs::read(&path) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == io::ErrorKind::NotFound => return Ok(Recovered::Nothing),
        Err(source) => return Err(Error::io("read", &path, source)),
    };
    // It is put in place by a rename, so it is there whole or not at all.
    let pending: Pending = serde_json::from_slice(&bytes).map_err(|_| {
        Error::refused(
            format!("`{}` cannot be understood", path.display()),
            "it was damaged after an interrupted change; compare the mod with a copy, then delete it",
        )
    })?;
    if pending.phase != Phase::Committing {
        take_back(&pending, roots, hook)?;
        return Ok(Recovered::TakenBack(pending.title));
    }
    for item in &pending.items {
        refuse_edited_since(item, roots)?;
    }
    finish(&pending, roots, hook)?;
    Ok(Recovered::Finished(pending.title))
}

/// A file that someone edited between the crash and now is not overwritten.
fn refuse_edited_since(item: &Item, roots: &Roots) -> Result<(), Error> {
    let place = roots.place(&item.target)?;
    // A second name shows the same edit as the first, so that only the hash tells.
    let Some(before) = &item.before else { return Ok(()) };
    let now = now_of(Some(before), &place);
    let after = now_of(item.after.as_ref(), &place);
    if !place.exists() || now.as_ref() == Some(before) || (after.is_some() && after == item.after) {
        return Ok(());
    }
    Err(Error::refused(
        format!("an interrupted change is to be finished, but `{}` was edited since", item.target.path),
        "move your edited copy aside and run the command again; then bring your edit back in",
    ))
}

/// What a file is known by now, in the same way as `like`; `None` if it is not there.
fn now_of(like: Option<&Fingerprint>, path: &Path) -> Option<Fingerprint> {
    like?.now(path).ok().flatten()
}

/// The folders above a target that are not there yet, the outermost first.
fn missing_folders(roots: &Roots, target: &Target) -> Result<Vec<Target>, Error> {
    let mut missing = Vec::new();
    let mut path = target.path.as_str();
    while let Some((folder, _)) = path.rsplit_once('/') {
        let above = Target { root: target.root, path: folder.to_owned() };
        if roots.place(&above)?.exists() {
            break;
        }
        missing.insert(0, above);
        path = folder;
    }
    Ok(missing)
}

fn refuse_read_only(place: &Path) -> Result<(), Error> {
    let nearest = place.ancestors().find(|path| path.exists());
    let folder = if nearest == Some(place) { place.parent() } else { nearest };
    for path in [Some(place), folder].into_iter().flatten() {
        if fs::metadata(path).is_ok_and(|meta| meta.permissions().readonly()) {
            let source =
                io::Error::new(io::ErrorKind::PermissionDenied, "it is read-only; nothing was changed");
            return Err(Error::io("write", path, source));
        }
    }
    Ok(())
}

fn pending_path(roots: &Roots) -> PathBuf {
    roots.own.join("pending.json")
}

/// Writes `pending.json` so that it is there whole or not at all.
fn write_pending(roots: &Roots, pending: &Pending) -> Result<(), Error> {
    let path = pending_path(roots);
    let io = |source| Error::io("write", &path, source);
    let bytes = serde_json::to_vec(pending).map_err(|error| io(error.into()))?;
    let mut file = tempfile::NamedTempFile::new_in(&roots.own).map_err(io)?;
    file.write_all(&bytes).map_err(io)?;
    file.as_file().sync_all().map_err(io)?;
    file.persist(&path).map_err(|error| io(error.error))?;
    sync_folder(&roots.own);
    Ok(())
}

fn remove(path: &Path) -> Result<(), Error> {
    match fs::remove_file(path) {
        Err(source) if source.kind() != io::ErrorKind::NotFound => Err(Error::io("delete", path, source)),
        _ => Ok(()),
    }
}

/// Brings the names in a folder to the disk, where the system has a way to.
fn sync_folder(folder: &Path) {
    #[cfg(unix)]
    if let Ok(handle) = File::open(folder) {
        // Some network file systems refuse this; the rename itself has been done.
        let _ = handle.sync_all();
    }
    #[cfg(not(unix))]
    let _ = folder;
}

fn step(hook: &StepHook<'_>, step: Step, path: &Path) -> Result<(), Error> {
    hook(step).map_err(|source| Error::io("write", path, source))
}

/// Whether a hook asked for the process to stop dead: no cleaning up.
fn is_crash(error: &Error) -> bool {
    matches!(error, Error::Io { source, .. } if source.kind() == io::ErrorKind::Interrupted)
}
