//! Holding records against the rules of a game: which records a rule is about, which are held together, and where it is not
//! met.

mod apart;
mod assertion;
mod at_once;
mod examples;
mod graph;
mod sequence;
mod unique;
mod unlike;

pub use examples::{ExampleFault, try_examples};

use crate::Error;
use crate::expressions::{Expression, Value};
use crate::rows::{ColumnPath, Formula, Others, Row, Rows};
use crate::schema::{Message, MessagePart, Requirement, Rule};
use rayon::prelude::*;
use std::collections::BTreeSet;
use std::sync::Arc;

/// So many places at which one rule is not met are told; more are counted.
const MOST_TOLD: usize = 1000;

/// A place at which a rule is not met.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Violation {
    /// The position of the row.
    pub row: usize,
    /// The position of the column at which it is shown, if it is about one.
    pub column: Option<usize>,
    /// What is wrong.
    pub message: String,
    /// Another row that explains it, and what is to be seen there.
    pub related: Option<(usize, String)>,
    /// What the column should hold, if that is known.
    pub better: Option<String>,
}

/// What came of holding records against a rule.
#[derive(Debug)]
pub struct Outcome {
    /// The rows of the table.
    pub rows: Arc<Rows>,
    /// Where it is not met, in the order of the rows; of very many only the first.
    pub violations: Vec<Violation>,
    /// At how many places it is not met besides.
    pub more: usize,
    /// Why it could not be worked out for some record, and for how many.
    pub failure: Option<(Error, usize)>,
}

/// Tells `others` what `rule` will ask of tables, so that each is read once for all rules.
pub fn declare_needs(rule: &Rule, others: &Others<'_>) {
    others.will_need(rule.table, plain_fields(rule));
    sources(rule).for_each(|source| others.will_need_of(rule.table, source));
}

/// Whether a rule speaks of what records are called by people.
pub fn tells_names(rule: &Rule) -> bool {
    let is_name = |name: &String| name == "name" || name.ends_with(".name");
    let speaks = |source| Expression::parse(source).is_ok_and(|own| own.all_names().iter().any(is_name));
    sources(rule).any(speaks)
}

/// The fields of the record that a rule speaks of.
pub fn named_fields(rule: &Rule) -> BTreeSet<String> {
    let conditions = rule.when.iter().map(String::as_str).chain(rule.requirement.expressions());
    plain_fields(rule).chain(conditions.flat_map(Expression::fields_in)).collect()
}

/// The fields that a rule names as such.
fn plain_fields(rule: &Rule) -> impl Iterator<Item = String> {
    let fields = rule.requirement.fields().into_iter().map(str::to_owned);
    fields.chain(rule.by.iter().flatten().chain(&rule.at).cloned())
}

/// The expressions of a rule.
fn sources(rule: &Rule) -> impl Iterator<Item = &str> {
    let message = rule.message.iter().flat_map(Message::expressions);
    let own = rule.when.iter().chain(&rule.fix).map(String::as_str);
    own.chain(rule.requirement.expressions()).chain(message)
}

/// Holds the records of its table against `rule`.
///
/// # Errors
/// When the rule speaks of what is not there, or a file cannot be read.
pub fn hold(rule: &Rule, others: &Others<'_>) -> Result<Outcome, Error> {
    let mut needed: Vec<String> = plain_fields(rule).collect();
    for source in sources(rule) {
        needed.extend(Expression::parse(source)?.all_names());
    }
    let rows = others.rows_needed(rule.table, &needed)?;
    let (_, mut findings) = hold_rows(rule, &rows, others)?;
    findings.cut();
    let more = findings.more;
    let teller = Teller::new(rule, &rows, others)?;
    let violations = findings.violations.into_iter().map(|found| teller.tell(found)).collect();
    let failure = findings.failure;
    Ok(Outcome { rows, violations, more, failure })
}

/// How many records `rule` is about.
///
/// # Errors
/// As [`hold`].
pub fn records_about(rule: &Rule, others: &Others<'_>) -> Result<usize, Error> {
    let needed = rule.when.as_deref().map(Expression::parse).transpose()?;
    let rows = others.rows_needed(rule.table, &needed.map(|own| own.all_names()).unwrap_or_default())?;
    Ok(meant(rule, &rows, others, &mut Findings::default())?.len())
}

/// A place at which a rule is not met, before the rule's own words are made.
struct Found {
    row: usize,
    /// The rows that are held together there, if there are any.
    group: Option<Arc<Vec<usize>>>,
    column: Option<usize>,
    message: String,
    /// The names of the condition that are empty.
    missing: Vec<String>,
    related: Option<(usize, String)>,
    better: Option<String>,
}

