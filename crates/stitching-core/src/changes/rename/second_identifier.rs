//! Renaming a second identifier: a value of a field, other than the key, by which others refer to the record.

use super::refusals::{refuse_unfit, refuse_value, usage};
use super::{Item, Work};
use crate::Error;
use crate::changes::Change;
use crate::links::{Address, Found, Thing, find_by_value, second_identifiers, wanted};
use crate::project::Project;
use crate::reading::{load, scan};
use crate::schema::{Layout, TableId};
use crate::tables::RecordView;

/// Builds the change that gives `field` of the record `found` the value `new`, and all that refer to the record by it.
///
/// # Errors
/// When no reference of the schema points to the field, when it is empty, when the new value is taken or not allowed,
/// or the old one belongs to several records, and as for a rename.
pub(super) fn rename(
    project: &Project,
    found: &Found,
    field: usize,
    new: &str,
    notes: bool,
) -> Result<Change, Error> {
    let schema = &project.schema;
    let table = &schema.tables[found.table];
    let name = &table.fields[field].name;
    let address = format!("{}.{name}", Address::show(&table.name, &found.key));
    let rule = match table.fields[field].layout {
        Layout::Whole(rule) if second_identifiers(schema, found.table).contains(&rule) => rule,
        _ => {
            return Err(usage(
                format!("`{address}` cannot be renamed: nothing refers to `{}` by `{name}`", table.name),
                "leave the field out to rename the record",
            ));
        }
    };
    let old = own_value(project, found, field)?.filter(|old| !table.rules[rule].is_none(old));
    let Some(old) = old else {
        return Err(Error::refused(
            format!("`{address}` holds no name"),
            "nothing refers to it by this field",
        ));
    };
    if old == new {
        return Err(Error::nothing_to_do(format!("`{new}` is its name already")));
    }
    refuse_unfit(new)?;
    refuse_value(table, field, new)?;
    let holders = |value: &str| find_by_value(project.view(), found.table, field, value);
    if let Some(other) = holders(&old)?.iter().find(|holder| holder.key != found.key) {
        let reason = format!("`{old}` is the `{name}` of another record too");
        return Err(refused(project, reason, other, "give one of the two another name by hand first"));
    }
    if let Some(other) = holders(new)?.first() {
        let reason = format!("`{new}` is a `{name}` already");
        return Err(refused(project, reason, other, "choose another name; nothing was changed"));
    }
    let mut work = Work::new(project, format!("rename {address} to {new}"));
    work.with_notes = notes;
    let thing = Thing::Column(found.table, rule, old);
    work.add(Item::new(thing, new.to_owned()))?;
    while !work.pending.is_empty() {
        work.round()?;
    }
    work.finish()
}

/// Builds the change that gives many values of a field, by which others refer to its records, other ones at once: the old
/// and the new one of each. `title` says what it does.
///
/// # Errors
/// As for a rename.
pub(in crate::changes) fn rename_values(
    project: &Project,
    table: TableId,
    rule: usize,
    values: Vec<(String, String)>,
    title: String,
) -> Result<Change, Error> {
    let mut work = Work::new(project, title);
    work.is_many = true;
    for (old, new) in values {
        work.add(Item::new(Thing::Column(table, rule, old), new))?;
    }
    while !work.pending.is_empty() {
        work.round()?;
    }
    work.finish()
}

/// Whether several records have `value` by this rule: then what refers to it still finds one when another is renamed.
pub(super) fn held_by_others(
    project: &Project,
    table: TableId,
    rule: usize,
    value: &str,
) -> Result<bool, Error> {
    let field = project.schema.tables[table].rules[rule].field;
    Ok(find_by_value(project.view(), table, field, value)?.len() > 1)
}

fn refused(project: &Project, reason: String, other: &Found, help: &str) -> Error {
    let place =
        other.places.first().and_then(|place| Some(load(&project.stack, place.file).ok()?.place(place.span)));
    let at = place.map(|place| format!(", at {}:{}", place.path, place.line)).unwrap_or_default();
    Error::refused(format!("{reason}{at}"), help)
}

/// What the record itself has in `field`.
fn own_value(project: &Project, found: &Found, field: usize) -> Result<Option<String>, Error> {
    let schema = &project.schema;
    let thing = Thing::Record(found.table, found.key.clone());
    let wanted = wanted(schema, std::slice::from_ref(&thing));
    let item = Item { key_done: true, ..Item::new(thing, found.key.clone()) };
    let each = |_: TableId, record: &RecordView<'_>, hits: &mut Vec<String>| {
        if record.key().is_some_and(|own| own == found.key) {
            hits.extend(record.value(field));
        }
    };
    let own = super::plan(schema, found.table, &[item], &wanted).unwrap_or_default();
    let found = scan(project.view(), &own.alone(schema, found.table), &each)?;
    Ok(found.into_iter().flat_map(|of_file| of_file.hits).next_back())
}
