//! What kind of values a column holds: types, choices, flags for yes and no.

use super::names::{names_flags, names_identifier};
use super::profile::{Profile, ValueCount};
use super::proposal::Band;
use super::references::is_usual_none;

/// What a column seems to hold.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Kind {
    pub band: Band,
    pub says: String,
    pub settings: Vec<(String, String)>,
    pub fit: u64,
    pub reasons: Vec<String>,
    /// Values that stand for "nothing", with their counts.
    pub none: Vec<(String, u64)>,
}

/// A choice has at most so many values.
const MOST_CHOICES: usize = 16;
/// Of whole numbers so many are looked at for bits that are set in them.
const MOST_NUMBERS: usize = 64;

/// The values whose texts are needed to tell the kind: all, if they are few; else the most frequent of
/// those that are no numbers.
pub(super) fn telling(profile: &Profile) -> Vec<ValueCount> {
    let most = if profile.integers == profile.values { MOST_NUMBERS } else { MOST_CHOICES };
    let few = profile.level == 0 && profile.distinct.len() <= most;
    let told = if few { &profile.distinct } else { &profile.words };
    let mut seen: Vec<ValueCount> = told.values().copied().collect();
    seen.sort_by_key(|seen| (std::cmp::Reverse(seen.count), seen.file, seen.cell.span.start));
    seen
}

/// What a column holds; `texts` belong to [`telling`].
pub(super) fn kind_of(
    profile: &Profile,
    is_key: bool,
    telling: &[ValueCount],
    texts: &[String],
) -> Option<Kind> {
    if profile.values == 0 {
        return None;
    }
    let odd: Vec<(&String, u32)> = texts
        .iter()
        .zip(telling)
        .filter(|(text, _)| crate::text::number(text).is_none())
        .map(|(text, seen)| (text, seen.count))
        .collect();
    let odd_values = profile.values - profile.numbers;
    // Numbers, but for a sign that stands for "nothing".
    let one_sign = odd.len() == 1 && odd_values == u64::from(odd[0].1) && odd[0].0.chars().count() <= 4;
    if profile.numbers * 100 >= profile.values * 97 || (one_sign && profile.numbers * 2 > profile.values) {
        return Some(numbers(profile, is_key, one_sign.then(|| odd[0].0.clone()), odd_values));
    }
    if profile.booleans == profile.values {
        return Some(Kind {
            band: Band::Accept,
            says: "true or false".to_owned(),
            settings: vec![("type".to_owned(), "\"boolean\"".to_owned())],
            fit: profile.values,
            reasons: Vec::new(),
            none: Vec::new(),
        });
    }
    let few = profile.distinct.len() <= MOST_CHOICES && texts.len() == profile.distinct.len();
    if few
        && !is_key
        && profile.prose == 0
        && profile.values >= 4 * profile.distinct.len() as u64
        && profile.distinct.len() >= 2
    {
        let nothing = |text: &String| is_usual_none(text) && !text.chars().any(char::is_alphanumeric);
        let none: Vec<(String, u64)> = texts
            .iter()
            .zip(telling)
            .filter(|(text, _)| nothing(text))
            .map(|(text, seen)| (text.clone(), u64::from(seen.count)))
            .collect();
        let mut values: Vec<&String> = texts.iter().filter(|text| !nothing(text)).collect();
        if values.len() < 2 || profile.spaced * 3 > profile.values {
            return None;
        }
        values.sort();
        let again = telling.iter().filter(|seen| seen.count >= 2).count();
        let shown: Vec<String> = values.iter().map(|value| crate::settings::toml_text(value)).collect();
        let all_again = again == telling.len();
        let sure = all_again && profile.values >= 8 * profile.distinct.len() as u64 && profile.most <= 1;
        let mut settings = vec![("choice".to_owned(), format!("[{}]", shown.join(", ")))];
        if let Some((one, _)) = none.first() {
            settings.push(("none".to_owned(), crate::settings::toml_text(one)));
        }
        return Some(Kind {
            band: if sure { Band::Accept } else { Band::Ask },
            says: format!("one of {} values", values.len()),
            settings,
            fit: profile.values,
            reasons: if all_again { Vec::new() } else { vec!["some are there only once".to_owned()] },
            none,
        });
    }
    None
}

