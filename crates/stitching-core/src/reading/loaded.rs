//! Reading a file of the stack as text.

use crate::Error;
use crate::layers::{Cache, FileId, MAX_FILE, RelPath, Stack};
use crate::problem::Place;
use crate::text::{Encoding, LineTable, Span, Text};
use std::cell::RefCell;
use std::collections::HashMap;
use std::collections::hash_map::Entry;
use std::io::{Read, Seek, SeekFrom};
use std::sync::{Arc, PoisonError};

thread_local! {
    /// Reading thousands of files into one buffer a thread saves the system fetching and clearing
    /// fresh pages for each.
    static BUFFER: RefCell<Vec<u8>> = const { RefCell::new(Vec::new()) };
}

/// Reads a file into the thread's buffer and gives its text to `use_it`.
///
/// # Errors
/// When the file cannot be read.
pub fn with_text<R>(stack: &Stack, file: FileId, use_it: impl FnOnce(&Text<'_>) -> R) -> Result<R, Error> {
    let entry = &stack.files()[file];
    if let Some(text) = entry.staged().and_then(|bytes| Text::clean(bytes, entry.encoding)) {
        return Ok(use_it(&text));
    }
    if let Some(kept) = kept_text(stack, file) {
        return Ok(use_it(&Text::of_file(&kept)));
    }
    let mut buffer = BUFFER.with(RefCell::take);
    let read = stack.read(file, &mut buffer);
    let result = read.map(|()| use_it(&Text::decode(&mut buffer, entry.encoding)));
    BUFFER.with(|cell| cell.replace(buffer));
    result
}

/// The text of a file that is asked for again and again: where records are looked up one by one, most are in a
/// few files. `None` where that is not so, or the file is not plain text; it is read as ever then.
fn kept_text(stack: &Stack, file: FileId) -> Option<Arc<String>> {
    /// No more than so many bytes are kept.
    const MOST: usize = 96 << 20;
    let entry = &stack.files()[file];
    let is_looked_up = |cache: &&Cache| cache.postings.get().is_some() || cache.signatures.get().is_some();
    let cache = stack.cache().filter(is_looked_up).filter(|_| entry.encoding.is_none())?;
    let texts = || cache.texts.lock().unwrap_or_else(PoisonError::into_inner);
    if let Some(text) = texts().get(&file) {
        return Some(Arc::clone(text));
    }
    let kept: usize = texts().values().map(|text| text.len()).sum();
    if kept.saturating_add(usize::try_from(entry.size).ok()?) > MOST {
        return None;
    }
    let mut bytes = Vec::new();
    stack.read(file, &mut bytes).ok()?;
    if !Encoding::may_be_plain(&bytes, None) {
        return None;
    }
    let text = Arc::new(String::from_utf8(bytes).ok()?);
    texts().insert(file, Arc::clone(&text));
    Some(text)
}

/// How much of a file is read at a time, so that all the passes over it find it in the processor's
/// cache.
const BLOCK: usize = 1 << 18;

/// Reads a file block by block, each of whole lines, and gives each block with its byte offset in
/// the file to `use_it`. A line longer than a block makes the block grow. Gives up, with `false`, as soon
/// as a block is not clean UTF-8: then only the whole file tells what it is.
///
/// # Errors
/// When the file cannot be read.
pub fn with_blocks(
    stack: &Stack,
    file: FileId,
    mut use_it: impl FnMut(&Text<'_>, usize),
) -> Result<bool, Error> {
    let mut source = stack.open_file(file)?;
    let mut buffer = BUFFER.with(RefCell::take);
    let mut read_all = || -> std::io::Result<bool> {
        let (mut base, mut filled) = (0, 0);
        loop {
            if buffer.len() < filled + BLOCK {
                buffer.resize(filled + BLOCK, 0);
            }
            let read = source.read(&mut buffer[filled..])?;
            filled += read;
            let whole = if read == 0 {
                filled
            } else {
                memchr::memrchr(b'\n', &buffer[..filled]).map_or(0, |at| at + 1)
            };
            if base + filled > MAX_FILE as usize {
                return Err(std::io::ErrorKind::FileTooLarge.into());
            }
            // At the end an empty block still stands for an empty file.
            if whole > 0 || (read == 0 && base == 0) {
                let block = &mut buffer[..whole];
                let text = if base == 0 {
                    Text::clean(block, None)
                } else {
                    simdutf8::basic::from_utf8(block).ok().map(Text::of_str)
                };
                let Some(text) = text else { return Ok(false) };
                use_it(&text, base);
                buffer.copy_within(whole..filled, 0);
                (base, filled) = (base + whole, filled - whole);
            }
            if read == 0 {
                return Ok(true);
            }
        }
    };
    let result = read_all();
    BUFFER.with(|cell| cell.replace(buffer));
    if matches!(result, Ok(true)) {
        stack.note_utf8(file);
    }
    result.map_err(|source| Error::io("read", stack.location(file), source))
}

/// Gives the start of a file's text to `use_it`, as [`start_of`] tells it. The file is read as a whole only where its
/// start does not tell what it is written in.
///
/// # Errors
/// When the file cannot be read.
pub(crate) fn with_start<R>(
    stack: &Stack,
    file: FileId,
    most: usize,
    use_it: impl FnOnce(&Text<'_>) -> R,
) -> Result<R, Error> {
    let entry = &stack.files()[file];
    if stack.is_plain(file) && entry.encoding.is_none() && entry.size > most as u64 {
        let mut bytes = Vec::with_capacity(most);
        let read = stack.open_file(file)?.take(most as u64).read_to_end(&mut bytes);
        read.map_err(|source| Error::io("read", stack.location(file), source))?;
        let whole = memchr::memrchr(b'\n', &bytes).map_or(0, |at| at + 1);
        if let Some(text) = Text::clean(&bytes[..whole], None).filter(|_| whole > 0) {
            return Ok(use_it(&text));
        }
    }
    with_text(stack, file, |text| use_it(&Text::of_file(start_of(text.as_str(), most))))
}

/// The whole lines within the first `most` bytes of `text`; where the first line is longer, as much of it.
pub(crate) fn start_of(text: &str, most: usize) -> &str {
    if text.len() <= most {
        return text;
    }
    let cut = text.floor_char_boundary(most);
    let end = text[..cut].rfind('\n').map_or(cut, |line| line + 1);
    &text[..end]
}

/// Gives the texts at `spans` of a file, with their positions in `spans`, to `use_it`: of a file that is known to be
/// UTF-8 and of which little is asked, only these bytes are read. A span that is not in the file gives an empty text.
///
/// # Errors
/// When the file cannot be read.
pub(crate) fn with_pieces(
    stack: &Stack,
    file: FileId,
    spans: &[Span],
    mut use_it: impl FnMut(usize, &str),
) -> Result<(), Error> {
    /// To read a piece costs about as much as to read so many bytes in one go.
    const PIECE: u64 = 8192;
    if !stack.is_known_utf8(file) || spans.len() as u64 * PIECE > stack.files()[file].size {
        return with_text(stack, file, |text| {
            for (at, span) in spans.iter().enumerate() {
                use_it(at, text.as_str().get(span.range()).unwrap_or_default());
            }
        });
    }
    let mut source = stack.open_file(file)?;
    let mut bytes = Vec::new();
    let mut read = |span: &Span| -> std::io::Result<String> {
        source.seek(SeekFrom::Start(u64::from(span.start)))?;
        bytes.clear();
        source.by_ref().take(span.range().len() as u64).read_to_end(&mut bytes)?;
        Ok(std::str::from_utf8(&bytes).unwrap_or_default().to_owned())
    };
    for (at, span) in spans.iter().enumerate() {
        let text = read(span).map_err(|source| Error::io("read", stack.location(file), source))?;
        use_it(at, &text);
    }
    Ok(())
}

/// A file's text together with what is needed to tell places in it.
#[derive(Debug)]
pub struct LoadedFile {
    /// The path within the layer.
    pub path: RelPath,
    /// The layer's name.
    pub layer: String,
    text: Arc<String>,
    encoding: Encoding,
    lines: LineTable,
}

/// Loads a file to tell places in it.
///
/// # Errors
/// When the file cannot be read.
pub fn load(stack: &Stack, file: FileId) -> Result<LoadedFile, Error> {
    let entry = &stack.files()[file];
    let layer = stack.layers()[entry.layer].name.clone();
    if let Some(text) = kept_text(stack, file) {
        let own = Text::of_file(&text);
        let (encoding, lines) = (own.encoding(), LineTable::new(own.as_str(), own.body()));
        return Ok(LoadedFile { path: entry.path.clone(), layer, text, encoding, lines });
    }
    let mut bytes = Vec::new();
    stack.read(file, &mut bytes)?;
    // Nearly all files are clean UTF-8 without a mark.
    if Encoding::may_be_plain(&bytes, entry.encoding) {
        match String::from_utf8(bytes) {
            Ok(text) => {
                let lines = LineTable::new(&text, 0);
                let (path, text, encoding) = (entry.path.clone(), Arc::new(text), Encoding::UTF_8);
                return Ok(LoadedFile { path, layer, text, encoding, lines });
            }
            Err(error) => bytes = error.into_bytes(),
        }
    }
    let (binary, encoding, lines) = {
        let text = Text::decode(&mut bytes, entry.encoding);
        let lines = LineTable::new(text.as_str(), text.body());
        (text.as_str().is_empty(), text.encoding(), lines)
    };
    let text = if binary { String::new() } else { String::from_utf8(bytes).unwrap_or_default() };
    Ok(LoadedFile { path: entry.path.clone(), layer, text: Arc::new(text), encoding, lines })
}

/// Files kept for telling many places in them.
#[derive(Debug)]
pub struct PlaceResolver<'p> {
    stack: &'p Stack,
    files: HashMap<FileId, LoadedFile>,
}

impl<'p> PlaceResolver<'p> {
    /// For the files of a stack; none is read yet.
    pub fn new(stack: &'p Stack) -> PlaceResolver<'p> {
        PlaceResolver { stack, files: HashMap::new() }
    }

    /// A file of the stack, read when it is first asked for.
    ///
    /// # Errors
    /// When it cannot be read.
    pub fn file(&mut self, file: FileId) -> Result<&LoadedFile, Error> {
        Ok(match self.files.entry(file) {
            Entry::Occupied(known) => known.into_mut(),
            Entry::Vacant(free) => free.insert(load(self.stack, file)?),
        })
    }

    /// The place of a span of a file.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn place(&mut self, file: FileId, span: Span) -> Result<Place, Error> {
        Ok(self.file(file)?.place(span))
    }

    /// As [`PlaceResolver::place`], with the text of its line.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn place_and_line(&mut self, file: FileId, span: Span) -> Result<(Place, String), Error> {
        let loaded = self.file(file)?;
        let place = loaded.place(span);
        let line = loaded.line(place.line).to_owned();
        Ok((place, line))
    }
}

impl LoadedFile {
    /// The content; empty for a file that is not text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The content for reading its records again.
    pub fn as_text(&self) -> Text<'_> {
        Text::of_file(&self.text)
    }

    /// The place of a span.
    pub fn place(&self, span: Span) -> Place {
        let mut place = Place::at(self.text(), &self.lines, span, self.path.as_str(), &self.layer);
        let in_file = |at: u32| Span::new(self.encoding.file_offset(self.text(), at as usize), 0).start;
        (place.start, place.end) = (in_file(span.start), in_file(span.end));
        place
    }

    /// The text of a line by its 1-based number.
    pub fn line(&self, line: usize) -> &str {
        self.lines.line(self.text(), line).unwrap_or("")
    }
}
