//! The names most like a given one, for "did you mean".
//!
//! How far two names are apart is counted in slips: a letter too many, too few, another one, or two neighbours swapped
//! (the optimal string alignment distance). Of the names within reach only the nearest are given.
//!
//! One name is compared with each candidate ([`nearest_of`]). Many are looked for together ([`nearest_of_each`]), in a
//! pass over the candidates for each distance, as long as there are names for which nothing was found: two names that
//! are `d` slips apart become the same when up to `d` letters are taken out of each. What the wanted names become is kept
//! in a hash table; the hash of what a candidate becomes costs a few operations for each way to take letters out, since
//! hashes of pieces are put together and no text is made.

use rayon::prelude::*;
use std::collections::HashMap;

/// How many names are suggested at the most.
const MOST: usize = 3;

/// The most slips that are forgiven.
const FARTHEST: usize = 3;

/// Among many candidates more than one slip tells little, since any name then has several like it; and to look for them
/// would take long. For each number of slips, the most candidates among which it is forgiven.
const MOST_CANDIDATES: [usize; FARTHEST] = [usize::MAX, 30_000, 10_000];

/// Names longer than this, in characters, are not compared when many are looked for: the ways to take letters out grow
/// with the square of the length.
const LONGEST: usize = 100;

/// The names of `candidates` most like `name`: those with the fewest slips, in alphabetical order, at most three.
///
/// Equal names are left out. Cost: one comparison for each candidate of about the same length.
pub fn nearest_of<'n>(name: &str, candidates: impl IntoIterator<Item = &'n str>) -> Vec<String> {
    let mut best = Best::default();
    let reach = reach(name);
    for candidate in candidates {
        if is_like(name, candidate, reach) {
            let distance = slips(name, candidate);
            if distance <= reach {
                best.add(distance, candidate);
            }
        }
    }
    best.names
}

/// What is like one of many names.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Near {
    /// A name that differs only in upper and lower case; of several the first in alphabetical order.
    pub in_case: Option<String>,
    /// The names with the fewest slips, in alphabetical order, at most three; none if one differs only in case.
    pub names: Vec<String>,
    /// How many slips these are away.
    pub slips: usize,
}

/// As [`nearest_of`], for each name of `wanted`, in their order. Two and three slips are forgiven only where there are
/// not too many candidates.
///
/// Cost: proportional to the letters of the candidates, and of those wanted; for two slips to the square of the length
/// of each name.
pub fn nearest_of_each(wanted: &[&str], candidates: &[&str]) -> Vec<Near> {
    let mut out = vec![Near::default(); wanted.len()];
    let mut folded: HashMap<u64, Vec<usize>, _> = HashMap::with_hasher(Prehashed::default());
    for (at, name) in wanted.iter().enumerate() {
        folded.entry(folded_hash(name)).or_default().push(at);
    }
    if folded.is_empty() {
        return out;
    }
    let lengths =
        wanted.iter().fold((usize::MAX, 0), |(low, high), name| (low.min(name.len()), high.max(name.len())));
    let same: Vec<(usize, &str)> = candidates
        .par_iter()
        // Lower case can be longer by a few bytes.
        .filter(|name| name.len() + 4 >= lengths.0 && name.len() <= lengths.1 + 4)
        .flat_map_iter(|name| {
            let found = folded.get(&folded_hash(name)).into_iter().flatten();
            let same = |at: &usize| wanted[*at] != *name && wanted[*at].to_lowercase() == name.to_lowercase();
            found.copied().filter(same).map(|at| (at, *name)).collect::<Vec<_>>()
        })
        .collect();
    for (at, name) in same {
        let known = &mut out[at].in_case;
        if known.as_deref().is_none_or(|known| name < known) {
            *known = Some(name.to_owned());
        }
    }
    let forgiven = MOST_CANDIDATES.iter().take_while(|most| candidates.len() <= **most).count();
    for distance in 1..=forgiven {
        let open: Vec<usize> = (0..wanted.len())
            .filter(|at| {
                let none = out[*at].in_case.is_none() && out[*at].names.is_empty();
                none && reach(wanted[*at]) >= distance && wanted[*at].chars().count() <= LONGEST
            })
            .collect();
        for (at, best) in within(distance, wanted, &open, candidates) {
            (out[at].names, out[at].slips) = (best.names, distance);
        }
    }
    out
}

