//! Where new records go.

use super::{RecordPlace, Work};
use crate::Error;
use crate::changes::record_place::fitting;
use crate::changes::rename::{key_of_path, path_for_key};
use crate::changes::switch::is_whole_file;
use crate::formats::Place;
use crate::layers::{FileId, RelPath};
use crate::rows::{Row, Rows};
use crate::schema::{KeyPart, Table};
use crate::tables::{KEY_SEPARATOR, shown_key};

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

    /// Whether nothing is there yet that lies around records with the same first parts of the key: it is made with the record.
    pub(super) fn needs_parent(
        &self,
        table: &Table,
        rows: &Rows,
        model: &Row,
        key: &str,
    ) -> Result<bool, Error> {
        if !table.key.iter().any(|part| table.stands_around(*part)) {
            return Ok(false);
        }
        let target = self.target(table, rows, model, key)?;
        let is_there = |row: &Row| {
            let own = row.key.as_deref().unwrap_or_default().split(KEY_SEPARATOR);
            let mut parts = table.key.iter().zip(own.zip(key.split(KEY_SEPARATOR)));
            row.file == target && parts.all(|(part, (own, new))| own == new || !table.stands_around(*part))
        };
        Ok(!rows.rows.iter().any(is_there))
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
                // What lies around it is made.
                let is_around = table.key.iter().any(|part| table.stands_around(*part));
                let near: Vec<&Row> = in_file.iter().filter(in_group).copied().collect();
                match fitting(&near, key) {
                    Some(before) => Place::After(before),
                    None if near.is_empty() && is_around => Place::Last,
                    None if near.is_empty() => {
                        in_file.last().map_or(Place::Last, |row| Place::After(row.span))
                    }
                    None => Place::Before(near[0].span),
                }
            }
        })
    }
}
