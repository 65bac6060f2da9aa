//! Conditions and computed columns: expressions over the columns of a row.
//!
//! A name is a column; a reference is followed with a dot: `good.price`.

use super::{ColumnPath, Others, Row, Rows};
use crate::Error;
use crate::expressions::{Expression, Scope, Value, WHOLE};

/// An expression over the rows of one table.
#[derive(Debug)]
pub struct Formula {
    expression: Expression,
    /// What each of its names stands for.
    bound: Vec<Bound>,
}

/// What a name in an expression stands for.
#[derive(Debug)]
enum Bound {
    Column(ColumnPath),
    /// An earlier computed column.
    Computed,
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
        let expression = Expression::parse(source)?;
        let bind = |name: &String| {
            if computed.contains(name) {
                return Ok(Bound::Computed);
            }
            if name == WHOLE && !rows.columns.contains(name) {
                let columns = rows.columns.iter().map(|name| ColumnPath::parse(rows, name, others));
                return Ok(Bound::Whole(columns.collect::<Result<_, Error>>()?));
            }
            // `row.Depth` is `row["Depth"]`, unless a column is called `row`.
            let own = name.strip_prefix(WHOLE).and_then(|rest| rest.strip_prefix('.'));
            let own = own.filter(|_| !rows.columns.iter().any(|column| column == WHOLE));
            ColumnPath::parse(rows, own.unwrap_or(name), others).map(Bound::Column)
        };
        let bound = expression.names().iter().map(bind).collect::<Result<_, Error>>()?;
        Ok(Formula { expression, bound })
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

/// A row, with what was computed of it before.
struct InRow<'r> {
    formula: &'r Formula,
    rows: &'r Rows,
    row: &'r Row,
    computed: &'r [(String, Value)],
}

impl Scope for InRow<'_> {
    fn value(&self, name: usize) -> Value {
        match &self.formula.bound[name] {
            Bound::Column(column) => column.held(self.rows, self.row),
            Bound::Computed => {
                let wanted = &self.formula.expression.names()[name];
                let own = self.computed.iter().find(|(own, _)| own == wanted);
                own.map_or(Value::Nothing, |(_, value)| value.clone())
            }
            Bound::Whole(columns) => {
                let value = |column: &ColumnPath| (column.name.clone(), column.held(self.rows, self.row));
                Value::Record(columns.iter().map(value).collect())
            }
        }
    }

    fn shown(&self) -> String {
        format!("{}:{}", self.rows.table.name, self.row.shown_key())
    }
}