/// The names among `candidates` that are `distance` slips away from those of `wanted` that are `open`.
fn within(distance: usize, wanted: &[&str], open: &[usize], candidates: &[&str]) -> HashMap<usize, Best> {
    if open.is_empty() {
        return HashMap::new();
    }
    let table = Shortened::of(distance, wanted, open);
    let (low, high) = (table.shortest.saturating_sub(distance), table.longest + distance);
    let merge = |mut all: HashMap<usize, Best>, more: HashMap<usize, Best>| {
        for (at, best) in more {
            let known = all.entry(at).or_default();
            best.names.iter().for_each(|name| known.add(best.distance, name));
        }
        all
    };
    candidates
        .par_chunks(4096)
        .map(|chunk| {
            let mut found: HashMap<usize, Best> = HashMap::new();
            let (mut prefix, mut hits) = (Vec::new(), Vec::<u32>::new());
            for candidate in chunk.iter().filter(|name| !name.is_empty() && name.len() >= low) {
                // The length in characters is at most that in bytes, and at least a quarter of it.
                if candidate.len() / 4 > high {
                    continue;
                }
                prefixes(candidate, &mut prefix);
                if !(low..=high).contains(&(prefix.len() - 1)) {
                    continue;
                }
                hits.clear();
                shortened(&prefix, distance, &mut |hash| hits.extend(table.find(hash)));
                hits.sort_unstable();
                hits.dedup();
                for &at in &hits {
                    let (name, best) = (wanted[at as usize], found.entry(at as usize).or_default());
                    if best.wants(distance, candidate)
                        && is_like(name, candidate, distance)
                        && slips(name, candidate) == distance
                    {
                        best.add(distance, candidate);
                    }
                }
            }
            found.retain(|_, best| !best.names.is_empty());
            found
        })
        .reduce(HashMap::new, merge)
}

/// What names become when letters are taken out of them, by hash.
struct Shortened {
    names: HashMap<u64, Vec<u32>, Prehashed>,
    /// A bit for the lowest bits of each hash: it says quickly that nothing is there.
    bits: Vec<u64>,
    /// The lengths of the names, in characters.
    shortest: usize,
    longest: usize,
}

impl Shortened {
    fn of(distance: usize, wanted: &[&str], open: &[usize]) -> Shortened {
        const BITS: usize = 1 << 22;
        let mut out = Shortened {
            names: HashMap::default(),
            bits: vec![0; BITS / 64],
            shortest: usize::MAX,
            longest: 0,
        };
        let mut prefix = Vec::new();
        for &at in open {
            prefixes(wanted[at], &mut prefix);
            (out.shortest, out.longest) =
                (out.shortest.min(prefix.len() - 1), out.longest.max(prefix.len() - 1));
            shortened(&prefix, distance, &mut |hash| {
                let own = out.names.entry(hash).or_default();
                if own.last() != Some(&(at as u32)) {
                    own.push(at as u32);
                }
                let bit = hash as usize % BITS;
                out.bits[bit / 64] |= 1 << (bit % 64);
            });
        }
        out
    }

    fn find(&self, hash: u64) -> &[u32] {
        let bit = hash as usize % (self.bits.len() * 64);
        if self.bits[bit / 64] & 1 << (bit % 64) == 0 {
            return &[];
        }
        self.names.get(&hash).map_or(&[], Vec::as_slice)
    }
}

/// For tables whose keys are hashes already.
type Prehashed = std::hash::BuildHasherDefault<Hashed>;

#[derive(Default)]
struct Hashed(u64);

impl std::hash::Hasher for Hashed {
    fn finish(&self) -> u64 {
        self.0
    }

    fn write(&mut self, _: &[u8]) {}

    fn write_u64(&mut self, hash: u64) {
        self.0 = hash;
    }
}

