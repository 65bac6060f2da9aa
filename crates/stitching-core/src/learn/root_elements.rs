//! XML by its root element: files with one root element hold things of one kind, wherever they are.

use super::candidates::{Candidate, Group, RecognisedFile, of_cluster, place_of};
use super::file_part::with_named_folder;
use crate::layers::{FileId, Stack};
use std::collections::{BTreeMap, BTreeSet};

/// The XML files with one root element, wherever they are: what they hold is of one kind.
pub(super) struct OfRoot {
    files: Vec<FileId>,
    seen: Vec<RecognisedFile>,
}

/// The folders and endings in which there are other files than XML.
pub(super) fn not_only_xml(seen: &[Group], copies: &BTreeMap<FileId, FileId>) -> BTreeSet<(String, String)> {
    let is_mixed = |(.., seen): &&Group| seen.iter().any(|own| root_of(own, copies).is_none());
    seen.iter().filter(is_mixed).map(|(place, ..)| place.clone()).collect()
}

/// The name of a file's root element, if it is XML and no copy of another file.
fn root_of<'s>(own: &'s RecognisedFile, copies: &BTreeMap<FileId, FileId>) -> Option<&'s String> {
    own.what.as_ref().filter(|_| !copies.contains_key(&own.file))?.root.as_ref()
}

/// Takes XML files of which several have the same root element out of their groups.
pub(super) fn by_root_element(seen: &mut [Group], copies: &BTreeMap<FileId, FileId>) -> Vec<OfRoot> {
    let root = |own: &RecognisedFile| root_of(own, copies).cloned();
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    for name in seen.iter().flat_map(|(.., seen)| seen.iter().filter_map(root)) {
        *counts.entry(name).or_default() += 1;
    }
    let mut out: BTreeMap<String, OfRoot> = BTreeMap::new();
    for (_, files, seen) in seen.iter_mut() {
        let all_seen = files.len() == seen.len();
        let roots: BTreeSet<String> = seen.iter().filter_map(root).collect();
        for name in roots.into_iter().filter(|name| counts[name] > 1) {
            let is_of = |own: &RecognisedFile| root(own).as_ref() == Some(&name);
            let own =
                out.entry(name.clone()).or_insert_with(|| OfRoot { files: Vec::new(), seen: Vec::new() });
            let (taken, left): (Vec<RecognisedFile>, Vec<RecognisedFile>) =
                std::mem::take(seen).into_iter().partition(is_of);
            // Those that were not looked at are taken to be as most of those that were.
            if !all_seen && taken.len() > left.len() {
                let is_left = |file: &FileId| left.iter().any(|own| own.file == *file);
                let (kept, given): (Vec<FileId>, Vec<FileId>) =
                    std::mem::take(files).into_iter().partition(is_left);
                own.files.extend(given);
                *files = kept;
            } else {
                own.files.extend(taken.iter().map(|own| own.file));
                files.retain(|file| !taken.iter().any(|own| own.file == *file));
            }
            own.seen.extend(taken);
            *seen = left;
        }
    }
    out.into_values().collect()
}

impl OfRoot {
    /// The files that were looked at.
    pub fn files(&self) -> impl Iterator<Item = FileId> {
        self.seen.iter().map(|own| own.file)
    }

    /// The tables of these files; of places in `mixed`, folders with endings, files are named one by one.
    pub fn candidates(self, stack: &Stack, mixed: &BTreeSet<(String, String)>) -> Vec<Candidate> {
        /// So many files show what all of them are like.
        const LOOKED_AT: usize = 256;
        let mut files = self.files;
        files.sort_unstable();
        files.dedup();
        let path = |file: &FileId| stack.files()[*file].path.as_str();
        let mut patterns: BTreeSet<String> = BTreeSet::new();
        for file in &files {
            let place = place_of(&stack.files()[*file].path);
            // Where all are XML, those with another root have nothing that is read.
            let own = path(file);
            let pattern = own.rsplit_once('.').filter(|_| !mixed.contains(&place)).map(|(start, ending)| {
                let folder = start.rsplit_once('/').map_or(String::new(), |(folder, _)| format!("{folder}/"));
                format!("{folder}*.{ending}")
            });
            patterns.insert(pattern.unwrap_or_else(|| own.to_owned()));
        }
        let only_one = files.iter().all(|file| path(file) == path(&files[0]));
        // Files of one name, each in a folder of its own, are told apart by that.
        let paths: BTreeSet<String> = files.iter().map(|file| path(file).to_owned()).collect();
        let named = with_named_folder(paths.into_iter().collect());
        let patterns = match (only_one, &named[..]) {
            (true, _) => vec![path(&files[0]).to_owned()],
            (false, [one]) => vec![one.clone()],
            _ => in_folders(patterns.into_iter().collect(), mixed),
        };
        let step = self.seen.len().div_ceil(LOOKED_AT).max(1);
        let cluster: Vec<&RecognisedFile> = self.seen.iter().step_by(step).collect();
        let folder = common_folder(files.iter().map(path));
        of_cluster(stack, &folder, patterns, files, &cluster)
    }
}

/// The innermost folder that all of `paths` lie in.
fn common_folder<'p>(mut paths: impl Iterator<Item = &'p str>) -> String {
    let folder = |path: &'p str| path.rsplit_once('/').map_or("", |(folder, _)| folder);
    let mut common: Vec<&str> = folder(paths.next().unwrap_or_default()).split('/').collect();
    for path in paths {
        let shared = common.iter().zip(folder(path).split('/')).take_while(|(a, b)| **a == *b).count();
        common.truncate(shared);
    }
    common.join("/")
}

/// Patterns for all files of an ending in folders that lie in one folder, put together if they are many:
/// `units/north/*.xml` and others like it are `units/**/*.xml`. Places that are `left`, folders with endings, are not to be
/// taken by that.
fn in_folders(patterns: Vec<String>, left: &BTreeSet<(String, String)>) -> Vec<String> {
    /// Fewer are told one by one.
    const MANY: usize = 3;
    let ending = |pattern: &String| pattern.rsplit_once("*.").map(|(_, ending)| ending.to_owned());
    let Some(first) = patterns.first().filter(|_| patterns.len() >= MANY) else { return patterns };
    let same = ending(first).filter(|own| patterns.iter().all(|other| ending(other).as_ref() == Some(own)));
    let Some(same) = same else { return patterns };
    let common = common_folder(patterns.iter().map(String::as_str));
    let lies_in = |folder: &str| {
        common.is_empty()
            || folder.strip_prefix(&common).is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    };
    let takes_others = left.iter().any(|(folder, ending)| *ending == same.to_lowercase() && lies_in(folder));
    match common.as_str() {
        _ if takes_others => patterns,
        "" => vec![format!("**/*.{same}")],
        folder => vec![format!("{folder}/**/*.{same}")],
    }
}