impl Found {
    /// A place at which nothing but `message` is to be told.
    fn new(row: usize, column: Option<usize>, message: String) -> Found {
        let (group, missing, related, better) = (None, Vec::new(), None, None);
        Found { row, group, column, message, missing, related, better }
    }

    /// With another row that explains it, and what is to be seen there.
    fn related(mut self, row: usize, message: impl Into<String>) -> Found {
        self.related = Some((row, message.into()));
        self
    }
}

/// What was found so far.
#[derive(Default)]
struct Findings {
    /// Those of the first rows; at times a few more than are told.
    violations: Vec<Found>,
    /// How many there are besides.
    more: usize,
    failure: Option<(Error, usize)>,
}

impl Findings {
    /// Notes a record for which the rule could not be worked out.
    fn fail(&mut self, error: Error) {
        match &mut self.failure {
            Some((_, number)) => *number += 1,
            None => self.failure = Some((error, 1)),
        }
    }

    /// Notes a place at which the rule is not met.
    fn add(&mut self, found: Found) {
        match self.violations.len() < MOST_TOLD {
            true => self.violations.push(found),
            false => self.more += 1,
        }
    }

    /// Leaves only those that are told, in the order of the rows.
    fn cut(&mut self) {
        self.violations.sort_by_key(|found| found.row);
        self.more += self.violations.len().saturating_sub(MOST_TOLD);
        self.violations.truncate(MOST_TOLD);
    }

    fn merge(mut self, other: Findings) -> Findings {
        self.violations.extend(other.violations);
        self.more += other.more;
        if self.violations.len() > 2 * MOST_TOLD {
            self.cut();
        }
        self.failure = match (self.failure, other.failure) {
            (Some((error, number)), Some((_, more))) => Some((error, number + more)),
            (own, other) => own.or(other),
        };
        self
    }
}

/// The records that a requirement looks at.
struct Scope<'s> {
    rows: &'s Rows,
    others: &'s Others<'s>,
    /// The rows that are held together, in order; the groups by their first row.
    groups: Vec<Arc<Vec<usize>>>,
    /// What is the same in the rows of a group.
    by: Vec<ColumnPath>,
}

impl Scope<'_> {
    fn column(&self, name: &str) -> Result<ColumnPath, Error> {
        ColumnPath::parse(self.rows, name, self.others)
    }

    fn row(&self, at: usize) -> &Row {
        &self.rows.rows[at]
    }

    /// How a row is called in messages.
    fn called(&self, at: usize) -> String {
        called(self.rows, at)
    }

    /// Looks at each group by itself, several at once.
    fn each_group(&self, look: impl Fn(&[usize], &mut Findings) + Sync) -> Findings {
        let of_group = |group: &Arc<Vec<usize>>| {
            let mut findings = Findings::default();
            look(group, &mut findings);
            findings.violations.iter_mut().for_each(|found| found.group = Some(Arc::clone(group)));
            findings
        };
        self.groups.par_iter().map(of_group).reduce(Findings::default, Findings::merge)
    }
}

/// How a row is called in messages: by its key, or else by its place.
fn called(rows: &Rows, at: usize) -> String {
    let row = &rows.rows[at];
    match &row.key {
        Some(_) => format!("`{}`", row.shown_key()),
        None => {
            format!("record {} of {}", row.number, rows.paths.get(&row.file).map_or("", |path| path.as_str()))
        }
    }
}

/// Holds `rows` against a rule: how many records it is about, and what was found.
fn hold_rows(rule: &Rule, rows: &Rows, others: &Others<'_>) -> Result<(usize, Findings), Error> {
    let mut findings = Findings::default();
    let about = meant(rule, rows, others, &mut findings)?;
    let records = about.len();
    let by = rule.by.iter().flatten().map(|name| ColumnPath::parse(rows, name, others));
    let by = by.collect::<Result<Vec<_>, Error>>()?;
    let found = match (&rule.requirement, &rule.by) {
        (Requirement::Assert(source), None) => assertion::of_records(rows, others, source, about)?,
        (requirement, _) => {
            let groups = grouped(rows, &by, about);
            let groups = groups.into_iter().map(Arc::new).collect();
            let scope = Scope { rows, others, groups, by };
            match requirement {
                Requirement::Assert(source) => assertion::of_groups(&scope, source)?,
                Requirement::Unique(fields) => unique::find(&scope, fields)?,
                Requirement::Unlike(fields) => unlike::find(&scope, fields)?,
                Requirement::Sequence { field, first } => sequence::gaps(&scope, field, *first)?,
                Requirement::Ascending(field) => sequence::falls(&scope, field)?,
                Requirement::Acyclic(field) => graph::circles(&scope, field)?,
                Requirement::Reachable { field, from } => graph::unreached(&scope, field, from)?,
                Requirement::Mutual(there, back) => graph::one_way(&scope, there, back)?,
                Requirement::Apart { fields, distance } => apart::find(&scope, fields, *distance)?,
                Requirement::AtOnce { amount, waits, most } => at_once::find(&scope, amount, waits, *most)?,
            }
        }
    };
    Ok((records, findings.merge(found)))
}

