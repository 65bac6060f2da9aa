//! Running all checks, and telling what the mod has or causes from what the base has by itself.

use super::accepted::{AcceptedProblem, AcceptedProblems, mark_by_notes};
use super::finders;
use super::follow_ups::leave_out_meant;
use super::rule_trial;
use super::seeds::Seeds;
use crate::Code;
use crate::layers::Stack;
use crate::links::{Index, TableFile, TableIndex, switched_in};
use crate::problem::{Problem, Severity};
use crate::reading::FactsCache;
use crate::reading::View;
use crate::schema::{Level, Schema, SeverityRule, TableId};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};

/// The outcome of `stitching check`.
#[derive(Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Report {
    /// The problems, sorted; those the base has by itself are marked as inherited. Of very many of one check only
    /// the first are here.
    pub problems: Vec<Problem>,
    /// How many problems there are besides, by the code of their check.
    pub left_out: Vec<(Code, usize)>,
    /// The numbers.
    pub summary: Summary,
    /// For each table of the schema, what there is of it.
    pub tables: Vec<TableSummary>,
}

/// What there is of a table.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
pub struct TableSummary {
    /// Its effective files.
    pub files: usize,
    /// Those of them that lie in the mod.
    pub files_in_mod: usize,
    /// Its records.
    pub records: usize,
}

/// The numbers of a check.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Summary {
    /// Errors that the mod has or causes.
    pub errors: usize,
    /// Warnings that the mod has or causes.
    pub warnings: usize,
    /// Problems that the base has by itself.
    pub inherited: usize,
    /// Effective files.
    pub files: usize,
    /// Records of all tables.
    pub records: usize,
    /// Values that point somewhere.
    pub references: usize,
    /// Entries of the mod that are switched off.
    pub off: usize,
    /// How many of the problems counted here are only counted: there are very many of one check.
    pub left_out: usize,
    /// How many problems one lives with; they are not counted above.
    pub accepted: usize,
    /// How many problems are not told since the schema or the project says so.
    pub silenced: usize,
}

/// Checks the stack as if it ended at layer `through`.
///
/// A problem is the base's own if the base alone has it too: the same check at the same record,
/// field and value of the same file, wherever that file now lies. So a base file that was copied
/// into the mod brings no blame with it, and a base record that the mod broke does.
pub fn check(view: View<'_>) -> Report {
    check_with(view, &FactsCache::default())
}

/// As [`check`], with what is known of files already; what is found out is added.
pub(super) fn check_with(view: View<'_>, cache: &FactsCache) -> Report {
    let View { stack, schema, through } = view;
    let finders = finders(schema);
    let index = Index::build(view, &finders, cache);
    let mut seeds = Seeds::find(&index, None);
    let has_base = through == stack.top() && through > 0;
    let base =
        (has_base && !seeds.is_empty()).then(|| Index::build(view.until(through - 1), &finders, cache));
    let of_base = base.as_ref().map(|base| {
        let marks = seeds.marks(&index);
        (base, Seeds::find(base, Some(&marks)))
    });
    let base_marks = of_base.as_ref().map(|(base, seeds)| seeds.marks(base)).unwrap_or_default();
    seeds.join(&index, &base_marks);
    let mut left_out = seeds.cut(&index, &base_marks);
    let of_base = of_base.map(|(base, seeds_of_base)| match left_out.is_empty() {
        true => (base, seeds_of_base),
        false => (base, Seeds::find(base, Some(&seeds.marks(&index)))),
    });
    let mut problems = seeds.problems(&index, true);
    if let Some((base, seeds)) = of_base {
        mark_inherited(&mut problems, &seeds.problems(base, false));
    }
    mark_by_notes(stack, schema, &mut problems);
    let silenced = apply_severities(schema, &mut problems);
    leave_out_meant(&mut problems);
    for own in &mut left_out {
        own.severity = match schema.severities.iter().find(|rule| is_about_all(rule, own.code)) {
            Some(SeverityRule { level: Level::Told(severity), .. }) => *severity,
            _ => own.severity,
        };
    }
    let only_counted = |severity| {
        let own = left_out.iter().filter(|own| !own.inherited && own.severity == severity);
        own.map(|own| own.number).sum::<usize>()
    };
    let inherited = left_out.iter().filter(|own| own.inherited).map(|own| own.number).sum::<usize>();
    let (records, references) = index.counts();
    let summary = Summary {
        errors: only_counted(Severity::Error),
        warnings: only_counted(Severity::Warning),
        inherited: problems.iter().filter(|problem| problem.inherited).count() + inherited,
        files: index.files.len(),
        records,
        references,
        off: if through == stack.top() { switched_in(stack, schema, &index.marked()).len() } else { 0 },
        left_out: left_out.iter().map(|own| own.number).sum(),
        accepted: 0,
        silenced,
    };
    let tables =
        index.tables.iter().enumerate().map(|(id, table)| table_summary(&index, id, table)).collect();
    let mut by_code: BTreeMap<Code, usize> = BTreeMap::new();
    for own in &left_out {
        *by_code.entry(own.code).or_default() += own.number;
    }
    let mut report = Report { problems, left_out: by_code.into_iter().collect(), summary, tables };
    report.count();
    report
}

