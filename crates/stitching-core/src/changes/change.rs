//! All that one command changes, applied together or not at all. Only the [`Builder`](super::Builder) makes one.

use super::step::Step;
use crate::checks::Renamed;
use crate::layers::{FileId, RelPath, Stack};
use crate::project::Project;
use crate::text::{EditSet, Encoding, Patch, Span};
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

/// All that one command changes. A value: it can be shown, tried out in memory and handed to the journal.
#[derive(Debug, Default)]
pub struct Change {
    pub(super) title: String,
    /// What was asked for, where that is known.
    pub(super) steps: Vec<Step>,
    pub(super) files: Vec<FileChange>,
    pub(super) folders: Vec<FolderChange>,
    pub(super) own: Vec<OwnChange>,
    pub(super) notes: Vec<Note>,
    pub(super) values: usize,
    pub(super) records: usize,
    /// The files in which a fault of their structure is put right, so that more of them can be read.
    pub(super) more_readable: BTreeSet<String>,
    /// The tables whose references may lead nowhere after it.
    pub(super) left_dangling: BTreeSet<String>,
    /// The former keys of records, by table and new key as shown.
    pub(super) keys: HashMap<(String, String), String>,
    /// Whether what refers to records by their position has followed those that it moves.
    pub(super) follows_positions: bool,
}

/// A folder of the mod that is made or removed by itself.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum FolderChange {
    /// The folder at this path is made, with those above it.
    Make(RelPath),
    /// The folder at this path is removed, if nothing is left in it.
    Remove(RelPath),
}

/// A file of the tool's own that changes.
#[derive(Debug, Clone)]
pub struct OwnChange {
    /// Its name in the tool's own folder.
    pub name: String,
    /// Its bytes before, if it was there.
    pub before: Option<Vec<u8>>,
    /// Its bytes after; `None` if it goes.
    pub after: Option<Vec<u8>>,
    /// The file of the mod whose permissions and time it keeps, if it takes that one in.
    pub like: Option<RelPath>,
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
    /// What a lower layer says of a record counts again: its address, and the name of the layer.
    CountsAgain(String, String),
    /// A piece of the file at this path is taken out and kept aside, since it cannot be made a note.
    KeptAside(String),
    /// The file at this path is taken out of the mod and kept aside.
    FileKeptAside(String),
    /// Records of this table get other positions, which are their keys, and what refers to them follows.
    PositionsFollow(String),
    /// A file is moved: from, to.
    Moved(String, String),
    /// A file of the base could not be moved and is still there under its old path.
    StaysInBase(String, String),
    /// Another record's key follows along: its address before and after.
    Follows(String, String),
    /// A record goes along with those asked for: its address.
    WentAlong(String),
    /// A copy of a record that belongs to the one that is copied: its address.
    CameAlong(String),
    /// A file is copied: from, to.
    FileCopied(String, String),
    /// A place still has an old name, outside of what the schema says, or as a part of a longer word: the place, and the
    /// word.
    StillNames(String, String),
    /// So many further places still have an old name.
    StillNamesMore(usize),
    /// A copy names this file, which is not there.
    Lacks(String),
    /// A file stays as it is, although a copy would have its path.
    FileKept(String),
    /// A record stays as it is, although one with its key would come along: its address.
    RecordKept(String),
    /// A file comes from another layer or project: its path.
    FileBrought(String),
    /// A list gets the copy behind the original: the address of the field.
    Joined(String),
    /// So many lists have the original and not the copy.
    NotJoined(usize),
    /// Fields of a copy hold what those of the original do, though nearly all records differ in them: the address, and
    /// their names.
    SameAsOriginal(String, String),
    /// The name of a new record is the same in these other languages.
    NameToTranslate(String),
    /// So many problems have a fix that someone should look at first.
    FixesToLookAt(usize),
    /// So many texts say what those of the original do, in some language.
    TextsToWrite(usize),
    /// A field loses a reference to what goes: its address.
    Detached(String),
    /// A field goes on referring to what goes: its address, and the path of its file.
    LeftDangling(String, String),
    /// Something that a record names stays, since it is named from so many other places.
    Shared(String, usize),
    /// The records that change are referred to from so many places.
    ReferredTo(usize),
    /// A record meets a condition by which records were chosen, and was not one of them: its address, and the condition.
    MeetsCondition(String, String),
    /// What follows from what changes is put right: the address of a field, or the path of a file.
    PutRight(String),
    /// A file that is made from what changes is removed: its path.
    DerivedRemoved(String),
    /// A file that is made from what changes has nothing in it any more: its path.
    DerivedEmptied(String),
    /// A file is made from what changes, and stale: its path.
    Stale(String),
    /// A file for translators has texts that the game does not have: their addresses.
    TextsUnknown(Vec<String>),
    /// So many translations are marked to be looked at again, and not taken up.
    TextsInDoubt(usize),
    /// So many texts say themselves what language they are in, and are not taken up.
    TextsByRecord(usize),
    /// Texts say something else in the main language than when they were translated: their addresses.
    TextsChanged(Vec<String>),
}

/// Where the bytes of a changed file come from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Source {
    /// They are new.
    New,
    /// From this file, which stays as it is: one of a base layer, or one that is copied.
    CopyOf(FileId),
    /// From this file of the mod, which is edited, moved or removed.
    Own(FileId),
}

