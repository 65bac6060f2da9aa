//! How the letters of a file are written as bytes, and exact writing back.
//!
//! Names and tables of encodings are those of the Encoding Standard (<https://encoding.spec.whatwg.org>).
//! In memory every text is UTF-8; a file in another encoding is decoded when it is read, and edits are
//! carried over to its bytes one by one, so that the bytes between them stay what they were.

use super::{EditSet, Patch, Splice};
use encoding_rs::{UTF_8, UTF_16BE, UTF_16LE};

/// The UTF-8 byte order mark.
pub(super) const BOM: &[u8] = b"\xEF\xBB\xBF";
/// How many bytes at the start of a file are searched for a NUL, the mark of a binary file.
pub(super) const BINARY_WINDOW: usize = 8192;
/// An XML declaration of an encoding stands within so many bytes.
const DECLARATION_WINDOW: usize = 256;

/// How letters are written as bytes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Encoding(&'static encoding_rs::Encoding);

/// A character that an encoding does not have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Unencodable {
    /// The character.
    pub character: char,
    /// Where it stands in the text, in bytes of UTF-8.
    pub at: usize,
}

/// Where the knowledge of a file's encoding comes from.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Origin {
    /// The schema says so, the file says so (a byte order mark, an XML declaration), or it is
    /// valid UTF-8.
    Known,
    /// It was guessed from the letters that come out.
    Guessed,
}

impl Encoding {
    /// UTF-8, in which a text's offsets are those of its bytes.
    pub const UTF_8: Encoding = Encoding(UTF_8);

    /// The encoding with this label, such as `windows-1250` or `utf-16le`; `None` for a label that the
    /// Encoding Standard does not have, or that stands for no way of writing letters.
    pub fn for_label(label: &str) -> Option<Encoding> {
        encoding_rs::Encoding::for_label_no_replacement(label.as_bytes()).map(Encoding)
    }

    /// Its name, in lower case.
    pub fn name(self) -> String {
        self.0.name().to_lowercase()
    }

    /// Whether offsets into the text are offsets into the file.
    pub fn is_utf8(self) -> bool {
        self.0 == UTF_8
    }

    /// What `bytes`, a whole file, are written in. `declared` is what the schema says; a byte order mark
    /// outweighs it, and it outweighs everything else. `None` for bytes that are no text.
    pub fn recognise(bytes: &[u8], declared: Option<Encoding>) -> Option<(Encoding, Origin)> {
        if let Some((marked, _)) = encoding_rs::Encoding::for_bom(bytes) {
            return Some((Encoding(marked), Origin::Known));
        }
        if let Some(declared) = declared.filter(|declared| !declared.is_utf8()) {
            return Some((declared, Origin::Known));
        }
        let window = &bytes[..bytes.len().min(BINARY_WINDOW)];
        if memchr::memchr(0, window).is_some() {
            return unmarked_utf16(window).map(|encoding| (Encoding(encoding), Origin::Known));
        }
        if declared.is_some() {
            return Some((Encoding::UTF_8, Origin::Known));
        }
        if let Some(named) = xml_declaration(bytes).filter(|named| !named.is_utf16()) {
            return Some((named, Origin::Known));
        }
        match simdutf8::compat::from_utf8(bytes) {
            Ok(_) => Some((Encoding::UTF_8, Origin::Known)),
            Err(_) if is_damaged_utf8(bytes) => Some((Encoding::UTF_8, Origin::Known)),
            Err(_) => {
                let mut detector = chardetng::EncodingDetector::new(chardetng::Iso2022JpDetection::Deny);
                detector.feed(bytes, true);
                let guess = detector.guess(None, chardetng::Utf8Detection::Deny);
                Some((Encoding(guess), Origin::Guessed))
            }
        }
    }

    /// Whether nothing but the validity of `bytes` tells if they are UTF-8: nothing else is declared, and
    /// they begin with no mark or declaration and have no early zero byte.
    pub(crate) fn may_be_plain(bytes: &[u8], declared: Option<Encoding>) -> bool {
        let window = &bytes[..bytes.len().min(BINARY_WINDOW)];
        declared.is_none_or(Encoding::is_utf8)
            && !matches!(bytes.first(), Some(0xEF | 0xFE | 0xFF))
            && !bytes.starts_with(b"<?xml")
            && memchr::memchr(0, window).is_none()
    }

    fn is_utf16(self) -> bool {
        self.0 == UTF_16LE || self.0 == UTF_16BE
    }

