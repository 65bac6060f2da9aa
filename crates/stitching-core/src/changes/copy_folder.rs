//! Copying a folder with all that is in it, under another name or at another place.
//!
//! Where the folder's name is a word by itself in a text file, the copy has the new name, also in capitals or with a capital
//! first; so have names of files and keys of records that are made of it. What lies within the folder goes on pointing within
//! the copy.

use super::builder::Builder;
use super::change::{Change, Note};
use crate::Error;
use crate::layers::{FileId, RelPath};
use crate::project::Project;
use crate::schema::KeyPart;
use crate::tables::read_all;
use crate::text::{
    Edit, EditSet, LetterCase, LineTable, LoadedText, Span, Text, WordEnds, is_word, nearest_of,
    with_words_replaced,
};
use aho_corasick::AhoCorasick;
use std::collections::{BTreeMap, BTreeSet, HashSet};

/// So many places of one kind are told.
const MOST_PLACES: usize = 20;

/// Builds the change that copies the folder `from` to `to`, both from a layer's root. Files of all layers count; files that
/// are there already stay as they are.
///
/// # Errors
/// When there is no such folder, one lies inside the other, a path is not valid, or a file cannot be read.
pub fn copy_folder(project: &Project, from: &str, to: &str) -> Result<Change, Error> {
    let (from, to) = (parse_folder(from)?, parse_folder(to)?);
    refuse_nested(&from, &to)?;
    refuse_unknown(project, &from)?;
    let stack = &project.stack;
    let all: Vec<(FileId, &RelPath)> =
        stack.effective(stack.top()).into_iter().map(|file| (file, &stack.files()[file].path)).collect();
    let files: Vec<(FileId, &RelPath)> =
        all.iter().copied().filter(|(_, path)| lies_in(path, &from)).collect();
    let mut names = NewNames::of(&from, &to);
    let mut copies: Vec<(FileId, RelPath)> = Vec::new();
    for (file, path) in &files {
        let inner = &path.as_str()[from.as_str().len() + 1..];
        let renamed = names.in_path(inner);
        let new = RelPath::parse(&format!("{to}/{renamed}"))
            .map_err(|error| Error::refused(error.to_string(), "choose another name; nothing was changed"))?;
        names.add_file(inner, &renamed);
        copies.push((*file, new));
    }
    let mut builder = Builder::new(project, format!("copy {from}/ to {to}/"));
    for (file, _) in &files {
        keys_of(project, &mut builder, *file, &mut names)?;
    }
    let known = all.iter().map(|(_, path)| path.as_str());
    let words: Vec<(String, String)> = std::mem::take(&mut names.words).into_iter().collect();
    let finder = AhoCorasick::new(words.iter().map(|(old, _)| old)).map_err(|error| {
        Error::refused(format!("too many names change: {error}"), "copy parts of the folder")
    })?;
    let mut work = Work {
        project,
        names,
        words,
        finder,
        below: below(&from, &to),
        there: known.map(str::to_owned).collect(),
        copied: copies.iter().map(|(_, new)| new.to_string()).collect(),
        left: Vec::new(),
        lacking: BTreeSet::new(),
    };
    for (file, new) in &copies {
        work.file(&mut builder, *file, new)?;
    }
    work.tell(&mut builder);
    let change = builder.finish()?;
    match change.files().is_empty() {
        true => Err(Error::nothing_to_do(format!("all files of `{from}/` are in `{to}/` already"))),
        false => Ok(change),
    }
}

/// The part of `to` up to the last name that differs from that in `from`, with a `/` at its end: what is below it is new.
fn below(from: &RelPath, to: &RelPath) -> String {
    let (old, new): (Vec<&str>, Vec<&str>) =
        (from.as_str().split('/').collect(), to.as_str().split('/').collect());
    let differs = |at: &usize| old.len() != new.len() || old[*at] != new[*at];
    let last = (0..new.len()).rev().find(differs).unwrap_or_default();
    format!("{}/", new[..=last].join("/"))
}

/// Refuses two folders of which one lies inside the other.
pub(super) fn refuse_nested(from: &RelPath, to: &RelPath) -> Result<(), Error> {
    if from == to {
        return Err(Error::nothing_to_do(format!("`{to}/` is its path already")));
    }
    if lies_in(from, to) || lies_in(to, from) {
        return Err(Error::refused(
            format!("`{from}/` and `{to}/` lie one inside the other"),
            "choose a folder beside it; nothing was changed",
        ));
    }
    Ok(())
}

