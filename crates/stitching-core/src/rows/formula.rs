//! Conditions and computed columns: expressions over the columns of a row.
//!
//! A name is a column; a reference is followed with a dot: `good.price`. What is asked of all records of a table names that
//! table: `count(berths, b, b.Reach == Reach)`.

use super::aggregate::BoundAggregate;
use super::{ColumnPath, Others, Row, Rows};
use crate::Error;
use crate::expressions::{Expression, Scope, Value, WHOLE};

/// An expression over the rows of one table.
#[derive(Debug)]
pub struct Formula {
    expression: Expression,
    /// What each of its names stands for.
    bound: Vec<Bound>,
    aggregates: Vec<BoundAggregate>,
}

/// What a name in an expression stands for.
#[derive(Debug)]
pub(super) enum Bound {
    Column(ColumnPath),
    /// The earlier computed column with this name.
    Computed(String),
    /// All columns, by name.
    Whole(Vec<ColumnPath>),
}

impl Formula {
    /// Understands `source` as an expression over `rows`, in which the names in `computed` stand for columns
    /// computed before.
    ///
    /// # Errors
    /// When it is no expression, or speaks of a column that is not there (with the nearest name).
    pub fn parse(
        source: &str,
        rows: &Rows,
        computed: &[String],
        others: &Others<'_>,
    ) -> Result<Formula, Error> {
        let mut expression = Expression::parse(source)?;
        let bind = |name: &str| {
            if computed.iter().any(|own| own == name) {
                return Ok(Bound::Computed(name.to_owned()));
            }
            if name == WHOLE && !rows.columns.iter().any(|column| column == name) {
                let columns = rows.columns.iter().map(|name| ColumnPath::parse(rows, name, others));
                return Ok(Bound::Whole(columns.collect::<Result<_, Error>>()?));
            }
            // `row.Depth` is `row["Depth"]`, unless a column is called `row`.
            let own = name.strip_prefix(WHOLE).and_then(|rest| rest.strip_prefix('.'));
            let own = own.filter(|_| !rows.columns.iter().any(|column| column == WHOLE));
            ColumnPath::parse(rows, own.unwrap_or(name), others).map(Bound::Column)
        };
        let bound = expression.names().iter().map(|name| bind(name)).collect::<Result<_, Error>>()?;
        let aggregates = expression.take_aggregates().into_iter();
        let aggregates = aggregates.map(|own| BoundAggregate::new(own, others, rows.rows.len(), &bind));
        let aggregates = aggregates.collect::<Result<_, Error>>()?;
        Ok(Formula { expression, bound, aggregates })
    }

    /// What it gives for `row`, one of `rows`; `computed` has the columns computed before.
    ///
    /// # Errors
    /// When it cannot be worked out, with the row.
    pub fn answer(&self, rows: &Rows, row: &Row, computed: &[(String, Value)]) -> Result<Value, Error> {
        self.expression.evaluate(&InRow { formula: self, rows, row, computed })
    }

    /// Whether it holds for `row`; nothing counts as no.
    ///
    /// # Errors
    /// As [`Formula::answer`], and when it gives something other than true or false.
    pub fn holds(&self, rows: &Rows, row: &Row, computed: &[(String, Value)]) -> Result<bool, Error> {
        self.expression.holds(&InRow { formula: self, rows, row, computed })
    }
}

/// What an expression gives that speaks of no record: of tables as a whole, or of nothing.
///
/// # Errors
/// When it is no expression, speaks of a field, or cannot be worked out.
pub fn evaluate_alone(source: &str, others: &Others<'_>) -> Result<Value, Error> {
    let mut expression = Expression::parse(source)?;
    let no_field = |name: &str| Error::Usage {
        message: format!("`{name}` in `{source}` is of no record"),
        help: "name the record that is meant, or put a text in quotes".into(),
    };
    if let Some(name) = expression.names().first() {
        return Err(no_field(name));
    }
    let aggregates = expression.take_aggregates().into_iter();
    let aggregates = aggregates.map(|own| BoundAggregate::new(own, others, 1, &|name| Err(no_field(name))));
    let aggregates = aggregates.collect::<Result<Vec<_>, Error>>()?;
    expression.evaluate(&Alone { aggregates })
}

/// No record at all.
struct Alone {
    aggregates: Vec<BoundAggregate>,
}

impl Scope for Alone {
    fn value(&self, _: usize) -> Value {
        Value::Nothing
    }

    fn aggregate(&self, number: usize) -> Result<Value, Error> {
        self.aggregates[number].answer(&|_| Value::Nothing)
    }

    fn shown(&self) -> String {
        "no record".to_owned()
    }
}

/// A row, with what was computed of it before.
struct InRow<'r> {
    formula: &'r Formula,
    rows: &'r Rows,
    row: &'r Row,
    computed: &'r [(String, Value)],
}

impl InRow<'_> {
    fn held(&self, bound: &Bound) -> Value {
        match bound {
            Bound::Column(column) => column.held(self.rows, self.row),
            Bound::Computed(name) => {
                let own = self.computed.iter().find(|(own, _)| own == name);
                own.map_or(Value::Nothing, |(_, value)| value.clone())
            }
            Bound::Whole(columns) => {
                let value = |column: &ColumnPath| (column.name.clone(), column.held(self.rows, self.row));
                Value::Record(columns.iter().map(value).collect())
            }
        }
    }
}

impl Scope for InRow<'_> {
    fn value(&self, name: usize) -> Value {
        self.held(&self.formula.bound[name])
    }

    fn aggregate(&self, number: usize) -> Result<Value, Error> {
        self.formula.aggregates[number].answer(&|bound| self.held(bound))
    }

    fn shown(&self) -> String {
        format!("{}:{}", self.rows.table.name, self.row.shown_key())
    }
}
