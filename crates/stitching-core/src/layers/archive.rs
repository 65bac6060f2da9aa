//! Zip archives: which entries there are, reading one, and exchanging some without touching the bytes
//! of the others.
//!
//! Follows PKWARE's APPNOTE 6.3.10; the section numbers below are of that. The directory is read here
//! and not by a library because edits need the place of every header, and because hostile archives
//! (two entries of one name, entries that share bytes) must be seen as they are. Inflating is
//! `flate2`'s work.
//!
//! **Limitations.** Entries are read if they are stored or deflated, and not encrypted. Archives with
//! Zip64 records are read, but not written.

use super::{LayerFaultKind, MAX_FILE, RelPath};
use crate::text::{Patch, PatchedReader, Splice};
use flate2::Crc;
use flate2::read::DeflateDecoder;
use flate2::write::DeflateEncoder;
use std::collections::HashSet;
use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom, Write};
use std::path::{Path, PathBuf};

/// The directory of an archive.
#[derive(Debug)]
pub struct Archive {
    /// The archive's own place on disk.
    pub file: PathBuf,
    /// Its path in its layer; `None` if it is the layer.
    pub path: Option<RelPath>,
    /// Its size in bytes.
    pub size: u64,
    entries: Vec<Entry>,
    /// Where the central directory begins.
    directory: u64,
    /// Where the end record begins.
    end_record: u64,
    /// Why the archive cannot be written, if it cannot.
    fixed: Option<&'static str>,
}

/// An entry of an archive.
#[derive(Debug, Clone)]
pub struct Entry {
    /// Its path within the archive; `None` for folders and for entries that cannot be used.
    pub path: Option<RelPath>,
    /// How many bytes it unpacks to.
    pub size: u64,
    packed: u64,
    crc: u32,
    method: u16,
    flags: u16,
    /// Where its local header begins.
    header: u64,
    /// Where its header in the central directory begins, and how long that is.
    central: (u64, u64),
}

/// What becomes of an entry.
#[derive(Debug, Clone)]
pub enum EntryChange {
    /// It gets new bytes.
    Replace(Vec<u8>),
    /// It gets another path, and perhaps new bytes.
    Move(RelPath, Option<Vec<u8>>),
    /// It goes.
    Remove,
}

const LOCAL: &[u8] = b"PK\x03\x04";
const CENTRAL: &[u8] = b"PK\x01\x02";
const END: &[u8] = b"PK\x05\x06";
const END64: &[u8] = b"PK\x06\x06";
const LOCATOR64: &[u8] = b"PK\x06\x07";
/// The fixed parts of the records (4.3.7, 4.3.12, 4.3.16).
const LOCAL_LEN: u64 = 30;
const CENTRAL_LEN: usize = 46;
const END_LEN: usize = 22;
/// A comment behind the end record is at most so long (4.4.12).
const LONGEST_COMMENT: u64 = 65_535;
const STORED: u16 = 0;
const DEFLATED: u16 = 8;
/// Bits of the flags (4.4.4).
const ENCRYPTED: u16 = 1;
const DESCRIPTOR: u16 = 1 << 3;
const UTF8_NAME: u16 = 1 << 11;
/// An entry that unpacks to more than this, and to this many times its packed size, is taken for one
/// that is meant to fill the memory. Data of games is packed twenty times at the most.
const BOMB_SIZE: u64 = 16 << 20;
const BOMB_RATIO: u64 = 250;
/// A central directory larger than this is not read.
const LARGEST_DIRECTORY: u64 = 1 << 28;

impl Archive {
    /// Reads the directory of the archive `file`, which lies at `path` in its layer. What is wrong with
    /// single entries goes to `fault`, with the path of the entry as far as it can be shown.
    ///
    /// # Errors
    /// When the file cannot be read, or has no sound directory.
    pub fn open(
        file: &Path,
        path: Option<RelPath>,
        fault: &mut dyn FnMut(String, LayerFaultKind),
    ) -> io::Result<Archive> {
        Archive::of_reader(&mut File::open(file)?, file, path, fault)
    }

