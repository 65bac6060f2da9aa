//! The shape that the values of a field must have.

use crate::text::LazyRegex;
use regex::Regex;
use regex_automata::Anchored;
use regex_automata::dfa::{Automaton, StartKind, dense};
use regex_automata::nfa::thompson;
use regex_automata::util::primitives::StateID;
use regex_automata::util::start;
use std::sync::OnceLock;

/// A regular expression (in the syntax of the `regex` crate) that a whole value must match.
#[derive(Debug, Clone)]
pub struct Pattern {
    written: String,
    regex: LazyRegex,
    /// For small expressions a table of all states, which costs little to start; identifiers are
    /// short and there may be millions of them. Made when the first value is looked at.
    table: OnceLock<Option<Table>>,
}

/// All states of an expression, and the one to begin in.
type Table = (dense::DFA<Vec<u32>>, StateID);

/// A larger table is not made; large classes of letters would fill many megabytes.
const MOST_BYTES: usize = 1 << 20;

/// Why a text cannot be used as a regular expression.
pub fn why_not_regex(written: &str) -> String {
    match Regex::new(written) {
        Err(regex::Error::CompiledTooBig(most)) => {
            format!("takes more than the {} MB that an expression may", most >> 20)
        }
        _ => "is not a regular expression".to_owned(),
    }
}

impl Pattern {
    /// Reads an expression; `None` if it is not one.
    pub fn new(written: &str) -> Option<Pattern> {
        let regex = LazyRegex::new(format!("^(?:{written})$")).ok()?;
        Some(Pattern { written: written.to_owned(), regex, table: OnceLock::new() })
    }

    /// The expression as written in the schema.
    pub fn written(&self) -> &str {
        &self.written
    }

    /// Whether all of `value` matches.
    #[inline]
    pub fn matches(&self, value: &str) -> bool {
        self.by_table(value).unwrap_or_else(|| self.regex.get().is_some_and(|regex| regex.is_match(value)))
    }

    /// The answer of the table; `None` if there is none, or it gives up.
    #[inline]
    fn by_table(&self, value: &str) -> Option<bool> {
        let (table, start) = self.table.get_or_init(|| table_of(self.regex.pattern())).as_ref()?;
        let mut state = *start;
        for byte in value.bytes() {
            state = table.next_state(state, byte);
            if table.is_special_state(state) {
                if table.is_dead_state(state) {
                    return Some(false);
                }
                if table.is_quit_state(state) {
                    return None;
                }
            }
        }
        Some(table.is_match_state(table.next_eoi_state(state)))
    }
}

/// The table of all states of `pattern`, if it is small.
fn table_of(pattern: &str) -> Option<Table> {
    let limits = dense::Config::new()
        .start_kind(StartKind::Anchored)
        .dfa_size_limit(Some(MOST_BYTES))
        .determinize_size_limit(Some(MOST_BYTES));
    let small = thompson::Config::new().nfa_size_limit(Some(MOST_BYTES));
    let table = dense::Builder::new().configure(limits).thompson(small).build(pattern).ok()?;
    let anchored = start::Config::new().anchored(Anchored::Yes);
    let start = table.start_state(&anchored).ok()?;
    Some((table, start))
}

#[cfg(test)]
mod tests {
    use super::Pattern;
    use rstest::rstest;

    #[rstest]
    #[case("[a-z][a-z0-9_]*", "frost_cut2", true)]
    #[case("[a-z][a-z0-9_]*", "frost cut", false)]
    #[case("[a-z][a-z0-9_]*", "frost\n", false)]
    #[case("a|bc", "bc", true)]
    #[case("a|bc", "abc", false)]
    #[case(r"\w+", "żółw", true)]
    #[case(r"\w{1,200}", "żółw", true)]
    #[case("", "", true)]
    #[case("(?i)FROST", "frost", true)]
    fn the_whole_value_must_match(#[case] pattern: &str, #[case] value: &str, #[case] matches: bool) {
        assert_eq!(Pattern::new(pattern).expect("an expression").matches(value), matches);
    }
}
