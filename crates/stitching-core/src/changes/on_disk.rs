//! What a change does to the files on disk: entries of archives are gathered by archive.

use super::change::{Change, FileChange, OwnChange, Source};
use crate::Error;
use crate::layers::{Archive, EntryChange, Fingerprint, RelPath, Stack};
use crate::text::{Patch, Splice};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

/// A file on disk before and after. Paths are within the mod layer (its folder, or that of its archive).
#[derive(Debug, Clone, Default)]
pub struct DiskChange {
    /// Whether the file is one of the tool's own, in its folder.
    pub is_own: bool,
    /// The path before; `None` if it is new.
    pub from: Option<RelPath>,
    /// The path after; `None` if it goes.
    pub to: Option<RelPath>,
    /// What it was known by.
    pub before: Option<Fingerprint>,
    /// What it will be known by.
    pub after: Option<Fingerprint>,
    /// What is done to the bytes.
    pub redo: Patch,
    /// What undoes that.
    pub undo: Patch,
    /// Where the new bytes come from.
    pub content: DiskContent,
    /// Another file that goes into this one, whose permissions and time this one gets: whether it is one of the tool's
    /// own, and its path.
    pub like: Option<(bool, RelPath)>,
}

/// Where the new bytes of a file come from.
#[derive(Debug, Clone, Default)]
pub enum DiskContent {
    /// They are here.
    Bytes(Arc<Vec<u8>>),
    /// They are those of the file at this place, with [`DiskChange::redo`] made.
    Patched(PathBuf),
    /// There are none: the file goes.
    #[default]
    Nothing,
}

impl DiskChange {
    fn own(own: &OwnChange) -> Result<DiskChange, Error> {
        let path = RelPath::parse(&own.name)
            .map_err(|error| Error::refused(error.to_string(), "nothing was changed"))?;
        let whole = |before: &[u8], after: &[u8]| Patch {
            splices: vec![Splice { start: 0, end: before.len() as u64, bytes: after.to_vec() }],
        };
        let known_by = |bytes: &Vec<u8>| Fingerprint::of_bytes(blake3::hash(bytes));
        // A file that appears or goes is kept whole in another way.
        let (redo, undo) = match (&own.before, &own.after) {
            (Some(before), Some(after)) => (whole(before, after), whole(after, before)),
            _ => (Patch::default(), Patch::default()),
        };
        Ok(DiskChange {
            is_own: true,
            from: own.before.as_ref().map(|_| path.clone()),
            to: own.after.as_ref().map(|_| path),
            before: own.before.as_ref().map(known_by),
            after: own.after.as_ref().map(known_by),
            redo,
            undo,
            content: match &own.after {
                Some(bytes) => DiskContent::Bytes(Arc::new(bytes.clone())),
                None => DiskContent::Nothing,
            },
            like: own.like.clone().map(|path| (false, path)),
        })
    }

    fn plain(file: &FileChange) -> DiskChange {
        DiskChange {
            is_own: false,
            from: file.from.clone(),
            to: file.to.clone(),
            before: file.from.as_ref().map(|_| Fingerprint::of_bytes(file.before_hash)),
            after: file.to.as_ref().map(|_| Fingerprint::of_bytes(file.after_hash)),
            redo: file.redo.clone(),
            undo: file.undo.clone(),
            content: match file.to {
                Some(_) => DiskContent::Bytes(Arc::clone(&file.after)),
                None => DiskContent::Nothing,
            },
            like: file.like_own.as_ref().and_then(|own| Some((true, RelPath::parse(own).ok()?))),
        }
    }

    fn removed(file: &FileChange) -> DiskChange {
        let before = Some(Fingerprint::of_bytes(file.before_hash));
        DiskChange { from: file.from.clone(), before, ..DiskChange::default() }
    }
}

/// What becomes of one archive.
struct ArchiveChange {
    archive: Arc<Archive>,
    /// The path that it gets in the mod, if it is one of the base that comes up whole.
    new: Option<RelPath>,
    changes: Vec<(usize, EntryChange)>,
    added: Vec<(RelPath, Vec<u8>)>,
}

impl ArchiveChange {
    fn of(archive: &Arc<Archive>, new: Option<RelPath>) -> ArchiveChange {
        ArchiveChange { archive: Arc::clone(archive), new, changes: Vec::new(), added: Vec::new() }
    }

    fn change(&mut self, inner: &RelPath, change: EntryChange) {
        if let Some(index) = self.archive.find(inner) {
            self.changes.push((index, change));
        }
    }