    /// As [`Archive::open`], from bytes that are open already; `file` is where they lie.
    ///
    /// # Errors
    /// As [`Archive::open`].
    pub fn of_reader(
        source: &mut (impl Read + Seek),
        file: &Path,
        path: Option<RelPath>,
        fault: &mut dyn FnMut(String, LayerFaultKind),
    ) -> io::Result<Archive> {
        let size = source.seek(SeekFrom::End(0))?;
        let end = find_end(source, size)?;
        let mut archive = Archive {
            file: file.to_owned(),
            path,
            size,
            entries: Vec::new(),
            directory: end.directory,
            end_record: end.record,
            fixed: end.zip64.then_some("it has Zip64 records"),
        };
        let bytes = read_range(source, end.directory, end.directory_len)?;
        let mut at = 0;
        let mut names = HashSet::new();
        for _ in 0..end.count {
            let Some((entry, name, len)) = central(&bytes, at, end.directory) else {
                return Err(broken("an entry of its directory is cut off"));
            };
            at += len;
            let (path, wrong) = usable(&entry, &name, &mut names);
            if let Some(wrong) = wrong {
                if wrong.contains("twice") {
                    archive.fixed = Some("two of its entries have one name");
                }
                fault(shown(&name), LayerFaultKind::Entry(wrong));
            }
            archive.entries.push(Entry { path, ..entry });
        }
        archive.refuse_shared_bytes(fault);
        Ok(archive)
    }

    /// The entries in the order of the directory.
    pub fn entries(&self) -> &[Entry] {
        &self.entries
    }

    /// The place of the central directory with all that follows it: byte of its start.
    pub fn directory(&self) -> u64 {
        self.directory
    }

    /// The position of the entry at `path`.
    pub fn find(&self, path: &RelPath) -> Option<usize> {
        self.entries.iter().position(|entry| entry.path.as_ref() == Some(path))
    }

    /// Reads and unpacks the entry at position `index` into `buffer`, which is emptied first.
    ///
    /// # Errors
    /// When the file cannot be read, or the bytes are not what the directory says.
    pub fn read(&self, index: usize, buffer: &mut Vec<u8>) -> io::Result<()> {
        self.read_from(&mut File::open(&self.file)?, index, buffer)
    }

    /// As [`Archive::read`], from bytes that are open already.
    fn read_from(
        &self,
        source: &mut (impl Read + Seek),
        index: usize,
        buffer: &mut Vec<u8>,
    ) -> io::Result<()> {
        buffer.clear();
        let entry = &self.entries[index];
        let data = local_end(source, entry)?;
        source.seek(SeekFrom::Start(data))?;
        buffer.reserve(entry.size as usize + 1);
        let packed = source.take(entry.packed);
        // One more than it should be, to notice that there is more.
        let limit = entry.size + 1;
        match entry.method {
            STORED => packed.take(limit).read_to_end(buffer)?,
            _ => DeflateDecoder::new(packed).take(limit).read_to_end(buffer)?,
        };
        let mut crc = Crc::new();
        crc.update(buffer);
        if buffer.len() as u64 != entry.size || crc.sum() != entry.crc {
            return Err(broken("its bytes are not those that the archive's directory tells of"));
        }
        Ok(())
    }

