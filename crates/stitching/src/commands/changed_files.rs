//! Which files changed since a revision, as git tells.

use std::collections::HashSet;
use std::path::{Path, PathBuf};
use std::process::Command;
use stitching_core::Error;

/// The files, as absolute paths, below the repository of `folder` that differ from `revision` or are new.
///
/// # Errors
/// When git cannot be run, `folder` is in no repository, or there is no such revision.
pub fn changed_files(folder: &Path, revision: &str) -> Result<HashSet<PathBuf>, Error> {
    let top = git(folder, &["rev-parse", "--show-toplevel"])?;
    let top = PathBuf::from(String::from_utf8_lossy(&top).trim_end_matches(['\n', '\r']));
    let top = top.canonicalize().unwrap_or(top);
    // A revision that looks like an option is none.
    let commit =
        git(folder, &["rev-parse", "--verify", "--end-of-options", &format!("{revision}^{{commit}}")])?;
    let commit = String::from_utf8_lossy(&commit).trim().to_owned();
    let tracked = git(&top, &["diff", "--name-only", "-z", "--no-ext-diff", &commit, "--"])?;
    let new = git(&top, &["ls-files", "--others", "--exclude-standard", "-z", "--full-name"])?;
    let names = tracked.split(|byte| *byte == 0).chain(new.split(|byte| *byte == 0));
    let names = names.filter(|name| !name.is_empty());
    Ok(names.map(|name| top.join(String::from_utf8_lossy(name).as_ref())).collect())
}

fn git(folder: &Path, arguments: &[&str]) -> Result<Vec<u8>, Error> {
    let output = Command::new("git").arg("-C").arg(folder).args(arguments).output();
    let output = output.map_err(|error| Error::Usage {
        message: format!("git cannot be run: {error}"),
        help: "`--changed` asks it what changed; leave it out where there is no git".into(),
    })?;
    if output.status.success() {
        return Ok(output.stdout);
    }
    let said = String::from_utf8_lossy(&output.stderr);
    Err(Error::Usage {
        message: format!(
            "git does not tell what changed: {}",
            said.lines().next().unwrap_or("no reason given")
        ),
        help: "`--changed` takes a revision of the repository that the project is in".into(),
    })
}