/// The path of a folder, with or without a `/` at its end.
///
/// # Errors
/// When it is no path inside a layer.
pub(super) fn parse_folder(text: &str) -> Result<RelPath, Error> {
    let path = RelPath::parse(text.trim_end_matches(['/', '\\']));
    path.map_err(|error| Error::Usage {
        message: error.to_string(),
        help: "a folder is named from the root of its layer: sites/old_basin/".into(),
    })
}

fn lies_in(path: &RelPath, folder: &RelPath) -> bool {
    path.as_str().strip_prefix(folder.as_str()).is_some_and(|rest| rest.starts_with('/'))
}

/// Refuses a folder that no layer has a file in; tells the nearest.
pub(super) fn refuse_unknown(project: &Project, from: &RelPath) -> Result<(), Error> {
    let stack = &project.stack;
    let mut folders: BTreeSet<&str> = BTreeSet::new();
    for file in stack.effective(stack.top()) {
        let path = &stack.files()[file].path;
        if lies_in(path, from) {
            return Ok(());
        }
        let path = path.as_str();
        folders.extend(path.match_indices('/').map(|(end, _)| &path[..end]));
    }
    let near = nearest_of(from.as_str(), folders);
    let help = match near.first() {
        Some(near) => format!("did you mean `{near}/`?"),
        None => "folders are named from the root of their layer".to_owned(),
    };
    Err(Error::Unknown { what: "folder", name: format!("{from}/"), help: help.into() })
}

/// What gets another name in the copy: words and what they become.
struct NewNames {
    /// Names of folders, as they are written.
    folders: Vec<(String, String)>,
    /// All words, in each case that they may be written in.
    words: BTreeMap<String, String>,
}

impl NewNames {
    /// The names of folders that differ between the two paths.
    fn of(from: &RelPath, to: &RelPath) -> NewNames {
        let parts = |path: &RelPath| path.as_str().split('/').map(str::to_owned).collect::<Vec<_>>();
        let (old, new) = (parts(from), parts(to));
        let mut pairs: Vec<(String, String)> = match old.len() == new.len() {
            true => old.into_iter().zip(new).collect(),
            false => old.into_iter().next_back().zip(new.into_iter().next_back()).into_iter().collect(),
        };
        pairs.retain(|(old, new)| old != new);
        let mut names = NewNames { folders: pairs.clone(), words: BTreeMap::new() };
        for (old, new) in pairs {
            names.add(&old, &new);
        }
        names.words.insert(from.to_string(), to.to_string());
        names
    }

    fn add(&mut self, old: &str, new: &str) {
        self.words.insert(old.to_owned(), new.to_owned());
        for case in [LetterCase::Upper, LetterCase::Title] {
            self.words.entry(case.apply(old)).or_insert_with(|| case.apply(new));
        }
        self.words.entry(with_capital(old)).or_insert_with(|| with_capital(new));
    }

    /// A path within the folder, with the names of folders in it replaced where they are words; `_` ends a word.
    fn in_path(&self, inner: &str) -> String {
        let mut out = inner.to_owned();
        for (old, new) in &self.folders {
            out = with_words_replaced(&out, old, new).unwrap_or(out);
        }
        out
    }

    /// Takes note of a file that has another name.
    fn add_file(&mut self, old: &str, new: &str) {
        for (old, new) in old.split('/').zip(new.split('/')).filter(|(old, new)| old != new) {
            self.words.insert(old.to_owned(), new.to_owned());
            let stem = |name: &str| name.rsplit_once('.').map_or(name, |(stem, _)| stem).to_owned();
            self.words.insert(stem(old), stem(new));
        }
    }
}

/// With the first letter in upper case.
fn with_capital(text: &str) -> String {
    let mut letters = text.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

/// Takes note of the keys of records in a file that are made of a folder's name: no two records may have the same.
fn keys_of(
    project: &Project,
    builder: &mut Builder<'_>,
    file: FileId,
    names: &mut NewNames,
) -> Result<(), Error> {
    let path = &project.stack.files()[file].path;
    for id in project.schema.tables_of(path) {
        let table = &project.schema.tables[id];
        let text = builder.text(file)?;
        let mut found = Vec::new();
        for record in read_all(table, path, &text) {
            for part in &table.key {
                let KeyPart::Field(field) = part else { continue };
                let value = record.value(*field).map(|value| value.text.clone()).unwrap_or_default();
                for (old, new) in &names.folders {
                    found.extend(with_words_replaced(&value, old, new).map(|new| (value.clone(), new)));
                }
            }
        }
        for (old, new) in found {
            names.words.entry(old).or_insert(new);
        }
    }
    Ok(())
}

struct Work<'p> {
    project: &'p Project,
    names: NewNames,
    /// What gets another name, and what finds it.
    words: Vec<(String, String)>,
    finder: AhoCorasick,
    /// The path, with a `/` at its end, below which copies may name files that are not there.
    below: String,
    /// The paths of all files.
    there: HashSet<String>,
    /// The paths of the copies.
    copied: HashSet<String>,
    /// Where an old name still stands in a longer word: path, line, and the word.
    left: Vec<(String, usize, String)>,
    /// The files below the new folder that the copies name, and that are not there.
    lacking: BTreeSet<String>,
}

