//! The only code that writes: changes go to disk whole or not at all, and can be taken back.
//!
//! Everything the tool keeps is in `.stitching/` beside `stitching.toml`:
//!
//! * `lock` is held while a change is written, so that two processes cannot write at once;
//! * `pending.json` tells of a change under way, so that the next start can finish it or take it
//!   back;
//! * `history/` has one file for each change, with the edits both ways, and `position.json`, how
//!   many of them are in force;
//! * `history/kept/` has the bytes of files that a change or its undoing removed.
//!
//! How a change is written is told at the head of `transaction.rs`.

mod description;
mod history;
mod lock;
mod target;
mod transaction;

pub use description::{create_description, replace_description};
pub use history::{Entry, FileEntry, HistoryItem};
pub use lock::Lock;
pub use target::Root;
pub use transaction::{NO_HOOK, Step, StepHook};

use crate::Error;
use crate::changes::{Change, DiskContent};
use crate::error::Refusal;
use crate::layers::{Fingerprint, ModRoot, RelPath, Stack};
use crate::text::Patch;
use history::History;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use target::{Roots, Target};
use transaction::{Content, Expected, Operation, Transaction};

/// The folder with all that the tool keeps for a project.
pub const OWN_FOLDER: &str = ".stitching";

/// The journal of a project.
pub struct Journal<'h> {
    roots: Roots,
    hook: &'h StepHook<'h>,
}

/// Keeps other processes from writing to a project.
pub struct Held<'j, 'h> {
    journal: &'j Journal<'h>,
    _lock: Lock,
}

impl Held<'_, '_> {
    /// Writes `change`, which was built on `stack`; gives its number in the history.
    ///
    /// # Errors
    /// When a file was changed since it was read, or something cannot be written. In each case nothing
    /// was changed.
    pub fn commit(self, stack: &Stack, change: &Change) -> Result<usize, Error> {
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
}

impl<'h> Journal<'h> {
    /// The journal of the project in `folder`, whose mod layer is `mod_root`. `hook` is asked
    /// before each step of a write; pass [`NO_HOOK`] unless you want to see it fail.
    pub fn new(folder: &Path, mod_root: ModRoot, hook: &'h StepHook<'h>) -> Journal<'h> {
        Journal { roots: Roots::new(folder, mod_root), hook }
    }

    /// Finishes or takes back a change that an earlier run left unfinished. Does nothing while
    /// another process is writing.
    ///
    /// # Errors
    /// When a file cannot be read or written, or was changed by hand since.
    pub fn recover(&self) -> Result<Recovered, Error> {
        if !transaction::is_pending(&self.roots) {
            return Ok(Recovered::Nothing);
        }
        match Lock::try_take(&self.roots.own)? {
            Some(_lock) => transaction::recover(&self.roots, self.hook),
            None => Ok(Recovered::Nothing),
        }
    }

    /// Keeps other processes from writing until the guard is dropped, so that what is read meanwhile is
    /// of one piece.
    ///
    /// # Errors
    /// When another process is writing, or what it left unfinished cannot be put right.
    pub fn hold(&self) -> Result<Held<'_, 'h>, Error> {
        Ok(Held { journal: self, _lock: self.lock()? })
    }

    /// Writes `change`, which was built on `stack`; gives its number in the history.
    ///
    /// # Errors
    /// When another process is writing, a file was changed since it was read, or something cannot
    /// be written. In each case nothing was changed.
    pub fn commit(&self, stack: &Stack, change: &Change) -> Result<usize, Error> {
        self.hold()?.commit(stack, change)
    }

    fn write(&self, stack: &Stack, change: &Change) -> Result<usize, Error> {
        let history = History::open(&self.roots.own)?;
        let mut operations = Vec::new();
        let mut files = Vec::new();
        for file in change.on_disk(stack)? {
            files.push(FileEntry::new(&file));
            let stays = file.from == file.to;
            let root = if file.is_own { Root::Own } else { Root::Mod };
            if let Some(to) = &file.to {
                let expected = file.before.clone().filter(|_| stays);
                let expected = expected.map_or(Expected::Absent, Expected::Is);
                let content = match file.content {
                    DiskContent::Bytes(bytes) => Content::Bytes(bytes),
                    DiskContent::Patched(source) => Content::Patched(source, file.redo),
                    DiskContent::Nothing => Content::Nothing,
                };
                operations.push(Operation::new(Target::new(root, to), content, file.after, expected));
            }
            if let (Some(from), Some(before), false) = (&file.from, file.before, stays) {
                operations.push(Operation::delete(Target::new(root, from), Expected::Is(before)));
            }
        }
        let entry = history.next(change, files);
        let number = entry.number;
        operations.extend(history.add(entry)?);
        self.run(&change.title, operations)?;
        Ok(number)
    }

    /// Takes back the last change in force; gives what it was.
    ///
    /// # Errors
    /// As for [`Journal::commit`]; and when there is nothing to take back.
    pub fn undo(&self) -> Result<Entry, Error> {
        let _lock = self.lock()?;
        let history = History::open(&self.roots.own)?;
        let Some(entry) = history.last()? else {
            return Err(Error::refused("there is nothing to undo", "`stitching history` lists the changes"));
        };
        let mut operations = Vec::new();
        for file in &entry.files {
            operations.extend(self.reverse(file)?);
        }
        operations.push(history.set_position(entry.number - 1));
        self.run(&format!("undo {}", entry.title), operations)?;
        Ok(entry)
    }

