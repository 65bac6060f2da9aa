//! All edits of one command, applied together or not at all.

use crate::Error;
use crate::layers::{Archive, EntryChange, Fingerprint};
use crate::layers::{FileId, RelPath, Stack};
use crate::project::Project;
use crate::text::{EditSet, LineTable, Patch, Splice, Text, TextFault, round_trips};
use std::collections::BTreeMap;
use std::path::PathBuf;
use std::sync::Arc;

/// All edits of one command.
#[derive(Debug, Default)]
pub struct Change {
    /// What it does, as an order: "rename reaches:old_mill to new_mill".
    pub title: String,
    /// The files it touches, sorted by path.
    pub files: Vec<FileChange>,
    /// What changes in the tool's own folder with it.
    pub own: Vec<OwnChange>,
    /// What the user should know about it.
    pub notes: Vec<Note>,
    /// How many values are rewritten.
    pub values: usize,
}

/// A file of the tool's own that changes.
#[derive(Debug, Clone)]
pub struct OwnChange {
    /// Its name in the tool's own folder.
    pub name: String,
    /// Its bytes before, if it was there.
    pub before: Option<Vec<u8>>,
    /// Its bytes after.
    pub after: Vec<u8>,
}

/// Something the user should know about a change.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Note {
    /// A file of the base is copied into the mod, because it must be edited: its path and layer.
    BroughtUp(String, String),
    /// A record of the base, whose table counts together over all layers, got changed values in the mod:
    /// its address, and the path.
    Added(String, String),
    /// A record of a base layer is there under its old key too: its address.
    RecordStays(String),
    /// A piece of the file at this path is taken out and kept aside, since it cannot be made a note.
    KeptAside(String),
    /// A file is moved: from, to.
    Moved(String, String),
    /// A file of the base could not be moved and is still there under its old path.
    StaysInBase(String, String),
    /// Another record's key follows along: its address before and after.
    Follows(String, String),
}

/// One file before and after.
#[derive(Debug, Clone)]
pub struct FileChange {
    /// The file that is read.
    pub source: FileId,
    /// Its path.
    pub from: RelPath,
    /// The path in the mod that is written.
    pub to: RelPath,
    /// Whether the source lies in the mod; if not, it stays as it is and the mod gets a copy.
    pub in_mod: bool,
    /// The hash of the source as it was read.
    pub seen: blake3::Hash,
    /// What is replaced in its text.
    pub edits: EditSet,
    /// What that does to its bytes.
    pub redo: Patch,
    /// What undoes that.
    pub undo: Patch,
    /// The bytes after the edits.
    pub after: Arc<Vec<u8>>,
    /// Their hash.
    pub after_hash: blake3::Hash,
}

impl FileChange {
    /// The change of `file`, whose bytes are `before`, into the file at `to` of the mod. `text` is what was
    /// read of them; without it nothing is edited.
    ///
    /// # Errors
    /// When the file would not come back as it is, or its encoding does not have a character.
    pub fn new(
        project: &Project,
        file: FileId,
        to: &RelPath,
        before: &[u8],
        text: Option<&Text<'_>>,
        edits: EditSet,
    ) -> Result<FileChange, Error> {
        let entry = &project.stack.files()[file];
        let path = &entry.path;
        let broken = || Error::refused(format!("the edits do not fit `{path}`"), "run the command again");
        let redo = match text {
            None => Patch::default(),
            Some(text) => byte_patch(path, before, text, &edits)?,
        };
        let after = redo.apply(before).ok_or_else(broken)?;
        let undo = redo.reversed(before).ok_or_else(broken)?;
        Ok(FileChange {
            source: file,
            from: path.clone(),
            to: to.clone(),
            in_mod: project.stack.layers()[entry.layer].is_mod,
            seen: blake3::hash(before),
            edits,
            redo,
            undo,
            after_hash: blake3::hash(&after),
            after: Arc::new(after),
        })
    }
}

/// What `edits` do to the bytes of a file. Refuses what could not be read again as it was meant.
fn byte_patch(path: &RelPath, before: &[u8], text: &Text<'_>, edits: &EditSet) -> Result<Patch, Error> {
    let encoding = text.encoding();
    let name = encoding.name();
    if !round_trips(before, encoding) {
        return Err(Error::refused(
            format!("`{path}` would not come back byte for byte if it were edited as {name}"),
            "give its table the right `encoding`; nothing was changed",
        ));
    }
    let guessed = matches!(text.fault(), Some(TextFault::Guessed { .. }));
    let place = |at: usize| {
        let (line, column) = LineTable::new(text.as_str(), text.body()).line_column(text.as_str(), at as u32);
        format!("{path}:{line}:{column}")
    };
    let foreign = edits.edits().iter().find(|edit| !edit.text.is_ascii()).filter(|_| guessed);
    if let Some(edit) = foreign {
        let at = place(edit.span.start as usize);
        return Err(Error::refused(
            format!("{at}: `{}` is to be written, and that the file is in {name} is only a guess", edit.text),
            format!("write the encoding into the table: encoding = \"{name}\"; nothing was changed"),
        ));
    }
    encoding.patch(text.as_str(), edits).map_err(|wrong| {
        let code = u32::from(wrong.character);
        Error::refused(
            format!("{}: {name} has no character `{}` (U+{code:04X})", place(wrong.at), wrong.character),
            "choose other letters, or save the file as UTF-8 if the game reads that; nothing was changed",
        )
    })
}

