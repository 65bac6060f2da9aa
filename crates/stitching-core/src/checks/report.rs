//! From problems in the making to problems with places and words.
//!
//! Only files with problems are read again, each once, and only the records in question.

use super::suggestions::{Suggestions, WithPart};
use super::{Among, Asked, Check, Run, Subject, Words};
use crate::formats::Fault;
use crate::help::Help;
use crate::links::{Index, Labels, RecordId, Switched, switched_in};
use crate::problem::{Fix, Place, Problem, Related};
use crate::reading::{LoadedFile, load, with_text};
use crate::schema::{FileTemplate, NamedBy, Table, ValueRule};
use crate::tables::{
    Piece, RecordView, RecordVisitor, Seed, SeedDetail, beside, file_named, for_each_piece, key_named,
    read_all, read_records, read_records_at, shown_key,
};
use crate::text::{Edit, EditSet, Near, Span};
use rayon::prelude::*;
use std::borrow::Cow;
use std::collections::{BTreeMap, HashMap, HashSet};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

/// Near names are looked for in so many problems at the most.
const MOST_SUGGESTIONS: usize = 10_000;

/// What the words of problems are made from.
#[derive(Debug)]
pub struct Context<'i> {
    /// The index the problems were found in.
    pub index: &'i Index<'i>,
    labels: Labels,
    overridden: Vec<OnceLock<HashMap<String, (String, String)>>>,
    loaded: Mutex<HashMap<u32, Option<Arc<LoadedFile>>>>,
    switched: Vec<Switched>,
    /// The positions in `switched` of whole records, by table and key in lower case.
    switched_records: HashMap<(usize, String), Vec<usize>>,
    suggestions: Suggestions,
}

/// A problem in the making and its file, as a position in the index.
pub(super) type Placed = (u32, Seed);

