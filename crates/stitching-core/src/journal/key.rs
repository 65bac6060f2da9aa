//! The mark by which a journal is known to have been written by this user on this computer.
//!
//! A project is foreign data: it may come with a journal of its own, that tells of an interrupted change which is to
//! be finished, and every command would finish it. So the journal has a keyed hash of its content (BLAKE3, keyed
//! mode), and the key lies outside of all projects, in the folder in which the system keeps the state of programs for a
//! user.

use crate::Error;
use std::io::{self, Write};
use std::path::{Path, PathBuf};

/// The name of the program's folder in the user's.
const FOLDER: &str = "stitching";
/// The name of the file with the key.
const FILE: &str = "journal.key";
const LENGTH: usize = blake3::KEY_LEN;

/// Where the key of a user is kept.
#[derive(Debug, Clone)]
pub struct KeyFile {
    folder: Option<PathBuf>,
}

impl KeyFile {
    /// That of the user who runs the program: below `XDG_STATE_HOME` on Linux (XDG Base Directory Specification),
    /// in the local application data on Windows, in the application support on macOS.
    pub fn of_user() -> KeyFile {
        let folder = dirs::state_dir().or_else(dirs::data_local_dir);
        KeyFile { folder: folder.map(|folder| folder.join(FOLDER)) }
    }

    /// One in `folder`, which is made if need be.
    pub fn in_folder(folder: &Path) -> KeyFile {
        KeyFile { folder: Some(folder.to_owned()) }
    }

    /// The mark of `content`. The first time a key is made.
    ///
    /// # Errors
    /// When the key cannot be read or written.
    pub fn sign(&self, content: &[u8]) -> Result<String, Error> {
        let key = match self.read()? {
            Some(key) => key,
            None => self.create()?,
        };
        Ok(blake3::keyed_hash(&key, content).to_hex().to_string())
    }

    /// Whether `mark` is that of `content`.
    pub(super) fn verifies(&self, content: &[u8], mark: &str) -> Result<bool, Error> {
        let (Some(key), Ok(mark)) = (self.read()?, blake3::Hash::from_hex(mark)) else { return Ok(false) };
        // Compared in constant time.
        Ok(blake3::keyed_hash(&key, content) == mark)
    }

    fn path(&self) -> Result<PathBuf, Error> {
        let folder = self.folder.as_ref().ok_or_else(|| {
            Error::refused(
                "there is no folder in which the key of the journal can be kept",
                "set the environment variable HOME; nothing was changed",
            )
        })?;
        Ok(folder.join(FILE))
    }

    /// The key; `None` if there is none, or none that is whole.
    fn read(&self) -> Result<Option<[u8; LENGTH]>, Error> {
        let path = self.path()?;
        match std::fs::read(&path) {
            Ok(bytes) => Ok(bytes.try_into().ok()),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(source) => Err(Error::io("read", &path, source)),
        }
    }

    /// Makes a key, unless another process did so meanwhile.
    fn create(&self) -> Result<[u8; LENGTH], Error> {
        let path = self.path()?;
        let io = |source| Error::io("write", &path, source);
        let mut key = [0; LENGTH];
        getrandom::fill(&mut key).map_err(|error| io(io::Error::other(error)))?;
        let folder = path.parent().unwrap_or(Path::new("."));
        std::fs::create_dir_all(folder).map_err(io)?;
        // Only the user may read it, and it is there whole or not at all.
        let mut file = tempfile::NamedTempFile::new_in(folder).map_err(io)?;
        file.write_all(&key).map_err(io)?;
        file.as_file().sync_all().map_err(io)?;
        match file.persist_noclobber(&path) {
            Ok(_) => Ok(key),
            Err(error) => match self.read()? {
                Some(key) => Ok(key),
                // One that is cut short marks nothing: it is written anew.
                None => error.file.persist(&path).map(|_| key).map_err(|error| io(error.error)),
            },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_mark_holds_for_its_content_and_key_only() {
        let (one, two) = (tempfile::tempdir().expect("a folder"), tempfile::tempdir().expect("a folder"));
        let (mine, other) = (KeyFile::in_folder(&one.path().join("new")), KeyFile::in_folder(two.path()));
        let mark = mine.sign(b"content").expect("a mark");
        assert_eq!(mine.sign(b"content").expect("a mark"), mark);
        assert!(mine.verifies(b"content", &mark).expect("read"));
        assert!(!mine.verifies(b"contents", &mark).expect("read"));
        assert!(!mine.verifies(b"content", "").expect("read"));
        assert!(!other.verifies(b"content", &mark).expect("there is no key yet"));
        assert_ne!(other.sign(b"content").expect("a mark"), mark);
    }

    #[test]
    fn a_key_that_is_cut_short_is_made_anew() {
        let folder = tempfile::tempdir().expect("a folder");
        std::fs::write(folder.path().join(FILE), "short").expect("written");
        let mine = KeyFile::in_folder(folder.path());
        let mark = mine.sign(b"x").expect("a mark");
        assert!(mine.verifies(b"x", &mark).expect("read"));
    }
}
