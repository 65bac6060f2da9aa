//! From records of one table to records of another: `[[transfer]]`.

use super::TableId;
use crate::problem::Place;

/// A mapping from records of one table to records of another.
#[derive(Debug, Clone)]
pub struct Transfer {
    /// Its name.
    pub name: String,
    /// What it does, for people.
    pub about: Option<String>,
    /// The table that the records come from.
    pub from: TableId,
    /// The condition that they meet, an expression.
    pub when: Option<String>,
    /// The table that they go to.
    pub to: TableId,
    /// The expressions that give the parts of the key there.
    pub key: Vec<String>,
    /// The fields there, and the expression that gives each.
    pub set: Vec<TransferField>,
    /// Whether records there that none come to are removed.
    pub remove: bool,
    /// The condition over the records there that limits which are looked at.
    pub among: Option<String>,
    /// Whether it is done with each change that touches the table that records come from.
    pub in_step: bool,
    /// Where the schema says so.
    pub place: Place,
}

/// A field of the records that something goes to.
#[derive(Debug, Clone)]
pub struct TransferField {
    /// Its name.
    pub name: String,
    /// The expression that gives its value.
    pub value: String,
    /// To how many digits behind the point a number is rounded.
    pub digits: Option<u8>,
}
