//! Which files there are: folders and archives stacked as layers, lowest first, of which only the last
//! may be written.
//!
//! A path inside a layer is a [`RelPath`]; it cannot leave the layer's root. Symbolic links are
//! followed only when they end inside the layer, so nothing is read from elsewhere. A zip archive in a
//! layer is a file, and a folder of its entries as well: `packs/winter.zip/props.txt`.

mod archive;
mod cache;
mod dir_handle;
mod fingerprint;
mod folder;
mod postings;
mod rel_path;
mod set_aside;
mod signatures;
mod stack_state;
mod stamp;
mod whole_file;
mod writable;

pub use archive::{Archive, EntryChange};
pub use cache::{Cache, FileStamp, Store, recall, remember, sweep_caches};
pub use dir_handle::{DirHandle, EntryKind, OWN_FOLDER};
pub use fingerprint::Fingerprint;
pub(crate) use postings::Postings;
pub use rel_path::{RelPath, RelPathError};
pub use set_aside::SetAside;
pub(crate) use signatures::Signatures;
pub(crate) use stack_state::StackState;
pub(crate) use stamp::{Stamp, nanoseconds};
pub use whole_file::write_whole;
pub use writable::ModRoot;

use crate::Error;
use crate::text::{Encoding, PathGlob, Text};
use regex::Regex;
use std::collections::BTreeMap;
use std::fs::File;
use std::io::Read;
use std::path::{Path, PathBuf};
use std::sync::{Arc, OnceLock};
use std::time::SystemTime;

/// The position of a layer in the stack; 0 is the lowest.
pub type LayerId = usize;

/// One folder, or archive, of files.
#[derive(Debug, Clone)]
pub struct Layer {
    /// Its name in `stitching.toml`.
    pub name: String,
    /// Its folder or archive.
    pub root: PathBuf,
    /// Whether it is the mod: the last layer, the only one ever written.
    pub is_mod: bool,
    /// Which of its files are archives whose entries count as files too.
    pub archives: Vec<PathGlob>,
}

/// What the schema says of certain files as a whole.
#[derive(Debug, Clone)]
pub struct FileTraits {
    /// Which files.
    pub files: Vec<PathGlob>,
    /// What they are written in, if that is not to be recognised.
    pub encoding: Option<Encoding>,
    /// Whether the files of all layers count together, instead of the topmost alone.
    pub merged: bool,
    /// The mark in a file that tells whether it replaces those below or counts together with them.
    pub mark: Option<LayeringMark>,
}

/// What in a file of which all layers count together tells what becomes of those below it.
#[derive(Debug, Clone)]
pub enum LayeringMark {
    /// A file in which this is found replaces those below all the same.
    Replaces(Regex),
    /// Only a file in which this is found counts together with those below; any other replaces them.
    Adds(Regex),
}

impl LayeringMark {
    /// Whether a file with this text counts together with those below it.
    pub fn adds(&self, text: &str) -> bool {
        match self {
            LayeringMark::Replaces(mark) => !mark.is_match(text),
            LayeringMark::Adds(mark) => mark.is_match(text),
        }
    }
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
    /// What it is written in, by the schema.
    pub encoding: Option<Encoding>,
    /// Whether the files of this path in lower layers count as well.
    pub merged: bool,
    /// The archive it lies in and its position there.
    archived: Option<(usize, usize)>,
    /// Bytes that stand for the file while a change is tried out in memory.
    staged: Option<Arc<Vec<u8>>>,
    /// Whether the file was found to be UTF-8 throughout when it was read in this run.
    is_utf8: OnceLock<()>,
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
    /// A symbolic link to a folder; it is not followed.
    FolderLink,
    /// A file name that is not Unicode.
    Name,
    /// A file that should be an archive and cannot be read as one, with the reason.
    Archive(String),
    /// An entry of an archive that cannot be used, with the reason.
    Entry(String),
    /// A folder or file that cannot be listed, with the system's answer.
    Unreadable(String),
}

/// The layers and all their files.
#[derive(Debug, Clone)]
pub struct Stack {
    layers: Vec<Layer>,
    files: Vec<FileEntry>,
    archives: Vec<Arc<Archive>>,
    traits: Arc<Vec<FileTraits>>,
    faults: Vec<LayerFault>,
    kept: Vec<SetAside>,
    cache: Option<Arc<Cache>>,
}

/// A position in [`Stack::files`].
pub type FileId = usize;

/// The largest file that is read; offsets are kept in 32 bits.
pub const MAX_FILE: u64 = u32::MAX as u64 - 1;

