//! Removing records with all that belongs to them.

use super::belongings::{Belongings, folders_within};
use super::builder::Builder;
use super::change::{Change, Note};
use super::list_edit::ListValue;
use super::new_values::{NewValues, write_values};
use super::own_records::{find_table, resolve};
use super::rename::refuse_duplicates;
use super::switch::is_whole_file;
use crate::formats::{Form, decode};
use crate::help::NextStep;
use crate::layers::{FileId, RelPath};
use crate::links::{Address, Found, Thing, Use, belongs_by, find_by_value};
use crate::problem::{Problem, Severity};
use crate::project::Project;
use crate::reading::{PlaceResolver, with_text};
use crate::schema::{OnRemove, Table, TableId};
use crate::tables::{RecordView, RecordVisitor, add_key_fields, read_records_at, shown_key, split_value};
use crate::text::Span;
use crate::{Code, Error, Refusal};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap, HashSet};

/// What is to be removed.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct RemoveRequest {
    /// The addresses of records.
    pub addresses: Vec<String>,
    /// Whether what refers to them loses the reference: an item goes out of its list, another value becomes none.
    pub detach: bool,
    /// Whether the records that refer to them go too.
    pub cascade: bool,
    /// The tables whose references stay, and lead nowhere.
    pub keep: Vec<String>,
    /// Whether what only they needed goes too.
    pub with_unused: bool,
}

/// Builds the change that removes records with all that belongs to them.
///
/// # Errors
/// When an address names no record or several, when something else refers to one of them, or when it lies in a base layer
/// that goes on being read.
pub fn remove(project: &Project, request: &RemoveRequest) -> Result<Change, Error> {
    let schema = &project.schema;
    let kept: HashSet<TableId> =
        request.keep.iter().map(|name| find_table(schema, name)).collect::<Result<_, Error>>()?;
    let mut roots = Vec::new();
    for address in &request.addresses {
        if schema.table(address).is_some() {
            return Err(Error::Usage {
                message: format!("`{address}` is a table, and records are removed"),
                help: format!("name a record of it: {address}:KEY").into(),
            });
        }
        let found = resolve(project.view(), address)?;
        if let Some(field) = found.field {
            let record = Address::show(&schema.tables[found.table].name, &found.key);
            return Err(Error::Usage {
                message: format!("`{address}` names a field, and records are removed"),
                help: format!(
                    "to empty it, set {record}.{}=; to take an item out, set FIELD-=ITEM",
                    schema.tables[found.table].fields[field].name
                )
                .into(),
            });
        }
        refuse_duplicates(project, &found)?;
        roots.push(found);
    }
    let title = format!("remove {}", request.addresses.join(" "));
    let mut own = Belongings::new(project, roots.clone());
    let follows = |one: &Use| {
        let rule = &schema.tables[one.table].rules[one.rule];
        !kept.contains(&one.table)
            && (belongs_by(schema, one.table, one.rule)
                || rule.on_remove == OnRemove::Record
                || request.cascade && rule.on_remove == OnRemove::Refuse
                // Without a part of its key it would be none.
                || request.detach && schema.tables[one.table].is_key_field(rule.field))
    };
    own.gather(&follows)?;
    while request.with_unused && own.take_unused()? {
        own.gather(&follows)?;
    }
    let mut work = Work { project, builder: Builder::new(project, title), own };
    let uses = work.sort_uses(&kept, request.detach)?;
    work.detach(uses.detached)?;
    work.tell(&roots, uses.left);
    work.take_out()?;
    work.builder.finish()
}

/// The places that refer to what goes, from records that stay.
#[derive(Default)]
struct Sorted {
    /// They lose the reference.
    detached: Vec<Use>,
    /// They stay, and lead nowhere.
    left: Vec<Use>,
}

struct Work<'p> {
    project: &'p Project,
    builder: Builder<'p>,
    own: Belongings<'p>,
}

