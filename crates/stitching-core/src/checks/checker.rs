//! Checking the same project again and again: files that are as they were are not read again.

use super::run::{Report, check_with};
use crate::layers::{FileId, Stack};
use crate::project::Project;
use crate::reading::{FactsCache, IndexedParts};
use std::collections::HashMap;
use std::path::PathBuf;
use std::sync::PoisonError;
use std::time::{Duration, SystemTime};

/// What is known of a file from an earlier check.
#[derive(Debug)]
struct KnownFile {
    stamp: Stamp,
    parts: IndexedParts,
}

/// By what a file is known to be as it was.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
struct Stamp {
    size: u64,
    modified: SystemTime,
}

/// A file that was written so short a time before it was looked at may be written again within the same tick of the clock of its
/// file system.
const TICK: Duration = Duration::from_secs(2);

/// Checks a project as often as it is asked to.
#[derive(Debug, Default)]
pub struct Checker {
    /// What the project and its schema said when the rest became known.
    description: String,
    known: HashMap<PathBuf, KnownFile>,
}

impl Checker {
    /// Checks `project`, whose project file and schema files have this text.
    pub fn check(&mut self, project: &Project, description: String) -> Report {
        // What is known of a file depends on what the schema says of all.
        if description != self.description {
            self.known.clear();
            self.description = description;
        }
        let stack = &project.stack;
        let stamps: HashMap<FileId, Stamp> =
            (0..stack.files().len()).filter_map(|file| Some((file, stamp(stack, file)?))).collect();
        let mut cache = HashMap::new();
        for (file, stamp) in &stamps {
            let known = self.known.get(&stack.location(*file)).filter(|known| known.stamp == *stamp);
            cache.extend(known.map(|known| (*file, known.parts.clone())));
        }
        let cache = FactsCache::new(cache);
        let report = check_with(project.view(), &cache);
        let found = cache.into_inner().unwrap_or_else(PoisonError::into_inner);
        let of_file = |(file, parts)| {
            let stamp = *stamps.get(&file)?;
            Some((stack.location(file), KnownFile { stamp, parts }))
        };
        self.known = found.into_iter().filter_map(of_file).collect();
        report
    }
}

/// That of a file; `None` if it cannot tell whether the file changes.
fn stamp(stack: &Stack, file: FileId) -> Option<Stamp> {
    if !stack.is_plain(file) {
        return None;
    }
    let metadata = std::fs::metadata(stack.location(file)).ok()?;
    let modified = metadata.modified().ok()?;
    let is_settled = SystemTime::now().duration_since(modified).is_ok_and(|age| age > TICK);
    is_settled.then_some(Stamp { size: metadata.len(), modified })
}
