//! Writing several files so that a crash at any instant leaves all of it or none.
//!
//! 1. `pending.json` is written with the phase `staging`, and the folder it lies in brought to the disk.
//! 2. The new bytes of each file are written beside their target, under a name that nobody can foresee, and brought
//!    to the disk; then the folders they lie in.
//! 3. The mod is locked, and the targets are compared with what was read: a file changed since is not overwritten.
//! 4. `pending.json` is replaced by one with the phase `committing`. This is the instant at which the change is made:
//!    before it a crash takes everything back, after it the next start finishes the work.
//! 5. Each new file swaps its name with its target; files to delete are renamed. So whatever was there, also what
//!    another program saved since step 3, is there still, under a temporary name. The folders are brought to the disk.
//! 6. `pending.json` is renamed to `cleaning-ID.json`. What was replaced is compared with what it should have been, and removed; if it is
//!    something else, it gets a name that is seen. Last the record is removed.
//!
//! When a call fails in step 5 everything is taken back (`recovery.rs`). From step 6 on there is only forward: what
//! cannot be removed is removed at the next start.
//!
//! **Limitations.** A program that holds a file open while it is replaced, and writes to it after step 6 has looked at
//! it, writes into a file that has no name any more. Where two names cannot be swapped at once (Windows, some network
//! file systems), a file is not there for an instant between two renames. Only permissions and, where nothing else
//! changes, the time of the last change are carried over to a new file: no owners, no extended attributes.

use super::lock::{Sharing, mod_lock};
use super::pending::{Folders, Item, Pending, Phase};
use super::placing::{clean_or_tell, put_in_place, sync_folders};
use super::recovery::take_back;
use super::roots::{Slot, Target};
use super::{Journal, Notice};
use crate::Error;
use crate::layers::{DirHandle, EntryKind, Fingerprint};
use crate::text::Patch;
use rayon::prelude::*;
use std::collections::BTreeSet;
use std::fs::File;
use std::io::{self, BufWriter, Write};
use std::path::PathBuf;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};

/// Set while step 5 runs.
pub(super) static COMMITTING: AtomicBool = AtomicBool::new(false);

/// What a target must be for an operation to go on.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum Expected {
    Is(Fingerprint),
    Absent,
    /// Whatever is there when the transaction begins; for files of the tool's own.
    Anything,
}

/// Where new bytes come from.
#[derive(Debug)]
pub(super) enum Content {
    Bytes(Arc<Vec<u8>>),
    /// Those of a file of any layer, with a patch.
    OfLayer(PathBuf, Patch),
    /// Those of a target, with a patch.
    OfTarget(Target, Patch),
    /// None: the file is deleted.
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
    /// The file, other than the target, whose permissions the new one gets.
    like: Option<Target>,
    /// Whether the new file is the one at `like` under another name: it keeps its time too.
    is_moved: bool,
}

impl Operation {
    pub fn new(
        target: Target,
        content: Content,
        after: Option<Fingerprint>,
        expected: Expected,
    ) -> Operation {
        Operation { target, content, after, expected, like: None, is_moved: false }
    }

    /// What is written or deleted.
    pub fn target(&self) -> &Target {
        &self.target
    }

    /// The operation, whose file gets the permissions of `like`, and if it `is_moved` from there unchanged, its time.
    pub fn like(self, like: Target, is_moved: bool) -> Operation {
        Operation { like: Some(like), is_moved, ..self }
    }

    pub fn write(target: Target, bytes: Vec<u8>, expected: Expected) -> Operation {
        let after = Some(Fingerprint::of_bytes(blake3::hash(&bytes)));
        Operation::new(target, Content::Bytes(Arc::new(bytes)), after, expected)
    }

    pub fn delete(target: Target, expected: Expected) -> Operation {
        Operation::new(target, Content::Nothing, None, expected)
    }
}

