//! Which problems the last check found, so that the next can tell what came and what went.

use crate::layers::{recall, remember};
use crate::problem::Problem;
use std::collections::HashMap;
use std::path::Path;
use xxhash_rust::xxh3::xxh3_64;

/// The problems of a check, by their hashes: how often each is there.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct LastCheck {
    numbers: HashMap<u64, u32>,
}

/// The name under which they are remembered.
const NAME: &str = "last-check";

/// What begins the file: another number where what a hash is made of changes.
const HEAD: &[u8; 8] = b"problem1";

impl LastCheck {
    /// Those of `problems`.
    pub fn of(problems: &[Problem]) -> LastCheck {
        let mut numbers: HashMap<u64, u32> = HashMap::new();
        problems.iter().for_each(|problem| *numbers.entry(hash(problem)).or_default() += 1);
        LastCheck { numbers }
    }

    /// Those of the last check of the project in `folder`, if that is known.
    pub fn recall(folder: &Path) -> Option<LastCheck> {
        let bytes = recall(folder, NAME)?;
        let (chunks, []) = bytes.strip_prefix(HEAD)?.as_chunks::<12>() else { return None };
        let entry = |chunk: &[u8; 12]| {
            let (hash, number) = chunk.split_at(8);
            Some((u64::from_le_bytes(hash.try_into().ok()?), u32::from_le_bytes(number.try_into().ok()?)))
        };
        Some(LastCheck { numbers: chunks.iter().map(entry).collect::<Option<_>>()? })
    }

    /// Remembers them for the project in `folder`.
    ///
    /// # Errors
    /// When that is not possible; nothing depends on it.
    pub fn remember(&self, folder: &Path) -> std::io::Result<()> {
        let mut bytes = HEAD.to_vec();
        let mut sorted: Vec<(&u64, &u32)> = self.numbers.iter().collect();
        sorted.sort_unstable();
        for (hash, number) in sorted {
            bytes.extend(hash.to_le_bytes());
            bytes.extend(number.to_le_bytes());
        }
        remember(folder, NAME, &bytes)
    }

    /// For each of `problems` whether the last check did not have it; and how many it had that are gone.
    pub fn compare(&self, problems: &[Problem]) -> (Vec<bool>, usize) {
        let mut left = self.numbers.clone();
        let is_new = |problem: &Problem| match left.get_mut(&hash(problem)) {
            Some(number) if *number > 0 => {
                *number -= 1;
                false
            }
            _ => true,
        };
        let new = problems.iter().map(is_new).collect();
        (new, left.into_values().map(|number| number as usize).sum())
    }
}

/// What tells a problem from others, wherever in its file it stands.
fn hash(problem: &Problem) -> u64 {
    let parts = [
        Some(problem.name()),
        Some(problem.place.path.as_str()),
        problem.table.as_deref(),
        problem.key.as_deref(),
        problem.field.as_deref(),
        problem.value.as_deref(),
        Some(problem.message.as_str()),
    ];
    let mut bytes = Vec::new();
    for part in parts {
        bytes.extend(part.unwrap_or_default().as_bytes());
        bytes.push(if part.is_some() { 0 } else { 1 });
    }
    xxh3_64(&bytes)
}
