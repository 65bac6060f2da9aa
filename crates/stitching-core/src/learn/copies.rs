//! Files that are copies of others: the same records again under another name, as backups are.
//!
//! A copy would make every key there twice. It is told by what is in it (nearly all of its lines stand in the other
//! file), and, since like files of a folder may say the same of different things, also by its name, or by most files
//! of its folder being the same to the byte.

use crate::layers::{FileId, RelPath};
use std::collections::{BTreeMap, BTreeSet, HashSet};
use xxhash_rust::xxh3::xxh3_64;

/// Fewer lines may be the same in files that have nothing to do with each other.
const FEWEST_LINES: usize = 8;
/// So many of a file's lines are kept: those with the lowest hashes, which are the same ones in a copy.
const MOST_LINES: usize = 256;
/// By so many of these, files that may be copies of each other are found.
const HANDLES: usize = 8;
/// A line that more files have than this says nothing.
const MOST_SHARING: usize = 24;

/// A file has at most so many copies that do not say so in their names.
const MOST_BACKUPS: usize = 3;

/// What is known of a file for comparing it with others.
#[derive(Debug)]
pub(super) struct Sketch {
    whole: u64,
    /// The lowest hashes of its lines, sorted.
    lines: Vec<u64>,
}

impl Sketch {
    /// The sketch of a file that begins with `text`.
    pub fn of(text: &str) -> Sketch {
        let own = text.lines().map(str::trim).filter(|line| line.len() > 2);
        let different: HashSet<u64> = own.map(|line| xxh3_64(line.as_bytes())).collect();
        let mut lines: Vec<u64> = different.into_iter().collect();
        lines.sort_unstable();
        lines.truncate(MOST_LINES);
        Sketch { whole: xxh3_64(text.as_bytes()), lines }
    }

    fn has_the_lines_of(&self, other: &Sketch) -> bool {
        let fewer = self.lines.len().min(other.lines.len());
        let shared = self.lines.iter().filter(|line| other.lines.binary_search(line).is_ok()).count();
        fewer >= FEWEST_LINES && shared * 10 >= self.lines.len().max(other.lines.len()) * 8
    }
}

/// A file that may be a copy, or have one.
pub(super) struct Compared<'p> {
    pub file: FileId,
    pub path: &'p RelPath,
    pub sketch: Sketch,
    /// Whether the schema has it already: then it is no copy.
    pub described: bool,
    /// Whether like files may say the same of different things, as files of settings do: only a name makes it a copy.
    pub by_name: bool,
}

/// Which of `files` are copies of which others.
///
/// Cost: proportional to the number of files.
pub(super) fn copies(files: &[Compared<'_>]) -> BTreeMap<FileId, FileId> {
    let mut sharing: BTreeMap<u64, Vec<usize>> = BTreeMap::new();
    let mut of_folder: BTreeMap<&str, usize> = BTreeMap::new();
    for (at, own) in files.iter().enumerate() {
        let handles = own.sketch.lines.iter().take(HANDLES).chain([&own.sketch.whole]);
        handles.for_each(|handle| sharing.entry(*handle).or_default().push(at));
        *of_folder.entry(folder(own.path)).or_default() += 1;
    }
    let mut same_in_folder: BTreeMap<(&str, u64), usize> = BTreeMap::new();
    for own in files {
        *same_in_folder.entry((folder(own.path), own.sketch.whole)).or_default() += 1;
    }
    let most_are_the_same = |own: &Compared<'_>| {
        let place = folder(own.path);
        same_in_folder[&(place, own.sketch.whole)] * 2 > of_folder[place]
    };
    let is_copy = |own: &Compared<'_>, other: &Compared<'_>| {
        let same = own.sketch.whole == other.sketch.whole;
        let alike = same || own.sketch.has_the_lines_of(&other.sketch);
        let large = own.sketch.lines.len() >= FEWEST_LINES;
        alike
            && (names_agree(own.path.stem(), other.path.stem())
                || same && large && !own.by_name && most_are_the_same(own))
    };
    let mut order: Vec<usize> = (0..files.len()).collect();
    order.sort_by_key(|at| {
        let path = files[*at].path.as_str();
        (!files[*at].described, says_copy(path), path.matches('/').count(), path.len(), path)
    });
    let place_of: BTreeMap<usize, usize> = order.iter().enumerate().map(|(place, at)| (*at, place)).collect();
    let mut out: BTreeMap<FileId, FileId> = BTreeMap::new();
    for at in &order {
        let own = &files[*at];
        if own.described {
            continue;
        }
        let handles = own.sketch.lines.iter().take(HANDLES).chain([&own.sketch.whole]);
        let others = handles.filter_map(|handle| sharing.get(handle)).filter(|own| own.len() <= MOST_SHARING);
        let before = others.flatten().filter(|other| place_of[*other] < place_of[at]);
        let original = before
            .filter(|other| !out.contains_key(&files[**other].file) && is_copy(own, &files[**other]))
            .min_by_key(|other| place_of[*other]);
        if let Some(original) = original {
            out.insert(own.file, files[*original].file);
        }
    }
    // Nobody keeps many backups of one file: files of one name in many folders just look alike.
    let mut counts: BTreeMap<FileId, usize> = BTreeMap::new();
    let is_silent = |own: &&Compared<'_>| out.contains_key(&own.file) && !says_copy(own.path.as_str());
    let silent: BTreeSet<FileId> = files.iter().filter(is_silent).map(|own| own.file).collect();
    for (copy, original) in &out {
        *counts.entry(*original).or_default() += usize::from(silent.contains(copy));
    }
    out.retain(|copy, original| !silent.contains(copy) || counts[original] <= MOST_BACKUPS);
    out
}