    /// What turns the archive's bytes into those with `changes` made (position of the entry, what becomes
    /// of it) and the new entries `added` at its end. The bytes of all other entries, their order and
    /// their headers stay; only offsets in the central directory move.
    ///
    /// # Errors
    /// When the archive cannot be read, or is of a kind that is not written.
    pub fn patch(&self, changes: &[(usize, EntryChange)], added: &[(RelPath, Vec<u8>)]) -> io::Result<Patch> {
        if let Some(reason) = self.fixed {
            return Err(broken(reason));
        }
        let mut source = File::open(&self.file)?;
        let mut splices = Vec::new();
        // For each entry how its header in the central directory changes.
        let directory = read_range(&mut source, self.directory, self.size - self.directory)?;
        let header = |entry: &Entry| {
            let start = (entry.central.0 - self.directory) as usize;
            directory.get(start..start + entry.central.1 as usize).map(<[u8]>::to_vec)
        };
        let mut headers: Vec<Option<Vec<u8>>> = self.entries.iter().map(header).collect();
        for (index, change) in changes {
            let entry = &self.entries[*index];
            let data = local_end(&mut source, entry)?;
            let end = self.record_end(&mut source, entry, data)?;
            let old = read_range(&mut source, entry.header, data - entry.header)?;
            let (name, bytes) = match change {
                EntryChange::Remove => {
                    headers[*index] = None;
                    splices.push(Splice { start: entry.header, end, bytes: Vec::new() });
                    continue;
                }
                EntryChange::Replace(bytes) => (None, Some(bytes)),
                EntryChange::Move(path, _) if path.as_str().len() > usize::from(u16::MAX) => {
                    return Err(broken("a name would be too long"));
                }
                EntryChange::Move(path, bytes) => (Some(path.as_str()), bytes.as_ref()),
            };
            let mut local = old;
            let mut central = headers[*index].take().unwrap_or_default();
            let mut stop = data;
            let mut packed = Vec::new();
            if let Some(bytes) = bytes {
                packed = pack(entry.method, bytes)?;
                stop = end;
                let sizes = Sizes::of(bytes, &packed)?;
                sizes.write(&mut local, 6, 14);
                sizes.write(&mut central, 8, 16);
            }
            if let Some(name) = name {
                rename(&mut local, 26, LOCAL_LEN as usize, 6, name);
                rename(&mut central, 28, CENTRAL_LEN, 8, name);
            }
            local.extend_from_slice(&packed);
            splices.push(Splice { start: entry.header, end: stop, bytes: local });
            headers[*index] = Some(central);
        }
        splices.sort_by_key(|splice| splice.start);
        let (mut locals, mut tail, mut new_headers) = (Vec::new(), Vec::new(), Vec::new());
        let moved = |offset: u64| -> u64 {
            let before = splices.iter().filter(|splice| splice.start < offset);
            before.fold(offset as i64, |at, splice| at + splice.growth()) as u64
        };
        for (path, bytes) in added {
            let offset = moved(self.directory) + locals.len() as u64;
            let (local, central) = new_entry(path.as_str(), bytes, offset)?;
            locals.extend_from_slice(&local);
            new_headers.push(central);
        }
        let directory = moved(self.directory) + locals.len() as u64;
        let mut count = new_headers.len();
        let mut written = 0;
        for (entry, header) in self.entries.iter().zip(&headers) {
            let Some(mut header) = header.clone() else { continue };
            put32(&mut header, 42, moved(entry.header))?;
            written += header.len();
            count += 1;
            tail.extend_from_slice(&header);
        }
        for header in new_headers {
            written += header.len();
            tail.extend_from_slice(&header);
        }
        let after = self.entries.iter().map(|entry| entry.central.0 + entry.central.1).max();
        let after = after.unwrap_or(self.directory);
        let mut end = read_range(&mut source, after, self.size - after)?;
        let at = self.end_record.checked_sub(after).map(|at| at as usize);
        let at = at.filter(|at| end.len() >= at + END_LEN).ok_or_else(|| broken("its end record is gone"))?;
        let count = u16::try_from(count).map_err(|_| broken("it would have too many entries"))?;
        end[at + 8..at + 10].copy_from_slice(&count.to_le_bytes());
        end[at + 10..at + 12].copy_from_slice(&count.to_le_bytes());
        put32(&mut end, at + 12, written as u64)?;
        put32(&mut end, at + 16, directory)?;
        tail.extend_from_slice(&end);
        // The directory is a splice of its own, by which the archive is known again.
        if !locals.is_empty() {
            splices.push(Splice { start: self.directory, end: self.directory, bytes: locals });
        }
        splices.push(Splice { start: self.directory, end: self.size, bytes: tail });
        Ok(Patch { splices })
    }

