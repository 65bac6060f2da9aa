//! Expressions in CEL, the Common Expression Language (<https://cel.dev>), over values by name.
//!
//! An expression is compiled once: it tells the names it speaks of, each of which may have dots in it, and who compiled
//! it binds them. A name that is no identifier stands in `row["a name"]`, or in braces as in the schema, `{section}`.
//! When it is evaluated it asks for the values of those names that it comes to, and only of those.
//!
//! Numbers are all of one kind, so that `factor * price` holds whether or not one of them has a decimal point. Nothing
//! compares as neither less nor greater, matches no text, and makes nothing of a sum.

mod direct;
mod functions;
mod question;
mod value;

pub use question::{Aggregate, AggregateKind, GROUP, Lookup, Question, asked_tables};
pub use value::Value;

use crate::Error;
use cel::common::ast::operators::INDEX;
use cel::common::ast::{CallExpr, EntryExpr, Expr, IdedExpr, LiteralValue};
use cel::common::value::CowVal;
use cel::context::VariableResolver;
use cel::parser::Parser;
use cel::{ExecutionError, Value as Native};
use direct::Direct;
use functions::{FUNCTIONS, IS_THERE, LIBRARY, TEXT_FUNCTIONS, from_engine, to_engine};
use std::borrow::Cow;
use std::sync::OnceLock;

/// A compiled expression.
#[derive(Debug)]
pub struct Expression {
    source: String,
    tree: IdedExpr,
    names: Vec<String>,
    /// The identifiers that stand for the names in the tree.
    identifiers: Vec<String>,
    /// How deep `all`, `map` and the like stand inside each other.
    nesting: usize,
    /// The same, if it is plain enough to be worked out without the engine.
    direct: Option<Direct>,
    /// What it asks beyond the values of its names.
    questions: Vec<Question>,
    /// How many questions stand in it.
    question_count: usize,
}

/// What an expression is evaluated over.
pub trait Scope: Sync {
    /// The value of the name at this position of [`Expression::names`].
    fn value(&self, name: usize) -> Value;

    /// The answer to the question at this position of [`Expression::take_questions`].
    ///
    /// # Errors
    /// When it cannot be worked out.
    fn answer(&self, number: usize) -> Result<Value, Error>;

    /// What it is called in messages: the address of a record.
    fn shown(&self) -> String;
}

