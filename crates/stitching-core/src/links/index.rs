//! The index: which keys there are, and what each file's values point to.

use super::Overrides;
use crate::layers::{FileId, LayerId, Stack};
use crate::reading::View;
use crate::reading::{FactsCache, IndexedFile, Needles, TableScan, file_facts, scan, targets};
use crate::schema::{Schema, Table, TableId, Texts, ValueRule};
use crate::tables::{
    Finders, Link, LinkKind, RecordView, TableFacts, for_each_piece, key_hash, path_hash, refers_folded,
};
use crate::text::Span;
use hashbrown::{HashMap, HashSet, HashTable};
use rayon::prelude::*;

/// What is known of all effective files of a stack.
#[derive(Debug)]
pub struct Index<'p> {
    /// The layers.
    pub stack: &'p Stack,
    /// The tables.
    pub schema: &'p Schema,
    /// The layer at which the stack is taken to end.
    pub through: LayerId,
    /// The effective files, sorted by path; positions in this list are what the index speaks of.
    pub files: Vec<IndexedFile>,
    /// For each table its files and keys.
    pub tables: Vec<TableIndex>,
    texts: HashMap<u64, u64>,
    paths: HashSet<u64>,
    columns: HashMap<(TableId, usize), HashSet<u64>>,
    /// The first record of each key, by the hash of the key in lower case, of the tables that are referred to so although
    /// they tell keys apart by case.
    folded: HashMap<TableId, HashMap<u64, RecordId>>,
    /// The names of tables by use, by their hashes.
    in_use: HashMap<TableId, HashMap<u64, NameCount>>,
    overrides: Overrides,
}

/// A record of the index.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct RecordId {
    /// The file, as a position in [`Index::files`].
    pub file: u32,
    /// Which of the tables of that file.
    pub slot: u32,
    /// Its position among the records of the table in the file, 0-based.
    pub record: u32,
}

/// How often a name of a table by use is there.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct NameCount {
    /// How many values of the fields that make it a name hold it.
    pub declared: u32,
    /// How many values refer to it besides.
    pub referred: u32,
}

/// One file of a table: positions in [`Index::files`] and in that file's tables.
#[derive(Debug, Clone, Copy)]
pub struct TableFile {
    /// The position in [`Index::files`].
    pub file: u32,
    /// The position in that file's tables.
    pub slot: u32,
}

/// A key and the first record that has it.
#[derive(Debug, Clone, Copy)]
pub struct KeyEntry {
    hash: u64,
    /// The position in [`TableIndex::files`].
    at: u32,
    record: u32,
}

/// The files and keys of a table.
#[derive(Debug, Default)]
pub struct TableIndex {
    /// Its files in the order of their paths.
    pub files: Vec<TableFile>,
    /// How many records there are.
    pub records: usize,
    /// Records whose key an earlier record has: the later one, the earlier one.
    pub duplicates: Vec<(RecordId, RecordId)>,
    keys: HashTable<KeyEntry>,
    /// In a table whose layers count together, the lowest layer that has a key, by the key's hash.
    lowest: HashMap<u64, LayerId>,
}

