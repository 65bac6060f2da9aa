//! The only code that writes: changes go to disk whole or not at all, and can be taken back.
//!
//! Everything the tool keeps is in `.stitching/` beside `stitching.toml`:
//!
//! * `lock` is held while a change is built and written, so that two processes cannot write at once (`lock.rs`);
//! * `pending.json` tells of a change under way, so that the next start can finish it or take it
//!   back; it is believed only with the mark of the user (`key.rs`);
//! * `history/` has one file for each change, with the edits both ways, and `position.json`, how
//!   many of them are in force;
//! * `history/kept/` has the bytes of files that a change or its undoing removed.
//!
//! How a change is written is told at the head of `transaction.rs`, how one that was interrupted is put right in
//! `recovery.rs`. All calls that change something on disk are in `disk.rs`.

mod description;
mod disk;
mod history;
mod key;
mod lock;
mod pending;
mod recovery;
mod roots;
mod transaction;

pub use description::{create_descriptions, replace_description};
pub use disk::{Action, Call, CallHook, NO_HOOK};
pub use history::{Entry, FileEntry, HistoryItem};
pub use key::KeyFile;
pub use lock::Lock;
pub use roots::Root;

use crate::Error;
use crate::changes::{Change, DiskChange, DiskContent};
use crate::layers::{Fingerprint, ModRoot, RelPath, Stack};
use crate::text::Patch;
use disk::Disk;
use history::History;
use lock::{Patience, Sharing, mod_lock, project_lock};
use pending::Pending;
use roots::{Roots, Target};
use std::path::{Path, PathBuf};
use std::sync::Arc;
use std::time::Duration;
use transaction::{Content, Expected, Operation};

/// The journal of a project.
pub struct Journal<'h> {
    roots: Roots,
    key: KeyFile,
    disk: Disk<'h>,
    observer: &'h Observer<'h>,
    patience: Patience,
}

/// Told of what the user should know while it happens.
pub type Observer<'h> = dyn Fn(&Notice) + Sync + 'h;

/// Something that happens while the journal works.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Notice {
    /// Another process is writing to the project; it is waited for.
    WaitingForWriter,
    /// Other processes are reading the mod; they are waited for.
    WaitingForReaders,
    /// An interrupted change, of this title, is about to be finished.
    Finishing(String),
    /// An interrupted change, of this title, is about to be taken back.
    TakingBack(String),
    /// Another program saved the file `path` while it was replaced. What one of the two had written is now in the
    /// file `aside` beside it.
    SetAside {
        /// The path of the file in the mod.
        path: String,
        /// The name of the other one, in the same folder.
        aside: String,
    },
    /// All was done, but temporary files could not be removed, for this reason. The next start tries again.
    LeftOver(String),
}

/// Keeps other processes from writing to a project, and from replacing files of its mod.
#[must_use]
pub struct Held<'h> {
    journal: Journal<'h>,
    mod_lock: Lock,
    _project_lock: Lock,
}

impl Held<'_> {
    /// Writes `change`, which was built on `stack`; gives its number in the history.
    ///
    /// # Errors
    /// When a file was changed since it was read, or something cannot be written. Unless it is
    /// [`Error::Unfinished`], nothing was changed.
    pub fn commit(self, stack: &Stack, change: &Change) -> Result<usize, Error> {
        // It is taken again, for this process alone, when all is ready.
        drop(self.mod_lock);
        self.journal.write(stack, change)
    }
}

/// Tells what became of a change that an earlier run left unfinished.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Recovered {
    /// There was none.
    Nothing,
    /// It was finished.
    Finished(String),
    /// It was taken back.
    TakenBack(String),
    /// It had been made; what was left of its making was removed.
    Cleaned(String),
    /// There is a record of one at this path that was not written by this user on this computer. It was left alone.
    Foreign(PathBuf),
}

/// A change that was undone, or made again.
#[derive(Debug, Clone)]
pub struct Turned {
    /// What it was.
    pub entry: Entry,
    /// The files, by their paths in the mod, that were changed since and therefore left as they are.
    pub left: Vec<String>,
}

/// What to do with files that were changed since the change that is to be undone or made again.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChangedSince {
    /// Nothing is done at all.
    Refuse,
    /// They stay as they are, and the rest is done.
    Leave,
}

