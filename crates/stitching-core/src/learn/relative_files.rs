//! Columns that name files beside the file that they stand in: `hull.png` in `ships/tern/ship.json`.

use super::links::ValuePlaces;
use super::profile::{ValueCount, texts_of};
use super::proposal::{Band, Proposal, Topic};
use super::siblings::each_record;
use super::{Studied, Study};
use crate::layers::FileId;
use crate::schema::path_from;
use crate::settings::toml_text;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// So many of the different values of a column are tried before all of it is read.
const TRIED: usize = 64;
/// Fewer values may name files by chance.
const LEAST: u64 = 3;
/// That many name files for sure.
const SURE: u64 = 8;

/// The files that values can name.
struct Files<'s> {
    paths: HashSet<&'s str>,
    /// The endings that there are of a path without its ending.
    endings: HashMap<&'s str, Vec<&'s str>>,
}

/// What is counted of a column.
#[derive(Default)]
struct Tally {
    values: u64,
    /// How many values name a file with each ending that they lack; an empty one if they lack none.
    fit: BTreeMap<String, u64>,
    /// The folders in which some value names a file.
    folders: BTreeSet<String>,
    /// The first values that name no file.
    left: Vec<(String, ValueCount)>,
}

impl Study<'_> {
    /// The columns, besides those that `linked` has by table and name, whose values name files from the folder of their own
    /// file.
    ///
    /// Cost: a look at some values of each column, and at all of those that seem to name files.
    pub(super) fn relative_files(
        &self,
        linked: &BTreeSet<(String, String)>,
        places: &ValuePlaces<'_>,
    ) -> Vec<Proposal> {
        let files = self.all_files();
        let mut out = Vec::new();
        for (table, own) in self.studied.iter().enumerate() {
            let is_free = |field: &usize| {
                let name = &own.table.fields[*field].name;
                !own.key.parts.contains(name) && !linked.contains(&(own.table.name.clone(), name.clone()))
            };
            let fields: Vec<usize> = own.open.iter().copied().filter(is_free).collect();
            let fields: Vec<usize> =
                fields.into_iter().filter(|field| self.seems_to_name_files(table, *field, &files)).collect();
            if fields.is_empty() {
                continue;
            }
            for (field, tally) in fields.iter().zip(self.tally(own, &fields, &files)) {
                out.extend(self.names_files(table, *field, &tally, places));
            }
        }
        out
    }

    fn all_files(&self) -> Files<'_> {
        let mut files = Files { paths: HashSet::new(), endings: HashMap::new() };
        for file in self.stack.effective(self.stack.top()) {
            let path = self.stack.files()[file].path.as_str();
            files.paths.insert(path);
            if let Some((stem, ending)) = path.rsplit_once('.').filter(|(_, ending)| !ending.contains('/')) {
                files.endings.entry(stem).or_default().push(ending);
            }
        }
        files
    }

    fn seems_to_name_files(&self, table: usize, field: usize, files: &Files<'_>) -> bool {
        let profile = &self.counts[table].columns[field];
        if profile.is_numeric() || profile.prose * 2 > profile.values {
            return false;
        }
        let mut seen: Vec<ValueCount> = profile.distinct.values().copied().collect();
        seen.sort_by_key(|seen| (seen.file, seen.cell.span.start));
        seen.truncate(TRIED);
        let texts = texts_of(self.stack, &seen);
        let count = |seen: &ValueCount| u64::from(seen.count);
        let pairs = seen.iter().zip(&texts);
        let named = pairs.filter(|(seen, text)| !self.named(seen.file as FileId, text, files).is_empty());
        let hits: u64 = named.map(|(seen, _)| count(seen)).sum();
        hits > 0 && hits * 10 >= seen.iter().map(count).sum::<u64>() * 6
    }

    /// The endings with which `value` names a file beside `file`, and not that itself; an empty one if it needs none.
    fn named<'f>(&self, file: FileId, value: &str, files: &Files<'f>) -> Vec<&'f str> {
        let own = &self.stack.files()[file].path;
        let path = path_from(own.folder(), value);
        if value.is_empty() || path == own.as_str() {
            return Vec::new();
        }
        if files.paths.contains(path.as_str()) {
            return vec![""];
        }
        let endings = files.endings.get(path.as_str()).map_or(&[][..], Vec::as_slice);
        let is_other =
            |ending: &&&str| own.as_str().strip_prefix(path.as_str()) != Some(&format!(".{ending}"));
        endings.iter().filter(is_other).copied().collect()
    }

    /// What all values of `fields` name.
    fn tally(&self, own: &Studied, fields: &[usize], files: &Files<'_>) -> Vec<Tally> {
        let mut tallies: Vec<Tally> = fields.iter().map(|_| Tally::default()).collect();
        each_record(self.stack, &own.table, &own.files, fields, &mut |file, values| {
            for (tally, value) in tallies.iter_mut().zip(values) {
                let Some(value) = value.as_ref().filter(|value| !value.text.is_empty()) else { continue };
                tally.values += 1;
                let endings = self.named(file, &value.text, files);
                if endings.is_empty() {
                    if tally.left.len() < 5 {
                        tally.left.push((value.text.clone(), value.seen));
                    }
                    continue;
                }
                tally.folders.insert(self.stack.files()[file].path.folder().to_owned());
                for ending in endings {
                    *tally.fit.entry(ending.to_owned()).or_default() += 1;
                }
            }
        });
        tallies
    }

    fn names_files(
        &self,
        table: usize,
        field: usize,
        tally: &Tally,
        places: &ValuePlaces<'_>,
    ) -> Option<Proposal> {
        let own = &self.studied[table];
        let (ending, fit) =
            tally.fit.iter().max_by_key(|(ending, fit)| (**fit, std::cmp::Reverse(*ending)))?;
        // In one folder alone, a template with that folder says the same, and is looked for elsewhere.
        if *fit < LEAST || fit * 10 < tally.values * 9 || tally.folders.len() < 2 {
            return None;
        }
        let template = match ending.as_str() {
            "" => "{folder}/{}".to_owned(),
            ending => format!("{{folder}}/{{}}.{ending}"),
        };
        let name = &own.table.fields[field].name;
        let left = tally.left.iter().filter_map(|(text, seen)| places.exception(text, seen, None));
        Some(Proposal {
            band: if *fit == tally.values && *fit >= SURE { Band::Accept } else { Band::Ask },
            topic: Topic::Link,
            says: format!("names a file beside its own, {template}"),
            settings: vec![("file".to_owned(), toml_text(&template))],
            values: tally.values,
            fit: *fit,
            exceptions: left.collect(),
            ..Self::question(own, name, &self.counts[table].columns[field], "", "file")
        })
    }
}