/// Checks the schema itself: what it says of tables that is not so, its rules against their examples, and the rules that are
/// about no record.
pub fn check_schema(view: View<'_>) -> Report {
    let mut report = check(view);
    // What is told of the schema has no layer.
    report.problems.retain(|problem| problem.place.layer.is_empty());
    report.left_out.clear();
    report.problems.extend(rule_trial::trial(view));
    report.problems.sort_by(|a, b| a.order().cmp(&b.order()));
    let Summary { files, records, references, .. } = report.summary;
    report.summary = Summary { files, records, references, ..Summary::default() };
    report.count();
    report
}

impl Report {
    /// Marks the problems that a project lives with; gives the entries that no problem is left for.
    pub fn accept(&mut self, accepted: &AcceptedProblems) -> Vec<AcceptedProblem> {
        self.uncount();
        let gone = accepted.mark(&mut self.problems);
        self.count();
        gone
    }

    /// Adds the problems of the list to the summary.
    fn count(&mut self) {
        let (errors, warnings, accepted) = self.numbers();
        self.summary.errors += errors;
        self.summary.warnings += warnings;
        self.summary.accepted += accepted;
    }

    /// Takes the problems of the list out of the summary.
    fn uncount(&mut self) {
        let (errors, warnings, accepted) = self.numbers();
        self.summary.errors -= errors;
        self.summary.warnings -= warnings;
        self.summary.accepted -= accepted;
    }

    /// How many errors and warnings of the list count, and how many one lives with.
    fn numbers(&self) -> (usize, usize, usize) {
        let own = |severity| {
            self.problems.iter().filter(|problem| problem.counts() && problem.severity == severity).count()
        };
        let accepted =
            self.problems.iter().filter(|problem| !problem.inherited && problem.accepted.is_some());
        (own(Severity::Error), own(Severity::Warning), accepted.count())
    }
}

/// Gives problems the severity that the schema or the project says; takes out those that are not to be told, and gives
/// their number.
fn apply_severities(schema: &Schema, problems: &mut Vec<Problem>) -> usize {
    if schema.severities.is_empty() {
        return 0;
    }
    let before = problems.len();
    problems.retain_mut(|problem| {
        let level = schema.severities.iter().find(|rule| rule.is_about(problem)).map(|rule| rule.level);
        if let Some(Level::Told(severity)) = level {
            problem.severity = severity;
        }
        level != Some(Level::Off)
    });
    before - problems.len()
}

/// Whether a rule is about all problems of a check.
fn is_about_all(rule: &SeverityRule, code: Code) -> bool {
    rule.code == code.as_str() && rule.table.is_none() && rule.files.is_none()
}

fn table_summary(index: &Index<'_>, id: TableId, table: &TableIndex) -> TableSummary {
    let in_mod = |file: &&TableFile| {
        let layer = index.stack.files()[index.files[file.file as usize].id].layer;
        index.stack.layers()[layer].is_mod
    };
    TableSummary {
        files: table.files.len(),
        files_in_mod: table.files.iter().filter(in_mod).count(),
        records: table.records + index.names(id),
    }
}

/// All problems of the whole stack.
pub fn problems(stack: &Stack, schema: &Schema) -> Vec<Problem> {
    let finders = finders(schema);
    let index = Index::build(View::top(stack, schema), &finders, &FactsCache::default());
    let mut problems = Seeds::find(&index, None).problems(&index, true);
    apply_severities(schema, &mut problems);
    problems
}

