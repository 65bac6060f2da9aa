//! The data as people ask for it: what is wanted of a table, one record, what differs, what is free.
//!
//! [`Rows`](crate::rows::Rows) is the one way to a whole table as the game sees it; all else here is built on it.

mod details;
mod difference;
mod free;
mod game_log;
mod graph;
mod group;
mod query;
mod related;
mod search;
mod texts;
mod typical_values;

pub use details::{Details, FieldDetail, details, read_record};
pub use difference::{Difference, FieldDifference, How, RecordDifference, TableDifference, difference};
pub use free::{Closest, Free, FreeKind, FreeRequest, Near, free};
pub use game_log::{LogAbout, LogFinding, LogMention, LogReading, LogRecord, log_findings, read_log};
pub use graph::{Described, Direction, Graph, Node, Tree};
pub use group::{Group, Measure, group};
pub use query::{Line, Query, QueryResult};
pub use related::{Companion, Version, companions, versions};
pub use search::{Matched, Search, SearchHit, Visibility, search};
pub use texts::{Coverage, TextEntry, TextIssue, TextRecord, TextSurvey, TextUse};
pub use typical_values::{TypicalValue, usual};