/// The base of the hashes of texts: odd, so that it has an inverse modulo 2^64.
const BASE: u64 = 0x9e37_79b9_7f4a_7c15;
/// `BASE * INVERSE == 1`, modulo 2^64.
const INVERSE: u64 = inverse(BASE);

const fn inverse(odd: u64) -> u64 {
    // Newton's iteration doubles the number of right bits, of which the number itself has three.
    let (mut inverse, mut round) = (odd, 0);
    while round < 5 {
        inverse = inverse.wrapping_mul(2u64.wrapping_sub(odd.wrapping_mul(inverse)));
        round += 1;
    }
    inverse
}

/// The hashes of the beginnings of a text, the empty one first: the sum of a number for each letter times a power of
/// [`BASE`] for its place.
fn prefixes(text: &str, out: &mut Vec<u64>) {
    out.clear();
    out.push(0);
    let (mut sum, mut power) = (0u64, 1u64);
    for letter in text.chars() {
        // Spreads the letters over all bits (the finaliser of MurmurHash3).
        let mut number = (u64::from(letter) + 1).wrapping_mul(0xff51_afd7_ed55_8ccd);
        number ^= number >> 33;
        sum = sum.wrapping_add(number.wrapping_mul(power));
        power = power.wrapping_mul(BASE);
        out.push(sum);
    }
}

/// Gives the hash of a text with up to `most` letters taken out, in all ways, from the hashes of its beginnings.
fn shortened(prefix: &[u64], most: usize, give: &mut impl FnMut(u64)) {
    let length = prefix.len() - 1;
    let all = prefix[length];
    // What stands behind letters that are taken out moves towards the front: a factor for each of them.
    let moved =
        |from: usize, to: usize, factor: u64| prefix[to].wrapping_sub(prefix[from]).wrapping_mul(factor);
    let (once, twice) = (INVERSE, INVERSE.wrapping_mul(INVERSE));
    let thrice = twice.wrapping_mul(INVERSE);
    give(all);
    for (a, &head) in prefix[..length].iter().enumerate() {
        give(head.wrapping_add(moved(a + 1, length, once)));
        if most < 2 {
            continue;
        }
        for b in a + 1..length {
            let head = head.wrapping_add(moved(a + 1, b, once));
            give(head.wrapping_add(moved(b + 1, length, twice)));
            if most < 3 {
                continue;
            }
            for c in b + 1..length {
                let head = head.wrapping_add(moved(b + 1, c, twice));
                give(head.wrapping_add(moved(c + 1, length, thrice)));
            }
        }
    }
}

/// The nearest names so far.
#[derive(Debug, Default)]
struct Best {
    distance: usize,
    /// Sorted, at most [`MOST`].
    names: Vec<String>,
}

impl Best {
    /// Whether a name at this distance would be among them.
    fn wants(&self, distance: usize, name: &str) -> bool {
        self.names.is_empty()
            || distance < self.distance
            || (distance == self.distance
                && (self.names.len() < MOST || self.names.last().is_some_and(|last| name < last.as_str())))
    }

    fn add(&mut self, distance: usize, name: &str) {
        if !self.wants(distance, name) {
            return;
        }
        if self.names.is_empty() || distance < self.distance {
            self.names.clear();
            self.distance = distance;
        }
        if let Err(at) = self.names.binary_search_by(|known| known.as_str().cmp(name)) {
            self.names.insert(at, name.to_owned());
            self.names.truncate(MOST);
        }
    }
}

/// A hash that is equal for names that differ only in case.
fn folded_hash(name: &str) -> u64 {
    let mix = |hash: u64, letter: u64| (hash ^ letter).wrapping_mul(BASE).rotate_left(23);
    match name.is_ascii() {
        true => name.bytes().fold(0, |hash, byte| mix(hash, u64::from(byte.to_ascii_lowercase()))),
        false => {
            name.chars().flat_map(char::to_lowercase).fold(0, |hash, letter| mix(hash, u64::from(letter)))
        }
    }
}

/// How many slips of the hand are forgiven in a name of this length.
fn reach(name: &str) -> usize {
    (name.chars().count() / 3).clamp(1, FARTHEST)
}