/// Does all of `operations` and what is to become of `folders`, or nothing. `title` is for messages.
pub(super) fn run(
    journal: &Journal<'_>,
    title: &str,
    operations: Vec<Operation>,
    folders: Folders,
) -> Result<(), Error> {
    let own = journal.roots.make_own(&journal.disk)?;
    let operations = settle(journal, operations)?;
    refuse_two_on_one(&operations)?;
    let mut items = Vec::with_capacity(operations.len());
    for operation in &operations {
        refuse_read_only(journal, &operation.target)?;
        items.push(Item {
            target: operation.target.clone(),
            before: match &operation.expected {
                Expected::Is(fingerprint) => Some(fingerprint.clone()),
                Expected::Absent | Expected::Anything => None,
            },
            after: operation.after.clone(),
            made: journal.roots.missing_folders(&operation.target)?,
        });
    }
    let mut pending = Pending::new(title, items, folders)?;
    let staged = stage(journal, &own, &pending, &operations);
    // Held until all is cleaned up, also where something fails.
    let locked = staged.and_then(|()| lock_and_compare(journal, &operations));
    let _lock = match locked {
        Ok(lock) => lock,
        Err(error) => {
            if let Err(left) = take_back(journal, &own, &pending) {
                journal.notify(&Notice::LeftOver(left.to_string()));
            }
            return Err(error);
        }
    };
    COMMITTING.store(true, Ordering::SeqCst);
    pending.phase = Phase::Committing;
    let committed = pending.write(&own, journal).and_then(|()| put_in_place(journal, &pending, false));
    let done = match committed {
        Ok(()) => {
            clean_or_tell(journal, &own, &pending);
            Ok(())
        }
        Err(error) => {
            // Without it a crash in the next instant would be taken for one in step 5.
            pending.phase = Phase::TakingBack;
            let back = pending.write(&own, journal).and_then(|()| take_back(journal, &own, &pending));
            match back {
                Ok(()) => Err(error),
                Err(second) => Err(Error::Unfinished {
                    source: Box::new(error),
                    title: pending.title.clone(),
                    second: second.to_string(),
                }),
            }
        }
    };
    COMMITTING.store(false, Ordering::SeqCst);
    done
}

/// Finds out what is at the targets of which anything is expected, and leaves out what is there already. What is kept
/// under the hash of its bytes is written once, though several files have them.
fn settle(journal: &Journal<'_>, operations: Vec<Operation>) -> Result<Vec<Operation>, Error> {
    let mut out = Vec::with_capacity(operations.len());
    let mut known = BTreeSet::new();
    for mut operation in operations {
        if operation.expected == Expected::Anything {
            if !known.insert((operation.target.clone(), operation.after.clone())) {
                continue;
            }
            let now = match journal.roots.slot(&operation.target)? {
                Some(slot) => now_at(&slot, operation.after.as_ref())?,
                None => None,
            };
            if now == operation.after {
                continue;
            }
            operation.expected = now.map_or(Expected::Absent, Expected::Is);
        }
        out.push(operation);
    }
    Ok(out)
}

/// What a file is known by now, in the same way as `like`; `None` if it is not there.
fn now_at(slot: &Slot, like: Option<&Fingerprint>) -> Result<Option<Fingerprint>, Error> {
    let io = |source| Error::io("read", slot.path(), source);
    if !slot.exists().map_err(io)? {
        return Ok(None);
    }
    let by_bytes = Fingerprint::of_bytes(blake3::hash(b""));
    let mut file = slot.open().map_err(io)?;
    let now = like.unwrap_or(&by_bytes).of_open(&mut file).map_err(io)?;
    if now.is_some() {
        return Ok(now);
    }
    let mut file = slot.open().map_err(io)?;
    by_bytes.of_open(&mut file).map_err(io)
}

fn refuse_two_on_one(operations: &[Operation]) -> Result<(), Error> {
    let mut seen = BTreeSet::new();
    match operations.iter().find(|operation| !seen.insert(&operation.target)) {
        None => Ok(()),
        Some(twice) => Err(Error::refused(
            format!("`{}` would be written twice in one change", twice.target.path),
            "this is a fault of the program; nothing was changed",
        )),
    }
}

fn refuse_read_only(journal: &Journal<'_>, target: &Target) -> Result<(), Error> {
    let Some(slot) = journal.roots.slot(target)? else { return Ok(()) };
    let read_only = |metadata: cap_std::fs::Metadata| metadata.permissions().readonly();
    let file = slot.folder.metadata(&slot.name).map_err(|source| Error::io("read", slot.path(), source))?;
    let folder = slot.folder.dir().dir_metadata();
    let path = match (file.is_some_and(read_only), folder.is_ok_and(read_only)) {
        (true, _) => slot.path(),
        (_, true) => slot.folder.path().to_owned(),
        _ => return Ok(()),
    };
    let source = io::Error::new(io::ErrorKind::PermissionDenied, "it is read-only; nothing was changed");
    Err(Error::io("write", path, source))
}

