//! The ways in which the values of a column can be taken: as they are, columns of a family together, the items of a
//! list, the parts of a value, or without what stands around all of them.

use super::profile::{Affix, Profile, SEPARATORS, Split, ValueCount, texts_of};
use super::references::{self, Source};
use super::targets::Targets;
use super::{Studied, Study};
use crate::tables::key_hash;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// A column in one of the ways in which it can be taken.
pub(super) struct Way {
    /// The fields, which are more than one if their names differ only in a number.
    pub fields: Vec<usize>,
    /// The position of the table.
    pub table: usize,
    /// How their values are taken apart.
    pub split: Split,
}

impl Study<'_> {
    /// The columns that could point somewhere, those taken together whose names differ only in a number.
    pub(super) fn ways(&self) -> Vec<Way> {
        let mut out: Vec<Way> = Vec::new();
        let no_texts = |own: &&(usize, &Studied)| own.1.texts.is_none() && own.1.table.texts.is_none();
        for (table, own) in
            self.studied.iter().enumerate().collect::<Vec<_>>().iter().filter(no_texts).copied()
        {
            let mut families: BTreeMap<(String, bool), Vec<usize>> = BTreeMap::new();
            for field in &own.open {
                let profile = &self.counts[table].columns[*field];
                if profile.is_identifiers() {
                    let name = &own.table.fields[*field].name;
                    families.entry((family(name), profile.is_numeric())).or_default().push(*field);
                }
            }
            let names = |field: &usize| own.table.fields[*field].name.as_str();
            let (families, singles): (Vec<_>, Vec<_>) =
                families.into_values().partition(|fields| are_numbered(fields.iter().map(names)));
            let singles = singles.into_iter().flatten().map(|field| vec![field]);
            let families = families.into_iter().chain(singles);
            out.extend(families.map(|fields| Way { fields, table, split: Split::default() }));
        }
        out
    }

    pub(super) fn source<'p>(&'p self, way: &Way, columns: &'p [Profile]) -> Source<'p> {
        let own = &self.studied[way.table];
        let name = &own.table.fields[way.fields[0]].name;
        let is_key = own.key.parts.len() == 1
            && way.fields.iter().any(|field| own.table.fields[*field].name == own.key.parts[0]);
        Source {
            table: way.table,
            name: if way.fields.len() > 1 { family(name) } else { name.clone() },
            profiles: way
                .fields
                .iter()
                .map(|field| self.thinned.get(&(way.table, *field)).unwrap_or(&columns[*field]))
                .collect(),
            is_key,
        }
    }

    /// The ways in which something that all values have before or behind them is taken away.
    pub(super) fn decorated(&self, ways: &[&Way]) -> Vec<Way> {
        /// So many values are looked at, and no fewer than so many say anything.
        const TRIED: usize = 40;
        const LEAST: usize = 4;
        let seen: Vec<Vec<ValueCount>> = ways.iter().map(|way| self.some_values(way, TRIED)).collect();
        let texts = texts_of(self.stack, &seen.concat());
        let mut start = 0;
        let mut out = Vec::new();
        for (way, seen) in ways.iter().zip(&seen) {
            let own = &texts[start..start + seen.len()];
            start += seen.len();
            let own: Vec<&str> =
                own.iter().map(String::as_str).filter(|text| !references::is_usual_none(text)).collect();
            let mut around: Vec<((Affix, Affix), bool)> = Vec::new();
            if own.len() >= LEAST {
                around.extend(shared_around(&own).into_iter().map(|around| (around, false)));
                around.extend(mark_of_some(&own).map(|mark| ((mark, Affix::default()), true)));
            }
            out.extend(around.into_iter().map(|(around, may_lack)| Way {
                fields: way.fields.clone(),
                table: way.table,
                split: Split { around: Some(around), may_lack, ..Split::default() },
            }));
        }
        out
    }

    /// About `most` of the different values of a way's columns, spread over the files.
    fn some_values(&self, way: &Way, most: usize) -> Vec<ValueCount> {
        let columns = way.fields.iter().map(|field| &self.counts[way.table].columns[*field]);
        let mut seen: Vec<ValueCount> =
            columns.flat_map(|column| column.distinct.values().copied()).collect();
        seen.sort_by_key(|seen| (seen.file, seen.cell.span.start));
        let step = seen.len().div_ceil(most).max(1);
        seen.into_iter().step_by(step).collect()
    }

    /// Keeps those ways to take values apart in which the pieces of a few values lead somewhere.
    pub(super) fn retain_promising(&self, ways: &mut Vec<Way>, targets: &Targets) {
        /// So many values of each column are tried.
        const TRIED: usize = 100;
        // A column may be there in several ways.
        let mut columns: Vec<(usize, Vec<usize>)> = Vec::new();
        let mut seen: Vec<Vec<ValueCount>> = Vec::new();
        for way in ways.iter() {
            let column = (way.table, way.fields.clone());
            if columns.last() != Some(&column) {
                columns.push(column);
                seen.push(self.some_values(way, TRIED));
            }
        }
        let texts = texts_of(self.stack, &seen.concat());
        let mut start = 0;
        let mut of_column: HashMap<&(usize, Vec<usize>), &[String]> = HashMap::new();
        for (column, seen) in columns.iter().zip(&seen) {
            of_column.insert(column, &texts[start..start + seen.len()]);
            start += seen.len();
        }
        let promising = |way: &mut Way| {
            let own = of_column.get(&(way.table, way.fields.clone())).copied().unwrap_or_default();
            way.split.counted = way.split.list.is_some_and(|list| are_counted(own, list));
            let (mut pieces, mut hits) = (0u32, vec![0u32; targets.list.len()]);
            for text in own {
                way.split.pieces(text, |piece, _| {
                    pieces += 1;
                    targets.of(key_hash(piece, false)).for_each(|target| hits[target] += 1);
                });
            }
            // One of several tables may have them, and some may stand for "nothing".
            hits.iter().any(|hits| *hits > 0 && hits * 5 >= pieces)
        };
        let keep: Vec<bool> = ways.iter_mut().map(promising).collect();
        let mut keep = keep.into_iter();
        ways.retain(|_| keep.next().unwrap_or_default());
    }
}

