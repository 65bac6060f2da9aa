//! A change as records and fields, to be read by people and made elsewhere: on another copy of the data, or on a newer
//! version of it.

use super::add::{AddRequest, add};
use super::builder::Builder;
use super::change::{Change, Note};
use super::record_finder::RecordFinder;
use super::remove::{RemoveRequest, remove};
use super::rename::{NewKeys, rename};
use super::sequence::Sequence;
use super::set::{SetRequest, Sheet, SheetLine, set};
use super::step::Step;
use crate::Error;
use crate::links::{Address, Labels, find_table};
use crate::project::Project;
use crate::reading::View;
use crate::rows::{Formula, Others, Rows};
use crate::schema::{Schema, Table, TableId, Texts};
use crate::views::{FieldDifference, How, RecordDifference, difference};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::fmt::Write as _;

/// A change as records and fields.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChangeSet {
    /// What the change does.
    pub title: String,
    /// Files that it changed outside of all records; they are not part of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub other_files: Vec<String>,
    /// The conditions that chose records, for the tables that they were asked of.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub condition: Vec<ChosenBy>,
    /// The records that got other keys.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rename: Vec<RenamedRecord>,
    /// The records that it adds, changes and removes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub record: Vec<ChangedRecord>,
}

/// A condition that chose records of a table.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChosenBy {
    /// The table.
    pub table: String,
    /// The condition, an expression.
    #[serde(rename = "where")]
    pub condition: String,
    /// What became of the fields of those that met it.
    pub values: Vec<String>,
}

/// A record that got another key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RenamedRecord {
    /// The table.
    pub table: String,
    /// The key before, as shown.
    pub from: String,
    /// The key after, as shown.
    pub to: String,
}

/// A record that a change adds, changes or removes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChangedRecord {
    /// The table.
    pub table: String,
    /// The key, as shown.
    pub key: String,
    /// The language, for a text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    /// What becomes of it.
    pub how: HowChanged,
    /// The path of its file.
    pub file: String,
    /// The fields that differ, by name; of a record that is added or removed all.
    #[serde(default)]
    pub fields: BTreeMap<String, ChangedField>,
}

/// What becomes of a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum HowChanged {
    /// It is new.
    Added,
    /// It holds other values.
    Changed,
    /// It goes.
    Removed,
}

impl HowChanged {
    /// Its word in a change set.
    fn name(self) -> &'static str {
        match self {
            HowChanged::Added => "added",
            HowChanged::Changed => "changed",
            HowChanged::Removed => "removed",
        }
    }
}

/// A text as TOML has it, in one line.
fn quoted(text: &str) -> String {
    // What JSON escapes, TOML understands; but for what only JSON may leave as it is.
    serde_json::Value::from(text).to_string().replace('\u{7f}', "\\u007F")
}

/// A field before and after.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChangedField {
    /// What it held, if it was there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub was: Option<String>,
    /// What it holds, if it is there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub now: Option<String>,
}

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

