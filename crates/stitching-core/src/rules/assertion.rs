//! A condition that must hold for each record, or for records that are held together.

use super::{Findings, Found, Scope};
use crate::Error;
use crate::expressions::Value;
use crate::rows::{Formula, Others, Row, Rows};
use rayon::prelude::*;

/// Of more names than these the values are not told.
const MOST_VALUES: usize = 4;

/// The rows `about` for which `source` does not hold.
pub(super) fn of_records(
    rows: &Rows,
    others: &Others<'_>,
    source: &str,
    about: Vec<usize>,
) -> Result<Findings, Error> {
    let formula = Formula::parse(source, rows, &[], others)?;
    let column = formula.columns().first().copied();
    let of_row = |mut findings: Findings, at: usize| {
        let row = &rows.rows[at];
        match outcome(formula.answer(rows, row, &[]), &formula, rows, row, source) {
            Ok(None) => {}
            Ok(Some((message, missing))) => {
                findings.add(Found { missing, ..Found::new(at, column, message) });
            }
            Err(error) => findings.fail(error),
        }
        findings
    };
    let found = about.into_par_iter().fold(Findings::default, of_row);
    Ok(found.reduce(Findings::default, Findings::merge))
}

/// The groups for which `source` does not hold.
pub(super) fn of_groups(scope: &Scope<'_>, source: &str) -> Result<Findings, Error> {
    let formula = Formula::over_group(source, scope.rows, scope.others)?;
    let column = formula.columns().first().copied().or_else(|| scope.by.first()?.own_column());
    Ok(scope.each_group(|group, findings| {
        let Some(first) = group.first().copied() else { return };
        let answer = formula.answer_for(scope.rows, first, group);
        match outcome(answer, &formula, scope.rows, scope.row(first), source) {
            Ok(None) => {}
            Ok(Some((message, missing))) => {
                let shown = |path: &crate::rows::ColumnPath| {
                    format!("{} `{}`", path.name, path.shown(scope.rows, scope.row(first)))
                };
                let by: Vec<String> = scope.by.iter().map(shown).collect();
                let of = if by.is_empty() { "the table".to_owned() } else { by.join(", ") };
                let records = if group.len() == 1 { "record" } else { "records" };
                let message = format!("{message} (of {of}, {} {records})", group.len());
                findings.add(Found { missing, ..Found::new(first, column, message) });
            }
            Err(error) => findings.fail(error),
        }
    }))
}

/// What is wrong, by what the condition gave for `row`, and which of its names are empty; `None` if it holds.
fn outcome(
    answer: Result<Value, Error>,
    formula: &Formula,
    rows: &Rows,
    row: &Row,
    source: &str,
) -> Result<Option<(String, Vec<String>)>, Error> {
    match answer {
        Ok(Value::Truth(true)) => return Ok(None),
        Ok(Value::Truth(false) | Value::Nothing) => {}
        Ok(other) => {
            let address = format!("{}:{}", rows.table.name, row.shown_key());
            return Err(Error::Usage {
                message: format!("`{source}` gives `{}` for {address}, not true or false", other.brief()),
                help: "write a condition, such as `Depth > 5`".into(),
            });
        }
        // What is not there makes the condition fail, not the rule.
        Err(error) if formula.missing(rows, row).is_empty() => return Err(error),
        Err(_) => {}
    }
    let (mut missing, mut values) = (Vec::new(), Vec::new());
    for (name, value) in formula.values(rows, row) {
        match value.brief() {
            empty if empty.is_empty() => missing.push(name.to_owned()),
            value => values.push(format!("{name} is `{value}`")),
        }
    }
    values.truncate(MOST_VALUES);
    let empty = missing.iter().map(|name| format!("`{name}` is empty"));
    let told: Vec<String> = empty.chain(values).collect();
    let mut message = format!("`{source}` does not hold");
    if !told.is_empty() {
        message.push_str(": ");
        message.push_str(&told.join(", "));
    }
    Ok(Some((message, missing)))
}
