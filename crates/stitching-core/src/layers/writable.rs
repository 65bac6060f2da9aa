//! The only way to a path that may be written.

use super::RelPath;
use crate::Error;
use std::path::{Path, PathBuf};

/// The root of the mod layer. It can be had only from a [`Stack`](super::Stack), for its last layer.
#[derive(Debug, Clone)]
pub struct ModRoot {
    root: PathBuf,
    /// The name of the archive that is the mod, if it is one: then nothing else in the folder is.
    archive: Option<RelPath>,
}

/// A place inside the mod layer, which the journal may write. Base layers have none.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct WritePath {
    path: PathBuf,
}

impl ModRoot {
    pub(super) fn new(root: &Path) -> ModRoot {
        let name = root.file_name().filter(|_| root.is_file()).and_then(|name| name.to_str());
        match (name.and_then(|name| RelPath::parse(name).ok()), root.parent()) {
            (Some(name), Some(folder)) => ModRoot { root: folder.to_owned(), archive: Some(name) },
            _ => ModRoot { root: root.to_owned(), archive: None },
        }
    }

    /// The folder of the mod layer, or that in which its archive lies.
    pub fn folder(&self) -> &Path {
        &self.root
    }

    /// The name of the archive that is the mod, if it is one.
    pub fn archive(&self) -> Option<&RelPath> {
        self.archive.as_ref()
    }

    /// The place of `path` in the mod layer.
    ///
    /// # Errors
    /// When a folder on the way, or the file itself, is a symbolic link that ends outside the
    /// layer, or the root cannot be resolved.
    pub fn place(&self, path: &RelPath) -> Result<WritePath, Error> {
        if self.archive.as_ref().is_some_and(|archive| archive != path) {
            return Err(Error::refused(
                format!("`{path}` does not lie in the archive that is the mod"),
                "nothing was changed",
            ));
        }
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
