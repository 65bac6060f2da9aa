//! Writing proposals as a schema: new tables at the end, new settings of fields where the table stands.
//! Comments and order of what is there stay.

use super::proposal::{Proposal, Topic};
use crate::Error;
use toml_edit::{ArrayOfTables, DocumentMut, InlineTable, Item, Table, TableLike, Value};

/// A schema as a document of which notes and order stay.
///
/// # Errors
/// When it is no TOML.
pub(super) fn document_of(text: &str) -> Result<DocumentMut, Error> {
    text.parse().map_err(|error: toml_edit::TomlError| refused(error.message().to_owned()))
}

/// Why a schema cannot be written.
fn refused(reason: String) -> Error {
    Error::refused(format!("the schema cannot be written: {reason}"), "put it right first")
}

/// A reason as a note. It may tell of names and values of the data, of which none may end the note.
fn note(reason: &str) -> String {
    format!("# {}\n", reason.replace(char::is_control, " "))
}

/// The schema `text` with `proposals` in it. Settings that are there already stay as they are.
///
/// # Errors
/// When the schema is no TOML.
pub fn written(text: &str, proposals: &[&Proposal]) -> Result<String, Error> {
    let mut document = document_of(text)?;
    // Notes in a file without any setting stay at its head.
    let head = if document.as_table().is_empty() { text } else { "" };
    if !head.is_empty() {
        document = DocumentMut::new();
    }
    let top = document.as_table_mut();
    if !top.contains_key("table") {
        let mut tables = Table::new();
        tables.set_implicit(true);
        top.insert("table", Item::Table(tables));
    }
    let Some(tables) = top.get_mut("table").and_then(Item::as_table_mut) else {
        return Err(refused("`table` is no table".to_owned()));
    };
    let mut ordered: Vec<&&Proposal> = proposals.iter().collect();
    ordered.sort_by_key(|proposal| (proposal.topic != Topic::Table, proposal.topic));
    let mut companions = Vec::new();
    for proposal in ordered {
        let is_new = !tables.contains_key(&proposal.table);
        if is_new && proposal.topic != Topic::Table {
            continue; // A field of a table that was not taken.
        }
        if proposal.topic == Topic::Companion {
            companions.push(proposal);
            continue;
        }
        if is_new {
            let mut table = Table::new();
            let notes: String = proposal.reasons.iter().map(|reason| note(reason)).collect();
            table.decor_mut().set_prefix(format!("\n{notes}"));
            tables.insert(&proposal.table, Item::Table(table));
        }
        let Some(table) = tables.get_mut(&proposal.table).and_then(Item::as_table_mut) else { continue };
        match &proposal.field {
            None => add(table, &proposal.settings).map_err(refused)?,
            Some(field) => {
                if !table.contains_key("fields") {
                    let mut fields = Table::new();
                    fields.decor_mut().set_prefix("");
                    table.insert("fields", Item::Table(fields));
                }
                let Some(fields) = table.get_mut("fields").and_then(Item::as_table_like_mut) else {
                    continue;
                };
                if !fields.contains_key(field) {
                    fields.insert(field, Item::Value(Value::InlineTable(InlineTable::new())));
                }
                let own = fields.get_mut(field);
                match own {
                    Some(Item::Value(Value::InlineTable(own))) => {
                        // The blank before the closing brace stays there.
                        let last = |own: &mut InlineTable, blank: &str| {
                            if let Some((_, value)) = own.iter_mut().last() {
                                value.decor_mut().set_suffix(blank);
                            }
                        };
                        last(own, "");
                        add(own, &proposal.settings).map_err(refused)?;
                        last(own, " ");
                    }
                    Some(own) => {
                        if let Some(own) = own.as_table_like_mut() {
                            add(own, &proposal.settings).map_err(refused)?;
                        }
                    }
                    None => {}
                }
            }
        }
    }
    for proposal in companions {
        let list = document.entry("companion").or_insert(Item::ArrayOfTables(ArrayOfTables::new()));
        let Some(list) = list.as_array_of_tables_mut() else {
            return Err(refused("`companion` is no list of tables, each headed [[companion]]".to_owned()));
        };
        let mut own = Table::new();
        own.decor_mut().set_prefix("\n");
        own.insert("table", toml_edit::value(proposal.table.as_str()));
        add(&mut own, &proposal.settings).map_err(refused)?;
        list.push(own);
    }
    let gap = if head.is_empty() || head.ends_with('\n') { "" } else { "\n" };
    Ok(format!("{head}{gap}{document}"))
}

fn parsed(value: &str) -> Result<Value, String> {
    value.parse::<Value>().map_err(|error| format!("`{value}`: {error}"))
}

/// Adds the settings that are not there yet.
fn add(table: &mut dyn TableLike, settings: &[(String, String)]) -> Result<(), String> {
    for (name, value) in settings {
        if !table.contains_key(name) {
            table.insert(name, Item::Value(parsed(value)?));
        }
    }
    Ok(())
}