impl<'p> Index<'p> {
    /// The data that is indexed.
    pub fn view(&self) -> View<'p> {
        View { stack: self.stack, schema: self.schema, through: self.through }
    }

    /// The files that may have something switched off in them.
    pub fn marked(&self) -> Vec<FileId> {
        self.files.iter().filter(|file| file.facts.may_have_off).map(|file| file.id).collect()
    }

    /// Reads all effective files through layer `through` and indexes them. Files already in
    /// `cache` are not read again. Files that cannot be read are told in their
    /// [`IndexedFile::fault`].
    pub fn build(view: View<'p>, finders: &Finders, cache: &FactsCache) -> Index<'p> {
        let View { stack, schema, through } = view;
        let ids = stack.effective(through);
        let targets = targets(schema);
        let files: Vec<IndexedFile> = ids
            .par_iter()
            .with_max_len(1)
            .map(|id| file_facts(stack, schema, *id, finders, &targets, cache))
            .collect();
        let mut of_tables: Vec<Vec<TableFile>> = vec![Vec::new(); schema.tables.len()];
        for (file, indexed) in files.iter().enumerate() {
            for (slot, facts) in indexed.facts.tables.iter().enumerate() {
                of_tables[facts.table].push(TableFile { file: file as u32, slot: slot as u32 });
            }
        }
        let layer = |file: u32| stack.files()[files[file as usize].id].layer;
        let tables = of_tables
            .into_par_iter()
            .enumerate()
            .with_max_len(1)
            .map(|(table, own)| TableIndex::build(own, &files, &schema.tables[table], &layer))
            .collect();
        let columns = (0..schema.tables.len()).flat_map(|table| {
            let wanted = targets[table].iter().enumerate().filter(|(_, wanted)| **wanted);
            wanted.map(move |(rule, _)| (table, rule))
        });
        let mut index = Index {
            stack,
            schema,
            through,
            paths: ids.iter().filter_map(|id| path_hash(stack.files()[*id].path.as_str())).collect(),
            overrides: Overrides::read(view),
            files,
            tables,
            texts: HashMap::new(),
            columns: HashMap::new(),
            folded: HashMap::new(),
            in_use: HashMap::new(),
        };
        index.columns = columns.map(|(table, rule)| ((table, rule), index.column(table, rule))).collect();
        index.texts = index.all_texts();
        index.folded = index.all_folded();
        let by_use = (0..schema.tables.len()).filter(|id| schema.tables[*id].is_by_use());
        index.in_use = by_use.map(|table| (table, index.count_names(table))).collect();
        index
    }

    /// The names of a table by use, with how often each is there. Cost: a pass over what refers to the table.
    fn count_names(&self, table: TableId) -> HashMap<u64, NameCount> {
        let by_use = &self.schema.tables[table].by_use;
        let mut counts: HashMap<u64, NameCount> = HashMap::new();
        let slots = self.files.iter().enumerate().flat_map(|(file, own)| {
            own.facts.tables.iter().enumerate().map(move |(slot, facts)| (file as u32, slot as u32, facts))
        });
        for (file, slot, facts) in slots {
            for links in facts.links.iter().filter(|links| links.kind == LinkKind::Reference) {
                let rule = &self.schema.tables[facts.table].rules[links.rule];
                if !rule.refs.iter().any(|target| target.table == table && target.rule.is_none()) {
                    continue;
                }
                let declares =
                    by_use.iter().any(|own| own.table == facts.table && own.rule == Some(links.rule));
                for link in &links.links {
                    if self.is_hidden(file, slot, link.record, links.rule) {
                        continue;
                    }
                    let count = counts.entry(link.hash).or_default();
                    match declares {
                        true => count.declared += 1,
                        false => count.referred += 1,
                    }
                }
            }
        }
        counts
    }

    /// How many names a table by use has; 0 for others.
    pub fn names(&self, table: TableId) -> usize {
        let names = self.in_use.get(&table).into_iter().flat_map(HashMap::values);
        names.filter(|count| count.declared > 0).count()
    }

    /// Whether some name of a table by use is there once only.
    pub fn has_lone_names(&self, table: TableId) -> bool {
        let names = self.in_use.get(&table).into_iter().flat_map(HashMap::values);
        names.into_iter().any(|count| *count == NameCount { declared: 1, referred: 0 })
    }

    /// How often the name of this hash is there, in a table by use.
    pub fn name_count(&self, table: TableId, hash: u64) -> NameCount {
        self.in_use.get(&table).and_then(|names| names.get(&hash)).copied().unwrap_or_default()
    }

    /// The keys in lower case of the tables for which they are needed.
    fn all_folded(&self) -> HashMap<TableId, HashMap<u64, RecordId>> {
        let rules = self.schema.tables.iter().flat_map(|table| &table.rules);
        let targets = rules.filter(|rule| refers_folded(self.schema, rule)).flat_map(|rule| &rule.refs);
        let mut out: HashMap<TableId, HashMap<u64, RecordId>> = HashMap::new();
        for table in targets.filter(|target| target.rule.is_none()).map(|target| target.table) {
            if self.schema.tables[table].ignore_case || out.contains_key(&table) {
                continue;
            }
            let keys = out.entry(table).or_default();
            for TableFile { file, slot } in self.tables[table].files.iter().copied() {
                for (record, key) in self.facts(file, slot).keys() {
                    keys.entry(key_hash(key, true)).or_insert(RecordId { file, slot, record });
                }
            }
        }
        out
    }

    /// The first record of `table` whose key a link of `rule` means.
    #[inline]
    pub fn linked(&self, rule: &ValueRule, table: TableId, link: &Link) -> Option<RecordId> {
        match self.folded.get(&table).filter(|_| refers_folded(self.schema, rule)) {
            Some(keys) => keys.get(&link.hash).copied(),
            None => self.find_hash(table, link.hash),
        }
    }

    /// The facts that one table found in one file.
    pub fn facts(&self, file: u32, slot: u32) -> &TableFacts {
        &self.files[file as usize].facts.tables[slot as usize]
    }

    /// The key of a record as kept in memory.
    pub fn key(&self, record: RecordId) -> Option<&str> {
        self.facts(record.file, record.slot).key(record.record)
    }

    /// The key, as kept in memory, of the record of `table` in which the place `span` of a file lies, if it has one.
    pub fn key_at(&self, file: FileId, table: TableId, span: Span) -> Option<String> {
        let path = |id: FileId| &self.stack.files()[id].path;
        let first = self.files.partition_point(|own| path(own.id) < path(file));
        // Where layers count together, several files have one path.
        let facts = &self.files[first..].iter().find(|own| own.id == file)?.facts;
        let facts = facts.tables.iter().find(|own| own.table == table)?;
        let record = facts.starts.partition_point(|start| *start <= span.start).checked_sub(1)?;
        facts.key(record as u32).map(str::to_owned)
    }

    /// The first record of `table` with `key` (as kept in memory).
    pub fn find(&self, table: TableId, key: &str) -> Option<RecordId> {
        let folded = self.schema.tables[table].ignore_case;
        let hash = key_hash(key, folded);
        let own = &self.tables[table];
        let same = |entry: &KeyEntry| {
            entry.hash == hash
                && own.key_of(&self.files, entry).is_some_and(|other| same_key(other, key, folded))
        };
        own.keys.find(hash, same).map(|entry| own.record_id(entry))
    }

    /// The first record of `table` with a key of this hash.
    #[inline]
    fn find_hash(&self, table: TableId, hash: u64) -> Option<RecordId> {
        let own = &self.tables[table];
        own.keys.find(hash, |entry| entry.hash == hash).map(|entry| own.record_id(entry))
    }

    /// All records of `table` with `key`, in the order of the files.
    pub fn find_all(&self, table: TableId, key: &str) -> Vec<RecordId> {
        let folded = self.schema.tables[table].ignore_case;
        let hash = key_hash(key, folded);
        let mut found = Vec::new();
        for own in &self.tables[table].files {
            let facts = self.facts(own.file, own.slot);
            for (record, other) in facts.hashes.iter().enumerate() {
                if *other == hash
                    && facts.key(record as u32).is_some_and(|other| same_key(other, key, folded))
                {
                    found.push(RecordId { file: own.file, slot: own.slot, record: record as u32 });
                }
            }
        }
        found
    }

    /// Whether some record of `table` has the key that a link of `rule` means.
    #[inline]
    fn is_there(&self, rule: &ValueRule, table: TableId, link: &Link) -> bool {
        match self.folded.get(&table).filter(|_| refers_folded(self.schema, rule)) {
            Some(keys) => keys.contains_key(&link.hash),
            None if self.schema.tables[table].is_by_use() => self.name_count(table, link.hash).declared > 0,
            None => self.tables[table].keys.find(link.hash, |entry| entry.hash == link.hash).is_some(),
        }
    }

    /// Whether a link of `rule` leads somewhere.
    #[inline]
    pub fn resolves(&self, rule: &ValueRule, kind: LinkKind, link: &Link) -> bool {
        match kind {
            LinkKind::Reference => rule.refs.iter().any(|target| match target.rule {
                None => self.is_there(rule, target.table, link),
                Some(rule) => {
                    self.columns.get(&(target.table, rule)).is_some_and(|values| values.contains(&link.hash))
                }
            }),
            LinkKind::Text => self.text_languages(link.hash) & self.all_languages() == self.all_languages(),
            LinkKind::File => self.paths.contains(&link.hash),
            LinkKind::Value => true,
        }
    }

    /// Whether a value of a record of the file at position `file` is overridden by a higher layer, or, for
    /// one that is lacking, supplied by a lower one.
    pub fn is_hidden(&self, file: u32, slot: u32, record: u32, rule: usize) -> bool {
        let facts = self.facts(file, slot);
        let table = &self.schema.tables[facts.table];
        if !table.merged {
            return false;
        }
        let layer = self.stack.files()[self.files[file as usize].id].layer;
        let field = table.rules[rule].field;
        facts.key(record).is_some_and(|key| self.overrides.hides(self.schema, facts.table, key, layer, field))
    }

    /// Whether a lower layer has the record too, in a table whose layers count together.
    pub fn adds_to_lower(&self, file: u32, slot: u32, record: u32) -> bool {
        let facts = self.facts(file, slot);
        if !self.schema.tables[facts.table].merged {
            return false;
        }
        let layer = self.stack.files()[self.files[file as usize].id].layer;
        let lowest = &self.tables[facts.table].lowest;
        lowest.get(&facts.hashes[record as usize]).is_some_and(|lowest| *lowest < layer)
    }

    /// In which languages the text key of this hash has a text, a bit for each.
    pub fn text_languages(&self, hash: u64) -> u64 {
        self.texts.get(&hash).copied().unwrap_or(0)
    }

    /// The bits of all languages of the project.
    pub fn all_languages(&self) -> u64 {
        u64::MAX >> (64 - self.schema.languages.len().clamp(1, 64))
    }

    /// All keys of `table` with their records, in the order of the files.
    pub fn keys(&self, table: TableId) -> impl Iterator<Item = (RecordId, &str)> {
        self.tables[table].files.iter().flat_map(|own| {
            let (file, slot) = (own.file, own.slot);
            self.facts(file, slot).keys().map(move |(record, key)| (RecordId { file, slot, record }, key))
        })
    }

    /// Whether there is a file at `path`.
    pub fn has_path(&self, path: &str) -> bool {
        path_hash(path).is_some_and(|hash| self.paths.contains(&hash))
    }

    /// The paths of all files.
    pub fn paths(&self) -> impl Iterator<Item = &str> {
        self.files.iter().map(|file| self.stack.files()[file.id].path.as_str())
    }

    /// How many records and references were read in all.
    pub fn counts(&self) -> (usize, usize) {
        (
            self.tables.iter().map(|table| table.records).sum(),
            self.files.iter().map(|file| file.facts.references).sum(),
        )
    }

    fn column(&self, table: TableId, rule: usize) -> HashSet<u64> {
        let of_file = |own: &TableFile| self.facts(own.file, own.slot).links.iter();
        let values = self.tables[table].files.iter().flat_map(of_file);
        let values = values.filter(|links| links.rule == rule && links.kind == LinkKind::Value);
        values.flat_map(|links| links.links.iter().map(|link| link.hash)).collect()
    }

    /// The different values that `table` has by `rule`, read from its files anew; none of a file that cannot be
    /// read. Cost: a pass over the table.
    pub fn column_values(&self, table: TableId, rule: usize) -> Vec<String> {
        let field = self.schema.tables[table].rules[rule].field;
        let mut needles = Needles::default();
        needles.add_any();
        let plan = TableScan { fields: vec![field], needles, hashes: None }.alone(self.schema, table);
        let each = |_: TableId, record: &RecordView<'_>, hits: &mut Vec<String>| {
            for_each_piece(record, field, |piece| {
                if piece.rule == rule && piece.fits {
                    hits.push(piece.text.to_owned());
                }
            });
        };
        let view = View { stack: self.stack, schema: self.schema, through: self.through };
        let found = scan(view, &plan, &each).unwrap_or_default();
        let mut values: Vec<String> = found.into_iter().flat_map(|of_file| of_file.hits).collect();
        values.sort_unstable();
        values.dedup();
        values
    }

    fn all_texts(&self) -> HashMap<u64, u64> {
        let mut texts = HashMap::new();
        for table in self.schema.text_tables() {
            let per_field =
                matches!(self.schema.tables[table].texts, Some(Texts::Fields(_) | Texts::Record { .. }));
            for own in &self.tables[table].files {
                let facts = self.facts(own.file, own.slot);
                let of_file = facts.language.map_or(0, |language| 1 << (language % 64));
                for (record, hash) in facts.hashes.iter().enumerate() {
                    let mask = if per_field { facts.languages[record] } else { of_file };
                    *texts.entry(*hash).or_insert(0) |= mask;
                }
            }
        }
        texts
    }
}

