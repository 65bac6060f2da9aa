//! Strings with escapes (RFC 8259, section 7).

use crate::formats::Decoded;
use std::borrow::Cow;

/// Reads the inside of a JSON string that begins at byte `start` of its file, with the place of
/// each byte. A wrong escape stands for itself; half a surrogate pair for U+FFFD.
pub(in crate::formats) fn decode_string(raw: &str, start: u32) -> Decoded<'_> {
    let (mut text, mut map) = (String::with_capacity(raw.len()), Vec::with_capacity(raw.len() + 1));
    let mut at = 0;
    while let Some(next) = raw[at..].chars().next() {
        let (meant, len) = if next == '\\' { escape(&raw[at..]) } else { (next, next.len_utf8()) };
        for _ in 0..meant.len_utf8() {
            map.push(start + at as u32);
        }
        if next != '\\' {
            let first = map.len() - meant.len_utf8();
            for (byte, place) in map[first..].iter_mut().enumerate() {
                *place += byte as u32;
            }
        }
        text.push(meant);
        at += len;
    }
    map.push(start + raw.len() as u32);
    Decoded { text: Cow::Owned(text), start, map: Some(map) }
}

/// What the escape at the start of `raw` means and how many bytes it takes.
fn escape(raw: &str) -> (char, usize) {
    let meant = match raw.as_bytes().get(1) {
        Some(b'"') => '"',
        Some(b'\\') => '\\',
        Some(b'/') => '/',
        Some(b'b') => '\u{8}',
        Some(b'f') => '\u{c}',
        Some(b'n') => '\n',
        Some(b'r') => '\r',
        Some(b't') => '\t',
        Some(b'u') => return unicode_escape(raw),
        _ => return ('\\', 1),
    };
    (meant, 2)
}

fn unicode_escape(raw: &str) -> (char, usize) {
    let unit = |at: usize| {
        let digits = raw.get(at..at + 6)?.strip_prefix("\\u")?;
        digits.bytes().all(|b| b.is_ascii_hexdigit()).then(|| u32::from_str_radix(digits, 16).ok())?
    };
    let Some(high) = unit(0) else { return ('\\', 1) };
    if (0xD800..0xDC00).contains(&high)
        && let Some(low) = unit(6).filter(|low| (0xDC00..0xE000).contains(low))
    {
        let code = 0x10000 + ((high - 0xD800) << 10) + (low - 0xDC00);
        return (char::from_u32(code).unwrap_or(char::REPLACEMENT_CHARACTER), 12);
    }
    (char::from_u32(high).unwrap_or(char::REPLACEMENT_CHARACTER), 6)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::Span;
    use rstest::rstest;

    #[rstest]
    #[case(r"a\tb", "a\tb")]
    #[case(r"\u017c\u00F3w", "żów")]
    #[case(r"\ud83d\ude82!", "\u{1F682}!")]
    #[case(r"\ud83d!", "\u{FFFD}!")]
    #[case(r"bad \q \u12", r"bad \q \u12")]
    fn escapes_are_read_leniently(#[case] raw: &str, #[case] meant: &str) {
        assert_eq!(decode_string(raw, 0).text, meant);
    }

    #[test]
    fn the_place_of_a_part_is_that_of_its_bytes() {
        let decoded = decode_string(r"ż\u0041;coal", 100);
        let at = decoded.text.find("coal").expect("there");
        assert_eq!(decoded.span(at, at + 4), Span::new(109, 113));
        assert_eq!(decoded.span(2, 3), Span::new(102, 108));
    }
}
