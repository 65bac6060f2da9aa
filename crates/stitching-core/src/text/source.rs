//! Turning the bytes of a file into text whose offsets are those of the bytes.

use super::Span;

/// The UTF-8 byte order mark.
const BOM: &[u8] = b"\xEF\xBB\xBF";
/// How many bytes at the start of a file are searched for a NUL, the mark of a binary file.
const BINARY_WINDOW: usize = 8192;
/// Stands in for a byte that is not valid UTF-8, so that all offsets stay those of the file.
const SUBSTITUTE: u8 = 0x1A;

/// A decoded file. Offsets into [`Text::as_str`] are byte offsets into the file.
#[derive(Debug)]
pub struct Text<'a> {
    content: &'a str,
    body: usize,
    fault: Option<TextFault>,
}

/// Why a file's bytes are not clean text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TextFault {
    /// A NUL among the first bytes, or a UTF-16 mark: nothing in the file is read.
    Binary {
        /// Where the tell-tale byte stands.
        at: Span,
        /// Whether the file starts with a UTF-16 byte order mark.
        utf16: bool,
    },
    /// Bytes that are not valid UTF-8. The rest is read all the same, but the file is not edited.
    Invalid {
        /// The first such bytes.
        first: Span,
        /// How many bytes in the whole file are invalid.
        count: usize,
    },
}

impl<'a> Text<'a> {
    /// Decodes `bytes` in place: invalid bytes are replaced one for one, so that offsets hold.
    ///
    /// Never fails; what is wrong with the bytes is told by [`Text::fault`]. Cost: one pass.
    pub fn decode(bytes: &'a mut [u8]) -> Text<'a> {
        let utf16 = bytes.starts_with(b"\xFF\xFE") || bytes.starts_with(b"\xFE\xFF");
        let window = &bytes[..bytes.len().min(BINARY_WINDOW)];
        let nul = memchr::memchr(0, window);
        if utf16 || nul.is_some() {
            let at = if utf16 { 0 } else { nul.unwrap_or(0) };
            let at = Span::new(at, at + 1);
            return Text { content: "", body: 0, fault: Some(TextFault::Binary { at, utf16 }) };
        }
        let body = if bytes.starts_with(BOM) { BOM.len() } else { 0 };
        Text { body, ..Text::decode_more(bytes) }
    }

    /// As [`Text::decode`], for bytes from further inside a file: there is no mark to look for.
    pub fn decode_more(bytes: &'a mut [u8]) -> Text<'a> {
        let fault = if simdutf8::basic::from_utf8(bytes).is_ok() { None } else { replace_invalid(bytes) };
        // The second look is as cheap as reading the bytes once more.
        let content = simdutf8::basic::from_utf8(bytes).unwrap_or("");
        Text { content, body: 0, fault }
    }

    /// The text of `bytes`, if they are clean; no copy is made and nothing changed.
    pub fn clean(bytes: &'a [u8]) -> Option<Text<'a>> {
        let nul = memchr::memchr(0, &bytes[..bytes.len().min(BINARY_WINDOW)]);
        let content = simdutf8::basic::from_utf8(bytes).ok().filter(|_| nul.is_none())?;
        let body = if bytes.starts_with(BOM) { BOM.len() } else { 0 };
        Some(Text { content, body, fault: None })
    }

    /// The whole text, a byte order mark included.
    pub fn as_str(&self) -> &'a str {
        self.content
    }

    /// The offset of the first byte after a byte order mark (0 without one).
    pub fn body(&self) -> usize {
        self.body
    }

    /// What is wrong with the bytes, if anything.
    pub fn fault(&self) -> Option<&TextFault> {
        self.fault.as_ref()
    }

    /// Whether the file may be edited: its text stands for exactly its bytes.
    pub fn editable(&self) -> bool {
        self.fault.is_none()
    }
}

/// Puts [`SUBSTITUTE`] for each invalid byte; tells the first place and the number.
fn replace_invalid(bytes: &mut [u8]) -> Option<TextFault> {
    let (mut from, mut first, mut count) = (0, None, 0);
    while let Err(error) = std::str::from_utf8(&bytes[from..]) {
        let start = from + error.valid_up_to();
        let end = error.error_len().map_or(bytes.len(), |len| start + len);
        first.get_or_insert(Span::new(start, end));
        count += end - start;
        bytes[start..end].fill(SUBSTITUTE);
        from = end;
    }
    first.map(|first| TextFault::Invalid { first, count })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain(b"abc", 0, None)]
    #[case::bom(b"\xEF\xBB\xBFabc", 3, None)]
    #[case::latin1(b"caf\xE9 bar \xFC", 0, Some(TextFault::Invalid { first: Span::new(3, 4), count: 2 }))]
    #[case::cut_off(b"ab\xE2\x82", 0, Some(TextFault::Invalid { first: Span::new(2, 4), count: 2 }))]
    #[case::binary(b"ab\0c", 0, Some(TextFault::Binary { at: Span::new(2, 3), utf16: false }))]
    #[case::utf16(b"\xFF\xFEa\0", 0, Some(TextFault::Binary { at: Span::new(0, 1), utf16: true }))]
    fn faults_have_places(#[case] bytes: &[u8], #[case] body: usize, #[case] fault: Option<TextFault>) {
        let mut copy = bytes.to_vec();
        let text = Text::decode(&mut copy);
        assert_eq!(text.body(), body);
        assert_eq!(text.fault(), fault.as_ref());
        if !matches!(fault, Some(TextFault::Binary { .. })) {
            assert_eq!(text.as_str().len(), bytes.len(), "offsets must stay those of the file");
        }
    }
}
