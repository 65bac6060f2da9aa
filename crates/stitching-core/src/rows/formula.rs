//! Conditions and computed columns: expressions over the columns of a row.
//!
//! A name is a column; a reference is followed with a dot: `good.price`. What is asked of all records of a table names that
//! table: `count(berths, b, b.Reach == Reach)`.

use super::question::BoundQuestion;
use super::{ColumnPath, Others, Row, Rows};
use crate::Error;
use crate::expressions::{Expression, Scope, Value, WHOLE};

/// An expression over the rows of one table.
#[derive(Debug)]
pub struct Formula {
    expression: Expression,
    /// What each of its names stands for.
    bound: Vec<Bound>,
    questions: Vec<BoundQuestion>,
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
        Formula::bound(source, rows, computed, others, false)
    }

    /// As [`Formula::parse`] over rows that are held together, of which it may ask: `count(group)`.
    ///
    /// # Errors
    /// As [`Formula::parse`].
    pub fn over_group(source: &str, rows: &Rows, others: &Others<'_>) -> Result<Formula, Error> {
        Formula::bound(source, rows, &[], others, true)
    }

    fn bound(
        source: &str,
        rows: &Rows,
        computed: &[String],
        others: &Others<'_>,
        in_group: bool,
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
        let questions = expression.take_questions().into_iter();
        let group = in_group.then_some(rows);
        let questions = questions.map(|own| BoundQuestion::new(own, others, rows.rows.len(), group, &bind));
        let questions = questions.collect::<Result<_, Error>>()?;
        Ok(Formula { expression, bound, questions })
    }

    /// The names in it that are columns of the row, as positions among the columns of the rows; of those that lead to other
    /// tables the first step.
    pub fn columns(&self) -> Vec<usize> {
        let column = |bound: &Bound| match bound {
            Bound::Column(path) => path.first_column(),
            Bound::Computed(_) | Bound::Whole(_) => None,
        };
        self.bound.iter().filter_map(column).collect()
    }

    /// The names in it that are nothing, or empty, in `row`, one of `rows`.
    pub fn missing(&self, rows: &Rows, row: &Row) -> Vec<&str> {
        self.values(rows, row).filter(|(_, value)| is_nothing(value)).map(|(name, _)| name).collect()
    }

    /// What the names in it hold in `row`, one of `rows`; without the one that stands for the whole row.
    pub fn values(&self, rows: &Rows, row: &Row) -> impl Iterator<Item = (&str, Value)> {
        let names = self.expression.names().iter().zip(&self.bound);
        let of_columns = names.filter(|(_, bound)| matches!(bound, Bound::Column(_)));
        of_columns.map(move |(name, bound)| {
            let scope = InRow { formula: self, rows, row, computed: &[], group: &[] };
            (name.as_str(), scope.held(bound))
        })
    }

    /// What it gives for the row at `row` of `rows`, with those that are held together with it.
    ///
    /// # Errors
    /// As [`Formula::answer`].
    pub fn answer_for(&self, rows: &Rows, row: usize, group: &[usize]) -> Result<Value, Error> {
        let row = &rows.rows[row];
        self.expression.evaluate(&InRow { formula: self, rows, row, computed: &[], group })
    }

    /// What it gives for `row`, one of `rows`; `computed` has the columns computed before.
    ///
    /// # Errors
    /// When it cannot be worked out, with the row.
    pub fn answer(&self, rows: &Rows, row: &Row, computed: &[(String, Value)]) -> Result<Value, Error> {
        self.expression.evaluate(&InRow { formula: self, rows, row, computed, group: &[] })
    }

    /// Whether it holds for `row`; nothing counts as no.
    ///
    /// # Errors
    /// As [`Formula::answer`], and when it gives something other than true or false.
    pub fn holds(&self, rows: &Rows, row: &Row, computed: &[(String, Value)]) -> Result<bool, Error> {
        self.expression.holds(&InRow { formula: self, rows, row, computed, group: &[] })
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
    let questions = expression.take_questions().into_iter();
    let bind = |name: &str| Err(no_field(name));
    let questions = questions.map(|own| BoundQuestion::new(own, others, 1, None, &bind));
    let questions = questions.collect::<Result<Vec<_>, Error>>()?;
    expression.evaluate(&Alone { questions })
}

fn is_nothing(value: &Value) -> bool {
    matches!(value, Value::Nothing) || matches!(value, Value::Text(text) if text.is_empty())
}

/// No record at all.
struct Alone {
    questions: Vec<BoundQuestion>,
}

impl Scope for Alone {
    fn value(&self, _: usize) -> Value {
        Value::Nothing
    }

    fn answer(&self, number: usize) -> Result<Value, Error> {
        self.questions[number].answer(&|_| Value::Nothing, None)
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
    /// The rows that are held together with it.
    group: &'r [usize],
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

    fn answer(&self, number: usize) -> Result<Value, Error> {
        self.formula.questions[number].answer(&|bound| self.held(bound), Some((self.rows, self.group)))
    }

    fn shown(&self) -> String {
        format!("{}:{}", self.rows.table.name, self.row.shown_key())
    }
}
