//! The values of one row while assignments are made to it: items of lists, parts of values, families of columns.

use super::assignment::{FieldTarget, ItemPlace};
use super::column_style::{ColumnStyle, ColumnStyles};
use super::field_value::{Prepared, What};
use super::list_edit::{ListValue, with_part};
use crate::Error;
use crate::expressions::Value;
use crate::rows::{Row, Rows};
use crate::schema::{Field, Layout, ValueRule, ValueType};
use crate::text::{number, written_like};
use std::collections::BTreeMap;
use std::rc::Rc;

/// The values of one row, as they become.
pub(super) struct RowValues<'s> {
    rows: &'s Rows,
    row: &'s Row,
    styles: &'s ColumnStyles,
    columns: BTreeMap<usize, Vec<String>>,
}

impl<'s> RowValues<'s> {
    /// Those of `row`. What is found out about how columns are written is kept in `styles`.
    pub fn new(rows: &'s Rows, row: &'s Row, styles: &'s ColumnStyles) -> RowValues<'s> {
        RowValues { rows, row, styles, columns: BTreeMap::new() }
    }

    fn field(&self, column: usize) -> &Field {
        &self.rows.table.fields[self.rows.fields[column]]
    }

    fn rule(&self, column: usize) -> &ValueRule {
        &self.rows.table.rules[self.field(column).layout.rules()[0]]
    }

    fn of_column(&mut self, column: usize) -> &mut Vec<String> {
        let row = self.row;
        self.columns.entry(column).or_insert_with(|| {
            row.cells[column].iter().flat_map(|cell| cell.values().map(str::to_owned)).collect()
        })
    }

    /// What the file does not have of it yet: the fields, and all values of each.
    pub fn changed(self) -> Vec<(usize, Vec<String>)> {
        let (rows, row) = (self.rows, self.row);
        let differs = |(column, values): &(usize, Vec<String>)| {
            let old = row.cells[*column].iter().flat_map(|cell| cell.values());
            !old.eq(values.iter().map(String::as_str))
        };
        let columns = self.columns.into_iter().filter(differs);
        columns.map(|(column, values)| (rows.fields[column], values)).collect()
    }

    /// All that was set, also where it is as before: the fields, and all values of each.
    pub fn set(self) -> Vec<(usize, Vec<String>)> {
        let rows = self.rows;
        self.columns.into_iter().map(|(column, values)| (rows.fields[column], values)).collect()
    }

    /// Does what an assignment says; gives whether there was something to do.
    ///
    /// # Errors
    /// When the record has no such item, several values where one is meant, or no room; with its address.
    pub fn apply(&mut self, prepared: &Prepared) -> Result<bool, Error> {
        let what = match &prepared.what {
            What::Formula(formula) => {
                let value = formula.answer(self.rows, self.row, &[])?;
                Step::Set(self.computed(&prepared.target, value)?)
            }
            What::Free(values) => Step::Set(values.borrow_mut().next().unwrap_or_default()),
            What::Text(text) => Step::Set(text.clone()),
            What::AddItem(item, place) => Step::Add(item.clone(), *place),
            What::RemoveItem(names) => Step::Remove(names.clone()),
        };
        let done = match prepared.target.is_family {
            true => self.in_family(&prepared.target, what),
            false => self.in_column(&prepared.target, what),
        };
        done.map_err(|reason| self.refused(&prepared.target, &reason))
    }

    fn refused(&self, target: &FieldTarget, reason: &str) -> Error {
        let address =
            crate::links::Address::show(&self.rows.table.name, self.row.key.as_deref().unwrap_or_default());
        Error::refused(format!("{address}: `{}`: {reason}", target.name), "nothing was changed")
    }

    /// What an expression gave, as the file would hold it.
    fn computed(&self, target: &FieldTarget, value: Value) -> Result<String, Error> {
        let column = target.columns[0];
        let old = self.row.text(column);
        Ok(match value {
            Value::Number(new) => {
                let own = self.part_of(target, &old).unwrap_or_else(|| old.clone().into_owned());
                self.style(column).number(&own, new)
            }
            Value::Truth(truth) => self.style(column).truth(&old, truth),
            Value::Nothing => {
                let reason =
                    "the expression gives nothing: it divides by zero, or uses a value that is not there";
                return Err(self.refused(target, reason));
            }
            Value::List(items) if self.field(column).list.is_none() => {
                let items: Vec<String> = items.iter().map(Value::shown).collect();
                serde_json::to_string(&items).unwrap_or_default()
            }
            Value::List(items) => {
                let none = || self.rule(column).none.first().cloned().unwrap_or_default();
                let style = self.style(column);
                let mut list = ListValue::new(&self.rows.table, self.field(column), "", style.gap.as_deref());
                for (at, item) in items.iter().enumerate() {
                    if let Some(list) = &mut list {
                        list.insert(at, &item.shown()).map_err(|reason| self.refused(target, &reason))?;
                    }
                }
                if items.is_empty() { none() } else { list.map(ListValue::into_value).unwrap_or_default() }
            }
            Value::Text(text) => text,
            Value::Record(_) => return Err(self.refused(target, "a record is no value of a field")),
        })
    }

    /// What the part that `target` speaks of says in `value`.
    fn part_of(&self, target: &FieldTarget, value: &str) -> Option<String> {
        let part = target.part.as_ref()?;
        let Layout::Parts(template, _) = &self.field(target.columns[0]).layout else { return None };
        let at = template.parts().iter().position(|own| own == part)?;
        let place = template.matches(value)?.into_iter().nth(at)??;
        Some(value[place].to_owned())
    }

    /// How the values of a column are written.
    fn style(&self, column: usize) -> Rc<ColumnStyle> {
        self.styles.of(self.rows, column)
    }

    /// `text` as the column holds it: a number is written as the one before, where the schema says that it is one.
    fn styled(&self, column: usize, old: &str, text: String) -> String {
        let numeric = matches!(self.rule(column).kind, ValueType::Integer | ValueType::Number);
        match (number(old), number(&text)) {
            (Some(_), Some(new)) if numeric => {
                let styled = written_like(old, new, self.style(column).has_fixed_decimals);
                // More digits than the old one has were meant.
                if styled.len() >= text.len() { styled } else { text }
            }
            _ => text,
        }
    }

    /// `value` with `text` in place of the part that `target` speaks of.
    fn with_part(&self, target: &FieldTarget, value: &str, text: String) -> Result<String, String> {
        let column = target.columns[0];
        let Some(part) = &target.part else { return Ok(self.styled(column, value, text)) };
        let Layout::Parts(template, _) = &self.field(column).layout else {
            return Err("it has no parts".to_owned());
        };
        let at = template.parts().iter().position(|own| own == part);
        let matched = template.matches(value);
        let place = at.zip(matched).and_then(|(at, parts)| parts.into_iter().nth(at)?);
        let place = place.ok_or_else(|| {
            format!("`{value}` does not have the shape `{}`, in which `{part}` is a part", template.source())
        })?;
        let old = &value[place.clone()];
        let styled = number(&text).filter(|_| number(old).is_some()).map(|new| written_like(old, new, false));
        let text = styled.filter(|styled| styled.len() >= text.len()).unwrap_or(text);
        with_part(value, place, &text).ok_or_else(|| "it cannot be written".to_owned())
    }

    fn in_column(&mut self, target: &FieldTarget, step: Step) -> Result<bool, String> {
        let column = target.columns[0];
        let old = self.of_column(column).clone();
        let (rows, is_array) = (self.rows, self.style(column).is_list);
        let field = &rows.table.fields[rows.fields[column]];
        let one = old.first().cloned().unwrap_or_default();
        let new = if field.list.is_some() && !(old.len() > 1 && is_whole(&step, target)) {
            match (step, target.item, &target.part) {
                (Step::Set(text), None, None) => vec![text],
                (step, ..) => match self.in_lists(target, field, old, step)? {
                    Some(values) => values,
                    None => return Ok(false),
                },
            }
        } else {
            let mut values = old.clone();
            match (step, target.item) {
                (Step::Set(text), None) if is_array && target.part.is_none() && is_written_list(&text) => {
                    values = written_items(&text)?;
                }
                (Step::Set(text), None) if values.len() < 2 => {
                    values = vec![self.with_part(target, &one, text)?]
                }
                (Step::Set(_), None) => {
                    return Err(format!("it has {} values, and one must be named", values.len()));
                }
                (Step::Set(text), Some(at)) => {
                    let count = values.len();
                    let own = values.get_mut(at).ok_or_else(|| no_item(at, count))?;
                    *own = self.with_part(target, own, text)?;
                }
                (Step::Add(item, place), _) => values.insert(place.number(values.len()), item),
                (Step::Remove(names), _) => match position(&values, &names, field) {
                    Some(at) => {
                        values.remove(at);
                    }
                    None => return Ok(false),
                },
            }
            values
        };
        *self.of_column(column) = new;
        Ok(true)
    }

    /// Changes an item of a list with separators, which may go over several values: over several lines of the file.
    fn in_lists(
        &self,
        target: &FieldTarget,
        field: &Field,
        mut values: Vec<String>,
        step: Step,
    ) -> Result<Option<Vec<String>>, String> {
        let column = target.columns[0];
        if values.is_empty() {
            values.push(String::new());
        }
        let style = self.style(column);
        let list = |value: &str| ListValue::new(&self.rows.table, field, value, style.gap.as_deref());
        let counts: Vec<usize> =
            values.iter().map(|value| list(value).map_or(0, |list| list.items().len())).collect();
        let all: usize = counts.iter().sum();
        // The value that has an item, and its number there.
        let find = |at: usize| {
            let mut at = at;
            counts
                .iter()
                .position(|count| {
                    let is_here = at < *count;
                    at -= if is_here { 0 } else { *count };
                    is_here
                })
                .map(|value| (value, at))
        };
        let at = match &step {
            Step::Set(_) => {
                let at = match (target.item, all) {
                    (Some(at), _) => at,
                    (None, 1) => 0,
                    (None, _) => return Err(format!("it has {all} items, and one must be named")),
                };
                find(at).ok_or_else(|| no_item(at, all))?
            }
            Step::Add(_, place) => {
                let last = values.len() - 1;
                find(place.number(all)).unwrap_or((last, counts[last]))
            }
            Step::Remove(names) => {
                let items: Vec<String> =
                    values.iter().filter_map(|value| list(value)).flat_map(|list| list.items()).collect();
                match position(&items, names, field).and_then(find) {
                    Some(found) => found,
                    None => return Ok(None),
                }
            }
        };
        let Some(mut own) = list(&values[at.0]) else { return Ok(None) };
        match step {
            Step::Set(text) => {
                let item = own.items().swap_remove(at.1);
                own.replace(at.1, &self.with_part(target, &item, text)?)?;
            }
            Step::Add(item, _) => own.insert(at.1, &item)?,
            Step::Remove(_) => own.remove(at.1),
        }
        values[at.0] = own.into_value();
        Ok(Some(values))
    }

    /// Changes one of several columns that are taken as one list: empty ones are room in it.
    fn in_family(&mut self, target: &FieldTarget, step: Step) -> Result<bool, String> {
        if target.part.is_some() {
            return Err("a part is one of a value, and this is several columns".to_owned());
        }
        let mut slots: Vec<String> = Vec::new();
        for column in &target.columns {
            slots.push(self.of_column(*column).first().cloned().unwrap_or_default());
        }
        let rules: Vec<&ValueRule> = target.columns.iter().map(|column| self.rule(*column)).collect();
        let is_free = |slot: &String| rules.iter().any(|rule| rule.is_none(slot));
        let used = slots.iter().rposition(|slot| !is_free(slot)).map_or(0, |last| last + 1);
        match step {
            Step::Set(text) => {
                let at = target.item.ok_or_else(|| {
                    format!("it is {} columns, and one must be named", target.columns.len())
                })?;
                let count = slots.len();
                let slot = slots.get_mut(at).ok_or_else(|| no_item(at, count))?;
                *slot = self.styled(target.columns[at], slot, text);
            }
            Step::Add(item, place) => {
                let at = place.number(used);
                let room = (at..slots.len()).find(|slot| is_free(&slots[*slot]));
                let room =
                    room.or_else(|| slots.iter().position(is_free).filter(|_| place == ItemPlace::Last));
                let room = room.ok_or_else(|| format!("all {} columns are taken", slots.len()))?;
                slots.remove(room);
                slots.insert(at.min(room), item);
            }
            Step::Remove(names) => {
                let Some(at) = slots.iter().position(|slot| names.contains(slot)) else { return Ok(false) };
                let none = slots.iter().find(|slot| is_free(slot)).cloned();
                let none = none.or_else(|| rules[used - 1].none.first().cloned()).unwrap_or_default();
                slots.remove(at);
                slots.insert(used - 1, none);
            }
        }
        for (column, slot) in target.columns.iter().zip(slots) {
            let own = self.of_column(*column);
            if own.first() != Some(&slot) && !(own.is_empty() && slot.is_empty()) {
                *own = vec![slot];
            }
        }
        Ok(true)
    }
}

/// Whether all values of a field are meant at once.
fn is_whole(step: &Step, target: &FieldTarget) -> bool {
    matches!(step, Step::Set(_)) && target.item.is_none() && target.part.is_none()
}

/// What is done to a value.
enum Step {
    Set(String),
    Add(String, ItemPlace),
    Remove([String; 2]),
}

impl ItemPlace {
    /// The number that something gets in a list of `count` items, from 0 on.
    fn number(self, count: usize) -> usize {
        match self {
            ItemPlace::Last => count,
            ItemPlace::At(at) => at.min(count),
        }
    }
}

fn no_item(at: usize, count: usize) -> String {
    match count {
        0 => "it has no items".to_owned(),
        1 => format!("it has no item {}, only one", at + 1),
        _ => format!("it has no item {}, only {count}", at + 1),
    }
}

/// Which of `items` is one of `names`; or which has one of them as a part, where items have parts.
fn position(items: &[String], names: &[String; 2], field: &Field) -> Option<usize> {
    let has_part = |item: &String| match &field.layout {
        Layout::Parts(template, _) => template.matches(item).is_some_and(|parts| {
            parts.into_iter().flatten().any(|place| names.iter().any(|name| item[place.clone()] == **name))
        }),
        _ => false,
    };
    items.iter().position(|item| names.contains(item)).or_else(|| items.iter().position(has_part))
}

/// Whether `text` is a whole list, in square brackets.
fn is_written_list(text: &str) -> bool {
    text.trim().starts_with('[') && text.trim().ends_with(']')
}

/// The items of a list in square brackets, as JSON has them (RFC 8259, section 5); numbers as they are written, and words
/// without quotes as texts.
fn written_items(text: &str) -> Result<Vec<String>, String> {
    let inner = &text.trim()[1..text.trim().len() - 1];
    if inner.trim().is_empty() {
        return Ok(Vec::new());
    }
    let (mut items, mut from, mut quoted, mut escaped) = (Vec::new(), 0, false, false);
    let ends = inner.char_indices().filter(|(_, next)| {
        let is_end = *next == ',' && !quoted;
        quoted ^= *next == '"' && !escaped;
        escaped = *next == '\\' && !escaped;
        is_end
    });
    let ends: Vec<usize> = ends.map(|(at, _)| at).chain([inner.len()]).collect();
    for end in ends {
        let item = inner[from..end].trim();
        items.push(match item.starts_with('"') {
            true => serde_json::from_str(item).map_err(|_| format!("`{item}` is no text in quotes"))?,
            false if item.is_empty() => return Err(format!("`{text}` has an empty item")),
            false => item.to_owned(),
        });
        from = end + 1;
    }
    Ok(items)
}

/// A truth as the value `old` says it.
pub(super) fn truth_like(old: &str, truth: bool) -> String {
    let (yes, no) = match old.to_ascii_lowercase().as_str() {
        "yes" | "no" => ("yes", "no"),
        "1" | "0" => ("1", "0"),
        _ => ("true", "false"),
    };
    let word = if truth { yes } else { no };
    let letters = || old.chars().filter(|letter| letter.is_alphabetic());
    if letters().count() > 1 && letters().all(char::is_uppercase) {
        word.to_uppercase()
    } else if letters().next().is_some_and(char::is_uppercase) {
        let mut chars = word.chars();
        chars
            .next()
            .map(|first| first.to_uppercase().collect::<String>() + chars.as_str())
            .unwrap_or_default()
    } else {
        word.to_owned()
    }
}

#[cfg(test)]
mod tests {
    use super::{truth_like, written_items};
    use rstest::rstest;

