//! Addresses: `table:key`, `table:key.field`, `table.field`, and finding what they name.

use super::by_use::{NameInUse, names_in_use};
use crate::Error;
use crate::help::{Help, NextStep};
use crate::layers::FileId;
use crate::reading::View;
use crate::reading::{Needles, TableScan, glance, key_hashes, scan};
use crate::schema::{Schema, TableId};
use crate::tables::{KEY_SEPARATOR, RecordView, add_key_fields, key_hash, shown_key};
use crate::text::{Span, nearest_of};
use std::collections::{HashMap, HashSet};

/// An address taken apart.
#[derive(Debug, Clone, PartialEq, Eq, Default)]
pub struct Address {
    /// The table, if it is named.
    pub table: Option<String>,
    /// The key (as shown), perhaps with a field behind it if it was not quoted.
    pub key: String,
    /// The field, if it was set apart by quotes.
    pub field: Option<String>,
}

/// A record that an address names.
#[derive(Debug, Clone)]
pub struct Found {
    /// Its table.
    pub table: TableId,
    /// Its key as kept in memory.
    pub key: String,
    /// The field, as a position in the table's fields, if the address names one.
    pub field: Option<usize>,
    /// Where it is: more than one place for texts of several languages, and for duplicates.
    pub places: Vec<FoundPlace>,
}

/// A place where a record is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct FoundPlace {
    /// The file.
    pub file: FileId,
    /// The whole record.
    pub span: Span,
}

impl Address {
    /// Takes an address apart. A key with blanks, dots or colons is quoted, with a quote inside
    /// written twice.
    ///
    /// # Errors
    /// When a quote is not closed, or something other than `.field` follows it.
    pub fn parse(text: &str) -> Result<Address, Error> {
        let bad = |message: &str| Error::Usage {
            message: format!("`{text}` is not an address: {message}"),
            help: "write `table:key` or `table:\"key with blanks\".field`".into(),
        };
        let colon = text.find(':').filter(|at| !text[..*at].contains('"'));
        let (table, rest) = match colon {
            Some(at) => (Some(text[..at].to_owned()), &text[at + 1..]),
            None => (None, text),
        };
        let Some(quoted) = rest.strip_prefix('"') else {
            return Ok(Address { table, key: rest.to_owned(), field: None });
        };
        let mut key = String::new();
        let mut chars = quoted.char_indices().peekable();
        while let Some((at, next)) = chars.next() {
            if next != '"' {
                key.push(next);
            } else if chars.next_if(|(_, after)| *after == '"').is_some() {
                key.push('"');
            } else {
                let field = match &quoted[at + 1..] {
                    "" => None,
                    after => Some(
                        after
                            .strip_prefix('.')
                            .ok_or_else(|| bad("`.field` is expected after the quotes"))?
                            .to_owned(),
                    ),
                };
                return Ok(Address { table, key, field });
            }
        }
        Err(bad("the quote is never closed"))
    }

    /// The new key in `text` for a record of `table` that has the key `old`: people write it alone, or as an address like
    /// that of the record. Keys with colons in them are taken as they are.
    ///
    /// # Errors
    /// When it is an address in another table, or none that can be read.
    pub fn new_key(schema: &Schema, table: TableId, old: &str, text: &str) -> Result<String, Error> {
        let named = text.split_once(':').filter(|_| !old.contains(':'));
        let Some(other) = named.and_then(|(name, _)| schema.table(name)) else { return Ok(text.to_owned()) };
        let address = Address::parse(text)?;
        if other != table || address.field.is_some() {
            let name = &schema.tables[table].name;
            return Err(Error::Usage {
                message: format!("`{text}` names no record of `{name}`"),
                help: format!("a record stays in its table: write its new key, or `{name}:KEY`").into(),
            });
        }
        Ok(address.key)
    }

    /// The address without quotes, so that two ways of writing one can be compared.
    pub fn unquoted(&self) -> String {
        let table = self.table.iter().map(|table| format!("{table}:"));
        let field = self.field.iter().map(|field| format!(".{field}"));
        table.chain([self.key.clone()]).chain(field).collect()
    }

    /// The address of a record as people write it, quoted where it must be.
    pub fn show(table: &str, key: &str) -> String {
        let shown = shown_key(key);
        if shown.contains(['.', ':', '"']) || shown.contains(char::is_whitespace) {
            format!("{table}:\"{}\"", shown.replace('"', "\"\""))
        } else {
            format!("{table}:{shown}")
        }
    }
}

