//! What a field holds after it was set: values as people give them, made into what the file holds.

use super::assignment::{Action, FieldTarget, ItemPlace};
use super::column_style::ColumnStyles;
use super::record_finder::RecordFinder;
use super::row_values::RowValues;
use crate::Error;
use crate::project::Project;
use crate::reading::View;
use crate::rows::{Formula, Row, Rows};
use crate::schema::{Field, Target, ValueRule, ValueType};
use crate::tables::shown_key;
use crate::views::{FreeRequest, free};
use std::cell::RefCell;
use std::rc::Rc;

/// The word that stands for the next free value.
const NEW: &str = "new";

/// Works out values for the records of one table.
pub(super) struct FieldValues<'v, 'p> {
    project: &'p Project,
    finder: &'v mut RecordFinder<'p>,
    rows: &'v Rows,
    /// For how many records values are wanted.
    count: usize,
    /// So many of the values that are free are given away already.
    skipped: usize,
    styles: Rc<ColumnStyles>,
}

/// An assignment, understood.
pub(super) struct Prepared {
    pub target: FieldTarget,
    pub what: What,
}

/// What is to happen to a field, understood.
pub(super) enum What {
    /// This text.
    Text(String),
    /// The next of these, each once.
    Free(RefCell<std::vec::IntoIter<String>>),
    Formula(Box<Formula>),
    AddItem(String, ItemPlace),
    /// The item, as given and as the file may hold it.
    RemoveItem([String; 2]),
}

impl<'v, 'p> FieldValues<'v, 'p> {
    pub fn new(
        project: &'p Project,
        finder: &'v mut RecordFinder<'p>,
        rows: &'v Rows,
        count: usize,
    ) -> FieldValues<'v, 'p> {
        FieldValues { project, finder, rows, count, skipped: 0, styles: Rc::default() }
    }

    /// As it is, with what was found out before about how the columns are written.
    pub fn styled(mut self, styles: Rc<ColumnStyles>) -> FieldValues<'v, 'p> {
        self.styles = styles;
        self
    }

    /// As it is, but passing over the first `skipped` of the values that are free.
    pub fn skipping(mut self, skipped: usize) -> FieldValues<'v, 'p> {
        self.skipped = skipped;
        self
    }

