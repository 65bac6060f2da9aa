//! The only way to a path that may be written.

use super::RelPath;
use crate::Error;
use std::path::{Path, PathBuf};

/// The root of the mod layer. It can be had only from a [`Stack`](super::Stack), for its last layer.
#[derive(Debug, Clone)]
pub struct ModRoot {
    root: PathBuf,
}

/// A place inside the mod layer, which the journal may write. Base layers have none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WritePath {
    path: PathBuf,
}

impl ModRoot {
    pub(super) fn new(root: &Path) -> ModRoot {
        ModRoot { root: root.to_owned() }
    }

    /// The folder of the mod layer.
    pub fn folder(&self) -> &Path {
        &self.root
    }

    /// The place of `path` in the mod layer.
    ///
    /// # Errors
    /// When a folder on the way, or the file itself, is a symbolic link that ends outside the
    /// layer, or the root cannot be resolved.
    pub fn place(&self, path: &RelPath) -> Result<WritePath, Error> {
        let root = self.root.canonicalize().map_err(|source| Error::io("list", &self.root, source))?;
        let full = path.under(&root);
        let existing = full.ancestors().find(|part| part.symlink_metadata().is_ok());
        let resolved = match existing.map(|part| (part, part.canonicalize())) {
            Some((part, Ok(real))) => real.join(full.strip_prefix(part).unwrap_or(Path::new(""))),
            _ => full.clone(),
        };
        let resolved: PathBuf = resolved.components().collect();
        if !resolved.starts_with(&root) || existing.is_some_and(|part| part.canonicalize().is_err()) {
            return Err(Error::refused(
                format!("`{path}` leads out of the mod layer through a symbolic link"),
                "replace the link by a real folder or file",
            ));
        }
        Ok(WritePath { path: resolved })
    }
}

impl WritePath {
    /// The place on disk.
    pub fn as_path(&self) -> &Path {
        &self.path
    }
}
