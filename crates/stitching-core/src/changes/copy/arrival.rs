//! What comes from another layer or project with a record: gathered there, and put into files here as it is written there.

use super::entries::{outermost, taken_entries};
use super::values::{is_unique, overrides};
use super::{CopySource, Lacking};
use crate::Error;
use crate::changes::belongings::{Belongings, OwnRecord};
use crate::changes::builder::Builder;
use crate::changes::change::{Change, Note};
use crate::changes::new_values::{NewValues, value_edits};
use crate::changes::overlay::insert_over;
use crate::changes::record_finder::RecordFinder;
use crate::changes::record_place::{RecordPlace, beside, fitting};
use crate::changes::switch::is_whole_file;
use crate::changes::unused_values::UnusedValues;
use crate::formats::Place;
use crate::help::NextStep;
use crate::layers::{FileId, LayerId, RelPath};
use crate::links::{Address, Found, Thing, Use, belongs_by, find_by_keys, find_uses};
use crate::project::Project;
use crate::rows::Row;
use crate::schema::{KeyPart, Layout, TableId};
use crate::tables::{KEY_SEPARATOR, Record, read_all};
use crate::text::{Edit, EditSet, LoadedText, Span, Text};
use std::collections::{BTreeMap, HashMap, HashSet};

/// What comes from the other project.
pub(super) struct Arrival<'p> {
    project: &'p Project,
    other: &'p Project,
    /// What comes along, in the other project.
    own: Belongings<'p>,
    builder: Builder<'p>,
    here: RecordFinder<'p>,
    there: RecordFinder<'p>,
    without: HashSet<TableId>,
    /// The record that is asked for, with its key here.
    main: (TableId, String),
    /// Where it goes, if that is asked for.
    place: Option<(FileId, Place)>,
    unused: UnusedValues,
    /// The values here of rules by which no two records may have the same, as far as they were asked for.
    values: HashMap<(TableId, usize), HashSet<String>>,
    /// The fields of that record that get a value here.
    given: HashSet<String>,
    /// What is here already.
    known: HashSet<(TableId, String)>,
}

/// A record that comes, as it stands in a file of the other project.
struct Arriving {
    table: TableId,
    key: Option<String>,
    span: Span,
}