/// The rows that a rule is about.
fn meant(
    rule: &Rule,
    rows: &Rows,
    others: &Others<'_>,
    findings: &mut Findings,
) -> Result<Vec<usize>, Error> {
    let Some(source) = &rule.when else { return Ok((0..rows.rows.len()).collect()) };
    let when = Formula::parse(source, rows, &[], others)?;
    let holds: Vec<Result<bool, Error>> =
        rows.rows.par_iter().map(|row| holds_or_null(&when, rows, row)).collect();
    let mut out = Vec::new();
    for (at, holds) in holds.into_iter().enumerate() {
        match holds {
            Ok(true) => out.push(at),
            Ok(false) => {}
            Err(error) => findings.fail(error),
        }
    }
    Ok(out)
}

/// Whether a condition holds for a row; what cannot be worked out since something is not there does not.
fn holds_or_null(condition: &Formula, rows: &Rows, row: &Row) -> Result<bool, Error> {
    condition.holds(rows, row, &[]).or_else(|error| match condition.missing(rows, row).is_empty() {
        true => Err(error),
        false => Ok(false),
    })
}

/// The rows `about` that have the same in `by`; all of them if that names nothing.
fn grouped(rows: &Rows, by: &[ColumnPath], about: Vec<usize>) -> Vec<Vec<usize>> {
    if by.is_empty() {
        return if about.is_empty() { Vec::new() } else { vec![about] };
    }
    let mut groups: Vec<Vec<usize>> = Vec::new();
    let mut known: hashbrown::HashMap<String, usize> = hashbrown::HashMap::new();
    let mut values = String::new();
    for at in about {
        values.clear();
        for path in by {
            values.push_str(&path.held(rows, &rows.rows[at]).shown());
            values.push('\0');
        }
        let group = *known.entry_ref(values.as_str()).or_insert_with(|| {
            groups.push(Vec::new());
            groups.len() - 1
        });
        groups[group].push(at);
    }
    groups
}

/// What tells what is wrong, in the rule's own words if it has some.
struct Teller<'s> {
    rows: &'s Rows,
    message: Option<Vec<Part>>,
    fix: Option<Formula>,
    /// The column at which it is shown, if the rule names one.
    at: Option<usize>,
}

/// A part of a message.
enum Part {
    Text(String),
    Formula(Box<Formula>),
}

impl<'s> Teller<'s> {
    fn new(rule: &Rule, rows: &'s Rows, others: &Others<'_>) -> Result<Teller<'s>, Error> {
        let together = rule.by.is_some() && matches!(rule.requirement, Requirement::Assert(_));
        let formula = |source: &str| match together {
            true => Formula::over_group(source, rows, others),
            false => Formula::parse(source, rows, &[], others),
        };
        let part = |part: &MessagePart| {
            Ok(match part {
                MessagePart::Text(text) => Part::Text(text.clone()),
                MessagePart::Expression(source) => Part::Formula(Box::new(formula(source)?)),
            })
        };
        let message = rule.message.as_ref().map(|message| message.parts.iter().map(part).collect());
        let fix = rule.fix.as_deref().map(formula);
        let at = rule.at.as_ref().map(|name| {
            let path = ColumnPath::parse(rows, name, others)?;
            path.own_column().ok_or_else(|| rows.no_column(name))
        });
        Ok(Teller { rows, message: message.transpose()?, fix: fix.transpose()?, at: at.transpose()? })
    }

    fn tell(&self, found: Found) -> Violation {
        // The names of a message are those of the row at which it is shown.
        let group = found.group.as_ref().map_or(&[][..], |group| group);
        let worked_out =
            |formula: &Formula| formula.answer_for(self.rows, found.row, group).unwrap_or(Value::Nothing);
        let message = self.message.as_ref().map(|parts| {
            let part = |part: &Part| match part {
                Part::Text(text) => text.clone(),
                Part::Formula(formula) => match worked_out(formula).brief() {
                    empty if empty.is_empty() => "nothing".to_owned(),
                    value => value,
                },
            };
            let empty = found.missing.iter().map(|name| format!("; `{name}` is empty"));
            parts.iter().map(part).chain(empty).collect()
        });
        let fix = self.fix.as_ref().map(|fix| worked_out(fix).shown()).filter(|better| !better.is_empty());
        Violation {
            row: found.row,
            column: self.at.or(found.column),
            message: message.unwrap_or(found.message),
            related: found.related,
            better: fix.or(found.better),
        }
    }
}
