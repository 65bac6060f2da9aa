//! What the index and the checks need to know of one file: a pure function of its bytes and the
//! schema, so that files can be read in parallel and their texts forgotten.
//!
//! Of a reference only a 64-bit hash and its place are kept, not its text: a table of millions of
//! references costs 16 bytes each. Two different names with one hash would hide a dangling
//! reference; among five million names the chance is about one in ten million. Keys are kept as
//! text and compared as such, and what changes files always compares text.

use super::{
    FieldFinder, Finders, Piece, RecordView, RecordVisitor, ValueFinder, each_rule, file_named,
    for_each_piece, key_named, pieces_of, read_block, read_records,
};
use crate::Code;
use crate::formats::{BlockState, ColumnCell, Fault, Form, may_have_off};
use crate::layers::RelPath;
use crate::schema::{Field, Layout, Schema, Table, TableId, Texts, ValueRule};
use crate::text::{Span, Text};
use xxhash_rust::xxh3::xxh3_64;

/// All that is known of one file.
#[derive(Debug, Default)]
pub struct FileFacts {
    /// For each table that takes the file, what it found.
    pub tables: Vec<TableFacts>,
    /// What is wrong in the file by itself.
    pub seeds: Vec<Seed>,
    /// The number of places that point somewhere.
    pub references: usize,
    /// Whether something in it may be switched off.
    pub may_have_off: bool,
}

/// What one table found in one file.
#[derive(Debug)]
pub struct TableFacts {
    /// The table.
    pub table: TableId,
    /// The language of the file, as a position in the schema's languages, if it is one of texts.
    pub language: Option<usize>,
    /// Where each record begins, in bytes.
    pub starts: Vec<u32>,
    /// The hash of each record's key; 0 for a record without one.
    pub hashes: Vec<u64>,
    /// For tables of texts with a field for each language: which languages each record has, a bit
    /// for each.
    pub languages: Vec<u64>,
    /// Whether each record says itself what language it is in.
    by_record: bool,
    /// Whether some record has it, for each field of the table.
    pub present: Vec<bool>,
    /// What the records' values point to, by rule.
    pub links: Vec<RuleLinks>,
    keys: String,
    key_ends: Vec<u32>,
}

/// The links of one rule, in the order of the file.
#[derive(Debug)]
pub struct RuleLinks {
    /// The position of the rule in the table's rules.
    pub rule: usize,
    /// What the links are.
    pub kind: LinkKind,
    /// Each value.
    pub links: Vec<Link>,
}

/// What a value is looked up as.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash)]
pub enum LinkKind {
    /// The key of a record, or a value that another column has.
    Reference,
    /// A text key.
    Text,
    /// A file's path.
    File,
    /// Itself, among the values of its own column.
    Value,
}

/// A value, reduced to what a look-up needs.
#[derive(Debug, Clone, Copy)]
pub struct Link {
    /// The hash of what it points to.
    pub hash: u64,
    /// Where it stands, in bytes.
    pub start: u32,
    /// The record it belongs to.
    pub record: u32,
}

/// A problem in the making: enough to find its place and words again later.
#[derive(Debug, Clone)]
pub struct Seed {
    /// The check that found it.
    pub code: Code,
    /// The table, if a table's reading found it.
    pub table: Option<TableId>,
    /// The record, if it is about one.
    pub record: Option<u32>,
    /// The rule, if it is about a value.
    pub rule: Option<usize>,
    /// Where it is.
    pub span: Span,
    /// What is known of it.
    pub detail: SeedDetail,
}

/// What is known of a problem in the making.
#[derive(Debug, Clone)]
pub enum SeedDetail {
    /// All of it.
    Known(Box<Fault>),
    /// A value for which a check has its words only when the text is there again; the hash of what it points to.
    Link(u64),
    /// The first of all values of a rule, of which none leads anywhere; the hash of what it points to, and how many they
    /// are.
    NoLink(u64, usize),
    /// A record that has the same key, or the same value, as an earlier one: its file (a position
    /// among the index's files), the table's slot there, and the record.
    Same(usize, usize, u32),
}

/// The hash of a key; `folded` for tables that ignore case.
#[inline]
pub fn key_hash(key: &str, folded: bool) -> u64 {
    let hash = if folded { xxh3_64(key.to_lowercase().as_bytes()) } else { xxh3_64(key.as_bytes()) };
    hash.max(1)
}

/// The hash of a path, or `None` for a text that is no path inside a layer.
pub fn path_hash(path: &str) -> Option<u64> {
    RelPath::parse(path).ok().map(|path| xxh3_64(path.as_str().as_bytes()))
}

