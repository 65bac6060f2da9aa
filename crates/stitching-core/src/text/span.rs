/// A byte range in a file as it lies on disk (a byte order mark counts), end exclusive.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Default, serde::Serialize, serde::Deserialize,
)]
pub struct Span {
    /// First byte, 0-based.
    pub start: u32,
    /// One past the last byte.
    pub end: u32,
}

impl Span {
    /// The first byte of it, for problems of something as a whole.
    pub fn first_byte(self) -> Span {
        Span { start: self.start, end: self.end.min(self.start + 1) }
    }

    /// The span from byte `start` up to, not including, byte `end`.
    ///
    /// Offsets past 4 GiB are clamped; such files are refused before they are read.
    pub fn new(start: usize, end: usize) -> Span {
        Span { start: clamp(start), end: clamp(end) }
    }

    /// The number of bytes covered.
    pub fn len(self) -> usize {
        self.end.saturating_sub(self.start) as usize
    }

    /// Whether no byte is covered.
    pub fn is_empty(self) -> bool {
        self.end <= self.start
    }

    /// The span as a range for slicing.
    pub fn range(self) -> std::ops::Range<usize> {
        self.start as usize..self.end as usize
    }

    /// The covered part of `text`, or the empty string when the span does not fit it.
    pub fn of(self, text: &str) -> &str {
        text.get(self.range()).unwrap_or("")
    }
}

fn clamp(offset: usize) -> u32 {
    u32::try_from(offset).unwrap_or(u32::MAX)
}
