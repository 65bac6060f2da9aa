//! All edits of one command, applied together or not at all.

use crate::layers::{FileId, RelPath, Stack};
use crate::text::EditSet;
use std::collections::BTreeMap;
use std::sync::Arc;

/// All edits of one command.
#[derive(Debug, Default)]
pub struct Change {
    /// What it does, as an order: "rename reaches:old_mill to new_mill".
    pub title: String,
    /// The files it touches, sorted by path.
    pub files: Vec<FileChange>,
    /// What the user should know about it.
    pub notes: Vec<Note>,
    /// How many values are rewritten.
    pub values: usize,
}

/// Something the user should know about a change.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Note {
    /// A file of the base is copied into the mod, because it must be edited: its path and layer.
    BroughtUp(String, String),
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
    /// What is replaced.
    pub edits: EditSet,
    /// What undoes the edits.
    pub undo: EditSet,
    /// The bytes after the edits.
    pub after: Arc<Vec<u8>>,
    /// Their hash.
    pub after_hash: blake3::Hash,
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