impl Work<'_> {
    /// Sorts the places that refer to what goes by what becomes of them; refuses if some keep it.
    fn sort_uses(&mut self, kept: &HashSet<TableId>, detach: bool) -> Result<Sorted, Error> {
        let schema = &self.project.schema;
        let mut out = Sorted::default();
        let mut blockers = Vec::new();
        let mut others: HashMap<(TableId, usize, String), bool> = HashMap::new();
        for one in std::mem::take(&mut self.own.uses) {
            if self.own.has(one.file, one.span) || self.is_held_by_others(&one, &mut others)? {
                continue;
            }
            match schema.tables[one.table].rules[one.rule].on_remove {
                _ if kept.contains(&one.table) => out.left.push(one),
                OnRemove::Report => out.left.push(one),
                OnRemove::Item | OnRemove::Nothing => out.detached.push(one),
                OnRemove::Refuse | OnRemove::Record if detach => out.detached.push(one),
                OnRemove::Refuse | OnRemove::Record => blockers.push(one),
            }
        }
        if blockers.is_empty() { Ok(out) } else { Err(self.refused(&blockers)?) }
    }

    /// Whether a use is of a value that records which stay have too.
    fn is_held_by_others(
        &self,
        one: &Use,
        known: &mut HashMap<(TableId, usize, String), bool>,
    ) -> Result<bool, Error> {
        let Some(Thing::Column(table, rule, value)) = self.own.thing(one) else { return Ok(false) };
        let field = self.project.schema.tables[*table].rules[*rule].field;
        let key = (*table, *rule, value.clone());
        if let Some(known) = known.get(&key) {
            return Ok(*known);
        }
        let found = find_by_value(self.project.view(), *table, field, value)?;
        let stays = |place: &crate::links::FoundPlace| !self.own.has(place.file, place.span);
        let held = found.iter().flat_map(|found| &found.places).any(stays);
        known.insert(key, held);
        Ok(held)
    }

    fn refused(&self, blockers: &[Use]) -> Result<Error, Error> {
        let (stack, schema) = (&self.project.stack, &self.project.schema);
        let mut places = PlaceResolver::new(stack);
        let mut problems = Vec::new();
        for one in blockers {
            let table = &schema.tables[one.table];
            let gone = self.own.thing(one).map_or_else(String::new, |thing| shown(schema, thing));
            let place = places.place(one.file, one.span)?;
            let message = format!("this refers to {gone}, which would be gone");
            let mut problem = Problem::new(Code::DANGLING_REFERENCE, Severity::Error, message, place);
            problem.table = Some(table.name.clone());
            problem.key.clone_from(&one.key);
            problem.field = Some(table.fields[one.field].name.clone());
            problems.push(problem);
        }
        problems.sort_by(|a, b| a.order().cmp(&b.order()));
        let count = match blockers.len() {
            1 => "one place refers".to_owned(),
            number => format!("{number} places refer"),
        };
        Ok(Error::Refused(Box::new(Refusal {
            reason: format!("{count} to what would be gone; nothing was changed"),
            help: NextStep::DetachOrCascade.into(),
            problems,
        })))
    }

    /// Takes the references out of records that stay.
    fn detach(&mut self, uses: Vec<Use>) -> Result<(), Error> {
        let mut by_table: BTreeMap<TableId, BTreeMap<FileId, Vec<Use>>> = BTreeMap::new();
        for one in uses {
            by_table.entry(one.table).or_default().entry(one.file).or_default().push(one);
        }
        for (table, by_file) in by_table {
            let described = &self.project.schema.tables[table];
            let mut values: BTreeMap<FileId, Vec<NewValues>> = BTreeMap::new();
            for (file, uses) in by_file {
                values.insert(file, self.detached(described, file, &uses)?);
            }
            for of_record in values.values().flatten() {
                self.builder.count(of_record.fields.len());
                let address = Address::show(&described.name, of_record.key.as_deref().unwrap_or_default());
                for (field, _) in &of_record.fields {
                    let name = &described.fields[*field].name;
                    self.builder.note(Note::Detached(format!("{address}.{name}")));
                }
            }
            write_values(self.project, &mut self.builder, described, values)?;
        }
        Ok(())
    }

    /// What the records of one file hold without the references at `uses`.
    fn detached(&self, table: &Table, file: FileId, uses: &[Use]) -> Result<Vec<NewValues>, Error> {
        let mut fields: Vec<usize> = uses.iter().map(|one| one.field).collect();
        fields.sort_unstable();
        fields.dedup();
        let mut reader = Detaching {
            fields: fields.clone(),
            records: uses.iter().map(|one| one.record).collect(),
            pieces: uses.iter().map(|one| one.span).collect(),
            found: Vec::new(),
        };
        // What tells parts of the key or which rule holds does not matter: the places are known.
        add_key_fields(table, &mut fields);
        let mut offsets: Vec<usize> = uses.iter().map(|one| one.record.start as usize).collect();
        offsets.sort_unstable();
        let path = &self.project.stack.files()[file].path;
        with_text(&self.project.stack, file, |text| {
            read_records_at(table, path, text, &fields, &offsets, &mut reader);
        })?;
        Ok(reader.found)
    }

    /// Takes note of what goes along, and of what is left.
    fn tell(&mut self, roots: &[Found], left: Vec<Use>) {
        let (schema, stack) = (&self.project.schema, &self.project.stack);
        self.builder.count_records(self.own.records.len());
        let is_root =
            |table: TableId, key: &str| roots.iter().any(|root| root.table == table && root.key == key);
        for record in &self.own.records {
            let key = record.key.as_deref().unwrap_or_default();
            if !is_root(record.table, key) {
                let table = &schema.tables[record.table].name;
                self.builder.note(Note::WentAlong(Address::show(table, key)));
            }
        }
        for (thing, count) in &self.own.shared {
            self.builder.note(Note::Shared(shown(schema, thing), *count));
        }
        for one in left {
            let table = &schema.tables[one.table];
            let key = one.kept_key.as_deref();
            let address = key.map_or_else(|| table.name.clone(), |key| Address::show(&table.name, key));
            let path = stack.files()[one.file].path.to_string();
            let field = &table.fields[one.field].name;
            self.builder.note(Note::LeftDangling(format!("{address}.{field}"), path));
            self.builder.leave_dangling(&table.name);
        }
    }

    /// Takes the records and files out.
    fn take_out(&mut self) -> Result<(), Error> {
        let project = self.project;
        let stack = &project.stack;
        for file in self.own.files.clone() {
            self.take_file(file)?;
        }
        let paths: Vec<&RelPath> = self.own.files.iter().map(|file| &stack.files()[*file].path).collect();
        for folder in self.own.folders.iter().flat_map(|folder| folders_within(folder, &paths)) {
            self.builder.remove_folder(folder);
        }
        let mut tables: HashMap<(FileId, Span), TableId> = HashMap::new();
        for record in &self.own.records {
            for place in &record.places {
                tables.entry((place.file, place.span)).or_insert(record.table);
            }
        }
        for (file, spans) in self.own.places() {
            let table = spans.first().and_then(|span| tables.get(&(file, *span)));
            let Some(table) = table.map(|table| &project.schema.tables[*table]) else { continue };
            let entry = &stack.files()[file];
            if table.merged && !stack.layers()[entry.layer].is_mod {
                return Err(Error::refused(
                    format!(
                        "`{}` of the layer `{}` counts together with the mod's, and has the record too",
                        entry.path,
                        project.layer_name(file)
                    ),
                    "the mod can only put other values over it; nothing was changed",
                ));
            }
            if is_whole_file(project, table, file, &spans)? {
                self.take_file(file)?;
                continue;
            }
            self.builder.edit_with(file, |text, _| {
                let reason = |reason: String| {
                    Error::refused(format!("`{}`: {reason}", entry.path), "nothing was changed")
                };
                let mut editor = table
                    .format
                    .editor(text)
                    .ok_or_else(|| reason("nothing in it can be edited".to_owned()))?;
                spans.iter().try_for_each(|span| editor.remove(*span)).map_err(reason)?;
                Ok(editor.finish())
            })?;
        }
        Ok(())
    }

    /// Takes a file out of the mod. One of a base layer, or over one, is refused: the game would go on reading it.
    fn take_file(&mut self, file: FileId) -> Result<(), Error> {
        let stack = &self.project.stack;
        let entry = &stack.files()[file];
        let below = stack.files().iter().find(|other| other.path == entry.path && other.layer < entry.layer);
        let base = if stack.layers()[entry.layer].is_mod { below } else { Some(entry) };
        match base {
            None => self.builder.remove(file),
            Some(base) => Err(Error::refused(
                format!(
                    "`{}` lies in the layer `{}`, where the game goes on reading it",
                    entry.path,
                    stack.layers()[base.layer].name
                ),
                "only what the mod has can be removed; nothing was changed",
            )),
        }
    }
}