    /// Whether the archive holds the same with one patch as with the other: the same paths in the same order, and the
    /// same bytes at each of them, however they are packed.
    ///
    /// # Errors
    /// When the archive cannot be read, or is none with one of the patches.
    pub fn holds_the_same(&self, one: &Patch, other: &Patch) -> io::Result<bool> {
        let open = |patch| PatchedReader::new(File::open(&self.file)?, self.size, patch);
        let (mut one, mut other) = (open(one)?, open(other)?);
        let directory_of = |source: &mut PatchedReader<'_, File>| {
            Archive::of_reader(source, &self.file, None, &mut |_, _| {})
        };
        let (first, second) = (directory_of(&mut one)?, directory_of(&mut other)?);
        let content = |entry: &Entry| (entry.path.clone(), entry.size, entry.crc);
        if !first.entries.iter().map(content).eq(second.entries.iter().map(content)) {
            return Ok(false);
        }
        // What is packed alike in both was not touched.
        let (mut bytes, mut other_bytes) = (Vec::new(), Vec::new());
        for (index, (entry, twin)) in first.entries.iter().zip(&second.entries).enumerate() {
            if (entry.packed, entry.flags, entry.method) != (twin.packed, twin.flags, twin.method) {
                if entry.path.is_none() {
                    return Ok(false);
                }
                first.read_from(&mut one, index, &mut bytes)?;
                second.read_from(&mut other, index, &mut other_bytes)?;
                if bytes != other_bytes {
                    return Ok(false);
                }
            }
        }
        Ok(true)
    }

    /// What undoes `patch`.
    ///
    /// # Errors
    /// When the archive cannot be read.
    pub fn reversed(&self, patch: &Patch) -> io::Result<Patch> {
        let old = |splice: &Splice| {
            let mut source = File::open(&self.file).ok()?;
            read_range(&mut source, splice.start, splice.end - splice.start).ok()
        };
        patch.reversed_by(old).ok_or_else(|| broken("it cannot be read again"))
    }

    /// Where the record of an entry ends: behind its data, and behind a descriptor if there is one.
    fn record_end(&self, source: &mut (impl Read + Seek), entry: &Entry, data: u64) -> io::Result<u64> {
        let mut end = data + entry.packed;
        if entry.flags & DESCRIPTOR != 0 {
            // 4.3.9: with or without a signature.
            let signed = read_range(source, end, 4)? == b"PK\x07\x08";
            end += if signed { 16 } else { 12 };
        }
        // The lengths in the local header need not be those in the directory.
        let later = self.entries.iter().map(|entry| entry.header).filter(|header| *header > entry.header);
        let next = later.min().map_or(self.directory, |next| next.min(self.directory));
        if end <= next { Ok(end) } else { Err(broken("an entry runs into the next")) }
    }

    /// Entries that use the same bytes are not what any packer writes, but a way to unpack a small file
    /// to a huge one.
    fn refuse_shared_bytes(&mut self, fault: &mut dyn FnMut(String, LayerFaultKind)) {
        let mut order: Vec<usize> = (0..self.entries.len()).collect();
        order.sort_by_key(|index| self.entries[*index].header);
        let mut covered = 0;
        for index in order {
            let entry = &mut self.entries[index];
            let end = entry.header.saturating_add(LOCAL_LEN).saturating_add(entry.packed);
            if entry.header < covered || end > self.directory {
                self.fixed = Some("its entries share bytes");
                if let Some(path) = entry.path.take() {
                    let reason = "it uses bytes of another entry, or of the directory";
                    fault(path.to_string(), LayerFaultKind::Entry(reason.to_owned()));
                }
            }
            covered = covered.max(end);
        }
    }
}

struct End {
    /// Where the record itself begins.
    record: u64,
    directory: u64,
    directory_len: u64,
    count: u64,
    zip64: bool,
}

/// Finds the end record (4.3.16), and the Zip64 one if there is one (4.3.14).
fn find_end(source: &mut (impl Read + Seek), size: u64) -> io::Result<End> {
    let window = size.min(LONGEST_COMMENT + END_LEN as u64 + 20);
    let tail = read_range(source, size - window, window)?;
    let fits = |at: &usize| {
        let comment = tail.get(at + 20..at + 22).map(|len| usize::from(u16::from_le_bytes([len[0], len[1]])));
        comment.is_some_and(|len| at + END_LEN + len <= tail.len())
    };
    let at = memchr::memmem::rfind_iter(&tail, END).find(fits);
    let at =
        at.ok_or_else(|| broken("it has no end record: the file is no zip archive, or it is cut off"))?;
    let here = size - window + at as u64;
    let mut end = End {
        record: here,
        count: get(&tail, at + 10, 2),
        directory_len: get(&tail, at + 12, 4),
        directory: get(&tail, at + 16, 4),
        zip64: false,
    };
    let locator = at.checked_sub(20).filter(|locator| tail[*locator..].starts_with(LOCATOR64));
    if let Some(locator) = locator {
        let record = read_range(source, get(&tail, locator + 8, 8), 56)?;
        if !record.starts_with(END64) {
            return Err(broken("its Zip64 end record is not where it should be"));
        }
        end = End {
            record: here,
            count: get(&record, 32, 8),
            directory_len: get(&record, 40, 8),
            directory: get(&record, 48, 8),
            zip64: true,
        };
    }
    let fits = end.directory.checked_add(end.directory_len).is_some_and(|end| end <= here);
    if !fits || end.directory_len > LARGEST_DIRECTORY || end.count > end.directory_len / CENTRAL_LEN as u64 {
        return Err(broken("its directory does not fit the file: it is damaged or cut off"));
    }
    Ok(end)
}

