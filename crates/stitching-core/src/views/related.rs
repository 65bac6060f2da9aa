//! What surrounds a record: what else goes by its key, what lower layers say.

use crate::Error;
use crate::layers::Stack;
use crate::links::{Found, find_records};
use crate::problem::Place;
use crate::reading::View;
use crate::reading::{PlaceResolver, with_text};
use crate::schema::Schema;
use crate::tables::{Record, read_at, shown_key};

/// A record of another table that goes by the same key.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Companion {
    /// Its table.
    pub table: String,
    /// Its key as shown.
    pub key: String,
    /// Where it is.
    pub place: Place,
}

/// The records of other tables with the key of `found`.
///
/// # Errors
/// When a file cannot be read.
pub fn companions(view: View<'_>, found: &Found) -> Result<Vec<Companion>, Error> {
    let View { stack, schema, .. } = view;
    let mut places = PlaceResolver::new(stack);
    let mut out = Vec::new();
    for other in find_records(view, None, &shown_key(&found.key))? {
        let is_text = schema.tables[other.table].texts.is_some();
        let Some(at) = other.places.first().filter(|_| other.table != found.table && !is_text) else {
            continue;
        };
        out.push(Companion {
            table: schema.tables[other.table].name.clone(),
            key: shown_key(&other.key),
            place: places.place(at.file, at.span)?,
        });
    }
    Ok(out)
}

/// What a lower layer has in place of a record.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Version {
    /// The layer.
    pub layer: String,
    /// Where the record is there.
    pub place: Place,
    /// The fields that say something else there: name, and what they say; `None` for one that it lacks.
    pub differs: Vec<(String, Option<String>)>,
}

/// What the layers below that of `found` have in its place, highest first. In a table whose layers count
/// together there is nothing in place of anything.
///
/// # Errors
/// When a file cannot be read.
pub fn versions(stack: &Stack, schema: &Schema, found: &Found) -> Result<Vec<Version>, Error> {
    let described = &schema.tables[found.table];
    let Some(at) = found.places.first().filter(|_| !described.merged && described.texts.is_none()) else {
        return Ok(Vec::new());
    };
    let read = |place: &crate::links::FoundPlace| -> Result<Option<Vec<(String, String)>>, Error> {
        let path = &stack.files()[place.file].path;
        with_text(stack, place.file, |text| {
            let wide = described.widened(&described.format.columns(text));
            let values = |record: Record| -> Vec<(String, String)> {
                let values = record.values.into_iter().filter(|value| !value.nested);
                values.map(|value| (wide.fields[value.field].name.clone(), value.text)).collect()
            };
            read_at(&wide, path, text, place.span).map(values)
        })
    };
    let own = read(at)?.unwrap_or_default();
    let mut places = PlaceResolver::new(stack);
    let mut out = Vec::new();
    let mut below = stack.files()[at.file].layer;
    while let Some(layer) = below.checked_sub(1) {
        let other =
            find_records(View { stack, schema, through: layer }, Some(found.table), &shown_key(&found.key))?
                .pop();
        let Some(place) = other.and_then(|other| other.places.first().copied()) else { break };
        let there = read(&place)?.unwrap_or_default();
        let says = |list: &[(String, String)], name: &str| -> Vec<String> {
            list.iter().filter(|(own, _)| own == name).map(|(_, value)| value.clone()).collect()
        };
        let mut names: Vec<&String> = there.iter().chain(&own).map(|(name, _)| name).collect();
        let mut seen = std::collections::HashSet::new();
        names.retain(|name| seen.insert(*name));
        let differs = names.into_iter().filter_map(|name| {
            let theirs = says(&there, name);
            (theirs != says(&own, name))
                .then(|| (name.clone(), (!theirs.is_empty()).then(|| theirs.join(", "))))
        });
        below = stack.files()[place.file].layer;
        out.push(Version {
            layer: stack.layers()[below].name.clone(),
            place: places.place(place.file, place.span)?,
            differs: differs.collect(),
        });
    }
    Ok(out)
}
