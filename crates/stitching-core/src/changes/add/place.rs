//! Where new records go.

use super::{RecordPlace, Work};
use crate::Error;
use crate::changes::rename::{key_of_path, path_for_key};
use crate::changes::switch::is_whole_file;
use crate::formats::Place;
use crate::layers::{FileId, RelPath};
use crate::rows::{Row, Rows};
use crate::schema::{KeyPart, Table};
use crate::tables::{KEY_SEPARATOR, shown_key};
use crate::text::{Span, number};

impl Work<'_> {
    /// Where the file of a new record goes, where each has its own.
    pub(super) fn new_file(
        &self,
        table: &Table,
        model: &Row,
        path: &RelPath,
        key: &str,
    ) -> Result<Option<RelPath>, Error> {
        let last = key.rsplit(KEY_SEPARATOR).next().unwrap_or_default();
        let to = match table.key[..] {
            _ if table.is_keyed_by_path() => {
                let old = key_of_path(table, path).unwrap_or_default();
                let new = path_for_key(table, path, &old, key)?;
                RelPath::parse(&new.path)
            }
            // A file that may be empty, and has another name than its records, holds any number of them.
            _ if table.format.may_be_empty() && !table.is_keyed_by_file() => return Ok(None),
            _ if !table.merged && is_whole_file(self.project, table, model.file, &[model.span])? => {
                path.with_stem(last)
            }
            _ => return Ok(None),
        };
        to.map(Some).map_err(|error| Error::refused(error.to_string(), "choose another key"))
    }

    /// The file that a new record goes into: of a key with a part of the path the one that has it.
    pub(super) fn target(&self, table: &Table, rows: &Rows, model: &Row, key: &str) -> Result<FileId, Error> {
        let parts: Vec<(&KeyPart, &str)> = table.key.iter().zip(key.split(KEY_SEPARATOR)).collect();
        if !parts.iter().any(|(part, _)| part.is_of_path()) {
            return Ok(model.file);
        }
        let fits = |path: &RelPath| {
            parts.iter().all(|(part, wanted)| match part {
                KeyPart::Field(_) | KeyPart::Position => true,
                part => table.of_path(**part, path) == Some(wanted),
            })
        };
        let found = rows.paths.iter().filter(|(_, path)| fits(path)).map(|(file, _)| *file).max();
        found.ok_or_else(|| {
            Error::refused(
                format!("there is no file for `{}`", shown_key(key)),
                "copy the record that the file is named after; nothing was changed",
            )
        })
    }

    /// Where in its file a new record goes.
    pub(super) fn place(
        &self,
        table: &Table,
        rows: &Rows,
        model: &Row,
        target: FileId,
        key: &str,
    ) -> Result<Place, Error> {
        let in_file: Vec<&Row> = rows.rows.iter().filter(|row| row.file == target).collect();
        // Where positions name the records, a new one is put beside another only when it is there.
        let counted = table.key.contains(&KeyPart::Position);
        let asked = if counted { &RecordPlace::Fitting } else { self.asked_place(rows.id) };
        Ok(match asked {
            RecordPlace::Before(_) => Place::Before(model.span),
            RecordPlace::After(_) => Place::After(model.span),
            RecordPlace::First => in_file.first().map_or(Place::First, |row| Place::Before(row.span)),
            RecordPlace::Last => in_file.last().map_or(Place::Last, |row| Place::After(row.span)),
            RecordPlace::Fitting | RecordPlace::In(_) => {
                let group = key.rsplit_once(KEY_SEPARATOR).map(|(group, _)| group);
                let in_group = |row: &&&Row| {
                    let own = row.key.as_deref().and_then(|key| key.rsplit_once(KEY_SEPARATOR));
                    own.map(|(group, _)| group) == group
                };
                let near: Vec<&Row> = in_file.iter().filter(in_group).copied().collect();
                if near.is_empty() && !in_file.is_empty() && needs_group(table) {
                    let group = group.map(shown_key).unwrap_or_default();
                    return Err(Error::refused(
                        format!("there is no `{group}` in `{}` that has such records", rows.paths[&target]),
                        "put the first one there by hand; nothing was changed",
                    ));
                }
                match fitting(&near, key) {
                    Some(before) => Place::After(before),
                    None if near.is_empty() => {
                        in_file.last().map_or(Place::Last, |row| Place::After(row.span))
                    }
                    None => Place::Before(near[0].span),
                }
            }
        })
    }
}

/// Whether a part of the key stands around the records, so that a new one must be put beside others that have it.
fn needs_group(table: &Table) -> bool {
    let is_around = |part: &KeyPart| matches!(part, KeyPart::Field(field) if table.fields[*field].column.starts_with("../"));
    table.key.iter().any(is_around)
}

/// The place of the record that a new one stands behind: where `rows` are in the order of their keys the last one with a
/// lower key, else the last one. Nothing if it comes before all.
fn fitting(rows: &[&Row], key: &str) -> Option<Span> {
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