/// Reads the header at `at` in the central directory (4.3.12), which begins at byte `base` of the file.
/// Gives the entry, its name and the length of the header.
fn central(bytes: &[u8], at: usize, base: u64) -> Option<(Entry, Vec<u8>, usize)> {
    let header = bytes.get(at..at + CENTRAL_LEN).filter(|header| header.starts_with(CENTRAL))?;
    let (name, extra, comment) = (get(header, 28, 2), get(header, 30, 2), get(header, 32, 2));
    let len = CENTRAL_LEN + (name + extra + comment) as usize;
    let whole = bytes.get(at..at + len)?;
    let name_end = CENTRAL_LEN + name as usize;
    let mut entry = Entry {
        path: None,
        flags: get(header, 8, 2) as u16,
        method: get(header, 10, 2) as u16,
        crc: get(header, 16, 4) as u32,
        packed: get(header, 20, 4),
        size: get(header, 24, 4),
        header: get(header, 42, 4),
        central: (base + at as u64, len as u64),
    };
    let mut extra = &whole[name_end..name_end + extra as usize];
    // 4.5.3: the fields that did not fit, in this order.
    while extra.len() >= 4 {
        let (id, len) = (get(extra, 0, 2), get(extra, 2, 2) as usize);
        let body = extra.get(4..4 + len)?;
        if id == 1 {
            let wide = [&mut entry.size, &mut entry.packed, &mut entry.header];
            for (field, value) in
                wide.into_iter().filter(|field| **field == 0xFFFF_FFFF).zip(body.chunks_exact(8))
            {
                *field = get(value, 0, 8);
            }
        }
        extra = &extra[4 + len..];
    }
    // 4.4.2 and the usual meaning of the attributes: made on a system with links.
    let mode = get(header, 38, 4) >> 16;
    if get(header, 5, 1) == 3 && mode & 0o170_000 == 0o120_000 {
        entry.method = u16::MAX;
    }
    Some((entry, whole[CENTRAL_LEN..name_end].to_vec(), len))
}

/// The path of an entry, if it can be used; and what is wrong with it, if something is.
fn usable(entry: &Entry, name: &[u8], names: &mut HashSet<RelPath>) -> (Option<RelPath>, Option<String>) {
    if name.ends_with(b"/") {
        return (None, None);
    }
    let reason = |reason: &str| (None, Some(reason.to_owned()));
    let Ok(text) = std::str::from_utf8(name) else {
        return reason("its name is not Unicode");
    };
    if text.contains('\\') {
        return reason("its name has a backslash, which is a separator on some systems only");
    }
    let path = match RelPath::parse(text) {
        Ok(path) if path.as_str() == text => path,
        Ok(_) => return reason("its name has empty parts or dots"),
        Err(error) => return (None, Some(error.to_string())),
    };
    if !names.insert(path.clone()) {
        return reason("its name is in the archive twice; the first one is used");
    }
    let wrong = match entry {
        Entry { method: u16::MAX, .. } => "it is a link, which is not followed".to_owned(),
        Entry { flags, .. } if flags & ENCRYPTED != 0 => "it is encrypted".to_owned(),
        Entry { method, .. } if ![STORED, DEFLATED].contains(method) => {
            format!("it is packed in a way that is not read (method {method})")
        }
        Entry { size, .. } if *size > MAX_FILE => format!("it unpacks to {size} bytes, which is too much"),
        Entry { size, packed, .. } if *size > BOMB_SIZE && *size / (*packed).max(1) > BOMB_RATIO => {
            format!("it unpacks to {size} bytes from {packed}, as if made to fill the memory")
        }
        _ => return (Some(path), None),
    };
    (None, Some(wrong))
}

/// Where the data of an entry begins: behind its local header (4.3.7).
fn local_end(source: &mut (impl Read + Seek), entry: &Entry) -> io::Result<u64> {
    let header = read_range(source, entry.header, LOCAL_LEN)?;
    if !header.starts_with(LOCAL) {
        return Err(broken("its header is not where the directory says"));
    }
    Ok(entry.header + LOCAL_LEN + get(&header, 26, 2) + get(&header, 28, 2))
}

fn pack(method: u16, bytes: &[u8]) -> io::Result<Vec<u8>> {
    if method == STORED {
        return Ok(bytes.to_vec());
    }
    let mut encoder = DeflateEncoder::new(Vec::new(), flate2::Compression::default());
    encoder.write_all(bytes)?;
    encoder.finish()
}

struct Sizes {
    crc: u32,
    packed: u32,
    size: u32,
}