/// The name of a column without the number at its end.
pub(super) fn family(name: &str) -> String {
    let stem = name.trim_end_matches(|next: char| next.is_ascii_digit());
    if stem.is_empty() { name.to_owned() } else { stem.trim_end_matches(['_', '-', ' ']).to_owned() }
}

/// Whether `names` differ only in numbers that follow one another, from 0 or 1 on.
fn are_numbered<'n>(names: impl Iterator<Item = &'n str>) -> bool {
    let number =
        |name: &str| name.trim_start_matches(|next: char| !next.is_ascii_digit()).parse::<usize>().ok();
    let ends: Option<BTreeSet<usize>> =
        names.map(|name| number(name.rsplit(|next: char| !next.is_ascii_digit()).next()?)).collect();
    ends.is_some_and(|ends| {
        let first = ends.first().copied().unwrap_or(2);
        ends.len() > 1 && first < 2 && ends.last().is_some_and(|last| last + 1 - first == ends.len())
    })
}

/// The ways to take the values of a column apart that its signs suggest.
pub(super) fn splits(source: &Source<'_>) -> Vec<Split> {
    let lettered: u64 = source.profiles.iter().map(|profile| profile.lettered).sum();
    let prose: u64 = source.profiles.iter().map(|profile| profile.prose).sum();
    if lettered == 0 || prose * 4 > lettered {
        return Vec::new();
    }
    let share = |at: usize| {
        let with: u64 = source.profiles.iter().map(|profile| profile.separated[at]).sum();
        with as f64 / lettered as f64
    };
    let at = |sign: char| SEPARATORS.iter().position(|own| *own == sign).unwrap_or_default();
    let mut out = Vec::new();
    let lists = [';', ',', '|', '>', '+', '&', '/', ' '].into_iter().filter(|sign| share(at(*sign)) >= 0.1);
    let lists: Vec<Option<char>> = lists.map(Some).collect();
    out.extend(lists.iter().map(|list| Split { list: *list, ..Split::default() }));
    // Each item of a list has the sign between its parts.
    for sign in [':', '*', '=', '@', ' ', ','].into_iter().filter(|sign| share(at(*sign)) > 0.5) {
        for list in std::iter::once(None).chain(lists.iter().copied()).filter(|list| *list != Some(sign)) {
            let parts = (0..2).map(|part| Split { list, part: Some((sign, part)), ..Split::default() });
            out.extend(parts);
        }
    }
    out
}

/// A sign that some of `texts`, but not all, begin with, and a name follows: `*coal`, but `peat`.
fn mark_of_some(texts: &[&str]) -> Option<Affix> {
    let is_mark = |mark: &str| "*_!~?$@#+^%&-".contains(mark);
    let of = |text: &&&str| {
        let mark = text.get(..1).filter(|mark| is_mark(mark))?;
        text[1..].starts_with(char::is_alphanumeric).then(|| mark.to_owned())
    };
    let mut counts: BTreeMap<String, usize> = BTreeMap::new();
    texts.iter().filter_map(|text| of(&text)).for_each(|mark| *counts.entry(mark).or_default() += 1);
    let (mark, count) = counts.into_iter().max_by_key(|(_, count)| *count)?;
    (count >= 2 && count * 10 >= texts.len() && count < texts.len()).then(|| Affix::new(&mark)).flatten()
}

