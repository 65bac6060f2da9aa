//! What an expression asks of all records of a table, answered for one row.

use super::formula::Bound;
use super::{ColumnPath, Others, Row, Rows};
use crate::Error;
use crate::expressions::{Aggregate, AggregateKind, Expression, Scope, Value};
use crate::links::find_table;
use std::cmp::Ordering;
use std::collections::HashSet;
use std::sync::{Arc, OnceLock};

/// So many pairs of a row and a record are looked at, at most, where records are not looked up.
const MOST_PAIRS: usize = 50_000_000;

/// A question, with what its names stand for.
#[derive(Debug)]
pub(super) struct BoundAggregate {
    kind: AggregateKind,
    rows: Arc<Rows>,
    /// The records by what they are looked up by, and what that is to be.
    lookup: Option<(hashbrown::HashMap<String, Vec<usize>>, BoundExpression)>,
    condition: Option<BoundExpression>,
    value: Option<BoundExpression>,
    /// The answer, where it is the same for all rows.
    same: Option<OnceLock<Value>>,
}

/// An expression over a row and a record of another table.
#[derive(Debug)]
struct BoundExpression {
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

impl BoundAggregate {
    /// Finds the table and binds the names; `bind` binds those that are of the asking row, of `asking` rows.
    ///
    /// # Errors
    /// When there is no such table or column, or there are too many rows to look at all records for each.
    pub fn new(
        aggregate: Aggregate,
        others: &Others<'_>,
        asking: usize,
        bind: &dyn Fn(&str) -> Result<Bound, Error>,
    ) -> Result<BoundAggregate, Error> {
        let own = format!("{}.", aggregate.variable);
        let mut needed: Vec<String> = aggregate.lookup.iter().map(|lookup| lookup.field.clone()).collect();
        let expressions = aggregate.condition.iter().chain(&aggregate.value);
        let names = expressions.flat_map(|expression| expression.names());
        needed.extend(names.filter_map(|name| name.strip_prefix(&own)).map(str::to_owned));
        let rows = others.rows_needed(find_table(others.schema(), &aggregate.table)?, &needed)?;
        let bound = |expression: Expression| {
            let side = |name: &String| match name.strip_prefix(&own) {
                Some(field) => ColumnPath::parse(&rows, field, others).map(Side::Asked),
                None => bind(name).map(Side::Asking),
            };
            let bound = expression.names().iter().map(side).collect::<Result<_, Error>>()?;
            Ok(BoundExpression { expression, bound })
        };
        let condition = aggregate.condition.map(bound).transpose()?;
        let value = aggregate.value.map(bound).transpose()?;
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
            lookup = Some((by_value, bound(given.wanted)?));
        }
        let asks = |own: &BoundExpression| own.bound.iter().any(|side| matches!(side, Side::Asking(_)));
        let depends = condition.iter().chain(&value).any(asks) || lookup.is_some();
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
        Ok(BoundAggregate { kind: aggregate.kind, rows, lookup, condition, value, same })
    }

    /// The answer for the row whose values `row` gives.
    ///
    /// # Errors
    /// When an expression cannot be worked out, with the record.
    pub fn answer(&self, row: OfRow<'_>) -> Result<Value, Error> {
        let Some(same) = &self.same else { return self.worked_out(row) };
        if let Some(known) = same.get() {
            return Ok(known.clone());
        }
        let value = self.worked_out(row)?;
        Ok(same.get_or_init(|| value).clone())
    }

    fn worked_out(&self, row: OfRow<'_>) -> Result<Value, Error> {
        let mut made = Made::default();
        let mut each = |record: &Row| {
            if let Some(condition) = &self.condition
                && !condition.expression.holds(&Pair {
                    of: condition,
                    row,
                    rows: &self.rows,
                    record: Some(record),
                })?
            {
                return Ok(());
            }
            let value = match &self.value {
                None => Value::Nothing,
                Some(value) => value.expression.evaluate(&Pair {
                    of: value,
                    row,
                    rows: &self.rows,
                    record: Some(record),
                })?,
            };
            made.add(self.kind, value).map_err(|value| {
                let record = Address { rows: &self.rows, record };
                Error::Usage {
                    message: format!("`{value}` of {record} is no number for `{}`", self.kind.name()),
                    help: "take a field of numbers".into(),
                }
            })
        };
        match &self.lookup {
            None => self.rows.rows.iter().try_for_each(&mut each)?,
            Some((by_value, wanted)) => {
                let asking = Pair { of: wanted, row, rows: &self.rows, record: None };
                let wanted = wanted.expression.evaluate(&asking)?.shown();
                let found = by_value.get(&wanted).into_iter().flatten();
                found.map(|at| &self.rows.rows[*at]).try_for_each(&mut each)?;
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
}

impl Made {
    /// Adds the value of one record; gives back what is no number where one is needed.
    fn add(&mut self, kind: AggregateKind, value: Value) -> Result<(), String> {
        self.number += 1;
        match (kind, value) {
            (AggregateKind::Count | AggregateKind::Exists, _) | (_, Value::Nothing) => {}
            (AggregateKind::Sum, Value::Number(number)) => self.sum += number,
            (AggregateKind::Sum, other) => return Err(other.shown()),
            (AggregateKind::Distinct, value) => drop(self.different.insert(value.shown())),
            (AggregateKind::Min | AggregateKind::Max, value) => {
                let wanted = if kind == AggregateKind::Min { Ordering::Less } else { Ordering::Greater };
                match &self.best {
                    None => self.best = Some(value),
                    Some(best) if order(&value, best) == wanted => self.best = Some(value),
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
            AggregateKind::Min | AggregateKind::Max => self.best.unwrap_or(Value::Nothing),
        }
    }
}

/// Numbers by their size, before all else; other values as texts.
fn order(a: &Value, b: &Value) -> Ordering {
    match (a, b) {
        (Value::Number(a), Value::Number(b)) => a.total_cmp(b),
        (Value::Number(_), _) => Ordering::Less,
        (_, Value::Number(_)) => Ordering::Greater,
        (a, b) => a.shown().cmp(&b.shown()),
    }
}

/// A row and a record of the table that is asked.
struct Pair<'r> {
    of: &'r BoundExpression,
    row: OfRow<'r>,
    rows: &'r Rows,
    /// None while it is not known which it is.
    record: Option<&'r Row>,
}

impl Scope for Pair<'_> {
    fn value(&self, name: usize) -> Value {
        match &self.of.bound[name] {
            Side::Asking(bound) => (self.row)(bound),
            Side::Asked(column) => {
                self.record.map_or(Value::Nothing, |record| column.held(self.rows, record))
            }
        }
    }

    fn aggregate(&self, _: usize) -> Result<Value, Error> {
        // None stands inside another one.
        Ok(Value::Nothing)
    }

    fn shown(&self) -> String {
        let address = |record| Address { rows: self.rows, record }.to_string();
        self.record.map_or_else(|| self.rows.table.name.clone(), address)
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
