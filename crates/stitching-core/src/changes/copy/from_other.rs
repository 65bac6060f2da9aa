//! Copying a record, with all that belongs to it, from another layer or project into the mod.
//!
//! A copy with another key is made in the other project first, in memory alone, as one at home would be. What belongs to the
//! record is then gathered there, and comes here under the names that it has: as it is written there, into the files that
//! have such records here. What is here already stays.

use super::arrival::Arrival;
use super::{CopyRequest, CopySource, Join, copy, free_key, original};
use crate::Error;
use crate::changes::assignment::{Action, Assignment};
use crate::changes::change::{Change, Note};
use crate::changes::record_finder::{RecordFinder, no_label};
use crate::changes::record_place::{RecordPlace, last_position};
use crate::changes::rename::{new_key, refuse_taken};
use crate::changes::sequence::Sequence;
use crate::changes::set::{SetRequest, set};
use crate::links::{Address, Found, Labels, find_table, text_key};
use crate::project::Project;
use crate::rows::Rows;
use crate::schema::{KeyPart, TableId, Texts};
use crate::tables::{KEY_SEPARATOR, shown_key};
use std::collections::HashSet;

/// Builds the change that copies a record of another layer or project.
///
/// # Errors
/// As [`copy`]; and when the record refers to others that this project lacks, unless they are to come along or to be left.
pub(super) fn copy_from(
    project: &Project,
    source: &CopySource,
    request: &CopyRequest,
) -> Result<Change, Error> {
    if request.join != Join::None {
        return Err(Error::Usage {
            message: "no list of this project has the original, which is elsewhere".to_owned(),
            help: "put the copy into lists when it is here".into(),
        });
    }
    let other = project.source(&source.name)?;
    let schema = &project.schema;
    let found = original(&other, &request.address).map_err(|error| within(error, &source.name))?;
    let table = &schema.tables[found.table];
    let wanted = Address::new_key(schema, found.table, &found.key, &request.new)?;
    let counted = table.key.contains(&KeyPart::Position);
    if counted && (!request.values.is_empty() || request.name.is_some()) {
        return Err(Error::Usage {
            message: format!(
                "the records of `{}` are named by their position, which is another one here",
                table.name
            ),
            help: "copy it without values, and set them when it is here".into(),
        });
    }
    let request = CopyRequest { new: wanted, place: request.place.clone(), ..request.clone() };
    let from = format!("{} from {}", Address::show(&table.name, &found.key), source.name);
    let mut there = Sequence::new(&other, "");
    let key = match counted {
        true => made_at_the_end(&mut there, &found, &request)?,
        false => made_with_key(project, &mut there, &found, &request)?,
    };
    let title = match key == found.key {
        true => format!("copy {from}"),
        // Where it is among others is known only when it is here.
        false if counted => format!("copy {from} to {}", request.new),
        false => format!("copy {from} to {}", shown_key(&key)),
    };
    let mut without = HashSet::new();
    for name in &request.without {
        without.insert(find_table(schema, name)?);
    }
    let is_renamed = key != found.key;
    let name = request.name.as_deref().filter(|_| !is_renamed);
    let (main, given) = ((found.table, key.clone()), fields_given(&request.values)?);
    let mut arrival = Arrival::new(project, there.project(), &title, main, given, without);
    arrival.gather(source)?;
    arrival.find_place(&request.place)?;
    let change = arrival.finish()?;
    let mut here = Sequence::new(project, title);
    here.push(change)?;
    let mut arguments = Vec::new();
    if !request.values.is_empty() {
        arguments.push(Address::show(&table.name, &key));
        arguments.extend(request.values.iter().cloned());
    }
    if let Some(name) = name {
        arguments.push(named(here.project(), found.table, &key, name)?);
    }
    if !arguments.is_empty() {
        let request = SetRequest { arguments, ..SetRequest::default() };
        let change = set(here.project(), &request)?.without(|note| matches!(note, Note::ReferredTo(_)));
        here.push(change)?;
    }
    Ok(here.finish())
}

