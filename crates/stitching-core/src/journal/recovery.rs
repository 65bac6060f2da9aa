//! What becomes of a change that was not finished: it is finished, or taken back. Both can be repeated, whatever call
//! fails in between.

use super::lock::{Lock, Sharing, mod_lock};
use super::pending::{Found, Item, Pending, Phase};
use super::placing::{
    BEFORE, THEIRS, clean, clean_or_tell, drop_old, drop_second_name, put_in_place, set_aside,
};
use super::roots::Slot;
use super::{Journal, Notice, Recovered};
use crate::Error;
use crate::layers::DirHandle;
use std::io;

/// Finishes or takes back what an earlier run left; the project lock must be held.
pub(super) fn recover(journal: &Journal<'_>, own: &DirHandle) -> Result<Recovered, Error> {
    let mut cleaned = Recovered::Nothing;
    let made = Pending::read_cleaning(own, journal)?;
    if !made.is_empty() {
        let _lock = lock_mod(journal)?;
        for pending in made {
            if let Err(error) = clean(journal, own, &pending) {
                journal.notify(&Notice::LeftOver(error.to_string()));
            }
            cleaned = Recovered::Cleaned(pending.title);
        }
    }
    let mut pending = match Pending::read(own, journal)? {
        Found::Nothing => return Ok(cleaned),
        Found::Foreign(path) => return Ok(Recovered::Foreign(path)),
        Found::Pending(pending) => pending,
    };
    let title = pending.title.clone();
    let _lock = lock_mod(journal)?;
    if pending.phase == Phase::Committing && !can_be_finished(journal, &pending)? {
        pending.phase = Phase::TakingBack;
        pending.write(own, journal)?;
    }
    match pending.phase {
        Phase::Committing => {
            journal.notify(&Notice::Finishing(title.clone()));
            put_in_place(journal, &pending, true)?;
            clean_or_tell(journal, own, &pending);
            Ok(Recovered::Finished(title))
        }
        Phase::Staging | Phase::TakingBack => {
            journal.notify(&Notice::TakingBack(title.clone()));
            take_back(journal, own, &pending)?;
            Ok(Recovered::TakenBack(title))
        }
    }
}

fn lock_mod(journal: &Journal<'_>) -> Result<Lock, Error> {
    let waiting = || journal.notify(&Notice::WaitingForReaders);
    let lock = mod_lock(journal.roots.mod_folder(), Sharing::Exclusive, journal.patience, &waiting)?;
    lock.ok_or_else(|| {
        Error::refused(
            "an interrupted change has to be put right first, and other commands are reading the mod",
            "run the command again when they are done",
        )
    })
}

/// Whether an interrupted commit can go forward: each file is what it is to become, or the staged one is there. A
/// change that would put something in the place of what was saved since goes back, so that what was saved stays where
/// it is; unless that was saved over what the change had put there.
fn can_be_finished(journal: &Journal<'_>, pending: &Pending) -> Result<bool, Error> {
    let slots = pending.slots(journal)?;
    let written = pending.items.iter().filter(|item| item.after.is_some()).count();
    if slots.iter().filter(|(_, item, _)| item.after.is_some()).count() < written {
        // A folder is gone.
        return Ok(false);
    }
    let (mut in_the_way, mut saved_over) = (false, false);
    for (number, item, slot) in &slots {
        let io = |source| Error::io("read", slot.path(), source);
        let old_is_there = slot.folder.kind(&pending.old(*number)).map_err(io)?.is_some();
        let exists = slot.exists().map_err(io)?;
        let Some(after) = &item.after else {
            saved_over |= old_is_there && exists;
            in_the_way |= !old_is_there && exists && !is_before(item, slot).map_err(io)?;
            continue;
        };
        let staged = slot.is(&pending.staged(*number), after).map_err(io)?;
        if slot.is(&slot.name, after).map_err(io)? {
            continue;
        }
        match (staged, old_is_there) {
            (true, _) => in_the_way |= exists && !is_before(item, slot).map_err(io)?,
            (false, true) if exists || item.before.is_none() => saved_over = true,
            (false, _) => return Ok(false),
        }
    }
    Ok(!in_the_way || saved_over)
}