/// What a change gives another name, so that problems can be told to be the same before and after.
#[derive(Debug, Default)]
pub struct Renamed {
    /// The former path of each file that has another one.
    pub paths: HashMap<String, String>,
    /// The former key of each record that has another one, by table and key as shown.
    pub keys: HashMap<(String, String), String>,
}

/// The errors among `after` that have no counterpart among `before`: of the same check, file, table, field, record and
/// value, or message where there is none; and if there is none, with another value. Files and records that the change gave other names are the same.
pub fn new_errors(before: &[Problem], after: Vec<Problem>, renamed: &Renamed) -> Vec<Problem> {
    type Identity<'p> = (&'p str, &'p str, Option<&'p str>, Option<&'p str>, Option<&'p str>);
    fn identity<'p>(problem: &'p Problem, renamed: Option<&'p Renamed>) -> Identity<'p> {
        let path = problem.place.path.as_str();
        let path = renamed.and_then(|renamed| renamed.paths.get(path)).map_or(path, String::as_str);
        let former = renamed.and_then(|renamed| {
            let address = (problem.table.clone()?, problem.key.clone()?);
            renamed.keys.get(&address).map(String::as_str)
        });
        let key = former.or(problem.key.as_deref());
        (problem.name(), path, problem.table.as_deref(), problem.field.as_deref(), key)
    }
    // Several faults in the layout of a file are told apart by what they say.
    let said = |problem: &Problem| problem.value.clone().unwrap_or_else(|| problem.message.clone());
    let mut known: HashMap<Identity<'_>, HashMap<String, usize>> = HashMap::new();
    for problem in before {
        let of_place = known.entry(identity(problem, None)).or_default();
        *of_place.entry(said(problem)).or_default() += 1;
    }
    // Those with the same value first, so that none of them is taken for another.
    let mut left: Vec<bool> = after.iter().map(|problem| problem.severity == Severity::Error).collect();
    for (own, problem) in left.iter_mut().zip(&after).filter(|(own, _)| **own) {
        let Some(of_place) = known.get_mut(&identity(problem, Some(renamed))) else { continue };
        if let Some(count) = of_place.get_mut(&said(problem)).filter(|count| **count > 0) {
            *count -= 1;
            *own = false;
        }
    }
    for (own, problem) in left.iter_mut().zip(&after).filter(|(own, _)| **own) {
        let Some(of_place) = known.get_mut(&identity(problem, Some(renamed))) else { continue };
        if let Some(count) = of_place.values_mut().find(|count| **count > 0) {
            *count -= 1;
            *own = false;
        }
    }
    after.into_iter().zip(left).filter(|(_, new)| *new).map(|(problem, _)| problem).collect()
}

/// Marks the problems that `base` has too. Those of the same record are paired first; then those
/// that agree in all but the key, since a rename in the mod may have changed it.
fn mark_inherited(problems: &mut [Problem], base: &[Problem]) {
    type Identity = (Code, String, Option<String>, Option<String>, Option<String>, Option<String>, String);
    let identity = |problem: &Problem, with_key: bool| -> Identity {
        let key = problem.key.clone().filter(|_| with_key);
        let (path, table, field) = (problem.place.path.clone(), problem.table.clone(), problem.field.clone());
        (problem.code, path, table, key, field, problem.value.clone(), problem.message.clone())
    };
    let mut left: Vec<&Problem> = base.iter().collect();
    for with_key in [true, false] {
        let mut known: HashMap<Identity, Vec<&Problem>> = HashMap::new();
        for problem in left.drain(..).rev() {
            known.entry(identity(problem, with_key)).or_default().push(problem);
        }
        // Without a key or a value two problems of different records could not be told apart.
        let told = |problem: &&mut Problem| {
            // A mistake in the schema is no fault of the base.
            problem.code != Code::BAD_SCHEMA
                && (with_key || problem.value.as_ref().is_some_and(|value| !value.is_empty()))
        };
        for problem in problems.iter_mut().filter(|problem| !problem.inherited).filter(told) {
            let inherited = known.get_mut(&identity(problem, with_key)).and_then(Vec::pop).is_some();
            problem.inherited = inherited;
        }
        left.extend(known.into_values().flatten());
    }
}
