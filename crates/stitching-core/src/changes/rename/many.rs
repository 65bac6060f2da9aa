//! Renaming many records in one act: by a list, by a pattern, by a prefix.

use super::{Work, new_key, usage};
use crate::Error;
use crate::changes::change::Change;
use crate::changes::rename::refuse_duplicates;
use crate::help::NextStep;
use crate::links::{Found, find_by_keys, find_table};
use crate::project::Project;
use crate::reading::View;
use crate::rows::Rows;
use crate::schema::{KeyPart, Table, TableId};
use crate::tables::shown_key;
use crate::text::Template;
use serde::{Deserialize, Serialize};
use std::collections::{HashMap, HashSet};

/// Which records get which keys.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub enum NewKeys {
    /// The old and the new key of each, as shown.
    Pairs(Vec<(String, String)>),
    /// Those whose key has the first shape get one of the second; each has one `{}`.
    Pattern(String, String),
    /// Those that the mod adds to the layers below it get this in front of their key.
    Prefix(String),
}

/// Builds the change that gives many records of `table` other keys at once. Keys may be swapped, and one may get the key that
/// another one leaves. With `notes`, what the mod adds over a base layer has the notes directly above it.
///
/// # Errors
/// As for [`super::rename`]; and when a key is given twice, old or new, or no record is meant.
pub fn rename_many(project: &Project, table: &str, keys: &NewKeys, notes: bool) -> Result<Change, Error> {
    let id = find_table(&project.schema, table)?;
    let described = &project.schema.tables[id];
    if described.key.is_empty() {
        let message = format!("the records of `{table}` have no key");
        return Err(usage(message, "say in the schema what names them: key = \"FIELD\""));
    }
    let pairs = match keys {
        NewKeys::Pairs(pairs) => pairs.clone(),
        NewKeys::Pattern(from, to) => by_pattern(project, id, from, to)?,
        NewKeys::Prefix(prefix) => by_prefix(project, id, prefix)?,
    };
    let pairs: Vec<(String, String)> = pairs.into_iter().filter(|(old, new)| old != new).collect();
    if pairs.is_empty() {
        let reason = format!("no record of `{table}` gets another key");
        return Err(Error::nothing_to_do(reason));
    }
    refuse_doubles(described, &pairs)?;
    let found = find_all(project, id, &pairs)?;
    let title = match &pairs[..] {
        [(old, new)] => format!("rename {table}:{old} to {new}"),
        all => format!("rename {} records of {table}", all.len()),
    };
    let mut work = Work::new(project, title);
    work.with_notes = notes;
    work.is_many = true;
    for ((_, new), found) in pairs.iter().zip(&found) {
        refuse_duplicates(project, found)?;
        let key = new_key(described, &found.key, new)?;
        work.refuse_existing(id, &key, &found.key)?;
        work.add_record(found, &key)?;
    }
    while !work.pending.is_empty() {
        work.round()?;
    }
    work.finish()
}

/// Refuses keys that are given twice.
fn refuse_doubles(table: &Table, pairs: &[(String, String)]) -> Result<(), Error> {
    let folded = |key: &str| if table.ignore_case { key.to_lowercase() } else { key.to_owned() };
    let (mut old, mut new) = (HashSet::new(), HashMap::new());
    for (from, to) in pairs {
        if !old.insert(folded(from)) {
            return Err(usage(format!("`{from}` is to get two new keys"), "name each record once"));
        }
        if let Some(other) = new.insert(folded(to), from) {
            let message = format!("`{other}` and `{from}` would both be `{to}`");
            return Err(usage(message, "give each record a key of its own"));
        }
    }
    Ok(())
}

/// The records with the first keys of `pairs`, in their order.
fn find_all(project: &Project, table: TableId, pairs: &[(String, String)]) -> Result<Vec<Found>, Error> {
    let rows = Rows::read(project.view(), table, &crate::links::Labels::default())?;
    let mut kept: HashMap<String, String> = HashMap::new();
    for key in rows.rows.iter().filter_map(|row| row.key.as_ref()) {
        kept.insert(shown_key(key), key.clone());
    }
    let wanted: HashSet<(TableId, String)> =
        pairs.iter().filter_map(|(old, _)| Some((table, kept.get(old)?.clone()))).collect();
    let mut by_key: HashMap<String, Found> = find_by_keys(project.view(), &wanted)?
        .into_iter()
        .map(|found| (shown_key(&found.key), found))
        .collect();
    let name = &project.schema.tables[table].name;
    let find = |old: &String| {
        by_key.remove(old).ok_or_else(|| {
            let near = crate::text::nearest_of(old, kept.keys().map(String::as_str));
            let help = match near.first() {
                Some(near) => format!("did you mean `{near}`?").into(),
                None => NextStep::SearchEverything(old.clone()).into(),
            };
            Error::Unknown { what: "record", name: format!("{name}:{old}"), help }
        })
    };
    pairs.iter().map(|(old, _)| old).map(find).collect()
}

/// The keys that have the shape `from`, and what they become in the shape `to`.
fn by_pattern(
    project: &Project,
    table: TableId,
    from: &str,
    to: &str,
) -> Result<Vec<(String, String)>, Error> {
    let parse = |text: &str| {
        let template = Template::parse(text).ok().filter(|template| template.parts() == [""]);
        template.ok_or_else(|| {
            usage(
                format!("`{text}` has not one `{{}}`, which stands for what stays of the key"),
                "for example: old_{} new_{}",
            )
        })
    };
    let (from, to) = (parse(from)?, parse(to)?);
    let rows = Rows::read(project.view(), table, &crate::links::Labels::default())?;
    let mut seen = HashSet::new();
    let keys = rows.rows.iter().filter(|row| row.key.is_some()).map(crate::rows::Row::shown_key);
    let keys = keys.filter(|key| seen.insert(key.clone()));
    Ok(keys
        .filter_map(|key| {
            let new = to.fill_one(from.extract(&key, "")?);
            Some((key, new))
        })
        .collect())
}

/// The keys of the records that the mod adds, with `prefix` in front of the last part; those that have it already stay.
fn by_prefix(project: &Project, table: TableId, prefix: &str) -> Result<Vec<(String, String)>, Error> {
    let described = &project.schema.tables[table];
    let Some(KeyPart::Field(_)) = described.key.last() else {
        let message = format!("the keys of `{}` do not end with a field", described.name);
        return Err(usage(message, "rename its records one by one"));
    };
    let stack = &project.stack;
    let labels = crate::links::Labels::default();
    let below: HashSet<String> = match stack.top().checked_sub(1) {
        None => HashSet::new(),
        Some(layer) => {
            let view = View { stack, schema: &project.schema, through: layer };
            let rows = Rows::read(view, table, &labels)?;
            rows.rows.iter().map(crate::rows::Row::shown_key).collect()
        }
    };
    let rows = Rows::read(project.view(), table, &labels)?;
    let mut seen = HashSet::new();
    let keys = rows.rows.iter().filter(|row| row.key.is_some()).map(crate::rows::Row::shown_key);
    let own = keys.filter(|key| !below.contains(key) && seen.insert(key.clone()));
    let pair = |key: String| {
        let (group, last) = match key.rsplit_once('/').filter(|_| described.key.len() > 1) {
            Some((group, last)) => (format!("{group}/"), last.to_owned()),
            None => (String::new(), key.clone()),
        };
        (!last.starts_with(prefix)).then(|| (key, format!("{group}{prefix}{last}")))
    };
    Ok(own.filter_map(pair).collect())
}