/// How a thing is shown in messages.
fn shown(schema: &crate::schema::Schema, thing: &Thing) -> String {
    match thing {
        Thing::Record(table, key) => Address::show(&schema.tables[*table].name, key),
        Thing::Column(table, rule, value) => {
            let table = &schema.tables[*table];
            format!("the {} `{value}` of `{}`", table.fields[table.rules[*rule].field].name, table.name)
        }
        Thing::Text(key) => format!("the text `{}`", shown_key(key)),
        Thing::File(path) => format!("the file `{path}`"),
    }
}

/// Takes the references at some places out of the records of one file.
struct Detaching {
    fields: Vec<usize>,
    records: HashSet<Span>,
    pieces: HashSet<Span>,
    found: Vec<NewValues>,
}

impl RecordVisitor for Detaching {
    fn record(&mut self, record: &RecordView<'_>) {
        if !self.records.contains(&record.span) {
            return;
        }
        let without = |field: &usize| {
            let values = without_pieces(record.table, record, *field, &self.pieces)?;
            Some((*field, values))
        };
        let fields: Vec<(usize, Vec<String>)> = self.fields.iter().filter_map(without).collect();
        if !fields.is_empty() {
            self.found.push(NewValues { record: record.span, key: record.key(), fields, is_bare: false });
        }
    }
}

