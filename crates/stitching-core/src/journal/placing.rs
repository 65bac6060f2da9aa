//! Putting what was staged in place, and removing what is in the way no more: steps 5 and 6 of a transaction, which can
//! be repeated after a crash.

use super::disk::Linked;
use super::pending::{Item, Pending};
use super::roots::{Root, Slot, Target};
use super::{Journal, Notice};
use crate::Error;
use crate::layers::{DirHandle, Fingerprint};
use std::collections::BTreeMap;
use std::io;

/// Step 5. After a crash (`again`) it can be repeated: it finds out how far it had come.
pub(super) fn put_in_place(journal: &Journal<'_>, pending: &Pending, again: bool) -> Result<(), Error> {
    if again {
        for folder in &pending.folders.made {
            let slot = journal.roots.existing_slot(folder)?;
            let io = |source| Error::io("write", slot.path(), source);
            journal.disk.create_folder(&slot.folder, &slot.name).map_err(io)?;
        }
    }
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
    for folder in pending.folders.removed.iter().rev() {
        let Some(slot) = journal.roots.slot(folder)? else { continue };
        match journal.disk.remove_folder(&slot.folder, &slot.name) {
            // Something lies in it, or it is gone already.
            Err(error)
                if [io::ErrorKind::DirectoryNotEmpty, io::ErrorKind::NotFound].contains(&error.kind()) => {}
            other => other.map_err(|source| Error::io("delete", slot.path(), source))?,
        }
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

/// Brings the folders of `targets` to the disk, each once.
pub(super) fn sync_folders<'t>(
    journal: &Journal<'_>,
    targets: impl Iterator<Item = &'t Target>,
) -> Result<(), Error> {
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
