//! Globs for paths: `*` within a name, `**` for any folders.

use globset::{Glob, GlobBuilder, GlobMatcher};
use std::sync::OnceLock;

/// A pattern for paths with `/` between names, compiled when it is first needed.
#[derive(Debug, Clone)]
pub struct PathGlob {
    glob: Glob,
    /// Nothing in it stands for anything else: paths are compared with it.
    is_plain: bool,
    matcher: OnceLock<GlobMatcher>,
}

/// The longest pattern, in bytes: no path is longer, and what it compiles to stays small.
const LONGEST: usize = 4096;

impl PathGlob {
    /// Reads a pattern; `ignore_case` takes letters of either case as the same.
    ///
    /// # Errors
    /// Why it is no pattern, in a few words.
    pub fn parse(pattern: &str, ignore_case: bool) -> Result<PathGlob, String> {
        if pattern.len() > LONGEST {
            return Err(format!("it is longer than {LONGEST} bytes"));
        }
        let glob = GlobBuilder::new(pattern).literal_separator(true).case_insensitive(ignore_case).build();
        let glob = glob.map_err(|error| error.kind().to_string())?;
        let is_plain = !ignore_case && !pattern.contains(['*', '?', '[', ']', '{', '}', '\\']);
        Ok(PathGlob { glob, is_plain, matcher: OnceLock::new() })
    }

    /// Whether it takes a path.
    #[inline]
    pub fn takes(&self, path: &str) -> bool {
        match self.is_plain {
            true => self.glob.glob() == path,
            false => self.matcher.get_or_init(|| self.glob.compile_matcher()).is_match(path),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::PathGlob;
    use rstest::rstest;

    #[rstest]
    #[case("a/b.txt", "a/b.txt", true)]
    #[case("a/b.txt", "a/B.txt", false)]
    #[case("a/*.txt", "a/b.txt", true)]
    #[case("a/*.txt", "a/b/c.txt", false)]
    #[case("**/c.txt", "a/b/c.txt", true)]
    #[case("**/c.txt", "c.txt", true)]
    #[case("a/[bc].txt", "a/c.txt", true)]
    #[case("a?c", "a/c", false)]
    fn paths_it_takes(#[case] pattern: &str, #[case] path: &str, #[case] takes: bool) {
        assert_eq!(PathGlob::parse(pattern, false).expect("a pattern").takes(path), takes);
    }

    #[test]
    fn case_is_told_apart_unless_it_is_to_be_ignored() {
        assert!(PathGlob::parse("A.ZIP", true).expect("a pattern").takes("a.zip"));
        assert!(!PathGlob::parse("A.ZIP", false).expect("a pattern").takes("a.zip"));
    }

    #[rstest]
    #[case("a[b".to_owned())]
    #[case("*".repeat(5000))]
    fn what_is_no_pattern(#[case] pattern: String) {
        assert!(PathGlob::parse(&pattern, false).is_err());
    }

    /// The longest and widest there may be can be compiled.
    #[rstest]
    #[case("*")]
    #[case("?")]
    #[case("[!a]")]
    #[case("ż")]
    fn the_longest(#[case] unit: &str) {
        let pattern = unit.repeat(super::LONGEST / unit.len());
        PathGlob::parse(&pattern, true).expect("a pattern").takes("a");
    }
}