    #[rstest]
    #[case("[]", &[])]
    #[case(" [ ] ", &[])]
    #[case("[coal]", &["coal"])]
    #[case("[coal, peat moss ,3]", &["coal", "peat moss", "3"])]
    #[case(r#"["coal, wet", peat]"#, &["coal, wet", "peat"])]
    #[case(r#"["a \"b\", c", ""]"#, &["a \"b\", c", ""])]
    #[case(r#"["ends in \\", d]"#, &["ends in \\", "d"])]
    #[case("[żółw,é]", &["żółw", "é"])]
    fn a_list_is_split_at_commas_outside_quotes(#[case] text: &str, #[case] items: &[&str]) {
        assert_eq!(written_items(text).expect("a list"), items);
    }

    #[rstest]
    #[case("[coal,,peat]", "empty item")]
    #[case("[coal,]", "empty item")]
    #[case("[,]", "empty item")]
    #[case(r#"["coal]"#, "no text in quotes")]
    #[case(r#"["coal" peat]"#, "no text in quotes")]
    fn a_list_that_is_none_is_refused(#[case] text: &str, #[case] reason: &str) {
        let refused = written_items(text).expect_err("no list");
        assert!(refused.contains(reason), "{refused}");
    }

    #[rstest]
    #[case("yes", "no")]
    #[case("No", "No")]
    #[case("YES", "NO")]
    #[case("1", "0")]
    #[case("True", "False")]
    #[case("TRUE", "FALSE")]
    #[case("", "false")]
    #[case("on", "false")]
    fn a_truth_is_written_as_the_old_one_was(#[case] old: &str, #[case] new: &str) {
        assert_eq!(truth_like(old, false), new);
    }
}