impl Stack {
    /// Lists the files of `layers`, lowest first. `traits` tells what is known of files by their paths;
    /// of several entries that take a file each adds what it knows.
    ///
    /// # Errors
    /// When a layer's root cannot be listed at all. What is wrong deeper down is in
    /// [`Stack::faults`].
    pub fn open(layers: Vec<Layer>, traits: Vec<FileTraits>) -> Result<Stack, Error> {
        let (mut files, mut archives, mut faults) = (Vec::new(), Vec::new(), Vec::new());
        for (id, layer) in layers.iter().enumerate() {
            if layer.root.is_file() {
                list_archive(id, &layer.root, None, &mut files, &mut archives, &mut faults)
                    .map_err(|source| Error::io("read", &layer.root, source))?;
                continue;
            }
            let first = files.len();
            folder::list(id, &layer.root, &mut files, &mut faults)?;
            let named = |path: &RelPath| layer.archives.iter().any(|pattern| pattern.takes(path.as_str()));
            let found: Vec<RelPath> =
                files[first..].iter().map(|file| file.path.clone()).filter(|path| named(path)).collect();
            for path in found {
                let file = path.under(&layer.root);
                let listed =
                    list_archive(id, &file, Some(path.clone()), &mut files, &mut archives, &mut faults);
                if let Err(reason) = listed {
                    let kind = LayerFaultKind::Archive(reason.to_string());
                    faults.push(LayerFault { layer: id, path: path.to_string(), kind });
                }
            }
        }
        for file in &mut files {
            file.describe(&traits);
        }
        files.sort_by(|a, b| (&a.path, a.layer).cmp(&(&b.path, b.layer)));
        // A folder `a.zip` and entries of an archive `a.zip` cannot stand side by side, but two names in
        // one archive that differ only in slashes could.
        files.dedup_by(|b, a| (&a.path, a.layer) == (&b.path, b.layer));
        let traits = Arc::new(traits);
        let mut stack = Stack { layers, files, archives, traits, faults, kept: Vec::new(), cache: None };
        stack.look_for_marks();
        Ok(stack)
    }

    /// The stack with the pieces that were taken out of files of the mod and are kept aside.
    pub fn with_kept(self, kept: Vec<SetAside>) -> Stack {
        Stack { kept, ..self }
    }

    /// The stack with a place where what is found out about its files may be kept.
    pub fn with_cache(self, cache: Cache) -> Stack {
        Stack { cache: Some(Arc::new(cache)), ..self }
    }

    /// Where what is found out about the files may be kept.
    pub fn cache(&self) -> Option<&Cache> {
        self.cache.as_deref()
    }

    /// The pieces that were taken out of files of the mod and are kept aside.
    pub fn kept(&self) -> &[SetAside] {
        &self.kept
    }