fn numbers(profile: &Profile, is_key: bool, none: Option<String>, odd: u64) -> Kind {
    let whole = profile.integers == profile.numbers;
    let mut settings = vec![("type".to_owned(), if whole { "\"integer\"" } else { "\"number\"" }.to_owned())];
    let mut reasons = Vec::new();
    let mut fit = profile.numbers;
    let mut nothing = Vec::new();
    let mut says = if whole { "whole numbers" } else { "numbers" }.to_owned();
    if let Some(none) = none {
        settings.push(("none".to_owned(), crate::settings::toml_text(&none)));
        nothing.push((none, odd));
        fit += odd;
    } else if whole && profile.minus_one >= 2 && profile.negative == 0 && !is_key {
        // -1 among numbers that are never below 0 otherwise, and there more than once.
        settings.push(("none".to_owned(), "\"-1\"".to_owned()));
        nothing.push(("-1".to_owned(), profile.minus_one));
    }
    says += &format!(" from {} to {}", profile.lowest, profile.highest);
    let band = if odd == 0 || fit == profile.values {
        Band::Accept
    } else {
        reasons.push("some values are no numbers".to_owned());
        if odd * 100 <= profile.values && profile.values >= 50 { Band::Accept } else { Band::Ask }
    };
    Kind { band, says, settings, fit, reasons, none: nothing }
}

/// Whether a column holds whole numbers that follow one another, each once.
pub(super) fn is_dense(profile: &Profile) -> bool {
    const LEAST: u64 = 5;
    profile.level == 0
        && profile.values >= LEAST
        && profile.integers == profile.values
        && profile.distinct.len() as u64 == profile.values
        && profile.highest - profile.lowest + 1.0 == profile.values as f64
}

/// The bits that the whole numbers of a column called `name` are made of, lowest first: each is there alone, or the
/// name says that they are flags, or most are there alone and the others are few beside what could be made of them.
/// `None` if they are numbers like others. `texts` are all its values, if they are few.
pub(super) fn bits(name: &str, profile: &Profile, texts: &[String]) -> Option<Vec<i64>> {
    /// Fewer bits, or fewer numbers beside 0, say little.
    const LEAST: usize = 4;
    if profile.level > 0 || texts.len() != profile.distinct.len() {
        return None;
    }
    let mut numbers: Vec<i64> = texts.iter().map(|text| text.parse().ok()).collect::<Option<_>>()?;
    numbers.retain(|number| *number != 0);
    if numbers.iter().any(|number| *number < 0) {
        return None;
    }
    let set = numbers.iter().fold(0, |set, number| set | number);
    let bits: Vec<i64> = (0..63).map(|bit| 1 << bit).filter(|bit| set & bit != 0).collect();
    if names_flags(name) && numbers.len() >= 2 && bits.len() >= 2 {
        return Some(bits);
    }
    let alone = bits.iter().filter(|bit| numbers.contains(bit)).count();
    // Sizes such as 64, 128 and 96 are made of few bits too, but not of the lowest.
    let from_the_lowest = bits.first().is_some_and(|first| *first <= 2);
    let several = numbers.len() - alone;
    let could_be = 1usize.checked_shl(bits.len() as u32).unwrap_or(usize::MAX);
    let is_made = several == 0
        || bits.len() > LEAST && alone * 4 >= bits.len() * 3 && from_the_lowest && several * 16 <= could_be;
    (bits.len() >= LEAST && is_made && alone >= LEAST).then_some(bits)
}

/// Lists of numbers that add up to the same.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Total {
    /// What separates the items.
    pub separator: char,
    /// What they add up to.
    pub total: f64,
}

/// Whether a column holds lists of numbers that all add up to the same. `texts` are its most frequent values.
pub(super) fn total(profile: &Profile, texts: &[String]) -> Option<Total> {
    const LEAST: usize = 4;
    if profile.numbers > 0 || profile.lettered > 0 || texts.len() < LEAST {
        return None;
    }
    let sum = |text: &String, separator: char| -> Option<f64> {
        let items: Vec<f64> =
            text.split(separator).map(|item| crate::text::number(item.trim())).collect::<Option<_>>()?;
        (items.len() > 1).then(|| items.iter().sum())
    };
    [';', ',', '|', '/', ':', '+', ' '].into_iter().find_map(|separator| {
        let total = sum(&texts[0], separator)?;
        let same = |text: &String| sum(text, separator).is_some_and(|own| (own - total).abs() < 1e-9);
        texts.iter().all(same).then_some(Total { separator, total })
    })
}

/// The lowest and the highest number of a column of numbers, if there are several different ones.
pub(super) fn range(profile: &Profile) -> Option<(f64, f64)> {
    let several = profile.level > 0 || profile.distinct.len() > 2 || profile.integers < profile.numbers;
    (profile.numbers == profile.values && several && profile.lowest < profile.highest)
        .then_some((profile.lowest, profile.highest))
}

