//! Which paths files have and get in a change, so that no two get one.

use crate::Error;
use crate::layers::{RelPath, Stack};
use std::collections::{HashMap, HashSet};

const HELP: &str = "choose another key; nothing was changed";

/// The paths that no other file may get.
#[derive(Debug, Default)]
pub(super) struct TakenPaths {
    /// By their folded form; made when first asked for.
    by_folded: Option<HashMap<String, Taken>>,
    /// Those that files are moved to though others are there, which must go elsewhere.
    to_be_left: Vec<RelPath>,
}

#[derive(Debug)]
struct Taken {
    path: RelPath,
    /// Whether a file is there before the change, and not only after it.
    is_there: bool,
}

impl TakenPaths {
    /// Takes a path for a new file.
    ///
    /// # Errors
    /// When a file is or will be there, or at a path that differs from it only in case; or it is none that all systems can have.
    pub fn take(&mut self, stack: &Stack, path: &RelPath) -> Result<(), Error> {
        self.take_if(stack, path, |_| false).map(drop)
    }

    /// As [`TakenPaths::take`], where a file of a lower layer may be at the path.
    pub fn take_over(&mut self, stack: &Stack, path: &RelPath) -> Result<(), Error> {
        self.take_if(stack, path, |other| other.path == *path).map(drop)
    }

    /// As [`TakenPaths::take`], for a file that moves there `from` another path. A file that is there may be, as long as it goes
    /// elsewhere: that is for [`TakenPaths::refuse_kept`] to tell.
    pub fn take_moved(&mut self, stack: &Stack, from: &RelPath, to: &RelPath) -> Result<(), Error> {
        let may_be = |other: &Taken| other.path == *from || (other.is_there && other.path == *to);
        let is_there = self.take_if(stack, to, may_be)?;
        self.to_be_left.extend((is_there && to != from).then(|| to.clone()));
        Ok(())
    }

    /// Refuses paths that files are moved to and that others keep; `left` are those that files leave.
    ///
    /// # Errors
    /// When there is one.
    pub fn refuse_kept(&self, left: &HashSet<&RelPath>) -> Result<(), Error> {
        match self.to_be_left.iter().find(|path| !left.contains(path)) {
            Some(path) => Err(is_there_already(path)),
            None => Ok(()),
        }
    }

    /// Takes a path; gives whether another file is there before the change.
    fn take_if(
        &mut self,
        stack: &Stack,
        path: &RelPath,
        is_free: impl Fn(&Taken) -> bool,
    ) -> Result<bool, Error> {
        path.check_portable().map_err(|error| Error::refused(error.to_string(), HELP))?;
        let taken = self.by_folded.get_or_insert_with(|| {
            let effective = stack.effective(stack.top()).into_iter();
            let paths = effective.map(|id| stack.files()[id].path.clone());
            paths.map(|path| (path.folded(), Taken { path, is_there: true })).collect()
        });
        let other = taken.get(&path.folded());
        match other.filter(|other| !is_free(other)) {
            Some(other) if other.path == *path => Err(is_there_already(path)),
            Some(Taken { path: other, .. }) => Err(Error::refused(
                format!(
                    "`{path}` would collide with `{other}` where upper and lower case are not told apart"
                ),
                HELP,
            )),
            None => {
                let is_there = other.is_some_and(|other| other.is_there && other.path == *path);
                taken.insert(path.folded(), Taken { path: path.clone(), is_there: false });
                Ok(is_there)
            }
        }
    }
}

fn is_there_already(path: &RelPath) -> Error {
    Error::refused(format!("there is a file `{path}` already"), HELP)
}