impl<'p> Arrival<'p> {
    /// Begins with the record `main` of `other`: its table, and its key there and here. `given` are its fields that get a value here;
    /// nothing comes of the tables `without`.
    pub fn new(
        project: &'p Project,
        other: &'p Project,
        title: &str,
        main: (TableId, String),
        given: HashSet<String>,
        without: HashSet<TableId>,
    ) -> Arrival<'p> {
        Arrival {
            project,
            other,
            own: Belongings::new(other, Vec::new()),
            builder: Builder::new(project, title),
            here: RecordFinder::new(project),
            there: RecordFinder::new(other),
            without,
            main,
            place: None,
            unused: UnusedValues::default(),
            values: HashMap::new(),
            given,
            known: HashSet::new(),
        }
    }

    /// Gathers what comes along.
    ///
    /// # Errors
    /// When something that it refers to is lacking here and is neither to come along nor to be left, or a file cannot be read.
    pub fn gather(&mut self, source: &CopySource) -> Result<(), Error> {
        let schema = &self.project.schema;
        let without = self.without.clone();
        let follows = |one: &Use| !without.contains(&one.table) && belongs_by(schema, one.table, one.rule);
        find_by_keys(self.other.view(), &HashSet::from([self.main.clone()]))?
            .into_iter()
            .for_each(|found| self.own.add(found));
        loop {
            self.own.gather(&follows)?;
            let lacks = self.lacking_of(self.own.shared.iter().map(|(thing, _)| thing))?;
            if self.own.take_shared(&|thing| lacks.contains(thing))? {
                continue;
            }
            let lacking = self.lacking_records()?;
            match source.lacking {
                _ if lacking.is_empty() => return Ok(()),
                Lacking::Refuse => return Err(self.refused(&lacking)),
                Lacking::Bring => lacking.into_iter().for_each(|found| self.own.add(found)),
                Lacking::Leave => return Ok(()),
            }
        }
    }

    /// Those of some texts and files that this project does not have.
    fn lacking_of<'t>(&self, things: impl Iterator<Item = &'t Thing>) -> Result<HashSet<Thing>, Error> {
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let paths: HashSet<&RelPath> =
            stack.effective(stack.top()).into_iter().map(|file| &stack.files()[file].path).collect();
        let mut out: HashSet<Thing> = things.cloned().collect();
        let texts = out.iter().filter_map(|thing| match thing {
            Thing::Text(key) => Some(key.clone()),
            _ => None,
        });
        let texts: HashSet<(TableId, String)> =
            texts.flat_map(|key| schema.text_tables().map(move |table| (table, key.clone()))).collect();
        let here = find_by_keys(self.project.view(), &texts)?;
        let here: HashSet<String> = here.into_iter().map(|found| found.key).collect();
        out.retain(|thing| match thing {
            Thing::Text(key) => !here.contains(key),
            Thing::File(path) => !paths.contains(path),
            Thing::Record(..) | Thing::Column(..) => false,
        });
        Ok(out)
    }

    /// The records of the other project that what comes refers to, which are neither here nor come along.
    fn lacking_records(&self) -> Result<Vec<Found>, Error> {
        let comes: HashSet<(TableId, String)> = self.own.keys().collect();
        let mut open = self.own.referred().clone();
        open.retain(|key| !comes.contains(key) && !self.without.contains(&key.0));
        for found in find_by_keys(self.project.view(), &open)? {
            open.remove(&(found.table, found.key));
        }
        let mut lacking = find_by_keys(self.other.view(), &open)?;
        if !self.given.is_empty() {
            self.retain_still_referred(&mut lacking)?;
        }
        Ok(lacking)
    }

    /// Leaves out what only fields refer to that get another value here.
    fn retain_still_referred(&self, lacking: &mut Vec<Found>) -> Result<(), Error> {
        let things: Vec<Thing> =
            lacking.iter().map(|found| Thing::Record(found.table, found.key.clone())).collect();
        let mut referred = vec![false; things.len()];
        for one in find_uses(self.other.view(), &things)? {
            let field = &self.project.schema.tables[one.table].fields[one.field].name;
            let is_main = one.table == self.main.0 && one.kept_key.as_ref() == Some(&self.main.1);
            let is_given = is_main && self.given.contains(field);
            referred[one.thing] |= self.own.has(one.file, one.span) && !is_given;
        }
        let mut referred = referred.into_iter();
        lacking.retain(|_| referred.next().unwrap_or(true));
        Ok(())
    }

    fn refused(&self, lacking: &[Found]) -> Error {
        const NAMED: usize = 5;
        let address =
            |found: &Found| Address::show(&self.project.schema.tables[found.table].name, &found.key);
        let named = lacking.iter().take(NAMED).map(address).collect::<Vec<_>>().join(", ");
        let more = match lacking.len().saturating_sub(NAMED) {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        let what = if lacking.len() == 1 { "a record" } else { "records" };
        Error::refused(
            format!("it refers to {what} that this project lacks: {named}{more}; nothing was changed"),
            NextStep::BringLacking,
        )
    }

    /// Where the record that is asked for goes, if not where it fits.
    ///
    /// # Errors
    /// When the record that it is to stand beside is not here.
    pub fn find_place(&mut self, place: &RecordPlace) -> Result<(), Error> {
        if *place == RecordPlace::Fitting {
            return Ok(());
        }
        let rows = self.here.rows(self.main.0)?;
        self.place = beside(&rows, place)?.map(|(row, side)| (row.file, side.of(row.span)));
        Ok(())
    }

    /// The change that brings it all here.
    ///
    /// # Errors
    /// When a file cannot be read, or something cannot be put where it belongs.
    pub fn finish(mut self) -> Result<Change, Error> {
        let (schema, other) = (&self.project.schema, self.other);
        let comes: HashSet<(TableId, String)> = self.own.keys().collect();
        for found in find_by_keys(self.project.view(), &comes)? {
            let key = (found.table, found.key);
            // A record that its position names is another one here.
            if !schema.tables[key.0].key.contains(&KeyPart::Position) {
                self.builder.note(Note::RecordKept(Address::show(&schema.tables[key.0].name, &key.1)));
                self.known.insert(key);
            }
        }
        for file in self.own.files.clone() {
            let path = other.stack.files()[file].path.clone();
            self.copy_file(file, &path)?;
        }
        for (file, records) in self.by_file() {
            let entry = &other.stack.files()[file];
            let (path, merged) = (entry.path.clone(), entry.merged);
            let spans: Vec<Span> = records.iter().map(|one| one.span).collect();
            let table = &schema.tables[records[0].table];
            let is_there = self.file_here(&path).is_some();
            if !merged && !is_there && is_whole_file(other, table, file, &spans)? {
                self.copy_file(file, &path)?;
            } else {
                self.copy_records(file, &path, records)?;
            }
        }
        let mut along: Vec<&(TableId, String)> =
            comes.iter().filter(|key| **key != self.main && !self.known.contains(*key)).collect();
        along.sort();
        let records = along.len() + 1;
        for (table, key) in along {
            self.builder.note(Note::CameAlong(Address::show(&schema.tables[*table].name, key)));
        }
        self.builder.count_records(records);
        self.builder.finish()
    }

    fn file_here(&self, path: &RelPath) -> Option<FileId> {
        let stack = &self.project.stack;
        stack.effective(stack.top()).into_iter().rfind(|file| stack.files()[*file].path == *path)
    }

    /// The records that come and are not in files that come as a whole; of one that several layers have a part of, the lowest.
    fn by_file(&self) -> BTreeMap<FileId, Vec<Arriving>> {
        let (stack, schema) = (&self.other.stack, &self.project.schema);
        let layer = |file: FileId| -> LayerId { stack.files()[file].layer };
        let mut out: BTreeMap<FileId, Vec<Arriving>> = BTreeMap::new();
        for record in &self.own.records {
            let is_known =
                record.key.as_ref().is_some_and(|key| self.known.contains(&(record.table, key.clone())));
            if is_known || self.without.contains(&record.table) {
                continue;
            }
            let lowest = record.places.iter().map(|place| layer(place.file)).min();
            let merged = schema.tables[record.table].merged;
            for place in &record.places {
                let counts = !merged || Some(layer(place.file)) == lowest;
                if counts && !self.own.files.contains(&place.file) {
                    let (table, key, span) = (record.table, record.key.clone(), place.span);
                    out.entry(place.file).or_default().push(Arriving { table, key, span });
                }
            }
        }
        out
    }

    /// Copies a file as a whole, with what must be another value in its records; one that is here stays.
    fn copy_file(&mut self, file: FileId, path: &RelPath) -> Result<(), Error> {
        if self.file_here(path).is_some() {
            self.builder.note(Note::FileKept(path.to_string()));
            return Ok(());
        }
        let entry = &self.other.stack.files()[file];
        let loaded = self.load(file)?;
        let own = |record: &OwnRecord| {
            let places = record.places.iter().filter(|place| place.file == file);
            let arriving = |span| Arriving { table: record.table, key: record.key.clone(), span };
            places.map(|place| arriving(place.span)).collect::<Vec<_>>()
        };
        let records: Vec<Arriving> = self.own.records.iter().flat_map(own).collect();
        let text = loaded.text();
        let edits = self.edits(path, &text, &records)?;
        self.builder.note(Note::FileBrought(path.to_string()));
        if edits.is_empty() {
            return self.builder.create_with(path, loaded.bytes().to_vec(), entry.encoding);
        }
        let after = applied(path, &text, edits)?;
        self.builder.create_like(path, &after, &text, entry.encoding)
    }

    fn load(&self, file: FileId) -> Result<LoadedText, Error> {
        let mut bytes = Vec::new();
        self.other.stack.read(file, &mut bytes)?;
        Ok(LoadedText::new(bytes, self.other.stack.files()[file].encoding))
    }

    /// What is another value here: what higher layers say, and what no two records may have alike.
    fn edits(&mut self, path: &RelPath, text: &Text<'_>, records: &[Arriving]) -> Result<Vec<Edit>, Error> {
        let schema = &self.project.schema;
        let mut by_table: BTreeMap<TableId, Vec<&Arriving>> = BTreeMap::new();
        records.iter().for_each(|one| by_table.entry(one.table).or_default().push(one));
        let mut edits = Vec::new();
        for (id, records) in by_table {
            let table = &schema.tables[id];
            let unique = |at: &usize| is_unique(table, *at) && !table.is_key_field(*at);
            let unique: Vec<usize> = (0..table.fields.len()).filter(unique).collect();
            // The file is read once, however many records come.
            let read: HashMap<Span, Record> = match unique.is_empty() {
                true => HashMap::new(),
                false => read_all(table, path, text).into_iter().map(|own| (own.span, own)).collect(),
            };
            let mut values = Vec::new();
            for one in records {
                let mut fields = overrides(self.other, &self.there, id, one.key.as_deref(), path)?;
                for at in &unique {
                    let value = read.get(&one.span).and_then(|read| read.value(*at));
                    if let Some(value) = value
                        && self.is_taken(id, *at, &value.text)?
                        && let Some(next) = self.unused.next(self.project, id, &table.fields[*at].name)?
                    {
                        fields.retain(|(own, _)| own != at);
                        fields.push((*at, vec![next]));
                    }
                }
                let (record, key) = (one.span, one.key.clone());
                values.push(NewValues { record, key, fields, is_bare: false });
            }
            values.retain(|own| !own.fields.is_empty());
            edits.extend(value_edits(table, path, text, &values)?);
        }
        Ok(edits)
    }

    /// Whether a record here has this value in a field in which no two may have the same.
    fn is_taken(&mut self, table: TableId, field: usize, value: &str) -> Result<bool, Error> {
        let Layout::Whole(rule) = self.project.schema.tables[table].fields[field].layout else {
            return Ok(false);
        };
        if !self.values.contains_key(&(table, rule)) {
            let values = self.here.rows(table)?.by_value(rule).into_keys().collect();
            self.values.insert((table, rule), values);
        }
        let is_none = self.project.schema.tables[table].rules[rule].is_none(value);
        Ok(!is_none && self.values.get(&(table, rule)).is_some_and(|values| values.contains(value)))
    }

    /// Puts records of a file of the other project into one here.
    fn copy_records(&mut self, file: FileId, path: &RelPath, records: Vec<Arriving>) -> Result<(), Error> {
        let schema = &self.project.schema;
        let loaded = self.load(file)?;
        let text = loaded.text();
        let refused = |reason: String| Error::refused(format!("`{path}`: {reason}"), "nothing was changed");
        let edits = self.edits(path, &text, &records)?;
        let of_records = outermost(records.iter().map(|one| (one.table, one.span)).collect());
        let by_span: HashMap<(TableId, Span), &Arriving> =
            records.iter().map(|one| ((one.table, one.span), one)).collect();
        let outer: Vec<&Arriving> = of_records.iter().filter_map(|own| by_span.get(own).copied()).collect();
        let Some(first) = outer.first() else { return Ok(()) };
        let Some(target) = self.home(first.table, path) else {
            let keep: Vec<Span> = outer.iter().map(|one| one.span).collect();
            let alone = self.stripped(path, &text, &keep, edits)?;
            self.builder.note(Note::FileBrought(path.to_string()));
            let encoding = self.other.stack.files()[file].encoding;
            return self.builder.create_like(path, &alone, &text, encoding);
        };
        let edits = EditSet::new(edits).map_err(|error| refused(error.to_string()))?;
        let entries = taken_entries(schema, (path, &text), &of_records, &edits, true).map_err(refused)?;
        let format = &schema.tables[first.table].format;
        let entry = &self.project.stack.files()[target];
        let in_mod = self.project.stack.layers()[entry.layer].is_mod;
        if entry.merged && !in_mod && format.adds().is_some() {
            let entries: Vec<_> = entries.into_iter().map(|(_, entry)| entry).collect();
            return insert_over(self.project, &mut self.builder, target, format.as_ref(), &entries);
        }
        let mut placed = Vec::new();
        for (one, (_, entry)) in outer.iter().zip(entries) {
            placed.push((entry, self.place(one, target)?));
        }
        self.builder.edit_with(target, |text, pending| {
            let Some(mut to) = format.editor(text) else { return Ok(Vec::new()) };
            to.expect_edits(pending);
            for (entry, place) in &placed {
                to.insert(entry, *place).map_err(refused)?;
            }
            Ok(to.finish())
        })
    }

    /// The file here that gets records of one at `path`: the one there; or the last one of the mod that has such records, in the
    /// same language and with the same parts of the path in its keys.
    fn home(&self, table: TableId, path: &RelPath) -> Option<FileId> {
        if let Some((file, _)) = self.place.filter(|_| table == self.main.0) {
            return Some(file);
        }
        if let Some(file) = self.file_here(path) {
            return Some(file);
        }
        let (stack, described) = (&self.project.stack, &self.project.schema.tables[table]);
        let fits = |other: &RelPath| {
            let is_same = |part: &KeyPart| {
                !part.is_of_path() || described.of_path(*part, other) == described.of_path(*part, path)
            };
            described.takes(other)
                && described.language_of(other) == described.language_of(path)
                && described.key.iter().all(is_same)
        };
        let in_mod = |file: &FileId| stack.layers()[stack.files()[*file].layer].is_mod;
        let files = stack.effective(stack.top()).into_iter().filter(in_mod);
        files.rev().find(|file| fits(&stack.files()[*file].path))
    }

    /// Where a record goes in a file.
    fn place(&self, one: &Arriving, target: FileId) -> Result<Place, Error> {
        if let Some((file, place)) = self.place
            && file == target
            && one.table == self.main.0
            && one.key.as_ref() == Some(&self.main.1)
        {
            return Ok(place);
        }
        let rows = self.here.rows(one.table)?;
        let group = |key: Option<&str>| {
            key.and_then(|key| key.rsplit_once(KEY_SEPARATOR)).map(|(group, _)| group.to_owned())
        };
        let own = group(one.key.as_deref());
        let near: Vec<&Row> =
            rows.rows.iter().filter(|row| row.file == target && group(row.key.as_deref()) == own).collect();
        let counted = self.project.schema.tables[one.table].key.contains(&KeyPart::Position);
        let fitting = match counted {
            true => near.last().map(|row| row.span),
            false => fitting(&near, one.key.as_deref().unwrap_or_default()),
        };
        Ok(match (fitting, near.first()) {
            (Some(before), _) => Place::After(before),
            (None, Some(first)) => Place::Before(first.span),
            (None, None) => Place::Last,
        })
    }

    /// The text of a file with these of its records alone.
    fn stripped(
        &self,
        path: &RelPath,
        text: &Text<'_>,
        keep: &[Span],
        edits: Vec<Edit>,
    ) -> Result<String, Error> {
        let schema = &self.project.schema;
        let overlaps = |span: Span| keep.iter().any(|own| own.start < span.end && span.start < own.end);
        let refused = |reason: String| Error::refused(format!("`{path}`: {reason}"), "nothing was changed");
        let mut all = edits;
        let mut gone: HashMap<u32, u32> = HashMap::new();
        for id in schema.tables_of(path) {
            let table = &schema.tables[id];
            let Some(mut editor) = table.format.editor(text) else { continue };
            for record in read_all(table, path, text) {
                let is_gone = gone.insert(record.span.start, record.span.end) == Some(record.span.end);
                if !is_gone && !overlaps(record.span) {
                    editor.remove(record.span).map_err(refused)?;
                }
            }
            all.extend(editor.finish());
        }
        applied(path, text, all)
    }
}

/// A text with edits.
fn applied(path: &RelPath, text: &Text<'_>, edits: Vec<Edit>) -> Result<String, Error> {
    let broken = || Error::refused(format!("the edits do not fit `{path}`"), "nothing was changed");
    let edits = EditSet::new(edits).map_err(|_| broken())?;
    edits.apply_to(text.as_str()).ok_or_else(broken)
}