impl Work<'_> {
    fn file(&mut self, builder: &mut Builder<'_>, file: FileId, new: &RelPath) -> Result<(), Error> {
        let stack = &self.project.stack;
        if self.there.contains(new.as_str()) {
            builder.note(Note::FileKept(new.to_string()));
            return Ok(());
        }
        let entry = &stack.files()[file];
        builder.note(Note::FileCopied(entry.path.to_string(), new.to_string()));
        let loaded = LoadedText::new(builder.bytes(file)?.to_vec(), entry.encoding);
        let text = loaded.text();
        if !text.editable() || text.as_str().contains('\0') {
            return builder.copy_to(file, new);
        }
        let edits = self.edits(&text);
        let Some(copy) = edits.apply_to(text.as_str()) else { return builder.copy_to(file, new) };
        self.look_at(new, &copy);
        match edits.is_empty() {
            true => builder.copy_to(file, new),
            false => {
                builder.count(edits.edits().len());
                builder.create(new, &copy, Some(file))
            }
        }
    }

    /// What is replaced in a text: the longest word at each place. Cost: one pass over the text, however many words.
    fn edits(&self, text: &Text<'_>) -> EditSet {
        let mut places: BTreeMap<usize, (&str, &str)> = BTreeMap::new();
        for found in self.finder.find_overlapping_iter(text.as_str()) {
            let (old, new) = &self.words[found.pattern().as_usize()];
            if is_word(text.as_str(), found.range(), WordEnds::KeepUnderscores) {
                let longest = places.entry(found.start()).or_insert((old, new));
                if longest.0.len() < old.len() {
                    *longest = (old, new);
                }
            }
        }
        let (mut edits, mut from) = (Vec::new(), 0);
        for (at, (old, new)) in places {
            if at >= from {
                edits.push(Edit { span: Span::new(at, at + old.len()), text: new.to_owned() });
                from = at + old.len();
            }
        }
        EditSet::new(edits).unwrap_or_default()
    }

    /// Takes note of what in a copy still has an old name in it, and of files that it names and that are not there.
    fn look_at(&mut self, path: &RelPath, text: &str) {
        let is_of_path = |next: char| next.is_alphanumeric() || matches!(next, '_' | '-' | '.' | '/');
        let word_at = |at: usize, length: usize, is_part: &dyn Fn(char) -> bool| {
            let start = text[..at]
                .rfind(|next| !is_part(next))
                .map_or(0, |found| found + text[found..].chars().next().map_or(1, char::len_utf8));
            let end = text[at + length..]
                .find(|next| !is_part(next))
                .map_or(text.len(), |found| at + length + found);
            text[start..end].to_owned()
        };
        let lines = LineTable::new(text, 0);
        for (old, new) in &self.names.folders {
            for (at, found) in text.match_indices(old.as_str()) {
                let word = word_at(at, found.len(), &|next| next.is_alphanumeric() || next == '_');
                // The new name may have the old one in it.
                if self.left.len() < MOST_PLACES && word != *old && !word.contains(new.as_str()) {
                    let line = lines.line_column(text, u32::try_from(at).unwrap_or(u32::MAX)).0;
                    self.left.push((path.to_string(), line, word));
                }
            }
        }
        for (at, found) in text.match_indices(&self.below) {
            let named = word_at(at, found.len(), &is_of_path);
            let named = named.trim_end_matches(['.', '/']);
            let is_file = named.starts_with(&self.below)
                && RelPath::parse(named).is_ok_and(|path| path.name().contains('.'));
            let is_there = || self.copied.contains(named) || self.there.contains(named);
            if is_file && !is_there() {
                self.lacking.insert(named.to_owned());
            }
        }
    }

    fn tell(self, builder: &mut Builder<'_>) {
        for (path, line, word) in self.left {
            builder.note(Note::StillNames(format!("{path}:{line}"), word));
        }
        for path in self.lacking.into_iter().take(MOST_PLACES) {
            builder.note(Note::Lacks(path));
        }
    }
}
