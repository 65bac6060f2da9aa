//! Whole words in a text.

use std::ops::Range;

/// Whether `_` belongs to a word.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum WordEnds {
    /// `old_mill` is one word.
    KeepUnderscores,
    /// `old_mill` is two words.
    AtUnderscores,
}

/// Whether the bytes `range` of `text` are a whole word, or several. Letters and digits make words, and `_` as `ends` says.
pub fn is_word(text: &str, range: Range<usize>, ends: WordEnds) -> bool {
    let is_letter = |next: char| next.is_alphanumeric() || ends == WordEnds::KeepUnderscores && next == '_';
    let (before, after) = (text[..range.start].chars().next_back(), text[range.end..].chars().next());
    !range.is_empty() && !before.is_some_and(is_letter) && !after.is_some_and(is_letter)
}

/// The places (byte offsets) in `text` at which `word` stands as a whole word; `_` ends a word too.
fn word_places<'t>(text: &'t str, word: &'t str) -> impl Iterator<Item = usize> + 't {
    let places = text.match_indices(word).map(|(at, _)| at);
    places.filter(move |at| is_word(text, *at..at + word.len(), WordEnds::AtUnderscores))
}

/// `text` with `new` wherever `old` stands as a whole word; `_` ends a word too. `None` where it does not.
pub fn with_words_replaced(text: &str, old: &str, new: &str) -> Option<String> {
    let (mut out, mut from) = (String::new(), 0);
    for at in word_places(text, old) {
        out.push_str(&text[from..at]);
        out.push_str(new);
        from = at + old.len();
    }
    (from > 0).then(|| out + &text[from..])
}

/// `text` with `new` where `old` first stands as a whole word; `_` ends a word too. `None` where it does not.
pub fn with_word_replaced(text: &str, old: &str, new: &str) -> Option<String> {
    let at = word_places(text, old).next()?;
    Some(format!("{}{new}{}", &text[..at], &text[at + old.len()..]))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("mill_pier", &[0], &[])]
    #[case("old_mill", &[4], &[])]
    #[case("mill", &[0], &[0])]
    #[case("miller mill", &[7], &[7])]
    #[case("a mill, a mill", &[2, 10], &[2, 10])]
    #[case("mill/mill.txt", &[0, 5], &[0, 5])]
    #[case("treadmill", &[], &[])]
    #[case("millé", &[], &[])]
    #[case("mill2", &[], &[])]
    #[case("\"mill\"", &[1], &[1])]
    #[case("", &[], &[])]
    fn words_are_found_as_wholes(#[case] text: &str, #[case] apart: &[usize], #[case] whole: &[usize]) {
        let places = |ends| {
            let found = text.match_indices("mill").map(|(at, _)| at);
            found.filter(|at| is_word(text, *at..at + 4, ends)).collect::<Vec<_>>()
        };
        assert_eq!(places(WordEnds::AtUnderscores), apart);
        assert_eq!(places(WordEnds::KeepUnderscores), whole);
        assert_eq!(word_places(text, "").count(), 0);
    }

    #[rstest]
    #[case("mill_pier", Some("forge_pier"), Some("forge_pier"))]
    #[case("a mill, a mill", Some("a forge, a forge"), Some("a forge, a mill"))]
    #[case("treadmill", None, None)]
    fn words_are_replaced(#[case] text: &str, #[case] all: Option<&str>, #[case] first: Option<&str>) {
        assert_eq!(with_words_replaced(text, "mill", "forge").as_deref(), all);
        assert_eq!(with_word_replaced(text, "mill", "forge").as_deref(), first);
    }
}
