//! Names by pattern in the paths of formats that nest: `room_*`, and all but some: `!meta`.

use crate::text::LazyRegex;

/// A pattern for names: `*` stands for any letters, `?` for one; behind a `!` it takes all others.
#[derive(Debug, Clone)]
pub(crate) struct NamePattern {
    source: String,
    is_negated: bool,
    regex: LazyRegex,
}

impl NamePattern {
    /// The pattern that `source` is, if it is one and not just a name.
    pub fn parse(source: &str) -> Option<NamePattern> {
        let (is_negated, inner) = match source.strip_prefix('!') {
            Some(inner) if !inner.is_empty() => (true, inner),
            _ => (false, source),
        };
        if !is_negated && !inner.contains(['*', '?']) {
            return None;
        }
        let escaped = regex::escape(inner).replace("\\*", ".*").replace("\\?", ".");
        let regex = LazyRegex::new(format!("(?s)^{escaped}$")).ok()?;
        Some(NamePattern { source: source.to_owned(), is_negated, regex })
    }

    /// The pattern as written.
    pub fn source(&self) -> &str {
        &self.source
    }

    /// Whether it takes `name`.
    pub fn takes(&self, name: &str) -> bool {
        self.regex.get().is_some_and(|regex| regex.is_match(name)) != self.is_negated
    }
}

impl PartialEq for NamePattern {
    fn eq(&self, other: &NamePattern) -> bool {
        self.source == other.source
    }
}

impl Eq for NamePattern {}

#[cfg(test)]
mod tests {
    use super::NamePattern;
    use rstest::rstest;

    #[rstest]
    #[case("room_*", "room_a", true)]
    #[case("room_*", "bedroom_a", false)]
    #[case("r?m", "ram", true)]
    #[case("r?m", "room", false)]
    #[case("!meta", "meta", false)]
    #[case("!meta", "metal", true)]
    #[case("!room_*", "room_a", false)]
    #[case("!room_*", "meta", true)]
    #[case("a.*", "axb", false)]
    fn names_that_are_taken(#[case] pattern: &str, #[case] name: &str, #[case] taken: bool) {
        assert_eq!(NamePattern::parse(pattern).expect("a pattern").takes(name), taken);
    }

    #[rstest]
    #[case("room")]
    #[case("!")]
    #[case("")]
    fn plain_names_are_none(#[case] name: &str) {
        assert_eq!(NamePattern::parse(name), None);
    }
}
