//! What is changed has records in files: the names of a table by use have none.

use crate::Error;
use crate::links::{self, Found};
use crate::reading::View;
use crate::schema::{Schema, Table, TableId};

/// The record that `address` names, as [`links::resolve`] finds it.
///
/// # Errors
/// As there, and when it is a name that only its use makes.
pub(super) fn resolve(view: View<'_>, address: &str) -> Result<Found, Error> {
    let found = links::resolve(view, address)?;
    refuse_by_use(view.schema, &view.schema.tables[found.table])?;
    Ok(found)
}

/// The table called `name`, as [`links::find_table`] finds it.
///
/// # Errors
/// As there, and when its names are those that fields of other tables hold.
pub(super) fn find_table(schema: &Schema, name: &str) -> Result<TableId, Error> {
    let table = links::find_table(schema, name)?;
    refuse_by_use(schema, &schema.tables[table])?;
    Ok(table)
}

fn refuse_by_use(schema: &Schema, table: &Table) -> Result<(), Error> {
    if !table.is_by_use() {
        return Ok(());
    }
    let fields: Vec<String> = table.by_use_names(schema).iter().map(|name| format!("`{name}`")).collect();
    Err(Error::refused(
        format!(
            "`{}` has no records of its own: its names are the values of {}",
            table.name,
            fields.join(" and ")
        ),
        "rename a name, or change the fields that hold it; nothing was changed",
    ))
}
