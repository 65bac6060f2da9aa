//! Replacing ranges of a file's bytes: what an edit of a text, or of an entry of an archive, comes
//! down to on disk.

use serde::{Deserialize, Serialize};
use std::io::{self, Read, Seek, SeekFrom, Write};

/// One replacement of bytes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Splice {
    /// The first byte replaced, 0-based.
    pub start: u64,
    /// One past the last byte replaced.
    pub end: u64,
    /// What stands there instead.
    #[serde(with = "text_or_hex")]
    pub bytes: Vec<u8>,
}

impl Splice {
    /// By how many bytes it makes the file longer; below zero if it becomes shorter.
    pub fn growth(&self) -> i64 {
        self.bytes.len() as i64 - (self.end - self.start) as i64
    }
}

/// Replacements of the bytes of one file: sorted and disjoint.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct Patch {
    /// The replacements, by place.
    pub splices: Vec<Splice>,
}

impl Patch {
    /// The size in bytes that a file of `size` bytes has afterwards.
    pub fn size_after(&self, size: u64) -> u64 {
        self.splices.iter().fold(size as i64, |size, splice| size + splice.growth()) as u64
    }

    /// The bytes after the replacements; `None` if they do not fit.
    pub fn apply(&self, bytes: &[u8]) -> Option<Vec<u8>> {
        let mut out = Vec::with_capacity(bytes.len());
        self.copy(&mut io::Cursor::new(bytes), bytes.len() as u64, &mut out).ok()?;
        Some(out)
    }

    /// Writes the bytes of `before` (of `size` bytes) to `out` with the replacements made.
    ///
    /// # Errors
    /// When reading or writing fails, or a replacement reaches past the end.
    pub fn copy(&self, before: &mut (impl Read + Seek), size: u64, out: &mut impl Write) -> io::Result<()> {
        let mut from = 0;
        for splice in &self.splices {
            if splice.start < from || splice.end < splice.start || splice.end > size {
                return Err(misfit());
            }
            copy_range(before, from, splice.start, out)?;
            out.write_all(&splice.bytes)?;
            from = splice.end;
        }
        copy_range(before, from, size, out)
    }

    /// What turns the result of [`Patch::apply`] on `before` back into `before`; `None` if the
    /// replacements do not fit.
    pub fn reversed(&self, before: &[u8]) -> Option<Patch> {
        let old = |splice: &Splice| {
            let range = usize::try_from(splice.start).ok()?..usize::try_from(splice.end).ok()?;
            before.get(range).map(<[u8]>::to_vec)
        };
        self.reversed_by(old)
    }

    /// As [`Patch::reversed`]; `old` gives the bytes that a replacement takes away.
    pub fn reversed_by(&self, old: impl Fn(&Splice) -> Option<Vec<u8>>) -> Option<Patch> {
        let mut shift = 0i64;
        let mut splices = Vec::with_capacity(self.splices.len());
        for splice in &self.splices {
            let start = splice.start.checked_add_signed(shift)?;
            let bytes = old(splice)?;
            splices.push(Splice { start, end: start + splice.bytes.len() as u64, bytes });
            shift += splice.growth();
        }
        Some(Patch { splices })
    }
}

fn copy_range(before: &mut (impl Read + Seek), from: u64, to: u64, out: &mut impl Write) -> io::Result<()> {
    before.seek(SeekFrom::Start(from))?;
    let copied = io::copy(&mut before.take(to - from), out)?;
    if copied == to - from { Ok(()) } else { Err(io::ErrorKind::UnexpectedEof.into()) }
}

/// The bytes of a file with a patch made, read without making them first.
#[derive(Debug)]
pub struct PatchedReader<'p, R> {
    before: R,
    /// The pieces in order: where each begins in the result, and where its bytes come from.
    pieces: Vec<(u64, Piece<'p>)>,
    size: u64,
    at: u64,
}

/// A run of bytes of a patched file.
#[derive(Debug, Clone, Copy)]
enum Piece<'p> {
    /// Those of the file before, from this byte on.
    Old(u64),
    New(&'p [u8]),
}

