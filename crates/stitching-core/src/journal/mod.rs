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
mod earlier_packing;
mod history;
mod key;
mod lock;
mod pending;
mod placing;
mod recovery;
mod roots;
mod states;
mod transaction;
mod undo;

pub use description::{create_descriptions, replace_description};
pub use disk::{Action, Call, CallHook, NO_HOOK};
pub use history::{Entry, FileEntry, HistoryItem};
pub use key::KeyFile;
pub use lock::Lock;
pub use roots::Root;
pub use states::{FileStates, States};
use undo::Way;
pub use undo::{ChangedSince, Turned};

use crate::Error;
use crate::changes::{Change, DiskChange, DiskContent, FolderChange};
use crate::layers::{ModRoot, Stack};
use disk::Disk;
use history::History;
use lock::{PAUSE, Patience, Sharing, mod_lock, project_lock};
use pending::{Folders, Pending};
use roots::{Roots, Target};
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::time::{Duration, Instant};
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
pub struct WriteGuard<'h> {
    journal: Journal<'h>,
    mod_lock: Lock,
    _project_lock: Lock,
}

impl WriteGuard<'_> {
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

impl<'h> Journal<'h> {
    /// The journal of the project in the folder `project`, whose mod layer is `mod_root`. `observer` is told what
    /// the user should know.
    pub fn new(project: &Path, mod_root: ModRoot, observer: &'h Observer<'h>) -> Journal<'h> {
        Journal {
            roots: Roots::new(project, mod_root),
            key: KeyFile::of_user(),
            disk: Disk::new(NO_HOOK),
            observer,
            patience: Patience { most: Duration::from_secs(30), told_after: Duration::from_millis(300) },
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
        self.let_writer_pass()?;
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

    /// Waits while another process is about to replace files: readers that come one after another would otherwise keep
    /// it waiting without end.
    fn let_writer_pass(&self) -> Result<(), Error> {
        let start = Instant::now();
        let mut told = false;
        while start.elapsed() < self.patience.most {
            let Some(own) = self.roots.own()? else { return Ok(()) };
            let at_once = Patience { most: Duration::ZERO, ..self.patience };
            if !Pending::is_there(&own)? || project_lock(&own, at_once, &|| {})?.is_some() {
                return Ok(());
            }
            if !told && start.elapsed() >= self.patience.told_after {
                told = true;
                self.notify(&Notice::WaitingForWriter);
            }
            std::thread::sleep(PAUSE);
        }
        Ok(())
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
    pub fn hold(self) -> Result<WriteGuard<'h>, Error> {
        let project_lock = self.lock()?;
        let waiting = || self.notify(&Notice::WaitingForWriter);
        let lock = mod_lock(self.roots.mod_folder(), Sharing::Shared, self.patience, &waiting)?;
        let mod_lock = lock.ok_or_else(busy)?;
        Ok(WriteGuard { journal: self, mod_lock, _project_lock: project_lock })
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
            let file = self.with_earlier_packing(&history, file)?;
            files.push(FileEntry::new(&file));
            // What is removed can come back.
            if let (Some(from), None, Some(before)) = (&file.from, &file.to, &file.before) {
                let root = if file.is_own { Root::Own } else { Root::Mod };
                operations.push(history::keep(Target::new(root, from), before));
            }
            operations.extend(operations_of(file));
        }
        let folders = self.folders_of(change)?;
        let mut entry = history.next(change, files);
        let number = entry.number;
        // Folders that have to be made for the files go with them when the change is undone.
        let mut made: BTreeSet<Target> = folders.made.iter().cloned().collect();
        for operation in &operations {
            made.extend(self.roots.missing_folders(operation.target())?);
        }
        let of_mod = |folders: &mut dyn Iterator<Item = &Target>| {
            folders.filter(|folder| folder.root == Root::Mod).map(|folder| folder.path.clone()).collect()
        };
        entry.folders_made = of_mod(&mut made.iter());
        entry.folders_removed = of_mod(&mut folders.removed.iter());
        operations.extend(history.add(entry)?);
        transaction::run(self, change.title(), operations, folders)?;
        Ok(number)
    }

    /// The folders that `change` makes or removes by themselves: those that are not there yet with those above them.
    fn folders_of(&self, change: &Change) -> Result<Folders, Error> {
        let (mut made, mut removed) = (BTreeSet::new(), BTreeSet::new());
        for folder in change.folders() {
            match folder {
                FolderChange::Make(path) => {
                    let target = Target::new(Root::Mod, path);
                    made.extend(self.roots.missing_folders(&target)?);
                    if !self.roots.is_there(&target)? {
                        made.insert(target);
                    }
                }
                FolderChange::Remove(path) => {
                    removed.insert(Target::new(Root::Mod, path));
                }
            }
        }
        Ok(Folders { made: made.into_iter().collect(), removed: removed.into_iter().collect() })
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
        self.turn(&history, entry, in_force, changed, Way::Undo, |file| {
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
        self.turn(&history, entry, in_force, changed, Way::Redo, |file| {
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
        let other =
            file.like.map(|(is_own, path)| Target::new(if is_own { Root::Own } else { Root::Mod }, &path));
        operations.push(match (&from, other) {
            (Some(from), _) => write.like(from.clone(), is_moved),
            (None, Some(other)) => write.like(other, true),
            (None, None) => write,
        });
    }
    if let (Some(from), Some(before), false) = (from, file.before, stays) {
        operations.push(Operation::delete(from, Expected::Is(before)));
    }
    operations
}

/// Whether this process is between the first and the last rename of a change: stopping it now is
/// harmless, but leaves the rest to the next start.
pub fn is_committing() -> bool {
    transaction::COMMITTING.load(std::sync::atomic::Ordering::SeqCst)
}
