//! Where the journal may write: into the mod layer, and into the tool's own folder.

use super::OWN_FOLDER;
use crate::Error;
use crate::layers::{ModRoot, RelPath};
use serde::{Deserialize, Serialize};
use std::path::{Path, PathBuf};

/// One of the two places that are written to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Root {
    /// The mod layer.
    Mod,
    /// The tool's own folder.
    Own,
}

/// A file that is written or deleted.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub(super) struct Target {
    pub root: Root,
    pub path: String,
}

impl Target {
    pub fn new(root: Root, path: &RelPath) -> Target {
        Target { root, path: path.as_str().to_owned() }
    }

    /// A file of the tool's own, by a name that is known to be good.
    pub fn own(path: impl Into<String>) -> Target {
        Target { root: Root::Own, path: path.into() }
    }
}

/// The folders behind the two roots.
#[derive(Debug, Clone)]
pub(super) struct Roots {
    mod_root: ModRoot,
    pub own: PathBuf,
}

impl Roots {
    pub fn new(folder: &Path, mod_root: ModRoot) -> Roots {
        Roots { mod_root, own: folder.join(OWN_FOLDER) }
    }

    /// The place of a target on disk. It is checked again each time that it lies in its root.
    pub fn place(&self, target: &Target) -> Result<PathBuf, Error> {
        let path = RelPath::parse(&target.path)
            .map_err(|error| Error::refused(error.to_string(), "nothing was changed"))?;
        match target.root {
            Root::Mod => Ok(self.mod_root.place(&path)?.as_path().to_owned()),
            Root::Own => Ok(path.under(&self.own)),
        }
    }
}
