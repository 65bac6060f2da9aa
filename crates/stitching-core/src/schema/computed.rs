//! Fields whose value follows from others: `[[computed]]`.

use super::TableId;
use crate::problem::Place;

/// A field whose value follows from others.
#[derive(Debug, Clone)]
pub struct Computed {
    /// The table of its records.
    pub table: TableId,
    /// The name of the field, as a column of the table.
    pub field: String,
    /// The key of the one record that is meant, as shown; all records of the table without it.
    pub record: Option<String>,
    /// The expression that a record must meet.
    pub when: Option<String>,
    /// The expression that gives the value, over the columns of the record.
    pub value: String,
    /// The names of the other tables that the expressions ask.
    pub asked: Vec<String>,
    /// Whether an expression follows a reference to another table.
    pub follows: bool,
    /// Where the schema says so.
    pub place: Place,
}