impl ChangeSet {
    /// What a change did, from the data before and after it. `steps` are what was asked for, where that is known.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn between(
        title: &str,
        steps: &[Step],
        before: View<'_>,
        after: View<'_>,
    ) -> Result<ChangeSet, Error> {
        let difference = difference(before, after, &[])?;
        let mut out = ChangeSet { title: title.to_owned(), ..ChangeSet::default() };
        out.other_files = difference.files.iter().map(|(path, _)| path.clone()).collect();
        for step in steps {
            match step {
                Step::Set(SetRequest { arguments, condition: Some(condition), .. }) => {
                    let (values, tables): (Vec<&String>, Vec<&String>) =
                        arguments.iter().partition(|argument| argument.contains('='));
                    out.condition.extend(tables.first().map(|table| ChosenBy {
                        table: (*table).clone(),
                        condition: condition.clone(),
                        values: values.into_iter().cloned().collect(),
                    }));
                }
                Step::Rename { address, new, .. } => {
                    let address = Address::parse(address)?;
                    out.rename.extend(address.table.map(|table| RenamedRecord {
                        table,
                        from: address.key,
                        to: new.clone(),
                    }));
                }
                Step::RenameMany { table, keys: NewKeys::Pairs(pairs), .. } => {
                    let renamed = |(from, to): &(String, String)| RenamedRecord {
                        table: table.clone(),
                        from: from.clone(),
                        to: to.clone(),
                    };
                    out.rename.extend(pairs.iter().map(renamed));
                }
                _ => {}
            }
        }
        for table in &difference.tables {
            for record in &table.records {
                let side = if record.how == How::Removed { before } else { after };
                out.record.push(changed_record(&table.name, record, side)?);
            }
        }
        out.join_renamed();
        Ok(out)
    }

    /// Makes one changed record of what a rename removed under the old key and added under the new one.
    fn join_renamed(&mut self) {
        for renamed in &self.rename {
            let at = |how: HowChanged, key: &str| {
                let is = |own: &ChangedRecord| own.how == how && own.table == renamed.table && own.key == key;
                self.record.iter().position(is)
            };
            let (Some(old), Some(new)) =
                (at(HowChanged::Removed, &renamed.from), at(HowChanged::Added, &renamed.to))
            else {
                continue;
            };
            let mut was = std::mem::take(&mut self.record[old].fields);
            let joined = &mut self.record[new];
            joined.how = HowChanged::Changed;
            for (name, field) in &mut joined.fields {
                field.was = was.remove(name).and_then(|field| field.was);
            }
            joined.fields.extend(was);
            joined.fields.retain(|_, field| field.was != field.now);
            self.record.remove(old);
        }
        self.record.retain(|record| record.how != HowChanged::Changed || !record.fields.is_empty());
    }

    /// The change set that takes this one back.
    pub fn reversed(&self) -> ChangeSet {
        let field = |(name, own): (&String, &ChangedField)| {
            (name.clone(), ChangedField { was: own.now.clone(), now: own.was.clone() })
        };
        let key = |record: &ChangedRecord| {
            let is = |own: &&RenamedRecord| own.table == record.table && own.to == record.key;
            self.rename.iter().find(is).map_or_else(|| record.key.clone(), |own| own.from.clone())
        };
        let record = |own: &ChangedRecord| ChangedRecord {
            key: key(own),
            how: match own.how {
                HowChanged::Added => HowChanged::Removed,
                HowChanged::Removed => HowChanged::Added,
                HowChanged::Changed => HowChanged::Changed,
            },
            fields: own.fields.iter().map(field).collect(),
            ..own.clone()
        };
        let renamed = |own: &RenamedRecord| RenamedRecord {
            table: own.table.clone(),
            from: own.to.clone(),
            to: own.from.clone(),
        };
        ChangeSet {
            title: self.title.clone(),
            other_files: self.other_files.clone(),
            condition: Vec::new(),
            rename: self.rename.iter().rev().map(renamed).collect(),
            record: self.record.iter().map(record).collect(),
        }
    }

    /// As text (TOML, <https://toml.io/en/v1.0.0>), to be read by people and by [`ChangeSet::parse`]: a line for each field.
    pub fn to_text(&self) -> String {
        let list = |texts: &[String]| toml::Value::from(texts.to_vec()).to_string();
        let mut out = format!("title = {}\n", quoted(&self.title));
        if !self.other_files.is_empty() {
            let _ = writeln!(out, "other_files = {}", list(&self.other_files));
        }
        for ChosenBy { table, condition, values } in &self.condition {
            let (table, condition, values) = (quoted(table), quoted(condition), list(values));
            let _ = write!(out, "\n[[condition]]\ntable = {table}\nwhere = {condition}\nvalues = {values}\n");
        }
        for RenamedRecord { table, from, to } in &self.rename {
            let (table, from, to) = (quoted(table), quoted(from), quoted(to));
            let _ = write!(out, "\n[[rename]]\ntable = {table}\nfrom = {from}\nto = {to}\n");
        }
        for record in &self.record {
            let (table, key, file) = (quoted(&record.table), quoted(&record.key), quoted(&record.file));
            let how = record.how.name();
            let _ = write!(out, "\n[[record]]\nhow = \"{how}\"\ntable = {table}\nkey = {key}\n");
            if let Some(language) = &record.language {
                let _ = writeln!(out, "language = {}", quoted(language));
            }
            let _ = writeln!(out, "file = {file}");
            if !record.fields.is_empty() {
                out.push_str("[record.fields]\n");
            }
            for (name, ChangedField { was, now }) in &record.fields {
                let side = |word: &str, value: &Option<String>| {
                    value.as_ref().map(|value| format!("{word} = {}", quoted(value)))
                };
                let sides: Vec<String> = side("was", was).into_iter().chain(side("now", now)).collect();
                let _ = writeln!(out, "{} = {{ {} }}", quoted(name), sides.join(", "));
            }
        }
        out
    }

    /// Reads what [`ChangeSet::to_text`] wrote; `name` is that of the file, for messages.
    ///
    /// # Errors
    /// When it is no change set, with the place.
    pub fn parse(name: &str, text: &str) -> Result<ChangeSet, Error> {
        toml::from_str(text).map_err(|error| {
            let line =
                error.span().map_or(1, |span| text[..span.start.min(text.len())].matches('\n').count() + 1);
            Error::Usage {
                message: format!("`{name}`, line {line}: {}", error.message()),
                help: "a change set is written from a change of the history".into(),
            }
        })
    }
}

