//! Reading a file of the stack as text.

use crate::Error;
use crate::layers::{FileId, MAX_FILE, RelPath, Stack};
use crate::problem::Place;
use crate::text::{LineTable, Span, Text};
use std::cell::RefCell;
use std::io::Read;

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
    if let Some(text) = stack.files()[file].staged().and_then(|bytes| Text::clean(bytes)) {
        return Ok(use_it(&text));
    }
    let mut buffer = BUFFER.with(RefCell::take);
    let read = stack.read(file, &mut buffer);
    let result = read.map(|()| use_it(&Text::decode(&mut buffer)));
    BUFFER.with(|cell| cell.replace(buffer));
    result
}

/// How much of a file is read at a time, so that all the passes over it find it in the processor's
/// cache.
const BLOCK: usize = 1 << 18;

/// Reads a file block by block, each of whole lines, and gives each block with its byte offset in
/// the file to `use_it`. A line longer than a block makes the block grow.
///
/// # Errors
/// When the file cannot be read.
pub fn with_blocks(
    stack: &Stack,
    file: FileId,
    mut use_it: impl FnMut(&Text<'_>, usize),
) -> Result<(), Error> {
    let mut source = stack.open_file(file)?;
    let mut buffer = BUFFER.with(RefCell::take);
    let mut read_all = || -> std::io::Result<()> {
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
                use_it(&if base == 0 { Text::decode(block) } else { Text::decode_more(block) }, base);
                buffer.copy_within(whole..filled, 0);
                (base, filled) = (base + whole, filled - whole);
            }
            if read == 0 {
                return Ok(());
            }
        }
    };
    let result = read_all();
    BUFFER.with(|cell| cell.replace(buffer));
    result.map_err(|source| Error::io("read", stack.location(file), source))
}

/// A file's text together with what is needed to tell places in it.
#[derive(Debug)]
pub struct LoadedFile {
    /// The path within the layer.
    pub path: RelPath,
    /// The layer's name.
    pub layer: String,
    text: String,
    lines: LineTable,
}

/// Loads a file to tell places in it.
///
/// # Errors
/// When the file cannot be read.
pub fn load(stack: &Stack, file: FileId) -> Result<LoadedFile, Error> {
    let mut bytes = Vec::new();
    stack.read(file, &mut bytes)?;
    let (binary, lines) = {
        let text = Text::decode(&mut bytes);
        (text.as_str().is_empty(), LineTable::new(text.as_str(), text.body()))
    };
    let text = if binary { String::new() } else { String::from_utf8(bytes).unwrap_or_default() };
    let entry = &stack.files()[file];
    Ok(LoadedFile { path: entry.path.clone(), layer: stack.layers()[entry.layer].name.clone(), text, lines })
}

impl LoadedFile {
    /// The content; empty for a file that is not text.
    pub fn text(&self) -> &str {
        &self.text
    }

    /// The place of a span.
    pub fn place(&self, span: Span) -> Place {
        Place::at(self.text(), &self.lines, span, self.path.as_str(), &self.layer)
    }

    /// The text of a line by its 1-based number.
    pub fn line(&self, line: usize) -> &str {
        self.lines.line(self.text(), line).unwrap_or("")
    }
}
