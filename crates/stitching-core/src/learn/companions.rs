//! Files that each record of a table has, called as its key: the layout of a reach, the picture of a good.

use super::keys::STEM;
use super::links::ValuePlaces;
use super::profile::{Profile, ValueCount, texts_of};
use super::proposal::{Band, Proposal};
use super::references::{self, Source};
use super::targets::{Leads, Targets};
use super::{Studied, Study};
use crate::layers::FileId;
use crate::settings::toml_text;

impl Study<'_> {
    /// The folders in which (nearly) all records of a table have a file that is called as they are. `targets` has the
    /// files; a key of which `links` says something already is left alone.
    ///
    /// Cost: a look at each key.
    pub(super) fn companions(
        &self,
        targets: &Targets,
        links: &[Proposal],
        places: &ValuePlaces<'_>,
    ) -> Vec<Proposal> {
        /// Files may be called as so few records by chance.
        const LEAST: u64 = 5;
        let mut out = Vec::new();
        for (table, own) in self.studied.iter().enumerate() {
            let [part] = own.key.parts.as_slice() else { continue };
            let is_texts = own.texts.is_some() || own.table.texts.is_some();
            let Some(field) = own.table.field(part).filter(|field| !is_texts && own.open.contains(field))
            else {
                continue;
            };
            let said = |link: &Proposal| link.table == own.table.name && link.field.as_ref() == Some(part);
            let keys: &Profile = &self.counts[table].columns[field];
            if links.iter().any(|link| said(link) && link.band != Band::Hidden) || keys.is_numeric() {
                continue;
            }
            let source = Source { table, name: part.clone(), profiles: vec![keys], is_key: true };
            let distinct = keys.distinct.len() as u64;
            let found = references::hits(&source, targets).into_iter().filter_map(|hits| {
                let Leads::File(template) = &targets.list[hits.target].leads else { return None };
                let nearly_all = hits.distinct >= LEAST && hits.distinct * 100 >= distinct * 97;
                (template != "{}" && nearly_all && !self.names_file(own, links, template))
                    .then_some((hits, template))
            });
            let mut found: Vec<_> = found.collect();
            found.sort_by_key(|(hits, template)| {
                (std::cmp::Reverse(hits.distinct), template.len(), *template)
            });
            let Some((hits, template)) = found.first() else { continue };
            let has_none = |hash: &u64| !targets.of(*hash).any(|target| target == hits.target);
            let mut left: Vec<ValueCount> =
                keys.distinct.iter().filter(|(hash, _)| has_none(hash)).map(|(_, seen)| *seen).collect();
            left.sort_by_key(|seen| (seen.file, seen.cell.span.start));
            left.truncate(5);
            let texts = texts_of(self.stack, &left);
            let exceptions = left
                .iter()
                .zip(&texts)
                .filter_map(|(seen, text)| places.exception(text, seen, None))
                .collect();
            let base = Self::question(own, part, keys, "", "file");
            out.push(Proposal {
                says: format!("each has a file of its name, {template}"),
                topic: super::Topic::Link,
                settings: vec![("file".to_owned(), toml_text(template))],
                fit: hits.values,
                rivals: found[1..].iter().take(4).map(|(_, template)| (*template).clone()).collect(),
                exceptions,
                ..base
            });
        }
        out
    }

    /// Whether a column of `own` names the file that `template` makes of its key, or the record that such a file is.
    fn names_file(&self, own: &Studied, links: &[Proposal], template: &str) -> bool {
        let mut described = own.table.rules.iter().filter_map(|rule| rule.file.as_ref());
        let proposed = || links.iter().filter(|link| link.table == own.table.name);
        let is_it = |(name, value): &(String, String)| name == "file" && *value == toml_text(template);
        let is_such_a_file = |file: &FileId| {
            let path = &self.stack.files()[*file].path;
            template.replace("{}", path.stem()) == path.as_str()
        };
        let of_files = self.studied.iter().filter(|other| other.key.parts == [STEM]);
        let mut of_files = of_files.filter(|other| other.files.first().is_some_and(is_such_a_file));
        described.any(|file| file.source() == template)
            || proposed().flat_map(|link| &link.settings).any(is_it)
            || of_files.any(|other| {
                let mut refs = own.table.rules.iter().flat_map(|rule| &rule.refs);
                refs.any(|target| Some(target.table) == other.described)
                    || proposed().any(|link| link.needs.contains(&other.table.name))
            })
    }
}