/// The name by which an expression speaks of all columns: `row["a name with blanks"]`.
pub const WHOLE: &str = "row";

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
        let tree = Parser::new().parse(&with_braced_names(source)).map_err(|errors| {
            let first = errors.errors.first();
            let column = first.map_or(0, |error| error.pos.1.max(0));
            bad(source, &format!("at character {column}: {}", first.map_or("", |error| fault(&error.msg))))
        })?;
        Expression::of_tree(source, tree)
    }

    /// Compiles what was parsed of `source`.
    fn of_tree(source: &str, mut tree: IdedExpr) -> Result<Expression, Error> {
        let mut questions = Vec::new();
        question::take_out(source, &mut tree, &mut questions)?;
        let nesting = nesting(&tree);
        if nesting > DEEPEST {
            return Err(bad(
                source,
                "`all`, `exists`, `map` and `filter` stand more than twice inside each other",
            ));
        }
        let mut found = Vec::new();
        prepare(&mut tree, &mut Vec::new(), &mut found);
        let of_questions: Vec<String> = (0..questions.len()).map(question::identifier).collect();
        found.retain(|name| !of_questions.contains(&name.identifier));
        let mut known = std::collections::HashSet::new();
        found.retain(|name| known.insert(name.identifier.clone()));
        let (names, identifiers): (Vec<String>, Vec<String>) =
            found.into_iter().map(|name| (name.path, name.identifier)).unzip();
        let direct = if nesting == 0 { Direct::of(&tree, &identifiers) } else { None };
        Ok(Expression {
            source: source.to_owned(),
            tree,
            direct,
            names,
            identifiers,
            nesting,
            question_count: questions.len(),
            questions,
        })
    }

    /// The names that it speaks of; with dots as they are written.
    pub fn names(&self) -> &[String] {
        &self.names
    }

    /// The names that it speaks of, also in what it asks of other tables.
    pub fn all_names(&self) -> Vec<String> {
        let mut out = self.names.clone();
        for question in &self.questions {
            match question {
                Question::FileExists(path) => out.extend(path.names.iter().cloned()),
                Question::Aggregate(own) => {
                    let theirs = format!("{}.", own.variable);
                    let of_group = own.table == GROUP;
                    for name in own.expressions().flat_map(|expression| expression.names()) {
                        match name.strip_prefix(&theirs) {
                            None => out.push(name.clone()),
                            Some(field) if of_group => out.push(field.to_owned()),
                            Some(_) => {}
                        }
                    }
                    out.extend(own.lookup.as_ref().filter(|_| of_group).map(|lookup| lookup.field.clone()));
                }
            }
        }
        out
    }

    /// The fields of its own record that an expression speaks of, also in what it asks of other tables: its names up to the
    /// first dot. None if it cannot be read.
    pub fn fields_in(source: &str) -> Vec<String> {
        let names = Expression::parse(source).map(|own| own.all_names()).unwrap_or_default();
        names.into_iter().map(|name| name.split('.').next().unwrap_or_default().to_owned()).collect()
    }

    /// What it needs of the tables that it asks: their names, and the names of fields, perhaps with what these lead to.
    pub fn asked_fields(&self) -> Vec<(&str, Vec<String>)> {
        let of_question = |question| match question {
            &Question::FileExists(_) => None,
            Question::Aggregate(own) => {
                let theirs = format!("{}.", own.variable);
                let names = own.expressions().flat_map(|expression| expression.names());
                let mut fields: Vec<String> =
                    names.filter_map(|name| name.strip_prefix(&theirs)).map(str::to_owned).collect();
                fields.extend(own.lookup.as_ref().map(|lookup| lookup.field.clone()));
                Some((own.table.as_str(), fields))
            }
        };
        self.questions.iter().filter_map(of_question).collect()
    }

    /// Whether it asks something beyond the values of its names.
    pub fn asks_beyond(&self) -> bool {
        self.question_count > 0
    }

    /// What it asks beyond the values of its names, to be bound by who answers it.
    pub fn take_questions(&mut self) -> Vec<Question> {
        std::mem::take(&mut self.questions)
    }

    /// What it gives in `scope`.
    ///
    /// # Errors
    /// When it cannot be worked out, with what the scope is called.
    pub fn evaluate(&self, scope: &dyn Scope) -> Result<Value, Error> {
        let at_once = self.direct.as_ref().and_then(|direct| direct.value(scope));
        at_once.map_or_else(|| self.by_engine(scope), Ok)
    }

    /// What it gives in `scope`, by the engine.
    fn by_engine(&self, scope: &dyn Scope) -> Result<Value, Error> {
        let values = Values {
            expression: self,
            scope,
            known: (0..self.names.len()).map(|_| OnceLock::new()).collect(),
            answers: (0..self.question_count).map(|_| OnceLock::new()).collect(),
            refused: OnceLock::new(),
        };
        let library = LIBRARY.as_ref().map_err(|error| bad(&self.source, error))?;
        let mut context = library.new_inner_scope();
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
    /// The answers to its questions.
    answers: Vec<OnceLock<Native>>,
    /// Why a value is not given.
    refused: OnceLock<String>,
}

impl VariableResolver for Values<'_> {
    fn resolve<'b>(&'b self, name: &str) -> Option<CowVal<'b, 'b>> {
        if let Some((number, answer)) =
            question::number(name).and_then(|at| Some((at, self.answers.get(at)?)))
        {
            let answer = answer.get_or_init(|| match self.scope.answer(number) {
                Ok(value) => to_engine(&value),
                Err(error) => {
                    let _ = self.refused.set(error.to_string());
                    Native::Null
                }
            });
            return answer.clone().try_into().ok().map(CowVal::Owned);
        }
        let at = self.expression.identifiers.iter().position(|own| own == name)?;
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
                .into(),
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
fn prepare(expression: &mut IdedExpr, bound: &mut Vec<String>, names: &mut Vec<Name>) {
    let free = name(&expression.expr).filter(|name| !bound.contains(&name.first));
    if let Some(name) = free {
        let tested = matches!(&expression.expr, Expr::Select(select) if select.test);
        expression.expr = Expr::Ident(name.identifier.clone());
        names.push(name);
        if tested {
            let own = std::mem::take(&mut expression.expr);
            let own = IdedExpr { id: expression.id, expr: own };
            expression.expr =
                Expr::Call(CallExpr { func_name: IS_THERE.to_owned(), target: None, args: vec![own] });
        }
        return;
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
            return;
        }
        _ => {}
    }
    parts_mut(expression).into_iter().for_each(|part| prepare(part, bound, names));
}

