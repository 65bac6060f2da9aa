//! From records of one table to records of another, as the schema maps them.

use super::add::{AddRequest, add};
use super::change::{Change, Note};
use super::column_style::ColumnStyles;
use super::named::find_named;
use super::remove::{RemoveRequest, remove};
use super::sequence::Sequence;
use super::set::{SetRequest, Sheet, SheetLine, set};
use crate::Error;
use crate::error::Refusal;
use crate::expressions::Value;
use crate::links::{Address, Labels};
use crate::project::Project;
use crate::rows::{ColumnPath, Formula, Others, Row, is_same_value};
use crate::schema::Transfer;
use std::collections::{BTreeMap, HashSet};

/// The transfer called `name`.
///
/// # Errors
/// When there is none, with the nearest name.
pub fn find_transfer<'p>(project: &'p Project, name: &str) -> Result<&'p Transfer, Error> {
    find_named(&project.schema.transfers, "transfer", name, |transfer| &transfer.name)
}

/// Builds the change that makes records of one table as those of another say. Values are compared by what they mean: one that
/// is the same stays as it is written.
///
/// # Errors
/// When an expression does not work for a record, two records give the same key, something cannot be written, or nothing
/// would change.
pub fn transfer(project: &Project, transfer: &Transfer) -> Result<Change, Error> {
    let mut sequence = Sequence::new(project, format!("transfer {}", transfer.name));
    let plan = plan(project, transfer).map_err(|error| of_transfer(transfer, error))?;
    let table = project.schema.tables[transfer.to].name.clone();
    let sheet = |lines: Vec<SheetLine>| Sheet {
        name: format!("the transfer {}", transfer.name),
        lines,
        is_exact: true,
    };
    if !plan.added.is_empty() {
        let request =
            AddRequest { table: table.clone(), sheet: Some(sheet(plan.added)), ..AddRequest::default() };
        sequence.push(add(sequence.project(), &request)?)?;
    }
    if !plan.set.is_empty() {
        let request =
            SetRequest { arguments: vec![table], sheet: Some(sheet(plan.set)), ..SetRequest::default() };
        match set(sequence.project(), &request) {
            Ok(change) => sequence.push(change)?,
            Err(Error::NothingToDo { .. }) => {}
            Err(error) => return Err(error),
        }
    }
    if !plan.removed.is_empty() {
        let request = RemoveRequest { addresses: plan.removed, ..RemoveRequest::default() };
        sequence.push(remove(sequence.project(), &request)?)?;
    }
    let change = sequence.finish();
    match change.files().is_empty() {
        true => Err(Error::nothing_to_do("all records are as the transfer makes them")),
        false => Ok(change.without(|note| matches!(note, Note::ReferredTo(_)))),
    }
}

/// What keeps a transfer from being done, with its place in the schema.
fn of_transfer(transfer: &Transfer, error: Error) -> Error {
    let help = error.help().unwrap_or_default();
    let (path, line) = (&transfer.place.path, transfer.place.line);
    let reason = format!("the transfer `{}` ({path}:{line}): {error}", transfer.name);
    Error::Refused(Box::new(Refusal { reason, help, problems: Vec::new() }))
}

/// What is to become of the records that something goes to.
#[derive(Default)]
struct Plan {
    added: Vec<SheetLine>,
    set: Vec<SheetLine>,
    removed: Vec<String>,
}

