//! Conditions and computed columns: expressions in CEL, the Common Expression Language
//! (<https://cel.dev>), over the columns of a row.
//!
//! A name is a column; a reference is followed with a dot: `good.price`. The numbers of a table are all of
//! one kind, so that `factor * good.price` holds whether or not one of them has a decimal point; nothing
//! compares as neither less nor greater.

use super::{ColumnPath, Held, Others, Row, Rows};
use crate::Error;
use cel::common::ast::{CallExpr, EntryExpr, Expr, IdedExpr, operators};
use cel::common::value::CowVal;
use cel::context::VariableResolver;
use cel::parser::Parser;
use cel::{Context, Env, ExecutionError, Value};
use regex::Regex;
use std::cell::RefCell;
use std::collections::HashMap;
use std::sync::{Arc, LazyLock};

/// What an expression gives for a row.
pub type Answer = Held;

/// An expression over the rows of one table.
#[derive(Debug)]
pub struct Formula {
    source: String,
    expression: IdedExpr,
    /// The columns that it speaks of, by name.
    columns: Vec<ColumnPath>,
    /// The earlier computed columns that it speaks of.
    computed: Vec<String>,
    /// Whether it speaks of the whole row.
    whole: bool,
    /// How deep `all`, `map` and the like stand inside each other.
    nesting: usize,
}

/// The name by which an expression speaks of the whole row: `row["a name with blanks"]`.
const WHOLE: &str = "row";

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
        const LONGEST: usize = 4000;
        if source.len() > LONGEST {
            return Err(bad(source, &format!("it is longer than {LONGEST} bytes")));
        }
        let expression = Parser::new().parse(source).map_err(|errors| {
            let first = errors.errors.first();
            let column = first.map_or(0, |error| error.pos.1.max(0));
            bad(source, &format!("at character {column}: {}", first.map_or("", |error| fault(&error.msg))))
        })?;
        let mut formula = Formula {
            source: source.to_owned(),
            columns: Vec::new(),
            computed: Vec::new(),
            whole: false,
            nesting: nesting(&expression),
            expression,
        };
        if formula.nesting > DEEPEST {
            return Err(bad(
                source,
                "`all`, `exists`, `map` and `filter` stand more than twice inside each other",
            ));
        }
        let mut names = Vec::new();
        prepare(&mut formula.expression, &mut Vec::new(), &mut names);
        for name in names {
            if computed.contains(&name) {
                formula.computed.push(name);
            } else if name == WHOLE && !rows.columns.contains(&name) {
                formula.whole = true;
            } else if !formula.columns.iter().any(|column| column.name == name) {
                formula.columns.push(ColumnPath::parse(rows, &name, others)?);
            }
        }
        if formula.whole {
            for name in &rows.columns {
                formula.columns.push(ColumnPath::parse(rows, name, others)?);
            }
        }
        Ok(formula)
    }

    /// What it gives for `row`, one of `rows`; `computed` has the columns computed before.
    ///
    /// # Errors
    /// When it cannot be worked out, with the row.
    pub fn answer(&self, rows: &Rows, row: &Row, computed: &[(String, Answer)]) -> Result<Answer, Error> {
        let mut values: HashMap<String, Value> = HashMap::new();
        let mut whole: HashMap<String, Value> = HashMap::new();
        for column in &self.columns {
            let held = column.held(rows, row);
            if let Held::List(items) = &held
                && self.nesting > 1
                && items.len() > LONGEST_NESTED
            {
                let record = format!("{}:{}", rows.table.name, row.shown_key());
                let items = items.len();
                return Err(bad(
                    &self.source,
                    &format!(
                        "for {record}: `{}` has {items} items; over more than {LONGEST_NESTED} nothing is worked out twice",
                        column.name
                    ),
                ));
            }
            let value = value_of(&held);
            if self.whole {
                whole.insert(column.name.clone(), value.clone());
            }
            values.insert(column.name.clone(), value);
        }
        for (name, answer) in computed.iter().filter(|(name, _)| self.computed.contains(name)) {
            values.insert(name.clone(), value_of(answer));
        }
        if self.whole {
            values.insert(WHOLE.to_owned(), whole.into());
        }
        let values = Values(values);
        let mut context = Context::with_env(Arc::clone(&LIBRARY));
        let own = FUNCTIONS.iter().try_for_each(|(_, name, function)| context.add_function(name, *function));
        own.and_then(|()| context.add_function(MATCHES.1, matches as Operator))
            .and_then(|()| context.add_function(IS_THERE, |value: Value| !matches!(value, Value::Null)))
            .map_err(|error| bad(&self.source, &error.to_string()))?;
        context.set_variable_resolver(&values);
        let value = Value::resolve(&self.expression, &context).map_err(|error| {
            let record = format!("{}:{}", rows.table.name, row.shown_key());
            bad(&self.source, &format!("for {record}: {}", reason(&error)))
        })?;
        answer_of(value)
            .ok_or_else(|| bad(&self.source, "it gives neither a number, a text, a truth nor a list"))
    }

    /// Whether it holds for `row`; nothing counts as no.
    ///
    /// # Errors
    /// As [`Formula::answer`], and when it gives something other than true or false.
    pub fn holds(&self, rows: &Rows, row: &Row, computed: &[(String, Answer)]) -> Result<bool, Error> {
        match self.answer(rows, row, computed)? {
            Held::Truth(truth) => Ok(truth),
            Held::Nothing => Ok(false),
            other => Err(bad(&self.source, &format!("it gives `{}`, not true or false", other.shown()))),
        }
    }
}

