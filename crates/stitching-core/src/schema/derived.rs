//! What files are to each other and to records: `[[derived]]`, `[[paired]]` and `[[asset]]`.

use super::FilePattern;
use crate::layers::{FileId, LayerId, RelPath, Stack};
use std::collections::HashMap;
use std::time::SystemTime;

/// Files that the game or a tool makes from others, and that are stale once these change.
#[derive(Debug, Clone)]
pub struct Derived {
    /// The files that are made.
    pub files: FilePattern,
    /// What they are made from.
    pub from: Vec<FilePattern>,
    /// What becomes of them.
    pub when_changed: WhenChanged,
    /// Whether there must be one for each that its name can be made of.
    pub required: bool,
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
    /// Whether the name of a derived file follows from one of those that it is made from.
    pub(super) fn can_be_named(&self) -> bool {
        let from = |pattern: &FilePattern| {
            self.files.fill(|name| pattern.parts().iter().any(|own| own == name).then_some("x")).is_some()
        };
        self.from.iter().any(from)
    }

    /// The path of the file that must be made from the one at `source`, if there must be one.
    pub fn wanted_for(&self, source: &RelPath) -> Option<String> {
        let from = |pattern: &FilePattern| {
            let values = pattern.takes(source.as_str()).then(|| pattern.values(source.as_str()))??;
            self.files.fill(|name| {
                let at = pattern.parts().iter().position(|own| own == name)?;
                values.get(at).copied()
            })
        };
        self.required.then(|| self.from.iter().find_map(from)).flatten()
    }

    /// The effective files through a layer that are made from others and were changed before one of these, by their times,
    /// each with the one that was changed last. Cost: a look at each of these files.
    pub fn older_files(&self, stack: &Stack, through: LayerId) -> Vec<(FileId, FileId)> {
        let files = stack.effective(through);
        let path = |file: FileId| stack.files()[file].path.as_str();
        // One that was emptied, so that the game makes it anew, can be no staler.
        let is_done = |file: FileId| self.when_changed == WhenChanged::Empty && stack.files()[file].size == 0;
        let is_own = |file: &FileId| self.files.takes(path(*file)) && !is_done(*file);
        let own: Vec<FileId> = files.iter().copied().filter(is_own).collect();
        if own.is_empty() {
            return Vec::new();
        }
        let mut newest: Vec<Option<(SystemTime, FileId)>> = vec![None; own.len()];
        for from in &self.from {
            // A part that both have must have the same text.
            let shared = |of: &FilePattern, path: &str| -> Option<Vec<String>> {
                let values = of.values(path)?;
                let is_shared =
                    |part: &&String| self.files.parts().contains(part) && from.parts().contains(part);
                let mut named: Vec<(&String, &str)> =
                    of.parts().iter().zip(values).filter(|(part, _)| is_shared(part)).collect();
                named.sort_unstable();
                Some(named.into_iter().map(|(_, value)| value.to_owned()).collect())
            };
            let mut last: HashMap<Vec<String>, (SystemTime, FileId)> = HashMap::new();
            for source in files.iter().copied().filter(|file| from.takes(path(*file))) {
                let (Some(parts), Some(time)) = (shared(from, path(source)), stack.modified(source)) else {
                    continue;
                };
                let known = last.entry(parts).or_insert((time, source));
                if time > known.0 {
                    *known = (time, source);
                }
            }
            for (file, newest) in own.iter().zip(&mut newest) {
                let found = shared(&self.files, path(*file)).and_then(|parts| last.get(&parts).copied());
                if found
                    .is_some_and(|(time, source)| source != *file && newest.is_none_or(|own| time > own.0))
                {
                    *newest = found;
                }
            }
        }
        let is_older = |(file, newest): (&FileId, Option<(SystemTime, FileId)>)| {
            let (time, source) = newest?;
            stack.modified(*file).is_some_and(|own| own < time).then_some((*file, source))
        };
        own.iter().zip(newest).filter_map(is_older).collect()
    }

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

/// Files that are there for records: one that none names is of no use.
#[derive(Debug, Clone)]
pub struct Asset {
    /// The files.
    pub files: FilePattern,
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
        let derived = Derived {
            files: pattern(files),
            from: vec![pattern(from)],
            when_changed: WhenChanged::Delete,
            required: false,
        };
        let rel = |path: &str| RelPath::parse(path).expect("a path");
        assert_eq!(derived.is_stale(&rel(path), &rel(changed)), stale);
    }
}
