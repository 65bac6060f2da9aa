//! Expressions in CEL, the Common Expression Language (<https://cel.dev>), over values by name.
//!
//! An expression is compiled once: it tells the names it speaks of, each of which may have dots in it, and who compiled
//! it binds them. When it is evaluated it asks for the values of those names that it comes to, and only of those.
//!
//! Numbers are all of one kind, so that `factor * price` holds whether or not one of them has a decimal point. Nothing
//! compares as neither less nor greater, matches no text, and makes nothing of a sum.

mod functions;
mod value;

pub use value::{Value, shown_number};

use crate::Error;
use cel::common::ast::{CallExpr, EntryExpr, Expr, IdedExpr};
use cel::common::value::CowVal;
use cel::context::VariableResolver;
use cel::parser::Parser;
use cel::{Context, ExecutionError, Value as Native};
use functions::{FUNCTIONS, IS_THERE, LIBRARY, TEXT_FUNCTIONS, add_text_functions, from_engine, to_engine};
use std::sync::{Arc, OnceLock};

/// A compiled expression.
#[derive(Debug)]
pub struct Expression {
    source: String,
    tree: IdedExpr,
    names: Vec<String>,
    /// How deep `all`, `map` and the like stand inside each other.
    nesting: usize,
}

/// What an expression is evaluated over.
pub trait Scope: Sync {
    /// The value of the name at this position of [`Expression::names`].
    fn value(&self, name: usize) -> Value;

    /// What it is called in messages: the address of a record.
    fn shown(&self) -> String;
}

/// Longer expressions are refused, in bytes.
const LONGEST: usize = 4000;

/// How deep macros over lists may stand inside each other: the time they take multiplies.
const DEEPEST: usize = 2;

/// Over longer lists nothing is worked out for each item with each other.
const LONGEST_NESTED: usize = 1000;

impl Expression {
    /// Compiles `source`.
    ///
    /// # Errors
    /// When it is no expression, or would take too long.
    pub fn parse(source: &str) -> Result<Expression, Error> {
        if source.len() > LONGEST {
            return Err(bad(source, &format!("it is longer than {LONGEST} bytes")));
        }
        let mut tree = Parser::new().parse(source).map_err(|errors| {
            let first = errors.errors.first();
            let column = first.map_or(0, |error| error.pos.1.max(0));
            bad(source, &format!("at character {column}: {}", first.map_or("", |error| fault(&error.msg))))
        })?;
        let nesting = nesting(&tree);
        if nesting > DEEPEST {
            return Err(bad(
                source,
                "`all`, `exists`, `map` and `filter` stand more than twice inside each other",
            ));
        }
        let mut names = Vec::new();
        prepare(&mut tree, &mut Vec::new(), &mut names);
        let mut known = std::collections::HashSet::new();
        names.retain(|name| known.insert(name.clone()));
        Ok(Expression { source: source.to_owned(), tree, names, nesting })
    }

    /// The names that it speaks of, each once; with dots as they are written.
    pub fn names(&self) -> &[String] {
        &self.names
    }

    /// What it gives in `scope`.
    ///
    /// # Errors
    /// When it cannot be worked out, with what the scope is called.
    pub fn evaluate(&self, scope: &dyn Scope) -> Result<Value, Error> {
        let values = Values {
            expression: self,
            scope,
            known: (0..self.names.len()).map(|_| OnceLock::new()).collect(),
            refused: OnceLock::new(),
        };
        let mut context = Context::with_env(Arc::clone(&LIBRARY));
        let operators =
            FUNCTIONS.iter().try_for_each(|(_, name, function)| context.add_function(name, *function));
        let is_there = |value: Native| !matches!(value, Native::Null);
        operators
            .and_then(|()| context.add_function(IS_THERE, is_there))
            .map_err(|error| error.to_string())
            .and_then(|()| add_text_functions(&mut context))
            .map_err(|error| bad(&self.source, &error))?;
        context.set_variable_resolver(&values);
        let value = Native::resolve(&self.tree, &context);
        drop(context);
        let refused = values.refused.into_inner();
        let value = match (value, refused) {
            (_, Some(reason)) => return Err(self.fails(scope, &reason)),
            (value, None) => value.map_err(|error| self.fails(scope, &reason(&error)))?,
        };
        from_engine(value)
            .ok_or_else(|| bad(&self.source, "it gives neither a number, a text, a truth nor a list"))
    }

    /// Whether it holds in `scope`; nothing counts as no.
    ///
    /// # Errors
    /// As [`Expression::evaluate`], and when it gives something other than true or false.
    pub fn holds(&self, scope: &dyn Scope) -> Result<bool, Error> {
        match self.evaluate(scope)? {
            Value::Truth(truth) => Ok(truth),
            Value::Nothing => Ok(false),
            other => Err(bad(&self.source, &format!("it gives `{}`, not true or false", other.shown()))),
        }
    }

    fn fails(&self, scope: &dyn Scope, reason: &str) -> Error {
        bad(&self.source, &format!("for {}: {reason}", scope.shown()))
    }
}

/// The values of names, asked for when the evaluation comes to them.
struct Values<'v> {
    expression: &'v Expression,
    scope: &'v dyn Scope,
    known: Vec<OnceLock<Native>>,
    /// Why a value is not given.
    refused: OnceLock<String>,
}

impl VariableResolver for Values<'_> {
    fn resolve<'b>(&'b self, name: &str) -> Option<CowVal<'b, 'b>> {
        let at = self.expression.names.iter().position(|own| own == name)?;
        let value = self.known[at].get_or_init(|| {
            let value = self.scope.value(at);
            let too_long = |name: &str, value: &Value| match value {
                Value::List(items) if items.len() > LONGEST_NESTED => Some(format!(
                    "`{name}` has {} items; over more than {LONGEST_NESTED} nothing is worked out twice",
                    items.len()
                )),
                _ => None,
            };
            if self.expression.nesting > 1 {
                let refused = match &value {
                    Value::Record(fields) => fields.iter().find_map(|(name, value)| too_long(name, value)),
                    value => too_long(&self.expression.names[at], value),
                };
                if let Some(refused) = refused {
                    let _ = self.refused.set(refused);
                    return Native::Null;
                }
            }
            to_engine(&value)
        });
        value.clone().try_into().ok().map(CowVal::Owned)
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
            if let Some((_, own)) = TEXT_FUNCTIONS.iter().find(|(name, _)| *name == call.func_name) {
                call.func_name = (*own).to_owned();
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
