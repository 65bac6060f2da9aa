//! The names most like a given one, for "did you mean".

use std::collections::HashMap;

/// How many names are suggested at the most.
const MOST: usize = 3;

/// The names of `candidates` most like `name`, the nearest first, at most three.
///
/// Equal names are left out. Cost: one comparison for each candidate of about the same length.
pub fn nearest_of<'n>(name: &str, candidates: impl IntoIterator<Item = &'n str>) -> Vec<String> {
    let mut found = Vec::new();
    for candidate in candidates {
        consider(name, candidate, &mut found);
    }
    ranked(found)
}

/// Names arranged by length, so that many look-ups stay cheap.
#[derive(Debug, Default)]
pub struct NearestIndex {
    by_len: HashMap<usize, Vec<String>>,
}

impl NearestIndex {
    /// Arranges `names`. Cost: one copy of each.
    pub fn new(names: impl IntoIterator<Item = String>) -> NearestIndex {
        let mut by_len: HashMap<usize, Vec<String>> = HashMap::new();
        for name in names {
            by_len.entry(name.len()).or_default().push(name);
        }
        NearestIndex { by_len }
    }

    /// As [`nearest_of`], over the names of the index.
    pub fn nearest(&self, name: &str) -> Vec<String> {
        let reach = reach(name);
        let mut found = Vec::new();
        for len in name.len().saturating_sub(reach)..=name.len() + reach {
            for candidate in self.by_len.get(&len).map_or(&[][..], Vec::as_slice) {
                consider(name, candidate, &mut found);
            }
        }
        ranked(found)
    }

    /// A name that differs from `name` only in upper and lower case.
    pub fn differs_in_case(&self, name: &str) -> Option<&str> {
        let folded = name.to_lowercase();
        let same = self.by_len.get(&name.len())?;
        same.iter().map(String::as_str).find(|other| *other != name && other.to_lowercase() == folded)
    }
}

/// How many slips of the hand are forgiven in a name of this length.
fn reach(name: &str) -> usize {
    (name.chars().count() / 3).clamp(1, 3)
}

fn consider(name: &str, candidate: &str, found: &mut Vec<(usize, String)>) {
    let reach = reach(name);
    if candidate == name || candidate.is_empty() || candidate.len().abs_diff(name.len()) > reach {
        return;
    }
    // Sharing no letter in the first or last place, two short names are not like each other.
    let ends = |text: &str| {
        let lower = |c: char| c.to_ascii_lowercase();
        (text.chars().next().map(lower), text.chars().next_back().map(lower))
    };
    let ((first, last), (other_first, other_last)) = (ends(name), ends(candidate));
    if first != other_first && last != other_last && !shares_second(name, candidate) {
        return;
    }
    let distance =
        if name.eq_ignore_ascii_case(candidate) { 0 } else { strsim::osa_distance(name, candidate) };
    if distance <= reach {
        found.push((distance, candidate.to_owned()));
    }
}

/// Whether the names could begin with two letters swapped.
fn shares_second(a: &str, b: &str) -> bool {
    let mut letters = (a.chars(), b.chars());
    let (a0, a1, b0, b1) = (letters.0.next(), letters.0.next(), letters.1.next(), letters.1.next());
    a0 == b1 && a1 == b0
}

fn ranked(mut found: Vec<(usize, String)>) -> Vec<String> {
    found.sort();
    found.dedup();
    found.into_iter().take(MOST).map(|(_, name)| name).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("nroth", &["north"])]
    #[case("Frost_Cut", &["frost_cut"])]
    #[case("frost_ct", &["frost_cut"])]
    #[case("zzz", &[])]
    #[case("north", &[])]
    fn slips_of_the_hand_are_found(#[case] name: &str, #[case] expected: &[&str]) {
        let names = ["north", "south", "frost_cut", "old_mill"];
        assert_eq!(nearest_of(name, names), expected);
        let index = NearestIndex::new(names.map(str::to_owned));
        assert_eq!(index.nearest(name), expected);
    }

    #[test]
    fn a_difference_in_case_is_told_apart() {
        let index = NearestIndex::new(["Old_Mill".to_owned()]);
        assert_eq!(index.differs_in_case("old_mill"), Some("Old_Mill"));
        assert_eq!(index.differs_in_case("Old_Mill"), None);
    }
}
