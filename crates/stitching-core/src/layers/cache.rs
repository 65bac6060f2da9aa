//! What was found out about files in an earlier run, kept beside the project so that it need not be found out
//! again.
//!
//! Nothing here is ever believed over the files. What is kept of a file counts only while the file is the one
//! it was made from: by size and times if these leave no doubt, else by the hash of its bytes. A cache that is
//! cut short, damaged, of another version or of another description of the game counts as none at all. It may
//! be deleted at any time.

use super::postings::Postings;
use super::signatures::Signatures;
use super::stamp::{Stamp, nanoseconds};
use super::{DirHandle, FileId, OWN_FOLDER, Stack};
use crate::Error;
use cap_std::fs::OpenOptions;
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::borrow::Cow;
use std::collections::HashMap;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::SystemTime;
use xxhash_rust::xxh3::xxh3_64;

/// Where the caches of a project lie, and what they depend on beside the files.
#[derive(Debug)]
pub struct Cache {
    /// The folder of the project.
    project: PathBuf,
    described: u64,
    /// In which files what can be found, once it is known.
    pub(crate) postings: OnceLock<Postings>,
    /// Which parts of files can have a text, once it is known.
    pub(crate) signatures: OnceLock<Signatures>,
    /// Texts of files that were read in this run, for those who read them again.
    pub(crate) texts: Mutex<HashMap<FileId, Arc<String>>>,
    troubles: Mutex<Vec<String>>,
}

impl Cache {
    /// The folder of the caches within the tool's own.
    pub const FOLDER: &'static str = "cache";

    /// Caches of the project in the folder `project`, for data that is described by `description`: what is found
    /// out about a file may depend on all of it.
    pub fn new(project: PathBuf, description: &str) -> Cache {
        Cache {
            project,
            described: xxh3_64(description.as_bytes()),
            postings: OnceLock::new(),
            signatures: OnceLock::new(),
            texts: Mutex::default(),
            troubles: Mutex::default(),
        }
    }

    /// The hash of the description of the data.
    pub(crate) fn described(&self) -> u64 {
        self.described
    }

    /// The folder of the project.
    pub(crate) fn project(&self) -> &Path {
        &self.project
    }

