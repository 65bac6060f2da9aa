//! What an expression asks beyond the values of its names, answered for one row: of all records of a table, of the rows that
//! are held together, or whether there is a file.

use super::formula::Bound;
use super::{ColumnPath, Others, Row, Rows};
use crate::Error;
use crate::expressions::{Aggregate, AggregateKind, Expression, GROUP, Question, Scope, Value};
use crate::links::find_table;
use crate::tables::path_hash;
use std::cmp::Ordering;
use std::collections::HashSet;
use std::sync::{Arc, OnceLock};

/// So many pairs of a row and a record are looked at, at most, where records are not looked up.
const MOST_PAIRS: usize = 50_000_000;

/// A question, with what its names stand for.
#[derive(Debug)]
pub(super) enum BoundQuestion {
    /// What all records of a table make together.
    OfTable(TableAggregate),
    /// What the rows that are held together make.
    OfGroup(GroupAggregate),
    /// Whether there is a file at this path: the hashes of all paths.
    FileExists(BoundExpression, Arc<HashSet<u64>>),
}

/// What is made of the records of a table.
#[derive(Debug)]
pub(super) struct TableAggregate {
    kind: AggregateKind,
    rows: Arc<Rows>,
    /// The records by what they are looked up by, and what that is to be.
    lookup: Option<(hashbrown::HashMap<String, Vec<usize>>, BoundExpression)>,
    taken: Taken,
    /// The answer, where it is the same for all rows.
    same: Option<OnceLock<Value>>,
}

/// What is made of the rows that are held together.
#[derive(Debug)]
pub(super) struct GroupAggregate {
    kind: AggregateKind,
    /// What a field of a row is to be equal to, or to have as an item.
    equal: Option<(ColumnPath, BoundExpression)>,
    taken: Taken,
}

/// What is taken of each record, and which records count.
#[derive(Debug)]
struct Taken {
    condition: Option<BoundExpression>,
    value: Option<BoundExpression>,
}

/// An expression over a row and a record of another table.
#[derive(Debug)]
pub(super) struct BoundExpression {
    expression: Expression,
    bound: Vec<Side>,
}

/// Where the value of a name comes from.
#[derive(Debug)]
enum Side {
    /// From the row of which the question is asked.
    Asking(Bound),
    /// From the record of the table that it is about.
    Asked(ColumnPath),
}

/// The row of which a question is asked, with the value of what stands for it.
pub(super) type OfRow<'v> = &'v (dyn Fn(&Bound) -> Value + Sync);

/// Binds the names that are of the asking row.
pub(super) type Bind<'b> = &'b dyn Fn(&str) -> Result<Bound, Error>;

impl BoundQuestion {
    /// Finds the tables and binds the names; `bind` binds those that are of the asking row, of `asking` rows. `group` has the rows
    /// that are held together, if there is such a thing.
    ///
    /// # Errors
    /// When there is no such table or column, or there are too many rows to look at all records for each.
    pub fn new(
        question: Question,
        others: &Others<'_>,
        asking: usize,
        group: Option<&Rows>,
        bind: Bind<'_>,
    ) -> Result<BoundQuestion, Error> {
        match (question, group) {
            (Question::FileExists(path), _) => {
                let bound = path.names().iter().map(|name| bind(name).map(Side::Asking));
                let bound = bound.collect::<Result<_, Error>>()?;
                Ok(BoundQuestion::FileExists(BoundExpression { expression: *path, bound }, others.paths()))
            }
            (Question::Aggregate(own), Some(group)) if own.table == GROUP => {
                let taken = Taken::new(own.condition, own.value, &own.variable, group, others, bind)?;
                let bound = |wanted| BoundExpression::new(wanted, &own.variable, group, others, bind);
                let equal = own.lookup.map(|lookup| {
                    Ok((ColumnPath::parse(group, &lookup.field, others)?, bound(lookup.wanted)?))
                });
                let equal = equal.transpose()?;
                Ok(BoundQuestion::OfGroup(GroupAggregate { kind: own.kind, equal, taken }))
            }
            (Question::Aggregate(own), None)
                if own.table == GROUP && others.schema().table(GROUP).is_none() =>
            {
                Err(Error::Usage {
                    message: "there is no `group` here".into(),
                    help: "records are held together in a rule with `by`; elsewhere name a table".into(),
                })
            }
            (Question::Aggregate(own), _) => {
                TableAggregate::new(*own, others, asking, bind).map(BoundQuestion::OfTable)
            }
        }
    }

    /// The answer for the row whose values `row` gives, one of the rows (by their positions) that are held together.
    ///
    /// # Errors
    /// When an expression cannot be worked out, with the record.
    pub fn answer(&self, row: OfRow<'_>, group: Option<(&Rows, &[usize])>) -> Result<Value, Error> {
        match self {
            BoundQuestion::OfTable(own) => own.answer(row),
            BoundQuestion::OfGroup(own) => {
                group.map_or(Ok(Value::Nothing), |(rows, group)| own.answer(row, rows, group))
            }
            BoundQuestion::FileExists(path, paths) => {
                let path = path.alone(row)?.shown();
                Ok(Value::Truth(path_hash(&path).is_some_and(|path| paths.contains(&path))))
            }
        }
    }
}

