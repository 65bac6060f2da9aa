//! Looking at the bytes of files as they are on the disk, before anything is decoded.

use crate::layers::{FileId, Signatures, Stack};
use std::io::{Read, Seek, SeekFrom};
use std::ops::Range;

/// So many bytes of a file are searched at a time, so that they are still in the processor's cache.
const BLOCK: usize = 1 << 18;

/// What is looked for in the bytes of files. It is ASCII, which is written the same in nearly all encodings.
#[derive(Debug)]
pub(crate) struct ByteNeedles<'w> {
    /// Texts in lower case, of which one must be there, in whatever case.
    pub needles: &'w [String],
    /// So many bytes are the most that must be seen in one piece.
    pub longest: usize,
}

/// Whether `finds` holds of a part of a file's bytes.
///
/// `None` where the bytes do not tell: the file lies in an archive or is tried out in memory, it is or may be UTF-16, it
/// has one of the bytes `escapes`, or it cannot be read. Where an earlier run found out which parts of files can have
/// what is wanted ([`Signatures::prepare`]), no more is read than those.
pub(crate) fn bytes_have(
    stack: &Stack,
    file: FileId,
    wanted: &ByteNeedles<'_>,
    escapes: &[u8],
    finds: impl Fn(&[u8]) -> bool,
) -> Option<bool> {
    let entry = &stack.files()[file];
    if !stack.is_plain(file) || entry.encoding.is_some_and(|encoding| !encoding.is_utf8()) {
        return None;
    }
    let known = Signatures::of(stack).and_then(|known| known.parts(stack, file, wanted.needles));
    let everything = || std::iter::once(0..u64::MAX).collect();
    let parts: Vec<Range<u64>> = known.unwrap_or_else(everything);
    if parts.is_empty() {
        return Some(false);
    }
    let mut source = stack.open_file(file).ok()?;
    let size = usize::try_from(entry.size).unwrap_or(BLOCK);
    let mut buffer = vec![0; wanted.longest + size.clamp(1, BLOCK)];
    for part in parts {
        source.seek(SeekFrom::Start(part.start)).ok()?;
        let mut rest = source.by_ref().take((part.end - part.start).saturating_add(wanted.longest as u64));
        let (mut kept, mut is_first) = (0, part.start == 0);
        loop {
            let read = rest.read(&mut buffer[kept..]).ok()?;
            if read == 0 {
                break;
            }
            let block = &buffer[..kept + read];
            let marked = block.starts_with(&[0xff, 0xfe]) || block.starts_with(&[0xfe, 0xff]);
            let is_wide = is_first && (marked || memchr::memchr(0, block).is_some());
            if is_wide || escapes.iter().any(|byte| memchr::memchr(*byte, block).is_some()) {
                return None;
            }
            if finds(block) {
                return Some(true);
            }
            // What begins in this block may end in the next.
            let end = block.len();
            let from = end - wanted.longest.min(end);
            buffer.copy_within(from..end, 0);
            (kept, is_first) = (end - from, false);
        }
    }
    Some(false)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::expect_used, reason = "tests fail by panicking")]

    use super::{BLOCK, ByteNeedles, bytes_have};
    use crate::layers::{Layer, Stack};
    use rstest::rstest;

    /// A stack of one layer with one file.
    fn with_file(bytes: &[u8]) -> (tempfile::TempDir, Stack) {
        let folder = tempfile::tempdir().expect("a folder");
        std::fs::write(folder.path().join("a.txt"), bytes).expect("written");
        let layer = Layer {
            name: "mod".to_owned(),
            root: folder.path().to_owned(),
            is_mod: true,
            archives: Vec::new(),
        };
        let stack = Stack::open(vec![layer], Vec::new()).expect("a stack");
        (folder, stack)
    }

    #[rstest]
    #[case::there(b"coal and peat".to_vec(), Some(true))]
    #[case::not_there(b"coal and salt".to_vec(), Some(false))]
    #[case::empty(Vec::new(), Some(false))]
    #[case::across_two_blocks([vec![b'x'; BLOCK + 2], b"peat".to_vec()].concat(), Some(true))]
    #[case::at_the_very_end([vec![b'x'; 3 * BLOCK + 7], b"peat".to_vec()].concat(), Some(true))]
    #[case::in_a_code_page(b"caf\xe9 peat".to_vec(), Some(true))]
    #[case::wide_characters(b"\xff\xfep\0e\0a\0t\0".to_vec(), None)]
    #[case::wide_characters_without_a_mark(b"\0p\0e\0a\0t".to_vec(), None)]
    #[case::escapes(b"coal \\u0070eat".to_vec(), None)]
    fn is_told_by_the_bytes(#[case] bytes: Vec<u8>, #[case] expected: Option<bool>) {
        let (_folder, stack) = with_file(&bytes);
        let finder = memchr::memmem::Finder::new(b"peat");
        let wanted = ByteNeedles { needles: &["peat".to_owned()], longest: 4 };
        assert_eq!(bytes_have(&stack, 0, &wanted, b"\\", |block| finder.find(block).is_some()), expected);
    }
}