    /// Why caches could not be used or written so far, each in a sentence; for those who ask.
    pub fn troubles(&self) -> Vec<String> {
        self.troubles.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Writes a cache if there is anything new in it. That it cannot be written is only noted: the work that
    /// was asked for is done all the same.
    pub fn save(&self, store: &mut Store, stack: &Stack) {
        if let Err(error) = store.save(stack) {
            self.note(error.to_string());
        }
    }

    pub(crate) fn note(&self, trouble: String) {
        self.troubles.lock().unwrap_or_else(PoisonError::into_inner).push(trouble);
    }

    /// The cache called `name` with what `find_out` says of each file that is `wanted` and not in it yet, or changed. What
    /// `find_out` says nothing of is asked for each time.
    pub(crate) fn complete(
        &self,
        stack: &Stack,
        name: &'static str,
        wanted: impl Fn(FileId) -> bool + Sync,
        find_out: impl Fn(FileId) -> Option<Vec<u8>> + Sync,
    ) -> Known {
        let mut store = self.open(name);
        enum Outcome {
            Unknown,
            Known,
            New(FileStamp, Vec<u8>),
        }
        let look = |file: FileId| {
            if !wanted(file) {
                return Outcome::Unknown;
            }
            if store.holds(stack, file) {
                return Outcome::Known;
            }
            let look = Store::look(stack, file);
            let new = look.and_then(|look| Some(Outcome::New(look, find_out(file)?)));
            new.unwrap_or(Outcome::Unknown)
        };
        let found: Vec<Outcome> =
            (0..stack.files().len()).into_par_iter().with_max_len(1).map(look).collect();
        let mut files = Vec::with_capacity(found.len());
        for (file, outcome) in found.into_iter().enumerate() {
            files.push(!matches!(outcome, Outcome::Unknown));
            if let Outcome::New(look, bytes) = outcome {
                store.set(stack, file, &look, bytes);
            }
        }
        self.save(&mut store, stack);
        Known { store, files }
    }

    /// Reads the cache called `name`.
    pub fn open(&self, name: &'static str) -> Store {
        let mut store = Store {
            project: self.project.clone(),
            name,
            described: self.described,
            file: None,
            entries: HashMap::new(),
            made: 0,
            new: HashMap::new(),
        };
        let fault = match open_cache(&self.project, name) {
            Err(error) => Some(error.to_string()),
            Ok(None) => None,
            Ok(Some(file)) => match store.read(file) {
                Some(()) => None,
                None => {
                    store.entries = HashMap::new();
                    Some("it is damaged, or of another version or another description of the game".to_owned())
                }
            },
        };
        if let Some(fault) = fault {
            self.note(format!("the cache `{}` is made anew: {fault}", store.path().display()));
        }
        store
    }
}

/// One cache: for each file some bytes.
#[derive(Debug)]
pub struct Store {
    project: PathBuf,
    name: &'static str,
    described: u64,
    /// The file, of which only what is needed is read.
    file: Option<Mutex<File>>,
    entries: HashMap<String, Entry>,
    /// When it was written, in nanoseconds since 1970.
    made: u128,
    new: HashMap<String, (Entry, Vec<u8>)>,
}

/// How a file was before it was read.
#[derive(Debug)]
pub struct FileStamp(Stamp);

#[derive(Debug, Clone, Serialize, Deserialize)]
struct Head {
    version: String,
    described: u64,
    made: u128,
    entries: Vec<(String, Entry)>,
}

/// What is known of a file.
#[derive(Debug, Clone, Serialize, Deserialize)]
struct Entry {
    stamp: Stamp,
    /// The hash of the file's bytes; none for an entry of an archive, for which the whole archive would have to
    /// be read.
    content: Option<u64>,
    /// Where its bytes are, behind the head.
    start: u64,
    len: u64,
    /// The first eight bytes of each part of it, as a number: where it is sorted, they tell which part to read.
    firsts: Vec<u64>,
    /// The hash of each part.
    checks: Vec<u64>,
    /// Whether the file is UTF-8 throughout, so that places in its text are places in the file.
    is_utf8: bool,
}

/// What is kept of a file is read, and known to be right, in parts of so many bytes.
const PART: usize = 4096;

/// What the name of a cache that is being written ends with.
const UNFINISHED: &str = ".new";

/// Opens the cache `name` of a project; `None` if there is none.
fn open_cache(project: &Path, name: &str) -> std::io::Result<Option<File>> {
    let missing = |error: &std::io::Error| error.kind() == std::io::ErrorKind::NotFound;
    let opened = match DirHandle::open_own(project)? {
        None => return Ok(None),
        Some(own) => own.child(Cache::FOLDER).and_then(|folder| folder.open_file(name)),
    };
    match opened {
        Err(error) if missing(&error) => Ok(None),
        other => other.map(Some),
    }
}

/// What an earlier run of a command remembered under `name` for the project in `project`, if that can be read; no more than a
/// few megabytes.
pub fn recall(project: &Path, name: &str) -> Option<Vec<u8>> {
    const MOST: u64 = 64 << 20;
    let mut bytes = Vec::new();
    open_cache(project, name).ok()??.take(MOST).read_to_end(&mut bytes).ok()?;
    Some(bytes)
}

/// Remembers `bytes` under `name` for later runs, among the caches of the project in `project`.
///
/// # Errors
/// When that is not possible; nothing depends on it.
pub fn remember(project: &Path, name: &str, bytes: &[u8]) -> std::io::Result<()> {
    replace_cache(project, name, |file| file.write_all(bytes))
}

/// Puts what `write` writes in the place of the cache `name`, whole or not at all. While another run does the same,
/// nothing is done.
fn replace_cache(
    project: &Path,
    name: &str,
    write: impl FnOnce(&mut File) -> std::io::Result<()>,
) -> std::io::Result<()> {
    let mut folder = DirHandle::open(project)?;
    for part in [OWN_FOLDER, Cache::FOLDER] {
        match folder.dir().create_dir(part) {
            Err(error) if error.kind() != std::io::ErrorKind::AlreadyExists => return Err(error),
            _ => folder = folder.child(part)?,
        }
    }
    let unfinished = format!("{name}{UNFINISHED}");
    let mut file = folder.open_with(&unfinished, OpenOptions::new().write(true).create(true))?;
    if file.try_lock().is_err() {
        return Ok(());
    }
    let written = file.set_len(0).and_then(|()| write(&mut file));
    match written.and_then(|()| folder.dir().rename(&unfinished, folder.dir(), name)) {
        Err(error) => {
            // A full disk keeps no half of it.
            let _ = folder.dir().remove_file(&unfinished);
            Err(error)
        }
        done => done,
    }
}

/// Removes what runs that were stopped while they wrote a cache of the project in the folder `project` left.
pub fn sweep_caches(project: &Path) {
    let folder = match DirHandle::open_own(project) {
        Ok(Some(own)) => own.child(Cache::FOLDER),
        _ => return,
    };
    // What cannot be removed now harms nobody, and is written over by the next run that keeps something.
    let Ok(folder) = folder else { return };
    let Ok(entries) = folder.dir().entries() else { return };
    for entry in entries.flatten() {
        let name = entry.file_name();
        let Some(name) = name.to_str().filter(|name| name.ends_with(UNFINISHED)) else { continue };
        let unused = folder.open_file(name).is_ok_and(|file| file.try_lock().is_ok());
        if unused {
            let _ = folder.dir().remove_file(name);
        }
    }
}

fn firsts(bytes: &[u8]) -> Vec<u64> {
    let first = |part: &[u8]| part.first_chunk().map_or(0, |first| u64::from_le_bytes(*first));
    bytes.chunks(PART).map(first).collect()
}

/// What a cache file begins with.
const MAGIC: &[u8; 16] = b"stitching cache\n";

/// The number of this layout of the file, and the version of the program: what one finds out another may not.
const VERSION: &str = concat!("2 ", env!("CARGO_PKG_VERSION"));

impl Store {
    /// Understands the head; `None` if it is not to be used.
    fn read(&mut self, mut file: File) -> Option<()> {
        let size = file.metadata().ok()?.len();
        let mut fixed = [0; MAGIC.len() + 16];
        file.read_exact(&mut fixed).ok()?;
        let (len, check) = fixed.strip_prefix(MAGIC)?.split_at_checked(8)?;
        let len = u64::from_le_bytes(len.try_into().ok()?);
        let behind = len.checked_add(fixed.len() as u64).filter(|behind| *behind <= size)?;
        let mut head = vec![0; usize::try_from(len).ok()?];
        file.read_exact(&mut head).ok()?;
        if xxh3_64(&head) != u64::from_le_bytes(check.try_into().ok()?) {
            return None;
        }
        let head: Head = postcard::from_bytes(&head).ok()?;
        if head.version != VERSION || head.described != self.described {
            return None;
        }
        for (name, mut entry) in head.entries {
            entry.start = entry.start.checked_add(behind)?;
            if entry.start.checked_add(entry.len)? > size {
                return None;
            }
            self.entries.insert(name, entry);
        }
        self.made = head.made;
        self.file = Some(Mutex::new(file));
        Some(())
    }