/// The parts of an expression, one level down.
fn parts(expression: &IdedExpr) -> Vec<&IdedExpr> {
    match &expression.expr {
        Expr::Call(call) => call.target.iter().map(|target| &**target).chain(&call.args).collect(),
        Expr::Comprehension(inner) => {
            vec![&inner.iter_range, &inner.accu_init, &inner.loop_cond, &inner.loop_step, &inner.result]
        }
        Expr::List(list) => list.elements.iter().collect(),
        Expr::Map(map) => {
            let parts = map.entries.iter().map(|entry| match &entry.expr {
                EntryExpr::MapEntry(entry) => vec![&entry.key, &entry.value],
                EntryExpr::StructField(field) => vec![&field.value],
            });
            parts.flatten().collect()
        }
        Expr::Select(select) => vec![&select.operand],
        Expr::Ident(_) | Expr::Literal(_) | Expr::Struct(_) | Expr::Unspecified => Vec::new(),
    }
}

/// As [`parts`], to be changed.
fn parts_mut(expression: &mut IdedExpr) -> Vec<&mut IdedExpr> {
    match &mut expression.expr {
        Expr::Call(call) => call.target.iter_mut().map(AsMut::as_mut).chain(&mut call.args).collect(),
        Expr::Comprehension(inner) => {
            let inner = &mut **inner;
            vec![
                &mut inner.iter_range,
                &mut inner.accu_init,
                &mut inner.loop_cond,
                &mut inner.loop_step,
                &mut inner.result,
            ]
        }
        Expr::List(list) => list.elements.iter_mut().collect(),
        Expr::Map(map) => {
            let parts = map.entries.iter_mut().map(|entry| match &mut entry.expr {
                EntryExpr::MapEntry(entry) => vec![&mut entry.key, &mut entry.value],
                EntryExpr::StructField(field) => vec![&mut field.value],
            });
            parts.flatten().collect()
        }
        Expr::Select(select) => vec![&mut select.operand],
        Expr::Ident(_) | Expr::Literal(_) | Expr::Struct(_) | Expr::Unspecified => Vec::new(),
    }
}

/// How deep macros over lists stand inside each other.
fn nesting(expression: &IdedExpr) -> usize {
    let deepest = |parts: &[&IdedExpr]| parts.iter().map(|part| nesting(part)).max().unwrap_or(0);
    match &expression.expr {
        Expr::Comprehension(inner) => {
            let own = deepest(&[&inner.accu_init, &inner.loop_cond, &inner.loop_step, &inner.result]);
            (1 + own).max(nesting(&inner.iter_range))
        }
        _ => deepest(&parts(expression)),
    }
}

/// A name in an expression.
struct Name {
    /// The identifier that it begins with.
    first: String,
    /// What it means: the name of a column, or a way with dots.
    path: String,
    /// What stands for it in the tree; nothing that a macro binds is called so.
    identifier: String,
}

/// `a.b.c` or `row["a name"].b`, if the expression is nothing else.
fn name(expression: &Expr) -> Option<Name> {
    match expression {
        Expr::Ident(name) => {
            let [first, path, identifier] = [(); 3].map(|()| name.clone());
            Some(Name { first, path, identifier })
        }
        Expr::Select(select) => {
            let Name { first, path, identifier } = name(&select.operand.expr)?;
            let (path, identifier) =
                (format!("{path}.{}", select.field), format!("{identifier}.{}", select.field));
            Some(Name { first, path, identifier })
        }
        Expr::Call(call) if call.func_name == INDEX => match &call.args[..] {
            [
                IdedExpr { expr: Expr::Ident(whole), .. },
                IdedExpr { expr: Expr::Literal(LiteralValue::String(column)), .. },
            ] if whole == WHOLE => {
                let path = column.inner().to_owned();
                Some(Name { first: WHOLE.to_owned(), identifier: format!("{WHOLE}[{path}]"), path })
            }
            _ => None,
        },
        _ => None,
    }
}

