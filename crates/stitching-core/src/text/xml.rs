//! Writing text as XML 1.0 has it, for files that are reports or for translators. Files of the game are edited by their format.

use std::fmt::Write as _;

/// `text` as it may stand in an element and in an attribute with double quotes (sections 2.4 and 3.3.3): line breaks and tabs as
/// references, since a reader would make blanks of them. What XML cannot have is left out.
pub fn xml_escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in text.chars().filter(|letter| is_xml(*letter)) {
        match letter {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\t' | '\n' | '\r' => drop(write!(out, "&#{};", letter as u32)),
            other => out.push(other),
        }
    }
    out
}

/// Whether XML 1.0 may have a character (section 2.2).
pub fn is_xml(letter: char) -> bool {
    matches!(letter, '\t' | '\n' | '\r' | '\u{20}'..='\u{d7ff}' | '\u{e000}'..='\u{fffd}' | '\u{10000}'..)
}