/// What is wrong with an expression, without the list of all that could stand there instead.
fn fault(message: &str) -> &str {
    let message = message.trim().trim_start_matches("Syntax error: ");
    let message = message.split(" expecting ").next().unwrap_or(message);
    match () {
        () if message.ends_with("'<EOF>'") => "it ends too early",
        () if message.contains("Recursion limit") => "it nests too deeply",
        () => message,
    }
}

fn bad(source: &str, message: &str) -> Error {
    const SHOWN: usize = 200;
    let shown = match source.char_indices().nth(SHOWN) {
        Some((end, _)) => format!("{}...", &source[..end]),
        None => source.to_owned(),
    };
    Error::Usage {
        message: format!("`{shown}` does not work: {message}"),
        help:
            "write conditions such as `Depth > 5 && Basin == \"north\"`; `good.price` follows a reference, \
               `row[\"a name\"]` takes any column"
                .to_owned(),
    }
}

/// Why an expression cannot be worked out, without the words of its engine where they say little.
fn reason(error: &ExecutionError) -> String {
    match error {
        ExecutionError::FunctionError { message, .. } => message.clone(),
        ExecutionError::UndeclaredReference(name) => format!("there is nothing called `{name}`"),
        other => other.to_string(),
    }
}

struct Values(HashMap<String, Value>);

impl VariableResolver for Values {
    fn resolve<'b>(&'b self, name: &str) -> Option<CowVal<'b, 'b>> {
        self.0.get(name).cloned()?.try_into().ok().map(CowVal::Owned)
    }
}

/// Puts the names of columns with dots in place of selections, and our own operators in place of those that
/// would not take different kinds of numbers, or nothing. Collects the names; `bound` are those of macros.
fn prepare(expression: &mut IdedExpr, bound: &mut Vec<String>, names: &mut Vec<String>) {
    if let Some(chain) = chain(&expression.expr) {
        let first = chain.split('.').next().unwrap_or_default();
        if !bound.iter().any(|own| own == first) {
            let tested = matches!(&expression.expr, Expr::Select(select) if select.test);
            names.push(chain.clone());
            expression.expr = Expr::Ident(chain);
            if tested {
                let own = std::mem::take(&mut expression.expr);
                let own = IdedExpr { id: expression.id, expr: own };
                expression.expr =
                    Expr::Call(CallExpr { func_name: IS_THERE.to_owned(), target: None, args: vec![own] });
            }
            return;
        }
    }
    match &mut expression.expr {
        Expr::Call(call) => {
            if call.func_name == MATCHES.0 {
                call.func_name = MATCHES.1.to_owned();
                call.args.splice(0..0, call.target.take().map(|target| *target));
            }
            if let Some((_, name, _)) = FUNCTIONS.iter().find(|(operator, ..)| *operator == call.func_name) {
                call.func_name = (*name).to_owned();
            }
            for part in call.target.iter_mut().map(AsMut::as_mut).chain(&mut call.args) {
                prepare(part, bound, names);
            }
        }
        Expr::Comprehension(inner) => {
            prepare(&mut inner.iter_range, bound, names);
            let before = bound.len();
            bound.push(inner.iter_var.clone());
            bound.extend(inner.iter_var2.clone());
            bound.push(inner.accu_var.clone());
            for part in [&mut inner.accu_init, &mut inner.loop_cond, &mut inner.loop_step, &mut inner.result]
            {
                prepare(part, bound, names);
            }
            bound.truncate(before);
        }
        Expr::List(list) => list.elements.iter_mut().for_each(|part| prepare(part, bound, names)),
        Expr::Map(map) => {
            for entry in &mut map.entries {
                if let EntryExpr::MapEntry(entry) = &mut entry.expr {
                    prepare(&mut entry.key, bound, names);
                    prepare(&mut entry.value, bound, names);
                }
            }
        }
        Expr::Select(select) => prepare(&mut select.operand, bound, names),
        Expr::Ident(_) | Expr::Literal(_) | Expr::Struct(_) | Expr::Unspecified => {}
    }
}

