//! The record of a change under way: `pending.json`, from which the next start finishes it or takes it back.
//!
//! Once all is in place the record is renamed to `cleaning-ID.json`: what is still to be done is to remove temporary
//! files, and that may fail for long without keeping anybody from the next change. A rename needs no space on the disk.

use super::Journal;
use super::roots::{Slot, Target};
use crate::Error;
use crate::layers::{DirHandle, Fingerprint};
use serde::{Deserialize, Serialize};
use std::io::Write;
use std::path::PathBuf;

/// The record, in the tool's own folder.
const PENDING: &str = "pending.json";
/// The name it is written under before it takes the place of the one before.
const UNFINISHED: &str = "pending.new";
/// What the names of records begin with whose change is made.
const CLEANING: &str = "cleaning-";
/// A record is never larger; in bytes.
const LARGEST: u64 = 1 << 30;

/// Names of the files that are there only while a change is written begin like this.
const TEMPORARY: &str = ".stitching-";

/// How far a change has come.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) enum Phase {
    /// New files are written under temporary names. A crash takes everything back.
    Staging,
    /// The change is made: what a crash leaves is finished.
    Committing,
    /// Something failed while committing: what was there before is put back.
    TakingBack,
}

/// What is done to one file.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Item {
    pub target: Target,
    /// What was there before; `None` if nothing was.
    pub before: Option<Fingerprint>,
    /// What is to be there; `None` to delete it.
    pub after: Option<Fingerprint>,
    /// Folders that had to be made, the outermost first.
    pub made: Vec<Target>,
}

/// A change under way.
#[derive(Debug, Serialize, Deserialize)]
pub(super) struct Pending {
    /// What it does, for messages.
    pub title: String,
    /// Hexadecimal digits that nobody can foresee, in the names of all its temporary files.
    pub id: String,
    pub phase: Phase,
    pub items: Vec<Item>,
    /// Folders that are made or removed by themselves.
    #[serde(default)]
    pub folders: Folders,
}

/// Folders that a change makes or removes by themselves; the outermost first.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Folders {
    /// Those that were not there.
    pub made: Vec<Target>,
    /// Those that go, if nothing is left in them.
    pub removed: Vec<Target>,
}

/// What `pending.json` was found to be.
pub(super) enum Found {
    Nothing,
    Pending(Pending),
    /// It does not bear this user's mark.
    Foreign(PathBuf),
}

#[derive(Serialize, Deserialize)]
struct Signed {
    mark: String,
    /// The [`Pending`], as the text that the mark is of.
    change: String,
}

impl Pending {
    pub fn new(title: &str, items: Vec<Item>, folders: Folders) -> Result<Pending, Error> {
        let mut random = [0; 8];
        getrandom::fill(&mut random).map_err(|error| {
            Error::refused(format!("there are no random numbers: {error}"), "nothing was changed")
        })?;
        let id = format!("{:016x}", u64::from_le_bytes(random));
        Ok(Pending { title: title.to_owned(), id, phase: Phase::Staging, items, folders })
    }

    /// The temporary name, beside the target, of the new bytes of the item with this number.
    pub fn staged(&self, number: usize) -> String {
        format!("{TEMPORARY}{}-{number}.new", self.id)
    }

    /// The temporary name, beside the target, of what had the target's name before.
    pub fn old(&self, number: usize) -> String {
        format!("{TEMPORARY}{}-{number}.old", self.id)
    }

    /// The items with their numbers and slots; without those whose folders are not there.
    pub fn slots(&self, journal: &Journal<'_>) -> Result<Vec<(usize, &Item, Slot)>, Error> {
        let mut out = Vec::with_capacity(self.items.len());
        for (number, item) in self.items.iter().enumerate() {
            if let Some(slot) = journal.roots.slot(&item.target)? {
                out.push((number, item, slot));
            }
        }
        Ok(out)
    }

