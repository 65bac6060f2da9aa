//! By what all files of the layers together are known to be as they were.

use super::cache::hash_of;
use super::{FileId, Stack, Stamp};
use rayon::prelude::*;
use serde::Serialize;
use std::path::PathBuf;

/// What all that can be read of a stack is known by.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct StackState {
    /// The hash of all names and stamps; where a stamp proves nothing, of the bytes too.
    pub(crate) hash: [u8; 32],
    /// Whether no file was written so shortly before that it may be written again without another stamp.
    pub(crate) is_settled: bool,
}

impl StackState {
    /// That of a stack at the time `now`, in nanoseconds since 1970; `None` if it cannot be told, or some of its files stand
    /// only in memory.
    ///
    /// Cost: a look at the size and times of each file; where the system does not tell when anything about a file changed,
    /// reading all of them.
    pub(crate) fn of(stack: &Stack, now: u128) -> Option<StackState> {
        let files: Vec<(StampedFile, bool)> = (0..stack.files().len())
            .into_par_iter()
            .with_min_len(64)
            .map(|file| of_file(stack, file, now))
            .collect::<Option<_>>()?;
        let archives: Vec<(StampedFile, bool)> =
            stack.archives.iter().map(|archive| of_path(archive.file.clone(), now)).collect::<Option<_>>()?;
        let mut hasher = blake3::Hasher::new();
        for layer in &stack.layers {
            add(&mut hasher, &(&layer.name, layer.root.to_string_lossy(), layer.is_mod))?;
        }
        for (entry, (stamp, _)) in stack.files.iter().zip(&files) {
            add(&mut hasher, &(entry.layer, entry.path.as_str(), stamp))?;
        }
        archives.iter().try_for_each(|(stamp, _)| add(&mut hasher, stamp))?;
        // Links and names that cannot be used are problems too, and what is switched off is counted.
        stack.faults.iter().try_for_each(|fault| add(&mut hasher, &format!("{fault:?}")))?;
        add(&mut hasher, &stack.kept)?;
        let is_settled = files.iter().chain(&archives).all(|(_, is_settled)| *is_settled);
        Some(StackState { hash: hasher.finalize().into(), is_settled })
    }
}

/// Adds a part of the state to its hash, with its length.
fn add(hasher: &mut blake3::Hasher, part: &impl Serialize) -> Option<()> {
    let bytes = postcard::to_stdvec(part).ok()?;
    hasher.update(&(bytes.len() as u64).to_le_bytes()).update(&bytes);
    Some(())
}

/// The stamp of a file, and the hash of its bytes where the stamp proves nothing; none for an entry of an archive.
type StampedFile = Option<(Stamp, Option<u64>)>;

fn of_file(stack: &Stack, file: FileId, now: u128) -> Option<(StampedFile, bool)> {
    let entry = &stack.files[file];
    match (entry.staged(), entry.archived) {
        (Some(_), _) => None,
        (None, Some(_)) => Some((None, true)),
        (None, None) => of_path(stack.location(file), now),
    }
}

fn of_path(path: PathBuf, now: u128) -> Option<(StampedFile, bool)> {
    let stamp = Stamp::of(&std::fs::metadata(&path).ok()?)?;
    let is_settled = !stamp.is_fresh(now);
    let content = match stamp.is_proof() {
        true => None,
        false => Some(hash_of(&path).ok()?),
    };
    Some((Some((stamp, content)), is_settled))
}
