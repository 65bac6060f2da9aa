//! Regular expressions that are compiled when they are first used.
//!
//! A schema has hundreds, of which one command uses a few; to compile them all took most of the time of a short command.

use regex::Regex;
use regex_automata::util::syntax;
use std::sync::OnceLock;

/// An expression that is known to be sound, and compiled at its first use.
#[derive(Debug, Clone)]
pub struct LazyRegex {
    pattern: String,
    compiled: OnceLock<Option<Regex>>,
}

/// An expression of at most so many bytes without counted repetitions compiles to far less than the limit of `regex`.
const SURELY_SMALL: usize = 200;

impl LazyRegex {
    /// Takes an expression in the syntax of the `regex` crate. One that might be too large is compiled at once.
    ///
    /// # Errors
    /// When it is no regular expression, or takes more memory than one may.
    pub fn new(pattern: String) -> Result<LazyRegex, regex::Error> {
        let counts = |rest: &str| !rest.starts_with(char::is_alphabetic);
        let is_counted = pattern.split('{').skip(1).any(counts);
        let is_small = pattern.len() <= SURELY_SMALL && !is_counted;
        let compiled = match is_small && syntax::parse(&pattern).is_ok() {
            true => OnceLock::new(),
            false => OnceLock::from(Some(Regex::new(&pattern)?)),
        };
        Ok(LazyRegex { pattern, compiled })
    }

    /// The expression as it is written.
    pub fn pattern(&self) -> &str {
        &self.pattern
    }

    /// The compiled expression. It is always there: [`LazyRegex::new`] refuses what cannot be compiled.
    #[inline]
    pub fn get(&self) -> Option<&Regex> {
        self.compiled.get_or_init(|| Regex::new(&self.pattern).ok()).as_ref()
    }
}

#[cfg(test)]
mod tests {
    use super::LazyRegex;
    use rstest::rstest;

    #[rstest]
    #[case::small("a+", true)]
    #[case::a_repetition("a{3}", true)]
    #[case::a_boundary(r"\b{start}a", true)]
    #[case::no_boundary(r"\b{strat}a", false)]
    #[case::no_expression("a(", false)]
    #[case::a_group_named_twice("(?<a>x)(?<a>y)", false)]
    #[case::looking_ahead("a(?=b)", false)]
    #[case::large(r"\w{5000}{5000}", false)]
    fn what_cannot_be_compiled_is_refused(#[case] pattern: &str, #[case] is_sound: bool) {
        let regex = LazyRegex::new(pattern.to_owned());
        assert_eq!(regex.is_ok(), is_sound);
        assert!(regex.is_err() || regex.is_ok_and(|regex| regex.get().is_some()));
    }

    /// The costliest classes, as many as fit: what is not compiled at once can be compiled.
    #[rstest]
    #[case(r"\w")]
    #[case(r"(?i)\p{L}")]
    #[case(r"[^\d\s]")]
    #[case(".*?")]
    fn what_is_small_is_far_from_the_limit(#[case] class: &str) {
        let pattern = class.repeat(super::SURELY_SMALL / class.len());
        assert!(LazyRegex::new(pattern).is_ok_and(|regex| regex.get().is_some()));
    }
}
