//! Marks in texts that a program replaces or obeys, and that a translation must keep: `{name}`, `%d`, `$name$`, `<b>`.

use regex::Regex;
use std::sync::LazyLock;

/// What such marks look like: names and numbers in braces; conversions as `printf` has them (ISO C, 7.23.6.1), with a
/// position (POSIX); names between dollar signs; tags.
static MARK: LazyLock<Option<Regex>> = LazyLock::new(|| {
    Regex::new(concat!(
        r"\{[^{}\s]*\}",
        r"|%(?:[0-9]+\$)?[-+0#]*[0-9]*(?:\.[0-9]+)?[sdiufFeEgGxXc]\b",
        r"|%[0-9]+\b",
        r"|\$[A-Za-z_][A-Za-z0-9_.]*\$",
        r"|</?[A-Za-z][^<>]*>",
    ))
    .ok()
});

/// The marks in `text`, sorted; one that is there several times is there as often.
pub fn marks(text: &str) -> Vec<&str> {
    if !may_have_marks(text) {
        return Vec::new();
    }
    let mut out: Vec<&str> =
        MARK.iter().flat_map(|mark| mark.find_iter(text)).map(|found| found.as_str()).collect();
    out.sort_unstable();
    out
}

/// Whether there may be a mark in `text`, by a quick look.
pub fn may_have_marks(text: &str) -> bool {
    text.bytes().any(|byte| matches!(byte, b'{' | b'%' | b'$' | b'<'))
}

/// What `other` lacks of the marks of `text`, and what it has besides.
pub fn marks_that_differ<'t>(text: &'t str, other: &'t str) -> (Vec<&'t str>, Vec<&'t str>) {
    let (own, theirs) = (marks(text), marks(other));
    let without = |all: &[&'t str], gone: &[&'t str]| {
        let mut left = gone.to_vec();
        let is_left = |mark: &&&str| match left.iter().position(|own| own == *mark) {
            Some(at) => {
                left.swap_remove(at);
                false
            }
            None => true,
        };
        all.iter().filter(is_left).copied().collect::<Vec<_>>()
    };
    (without(&own, &theirs), without(&theirs, &own))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::none("Mill at the weir, 20 % off", &[])]
    #[case::braces("{name} has {0} boats", &["{0}", "{name}"])]
    #[case::blank_in_braces("{a note}", &[])]
    #[case::conversions("%s of %2$d: %.1f", &["%.1f", "%2$d", "%s"])]
    #[case::percent("100% sure", &[])]
    #[case::numbers("%1 and %2", &["%1", "%2"])]
    #[case::dollars("$BOAT$ costs $5", &["$BOAT$"])]
    #[case::tags("<b>now</b> 3 < 4", &["</b>", "<b>"])]
    fn marks_are_found(#[case] text: &str, #[case] expected: &[&str]) {
        assert_eq!(marks(text), expected);
    }

    #[rstest]
    #[case::same("{a} and %s", "%s und {a}", &[], &[])]
    #[case::lost("{a} {a}", "{a}", &["{a}"], &[])]
    #[case::other("{name}", "{nmae}", &["{name}"], &["{nmae}"])]
    fn differences_are_told(
        #[case] a: &str,
        #[case] b: &str,
        #[case] lacks: &[&str],
        #[case] besides: &[&str],
    ) {
        assert_eq!(marks_that_differ(a, b), (lacks.to_vec(), besides.to_vec()));
    }
}