impl TableFacts {
    /// The key of `record` as kept in memory, `None` for a record without one.
    #[inline]
    pub fn key(&self, record: u32) -> Option<&str> {
        let at = record as usize;
        let start = if at == 0 { 0 } else { self.key_ends[at - 1] as usize };
        self.keys.get(start..self.key_ends[at] as usize).filter(|key| !key.is_empty())
    }

    /// The languages of a record of texts, a bit for each; 0 where the file as a whole has one.
    fn languages_of(&self, record: u32) -> u64 {
        self.languages.get(record as usize).copied().unwrap_or(0)
    }

    /// The languages of a record that says itself what language it is in, a bit for each; 0 for others.
    pub fn language_of(&self, record: u32) -> u64 {
        if self.by_record { self.languages_of(record) } else { 0 }
    }

    /// All keys with their records.
    pub fn keys(&self) -> impl Iterator<Item = (u32, &str)> {
        (0..self.starts.len() as u32).filter_map(|record| Some((record, self.key(record)?)))
    }
}

/// Reads what is needed of the file at `path` for the tables `claims`.
///
/// `targets[table][rule]` tells whether some reference looks for values of that rule's column.
pub fn extract(
    schema: &Schema,
    claims: &[TableId],
    path: &RelPath,
    text: &Text<'_>,
    finders: &Finders,
    targets: &[Vec<bool>],
) -> FileFacts {
    let may_have_off = may_have_off(text.as_str().as_bytes());
    let mut facts = FileFacts { may_have_off, ..FileFacts::default() };
    for &table in claims {
        let mut extractor = Extractor::new(schema, table, path, text.as_str().len(), finders, targets);
        extractor.begin(text);
        read_records(extractor.table, path, text, &extractor.fields, &mut extractor.builder);
        extractor.finish(&mut facts);
    }
    facts
}

/// Reads what is needed of a file for one table, from one block of it after another.
pub struct Extractor<'e> {
    table: &'e Table,
    path: &'e RelPath,
    fields: Vec<usize>,
    state: BlockState,
    builder: Builder<'e>,
    may_have_off: bool,
}

impl<'e> Extractor<'e> {
    /// Begins on the file at `path`, which has about `size` bytes. See [`extract`] for the rest.
    pub fn new(
        schema: &'e Schema,
        id: TableId,
        path: &'e RelPath,
        size: usize,
        finders: &'e Finders,
        targets: &[Vec<bool>],
    ) -> Extractor<'e> {
        let table = &schema.tables[id];
        let builder = Builder {
            table: id,
            rules: rule_plans(schema, table, &finders.values[id], &targets[id]),
            looks: looks(table, &finders.values[id], &targets[id]),
            required: required_fields(table),
            path_fields: table.path_fields().collect(),
            fields: fields(table, finders),
            finders,
            key_folded: table.ignore_case,
            estimate: size,
            base: 0,
            index: 0,
            facts: TableFacts {
                table: id,
                language: language_of(schema, table, path),
                starts: Vec::new(),
                hashes: Vec::new(),
                languages: Vec::new(),
                by_record: matches!(table.texts, Some(Texts::Record { .. })),
                present: vec![false; table.fields.len()],
                links: Vec::new(),
                keys: String::new(),
                key_ends: Vec::new(),
            },
            seeds: Vec::new(),
        };
        Extractor {
            table,
            path,
            fields: super::all_fields(table),
            state: BlockState::default(),
            builder,
            may_have_off: false,
        }
    }

    /// Looks at the file as a whole.
    fn begin(&mut self, text: &Text<'_>) {
        for find in &self.builder.finders.files {
            if let Some(fault) = find(self.table, text) {
                self.builder.known(None, None, fault);
            }
        }
    }

    /// Takes the next block, which begins at byte `base` of the file.
    pub fn block(&mut self, text: &Text<'_>, base: usize) {
        self.builder.base = base as u32;
        if base == 0 {
            self.begin(text);
        }
        self.may_have_off |= may_have_off(text.as_str().as_bytes());
        read_block(self.table, self.path, Some(text), &self.fields, &mut self.state, &mut self.builder);
    }

    /// Takes note that there are no more blocks.
    pub fn end_blocks(&mut self) {
        self.builder.base = 0;
        read_block(self.table, self.path, None, &self.fields, &mut self.state, &mut self.builder);
    }

    /// Adds what was found to `facts`.
    pub fn finish(self, facts: &mut FileFacts) {
        let mut found = self.builder.facts;
        for (rule, plan) in self.builder.rules.into_iter().enumerate() {
            let links = plan.links.into_iter().filter(|(_, links)| !links.is_empty());
            found.links.extend(links.map(|(kind, links)| RuleLinks { rule, kind, links }));
        }
        let pointing = found.links.iter().filter(|links| links.kind != LinkKind::Value);
        facts.references += pointing.map(|links| links.links.len()).sum::<usize>();
        found.shrink();
        facts.tables.push(found);
        facts.may_have_off |= self.may_have_off;
        facts.seeds.extend(self.builder.seeds);
    }
}