    fn put(&mut self, inner: RelPath, bytes: Vec<u8>) {
        match self.archive.find(&inner) {
            Some(index) => self.changes.push((index, EntryChange::Replace(bytes))),
            None => self.added.push((inner, bytes)),
        }
    }

    fn on_disk(self, root: Option<&RelPath>) -> Result<DiskChange, Error> {
        let archive = &self.archive;
        let place = &archive.file;
        let io = |source: std::io::Error| match source.kind() {
            std::io::ErrorKind::InvalidData => Error::refused(
                format!("the archive `{}` is not written: {source}", place.display()),
                "pack it anew with another program and run the command again; nothing was changed",
            ),
            _ => Error::io("read", place, source),
        };
        let redo = archive.patch(&self.changes, &self.added).map_err(io)?;
        let path = self.new.clone().or_else(|| archive.path.clone()).or_else(|| root.cloned());
        let path = path.ok_or_else(|| Error::refused("the archive has no name", "nothing was changed"))?;
        let after = Some(Fingerprint::after(archive.size, &redo));
        let content = DiskContent::Patched(place.clone());
        let new = DiskChange { to: Some(path.clone()), after, redo, content, ..DiskChange::default() };
        if self.new.is_some() {
            return Ok(new);
        }
        let undo = archive.reversed(&new.redo).map_err(io)?;
        let before = Some(Fingerprint::after(new.redo.size_after(archive.size), &undo));
        Ok(DiskChange { from: Some(path), before, undo, ..new })
    }
}

/// An entry of an archive that lies in the folder of a base layer comes up with the whole archive, since
/// the mod's archive takes the place of that of the base.
fn brought_up(stack: &Stack, file: &FileChange) -> Option<(Arc<Archive>, RelPath, Option<RelPath>)> {
    let Source::CopyOf(source) = file.source else { return None };
    let (archive, _) = stack.archive_of(source)?;
    let own = archive.path.as_ref()?;
    let inner = file.to.as_ref()?.as_str().strip_prefix(own.as_str())?.strip_prefix('/')?;
    Some((Arc::clone(archive), RelPath::parse(inner).ok()?, Some(own.clone())))
}

impl Change {
    /// What becomes of the files on disk: those that are entries of archives are gathered by archive.
    ///
    /// # Errors
    /// When an archive cannot be read, or is of a kind that is not written.
    pub fn on_disk(&self, stack: &Stack) -> Result<Vec<DiskChange>, Error> {
        let mut out = Vec::new();
        let mut archives: BTreeMap<PathBuf, ArchiveChange> = BTreeMap::new();
        for file in &self.files {
            let in_archive = |path: &Option<RelPath>| path.as_ref().and_then(|path| stack.mod_archive(path));
            let from = in_archive(&file.from);
            let to = match in_archive(&file.to) {
                Some(found) => Some((Arc::clone(found.0), found.1, None)),
                None => brought_up(stack, file),
            };
            match (from, to) {
                (None, None) => out.push(DiskChange::plain(file)),
                (Some((a, inner)), Some((b, target, _))) if a.file == b.file => {
                    let change = if inner == target {
                        EntryChange::Replace(file.after.to_vec())
                    } else {
                        let bytes = (!file.edits.is_empty()).then(|| file.after.to_vec());
                        EntryChange::Move(target, bytes)
                    };
                    archives
                        .entry(a.file.clone())
                        .or_insert_with(|| ArchiveChange::of(a, None))
                        .change(&inner, change);
                }
                (from, to) => {
                    match to {
                        Some((archive, inner, new)) => archives
                            .entry(archive.file.clone())
                            .or_insert_with(|| ArchiveChange::of(&archive, new))
                            .put(inner, file.after.to_vec()),
                        None if file.to.is_some() => {
                            out.push(DiskChange { from: None, before: None, ..DiskChange::plain(file) });
                        }
                        None => {}
                    }
                    match from {
                        Some((archive, inner)) => archives
                            .entry(archive.file.clone())
                            .or_insert_with(|| ArchiveChange::of(archive, None))
                            .change(&inner, EntryChange::Remove),
                        None if file.from.is_some() => out.push(DiskChange::removed(file)),
                        None => {}
                    }
                }
            }
        }
        let root = stack.mod_root();
        let own = root.as_ref().and_then(|root| root.archive());
        for (_, change) in archives {
            out.push(change.on_disk(own)?);
        }
        for own in &self.own {
            out.push(DiskChange::own(own)?);
        }
        Ok(out)
    }
}