/// What all of `texts` have before and behind something of their own: in each way in which that can be cut at a sign,
/// since what they name may begin and end alike too.
fn shared_around(texts: &[&str]) -> Vec<(Affix, Affix)> {
    /// So many cuts on either side are tried.
    const CUTS: usize = 3;
    let Some(first) = texts.first() else { return Vec::new() };
    let before = texts.iter().fold(first.len(), |len, text| {
        let same = first.bytes().zip(text.bytes()).take_while(|(a, b)| a == b).count();
        len.min(same)
    });
    let behind = texts.iter().fold(first.len(), |len, text| {
        let same = first.bytes().rev().zip(text.bytes().rev()).take_while(|(a, b)| a == b).count();
        len.min(same)
    });
    let before = &first[..first.floor_char_boundary(before)];
    let behind = &first[first.ceil_char_boundary(first.len() - behind)..];
    // Words are not cut, and what a template would read otherwise is left alone.
    let is_sign = |c: &(usize, char)| !c.1.is_alphanumeric();
    let plain = |text: &&str| !text.contains(['{', '}', '[', ']', '"']);
    let ends = before.char_indices().filter(is_sign).map(|(at, c)| &before[..at + c.len_utf8()]);
    let starts = behind.char_indices().filter(is_sign).map(|(at, _)| &behind[at..]);
    let befores: Vec<&str> = std::iter::once("").chain(ends).filter(plain).take(CUTS + 1).collect();
    let mut behinds: Vec<&str> = starts.filter(plain).collect();
    behinds.reverse();
    behinds.truncate(CUTS);
    behinds.push("");
    let mut out = Vec::new();
    for before in &befores {
        for behind in &behinds {
            let long_enough = texts.iter().all(|text| text.len() > before.len() + behind.len());
            if long_enough && !(before.is_empty() && behind.is_empty()) {
                out.extend(Affix::new(before).zip(Affix::new(behind)));
            }
        }
    }
    out
}

/// Whether each of `texts` is a list whose first item is the number of the others.
fn are_counted(texts: &[String], separator: char) -> bool {
    const LEAST: usize = 4;
    let counted = |text: &&String| {
        let mut items = text.split(separator);
        let first = items.next().and_then(|first| first.trim().parse::<usize>().ok());
        first.is_some_and(|first| first == items.count())
    };
    let lists = || texts.iter().filter(|text| text.contains(separator));
    lists().count() >= LEAST && lists().all(|text| counted(&text))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("Gate12", "Gate")]
    #[case("gate_3", "gate")]
    #[case("gate", "gate")]
    #[case("3", "3")]
    fn families_have_no_number(#[case] name: &str, #[case] expected: &str) {
        assert_eq!(family(name), expected);
    }

    #[rstest]
    #[case("Gate1 Gate2 Gate3", true)]
    #[case("g0 g1", true)]
    #[case::does_not_begin("g2 g3", false)]
    #[case::with_a_gap("g1 g3", false)]
    #[case::only_one("g1", false)]
    #[case::no_numbers("a b", false)]
    fn families_are_numbered(#[case] names: &str, #[case] expected: bool) {
        assert_eq!(are_numbered(names.split(' ')), expected);
    }

    #[rstest]
    #[case("icon_coal.png icon_peat.png", "icon_|.png icon_| |.png")]
    #[case::cut_at_signs_only("coalpit.a coalhole.a", "|.a")]
    #[case::a_sigil("*coal *peat", "*|")]
    #[case::nothing_shared("coal peat", "")]
    #[case::nothing_left("a_b a_b", "a_| |_b")]
    fn what_stands_around_all(#[case] texts: &str, #[case] expected: &str) {
        let texts: Vec<&str> = texts.split(' ').collect();
        let found = shared_around(&texts);
        let mut shown: Vec<String> =
            found.iter().map(|(before, behind)| format!("{}|{}", before.text(), behind.text())).collect();
        let mut expected: Vec<&str> = expected.split(' ').filter(|own| !own.is_empty()).collect();
        shown.sort();
        expected.sort_unstable();
        assert_eq!(shown, expected);
    }

    #[rstest]
    #[case::some("*coal peat *salt wool", Some("*"))]
    #[case::all("*coal *salt", None)]
    #[case::only_one("*coal peat salt wool", None)]
    #[case::numbers_below_zero("- -- coal peat", None)]
    #[case::the_usual_one("?coal ?peat !salt wool", Some("?"))]
    fn marks_that_some_have(#[case] texts: &str, #[case] expected: Option<&str>) {
        let texts: Vec<&str> = texts.split(' ').collect();
        let found = mark_of_some(&texts);
        assert_eq!(found.as_ref().map(Affix::text), expected);
    }

    #[rstest]
    #[case("2|a|b 1|c 3|d|e|f 2|a|c", true)]
    #[case::one_is_wrong("2|a|b 1|c 4|d|e|f 2|a|c", false)]
    #[case::too_few("2|a|b 1|c", false)]
    #[case::no_counts("a|b b|c c|d d|e", false)]
    fn lists_with_their_count(#[case] texts: &str, #[case] expected: bool) {
        let texts: Vec<String> = texts.split(' ').map(str::to_owned).collect();
        assert_eq!(are_counted(&texts, '|'), expected);
    }
}