    /// The text of `bytes`, a byte order mark included; what cannot be read becomes U+FFFD. Also tells
    /// whether there was any of that.
    pub fn decode(self, bytes: &[u8]) -> (String, bool) {
        let (text, wrong) = self.0.decode_without_bom_handling(bytes);
        (text.into_owned(), wrong)
    }

    /// The bytes that stand for `text`.
    ///
    /// # Errors
    /// The first character that the encoding does not have.
    pub fn encode(self, text: &str) -> Result<Vec<u8>, Unencodable> {
        if self.is_utf8() {
            return Ok(text.as_bytes().to_vec());
        }
        if self.is_utf16() {
            let little = self.0 == UTF_16LE;
            let bytes = |unit: u16| if little { unit.to_le_bytes() } else { unit.to_be_bytes() };
            return Ok(text.encode_utf16().flat_map(bytes).collect());
        }
        let mut encoder = self.0.new_encoder();
        let longest = encoder.max_buffer_length_from_utf8_without_replacement(text.len());
        let mut out = Vec::with_capacity(longest.unwrap_or(text.len()) + 16);
        let (result, read) = encoder.encode_from_utf8_to_vec_without_replacement(text, &mut out, true);
        match result {
            encoding_rs::EncoderResult::InputEmpty => Ok(out),
            encoding_rs::EncoderResult::Unmappable(character) => {
                Err(Unencodable { character, at: read.saturating_sub(character.len_utf8()) })
            }
            encoding_rs::EncoderResult::OutputFull => Err(Unencodable { character: '\u{fffd}', at: read }),
        }
    }

    /// The offset in the file of byte `at` of its text.
    pub fn file_offset(self, text: &str, at: usize) -> usize {
        if self.is_utf8() {
            return at;
        }
        // What stands before a sound place was read from the file, and can be written again.
        text.get(..at).and_then(|before| self.encode(before).ok()).map_or(at, |bytes| bytes.len())
    }

    /// What `edits` of `text` do to the bytes of its file.
    ///
    /// # Errors
    /// The first character that the encoding does not have, with its place in the text that it would be
    /// part of.
    pub fn patch(self, text: &str, edits: &EditSet) -> Result<Patch, Unencodable> {
        let mut splices = Vec::with_capacity(edits.edits().len());
        let (mut from, mut offset) = (0, 0);
        for edit in edits.edits() {
            let (start, end) = (edit.span.start as usize, edit.span.end as usize);
            let len = |from: usize, to: usize| {
                if self.is_utf8() {
                    return Ok(to - from);
                }
                self.encode(text.get(from..to).unwrap_or("")).map(|bytes| bytes.len())
            };
            offset += len(from, start)?;
            let old = len(start, end)?;
            let bytes = self.encode(&edit.text).map_err(|wrong| Unencodable { at: start, ..wrong })?;
            splices.push(Splice { start: offset as u64, end: (offset + old) as u64, bytes });
            (from, offset) = (end, offset + old);
        }
        Ok(Patch { splices })
    }
}

/// UTF-16 without a mark: most letters of data files are ASCII, so every second byte is NUL.
fn unmarked_utf16(window: &[u8]) -> Option<&'static encoding_rs::Encoding> {
    let pairs = window.len() / 2;
    let nuls = |odd: usize| window.iter().skip(odd).step_by(2).filter(|byte| **byte == 0).count();
    let (even, odd) = (nuls(0), nuls(1));
    match () {
        () if pairs < 2 => None,
        () if even == 0 && odd * 2 > pairs => Some(UTF_16LE),
        () if odd == 0 && even * 2 > pairs => Some(UTF_16BE),
        () => None,
    }
}

/// The encoding that an XML declaration names (XML 1.0, section 4.3.3).
fn xml_declaration(bytes: &[u8]) -> Option<Encoding> {
    let head = &bytes[..bytes.len().min(DECLARATION_WINDOW)];
    let head = head.strip_prefix(b"<?xml")?;
    let end = memchr::memmem::find(head, b"?>")?;
    let head = std::str::from_utf8(&head[..end]).ok()?;
    let value =
        head[head.find("encoding")? + "encoding".len()..].trim_start().strip_prefix('=')?.trim_start();
    let quote = value.chars().next().filter(|quote| ['"', '\''].contains(quote))?;
    Encoding::for_label(value[1..].split(quote).next()?)
}

/// Whether bytes that are not valid UTF-8 are UTF-8 all the same, with something broken in them: there
/// are more sound characters of several bytes than broken ones.
fn is_damaged_utf8(bytes: &[u8]) -> bool {
    let (mut sound, mut broken) = (0usize, 0usize);
    for chunk in bytes.utf8_chunks() {
        sound += chunk.valid().bytes().filter(|byte| *byte >= 0xC0).count();
        broken += usize::from(!chunk.invalid().is_empty());
    }
    sound > broken
}

