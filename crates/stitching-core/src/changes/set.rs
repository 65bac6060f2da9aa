//! Giving records other values: one or many, of one or many tables, in one act.

use super::assignment::{Action, Argument, Assignment, FieldTarget};
use super::builder::Builder;
use super::change::{Change, Note};
use super::field_value::FieldValues;
use super::new_values::{NewValues, write_values};
use super::own_records::find_table;
use super::record_finder::RecordFinder;
use crate::Error;
use crate::help::NextStep;
use crate::layers::FileId;
use crate::links::{Address, Thing, find_uses};
use crate::project::Project;
use crate::reading::View;
use crate::rows::Formula;
use crate::schema::{Computed, TableId, Texts};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap};

/// More records than these are changed without telling from how many places they are referred to.
const MOST_LOOKED_UP: usize = 200;

/// What is to be set.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct SetRequest {
    /// Addresses of records, or with a condition one table; and what becomes of their fields. What has an address on its
    /// left side (`cranes:north.turn=5`) is of that record alone.
    pub arguments: Vec<String>,
    /// The condition that records of the table meet.
    pub condition: Option<String>,
    /// Whether all records of the table are meant.
    pub all: bool,
    /// A sheet with records of the table, of which what differs is set.
    pub sheet: Option<Sheet>,
}

/// Records as lines of a sheet, as they are shown for other programs.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Sheet {
    /// Where it comes from, for messages.
    pub name: String,
    /// Its lines.
    pub lines: Vec<SheetLine>,
    /// Whether the values are as the files hold them: none is what a record is called, or a word for a free value.
    #[serde(default)]
    pub is_exact: bool,
}

impl Sheet {
    /// What happens to a field for which the sheet has `value`.
    pub(super) fn action(&self, value: String) -> Action {
        if self.is_exact { Action::Write(value) } else { Action::Set(value) }
    }
}

/// A record as a line of a sheet.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct SheetLine {
    /// The number of the line, from 1 on.
    pub number: u64,
    /// The key of the record, as shown.
    pub key: String,
    /// The columns and what they hold.
    pub values: Vec<(String, String)>,
}

/// Builds the change that gives records other values.
///
/// # Errors
/// When an address names no record or several, a field is not there, an expression is wrong, a value cannot stand where it
/// should, or nothing would change.
pub fn set(project: &Project, request: &SetRequest) -> Result<Change, Error> {
    let (mut names, mut assignments): (Vec<String>, Vec<Assignment>) = (Vec::new(), Vec::new());
    for argument in &request.arguments {
        match Argument::parse(argument)? {
            Argument::Name(name) => names.push(name),
            Argument::Assignment(assignment) => assignments.push(assignment),
        }
    }
    let mut finder = RecordFinder::new(project);
    let mut work = Work::new(project);
    if let Some(sheet) = &request.sheet {
        let ([name], true) = (&names[..], assignments.is_empty()) else {
            return Err(Error::Usage {
                message: "with a sheet one table is named, and nothing else".to_owned(),
                help: NextStep::ListTables.into(),
            });
        };
        work.add_sheet(&mut finder, name, sheet)?;
        return work.finish(&mut finder, format!("{} from {}", title(request), sheet.name));
    }
    if assignments.is_empty() {
        return Err(Error::Usage {
            message: "nothing is said of what to set".to_owned(),
            help: "name a field and its value: Price=12".into(),
        });
    }
    match (request.condition.is_some() || request.all, &names[..]) {
        (true, [name]) => work.add_table(&mut finder, name, request.condition.as_deref(), &assignments)?,
        (true, _) => {
            return Err(Error::Usage {
                message: "with a condition one table is named, and no record".to_owned(),
                help: NextStep::ListTables.into(),
            });
        }
        (false, _) => work.add_records(&mut finder, &names, &assignments)?,
    }
    work.finish(&mut finder, title(request))
}

/// A computed field of a record.
pub(super) struct ComputedField<'c> {
    /// What it holds.
    pub computed: &'c Computed,
    /// The position of the record in the rows of its table.
    pub row: usize,
}

/// Builds the change that gives computed fields what they should hold.
///
/// # Errors
/// When a value cannot stand where it should.
pub(super) fn compute(project: &Project, fields: &[ComputedField<'_>]) -> Result<Change, Error> {
    let mut finder = RecordFinder::new(project);
    let mut work = Work { tells: Tells::PutRight, ..Work::new(project) };
    for ComputedField { computed, row } in fields {
        let target = field_of(&mut finder, computed.table, &computed.field)?;
        work.add(computed.table, *row, target, &Action::Compute(computed.value.clone()));
    }
    work.finish(&mut finder, String::new())
}

/// What the change does, as an order.
fn title(request: &SetRequest) -> String {
    const MOST: usize = 200;
    let mut out = format!("set {}", request.arguments.join(" "));
    if let Some(condition) = &request.condition {
        out.push_str(&format!(" where {condition}"));
    }
    match out.char_indices().nth(MOST) {
        Some((end, _)) => format!("{}...", &out[..end]),
        None => out,
    }
}

/// What becomes of the rows of one table.
#[derive(Default)]
struct Plan {
    /// The assignments, each with the field that it is about.
    assignments: Vec<(FieldTarget, Action)>,
    numbers: HashMap<(FieldTarget, Action), usize>,
    /// The rows, and which of the assignments are theirs, in order.
    rows: BTreeMap<usize, Vec<usize>>,
}

/// What the user should know of a change besides.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Tells {
    /// From how many places what changed is referred to.
    Uses,
    /// Which fields are put right.
    PutRight,
}

