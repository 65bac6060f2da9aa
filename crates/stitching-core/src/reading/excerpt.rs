//! A few lines of a large file, read without the rest.

use crate::layers::{FileId, Stack};
use crate::text::Span;
use std::fs::File;
use std::io::{Read, Seek, SeekFrom};

/// The beginning of a file, which has what its format must know of the whole, and some lines from further on.
#[derive(Debug)]
pub(crate) struct Excerpt {
    /// The beginning and the lines, one after another.
    pub text: String,
    /// Where the lines that were asked for begin in `text`, in bytes, sorted.
    pub offsets: Vec<usize>,
    /// For each piece of the text where it begins there, and in the file.
    pieces: Vec<(usize, usize)>,
}

/// So much of a file is taken for its beginning, in bytes.
const BEGINNING: usize = 1 << 14;
/// For more lines than this the whole file is read.
const MOST_LINES: usize = 64;
/// A line that is longer is none, in bytes.
const LONGEST: usize = 1 << 20;

impl Excerpt {
    /// Reads the lines that begin at the byte `offsets` (sorted) of a file whose records are lines. `None` where it is
    /// not known that the file is UTF-8 throughout, where it is too small to be worth it, or where something is not as
    /// it should be: then only the whole file tells.
    pub fn read(stack: &Stack, file: FileId, offsets: &[usize]) -> Option<Excerpt> {
        let size = usize::try_from(stack.files()[file].size).ok()?;
        if !stack.is_known_utf8(file) || size < 4 * BEGINNING || offsets.len() > MOST_LINES {
            return None;
        }
        let mut source = stack.open_file(file).ok()?;
        let mut bytes = Vec::with_capacity(BEGINNING + 4096);
        source.by_ref().take(BEGINNING as u64).read_to_end(&mut bytes).ok()?;
        let beginning = memchr::memrchr(b'\n', &bytes)? + 1;
        bytes.truncate(beginning);
        let (mut pieces, mut found) = (vec![(0, 0)], Vec::new());
        for offset in offsets {
            if *offset < beginning {
                found.push(*offset);
                continue;
            }
            found.push(bytes.len());
            pieces.push((bytes.len(), *offset));
            line_at(&mut source, *offset, &mut bytes)?;
        }
        Some(Excerpt { text: String::from_utf8(bytes).ok()?, offsets: found, pieces })
    }

    /// The beginning of the file.
    pub fn beginning(&self) -> &str {
        let end = self.pieces.get(1).map_or(self.text.len(), |(start, _)| *start);
        &self.text[..end]
    }

    /// The place in the file of a place in the text.
    pub fn in_file(&self, span: Span) -> Span {
        let piece = self.pieces.partition_point(|(start, _)| *start <= span.start as usize).saturating_sub(1);
        let (start, in_file) = self.pieces[piece];
        let moved = |at: u32| at as usize - start + in_file;
        Span::new(moved(span.start), moved(span.end))
    }
}

/// Appends the line that begins at the byte `offset` to `bytes`, with a line end; `None` if none begins there.
fn line_at(source: &mut File, offset: usize, bytes: &mut Vec<u8>) -> Option<()> {
    source.seek(SeekFrom::Start(offset.checked_sub(1)? as u64)).ok()?;
    let mut before = [0];
    source.read_exact(&mut before).ok().filter(|()| before == *b"\n")?;
    let (from, mut block) = (bytes.len(), [0; 2048]);
    loop {
        let read = source.read(&mut block).ok()?;
        let end = memchr::memchr(b'\n', &block[..read]);
        bytes.extend_from_slice(&block[..end.unwrap_or(read)]);
        if end.is_some() || read == 0 {
            break;
        }
        if bytes.len() - from > LONGEST {
            return None;
        }
    }
    bytes.push(b'\n');
    Some(())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::expect_used, reason = "tests fail by panicking")]

    use super::Excerpt;
    use crate::layers::{Layer, Stack};
    use crate::text::Span;

    #[test]
    fn lines_have_the_places_that_they_have_in_the_file() {
        let folder = tempfile::tempdir().expect("a folder");
        let lines: Vec<String> = (0..5000).map(|at| format!("key{at}\tżółw {at}")).collect();
        let whole = lines.join("\n");
        std::fs::write(folder.path().join("a.txt"), &whole).expect("written");
        let root = folder.path().to_owned();
        let layer = Layer { name: "mod".to_owned(), root, is_mod: true, archives: Vec::new() };
        let stack = Stack::open(vec![layer], Vec::new()).expect("a stack");
        let start = |at: usize| whole.find(&lines[at]).expect("a line");
        let offsets = [start(3), start(4000), start(4999)];
        assert!(Excerpt::read(&stack, 0, &offsets).is_none(), "nobody knows what it is written in");
        stack.note_utf8(0);
        let excerpt = Excerpt::read(&stack, 0, &offsets).expect("an excerpt");
        assert!(excerpt.text.len() < 20_000);
        for (offset, in_file) in excerpt.offsets.iter().zip(offsets) {
            let line = excerpt.text[*offset..].lines().next().expect("a line");
            let span = excerpt.in_file(Span::new(*offset, offset + line.len()));
            assert_eq!((span.start as usize, span.of(&whole)), (in_file, line));
        }
        assert!(Excerpt::read(&stack, 0, &[start(4000) + 1]).is_none(), "no line begins there");
        assert!(Excerpt::read(&stack, 0, &[whole.len() + 9]).is_none());
    }
}