    /// Makes the change that was last undone again; gives what it was.
    ///
    /// # Errors
    /// As for [`Journal::commit`]; and when nothing was undone.
    pub fn redo(&self) -> Result<Entry, Error> {
        let _lock = self.lock()?;
        let history = History::open(&self.roots.own)?;
        let Some(entry) = history.next_undone()? else {
            return Err(Error::refused(
                "there is nothing to redo",
                "only what was undone, and not changed since, can be done again",
            ));
        };
        let mut operations = Vec::new();
        for file in &entry.files {
            operations.extend(self.repeat(file)?);
        }
        operations.push(history.set_position(entry.number));
        self.run(&format!("redo {}", entry.title), operations)?;
        Ok(entry)
    }

    /// All changes, the oldest first.
    ///
    /// # Errors
    /// When the history cannot be read.
    pub fn history(&self) -> Result<Vec<HistoryItem>, Error> {
        History::open(&self.roots.own)?.items()
    }

    /// What takes one file back.
    fn reverse(&self, file: &FileEntry) -> Result<Vec<Operation>, Error> {
        self.turn(
            if file.is_own { Root::Own } else { Root::Mod },
            (file.to.as_deref(), file.after.as_ref()),
            (file.from.as_deref(), file.before.as_ref()),
            &file.undo,
        )
    }

    /// What makes one file's change again.
    fn repeat(&self, file: &FileEntry) -> Result<Vec<Operation>, Error> {
        self.turn(
            if file.is_own { Root::Own } else { Root::Mod },
            (file.from.as_deref(), file.before.as_ref()),
            (file.to.as_deref(), file.after.as_ref()),
            &file.redo,
        )
    }

    /// What turns a file that is at one path, with one content, into what it is to be. A file that is to
    /// vanish is kept; one that is to appear was kept.
    fn turn(
        &self,
        root: Root,
        (is_at, is): (Option<&str>, Option<&Fingerprint>),
        (to_be_at, to_be): (Option<&str>, Option<&Fingerprint>),
        patch: &Patch,
    ) -> Result<Vec<Operation>, Error> {
        let mut operations = Vec::new();
        let now = match (is_at, is) {
            (Some(path), Some(is)) => {
                let path = rel(path)?;
                Some((self.expect(root, &path, is)?, path, is.clone()))
            }
            _ => None,
        };
        match (to_be_at, to_be, &now) {
            (Some(path), Some(to_be), Some((place, from, is))) => {
                let path = rel(path)?;
                let content = if to_be.is_archive() {
                    Content::Patched(place.clone(), patch.clone())
                } else {
                    let bytes = std::fs::read(place).map_err(|source| Error::io("read", place, source))?;
                    let bytes = patch.apply(&bytes).ok_or_else(|| self.damaged(&path))?;
                    if Fingerprint::of_bytes(blake3::hash(&bytes)) != *to_be {
                        return Err(self.damaged(&path));
                    }
                    Content::Bytes(Arc::new(bytes))
                };
                let expected = if path == *from { Expected::Is(is.clone()) } else { Expected::Absent };
                let target = Target::new(root, &path);
                operations.push(Operation::new(target, content, Some(to_be.clone()), expected));
            }
            (Some(path), Some(to_be), None) => {
                let kept = history::kept(&self.roots.own, to_be);
                let path = rel(path)?;
                let found = to_be.now(&kept).map_err(|source| Error::io("read", &kept, source))?;
                if found.as_ref() != Some(to_be) {
                    return Err(self.damaged(&path));
                }
                let content = Content::Patched(kept, Patch::default());
                let target = Target::new(root, &path);
                operations.push(Operation::new(target, content, Some(to_be.clone()), Expected::Absent));
            }
            (_, _, Some((place, _, is))) => operations.push(history::keep(place, is)),
            _ => {}
        }
        if let Some((_, path, is)) = now
            && to_be_at != Some(path.as_str())
        {
            operations.push(Operation::delete(Target::new(root, &path), Expected::Is(is)));
        }
        Ok(operations)
    }

    /// The place of `path`, which must have the content that it had.
    fn expect(&self, root: Root, path: &RelPath, fingerprint: &Fingerprint) -> Result<PathBuf, Error> {
        let place = self.roots.place(&Target::new(root, path))?;
        let now = fingerprint.now(&place).map_err(|source| Error::io("read", &place, source))?;
        if now.as_ref() == Some(fingerprint) {
            return Ok(place);
        }
        Err(Error::refused(
            format!("`{path}` was changed since, so this cannot be taken back or done again"),
            "put the file back as it was, or change it by hand; nothing was changed",
        ))
    }

    fn damaged(&self, path: &RelPath) -> Error {
        Error::refused(
            format!("the history does not fit `{path}`: it was damaged"),
            format!("nothing was changed; the history is in `{}`", self.roots.own.display()),
        )
    }

    fn lock(&self) -> Result<Lock, Error> {
        match Lock::try_take(&self.roots.own)? {
            Some(lock) => {
                transaction::recover(&self.roots, self.hook)?;
                Ok(lock)
            }
            None => Err(Error::Refused(Box::new(Refusal {
                reason: "another stitching is writing to this project".to_owned(),
                help: "wait until it is done and run the command again; nothing was changed".to_owned(),
                problems: Vec::new(),
            }))),
        }
    }

    fn run(&self, title: &str, operations: Vec<Operation>) -> Result<(), Error> {
        Transaction::new(title, operations).run(&self.roots, self.hook)
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

/// The folder in which the tool keeps what it needs for the project in `folder`.
pub fn own_folder(folder: &Path) -> PathBuf {
    folder.join(OWN_FOLDER)
}
