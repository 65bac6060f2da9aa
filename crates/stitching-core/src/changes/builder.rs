//! The only way to a [`Change`]: what is asked for is gathered by file, checked as it comes, and put together at the
//! end.
//!
//! Each file is read once. Its edits are merged as they are asked for: the same edit counts once, and two that want the
//! same bytes are refused with both places. A file of a base layer is never written: what edits it makes a copy of it in
//! the mod.

use super::change::{Change, FileChange, FolderChange, Note, OwnChange, Source};
use super::places_taken::with_places_taken;
use super::taken_paths::TakenPaths;
use crate::Error;
use crate::layers::{FileEntry, FileId, RelPath};
use crate::project::Project;
use crate::text::{
    Edit, EditError, EditSet, Encoding, LineTable, LoadedText, Patch, Span, Text, TextFault, round_trips,
};
use rayon::prelude::*;
use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::sync::Arc;

/// Gathers what a command changes.
#[derive(Debug)]
pub struct Builder<'p> {
    project: &'p Project,
    title: String,
    drafts: BTreeMap<FileId, Draft>,
    created: BTreeMap<RelPath, Created>,
    folders: BTreeSet<FolderChange>,
    own: BTreeMap<String, OwnChange>,
    notes: BTreeSet<Note>,
    values: usize,
    records: usize,
    left_dangling: BTreeSet<String>,
    more_readable: BTreeSet<String>,
    keys: HashMap<(String, String), String>,
    /// The paths that no other file may get.
    taken: TakenPaths,
}

/// A file that is there, and what becomes of it.
#[derive(Debug)]
pub(super) struct Draft {
    pub loaded: LoadedText,
    edits: EditSet,
    /// What is edited in the copy that the mod gets under the old path of a file of a base layer that moves.
    left_behind: EditSet,
    fate: Fate,
    copies: Vec<RelPath>,
}

#[derive(Debug)]
enum Fate {
    /// It stays at its path; one that is only copied or read stays as it is.
    Stays,
    Moved(RelPath),
    Removed,
}

/// A file that is not there yet.
#[derive(Debug)]
struct Created {
    bytes: Vec<u8>,
    declared: Option<Encoding>,
    /// The name of the tool's own file that it was kept in.
    like_own: Option<String>,
}

/// What kept an edit from being made, at its place.
fn refused(place: &str, reason: impl std::fmt::Display) -> Error {
    Error::refused(format!("{place}: {reason}"), "nothing was changed")
}

impl<'p> Builder<'p> {
    /// Begins a change of `project`. `title` says what it does, as an order.
    pub fn new(project: &'p Project, title: impl Into<String>) -> Builder<'p> {
        Builder {
            project,
            title: title.into(),
            drafts: BTreeMap::new(),
            created: BTreeMap::new(),
            folders: BTreeSet::new(),
            own: BTreeMap::new(),
            notes: BTreeSet::new(),
            values: 0,
            records: 0,
            left_dangling: BTreeSet::new(),
            more_readable: BTreeSet::new(),
            keys: HashMap::new(),
            taken: TakenPaths::default(),
        }
    }

    fn entry(&self, file: FileId) -> &'p FileEntry {
        &self.project.stack.files()[file]
    }

    fn is_in_mod(&self, file: FileId) -> bool {
        self.project.stack.layers()[self.entry(file).layer].is_mod
    }

    /// What is read of `file`; the first time from the disk.
    fn draft(&mut self, file: FileId) -> Result<&mut Draft, Error> {
        if !self.drafts.contains_key(&file) {
            let draft = read_draft(self.project, file)?;
            self.drafts.insert(file, draft);
        }
        self.drafts
            .get_mut(&file)
            .ok_or_else(|| Error::refused("a file is not where it was put", "nothing was changed"))
    }