    fn field(&self, target: &FieldTarget) -> &'v Field {
        &self.rows.table.fields[self.rows.fields[target.columns[0]]]
    }

    /// Understands what is to happen to a field: references given by a name become what the file holds.
    ///
    /// # Errors
    /// When an expression is wrong, a name is that of several records, or no value is free.
    pub fn prepare(&mut self, target: &FieldTarget, action: &Action) -> Result<Prepared, Error> {
        let what = match action {
            Action::Set(text) if text == NEW && self.may_be_new(target) => What::Free(self.free(target)?),
            Action::Set(text) => What::Text(self.named(target, text)?),
            Action::Write(text) => What::Text(text.clone()),
            Action::Compute(source) => {
                What::Formula(Box::new(Formula::parse(source, self.rows, &[], self.finder.others())?))
            }
            Action::AddItem(item, place) => What::AddItem(self.named(target, item)?, *place),
            Action::RemoveItem(item) => What::RemoveItem([item.clone(), self.named(target, item)?]),
        };
        Ok(Prepared { target: target.clone(), what })
    }

    /// Whether a free value can be given: in a field of numbers, or one in which no value may be there twice.
    fn may_be_new(&self, target: &FieldTarget) -> bool {
        let rules = self.field(target).layout.rules().into_iter().map(|rule| &self.rows.table.rules[rule]);
        let whole = target.part.is_none() && target.item.is_none() && !target.is_family;
        whole && rules.into_iter().any(|rule| rule.unique || rule.kind == ValueType::Integer)
    }

    fn free(&self, target: &FieldTarget) -> Result<RefCell<std::vec::IntoIter<String>>, Error> {
        let name = self.field(target).name.clone();
        let whole = format!("{}.{name}", self.rows.table.name);
        let request = FreeRequest {
            block: self.project.schema.reserved_numbers(self.rows.id, &name),
            field: Some(name),
            count: self.count + self.skipped,
            ..FreeRequest::default()
        };
        let found = free(View::top(&self.project.stack, &self.project.schema), self.rows.id, &request)?;
        if found.values.len() < self.count + self.skipped {
            return Err(Error::refused(
                format!(
                    "only {} values of `{whole}` are free, and {} are wanted",
                    found.values.len(),
                    self.count
                ),
                "a wider `range` in the schema gives room; nothing was changed",
            ));
        }
        let values: Vec<String> =
            found.values.into_iter().skip(self.skipped).map(|(_, value)| value).collect();
        Ok(RefCell::new(values.into_iter()))
    }

    /// What the file holds to name what `text` names: if that is no key, but how one record is called, that record's.
    fn named(&mut self, target: &FieldTarget, text: &str) -> Result<String, Error> {
        let table = &self.rows.table;
        let fields: Vec<usize> = target.columns.iter().map(|column| self.rows.fields[*column]).collect();
        let is_own = |rule: &&ValueRule| fields.contains(&rule.field) && rule.part == target.part;
        let rules: Vec<&'v ValueRule> = table.rules.iter().filter(is_own).collect();
        let refers = rules.iter().any(|rule| !rule.refs.is_empty());
        if !refers || text.is_empty() || rules.iter().any(|rule| rule.is_none(text)) {
            return Ok(text.to_owned());
        }
        for rule in &rules {
            for wanted in &rule.refs {
                if self.is_there(rule, *wanted, text)? {
                    return Ok(text.to_owned());
                }
            }
        }
        let mut found: Vec<(String, String)> = Vec::new();
        for rule in &rules {
            for wanted in &rule.refs {
                self.called(rule, *wanted, text, &mut found)?;
            }
        }
        found.sort();
        found.dedup();
        match &found[..] {
            // The check says what is near.
            [] => Ok(text.to_owned()),
            [(_, value)] => Ok(value.clone()),
            all => {
                let addresses: Vec<&str> = all.iter().map(|(address, _)| address.as_str()).take(5).collect();
                Err(Error::refused(
                    format!("`{text}` is what {} records are called: {}", all.len(), addresses.join(", ")),
                    "give the key of the one that is meant; nothing was changed",
                ))
            }
        }
    }

    /// Whether `text` in a field with this rule refers to something that is there.
    fn is_there(&mut self, rule: &ValueRule, target: Target, text: &str) -> Result<bool, Error> {
        let named = rule.shape.as_ref().map_or_else(|| text.to_owned(), |shape| shape.fill_one(text));
        match target.rule {
            Some(other) => Ok(self.finder.rows(target.table)?.by_value(other).contains_key(&named)),
            None if rule.with.is_empty() => {
                Ok(!self.finder.rows_with_key(target.table, &shown_key(&named))?.is_empty())
            }
            None => {
                let rows = self.finder.rows(target.table)?;
                let mut keys = rows.rows.iter().filter_map(|row| row.key.as_deref());
                Ok(keys.any(|key| crate::links::own_part(rule, key) == named))
            }
        }
    }

    /// Adds the records that are called `text`: the address of each, and what a field with this rule holds to name it. For
    /// references to another field than the key, one whose key is `text` too.
    fn called(
        &mut self,
        rule: &ValueRule,
        target: Target,
        text: &str,
        out: &mut Vec<(String, String)>,
    ) -> Result<(), Error> {
        let rows = self.finder.rows(target.table)?;
        let of_row = |row: &Row| {
            let key = row.key.as_deref()?;
            let value = match target.rule {
                Some(other) => {
                    let field = rows.table.rules[other].field;
                    let column = rows.fields.iter().position(|own| *own == field)?;
                    row.cells[column].as_ref()?.text.to_string()
                }
                None => crate::links::own_part(rule, key).to_owned(),
            };
            let value = match &rule.shape {
                Some(shape) => shape.extract(&value, "")?.to_owned(),
                None => value,
            };
            Some((crate::links::Address::show(&rows.table.name, key), value))
        };
        if target.rule.is_some() {
            let with_key = self.finder.rows_with_key(target.table, text)?;
            out.extend(with_key.into_iter().filter_map(|at| of_row(&rows.rows[at])));
        }
        let label = rows.table.label.and_then(|field| rows.fields.iter().position(|own| *own == field));
        let Some(label) = label else { return Ok(()) };
        let labels = self.finder.labels();
        let name = |row: &Row| labels.name(&rows.table, &row.cells[label].as_ref()?.text);
        let lower = text.to_lowercase();
        let called =
            rows.rows.iter().filter(|row| name(row).is_some_and(|name| name.to_lowercase() == lower));
        let (exact, folded): (Vec<&Row>, Vec<&Row>) =
            called.partition(|row| name(row).as_deref() == Some(text));
        let meant = if exact.is_empty() { folded } else { exact };
        out.extend(meant.into_iter().filter_map(of_row));
        Ok(())
    }

    /// All that the fields of `row` hold after these assignments, made one after another.
    ///
    /// # Errors
    /// As [`FieldValues::prepare`] and [`RowValues::apply`].
    pub fn assigned(
        &mut self,
        row: &Row,
        assignments: &[(FieldTarget, Action)],
    ) -> Result<Vec<(usize, Vec<String>)>, Error> {
        let prepared: Vec<Prepared> = assignments
            .iter()
            .map(|(target, action)| self.prepare(target, action))
            .collect::<Result<_, Error>>()?;
        let mut values = self.of_row(row);
        for one in &prepared {
            values.apply(one)?;
        }
        Ok(values.set())
    }

    /// The values of a row, to be changed.
    pub fn of_row<'s>(&'s self, row: &'s Row) -> RowValues<'s> {
        RowValues::new(self.rows, row, &self.styles)
    }

    /// What to say of an assignment that found nothing to do in any record.
    pub fn not_there(&self, (target, action): &(FieldTarget, Action)) -> Error {
        let item = match action {
            Action::RemoveItem(item) => item.as_str(),
            _ => "",
        };
        Error::refused(format!("`{}` has no item `{item}`", target.name), "nothing was changed")
    }
}
