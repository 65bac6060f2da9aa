//! All edits of one command, applied together or not at all.

use crate::Error;
use crate::layers::{FileId, RelPath, Stack};
use crate::project::Project;
use crate::text::{EditSet, LineTable, Patch, Text, TextFault, round_trips};
use std::collections::BTreeMap;
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

    /// The former path of a file that the change moves to `path`.
    pub fn former_path(&self, path: &str) -> Option<String> {
        let moved = self.files.iter().find(|file| file.to.as_str() == path)?;
        Some(moved.from.as_str().to_owned())
    }
}
