//! What belongs to some records: what lies inside them, records that are nothing without them, texts and files that only
//! they name. Commands that copy or remove a record take it along.

use crate::Error;
use crate::layers::{FileId, RelPath};
use crate::links::{
    Found, FoundPlace, Thing, Use, find_by_keys, find_uses, named_by, second_identifiers, things_of,
};
use crate::project::Project;
use crate::reading::with_text;
use crate::schema::{CompanionKind, TableId};
use crate::tables::{RecordView, RecordVisitor, all_fields, for_each_piece, key_named, read_records};
use crate::text::Span;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};

/// A record that is gathered.
#[derive(Debug, Clone)]
pub(super) struct OwnRecord {
    pub table: TableId,
    /// As kept in memory; nothing for a record without one.
    pub key: Option<String>,
    pub places: Vec<FoundPlace>,
}

/// Records with all that belongs to them.
pub(super) struct Belongings<'p> {
    project: &'p Project,
    /// The records, those asked for first.
    pub records: Vec<OwnRecord>,
    /// The files that belong to them as a whole.
    pub files: BTreeSet<FileId>,
    /// The folders that belong to them with all that is in them.
    pub folders: BTreeSet<RelPath>,
    /// All places that refer to them, also from among themselves.
    pub uses: Vec<Use>,
    /// What these refer to.
    things: Vec<Thing>,
    /// Texts and files that they name, but others too: what, and from how many places.
    pub shared: Vec<(Thing, usize)>,
    /// The records that are still to be looked into, as positions.
    pending: Vec<usize>,
    known: HashSet<(TableId, String)>,
    known_places: HashSet<(FileId, Span)>,
    /// For each file the outermost places of the records, by where they begin.
    spans: HashMap<FileId, BTreeMap<u32, u32>>,
    /// What they name, and whether it is decided whether that belongs to them.
    named: Vec<(Thing, bool)>,
    /// What they refer to.
    referred: HashSet<(TableId, String)>,
}

impl<'p> Belongings<'p> {
    /// Begins with the records of `found`.
    pub fn new(project: &'p Project, found: Vec<Found>) -> Belongings<'p> {
        let mut own = Belongings {
            project,
            records: Vec::new(),
            files: BTreeSet::new(),
            folders: BTreeSet::new(),
            uses: Vec::new(),
            things: Vec::new(),
            shared: Vec::new(),
            pending: Vec::new(),
            known: HashSet::new(),
            known_places: HashSet::new(),
            spans: HashMap::new(),
            named: Vec::new(),
            referred: HashSet::new(),
        };
        found.into_iter().for_each(|found| own.add(found));
        own
    }

    /// Adds a record.
    pub fn add(&mut self, found: Found) {
        if self.known.insert((found.table, found.key.clone())) {
            self.push(OwnRecord { table: found.table, key: Some(found.key), places: found.places });
        }
    }

    fn push(&mut self, record: OwnRecord) {
        for place in &record.places {
            self.known_places.insert((place.file, place.span));
            let spans = self.spans.entry(place.file).or_default();
            insert_outermost(spans, place.span);
        }
        self.pending.push(self.records.len());
        self.records.push(record);
    }

    /// What a use, one of [`Belongings::uses`], refers to.
    pub fn thing(&self, one: &Use) -> Option<&Thing> {
        self.things.get(one.thing)
    }

    /// Whether something at `span` of `file` lies in one of the records or files.
    pub fn has(&self, file: FileId, span: Span) -> bool {
        self.files.contains(&file) || self.spans.get(&file).is_some_and(|spans| is_inside(spans, span))
    }

    /// The outermost places of the records in each file that does not go as a whole.
    pub fn places(&self) -> BTreeMap<FileId, Vec<Span>> {
        let of_file = |(file, spans): (&FileId, &BTreeMap<u32, u32>)| {
            (*file, spans.iter().map(|(start, end)| Span { start: *start, end: *end }).collect())
        };
        self.spans.iter().filter(|(file, _)| !self.files.contains(file)).map(of_file).collect()
    }

    /// Adds all that belongs to the records, and to that, and so on. `follows` tells whether the record of a use comes
    /// along.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn gather(&mut self, follows: &dyn Fn(&Use) -> bool) -> Result<(), Error> {
        loop {
            while !self.pending.is_empty() {
                self.step(follows)?;
            }
            if !self.take_named(follows)? {
                return Ok(());
            }
        }
    }

