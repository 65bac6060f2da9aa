//! Making a change set of the data of a project.

use super::{ChangeSet, ChangedRecord, ChosenBy, HowChanged, RenamedRecord};
use crate::Error;
use crate::changes::add::{AddRequest, add};
use crate::changes::builder::Builder;
use crate::changes::change::{Change, Note};
use crate::changes::own_records::find_table;
use crate::changes::record_finder::RecordFinder;
use crate::changes::remove::{RemoveRequest, remove};
use crate::changes::rename::{NewKeys, rename_many};
use crate::changes::sequence::Sequence;
use crate::changes::set::{SetRequest, Sheet, SheetLine, set};
use crate::links::{self, Address, Labels};
use crate::project::Project;
use crate::rows::{Formula, Others, Rows};
use crate::schema::{Table, TableId, Texts};
use std::collections::{BTreeMap, HashMap, HashSet};

/// What to do where the data holds neither what was there before nor what is to be.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Default)]
pub enum OnConflict {
    /// Nothing is done at all.
    #[default]
    Refuse,
    /// What the data holds stays.
    Ours,
    /// What the change set says is written.
    Theirs,
}

/// Something that the data holds in another way than the change set expects.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Conflict {
    /// The address of the record.
    pub record: String,
    /// The field; none if it is about the record.
    pub field: Option<String>,
    /// What was there when the change was made.
    pub was: String,
    /// What the data holds.
    pub ours: String,
    /// What the change set says.
    pub theirs: String,
}

impl std::fmt::Display for Conflict {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        let field = self.field.iter().map(|field| format!(".{field}")).collect::<String>();
        write!(
            f,
            "{}{field}: was `{}`, ours `{}`, theirs `{}`",
            self.record, self.was, self.ours, self.theirs
        )
    }
}

/// Builds the change that makes `change_set` of this project's data, under `title`.
///
/// # Errors
/// When the data holds something else than the change set expects and `on_conflict` does not say what to do, all conflicts
/// together; when a table or a field is not there; and when nothing would change.
pub fn apply(
    project: &Project,
    change_set: &ChangeSet,
    title: &str,
    on_conflict: OnConflict,
) -> Result<Change, Error> {
    let mut run = Run { sequence: Sequence::new(project, title), on_conflict, conflicts: Vec::new() };
    let mut renamed: BTreeMap<&str, Vec<&RenamedRecord>> = BTreeMap::new();
    for own in &change_set.rename {
        renamed.entry(&own.table).or_default().push(own);
    }
    for (table, renamed) in renamed {
        run.rename(table, &renamed)?;
    }
    let mut by_table: BTreeMap<TableId, Vec<&ChangedRecord>> = BTreeMap::new();
    for record in &change_set.record {
        by_table.entry(find_table(&project.schema, &record.table)?).or_default().push(record);
    }
    let mut plans = Vec::new();
    for (table, records) in &by_table {
        plans.push(run.plan(*table, records)?);
    }
    if !run.conflicts.is_empty() && on_conflict == OnConflict::Refuse {
        return Err(conflicting(&run.conflicts));
    }
    // What lies inside other records comes behind them.
    let depth = |plan: &TablePlan| {
        let table = &project.schema.tables[plan.table];
        table.format.records_path().map_or(0, str::len)
    };
    plans.sort_by_key(depth);
    for plan in &plans {
        run.add(plan)?;
    }
    for plan in &plans {
        run.set(plan)?;
    }
    run.remove(&plans)?;
    for chosen in &change_set.condition {
        run.tell_new_matches(chosen, &change_set.record)?;
    }
    let change = run.sequence.finish();
    match change.files().is_empty() {
        true => Err(Error::nothing_to_do("all of it is so already")),
        false => Ok(change),
    }
}

/// What to say of conflicts.
fn conflicting(conflicts: &[Conflict]) -> Error {
    const SHOWN: usize = 20;
    let mut lines: Vec<String> = conflicts.iter().take(SHOWN).map(ToString::to_string).collect();
    if conflicts.len() > SHOWN {
        lines.push(format!("and {} more", conflicts.len() - SHOWN));
    }
    let number =
        if conflicts.len() == 1 { "a value".to_owned() } else { format!("{} values", conflicts.len()) };
    Error::refused(
        format!("the data holds something else in {number}; nothing was changed\n  {}", lines.join("\n  ")),
        crate::help::NextStep::ChooseSide,
    )
}

/// What is to become of the records of a table.
struct TablePlan {
    table: TableId,
    added: Vec<SheetLine>,
    /// The keys of texts that are added, with what they say by language.
    texts: BTreeMap<String, Vec<(String, String)>>,
    set: Vec<SheetLine>,
    /// Assignments of texts.
    set_texts: Vec<String>,
    removed: Vec<String>,
}

struct Run<'p> {
    sequence: Sequence<'p>,
    on_conflict: OnConflict,
    conflicts: Vec<Conflict>,
}