/// Steps 1 and 2.
fn stage(
    journal: &Journal<'_>,
    own: &DirHandle,
    pending: &Pending,
    operations: &[Operation],
) -> Result<(), Error> {
    pending.write(own, journal)?;
    let made: BTreeSet<&Target> =
        pending.items.iter().flat_map(|item| &item.made).chain(&pending.folders.made).collect();
    // Sorted, so that each comes behind the one it lies in.
    for folder in made {
        let slot = journal.roots.existing_slot(folder)?;
        let io = |source| Error::io("write", slot.path(), source);
        journal.disk.create_folder(&slot.folder, &slot.name).map_err(io)?;
        journal.disk.sync_folder(&slot.folder).map_err(io)?;
    }
    operations
        .par_iter()
        .enumerate()
        .with_max_len(1)
        .try_for_each(|(number, operation)| stage_one(journal, operation, &pending.staged(number)))?;
    let written = operations.iter().filter(|operation| operation.after.is_some());
    sync_folders(journal, written.map(|operation| &operation.target))
}

/// Writes the new bytes of one file under the name `staged`.
fn stage_one(journal: &Journal<'_>, operation: &Operation, staged: &str) -> Result<(), Error> {
    let target = &operation.target;
    if operation.after.is_none() {
        return Ok(());
    }
    let slot = journal.roots.existing_slot(target)?;
    let io = |source| Error::io("write", slot.path(), source);
    let mut file = journal.disk.create_file(&slot.folder, staged).map_err(io)?;
    match &operation.content {
        Content::Bytes(bytes) => file.write_all(bytes).map_err(io)?,
        Content::OfLayer(path, patch) => {
            let before = File::open(path).map_err(|source| Error::io("read", path, source))?;
            copy_patched(before, patch, &mut file).map_err(io)?;
        }
        Content::OfTarget(source, patch) => {
            let source = journal.roots.existing_slot(source)?;
            let before = source.open().map_err(|error| Error::io("read", source.path(), error))?;
            copy_patched(before, patch, &mut file).map_err(io)?;
        }
        Content::Nothing => {}
    }
    let like = match &operation.like {
        Some(like) => journal.roots.slot(like)?,
        None => None,
    };
    let like = like.as_ref().unwrap_or(&slot);
    let metadata = match like.folder.kind(&like.name).map_err(io)? {
        Some(EntryKind::File) => Some(like.open().and_then(|file| file.metadata()).map_err(io)?),
        _ => None,
    };
    if let Some(metadata) = metadata {
        let modified = metadata.modified().ok().filter(|_| operation.is_moved);
        file.set_attributes(metadata.permissions(), modified).map_err(io)?;
    }
    file.sync().map_err(|source| Error::io("write", file.path(), source))
}

fn copy_patched(mut before: File, patch: &Patch, file: &mut impl Write) -> io::Result<()> {
    let size = before.metadata()?.len();
    let mut file = BufWriter::with_capacity(1 << 16, file);
    patch.copy(&mut before, size, &mut file)?;
    file.flush()
}

/// Step 3.
fn lock_and_compare(journal: &Journal<'_>, operations: &[Operation]) -> Result<super::lock::Lock, Error> {
    let waiting = || journal.notify(&Notice::WaitingForReaders);
    let lock = mod_lock(journal.roots.mod_folder(), Sharing::Exclusive, journal.patience, &waiting)?;
    let lock = lock.ok_or_else(|| {
        Error::refused(
            "other commands are reading the mod, and did not finish in time",
            "run the command again when they are done; nothing was changed",
        )
    })?;
    operations.par_iter().with_max_len(1).try_for_each(|operation| operation.compare(journal))?;
    Ok(lock)
}

impl Operation {
    /// Refuses when the target is not what it was when it was read.
    fn compare(&self, journal: &Journal<'_>) -> Result<(), Error> {
        let path = &self.target.path;
        let slot = journal.roots.slot(&self.target)?;
        let now = match &slot {
            Some(slot) => {
                slot.folder.kind(&slot.name).map_err(|source| Error::io("read", slot.path(), source))?
            }
            None => None,
        };
        let reason = match (&self.expected, slot, now) {
            (Expected::Absent, _, None) | (Expected::Anything, ..) => return Ok(()),
            (Expected::Absent, _, Some(EntryKind::Link)) => format!("there is a link `{path}` in the mod"),
            (Expected::Absent, ..) => format!("there is a file `{path}` in the mod already"),
            (Expected::Is(_), _, None) | (Expected::Is(_), None, _) => {
                format!("`{path}` is gone from the mod")
            }
            (Expected::Is(_), _, Some(EntryKind::Link)) => {
                format!("`{path}` is a link, and nothing is written through links")
            }
            (Expected::Is(fingerprint), Some(slot), _) => {
                if slot
                    .is(&slot.name, fingerprint)
                    .map_err(|source| Error::io("read", slot.path(), source))?
                {
                    return Ok(());
                }
                format!("`{path}` was changed by another program meanwhile")
            }
        };
        Err(Error::refused(reason, "run the command again; nothing was changed"))
    }
}
