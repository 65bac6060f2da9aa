//! What computed fields should hold.

use super::{ColumnPath, Formula, Others, Rows};
use crate::Error;
use crate::expressions::{Expression, Value};
use crate::schema::{Computed, Schema};
use crate::text::number;
use std::collections::HashMap;
use std::sync::Arc;

/// The records of a computed field, with what it should hold.
#[derive(Debug)]
pub struct ComputedValues {
    /// The rows of the table.
    pub rows: Arc<Rows>,
    /// The position of the field among the columns of the rows.
    pub column: usize,
    /// For each row that has a value, its position and the value.
    pub values: Vec<(usize, Value)>,
    path: ColumnPath,
}

/// Tells `others` what a computed field will ask of tables, so that each is read once for all of them.
pub fn declare_needs(computed: &Computed, others: &Others<'_>) {
    others.will_need(computed.table, [computed.field.clone()]);
    computed
        .when
        .iter()
        .chain([&computed.value])
        .for_each(|source| others.will_need_of(computed.table, source));
}

impl ComputedValues {
    /// Works out what the records of a computed field should hold. One for which nothing follows is left out.
    ///
    /// # Errors
    /// When the table has no such field, an expression is wrong or cannot be worked out for a record, or a file cannot
    /// be read.
    pub fn of(schema: &Schema, computed: &Computed, others: &Others<'_>) -> Result<ComputedValues, Error> {
        let mut needed = vec![computed.field.clone()];
        for source in computed.when.iter().chain([&computed.value]) {
            needed.extend(Expression::parse(source)?.all_names());
        }
        let rows = others.rows_needed(computed.table, &needed)?;
        let path = ColumnPath::parse(&rows, &computed.field, others)?;
        let Some(column) = path.own_column() else { return Err(rows.no_column(&computed.field)) };
        let formula = |source: &String| Formula::parse(source, &rows, &[], others);
        let (when, value) = (computed.when.as_ref().map(formula).transpose()?, formula(&computed.value)?);
        let mut values = Vec::new();
        let mut is_there = computed.record.is_none();
        for (at, row) in rows.rows.iter().enumerate() {
            if row.key.is_none() {
                continue;
            }
            if let Some(record) = &computed.record {
                if row.shown_key() != *record {
                    continue;
                }
                is_there = true;
            }
            if let Some(when) = &when
                && !when.holds(&rows, row, &[])?
            {
                continue;
            }
            match value.answer(&rows, row, &[])? {
                Value::Nothing => {}
                value => values.push((at, value)),
            }
        }
        if !is_there {
            return Err(Error::Unknown {
                what: "record",
                name: computed.record.clone().unwrap_or_default(),
                help: format!("it is to be a record of `{}`", schema.tables[computed.table].name).into(),
            });
        }
        Ok(ComputedValues { rows, column, values, path })
    }

    /// What the field holds in a row, as it is shown.
    pub fn held(&self, row: usize) -> String {
        self.rows.rows[row].text(self.column).into_owned()
    }

    /// The rows that hold something else, with what they should hold.
    pub fn differing(&self) -> impl Iterator<Item = (usize, &Value)> {
        let differs = |(row, value): &&(usize, Value)| {
            let held = self.path.held(&self.rows, &self.rows.rows[*row]);
            !is_same_value(&held, value)
        };
        self.values.iter().filter(differs).map(|(row, value)| (*row, value))
    }

    /// What the field holds in each row that has a value, and what it should hold, by key.
    pub fn by_key(&self) -> HashMap<&str, (String, String)> {
        let entry = |(row, value): &(usize, Value)| {
            let key = self.rows.rows[*row].key.as_deref()?;
            Some((key, (self.held(*row), value.shown())))
        };
        self.values.iter().filter_map(entry).collect()
    }
}

/// Whether a field holds the value that is wanted, however it is written.
pub fn is_same_value(held: &Value, wanted: &Value) -> bool {
    match (held, wanted) {
        (Value::Text(text), Value::Number(wanted)) => number(text.trim())
            .is_some_and(|held| Value::Number(held).shown() == Value::Number(*wanted).shown()),
        (Value::Text(text), Value::Truth(wanted)) => {
            let words = if *wanted { ["true", "yes", "1"] } else { ["false", "no", "0"] };
            words.iter().any(|word| text.eq_ignore_ascii_case(word))
        }
        (Value::List(held), Value::List(wanted)) => {
            held.len() == wanted.len()
                && held.iter().zip(wanted).all(|(held, wanted)| is_same_value(held, wanted))
        }
        _ => held.shown() == wanted.shown(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn text(text: &str) -> Value {
        Value::Text(text.to_owned())
    }

    #[rstest]
    #[case::number(Value::Number(3.0), Value::Number(3.0), true)]
    #[case::other_number(Value::Number(3.0), Value::Number(4.0), false)]
    #[case::third(Value::Number(0.333_333_333_333_3), Value::Number(1.0 / 3.0), true)]
    #[case::number_in_a_column_of_texts(text("03.0"), Value::Number(3.0), true)]
    #[case::word_for_a_number(text("three"), Value::Number(3.0), false)]
    #[case::nothing_for_a_number(Value::Nothing, Value::Number(0.0), false)]
    #[case::truth_as_a_word(text("Yes"), Value::Truth(true), true)]
    #[case::other_truth(text("no"), Value::Truth(true), false)]
    #[case::text(text("salt"), text("salt"), true)]
    #[case::case_counts(text("Salt"), text("salt"), false)]
    #[case::list(Value::List(vec![text("1"), text("2")]), Value::List(vec![Value::Number(1.0), Value::Number(2.0)]), true)]
    #[case::shorter_list(Value::List(vec![text("1")]), Value::List(vec![]), false)]
    fn values_are_compared_by_what_they_mean(#[case] held: Value, #[case] wanted: Value, #[case] same: bool) {
        assert_eq!(is_same_value(&held, &wanted), same);
    }
}
