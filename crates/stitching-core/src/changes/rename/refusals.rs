//! What a new name must be, and what keeps a record from getting it.

use crate::Error;
use crate::help::{Help, NextStep};
use crate::layers::{FileId, RelPath};
use crate::links::{Address, Found, find_records};
use crate::project::Project;
use crate::reading::{View, load};
use crate::schema::{KeyPart, Table, TableId, Texts};
use crate::tables::{KEY_SEPARATOR, shown_key};
use std::borrow::Cow;
use std::collections::BTreeSet;

/// The new key as kept in memory, checked against the rules of its fields.
pub(in crate::changes) fn new_key(table: &Table, old: &str, new: &str) -> Result<String, Error> {
    let parts: Vec<&str> = if table.key.len() == 1 { vec![new] } else { new.split('/').collect() };
    let shown = shown_key(old);
    if parts.len() != table.key.len() {
        let message = format!(
            "the keys of `{}` have {} parts, and `{new}` has {}",
            table.name,
            table.key.len(),
            parts.len()
        );
        return Err(usage(message, "write all parts with `/` between them, also those that stay"));
    }
    if new == shown {
        return Err(Error::nothing_to_do(format!("`{new}` is its key already")));
    }
    for ((part, old), new) in table.key.iter().zip(old.split(KEY_SEPARATOR)).zip(&parts) {
        if old == *new {
            continue;
        }
        refuse_unfit(new)?;
        let refused = |reason: String| Error::refused(reason, "choose another key; nothing was changed");
        match part {
            KeyPart::Path => RelPath::parse(new)
                .and_then(|path| path.check_portable())
                .map_err(|error| refused(error.to_string()))?,
            KeyPart::Stem | KeyPart::FileName if table.key.len() > 1 => {
                return Err(refused(format!(
                    "the part `{old}` is the name of a file that holds other records too"
                )));
            }
            KeyPart::Stem | KeyPart::FileName if new.contains(['/', '\\']) => {
                return Err(refused(format!("`{new}` cannot be a file's name")));
            }
            KeyPart::Stem | KeyPart::FileName => {}
            KeyPart::PathPart(_) => {
                let reason = format!(
                    "the part `{old}` is a part of the file's path, which may hold other records too"
                );
                return Err(Error::refused(reason, "move the file instead; nothing was changed"));
            }
            KeyPart::Position => {
                let reason = format!("the part `{old}` is the position of the record in its file");
                return Err(Error::refused(reason, "it changes when the record moves; nothing was changed"));
            }
            KeyPart::Field(field) => refuse_value(table, *field, new)?,
        }
    }
    Ok(parts.join(&KEY_SEPARATOR.to_string()))
}

/// Refuses what cannot be a name anywhere.
pub(super) fn refuse_unfit(new: &str) -> Result<(), Error> {
    if !new.is_empty() && new.trim() == new && !new.chars().any(char::is_control) {
        return Ok(());
    }
    let reason =
        format!("`{new}` cannot be a key: it is empty, has blanks around it or a control character in it");
    Err(Error::refused(reason, "choose another key; nothing was changed"))
}

/// Refuses a value that the rules of `field` do not allow.
pub(super) fn refuse_value(table: &Table, field: usize, new: &str) -> Result<(), Error> {
    for rule in table.rules.iter().filter(|rule| rule.field == field && rule.part.is_none()) {
        if rule.is_none(new) {
            let reason = format!("`{new}` stands for \"nothing\" in `{}`", table.fields[field].name);
            return Err(Error::refused(reason, "choose another key; nothing was changed"));
        }
        if let Some((message, help)) = crate::checks::value_problem(rule, new) {
            let help = help.unwrap_or_else(|| "choose another key; nothing was changed".to_owned());
            return Err(Error::refused(message, help));
        }
    }
    Ok(())
}

/// Refuses a key that another record of the table has already.
pub(in crate::changes) fn refuse_taken(
    project: &Project,
    table: TableId,
    old: &str,
    new: &str,
    shown: &str,
) -> Result<(), Error> {
    let (stack, schema) = (&project.stack, &project.schema);
    let mut others = find_records(View::top(stack, schema), Some(table), shown)?;
    others.retain(|other| other.key != old && (other.key == new || schema.tables[table].ignore_case));
    let Some(other) = others.pop() else { return Ok(()) };
    let place = other.places.first().and_then(|place| Some(load(stack, place.file).ok()?.place(place.span)));
    let at = place
        .map(|place| format!(", at {}:{} of the layer `{}`", place.path, place.line, place.layer))
        .unwrap_or_default();
    let shown = Address::show(&schema.tables[table].name, &other.key);
    if schema.tables[table].is_by_use() {
        let reason = format!("there is a name {shown} already{at}");
        let help =
            "where the two are to be one name, `set` the values that `uses` lists; nothing was changed";
        return Err(Error::refused(reason, help));
    }
    Err(Error::refused(
        format!("there is a record {shown} already{at}"),
        "choose another key; nothing was changed",
    ))
}

/// Refuses to rename what an address does not name alone.
pub(in crate::changes) fn refuse_duplicates(project: &Project, found: &Found) -> Result<(), Error> {
    let (stack, table) = (&project.stack, &project.schema.tables[found.table]);
    let language = |file: FileId| table.language_of(&stack.files()[file].path).map(str::to_owned);
    // In a table whose layers count together each layer may have a part of the record.
    let layer = |file: FileId| table.merged.then(|| stack.files()[file].layer);
    // Texts that say themselves what language they are in stand side by side.
    if table.repeated || matches!(table.texts, Some(Texts::Record { .. })) {
        return Ok(());
    }
    let mut seen = BTreeSet::new();
    let repeated = found.places.iter().find(|place| !seen.insert((language(place.file), layer(place.file))));
    let Some(place) = repeated else { return Ok(()) };
    let at = load(stack, place.file)?.place(place.span);
    let shown = Address::show(&table.name, &found.key);
    let reason = format!("{shown} is there more than once, also at {}:{}", at.path, at.line);
    Err(Error::refused(reason, Help::from("put the duplicate right first").then(NextStep::Check)))
}

/// Whether the part of the key that changes is the file's name.
pub(super) fn named_after_file(table: &Table, old: &str, new: &str) -> bool {
    let parts = table.key.iter().zip(old.split(KEY_SEPARATOR)).zip(new.split(KEY_SEPARATOR));
    parts.into_iter().any(|((part, old), new)| old != new && part.is_of_file())
}

/// The path of a file whose record gets the key `new`.
pub(super) fn renamed_path(table: &Table, path: &RelPath, old: &str, new: &str) -> Result<String, Error> {
    let changed = table
        .key
        .iter()
        .zip(old.split(KEY_SEPARATOR))
        .zip(new.split(KEY_SEPARATOR))
        .find(|((_, old), new)| old != new);
    let renamed = match changed {
        Some(((KeyPart::Path, _), new)) => RelPath::parse(new),
        Some(((KeyPart::Stem, _), new)) => path.with_stem(new),
        Some(((KeyPart::FileName, _), new)) => path.with_name(new),
        _ => Ok(path.clone()),
    };
    renamed.map(|path| path.to_string()).map_err(|error| usage(error.to_string(), "choose another key"))
}

/// A key by which records of `table` are told apart.
pub(super) fn folded_key<'k>(table: &Table, key: &'k str) -> Cow<'k, str> {
    if table.ignore_case { Cow::Owned(key.to_lowercase()) } else { Cow::Borrowed(key) }
}

pub(super) fn usage(message: String, help: &str) -> Error {
    Error::Usage { message, help: help.into() }
}