    /// The bytes of the file from `start` on.
    fn bytes(&self, start: u64, len: u64) -> Option<Vec<u8>> {
        let mut file = self.file.as_ref()?.lock().unwrap_or_else(PoisonError::into_inner);
        file.seek(SeekFrom::Start(start)).ok()?;
        let mut out = vec![0; usize::try_from(len).ok()?];
        file.read_exact(&mut out).ok()?;
        Some(out)
    }

    /// All that is kept under an entry, if it is what was written.
    fn whole(&self, entry: &Entry) -> Option<Vec<u8>> {
        let kept = self.bytes(entry.start, entry.len)?;
        let parts = kept.chunks(PART).map(xxh3_64);
        parts.eq(entry.checks.iter().copied()).then_some(kept)
    }

    /// The part of what is kept under an entry with this number, if it is what was written.
    fn part(&self, entry: &Entry, number: usize) -> Option<Vec<u8>> {
        let start = (number * PART) as u64;
        let kept =
            self.bytes(entry.start.checked_add(start)?, entry.len.checked_sub(start)?.min(PART as u64))?;
        (xxh3_64(&kept) == *entry.checks.get(number)?).then_some(kept)
    }

    /// Whether what is kept of a file of `stack` still holds: the file is what it was made from. Reads the file
    /// only if its size and times leave a doubt.
    pub fn holds(&self, stack: &Stack, file: FileId) -> bool {
        if stack.files()[file].staged().is_some() {
            return false;
        }
        let entry = self.entries.get(&name(stack, file));
        let Some(entry) = entry.filter(|entry| self.is_same(stack, file, entry) == Some(true)) else {
            return false;
        };
        if entry.is_utf8 {
            stack.note_utf8(file);
        }
        true
    }

