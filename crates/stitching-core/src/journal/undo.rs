//! Taking a change of the history back, and making it again: each file is brought from what it was after the change to
//! what it was before, or the other way round.

use super::Journal;
use super::history::{self, Entry, FileEntry, History};
use super::pending::Folders;
use super::roots::{Root, Target};
use super::transaction::{self, Content, Expected, Operation};
use crate::Error;
use crate::layers::{Fingerprint, MAX_FILE, RelPath};
use crate::text::Patch;
use std::sync::Arc;

/// A change that was undone, or made again.
#[derive(Debug, Clone)]
pub struct Turned {
    /// What it was.
    pub entry: Entry,
    /// The files, by their paths in the mod, that were changed since and therefore left as they are.
    pub left: Vec<String>,
}

/// What to do with files that were changed since the change that is to be undone or made again.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ChangedSince {
    /// Nothing is done at all.
    Refuse,
    /// They stay as they are, and the rest is done.
    Leave,
}

/// Whether a change is taken back or made again.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Way {
    Undo,
    Redo,
}

impl Way {
    fn verb(self) -> &'static str {
        match self {
            Way::Undo => "undo",
            Way::Redo => "redo",
        }
    }
}

impl Journal<'_> {
    /// Brings each file of `entry` from one side to the other, as `sides` tells them.
    pub(super) fn turn(
        &self,
        history: &History,
        entry: Entry,
        in_force: usize,
        changed: ChangedSince,
        way: Way,
        sides: impl Fn(&FileEntry) -> (Side<'_>, Side<'_>, &Patch),
    ) -> Result<Turned, Error> {
        let (mut operations, mut left) = (Vec::new(), Vec::new());
        for file in &entry.files {
            let root = if file.is_own { Root::Own } else { Root::Mod };
            let (is, to_be, patch) = sides(file);
            match self.turn_one(root, is, to_be, patch)? {
                Some(own) => operations.extend(own),
                None => left.push(is.path.or(to_be.path).unwrap_or_default().to_owned()),
            }
        }
        if !left.is_empty() && changed == ChangedSince::Refuse {
            return Err(Error::ChangedSince { title: entry.title, files: left });
        }
        operations.push(history.set_position(in_force));
        let (made, removed) = match way {
            Way::Undo => (&entry.folders_removed, &entry.folders_made),
            Way::Redo => (&entry.folders_made, &entry.folders_removed),
        };
        let mut folders = Folders::default();
        for path in made {
            let target = Target::new(Root::Mod, &rel(path)?);
            if !self.roots.is_there(&target)? {
                folders.made.extend(self.roots.missing_folders(&target)?);
                folders.made.push(target);
            }
        }
        folders.made.sort();
        folders.made.dedup();
        for path in removed {
            folders.removed.push(Target::new(Root::Mod, &rel(path)?));
        }
        transaction::run(self, &format!("{} {}", way.verb(), entry.title), operations, folders)?;
        Ok(Turned { entry, left })
    }

    /// What turns a file that is at one path, with one content, into what it is to be; `None` if it was changed
    /// since. A file that is to vanish is kept; one that is to appear was kept.
    fn turn_one(
        &self,
        root: Root,
        is: Side<'_>,
        to_be: Side<'_>,
        patch: &Patch,
    ) -> Result<Option<Vec<Operation>>, Error> {
        let target = |path: &str| Ok::<Target, Error>(Target::new(root, &rel(path)?));
        let mut operations = Vec::new();
        let now = match is.file() {
            Some((path, fingerprint)) => {
                let target = target(path)?;
                if !self.is(&target, fingerprint)? {
                    return Ok(None);
                }
                Some((target, fingerprint))
            }
            None => None,
        };
        match (to_be.file(), &now) {
            (Some((path, after)), Some((from, before))) => {
                let to = target(path)?;
                let content = self.patched(from, patch, after)?;
                let stays = to == *from;
                let expected = if stays { Expected::Is((*before).clone()) } else { Expected::Absent };
                if !stays && self.exists(&to)? {
                    return Ok(None);
                }
                let write = Operation::new(to, content, Some(after.clone()), expected);
                operations.push(write.like(from.clone(), !stays && patch.splices.is_empty()));
            }
            (Some((path, after)), None) => {
                let to = target(path)?;
                if self.exists(&to)? {
                    return Ok(None);
                }
                let kept = history::kept(after);
                if !self.is(&kept, after)? {
                    return Err(self.damaged(path));
                }
                let content = Content::OfTarget(kept.clone(), Patch::default());
                let write = Operation::new(to, content, Some(after.clone()), Expected::Absent);
                operations.push(write.like(kept, true));
            }
            (None, Some((from, before))) => operations.push(history::keep(from.clone(), before)),
            (None, None) => {}
        }
        if let Some((from, before)) = now
            && to_be.path != is.path
        {
            operations.push(Operation::delete(from, Expected::Is(before.clone())));
        }
        Ok(Some(operations))
    }

    /// The bytes of the file at `from` with `patch`, which must come out as `after` tells.
    fn patched(&self, from: &Target, patch: &Patch, after: &Fingerprint) -> Result<Content, Error> {
        if after.is_archive() {
            return Ok(Content::OfTarget(from.clone(), patch.clone()));
        }
        let slot = self.roots.existing_slot(from)?;
        let bytes = slot.folder.read(&slot.name, MAX_FILE);
        let bytes = bytes.map_err(|source| Error::io("read", slot.path(), source))?.unwrap_or_default();
        let bytes = patch.apply(&bytes).ok_or_else(|| self.damaged(&from.path))?;
        if Fingerprint::of_bytes(blake3::hash(&bytes)) != *after {
            return Err(self.damaged(&from.path));
        }
        Ok(Content::Bytes(Arc::new(bytes)))
    }

    /// Whether a target is the file that `fingerprint` tells.
    fn is(&self, target: &Target, fingerprint: &Fingerprint) -> Result<bool, Error> {
        match self.roots.slot(target)? {
            Some(slot) => {
                slot.is(&slot.name, fingerprint).map_err(|source| Error::io("read", slot.path(), source))
            }
            None => Ok(false),
        }
    }

    fn exists(&self, target: &Target) -> Result<bool, Error> {
        match self.roots.slot(target)? {
            Some(slot) => slot.exists().map_err(|source| Error::io("read", slot.path(), source)),
            None => Ok(false),
        }
    }

    pub(super) fn damaged(&self, path: &str) -> Error {
        Error::refused(
            format!("the history does not fit `{path}`: it was damaged"),
            format!("nothing was changed; the history is in `{}`", self.roots.own_path().display()),
        )
    }
}

/// A file before, or after, a change of the history.
#[derive(Debug, Clone, Copy)]
pub(super) struct Side<'e> {
    path: Option<&'e str>,
    fingerprint: Option<&'e Fingerprint>,
}

impl<'e> Side<'e> {
    /// The path and the fingerprint, where the file is there.
    fn file(&self) -> Option<(&'e str, &'e Fingerprint)> {
        self.path.zip(self.fingerprint)
    }
}

impl FileEntry {
    pub(super) fn before_side(&self) -> Side<'_> {
        Side { path: self.from.as_deref(), fingerprint: self.before.as_ref() }
    }

    pub(super) fn after_side(&self) -> Side<'_> {
        Side { path: self.to.as_deref(), fingerprint: self.after.as_ref() }
    }
}

pub(super) fn rel(path: &str) -> Result<RelPath, Error> {
    RelPath::parse(path).map_err(|error| {
        Error::refused(
            format!("the history names a path that cannot be: {error}"),
            "it was damaged; nothing was changed",
        )
    })
}
