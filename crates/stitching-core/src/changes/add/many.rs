//! Keys of many new records: from a sheet, or from references that lead nowhere.

use crate::Code;
use crate::changes::assignment::Assignment;
use crate::changes::set::{Sheet, SheetLine, list_of};
use crate::checks::check;
use crate::project::Project;
use crate::rows::Rows;
use crate::schema::TableId;

/// The records of a sheet: the key, and what the columns hold that are not empty.
pub(super) fn of_sheet(rows: &Rows, sheet: &Sheet) -> Vec<(String, Vec<Assignment>)> {
    let is_key = |name: &str| {
        let field = rows.columns.iter().position(|column| column == name).map(|column| rows.fields[column]);
        field.is_some_and(|field| rows.table.is_key_field(field))
    };
    let is_shown_name = |name: &str| name == "name" && !rows.columns.iter().any(|column| column == "name");
    let assignment = |(column, value): &(String, String)| {
        let at = rows.columns.iter().position(|own| own == column);
        let several =
            at.is_some_and(|at| rows.is_list(at) && rows.table.fields[rows.fields[at]].list.is_none());
        let value = if several { list_of(value) } else { value.clone() };
        Assignment { left: column.clone(), action: sheet.action(value) }
    };
    let of_line = |line: &SheetLine| {
        let own = line
            .values
            .iter()
            .filter(|(column, value)| !value.is_empty() && !is_key(column) && !is_shown_name(column));
        (line.key.clone(), own.map(assignment).collect())
    };
    sheet.lines.iter().map(of_line).collect()
}

/// The keys that dangling references of the mod name in a table, each once; in order.
pub(super) fn missing_keys(project: &Project, table: TableId) -> Vec<String> {
    let schema = &project.schema;
    let problems = check(project.view()).problems;
    let own =
        problems.iter().filter(|problem| problem.code == Code::DANGLING_REFERENCE && !problem.inherited);
    let key = |problem: &crate::Problem| {
        let user = schema.table(problem.table.as_deref()?)?;
        let (value, field) = (problem.value.as_deref()?, problem.field.as_deref()?);
        let described = &schema.tables[user];
        let mut rules = described.rules.iter().filter(|rule| {
            let name = &described.fields[rule.field].name;
            field == name || field.strip_prefix(name.as_str()).is_some_and(|rest| rest.starts_with('{'))
        });
        let rule = rules.find(|rule| {
            let target = rule.refs.iter().any(|target| target.table == table && target.rule.is_none());
            target && rule.with.is_empty()
        })?;
        Some(rule.shape.as_ref().map_or_else(|| value.to_owned(), |shape| shape.fill_one(value)))
    };
    let mut keys: Vec<String> = own.filter_map(key).collect();
    keys.sort();
    keys.dedup();
    keys
}