/// Whether a column that is no key could be meant to be unique: all its values are different, and its name
/// or its kind says that they name something.
pub(super) fn seems_unique(name: &str, profile: &Profile, records: u64) -> bool {
    records >= 20 && profile.is_unique(records) && profile.is_identifiers() && names_identifier(name)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::learn::profile::Profile;
    use rstest::rstest;

    /// A column of these values, and the different ones; the number of a value stands for its place.
    fn column(values: &str) -> (Profile, Vec<String>) {
        let mut profile = Profile::default();
        let mut texts: Vec<String> = Vec::new();
        for value in values.split(' ') {
            let at = texts.iter().position(|text| text == value).unwrap_or_else(|| {
                texts.push(value.to_owned());
                texts.len() - 1
            });
            profile.add_stem(value, at);
        }
        (profile, texts)
    }

    #[rstest]
    #[case::each_alone("kind", "1 2 4 8 8 1", Some("1 2 4 8"))]
    #[case::nothing_set_too("kind", "0 1 2 4 8", Some("1 2 4 8"))]
    #[case::some_together("kind", "1 2 4 8 16 32 3 12", Some("1 2 4 8 16 32"))]
    #[case::by_their_name("Flags", "5 6 64", Some("1 2 4 64"))]
    #[case::numbers_in_a_row("kind", "1 2 3 4 5 6 7 8", None)]
    #[case::sizes("width", "64 128 256 512 96 192", None)]
    #[case::prices("price", "1 2 5 10 20 50 100", None)]
    #[case::below_zero("flags", "-1 2 4", None)]
    #[case::fractions("flags", "1.5 2 4", None)]
    #[case::words("flags", "red green", None)]
    #[case::too_few("kind", "1 2 4", None)]
    fn bits_are_told_from_numbers(#[case] name: &str, #[case] values: &str, #[case] expected: Option<&str>) {
        let (profile, texts) = column(values);
        let found = bits(name, &profile, &texts);
        let shown = found.map(|bits| bits.iter().map(i64::to_string).collect::<Vec<_>>().join(" "));
        assert_eq!(shown.as_deref(), expected);
    }

    #[rstest]
    #[case("50,50 20,30,50 10,90 99,1", Some((',', 100.0)))]
    #[case("0.5/0.5 0.25/0.75 1/0 0.1/0.9", Some(('/', 1.0)))]
    #[case::not_the_same("50,50 20,30,40 10,90 99,1", None)]
    #[case::too_few("50,50 20,80 10,90", None)]
    #[case::no_numbers("a,b c,d e,f g,h", None)]
    fn lists_that_add_up(#[case] values: &str, #[case] expected: Option<(char, f64)>) {
        let (profile, texts) = column(values);
        assert_eq!(total(&profile, &texts).map(|own| (own.separator, own.total)), expected);
    }

    #[rstest]
    #[case("3 4 5 6 7", true)]
    #[case::in_any_order("7 5 3 4 6", true)]
    #[case::with_a_gap("3 4 5 6 8", false)]
    #[case::twice("3 4 5 6 6", false)]
    #[case::too_few("1 2 3", false)]
    fn numbers_without_a_gap(#[case] values: &str, #[case] expected: bool) {
        assert_eq!(is_dense(&column(values).0), expected);
    }

    #[rstest]
    #[case::yes_and_no("yes no yes yes", "true or false")]
    #[case::whole("1 2 3", "whole numbers from 1 to 3")]
    #[case::minus_one_for_nothing("3 -1 4 -1", "whole numbers from -1 to 4, none -1")]
    #[case::a_sign_for_nothing("3 - 4 5", "whole numbers from 3 to 5, none -")]
    #[case::below_zero_is_meant("3 -1 -4 -1", "whole numbers from -4 to 3")]
    #[case::points("0.5 2", "numbers from 0.5 to 2")]
    #[case::choice("a b a b a b a b", "one of 2 values")]
    #[case::names("a b c d", "nothing")]
    fn kinds_of_values(#[case] values: &str, #[case] expected: &str) {
        let (profile, all) = column(values);
        let seen = telling(&profile);
        let texts: Vec<String> = seen.iter().map(|own| all[own.file as usize].clone()).collect();
        let told = kind_of(&profile, false, &seen, &texts).map(|kind| {
            let none: Vec<String> = kind.none.into_iter().map(|(none, _)| format!(", none {none}")).collect();
            kind.says + &none.concat()
        });
        assert_eq!(told.as_deref().unwrap_or("nothing"), expected);
    }
}