/// How deep macros over lists stand inside each other.
fn nesting(expression: &IdedExpr) -> usize {
    match &expression.expr {
        Expr::Call(call) => {
            let target = call.target.iter().map(|target| &**target);
            target.chain(&call.args).map(nesting).max().unwrap_or(0)
        }
        Expr::Comprehension(inner) => {
            let own = [&inner.accu_init, &inner.loop_cond, &inner.loop_step, &inner.result];
            let own = 1 + own.into_iter().map(nesting).max().unwrap_or(0);
            own.max(nesting(&inner.iter_range))
        }
        Expr::List(list) => list.elements.iter().map(nesting).max().unwrap_or(0),
        Expr::Map(map) => {
            let parts = map.entries.iter().map(|entry| match &entry.expr {
                EntryExpr::MapEntry(entry) => nesting(&entry.key).max(nesting(&entry.value)),
                EntryExpr::StructField(field) => nesting(&field.value),
            });
            parts.max().unwrap_or(0)
        }
        Expr::Select(select) => nesting(&select.operand),
        Expr::Ident(_) | Expr::Literal(_) | Expr::Struct(_) | Expr::Unspecified => 0,
    }
}

/// `a.b.c`, if the expression is nothing else.
fn chain(expression: &Expr) -> Option<String> {
    match expression {
        Expr::Ident(name) => Some(name.clone()),
        Expr::Select(select) => Some(format!("{}.{}", chain(&select.operand.expr)?, select.field)),
        _ => None,
    }
}

fn value_of(held: &Held) -> Value {
    match held {
        Held::Nothing => Value::Null,
        Held::Number(number) => Value::Float(*number),
        Held::Truth(truth) => Value::Bool(*truth),
        Held::Text(text) => Value::String(Arc::new(text.clone())),
        Held::List(items) => Value::List(Arc::new(items.iter().map(value_of).collect())),
    }
}

fn answer_of(value: Value) -> Option<Answer> {
    Some(match value {
        Value::Null => Held::Nothing,
        Value::Int(number) => Held::Number(number as f64),
        Value::UInt(number) => Held::Number(number as f64),
        Value::Float(number) => Held::Number(number),
        Value::Bool(truth) => Held::Truth(truth),
        Value::String(text) => Held::Text(text.to_string()),
        Value::List(items) => Held::List(items.iter().cloned().map(answer_of).collect::<Option<_>>()?),
        _ => return None,
    })
}

/// The functions of the language that every expression may use.
static LIBRARY: LazyLock<Arc<Env>> = LazyLock::new(|| Arc::new(Env::stdlib()));

/// What the test `has(column)` becomes.
const IS_THERE: &str = "@is_there";

type Operator = fn(Value, Value) -> Result<Value, ExecutionError>;

