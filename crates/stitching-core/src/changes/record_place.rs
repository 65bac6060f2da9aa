//! Where a new record goes, and the key that it gets there in a table whose records are named by their position.

use super::rename::new_key;
use crate::Error;
use crate::formats::Place;
use crate::help::NextStep;
use crate::layers::FileId;
use crate::links::Address;
use crate::rows::{Row, Rows};
use crate::schema::KeyPart;
use crate::tables::KEY_SEPARATOR;
use crate::text::{Span, number};
use serde::{Deserialize, Serialize};

/// The word that stands for the next free key.
pub(super) const NEW: &str = "new";

/// Where a new record goes.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub enum RecordPlace {
    /// Behind those of its group; where all are in the order of their keys, in that order. A copy goes behind its original.
    #[default]
    Fitting,
    /// Before all others of its file.
    First,
    /// Behind all others of its file.
    Last,
    /// Directly before the record with this key.
    Before(String),
    /// Directly behind the record with this key.
    After(String),
    /// Into the file at this path.
    In(String),
}

/// On which side of another record a new one goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Side {
    Before,
    After,
}

impl Side {
    /// The place on this side of the record at `span`.
    pub fn of(self, span: Span) -> Place {
        match self {
            Side::Before => Place::Before(span),
            Side::After => Place::After(span),
        }
    }
}

/// The record that `place` names, and on which side of it the new one goes.
///
/// # Errors
/// When there is no such record.
pub(super) fn beside<'r>(rows: &'r Rows, place: &RecordPlace) -> Result<Option<(&'r Row, Side)>, Error> {
    Ok(match place {
        RecordPlace::Before(key) => Some((row_with_key(rows, key)?, Side::Before)),
        RecordPlace::After(key) => Some((row_with_key(rows, key)?, Side::After)),
        RecordPlace::Fitting | RecordPlace::First | RecordPlace::Last | RecordPlace::In(_) => None,
    })
}

/// The record whose key is shown so.
///
/// # Errors
/// When there is none.
pub(super) fn row_with_key<'r>(rows: &'r Rows, key: &str) -> Result<&'r Row, Error> {
    let found = rows.rows.iter().find(|row| row.shown_key() == key);
    found.ok_or_else(|| {
        let keys: Vec<String> = rows.rows.iter().map(Row::shown_key).collect();
        let near = crate::text::nearest_of(key, keys.iter().map(String::as_str));
        let help = match near.first() {
            Some(near) => format!("did you mean `{near}`?").into(),
            None => NextStep::SearchEverything(key.to_owned()).into(),
        };
        Error::Unknown { what: "record", name: Address::show(&rows.table.name, key), help }
    })
}

/// The key that a new record gets in `file` as the last of its group, where positions name the records: `wanted` as people write it,
/// with `new` for the position, or nothing but `new` for one of the group of `old`, a key as kept in memory.
///
/// # Errors
/// When `wanted` has another number of parts, names a position, or cannot be a key.
pub(super) fn last_position(rows: &Rows, old: &str, wanted: &str, file: FileId) -> Result<String, Error> {
    let table = &rows.table;
    let at = table.key.iter().position(|part| *part == KeyPart::Position).unwrap_or_default();
    let mut parts: Vec<&str> = old.split(KEY_SEPARATOR).collect();
    let former = parts.get(at).copied().unwrap_or_default();
    if wanted != NEW {
        parts = if table.key.len() == 1 { vec![wanted] } else { wanted.split('/').collect() };
        if parts.len() == table.key.len() && parts[at] != NEW {
            return Err(Error::Usage {
                message: format!("the records of `{}` are named by their position", table.name),
                help: format!(
                    "write `{NEW}` for it, and beside which record it goes if that is not the last one"
                )
                .into(),
            });
        }
        if let Some(part) = parts.get_mut(at) {
            *part = former;
        }
    }
    let own = parts.join(&KEY_SEPARATOR.to_string());
    if own != old {
        new_key(table, old, &parts.join("/"))?;
    }
    let position = (group(rows, &own, file).count() as u64 + u64::from(table.first)).to_string();
    parts[at] = &position;
    Ok(parts.join(&KEY_SEPARATOR.to_string()))
}

/// The last record in `file` whose key, as kept in memory, is `key` in all but the position.
pub(super) fn last_of_group<'r>(rows: &'r Rows, key: &str, file: FileId) -> Option<&'r Row> {
    group(rows, key, file).max_by_key(|row| row.span.start)
}

/// The records in `file` whose keys are `key` in all but the position.
fn group<'r>(rows: &'r Rows, key: &str, file: FileId) -> impl Iterator<Item = &'r Row> {
    let wanted: Vec<String> = key.split(KEY_SEPARATOR).map(str::to_owned).collect();
    rows.rows.iter().filter(move |row| {
        let own = row.key.as_deref().unwrap_or_default().split(KEY_SEPARATOR);
        let mut parts = rows.table.key.iter().zip(own.zip(&wanted));
        row.file == file
            && row.key.is_some()
            && parts.all(|(part, (own, wanted))| *part == KeyPart::Position || own == wanted)
    })
}

/// The place of the record that a new one stands behind: where `rows` are in the order of their keys the last one with a
/// lower key, else the last one. Nothing if it comes before all.
pub(super) fn fitting(rows: &[&Row], key: &str) -> Option<Span> {
    const FEWEST: usize = 3;
    fn last(key: &str) -> &str {
        key.rsplit(KEY_SEPARATOR).next().unwrap_or_default()
    }
    let keys: Vec<&str> = rows.iter().map(|row| last(row.key.as_deref().unwrap_or_default())).collect();
    let own = last(key);
    let less = |a: &str, b: &str| match (number(a), number(b)) {
        (Some(a), Some(b)) => a < b,
        _ => a < b,
    };
    let in_order = keys.len() >= FEWEST && keys.windows(2).all(|pair| less(pair[0], pair[1]));
    if !in_order {
        return rows.last().map(|row| row.span);
    }
    let before = keys.iter().rposition(|other| less(other, own));
    before.map(|at| rows[at].span)
}