/// A file on disk before and after. Paths are within the mod layer (its folder, or that of its archive).
#[derive(Debug, Clone)]
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
}

/// Where the new bytes of a file come from.
#[derive(Debug, Clone)]
pub enum DiskContent {
    /// They are here.
    Bytes(Arc<Vec<u8>>),
    /// They are those of the file at this place, with [`DiskChange::redo`] made.
    Patched(PathBuf),
    /// There are none: the file goes.
    Nothing,
}

impl DiskChange {
    fn own(own: &OwnChange) -> Result<DiskChange, Error> {
        let path = RelPath::parse(&own.name)
            .map_err(|error| Error::refused(error.to_string(), "nothing was changed"))?;
        let whole = |before: &[u8], after: &[u8]| Patch {
            splices: vec![Splice { start: 0, end: before.len() as u64, bytes: after.to_vec() }],
        };
        let before = own.before.as_deref().unwrap_or_default();
        Ok(DiskChange {
            is_own: true,
            from: own.before.is_some().then(|| path.clone()),
            to: Some(path),
            before: own.before.as_ref().map(|bytes| Fingerprint::of_bytes(blake3::hash(bytes))),
            after: Some(Fingerprint::of_bytes(blake3::hash(&own.after))),
            redo: whole(before, &own.after),
            undo: whole(&own.after, before),
            content: DiskContent::Bytes(Arc::new(own.after.clone())),
        })
    }

    fn plain(file: &FileChange) -> DiskChange {
        DiskChange {
            is_own: false,
            from: file.in_mod.then(|| file.from.clone()),
            to: Some(file.to.clone()),
            before: file.in_mod.then(|| Fingerprint::of_bytes(file.seen)),
            after: Some(Fingerprint::of_bytes(file.after_hash)),
            redo: file.redo.clone(),
            undo: file.undo.clone(),
            content: DiskContent::Bytes(Arc::clone(&file.after)),
        }
    }

    fn removed(file: &FileChange) -> DiskChange {
        DiskChange {
            is_own: false,
            from: Some(file.from.clone()),
            to: None,
            before: Some(Fingerprint::of_bytes(file.seen)),
            after: None,
            redo: Patch::default(),
            undo: Patch::default(),
            content: DiskContent::Nothing,
        }
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
        if self.new.is_some() {
            let (from, before, undo) = (None, None, Patch::default());
            return Ok(DiskChange {
                is_own: false,
                from,
                to: Some(path),
                before,
                after,
                redo,
                undo,
                content,
            });
        }
        let undo = archive.reversed(&redo).map_err(io)?;
        let grown = redo.splices.iter().fold(archive.size as i64, |size, splice| {
            size + splice.bytes.len() as i64 - (splice.end - splice.start) as i64
        });
        let before = Some(Fingerprint::after(grown as u64, &undo));
        let (is_own, from) = (false, Some(path.clone()));
        Ok(DiskChange { is_own, from, to: Some(path), before, after, redo, undo, content })
    }
}

/// An entry of an archive that lies in the folder of a base layer comes up with the whole archive, since
/// the mod's archive takes the place of that of the base.
fn brought_up(stack: &Stack, file: &FileChange) -> Option<(Arc<Archive>, RelPath, Option<RelPath>)> {
    let (archive, _) = stack.archive_of(file.source).filter(|_| !file.in_mod)?;
    let own = archive.path.as_ref()?;
    let inner = file.to.as_str().strip_prefix(own.as_str())?.strip_prefix('/')?;
    Some((Arc::clone(archive), RelPath::parse(inner).ok()?, Some(own.clone())))
}

impl Change {
    /// The layers as they would be after the change. Nothing is written.
    pub fn applied_to(&self, stack: &Stack) -> Stack {
        let mut staged: BTreeMap<RelPath, Option<Arc<Vec<u8>>>> = BTreeMap::new();
        for file in self.files.iter().filter(|file| file.in_mod && file.from != file.to) {
            staged.insert(file.from.clone(), None);
        }
        for file in &self.files {
            staged.insert(file.to.clone(), Some(Arc::clone(&file.after)));
        }
        stack.with_staged(&staged)
    }

    /// What becomes of the files on disk: those that are entries of archives are gathered by archive.
    ///
    /// # Errors
    /// When an archive cannot be read, or is of a kind that is not written.
    pub fn on_disk(&self, stack: &Stack) -> Result<Vec<DiskChange>, Error> {
        let mut out = Vec::new();
        let mut archives: BTreeMap<PathBuf, ArchiveChange> = BTreeMap::new();
        for file in &self.files {
            let from = stack.mod_archive(&file.from).filter(|_| file.in_mod);
            let to = match stack.mod_archive(&file.to) {
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
                        None => out.push(DiskChange { from: None, before: None, ..DiskChange::plain(file) }),
                    }
                    match from {
                        Some((archive, inner)) => archives
                            .entry(archive.file.clone())
                            .or_insert_with(|| ArchiveChange::of(archive, None))
                            .change(&inner, EntryChange::Remove),
                        None if file.in_mod => out.push(DiskChange::removed(file)),
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

    /// The former path of a file that the change moves to `path`.
    pub fn former_path(&self, path: &str) -> Option<String> {
        let moved = self.files.iter().find(|file| file.to.as_str() == path)?;
        Some(moved.from.as_str().to_owned())
    }
}
