//! Checking the same project again and again: files that are as they were are not read again.

use super::run::{Report, check_with};
use crate::layers::{FileId, Stack, Stamp, nanoseconds};
use crate::project::Project;
use crate::reading::{FactsCache, IndexedParts};
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::PoisonError;
use std::time::SystemTime;

/// What is known of a file from an earlier check.
#[derive(Debug)]
struct KnownFile {
    stamp: Stamp,
    parts: IndexedParts,
}

/// Checks a project as often as it is asked to.
#[derive(Debug, Default)]
pub struct Checker {
    /// What the project and its schema said when the rest became known.
    description: String,
    known: HashMap<PathBuf, KnownFile>,
    files_read: usize,
}

impl Checker {
    /// Checks `project`. `now` is what the clock says: a file that changed less than two seconds ago may change once more
    /// without another time, and is read again the next time.
    pub fn check(&mut self, project: &Project, now: SystemTime) -> Report {
        // What is known of a file depends on what the schema says of all.
        if project.description != self.description {
            self.known.clear();
            self.description.clone_from(&project.description);
        }
        let stack = &project.stack;
        let mut stamps: HashMap<FileId, Stamp> =
            (0..stack.files().len()).filter_map(|file| Some((file, stamp(stack, file, now)?))).collect();
        let mut cache = HashMap::new();
        for (file, stamp) in &stamps {
            let known = self.known.get(&stack.location(*file)).filter(|known| known.stamp == *stamp);
            cache.extend(known.map(|known| (*file, known.parts.clone())));
        }
        let known = cache.len();
        let cache = FactsCache::new(cache);
        let report = check_with(project.view(), &cache);
        let found = cache.into_inner().unwrap_or_else(PoisonError::into_inner);
        self.files_read = found.len() - known;
        let of_file = |(file, parts)| {
            let stamp = stamps.remove(&file)?;
            Some((stack.location(file), KnownFile { stamp, parts }))
        };
        self.known = found.into_iter().filter_map(of_file).collect();
        report
    }

    /// How many files the last check read.
    pub fn files_read(&self) -> usize {
        self.files_read
    }
}

/// That of a file; `None` if it cannot tell whether the file changes.
fn stamp(stack: &Stack, file: FileId, now: SystemTime) -> Option<Stamp> {
    if !stack.is_plain(file) {
        return None;
    }
    let stamp = Stamp::of(&std::fs::metadata(stack.location(file)).ok()?)?;
    (!stamp.is_fresh(nanoseconds(now))).then_some(stamp)
}