fn is_before(item: &Item, slot: &Slot) -> io::Result<bool> {
    item.before.as_ref().map_or(Ok(false), |before| slot.is(&slot.name, before))
}

/// Puts back what was there before, and removes all that the change had made.
pub(super) fn take_back(journal: &Journal<'_>, own: &DirHandle, pending: &Pending) -> Result<(), Error> {
    let slots = pending.slots(journal)?;
    if pending.phase == Phase::TakingBack {
        for (number, item, slot) in slots.iter().rev() {
            let (staged, old) = (pending.staged(*number), pending.old(*number));
            restore(journal, item, slot, &staged, &old)
                .map_err(|source| Error::io("put back", slot.path(), source))?;
        }
        for (_, _, slot) in &slots {
            let io = |source| Error::io("write", slot.folder.path(), source);
            journal.disk.sync_folder(&slot.folder).map_err(io)?;
        }
    }
    for (number, item, slot) in slots.iter().rev() {
        // What was swapped back must be what the change had put there.
        let (staged, old) = (pending.staged(*number), pending.old(*number));
        if pending.phase == Phase::TakingBack {
            drop_old(journal, item, slot, &staged, item.after.as_ref(), THEIRS)?;
            drop_old(journal, item, slot, &old, item.after.as_ref(), BEFORE)?;
        } else {
            let io = |source| Error::io("delete", slot.folder.path().join(&staged), source);
            journal.disk.remove_file(&slot.folder, &staged).map_err(io)?;
        }
    }
    let made = pending.items.iter().rev().flat_map(|item| item.made.iter().rev());
    for folder in made.chain(pending.folders.made.iter().rev()) {
        if let Some(slot) = journal.roots.slot(folder)?
            && slot.exists().unwrap_or(false)
        {
            // A folder in which something else lies by now is not ours to remove.
            let _ = journal.disk.remove_folder(&slot.folder, &slot.name);
        }
    }
    pending.remove(own, journal)
}

/// Puts back what was at one target. How far the change had come, and how far it was taken back, is seen from what is
/// there.
fn restore(journal: &Journal<'_>, item: &Item, slot: &Slot, staged: &str, old: &str) -> io::Result<()> {
    let (disk, folder, name) = (&journal.disk, &slot.folder, slot.name.as_str());
    drop_second_name(journal, item, slot, old)?;
    let old_is_there = folder.kind(old)?.is_some();
    if !slot.exists()? {
        return if old_is_there { disk.rename_new(folder, old, name) } else { Ok(()) };
    }
    if is_before(item, slot)? {
        let same = old_is_there && item.before.as_ref().map_or(Ok(false), |before| slot.is(old, before))?;
        return if same { disk.remove_file(folder, old) } else { Ok(()) };
    }
    let is_after = item.after.as_ref().map_or(Ok(false), |after| slot.is(name, after))?;
    let staged_is_after = item.after.as_ref().map_or(Ok(false), |after| slot.is(staged, after))?;
    let staged_is_there = folder.kind(staged)?.is_some();
    match (is_after, old_is_there) {
        (true, true) => {
            // The second name of a file that was linked into place, and not yet dropped.
            if staged_is_there {
                disk.remove_file(folder, staged)?;
            }
            disk.replace(folder, old, name, staged)
        }
        // The names were swapped, and no more.
        (true, false) if staged_is_there && !staged_is_after => disk.replace(folder, staged, name, old),
        (true, false) if item.before.is_none() => {
            if staged_is_there {
                disk.remove_file(folder, staged)?;
            }
            disk.rename(folder, name, staged)
        }
        // Somebody saved something else since: that stays, and what was there before is not lost.
        (false, true) => set_aside(journal, item, slot, old, BEFORE),
        _ => Ok(()),
    }
}
