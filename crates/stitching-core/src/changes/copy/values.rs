//! What the fields of a copy hold that a rename would not change.

use super::{CopyRequest, Seen, Work, last_part};
use crate::Error;
use crate::changes::assignment::{Argument, Assignment};
use crate::changes::field_value::FieldValues;
use crate::changes::record_finder::RecordFinder;
use crate::changes::unused_values::UnusedValues;
use crate::layers::RelPath;
use crate::links::{Found, Labels, Thing};
use crate::schema::{Layout, Table, TableId};
use crate::tables::{Value, read_at};
use crate::text::Text;
use crate::views::Rows;
use std::collections::HashSet;
use std::sync::Arc;

impl<'p> Work<'p> {
    /// What the request says of the fields of the copy.
    pub(super) fn values_of_main(
        &self,
        finder: &mut RecordFinder<'p>,
        found: &Found,
        request: &CopyRequest,
    ) -> Result<OwnValues, Error> {
        let mut out = OwnValues { table: found.table, rows: None, fields: Vec::new(), name: None };
        let schema = &self.project.schema;
        let table = &schema.tables[found.table];
        if let Some(name) = &request.name {
            let label = table.label.ok_or_else(|| Error::Usage {
                message: format!("the records of `{}` have no name for people", table.name),
                help: "say in the schema which field names them: label = \"FIELD\"".into(),
            })?;
            let Layout::Whole(rule) = table.fields[label].layout else { return Ok(out) };
            match table.rules[rule].text {
                Some(_) => out.name = Some(name.clone()),
                None => out.fields.push((label, vec![name.clone()])),
            }
        }
        let mut assignments: Vec<Assignment> = Vec::new();
        for value in &request.values {
            match Argument::parse(value)? {
                Argument::Assignment(assignment) => assignments.push(assignment),
                Argument::Name(name) => {
                    return Err(Error::Usage {
                        message: format!("`{name}` says nothing of a field"),
                        help: "what the copy holds is written FIELD=VALUE".into(),
                    });
                }
            }
        }
        if assignments.is_empty() {
            return Ok(out);
        }
        let mut targets = Vec::new();
        for assignment in &assignments {
            targets.push((finder.field(found.table, &assignment.left)?, assignment.action.clone()));
        }
        let rows = finder.rows(found.table)?;
        let mut values = FieldValues::new(self.project, finder, &rows, 1);
        let prepared: Vec<_> = targets
            .iter()
            .map(|(target, action)| values.prepare(target, action))
            .collect::<Result<_, Error>>()?;
        let row =
            rows.find(&found.key).ok_or_else(|| Error::refused("the record is gone", "run it again"))?;
        let mut state = values.of_row(row);
        for one in &prepared {
            state.apply(one)?;
        }
        out.fields.extend(state.set());
        out.rows = Some(rows);
        Ok(out)
    }

    /// What higher layers say of a record in place of the file at `path`.
    pub(super) fn overrides(&self, one: &Seen, path: &RelPath) -> Result<Vec<(usize, Vec<String>)>, Error> {
        let table = &self.project.schema.tables[one.table];
        let Some(key) = one.key.as_deref().filter(|_| table.merged) else { return Ok(Vec::new()) };
        let rows = Rows::read(self.project.view(), one.table, &Labels::default())?;
        let Some(row) = rows.find(key) else { return Ok(Vec::new()) };
        let stack = &self.project.stack;
        let lowest = rows
            .paths
            .keys()
            .filter(|file| stack.files()[**file].path == *path)
            .min_by_key(|file| stack.files()[**file].layer);
        let cells = row.cells.iter().enumerate().filter_map(|(column, cell)| {
            let cell = cell.as_ref().filter(|cell| Some(&cell.file) != lowest)?;
            let field = table.field_at(&rows.table.fields[rows.fields[column]].column)?;
            Some((field, cell.values().map(str::to_owned).collect()))
        });
        Ok(cells.filter(|(field, _)| !table.is_key_field(*field)).collect())
    }

    /// Whether this is the record that was asked for.
    pub(super) fn is_main(&self, one: &Seen) -> bool {
        let first = self.items.iter().find_map(|item| match &item.thing {
            Thing::Record(table, key) if *table == one.table => Some(key),
            _ => None,
        });
        first == one.key.as_ref()
    }

    /// Whether a text is the one that names the record that was asked for.
    pub(super) fn names_main(&self, one: &Seen, main: TableId) -> bool {
        let table = &self.project.schema.tables[main];
        let Some(Layout::Whole(rule)) = table.label.map(|label| &table.fields[label].layout) else {
            return false;
        };
        let field = table.rules[*rule].field;
        let value = self.items.iter().find_map(|item| match (&item.thing, &table.fields[field].follows) {
            (Thing::Record(own, key), Some(follows)) if *own == main => {
                Some(follows.fill_one(last_part(key)))
            }
            _ => None,
        });
        let text = value.zip(table.rules[*rule].text.as_ref()).map(|(value, text)| text.fill_one(&value));
        text.as_ref() == one.key.as_ref()
    }

    /// What a copy does not take over: notes for people go, and what no two records may have alike is another one.
    pub(super) fn of_copy(
        &self,
        table: &Table,
        one: &Seen,
        (path, text): (&RelPath, &Text<'_>),
        taken: &[usize],
        unused: &mut UnusedValues,
    ) -> Result<Vec<(usize, Vec<String>)>, Error> {
        let mut out = Vec::new();
        for (at, field) in table.fields.iter().enumerate() {
            if taken.contains(&at) || table.is_key_field(at) {
                continue;
            }
            let Layout::Whole(rule) = field.layout else { continue };
            if field.note {
                out.push((at, Vec::new()));
            } else if table.rules[rule].unique
                && let Some(value) = unused.next(self.project, one.table, &field.name)?
            {
                out.push((at, vec![value]));
            }
        }
        // A field that the record does not have stays away.
        let present = self.present(one, path, text);
        out.retain(|(field, _)| present.contains(field));
        Ok(out)
    }

    /// The fields that a record has something in that is not none.
    fn present(&self, one: &Seen, path: &RelPath, text: &Text<'_>) -> HashSet<usize> {
        let table = &self.project.schema.tables[one.table];
        let is_some = |value: &Value| {
            let rule = table.fields[value.field].layout.rules()[0];
            !table.rules[rule].is_none(&value.text)
        };
        let values = read_at(table, path, text, one.span).into_iter().flat_map(|record| record.values);
        values.filter(is_some).map(|value| value.field).collect()
    }
}

/// What the request says of the copy of the record that was asked for.
pub(super) struct OwnValues {
    pub table: TableId,
    /// The rows in whose table the fields are, if they may be others than those of the schema.
    pub rows: Option<Arc<Rows>>,
    pub fields: Vec<(usize, Vec<String>)>,
    /// What its text in the main language says.
    pub name: Option<String>,
}
