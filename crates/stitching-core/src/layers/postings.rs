//! Where in which files something can be found, as an earlier run found out.

use super::cache::{Cache, Known};
use super::{FileId, Stack};

/// The name of the cache.
const NAME: &str = "links";

/// The part of a pair that is an offset; the rest is that of a hash.
const OFFSET: u64 = u32::MAX as u64;

/// Where in files things can be found: for each file pairs of a part of a hash and a byte offset.
#[derive(Debug)]
pub(crate) struct Postings(Known);

impl Postings {
    /// Those of the files that are `wanted`; `find_out` gives the pairs of hash and offset of a file, or nothing if it is to
    /// be looked at each time.
    pub(crate) fn complete(
        cache: &Cache,
        stack: &Stack,
        wanted: impl Fn(FileId) -> bool + Sync,
        find_out: impl Fn(FileId) -> Option<Vec<(u64, u32)>> + Sync,
    ) -> Postings {
        Postings(cache.complete(stack, NAME, wanted, |file| find_out(file).map(encode)))
    }

    /// The offsets in `file` of what has one of `hashes`, sorted; there may be some of other things. `None` if
    /// nothing is known of the file.
    pub(crate) fn offsets(&self, stack: &Stack, file: FileId, hashes: &[u64]) -> Option<Vec<usize>> {
        let held = self.0.of(stack, file)?;
        let firsts = held.firsts();
        let mut out = Vec::new();
        for hash in hashes {
            let wanted = hash & !OFFSET;
            // It may begin inside the part before the first that begins with it or above.
            let from = firsts.partition_point(|first| *first < wanted);
            for (number, first) in firsts.iter().enumerate().skip(from.saturating_sub(1)) {
                if number >= from && first & !OFFSET != wanted {
                    break;
                }
                let part = held.part(number)?;
                let pairs = part.as_chunks::<8>().0.iter().map(|pair| u64::from_le_bytes(*pair));
                out.extend(
                    pairs.filter(|pair| pair & !OFFSET == wanted).map(|pair| (pair & OFFSET) as usize),
                );
            }
        }
        out.sort_unstable();
        out.dedup();
        Some(out)
    }
}

/// Pairs of hash and offset as they are kept, to be looked up by hash.
fn encode(pairs: Vec<(u64, u32)>) -> Vec<u8> {
    let mut packed: Vec<u64> =
        pairs.into_iter().map(|(hash, offset)| hash & !OFFSET | u64::from(offset)).collect();
    packed.sort_unstable();
    packed.dedup();
    packed.iter().flat_map(|pair| pair.to_le_bytes()).collect()
}
