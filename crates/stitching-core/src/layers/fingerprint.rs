//! Knowing whether a file is still what it was.

use super::Archive;
use crate::text::Patch;
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::path::Path;

/// What the bytes of a file are known by.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
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

    /// The fingerprint, of the same kind, of an open file; `None` if it is none of that kind any more.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn of_open(&self, file: &mut File) -> io::Result<Option<Fingerprint>> {
        let read = match self {
            Fingerprint::Bytes(_) => {
                let mut hasher = blake3::Hasher::new();
                hasher.update_reader(file).map(|hasher| Some(Fingerprint::of_bytes(hasher.finalize())))
            }
            Fingerprint::Archive(_) => of_open_archive(file).map(Some),
        };
        match read {
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

fn of_open_archive(file: &mut File) -> io::Result<Fingerprint> {
    let archive = Archive::of_reader(file, Path::new(""), None, &mut |_, _| {})?;
    file.seek(SeekFrom::Start(archive.directory()))?;
    let mut directory = Vec::new();
    file.read_to_end(&mut directory)?;
    Ok(Fingerprint::of_archive(archive.size, &directory))
}