/// The operators of CEL that we replace, with the names of ours.
const FUNCTIONS: [(&str, &str, Operator); 9] = [
    (operators::ADD, "@plus", |a, b| arithmetic('+', a, b)),
    (operators::SUBSTRACT, "@minus", |a, b| arithmetic('-', a, b)),
    (operators::MULTIPLY, "@times", |a, b| arithmetic('*', a, b)),
    (operators::DIVIDE, "@over", |a, b| arithmetic('/', a, b)),
    (operators::MODULO, "@rest", |a, b| arithmetic('%', a, b)),
    (operators::LESS, "@less", |a, b| compared(a, b, |order| order.is_lt())),
    (operators::LESS_EQUALS, "@at_most", |a, b| compared(a, b, |order| order.is_le())),
    (operators::GREATER, "@greater", |a, b| compared(a, b, |order| order.is_gt())),
    (operators::GREATER_EQUALS, "@at_least", |a, b| compared(a, b, |order| order.is_ge())),
];

/// The function of CEL that looks for a regular expression, and the name of ours, which reads an expression once.
const MATCHES: (&str, &str) = ("matches", "@matches");

/// How deep macros over lists may stand inside each other: the time they take multiplies.
const DEEPEST: usize = 2;

/// Over longer lists nothing is worked out for each item with each other.
const LONGEST_NESTED: usize = 1000;

/// Whether a text matches a regular expression; nothing matches none.
fn matches(text: Value, pattern: Value) -> Result<Value, ExecutionError> {
    /// More expressions than these are not kept; a formula has a few.
    const MOST: usize = 64;
    thread_local! {
        static KNOWN: RefCell<HashMap<Arc<String>, Option<Regex>>> = RefCell::default();
    }
    let fails = |message: String| ExecutionError::function_error("matches", message);
    let (Value::String(text), Value::String(pattern)) = (&text, &pattern) else {
        return match matches!(text, Value::Null) || matches!(pattern, Value::Null) {
            true => Ok(Value::Bool(false)),
            false => Err(fails("`matches` takes two texts".to_owned())),
        };
    };
    KNOWN.with_borrow_mut(|known| {
        if known.len() >= MOST && !known.contains_key(pattern) {
            known.clear();
        }
        let regex = known.entry(Arc::clone(pattern)).or_insert_with(|| Regex::new(pattern).ok());
        let regex =
            regex.as_ref().ok_or_else(|| fails(format!("`{pattern}` is not a regular expression")))?;
        Ok(Value::Bool(regex.is_match(text)))
    })
}

fn as_number(value: &Value) -> Option<f64> {
    match value {
        Value::Int(number) => Some(*number as f64),
        Value::UInt(number) => Some(*number as f64),
        Value::Float(number) => Some(*number),
        _ => None,
    }
}

/// With nothing in it, it gives nothing.
fn arithmetic(operator: char, a: Value, b: Value) -> Result<Value, ExecutionError> {
    let fails = |message: String| ExecutionError::function_error("arithmetic", message);
    if matches!(a, Value::Null) || matches!(b, Value::Null) {
        return Ok(Value::Null);
    }
    if let (Some(left), Some(right), false) =
        (as_number(&a), as_number(&b), matches!((&a, &b), (Value::Int(_), Value::Int(_))))
    {
        if matches!(operator, '/' | '%') && right == 0.0 {
            return Ok(Value::Null);
        }
        return Ok(Value::Float(match operator {
            '+' => left + right,
            '-' => left - right,
            '*' => left * right,
            '/' => left / right,
            _ => left % right,
        }));
    }
    let shown = |value: &Value| answer_of(value.clone()).map(|held| held.shown()).unwrap_or_default();
    let message = format!("`{}` {operator} `{}` are not two numbers", shown(&a), shown(&b));
    let result = match operator {
        '+' => a + b,
        '-' => a - b,
        '*' => a * b,
        '/' => a / b,
        _ => a % b,
    };
    result.map_err(|_| fails(message))
}

fn compared(a: Value, b: Value, wanted: fn(std::cmp::Ordering) -> bool) -> Result<Value, ExecutionError> {
    if matches!(a, Value::Null) || matches!(b, Value::Null) {
        return Ok(Value::Bool(false));
    }
    match a.partial_cmp(&b) {
        Some(order) => Ok(Value::Bool(wanted(order))),
        None => {
            let shown = |value: &Value| answer_of(value.clone()).map(|held| held.shown()).unwrap_or_default();
            let message = format!("`{}` and `{}` cannot be compared", shown(&a), shown(&b));
            Err(ExecutionError::function_error("comparison", message))
        }
    }
}