impl<'i> Context<'i> {
    /// What the words of `seeds` need. Files are read here by several threads at once, so this is not to be called (nor
    /// put off until) within parallel work: a thread that waits for its part may be given another problem to tell, which
    /// then would wait for that same thread.
    pub(super) fn new(index: &'i Index<'i>, seeds: &[Placed]) -> Context<'i> {
        let has_label = |(_, seed): &Placed| {
            seed.record.is_some() && seed.table.is_some_and(|id| index.schema.tables[id].label.is_some())
        };
        let is_link = |(_, seed): &Placed| {
            super::check_of(seed.code).is_some_and(|check| matches!(check.run, Run::Link { .. }))
        };
        let labels = match seeds.iter().any(has_label) {
            true => Labels::read(index.view()),
            false => Labels::default(),
        };
        let switched = match seeds.iter().any(is_link) {
            true => switched_in(index.stack, index.schema, &index.marked()),
            false => Vec::new(),
        };
        let overridden = index.schema.tables.iter().map(|_| OnceLock::new()).collect();
        let mut switched_records: HashMap<(usize, String), Vec<usize>> = HashMap::new();
        for (at, own) in switched.iter().enumerate() {
            if let Some((table, key, None)) = &own.what {
                switched_records.entry((*table, key.to_lowercase())).or_default().push(at);
            }
        }
        Context {
            index,
            labels,
            overridden,
            loaded: Mutex::new(HashMap::new()),
            switched,
            switched_records,
            suggestions: Suggestions::default(),
        }
    }

    /// The tables that have a record with this key, by name. A table whose key is itself a
    /// reference does not count: it only repeats what it refers to.
    pub fn tables_with_key(&self, key: &str) -> Vec<&'i str> {
        let index = self.index;
        let has = |id: &usize| {
            let table = &index.schema.tables[*id];
            let refers =
                table.rules.iter().any(|rule| !rule.refs.is_empty() && table.is_key_field(rule.field));
            !refers && index.find(*id, key).is_some()
        };
        (0..index.schema.tables.len())
            .filter(has)
            .map(|table| index.schema.tables[table].name.as_str())
            .collect()
    }

    /// Where a lower layer has a record of `table` with `key` that no effective file has: the path
    /// and the layer's name. The files that are overridden are read at the first call.
    pub fn overridden(&self, table: usize, key: &str) -> Option<&(String, String)> {
        self.overridden[table].get_or_init(|| self.read_overridden(table)).get(key)
    }

    fn read_overridden(&self, table: usize) -> HashMap<String, (String, String)> {
        let (index, mut out) = (self.index, HashMap::new());
        let effective: HashSet<usize> = index.files.iter().map(|file| file.id).collect();
        let described = &index.schema.tables[table];
        for (id, entry) in index.stack.files().iter().enumerate() {
            if entry.layer > index.through || effective.contains(&id) || !described.takes(&entry.path) {
                continue;
            }
            let records =
                with_text(index.stack, id, |text| read_all(described, &entry.path, text)).unwrap_or_default();
            let place = (entry.path.to_string(), index.stack.layers()[entry.layer].name.clone());
            out.extend(records.into_iter().filter_map(|record| Some((record.key?, place.clone()))));
        }
        out
    }

    /// The entry of the mod that is switched off and is the record of `table` with `key`, if there is one.
    pub fn switched_off(&self, table: usize, key: &str) -> Option<&Switched> {
        let folded = self.index.schema.tables[table].ignore_case;
        let same = |own: &&Switched| matches!(&own.what, Some((_, own, _)) if folded || own == key);
        let records = self.switched_records.get(&(table, key.to_lowercase()))?;
        records.iter().map(|at| &self.switched[*at]).find(same)
    }

    /// What is near to `name`, if that was asked for.
    pub fn near(&self, among: Among, name: &str) -> Option<&Near> {
        self.suggestions.near(among, name)
    }

    /// The keys of which `name` is a part, if that was asked for.
    pub(super) fn with_part(&self, among: Among, name: &str) -> Option<&WithPart> {
        self.suggestions.with_part(among, name)
    }

    fn file(&self, file: u32) -> Option<Arc<LoadedFile>> {
        let mut loaded = self.loaded.lock().unwrap_or_else(PoisonError::into_inner);
        let entry = loaded.entry(file);
        entry
            .or_insert_with(|| load(self.index.stack, self.index.files[file as usize].id).ok().map(Arc::new))
            .clone()
    }

    /// The place where a record begins.
    fn place_of(&self, record: RecordId) -> Option<Place> {
        let start = *self.index.facts(record.file, record.slot).starts.get(record.record as usize)?;
        Some(self.file(record.file)?.place(Span { start, end: start }))
    }

    /// Makes problems of `seeds`, with near names where `suggest` says so. The result is sorted.
    pub(super) fn problems(&mut self, mut seeds: Vec<Placed>, suggest: bool) -> Vec<Problem> {
        seeds.sort_by_key(|a| (a.0, a.1.span, a.1.code, a.1.table));
        // A file that several tables read has a fault in its layout only once.
        let layout = |seed: &Seed| seed.record.is_none() && matches!(seed.detail, SeedDetail::Known(_));
        seeds.dedup_by(|b, a| {
            a.0 == b.0 && a.1.code == b.1.code && a.1.span == b.1.span && layout(&a.1) && layout(&b.1)
        });
        let mut by_file: Vec<(u32, Vec<(Seed, bool)>)> = Vec::new();
        for (position, (file, seed)) in seeds.into_iter().enumerate() {
            let entry = (seed, suggest && position < MOST_SUGGESTIONS);
            match by_file.last_mut() {
                Some((last, own)) if *last == file => own.push(entry),
                _ => by_file.push((file, vec![entry])),
            }
        }
        let found: Vec<Found<'i>> =
            by_file.into_par_iter().flat_map_iter(|(file, seeds)| self.of_file(file, seeds)).collect();
        let asked: Vec<Asked> = found.par_iter().flat_map_iter(|found| self.asked(found)).collect();
        self.suggestions = Suggestions::find(self.index, asked);
        let this = &*self;
        let mut problems: Vec<Problem> =
            found.into_par_iter().filter_map(|found| this.problem(found)).collect();
        problems.sort_by(|a, b| a.order().cmp(&b.order()));
        problems
    }

    /// The names of which the words of a problem want near ones.
    fn asked(&self, found: &Found<'_>) -> Vec<Asked> {
        let asks = super::check_of(found.seed.code).and_then(|check| match check.run {
            Run::Link { asks, .. } => Some(asks),
            _ => None,
        });
        match (asks, &found.about) {
            (Some(asks), Some(about)) if about.suggest => asks(self, &about.subject(&found.seed)),
            _ => Vec::new(),
        }
    }

    /// What the problems of one file are about. The file is read once.
    fn of_file(&self, file: u32, seeds: Vec<(Seed, bool)>) -> Vec<Found<'i>> {
        let Ok(loaded) = load(self.index.stack, self.index.files[file as usize].id) else {
            return Vec::new();
        };
        let mut out = Vec::new();
        let mut by_table: BTreeMap<usize, BySeed> = BTreeMap::new();
        for (seed, suggest) in seeds {
            if let (Some(table), Some(record)) = (seed.table, seed.record) {
                by_table.entry(table).or_default().entry(record).or_default().push((seed, suggest));
            } else {
                let place = loaded.place(seed.span);
                out.push(Found { seed, about: None, place });
            }
        }
        let text = loaded.as_text();
        for (id, by_record) in by_table {
            let table = &self.index.schema.tables[id];
            let fields = crate::tables::all_fields(table);
            let facts = self.index.files[file as usize].facts.tables.iter().find(|facts| facts.table == id);
            let starts = facts.map(|facts| &facts.starts).filter(|_| table.reads_blocks());
            let (context, loaded, out) = (self, &loaded, &mut out);
            let Some(starts) = starts else {
                let mut finder = Finder { context, loaded, table, by_record, by_start: false, out };
                read_records(table, &loaded.path, &text, &fields, &mut finder);
                continue;
            };
            // Where records are lines, only those in question are read.
            let start = |record: u32| starts.get(record as usize).copied().unwrap_or_default();
            let by_record: BySeed = by_record.into_iter().map(|(record, own)| (start(record), own)).collect();
            let mut offsets: Vec<usize> = by_record.keys().map(|start| *start as usize).collect();
            offsets.sort_unstable();
            let mut finder = Finder { context, loaded, table, by_record, by_start: true, out };
            read_records_at(table, &loaded.path, &text, &fields, &offsets, &mut finder);
        }
        out
    }

    /// A problem with its words; near names must have been looked for.
    fn problem(&self, found: Found<'_>) -> Option<Problem> {
        let Found { seed, about, place } = &found;
        let about = about.as_ref();
        let check = super::check_of(seed.code)?;
        let fault = match &seed.detail {
            SeedDetail::Known(fault) => Some(fault),
            _ => None,
        };
        let words = match (fault, about) {
            (_, Some(about)) if describe(check).is_some() => describe(check)?(self, &about.subject(seed)),
            (Some(fault), _) => Words {
                message: fault.message.clone(),
                help: fault.help.clone().map(Help::from),
                ..Words::default()
            },
            (None, _) => return None,
        };
        let severity = words.severity.unwrap_or(check.severity);
        let mut problem = Problem::new(check.code, severity, words.message, place.clone());
        problem.help = words.help;
        problem.meant = words.meant;
        if let Some((message, record)) = words.related {
            problem.related.extend(self.place_of(record).map(|place| Related { message, place }));
        }
        if let Some(fix) = fault.and_then(|fault| fix_of(fault)) {
            problem.fixes.push(fix);
        }
        problem.table = seed.table.map(|table| self.index.schema.tables[table].name.clone());
        if let Some(about) = about {
            problem.key = about.key.as_deref().map(shown_key);
            problem.label = about.label.clone();
            problem.field = about.rule.map(|rule| field_name(about.table, rule));
            problem.value = about.rule.map(|_| about.value.clone());
            if about.rule.is_some_and(|rule| about.table.fields[rule.field].of_path.is_some()) {
                problem.message += "; it stands in the path of the file";
            }
            problem.fixes.extend(words.better.and_then(|better| about.better(&better)));
        }
        Some(problem)
    }
}

