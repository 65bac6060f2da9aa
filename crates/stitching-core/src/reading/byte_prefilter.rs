//! Finding the files, and the places in them, where some texts stand, before anything is parsed.

use super::raw_bytes::{ByteNeedles, bytes_have};
use crate::layers::{FileId, Signatures, Stack};
use crate::schema::{Schema, Table};
use std::collections::BTreeSet;

/// Some texts to look for.
#[derive(Debug)]
pub(crate) struct BytePrefilter {
    places: regex::bytes::Regex,
    /// The texts in lower case.
    needles: Vec<String>,
    /// What is found has at most so many bytes.
    longest: usize,
    /// Whether all are ASCII, which looks the same in nearly all encodings.
    is_ascii: bool,
}

impl BytePrefilter {
    /// More names are not worth looking for one by one.
    pub const MOST: usize = 1000;

    /// Looks for `word` in whatever case, and for `names` as they are. `None` if there are more than
    /// [`BytePrefilter::MOST`], or none at all.
    pub fn new<'n>(word: Option<&str>, names: impl IntoIterator<Item = &'n str>) -> Option<BytePrefilter> {
        let names: BTreeSet<&str> = names.into_iter().filter(|name| !name.is_empty()).collect();
        if names.len() > BytePrefilter::MOST {
            return None;
        }
        let of_word = word.map(|word| format!("(?i:{})", regex::escape(word)));
        let pieces: Vec<String> =
            of_word.into_iter().chain(names.iter().map(|name| regex::escape(name))).collect();
        let places = regex::bytes::Regex::new(&pieces.join("|")).ok().filter(|_| !pieces.is_empty())?;
        let all = || word.into_iter().chain(names.iter().copied());
        Some(BytePrefilter {
            places,
            needles: all().map(str::to_lowercase).collect(),
            // In another case a letter may have up to four bytes.
            longest: all().map(|text| text.chars().count() * 4).max()?,
            is_ascii: all().all(str::is_ascii),
        })
    }

    /// Finds out which parts of the files can have texts like these, where that is kept; see [`Signatures::prepare`].
    pub fn prepare(&self, stack: &Stack, schema: &Schema) {
        if self.is_ascii {
            Signatures::prepare(stack, |file| escapes(stack, schema, file));
        }
    }

    /// Whether a file has none of the texts, as its bytes on the disk tell, without being decoded.
    pub fn has_nothing(&self, stack: &Stack, schema: &Schema, file: FileId) -> bool {
        if !self.is_ascii {
            return false;
        }
        let wanted = ByteNeedles { needles: &self.needles, longest: self.longest };
        let escapes = escapes(stack, schema, file);
        bytes_have(stack, file, &wanted, &escapes, |block| self.places.is_match(block)) == Some(false)
    }

    /// Where the texts begin in `text`, in bytes; `None` if they may stand there in another form, for one of the tables that
    /// draw on it.
    pub fn places<'t>(&self, mut tables: impl Iterator<Item = &'t Table>, text: &str) -> Option<Vec<usize>> {
        let bytes = text.as_bytes();
        let is_escaped = |table: &Table| {
            table.format.escape_bytes().iter().any(|byte| memchr::memchr(*byte, bytes).is_some())
        };
        if tables.any(is_escaped) {
            return None;
        }
        Some(self.places.find_iter(bytes).map(|found| found.start()).collect())
    }
}

/// With which bytes a file may have a text in another form.
fn escapes(stack: &Stack, schema: &Schema, file: FileId) -> Vec<u8> {
    let tables = schema.tables_of(&stack.files()[file].path).into_iter();
    tables.flat_map(|table| schema.tables[table].format.escape_bytes()).copied().collect()
}