    fn is_same(&self, stack: &Stack, file: FileId, entry: &Entry) -> Option<bool> {
        let path = on_disk(stack, file);
        let stamp = Stamp::of(&std::fs::metadata(&path).ok()?)?;
        if stamp == entry.stamp && stamp.is_proof() && !stamp.is_fresh(self.made) {
            return Some(true);
        }
        Some(stamp.size == entry.stamp.size && hash_of(&path).ok()? == entry.content?)
    }

    /// What is kept of a file, if it still holds.
    pub fn get(&self, stack: &Stack, file: FileId) -> Option<Vec<u8>> {
        let entry = self.entries.get(&name(stack, file)).filter(|_| self.holds(stack, file))?;
        self.whole(entry)
    }

    /// How a file is now; taken before it is read for [`Store::set`].
    pub fn look(stack: &Stack, file: FileId) -> Option<FileStamp> {
        if stack.files()[file].staged().is_some() {
            return None;
        }
        Stamp::of(&std::fs::metadata(on_disk(stack, file)).ok()?).map(FileStamp)
    }

    /// Keeps `bytes` of a file, unless it changed since `look`.
    pub fn set(&mut self, stack: &Stack, file: FileId, look: &FileStamp, bytes: Vec<u8>) {
        let path = on_disk(stack, file);
        let content = match stack.archive_of(file) {
            Some(_) => None,
            None => hash_of(&path).ok(),
        };
        let now = std::fs::metadata(&path).ok().and_then(|metadata| Stamp::of(&metadata));
        if now.as_ref() != Some(&look.0) {
            return;
        }
        let (len, checks) = (bytes.len() as u64, bytes.chunks(PART).map(xxh3_64).collect());
        let firsts = firsts(&bytes);
        let is_utf8 = stack.is_known_utf8(file);
        let entry = Entry { stamp: look.0.clone(), content, start: 0, len, firsts, checks, is_utf8 };
        self.new.insert(name(stack, file), (entry, bytes));
    }