    /// Adds what only the records need: what they refer to, where nothing else does. Gives whether there was some.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn take_unused(&mut self) -> Result<bool, Error> {
        let referred = std::mem::take(&mut self.referred);
        let candidates = find_by_keys(self.project.view(), &referred)?;
        let things: Vec<Thing> =
            candidates.iter().map(|found| Thing::Record(found.table, found.key.clone())).collect();
        let mut from_outside = vec![false; things.len()];
        for one in find_uses(self.project.view(), &things)? {
            let own = &candidates[one.thing];
            let by_itself = own.places.iter().any(|place| place.file == one.file && place.span == one.record);
            from_outside[one.thing] |= !by_itself && !self.has(one.file, one.span);
        }
        let unused = candidates
            .into_iter()
            .zip(from_outside)
            .filter(|(found, outside)| !outside && !self.known.contains(&(found.table, found.key.clone())));
        let unused: Vec<Found> = unused.map(|(found, _)| found).collect();
        let some = !unused.is_empty();
        unused.into_iter().for_each(|found| self.add(found));
        Ok(some)
    }

    /// Adds those of the texts and files that others name too which `wanted` tells; gives whether there were some.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn take_shared(&mut self, wanted: &dyn Fn(&Thing) -> bool) -> Result<bool, Error> {
        let taken: Vec<Thing> =
            self.shared.iter().map(|(thing, _)| thing).filter(|thing| wanted(thing)).cloned().collect();
        for (thing, done) in &mut self.named {
            *done |= taken.contains(thing);
        }
        self.add_things(&taken)?;
        Ok(!taken.is_empty())
    }

    /// The tables and keys, as kept in memory, of the records that have one.
    pub fn keys(&self) -> impl Iterator<Item = (TableId, String)> + '_ {
        self.records.iter().filter_map(|record| Some((record.table, record.key.clone()?)))
    }

    /// The tables and keys that the records refer to; some may be no records.
    pub fn referred(&self) -> &HashSet<(TableId, String)> {
        &self.referred
    }

    /// Looks into the records added last.
    fn step(&mut self, follows: &dyn Fn(&Use) -> bool) -> Result<(), Error> {
        let batch: Vec<usize> = std::mem::take(&mut self.pending);
        let things = self.look_into(&batch)?;
        let found = find_uses(self.project.view(), &things)?;
        let followers: Vec<Use> =
            found.iter().filter(|one| !self.has(one.file, one.span) && follows(one)).cloned().collect();
        let before = self.things.len();
        self.uses.extend(found.into_iter().map(|one| Use { thing: before + one.thing, ..one }));
        self.things.extend(things);
        self.add_users(&followers)
    }

    /// Adds the records that have these uses.
    fn add_users(&mut self, uses: &[Use]) -> Result<(), Error> {
        let mut keys: HashSet<(TableId, String)> = HashSet::new();
        for one in uses {
            if self.project.schema.tables[one.table].fields[one.field].of_path.is_some() {
                self.add_file(one.file)?;
                continue;
            }
            let place = FoundPlace { file: one.file, span: one.record };
            match &one.kept_key {
                Some(key) => {
                    keys.insert((one.table, key.clone()));
                }
                None if self.known_places.contains(&(one.file, one.record)) => {}
                None => self.push(OwnRecord { table: one.table, key: None, places: vec![place] }),
            }
        }
        for found in find_by_keys(self.project.view(), &keys)? {
            self.add(found);
        }
        Ok(())
    }

    /// Reads some of the records: gives what they are, and takes note of what they name and refer to.
    fn look_into(&mut self, batch: &[usize]) -> Result<Vec<Thing>, Error> {
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let mut by_file: BTreeMap<FileId, BTreeMap<u32, u32>> = BTreeMap::new();
        let mut things = Vec::new();
        for at in batch {
            let record = &self.records[*at];
            for place in &record.places {
                insert_outermost(by_file.entry(place.file).or_default(), place.span);
            }
            if let (Some(key), Some(place)) = (&record.key, record.places.first()) {
                let path = &stack.files()[place.file].path;
                things.extend(things_of(schema, record.table, key, path, |_| None));
            }
        }
        for (file, spans) in by_file {
            let path = &stack.files()[file].path;
            let mut reader =
                Inside { project: self.project, table: 0, spans: &spans, found: Content::default() };
            with_text(stack, file, |text| {
                for table in schema.tables_of(path) {
                    reader.table = table;
                    let described = &schema.tables[table];
                    read_records(described, path, text, &all_fields(described), &mut reader);
                }
            })?;
            let Content { things: inside, named, referred } = reader.found;
            things.extend(inside);
            self.referred.extend(referred);
            for thing in named {
                if !self.named.iter().any(|(own, _)| *own == thing) {
                    self.named.push((thing, false));
                }
            }
        }
        for folder in self.folders(batch) {
            self.add_folder(&folder)?;
        }
        things.sort();
        things.dedup();
        Ok(things)
    }

    /// The folders that go with some of the records.
    fn folders(&self, batch: &[usize]) -> Vec<RelPath> {
        let schema = &self.project.schema;
        let of_record = |at: &usize| {
            let record = &self.records[*at];
            let table = &schema.tables[record.table];
            let own = schema.companions_of(record.table).filter(|own| own.kind == CompanionKind::Folder);
            own.filter_map(|own| own.path_for(table, record.key.as_deref()?)).collect::<Vec<_>>()
        };
        batch.iter().flat_map(of_record).collect()
    }

    fn add_folder(&mut self, folder: &RelPath) -> Result<(), Error> {
        self.folders.insert(folder.clone());
        let stack = &self.project.stack;
        let inside = |path: &RelPath| {
            path.as_str().strip_prefix(folder.as_str()).is_some_and(|rest| rest.starts_with('/'))
        };
        let files = stack.effective(stack.top()).into_iter();
        let files: Vec<FileId> = files.filter(|file| inside(&stack.files()[*file].path)).collect();
        files.into_iter().try_for_each(|file| self.add_file(file))
    }

    /// Adds a file as a whole, with all records in it.
    fn add_file(&mut self, file: FileId) -> Result<(), Error> {
        if !self.files.insert(file) {
            return Ok(());
        }
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let path = &stack.files()[file].path;
        let tables = schema.tables_of(path);
        let mut found: Vec<(TableId, Option<String>, Span)> = Vec::new();
        struct All<'a>(TableId, &'a mut Vec<(TableId, Option<String>, Span)>);
        impl RecordVisitor for All<'_> {
            fn record(&mut self, record: &RecordView<'_>) {
                self.1.push((self.0, record.key(), record.span));
            }
        }
        with_text(stack, file, |text| {
            for table in tables {
                let described = &schema.tables[table];
                let mut fields = Vec::new();
                crate::tables::add_key_fields(described, &mut fields);
                read_records(described, path, text, &fields, &mut All(table, &mut found));
            }
        })?;
        for (table, key, span) in found {
            let is_new = match &key {
                Some(key) => self.known.insert((table, key.clone())),
                None => !self.known_places.contains(&(file, span)),
            };
            if is_new {
                self.push(OwnRecord { table, key, places: vec![FoundPlace { file, span }] });
            }
        }
        Ok(())
    }

    /// Adds the texts and files that only the records name; gives whether there was something new.
    fn take_named(&mut self, follows: &dyn Fn(&Use) -> bool) -> Result<bool, Error> {
        let open: Vec<usize> = (0..self.named.len()).filter(|at| !self.named[*at].1).collect();
        if open.is_empty() {
            return Ok(false);
        }
        let things: Vec<Thing> = open.iter().map(|at| self.named[*at].0.clone()).collect();
        let mut outside = vec![0; things.len()];
        // Records that name them and come along with them.
        let mut followers: Vec<Vec<Use>> = vec![Vec::new(); things.len()];
        for one in find_uses(self.project.view(), &things)? {
            match (self.has(one.file, one.span), follows(&one)) {
                (true, _) => {}
                (false, true) => followers[one.thing].push(one),
                (false, false) => outside[one.thing] += 1,
            }
        }
        let (mut shared, mut alone) = (Vec::new(), Vec::new());
        for (number, (at, thing)) in open.iter().zip(&things).enumerate() {
            if outside[number] > 0 {
                shared.push((thing.clone(), outside[number]));
                continue;
            }
            self.named[*at].1 = true;
            self.add_users(&followers[number])?;
            alone.push(thing.clone());
        }
        self.add_things(&alone)?;
        self.shared = shared;
        Ok(!self.pending.is_empty())
    }

    /// Adds texts and files.
    fn add_things(&mut self, things: &[Thing]) -> Result<(), Error> {
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let mut texts: HashSet<(TableId, String)> = HashSet::new();
        for thing in things {
            match thing {
                Thing::Text(key) => {
                    texts.extend(schema.text_tables().map(|table| (table, key.clone())));
                }
                Thing::File(path) => {
                    let file = stack.effective(stack.top()).into_iter();
                    let file = file.into_iter().find(|file| stack.files()[*file].path == *path);
                    if let Some(file) = file {
                        self.add_file(file)?;
                    }
                }
                Thing::Record(..) | Thing::Column(..) => {}
            }
        }
        for found in find_by_keys(self.project.view(), &texts)? {
            self.add(found);
        }
        Ok(())
    }
}

