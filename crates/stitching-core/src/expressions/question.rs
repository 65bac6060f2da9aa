//! What an expression asks beyond the values of its names: of all records of a table, `count(berths, b, b.Reach == Reach)`,
//! of the records that are held together, `sum(group, g, g.Share)`, or whether there is a file.
//!
//! The first argument names the table, the second the name under which one of its records is spoken of, then come what is
//! taken of each record and a condition. A condition that says that a field of the record is equal to something, or has it
//! as an item, is looked up by that.

use super::{Expression, Name, name};
use crate::Error;
use cel::common::ast::operators::{EQUALS, IN, LOGICAL_AND};
use cel::common::ast::{CallExpr, Expr, IdedExpr};
use regex::Regex;
use std::ops::Range;
use std::sync::LazyLock;

/// What is made of the records that meet the condition.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum AggregateKind {
    /// Their number.
    Count,
    /// Whether there is one.
    Exists,
    /// The sum of a value over all of them; what has none adds nothing.
    Sum,
    /// The smallest value; nothing if there is none.
    Min,
    /// The largest value; nothing if there is none.
    Max,
    /// The number of different values.
    Distinct,
    /// Whether a condition holds for all of them; the condition is what is taken of each record.
    All,
}

/// The functions, by name.
const FUNCTIONS: [(&str, AggregateKind); 7] = [
    ("all", AggregateKind::All),
    ("count", AggregateKind::Count),
    ("exists", AggregateKind::Exists),
    ("sum", AggregateKind::Sum),
    ("min", AggregateKind::Min),
    ("max", AggregateKind::Max),
    ("distinct", AggregateKind::Distinct),
];

/// The function that tells whether there is a file.
const FILE_EXISTS: &str = "file_exists";

/// What an expression asks beyond the values of its names.
#[derive(Debug)]
pub enum Question {
    /// What all records of a table, or of a group, make together.
    Aggregate(Box<Aggregate>),
    /// Whether the game has a file with the path that this gives.
    FileExists(Box<Expression>),
}

/// The records that are held together, as a table: `sum(group, g, g.Share)`.
pub const GROUP: &str = "group";

/// What finds the functions that ask a table in a text: its name is between the two groups.
static ASKED: LazyLock<Option<Regex>> = LazyLock::new(|| {
    let names: Vec<&str> = FUNCTIONS.iter().map(|(name, _)| *name).collect();
    Regex::new(&format!(r"\b(?:{})\s*\(\s*(?<table>\w+)\s*,", names.join("|"))).ok()
});

/// The places in `text` at which an expression may ask a table: `count(boats, b, ...)`. The text may be an expression that is
/// not complete, such as one with the parameters of a recipe.
pub fn asked_tables(text: &str) -> Vec<Range<usize>> {
    let found = ASKED.iter().flat_map(|asked| asked.captures_iter(text));
    found.filter_map(|found| found.name("table").map(|table| table.range())).collect()
}

/// What is asked of all records of a table. The names in its expressions that begin with [`Aggregate::variable`] and a dot are fields of the
/// records of the table, the others are those of the expression that asks.
#[derive(Debug)]
pub struct Aggregate {
    /// What is made of the records.
    pub kind: AggregateKind,
    /// The name of the table.
    pub table: String,
    /// The name under which a record of it is spoken of.
    pub variable: String,
    /// What is taken of each record.
    pub value: Option<Expression>,
    /// What records are looked up by.
    pub lookup: Option<Lookup>,
    /// What else they must meet.
    pub condition: Option<Expression>,
}

impl Aggregate {
    /// The expressions in it.
    pub(super) fn expressions(&self) -> impl Iterator<Item = &Expression> {
        let wanted = self.lookup.as_ref().map(|lookup| &lookup.wanted);
        self.value.iter().chain(&self.condition).chain(wanted)
    }
}

/// What records of a table are looked up by.
#[derive(Debug)]
pub struct Lookup {
    /// The field of the record.
    pub field: String,
    /// What it is to be equal to, or to have as an item.
    pub wanted: Expression,
}

impl AggregateKind {
    /// The name of the function.
    pub fn name(self) -> &'static str {
        FUNCTIONS.iter().find(|(_, kind)| *kind == self).map_or("", |(name, _)| name)
    }

    fn takes_a_value(self) -> bool {
        !matches!(self, AggregateKind::Count | AggregateKind::Exists)
    }
}

const IDENTIFIER: &str = "@aggregate";

/// The identifier that stands for the question with this number.
pub(super) fn identifier(number: usize) -> String {
    format!("{IDENTIFIER}{number}")
}

/// The number of the question that an identifier stands for.
pub(super) fn number(identifier: &str) -> Option<usize> {
    identifier.strip_prefix(IDENTIFIER)?.parse().ok()
}