impl Sizes {
    fn of(bytes: &[u8], packed: &[u8]) -> io::Result<Sizes> {
        let mut crc = Crc::new();
        crc.update(bytes);
        let fits = |len: usize| u32::try_from(len).map_err(|_| broken("an entry would be too large"));
        Ok(Sizes { crc: crc.sum(), packed: fits(packed.len())?, size: fits(bytes.len())? })
    }

    /// Writes them into a header whose flags stand at `flags` and whose checksum at `at`. The sizes stand
    /// in the header, so there is no descriptor.
    fn write(&self, header: &mut [u8], flags: usize, at: usize) {
        let old = get(header, flags, 2) as u16 & !DESCRIPTOR;
        header[flags..flags + 2].copy_from_slice(&old.to_le_bytes());
        header[at..at + 4].copy_from_slice(&self.crc.to_le_bytes());
        header[at + 4..at + 8].copy_from_slice(&self.packed.to_le_bytes());
        header[at + 8..at + 12].copy_from_slice(&self.size.to_le_bytes());
    }
}

/// Gives a header another name: its length stands at `len`, the name at `at`, the flags at `flags`.
fn rename(header: &mut Vec<u8>, len: usize, at: usize, flags: usize, name: &str) {
    let old = get(header, len, 2) as usize;
    header.splice(at..at + old, name.bytes());
    header[len..len + 2].copy_from_slice(&(name.len() as u16).to_le_bytes());
    if !name.is_ascii() {
        let set = get(header, flags, 2) as u16 | UTF8_NAME;
        header[flags..flags + 2].copy_from_slice(&set.to_le_bytes());
    }
}

/// A deflated entry: its local header with the data, and its header for the central directory. The time
/// is the earliest that can be written (1980-01-01), so that the same change gives the same bytes.
fn new_entry(name: &str, bytes: &[u8], offset: u64) -> io::Result<(Vec<u8>, Vec<u8>)> {
    const EARLIEST: [u8; 4] = [0, 0, 0x21, 0];
    let packed = pack(DEFLATED, bytes)?;
    let sizes = Sizes::of(bytes, &packed)?;
    let flags: u16 = if name.is_ascii() { 0 } else { UTF8_NAME };
    let mut shared = Vec::from(20u16.to_le_bytes());
    shared.extend_from_slice(&flags.to_le_bytes());
    shared.extend_from_slice(&DEFLATED.to_le_bytes());
    shared.extend_from_slice(&EARLIEST);
    for number in [sizes.crc, sizes.packed, sizes.size] {
        shared.extend_from_slice(&number.to_le_bytes());
    }
    let len = u16::try_from(name.len()).map_err(|_| broken("a name would be too long"))?;
    shared.extend_from_slice(&len.to_le_bytes());
    shared.extend_from_slice(&[0, 0]);
    let mut local = LOCAL.to_vec();
    local.extend_from_slice(&shared);
    local.extend_from_slice(name.as_bytes());
    local.extend_from_slice(&packed);
    let mut central = CENTRAL.to_vec();
    central.extend_from_slice(&20u16.to_le_bytes());
    central.extend_from_slice(&shared);
    central.extend_from_slice(&[0; 10]);
    central.extend_from_slice(&[0; 4]);
    put32(&mut central, 42, offset)?;
    central.extend_from_slice(name.as_bytes());
    Ok((local, central))
}

/// The number of `len` bytes at `at`, the lowest byte first; 0 where there are none.
fn get(bytes: &[u8], at: usize, len: usize) -> u64 {
    let found = bytes.get(at..at + len).unwrap_or(&[]);
    found.iter().rev().fold(0, |number, byte| number << 8 | u64::from(*byte))
}

fn put32(bytes: &mut [u8], at: usize, number: u64) -> io::Result<()> {
    let number = u32::try_from(number).map_err(|_| broken("it would become larger than 4 GiB"))?;
    bytes[at..at + 4].copy_from_slice(&number.to_le_bytes());
    Ok(())
}

fn read_range(source: &mut (impl Read + Seek), start: u64, len: u64) -> io::Result<Vec<u8>> {
    source.seek(SeekFrom::Start(start))?;
    let mut bytes = Vec::new();
    Read::take(source, len).read_to_end(&mut bytes)?;
    if bytes.len() as u64 == len { Ok(bytes) } else { Err(broken("it is cut off")) }
}

fn broken(reason: &str) -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, reason.to_owned())
}

/// A name that may be no text, for messages.
fn shown(name: &[u8]) -> String {
    String::from_utf8_lossy(name).chars().map(|next| if next.is_control() { '?' } else { next }).collect()
}
