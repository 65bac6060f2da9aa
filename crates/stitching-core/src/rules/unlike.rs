//! Values that look alike and are not the same.

use super::{Findings, Found, Scope};
use crate::Error;
use hashbrown::HashMap;

/// The values of each of `fields` that look like an earlier one of the same field, and are written otherwise.
pub(super) fn find(scope: &Scope<'_>, fields: &[String]) -> Result<Findings, Error> {
    let paths = fields.iter().map(|name| scope.column(name)).collect::<Result<Vec<_>, Error>>()?;
    Ok(scope.each_group(|group, findings| {
        for path in &paths {
            let mut known: HashMap<String, (String, usize)> = HashMap::new();
            for at in group.iter().copied() {
                let value = path.held(scope.rows, scope.row(at)).shown();
                let skeleton = skeleton(&value);
                match known.get(&skeleton) {
                    _ if skeleton.is_empty() => {}
                    None => drop(known.insert(skeleton, (value, at))),
                    Some((same, _)) if *same == value => {}
                    Some((other, first)) => {
                        let message = format!("`{value}` looks like `{other}`, and is not the same");
                        let found = Found::new(at, path.own_column(), message);
                        findings.add(found.related(*first, format!("`{other}` is here")));
                    }
                }
            }
        }
    }))
}

/// What is left of a text that looks the same as others: without case, blanks and signs between words, and with one letter for
/// all that look like it.
fn skeleton(text: &str) -> String {
    let letters = text.chars().flat_map(char::to_lowercase);
    letters.filter(|letter| letter.is_alphanumeric()).map(look_alike).collect()
}

/// The letter of ASCII that a letter or digit looks like in most fonts. By the prototypes of Unicode Technical Standard 39,
/// `confusables.txt`, for Cyrillic and Greek.
fn look_alike(letter: char) -> char {
    match letter {
        '0' | 'о' | 'ο' => 'o',
        '1' | 'i' | 'і' | 'ι' | 'ı' => 'l',
        'а' | 'α' => 'a',
        'в' | 'β' => 'b',
        'с' | 'ϲ' => 'c',
        'е' | 'ε' => 'e',
        'һ' | 'н' | 'η' => 'h',
        'ј' => 'j',
        'к' | 'κ' => 'k',
        'м' | 'μ' => 'm',
        'р' | 'ρ' => 'p',
        'ѕ' => 's',
        'т' | 'τ' => 't',
        'υ' | 'у' | 'γ' => 'y',
        'х' | 'χ' => 'x',
        'ν' => 'v',
        'ω' => 'w',
        other => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::case("Mill", "mill", true)]
    #[case::blank_behind("mill ", "mill", true)]
    #[case::sign_between("old-mill", "old_mill", true)]
    #[case::cyrillic_letter("mіll", "mill", true)]
    #[case::zero("p0ol", "pool", true)]
    #[case::one("pooI", "poo1", true)]
    #[case::other("mill", "mills", false)]
    #[case::numbers("reach2", "reach3", false)]
    fn what_looks_alike_has_one_skeleton(#[case] a: &str, #[case] b: &str, #[case] alike: bool) {
        assert_eq!(skeleton(a) == skeleton(b), alike);
    }
}
