//! Files that depend on other files: `[[derived]]` and `[[paired]]`.

use super::FilePattern;
use crate::layers::RelPath;

/// Files that the game or a tool makes from others, and that are stale once these change.
#[derive(Debug, Clone)]
pub struct Derived {
    /// The files that are made.
    pub files: FilePattern,
    /// What they are made from.
    pub from: Vec<FilePattern>,
    /// What becomes of them.
    pub when_changed: WhenChanged,
}

/// What becomes of a derived file when what it is made from changes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WhenChanged {
    /// It is removed.
    Delete,
    /// It stays without anything in it.
    Empty,
    /// It stays as it is, and the user is told.
    Report,
}

impl WhenChanged {
    /// All of them, by the words of the schema.
    pub const NAMES: [(&'static str, WhenChanged); 3] =
        [("delete", WhenChanged::Delete), ("empty", WhenChanged::Empty), ("report", WhenChanged::Report)];
}

impl Derived {
    /// Whether the derived file at `path` is stale when the file at `changed` changes. Where both patterns have a part of
    /// the same name, it must have the same text in both paths.
    pub fn is_stale(&self, path: &RelPath, changed: &RelPath) -> bool {
        let Some(own) = self.files.values(path.as_str()) else { return false };
        let from = |pattern: &FilePattern| {
            let Some(values) = pattern.values(changed.as_str()) else { return false };
            let same = |(name, value): (&String, &&str)| {
                let other = self.files.parts().iter().position(|own| own == name);
                other.is_none_or(|at| own[at] == *value)
            };
            pattern.takes(changed.as_str()) && pattern.parts().iter().zip(&values).all(same)
        };
        self.files.takes(path.as_str()) && self.from.iter().any(from)
    }
}

/// Files that must be equal.
#[derive(Debug, Clone)]
pub struct Paired {
    /// Their paths; the first leads where none was changed.
    pub files: Vec<RelPath>,
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::any_source("cache/*.bin", "tables/*.txt", "cache/a.bin", "tables/b.txt", true)]
    #[case::another_file("cache/*.bin", "tables/*.txt", "cache/a.txt", "tables/b.txt", false)]
    #[case::another_source("cache/*.bin", "tables/*.txt", "cache/a.bin", "tables/b.csv", false)]
    #[case::of_the_same_site("cache/{site}.bin", "sites/{site}/*", "cache/a.bin", "sites/a/x", true)]
    #[case::of_another_site("cache/{site}.bin", "sites/{site}/*", "cache/a.bin", "sites/b/x", false)]
    #[case::other_parts("cache/{site}.bin", "sites/{place}/*", "cache/a.bin", "sites/b/x", true)]
    fn a_derived_file_is_stale_when_its_source_changes(
        #[case] files: &str,
        #[case] from: &str,
        #[case] path: &str,
        #[case] changed: &str,
        #[case] stale: bool,
    ) {
        let pattern = |source: &str| FilePattern::parse(source).expect("a pattern");
        let derived =
            Derived { files: pattern(files), from: vec![pattern(from)], when_changed: WhenChanged::Delete };
        let rel = |path: &str| RelPath::parse(path).expect("a path");
        assert_eq!(derived.is_stale(&rel(path), &rel(changed)), stale);
    }
}