impl Run<'_> {
    /// Gives the records of a table their other keys, where they have the old ones and no other record has the new ones.
    fn rename(&mut self, table: &str, renamed: &[&RenamedRecord]) -> Result<(), Error> {
        let project = self.sequence.project();
        let labels = Labels::default();
        let rows = Rows::read(project.view(), links::find_table(&project.schema, table)?, &labels)?;
        let there: HashSet<String> =
            rows.rows.iter().filter(|row| row.key.is_some()).map(crate::rows::Row::shown_key).collect();
        let leaving: HashSet<&str> = renamed.iter().map(|own| own.from.as_str()).collect();
        let mut pairs = Vec::new();
        for own in renamed.iter().filter(|own| there.contains(&own.from)) {
            if there.contains(&own.to) && !leaving.contains(own.to.as_str()) {
                self.conflicts.push(Conflict {
                    record: Address::show(table, &own.to),
                    field: None,
                    was: "not there".to_owned(),
                    ours: "there, beside the one that is to get its key".to_owned(),
                    theirs: format!("the new key of {}", own.from),
                });
            } else {
                pairs.push((own.from.clone(), own.to.clone()));
            }
        }
        if pairs.is_empty() {
            return Ok(());
        }
        let change = rename_many(project, table, &NewKeys::Pairs(pairs), false)?;
        self.sequence.push(change)
    }

    /// What is to become of the records of one table.
    fn plan(&mut self, table: TableId, records: &[&ChangedRecord]) -> Result<TablePlan, Error> {
        let project = self.sequence.project();
        let described = &project.schema.tables[table];
        let labels = Labels::default();
        let rows = Rows::read(project.view(), table, &labels)?;
        let mut by_key: HashMap<(String, Option<String>), usize> = HashMap::new();
        for (at, row) in rows.rows.iter().enumerate().filter(|(_, row)| row.key.is_some()) {
            let language = rows.paths.get(&row.file).and_then(|path| described.language_of(path));
            let language = language.filter(|_| is_by_file(described)).map(str::to_owned);
            by_key.entry((row.shown_key(), language)).or_insert(at);
        }
        let mut plan = TablePlan {
            table,
            added: Vec::new(),
            texts: BTreeMap::new(),
            set: Vec::new(),
            set_texts: Vec::new(),
            removed: Vec::new(),
        };
        let mut conflicts = Vec::new();
        for (number, record) in records.iter().enumerate() {
            let language = record.language.clone().filter(|_| is_by_file(described));
            let row = by_key.get(&(record.key.clone(), language)).map(|at| &rows.rows[*at]);
            let address = Address::show(&record.table, &record.key);
            let held = |name: &str| {
                let column = rows.columns.iter().position(|column| column == name)?;
                row?.cells[column].as_ref()?;
                row.map(|row| row.text(column).into_owned())
            };
            let is_key =
                |name: &str| described.field(name).is_some_and(|field| described.is_key_field(field));
            let conflict = |field: Option<&str>, was: &str, ours: &str, theirs: &str| Conflict {
                record: address.clone(),
                field: field.map(str::to_owned),
                was: was.to_owned(),
                ours: ours.to_owned(),
                theirs: theirs.to_owned(),
            };
            let fields = record.fields.iter().filter(|(name, _)| !is_key(name));
            match (record.how, row) {
                (HowChanged::Removed, None) => {}
                (HowChanged::Removed, Some(_)) => {
                    let differ = fields.filter(|(name, field)| held(name) != field.was);
                    let differ: Vec<Conflict> = differ
                        .map(|(name, field)| {
                            let (was, ours) = (shown(&field.was), shown(&held(name)));
                            conflict(Some(name), &was, &ours, "the record goes")
                        })
                        .collect();
                    if differ.is_empty() || self.on_conflict == OnConflict::Theirs {
                        plan.removed.push(address.clone());
                    }
                    conflicts.extend(differ);
                }
                (HowChanged::Changed, None) => {
                    conflicts.push(conflict(None, "there", "not there", "changed"));
                }
                (HowChanged::Added, None) => {
                    let values: Vec<(String, String)> =
                        fields.filter_map(|(name, field)| Some((name.clone(), field.now.clone()?))).collect();
                    match &record.language {
                        Some(language) if is_by_file(described) => {
                            let text = values.into_iter().next().unwrap_or_default();
                            plan.texts
                                .entry(record.key.clone())
                                .or_default()
                                .push((language.clone(), text.1));
                        }
                        _ => plan.added.push(line(number, &record.key, values)),
                    }
                }
                (HowChanged::Changed | HowChanged::Added, Some(_)) => {
                    let mut values = Vec::new();
                    for (name, field) in fields {
                        let ours = held(name);
                        let is_so = ours == field.now || ours.is_none() && field.now.as_deref() == Some("");
                        let is_new = record.how == HowChanged::Added;
                        if is_so {
                            continue;
                        }
                        let differs = is_new || ours != field.was;
                        if differs {
                            conflicts.push(conflict(
                                Some(name),
                                &shown(&field.was),
                                &shown(&ours),
                                &shown(&field.now),
                            ));
                        }
                        if !differs || self.on_conflict == OnConflict::Theirs {
                            values.push((name.clone(), field.now.clone().unwrap_or_default()));
                        }
                    }
                    match &record.language {
                        _ if values.is_empty() => {}
                        Some(language) if is_by_file(described) => {
                            let text = values.into_iter().next().unwrap_or_default().1;
                            plan.set_texts.push(format!("{address}.{language}={text}"));
                        }
                        _ => plan.set.push(line(number, &record.key, values)),
                    }
                }
            }
        }
        self.conflicts.extend(conflicts);
        Ok(plan)
    }

    fn add(&mut self, plan: &TablePlan) -> Result<(), Error> {
        let name = self.sequence.project().schema.tables[plan.table].name.clone();
        if !plan.added.is_empty() {
            let request =
                AddRequest { table: name.clone(), sheet: Some(sheet(&plan.added)), ..AddRequest::default() };
            let change = add(self.sequence.project(), &request)?;
            self.sequence.push(change)?;
        }
        if !plan.texts.is_empty() {
            let lines = plan.texts.iter().enumerate();
            let lines: Vec<SheetLine> =
                lines.map(|(number, (key, values))| line(number, key, values.clone())).collect();
            let sheet = Sheet { is_exact: false, ..sheet(&lines) };
            let request = AddRequest { table: name, sheet: Some(sheet), ..AddRequest::default() };
            let change = add(self.sequence.project(), &request)?;
            self.sequence.push(change)?;
        }
        Ok(())
    }

    fn set(&mut self, plan: &TablePlan) -> Result<(), Error> {
        let name = self.sequence.project().schema.tables[plan.table].name.clone();
        let mut requests = Vec::new();
        if !plan.set.is_empty() {
            requests.push(SetRequest {
                arguments: vec![name],
                sheet: Some(sheet(&plan.set)),
                ..SetRequest::default()
            });
        }
        if !plan.set_texts.is_empty() {
            requests.push(SetRequest { arguments: plan.set_texts.clone(), ..SetRequest::default() });
        }
        for request in requests {
            match set(self.sequence.project(), &request) {
                Ok(change) => self.sequence.push(change)?,
                Err(Error::NothingToDo { .. }) => {}
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }

    /// Removes the records that are to go and have not gone with others.
    fn remove(&mut self, plans: &[TablePlan]) -> Result<(), Error> {
        let project = self.sequence.project();
        let mut finder = RecordFinder::new(project);
        let mut addresses = Vec::new();
        let mut seen = HashSet::new();
        for plan in plans {
            for address in &plan.removed {
                let key = Address::parse(address)?.key;
                if seen.insert(address.clone()) && !finder.rows_with_key(plan.table, &key)?.is_empty() {
                    addresses.push(address.clone());
                }
            }
        }
        if addresses.is_empty() {
            return Ok(());
        }
        let change = remove(project, &RemoveRequest { addresses, ..RemoveRequest::default() })?;
        self.sequence.push(change)
    }

    /// Tells which records meet a condition of the change now, and are no part of it.
    fn tell_new_matches(&mut self, chosen: &ChosenBy, records: &[ChangedRecord]) -> Result<(), Error> {
        let project = self.sequence.project();
        let labels = Labels::default();
        let others = Others::new(project.view(), &labels);
        let rows = others.rows_of(&chosen.table)?;
        let Ok(condition) = Formula::parse(&chosen.condition, &rows, &[], &others) else { return Ok(()) };
        let known: HashSet<&str> = records
            .iter()
            .filter(|record| record.table == chosen.table)
            .map(|record| record.key.as_str())
            .collect();
        let mut found = Vec::new();
        for row in rows.rows.iter().filter(|row| row.key.is_some()) {
            let key = row.shown_key();
            if !known.contains(key.as_str()) && condition.holds(&rows, row, &[])? {
                found.push(Address::show(&chosen.table, &key));
            }
        }
        if !found.is_empty() {
            let mut builder = Builder::new(project, "");
            found.into_iter().for_each(|address| {
                builder.note(Note::MeetsCondition(address, chosen.condition.clone()));
            });
            let change = builder.finish()?;
            self.sequence.push(change)?;
        }
        Ok(())
    }
}

/// Whether each language of a table of texts has files of its own.
fn is_by_file(table: &Table) -> bool {
    matches!(table.texts, Some(Texts::File(_)))
}

/// Records as lines of a sheet that has values as the files hold them.
fn sheet(lines: &[SheetLine]) -> Sheet {
    Sheet { name: "the change set".to_owned(), lines: lines.to_vec(), is_exact: true }
}

fn shown(value: &Option<String>) -> String {
    value.clone().unwrap_or_default()
}

fn line(number: usize, key: &str, values: Vec<(String, String)>) -> SheetLine {
    SheetLine { number: number as u64 + 1, key: key.to_owned(), values }
}