impl TableFacts {
    fn shrink(&mut self) {
        self.starts.shrink_to_fit();
        self.hashes.shrink_to_fit();
        self.keys.shrink_to_fit();
        self.key_ends.shrink_to_fit();
        for links in &mut self.links {
            links.links.shrink_to_fit();
        }
    }
}

fn language_of(schema: &Schema, table: &Table, path: &RelPath) -> Option<usize> {
    if !matches!(table.texts, Some(Texts::File(_))) {
        return None;
    }
    let code = table.language_of(path)?;
    schema.languages.iter().position(|language| language == code)
}

/// Whether the keys that `rule` refers to are compared without case.
pub(crate) fn refers_folded(schema: &Schema, rule: &ValueRule) -> bool {
    rule.ignore_case
        || rule.refs.iter().any(|target| target.rule.is_none() && schema.tables[target.table].ignore_case)
}

/// What is to be done with the values of a rule.
struct RulePlan<'c> {
    rule: &'c ValueRule,
    checks: &'c [(Code, ValueFinder)],
    /// As what the values are looked up, and their links so far.
    links: Vec<(LinkKind, Vec<Link>)>,
    /// Whether what they refer to is compared without case.
    folded: bool,
}

fn rule_plans<'c>(
    schema: &Schema,
    table: &'c Table,
    checks: &'c [Vec<(Code, ValueFinder)>],
    targets: &[bool],
) -> Vec<RulePlan<'c>> {
    let plan = |(index, rule): (usize, &'c ValueRule)| {
        let mut links = Vec::new();
        if !rule.refs.is_empty() {
            links.push((LinkKind::Reference, Vec::new()));
        }
        if rule.text.is_some() && schema.text_tables().next().is_some() {
            links.push((LinkKind::Text, Vec::new()));
        }
        if rule.file.is_some() {
            links.push((LinkKind::File, Vec::new()));
        }
        if rule.unique || targets[index] {
            links.push((LinkKind::Value, Vec::new()));
        }
        RulePlan { rule, checks: &checks[index], links, folded: refers_folded(schema, rule) }
    };
    table.rules.iter().enumerate().map(plan).collect()
}

/// How the values of a field are looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum FieldPlan {
    /// Not at all: nothing is asked of them.
    Not,
    /// As one piece, by the rule at this position.
    Whole(usize),
    /// Taken apart.
    Apart,
}

/// How the values of each field are looked at.
fn looks(table: &Table, checks: &[Vec<(Code, ValueFinder)>], targets: &[bool]) -> Vec<FieldPlan> {
    let asked = |rule: usize| table.rules[rule].says_something() || !checks[rule].is_empty() || targets[rule];
    // A list can be wrong by itself: in its count, in its quotes.
    let has_shape = |field: &Field| field.counted || field.list.as_ref().is_some_and(|list| list.quoted);
    let look = |field: &Field| match &field.layout {
        Layout::Whole(rule) if !asked(*rule) && !has_shape(field) => FieldPlan::Not,
        Layout::Whole(rule) if field.list.is_none() && table.rules[*rule].is_alone() => {
            FieldPlan::Whole(*rule)
        }
        _ => FieldPlan::Apart,
    };
    table.fields.iter().map(look).collect()
}

/// The fields that a record may not lack, with their rules.
fn required_fields(table: &Table) -> Vec<(usize, usize)> {
    let whole = |(at, field): (usize, &Field)| match field.layout {
        Layout::Whole(rule) if table.rules[rule].required => Some((at, rule)),
        _ => None,
    };
    table.fields.iter().enumerate().filter_map(whole).collect()
}

/// The fields that some check looks at in each record.
fn fields(table: &Table, finders: &Finders) -> Vec<(usize, FieldFinder)> {
    let of = |finder: &FieldFinder| {
        let fields = table.fields.iter().enumerate().filter(|(_, field)| (finder.applies)(field));
        fields.map(|(at, _)| (at, *finder)).collect::<Vec<_>>()
    };
    finders.fields.iter().flat_map(of).collect()
}