    /// Writes what was newly kept, and what was kept before of files that are still listed by `stack`.
    ///
    /// # Errors
    /// When the folder cannot be written; the work that was asked for is done all the same.
    pub fn save(&mut self, stack: &Stack) -> Result<(), Error> {
        if self.new.is_empty() {
            return Ok(());
        }
        let mut parts: Vec<(String, Entry, Cow<'_, [u8]>)> = Vec::new();
        for file in 0..stack.files().len() {
            let name = name(stack, file);
            if let Some((entry, bytes)) = self.new.get(&name) {
                parts.push((name, entry.clone(), Cow::Borrowed(bytes)));
            } else if let Some(entry) = self.entries.get(&name)
                && let Some(kept) = self.whole(entry)
            {
                parts.push((name, entry.clone(), Cow::Owned(kept)));
            }
        }
        let mut start = 0;
        let mut entries = Vec::new();
        for (name, entry, bytes) in &parts {
            entries.push((name.clone(), Entry { start, ..entry.clone() }));
            start += bytes.len() as u64;
        }
        let made = nanoseconds(SystemTime::now());
        let head = Head { version: VERSION.to_owned(), described: self.described, made, entries };
        let io = |source: std::io::Error| Error::io("write", self.path(), source);
        let head = postcard::to_stdvec(&head).map_err(|error| io(std::io::Error::other(error)))?;
        let write = |out: &mut File| -> std::io::Result<()> {
            out.write_all(MAGIC)?;
            out.write_all(&(head.len() as u64).to_le_bytes())?;
            out.write_all(&xxh3_64(&head).to_le_bytes())?;
            out.write_all(&head)?;
            parts.iter().try_for_each(|(_, _, bytes)| out.write_all(bytes))
        };
        replace_cache(&self.project, self.name, write).map_err(io)
    }

    /// Where it lies, for messages.
    fn path(&self) -> PathBuf {
        self.project.join(OWN_FOLDER).join(Cache::FOLDER).join(self.name)
    }
}

/// A cache of which it is known for which files it holds in this run.
#[derive(Debug)]
pub(crate) struct Known {
    store: Store,
    files: Vec<bool>,
}

impl Known {
    /// What is kept of a file; `None` if nothing is.
    pub(crate) fn of(&self, stack: &Stack, file: FileId) -> Option<CachedFile<'_>> {
        if !self.files.get(file).copied().unwrap_or(false) {
            return None;
        }
        let name = name(stack, file);
        let (entry, new) = match self.store.new.get(&name) {
            Some((entry, bytes)) => (entry, Some(bytes.as_slice())),
            None => (self.store.entries.get(&name)?, None),
        };
        Some(CachedFile { store: &self.store, entry, new })
    }
}

/// What is kept of a file, of which no more is read than is asked for.
#[derive(Debug)]
pub(crate) struct CachedFile<'k> {
    store: &'k Store,
    entry: &'k Entry,
    /// The bytes, if they were found out in this run.
    new: Option<&'k [u8]>,
}

impl CachedFile<'_> {
    /// The first eight bytes of each part, as a number: where all is sorted, they tell which part to read.
    pub(crate) fn firsts(&self) -> &[u64] {
        &self.entry.firsts
    }

    /// The part with this number; `None` if it is not what was written.
    pub(crate) fn part(&self, number: usize) -> Option<Cow<'_, [u8]>> {
        match self.new {
            Some(bytes) => bytes.chunks(PART).nth(number).map(Cow::Borrowed),
            None => self.store.part(self.entry, number).map(Cow::Owned),
        }
    }

    /// `len` bytes from byte `start` on; `None` if there are none, or they are not what was written.
    pub(crate) fn range(&self, start: usize, len: usize) -> Option<Vec<u8>> {
        let parts = start / PART..(start + len).div_ceil(PART);
        let from = start - parts.start * PART;
        let mut out = Vec::with_capacity(parts.len() * PART);
        for number in parts {
            out.extend_from_slice(&self.part(number)?);
        }
        out.get(from..from + len).map(<[u8]>::to_vec)
    }
}

/// By what a file is known in a cache: its layer's folder and its path.
fn name(stack: &Stack, file: FileId) -> String {
    let entry = &stack.files()[file];
    format!("{}\n{}", stack.layers()[entry.layer].root.display(), entry.path)
}

/// The file itself, or the archive that it lies in.
fn on_disk(stack: &Stack, file: FileId) -> PathBuf {
    match stack.archive_of(file) {
        Some((archive, _)) => archive.file.clone(),
        None => stack.location(file),
    }
}

pub(super) fn hash_of(path: &Path) -> std::io::Result<u64> {
    let mut file = File::open(path)?;
    let mut hasher = xxhash_rust::xxh3::Xxh3Default::new();
    let mut buffer = vec![0; 1 << 18];
    loop {
        match file.read(&mut buffer)? {
            0 => return Ok(hasher.digest()),
            read => hasher.update(&buffer[..read]),
        }
    }
}
