//! Where the mod is, the only place of a layer that may be written.

use super::{Layer, RelPath};
use crate::Error;
use std::path::{Path, PathBuf};

/// The root of the mod layer. It can be had only for the last of the layers.
#[derive(Debug, Clone)]
pub struct ModRoot {
    root: PathBuf,
    /// The name of the archive that is the mod, if it is one: then nothing else in the folder is.
    archive: Option<RelPath>,
}

impl ModRoot {
    /// That of `layers`, lowest first; `None` if there are none.
    pub(crate) fn of(layers: &[Layer]) -> Option<ModRoot> {
        layers.last().filter(|layer| layer.is_mod).map(|layer| ModRoot::new(&layer.root))
    }

    fn new(root: &Path) -> ModRoot {
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

    /// Refuses paths that are not of the mod: where the mod is an archive, nothing else in its folder is.
    ///
    /// # Errors
    /// When `path` lies outside.
    pub fn check(&self, path: &RelPath) -> Result<(), Error> {
        if self.archive.as_ref().is_some_and(|archive| archive != path) {
            return Err(Error::refused(
                format!("`{path}` does not lie in the archive that is the mod"),
                "nothing was changed",
            ));
        }
        Ok(())
    }
}