struct Builder<'b> {
    table: TableId,
    rules: Vec<RulePlan<'b>>,
    looks: Vec<FieldPlan>,
    required: Vec<(usize, usize)>,
    /// The fields that are parts of the path.
    path_fields: Vec<usize>,
    /// The fields that some check looks at in each record, and what looks at them.
    fields: Vec<(usize, FieldFinder)>,
    finders: &'b Finders,
    key_folded: bool,
    /// The size of the text, from which the number of records is guessed.
    estimate: usize,
    facts: TableFacts,
    /// Where the block being read begins in the file, in bytes; places in it are relative to that.
    base: u32,
    /// The position of the record being read among those of the file.
    index: u32,
    seeds: Vec<Seed>,
}

impl RecordVisitor for Builder<'_> {
    fn record(&mut self, record: &RecordView<'_>) {
        self.index = self.facts.starts.len() as u32;
        if self.index == 64 {
            self.reserve((self.base + record.span.start) as usize / 64);
        }
        self.key(record);
        if let Some(Texts::Fields(fields)) = &record.table.texts {
            let has = |field: usize| record.value(field).is_some_and(|text| !text.is_empty());
            let bits = fields.iter().filter(|(_, field)| has(*field));
            self.facts.languages.push(bits.fold(0, |mask, (language, _)| mask | 1 << (language % 64)));
        }
        if let Some(texts @ Texts::Record { language, .. }) = &record.table.texts {
            let found = record.value(*language).and_then(|name| texts.language_called(&name));
            self.facts.languages.push(found.map_or(0, |language| 1 << (language % 64)));
        }
        for (at, ColumnCell { column, cell, .. }) in record.cells.iter().enumerate() {
            self.facts.present[usize::from(*column)] = true;
            match self.looks[usize::from(*column)] {
                FieldPlan::Not => {}
                FieldPlan::Whole(rule) => match cell.plain(record.text) {
                    Some(text) => self.value(record, &Piece::whole(rule, text, cell.span, cell, at)),
                    None => self.apart(record, at),
                },
                FieldPlan::Apart => self.apart(record, at),
            }
        }
        for at in 0..self.path_fields.len() {
            // All records of a file have the same path: it is told at the first of them.
            let field = self.path_fields[at];
            self.facts.present[field] = true;
            if self.index == 0 {
                for_each_piece(record, field, |piece| self.value(record, piece));
            }
        }
        let inherits = || {
            let mut own = record.table.fields.iter().enumerate().filter(|(_, field)| field.inherit);
            own.any(|(at, _)| record.cell(at).is_some())
        };
        for at in 0..self.required.len() {
            let (field, rule) = self.required[at];
            // What it takes from another record, that one is asked for.
            if record.cell(field).is_none() && !inherits() {
                self.required(record, rule, record.span.first_byte());
            }
        }
        for at in 0..self.fields.len() {
            let (field, finder) = self.fields[at];
            if let Some(fault) = (finder.find)(record, field) {
                let rule = record.table.fields[field].layout.rules()[0];
                self.known(Some(self.index), Some(rule), fault);
            }
        }
    }

    fn fault(&mut self, fault: Fault) {
        self.known(None, None, fault);
    }
}

