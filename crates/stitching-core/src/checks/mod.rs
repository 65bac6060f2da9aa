//! What can be wrong. One file a check: its code, its words for `stitching explain`, and what finds
//! it.
//!
//! A new check: one file here, one line in [`CHECKS`], one fixture in `tests/checks`. A test walks
//! the table and fails if something is missing.

mod accepted;
mod at_places;
mod bad_project;
mod bad_schema;
mod byte_order_mark;
mod checker;
mod column_count;
mod computed_differs;
mod contested_file;
mod dangling_reference;
mod duplicate_column;
mod duplicate_key;
mod duplicate_member;
mod each_text;
mod fault_counts;
mod follow_ups;
mod guessed_encoding;
mod incomplete_name;
mod kept_report;
mod key_not_followed;
mod last_check;
mod line_ends;
mod lone_name;
mod lost_record;
mod marks_differ;
mod misplaced;
mod missing_column;
mod missing_companion;
mod missing_file;
mod missing_key;
mod missing_text;
mod no_files;
mod no_records;
mod not_a_choice;
mod not_reserved;
mod not_strict_json;
mod not_strict_xml;
mod not_text;
mod not_unique;
mod one_cause;
mod out_of_range;
mod paired_differ;
mod path_clash;
mod pattern_mismatch;
mod report;
mod required_empty;
mod rule_not_met;
mod rule_trial;
mod run;
mod seeds;
mod stale_file;
mod stray_blank;
mod suggestions;
mod syntax_error;
mod text_too_long;
mod too_long;
mod unknown_column;
mod unknown_flag;
mod unknown_letter;
mod unreadable_entry;
mod unused_field;
mod unused_file;
mod wrong_count;
mod wrong_shape;
mod wrong_type;

pub use accepted::{AcceptedProblem, AcceptedProblems};
pub use checker::Checker;
pub(crate) use computed_differs::mistake;
pub use fault_counts::{FaultCounts, FaultGroup, fault_counts};
pub use kept_report::check_unless_kept;
pub use last_check::LastCheck;
pub use report::Context;
pub use run::{Renamed, Report, Summary, TableSummary, check, check_schema, new_errors, problems};
pub use unreadable_entry::passed_over;

use crate::Code;
use crate::help::Help;
use crate::layers::FileId;
use crate::links::{Index, RecordId};
use crate::problem::{Problem, Severity};
use crate::rows::Others;
use crate::schema::{NamedBy, Rule, Schema, Table, TableId, ValueRule};
use crate::tables::{
    CellFinder, EmptyFinder, FieldFinder, FileFinder, Finders, IncompleteFinder, KeyFinder, LinkKind,
    PieceFinder, Seed, ValueFinder,
};
use crate::text::Span;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// One thing that can be wrong.
#[derive(Debug)]
pub struct Check {
    /// Its name.
    pub code: Code,
    /// How much it matters.
    pub severity: Severity,
    /// What it is about, in one line.
    pub about: &'static str,
    /// What `stitching explain` prints: what it finds, why it matters, when to ignore it, and an
    /// example, wrong and right.
    pub docs: &'static str,
    /// What finds it.
    pub run: Run,
}