impl BoundExpression {
    /// Binds the names that begin with `variable` to columns of `rows`, and the others with `bind`.
    fn new(
        expression: Expression,
        variable: &str,
        rows: &Rows,
        others: &Others<'_>,
        bind: Bind<'_>,
    ) -> Result<BoundExpression, Error> {
        let own = format!("{variable}.");
        let side = |name: &String| match name.strip_prefix(&own) {
            Some(field) => ColumnPath::parse(rows, field, others).map(Side::Asked),
            None => bind(name).map(Side::Asking),
        };
        let bound = expression.names().iter().map(side).collect::<Result<_, Error>>()?;
        Ok(BoundExpression { expression, bound })
    }

    /// What it gives where it speaks only of the asking row.
    fn alone(&self, row: OfRow<'_>) -> Result<Value, Error> {
        self.expression.evaluate(&AskingRow { of: self, row })
    }

    /// Whether it speaks of the asking row.
    fn asks(&self) -> bool {
        self.bound.iter().any(|side| matches!(side, Side::Asking(_)))
    }
}

impl Taken {
    fn new(
        condition: Option<Expression>,
        value: Option<Expression>,
        variable: &str,
        rows: &Rows,
        others: &Others<'_>,
        bind: Bind<'_>,
    ) -> Result<Taken, Error> {
        let bound = |expression: Option<Expression>| {
            expression.map(|own| BoundExpression::new(own, variable, rows, others, bind)).transpose()
        };
        Ok(Taken { condition: bound(condition)?, value: bound(value)? })
    }

    /// Adds what is taken of `record`, one of `rows`, if it counts.
    fn add(
        &self,
        kind: AggregateKind,
        made: &mut Made,
        row: OfRow<'_>,
        rows: &Rows,
        record: &Row,
    ) -> Result<(), Error> {
        let pair = |of| Pair { of, row, rows, record };
        if let Some(condition) = &self.condition
            && !condition.expression.holds(&pair(condition))?
        {
            return Ok(());
        }
        let value = match &self.value {
            None => Value::Nothing,
            Some(value) => value.expression.evaluate(&pair(value))?,
        };
        made.add(kind, value).map_err(|value| {
            let record = Address { rows, record };
            let (what, help) = match kind {
                AggregateKind::All => ("neither true nor false", "take a condition"),
                _ => ("no number", "take a field of numbers"),
            };
            Error::Usage {
                message: format!("`{value}` of {record} is {what} for `{}`", kind.name()),
                help: help.into(),
            }
        })
    }
}

impl TableAggregate {
    fn new(
        aggregate: Aggregate,
        others: &Others<'_>,
        asking: usize,
        bind: Bind<'_>,
    ) -> Result<TableAggregate, Error> {
        let own = format!("{}.", aggregate.variable);
        let mut needed: Vec<String> = aggregate.lookup.iter().map(|lookup| lookup.field.clone()).collect();
        let expressions = aggregate.condition.iter().chain(&aggregate.value);
        let names = expressions.flat_map(|expression| expression.names());
        needed.extend(names.filter_map(|name| name.strip_prefix(&own)).map(str::to_owned));
        let rows = others.rows_needed(find_table(others.schema(), &aggregate.table)?, &needed)?;
        let variable = aggregate.variable.as_str();
        let taken = Taken::new(aggregate.condition, aggregate.value, variable, &rows, others, bind)?;
        let mut lookup = None;
        if let Some(given) = aggregate.lookup {
            let field = ColumnPath::parse(&rows, &given.field, others)?;
            let mut by_value: hashbrown::HashMap<String, Vec<usize>> = hashbrown::HashMap::new();
            for (at, row) in rows.rows.iter().enumerate() {
                let mut add = |item: String| match by_value.get_mut(&item) {
                    // One record that has the same item twice counts once.
                    Some(rows) if rows.last() == Some(&at) => {}
                    Some(rows) => rows.push(at),
                    None if item.is_empty() => {}
                    None => drop(by_value.insert(item, vec![at])),
                };
                match field.held(&rows, row) {
                    Value::List(items) => items.iter().map(Value::shown).for_each(add),
                    one => add(one.shown()),
                }
            }
            lookup = Some((by_value, BoundExpression::new(given.wanted, variable, &rows, others, bind)?));
        }
        let depends =
            taken.condition.iter().chain(&taken.value).any(BoundExpression::asks) || lookup.is_some();
        if depends && lookup.is_none() && asking.saturating_mul(rows.rows.len()) > MOST_PAIRS {
            return Err(Error::Usage {
                message: format!(
                    "all {} records of `{}` would be looked at for each of {asking}",
                    rows.rows.len(),
                    aggregate.table
                ),
                help: format!("say which of them are meant with `{}FIELD == ...`", own).into(),
            });
        }
        let same = (!depends).then(OnceLock::new);
        Ok(TableAggregate { kind: aggregate.kind, rows, lookup, taken, same })
    }