/// Whether a path says of itself that it is no original.
fn says_copy(path: &str) -> bool {
    const OF_COPIES: [&str; 10] =
        ["backup", "bak", "old", "copy", "copie", "orig", "original", "archive", "temp", "tmp"];
    super::names::words(path).iter().any(|word| OF_COPIES.contains(&word.as_str()))
}

fn folder(path: &RelPath) -> &str {
    path.as_str().rsplit_once('/').map_or("", |(folder, _)| folder)
}

/// Whether a file called `copy` could be one of `original` by its name: they are the same, or the one begins or ends with
/// the other, as `goods_old` and `copy of goods` do.
fn names_agree(copy: &str, original: &str) -> bool {
    let (copy, original) = (copy.to_lowercase(), original.to_lowercase());
    let is_apart =
        |rest: &str, next: Option<char>| rest.is_empty() || next.is_some_and(|next| !next.is_alphabetic());
    copy.strip_prefix(original.as_str()).is_some_and(|rest| is_apart(rest, rest.chars().next()))
        || copy.strip_suffix(original.as_str()).is_some_and(|rest| is_apart(rest, rest.chars().next_back()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// A text of the lines with these numbers.
    fn text(numbers: std::ops::Range<usize>) -> String {
        numbers.map(|number| format!("line {number}\n")).collect()
    }

    fn told(files: &[(&str, String)]) -> String {
        let paths: Vec<RelPath> = files.iter().filter_map(|(path, _)| RelPath::parse(path).ok()).collect();
        let compared: Vec<Compared<'_>> = files
            .iter()
            .zip(&paths)
            .enumerate()
            .map(|(file, ((_, text), path))| Compared {
                file,
                path,
                sketch: Sketch::of(text),
                described: false,
                by_name: path.as_str().starts_with("settings"),
            })
            .collect();
        let found = copies(&compared);
        let shown: Vec<String> =
            found.iter().map(|(copy, of)| format!("{} of {}", paths[*copy], paths[*of])).collect();
        shown.join(", ")
    }

    #[rstest]
    #[case::a_backup(&[("d/goods.txt", text(0..30)), ("old/goods.txt", text(0..30))], "old/goods.txt of d/goods.txt")]
    #[case::edited_since(&[("d/goods.txt", text(0..30)), ("d/goods_old.txt", text(2..30))], "d/goods_old.txt of d/goods.txt")]
    #[case::edited_much(&[("d/goods.txt", text(0..30)), ("d/goods_old.txt", text(15..45))], "")]
    #[case::the_same_of_other_things(
        &[("s/a.ini", text(0..30)), ("s/b.ini", text(0..30)), ("s/c.ini", text(90..99)), ("s/d.ini", text(100..120))],
        ""
    )]
    #[case::the_original_is_elsewhere(
        &[("backup/goods.txt", text(0..30)), ("tables/goods.txt", text(0..30))],
        "backup/goods.txt of tables/goods.txt"
    )]
    #[case::settings(&[("settings/a.ini", text(0..30)), ("settings/b.ini", text(0..30))], "")]
    #[case::all_the_same(&[("s/a.ini", text(0..30)), ("s/b.ini", text(0..30))], "s/b.ini of s/a.ini")]
    #[case::a_copy_of_a_copy(
        &[("g.txt", text(0..30)), ("g (2).txt", text(0..30)), ("g (2) old.txt", text(0..30))],
        "g (2).txt of g.txt, g (2) old.txt of g.txt"
    )]
    #[case::small(&[("g.txt", text(0..4)), ("g2.txt", text(1..4))], "")]
    fn copies_are_told(#[case] files: &[(&str, String)], #[case] expected: &str) {
        assert_eq!(told(files), expected);
    }

    #[rstest]
    #[case("goods_old", "goods", true)]
    #[case("copy of goods", "goods", true)]
    #[case("goods2", "goods", true)]
    #[case("goodsheds", "goods", false)]
    #[case("frost", "mill", false)]
    fn names_of_copies(#[case] copy: &str, #[case] original: &str, #[case] expected: bool) {
        assert_eq!(names_agree(copy, original), expected);
    }
}