    /// Finds out which files of those that count together replace what lies below all the same.
    fn look_for_marks(&mut self) {
        let mut buffer = Vec::new();
        for id in 1..self.files.len() {
            let (below, entry) = (&self.files[id - 1], &self.files[id]);
            if !entry.merged || below.path != entry.path {
                continue;
            }
            let path = entry.path.as_str();
            let marks = self.traits.iter().filter(|of| of.files.iter().any(|pattern| pattern.takes(path)));
            let marks: Vec<&LayeringMark> = marks.filter_map(|of| of.mark.as_ref()).collect();
            if marks.is_empty() || self.read(id, &mut buffer).is_err() {
                continue;
            }
            let text = Text::decode(&mut buffer, entry.encoding);
            if !marks.iter().all(|mark| mark.adds(text.as_str())) {
                self.files[id].merged = false;
            }
        }
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

    /// The effective files as if the stack ended at layer `through`: for each path the topmost layer's
    /// file, or the files of all layers if they count together, sorted by path and then layer. What lies
    /// in an archive counts only as long as the archive itself does.
    pub fn effective(&self, through: LayerId) -> Vec<FileId> {
        let hidden: Vec<bool> =
            self.archives.iter().map(|archive| self.is_replaced(archive, through)).collect();
        let mut out: Vec<FileId> = Vec::with_capacity(self.files.len());
        for (id, file) in self.files.iter().enumerate().filter(|(_, file)| file.layer <= through) {
            if file.archived.is_some_and(|(archive, _)| hidden[archive]) {
                continue;
            }
            while !file.merged && out.last().is_some_and(|last| self.files[*last].path == file.path) {
                out.pop();
            }
            out.push(id);
        }
        out
    }

    /// Whether a layer above that of `archive`, up to `through`, has a file in its place.
    fn is_replaced(&self, archive: &Archive, through: LayerId) -> bool {
        let Some(path) = &archive.path else { return false };
        let own = self.layers.iter().position(|layer| archive.file.starts_with(&layer.root));
        own.is_some_and(|own| (own + 1..=through).any(|layer| self.find(layer, path).is_some()))
    }

    /// The archive that `file` is an entry of, and its position there.
    pub fn archive_of(&self, file: FileId) -> Option<(&Arc<Archive>, usize)> {
        let (archive, entry) = self.files[file].archived?;
        Some((&self.archives[archive], entry))
    }

    /// The archive in which `path` of the mod layer lies, or would lie, and the path within it.
    pub fn mod_archive(&self, path: &RelPath) -> Option<(&Arc<Archive>, RelPath)> {
        let root = &self.layers.last().filter(|layer| layer.is_mod)?.root;
        self.archives.iter().filter(|archive| archive.file.starts_with(root)).find_map(|archive| {
            let inner = match &archive.path {
                None => path.clone(),
                Some(own) => {
                    let inner = path.as_str().strip_prefix(own.as_str())?.strip_prefix('/')?;
                    RelPath::parse(inner).ok()?
                }
            };
            Some((archive, inner))
        })
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
        if let Some((archive, entry)) = self.archive_of(id) {
            return archive
                .read(entry, buffer)
                .map_err(|source| Error::io("read", self.location(id), source));
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

    /// When a file was last changed, if that is known: not of entries of archives.
    pub fn modified(&self, id: FileId) -> Option<SystemTime> {
        if !self.is_plain(id) {
            return None;
        }
        std::fs::metadata(self.location(id)).and_then(|metadata| metadata.modified()).ok()
    }

    /// Where a file lies on disk, for messages.
    pub fn location(&self, id: FileId) -> PathBuf {
        let entry = &self.files[id];
        entry.path.under(&self.layers[entry.layer].root)
    }

    /// Whether a file can be read piece by piece: it lies on disk by itself.
    pub fn is_plain(&self, id: FileId) -> bool {
        self.files[id].archived.is_none() && self.files[id].staged.is_none()
    }

    /// Takes note that a file was read in this run and is UTF-8 throughout, so that places in its text are places in
    /// the file.
    pub(crate) fn note_utf8(&self, id: FileId) {
        self.files[id].is_utf8.get_or_init(|| ());
    }

    /// Whether a file can be read piece by piece, and places in its text are known to be places in the file.
    pub(crate) fn is_known_utf8(&self, id: FileId) -> bool {
        self.is_plain(id) && self.files[id].is_utf8.get().is_some()
    }

    /// The stack as it would be with files of the mod layer replaced, added (`Some` bytes) or
    /// deleted (`None`). Nothing is written.
    pub fn with_staged(&self, staged: &BTreeMap<RelPath, Option<Arc<Vec<u8>>>>) -> Stack {
        let top = self.top();
        let kept = self.files.iter().filter(|file| file.layer != top || !staged.contains_key(&file.path));
        let mut files: Vec<FileEntry> = kept.cloned().collect();
        for (path, bytes) in staged {
            if let Some(bytes) = bytes {
                let mut file = FileEntry::new(top, path.clone(), bytes.len() as u64);
                file.staged = Some(Arc::clone(bytes));
                file.describe(&self.traits);
                files.push(file);
            }
        }
        files.sort_by(|a, b| (&a.path, a.layer).cmp(&(&b.path, b.layer)));
        // What is only tried out leaves no traces.
        let mut stack = Stack { files, cache: None, ..self.clone() };
        stack.look_for_marks();
        stack
    }

    /// The mod layer as a place to write to; `None` when the stack has no layer.
    pub fn mod_root(&self) -> Option<ModRoot> {
        ModRoot::of(&self.layers)
    }
}

impl FileEntry {
    fn new(layer: LayerId, path: RelPath, size: u64) -> FileEntry {
        FileEntry {
            layer,
            path,
            size,
            encoding: None,
            merged: false,
            archived: None,
            staged: None,
            is_utf8: OnceLock::new(),
        }
    }

    fn describe(&mut self, traits: &[FileTraits]) {
        let path = self.path.as_str();
        let own = traits.iter().filter(|of| of.files.iter().any(|pattern| pattern.takes(path)));
        for of in own {
            self.encoding = self.encoding.or(of.encoding);
            self.merged |= of.merged;
        }
    }

    /// The bytes of a change that is being tried out, if they stand for the file.
    pub fn staged(&self) -> Option<&Arc<Vec<u8>>> {
        self.staged.as_ref()
    }
}

/// Adds the entries of an archive to `files`, and what is wrong with some to `faults`.
fn list_archive(
    layer: LayerId,
    file: &Path,
    path: Option<RelPath>,
    files: &mut Vec<FileEntry>,
    archives: &mut Vec<Arc<Archive>>,
    faults: &mut Vec<LayerFault>,
) -> std::io::Result<()> {
    let inside = |inner: &str| match &path {
        Some(path) => format!("{path}/{inner}"),
        None => inner.to_owned(),
    };
    let mut fault = |inner: String, kind| faults.push(LayerFault { layer, path: inside(&inner), kind });
    let archive = Archive::open(file, path.clone(), &mut fault)?;
    for (index, entry) in archive.entries().iter().enumerate() {
        let Some(path) = entry.path.as_ref().and_then(|inner| RelPath::parse(&inside(inner.as_str())).ok())
        else {
            continue;
        };
        let mut file = FileEntry::new(layer, path, entry.size);
        file.archived = Some((archives.len(), index));
        files.push(file);
    }
    archives.push(Arc::new(archive));
    Ok(())
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