/// Whether `bytes` read as `encoding` and written again are the same bytes, so that the file can be edited.
pub fn round_trips(bytes: &[u8], encoding: Encoding) -> bool {
    if encoding.is_utf8() {
        return simdutf8::basic::from_utf8(bytes).is_ok();
    }
    let mut decoder = encoding.0.new_decoder_without_bom_handling();
    let Some(longest) = decoder.max_utf8_buffer_length_without_replacement(bytes.len()) else { return false };
    let mut text = String::with_capacity(longest);
    let (result, _) = decoder.decode_to_string_without_replacement(bytes, &mut text, true);
    let sound = matches!(result, encoding_rs::DecoderResult::InputEmpty);
    sound && encoding.encode(&text).is_ok_and(|again| again == bytes)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::{Edit, Span};
    use proptest::prelude::*;
    use rstest::rstest;

    fn utf16(text: &str) -> Vec<u8> {
        text.encode_utf16().flat_map(u16::to_le_bytes).collect()
    }

    #[rstest]
    #[case::ascii(b"abc".to_vec(), "utf-8", Origin::Known)]
    #[case::utf8("żółw".into(), "utf-8", Origin::Known)]
    #[case::mark(utf16("\u{feff}ab"), "utf-16le", Origin::Known)]
    #[case::no_mark(utf16("ab = c"), "utf-16le", Origin::Known)]
    #[case::big(b"\0a\0b\0c".to_vec(), "utf-16be", Origin::Known)]
    #[case::xml(b"<?xml version='1.0' encoding=\"windows-1250\"?><a/>".to_vec(), "windows-1250", Origin::Known)]
    #[case::damaged(b"\xC5\xBC\xC3\xB3 \xFF".to_vec(), "utf-8", Origin::Known)]
    #[case::old_page(b"Stra\xDFe, H\xE4fen und K\xFCste".to_vec(), "windows-1252", Origin::Guessed)]
    fn encodings_are_recognised(#[case] bytes: Vec<u8>, #[case] name: &str, #[case] origin: Origin) {
        let found = Encoding::recognise(&bytes, None).map(|(found, origin)| (found.name(), origin));
        assert_eq!(found, Some((name.to_owned(), origin)));
    }

    #[rstest]
    #[case(b"ab\0c\x01\x02\0\0")]
    #[case(b"\0\0\0\0")]
    fn what_is_no_text_has_none(#[case] bytes: &[u8]) {
        assert_eq!(Encoding::recognise(bytes, None), None);
    }

    #[test]
    fn a_mark_outweighs_the_schema_and_the_schema_the_rest() {
        let declared = Encoding::for_label("windows-1251");
        let found = |bytes: &[u8]| Encoding::recognise(bytes, declared).map(|(found, _)| found.name());
        assert_eq!(found(b"\xEF\xBB\xBFabc").as_deref(), Some("utf-8"));
        assert_eq!(found("żółw".as_bytes()).as_deref(), Some("windows-1251"));
    }

    #[test]
    fn a_character_that_does_not_fit_is_named() {
        let page = Encoding::for_label("windows-1250").expect("a label");
        assert_eq!(page.encode("łódź").expect("it has them"), b"\xB3\xF3d\x9F");
        assert_eq!(page.encode("aж"), Err(Unencodable { character: 'ж', at: 1 }));
    }

    proptest! {
        #[test]
        fn edits_reach_the_same_bytes_as_writing_anew(
            text in "[abżó\u{1F682}\n]{1,30}", new in "[xłz]{0,4}", at in 0usize..30, label in "utf-8|utf-16le|utf-16be|gb18030",
        ) {
            let encoding = Encoding::for_label(&label).expect("a label");
            let before = encoding.encode(&text).expect("it has them");
            let bounds: Vec<usize> = text.char_indices().map(|(at, _)| at).chain([text.len()]).collect();
            let start = bounds[at % bounds.len()];
            let end = bounds[(at + 2).min(bounds.len() - 1)].max(start);
            let edits = EditSet::new(vec![Edit { span: Span::new(start, end), text: new }]).expect("one");
            let after = encoding.patch(&text, &edits).expect("it has them").apply(&before).expect("inside");
            let anew = String::from_utf8(edits.apply(text.as_bytes()).expect("inside")).expect("text");
            prop_assert_eq!(&after, &encoding.encode(&anew).expect("it has them"));
            prop_assert!(round_trips(&after, encoding));
        }
    }
}
