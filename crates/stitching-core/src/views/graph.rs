//! What depends on what, step by step: the uses of a record and the uses of those, or what it needs itself.

use crate::Error;
use crate::links::{Found, Index, NameInUse, RecordId, names_in_use};
use crate::reading::PlaceResolver;
use crate::reading::View;
use crate::schema::{Table, TableId, Target, ValueRule};
use crate::tables::{Finders, Link, LinkKind, RuleLinks, TableFacts, key_hash, path_hash, shown_key};
use std::cell::OnceCell;
use std::collections::{HashMap, HashSet};

/// The references of all records, for walking along them in either direction.
#[derive(Debug)]
pub struct Graph<'p> {
    index: Index<'p>,
    texts: OnceCell<HashMap<u64, RecordId>>,
    files: OnceCell<HashMap<u64, u32>>,
    columns: OnceCell<HashMap<(TableId, usize, u64), RecordId>>,
    names: OnceCell<HashMap<(TableId, u64), NameInUse>>,
}

/// A record, or a file of no table, in a tree.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Node {
    /// A record.
    Record(RecordId),
    /// A file that a value names, by its position in the index.
    File(u32),
    /// A name of a table by use, by the table and the name's hash.
    Name(TableId, u64),
}

/// A node with what uses it, or what it needs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tree {
    /// The record or file.
    pub node: Node,
    /// The names of the fields by which it uses the node above, or by which that needs it.
    pub by: Vec<String>,
    /// How many different nodes come below.
    pub count: usize,
    /// How many of its references lead nowhere; only of what it needs.
    pub nowhere: usize,
    /// Those nodes, unless the tree is cut here, or they are told elsewhere.
    pub below: Vec<Tree>,
    /// Whether they are told at an earlier place of the tree.
    pub told: bool,
}

/// In which direction references are walked along.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Direction {
    /// From a record to those that refer to it.
    Uses,
    /// From a record to those that it refers to.
    Needs,
}

/// A node, the name of the field that leads to it.
type Step = (Node, String);

