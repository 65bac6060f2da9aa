//! Values that are lists: what separates the items.

use std::ops::Range;

/// How the items of a list are told apart.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct List {
    /// What stands between two items: any one of these texts, none of them empty.
    pub separators: Vec<String>,
    /// Whether an item may stand in double quotes, in which separators are text.
    pub quoted: bool,
}

/// An item of a list.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Item {
    /// Its place in the value, in bytes, without blanks and quotes around it.
    pub within: Range<usize>,
    /// Whether its quotes, if it begins with one, are closed where it ends. If not, the place is from the quote on.
    pub is_closed: bool,
}

impl List {
    /// The items of `value`, blanks around them left out; a separator at the very end adds none.
    ///
    /// In double quotes a doubled quote does not end them. An item whose quotes are never closed goes to the end.
    pub fn items(&self, value: &str) -> Vec<Item> {
        let mut out = Vec::new();
        let mut separators =
            SeparatorFinder { value, next: self.separators.iter().map(|own| (own.as_str(), 0..0)).collect() };
        let mut from = 0;
        loop {
            let mut separator = separators.next_from(from);
            let before =
                |separator: &Option<Range<usize>>| separator.as_ref().map_or(value.len(), |own| own.start);
            // Only as far as the separator: blanks may be such.
            let lead = &value[from..before(&separator)];
            let start = from + lead.len() - lead.trim_start().len();
            let quoted = self.quoted && value[start..].starts_with('"');
            let close = if quoted { closing_quote(value, start + 1) } else { None };
            if quoted {
                separator = separators.next_from(close.map_or(value.len(), |close| close + 1));
            }
            let within = start..start + value[start..before(&separator)].trim_end().len();
            let item = match close.filter(|close| close + 1 == within.end) {
                Some(close) => Item { within: start + 1..close, is_closed: true },
                None => Item { within, is_closed: !quoted },
            };
            let Some(separator) = separator else {
                if quoted || !item.within.is_empty() {
                    out.push(item);
                }
                return out;
            };
            out.push(item);
            from = separator.end;
        }
    }

    /// The separators as they are named in messages: "`;` or `,`".
    pub fn shown(&self) -> String {
        let names: Vec<String> = self.separators.iter().map(|own| format!("`{own}`")).collect();
        names.join(" or ")
    }
}

/// The next place of each separator in a value, so that the value is searched once for each.
struct SeparatorFinder<'a> {
    value: &'a str,
    next: Vec<(&'a str, Range<usize>)>,
}

impl SeparatorFinder<'_> {
    /// The first separator from byte `from` on, which never goes back; of two at one place the longer one.
    fn next_from(&mut self, from: usize) -> Option<Range<usize>> {
        for (separator, place) in &mut self.next {
            if place.start < from || place.end == 0 {
                let found = self.value[from..].find(*separator).map(|at| from + at);
                *place = found.map_or(usize::MAX - 1..usize::MAX, |at| at..at + separator.len());
            }
        }
        let places = self.next.iter().map(|(_, place)| place).filter(|place| place.end < usize::MAX);
        places.min_by_key(|place| (place.start, usize::MAX - place.end)).cloned()
    }
}

/// Where the quote stands that closes one before byte `from`.
fn closing_quote(value: &str, from: usize) -> Option<usize> {
    let bytes = value.as_bytes();
    let mut at = from;
    loop {
        at += memchr::memchr(b'"', bytes.get(at..)?)?;
        if bytes.get(at + 1) != Some(&b'"') {
            return Some(at);
        }
        at += 2;
    }
}

#[cfg(test)]
mod tests {
    use super::List;
    use proptest::prelude::*;
    use rstest::rstest;

    fn list(separators: &[&str], quoted: bool) -> List {
        List { separators: separators.iter().map(|own| (*own).to_owned()).collect(), quoted }
    }

    /// Items are shown in brackets; one whose quotes are open in angle brackets.
    fn shown(list: &List, value: &str) -> String {
        let items = list.items(value).into_iter().map(|item| match item.is_closed {
            true => format!("[{}]", &value[item.within]),
            false => format!("<{}>", &value[item.within]),
        });
        items.collect()
    }

    #[rstest]
    #[case::blanks_around(" a ;b;  c", "[a][b][c]")]
    #[case::one_at_the_end("a;b;", "[a][b]")]
    #[case::an_empty_one("a;;b", "[a][][b]")]
    #[case::only_a_separator(";", "[]")]
    #[case::nothing("", "")]
    #[case::blanks("  ", "")]
    #[case::quotes_are_text("\"a;b\"", "[\"a][b\"]")]
    fn one_separator(#[case] value: &str, #[case] items: &str) {
        assert_eq!(shown(&list(&[";"], false), value), items);
    }

    #[rstest]
    #[case::either("a;b,c", &[";", ","], "[a][b][c]")]
    #[case::the_longer_one("a||b|c", &["|", "||"], "[a][b][c]")]
    #[case::a_word("a and b", &[" and "], "[a][b]")]
    #[case::blanks_as_separator("a b", &[" "], "[a][b]")]
    #[case::many_blanks("a   b", &[" "], "[a][][][b]")]
    #[case::signs_of_several_bytes("é·ü", &["·"], "[é][ü]")]
    fn several(#[case] value: &str, #[case] separators: &[&str], #[case] items: &str) {
        assert_eq!(shown(&list(separators, false), value), items);
    }

    #[rstest]
    #[case::a_separator_inside("\"Red, big\", Blue", "[Red, big][Blue]")]
    #[case::empty("\"\", b", "[][b]")]
    #[case::a_doubled_quote("\"a\"\"b, c\", d", "[a\"\"b, c][d]")]
    #[case::not_closed("a, \"b, c", "[a]<\"b, c>")]
    #[case::only_a_quote("\"", "<\">")]
    #[case::a_quote_inside("a \"b\", c", "[a \"b\"][c]")]
    #[case::more_behind_it("\"a\" x, c", "<\"a\" x>[c]")]
    #[case::an_empty_one_at_the_end("a, \"\"", "[a][]")]
    #[case::blanks_before_it("  \"a\"  ,  \"b\"  ", "[a][b]")]
    fn in_quotes(#[case] value: &str, #[case] items: &str) {
        assert_eq!(shown(&list(&[","], true), value), items);
    }

    proptest! {
        /// Whatever the value: items lie in it in order, and no item has a separator in it unless it stood in quotes.
        #[test]
        fn any_value(value in "[a\", ;é]{0,24}", quoted: bool) {
            let list = list(&[",", ";"], quoted);
            let mut last = 0;
            for item in list.items(&value) {
                prop_assert!(item.within.start >= last && item.within.end <= value.len());
                last = item.within.end;
                let text = &value[item.within];
                prop_assert!(quoted || !text.contains([',', ';']));
                prop_assert!(quoted || text.trim() == text);
            }
        }
    }
}
