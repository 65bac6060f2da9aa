//! The report of the last check of the whole mod, kept for as long as nothing changes that it depends on.

use super::run::{Report, check};
use crate::layers::{Cache, StackState, nanoseconds, recall, remember};
use crate::project::Project;
use std::time::SystemTime;

/// The name under which it is kept.
const NAME: &str = "report";

/// The number of this way to keep it, and the version of the program: what one finds another may not.
const VERSION: &str = concat!("1 ", env!("CARGO_PKG_VERSION"));

/// Checks the whole mod. If the project has a place to keep what is found out ([`Project::with_cache`]), the report is kept
/// there, and taken from there as long as no file of any layer, nor the description of the project, changed.
///
/// `now` is what the clock says: files that changed less than two seconds ago may change once more without another time, and
/// nothing is kept then.
///
/// Cost: where nothing changed, a look at the size and times of each file.
pub fn check_unless_kept(project: &Project, now: SystemTime) -> Report {
    // Taken before anything is read: what changes later than that is seen the next time.
    let state = project.stack.cache().and_then(|cache| {
        let state = StackState::of(&project.stack, nanoseconds(now))?;
        Some((cache, key(cache, &state)?, state.is_settled))
    });
    let kept = state.as_ref().and_then(|(cache, key, _)| read(cache, key));
    if let Some(kept) = kept {
        return kept;
    }
    let report = check(project.view());
    if let Some((cache, key, true)) = &state
        && let Err(error) = keep(cache, key, &report)
    {
        cache.note(format!("the report cannot be kept: {error}"));
    }
    report
}

/// What a report is true for.
fn key(cache: &Cache, state: &StackState) -> Option<[u8; 32]> {
    let mut hasher = blake3::Hasher::new();
    hasher.update(VERSION.as_bytes()).update(&cache.described().to_le_bytes()).update(&state.hash);
    // While it is worked on, the program changes without its version.
    let program = std::fs::metadata(std::env::current_exe().ok()?).ok()?;
    let modified = nanoseconds(program.modified().ok()?);
    hasher.update(&program.len().to_le_bytes()).update(&modified.to_le_bytes());
    Some(hasher.finalize().into())
}

/// The report that is kept under `key`; `None` if there is none, or it is damaged.
fn read(cache: &Cache, key: &[u8; 32]) -> Option<Report> {
    let bytes = recall(cache.project(), NAME)?;
    let (check, rest) = bytes.strip_prefix(key)?.split_at_checked(32)?;
    if blake3::hash(rest).as_bytes() != check {
        return None;
    }
    postcard::from_bytes(rest).ok()
}

fn keep(cache: &Cache, key: &[u8; 32], report: &Report) -> std::io::Result<()> {
    let report = postcard::to_stdvec(report).map_err(std::io::Error::other)?;
    let check = blake3::hash(&report);
    remember(cache.project(), NAME, &[key.as_slice(), check.as_bytes(), &report].concat())
}