fn changed_record(table: &str, record: &RecordDifference, side: View<'_>) -> Result<ChangedRecord, Error> {
    let id = find_table(side.schema, table)?;
    let own = record.fields.iter().filter(|field| !holds_records(side.schema, id, &field.name));
    let field = |own: &FieldDifference| {
        (own.name.clone(), ChangedField { was: own.before.clone(), now: own.after.clone() })
    };
    Ok(ChangedRecord {
        table: table.to_owned(),
        key: record.key.clone(),
        language: record.language.clone(),
        how: match record.how {
            How::Added => HowChanged::Added,
            How::Removed => HowChanged::Removed,
            How::Changed => HowChanged::Changed,
        },
        file: side.stack.files()[record.file].path.to_string(),
        fields: own.map(field).collect(),
    })
}

/// Whether the field called `name` holds records of another table, which has them as its own.
fn holds_records(schema: &Schema, table: TableId, name: &str) -> bool {
    let own = &schema.tables[table];
    let Some(outer) = own.format.records_path() else { return false };
    let lies_there = |other: &&Table| {
        let shares = || other.files.iter().any(|file| own.files.iter().any(|own| own.source == file.source));
        let inner =
            other.format.records_path().and_then(|inner| inner.strip_prefix(outer).map(str::to_owned));
        let inner = inner.filter(|inner| !inner.is_empty());
        let of_field = |inner: &String| {
            let inner = inner.trim_start_matches(['/', '.']);
            inner.strip_prefix(name).is_some_and(|rest| rest.is_empty() || rest.starts_with(['/', '.', '[']))
        };
        inner.as_ref().is_some_and(of_field) && shares()
    };
    schema.tables.iter().enumerate().filter(|(id, _)| *id != table).any(|(_, other)| lies_there(&other))
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
    for renamed in &change_set.rename {
        run.rename(renamed)?;
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
    /// The keys of texts that are added, with what they say: `LANGUAGE=TEXT`.
    texts: BTreeMap<String, Vec<String>>,
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
    /// Gives a record its other key, if it has the old one and no record has the new one.
    fn rename(&mut self, renamed: &RenamedRecord) -> Result<(), Error> {
        let project = self.sequence.project();
        let table = find_table(&project.schema, &renamed.table)?;
        let labels = Labels::default();
        let rows = Rows::read(project.view(), table, &labels)?;
        let has = |key: &str| rows.rows.iter().any(|row| row.key.is_some() && row.shown_key() == key);
        match (has(&renamed.from), has(&renamed.to)) {
            (true, false) => {
                let change = rename(project, &Address::show(&renamed.table, &renamed.from), &renamed.to)?;
                self.sequence.push(change)
            }
            (true, true) => {
                self.conflicts.push(Conflict {
                    record: Address::show(&renamed.table, &renamed.to),
                    field: None,
                    was: "not there".to_owned(),
                    ours: "there, beside the one that is to get its key".to_owned(),
                    theirs: format!("the new key of {}", renamed.from),
                });
                Ok(())
            }
            (false, _) => Ok(()),
        }
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
                                .push(format!("{language}={}", text.1));
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
        for (key, values) in &plan.texts {
            let request = AddRequest {
                table: name.clone(),
                keys: vec![key.clone()],
                values: values.clone(),
                ..AddRequest::default()
            };
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