struct Work<'p> {
    project: &'p Project,
    plans: BTreeMap<TableId, Plan>,
    tells: Tells,
}

impl<'p> Work<'p> {
    fn new(project: &'p Project) -> Work<'p> {
        Work { project, plans: BTreeMap::new(), tells: Tells::Uses }
    }

    /// The records of a table that meet a condition, or all.
    fn add_table(
        &mut self,
        finder: &mut RecordFinder<'_>,
        name: &str,
        condition: Option<&str>,
        assignments: &[Assignment],
    ) -> Result<(), Error> {
        let table = find_table(&self.project.schema, name)?;
        let rows = finder.rows(table)?;
        let condition =
            condition.map(|source| Formula::parse(source, &rows, &[], finder.others())).transpose()?;
        for (at, row) in rows.rows.iter().enumerate() {
            let holds = condition.as_ref().map(|condition| condition.holds(&rows, row, &[]));
            if holds.transpose()?.unwrap_or(true) {
                self.plans.entry(table).or_default().rows.insert(at, Vec::new());
            }
        }
        let Some(plan) = self.plans.get_mut(&table) else {
            return Err(Error::NothingToDo {
                reason: format!("no record of `{name}` meets the condition"),
                help: NextStep::ListFields(name.to_owned()).into(),
            });
        };
        for (number, assignment) in assignments.iter().enumerate() {
            let target = field_of(finder, table, &assignment.left)?;
            plan.assignments.push((target, assignment.action.clone()));
            plan.rows.values_mut().for_each(|own| own.push(number));
        }
        Ok(())
    }

    /// Records by their addresses.
    fn add_records(
        &mut self,
        finder: &mut RecordFinder<'_>,
        names: &[String],
        assignments: &[Assignment],
    ) -> Result<(), Error> {
        let (addressed, plain): (Vec<&Assignment>, Vec<&Assignment>) =
            assignments.iter().partition(|assignment| is_address(&assignment.left));
        if let (true, Some(first)) = (names.is_empty(), plain.first()) {
            return Err(Error::Usage {
                message: format!("`{}` is said of no record", first.left),
                help: "name records in front of it, or write the address of a field: goods:coal.Price=12"
                    .into(),
            });
        }
        if let (false, true) = (names.is_empty(), plain.is_empty()) {
            return Err(Error::Usage {
                message: format!("nothing is said of what to set in `{}`", names[0]),
                help: "name a field and its value: Price=12".into(),
            });
        }
        for name in names {
            if self.project.schema.table(name).is_some() {
                return Err(Error::Usage {
                    message: format!("`{name}` is a table, and no record"),
                    help: NextStep::ChooseRecords.into(),
                });
            }
            let found = finder.record(name)?;
            for assignment in &plain {
                let target = field_of(finder, found.table, found.field_name(&assignment.left))?;
                self.add(found.table, found.row, target, &assignment.action);
            }
        }
        for assignment in addressed {
            let found = finder.record_with_field(&assignment.left)?;
            let target = field_of(finder, found.table, found.field.as_deref().unwrap_or_default())?;
            self.add(found.table, found.row, target, &assignment.action);
        }
        Ok(())
    }

    /// What differs in a sheet.
    fn add_sheet(&mut self, finder: &mut RecordFinder<'_>, name: &str, sheet: &Sheet) -> Result<(), Error> {
        let table = find_table(&self.project.schema, name)?;
        // Where each language has a column of its own, the columns tell.
        let texts = self.project.schema.tables[table].texts.as_ref();
        if texts.is_some_and(|texts| !matches!(texts, Texts::Fields(_))) {
            return Err(Error::Usage {
                message: format!("`{name}` is a table of texts, and a sheet does not tell their languages"),
                help: "set them one by one: texts:KEY.en=\"...\"".into(),
            });
        }
        let mut targets: HashMap<&str, Option<FieldTarget>> = HashMap::new();
        for line in &sheet.lines {
            let at = |message: String| format!("`{}`, line {}: {message}", sheet.name, line.number);
            let [row] = finder.rows_with_key(table, &line.key)?[..] else {
                let address = format!("{name}:{}", line.key);
                let message = match finder.record(&address) {
                    Err(error) => error.to_string(),
                    Ok(_) => format!("`{address}` is not one record"),
                };
                return Err(Error::Usage {
                    message: at(message),
                    help: "take the line out, or add the record first; nothing was changed".into(),
                });
            };
            for (column, value) in &line.values {
                let target = match targets.get(column.as_str()) {
                    Some(target) => target.clone(),
                    None => {
                        let found = finder.field(table, column);
                        // The name that the player sees is shown beside the columns.
                        let target = if column == "name" { found.ok() } else { Some(found?) };
                        targets.insert(column, target.clone());
                        target
                    }
                };
                let Some(target) = target else { continue };
                let rows = finder.rows(table)?;
                let own = target.columns[0];
                if rows.rows[row].text(own) == value.as_str() {
                    continue;
                }
                if rows.table.is_key_field(rows.fields[own]) {
                    return Err(Error::Usage {
                        message: at(format!("`{column}` is part of the key, and differs from it")),
                        help: NextStep::RenameRecord.into(),
                    });
                }
                let several = rows.is_list(own) && rows.table.fields[rows.fields[own]].list.is_none();
                let value = match several {
                    true => list_of(value),
                    false => value.clone(),
                };
                self.add(table, row, target, &sheet.action(value));
            }
        }
        if self.plans.is_empty() {
            return Err(Error::nothing_to_do("nothing in the sheet differs"));
        }
        Ok(())
    }

    fn add(&mut self, table: TableId, row: usize, target: FieldTarget, action: &Action) {
        let plan = self.plans.entry(table).or_default();
        let wanted = (target, action.clone());
        let next = plan.assignments.len();
        let number = *plan.numbers.entry(wanted.clone()).or_insert(next);
        if number == next {
            plan.assignments.push(wanted);
        }
        plan.rows.entry(row).or_default().push(number);
    }

    fn finish(self, finder: &mut RecordFinder<'p>, title: String) -> Result<Change, Error> {
        let project = self.project;
        let mut builder = Builder::new(project, title);
        let (mut changed, mut things) = (0, Vec::new());
        for (table, plan) in self.plans {
            let rows = finder.rows(table)?;
            let mut values = FieldValues::new(project, finder, &rows, plan.rows.len());
            let prepared: Vec<_> = plan
                .assignments
                .iter()
                .map(|(target, action)| values.prepare(target, action))
                .collect::<Result<_, Error>>()?;
            let mut by_file: BTreeMap<FileId, Vec<NewValues>> = BTreeMap::new();
            let mut is_used = vec![false; prepared.len()];
            for (row, numbers) in plan.rows {
                let mut state = values.of_row(&rows.rows[row]);
                for number in numbers {
                    is_used[number] |= state.apply(&prepared[number])?;
                }
                let new = state.changed();
                if !new.is_empty() {
                    let own = &rows.rows[row];
                    changed += 1;
                    builder.count(new.len());
                    if self.tells == Tells::PutRight {
                        let fields = new.iter().map(|(field, _)| rows.table.fields[*field].name.as_str());
                        let address = Address::show(&rows.table.name, own.key.as_deref().unwrap_or_default());
                        let names = fields.map(|name| format!("{address}.{name}"));
                        names.for_each(|name| builder.note(Note::PutRight(name)));
                    } else if things.len() <= MOST_LOOKED_UP {
                        things.extend(own.key.clone().map(|key| Thing::Record(table, key)));
                    }
                    let (record, key) = (own.span, own.key.clone());
                    by_file.entry(own.file).or_default().push(NewValues {
                        record,
                        key,
                        fields: new,
                        is_bare: false,
                    });
                }
            }
            if let Some(unused) = is_used.iter().position(|used| !used) {
                return Err(values.not_there(&plan.assignments[unused]));
            }
            write_values(project, &mut builder, &rows.table, by_file)?;
        }
        if changed == 0 {
            return Err(Error::nothing_to_do("all of it is so already"));
        }
        builder.count_records(changed);
        if self.tells == Tells::Uses && things.len() <= MOST_LOOKED_UP {
            let uses = find_uses(View::top(&project.stack, &project.schema), &things)?;
            if !uses.is_empty() {
                builder.note(Note::ReferredTo(uses.len()));
            }
        }
        builder.finish()
    }
}

/// Whether the left side of an assignment names a record too.
fn is_address(left: &str) -> bool {
    left.contains(':')
}

/// Several values that are shown with a comma and a blank between them, as a list in square brackets.
pub(super) fn list_of(shown: &str) -> String {
    let items: Vec<&str> = if shown.is_empty() { Vec::new() } else { shown.split(", ").collect() };
    serde_json::to_string(&items).unwrap_or_default()
}

/// What `name` means in a table. What names records is not set but renamed.
fn field_of(finder: &mut RecordFinder<'_>, table: TableId, name: &str) -> Result<FieldTarget, Error> {
    let target = finder.field(table, name)?;
    let rows = finder.rows(table)?;
    if target.columns.iter().any(|column| rows.table.is_key_field(rows.fields[*column])) {
        return Err(Error::Usage {
            message: format!("`{name}` is part of what names the records of `{}`", rows.table.name),
            help: NextStep::RenameRecord.into(),
        });
    }
    Ok(target)
}
