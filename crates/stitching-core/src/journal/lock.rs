//! Who may write, and who may read, when.
//!
//! * The *project lock*, on `.stitching/lock`, is held by a command that changes something from before it reads until
//!   it is done: one at a time builds a change.
//! * The *mod lock* is held exclusively while files of the mod are replaced, and shared by all that read them, so
//!   that none of them sees a part of a change. It lies on the mod's folder itself, where the system can lock folders,
//!   since several projects may have one mod; elsewhere on a file in it.
//!
//! Both are given back by the system when a process dies.

use crate::Error;
use crate::layers::DirHandle;
use cap_std::fs::OpenOptions;
use std::fs::{File, TryLockError};
use std::io;
use std::path::Path;
use std::time::{Duration, Instant, SystemTime};

/// The file in the tool's own folder that is locked.
const PROJECT_LOCK: &str = "lock";
/// The file in the mod's folder that is locked, where folders cannot be.
const MOD_LOCK: &str = ".stitching-lock";
/// How often a lock that is taken is tried again.
pub(super) const PAUSE: Duration = Duration::from_millis(15);

/// How long to wait for a lock.
#[derive(Debug, Clone, Copy)]
pub(super) struct Patience {
    /// How long for one process that has it.
    pub most: Duration,
    /// After how long it is told that there is somebody to wait for.
    pub told_after: Duration,
}

/// A lock that is held until it is dropped.
#[derive(Debug)]
#[must_use]
pub struct Lock {
    _file: Option<File>,
}

/// Whether others may hold a lock too.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Sharing {
    Shared,
    Exclusive,
}

/// Takes the project lock in the tool's own folder; `None` if one other process has it for longer than `patience`: of
/// several that want it, each waits for all before it. `waiting` is called once if there is somebody to wait for.
pub(super) fn project_lock(
    own: &DirHandle,
    patience: Patience,
    waiting: &dyn Fn(),
) -> Result<Option<Lock>, Error> {
    let path = own.path().join(PROJECT_LOCK);
    let file = own
        .open_with(PROJECT_LOCK, OpenOptions::new().read(true).write(true).create(true))
        .map_err(|source| Error::io("write", &path, source))?;
    let taken_at = || file.metadata().and_then(|metadata| metadata.modified()).ok();
    let taken = take(&file, Sharing::Exclusive, patience, waiting, &taken_at)
        .map_err(|source| Error::io("lock", &path, source))?;
    if taken {
        // Where times cannot be set, a queue is waited for no longer than one process.
        let _ = file.set_modified(SystemTime::now());
    }
    Ok(taken.then_some(Lock { _file: Some(file) }))
}

/// Takes the lock of the mod in `folder`; `None` if others have it for longer than `patience`. To read where nothing
/// can be locked, none is needed: who cannot write there changes nothing either.
pub(super) fn mod_lock(
    folder: &Path,
    sharing: Sharing,
    patience: Patience,
    waiting: &dyn Fn(),
) -> Result<Option<Lock>, Error> {
    if cfg!(unix) {
        let file = File::open(folder).map_err(|source| Error::io("open", folder, source))?;
        // Some network file systems lock files only.
        if let Ok(taken) = take(&file, sharing, patience, waiting, &|| None) {
            return Ok(taken.then_some(Lock { _file: Some(file) }));
        }
    }
    let path = folder.join(MOD_LOCK);
    let io = |source| Error::io("lock", &path, source);
    let root = DirHandle::open(folder).map_err(io)?;
    let options = match sharing {
        Sharing::Shared => OpenOptions::new().read(true).clone(),
        Sharing::Exclusive => OpenOptions::new().read(true).write(true).create(true).clone(),
    };
    let file = match root.open_with(MOD_LOCK, &options) {
        // Nothing was ever written here, or by nobody who locked a file.
        Err(error) if sharing == Sharing::Shared && error.kind() == io::ErrorKind::NotFound => {
            return Ok(Some(Lock { _file: None }));
        }
        other => other.map_err(io)?,
    };
    let taken = take(&file, sharing, patience, waiting, &|| None).map_err(io)?;
    Ok(taken.then_some(Lock { _file: Some(file) }))
}

/// Whether the lock could be had in time, which begins anew when another process has it than before: when `taken_at`
/// has changed.
fn take(
    file: &File,
    sharing: Sharing,
    patience: Patience,
    waiting: &dyn Fn(),
    taken_at: &dyn Fn() -> Option<SystemTime>,
) -> io::Result<bool> {
    let start = Instant::now();
    let mut told = false;
    let (mut holder, mut waited_since) = (taken_at(), start);
    loop {
        let tried = match sharing {
            Sharing::Shared => file.try_lock_shared(),
            Sharing::Exclusive => file.try_lock(),
        };
        match tried {
            Ok(()) => return Ok(true),
            Err(TryLockError::Error(error)) => return Err(error),
            Err(TryLockError::WouldBlock) if waited_since.elapsed() >= patience.most => {
                let now = taken_at();
                if now == holder {
                    return Ok(false);
                }
                (holder, waited_since) = (now, Instant::now());
            }
            Err(TryLockError::WouldBlock) => {}
        }
        if !told && start.elapsed() >= patience.told_after {
            told = true;
            waiting();
        }
        std::thread::sleep(PAUSE);
    }
}

#[cfg(test)]
#[allow(clippy::expect_used, reason = "tests fail by panicking")]
mod tests {
    use super::*;
    use std::cell::{Cell, RefCell};

    /// Waits, with no patience at all, for a lock that passes to another process `passes` times. Gives whether it was
    /// had, and how often it was asked who has it. It is given back when it was asked `given_back` times.
    fn wait(passes: u64, given_back: u64) -> (bool, u64) {
        let folder = tempfile::tempdir().expect("a folder");
        let path = folder.path().join(PROJECT_LOCK);
        let held = File::create(&path).expect("made");
        held.lock().expect("locked");
        let held = RefCell::new(Some(held));
        let asked = Cell::new(0);
        let taken_at = || {
            if asked.get() == given_back {
                held.take();
            }
            asked.set(asked.get() + 1);
            Some(SystemTime::UNIX_EPOCH + Duration::from_secs(passes.min(asked.get())))
        };
        let file = File::options().write(true).open(&path).expect("opened");
        let patience = Patience { most: Duration::ZERO, told_after: Duration::ZERO };
        let taken = take(&file, Sharing::Exclusive, patience, &|| {}, &taken_at).expect("it can be asked");
        (taken, asked.get())
    }

    #[test]
    fn the_same_holder_is_not_waited_for_any_longer() {
        assert_eq!(wait(1, 99), (false, 2));
    }

    #[test]
    fn a_queue_is_waited_for() {
        assert_eq!(wait(5, 99), (false, 6), "until it no longer moves");
        assert_eq!(wait(5, 3), (true, 4), "until it is given back");
    }
}