fn plan(project: &Project, transfer: &Transfer) -> Result<Plan, Error> {
    let labels = Labels::default();
    let others = Others::new(project.view(), &labels);
    let (from, to) = (others.rows(transfer.from)?, others.rows(transfer.to)?);
    let over_from = |source: &String| Formula::parse(source, &from, &[], &others);
    let when = transfer.when.as_ref().map(over_from).transpose()?;
    let key: Vec<Formula> = transfer.key.iter().map(over_from).collect::<Result<_, _>>()?;
    let set: Vec<Formula> =
        transfer.set.iter().map(|field| over_from(&field.value)).collect::<Result<_, _>>()?;
    let among =
        transfer.among.as_ref().map(|source| Formula::parse(source, &to, &[], &others)).transpose()?;
    let columns: Vec<Option<ColumnPath>> =
        transfer.set.iter().map(|field| ColumnPath::parse(&to, &field.name, &others).ok()).collect();
    let styles = ColumnStyles::default();
    let mut there: BTreeMap<String, &Row> = BTreeMap::new();
    for row in to.rows.iter().filter(|row| row.key.is_some()) {
        let is_meant = among.as_ref().map(|among| among.holds(&to, row, &[])).transpose()?;
        if is_meant.unwrap_or(true) {
            there.entry(row.shown_key()).or_insert(row);
        }
    }
    let name = &to.table.name;
    let mut out = Plan::default();
    let mut made: HashSet<String> = HashSet::new();
    for row in &from.rows {
        if let Some(when) = &when
            && !when.holds(&from, row, &[])?
        {
            continue;
        }
        let of_record = Address::show(&from.table.name, row.key.as_deref().unwrap_or_default());
        let mut parts = Vec::new();
        for part in &key {
            parts.push(part.answer(&from, row, &[])?.shown());
        }
        if parts.iter().any(String::is_empty) {
            return Err(Error::refused(format!("{of_record} gives no key"), "leave it out with `where`"));
        }
        let key = parts.join("/");
        if !made.insert(key.clone()) {
            return Err(Error::refused(
                format!("{of_record} gives the key `{key}`, as another record does"),
                "make the keys different, or leave one of them out with `where`",
            ));
        }
        let existing = there.get(&key);
        let mut values = Vec::new();
        for ((field, formula), column) in transfer.set.iter().zip(&set).zip(&columns) {
            let value = rounded(formula.answer(&from, row, &[])?, field.digits);
            let held = existing.zip(column.as_ref()).map(|(row, column)| column.held(&to, row));
            let is_so = held.is_some_and(|held| is_same_value(&rounded(held, field.digits), &value));
            // Nothing is left away in a new record, and empties a field of one that is there.
            if !is_so && (existing.is_some() || value != Value::Nothing) {
                let column = column.as_ref().and_then(ColumnPath::own_column);
                let old = existing.zip(column).map(|(row, column)| row.text(column)).unwrap_or_default();
                let text = match column {
                    Some(column) => styles.of(&to, column).written(&old, &value),
                    None => value.shown(),
                };
                values.push((field.name.clone(), text));
            }
        }
        let number = row.number.into();
        match existing {
            None => out.added.push(SheetLine { number, key, values }),
            Some(_) if values.is_empty() => {}
            Some(_) => out.set.push(SheetLine { number, key, values }),
        }
    }
    if transfer.remove {
        let gone = there.keys().filter(|key| !made.contains(*key));
        out.removed.extend(gone.map(|key| Address::show(name, key)));
    }
    Ok(out)
}

/// A number rounded to so many digits behind the point.
fn rounded(value: Value, digits: Option<u8>) -> Value {
    match (value, digits) {
        (Value::Number(number), Some(digits)) => {
            let scale = 10f64.powi(digits.into());
            let rounded = (number * scale).round() / scale;
            // What is too large for that has no digits behind the point.
            Value::Number(if rounded.is_finite() { rounded } else { number })
        }
        (other, _) => other,
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case(Value::Number(1.2345), Some(2), Value::Number(1.23))]
    #[case(Value::Number(-1.235), Some(2), Value::Number(-1.24))]
    #[case(Value::Number(7.5), Some(0), Value::Number(8.0))]
    #[case(Value::Number(7.5), None, Value::Number(7.5))]
    #[case(Value::Number(1e300), Some(15), Value::Number(1e300))]
    #[case(Value::Text("1.234".to_owned()), Some(1), Value::Text("1.234".to_owned()))]
    fn numbers_are_rounded(#[case] value: Value, #[case] digits: Option<u8>, #[case] rounded_to: Value) {
        assert_eq!(rounded(value, digits), rounded_to);
    }
}
