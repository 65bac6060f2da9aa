//! Which words are in which files, so that a search need not read those that have none of what it looks for.

use super::with_text;
use crate::layers::{Cache, FileId, Look, Stack, Store};
use rayon::prelude::*;
use std::collections::HashSet;
use xxhash_rust::xxh3::xxh3_64;

/// The name of the cache that has, for each file, its different words in lower case, a line each. Numbers are left
/// out: there are very many, and few look for them.
const NAME: &str = "words";

/// The words of the files of a stack.
#[derive(Debug)]
pub(super) struct Words {
    store: Store,
    known: Vec<bool>,
}

/// Signs that some format may write a letter with; whether a file has them stands before its words.
const SIGNS: [u8; 4] = *b"&\\\"'";

/// Whether `needle` is a part of one word, so that a file without such a word cannot have it.
pub(super) fn is_in_one_word(needle: &str) -> bool {
    !needle.is_empty() && needle.bytes().all(is_of_word) && !needle.bytes().all(|byte| byte.is_ascii_digit())
}

fn is_of_word(byte: u8) -> bool {
    byte.is_ascii_alphanumeric() || byte == b'_' || byte >= 0x80
}

/// How a file was before its words were read, and these.
type New = (Look, Vec<u8>);

impl Words {
    /// Makes sure that the words of all files are known. Cost: the first time one pass over all texts.
    pub(super) fn prepare(stack: &Stack, cache: &Cache) -> Words {
        let mut store = cache.open(NAME);
        let found: Vec<(bool, Option<New>)> = (0..stack.files().len())
            .into_par_iter()
            .with_max_len(1)
            .map(|file| {
                if store.holds(stack, file) {
                    return (true, None);
                }
                let look = Store::look(stack, file);
                let words =
                    with_text(stack, file, |text| text.fault().is_none().then(|| words_of(text.as_str())));
                match (look, words.ok().flatten()) {
                    (Some(look), Some(words)) => (true, Some((look, words))),
                    _ => (false, None),
                }
            })
            .collect();
        let mut known = Vec::with_capacity(found.len());
        for (file, (is_known, new)) in found.into_iter().enumerate() {
            // What was found just now is searched in the file itself.
            known.push(is_known && new.is_none());
            if let Some((look, words)) = new {
                store.set(stack, file, &look, words);
            }
        }
        cache.save(&mut store, stack);
        Words { store, known }
    }

    /// Whether `file` has nothing that `quick` finds, which looks for parts of words only; `escapes` are the signs
    /// with which its formats may write letters otherwise.
    pub(super) fn rule_out(
        &self,
        stack: &Stack,
        file: FileId,
        quick: &regex::bytes::Regex,
        escapes: &[u8],
    ) -> bool {
        if !self.known[file] {
            return false;
        }
        let Some(kept) = self.store.kept(stack, file) else { return false };
        let Some((signs, words)) = kept.split_first() else { return false };
        let escaped = escapes.iter().any(|escape| {
            let at = SIGNS.iter().position(|sign| sign == escape);
            at.is_none_or(|at| signs & (1 << at) != 0)
        });
        !escaped && !quick.is_match(words)
    }
}

/// The signs and the different words of a text.
fn words_of(text: &str) -> Vec<u8> {
    let bytes = text.as_bytes();
    let signs = SIGNS.iter().enumerate().filter(|(_, sign)| memchr::memchr(**sign, bytes).is_some());
    let mut out = vec![signs.fold(0, |signs, (at, _)| signs | 1 << at)];
    let mut seen: HashSet<u64> = HashSet::new();
    let mut word = Vec::new();
    for part in bytes.split(|byte| !is_of_word(*byte)) {
        if part.iter().all(u8::is_ascii_digit) {
            continue;
        }
        word.clear();
        if part.is_ascii() {
            word.extend(part.iter().map(u8::to_ascii_lowercase));
        } else {
            word.extend(String::from_utf8_lossy(part).to_lowercase().into_bytes());
        }
        if seen.insert(xxh3_64(&word)) {
            out.extend_from_slice(&word);
            out.push(b'\n');
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::{is_in_one_word, words_of};
    use rstest::rstest;

    #[rstest]
    #[case("frost_cut;Frost_Cut 12,lamp", 0, "frost_cut\nlamp\n")]
    #[case("say \"Größe\" & 'x'", 0b1101, "say\ngröße\nx\n")]
    #[case("a1 100 007", 0, "a1\n")]
    #[case("", 0, "")]
    fn words_come_once_and_in_lower_case(#[case] text: &str, #[case] signs: u8, #[case] words: &str) {
        let found = words_of(text);
        assert_eq!((found[0], std::str::from_utf8(&found[1..])), (signs, Ok(words)));
    }

    #[rstest]
    #[case("frost_cut", true)]
    #[case("größe", true)]
    #[case("frost-cut", false)]
    #[case("100", false)]
    #[case("", false)]
    fn parts_of_words(#[case] needle: &str, #[case] expected: bool) {
        assert_eq!(is_in_one_word(needle), expected);
    }
}