/// One file of the mod before and after.
#[derive(Debug, Clone)]
pub struct FileChange {
    pub(super) source: Source,
    pub(super) from: Option<RelPath>,
    pub(super) to: Option<RelPath>,
    pub(super) declared: Option<Encoding>,
    pub(super) before_hash: blake3::Hash,
    pub(super) edits: EditSet,
    pub(super) redo: Patch,
    pub(super) undo: Patch,
    pub(super) after: Arc<Vec<u8>>,
    pub(super) after_hash: blake3::Hash,
    /// The name of the tool's own file whose permissions and time it gets, if it comes from there.
    pub(super) like_own: Option<String>,
    /// The path that its bytes come from, where it takes the place of another file or another takes its own.
    pub(super) former: Option<RelPath>,
}

impl Source {
    /// The file that the bytes come from, if there is one.
    pub fn file(self) -> Option<FileId> {
        match self {
            Source::New => None,
            Source::CopyOf(file) | Source::Own(file) => Some(file),
        }
    }
}

impl FileChange {
    /// Where its bytes come from.
    pub fn source(&self) -> Source {
        self.source
    }

    /// Its path in the mod before; `None` if it is new there.
    pub fn from(&self) -> Option<&RelPath> {
        self.from.as_ref()
    }

    /// Its path in the mod after; `None` if it is removed.
    pub fn to(&self) -> Option<&RelPath> {
        self.to.as_ref()
    }

    /// Its path after, or, if it is removed, before.
    pub fn path(&self) -> &str {
        self.to.as_ref().or(self.from.as_ref()).map_or("", RelPath::as_str)
    }

    /// The path that it had in the mod before, if it has another now.
    pub fn former_path(&self) -> Option<&RelPath> {
        if self.former.is_some() {
            return self.former.as_ref();
        }
        self.from.as_ref().filter(|from| self.to.as_ref().is_some_and(|to| to != *from))
    }

    /// Whether the mod gets a copy of a file that stays where it is.
    pub fn is_copy(&self) -> bool {
        matches!(self.source, Source::CopyOf(_))
    }

    /// What is replaced in the text of its source.
    pub fn edits(&self) -> &EditSet {
        &self.edits
    }

    /// What that does to its bytes.
    pub fn patch(&self) -> &Patch {
        &self.redo
    }

    /// Its bytes after the change; none if it is removed.
    pub fn after(&self) -> &Arc<Vec<u8>> {
        &self.after
    }
}

impl Change {
    /// What it does, as an order: "rename reaches:old_mill to new_mill".
    pub fn title(&self) -> &str {
        &self.title
    }

    /// What was asked for, in order; empty where that is not known.
    pub fn steps(&self) -> &[Step] {
        &self.steps
    }

    /// The same with one more note.
    pub(super) fn with(mut self, note: Note) -> Change {
        self.notes.push(note);
        self.notes.sort();
        self
    }

    /// The same without some of its notes.
    pub(super) fn without(mut self, is_out: impl Fn(&Note) -> bool) -> Change {
        self.notes.retain(|note| !is_out(note));
        self
    }

    /// The same with another title.
    pub(super) fn titled(mut self, title: String) -> Change {
        self.title = title;
        self
    }

    /// The files it touches, sorted by path.
    pub fn files(&self) -> &[FileChange] {
        &self.files
    }

    /// The folders that are made or removed by themselves.
    pub fn folders(&self) -> &[FolderChange] {
        &self.folders
    }

    /// What changes in the tool's own folder with it.
    pub fn own(&self) -> &[OwnChange] {
        &self.own
    }

    /// What the user should know about it, sorted.
    pub fn notes(&self) -> &[Note] {
        &self.notes
    }

    /// How many values are rewritten.
    pub fn values(&self) -> usize {
        self.values
    }

    /// How many records it is about, where they were chosen one by one; else 0.
    pub fn records(&self) -> usize {
        self.records
    }

    /// Whether references of `table` may lead nowhere after it: the user wants them left.
    pub fn leaves_dangling(&self, table: &str) -> bool {
        self.left_dangling.contains(table)
    }

    /// Whether problems at `path` may only show after it, since more of the file can be read then.
    pub fn may_show_more(&self, path: &str) -> bool {
        self.more_readable.contains(path)
    }

    /// The layers as they would be after the change. Nothing is written.
    pub fn applied_to(&self, stack: &Stack) -> Stack {
        let mut staged: BTreeMap<RelPath, Option<Arc<Vec<u8>>>> = BTreeMap::new();
        for from in self.files.iter().filter_map(|file| file.from.as_ref()) {
            staged.insert(from.clone(), None);
        }
        for file in &self.files {
            if let Some(to) = &file.to {
                staged.insert(to.clone(), Some(Arc::clone(&file.after)));
            }
        }
        stack.with_staged(&staged)
    }

    /// What it writes into the files of `project`, by their paths after it: the places of new text in a file that is edited where it
    /// is; nothing for a file that is new at its path.
    pub(super) fn written(&self, project: &Project) -> HashMap<RelPath, Option<Vec<Span>>> {
        let of_file = |file: &FileChange| {
            let to = file.to.clone()?;
            let source = file.source.file().map(|source| &project.stack.files()[source].path);
            let spans = (source == Some(&to)).then(|| file.edits.spans_after());
            Some((to, spans))
        };
        self.files.iter().filter_map(of_file).collect()
    }

    /// The files and records that get other names.
    pub fn renamed(&self, project: &Project) -> Renamed {
        let mut paths = HashMap::new();
        for (file, to) in self.files.iter().filter_map(|file| Some((file, file.to.as_ref()?))) {
            let source = file.source.file().map(|source| &project.stack.files()[source].path);
            let source = file.former.as_ref().or(source);
            if let Some(source) = source.filter(|source| *source != to) {
                paths.insert(to.to_string(), source.to_string());
            }
        }
        Renamed { paths, keys: self.keys.clone() }
    }
}