/// What finds the words of a check that are not known yet.
fn describe(check: &Check) -> Option<fn(&Context<'_>, &Subject<'_>) -> Words> {
    match check.run {
        Run::Link { describe, .. } | Run::Index { describe, .. } | Run::Field { describe, .. } => {
            Some(describe)
        }
        _ => None,
    }
}

fn fix_of(fault: &Fault) -> Option<Fix> {
    let (title, edit) = fault.fix.clone()?;
    Some(Fix { title, edits: EditSet::new(vec![edit]).ok()?, is_safe: fault.fix_is_safe })
}

/// The name of a field, with the part in braces behind it.
fn field_name(table: &Table, rule: &ValueRule) -> String {
    let field = &table.fields[rule.field].name;
    rule.part.as_ref().map_or_else(|| field.clone(), |part| format!("{field}{{{part}}}"))
}

/// A problem of which all is known but its words.
struct Found<'i> {
    seed: Seed,
    about: Option<About<'i>>,
    place: Place,
}

/// The record and the value a problem is about.
struct About<'a> {
    table: &'a Table,
    rule: Option<&'a ValueRule>,
    key: Option<String>,
    label: Option<String>,
    value: String,
    named: String,
    path: String,
    beside: Vec<(NamedBy, String)>,
    span: Span,
    cell: Option<crate::formats::Cell>,
    suggest: bool,
}