impl<'h> Journal<'h> {
    /// The journal of the project in the folder `project`, whose mod layer is `mod_root`. `observer` is told what
    /// the user should know.
    pub fn new(project: &Path, mod_root: ModRoot, observer: &'h Observer<'h>) -> Journal<'h> {
        Journal {
            roots: Roots::new(project, mod_root),
            key: KeyFile::of_user(),
            disk: Disk::new(NO_HOOK),
            observer,
            patience: Patience { most: Duration::from_secs(10), told_after: Duration::from_millis(300) },
        }
    }

    /// The same with a hook that is asked before each call that changes something on disk.
    pub fn with_hook(self, hook: &'h CallHook<'h>) -> Journal<'h> {
        Journal { disk: Disk::new(hook), ..self }
    }

    /// The same with the key of the marks somewhere else than where the user's is.
    pub fn with_key(self, key: KeyFile) -> Journal<'h> {
        Journal { key, ..self }
    }

    /// The same, waiting no longer than `most` for other processes.
    pub fn with_patience(self, most: Duration) -> Journal<'h> {
        Journal { patience: Patience { most, ..self.patience }, ..self }
    }

    fn notify(&self, notice: &Notice) {
        (self.observer)(notice);
    }

    /// Finishes or takes back a change that an earlier run left unfinished. Does nothing while another process is
    /// writing.
    ///
    /// # Errors
    /// When a file cannot be read or written.
    pub fn recover(&self) -> Result<Recovered, Error> {
        let Some(own) = self.roots.own()? else { return Ok(Recovered::Nothing) };
        if !Pending::is_there(&own)? {
            return Ok(Recovered::Nothing);
        }
        let at_once = Patience { most: Duration::ZERO, ..self.patience };
        match project_lock(&own, at_once, &|| {})? {
            Some(_lock) => recovery::recover(self, &own),
            None => Ok(Recovered::Nothing),
        }
    }

    /// Keeps other processes from replacing files of the mod until the lock is dropped, so that what is read
    /// meanwhile is of one piece. What was left unfinished is put right before. `None` if the mod cannot be locked in
    /// time: then somebody writes very long.
    ///
    /// # Errors
    /// As [`Journal::recover`].
    pub fn read_lock(&self) -> Result<(Recovered, Option<Lock>), Error> {
        let recovered = self.recover()?;
        let waiting = || self.notify(&Notice::WaitingForWriter);
        let lock = mod_lock(self.roots.mod_folder(), Sharing::Shared, self.patience, &waiting)?;
        // The writer that was waited for may have died.
        let recovered = match recovered {
            Recovered::Nothing if lock.is_some() && self.is_half_made()? => {
                drop(lock);
                let recovered = self.recover()?;
                let lock = mod_lock(self.roots.mod_folder(), Sharing::Shared, self.patience, &waiting)?;
                return Ok((recovered, lock));
            }
            other => other,
        };
        Ok((recovered, lock))
    }

    /// Whether there is a record of a change that nobody is making.
    fn is_half_made(&self) -> Result<bool, Error> {
        let Some(own) = self.roots.own()? else { return Ok(false) };
        let at_once = Patience { most: Duration::ZERO, ..self.patience };
        Ok(Pending::is_there(&own)? && project_lock(&own, at_once, &|| {})?.is_some())
    }

    /// Keeps other processes from writing until the guard is dropped, so that what is read meanwhile is of one
    /// piece. Waits for them a short while.
    ///
    /// # Errors
    /// When another process is writing for long, or what it left unfinished cannot be put right.
    pub fn hold(self) -> Result<Held<'h>, Error> {
        let project_lock = self.lock()?;
        let waiting = || self.notify(&Notice::WaitingForWriter);
        let lock = mod_lock(self.roots.mod_folder(), Sharing::Shared, self.patience, &waiting)?;
        let mod_lock = lock.ok_or_else(busy)?;
        Ok(Held { journal: self, mod_lock, _project_lock: project_lock })
    }

    /// Writes `change`, which was built on `stack`; gives its number in the history.
    ///
    /// # Errors
    /// When another process is writing, a file was changed since it was read, or something cannot
    /// be written. Unless it is [`Error::Unfinished`], nothing was changed.
    pub fn commit(self, stack: &Stack, change: &Change) -> Result<usize, Error> {
        self.hold()?.commit(stack, change)
    }

    fn write(&self, stack: &Stack, change: &Change) -> Result<usize, Error> {
        let history = History::open(&self.roots)?;
        let mut operations = Vec::new();
        let mut files = Vec::new();
        for file in change.on_disk(stack)? {
            files.push(FileEntry::new(&file));
            operations.extend(operations_of(file));
        }
        let entry = history.next(change, files);
        let number = entry.number;
        operations.extend(history.add(entry)?);
        transaction::run(self, &change.title, operations)?;
        Ok(number)
    }

    /// Takes back the last change in force.
    ///
    /// # Errors
    /// As for [`Journal::commit`]; when there is nothing to take back; and as [`Error::ChangedSince`] when files were
    /// changed since, unless they are to be left.
    pub fn undo(&self, changed: ChangedSince) -> Result<Turned, Error> {
        let _lock = self.lock()?;
        let history = History::open(&self.roots)?;
        let Some(entry) = history.last()? else {
            return Err(Error::refused("there is nothing to undo", "no change is in force"));
        };
        let in_force = entry.number - 1;
        self.turn(&history, entry, in_force, changed, "undo", |file| {
            (file.after_side(), file.before_side(), &file.undo)
        })
    }

    /// Makes the change that was last undone again.
    ///
    /// # Errors
    /// As for [`Journal::undo`]; and when nothing was undone.
    pub fn redo(&self, changed: ChangedSince) -> Result<Turned, Error> {
        let _lock = self.lock()?;
        let history = History::open(&self.roots)?;
        let Some(entry) = history.next_undone()? else {
            return Err(Error::refused(
                "there is nothing to redo",
                "only what was undone, and not changed since, can be done again",
            ));
        };
        let in_force = entry.number;
        self.turn(&history, entry, in_force, changed, "redo", |file| {
            (file.before_side(), file.after_side(), &file.redo)
        })
    }

    /// All changes, the oldest first.
    ///
    /// # Errors
    /// When the history cannot be read.
    pub fn history(&self) -> Result<Vec<HistoryItem>, Error> {
        History::open(&self.roots)?.items()
    }

    /// Brings each file of `entry` from one side to the other, as `sides` tells them.
    fn turn(
        &self,
        history: &History,
        entry: Entry,
        in_force: usize,
        changed: ChangedSince,
        verb: &str,
        sides: impl Fn(&FileEntry) -> (Side<'_>, Side<'_>, &Patch),
    ) -> Result<Turned, Error> {
        let (mut operations, mut left) = (Vec::new(), Vec::new());
        for file in &entry.files {
            let root = if file.is_own { Root::Own } else { Root::Mod };
            let (is, to_be, patch) = sides(file);
            match self.turn_one(root, is, to_be, patch)? {
                Some(own) => operations.extend(own),
                None => left.push(is.path.or(to_be.path).unwrap_or_default().to_owned()),
            }
        }
        if !left.is_empty() && changed == ChangedSince::Refuse {
            return Err(Error::ChangedSince { title: entry.title, files: left });
        }
        operations.push(history.set_position(in_force));
        transaction::run(self, &format!("{verb} {}", entry.title), operations)?;
        Ok(Turned { entry, left })
    }

    /// What turns a file that is at one path, with one content, into what it is to be; `None` if it was changed
    /// since. A file that is to vanish is kept; one that is to appear was kept.
    fn turn_one(
        &self,
        root: Root,
        is: Side<'_>,
        to_be: Side<'_>,
        patch: &Patch,
    ) -> Result<Option<Vec<Operation>>, Error> {
        let target = |path: &str| Ok::<Target, Error>(Target::new(root, &rel(path)?));
        let mut operations = Vec::new();
        let now = match is.file() {
            Some((path, fingerprint)) => {
                let target = target(path)?;
                if !self.is(&target, fingerprint)? {
                    return Ok(None);
                }
                Some((target, fingerprint))
            }
            None => None,
        };
        match (to_be.file(), &now) {
            (Some((path, after)), Some((from, before))) => {
                let to = target(path)?;
                let content = self.patched(from, patch, after)?;
                let stays = to == *from;
                let expected = if stays { Expected::Is((*before).clone()) } else { Expected::Absent };
                if !stays && self.exists(&to)? {
                    return Ok(None);
                }
                let write = Operation::new(to, content, Some(after.clone()), expected);
                operations.push(write.like(from.clone(), !stays && patch.splices.is_empty()));
            }
            (Some((path, after)), None) => {
                let to = target(path)?;
                if self.exists(&to)? {
                    return Ok(None);
                }
                let kept = history::kept(after);
                if !self.is(&kept, after)? {
                    return Err(self.damaged(path));
                }
                let content = Content::OfTarget(kept.clone(), Patch::default());
                let write = Operation::new(to, content, Some(after.clone()), Expected::Absent);
                operations.push(write.like(kept, true));
            }
            (None, Some((from, before))) => operations.push(history::keep(from.clone(), before)),
            (None, None) => {}
        }
        if let Some((from, before)) = now
            && to_be.path != is.path
        {
            operations.push(Operation::delete(from, Expected::Is(before.clone())));
        }
        Ok(Some(operations))
    }

    /// The bytes of the file at `from` with `patch`, which must come out as `after` tells.
    fn patched(&self, from: &Target, patch: &Patch, after: &Fingerprint) -> Result<Content, Error> {
        if after.is_archive() {
            return Ok(Content::OfTarget(from.clone(), patch.clone()));
        }
        let slot = self.roots.existing_slot(from)?;
        let bytes = slot.folder.read(&slot.name, crate::layers::MAX_FILE);
        let bytes = bytes.map_err(|source| Error::io("read", slot.path(), source))?.unwrap_or_default();
        let bytes = patch.apply(&bytes).ok_or_else(|| self.damaged(&from.path))?;
        if Fingerprint::of_bytes(blake3::hash(&bytes)) != *after {
            return Err(self.damaged(&from.path));
        }
        Ok(Content::Bytes(Arc::new(bytes)))
    }

    /// Whether a target is the file that `fingerprint` tells.
    fn is(&self, target: &Target, fingerprint: &Fingerprint) -> Result<bool, Error> {
        match self.roots.slot(target)? {
            Some(slot) => {
                slot.is(&slot.name, fingerprint).map_err(|source| Error::io("read", slot.path(), source))
            }
            None => Ok(false),
        }
    }

    fn exists(&self, target: &Target) -> Result<bool, Error> {
        match self.roots.slot(target)? {
            Some(slot) => slot.exists().map_err(|source| Error::io("read", slot.path(), source)),
            None => Ok(false),
        }
    }

    fn damaged(&self, path: &str) -> Error {
        Error::refused(
            format!("the history does not fit `{path}`: it was damaged"),
            format!("nothing was changed; the history is in `{}`", self.roots.own_path().display()),
        )
    }

    /// The project lock, with what was left unfinished put right.
    fn lock(&self) -> Result<Lock, Error> {
        let own = self.roots.make_own(&self.disk)?;
        let waiting = || self.notify(&Notice::WaitingForWriter);
        let lock = project_lock(&own, self.patience, &waiting)?.ok_or_else(busy)?;
        match recovery::recover(self, &own)? {
            Recovered::Foreign(path) => Err(Error::refused(
                format!(
                    "`{}` tells of an interrupted change, and was not written by you on this computer",
                    path.display()
                ),
                "if the project came from somebody else, delete that file: nothing in it was believed. If it is yours, \
                 run a command where the change was interrupted, which puts it right. Nothing was changed",
            )),
            _ => Ok(lock),
        }
    }
}

