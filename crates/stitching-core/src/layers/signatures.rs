//! Which parts of which files can have a text, as an earlier run found out, so that the rest need not be read.
//!
//! A file is taken in blocks. Of each block the hashes of its *grams*, pieces of a few bytes with ASCII letters in
//! lower case, set bits in a row: its signature (Bloom, "Space/time trade-offs in hash coding with allowable errors",
//! Communications of the ACM 13(7), 1970). A block that has not the bits of all grams of a text does not have the text; one
//! that has them may have it. The bits are kept crosswise, all blocks' bits of a hash beside each other, so that little
//! is read of them for a text.

use super::cache::Known;
use super::{FileId, Stack};
use memchr::memmem;
use std::borrow::Cow;
use std::io::Read;
use std::ops::Range;

/// The name of the cache.
const NAME: &str = "signatures";

/// At most so many bytes have a signature of their own.
const BLOCK: usize = 1 << 16;

/// At least so many bytes have a signature of their own.
const SMALLEST_BLOCK: usize = 1 << 10;

/// For so many bytes of a block there is a bit.
const BYTES_A_BIT: usize = 2;

/// So many bytes make a gram.
const GRAM: usize = 4;

/// A text is looked for by no more than its first so many bytes: a block's signature covers all texts that begin in it.
const LONGEST: usize = 256;

/// So many bytes after a block belong to its signature: a text that begins in it, and the rest of a letter of three bytes.
const OVER: usize = LONGEST + 2;

/// So many of a text's grams tell enough.
const MOST_GRAMS: usize = 24;

/// For so many texts single rows of bits are read.
const FEW: usize = 4;

/// A smaller file is read as fast as anything is known of it.
const SMALLEST: u64 = 1 << 12;

/// What a case-insensitive search takes for ASCII letters: the signs for kelvin and the long s.
const TAKEN_FOR_ASCII: [&str; 2] = ["\u{212a}", "\u{17f}"];

/// The signatures of the files of a stack.
#[derive(Debug)]
pub(crate) struct Signatures(Known);

impl Signatures {
    /// Makes sure that the signatures of all files are known, if `stack` has a place to keep them. `escapes` gives the
    /// bytes with which a file may have a text in another form; of a block with one nothing is known. To be called
    /// outside of parallel work.
    ///
    /// Cost: the first time all bytes are read; later a look at the times of all files.
    pub(crate) fn prepare(stack: &Stack, escapes: impl Fn(FileId) -> Vec<u8> + Sync) {
        let Some(cache) = stack.cache() else { return };
        let is_worth_it = |file: FileId| {
            let entry = &stack.files()[file];
            stack.is_plain(file) && entry.size >= SMALLEST && entry.encoding.is_none_or(|own| own.is_utf8())
        };
        cache.signatures.get_or_init(|| {
            Signatures(cache.complete(stack, NAME, is_worth_it, |file| sign(stack, file, &escapes(file))))
        });
    }

    /// The signatures, if they were prepared.
    pub(crate) fn of(stack: &Stack) -> Option<&Signatures> {
        stack.cache().and_then(|cache| cache.signatures.get())
    }

    /// Where in `file` one of `needles` (ASCII in lower case) may begin, in whatever case: ranges of bytes, in order and
    /// apart. `None` if nothing is known of the file, or a needle is too short to tell.
    pub(crate) fn parts(&self, stack: &Stack, file: FileId, needles: &[String]) -> Option<Vec<Range<u64>>> {
        let held = self.0.of(stack, file)?;
        let head = held.range(0, HEAD)?;
        let (blocks, bits) = head.split_at_checked(4)?;
        let blocks = u32::from_le_bytes(blocks.try_into().ok()?) as usize;
        let bits = u32::from_le_bytes(bits.try_into().ok()?);
        // Of a file in wide characters nothing is known.
        if blocks == 0 {
            return None;
        }
        let row_len = blocks.div_ceil(8);
        // Row by row the same parts would be read again and again.
        let whole = match needles.len() > FEW {
            true => Some(held.range(0, HEAD + bits as usize * row_len)?),
            false => None,
        };
        let row = |gram: &[u8]| {
            let start = HEAD + place(gram, bits) * row_len;
            match &whole {
                Some(whole) => whole.get(start..start + row_len).map(Cow::Borrowed),
                None => held.range(start, row_len).map(Cow::Owned),
            }
        };
        let mut found = vec![0u8; row_len];
        for needle in needles {
            let mut own = vec![u8::MAX; row_len];
            let grams = needle.as_bytes().get(..needle.len().min(LONGEST))?;
            if grams.len() < GRAM {
                return None;
            }
            let step = (grams.len() - GRAM) / MOST_GRAMS + 1;
            for gram in grams.windows(GRAM).step_by(step) {
                own.iter_mut().zip(row(gram)?.iter()).for_each(|(own, row)| *own &= row);
                if own.iter().all(|own| *own == 0) {
                    break;
                }
            }
            found.iter_mut().zip(&own).for_each(|(found, own)| *found |= own);
        }
        let mut parts: Vec<Range<u64>> = Vec::new();
        for block in (0..blocks).filter(|block| found[block / 8] >> (block % 8) & 1 == 1) {
            let len = u64::from(bits) * BYTES_A_BIT as u64;
            let (start, end) = (block as u64 * len, (block as u64 + 1) * len);
            match parts.last_mut() {
                Some(last) if last.end == start => last.end = end,
                _ => parts.push(start..end),
            }
        }
        Some(parts)
    }
}