/// What finds a problem.
pub enum Run {
    /// The reader of a format, of the project or of the schema finds it; there is nothing more to run.
    Reading,
    /// A look at each file before its records.
    File(FileFinder),
    /// A record that lacks a part of its key.
    Key(KeyFinder),
    /// A value that is not there and should be.
    Empty(EmptyFinder),
    /// A look at each cell that is a structure, a list, or has parts.
    Cell(CellFinder),
    /// A piece of a value that does not have the shape of its field.
    Piece(PieceFinder),
    /// A piece of a value that names something together with a field that is missing.
    Incomplete(IncompleteFinder),
    /// A look at some fields of each record.
    Field {
        /// Which fields, and what finds it there.
        finder: FieldFinder,
        /// Says what is wrong, when all records are known.
        describe: fn(&Context<'_>, &Subject<'_>) -> Words,
    },
    /// A look at each value whose rule says so.
    Value {
        /// Whether the rule asks for it.
        applies: fn(&ValueRule) -> bool,
        /// What is wrong with a value, if anything: message and help.
        find: ValueFinder,
        /// What is said of a structure where a value is expected.
        structure: Option<CellFinder>,
    },
    /// A link that leads nowhere.
    Link {
        /// The kind of link.
        kind: LinkKind,
        /// Tells which names its words ask for near ones of.
        asks: fn(&Context<'_>, &Subject<'_>) -> Vec<Asked>,
        /// Says what is wrong.
        describe: fn(&Context<'_>, &Subject<'_>) -> Words,
    },
    /// A look at the index: the files (positions in the index) and what is wrong there.
    Index {
        /// Finds the places.
        find: fn(&Index<'_>) -> Vec<(u32, Seed)>,
        /// Says what is wrong.
        describe: fn(&Context<'_>, &Subject<'_>) -> Words,
    },
    /// A look at the layers and the list of files.
    Stack(fn(&Index<'_>) -> Vec<Problem>),
    /// A look at tables as rows.
    Rows(fn(&Index<'_>, &Others<'_>, &KnownFaults) -> OfRows),
}

/// What is wrong by itself, before tables are looked at as rows: what follows from that is told when it is put right.
#[derive(Debug, Default)]
pub struct KnownFaults {
    /// The tables of which a file has a fault in its structure, so that records may be missing or wrong.
    damaged: BTreeSet<TableId>,
    /// Those of each file by the byte at which they are.
    at: HashMap<FileId, BTreeMap<u32, Vec<KnownFault>>>,
}

/// The check that found a fault, and the field that it is in.
type KnownFault = (Code, Option<String>);

impl KnownFaults {
    /// Whether what `rule` asks of all records of a table cannot be told, since some may not have been read.
    pub(crate) fn hide_records_of(&self, rule: &Rule, schema: &Schema) -> bool {
        let own = rule.by.as_ref().map(|_| rule.table);
        self.hide_any_of(&rule.asked, schema) || own.is_some_and(|table| self.damaged.contains(&table))
    }

    /// Whether records of a table of these `names` may not have been read.
    pub(crate) fn hide_any_of(&self, names: &[String], schema: &Schema) -> bool {
        names.iter().filter_map(|name| schema.table(name)).any(|table| self.damaged.contains(&table))
    }

    /// Whether a record that covers `span` of a file has a fault that may be why `fields` are not as they should be: in one of these,
    /// or one of the record as a whole.
    pub(crate) fn explain(&self, file: FileId, span: Span, fields: &BTreeSet<String>) -> bool {
        let of_record = |code: Code| {
            [Code::DUPLICATE_KEY, Code::MISSING_KEY].contains(&code) || follow_ups::is_structural(code)
        };
        let found = self.at.get(&file).into_iter().flat_map(|at| at.range(span.start..=span.end));
        found.flat_map(|(_, faults)| faults).any(|(code, field)| {
            of_record(*code) || field.as_ref().is_some_and(|field| fields.contains(field))
        })
    }
}

/// What a look at tables as rows found.
#[derive(Debug, Default)]
pub struct OfRows {
    /// The problems; of very many the first.
    pub problems: Vec<Problem>,
    /// How many there are besides.
    pub more: BTreeMap<Severity, usize>,
}

impl std::fmt::Debug for Run {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(match self {
            Run::Reading => "Reading",
            Run::File(_) => "File",
            Run::Key(_) => "Key",
            Run::Empty(_) => "Empty",
            Run::Cell(_) => "Cell",
            Run::Piece(_) => "Piece",
            Run::Incomplete(_) => "Incomplete",
            Run::Field { .. } => "Field",
            Run::Value { .. } => "Value",
            Run::Link { .. } => "Link",
            Run::Index { .. } => "Index",
            Run::Stack(_) => "Stack",
            Run::Rows(_) => "Rows",
        })
    }
}

/// What a problem is about, when its words are made.
#[derive(Debug)]
pub struct Subject<'s> {
    /// The problem in the making.
    pub seed: &'s Seed,
    /// The record's table.
    pub table: &'s Table,
    /// The rule of the value, if it is about one.
    pub rule: Option<&'s ValueRule>,
    /// The value found.
    pub value: &'s str,
    /// The key that the value names, as kept in memory; mostly the value itself.
    pub named: &'s str,
    /// The path of the file that the value names, as it is made; empty where it names none.
    pub path: &'s str,
    /// What the other parts of that path say.
    pub beside: &'s [(NamedBy, String)],
    /// The record's key as kept in memory.
    pub key: Option<&'s str>,
    /// Whether near names were looked for.
    pub suggest: bool,
}

impl Subject<'_> {
    /// The value that names the file at `path`, if the schema makes such a path of one.
    pub fn value_for(&self, path: &str) -> Option<String> {
        let other = |part| self.beside.iter().find(|(own, _)| *own == part).map(|(_, said)| said.into());
        self.rule?.file.as_ref()?.extract(path, self.value, other)
    }
}

/// A name of which near ones are wanted. All that are asked for are looked for together, before the words are made.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Asked {
    /// Among what.
    pub among: Among,
    /// The name.
    pub name: String,
}

