//! One writer at a time.

use crate::Error;
use std::fs::{File, OpenOptions, TryLockError};
use std::path::Path;

/// Held while a change is written; given back when dropped, also by a process that dies.
#[derive(Debug)]
#[must_use]
pub struct Lock {
    _file: File,
}

impl Lock {
    /// Takes the lock in the folder `own`, which is made if need be; `None` if another process
    /// has it.
    ///
    /// # Errors
    /// When the lock file cannot be made.
    pub fn try_take(own: &Path) -> Result<Option<Lock>, Error> {
        std::fs::create_dir_all(own).map_err(|source| Error::io("write", own, source))?;
        let path = own.join("lock");
        let file = OpenOptions::new().create(true).truncate(false).write(true).open(&path);
        let file = file.map_err(|source| Error::io("write", &path, source))?;
        match file.try_lock() {
            Ok(()) => Ok(Some(Lock { _file: file })),
            Err(TryLockError::WouldBlock) => Ok(None),
            Err(TryLockError::Error(source)) => Err(Error::io("lock", &path, source)),
        }
    }
}