/// Finds the record that `text` names among the effective files through layer `through`.
///
/// Cost: a text search of the files of the tables in question.
///
/// # Errors
/// When there is no such table, record or field (with the nearest names), when several tables
/// have the key, or when a file cannot be read.
pub fn resolve(view: View<'_>, text: &str) -> Result<Found, Error> {
    let View { schema, .. } = view;
    let address = Address::parse(text)?;
    let table = match &address.table {
        None => None,
        Some(name) => Some(find_table(schema, name)?),
    };
    let mut found = find_records(view, table, &address.key)?;
    let mut field = address.field.clone();
    if found.is_empty()
        && field.is_none()
        && let Some((key, last)) = address.key.rsplit_once('.')
    {
        found = find_records(view, table, key)?;
        field = Some(last.to_owned());
    }
    // A file that is a record, and a record that is named after it, are told apart by the table.
    if found.len() > 1 {
        let addresses: Vec<String> =
            found.iter().map(|found| Address::show(&schema.tables[found.table].name, &found.key)).collect();
        return Err(Error::Usage {
            message: format!("`{text}` is the key of several records"),
            help: format!("say which: {}", addresses.join(", ")).into(),
        });
    }
    let Some(mut found) = found.pop() else {
        return Err(unknown_record(view, table, &address, text));
    };
    if let Some(name) = field {
        let described = &schema.tables[found.table];
        found.field = Some(described.field(&name).ok_or_else(|| {
            Error::Unknown {
                what: "field",
                name: format!("{}.{name}", described.name),
                help: format!(
                    "the described fields are {}",
                    described.fields.iter().map(|field| field.name.as_str()).collect::<Vec<_>>().join(", ")
                )
                .into(),
            }
        })?);
    }
    Ok(found)
}

/// The table called `name`.
///
/// # Errors
/// When there is none, with the nearest name.
pub fn find_table(schema: &Schema, name: &str) -> Result<TableId, Error> {
    schema.table(name).ok_or_else(|| unknown_table(schema, name))
}

fn unknown_table(schema: &Schema, name: &str) -> Error {
    let near = schema.nearest_table(name);
    let help = match near.first() {
        Some(near) => Help::from(format!("did you mean `{near}`?")).then(NextStep::ListTables),
        None => NextStep::ListTables.into(),
    };
    Error::Unknown { what: "table", name: name.to_owned(), help }
}

/// The records with the key `shown`, of `table` or of any, one entry for each table that has it.
///
/// # Errors
/// When a file cannot be read.
pub(crate) fn find_records(view: View<'_>, table: Option<TableId>, shown: &str) -> Result<Vec<Found>, Error> {
    find_with_case(view, table, shown, false)
}

/// The records of `table` with the key `shown`, whatever the case of its letters.
///
/// # Errors
/// When a file cannot be read.
pub(crate) fn find_in_any_case(view: View<'_>, table: TableId, shown: &str) -> Result<Vec<Found>, Error> {
    find_with_case(view, Some(table), shown, true)
}

fn find_with_case(
    view: View<'_>,
    table: Option<TableId>,
    shown: &str,
    any_case: bool,
) -> Result<Vec<Found>, Error> {
    let View { schema, .. } = view;
    // A key of several parts is shown with `/` between them; its longest part is searched for.
    let part = shown.split('/').max_by_key(|part| part.len()).unwrap_or(shown);
    let plan: Vec<Option<TableScan>> = (0..schema.tables.len())
        .map(|id| {
            let described = &schema.tables[id];
            if table.is_some_and(|table| table != id) || described.is_by_use() {
                return None;
            }
            let mut fields = Vec::new();
            add_key_fields(described, &mut fields);
            let mut needles = Needles::default();
            if described.ignore_case || any_case || fields.len() < described.key.len() {
                needles.add_any();
            } else {
                needles.add(part);
            }
            let hashes = (!any_case).then(|| key_hashes(schema, id, shown));
            Some(TableScan { fields, needles, hashes })
        })
        .collect();
    let each = |id: usize, record: &RecordView<'_>, hits: &mut Vec<(TableId, String, Span)>| {
        let Some(key) = record.key() else { return };
        let folded = any_case || schema.tables[id].ignore_case;
        let named = if key.contains(KEY_SEPARATOR) { shown_key(&key) } else { key.clone() };
        if named == shown || (folded && named.to_lowercase() == shown.to_lowercase()) {
            hits.push((id, key, record.span));
        }
    };
    let hits = glance(view, &plan, &each, &|hit, in_file| hit.2 = in_file(hit.2))?;
    let mut found: Vec<Found> = Vec::new();
    for (file, hits) in hits {
        for (table, key, span) in hits {
            let place = FoundPlace { file, span };
            match found.iter_mut().find(|found| found.table == table) {
                Some(found) => found.places.push(place),
                None => found.push(Found { table, key, field: None, places: vec![place] }),
            }
        }
    }
    let by_use = (0..schema.tables.len()).filter(|id| schema.tables[*id].is_by_use());
    for id in by_use.filter(|id| table.is_none_or(|table| table == *id)) {
        let only = Some(shown).filter(|_| !any_case);
        let names = names_in_use(view, id, only)?.into_iter();
        let named = names.filter(|own| !any_case || own.name.to_lowercase() == shown.to_lowercase());
        found.extend(named.map(|own| of_name(id, own)));
    }
    found.sort_by_key(|found| found.table);
    Ok(found)
}

