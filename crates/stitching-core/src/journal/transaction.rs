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

use super::disk::Linked;
use super::lock::{Sharing, mod_lock};
use super::pending::{Item, Pending, Phase};
use super::recovery::take_back;
use super::roots::{Root, Slot, Target};
use super::{Journal, Notice};
use crate::Error;
use crate::layers::{DirHandle, EntryKind, Fingerprint};
use crate::text::Patch;
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet};
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

/// Does all of `operations`, or nothing. `title` is for messages.
pub(super) fn run(journal: &Journal<'_>, title: &str, operations: Vec<Operation>) -> Result<(), Error> {
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
    let mut pending = Pending::new(title, items)?;
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
    let made: BTreeSet<&Target> = pending.items.iter().flat_map(|item| &item.made).collect();
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

/// Brings the folders of `targets` to the disk, each once.
fn sync_folders<'t>(journal: &Journal<'_>, targets: impl Iterator<Item = &'t Target>) -> Result<(), Error> {
    let folders: BTreeMap<(Root, Option<Target>), &Target> =
        targets.map(|target| ((target.root, target.folder()), target)).collect();
    for target in folders.into_values() {
        let Some(slot) = journal.roots.slot(target)? else { continue };
        journal
            .disk
            .sync_folder(&slot.folder)
            .map_err(|source| Error::io("write", slot.folder.path(), source))?;
    }
    Ok(())
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

/// Step 5. After a crash (`again`) it can be repeated: it finds out how far it had come.
pub(super) fn put_in_place(journal: &Journal<'_>, pending: &Pending, again: bool) -> Result<(), Error> {
    for (number, item, slot) in &pending.slots(journal)? {
        let io = |source| Error::io("write", slot.path(), source);
        let (staged, old) = (pending.staged(*number), pending.old(*number));
        put_one(journal, item, slot, &staged, &old, again).map_err(io)?;
    }
    sync_folders(journal, pending.items.iter().map(|item| &item.target))
}

/// How often another program may get in between two calls.
const ATTEMPTS: usize = 16;

fn put_one(
    journal: &Journal<'_>,
    item: &Item,
    slot: &Slot,
    staged: &str,
    old: &str,
    again: bool,
) -> io::Result<()> {
    let (disk, folder, name) = (&journal.disk, &slot.folder, slot.name.as_str());
    let Some(after) = &item.after else {
        // What is there beside the old one was made since.
        let gone = !slot.exists()? || folder.kind(old)?.is_some();
        return if gone { Ok(()) } else { disk.rename(folder, name, old) };
    };
    if folder.kind(staged)?.is_none() {
        return Ok(());
    }
    if again && slot.is(name, after)? {
        // The names were swapped, or the target got its second name, and no more.
        return if slot.is(staged, after)? { Ok(()) } else { disk.rename(folder, staged, old) };
    }
    for _ in 0..ATTEMPTS {
        if slot.exists()? {
            if folder.kind(old)?.is_some() {
                // The old one is renamed already, where names cannot be swapped, and somebody made another.
                set_aside(journal, item, slot, name, THEIRS)?;
                continue;
            }
            match disk.replace(folder, staged, name, old) {
                Err(error) if error.kind() == io::ErrorKind::NotFound && !slot.exists()? => {}
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                other => return other,
            }
        } else {
            match disk.link_new(folder, staged, name) {
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                // That it has been put in place is seen from the other name, whatever becomes of the file.
                Ok(Linked::Both) if item.before.is_none() && folder.kind(old)?.is_none() => {
                    return disk.rename(folder, staged, old);
                }
                Ok(Linked::Both) => return disk.remove_file(folder, staged),
                Ok(Linked::Renamed) => return Ok(()),
                Err(error) => return Err(error),
            }
        }
    }
    Err(io::Error::other("another program writes it again and again"))
}

/// What another program saved while a change was made is found under the file's name with this behind it.
pub(super) const THEIRS: &str = "theirs";
/// What was there before a change that was taken back, where another program saved something else since.
pub(super) const BEFORE: &str = "before";

/// Gives the file `name`, beside `slot`, a name that is seen and that is not taken, and says so.
pub(super) fn set_aside(
    journal: &Journal<'_>,
    item: &Item,
    slot: &Slot,
    name: &str,
    why: &str,
) -> io::Result<()> {
    let mut number = 1;
    loop {
        let aside = match number {
            1 => format!("{}.{why}", slot.name),
            more => format!("{}.{why}-{more}", slot.name),
        };
        match journal.disk.rename_new(&slot.folder, name, &aside) {
            Err(error) if error.kind() == io::ErrorKind::AlreadyExists => number += 1,
            Err(error) => return Err(error),
            Ok(()) => {
                journal.notify(&Notice::SetAside { path: item.target.path.clone(), aside });
                return Ok(());
            }
        }
    }
}

/// Step 6: the change is made, whatever happens now.
pub(super) fn clean_or_tell(journal: &Journal<'_>, own: &DirHandle, pending: &Pending) {
    if let Err(error) = pending.begin_cleaning(own, journal).and_then(|()| clean(journal, own, pending)) {
        journal.notify(&Notice::LeftOver(error.to_string()));
    }
}

/// Removes the temporary names of a change that is made. What is not what it should be is set aside.
pub(super) fn clean(journal: &Journal<'_>, own: &DirHandle, pending: &Pending) -> Result<(), Error> {
    for (number, item, slot) in &pending.slots(journal)? {
        let old = pending.old(*number);
        drop_second_name(journal, item, slot, &old)
            .map_err(|source| Error::io("delete", slot.folder.path().join(&old), source))?;
        drop_old(journal, item, slot, &old, item.before.as_ref(), THEIRS)?;
        let io = |source| Error::io("delete", slot.path(), source);
        journal.disk.remove_file(&slot.folder, &pending.staged(*number)).map_err(io)?;
    }
    pending.end_cleaning(own, journal)
}

/// Removes `old`, if it is the second name of a file that the change has made: with its bytes, or those that another
/// program wrote over them.
pub(super) fn drop_second_name(journal: &Journal<'_>, item: &Item, slot: &Slot, old: &str) -> io::Result<()> {
    let (None, Some(after)) = (&item.before, &item.after) else { return Ok(()) };
    if slot.folder.kind(old)?.is_none() {
        return Ok(());
    }
    let is_second = slot.is(old, after)? || {
        let by_bytes = Fingerprint::of_bytes(blake3::hash(b""));
        let now = by_bytes.of_open(&mut slot.folder.open_file(old)?)?;
        now.map_or(Ok(false), |now| slot.is(&slot.name, &now))?
    };
    if is_second { journal.disk.remove_file(&slot.folder, old) } else { Ok(()) }
}

/// Removes the file `old` beside `slot`, if it is what `known` tells; else sets it aside.
pub(super) fn drop_old(
    journal: &Journal<'_>,
    item: &Item,
    slot: &Slot,
    old: &str,
    known: Option<&Fingerprint>,
    why: &str,
) -> Result<(), Error> {
    let io = |source| Error::io("delete", slot.folder.path().join(old), source);
    if slot.folder.kind(old).map_err(io)?.is_none() {
        return Ok(());
    }
    if known.map_or(Ok(false), |known| slot.is(old, known)).map_err(io)? {
        return journal.disk.remove_file(&slot.folder, old).map_err(io);
    }
    set_aside(journal, item, slot, old, why).map_err(io)
}
