//! The changes that can be undone and redone.

use super::target::Target;
use super::transaction::{Content, Expected, Operation};
use crate::Error;
use crate::changes::{Change, DiskChange};
use crate::layers::Fingerprint;
use crate::text::Patch;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

/// The folder of the history, within the tool's own.
const FOLDER: &str = "history";
/// The file that tells how many changes are in force.
const POSITION: &str = "history/position.json";

/// A change in the history.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct Entry {
    /// 1 for the first change.
    pub number: usize,
    /// When it was made, in seconds since 1970-01-01 UTC.
    pub time: u64,
    /// What it does.
    pub title: String,
    /// How many values it rewrote.
    pub values: usize,
    /// The files it touched.
    pub files: Vec<FileEntry>,
}

/// One file in a change of the history; paths are within the mod layer.
#[derive(Debug, Clone, Serialize, Deserialize)]
pub struct FileEntry {
    /// Whether the file is one of the tool's own; its paths are within the tool's folder then.
    #[serde(default)]
    pub is_own: bool,
    /// The path before; `None` if the change made the file.
    pub from: Option<String>,
    /// The path after; `None` if the change removed the file.
    pub to: Option<String>,
    /// What the file was known by before.
    pub before: Option<Fingerprint>,
    /// What it was known by after.
    pub after: Option<Fingerprint>,
    /// What turns the bytes after into those before.
    pub undo: Patch,
    /// What turns the bytes before into those after.
    pub redo: Patch,
}

/// A change as `stitching history` lists it.
#[derive(Debug, Clone)]
pub struct HistoryItem {
    /// The change.
    pub entry: Entry,
    /// Whether it was undone.
    pub undone: bool,
}

impl FileEntry {
    pub(super) fn new(file: &DiskChange) -> FileEntry {
        let both = file.before.is_some() && file.after.is_some();
        let patch = |patch: &Patch| if both { patch.clone() } else { Patch::default() };
        FileEntry {
            is_own: file.is_own,
            from: file.from.as_ref().map(ToString::to_string),
            to: file.to.as_ref().map(ToString::to_string),
            before: file.before.clone(),
            after: file.after.clone(),
            undo: patch(&file.undo),
            redo: patch(&file.redo),
        }
    }
}

/// An operation that keeps the bytes of the file at `place`, which will be removed.
pub(super) fn keep(place: &Path, fingerprint: &Fingerprint) -> Operation {
    let name = format!("{FOLDER}/kept/{}", fingerprint.hex());
    let content = Content::Patched(place.to_owned(), Patch::default());
    Operation::new(Target::own(name), content, Some(fingerprint.clone()), Expected::Anything)
}

/// Where the bytes of a file that was removed are kept.
pub(super) fn kept(own: &Path, fingerprint: &Fingerprint) -> PathBuf {
    own.join(FOLDER).join("kept").join(fingerprint.hex())
}

#[derive(Debug, Default, Serialize, Deserialize)]
struct Position {
    in_force: usize,
    made: usize,
}

/// The history on disk.
pub(super) struct History {
    own: PathBuf,
    position: Position,
}

impl History {
    pub fn open(own: &Path) -> Result<History, Error> {
        let path = own.join(POSITION);
        let position = match std::fs::read(&path) {
            Ok(bytes) => serde_json::from_slice(&bytes).map_err(|_| damaged(&path))?,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Position::default(),
            Err(source) => return Err(Error::io("read", &path, source)),
        };
        Ok(History { own: own.to_owned(), position })
    }

    /// The entry for a change that is about to be made.
    pub fn next(&self, change: &Change, files: Vec<FileEntry>) -> Entry {
        let time = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
        Entry {
            number: self.position.in_force + 1,
            time,
            title: change.title.clone(),
            values: change.values,
            files,
        }
    }

    /// What writes `entry`, and drops the changes that were undone before it.
    pub fn add(&self, entry: Entry) -> Result<Vec<Operation>, Error> {
        let mut operations = Vec::new();
        for number in entry.number + 1..=self.position.made {
            operations.push(Operation::delete(Target::own(name(number)), Expected::Anything));
        }
        let bytes = serde_json::to_vec(&entry)
            .map_err(|error| Error::refused(error.to_string(), "nothing was changed"))?;
        operations.push(Operation::write(Target::own(name(entry.number)), bytes, Expected::Anything));
        operations.push(self.position(entry.number, entry.number));
        Ok(operations)
    }

    /// What makes the first `in_force` changes those in force.
    pub fn set_position(&self, in_force: usize) -> Operation {
        self.position(in_force, self.position.made)
    }

    fn position(&self, in_force: usize, made: usize) -> Operation {
        let bytes = serde_json::to_vec(&Position { in_force, made }).unwrap_or_default();
        Operation::write(Target::own(POSITION), bytes, Expected::Anything)
    }

    /// The last change in force.
    pub fn last(&self) -> Result<Option<Entry>, Error> {
        if self.position.in_force == 0 { Ok(None) } else { self.read(self.position.in_force).map(Some) }
    }

    /// The change that was undone last.
    pub fn next_undone(&self) -> Result<Option<Entry>, Error> {
        let number = self.position.in_force + 1;
        if number > self.position.made { Ok(None) } else { self.read(number).map(Some) }
    }

    pub fn items(&self) -> Result<Vec<HistoryItem>, Error> {
        let item =
            |number| Ok(HistoryItem { entry: self.read(number)?, undone: number > self.position.in_force });
        (1..=self.position.made).map(item).collect()
    }

    fn read(&self, number: usize) -> Result<Entry, Error> {
        let path = self.own.join(name(number));
        let bytes = std::fs::read(&path).map_err(|source| Error::io("read", &path, source))?;
        serde_json::from_slice(&bytes).map_err(|_| damaged(&path))
    }
}

fn name(number: usize) -> String {
    format!("{FOLDER}/{number:06}.json")
}

fn damaged(path: &Path) -> Error {
    Error::refused(
        format!("the history file `{}` cannot be understood", path.display()),
        "it was damaged; without `.stitching/history` the project works on, but earlier changes cannot be undone",
    )
}