/// Where near names are looked for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Among {
    /// The keys of a table.
    Keys(TableId),
    /// The values that a table has by a rule.
    Values(TableId, usize),
    /// The paths of all files.
    Paths,
    /// Equal names in this part, counted from 0, of the keys of a table.
    Part(TableId, usize),
}

/// The words of a problem.
#[derive(Debug, Default)]
pub struct Words {
    /// What is wrong: found and expected.
    pub message: String,
    /// What to do, or the nearest names.
    pub help: Option<Help>,
    /// Replaces the check's own severity.
    pub severity: Option<Severity>,
    /// A record that explains it, and what it is.
    pub related: Option<(String, RecordId)>,
    /// A value that would be right.
    pub better: Option<String>,
    /// The path of the file that is most likely meant.
    pub meant: Option<String>,
}

/// All checks, sorted by code.
pub static CHECKS: &[&Check] = &[
    &bad_project::CHECK,
    &bad_schema::CHECK,
    &byte_order_mark::CHECK,
    &column_count::CHECK,
    &computed_differs::CHECK,
    &contested_file::CHECK,
    &dangling_reference::CHECK,
    &duplicate_column::CHECK,
    &duplicate_key::CHECK,
    &duplicate_member::CHECK,
    &guessed_encoding::CHECK,
    &incomplete_name::CHECK,
    &key_not_followed::CHECK,
    &line_ends::CHECK,
    &lone_name::CHECK,
    &lost_record::CHECK,
    &marks_differ::CHECK,
    &misplaced::CHECK,
    &missing_column::CHECK,
    &missing_companion::CHECK,
    &missing_file::CHECK,
    &missing_key::CHECK,
    &missing_text::CHECK,
    &no_files::CHECK,
    &no_records::CHECK,
    &not_a_choice::CHECK,
    &not_reserved::CHECK,
    &not_strict_json::CHECK,
    &not_strict_xml::CHECK,
    &not_text::CHECK,
    &not_unique::CHECK,
    &out_of_range::CHECK,
    &paired_differ::CHECK,
    &path_clash::CHECK,
    &pattern_mismatch::CHECK,
    &required_empty::CHECK,
    &rule_not_met::CHECK,
    &stale_file::CHECK,
    &stray_blank::CHECK,
    &syntax_error::CHECK,
    &text_too_long::CHECK,
    &too_long::CHECK,
    &unknown_column::CHECK,
    &unknown_flag::CHECK,
    &unknown_letter::CHECK,
    &unreadable_entry::CHECK,
    &unused_field::CHECK,
    &unused_file::CHECK,
    &wrong_count::CHECK,
    &wrong_shape::CHECK,
    &wrong_type::CHECK,
];

/// The check with this code.
pub fn find(code: &str) -> Option<&'static Check> {
    CHECKS.iter().copied().find(|check| check.code.as_str() == code)
}

/// The check that `code` stands for.
pub(crate) fn check_of(code: Code) -> Option<&'static Check> {
    CHECKS.iter().copied().find(|check| check.code == code)
}

/// What the checks look at while files are read.
pub fn finders(schema: &Schema) -> Finders {
    let of_rule = |rule: &ValueRule| {
        let checks = CHECKS.iter().filter_map(|check| match check.run {
            Run::Value { applies, find, .. } if applies(rule) => Some((check.code, find)),
            _ => None,
        });
        checks.collect()
    };
    let values = schema.tables.iter().map(|table| table.rules.iter().map(of_rule).collect()).collect();
    let mut finders = Finders { values, ..Finders::default() };
    for check in CHECKS {
        match check.run {
            Run::File(find) => finders.files.push(find),
            Run::Key(find) => finders.keys.push(find),
            Run::Empty(find) => finders.empty.push(find),
            Run::Cell(find) => finders.cells.push(find),
            Run::Piece(find) => finders.pieces.push(find),
            Run::Incomplete(find) => finders.incomplete.push(find),
            Run::Field { finder, .. } => finders.fields.push(finder),
            Run::Value { structure, .. } => finders.cells.extend(structure),
            Run::Reading | Run::Link { .. } | Run::Index { .. } | Run::Stack(_) | Run::Rows(_) => {}
        }
    }
    finders
}

/// What is wrong with `value` by `rule` alone, if anything: message and help.
pub(crate) fn value_problem(rule: &ValueRule, value: &str) -> Option<(String, Option<String>)> {
    CHECKS.iter().find_map(|check| match check.run {
        Run::Value { applies, find, .. } if applies(rule) => find(rule, value),
        _ => None,
    })
}
