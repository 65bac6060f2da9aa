//! What the game writes into its log about records: `[[log]]`.

use super::TableId;
use crate::problem::Place;
use regex::Regex;

/// The shape of lines of the game's log.
#[derive(Debug, Clone)]
pub struct LogPattern {
    /// A regular expression whose groups tell what a line is about.
    pub pattern: Regex,
    /// The table of the record that the groups `key` and `name` speak of, if it is known.
    pub table: Option<TableId>,
    /// Where the schema says so.
    pub place: Place,
}

/// The names of groups in the pattern: the path of a file or the end of one, a line of that file, the key of a record, what a
/// record is called by people.
pub const LOG_GROUPS: [&str; 4] = ["file", "line", "key", "name"];