/// The folder and those in it that `paths` lie in.
pub(super) fn folders_within(folder: &RelPath, paths: &[&RelPath]) -> BTreeSet<RelPath> {
    let is_within = |other: &&str| {
        let rest = other.strip_prefix(folder.as_str());
        rest.is_some_and(|rest| rest.is_empty() || rest.starts_with('/'))
    };
    let around = paths.iter().flat_map(|path| {
        let path = path.as_str();
        path.match_indices('/').map(move |(end, _)| &path[..end])
    });
    around.filter(is_within).filter_map(|folder| RelPath::parse(folder).ok()).collect()
}

/// Whether `span` lies in one of `spans`, none of which overlap.
fn is_inside(spans: &BTreeMap<u32, u32>, span: Span) -> bool {
    spans.range(..=span.start).next_back().is_some_and(|(_, end)| span.end <= *end)
}

/// Adds `span` to `spans`, unless it lies in one of them; those that lie in it go.
fn insert_outermost(spans: &mut BTreeMap<u32, u32>, span: Span) {
    if is_inside(spans, span) {
        return;
    }
    let within: Vec<u32> = spans.range(span.start..=span.end).map(|(start, _)| *start).collect();
    for start in within {
        if spans.get(&start).is_some_and(|end| *end <= span.end) {
            spans.remove(&start);
        }
    }
    spans.insert(span.start, span.end);
}

