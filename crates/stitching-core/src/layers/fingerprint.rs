//! Knowing whether a file is still what it was.

use super::Archive;
use crate::text::Patch;
use serde::{Deserialize, Serialize};
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;

/// What the bytes of a file are known by.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Fingerprint {
    /// The hash of all bytes.
    Bytes(String),
    /// The hash of an archive's size and central directory, which has the checksum of each entry: so that
    /// gigabytes need not be read to see that none of them changed.
    Archive(String),
}

impl Fingerprint {
    /// That of a file with these bytes.
    pub fn of_bytes(hash: blake3::Hash) -> Fingerprint {
        Fingerprint::Bytes(hash.to_hex().to_string())
    }

    /// That of an archive of `size` bytes whose directory, with all that follows it, is `directory`.
    pub fn of_archive(size: u64, directory: &[u8]) -> Fingerprint {
        let mut hasher = blake3::Hasher::new();
        hasher.update(&size.to_le_bytes()).update(directory);
        Fingerprint::Archive(hasher.finalize().to_hex().to_string())
    }

    /// That of an archive of `size` bytes after `patch`, whose last splice is the directory.
    pub fn after(size: u64, patch: &Patch) -> Fingerprint {
        let directory = patch.splices.last().map(|splice| splice.bytes.as_slice()).unwrap_or_default();
        Fingerprint::of_archive(patch.size_after(size), directory)
    }

    /// The fingerprint, of the same kind, of the file at `path`; `None` if there is none, or none that is
    /// still of that kind.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn now(&self, path: &Path) -> io::Result<Option<Fingerprint>> {
        let read = match self {
            Fingerprint::Bytes(_) => {
                std::fs::read(path).map(|bytes| Some(Fingerprint::of_bytes(blake3::hash(&bytes))))
            }
            Fingerprint::Archive(_) => of_archive_at(path),
        };
        match read {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(error) if error.kind() == io::ErrorKind::InvalidData => Ok(None),
            other => other,
        }
    }

    /// Whether it is that of an archive.
    pub fn is_archive(&self) -> bool {
        matches!(self, Fingerprint::Archive(_))
    }

    /// The hash in hexadecimal.
    pub fn hex(&self) -> &str {
        match self {
            Fingerprint::Bytes(hex) | Fingerprint::Archive(hex) => hex,
        }
    }
}

fn of_archive_at(path: &Path) -> io::Result<Option<Fingerprint>> {
    let archive = Archive::open(path, None, &mut |_, _| {})?;
    let mut file = std::fs::File::open(path)?;
    file.seek(SeekFrom::Start(archive.directory()))?;
    let mut directory = Vec::new();
    file.read_to_end(&mut directory)?;
    Ok(Some(Fingerprint::of_archive(archive.size, &directory)))
}