/// The values that `field` of a record has without the pieces at `pieces`; nothing if it has none of them.
fn without_pieces(
    table: &Table,
    record: &RecordView<'_>,
    field: usize,
    pieces: &HashSet<Span>,
) -> Option<Vec<String>> {
    let described = &table.fields[field];
    let (mut out, mut some) = (Vec::new(), false);
    let cells = record.cells.iter().filter(|cell| usize::from(cell.column) == field);
    let count = cells.clone().count();
    for cell in cells {
        let decoded = decode(record.text, &cell.cell);
        let value: &str = &decoded.text;
        let mut places = Vec::new();
        if cell.cell.form != Form::Nested {
            split_value(table, described, value, &mut |_, within, _, _| {
                if pieces.contains(&decoded.span(within.start, within.end))
                    || pieces.contains(&cell.cell.span)
                {
                    places.push(within);
                }
            });
        }
        if places.is_empty() {
            out.push(value.to_owned());
            continue;
        }
        some = true;
        if let Some(mut list) = ListValue::new(table, described, value, None) {
            for at in list.items_around(&places).into_iter().rev() {
                list.remove(at);
            }
            out.push(list.into_value());
        } else if count == 1 && !described.column.ends_with("[*]") {
            // Where nothing stands for none, the value goes.
            out.extend(table.rules[described.layout.rules()[0]].none.first().cloned());
        }
    }
    some.then_some(out)
}