/// Takes the questions out of `expression` and puts identifiers in their place.
pub(super) fn take_out(
    source: &str,
    expression: &mut IdedExpr,
    out: &mut Vec<Question>,
) -> Result<(), Error> {
    if let Expr::Call(call) = &mut expression.expr {
        let question = match asked(call) {
            Some((kind, table, variable)) => {
                let arguments = std::mem::take(&mut call.args);
                Some(Question::Aggregate(Box::new(understood(source, kind, table, variable, arguments)?)))
            }
            None if call.func_name == FILE_EXISTS && call.target.is_none() => {
                let [path] = &mut call.args[..] else {
                    return Err(super::bad(source, "`file_exists` takes one path"));
                };
                let path = std::mem::replace(path, IdedExpr { id: path.id, expr: Expr::Unspecified });
                let path = Expression::of_tree(source, path)?;
                if path.asks_beyond() {
                    return Err(super::bad(source, "the path in `file_exists` speaks of the record only"));
                }
                Some(Question::FileExists(Box::new(path)))
            }
            None => None,
        };
        if let Some(question) = question {
            expression.expr = Expr::Ident(identifier(out.len()));
            out.push(question);
            return Ok(());
        }
    }
    super::parts_mut(expression).into_iter().try_for_each(|part| take_out(source, part, out))
}

/// The kind, the table and the variable, if a call is such a question.
fn asked(call: &CallExpr) -> Option<(AggregateKind, String, String)> {
    let (_, kind) = FUNCTIONS.iter().find(|(name, _)| *name == call.func_name && call.target.is_none())?;
    let table = name(&call.args.first()?.expr)?;
    let variable = match call.args.get(1).map(|argument| &argument.expr) {
        None if *kind == AggregateKind::Count => String::new(),
        Some(Expr::Ident(variable)) => variable.clone(),
        _ => return None,
    };
    // `max(A, B, C)` is the largest of three values.
    let rest = call.args.get(2..).unwrap_or_default();
    let speaks = |part: &IdedExpr| mentions(part, &variable);
    let is_own = matches!(kind, AggregateKind::Count | AggregateKind::Exists);
    (is_own || rest.iter().any(speaks)).then_some((*kind, table.path, variable))
}

fn understood(
    source: &str,
    kind: AggregateKind,
    table: String,
    variable: String,
    arguments: Vec<IdedExpr>,
) -> Result<Aggregate, Error> {
    let mut rest = arguments.into_iter().skip(2);
    let value = if kind.takes_a_value() { rest.next() } else { None };
    let condition = rest.next();
    if rest.next().is_some() {
        return Err(super::bad(source, &format!("`{}` takes fewer arguments", kind.name())));
    }
    let (mut lookup, mut left) = (None, None);
    let mut parts = Vec::new();
    condition.into_iter().for_each(|condition| conjuncts(condition, &mut parts));
    for part in parts {
        match (&lookup, looked_up(&part, &variable)) {
            (None, Some((field, wanted))) => {
                lookup = Some(Lookup { field, wanted: Expression::of_tree(source, wanted)? });
            }
            _ => left = Some(both(left, part)),
        }
    }
    let own = |tree: Option<IdedExpr>| tree.map(|tree| Expression::of_tree(source, tree)).transpose();
    let (value, condition) = (own(value)?, own(left)?);
    let all = value.iter().chain(&condition).chain(lookup.as_ref().map(|lookup| &lookup.wanted));
    if all.into_iter().any(Expression::asks_beyond) {
        let message = format!("`{}` and the like stand inside each other", kind.name());
        return Err(super::bad(source, &message));
    }
    Ok(Aggregate { kind, table, variable, value, lookup, condition })
}

/// The parts of a condition that must all hold.
fn conjuncts(condition: IdedExpr, out: &mut Vec<IdedExpr>) {
    match condition.expr {
        Expr::Call(call) if call.func_name == LOGICAL_AND && call.target.is_none() => {
            call.args.into_iter().for_each(|part| conjuncts(part, out));
        }
        _ => out.push(condition),
    }
}

fn both(first: Option<IdedExpr>, second: IdedExpr) -> IdedExpr {
    let Some(first) = first else { return second };
    let id = second.id;
    let call = CallExpr { func_name: LOGICAL_AND.to_owned(), target: None, args: vec![first, second] };
    IdedExpr { id, expr: Expr::Call(call) }
}

/// The field of `variable`, and what it is to be equal to or to have as an item, if that is what `part` says.
fn looked_up(part: &IdedExpr, variable: &str) -> Option<(String, IdedExpr)> {
    let Expr::Call(CallExpr { func_name, target: None, args }) = &part.expr else { return None };
    let [first, second] = &args[..] else { return None };
    let field = |side: &IdedExpr| {
        let Name { first, path, .. } = name(&side.expr)?;
        let field = path.strip_prefix(variable)?.strip_prefix('.')?;
        (first == variable).then(|| field.to_owned())
    };
    let sides = match func_name.as_str() {
        EQUALS => vec![(first, second), (second, first)],
        IN => vec![(second, first)],
        _ => return None,
    };
    let found = sides.into_iter().find_map(|(own, other)| Some((field(own)?, other)));
    found.filter(|(_, other)| !mentions(other, variable)).map(|(field, other)| (field, other.clone()))
}

/// Whether an expression speaks of `variable`.
fn mentions(expression: &IdedExpr, variable: &str) -> bool {
    if let Expr::Ident(own) = &expression.expr {
        return own == variable;
    }
    super::parts(expression).into_iter().any(|part| mentions(part, variable))
}