/// Whether two names are worth comparing.
fn is_like(name: &str, candidate: &str, reach: usize) -> bool {
    if candidate == name || candidate.is_empty() || candidate.len().abs_diff(name.len()) > 4 * reach {
        return false;
    }
    // Sharing no letter in the first or last place, two short names are not like each other.
    let ends = |text: &str| {
        let lower = |c: char| c.to_ascii_lowercase();
        (text.chars().next().map(lower), text.chars().next_back().map(lower))
    };
    let ((first, last), (other_first, other_last)) = (ends(name), ends(candidate));
    first == other_first || last == other_last || shares_second(name, candidate)
}

/// The slips between two names; none if they differ only in case.
fn slips(name: &str, candidate: &str) -> usize {
    if name.eq_ignore_ascii_case(candidate) { 0 } else { strsim::osa_distance(name, candidate) }
}

/// Whether the names could begin with two letters swapped.
fn shares_second(a: &str, b: &str) -> bool {
    let mut letters = (a.chars(), b.chars());
    let (a0, a1, b0, b1) = (letters.0.next(), letters.0.next(), letters.1.next(), letters.1.next());
    a0 == b1 && a1 == b0
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
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
        let near = &nearest_of_each(&[name], &names)[0];
        assert_eq!(near.in_case.iter().chain(&near.names).collect::<Vec<_>>(), expected);
    }

    #[test]
    fn only_the_nearest_are_given() {
        let names = ["kilns", "kiln_b", "kiln_a", "klin"];
        assert_eq!(nearest_of("kiln", names), ["kilns", "klin"]);
        assert_eq!(nearest_of_each(&["kiln", "kiln_x"], &names)[0].names, ["kilns", "klin"]);
        assert_eq!(nearest_of_each(&["kiln", "kiln_x"], &names)[1].names, ["kiln_a", "kiln_b"]);
    }

    #[test]
    fn a_difference_in_case_is_told_apart() {
        let near = nearest_of_each(&["old_mill", "Old_Mill", "ŻURAW"], &["Old_Mill", "żuraw"]);
        let in_case: Vec<Option<&str>> = near.iter().map(|near| near.in_case.as_deref()).collect();
        assert_eq!(in_case, [Some("Old_Mill"), None, Some("żuraw")]);
    }

    proptest! {
        #[test]
        fn many_are_found_as_each_alone(
            wanted in proptest::collection::vec("[abAż]{1,10}", 1..6),
            names in proptest::collection::vec("[abAż]{0,11}", 0..12),
        ) {
            let wanted: Vec<&str> = wanted.iter().map(String::as_str).collect();
            let names: Vec<&str> = names.iter().map(String::as_str).collect();
            for (name, near) in wanted.iter().zip(nearest_of_each(&wanted, &names)) {
                let folded = |other: &&&str| **other != *name && other.to_lowercase() == name.to_lowercase();
                prop_assert_eq!(near.in_case.as_deref(), names.iter().filter(folded).min().copied());
                if near.in_case.is_none() {
                    prop_assert_eq!(near.names, nearest_of(name, names.iter().copied()));
                }
            }
        }

        #[test]
        fn the_hash_of_a_shortened_text_is_that_of_the_text(text in "[a-zż]{0,8}") {
            let letters: Vec<char> = text.chars().collect();
            let hash = |letters: &[char]| {
                let mut prefix = Vec::new();
                prefixes(&letters.iter().collect::<String>(), &mut prefix);
                *prefix.last().expect("the empty one")
            };
            let mut expected = std::collections::BTreeSet::new();
            for mask in 0u32..1 << letters.len() {
                if mask.count_ones() <= 3 {
                    let left: Vec<char> = letters.iter().enumerate().filter(|(at, _)| mask & (1 << at) == 0).map(|(_, c)| *c).collect();
                    expected.insert(hash(&left));
                }
            }
            let (mut prefix, mut found) = (Vec::new(), std::collections::BTreeSet::new());
            prefixes(&text, &mut prefix);
            shortened(&prefix, 3, &mut |hash| { found.insert(hash); });
            prop_assert_eq!(found, expected);
        }
    }
}