impl<'p> Graph<'p> {
    /// Reads the references of all effective files through layer `through`. Cost: about that of a check.
    pub fn read(view: View<'p>) -> Graph<'p> {
        let View { schema, .. } = view;
        let no_checks = Finders::none(schema);
        let index = Index::build(view, &no_checks, &Default::default());
        Graph {
            index,
            texts: OnceCell::new(),
            files: OnceCell::new(),
            columns: OnceCell::new(),
            names: OnceCell::new(),
        }
    }

    /// The node of a record.
    pub fn node(&self, found: &Found) -> Option<Node> {
        let table = &self.index.schema.tables[found.table];
        match table.is_by_use() {
            true => Some(Node::Name(found.table, key_hash(&found.key, table.ignore_case))),
            false => self.index.find(found.table, &found.key).map(Node::Record),
        }
    }

    /// The tree of `node`, `depth` steps deep. What comes a second time is not told again.
    pub fn tree(&self, node: Node, direction: Direction, depth: usize) -> Tree {
        let mut seen = HashSet::from([node]);
        let mut tree = Tree { node, by: Vec::new(), count: 0, nowhere: 0, below: Vec::new(), told: false };
        let mut level: Vec<&mut Tree> = vec![&mut tree];
        for step in 0..=depth {
            let nodes: Vec<Node> = level.iter().map(|tree| tree.node).collect();
            let found = match direction {
                Direction::Uses => self.uses(&nodes),
                Direction::Needs => nodes.iter().map(|node| self.needs(*node)).collect(),
            };
            let mut next = Vec::new();
            for (tree, (steps, nowhere)) in level.into_iter().zip(found) {
                let mut below: Vec<Tree> = Vec::new();
                let mut at: HashMap<Node, usize> = HashMap::new();
                for (node, by) in steps.into_iter().filter(|(node, _)| *node != tree.node) {
                    let own = *at.entry(node).or_insert_with(|| {
                        below.push(Tree {
                            node,
                            by: Vec::new(),
                            count: 0,
                            nowhere: 0,
                            below: Vec::new(),
                            told: false,
                        });
                        below.len() - 1
                    });
                    if !below[own].by.contains(&by) {
                        below[own].by.push(by);
                    }
                }
                (tree.count, tree.nowhere) = (below.len(), nowhere);
                if step < depth {
                    for own in &mut below {
                        own.told = !seen.insert(own.node);
                    }
                    tree.below = below;
                    next.extend(tree.below.iter_mut().filter(|own| !own.told));
                }
            }
            level = next;
        }
        tree
    }

    /// For each of `nodes` the records that refer to it, by which fields. One pass over all references.
    fn uses(&self, nodes: &[Node]) -> Vec<(Vec<Step>, usize)> {
        // What a value must be looked up as to lead to one of the nodes.
        let mut wanted: HashMap<u64, Vec<usize>> = HashMap::new();
        for (at, node) in nodes.iter().enumerate() {
            for hash in self.hashes(*node) {
                wanted.entry(hash).or_default().push(at);
            }
        }
        let mut out: Vec<(Vec<Step>, usize)> = vec![(Vec::new(), 0); nodes.len()];
        for (record, facts, rule, kind, link) in self.links() {
            let Some(candidates) = wanted.get(&link.hash) else { continue };
            let described = &self.index.schema.tables[facts.table].rules[rule];
            for at in candidates {
                if self.leads_to(described, kind, link, nodes[*at])
                    && !self.index.is_hidden(record.file, record.slot, record.record, rule)
                {
                    out[*at].0.push((Node::Record(record), self.field(facts.table, rule)));
                }
            }
        }
        out
    }

    /// All that points somewhere.
    fn links(&self) -> impl Iterator<Item = (RecordId, &TableFacts, usize, LinkKind, &Link)> {
        let files = self.index.files.iter().enumerate();
        let slots = files.flat_map(|(file, indexed)| {
            indexed.facts.tables.iter().enumerate().map(move |(slot, facts)| (file, slot, facts))
        });
        slots.flat_map(|(file, slot, facts)| {
            let pointing = facts.links.iter().filter(|links| links.kind != LinkKind::Value);
            pointing.flat_map(move |links| {
                links.links.iter().map(move |link| {
                    let record = RecordId { file: file as u32, slot: slot as u32, record: link.record };
                    (record, facts, links.rule, links.kind, link)
                })
            })
        })
    }

    fn field(&self, table: TableId, rule: usize) -> String {
        let described = &self.index.schema.tables[table];
        described.fields[described.rules[rule].field].name.clone()
    }

    /// The path of the file that a record is, or is named after; `None` for other records.
    fn file_of(&self, record: RecordId) -> Option<&str> {
        let facts = self.index.facts(record.file, record.slot);
        let key = &self.index.schema.tables[facts.table].key;
        matches!(key[..], [part] if part.is_of_file()).then(|| self.path(record.file))
    }

    fn path(&self, file: u32) -> &str {
        self.index.stack.files()[self.index.files[file as usize].id].path.as_str()
    }

    /// What values that lead to a node are looked up as.
    fn hashes(&self, node: Node) -> Vec<u64> {
        match node {
            Node::File(file) => path_hash(self.path(file)).into_iter().collect(),
            Node::Name(_, hash) => vec![hash],
            Node::Record(record) => {
                let facts = self.index.facts(record.file, record.slot);
                let table = &self.index.schema.tables[facts.table];
                let values = facts.links.iter().filter(|links| links.kind == LinkKind::Value);
                let columns = values.flat_map(|links| of_record(table, links, record.record));
                let own = std::iter::once(facts.hashes[record.record as usize]);
                own.chain(self.file_of(record).and_then(path_hash))
                    .chain(columns.map(|link| link.hash))
                    .collect()
            }
        }
    }

    fn leads_to(&self, rule: &ValueRule, kind: LinkKind, link: &Link, node: Node) -> bool {
        let record = match node {
            Node::File(_) => return kind == LinkKind::File,
            Node::Name(table, _) => {
                let to_it = |target: &Target| target.table == table && target.rule.is_none();
                return kind == LinkKind::Reference && rule.refs.iter().any(to_it);
            }
            Node::Record(record) => record,
        };
        let facts = self.index.facts(record.file, record.slot);
        let own = facts.hashes[record.record as usize] == link.hash;
        match kind {
            LinkKind::Text => own && self.index.schema.tables[facts.table].texts.is_some(),
            LinkKind::File => self.file_of(record).and_then(path_hash) == Some(link.hash),
            LinkKind::Value => false,
            LinkKind::Reference => {
                rule.refs.iter().filter(|target| target.table == facts.table).any(|target| {
                    let Some(column) = target.rule else { return own };
                    let mut values = facts
                        .links
                        .iter()
                        .filter(|links| links.kind == LinkKind::Value && links.rule == column);
                    values.any(|links| {
                        let table = &self.index.schema.tables[facts.table];
                        of_record(table, links, record.record).any(|value| value.hash == link.hash)
                    })
                })
            }
        }
    }

    /// What a node refers to, by which fields, and how many of its references lead nowhere.
    fn needs(&self, node: Node) -> (Vec<Step>, usize) {
        let record = match node {
            Node::Record(record) => record,
            Node::File(file) => return (self.records_in(file, None), 0),
            Node::Name(..) => return (Vec::new(), 0),
        };
        let facts = self.index.facts(record.file, record.slot);
        let mut steps = Vec::new();
        let mut nowhere = 0;
        for links in facts.links.iter().filter(|links| links.kind != LinkKind::Value) {
            if self.index.is_hidden(record.file, record.slot, record.record, links.rule) {
                continue;
            }
            let table = &self.index.schema.tables[facts.table];
            let rule = &table.rules[links.rule];
            for link in of_record(table, links, record.record) {
                match self.target(rule, links.kind, link) {
                    Some(node) => steps.push((link.start, (node, self.field(facts.table, links.rule)))),
                    None => nowhere += 1,
                }
            }
        }
        steps.sort_by_key(|(start, _)| *start);
        let mut steps: Vec<Step> = steps.into_iter().map(|(_, step)| step).collect();
        // A record that is a whole file needs what lies in it.
        if facts.starts.len() == 1 && self.file_of(record).is_some() {
            steps.extend(self.records_in(record.file, Some(record)));
        }
        (steps, nowhere)
    }

    /// The records in a file, but for one of them.
    fn records_in(&self, file: u32, but: Option<RecordId>) -> Vec<Step> {
        let tables = self.index.files[file as usize].facts.tables.iter().enumerate();
        let records = tables.flat_map(|(slot, facts)| {
            (0..facts.starts.len() as u32).map(move |record| RecordId { file, slot: slot as u32, record })
        });
        let others = records.filter(|record| Some(*record) != but);
        others.map(|record| (Node::Record(record), String::new())).collect()
    }

    fn target(&self, rule: &ValueRule, kind: LinkKind, link: &Link) -> Option<Node> {
        match kind {
            LinkKind::Text => self.texts().get(&link.hash).copied().map(Node::Record),
            LinkKind::File => {
                let file = *self.files().get(&link.hash)?;
                // A file that is a record stands for that.
                let facts = &self.index.files[file as usize].facts;
                let alone = facts.tables.iter().enumerate().filter_map(|(slot, own)| {
                    let record = RecordId { file, slot: slot as u32, record: 0 };
                    (own.starts.len() == 1 && self.file_of(record).is_some()).then_some(Node::Record(record))
                });
                Some(alone.into_iter().next().unwrap_or(Node::File(file)))
            }
            LinkKind::Value => None,
            LinkKind::Reference => rule.refs.iter().find_map(|target| match target.rule {
                None if self.index.schema.tables[target.table].is_by_use() => {
                    let is_there = self.index.name_count(target.table, link.hash).declared > 0;
                    is_there.then_some(Node::Name(target.table, link.hash))
                }
                None => self.index.linked(rule, target.table, link).map(Node::Record),
                Some(column) => {
                    self.columns().get(&(target.table, column, link.hash)).copied().map(Node::Record)
                }
            }),
        }
    }

    fn texts(&self) -> &HashMap<u64, RecordId> {
        self.texts.get_or_init(|| {
            let mut out = HashMap::new();
            for table in self.index.schema.text_tables() {
                // The main language tells a text best.
                let mut files = self.index.tables[table].files.clone();
                files.sort_by_key(|own| self.index.facts(own.file, own.slot).language);
                for own in files {
                    for (record, hash) in self.index.facts(own.file, own.slot).hashes.iter().enumerate() {
                        let record = RecordId { file: own.file, slot: own.slot, record: record as u32 };
                        out.entry(*hash).or_insert(record);
                    }
                }
            }
            out
        })
    }

    /// The names of all tables by use; none of one whose files cannot be read.
    fn names(&self) -> &HashMap<(TableId, u64), NameInUse> {
        self.names.get_or_init(|| {
            let tables = self.index.schema.tables.iter().enumerate().filter(|(_, table)| table.is_by_use());
            let mut out = HashMap::new();
            for (id, table) in tables {
                for own in names_in_use(self.index.view(), id, None).unwrap_or_default() {
                    out.insert((id, key_hash(&own.name, table.ignore_case)), own);
                }
            }
            out
        })
    }

    fn files(&self) -> &HashMap<u64, u32> {
        self.files.get_or_init(|| {
            let files = (0..self.index.files.len() as u32).rev();
            files.filter_map(|file| Some((path_hash(self.path(file))?, file))).collect()
        })
    }

    fn columns(&self) -> &HashMap<(TableId, usize, u64), RecordId> {
        self.columns.get_or_init(|| {
            let mut out = HashMap::new();
            for (file, indexed) in self.index.files.iter().enumerate() {
                for (slot, facts) in indexed.facts.tables.iter().enumerate() {
                    for links in facts.links.iter().filter(|links| links.kind == LinkKind::Value) {
                        for link in &links.links {
                            let record =
                                RecordId { file: file as u32, slot: slot as u32, record: link.record };
                            out.entry((facts.table, links.rule, link.hash)).or_insert(record);
                        }
                    }
                }
            }
            out
        })
    }

    /// The records that nothing refers to, of the tables that something could refer to: for each such table its
    /// id, how many records it has, and those. Records of texts count by key, not by language.
    pub fn unused(&self) -> Vec<(TableId, usize, Vec<RecordId>)> {
        let schema = self.index.schema;
        let rules = || schema.tables.iter().flat_map(|table| &table.rules);
        let has_texts = rules().any(|rule| rule.text.is_some());
        let has_files = rules().any(|rule| rule.file.is_some());
        let mut used: HashSet<(LinkKind, u64)> = HashSet::new();
        let mut by_column: HashSet<u64> = HashSet::new();
        for (record, facts, rule, kind, link) in self.links() {
            let rule = &schema.tables[facts.table].rules[rule];
            // A record that names itself is no use of it.
            if facts.hashes[record.record as usize] != link.hash
                || !rule.refs.iter().any(|own| own.table == facts.table)
            {
                used.insert((kind, link.hash));
            }
            if rule.refs.iter().any(|target| target.rule.is_some()) {
                by_column.insert(link.hash);
            }
        }
        let mut out = Vec::new();
        for (id, table) in schema.tables.iter().enumerate() {
            let is_text = table.texts.is_some() && has_texts;
            let refers = rules().any(|rule| rule.refs.iter().any(|target| target.table == id));
            let of_files = has_files && matches!(table.key[..], [part] if part.is_of_file());
            if table.is_by_use() || (!is_text && !refers && !of_files) {
                continue;
            }
            let mut unused = Vec::new();
            let mut keys: HashSet<u64> = HashSet::new();
            for own in &self.index.tables[id].files {
                let facts = self.index.facts(own.file, own.slot);
                for record in 0..facts.starts.len() as u32 {
                    let record = RecordId { file: own.file, slot: own.slot, record };
                    let hash = facts.hashes[record.record as usize];
                    let path = self.file_of(record).and_then(path_hash);
                    let values = facts.links.iter().filter(|links| links.kind == LinkKind::Value);
                    let mut values = values.flat_map(|links| of_record(table, links, record.record));
                    let is_used = (refers && used.contains(&(LinkKind::Reference, hash)))
                        || (is_text && used.contains(&(LinkKind::Text, hash)))
                        || path.is_some_and(|path| used.contains(&(LinkKind::File, path)))
                        || values.any(|value| by_column.contains(&value.hash));
                    if keys.insert(hash) && !is_used && hash != 0 {
                        unused.push(record);
                    }
                }
            }
            out.push((id, keys.len(), unused));
        }
        out
    }

    /// The table, the key as shown, and the place in its file of a record.
    ///
    /// # Errors
    /// When the file cannot be read.
    pub fn describe(&self, node: Node, places: &mut PlaceResolver<'_>) -> Result<Described, Error> {
        let record = match node {
            Node::Record(record) => record,
            Node::File(file) => {
                let (key, file) = (self.path(file).to_owned(), self.index.files[file as usize].id);
                return Ok(Described { table: None, key, label_value: None, file, place: None });
            }
            Node::Name(table, hash) => {
                let gone = "its file changed while it was read; run the command again";
                let own = self.names().get(&(table, hash)).ok_or_else(|| Error::Unknown {
                    what: "name",
                    name: self.index.schema.tables[table].name.clone(),
                    help: gone.into(),
                })?;
                let (file, place) = (own.first.file, places.file(own.first.file)?.place(own.first.span));
                let (key, place) = (own.name.clone(), Some(place));
                return Ok(Described { table: Some(table), key, label_value: None, file, place });
            }
        };
        let id = self.index.files[record.file as usize].id;
        let facts = self.index.facts(record.file, record.slot);
        let start = facts.starts[record.record as usize];
        let table = &self.index.schema.tables[facts.table];
        let loaded = places.file(id)?;
        let found = crate::tables::read_from(table, &loaded.path, &loaded.as_text(), start);
        let label = table.label.and_then(|field| Some(found.as_ref()?.value(field)?.text.clone()));
        let span = found.map_or(crate::text::Span::new(start as usize, start as usize), |record| record.span);
        Ok(Described {
            table: Some(facts.table),
            key: facts.key(record.record).map(shown_key).unwrap_or_default(),
            label_value: label,
            file: id,
            place: Some(loaded.place(span)),
        })
    }
}

/// What is told of a node.
#[derive(Debug, Clone)]
pub struct Described {
    /// The table of a record; none for a file.
    pub table: Option<TableId>,
    /// The key as shown, or the path of a file.
    pub key: String,
    /// What the label field of the record holds.
    pub label_value: Option<String>,
    /// The file.
    pub file: crate::layers::FileId,
    /// Where a record is.
    pub place: Option<crate::problem::Place>,
}

/// The links of one record by one rule; they are in the order of the records. What stands in the path of the file is kept with the
/// first record, and is true of all.
fn of_record<'l>(table: &Table, links: &'l RuleLinks, record: u32) -> impl Iterator<Item = &'l Link> {
    let in_path = table.fields[table.rules[links.rule].field].of_path.is_some();
    let record = if in_path { 0 } else { record };
    let links = &links.links;
    let start = links.partition_point(|link| link.record < record);
    links[start..].iter().take_while(move |link| link.record == record)
}