impl<'p, R: Read + Seek> PatchedReader<'p, R> {
    /// Reads `before`, which is of `size` bytes, with `patch` made.
    ///
    /// # Errors
    /// When a replacement reaches past the end.
    pub fn new(before: R, size: u64, patch: &'p Patch) -> io::Result<PatchedReader<'p, R>> {
        let (mut pieces, mut from, mut at) = (Vec::new(), 0, 0);
        for splice in &patch.splices {
            if splice.start < from || splice.end < splice.start || splice.end > size {
                return Err(misfit());
            }
            pieces.push((at, Piece::Old(from)));
            at += splice.start - from;
            pieces.push((at, Piece::New(&splice.bytes)));
            at += splice.bytes.len() as u64;
            from = splice.end;
        }
        pieces.push((at, Piece::Old(from)));
        Ok(PatchedReader { before, pieces, size: at + (size - from), at: 0 })
    }
}

impl<R: Read + Seek> Read for PatchedReader<'_, R> {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        // The last piece that begins here or before; those without bytes come before it.
        let next = self.pieces.partition_point(|(start, _)| *start <= self.at);
        let Some((start, piece)) = next.checked_sub(1).and_then(|index| self.pieces.get(index)) else {
            return Ok(0);
        };
        let end = self.pieces.get(next).map_or(self.size, |(start, _)| *start);
        let len = (end.saturating_sub(self.at)).min(buffer.len() as u64) as usize;
        let into = (self.at - start) as usize;
        let count = match piece {
            Piece::Old(from) => {
                self.before.seek(SeekFrom::Start(from + into as u64))?;
                self.before.read(&mut buffer[..len])?
            }
            Piece::New(bytes) => {
                buffer[..len].copy_from_slice(&bytes[into..into + len]);
                len
            }
        };
        self.at += count as u64;
        Ok(count)
    }
}

impl<R> Seek for PatchedReader<'_, R> {
    fn seek(&mut self, to: SeekFrom) -> io::Result<u64> {
        let at = match to {
            SeekFrom::Start(at) => Some(at),
            SeekFrom::End(by) => self.size.checked_add_signed(by),
            SeekFrom::Current(by) => self.at.checked_add_signed(by),
        };
        self.at = at.ok_or(io::ErrorKind::InvalidInput)?;
        Ok(self.at)
    }
}

fn misfit() -> io::Error {
    io::Error::new(io::ErrorKind::InvalidData, "the edits do not fit the file")
}

/// Bytes that are text are kept as such, so that the history can be read by people.
mod text_or_hex {
    use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};

    #[derive(Serialize, Deserialize)]
    #[serde(untagged)]
    enum Stored {
        Text(String),
        Hex { hex: String },
    }

    pub fn serialize<S: Serializer>(bytes: &[u8], serializer: S) -> Result<S::Ok, S::Error> {
        let stored = match std::str::from_utf8(bytes) {
            Ok(text) => Stored::Text(text.to_owned()),
            Err(_) => {
                let digit = |nibble: u8| char::from_digit(u32::from(nibble), 16).unwrap_or('0');
                let hex = bytes.iter().flat_map(|byte| [digit(byte >> 4), digit(byte & 15)]).collect();
                Stored::Hex { hex }
            }
        };
        stored.serialize(serializer)
    }

    pub fn deserialize<'d, D: Deserializer<'d>>(deserializer: D) -> Result<Vec<u8>, D::Error> {
        match Stored::deserialize(deserializer)? {
            Stored::Text(text) => Ok(text.into_bytes()),
            Stored::Hex { hex } => {
                let digits: Option<Vec<u8>> =
                    hex.chars().map(|digit| digit.to_digit(16).map(|digit| digit as u8)).collect();
                let digits = digits.filter(|digits| digits.len() % 2 == 0);
                let digits = digits.ok_or_else(|| D::Error::custom("not hexadecimal"))?;
                Ok(digits.chunks_exact(2).map(|pair| pair[0] << 4 | pair[1]).collect())
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    proptest! {
        #[test]
        fn a_patch_can_be_kept_applied_and_taken_back(
            before in proptest::collection::vec(any::<u8>(), 0..60),
            cuts in proptest::collection::vec((0usize..20, 0usize..6, proptest::collection::vec(any::<u8>(), 0..5)), 0..5),
        ) {
            let (mut at, mut splices) = (0, Vec::new());
            for (gap, len, bytes) in cuts {
                let (start, end) = (at + gap, at + gap + len);
                if end > before.len() { break; }
                splices.push(Splice { start: start as u64, end: end as u64, bytes });
                at = end;
            }
            let patch = Patch { splices };
            let kept = serde_json::to_string(&patch).expect("plain data");
            let patch: Patch = serde_json::from_str(&kept).expect("as it was kept");
            let after = patch.apply(&before).expect("inside");
            let mut read = Vec::new();
            let size = before.len() as u64;
            let mut reader = PatchedReader::new(io::Cursor::new(&before), size, &patch).expect("inside");
            reader.read_to_end(&mut read).expect("in memory");
            prop_assert_eq!(&read, &after);
            let half = after.len() as u64 / 2;
            reader.seek(SeekFrom::Start(half)).expect("inside");
            read.clear();
            reader.read_to_end(&mut read).expect("in memory");
            prop_assert_eq!(&read[..], &after[half as usize..]);
            let back = patch.reversed(&before).expect("inside");
            prop_assert_eq!(back.apply(&after).expect("inside"), before);
        }
    }

    #[test]
    fn a_patch_that_does_not_fit_is_refused() {
        let patch = Patch { splices: vec![Splice { start: 2, end: 9, bytes: Vec::new() }] };
        assert_eq!(patch.apply(b"abc"), None);
        assert_eq!(patch.reversed(b"abc"), None);
    }
}