fn busy() -> Error {
    Error::refused(
        "another stitching is writing to this project, and did not finish in time",
        "run the command again when it is done; nothing was changed",
    )
}

/// What is done on disk for one file of a change.
fn operations_of(file: DiskChange) -> Vec<Operation> {
    let stays = file.from == file.to;
    let root = if file.is_own { Root::Own } else { Root::Mod };
    let from = file.from.as_ref().map(|from| Target::new(root, from));
    let mut operations = Vec::new();
    if let Some(to) = &file.to {
        let expected = file.before.clone().filter(|_| stays);
        let expected = expected.map_or(Expected::Absent, Expected::Is);
        let is_moved = !stays && file.redo.splices.is_empty();
        let content = match file.content {
            DiskContent::Bytes(bytes) => Content::Bytes(bytes),
            DiskContent::Patched(source) => Content::OfLayer(source, file.redo),
            DiskContent::Nothing => Content::Nothing,
        };
        let write = Operation::new(Target::new(root, to), content, file.after, expected);
        operations.push(match &from {
            Some(from) => write.like(from.clone(), is_moved),
            None => write,
        });
    }
    if let (Some(from), Some(before), false) = (from, file.before, stays) {
        operations.push(Operation::delete(from, Expected::Is(before)));
    }
    operations
}

/// A file before, or after, a change of the history.
#[derive(Debug, Clone, Copy)]
struct Side<'e> {
    path: Option<&'e str>,
    fingerprint: Option<&'e Fingerprint>,
}

impl<'e> Side<'e> {
    /// The path and the fingerprint, where the file is there.
    fn file(&self) -> Option<(&'e str, &'e Fingerprint)> {
        self.path.zip(self.fingerprint)
    }
}

impl FileEntry {
    fn before_side(&self) -> Side<'_> {
        Side { path: self.from.as_deref(), fingerprint: self.before.as_ref() }
    }

    fn after_side(&self) -> Side<'_> {
        Side { path: self.to.as_deref(), fingerprint: self.after.as_ref() }
    }
}

fn rel(path: &str) -> Result<RelPath, Error> {
    RelPath::parse(path).map_err(|error| {
        Error::refused(
            format!("the history names a path that cannot be: {error}"),
            "it was damaged; nothing was changed",
        )
    })
}

/// Whether this process is between the first and the last rename of a change: stopping it now is
/// harmless, but leaves the rest to the next start.
pub fn is_committing() -> bool {
    transaction::COMMITTING.load(std::sync::atomic::Ordering::SeqCst)
}
