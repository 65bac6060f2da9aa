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
                return Err(io::Error::new(io::ErrorKind::InvalidData, "the edits do not fit the file"));
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

/// Bytes that are text are kept as such, so that the history can be read by people.
mod text_or_hex {
    use serde::{Deserialize, Deserializer, Serialize, Serializer, de::Error};

    #[derive(Serialize, Deserialize)]
    #[serde(untagged)]
    enum SetAside {
        Text(String),
        Hex { hex: String },
    }

    pub fn serialize<S: Serializer>(bytes: &[u8], serializer: S) -> Result<S::Ok, S::Error> {
        let kept = match std::str::from_utf8(bytes) {
            Ok(text) => SetAside::Text(text.to_owned()),
            Err(_) => {
                let digit = |nibble: u8| char::from_digit(u32::from(nibble), 16).unwrap_or('0');
                let hex = bytes.iter().flat_map(|byte| [digit(byte >> 4), digit(byte & 15)]).collect();
                SetAside::Hex { hex }
            }
        };
        kept.serialize(serializer)
    }

    pub fn deserialize<'d, D: Deserializer<'d>>(deserializer: D) -> Result<Vec<u8>, D::Error> {
        match SetAside::deserialize(deserializer)? {
            SetAside::Text(text) => Ok(text.into_bytes()),
            SetAside::Hex { hex } => {
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
