//! Parts of paths that are called as records: each folder `basins/north/` as a basin.

use super::keys::STEM;
use super::links::ValuePlaces;
use super::names;
use super::profile::ValueCount;
use super::proposal::{Band, Proposal, Topic};
use super::targets::{Leads, Target, Targets};
use super::{Studied, Study};
use crate::formats::{Cell, Form};
use crate::layers::FileId;
use crate::settings::toml_text;
use crate::tables::key_hash;
use crate::text::Span;
use std::collections::BTreeMap;

/// Fewer names are alike by chance.
const LEAST: usize = 3;

/// So many names that are no records are told.
const EXCEPTIONS: usize = 5;

impl Study<'_> {
    /// The parts of paths that name the records of another table. Of a file's name nothing is said where `links` has it named by
    /// these records.
    ///
    /// Cost: a look at each file.
    pub(super) fn path_links(
        &self,
        targets: &Targets,
        links: &[Proposal],
        places: &ValuePlaces<'_>,
    ) -> Vec<Proposal> {
        let mut out = Vec::new();
        for (table, own) in self.studied.iter().enumerate() {
            let part = own.file_part();
            let is_file_name = part.name == STEM;
            let is_texts = own.texts.is_some() || own.table.texts.is_some();
            let is_said = own.table.field(&part.name).is_some();
            // Of several tables in the same files the first one says it, or that whose records are the files.
            let says_it = |(at, other): (usize, &Studied)| {
                let is_file = other.key.parts == [STEM] && own.key.parts != [STEM];
                at != table && other.files == own.files && is_file_name && (at < table || is_file)
            };
            let is_said = is_said || self.studied.iter().enumerate().any(says_it);
            if is_texts || is_said || is_file_name && !own.key.parts.contains(&part.name) {
                continue;
            }
            // Each name, with the first file that has it, and how many do.
            let mut called: BTreeMap<&str, (FileId, u32)> = BTreeMap::new();
            for file in &own.files {
                called.entry(part.text(&self.stack.files()[*file].path)).or_insert((*file, 0)).1 += 1;
            }
            let mut hits: BTreeMap<usize, usize> = BTreeMap::new();
            for name in called.keys() {
                targets.of(key_hash(name, false)).for_each(|target| *hits.entry(target).or_default() += 1);
            }
            let column = part.name.trim_matches(['{', '}']);
            let agrees = |target: usize| match is_file_name {
                true => 0,
                false => names::agreement(column, &targets.list[target].name),
            };
            let is_other = |target: usize| match targets.list[target].leads {
                Leads::Record(other) => other != table && self.studied[other].files != own.files,
                _ => false,
            };
            let others: Vec<(usize, usize)> =
                hits.iter().map(|(target, hits)| (*target, *hits)).filter(|own| is_other(own.0)).collect();
            let best = others.iter().max_by_key(|(target, hits)| (*hits, agrees(*target)));
            let Some(&(best, fit)) = best else { continue };
            let target = &targets.list[best];
            if is_file_name
                && (is_named_by(own, &target.name, links) || self.names_files_of(own, target, links))
            {
                continue;
            }
            let rivals: Vec<&str> = others
                .iter()
                .filter(|(other, hits)| *other != best && *hits == fit && agrees(*other) >= agrees(best))
                .map(|(other, _)| targets.list[*other].name.as_str())
                .collect();
            let is_all = fit == called.len();
            let band = match agrees(best) {
                1.. if is_all && fit >= LEAST && rivals.is_empty() => Band::Accept,
                _ if is_all && fit >= 2 * LEAST && rivals.is_empty() && !is_file_name => Band::Accept,
                1.. if fit >= LEAST && fit * 100 >= called.len() * 80 => Band::Ask,
                _ if fit >= 2 * LEAST && fit * 100 >= called.len() * 97 => Band::Ask,
                _ => continue,
            };
            let leads_there = |name: &str| targets.of(key_hash(name, false)).any(|target| target == best);
            let left = called.iter().filter(|(name, _)| !leads_there(name)).take(EXCEPTIONS);
            let exceptions = left.filter_map(|(name, (file, count))| {
                // It stands in the path: the place is the beginning of the file.
                let cell = Cell { span: Span { start: 0, end: 0 }, form: Form::Plain };
                let seen = ValueCount { count: *count, file: *file as u32, cell, part: None };
                places.exception(name, &seen, None)
            });
            let says = match is_file_name {
                true => format!("each file is called as one of {}", target.name),
                false => format!("each folder is called as one of {}", target.name),
            };
            out.push(Proposal {
                band,
                topic: Topic::Link,
                table: own.table.name.clone(),
                field: Some(part.name.clone()),
                says,
                needs: vec![target.name.clone()],
                settings: vec![("ref".to_owned(), toml_text(&target.name))],
                values: called.len() as u64,
                fit: fit as u64,
                distinct: called.len() as u64,
                none: Vec::new(),
                exceptions: exceptions.collect(),
                rivals: rivals.iter().map(|name| (*name).to_owned()).collect(),
                reasons: Vec::new(),
            });
        }
        out
    }

    /// Whether a field of the records that `target` leads to names the files of `own`, by the schema or by `links`.
    fn names_files_of(&self, own: &Studied, target: &Target, links: &[Proposal]) -> bool {
        let (Leads::Record(table), Some(file)) = (&target.leads, own.files.first()) else { return false };
        let path = &self.stack.files()[*file].path;
        let makes_path = |template: &str| template.replace("{}", path.stem()) == path.as_str();
        let described = &self.studied[*table].table;
        let mut said = described.rules.iter().filter_map(|rule| rule.file.as_ref());
        let proposed = links.iter().filter(|link| link.table == described.name && link.band == Band::Accept);
        let mut proposed = proposed.flat_map(|link| &link.settings).filter(|(name, _)| name == "file");
        said.any(|file| makes_path(file.source()))
            || proposed.any(|(_, value)| makes_path(value.trim_matches(['"', '\''])))
    }
}

/// Whether records of the table `target` name those of `own`, or those of `own` name them by a field, so that the files need not
/// say it again.
fn is_named_by(own: &Studied, target: &str, links: &[Proposal]) -> bool {
    let leads =
        |link: &Proposal, from: &str, to: &str| link.table == from && link.needs.iter().any(|own| own == to);
    let name = own.table.name.as_str();
    links
        .iter()
        .any(|link| leads(link, target, name) || (link.band == Band::Accept && leads(link, name, target)))
}