    /// Writes the record so that it is there whole or not at all.
    pub fn write(&self, own: &DirHandle, journal: &Journal<'_>) -> Result<(), Error> {
        let path = own.path().join(PENDING);
        let io = |source| Error::io("write", &path, source);
        let change = serde_json::to_string(self).map_err(|error| io(error.into()))?;
        let mark = journal.key.sign(change.as_bytes())?;
        let bytes = serde_json::to_vec(&Signed { mark, change }).map_err(|error| io(error.into()))?;
        let disk = &journal.disk;
        disk.remove_file(own, UNFINISHED).map_err(io)?;
        let mut file = disk.create_file(own, UNFINISHED).map_err(io)?;
        file.write_all(&bytes).map_err(io)?;
        file.sync().map_err(io)?;
        disk.rename(own, UNFINISHED, PENDING).map_err(io)?;
        disk.sync_folder(own).map_err(io)
    }

    /// Whether there is a record, or the beginning of one.
    pub fn is_there(own: &DirHandle) -> Result<bool, Error> {
        let there = |name| own.kind(name).map_err(|source| Error::io("read", own.path().join(name), source));
        Ok(there(PENDING)?.is_some() || there(UNFINISHED)?.is_some() || !cleaning(own)?.is_empty())
    }

    /// From now on there is only forward: all is in place.
    pub fn begin_cleaning(&self, own: &DirHandle, journal: &Journal<'_>) -> Result<(), Error> {
        let io = |source| Error::io("write", own.path().join(self.cleaning()), source);
        journal.disk.rename(own, PENDING, &self.cleaning()).map_err(io)?;
        journal.disk.sync_folder(own).map_err(io)
    }

    fn cleaning(&self) -> String {
        format!("{CLEANING}{}.json", self.id)
    }

    /// The records of changes that are made, and whose temporary files are still to be removed.
    pub fn read_cleaning(own: &DirHandle, journal: &Journal<'_>) -> Result<Vec<Pending>, Error> {
        let mut out = Vec::new();
        for name in cleaning(own)? {
            if let Found::Pending(pending) = read(own, &name, journal)?
                && pending.cleaning() == name
            {
                out.push(pending);
            }
        }
        Ok(out)
    }

    /// Reads the record; the project lock must be held. One that was never finished is removed.
    pub fn read(own: &DirHandle, journal: &Journal<'_>) -> Result<Found, Error> {
        let unfinished = own.path().join(UNFINISHED);
        journal
            .disk
            .remove_file(own, UNFINISHED)
            .map_err(|source| Error::io("delete", &unfinished, source))?;
        read(own, PENDING, journal)
    }

    /// Removes the record: nothing is under way any more.
    pub fn remove(&self, own: &DirHandle, journal: &Journal<'_>) -> Result<(), Error> {
        remove(own, PENDING, journal)
    }

    /// Removes the record of a change that is made.
    pub fn end_cleaning(&self, own: &DirHandle, journal: &Journal<'_>) -> Result<(), Error> {
        remove(own, &self.cleaning(), journal)
    }
}

fn remove(own: &DirHandle, name: &str, journal: &Journal<'_>) -> Result<(), Error> {
    journal.disk.remove_file(own, name).map_err(|source| Error::io("delete", own.path().join(name), source))
}

/// The names of the records of changes that are made.
fn cleaning(own: &DirHandle) -> Result<Vec<String>, Error> {
    let io = |source| Error::io("list", own.path(), source);
    let mut out = Vec::new();
    for entry in own.dir().entries().map_err(io)? {
        let name = entry.map_err(io)?.file_name();
        out.extend(name.to_str().filter(|name| name.starts_with(CLEANING)).map(str::to_owned));
    }
    out.sort();
    Ok(out)
}

/// Reads the record `name`.
fn read(own: &DirHandle, name: &str, journal: &Journal<'_>) -> Result<Found, Error> {
    let path = own.path().join(name);
    let io = |source| Error::io("read", &path, source);
    let Some(bytes) = own.read(name, LARGEST).map_err(io)? else { return Ok(Found::Nothing) };
    // It is put in place by a rename, so it is there whole or not at all: what cannot be understood is not ours.
    let Ok(signed) = serde_json::from_slice::<Signed>(&bytes) else { return Ok(Found::Foreign(path)) };
    if !journal.key.verifies(signed.change.as_bytes(), &signed.mark)? {
        return Ok(Found::Foreign(path));
    }
    match serde_json::from_str::<Pending>(&signed.change) {
        Ok(pending) => Ok(Found::Pending(pending)),
        Err(error) => Err(Error::refused(
            format!("`{}` was written by another version of the program: {error}", path.display()),
            "run that version once, so that it finishes what it began",
        )),
    }
}
