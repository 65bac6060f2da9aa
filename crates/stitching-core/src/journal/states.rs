//! What the mod held before and after a change of the history.

use super::Journal;
use super::history::{self, Entry, FileEntry, History};
use super::roots::{Root, Target};
use super::undo::rel;
use crate::Error;
use crate::layers::{Fingerprint, MAX_FILE, RelPath};
use std::collections::BTreeMap;
use std::sync::Arc;

/// Files of the mod that are not as they are on the disk: their bytes, or that they are not there.
pub type FileStates = BTreeMap<RelPath, Option<Arc<Vec<u8>>>>;

/// A change of the history, with what the mod held before and after it.
#[derive(Debug, Clone)]
pub struct States {
    /// The change.
    pub entry: Entry,
    /// The files that were not as they are now before it.
    pub before: FileStates,
    /// The files that were not as they are now after it.
    pub after: FileStates,
    /// The archives that it touched. They count as they are now, before and after it.
    pub archives: Vec<String>,
}

/// Whether a file is an archive, of which only the difference is kept.
fn is_archive(file: &FileEntry) -> bool {
    [&file.before, &file.after].into_iter().flatten().any(Fingerprint::is_archive)
}

impl Journal<'_> {
    /// What the mod held before and after the change `number`, which must be in force. Nothing is written.
    ///
    /// Cost: the files that this change and the later ones touched are read and patched in memory.
    ///
    /// # Errors
    /// When there is no such change in force, one of the files was changed since by something else, or cannot be read.
    pub fn states(&self, number: usize) -> Result<States, Error> {
        let history = History::open(&self.roots)?;
        let last = history.last()?.map_or(0, |entry| entry.number);
        if number == 0 || number > last {
            return Err(Error::Usage {
                message: format!("there is no change {number} in force; the last one is {last}"),
                help: "name one by its number in the history".into(),
            });
        }
        let mut now = FileStates::new();
        for later in (number + 1..=last).rev() {
            self.take_back(&history.entry(later)?, &mut now)?;
        }
        let entry = history.entry(number)?;
        let after = now.clone();
        self.take_back(&entry, &mut now)?;
        let archives = entry.files.iter().filter(|file| is_archive(file));
        let archives = archives.filter_map(|file| file.to.clone().or_else(|| file.from.clone())).collect();
        Ok(States { entry, before: now, after, archives })
    }

    /// Brings `now` to what it was before `entry`.
    fn take_back(&self, entry: &Entry, now: &mut FileStates) -> Result<(), Error> {
        // All are looked at as they are after the change, which may have moved one to where another one was.
        let mut made = Vec::new();
        for file in entry.files.iter().filter(|file| !file.is_own && !is_archive(file)) {
            made.push(self.before(entry, file, now)?);
        }
        for (from, to, bytes) in made {
            if let Some(to) = to.filter(|to| from.as_ref() != Some(to)) {
                now.entry(to).or_insert(None);
            }
            if let Some(from) = from {
                now.insert(from, bytes);
            }
        }
        Ok(())
    }

    /// A file of `entry`: its path before and after, and its bytes before.
    #[expect(clippy::type_complexity, reason = "two paths and some bytes")]
    fn before(
        &self,
        entry: &Entry,
        file: &FileEntry,
        now: &mut FileStates,
    ) -> Result<(Option<RelPath>, Option<RelPath>, Option<Arc<Vec<u8>>>), Error> {
        let path = |path: &Option<String>| path.as_deref().map(rel).transpose();
        let (from, to) = (path(&file.from)?, path(&file.to)?);
        let shown = to.as_ref().or(from.as_ref()).map(ToString::to_string).unwrap_or_default();
        let is = |bytes: &[u8], print: &Option<Fingerprint>| {
            print.as_ref().is_some_and(|print| Fingerprint::of_bytes(blake3::hash(bytes)) == *print)
        };
        let changed = || Error::ChangedSince { title: entry.title.clone(), files: vec![shown.clone()] };
        let current = match &to {
            None => None,
            Some(to) => {
                let bytes = match now.get(to) {
                    Some(bytes) => bytes.clone(),
                    None => self.read(&Target::new(Root::Mod, to))?,
                };
                let bytes = bytes.filter(|bytes| is(bytes, &file.after)).ok_or_else(changed)?;
                // One that moves away leaves its place.
                now.insert(to.clone(), None);
                Some(bytes)
            }
        };
        let bytes = match (&from, &file.before, current) {
            (None, ..) | (_, None, _) => None,
            (Some(_), Some(_), Some(current)) => file.undo.apply(&current).map(Arc::new),
            (Some(_), Some(before), None) => self.read(&history::kept(before))?,
        };
        if from.is_some() && !bytes.as_ref().is_some_and(|bytes| is(bytes, &file.before)) {
            return Err(self.damaged(&shown));
        }
        Ok((from, to, bytes))
    }

    fn read(&self, target: &Target) -> Result<Option<Arc<Vec<u8>>>, Error> {
        let Some(slot) = self.roots.slot(target)? else { return Ok(None) };
        let bytes = slot.folder.read(&slot.name, MAX_FILE);
        Ok(bytes.map_err(|source| Error::io("read", slot.path(), source))?.map(Arc::new))
    }
}
