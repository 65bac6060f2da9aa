//! Where the journal may write: into the mod layer, and into the tool's own folder.

use super::disk::Disk;
use crate::Error;
use crate::layers::{DirHandle, EntryKind, Fingerprint, ModRoot, OWN_FOLDER, RelPath};
use serde::{Deserialize, Serialize};
use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

/// One of the two places that are written to.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Root {
    /// The mod layer.
    Mod,
    /// The tool's own folder.
    Own,
}

/// A file that is written or deleted, or a folder that is made.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord, Serialize, Deserialize)]
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

    /// The folder it lies in; `None` for what lies in the root itself.
    pub fn folder(&self) -> Option<Target> {
        let (folder, _) = self.path.rsplit_once('/')?;
        Some(Target { root: self.root, path: folder.to_owned() })
    }
}

/// A file by its open folder and its name.
pub(super) struct Slot {
    pub folder: DirHandle,
    pub name: String,
}

impl Slot {
    /// Where it lies, for messages.
    pub fn path(&self) -> PathBuf {
        self.folder.path().join(&self.name)
    }

    /// Whether there is anything under the name.
    pub fn exists(&self) -> io::Result<bool> {
        Ok(self.folder.kind(&self.name)?.is_some())
    }

    /// The file, for reading.
    pub fn open(&self) -> io::Result<File> {
        self.folder.open_file(&self.name)
    }

    /// Whether the file called `name` in the same folder is what `fingerprint` tells.
    pub fn is(&self, name: &str, fingerprint: &Fingerprint) -> io::Result<bool> {
        match self.folder.kind(name)? {
            Some(EntryKind::File) => {
                let mut file = self.folder.open_file(name)?;
                Ok(fingerprint.of_open(&mut file)?.as_ref() == Some(fingerprint))
            }
            _ => Ok(false),
        }
    }
}

/// The folders behind the two roots.
#[derive(Debug)]
pub(super) struct Roots {
    mod_root: ModRoot,
    project: PathBuf,
}

impl Roots {
    pub fn new(project: &Path, mod_root: ModRoot) -> Roots {
        Roots { mod_root, project: project.to_owned() }
    }

    /// The folder of the mod layer.
    pub fn mod_folder(&self) -> &Path {
        self.mod_root.folder()
    }

    /// The tool's own folder, for messages.
    pub fn own_path(&self) -> PathBuf {
        self.project.join(OWN_FOLDER)
    }

    /// The tool's own folder; `None` if there is none yet.
    pub fn own(&self) -> Result<Option<DirHandle>, Error> {
        DirHandle::open_own(&self.project).map_err(|source| Error::io("open", self.own_path(), source))
    }

    /// The tool's own folder, made if need be.
    pub fn make_own(&self, disk: &Disk<'_>) -> Result<DirHandle, Error> {
        let io = |source| Error::io("write", self.own_path(), source);
        if let Some(own) = self.own()? {
            return Ok(own);
        }
        let project = DirHandle::open(&self.project).map_err(io)?;
        disk.create_folder(&project, OWN_FOLDER).map_err(io)?;
        // Without it what is written there could be gone after a power loss.
        disk.sync_folder(&project).map_err(io)?;
        project.child(OWN_FOLDER).map_err(io)
    }

    fn root(&self, root: Root) -> io::Result<DirHandle> {
        match root {
            Root::Mod => DirHandle::open(self.mod_root.folder()),
            Root::Own => DirHandle::open_own(&self.project)?.ok_or_else(|| io::ErrorKind::NotFound.into()),
        }
    }

    /// Where a target lies, for messages.
    pub fn path(&self, target: &Target) -> PathBuf {
        let root = match target.root {
            Root::Mod => self.mod_root.folder().to_owned(),
            Root::Own => self.own_path(),
        };
        root.join(&target.path)
    }

    /// The slot of a target; `None` if its folder is not there. Each time anew it is made sure that it lies in its
    /// root, and that no link is on the way.
    pub fn slot(&self, target: &Target) -> Result<Option<Slot>, Error> {
        let path = RelPath::parse(&target.path)
            .map_err(|error| Error::refused(error.to_string(), "nothing was changed"))?;
        if target.root == Root::Mod {
            self.mod_root.check(&path)?;
        }
        let (folder, name) = path.as_str().rsplit_once('/').unwrap_or(("", path.as_str()));
        match self.root(target.root).and_then(|root| root.descend(folder)) {
            Ok(folder) => Ok(Some(Slot { folder, name: name.to_owned() })),
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(source) => Err(Error::io("open the folder of", self.path(target), source)),
        }
    }

    /// As [`Roots::slot`], where the folder must be there.
    pub fn existing_slot(&self, target: &Target) -> Result<Slot, Error> {
        let missing = || Error::io("open the folder of", self.path(target), io::ErrorKind::NotFound.into());
        self.slot(target)?.ok_or_else(missing)
    }

    /// Whether there is anything at a target.
    pub fn is_there(&self, target: &Target) -> Result<bool, Error> {
        match self.slot(target)? {
            Some(slot) => slot.exists().map_err(|source| Error::io("open", slot.path(), source)),
            None => Ok(false),
        }
    }

    /// The folders above a target that are not there yet, the outermost first.
    pub fn missing_folders(&self, target: &Target) -> Result<Vec<Target>, Error> {
        let mut missing = Vec::new();
        let mut next = target.folder();
        while let Some(folder) = next {
            if let Some(slot) = self.slot(&folder)?
                && slot.exists().map_err(|source| Error::io("open", slot.path(), source))?
            {
                break;
            }
            next = folder.folder();
            missing.insert(0, folder);
        }
        Ok(missing)
    }
}
