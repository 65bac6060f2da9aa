//! The part of a path that can name records: the file's name, or that of a folder.

use super::keys::STEM;
use super::names::words;
use crate::layers::RelPath;
use std::collections::BTreeSet;

/// A part of a path.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct FilePart {
    /// As a key has it: `{stem}`, `{basin}`.
    pub name: String,
    /// Which folder of the path it is, counted from 0; `None` for the file's name.
    folder: Option<usize>,
}

/// What parts of paths may not be called, since keys have other meanings for these.
const TAKEN: [&str; 12] = [
    "lang", "stem", "file", "path", "folder", "position", "member", "section", "name", "label", "key",
    "value",
];

impl FilePart {
    /// The named folder that the patterns for the files of a table have; else the file's name.
    pub fn of(patterns: &[String]) -> FilePart {
        let named = patterns.first().and_then(|pattern| {
            let is_named = |step: &str| step.starts_with('{') && step.ends_with('}') && step != "{lang}";
            let (folder, step) = pattern.split('/').enumerate().find(|(_, step)| is_named(step))?;
            Some(FilePart { name: step.to_owned(), folder: Some(folder) })
        });
        named.unwrap_or_else(|| FilePart { name: STEM.to_owned(), folder: None })
    }

    /// What it is in a path.
    pub fn text<'p>(&self, path: &'p RelPath) -> &'p str {
        match self.folder {
            None => path.stem(),
            Some(at) => path.as_str().split('/').nth(at).unwrap_or_default(),
        }
    }
}

/// Paths that differ in one folder only, put together if they are many, with a name for that folder:
/// `basins/north/gates.json` and others like it are `basins/{basin}/gates.json`.
pub(super) fn with_named_folder(patterns: Vec<String>) -> Vec<String> {
    /// Fewer are told one by one.
    const MANY: usize = 3;
    let Some(first) = patterns.first().filter(|_| patterns.len() >= MANY) else { return patterns };
    let first: Vec<&str> = first.split('/').collect();
    let mut varying: BTreeSet<usize> = BTreeSet::new();
    for pattern in &patterns {
        let steps: Vec<&str> = pattern.split('/').collect();
        if steps.len() != first.len() || pattern.contains(['*', '{']) {
            return patterns;
        }
        varying.extend((0..steps.len()).filter(|at| steps[*at] != first[*at]));
    }
    let mut varying = varying.into_iter();
    let (Some(at), None) = (varying.next(), varying.next()) else { return patterns };
    if at + 1 == first.len() {
        return patterns;
    }
    let around = at.checked_sub(1).map(|around| words(first[around]).join("_")).unwrap_or_default();
    let is_plain =
        !around.is_empty() && around.chars().all(|next| next.is_ascii_alphanumeric() || next == '_');
    let name = if is_plain && !TAKEN.contains(&around.as_str()) { around } else { "place".to_owned() };
    let mut steps: Vec<String> = first.iter().map(|step| (*step).to_owned()).collect();
    steps[at] = format!("{{{name}}}");
    vec![steps.join("/")]
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::named("basins/a/g.json basins/b/g.json basins/c/g.json basins/d/g.json", "basins/{basin}/g.json")]
    #[case::no_folder_around("a/g.json b/g.json c/g.json d/g.json", "{place}/g.json")]
    #[case::a_name_with_another_meaning("files/a/g files/b/g files/c/g files/d/g", "files/{place}/g")]
    #[case::three("basins/a/g.json basins/b/g.json basins/c/g.json", "basins/{basin}/g.json")]
    #[case::few("basins/a/g.json basins/b/g.json", "basins/a/g.json basins/b/g.json")]
    #[case::the_file_differs("a/1 a/2 a/3 a/4", "a/1 a/2 a/3 a/4")]
    #[case::two_folders_differ("a/x/1 b/y/1 c/z/1 d/w/1", "a/x/1 b/y/1 c/z/1 d/w/1")]
    #[case::deeper("a/1 b/1 c/d/1 e/1", "a/1 b/1 c/d/1 e/1")]
    #[case::patterns("a/*.x b/*.x c/*.x d/*.x", "a/*.x b/*.x c/*.x d/*.x")]
    fn paths_that_differ_in_a_folder(#[case] patterns: &str, #[case] expected: &str) {
        let patterns = patterns.split(' ').map(str::to_owned).collect();
        assert_eq!(with_named_folder(patterns).join(" "), expected);
    }

    #[rstest]
    #[case::the_file("ports/*.json", "ports/mill.json", "{stem}", "mill")]
    #[case::a_folder("basins/{basin}/gates.json", "basins/north/gates.json", "{basin}", "north")]
    #[case::a_language("text/{lang}/names.txt", "text/de/names.txt", "{stem}", "names")]
    fn the_part_of_a_path(#[case] pattern: &str, #[case] path: &str, #[case] name: &str, #[case] text: &str) {
        let part = FilePart::of(&[pattern.to_owned()]);
        let path = RelPath::parse(path).expect("a path");
        assert_eq!((part.name.as_str(), part.text(&path)), (name, text));
    }
}