/// The number of blocks and that of the bits of each, before the bits.
const HEAD: usize = 8;

/// Which of so many bits is set for a gram.
#[inline]
fn place(gram: &[u8], bits: u32) -> usize {
    let gram = gram.first_chunk().map_or(0, |gram| u32::from_le_bytes(*gram));
    // Knuth, The Art of Computer Programming, volume 3, 6.4: multiplicative hashing.
    gram.wrapping_mul(0x9e37_79b1).wrapping_shr(u32::BITS - bits.trailing_zeros()) as usize
}

/// The signatures of a file as they are kept; `None` if it cannot be read.
fn sign(stack: &Stack, file: FileId, escapes: &[u8]) -> Option<Vec<u8>> {
    let mut source = stack.open_file(file).ok()?;
    let size = usize::try_from(stack.files()[file].size).unwrap_or(BLOCK);
    // Of at least eight blocks, since their bits are kept in bytes.
    let len = (size / 8).clamp(SMALLEST_BLOCK, BLOCK).next_power_of_two();
    let bits = len / BYTES_A_BIT;
    let taken: Vec<memmem::Finder<'_>> = TAKEN_FOR_ASCII.iter().map(memmem::Finder::new).collect();
    // For each eight blocks as many bytes as a block has bits.
    let mut eights: Vec<u8> = Vec::new();
    let (mut blocks, mut seen) = (0, vec![0; bits]);
    let mut buffer: Vec<u8> = Vec::with_capacity(len + OVER);
    loop {
        let kept = buffer.len();
        source.by_ref().take((len + OVER - kept) as u64).read_to_end(&mut buffer).ok()?;
        if buffer.is_empty() {
            break;
        }
        let is_wide = buffer.starts_with(&[0xff, 0xfe]) || buffer.starts_with(&[0xfe, 0xff]);
        if blocks == 0 && (is_wide || memchr::memchr(0, &buffer).is_some()) {
            return Some(vec![0; HEAD]);
        }
        buffer[kept..].make_ascii_lowercase();
        let is_unclear = escapes.iter().any(|byte| memchr::memchr(*byte, &buffer).is_some())
            || taken.iter().any(|taken| taken.find(&buffer).is_some());
        seen.fill(u8::from(is_unclear));
        if !is_unclear {
            // A plain store, since it comes once for each byte.
            buffer.windows(GRAM).for_each(|gram| seen[place(gram, bits as u32)] = 1);
        }
        if blocks % 8 == 0 {
            eights.resize(eights.len() + bits, 0);
        }
        let last = eights.len() - bits;
        eights[last..].iter_mut().zip(&seen).for_each(|(own, seen)| *own |= seen << (blocks % 8));
        blocks += 1;
        // What begins in this block may end in the next.
        buffer.drain(..buffer.len().min(len));
    }
    let mut out = Vec::with_capacity(HEAD + eights.len());
    out.extend((blocks as u32).to_le_bytes());
    out.extend((bits as u32).to_le_bytes());
    for place in 0..bits {
        out.extend(eights[place..].iter().step_by(bits));
    }
    Some(out)
}

#[cfg(test)]
mod tests {
    #![allow(clippy::expect_used, reason = "tests fail by panicking")]

