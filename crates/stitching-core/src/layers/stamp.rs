//! By what a file is known to be as it was, without reading it: the size and times that the system keeps of it.

use serde::{Deserialize, Serialize};
use std::fs::Metadata;
use std::time::{SystemTime, UNIX_EPOCH};

/// What tells that a file is likely the same, without reading it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(crate) struct Stamp {
    /// In bytes.
    pub(crate) size: u64,
    /// When its bytes changed, in nanoseconds since 1970. Programs may set it to what they like.
    modified: u128,
    /// When anything about it changed, in seconds and nanoseconds since 1970, where the system tells: nobody can set that.
    changed: Option<(i64, i64)>,
    /// The number under which its file system knows it, where there is one.
    identity: Option<u64>,
}

impl Stamp {
    /// That of a file; `None` if the system does not tell when it was changed.
    pub(crate) fn of(metadata: &Metadata) -> Option<Stamp> {
        let modified = metadata.modified().ok()?.duration_since(UNIX_EPOCH).ok()?.as_nanos();
        #[cfg(unix)]
        let (changed, identity) = {
            use std::os::unix::fs::MetadataExt;
            (Some((metadata.ctime(), metadata.ctime_nsec())), Some(metadata.ino()))
        };
        #[cfg(not(unix))]
        let (changed, identity) = (None, None);
        Some(Stamp { size: metadata.len(), modified, changed, identity })
    }

    /// Whether an equal stamp proves that the file is the same. If not, its bytes have to.
    pub(crate) fn is_proof(&self) -> bool {
        self.changed.is_some()
    }

    /// Whether the file could have changed again in the same tick of the clock in which it was last looked at, which was at
    /// `time`, in nanoseconds since 1970.
    pub(crate) fn is_fresh(&self, time: u128) -> bool {
        const TICK: u128 = 2_000_000_000;
        let changed =
            self.changed.map_or(0, |(seconds, _)| u128::try_from(seconds).unwrap_or(0) * 1_000_000_000);
        self.modified.max(changed) + TICK > time
    }
}

/// A time in nanoseconds since 1970.
pub(crate) fn nanoseconds(time: SystemTime) -> u128 {
    time.duration_since(UNIX_EPOCH).map_or(0, |since| since.as_nanos())
}