    fn answer(&self, row: OfRow<'_>) -> Result<Value, Error> {
        let Some(same) = &self.same else { return self.worked_out(row) };
        if let Some(known) = same.get() {
            return Ok(known.clone());
        }
        let value = self.worked_out(row)?;
        Ok(same.get_or_init(|| value).clone())
    }

    fn worked_out(&self, row: OfRow<'_>) -> Result<Value, Error> {
        let mut made = Made::default();
        let mut each = |record: &Row| self.taken.add(self.kind, &mut made, row, &self.rows, record);
        match &self.lookup {
            None => self.rows.rows.iter().try_for_each(&mut each)?,
            Some((by_value, wanted)) => {
                let wanted = wanted.alone(row)?.shown();
                let found = by_value.get(&wanted).into_iter().flatten();
                found.map(|at| &self.rows.rows[*at]).try_for_each(&mut each)?;
            }
        }
        Ok(made.value(self.kind))
    }
}

impl GroupAggregate {
    fn answer(&self, row: OfRow<'_>, rows: &Rows, group: &[usize]) -> Result<Value, Error> {
        let mut made = Made::default();
        let wanted = self.equal.as_ref().map(|(field, wanted)| Ok((field, wanted.alone(row)?.shown())));
        let wanted = wanted.transpose()?;
        for record in group.iter().map(|at| &rows.rows[*at]) {
            let is_meant = |(field, wanted): &(&ColumnPath, String)| match field.held(rows, record) {
                Value::List(items) => items.iter().any(|item| item.shown() == *wanted),
                one => one.shown() == *wanted,
            };
            if wanted.as_ref().is_none_or(is_meant) {
                self.taken.add(self.kind, &mut made, row, rows, record)?;
            }
        }
        Ok(made.value(self.kind))
    }
}

/// What was made of the records so far.
#[derive(Default)]
struct Made {
    number: usize,
    sum: f64,
    best: Option<Value>,
    different: HashSet<String>,
    /// Whether a condition did not hold for one.
    failed: bool,
}

impl Made {
    /// Adds the value of one record; gives back what is of the wrong kind.
    fn add(&mut self, kind: AggregateKind, value: Value) -> Result<(), String> {
        self.number += 1;
        match (kind, value) {
            (AggregateKind::Count | AggregateKind::Exists, _) => {}
            (AggregateKind::All, Value::Truth(holds)) => self.failed |= !holds,
            (AggregateKind::All, Value::Nothing) => self.failed = true,
            (AggregateKind::All, other) => return Err(other.shown()),
            (_, Value::Nothing) => {}
            (AggregateKind::Sum, Value::Number(number)) => self.sum += number,
            (AggregateKind::Sum, other) => return Err(other.shown()),
            (AggregateKind::Distinct, value) => drop(self.different.insert(value.shown())),
            (AggregateKind::Min | AggregateKind::Max, value) => {
                let wanted = if kind == AggregateKind::Min { Ordering::Less } else { Ordering::Greater };
                match &self.best {
                    None => self.best = Some(value),
                    Some(best) if value.order(best) == wanted => self.best = Some(value),
                    Some(_) => {}
                }
            }
        }
        Ok(())
    }

    fn value(self, kind: AggregateKind) -> Value {
        match kind {
            AggregateKind::Count => Value::Number(self.number as f64),
            AggregateKind::Exists => Value::Truth(self.number > 0),
            AggregateKind::Sum => Value::Number(self.sum),
            AggregateKind::Distinct => Value::Number(self.different.len() as f64),
            AggregateKind::All => Value::Truth(!self.failed),
            AggregateKind::Min | AggregateKind::Max => self.best.unwrap_or(Value::Nothing),
        }
    }
}

/// A row and a record of the table that is asked.
struct Pair<'r> {
    of: &'r BoundExpression,
    row: OfRow<'r>,
    rows: &'r Rows,
    record: &'r Row,
}

impl Scope for Pair<'_> {
    fn value(&self, name: usize) -> Value {
        match &self.of.bound[name] {
            Side::Asking(bound) => (self.row)(bound),
            Side::Asked(column) => column.held(self.rows, self.record),
        }
    }

    fn answer(&self, _: usize) -> Result<Value, Error> {
        // None stands inside another one.
        Ok(Value::Nothing)
    }

    fn shown(&self) -> String {
        Address { rows: self.rows, record: self.record }.to_string()
    }
}

/// The row of which a question is asked, while it is not known which records that is about.
struct AskingRow<'r> {
    of: &'r BoundExpression,
    row: OfRow<'r>,
}

impl Scope for AskingRow<'_> {
    fn value(&self, name: usize) -> Value {
        match &self.of.bound[name] {
            Side::Asking(bound) => (self.row)(bound),
            Side::Asked(_) => Value::Nothing,
        }
    }

    fn answer(&self, _: usize) -> Result<Value, Error> {
        // None stands inside another one.
        Ok(Value::Nothing)
    }

    fn shown(&self) -> String {
        "the record that asks".to_owned()
    }
}

/// The address of a record, for messages.
struct Address<'r> {
    rows: &'r Rows,
    record: &'r Row,
}

impl std::fmt::Display for Address<'_> {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "{}:{}", self.rows.table.name, self.record.shown_key())
    }
}