/// What the records at some places are, name and refer to.
#[derive(Default)]
struct Content {
    things: Vec<Thing>,
    named: Vec<Thing>,
    referred: HashSet<(TableId, String)>,
}

/// Reads the records that are, or lie in, some spans.
struct Inside<'i> {
    project: &'i Project,
    table: TableId,
    /// The outermost ones, by where they begin.
    spans: &'i BTreeMap<u32, u32>,
    found: Content,
}

impl RecordVisitor for Inside<'_> {
    fn record(&mut self, record: &RecordView<'_>) {
        if !is_inside(self.spans, record.span) {
            return;
        }
        let schema = &self.project.schema;
        if let Some(key) = record.key() {
            let own = things_of(schema, self.table, &key, record.path, |field| record.value(field));
            self.found.things.extend(own);
        }
        for rule in second_identifiers(schema, self.table) {
            let value = record.value(record.table.rules[rule].field);
            self.found.things.extend(value.map(|value| Thing::Column(self.table, rule, value)));
        }
        self.found.named.extend(named_by(schema, self.table, record));
        for field in 0..record.table.fields.len() {
            for_each_piece(record, field, |piece| {
                let rule = &record.table.rules[piece.rule];
                if !piece.fits || rule.is_none(piece.text) {
                    return;
                }
                let Some(key) = key_named(record, rule, piece) else { return };
                for target in rule.refs.iter().filter(|target| target.rule.is_none()) {
                    self.found.referred.insert((target.table, key.clone().into_owned()));
                }
            });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::{insert_outermost, is_inside};
    use crate::text::Span;
    use rstest::rstest;
    use std::collections::BTreeMap;

    #[rstest]
    #[case::apart(&[(0, 4), (6, 9)], &[(0, 4), (6, 9)])]
    #[case::the_inner_first(&[(2, 4), (0, 9)], &[(0, 9)])]
    #[case::the_outer_first(&[(0, 9), (2, 4)], &[(0, 9)])]
    #[case::several_go(&[(1, 2), (3, 4), (6, 8), (0, 5)], &[(0, 5), (6, 8)])]
    #[case::the_same_start(&[(0, 3), (0, 9)], &[(0, 9)])]
    #[case::the_same_end(&[(5, 9), (0, 9)], &[(0, 9)])]
    #[case::side_by_side(&[(0, 4), (4, 9)], &[(0, 4), (4, 9)])]
    #[case::twice(&[(1, 4), (1, 4)], &[(1, 4)])]
    fn only_the_outermost_stay(#[case] added: &[(usize, usize)], #[case] left: &[(u32, u32)]) {
        let mut spans = BTreeMap::new();
        for (start, end) in added {
            insert_outermost(&mut spans, Span::new(*start, *end));
        }
        assert_eq!(spans.iter().map(|(start, end)| (*start, *end)).collect::<Vec<_>>(), left);
        assert!(added.iter().all(|(start, end)| is_inside(&spans, Span::new(*start, *end))));
    }
}
