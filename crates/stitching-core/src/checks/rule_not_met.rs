//! A rule of the game that records do not meet.

use super::{Check, KnownFaults, OfRows, Run};
use crate::formats::Cell;
use crate::layers::FileId;
use crate::links::Index;
use crate::problem::{Fix, Problem, Related, Severity};
use crate::reading::{LoadedFile, load};
use crate::rows::{Others, Rows};
use crate::rules::{Outcome, Violation, hold, named_fields};
use crate::schema::Rule;
use crate::tables::{RecordView, RecordVisitor, read_records_at, shown_key};
use crate::text::{Edit, EditSet};
use crate::{Code, Error};
use std::collections::{BTreeMap, HashMap};

pub(super) static CHECK: Check = Check {
    code: Code::RULE_NOT_MET,
    severity: Severity::Error,
    about: "a rule of the game that a record, or records together, do not meet",
    docs: DOCS,
    run: Run::Rows(find),
};

const DOCS: &str = "\
What it finds
    Records that do not meet a [[rule]] of the schema: a condition on each of them, or on those that
    are held together; numbers with a gap, references in a circle, two at one place. It is told
    under the name of the rule.

Why it matters
    What the game expects and no file says is noticed only while playing. What the rule's author
    wrote about it, `explain` tells by the rule's name.

When to ignore it
    When the record is an exception on purpose: say with `when` which records the rule is for.

Example, wrong
    Reach      Kind   Depth
    frost_cut  deep   2           (a rule asks for 5 where Kind is deep)

Example, right
    Reach      Kind   Depth
    frost_cut  deep   6
";

fn find(index: &Index<'_>, others: &Others<'_>, faults: &KnownFaults) -> OfRows {
    let mut out = OfRows::default();
    let told = |rule: &&Rule| !faults.hide_records_of(rule, index.schema);
    for rule in index.schema.rules.iter().filter(told) {
        match hold(rule, others) {
            Ok(mut outcome) => {
                let fields = named_fields(rule);
                let rows = &outcome.rows;
                outcome.violations.retain(|found| {
                    let row = &rows.rows[found.row];
                    !faults.explain(row.file, row.span, &fields)
                });
                of_outcome(index, rule, outcome, &mut out);
            }
            Err(error) => out.problems.push(mistake(rule, &error)),
        }
    }
    out
}

/// What is wrong with a rule that cannot be held against the records.
fn mistake(rule: &Rule, error: &Error) -> Problem {
    let message = format!("the rule `{}`: {error}", rule.name);
    let mut problem = Problem::new(Code::BAD_SCHEMA, Severity::Error, message, rule.place.clone());
    problem.help = error.help();
    problem
}

fn of_outcome(index: &Index<'_>, rule: &Rule, outcome: Outcome, out: &mut OfRows) {
    if let Some((error, number)) = &outcome.failure {
        let mut problem = mistake(rule, error);
        if *number > 1 {
            problem.message.push_str(&format!(" (and so for {} more)", number - 1));
        }
        out.problems.push(problem);
    }
    if outcome.more > 0 {
        *out.more.entry(rule.severity).or_default() += outcome.more;
    }
    let rows = &outcome.rows;
    let mut by_file: BTreeMap<FileId, Vec<&Violation>> = BTreeMap::new();
    for found in &outcome.violations {
        by_file.entry(file_of(rows, found)).or_default().push(found);
    }
    let mut files = Files { index, loaded: HashMap::new() };
    for (file, violations) in by_file {
        let Some(cells) = files.of(file).map(|loaded| cells(rows, loaded, &violations)) else {
            continue;
        };
        for found in violations {
            out.problems.extend(problem(rule, rows, found, &mut files, &cells));
        }
    }
}

/// The file in which a violation is shown.
fn file_of(rows: &Rows, found: &Violation) -> FileId {
    let row = &rows.rows[found.row];
    let cell = found.column.and_then(|column| row.cells[column].as_ref());
    cell.map_or(row.file, |cell| cell.file)
}

/// The files that problems are shown in, each read once.
struct Files<'i> {
    index: &'i Index<'i>,
    loaded: HashMap<FileId, Option<LoadedFile>>,
}

impl Files<'_> {
    fn of(&mut self, file: FileId) -> Option<&LoadedFile> {
        let read = || load(self.index.stack, file).ok();
        self.loaded.entry(file).or_insert_with(read).as_ref()
    }
}

fn problem(
    rule: &Rule,
    rows: &Rows,
    found: &Violation,
    files: &mut Files<'_>,
    cells: &HashMap<u32, Cell>,
) -> Option<Problem> {
    let row = &rows.rows[found.row];
    let cell = found.column.and_then(|column| row.cells[column].as_ref());
    let span = cell.map_or(row.span, |cell| cell.span);
    let place = files.of(file_of(rows, found))?.place(span);
    let mut problem = Problem::new(CHECK.code, rule.severity, found.message.clone(), place);
    problem.rule = Some(rule.name.clone());
    let better = found.better.as_ref().map(|better| format!("`{better}` would be right"));
    problem.help = rule.help.clone().or(better).map(Into::into);
    problem.table = Some(rows.table.name.clone());
    problem.key = row.key.as_deref().map(shown_key);
    problem.label = row.label.clone();
    problem.field = found.column.map(|column| rows.columns[column].clone());
    problem.value = found.column.map(|column| row.text(column).into_owned());
    if let Some((other, message)) = &found.related {
        let other = &rows.rows[*other];
        let place = files.of(other.file).map(|file| file.place(other.span));
        problem.related.extend(place.map(|place| Related { message: message.clone(), place }));
    }
    if let (Some(better), Some(column), Some(own)) =
        (&found.better, found.column, cell.and_then(|cell| cells.get(&cell.span.start)))
    {
        let column = &rows.table.fields[rows.fields[column]].column;
        let edit = rows.table.format.encode(own, column, better).ok().map(|text| Edit { span, text });
        let edits = edit.and_then(|edit| EditSet::new(vec![edit]).ok());
        let title = format!("write `{better}`");
        problem.fixes.extend(edits.map(|edits| Fix { title, edits, is_safe: false }));
    }
    Some(problem)
}

/// How the cells that a fix would change are written, by the bytes at which they begin.
fn cells(rows: &Rows, loaded: &LoadedFile, violations: &[&Violation]) -> HashMap<u32, Cell> {
    let with_fix = violations.iter().filter(|found| found.better.is_some());
    let mut offsets: Vec<usize> = with_fix.map(|found| rows.rows[found.row].span.start as usize).collect();
    if offsets.is_empty() {
        return HashMap::new();
    }
    offsets.sort_unstable();
    offsets.dedup();
    let names = violations.iter().filter_map(|found| found.column).map(|column| &rows.columns[column]);
    let mut fields: Vec<usize> = names.filter_map(|name| rows.table.field(name)).collect();
    fields.sort_unstable();
    fields.dedup();
    let mut collector = Cells { offsets: &offsets, out: HashMap::new() };
    read_records_at(&rows.table, &loaded.path, &loaded.as_text(), &fields, &offsets, &mut collector);
    collector.out
}

/// Collects the cells of records.
struct Cells<'o> {
    /// The bytes at which the records begin, sorted.
    offsets: &'o [usize],
    out: HashMap<u32, Cell>,
}

impl RecordVisitor for Cells<'_> {
    fn record(&mut self, record: &RecordView<'_>) {
        if self.offsets.binary_search(&(record.span.start as usize)).is_ok() {
            self.out.extend(record.cells.iter().map(|own| (own.cell.span.start, own.cell)));
        }
    }
}