/// The fields that get a value in place of the one they have.
fn fields_given(values: &[String]) -> Result<HashSet<String>, Error> {
    let adds = |action: &Action| matches!(action, Action::AddItem(..) | Action::RemoveItem(_));
    let given = Assignment::parse_all(values)?.into_iter().filter(|given| !adds(&given.action));
    Ok(given.map(|given| given.left).collect())
}

/// An error of an address that names nothing in the other project.
fn within(error: Error, source: &str) -> Error {
    match error {
        Error::Unknown { what, name, help } => {
            Error::Unknown { what, name: format!("{name}` in `{source}"), help }
        }
        other => other,
    }
}

/// Copies the record in the other project to the key that is asked for, unless it has that; gives the key.
fn made_with_key(
    project: &Project,
    there: &mut Sequence<'_>,
    found: &Found,
    request: &CopyRequest,
) -> Result<String, Error> {
    let table = &project.schema.tables[found.table];
    let new = free_key(project, found, &request.new)?;
    if new == shown_key(&found.key) {
        refuse_taken(project, found.table, "", &found.key, &new)?;
        return Ok(found.key.clone());
    }
    let key = new_key(table, &found.key, &new)?;
    refuse_taken(project, found.table, &found.key, &key, &new)?;
    copy_there(there, found, CopyRequest { new, ..request.clone() })?;
    Ok(key)
}

/// As [`made_with_key`] where records are named by their position: in another group the record is the last one.
fn made_at_the_end(there: &mut Sequence<'_>, found: &Found, request: &CopyRequest) -> Result<String, Error> {
    let rows = Rows::read(there.project().view(), found.table, &Labels::default())?;
    let key = last_position(&rows, &found.key, &request.new, found.places[0].file)?;
    let group = |key: &str| {
        let parts = rows.table.key.iter().zip(key.split(KEY_SEPARATOR));
        let parts = parts.filter(|(part, _)| **part != KeyPart::Position);
        parts.map(|(_, part)| part.to_owned()).collect::<Vec<_>>()
    };
    if group(&key) == group(&found.key) {
        return Ok(found.key.clone());
    }
    copy_there(there, found, request.clone())?;
    Ok(key)
}

fn copy_there(there: &mut Sequence<'_>, found: &Found, request: CopyRequest) -> Result<(), Error> {
    let name = &there.project().schema.tables[found.table].name;
    let request = CopyRequest {
        address: Address::show(name, &found.key),
        values: Vec::new(),
        place: RecordPlace::Fitting,
        from: None,
        also: Vec::new(),
        ..request
    };
    let change = copy(there.project(), &request)?;
    there.push(change)
}

/// What is to be set so that the record is called `name` in the main language.
fn named(project: &Project, table: TableId, key: &str, name: &str) -> Result<String, Error> {
    let schema = &project.schema;
    let described = &schema.tables[table];
    let label = described.label.ok_or_else(|| no_label(described))?;
    let finder = RecordFinder::new(project);
    let rows = finder.rows(table)?;
    let column = rows.fields.iter().position(|field| *field == label);
    let value = rows.find(key).and_then(|row| row.cells[column?].as_ref()).map(|cell| cell.text.as_str());
    let field = &described.fields[label].name;
    let Some(text) = value.and_then(|value| text_key(described, label, value)) else {
        return Ok(format!("{}.{field}={name}", Address::show(&described.name, key)));
    };
    for id in schema.text_tables() {
        let texts = &schema.tables[id];
        if finder.rows(id)?.find(&text).is_none() {
            continue;
        }
        let field = match &texts.texts {
            Some(Texts::File(_)) => schema.languages.first().cloned(),
            Some(Texts::Fields(fields)) => {
                let own = fields.iter().find(|(language, _)| *language == 0);
                own.map(|(_, field)| texts.fields[*field].name.clone())
            }
            _ => None,
        };
        if let Some(field) = field {
            return Ok(format!("{}.{field}={name}", Address::show(&texts.name, &text)));
        }
    }
    Err(Error::refused(
        format!("the text `{text}`, which the record is called by, cannot be written with the copy"),
        "copy it without a name, and set its text then; nothing was changed",
    ))
}
