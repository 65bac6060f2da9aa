//! What tables that the files seem to hold are called.

use super::candidates::{Candidate, place_of};
use super::names::plain_name;
use crate::layers::{FileId, RelPath, Stack};
use crate::schema::Schema;
use std::collections::{BTreeMap, HashSet};

/// Names of files and folders that tell nothing of what is in them.
const SAY_NOTHING: [&str; 13] = [
    "main", "data", "index", "default", "init", "all", "list", "base", "content", "contents", "entries",
    "table", "defs",
];

/// The name of a table over several files: what their names begin with, or the folder's name, or how they end.
pub(super) fn common_name(stack: &Stack, files: &[FileId], folder: &str) -> String {
    let mut common = stack.files()[files[0]].path.stem().to_owned();
    for file in files {
        let stem = stack.files()[*file].path.stem();
        let shared = common.chars().zip(stem.chars()).take_while(|(a, b)| a == b).count();
        common = common.chars().take(shared).collect();
    }
    let common = plain_name(common.trim_end_matches(|next: char| !next.is_alphanumeric()));
    let of_folder = plain_name(folder.rsplit('/').next().unwrap_or(folder).trim_end_matches(".zip"));
    // All are called so.
    let is_name = files.len() > 1 && files.iter().all(|file| stack.files()[*file].path.stem() == common);
    match (common.len(), of_folder.is_empty()) {
        (2.., _) if is_name => common,
        (0, true) => plain_name(&place_of(&stack.files()[files[0]].path).1),
        (4.., _) | (_, true) => common,
        _ => of_folder,
    }
}

/// The name of a table of one file: that of the file, or of its folder where only that tells what is in it.
pub(super) fn name_of_file(path: &RelPath) -> String {
    let says_nothing = |name: &String| SAY_NOTHING.contains(&name.as_str());
    let own = plain_name(path.stem());
    let mut folders = path.folder().rsplit('/').map(plain_name);
    let of_folder = folders.find(|name| !name.is_empty() && !says_nothing(name));
    match of_folder.filter(|_| says_nothing(&own)) {
        Some(folder) => folder,
        None => own,
    }
}

/// A name without the numbers in it, unless nothing else is: `hold_3_goods` is `hold_goods`.
pub(super) fn without_numbers(name: &str) -> String {
    let words = name.split('_').map(|word| word.trim_matches(|c: char| c.is_ascii_digit()));
    let kept: Vec<&str> = words.filter(|word| !word.is_empty()).collect();
    if kept.is_empty() { name.to_owned() } else { kept.join("_") }
}

/// Gives tables of one name different ones: the one that the schema has keeps it, or else the one with the most columns; the
/// others get the name of their folder in front, and then numbers.
pub(super) fn name_apart(parts: &mut [Candidate], schema: &Schema) {
    let described: HashSet<&str> = schema.tables.iter().map(|table| table.name.as_str()).collect();
    let mut largest: BTreeMap<String, (usize, usize)> = BTreeMap::new();
    for (at, part) in parts.iter().enumerate() {
        let own = largest.entry(part.name.clone()).or_insert((part.shape.columns.len(), at));
        if part.shape.columns.len() > own.0 {
            *own = (part.shape.columns.len(), at);
        }
    }
    let keeps = |at: usize, name: &String| {
        let is_free = !name.is_empty() && !described.contains(name.as_str());
        is_free && largest.get(name).is_some_and(|own| own.1 == at)
    };
    let mut used: HashSet<String> = parts
        .iter()
        .enumerate()
        .filter(|(at, part)| keeps(*at, &part.name))
        .map(|(_, part)| part.name.clone())
        .chain(described.iter().map(|name| (*name).to_owned()))
        .collect();
    for (at, part) in parts.iter_mut().enumerate() {
        if keeps(at, &part.name) {
            continue;
        }
        let mut folders = part.patterns[0].rsplit('/').skip(1).map(plain_name);
        let folder = folders.find(|folder| !folder.is_empty() && *folder != part.name).unwrap_or_default();
        let base = match (folder.as_str(), part.name.as_str()) {
            ("", "") => "table".to_owned(),
            (folder, "") => folder.to_owned(),
            ("", name) => name.to_owned(),
            (folder, name) => format!("{folder}_{name}"),
        };
        part.name = base.clone();
        let mut number = 2;
        while !used.insert(part.name.clone()) {
            part.name = format!("{base}_{number}");
            number += 1;
        }
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::expect_used, reason = "tests fail by panicking")]

    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("crews.txt", "crews")]
    #[case("quests/main.qst", "quests")]
    #[case("quests/day.qst", "day")]
    #[case("data/quests/index.txt", "quests")]
    #[case("quests/data/all.txt", "quests")]
    #[case("data/main.txt", "main")]
    #[case("main.txt", "main")]
    fn of_one_file(#[case] path: &str, #[case] expected: &str) {
        assert_eq!(name_of_file(&RelPath::parse(path).expect("a path")), expected);
    }
}