impl TableIndex {
    fn build(
        own: Vec<TableFile>,
        files: &[IndexedFile],
        table: &Table,
        layer: &dyn Fn(u32) -> LayerId,
    ) -> TableIndex {
        let (merged, repeated) = (table.merged, table.repeated);
        let facts = |file: &TableFile| &files[file.file as usize].facts.tables[file.slot as usize];
        let records = own.iter().map(|file| facts(file).starts.len()).sum();
        let mut index = TableIndex {
            files: own,
            records,
            duplicates: Vec::new(),
            keys: HashTable::with_capacity(records),
            lowest: HashMap::new(),
        };
        for at in 0..index.files.len() {
            let file = index.files[at];
            let of_file = facts(&file);
            for record in 0..of_file.starts.len() as u32 {
                let Some(key) = of_file.key(record) else { continue };
                let hash = of_file.hashes[record as usize];
                if merged {
                    let own = layer(file.file);
                    index.lowest.entry(hash).and_modify(|lowest| *lowest = own.min(*lowest)).or_insert(own);
                }
                let entry = KeyEntry { hash, at: at as u32, record };
                let table = &index;
                // Texts of one key in two languages are not duplicates.
                let same = |other: &KeyEntry| {
                    other.hash == hash && {
                        let other_facts = facts(&table.files[other.at as usize]);
                        let other_key = other_facts.key(other.record);
                        // Equal hashes say already whether case counts; the texts rule out a coincidence.
                        other_facts.language == of_file.language
                            && other_facts.language_of(other.record) == of_file.language_of(record)
                            && other_key.is_some_and(|other| same_key(other, key, true))
                    }
                };
                match index.keys.find(hash, same).copied() {
                    Some(first) => {
                        let later = RecordId { file: file.file, slot: file.slot, record };
                        let first = index.record_id(&first);
                        // A higher layer adds to the record of a lower one.
                        match merged && layer(first.file) != layer(later.file) {
                            true => index.records -= 1,
                            false if repeated => {}
                            false => index.duplicates.push((later, first)),
                        }
                    }
                    None => {
                        index.keys.insert_unique(hash, entry, |entry| entry.hash);
                    }
                }
            }
        }
        index
    }

    fn record_id(&self, entry: &KeyEntry) -> RecordId {
        let file = self.files[entry.at as usize];
        RecordId { file: file.file, slot: file.slot, record: entry.record }
    }

    fn key_of<'f>(&self, files: &'f [IndexedFile], entry: &KeyEntry) -> Option<&'f str> {
        let file = self.files[entry.at as usize];
        files[file.file as usize].facts.tables[file.slot as usize].key(entry.record)
    }
}

fn same_key(a: &str, b: &str, folded: bool) -> bool {
    a == b || (folded && a.to_lowercase() == b.to_lowercase())
}
