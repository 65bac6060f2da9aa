//! Reading a file of the stack as text.

use crate::Error;
use crate::layers::{FileId, RelPath, Stack};
use crate::problem::Place;
use crate::text::{LineTable, Span, Text};
use std::cell::RefCell;

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
