//! Moving a folder with all that is in it, under another name or to another place; what refers to its files follows.

use super::Work;
use super::paths::Moves;
use crate::Error;
use crate::changes::change::Change;
use crate::changes::copy_folder::{parse_folder, refuse_nested, refuse_unknown};
use crate::project::Project;

/// Builds the change that gives the folder `from` the path `to`, both from a layer's root. References to its files and keys that
/// are made of its path follow. Of a base layer its files are copied to the new path, and stay.
///
/// # Errors
/// When there is no such folder, one lies inside the other, a file is there already, or a path is not valid; and as for
/// [`super::rename`].
pub fn rename_folder(project: &Project, from: &str, to: &str) -> Result<Change, Error> {
    let (from, to) = (parse_folder(from)?, parse_folder(to)?);
    refuse_nested(&from, &to)?;
    refuse_unknown(project, &from)?;
    let mut work = Work::new(project, format!("rename {from}/ to {to}/"));
    work.take_moves(Moves::of_folder(&from, &to))?;
    while !work.pending.is_empty() {
        work.round()?;
    }
    work.finish()
}
