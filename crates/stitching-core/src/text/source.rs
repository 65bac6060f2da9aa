//! Turning the bytes of a file into text.

use super::Span;
use super::encoding::{BOM, Encoding, Origin};
use super::parsed::Parsed;
use std::any::Any;
use std::sync::Arc;

/// Stands in for a byte that is not valid UTF-8, so that all offsets stay those of the file.
const SUBSTITUTE: u8 = 0x1A;

/// A decoded file. In a file of UTF-8, offsets into [`Text::as_str`] are byte offsets into the file;
/// [`Encoding::file_offset`] tells them for others.
#[derive(Debug)]
pub struct Text<'a> {
    content: &'a str,
    body: usize,
    encoding: Encoding,
    fault: Option<TextFault>,
    parsed: Parsed,
}

/// The bytes of a file, with its text.
#[derive(Debug)]
pub struct LoadedText {
    bytes: Vec<u8>,
    declared: Option<Encoding>,
    /// The text, where the bytes are not the text as they are.
    decoded: Option<Decoded>,
}

#[derive(Debug)]
struct Decoded {
    content: String,
    body: usize,
    encoding: Encoding,
    fault: Option<TextFault>,
}

impl LoadedText {
    /// Decodes the `bytes` of a whole file; `declared` is the encoding that the schema gives it. They are copied only
    /// where the text differs from them.
    pub fn new(bytes: Vec<u8>, declared: Option<Encoding>) -> LoadedText {
        let decoded = Text::clean(&bytes, declared).is_none().then(|| {
            let mut buffer = bytes.clone();
            let text = Text::decode(&mut buffer, declared);
            let (body, encoding, fault) = (text.body, text.encoding, text.fault);
            let is_binary = matches!(fault, Some(TextFault::Binary { .. }));
            let content =
                if is_binary { String::new() } else { String::from_utf8(buffer).unwrap_or_default() };
            Decoded { content, body, encoding, fault }
        });
        LoadedText { bytes, declared, decoded }
    }

    /// The bytes of the file.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Its text.
    pub fn text(&self) -> Text<'_> {
        match &self.decoded {
            Some(own) => Text {
                content: &own.content,
                body: own.body,
                encoding: own.encoding,
                fault: own.fault.clone(),
                parsed: Parsed::default(),
            },
            None => Text::clean(&self.bytes, self.declared).unwrap_or_else(|| Text::of_str("")),
        }
    }
}

/// Why a file's bytes are not clean text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TextFault {
    /// A NUL among the first bytes: nothing in the file is read.
    Binary {
        /// Where the tell-tale byte stands.
        at: Span,
    },
    /// Bytes that are not valid in the file's encoding. The rest is read all the same, but the file is
    /// not edited.
    Invalid {
        /// The first of them.
        first: Span,
        /// How many there are.
        count: usize,
        /// The name of the encoding.
        encoding: String,
    },
    /// The encoding was guessed. The file can be edited as far as only ASCII is written into it.
    Guessed {
        /// The first letter that is not ASCII.
        first: Span,
        /// The name of the encoding.
        encoding: String,
    },
}

