//! Which files there are: folders stacked as layers, lowest first, of which only the last may be
//! written.
//!
//! A path inside a layer is a [`RelPath`]; it cannot leave the layer's root. Symbolic links are
//! followed only when they end inside the layer, so nothing is read from elsewhere.
//!
//! **Limitations.** Layers are folders; a file in a higher layer replaces the whole file below.

mod folder;
mod rel_path;
mod writable;

pub use rel_path::{RelPath, RelPathError};
pub use writable::{ModRoot, WritePath};

use crate::Error;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::Arc;

/// The position of a layer in the stack; 0 is the lowest.
pub type LayerId = usize;

/// One folder of files.
#[derive(Debug, Clone)]
pub struct Layer {
    /// Its name in `stitching.toml`.
    pub name: String,
    /// Its folder.
    pub root: PathBuf,
    /// Whether it is the mod: the last layer, the only one ever written.
    pub is_mod: bool,
}

/// A file of one layer.
#[derive(Debug, Clone)]
pub struct FileEntry {
    /// The layer it lies in.
    pub layer: LayerId,
    /// Its path from the layer's root.
    pub path: RelPath,
    /// Its size in bytes when the layer was listed.
    pub size: u64,
    /// Bytes that stand for the file while a change is tried out in memory.
    staged: Option<Arc<Vec<u8>>>,
}

/// Something in a layer's folder that cannot be used as a file of the layer.
#[derive(Debug, Clone)]
pub struct LayerFault {
    /// Which layer.
    pub layer: LayerId,
    /// The path within the layer, as well as it can be shown.
    pub path: String,
    /// What is wrong with it.
    pub kind: LayerFaultKind,
}

/// What is wrong with an entry of a layer.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum LayerFaultKind {
    /// A symbolic link that ends outside the layer, or nowhere.
    Link,
    /// A file name that is not Unicode.
    Name,
    /// A folder or file that cannot be listed, with the system's answer.
    Unreadable(String),
}

/// The layers and all their files.
#[derive(Debug, Clone)]
pub struct Stack {
    layers: Vec<Layer>,
    files: Vec<FileEntry>,
    faults: Vec<LayerFault>,
}

/// A position in [`Stack::files`].
pub type FileId = usize;

/// The largest file that is read; offsets are kept in 32 bits.
pub const MAX_FILE: u64 = u32::MAX as u64 - 1;

impl Stack {
    /// Lists the files of `layers`, lowest first.
    ///
    /// # Errors
    /// When a layer's root cannot be listed at all. What is wrong deeper down is in
    /// [`Stack::faults`].
    pub fn open(layers: Vec<Layer>) -> Result<Stack, Error> {
        let (mut files, mut faults) = (Vec::new(), Vec::new());
        for (id, layer) in layers.iter().enumerate() {
            folder::list(id, &layer.root, &mut files, &mut faults)?;
        }
        files.sort_by(|a, b| (&a.path, a.layer).cmp(&(&b.path, b.layer)));
        Ok(Stack { layers, files, faults })
    }

    /// The layers, lowest first.
    pub fn layers(&self) -> &[Layer] {
        &self.layers
    }

    /// The highest layer.
    pub fn top(&self) -> LayerId {
        self.layers.len().saturating_sub(1)
    }

    /// All files of all layers, sorted by path and then layer.
    pub fn files(&self) -> &[FileEntry] {
        &self.files
    }

    /// What in the layers' folders cannot be used.
    pub fn faults(&self) -> &[LayerFault] {
        &self.faults
    }

    /// The effective files as if the stack ended at layer `through`: for each path the topmost
    /// layer's file, sorted by path.
    pub fn effective(&self, through: LayerId) -> Vec<FileId> {
        let mut out: Vec<FileId> = Vec::with_capacity(self.files.len());
        for (id, file) in self.files.iter().enumerate().filter(|(_, file)| file.layer <= through) {
            match out.last_mut() {
                Some(last) if self.files[*last].path == file.path => *last = id,
                _ => out.push(id),
            }
        }
        out
    }

    /// The file at `path` in `layer`, if there is one.
    pub fn find(&self, layer: LayerId, path: &RelPath) -> Option<FileId> {
        self.files.binary_search_by(|file| (&file.path, file.layer).cmp(&(path, layer))).ok()
    }

    /// Reads a file's bytes into `buffer`, which is emptied first.
    ///
    /// # Errors
    /// When the file cannot be read, or is larger than [`MAX_FILE`].
    pub fn read(&self, id: FileId, buffer: &mut Vec<u8>) -> Result<(), Error> {
        let entry = &self.files[id];
        buffer.clear();
        if let Some(bytes) = &entry.staged {
            buffer.extend_from_slice(bytes);
            return Ok(());
        }
        let path = self.location(id);
        read_whole(&path, buffer).map_err(|source| Error::io("read", &path, source))
    }

    /// Opens a file for reading piece by piece.
    ///
    /// # Errors
    /// When the file cannot be opened, or is larger than [`MAX_FILE`].
    pub fn open_file(&self, id: FileId) -> Result<File, Error> {
        let path = self.location(id);
        open_file(&path).map(|(file, _)| file).map_err(|source| Error::io("read", &path, source))
    }

    /// Where a file lies on disk, for messages.
    pub fn location(&self, id: FileId) -> PathBuf {
        let entry = &self.files[id];
        entry.path.under(&self.layers[entry.layer].root)
    }

    /// The stack as it would be with files of the mod layer replaced, added (`Some` bytes) or
    /// deleted (`None`). Nothing is written.
    pub fn with_staged(&self, staged: &BTreeMap<RelPath, Option<Arc<Vec<u8>>>>) -> Stack {
        let top = self.top();
        let kept = self.files.iter().filter(|file| file.layer != top || !staged.contains_key(&file.path));
        let mut files: Vec<FileEntry> = kept.cloned().collect();
        for (path, bytes) in staged {
            if let Some(bytes) = bytes {
                files.push(FileEntry {
                    layer: top,
                    path: path.clone(),
                    size: bytes.len() as u64,
                    staged: Some(Arc::clone(bytes)),
                });
            }
        }
        files.sort_by(|a, b| (&a.path, a.layer).cmp(&(&b.path, b.layer)));
        Stack { layers: self.layers.clone(), files, faults: self.faults.clone() }
    }

    /// The mod layer as a place to write to; `None` when the stack has no layer.
    pub fn mod_root(&self) -> Option<ModRoot> {
        self.layers.last().filter(|layer| layer.is_mod).map(|layer| ModRoot::new(&layer.root))
    }
}

impl FileEntry {
    /// The bytes of a change that is being tried out, if they stand for the file.
    pub fn staged(&self) -> Option<&Arc<Vec<u8>>> {
        self.staged.as_ref()
    }
}

fn read_whole(path: &Path, buffer: &mut Vec<u8>) -> std::io::Result<()> {
    let (mut file, size) = open_file(path)?;
    buffer.reserve(size as usize + 1);
    file.by_ref().take(MAX_FILE).read_to_end(buffer)?;
    Ok(())
}

/// Opens a file and gives its size in bytes.
fn open_file(path: &Path) -> std::io::Result<(File, u64)> {
    let file = File::open(path)?;
    let size = file.metadata()?.len();
    if size > MAX_FILE {
        return Err(std::io::Error::new(
            std::io::ErrorKind::FileTooLarge,
            format!("the file has {size} bytes, and {MAX_FILE} is the most that is read"),
        ));
    }
    Ok((file, size))
}
