//! What learning looked at, and what it made nothing of, in a few lines.

use crate::ui::{Ui, count, grouped};
use std::collections::HashMap;
use stitching_core::learn::Learned;

/// Of more that is passed over the first are shown.
const PASSED_OVER: usize = 4;

pub(super) fn summary(learned: &Learned, ui: &Ui) {
    ui.note(&format!(
        "{} with {} studied",
        count(learned.tables, "table"),
        count(learned.records as usize, "record")
    ));
    for problem in learned.passed_over.iter().take(PASSED_OVER) {
        ui.note(&format!(
            "passed over: {} ({}): {}",
            problem.place.path, problem.place.layer, problem.message
        ));
    }
    if learned.passed_over.len() > PASSED_OVER {
        ui.note(&format!("and {} more", grouped(learned.passed_over.len() - PASSED_OVER)));
    }
    if learned.binary > 0 {
        ui.note(&format!("{} without text passed over", count(learned.binary, "file")));
    }
    if !learned.copies.is_empty() {
        let shown = learned.copies.iter().map(|(copy, of)| format!("{copy} (of {of})"));
        ui.note(&format!("left out as copies: {}", some(shown)));
    }
    if !learned.unknown.is_empty() {
        ui.note(&format!("not recognised: {}", some(by_folder(&learned.unknown).into_iter())));
    }
}

/// The paths, with those of one folder that end alike as one where there are several: `icons/*.png (12 files)`.
fn by_folder(paths: &[String]) -> Vec<String> {
    const FEWEST: usize = 3;
    let like = |path: &str| {
        let (folder, name) = path.rsplit_once('/').unwrap_or(("", path));
        let ending = name.rsplit_once('.').map(|(_, ending)| format!(".{ending}")).unwrap_or_default();
        if folder.is_empty() { format!("*{ending}") } else { format!("{folder}/*{ending}") }
    };
    let mut counts: HashMap<String, usize> = HashMap::new();
    paths.iter().for_each(|path| *counts.entry(like(path)).or_default() += 1);
    let mut out: Vec<String> = Vec::new();
    for path in paths {
        let pattern = like(path);
        match counts.remove(&pattern) {
            Some(count) if count >= FEWEST => out.push(format!("{pattern} ({count} files)")),
            Some(count) => {
                counts.insert(pattern, count);
                out.push(path.clone());
            }
            // It is among those of its folder.
            None => {}
        }
    }
    out
}

/// The first few of `all`, and how many more there are.
fn some(all: impl ExactSizeIterator<Item = String>) -> String {
    const SHOWN: usize = 4;
    let more = all.len().saturating_sub(SHOWN);
    let shown: Vec<String> = all.take(SHOWN).collect();
    let more = if more > 0 { format!(" and {more} more") } else { String::new() };
    shown.join(", ") + &more
}

#[cfg(test)]
mod tests {
    use super::by_folder;
    use rstest::rstest;

    #[rstest]
    #[case::few(&["a/x.q", "a/y.q"], "a/x.q, a/y.q")]
    #[case::many(&["a/x.q", "b.txt", "a/y.q", "a/z.q"], "a/*.q (3 files), b.txt")]
    #[case::other_folders(&["a/x.q", "b/y.q", "c/z.q"], "a/x.q, b/y.q, c/z.q")]
    #[case::at_the_root(&["x.q", "y.q", "z.q"], "*.q (3 files)")]
    #[case::without_an_ending(&["a/x", "a/y", "a/z"], "a/* (3 files)")]
    #[case::nothing(&[], "")]
    fn folders_with_like_files(#[case] paths: &[&str], #[case] expected: &str) {
        let paths: Vec<String> = paths.iter().map(|path| (*path).to_owned()).collect();
        assert_eq!(by_folder(&paths).join(", "), expected);
    }
}
