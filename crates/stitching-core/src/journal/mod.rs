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

mod history;
mod lock;
mod target;
mod transaction;

pub use history::{Entry, FileEntry, HistoryItem};
pub use lock::Lock;
pub use target::Root;
pub use transaction::{NO_HOOK, Step, StepHook};

use crate::Error;
use crate::changes::Change;
use crate::error::Refusal;
use crate::layers::{ModRoot, RelPath};
use history::History;
use std::path::{Path, PathBuf};
use std::sync::Arc;
use target::{Roots, Target};
use transaction::{Expected, Operation, Transaction};

/// The folder with all that the tool keeps for a project.
pub const OWN_FOLDER: &str = ".stitching";

/// The journal of a project.
pub struct Journal<'h> {
    roots: Roots,
    hook: &'h StepHook<'h>,
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

    /// Writes `change`; gives its number in the history.
    ///
    /// # Errors
    /// When another process is writing, a file was changed since it was read, or something cannot
    /// be written. In each case nothing was changed.
    pub fn commit(&self, change: &Change) -> Result<usize, Error> {
        let _lock = self.lock()?;
        let history = History::open(&self.roots.own)?;
        let mut operations = Vec::new();
        let mut files = Vec::new();
        for file in &change.files {
            let moved = file.from != file.to;
            let before = file.in_mod.then(|| file.seen.to_hex().to_string());
            let after = file.after_hash.to_hex().to_string();
            let expected = if file.in_mod && !moved { Expected::Hash(file.seen) } else { Expected::Absent };
            let target = Target::new(Root::Mod, &file.to);
            operations.push(Operation::write_shared(
                target,
                Arc::clone(&file.after),
                file.after_hash,
                expected,
            ));
            if file.in_mod && moved {
                let target = Target::new(Root::Mod, &file.from);
                operations.push(Operation::delete(target, Expected::Hash(file.seen)));
            }
            files.push(FileEntry::new(file, before, after));
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
        let Some(to) = &file.to else { return self.restore(file.from.as_deref(), file.before.as_deref()) };
        let to = rel(to)?;
        let now = self.read_expected(&to, file.after.as_deref())?;
        let mut operations = Vec::new();
        match &file.from {
            // The change made the file: its bytes are kept, so that it can be made again.
            None => operations.push(history::keep(&now)),
            Some(from) => {
                let before = history::apply(&file.undo, &now).ok_or_else(|| self.damaged(&to))?;
                self.expect(&before, file.before.as_deref(), &to)?;
                let from = rel(from)?;
                let expected = if from == to { Expected::Hash(blake3::hash(&now)) } else { Expected::Absent };
                operations.push(Operation::write(Target::new(Root::Mod, &from), before, expected));
            }
        }
        if file.from.as_deref() != Some(to.as_str()) {
            operations
                .push(Operation::delete(Target::new(Root::Mod, &to), Expected::Hash(blake3::hash(&now))));
        }
        Ok(operations)
    }

    /// What makes one file's change again.
    fn repeat(&self, file: &FileEntry) -> Result<Vec<Operation>, Error> {
        let Some(from) = &file.from else { return self.restore(file.to.as_deref(), file.after.as_deref()) };
        let from = rel(from)?;
        let now = self.read_expected(&from, file.before.as_deref())?;
        let mut operations = Vec::new();
        match &file.to {
            None => operations.push(history::keep(&now)),
            Some(to) => {
                let after = history::apply(&file.redo, &now).ok_or_else(|| self.damaged(&from))?;
                self.expect(&after, file.after.as_deref(), &from)?;
                let to = rel(to)?;
                let expected = if from == to { Expected::Hash(blake3::hash(&now)) } else { Expected::Absent };
                operations.push(Operation::write(Target::new(Root::Mod, &to), after, expected));
            }
        }
        if file.to.as_deref() != Some(from.as_str()) {
            operations
                .push(Operation::delete(Target::new(Root::Mod, &from), Expected::Hash(blake3::hash(&now))));
        }
        Ok(operations)
    }

    /// Writes a file whose bytes were kept.
    fn restore(&self, path: Option<&str>, hash: Option<&str>) -> Result<Vec<Operation>, Error> {
        let path = rel(path.unwrap_or_default())?;
        let bytes = history::kept(&self.roots.own, hash.unwrap_or_default())?;
        self.expect(&bytes, hash, &path)?;
        Ok(vec![Operation::write(Target::new(Root::Mod, &path), bytes, Expected::Absent)])
    }

    fn read_expected(&self, path: &RelPath, hash: Option<&str>) -> Result<Vec<u8>, Error> {
        let place = self.roots.place(&Target::new(Root::Mod, path))?;
        let changed = || {
            Error::refused(
                format!("`{path}` was changed since, so this cannot be taken back or done again"),
                "put the file back as it was, or change it by hand; nothing was changed",
            )
        };
        match std::fs::read(&place) {
            Ok(bytes) if Some(blake3::hash(&bytes).to_hex().as_str()) == hash => Ok(bytes),
            Ok(_) => Err(changed()),
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Err(changed()),
            Err(source) => Err(Error::io("read", &place, source)),
        }
    }

    fn expect(&self, bytes: &[u8], hash: Option<&str>, path: &RelPath) -> Result<(), Error> {
        if Some(blake3::hash(bytes).to_hex().as_str()) == hash { Ok(()) } else { Err(self.damaged(path)) }
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