impl About<'_> {
    fn subject<'s>(&'s self, seed: &'s Seed) -> Subject<'s> {
        Subject {
            seed,
            table: self.table,
            rule: self.rule,
            value: &self.value,
            named: &self.named,
            path: &self.path,
            beside: &self.beside,
            key: self.key.as_deref(),
            suggest: self.suggest,
        }
    }

    /// A fix that writes `better` in place of the value.
    fn better(&self, better: &str) -> Option<Fix> {
        let field = &self.table.fields[self.rule?.field];
        // What stands in the path of the file is not written in it.
        let column = Some(&field.column).filter(|_| field.of_path.is_none())?;
        let text = self.table.format.encode(&self.cell?, column, better).ok()?;
        let edits = EditSet::new(vec![Edit { span: self.span, text }]).ok()?;
        Some(Fix { title: format!("write `{better}`"), edits, is_safe: false })
    }
}

/// What is wrong in each record of a file, and whether near names are wanted.
type BySeed = HashMap<u32, Vec<(Seed, bool)>>;

/// Finds the records that problems are about while a file is read again.
struct Finder<'f, 'i> {
    context: &'f Context<'i>,
    loaded: &'f LoadedFile,
    table: &'i Table,
    by_record: BySeed,
    /// Whether `by_record` has the bytes at which the records begin, instead of their positions.
    by_start: bool,
    out: &'f mut Vec<Found<'i>>,
}

impl RecordVisitor for Finder<'_, '_> {
    fn record(&mut self, record: &RecordView<'_>) {
        let record_id = if self.by_start { record.span.start } else { record.index };
        let Some(seeds) = self.by_record.remove(&record_id) else { return };
        for (seed, suggest) in seeds {
            let rule = seed.rule.map(|rule| &self.table.rules[rule]);
            let mut about = About {
                table: self.table,
                rule,
                key: record.key(),
                label: self.label(record),
                value: seed.span.of(record.text).to_owned(),
                named: String::new(),
                path: String::new(),
                beside: Vec::new(),
                span: seed.span,
                cell: None,
                suggest,
            };
            if let Some(rule) = rule {
                for_each_piece(record, rule.field, |piece: &Piece<'_>| {
                    // What another record has too stands in the first value of its field.
                    let is_same = matches!(seed.detail, SeedDetail::Same(..)) && about.cell.is_none();
                    if is_same || (piece.span.start == seed.span.start && seed.rule == Some(piece.rule)) {
                        about.value = piece.text.to_owned();
                        let named = key_named(record, rule, piece);
                        about.named = named.map_or_else(|| piece.text.to_owned(), Cow::into_owned);
                        about.path = file_named(record, rule, piece).unwrap_or_default();
                        let parts = rule.file.iter().flat_map(FileTemplate::parts);
                        let others = parts.filter(|part| **part != NamedBy::Value);
                        about.beside = others
                            .filter_map(|part| {
                                let said = beside(record, piece, record.path, *part)?;
                                Some((*part, said.into_owned()))
                            })
                            .collect();
                        about.span = piece.span;
                        about.cell = Some(*piece.cell);
                    }
                });
            }
            let place = self.loaded.place(about.span);
            self.out.push(Found { seed, about: Some(about), place });
        }
    }
}

impl Finder<'_, '_> {
    fn label(&self, record: &RecordView<'_>) -> Option<String> {
        let value = record.value(record.table.label?)?;
        self.context.labels.name(record.table, &value)
    }
}
