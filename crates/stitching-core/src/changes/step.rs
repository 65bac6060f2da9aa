//! An editing command as a value: what is asked for, before anything is looked up.
//!
//! It can be built on any project, kept in the history, and made a step of a recipe.

use super::add::{AddRequest, add};
use super::change::Change;
use super::copy::{CopyRequest, copy};
use super::copy_folder::copy_folder;
use super::mentions::{follow_mentions, tell_mentions};
use super::remove::{RemoveRequest, remove};
use super::rename::{NewKeys, rename_folder, rename_many, rename_with};
use super::renumber::{Renumbering, renumber};
use super::set::{SetRequest, set};
use crate::Error;
use crate::links::Address;
use crate::project::Project;
use serde::{Deserialize, Serialize};

/// What one command asks for.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "snake_case")]
pub enum Step {
    /// Gives records other values.
    Set(SetRequest),
    /// Adds records.
    Add(AddRequest),
    /// Copies a record with all that belongs to it.
    Copy(CopyRequest),
    /// Copies a folder with all that is in it.
    CopyFolder {
        /// Its path from the root of its layer.
        from: String,
        /// The path of the copy.
        to: String,
    },
    /// Removes records with all that belongs to them.
    Remove(RemoveRequest),
    /// Gives a record another key.
    Rename {
        /// Its address.
        address: String,
        /// The new key.
        new: String,
        /// Whether what the mod adds over a base layer has the notes directly above it.
        notes: bool,
        /// The places outside of what the schema says (`path:line`, or `all`) that get the new name too.
        #[serde(default)]
        also: Vec<String>,
    },
    /// Gives a folder with all that is in it another path.
    RenameFolder {
        /// Its path from the root of its layer.
        from: String,
        /// The new path.
        to: String,
        /// The places outside of what the schema says (`path:line`, or `all`) that get the new path too.
        #[serde(default)]
        also: Vec<String>,
    },
    /// Gives many records of a table other keys.
    RenameMany {
        /// The table.
        table: String,
        /// Which records get which.
        keys: NewKeys,
        /// Whether what the mod adds over a base layer has the notes directly above it.
        notes: bool,
        /// The places outside of what the schema says (`path:line`, or `all`) that get the new names too.
        #[serde(default)]
        also: Vec<String>,
    },
    /// Gives the numbers of a field anew.
    Renumber {
        /// The table.
        table: String,
        /// The field.
        field: String,
        /// The group that is meant, where the field is the last part of a key.
        group: Option<String>,
        /// Which numbers they get.
        how: Renumbering,
    },
}

impl Step {
    /// Whether it is worth keeping: not all of a long sheet.
    fn is_small(&self) -> bool {
        const MOST: usize = 1000;
        match self {
            Step::Set(SetRequest { sheet: Some(sheet), .. })
            | Step::Add(AddRequest { sheet: Some(sheet), .. }) => sheet.lines.len() <= MOST,
            Step::RenameMany { keys: NewKeys::Pairs(pairs), .. } => pairs.len() <= MOST,
            _ => true,
        }
    }

    /// Builds the change that it asks for; the change knows by which step it was made.
    ///
    /// # Errors
    /// As for the function of the same name.
    pub fn build(self, project: &Project) -> Result<Change, Error> {
        let change = match &self {
            Step::Set(request) => set(project, request),
            Step::Add(request) => add(project, request),
            Step::Copy(request) => copy(project, request),
            Step::CopyFolder { from, to } => copy_folder(project, from, to),
            Step::Remove(request) => {
                let names: Vec<String> =
                    request.addresses.iter().filter_map(|own| removed_name(own)).collect();
                let names: Vec<&str> = names.iter().map(String::as_str).collect();
                remove(project, request).map(|change| tell_mentions(project, change, &names))
            }
            Step::Rename { address, new, notes, also } => rename_with(project, address, new, *notes)
                .and_then(|change| follow_mentions(project, change, also, &[])),
            Step::RenameFolder { from, to, also } => rename_folder(project, from, to)
                .and_then(|change| follow_mentions(project, change, also, &renamed_words(from, to))),
            Step::RenameMany { table, keys, notes, also } => rename_many(project, table, keys, *notes)
                .and_then(|change| follow_mentions(project, change, also, &[])),
            Step::Renumber { table, field, group, how } => {
                renumber(project, table, field, group.as_deref(), how)
            }
        };
        let steps = if self.is_small() { vec![self] } else { Vec::new() };
        Ok(Change { steps, ..change? })
    }
}

/// Whether `address`, of what is to be copied or renamed, is the path of a folder: it ends with `/`, and names no table.
pub fn is_folder(address: &str) -> bool {
    address.ends_with('/') && !address.contains(':')
}

/// The words that may speak of a folder which gets another path, and what they become: its path, and its name.
fn renamed_words(from: &str, to: &str) -> Vec<(String, String)> {
    let (from, to) = (from.trim_end_matches(['/', '\\']), to.trim_end_matches(['/', '\\']));
    let name = |path: &str| path.rsplit(['/', '\\']).next().unwrap_or_default().to_owned();
    let mut words = vec![(from.to_owned(), to.to_owned()), (name(from), name(to))];
    words.retain(|(from, to)| from != to);
    words.dedup();
    words
}

/// The name of what is removed, if its address gives it alone: the parts of a longer key are names of others.
fn removed_name(address: &str) -> Option<String> {
    let key = Address::parse(address).ok()?.key;
    (!key.contains('/')).then_some(key)
}
