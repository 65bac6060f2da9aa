//! What kinds of values the columns hold that point nowhere, as proposals.

use super::keys::STEM;
use super::names;
use super::profile::{Profile, ValueCount, texts_of};
use super::proposal::{Band, Proposal, Topic};
use super::values;
use super::{Studied, Study};
use crate::settings::toml_text;
use std::collections::{BTreeMap, BTreeSet};

impl Study<'_> {
    /// Columns by which others refer to records, though they are not the key; `links` is what points somewhere.
    pub(super) fn referred_to(&self, links: &[Proposal]) -> Vec<Proposal> {
        let mut out = Vec::new();
        for (table, own) in self.studied.iter().enumerate() {
            for field in own.open.iter().chain(&own.bare) {
                let name = &own.table.fields[*field].name;
                let column = format!("{}.{name}", own.table.name);
                let by: Vec<&Proposal> = links.iter().filter(|link| link.needs.contains(&column)).collect();
                let Some(band) = by.iter().map(|link| link.band).min() else { continue };
                let from = |link: &&Proposal| {
                    format!("{}.{}", link.table, link.field.as_deref().unwrap_or_default())
                };
                let from: Vec<String> = by.iter().take(3).map(from).collect();
                let profile = &self.counts[table].columns[*field];
                let base = Self::question(own, name, profile, "no two are the same", "unique");
                let reasons = vec![format!("{} points to it", from.join(", "))];
                out.push(Proposal { band, reasons, ..base });
            }
        }
        out
    }

    /// What kinds of values the columns hold that point nowhere; `told` is what is said of columns that others refer to.
    pub(super) fn kinds(&self, linked: &BTreeSet<(String, String)>, told: &[Proposal]) -> Vec<Proposal> {
        let mut asked: Vec<(usize, usize, Vec<ValueCount>)> = Vec::new();
        for (table, own) in self.studied.iter().enumerate() {
            let is_texts = own.texts.is_some() || own.table.texts.is_some();
            for field in own.open.iter().chain(&own.bare).filter(|_| !is_texts) {
                let name = &own.table.fields[*field].name;
                if !linked.contains(&(own.table.name.clone(), name.clone())) {
                    asked.push((table, *field, values::telling(&self.counts[table].columns[*field])));
                }
            }
        }
        let seen: Vec<ValueCount> = asked.iter().flat_map(|(_, _, seen)| seen.iter().copied()).collect();
        let texts = texts_of(self.stack, &seen);
        let mut start = 0;
        let mut out = Vec::new();
        for (table, field, seen) in asked {
            let own_texts = &texts[start..start + seen.len()];
            start += seen.len();
            let own = &self.studied[table];
            let name = &own.table.fields[field].name;
            let profile = &self.counts[table].columns[field];
            let is_key = own.key.parts.contains(name);
            if names::is_note(name) {
                out.push(Self::question(own, name, profile, "a note for people, by its name", "note"));
                continue;
            }
            let unique = !is_key && values::seems_unique(name, profile, self.counts[table].records);
            let kind = values::kind_of(profile, is_key, &seen, own_texts);
            let base = Self::question(own, name, profile, "no two are the same", "unique");
            if let Some(values::Total { separator, total }) = values::total(profile, own_texts) {
                let says = format!("lists of numbers that add up to {total}");
                let settings = vec![
                    ("list".to_owned(), toml_text(&separator.to_string())),
                    ("type".to_owned(), toml_text("number")),
                    ("about".to_owned(), toml_text(&format!("The items add up to {total}."))),
                ];
                out.push(Proposal { says, settings, ..base });
                continue;
            }
            let dense = values::is_dense(profile) && !is_key;
            let is_told =
                told.iter().any(|other| other.table == own.table.name && other.field.as_ref() == Some(name));
            if (unique || dense) && !is_told {
                let says = match dense {
                    true => format!("numbered from {} to {} without a gap", profile.lowest, profile.highest),
                    false => base.says.clone(),
                };
                out.push(Proposal { says, ..base.clone() });
            }
            if let Some(bits) = values::bits(name, profile, own_texts).filter(|_| !is_key) {
                let shown: Vec<String> = bits.iter().map(i64::to_string).collect();
                let says = format!("flag bits: {}", shown.join(", "));
                let settings = vec![("flags".to_owned(), format!("[{}]", shown.join(", ")))];
                out.push(Proposal { says, settings, ..base.clone() });
            }
            if own.bare.contains(&field) {
                continue;
            }
            if let Some((low, high)) = values::range(profile).filter(|_| !is_key && !dense) {
                let says = format!("numbers from {low} to {high}, so far");
                let settings = vec![("range".to_owned(), format!("[{low}, {high}]"))];
                out.push(Proposal { band: Band::Hidden, says, settings, ..base.clone() });
            }
            if let Some(kind) = kind.filter(|_| name != STEM) {
                let values::Kind { band, says, settings, fit, reasons, none } = kind;
                out.push(Proposal { band, says, settings, fit, reasons, none, ..base });
            }
        }
        out
    }

    /// Columns of one name in several tables that point nowhere and hold much the same words.
    pub(super) fn shared(&self, linked: &BTreeSet<(String, String)>) -> Vec<Proposal> {
        let mut by_name: BTreeMap<String, Vec<(usize, usize)>> = BTreeMap::new();
        for (table, own) in self.studied.iter().enumerate() {
            let is_texts = own.texts.is_some() || own.table.texts.is_some();
            for field in own.open.iter().filter(|_| !is_texts) {
                let name = &own.table.fields[*field].name;
                let profile = &self.counts[table].columns[*field];
                let words = profile.level == 0
                    && profile.distinct.len() >= 2
                    && profile.lettered == profile.values
                    && profile.booleans == 0
                    && profile.is_identifiers();
                let points = linked.contains(&(own.table.name.clone(), name.clone()));
                if words && !points && !own.key.parts.contains(name) {
                    by_name.entry(name.to_lowercase()).or_default().push((table, *field));
                }
            }
        }
        let mut out = Vec::new();
        for columns in by_name.into_values().filter(|columns| columns.len() > 1) {
            for (at, field) in &columns {
                let own = &self.counts[*at].columns[*field].distinct;
                let with = columns.iter().filter(|(table, other)| {
                    let others = &self.counts[*table].columns[*other].distinct;
                    let both = own.keys().filter(|hash| others.contains_key(*hash)).count();
                    (table, other) != (at, field) && both >= 2 && both * 10 >= own.len().min(others.len()) * 6
                });
                let with: Vec<String> = with
                    .map(|(table, other)| {
                        let other_table = &self.studied[*table].table;
                        format!("{}.{}", other_table.name, other_table.fields[*other].name)
                    })
                    .collect();
                if with.is_empty() {
                    continue;
                }
                let table = &self.studied[*at];
                let name = &table.table.fields[*field].name;
                let says = format!("the same words as in {}", with.join(", "));
                let about = format!("The same words as in {}.", with.join(", "));
                let base = Self::question(table, name, &self.counts[*at].columns[*field], "", "about");
                out.push(Proposal { says, settings: vec![("about".to_owned(), toml_text(&about))], ..base });
            }
        }
        out
    }

    /// A question about the values of a column: what it `says`, and the setting that would say `true`.
    pub(super) fn question(
        own: &Studied,
        name: &str,
        profile: &Profile,
        says: &str,
        setting: &str,
    ) -> Proposal {
        Proposal {
            band: Band::Ask,
            topic: Topic::Values,
            table: own.table.name.clone(),
            field: Some(name.to_owned()),
            says: says.to_owned(),
            needs: Vec::new(),
            settings: vec![(setting.to_owned(), "true".to_owned())],
            values: profile.values,
            fit: profile.values,
            distinct: profile.different(),
            none: Vec::new(),
            exceptions: Vec::new(),
            rivals: Vec::new(),
            reasons: Vec::new(),
        }
    }
}
