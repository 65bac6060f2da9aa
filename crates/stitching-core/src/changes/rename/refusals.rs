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
            KeyPart::Stem | KeyPart::FileName | KeyPart::PathPart(_) if !table.is_keyed_by_path() => {
                let reason =
                    format!("the part `{old}` is of the path of a file that holds other records too");
                let help = "rename its folder, `FOLDER/ NEW/`, or the record that it is named after; nothing was changed";
                return Err(Error::refused(reason, help));
            }
            KeyPart::Stem | KeyPart::FileName | KeyPart::PathPart(_) => {
                refuse_unfit_name(new)?;
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

/// Refuses what cannot be the name of a file or folder, or a part of one.
pub(super) fn refuse_unfit_name(new: &str) -> Result<(), Error> {
    match new.contains(['/', '\\']) {
        true => Err(Error::refused(
            format!("`{new}` cannot be a file's name"),
            "choose another key; nothing was changed",
        )),
        false => Ok(()),
    }
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

/// A key by which records of `table` are told apart.
pub(super) fn folded_key<'k>(table: &Table, key: &'k str) -> Cow<'k, str> {
    if table.ignore_case { Cow::Owned(key.to_lowercase()) } else { Cow::Borrowed(key) }
}

pub(super) fn usage(message: String, help: &str) -> Error {
    Error::Usage { message, help: help.into() }
}