impl<'a> Text<'a> {
    /// Decodes the `bytes` of a whole file. `declared` is the encoding that the schema gives it. In
    /// UTF-8 the bytes stay where they are, and invalid ones are replaced one for one; otherwise the
    /// buffer gets the text.
    ///
    /// Never fails; what is wrong with the bytes is told by [`Text::fault`]. Cost: one or two passes.
    pub fn decode(bytes: &'a mut Vec<u8>, declared: Option<Encoding>) -> Text<'a> {
        // Nearly all files are clean UTF-8 without a mark; they take one pass for the check, and one more
        // since the text is borrowed anew.
        if Encoding::may_be_plain(bytes, declared) && simdutf8::basic::from_utf8(bytes).is_ok() {
            return Text::of_str(simdutf8::basic::from_utf8(bytes).unwrap_or(""));
        }
        let Some((encoding, origin)) = Encoding::recognise(bytes, declared) else {
            let at = memchr::memchr(0, bytes).unwrap_or(0);
            let fault = Some(TextFault::Binary { at: Span::new(at, at + 1) });
            return Text { fault, ..Text::of_str("") };
        };
        if encoding.is_utf8() {
            let body = if bytes.starts_with(BOM) { BOM.len() } else { 0 };
            let fault = if simdutf8::basic::from_utf8(bytes).is_ok() { None } else { replace_invalid(bytes) };
            // The second look is as cheap as reading the bytes once more.
            let content = simdutf8::basic::from_utf8(bytes).unwrap_or("");
            return Text { body, encoding, fault, ..Text::of_str(content) };
        }
        let (text, wrong) = encoding.decode(bytes);
        *bytes = text.into_bytes();
        let content = std::str::from_utf8(bytes).unwrap_or("");
        let first = |found: &dyn Fn(char) -> bool| {
            let at = content.char_indices().find(|(_, next)| found(*next));
            at.map(|(at, next)| Span::new(at, at + next.len_utf8())).unwrap_or_default()
        };
        let is_replacement = |next: char| next == char::REPLACEMENT_CHARACTER;
        let fault = if wrong {
            let count = content.chars().filter(|next| is_replacement(*next)).count();
            Some(TextFault::Invalid { first: first(&is_replacement), count, encoding: encoding.name() })
        } else if origin == Origin::Guessed {
            Some(TextFault::Guessed { first: first(&|next| !next.is_ascii()), encoding: encoding.name() })
        } else {
            None
        };
        Text { body: body_of(content), encoding, fault, ..Text::of_str(content) }
    }

    /// The text of `bytes`, if they are clean UTF-8 and nothing else is declared; no copy is made and
    /// nothing changed.
    pub fn clean(bytes: &'a [u8], declared: Option<Encoding>) -> Option<Text<'a>> {
        let found = Encoding::recognise(bytes, declared);
        let content = simdutf8::basic::from_utf8(bytes).ok()?;
        found.filter(|(encoding, _)| encoding.is_utf8())?;
        Some(Text::of_file(content))
    }

    /// Text that is already decoded: a block from further inside a file.
    pub fn of_str(content: &'a str) -> Text<'a> {
        Text { content, body: 0, encoding: Encoding::UTF_8, fault: None, parsed: Parsed::default() }
    }

    /// A whole file that is already decoded; it may begin with a byte order mark.
    pub fn of_file(content: &'a str) -> Text<'a> {
        Text { body: body_of(content), ..Text::of_str(content) }
    }

    /// What it is parsed into with these `settings`; `parse` is called if that was not done before. It is kept as long as the
    /// text.
    pub(crate) fn parsed<T: Any + Send + Sync>(&self, settings: &str, parse: impl FnOnce() -> T) -> Arc<T> {
        self.parsed.tree(settings, parse)
    }

    /// The whole text, a byte order mark included.
    pub fn as_str(&self) -> &'a str {
        self.content
    }

    /// The offset of the first byte after a byte order mark (0 without one).
    pub fn body(&self) -> usize {
        self.body
    }

    /// What the file is written in.
    pub fn encoding(&self) -> Encoding {
        self.encoding
    }

    /// What is wrong with the bytes, if anything.
    pub fn fault(&self) -> Option<&TextFault> {
        self.fault.as_ref()
    }

    /// Whether the file may be edited: its text stands for exactly its bytes.
    pub fn editable(&self) -> bool {
        matches!(self.fault, None | Some(TextFault::Guessed { .. }))
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
    first.map(|first| TextFault::Invalid { first, count, encoding: Encoding::UTF_8.name() })
}

/// How long the byte order mark is that `content` begins with.
fn body_of(content: &str) -> usize {
    if content.as_bytes().starts_with(BOM) { BOM.len() } else { 0 }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn invalid(start: usize, end: usize, count: usize, encoding: &str) -> Option<TextFault> {
        Some(TextFault::Invalid { first: Span::new(start, end), count, encoding: encoding.to_owned() })
    }

    #[rstest]
    #[case::plain(b"abc", None, 0, None)]
    #[case::bom(b"\xEF\xBB\xBFabc", None, 3, None)]
    #[case::latin1(b"caf\xE9 bar \xFC", Some("utf-8"), 0, invalid(3, 4, 2, "utf-8"))]
    #[case::cut_off(b"ab\xE2\x82", Some("utf-8"), 0, invalid(2, 4, 2, "utf-8"))]
    #[case::half_pair(b"\xFF\xFEa\0\x00\xD8", None, 3, invalid(4, 7, 1, "utf-16le"))]
    #[case::binary(b"ab\0c\0\0", None, 0, Some(TextFault::Binary { at: Span::new(2, 3) }))]
    fn faults_have_places(
        #[case] bytes: &[u8],
        #[case] declared: Option<&str>,
        #[case] body: usize,
        #[case] fault: Option<TextFault>,
    ) {
        let mut copy = bytes.to_vec();
        let text = Text::decode(&mut copy, declared.and_then(Encoding::for_label));
        assert_eq!(text.body(), body);
        assert_eq!(text.fault(), fault.as_ref());
        if text.encoding().is_utf8() && !matches!(fault, Some(TextFault::Binary { .. })) {
            assert_eq!(text.as_str().len(), bytes.len(), "offsets must stay those of the file");
        }
    }
}