/// `source` with `row["{name}"]` in place of names in braces.
fn with_braced_names(source: &str) -> Cow<'_, str> {
    let mut out = String::new();
    let (mut from, mut quote) = (0, None);
    let bytes = source.as_bytes();
    let mut at = 0;
    while let Some(byte) = bytes.get(at) {
        match (quote, byte) {
            (Some(_), b'\\') => at += 1,
            (Some(open), byte) if open == *byte => quote = None,
            (None, b'"' | b'\'') => quote = Some(*byte),
            (None, b'{') => {
                let name = source[at + 1..].split('}').next().unwrap_or_default();
                let end = at + 1 + name.len();
                let word = |byte: u8| byte.is_ascii_alphanumeric() || byte == b'_';
                if end < source.len() && !name.is_empty() && name.bytes().all(word) {
                    out.push_str(&source[from..at]);
                    out.push_str(&format!("{WHOLE}[\"{{{name}}}\"]"));
                    (from, at) = (end + 1, end);
                }
            }
            _ => {}
        }
        at += 1;
    }
    match from {
        0 => Cow::Borrowed(source),
        _ => Cow::Owned(out + &source[from..]),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The values of names in the order in which an expression has them.
    struct Named<'n> {
        names: &'n [String],
        values: &'n [(&'static str, Value)],
    }

    impl Scope for Named<'_> {
        fn value(&self, name: usize) -> Value {
            let own = self.values.iter().find(|(own, _)| *own == self.names[name]);
            own.map_or(Value::Nothing, |(_, value)| value.clone())
        }

        fn answer(&self, _: usize) -> Result<Value, Error> {
            Ok(Value::Nothing)
        }

        fn shown(&self) -> String {
            "a record".to_owned()
        }
    }

    const NAMES: [&str; 4] = ["A", "B", "C", "D"];

    fn value() -> impl Strategy<Value = Value> {
        prop_oneof![
            Just(Value::Nothing),
            (-3i32..4).prop_map(|number| Value::Number(f64::from(number) / 2.0)),
            any::<bool>().prop_map(Value::Truth),
            "[ab]{0,2}".prop_map(Value::Text),
            Just(Value::List(vec![Value::Number(1.0), Value::Text("a".to_owned())])),
        ]
    }

    fn source() -> impl Strategy<Value = String> {
        let leaf = prop_oneof![
            4 => prop::sample::select(&NAMES[..]).prop_map(str::to_owned),
            1 => (-2i32..3).prop_map(|number| format!("({number})")),
            1 => Just("1.5".to_owned()),
            1 => Just("null".to_owned()),
            1 => Just("true".to_owned()),
            1 => Just("'a'".to_owned()),
            1 => Just("['a', 'b']".to_owned()),
        ];
        leaf.prop_recursive(4, 24, 3, |inner| {
            let operator = prop::sample::select(
                &["+", "-", "*", "/", "%", "<", "<=", ">", ">=", "==", "!=", "&&", "||", "in"][..],
            );
            prop_oneof![
                4 => (inner.clone(), operator, inner.clone()).prop_map(|(a, own, b)| format!("({a} {own} {b})")),
                1 => inner.clone().prop_map(|a| format!("!({a})")),
                1 => inner.clone().prop_map(|a| format!("-({a})")),
                1 => inner.clone().prop_map(|a| format!("size({a})")),
                1 => inner.clone().prop_map(|a| format!("({a}).matches('^a')")),
                1 => (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}).startsWith({b})")),
                1 => (inner.clone(), inner.clone()).prop_map(|(a, b)| format!("({a}).contains({b})")),
                1 => (inner.clone(), inner.clone(), inner).prop_map(|(a, b, c)| format!("({a} ? {b} : {c})")),
            ]
        })
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 4000, ..ProptestConfig::default() })]
        #[test]
        fn what_is_worked_out_at_once_is_what_the_engine_gives(
            source in source(),
            values in prop::collection::vec(value(), 4),
        ) {
            let values: Vec<(&str, Value)> = NAMES.into_iter().zip(values).collect();
            let Ok(expression) = Expression::parse(&source) else { return Ok(()) };
            let scope = Named { names: expression.names(), values: &values };
            if let Some(at_once) = expression.direct.as_ref().and_then(|direct| direct.value(&scope)) {
                let by_engine = expression.by_engine(&scope).map_err(|error| error.to_string());
                prop_assert_eq!(Ok(at_once), by_engine, "{}", source);
            }
        }
    }

    #[test]
    fn plain_conditions_need_no_engine() {
        for source in ["A > 5 && B == 'deep'", "A in ['a', 'b'] || !(B * 2 <= C)", "size(A) == 0 ? B : C + 1"]
        {
            assert!(Expression::parse(source).is_ok_and(|own| own.direct.is_some()), "{source}");
        }
    }
}