    use super::{BLOCK, Signatures};
    use crate::layers::{Cache, Layer, Stack};
    use proptest::prelude::*;
    use rstest::rstest;
    use std::ops::Range;

    /// Where `needles` may be in a file with `bytes`, as it is told first and again.
    fn parts(bytes: &[u8], needles: &[&str]) -> Option<Vec<Range<u64>>> {
        let folder = tempfile::tempdir().expect("a folder");
        std::fs::create_dir(folder.path().join("mod")).expect("a folder");
        std::fs::write(folder.path().join("mod/a.txt"), bytes).expect("written");
        let look = || {
            let layer = Layer {
                name: "mod".to_owned(),
                root: folder.path().join("mod"),
                is_mod: true,
                archives: Vec::new(),
            };
            let cache = Cache::new(folder.path().to_owned(), "");
            let stack = Stack::open(vec![layer], Vec::new()).expect("a stack").with_cache(cache);
            Signatures::prepare(&stack, |_| b"\\".to_vec());
            let needles: Vec<String> = needles.iter().map(|needle| (*needle).to_owned()).collect();
            Signatures::of(&stack).expect("signatures").parts(&stack, 0, &needles)
        };
        let first = look();
        assert_eq!(look(), first);
        first
    }

    /// A text with so many bytes before and at least so many after it, in a file that has blocks of the full size.
    fn filled(before: usize, text: &str, after: usize) -> Vec<u8> {
        let after = after.max(8 * BLOCK - before);
        [vec![b'-'; before], text.as_bytes().to_vec(), vec![b'-'; after]].concat()
    }

    #[rstest]
    #[case::in_its_block(filled(3 * BLOCK + 300, "Peat", 2 * BLOCK), &["peat"], Some(vec![(3, 4)]))]
    #[case::across_two_blocks(filled(BLOCK - 2, "peat", 100), &["peat"], Some(vec![(0, 1)]))]
    #[case::side_by_side(filled(BLOCK - 9, "peat and peat", 0), &["peat"], Some(vec![(0, 2)]))]
    #[case::one_of_several(filled(BLOCK + 300, "salt", BLOCK), &["peat", "salt"], Some(vec![(1, 2)]))]
    #[case::not_all_of_it(filled(BLOCK, "peat bo", BLOCK), &["peat bog"], Some(vec![]))]
    #[case::an_escape(filled(BLOCK + 300, "\\u0070", BLOCK), &["peat"], Some(vec![(1, 2)]))]
    #[case::kelvin(filled(5000, "\u{212a}edge", 0), &["kedge"], Some(vec![(0, 1)]))]
    #[case::too_short(filled(5000, "bog", 0), &["bog"], None)]
    #[case::small_file(b"peat".to_vec(), &["peat"], None)]
    #[case::small_blocks([vec![b'-'; 5000], b"peat".to_vec()].concat(), &["peat"], Some(vec![(0, 0)]))]
    #[case::wide_characters(filled(0, "\0p\0e\0a\0t", 5000), &["peat"], None)]
    fn blocks_without_a_text_are_left_out(
        #[case] bytes: Vec<u8>,
        #[case] needles: &[&str],
        #[case] expected: Option<Vec<(usize, usize)>>,
    ) {
        let in_blocks = |part: &Range<u64>| (part.start as usize / BLOCK, part.end as usize / BLOCK);
        let found = parts(&bytes, needles).map(|parts| parts.iter().map(in_blocks).collect());
        assert_eq!(found, expected);
    }

    proptest! {
        #![proptest_config(ProptestConfig::with_cases(64))]

        #[test]
        fn no_text_is_missed(
            seed in prop::collection::vec("[a-dA-D_ ]{1,9}", 1..40),
            repeat in 400usize..6000,
            from in 0.0f64..1.0,
            len in 4usize..400,
        ) {
            let bytes: Vec<u8> = seed.concat().into_bytes().into_iter().cycle().take(repeat * 40).collect();
            let start = ((bytes.len() - 4) as f64 * from) as usize;
            let end = (start + len).min(bytes.len());
            let needle = String::from_utf8_lossy(&bytes[start..end]).to_lowercase();
            let parts = parts(&bytes, &[&needle]).expect("it is known");
            prop_assert!(parts.iter().any(|part| part.contains(&(start as u64))), "{start} is not in {parts:?}");
        }
    }
}