/// A name of a table by use as what an address names.
fn of_name(table: TableId, own: NameInUse) -> Found {
    Found { table, key: own.name, field: None, places: vec![own.first] }
}

/// The records that have one of `keys` (as kept in memory), each with its table; in the order of the files.
///
/// # Errors
/// When a file cannot be read.
pub(crate) fn find_by_keys(view: View<'_>, keys: &HashSet<(TableId, String)>) -> Result<Vec<Found>, Error> {
    /// More keys are not worth searching for one by one.
    const FEW: usize = 8;
    let View { schema, .. } = view;
    let mut wanted: HashMap<TableId, HashSet<&str>> = HashMap::new();
    for (table, key) in keys {
        wanted.entry(*table).or_default().insert(key);
    }
    let plan: Vec<Option<TableScan>> = (0..schema.tables.len())
        .map(|id| {
            let (table, keys) = (&schema.tables[id], wanted.get(&id)?);
            if table.is_by_use() {
                return None;
            }
            let mut fields = Vec::new();
            add_key_fields(table, &mut fields);
            let mut needles = Needles::default();
            if keys.len() > FEW || table.ignore_case || fields.len() < table.key.len() {
                needles.add_any();
            } else {
                keys.iter()
                    .filter_map(|key| key.split(KEY_SEPARATOR).next())
                    .for_each(|part| needles.add(part));
            }
            let hashes = keys.iter().map(|key| key_hash(key, table.ignore_case)).collect();
            Some(TableScan { fields, needles, hashes: Some(hashes) })
        })
        .collect();
    let each = |id: TableId, record: &RecordView<'_>, hits: &mut Vec<(TableId, String, Span)>| {
        if let Some(key) =
            record.key().filter(|key| wanted.get(&id).is_some_and(|own| own.contains(key.as_str())))
        {
            hits.push((id, key, record.span));
        }
    };
    let hits = glance(view, &plan, &each, &|hit, in_file| hit.2 = in_file(hit.2))?;
    let mut found: Vec<Found> = Vec::new();
    let mut by_key: HashMap<(TableId, String), usize> = HashMap::new();
    for (file, hits) in hits {
        for (table, key, span) in hits {
            let at = *by_key.entry((table, key.clone())).or_insert(found.len());
            if at == found.len() {
                found.push(Found { table, key, field: None, places: Vec::new() });
            }
            found[at].places.push(FoundPlace { file, span });
        }
    }
    for (id, keys) in wanted.iter().filter(|(id, _)| schema.tables[**id].is_by_use()) {
        let only = keys.iter().next().copied().filter(|_| keys.len() == 1);
        let names = names_in_use(view, *id, only)?.into_iter().filter(|own| keys.contains(own.name.as_str()));
        found.extend(names.map(|own| of_name(*id, own)));
    }
    Ok(found)
}

fn unknown_record(view: View<'_>, table: Option<TableId>, address: &Address, text: &str) -> Error {
    let View { schema, .. } = view;
    let plan: Vec<Option<TableScan>> = (0..schema.tables.len())
        .map(|id| {
            let mut scan = TableScan::default();
            add_key_fields(&schema.tables[id], &mut scan.fields);
            scan.needles.add_any();
            table.is_none_or(|table| table == id).then_some(scan)
        })
        .collect();
    let keys = scan(view, &plan, &|id, record, hits| hits.extend(record.key().map(|key| (id, key))));
    let mut keys: Vec<(TableId, String)> =
        keys.unwrap_or_default().into_iter().flat_map(|file| file.hits).collect();
    let by_use = (0..schema.tables.len()).filter(|id| schema.tables[*id].is_by_use());
    for id in by_use.filter(|id| table.is_none_or(|table| table == *id)) {
        let names = names_in_use(view, id, None).unwrap_or_default();
        keys.extend(names.into_iter().map(|own| (id, own.name)));
    }
    let shown: Vec<String> = keys.iter().map(|(_, key)| shown_key(key)).collect();
    let near = nearest_of(&address.key, shown.iter().map(String::as_str));
    let mut addresses = Vec::new();
    for name in near {
        for (id, key) in keys.iter().zip(&shown).filter(|(_, own)| **own == name).map(|(key, _)| key) {
            let shown = format!("`{}`", Address::show(&schema.tables[*id].name, key));
            if !addresses.contains(&shown) && addresses.len() < 3 {
                addresses.push(shown);
            }
        }
    }
    let help = match addresses.is_empty() {
        false => format!("the nearest: {}", addresses.join(", ")).into(),
        true => NextStep::SearchEverything(address.key.clone()).into(),
    };
    Error::Unknown { what: "record", name: text.to_owned(), help }
}
