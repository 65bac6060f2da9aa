//! Changes made one after another, each of what those before it leave, as one change.

use super::builder::made;
use super::change::{Change, FileChange, FolderChange, Source};
use super::position_keys::{PositionMoves, touches_positions};
use crate::Error;
use crate::layers::{FileId, RelPath};
use crate::project::Project;
use crate::text::{EditSet, LoadedText};
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// Gathers changes of a project.
#[derive(Debug)]
pub struct Sequence<'p> {
    project: &'p Project,
    /// The project as the changes so far leave it.
    now: Option<Project>,
    change: Change,
}

fn refused(reason: String) -> Error {
    Error::refused(reason, "do it in two commands; nothing was changed")
}

impl<'p> Sequence<'p> {
    /// Begins a sequence of changes of `project`. `title` says what it does, as an order.
    pub fn new(project: &'p Project, title: impl Into<String>) -> Sequence<'p> {
        let change = Change { title: title.into(), ..Change::default() };
        Sequence { project, now: None, change }
    }

    /// The project as the changes so far leave it. Nothing is written.
    pub fn project(&self) -> &Project {
        self.now.as_ref().unwrap_or(self.project)
    }

    /// Adds a change of [`Sequence::project`]. What refers to records by their position follows those that it moves.
    ///
    /// # Errors
    /// When a file cannot be read, or the change puts a file where one of those before it took another away; and when something
    /// refers to a record by its position that goes.
    pub fn push(&mut self, later: Change) -> Result<(), Error> {
        let is_new = !later.follows_positions && touches_positions(&self.project.schema, &later);
        let moves =
            if is_new { PositionMoves::of(self.project(), &later)? } else { PositionMoves::default() };
        self.push_followed(later)?;
        if let Some(following) = moves.followed(self.project())? {
            self.push_followed(following)?;
        }
        Ok(())
    }

    /// Adds a change of [`Sequence::project`] as it is: what refers to records that it moves follows by itself.
    ///
    /// # Errors
    /// As [`Sequence::push`].
    pub(super) fn push_followed(&mut self, later: Change) -> Result<(), Error> {
        let first = std::mem::take(&mut self.change);
        self.change = self.composed(first, later)?;
        let stack = self.change.applied_to(&self.project.stack);
        self.now = Some(self.project.with_stack(stack));
        Ok(())
    }

    /// All of them as one change of the project that the sequence began with.
    pub fn finish(self) -> Change {
        self.change
    }

    fn composed(&self, first: Change, later: Change) -> Result<Change, Error> {
        let mut files: BTreeMap<RelPath, FileChange> = BTreeMap::new();
        // Those that are taken away, by their path before.
        let mut gone: BTreeMap<RelPath, FileChange> = BTreeMap::new();
        for file in first.files {
            match (&file.to, &file.from) {
                (Some(to), _) => drop(files.insert(to.clone(), file)),
                (None, Some(from)) => drop(gone.insert(from.clone(), file)),
                (None, None) => {}
            }
        }
        // What a later change makes of a file of an earlier one takes its place; copies are made of what was there.
        let (mut replaced, mut made) = (HashSet::new(), Vec::new());
        for file in &later.files {
            let (composed, path) = self.file(&files, file)?;
            replaced.extend(path.filter(|_| matches!(file.source, Source::Own(_))));
            made.extend(composed);
        }
        files.retain(|path, _| !replaced.contains(path));
        for file in made {
            match (&file.to, &file.from) {
                (Some(to), _) => drop(files.insert(to.clone(), file)),
                (None, Some(from)) => drop(gone.insert(from.clone(), file)),
                (None, None) => {}
            }
        }
        let mut files: Vec<FileChange> = files.into_values().chain(gone.into_values()).collect();
        let is_same = |file: &FileChange| file.from == file.to && file.before_hash == file.after_hash;
        files.retain(|file| !is_same(file));
        refuse_retaken(&files)?;
        files.sort_by(|a, b| (a.path(), &a.from).cmp(&(b.path(), &b.from)));
        let mut own = first.own;
        for change in later.own {
            if own.iter().any(|other| other.name == change.name) {
                return Err(refused(format!("two steps of one act change `{}`", change.name)));
            }
            own.push(change);
        }
        let mut keys = first.keys;
        let mut later_keys = HashMap::new();
        for ((table, new), middle) in later.keys {
            let old = keys.remove(&(table.clone(), middle.clone())).unwrap_or(middle);
            later_keys.insert((table, new), old);
        }
        keys.extend(later_keys);
        let notes: BTreeSet<_> = first.notes.into_iter().chain(later.notes).collect();
        Ok(Change {
            title: first.title,
            steps: [first.steps, later.steps].concat(),
            files,
            folders: folders(first.folders, later.folders),
            own,
            notes: notes.into_iter().collect(),
            values: first.values + later.values,
            records: first.records + later.records,
            more_readable: first.more_readable.into_iter().chain(later.more_readable).collect(),
            left_dangling: first.left_dangling.into_iter().chain(later.left_dangling).collect(),
            keys,
            follows_positions: true,
        })
    }

    /// What a later change of a file does to the project that the sequence began with; and the path of the file of an
    /// earlier change that it starts from, if it does.
    fn file(
        &self,
        earlier: &BTreeMap<RelPath, FileChange>,
        later: &FileChange,
    ) -> Result<(Option<FileChange>, Option<RelPath>), Error> {
        let Some(source) = later.source.file() else { return Ok((Some(later.clone()), None)) };
        let entry = &self.project().stack.files()[source];
        let before = entry.staged().and_then(|_| earlier.get(&entry.path));
        let Some(before) = before else {
            let source = self.original(source)?;
            let source = if later.is_copy() { Source::CopyOf(source) } else { Source::Own(source) };
            return Ok((Some(FileChange { source, ..later.clone() }), None));
        };
        let path = Some(entry.path.clone());
        let Some(original) = before.source.file() else {
            // A new file, which has other bytes, is at another path, or is not made at all.
            let made = later.to.is_some().then(|| FileChange {
                source: Source::New,
                from: None,
                before_hash: before.before_hash,
                edits: EditSet::default(),
                redo: before.redo.clone(),
                undo: before.undo.clone(),
                declared: before.declared,
                like_own: before.like_own.clone(),
                ..later.clone()
            });
            return Ok((made, path));
        };
        let replaces = !before.is_copy() && !later.is_copy();
        if later.to.is_none() && !replaces {
            return Ok((None, path));
        }
        let mut bytes = Vec::new();
        self.project.stack.read(original, &mut bytes)?;
        let loaded = LoadedText::new(bytes, self.project.stack.files()[original].encoding);
        let unfit = || refused(format!("the changes of `{}` cannot be made at once", later.path()));
        let edits = before.edits.then(&later.edits, loaded.text().as_str()).map_err(|_| unfit())?;
        let made = made(self.project, original, &loaded, &edits, vec![(later.to.clone(), replaces)])?;
        let made = made.into_iter().next();
        match &made {
            Some(file) if file.to.is_some() && file.after != later.after => Err(unfit()),
            _ => Ok((made, path)),
        }
    }

    /// The file of the project that the sequence began with.
    fn original(&self, file: FileId) -> Result<FileId, Error> {
        let entry = &self.project().stack.files()[file];
        let found = self.project.stack.find(entry.layer, &entry.path);
        found.ok_or_else(|| refused(format!("`{}` is not where it was", entry.path)))
    }
}

/// Refuses a file at a path from which another one is taken away.
fn refuse_retaken(files: &[FileChange]) -> Result<(), Error> {
    let left: HashSet<&RelPath> =
        files.iter().filter(|file| file.from != file.to).filter_map(|file| file.from.as_ref()).collect();
    let taken = files.iter().filter(|file| file.from != file.to).filter_map(|file| file.to.as_ref());
    match taken.into_iter().find(|path| left.contains(path)) {
        Some(path) => Err(refused(format!("`{path}` would be taken away and made again in one act"))),
        None => Ok(()),
    }
}

/// The folders that are made and removed in the end.
fn folders(first: Vec<FolderChange>, later: Vec<FolderChange>) -> Vec<FolderChange> {
    let mut all: BTreeSet<FolderChange> = first.into_iter().collect();
    for change in later {
        match &change {
            FolderChange::Make(path) => all.remove(&FolderChange::Remove(path.clone())),
            FolderChange::Remove(path) => all.remove(&FolderChange::Make(path.clone())),
        };
        all.insert(change);
    }
    all.into_iter().collect()
}