    /// The text of `file`, without the edits asked for.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn text(&mut self, file: FileId) -> Result<Text<'_>, Error> {
        Ok(self.draft(file)?.loaded.text())
    }

    /// Edits `file`.
    ///
    /// # Errors
    /// When the file cannot be read, bytes in it are not text in its encoding, or an edit wants bytes that another
    /// one wants too.
    pub fn edit(&mut self, file: FileId, edits: Vec<Edit>) -> Result<(), Error> {
        self.edit_with(file, |_, _| Ok(edits))
    }

    /// Edits `file` as `make` tells from its text and the edits asked for before.
    ///
    /// # Errors
    /// As [`Builder::edit`], and what `make` gives.
    pub fn edit_with(
        &mut self,
        file: FileId,
        make: impl FnOnce(&Text<'_>, &EditSet) -> Result<Vec<Edit>, Error>,
    ) -> Result<(), Error> {
        let path = &self.entry(file).path;
        let draft = self.draft(file)?;
        let text = draft.loaded.text();
        refuse_uneditable(path, &text)?;
        let edits = make(&text, &draft.edits)?;
        add(path, &draft.loaded, &mut draft.edits, edits)
    }

    /// Edits many files side by side, each as `make` tells from its text and what is given with it.
    ///
    /// # Errors
    /// As [`Builder::edit_with`].
    pub fn edit_all<T: Sync>(
        &mut self,
        files: &[(FileId, T)],
        make: impl Fn(FileId, &Text<'_>, &T) -> Result<Vec<Edit>, Error> + Sync,
    ) -> Result<(), Error> {
        let project = self.project;
        let new: Vec<FileId> =
            files.iter().map(|(file, _)| *file).filter(|file| !self.drafts.contains_key(file)).collect();
        let read = |file: &FileId| read_draft(project, *file).map(|draft| (*file, draft));
        let new: Vec<(FileId, Draft)> =
            new.par_iter().with_max_len(1).map(read).collect::<Result<_, Error>>()?;
        self.drafts.extend(new);
        let drafts = &self.drafts;
        let edits = |(file, given): &(FileId, T)| {
            let Some(draft) = drafts.get(file) else { return Ok((*file, Vec::new())) };
            let text = draft.loaded.text();
            refuse_uneditable(&project.stack.files()[*file].path, &text)?;
            make(*file, &text, given).map(|edits| (*file, edits))
        };
        let made: Vec<(FileId, Vec<Edit>)> =
            files.par_iter().with_max_len(1).map(edits).collect::<Result<_, Error>>()?;
        for (file, edits) in made {
            let path = &self.entry(file).path;
            let draft = self.draft(file)?;
            add(path, &draft.loaded, &mut draft.edits, edits)?;
        }
        Ok(())
    }

    /// Edits what a file of a base layer that moves leaves behind: the mod gets a copy under the old path too.
    ///
    /// # Errors
    /// As [`Builder::edit_with`].
    pub fn edit_left_behind(
        &mut self,
        file: FileId,
        make: impl FnOnce(&Text<'_>) -> Result<Vec<Edit>, Error>,
    ) -> Result<(), Error> {
        let path = &self.entry(file).path;
        let draft = self.draft(file)?;
        let text = draft.loaded.text();
        refuse_uneditable(path, &text)?;
        let edits = make(&text)?;
        add(path, &draft.loaded, &mut draft.left_behind, edits)
    }

    /// Moves `file` to the path `to`. One of a base layer stays where it is, and the mod gets a copy at `to`; what is to
    /// be edited under the old path too, [`Builder::edit_left_behind`] tells.
    ///
    /// # Errors
    /// When the file cannot be read, or there is or will be another one at `to`, or at a path that differs from it only
    /// in case. Whether one that is there goes elsewhere itself is looked at by [`Builder::finish`].
    pub fn move_to(&mut self, file: FileId, to: &RelPath) -> Result<(), Error> {
        let from = self.entry(file).path.clone();
        self.taken.take_moved(&self.project.stack, &from, to)?;
        self.draft(file)?.fate = Fate::Moved(to.clone());
        Ok(())
    }

    /// Whether `file` is to be moved.
    pub fn is_moved(&self, file: FileId) -> bool {
        self.drafts.get(&file).is_some_and(|draft| matches!(draft.fate, Fate::Moved(_)))
    }

    /// Copies `file`, with its edits, to the path `to`.
    ///
    /// # Errors
    /// As [`Builder::move_to`].
    pub fn copy_to(&mut self, file: FileId, to: &RelPath) -> Result<(), Error> {
        self.taken.take(&self.project.stack, to)?;
        self.draft(file)?.copies.push(to.clone());
        Ok(())
    }

    /// Removes `file`, which must be one of the mod.
    ///
    /// # Errors
    /// When it is one of a base layer, or cannot be read.
    pub fn remove(&mut self, file: FileId) -> Result<(), Error> {
        if !self.is_in_mod(file) {
            let (path, layer) = (&self.entry(file).path, self.project.layer_name(file));
            return Err(Error::refused(
                format!("`{path}` lies in the layer `{layer}`, which is never written"),
                "only files of the mod can be removed; nothing was changed",
            ));
        }
        self.draft(file)?.fate = Fate::Removed;
        Ok(())
    }

    /// The bytes of `file`, without the edits asked for.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn bytes(&mut self, file: FileId) -> Result<&[u8], Error> {
        Ok(self.draft(file)?.loaded.bytes())
    }

    /// Makes a file of the mod at `path` again that was kept in the tool's own file `own` with these bytes: it gets the
    /// permissions and the time of that.
    ///
    /// # Errors
    /// As [`Builder::move_to`].
    pub fn bring_back(&mut self, path: &RelPath, bytes: Vec<u8>, own: &str) -> Result<(), Error> {
        self.taken.take(&self.project.stack, path)?;
        let created = Created { bytes, declared: None, like_own: Some(own.to_owned()) };
        self.created.insert(path.clone(), created);
        Ok(())
    }

    /// Makes a new file of the mod at `path` with `text`, in the encoding of `like` and with the byte order mark that it
    /// has; in UTF-8 without one if there is no such file. One of a base layer at the same path stays below it.
    ///
    /// # Errors
    /// As [`Builder::move_to`]; and when the encoding does not have a character.
    pub fn create(&mut self, path: &RelPath, text: &str, like: Option<FileId>) -> Result<(), Error> {
        let created = match like {
            None => Created { bytes: text.as_bytes().to_vec(), declared: None, like_own: None },
            Some(like) => {
                let declared = self.entry(like).encoding;
                encoded(path, text, &self.draft(like)?.loaded.text(), declared)?
            }
        };
        self.take_new(path, created)
    }

    /// Makes a new file of the mod at `path` with `text`, in the encoding of the text `like`, which the schema may have
    /// `declared`, and with the byte order mark that it has.
    ///
    /// # Errors
    /// As [`Builder::create`].
    pub fn create_like(
        &mut self,
        path: &RelPath,
        text: &str,
        like: &Text<'_>,
        declared: Option<Encoding>,
    ) -> Result<(), Error> {
        let created = encoded(path, text, like, declared)?;
        self.take_new(path, created)
    }

    /// Makes a new file of the mod at `path` with these bytes, which may be no text; if they are, in the encoding that the schema has
    /// `declared`.
    ///
    /// # Errors
    /// As [`Builder::move_to`].
    pub fn create_with(
        &mut self,
        path: &RelPath,
        bytes: Vec<u8>,
        declared: Option<Encoding>,
    ) -> Result<(), Error> {
        self.take_new(path, Created { bytes, declared, like_own: None })
    }

    fn take_new(&mut self, path: &RelPath, created: Created) -> Result<(), Error> {
        let stack = &self.project.stack;
        match stack.find(stack.top(), path) {
            None => self.taken.take_over(stack, path)?,
            Some(_) => self.taken.take(stack, path)?,
        }
        self.created.insert(path.clone(), created);
        Ok(())
    }

    /// Makes the folder at `path` in the mod, with those above it.
    pub fn make_folder(&mut self, path: RelPath) {
        self.folders.insert(FolderChange::Make(path));
    }

    /// Removes the folder at `path` in the mod, if nothing is left in it.
    pub fn remove_folder(&mut self, path: RelPath) {
        self.folders.insert(FolderChange::Remove(path));
    }

    /// Writes or removes a file of the tool's own; one of that name that was asked for before is replaced.
    pub fn write_own(&mut self, own: OwnChange) {
        self.own.insert(own.name.clone(), own);
    }

    /// Adds something the user should know.
    pub fn note(&mut self, note: Note) {
        self.notes.insert(note);
    }

    /// Notes that a record of `table` gets the key `new` in place of `old`, both as shown, so that what is wrong with it
    /// is known to have been wrong before.
    pub fn rename_key(&mut self, table: &str, old: &str, new: &str) {
        self.keys.insert((table.to_owned(), new.to_owned()), old.to_owned());
    }

    /// Counts `values` that are rewritten.
    pub fn count(&mut self, values: usize) {
        self.values += values;
    }

    /// Lets references of `table` lead nowhere.
    pub fn leave_dangling(&mut self, table: &str) {
        self.left_dangling.insert(table.to_owned());
    }

    /// Takes note that a fault in the structure of the file at `path` is put right: what was wrong behind it shows then.
    pub fn may_show_more(&mut self, path: &str) {
        self.more_readable.insert(path.to_owned());
    }

    /// Counts `records` that change.
    pub fn count_records(&mut self, records: usize) {
        self.records += records;
    }

    /// Puts the change together.
    ///
    /// # Errors
    /// When a file would not come back byte for byte, or its encoding does not have a character of an edit.
    pub fn finish(mut self) -> Result<Change, Error> {
        let project = self.project;
        let goes = |(_, draft): &(&FileId, &Draft)| !matches!(draft.fate, Fate::Stays);
        let left = self.drafts.iter().filter(goes).map(|(file, _)| &project.stack.files()[*file].path);
        self.taken.refuse_kept(&left.collect())?;
        let drafts: Vec<(FileId, Draft)> = std::mem::take(&mut self.drafts).into_iter().collect();
        for (file, draft) in &drafts {
            self.tell_of_base(*file, draft);
        }
        let made: Vec<Vec<FileChange>> = drafts
            .into_par_iter()
            .with_max_len(1)
            .map(|(file, draft)| draft.finish(project, file))
            .collect::<Result<_, Error>>()?;
        let mut files = with_places_taken(project, made.into_iter().flatten().collect())?;
        files.extend(self.created.into_iter().map(|(path, created)| FileChange {
            source: Source::New,
            from: None,
            to: Some(path),
            declared: created.declared,
            before_hash: blake3::hash(b""),
            edits: EditSet::default(),
            redo: Patch::default(),
            undo: Patch::default(),
            after_hash: blake3::hash(&created.bytes),
            like_own: created.like_own,
            former: None,
            after: Arc::new(created.bytes),
        }));
        files.sort_by(|a, b| (a.path(), &a.from).cmp(&(b.path(), &b.from)));
        Ok(Change {
            title: self.title,
            steps: Vec::new(),
            files,
            folders: self.folders.into_iter().collect(),
            own: self.own.into_values().collect(),
            notes: self.notes.into_iter().collect(),
            values: self.values,
            records: self.records,
            left_dangling: self.left_dangling,
            more_readable: self.more_readable,
            keys: self.keys,
            follows_positions: false,
        })
    }

    /// Notes what becomes of a file that is moved, or of one of a base layer.
    fn tell_of_base(&mut self, file: FileId, draft: &Draft) {
        let (entry, in_mod) = (self.entry(file), self.is_in_mod(file));
        let from = entry.path.to_string();
        match &draft.fate {
            Fate::Moved(to) if in_mod => self.note(Note::Moved(from, to.to_string())),
            Fate::Moved(to) => self.note(Note::StaysInBase(from, to.to_string())),
            Fate::Stays if !in_mod && !draft.edits.is_empty() && !entry.merged => {
                let layer = self.project.layer_name(file).to_owned();
                self.note(Note::BroughtUp(from, layer));
            }
            Fate::Stays | Fate::Removed => {}
        }
    }
}

/// A new file with `text`, in the encoding of the text `model` and with the byte order mark that it has.
fn encoded(
    path: &RelPath,
    text: &str,
    model: &Text<'_>,
    declared: Option<Encoding>,
) -> Result<Created, Error> {
    let mark = if model.body() > 0 { "\u{feff}" } else { "" };
    let whole = if text.starts_with('\u{feff}') { text.to_owned() } else { format!("{mark}{text}") };
    refuse_guessed(model, &whole, || path.to_string())?;
    let bytes = model.encoding().encode(&whole).map_err(|wrong| {
        let new = Text::of_file(&whole);
        no_character(&place(path, &new, wrong.at), model.encoding(), wrong.character)
    })?;
    Ok(Created { bytes, declared, like_own: None })
}

/// A file as it is read, of which nothing is changed yet.
///
/// # Errors
/// When it cannot be read.
pub(super) fn read_draft(project: &Project, file: FileId) -> Result<Draft, Error> {
    let mut bytes = Vec::new();
    project.stack.read(file, &mut bytes)?;
    let loaded = LoadedText::new(bytes, project.stack.files()[file].encoding);
    Ok(Draft {
        loaded,
        edits: EditSet::default(),
        left_behind: EditSet::default(),
        fate: Fate::Stays,
        copies: Vec::new(),
    })
}

impl Draft {
    /// What becomes of the file in the mod; nothing if it was only read.
    fn finish(self, project: &Project, file: FileId) -> Result<Vec<FileChange>, Error> {
        let entry = &project.stack.files()[file];
        let in_mod = project.stack.layers()[entry.layer].is_mod;
        let path = &entry.path;
        let edited = !self.edits.is_empty();
        // The paths at which the mod gets a file, and whether it takes the place of this one.
        let mut targets: Vec<(Option<RelPath>, bool)> = Vec::new();
        match self.fate {
            Fate::Moved(to) => targets.push((Some(to), in_mod)),
            Fate::Stays if edited => targets.push((Some(path.clone()), in_mod)),
            Fate::Stays => {}
            Fate::Removed => targets.push((None, true)),
        }
        targets.extend(self.copies.into_iter().map(|copy| (Some(copy), false)));
        if targets.is_empty() {
            return Ok(Vec::new());
        }
        let mut changes = made(project, file, &self.loaded, &self.edits, targets)?;
        if !in_mod && !self.left_behind.is_empty() {
            let target = (Some(path.clone()), false);
            changes.extend(made(project, file, &self.loaded, &self.left_behind, vec![target])?);
        }
        Ok(changes)
    }
}

/// What the mod gets at each of `targets` from a file with these `edits`: the path, none if the file goes, and whether that
/// takes the place of the file.
///
/// # Errors
/// When the file would not come back byte for byte, or its encoding does not have a character of an edit.
pub(super) fn made(
    project: &Project,
    file: FileId,
    loaded: &LoadedText,
    edits: &EditSet,
    targets: Vec<(Option<RelPath>, bool)>,
) -> Result<Vec<FileChange>, Error> {
    let entry = &project.stack.files()[file];
    let path = &entry.path;
    let before = loaded.bytes();
    let broken = || Error::refused(format!("the edits do not fit `{path}`"), "run the command again");
    // A file that is only moved may be no text at all.
    let redo = if edits.is_empty() { Patch::default() } else { byte_patch(path, loaded, edits)? };
    let after = Arc::new(redo.apply(before).ok_or_else(broken)?);
    let undo = redo.reversed(before).ok_or_else(broken)?;
    let (before_hash, after_hash) = (blake3::hash(before), blake3::hash(&after));
    let change = |(to, replaces): (Option<RelPath>, bool)| {
        let goes = to.is_none();
        FileChange {
            source: if replaces { Source::Own(file) } else { Source::CopyOf(file) },
            from: replaces.then(|| path.clone()),
            to,
            declared: entry.encoding,
            before_hash,
            edits: if goes { EditSet::default() } else { edits.clone() },
            redo: if goes { Patch::default() } else { redo.clone() },
            undo: if goes { Patch::default() } else { undo.clone() },
            after: if goes { Arc::default() } else { Arc::clone(&after) },
            after_hash,
            like_own: None,
            former: None,
        }
    };
    Ok(targets.into_iter().map(change).collect())
}

/// Puts `edits` among those of a file; refuses with both places what wants the same bytes.
fn add(path: &RelPath, loaded: &LoadedText, all: &mut EditSet, edits: Vec<Edit>) -> Result<(), Error> {
    all.add(edits).map_err(|error| {
        let text = loaded.text();
        let at = |span: Span| place(path, &text, span.start as usize);
        match error {
            EditError::Overlap(first, second) => refused(
                &at(first),
                format!("two different texts are to stand here, one of them up to {}", at(second)),
            ),
            EditError::OutOfBounds(span) => refused(&at(span), "this is not in the file"),
        }
    })
}

fn refuse_uneditable(path: &RelPath, text: &Text<'_>) -> Result<(), Error> {
    if text.editable() {
        return Ok(());
    }
    Err(Error::refused(
        format!("`{path}` would have to be edited, and bytes in it are not text in its encoding"),
        "give its table the right `encoding`, or save the file anew; nothing was changed",
    ))
}

/// Refuses letters that are `written` into a file whose encoding was only guessed, at what `place` tells.
fn refuse_guessed(text: &Text<'_>, written: &str, place: impl FnOnce() -> String) -> Result<(), Error> {
    if written.is_ascii() || !matches!(text.fault(), Some(TextFault::Guessed { .. })) {
        return Ok(());
    }
    let (name, at) = (text.encoding().name(), place());
    Err(Error::refused(
        format!("{at}: `{written}` is to be written, and that the file is in {name} is only a guess"),
        format!("write the encoding into the table: encoding = \"{name}\"; nothing was changed"),
    ))
}

/// What `edits` do to the bytes of a file. Refuses what could not be read again as it was meant.
fn byte_patch(path: &RelPath, loaded: &LoadedText, edits: &EditSet) -> Result<Patch, Error> {
    let text = loaded.text();
    let encoding = text.encoding();
    if !round_trips(loaded.bytes(), encoding) {
        let name = encoding.name();
        return Err(Error::refused(
            format!("`{path}` would not come back byte for byte if it were edited as {name}"),
            "give its table the right `encoding`; nothing was changed",
        ));
    }
    for edit in edits.edits() {
        refuse_guessed(&text, &edit.text, || place(path, &text, edit.span.start as usize))?;
    }
    encoding
        .patch(text.as_str(), edits)
        .map_err(|wrong| no_character(&place(path, &text, wrong.at), encoding, wrong.character))
}

fn no_character(place: &str, encoding: Encoding, character: char) -> Error {
    let code = u32::from(character);
    Error::refused(
        format!("{place}: {} has no character `{character}` (U+{code:04X})", encoding.name()),
        "choose other letters, or save the file as UTF-8 if the game reads that; nothing was changed",
    )
}

/// A place in a file, for messages: path, line and column, both from 1 on.
fn place(path: &RelPath, text: &Text<'_>, at: usize) -> String {
    let at = u32::try_from(at).unwrap_or(u32::MAX);
    let (line, column) = LineTable::new(text.as_str(), text.body()).line_column(text.as_str(), at);
    format!("{path}:{line}:{column}")
}