impl Builder<'_> {
    /// Makes room for the records that the rest of the file will have, going by the first ones.
    fn reserve(&mut self, bytes_each: usize) {
        let records = self.estimate / bytes_each.max(1) + 16;
        self.facts.starts.reserve(records);
        self.facts.hashes.reserve(records);
        self.facts.key_ends.reserve(records);
        self.facts.keys.reserve(self.facts.keys.len() * records / 64);
        for (_, links) in self.rules.iter_mut().flat_map(|plan| &mut plan.links) {
            links.reserve(links.len() * records / 64);
        }
    }

    fn key(&mut self, record: &RecordView<'_>) {
        let facts = &mut self.facts;
        let start = facts.keys.len();
        facts.starts.push(self.base + record.span.start);
        match record.push_key(&mut facts.keys) {
            Ok(()) if record.table.key.is_empty() => facts.hashes.push(0),
            Ok(()) => facts.hashes.push(key_hash(&facts.keys[start..], self.key_folded)),
            Err(part) => {
                facts.keys.truncate(start);
                facts.hashes.push(0);
                if record.table.needs_key() {
                    for find in &self.finders.keys {
                        self.known(Some(self.index), None, find(record, part));
                    }
                }
            }
        }
        self.facts.key_ends.push(self.facts.keys.len() as u32);
    }

    /// Looks at a value that is written in some other way than plainly, or has parts.
    #[inline(never)]
    fn apart(&mut self, record: &RecordView<'_>, at: usize) {
        let ColumnCell { column, cell, .. } = &record.cells[at];
        let described = &record.table.fields[usize::from(*column)];
        for find in &self.finders.cells {
            if let Some(fault) = find(record, described, cell) {
                self.known(Some(self.index), Some(described.layout.rules()[0]), fault);
            }
        }
        if cell.form == Form::Nested {
            return;
        }
        pieces_of(record.table, described, record.text, at, cell, &mut |piece| {
            if piece.fits {
                each_rule(record, at, piece.rule, piece.siblings, &mut |rule| match rule == piece.rule {
                    true => self.value(record, piece),
                    false => self.value(record, &Piece { rule, within: piece.within.clone(), ..*piece }),
                });
            } else {
                self.wrong_shape(record, piece);
            }
        });
    }

    /// Looks at one value, or one part of one.
    #[inline]
    fn value(&mut self, record: &RecordView<'_>, piece: &Piece<'_>) {
        let (number, text, span) = (piece.rule, piece.text, piece.span);
        let plan = &self.rules[number];
        let (rule, checks) = (plan.rule, plan.checks);
        if rule.is_none(text) {
            if rule.required {
                self.required(record, number, span);
            }
            return;
        }
        for (code, check) in checks {
            if let Some(wrong) = check(rule, text) {
                self.wrong(number, span, *code, wrong);
            }
        }
        // Nearly always none, and then nothing is allocated.
        let mut incomplete = Vec::new();
        let plan = &mut self.rules[number];
        for (kind, links) in &mut plan.links {
            let hash = match kind {
                LinkKind::Reference if rule.shape.is_none() && rule.with.is_empty() => {
                    key_hash(text, plan.folded)
                }
                LinkKind::Reference => match key_named(record, rule, piece) {
                    Some(key) => key_hash(&key, plan.folded),
                    None => {
                        incomplete.push(*kind);
                        continue;
                    }
                },
                LinkKind::Value => key_hash(text, false),
                LinkKind::Text => text_hash(rule, text),
                LinkKind::File => match file_named(record, rule, piece) {
                    // No file has 0, which stands for a path that leads out of the layer.
                    Some(path) => path_hash(&path).unwrap_or(0),
                    None => {
                        incomplete.push(*kind);
                        continue;
                    }
                },
            };
            links.push(Link { hash, start: self.base + span.start, record: self.index });
        }
        for kind in incomplete {
            self.incomplete(record, rule, piece, kind);
        }
    }

    #[cold]
    #[inline(never)]
    fn incomplete(&mut self, record: &RecordView<'_>, rule: &ValueRule, piece: &Piece<'_>, kind: LinkKind) {
        for find in &self.finders.incomplete {
            if let Some(fault) = find(record, rule, piece, kind) {
                self.known(Some(self.index), Some(piece.rule), fault);
            }
        }
    }

    #[cold]
    #[inline(never)]
    fn wrong(&mut self, rule: usize, span: Span, code: Code, (message, help): (String, Option<String>)) {
        let mut fault = Fault::new(code, span, message);
        fault.help = help;
        self.known(Some(self.index), Some(rule), fault);
    }

    #[cold]
    #[inline(never)]
    fn required(&mut self, record: &RecordView<'_>, rule: usize, span: Span) {
        for find in &self.finders.empty {
            self.known(Some(self.index), Some(rule), find(record, rule, span));
        }
    }

    fn wrong_shape(&mut self, record: &RecordView<'_>, piece: &Piece<'_>) {
        for find in &self.finders.pieces {
            if let Some(fault) = find(record, piece) {
                self.known(Some(self.index), Some(piece.rule), fault);
            }
        }
    }

    fn known(&mut self, record: Option<u32>, rule: Option<usize>, mut fault: Fault) {
        let shift = |span: Span| Span { start: self.base + span.start, end: self.base + span.end };
        fault.span = shift(fault.span);
        if let Some((_, edit)) = &mut fault.fix {
            edit.span = shift(edit.span);
        }
        self.seeds.push(Seed {
            code: fault.code,
            table: Some(self.table),
            record,
            rule,
            span: fault.span,
            detail: SeedDetail::Known(Box::new(fault)),
        });
    }
}

/// The hash of the text key that `value` stands for.
#[inline(never)]
fn text_hash(rule: &ValueRule, value: &str) -> u64 {
    match &rule.text {
        Some(template) if template.source() != "{}" => key_hash(&template.fill_one(value), false),
        _ => key_hash(value, false),
    }
}
