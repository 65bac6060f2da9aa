//! How the values of a column are written, so that new ones are written alike.

use super::row_values::truth_like;
use crate::expressions::Value;
use crate::rows::Rows;
use crate::text::{number, written_like};
use std::cell::RefCell;
use std::collections::HashMap;
use std::rc::Rc;

/// So many records are looked at for what only shows how lists are written.
const LOOKED_AT: usize = 1000;

/// How the values of a column are written.
#[derive(Debug)]
pub(super) struct ColumnStyle {
    /// Whether it holds lists.
    pub is_list: bool,
    /// Whether its numbers have zeros at the end of their decimals, so that all have as many.
    pub has_fixed_decimals: bool,
    /// What stands between two items, in the first list that has two.
    pub gap: Option<String>,
    /// The first of its values that is a number.
    number: Option<String>,
    /// The first of its values that is a truth.
    truth: Option<String>,
}

impl ColumnStyle {
    /// That of `column` in `rows`. Cost: a pass over the rows.
    fn of(rows: &Rows, column: usize) -> ColumnStyle {
        let fixed = |text: &str| {
            let decimals = text.split_once('.').map_or("", |(_, decimals)| decimals);
            decimals.len() > 1 && decimals.ends_with('0') && number(text).is_some()
        };
        let list = rows.table.fields[rows.fields[column]].list.as_ref();
        let gap = list.and_then(|list| {
            let found = rows.rows.iter().take(LOOKED_AT).find_map(|row| {
                let text = &row.cells[column].as_ref()?.text;
                match &list.items(text)[..] {
                    [.., before, last] => text.get(before.within.end..last.within.start),
                    _ => None,
                }
            });
            found.filter(|gap| !gap.contains('"')).map(str::to_owned)
        });
        let first = |is: &dyn Fn(&str) -> bool| {
            let mut texts = rows.rows.iter().map(|row| row.text(column));
            texts.find(|text| is(text)).map(std::borrow::Cow::into_owned)
        };
        let truths = ["true", "false", "yes", "no", "1", "0"];
        ColumnStyle {
            is_list: rows.is_list(column),
            has_fixed_decimals: rows.rows.iter().any(|row| fixed(&row.text(column))),
            gap,
            number: first(&|text| number(text).is_some()),
            truth: first(&|text| truths.iter().any(|truth| text.eq_ignore_ascii_case(truth))),
        }
    }

    /// A number as the value `old` is written; if that is none, as the others of the column are.
    pub fn number(&self, old: &str, new: f64) -> String {
        let model = match (number(old), &self.number) {
            (None, Some(other)) => other,
            _ => old,
        };
        written_like(model, new, self.has_fixed_decimals)
    }

    /// A truth as the value `old` says it; if that is none, as the others of the column do.
    pub fn truth(&self, old: &str, new: bool) -> String {
        truth_like(if old.is_empty() { self.truth.as_deref().unwrap_or_default() } else { old }, new)
    }

    /// What an expression gave, as the file would hold it in place of `old`.
    pub fn written(&self, old: &str, new: &Value) -> String {
        match new {
            Value::Number(new) => self.number(old, *new),
            Value::Truth(new) => self.truth(old, *new),
            other => other.shown(),
        }
    }
}

/// The styles of the columns that were asked for.
#[derive(Debug, Default)]
pub(super) struct ColumnStyles(RefCell<HashMap<usize, Rc<ColumnStyle>>>);

impl ColumnStyles {
    /// That of `column` in `rows`, looked at once.
    pub fn of(&self, rows: &Rows, column: usize) -> Rc<ColumnStyle> {
        let mut known = self.0.borrow_mut();
        Rc::clone(known.entry(column).or_insert_with(|| Rc::new(ColumnStyle::of(rows, column))))
    }
}
