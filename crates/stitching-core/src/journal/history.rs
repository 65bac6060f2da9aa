//! The changes that can be undone and redone.

use super::roots::{Roots, Target};
use super::transaction::{Content, Expected, Operation};
use crate::Error;
use crate::changes::{Change, DiskChange, Step};
use crate::layers::{DirHandle, Fingerprint, MAX_FILE};
use crate::text::Patch;
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};
use std::time::{SystemTime, UNIX_EPOCH};

/// The folder of the history, within the tool's own.
const FOLDER: &str = "history";
/// The file in it that tells how many changes are in force.
const POSITION: &str = "position.json";

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
    /// What was asked for, where that is known.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub steps: Vec<Step>,
    /// The files it touched.
    pub files: Vec<FileEntry>,
    /// The folders of the mod that it made, the outermost first.
    #[serde(default)]
    pub folders_made: Vec<String>,
    /// The folders of the mod that it removed if nothing was left in them, the outermost first.
    #[serde(default)]
    pub folders_removed: Vec<String>,
}

impl Entry {
    /// How many files of the mod it touched: those of the tool's own do not count.
    pub fn files_of_mod(&self) -> usize {
        self.files.iter().filter(|file| !file.is_own).count()
    }
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

/// An operation that keeps the bytes of the file at `target`, which will be removed.
pub(super) fn keep(target: Target, fingerprint: &Fingerprint) -> Operation {
    let content = Content::OfTarget(target.clone(), Patch::default());
    Operation::new(kept(fingerprint), content, Some(fingerprint.clone()), Expected::Anything)
        .like(target, true)
}

/// Where the bytes of a file that was removed are kept.
pub(super) fn kept(fingerprint: &Fingerprint) -> Target {
    Target::own(format!("{FOLDER}/kept/{}", fingerprint.hex()))
}

#[derive(Debug, Default, Serialize, Deserialize)]
struct Position {
    in_force: usize,
    made: usize,
}

/// The history on disk.
pub(super) struct History {
    /// The folder of the history; `None` if there is none yet.
    folder: Option<DirHandle>,
    /// Where it lies, for messages.
    path: PathBuf,
    position: Position,
}

impl History {
    pub fn open(roots: &Roots) -> Result<History, Error> {
        let path = roots.own_path().join(FOLDER);
        let io = |source| Error::io("read", &path, source);
        let own = roots.own()?;
        let folder = match own.map(|own| own.child(FOLDER)) {
            Some(Err(error)) if error.kind() == std::io::ErrorKind::NotFound => None,
            other => other.transpose().map_err(io)?,
        };
        let mut history = History { folder, path, position: Position::default() };
        if let Some(folder) = &history.folder {
            let place = history.path.join(POSITION);
            let bytes =
                folder.read(POSITION, MAX_FILE).map_err(|source| Error::io("read", &place, source))?;
            if let Some(bytes) = bytes {
                history.position = serde_json::from_slice(&bytes).map_err(|_| damaged(&place))?;
            }
            // A number that is made up costs nothing: no more changes can be in it than there are files.
            let Position { in_force, made } = history.position;
            let io = |source| Error::io("list", &history.path, source);
            let files = if made > 0 { folder.dir().entries().map_err(io)?.count() } else { 0 };
            if in_force > made || made > files {
                return Err(damaged(&place));
            }
        }
        Ok(history)
    }

    /// The entry for a change that is about to be made.
    pub fn next(&self, change: &Change, files: Vec<FileEntry>) -> Entry {
        let time = SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs());
        Entry {
            number: self.position.in_force + 1,
            time,
            title: change.title().to_owned(),
            values: change.values(),
            steps: change.steps().to_vec(),
            files,
            folders_made: Vec::new(),
            folders_removed: Vec::new(),
        }
    }

    /// What writes `entry`, and drops the changes that were undone before it.
    pub fn add(&self, entry: Entry) -> Result<Vec<Operation>, Error> {
        let mut operations = Vec::new();
        for number in entry.number + 1..=self.position.made {
            operations.push(Operation::delete(target(&name(number)), Expected::Anything));
        }
        let bytes = serde_json::to_vec(&entry)
            .map_err(|error| Error::refused(error.to_string(), "nothing was changed"))?;
        operations.push(Operation::write(target(&name(entry.number)), bytes, Expected::Anything));
        operations.push(self.position(entry.number, entry.number));
        Ok(operations)
    }

    /// What makes the first `in_force` changes those in force.
    pub fn set_position(&self, in_force: usize) -> Operation {
        self.position(in_force, self.position.made)
    }

    fn position(&self, in_force: usize, made: usize) -> Operation {
        let bytes = serde_json::to_vec(&Position { in_force, made }).unwrap_or_default();
        Operation::write(target(POSITION), bytes, Expected::Anything)
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

    /// The `most` latest changes in force, the last one first.
    pub fn latest(&self, most: usize) -> impl Iterator<Item = Result<Entry, Error>> {
        (1..=self.position.in_force).rev().take(most).map(|number| self.read(number))
    }

    pub fn items(&self) -> Result<Vec<HistoryItem>, Error> {
        let item =
            |number| Ok(HistoryItem { entry: self.read(number)?, undone: number > self.position.in_force });
        (1..=self.position.made).map(item).collect()
    }

    /// The change with this number.
    pub fn entry(&self, number: usize) -> Result<Entry, Error> {
        self.read(number)
    }

    fn read(&self, number: usize) -> Result<Entry, Error> {
        let path = self.path.join(name(number));
        let bytes = match &self.folder {
            Some(folder) => folder.read(&name(number), MAX_FILE),
            None => Ok(None),
        };
        let bytes =
            bytes.map_err(|source| Error::io("read", &path, source))?.ok_or_else(|| damaged(&path))?;
        let entry: Entry = serde_json::from_slice(&bytes).map_err(|_| damaged(&path))?;
        if entry.number == number { Ok(entry) } else { Err(damaged(&path)) }
    }
}

/// A file of the history.
fn target(name: &str) -> Target {
    Target::own(format!("{FOLDER}/{name}"))
}

fn name(number: usize) -> String {
    format!("{number:06}.json")
}

fn damaged(path: &Path) -> Error {
    Error::refused(
        format!("the history file `{}` cannot be understood", path.display()),
        "it was damaged; without `.stitching/history` the project works on, but earlier changes cannot be undone",
    )
}
