//! Adding records, written as their neighbours are.
//!
//! A new record is made of one that is there, its model: the key and the values given take the place of those of the model,
//! what follows from the key is made anew, and all else goes, unless the new one is to be like the model.

mod many;
mod names;
mod place;

use self::many::{missing_keys, of_sheet};
use super::assignment::{Action, Assignment, FieldTarget};
use super::builder::Builder;
use super::change::Change;
use super::column_style::ColumnStyles;
use super::field_value::FieldValues;
use super::new_values::{NewValues, value_edits};
use super::overlay::{insert_over, key_columns, taken_with_parents};
use super::own_records::find_table;
use super::record_finder::{RecordFinder, no_label};
use super::record_place::{RecordPlace, beside, last_position, row_with_key};
use super::rename::{new_key, refuse_taken};
use super::reorder::then_beside;
use super::set::Sheet;
use super::unused_values::UnusedValues;
use crate::Error;
use crate::formats::{NewEntry, Part, Place};
use crate::layers::FileId;
use crate::links::Address;
use crate::project::Project;
use crate::rows::{Row, Rows};
use crate::schema::{KeyPart, Layout, Table, TableId, Texts};
use crate::tables::{KEY_SEPARATOR, shown_key};
use crate::text::{EditSet, LoadedText, Span, Text};
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, HashMap, HashSet};
use std::rc::Rc;
use std::sync::Arc;

/// What is to be added.
#[derive(Debug, Clone, Default, PartialEq, Serialize, Deserialize)]
pub struct AddRequest {
    /// The table.
    pub table: String,
    /// The keys of the new records, with `/` between their parts.
    pub keys: Vec<String>,
    /// What they hold: `FIELD=VALUE`.
    pub values: Vec<String>,
    /// The key of a record that they are like in all that is not given.
    pub like: Option<String>,
    /// Where they go.
    pub place: RecordPlace,
    /// How they are called in the main language.
    pub name: Option<String>,
    /// A sheet with further records.
    pub sheet: Option<Sheet>,
    /// Whether there is to be one for each name that references of the mod have and no record.
    pub missing: bool,
}

/// Builds the change that adds records.
///
/// # Errors
/// When there is no such table or field, a key is taken or not valid, there is nothing that a record could be made like,
/// or a value cannot stand where it should.
pub fn add(project: &Project, request: &AddRequest) -> Result<Change, Error> {
    let table = find_table(&project.schema, &request.table)?;
    let mut finder = RecordFinder::new(project);
    let mut wanted: Vec<(String, Vec<Assignment>)> = Vec::new();
    let assignments = Assignment::parse_all(&request.values)?;
    wanted.extend(request.keys.iter().map(|key| (key.clone(), assignments.clone())));
    if let Some(sheet) = &request.sheet {
        let rows = finder.rows(table)?;
        wanted.extend(of_sheet(&rows, sheet).into_iter().map(|(key, mut own)| {
            own.extend(assignments.iter().cloned());
            (key, own)
        }));
    }
    if request.missing {
        wanted.extend(missing_keys(project, table).into_iter().map(|key| (key, assignments.clone())));
    }
    if wanted.is_empty() && request.missing {
        let reason =
            format!("no reference of the mod names a record of `{}` that is not there", request.table);
        return Err(Error::nothing_to_do(reason));
    }
    if wanted.is_empty() {
        let message = "no key is given".to_owned();
        return Err(Error::Usage { message, help: "name the key of the new record behind the table".into() });
    }
    let title = match &wanted[..] {
        [(key, _)] => format!("add {}", Address::show(&request.table, key)),
        all => format!("add {} records to {}", all.len(), request.table),
    };
    let mut work = Work {
        project,
        builder: Builder::new(project, title),
        entries: BTreeMap::new(),
        unused: UnusedValues::default(),
        texts: HashMap::new(),
        styles: HashMap::new(),
        added: 0,
        keys: Vec::new(),
        asked: table,
        request,
    };
    let mut seen = HashSet::new();
    for (key, values) in &wanted {
        if !seen.insert(key) {
            return Err(Error::Usage {
                message: format!("the key `{key}` is given twice"),
                help: "each record has its own".into(),
            });
        }
        work.add(&mut finder, table, key, values)?;
        work.added += 1;
    }
    work.write()?;
    work.builder.count_records(wanted.len());
    let (keys, counted) = (work.keys, project.schema.tables[table].key.contains(&KeyPart::Position));
    let change = work.builder.finish()?;
    if !counted {
        return Ok(change);
    }
    let rows = finder.rows(table)?;
    match beside(&rows, &request.place)? {
        Some((row, side)) => then_beside(project, change, table, &keys, (&row.shown_key(), side)),
        None => Ok(change),
    }
}

struct Work<'p> {
    project: &'p Project,
    builder: Builder<'p>,
    /// What is put into each file, with its table and place.
    entries: BTreeMap<FileId, Vec<(TableId, NewEntry, Place)>>,
    unused: UnusedValues,
    /// The files that models stand in.
    texts: HashMap<FileId, Rc<LoadedText>>,
    /// How the columns of each table are written.
    styles: HashMap<TableId, Rc<ColumnStyles>>,
    /// How many records were added so far.
    added: usize,
    /// The keys of those that were asked for, as kept in memory.
    keys: Vec<String>,
    /// The table whose records were asked for; texts that name them go into other tables.
    asked: TableId,
    request: &'p AddRequest,
}

/// The record that a new one is made of.
struct Model<'m> {
    row: &'m Row,
    /// Whether all that is not given is taken over.
    is_like: bool,
}

impl<'p> Work<'p> {
    /// The key of the record that new ones in a table are to be like.
    fn like(&self, table: TableId) -> Option<&'p String> {
        self.request.like.as_ref().filter(|_| table == self.asked)
    }

    /// Where new records of a table go.
    fn asked_place(&self, table: TableId) -> &'p RecordPlace {
        if table == self.asked { &self.request.place } else { &RecordPlace::Fitting }
    }

    fn add(
        &mut self,
        finder: &mut RecordFinder<'p>,
        table: TableId,
        key: &str,
        values: &[Assignment],
    ) -> Result<(), Error> {
        let described = &self.project.schema.tables[table];
        if let Some(Texts::File(field)) = &described.texts {
            return self.add_texts(finder, table, *field, key, values);
        }
        let mut targets = Vec::new();
        for value in values {
            targets.push((finder.field(table, &value.left)?, value.action.clone()));
        }
        let rows = finder.rows(table)?;
        let row = self.model(&rows, table, key)?;
        let model = Model { row, is_like: self.like(table).is_some() };
        let kept = self.new_key(finder, described, row, key)?;
        let mut fields = self.values(finder, &model, &rows, &targets, &kept)?;
        if let Some(name) = self.request.name.as_ref().filter(|_| table == self.asked) {
            let label = described.label.ok_or_else(|| no_label(described))?;
            self.add_name(finder, described, label, name, &kept, &mut fields)?;
        }
        self.put(table, &rows, row, &kept, fields)?;
        if table == self.asked {
            self.keys.push(kept);
        }
        Ok(())
    }

    /// The new key as kept in memory.
    fn new_key(
        &self,
        finder: &mut RecordFinder<'p>,
        table: &Table,
        model: &Row,
        key: &str,
    ) -> Result<String, Error> {
        let old = model.key.as_deref().unwrap_or_default();
        if table.key.contains(&KeyPart::Position) {
            let id = find_table(&self.project.schema, &table.name)?;
            let rows = finder.rows(id)?;
            if matches!(self.asked_place(id), RecordPlace::First | RecordPlace::Last) {
                return Err(Error::Usage {
                    message: format!(
                        "the records of `{}` are named by their position in their group",
                        table.name
                    ),
                    help: "name the record that the new one goes before or behind".into(),
                });
            }
            return last_position(&rows, old, key, model.file);
        }
        let parts: Vec<&str> = if table.key.len() == 1 { vec![key] } else { key.split('/').collect() };
        if parts.len() == table.key.len() && parts.join("/") == shown_key(old) {
            return Err(taken(table, key));
        }
        // With a part of the path it says which file is meant.
        let chooses_file = table.key.len() > 1 && table.key.iter().any(|part| part.is_of_path());
        let own = match chooses_file && parts.len() == table.key.len() {
            true => parts.join(&KEY_SEPARATOR.to_string()),
            false => new_key(table, old, key)?,
        };
        let id = find_table(&self.project.schema, &table.name)?;
        let mut known = finder.rows_with_key(id, &shown_key(&own))?;
        if let Some(Texts::File(_)) = table.texts {
            // A text may be there in other languages.
            let rows = finder.rows(id)?;
            let language = |row: &Row| rows.paths.get(&row.file).and_then(|path| table.language_of(path));
            known.retain(|at| language(&rows.rows[*at]) == language(model));
        }
        if !known.is_empty() {
            refuse_taken(self.project, id, "", &own, key)?;
            return Err(taken(table, key));
        }
        Ok(own)
    }

    /// The record that the new one is made of: the one that it is to be like, the one that it stands beside, or the last
    /// one of its group, its file, the mod, the table.
    fn model<'r>(&self, rows: &'r Rows, table: TableId, key: &str) -> Result<&'r Row, Error> {
        let described = &self.project.schema.tables[table];
        let stack = &self.project.stack;
        if let Some(wanted) = self.like(table) {
            return row_with_key(rows, wanted);
        }
        if let Some((row, _)) = beside(rows, self.asked_place(table))? {
            return Ok(row);
        }
        let group = key.rsplit_once('/').map(|(group, _)| group).filter(|_| described.key.len() > 1);
        let in_mod = |row: &Row| stack.layers()[stack.files()[row.file].layer].is_mod;
        let separator = KEY_SEPARATOR.to_string();
        let group = group.map(|group| group.replace('/', &separator));
        let in_group = |row: &Row| match (&group, &row.key) {
            (Some(group), Some(own)) => {
                own.rsplit_once(KEY_SEPARATOR).is_some_and(|(own, _)| own == group.as_str())
            }
            _ => false,
        };
        let in_file = |row: &Row| match self.asked_place(table) {
            RecordPlace::In(path) => rows.paths.get(&row.file).is_some_and(|own| own.as_str() == path),
            _ => true,
        };
        let candidates = || rows.rows.iter().filter(|row| row.key.is_some() && in_file(row));
        if let (RecordPlace::In(path), None) = (self.asked_place(table), candidates().next()) {
            return Err(Error::Usage {
                message: format!("`{path}` has no record of `{}`", described.name),
                help: "name a file that has some, or a record that the new one is like".into(),
            });
        }
        let best = candidates().enumerate().max_by_key(|(at, row)| (in_group(row), in_mod(row), *at));
        best.map(|(_, row)| row).ok_or_else(|| {
            Error::refused(
                format!("`{}` has no record yet that the new one could be like", described.name),
                "write the first one by hand; nothing was changed",
            )
        })
    }

    /// What the fields of the new record hold, by the position of the field in the table of `rows`; what is not told is as
    /// in the model.
    fn values(
        &mut self,
        finder: &mut RecordFinder<'p>,
        model: &Model<'_>,
        rows: &Arc<Rows>,
        targets: &[(FieldTarget, Action)],
        key: &str,
    ) -> Result<Vec<(usize, Vec<String>)>, Error> {
        let table = &rows.table;
        let blank = Row { cells: vec![None; rows.columns.len()], ..model.row.clone() };
        let start = if model.is_like { model.row } else { &blank };
        let mut out = FieldValues::new(self.project, finder, rows, 1)
            .skipping(self.added)
            .styled(Rc::clone(self.styles.entry(rows.id).or_default()))
            .assigned(start, targets)?;
        let last = key.rsplit(KEY_SEPARATOR).next().unwrap_or_default();
        let mut parts = key.split(KEY_SEPARATOR);
        for part in &table.key {
            if let (KeyPart::Field(field), Some(value)) = (part, parts.next()) {
                out.push((*field, vec![value.to_owned()]));
            }
        }
        for (at, field) in table.fields.iter().enumerate() {
            // What heads a record is no value of it.
            if out.iter().any(|(own, _)| *own == at) || field.column.starts_with('{') {
                continue;
            }
            let has_some = rows.fields.iter().position(|own| *own == at);
            let has_some = has_some.is_some_and(|column| model.row.cells[column].is_some());
            let Layout::Whole(rule) = field.layout else {
                if has_some && !model.is_like {
                    out.push((at, nothing(table, at)));
                }
                continue;
            };
            let rule = &table.rules[rule];
            if let Some(follows) = &field.follows {
                if has_some || rule.required {
                    out.push((at, vec![follows.fill_one(last)]));
                }
            } else if has_some && rule.unique && (model.is_like || rule.required) {
                let value = self.unused.next(self.project, rows.id, &field.name)?;
                out.extend(value.map(|value| (at, vec![value])));
            } else if has_some && (!model.is_like || field.note) {
                out.push((at, nothing(table, at)));
            }
        }
        Ok(out)
    }

    /// Makes the record of its model, and puts it where it goes.
    fn put(
        &mut self,
        table: TableId,
        rows: &Rows,
        model: &Row,
        key: &str,
        mut fields: Vec<(usize, Vec<String>)>,
    ) -> Result<(), Error> {
        let described = &self.project.schema.tables[table];
        let stack = &self.project.stack;
        let entry = &stack.files()[model.file];
        let path = entry.path.clone();
        let refused = |reason: String| Error::refused(format!("`{path}`: {reason}"), "nothing was changed");
        let loaded = match self.texts.get(&model.file) {
            Some(loaded) => Rc::clone(loaded),
            None => {
                let bytes = self.builder.bytes(model.file)?.to_vec();
                let loaded = Rc::new(LoadedText::new(bytes, entry.encoding));
                self.texts.insert(model.file, Rc::clone(&loaded));
                loaded
            }
        };
        let whole = loaded.text();
        // Where records are lines, one of them is enough of a file.
        let alone = described.reads_blocks().then(|| one_row(rows, model, &whole));
        let (text, span) = match &alone {
            Some((text, span)) => (Text::of_file(text), *span),
            None => (whole, model.span),
        };
        // What names the records around it is chosen by the place, and not written.
        let within = |field: &usize| {
            let column = rows.fields.iter().position(|own| own == field);
            let cell = column.and_then(|column| model.cells[column].as_ref());
            cell.is_none_or(|cell| {
                cell.file != model.file
                    || (model.span.start <= cell.span.start && cell.span.end <= model.span.end)
            })
        };
        let is_around = |field: &usize| rows.table.stands_around(KeyPart::Field(*field));
        let needs_parent = self.needs_parent(described, rows, model, key)?;
        fields.retain(|(field, _)| {
            let is_written = within(field) && !is_around(field) || needs_parent && is_around(field);
            is_written || !rows.table.is_key_field(*field)
        });
        let is_bare = self.like(table).is_none();
        let values = NewValues { record: span, key: model.key.clone(), fields, is_bare };
        let edits = EditSet::new(value_edits(&rows.table, &path, &text, &[values])?)
            .map_err(|error| refused(error.to_string()))?;
        if let Some(to) = self.new_file(described, model, &path, key)? {
            let after = edits.apply_to(text.as_str());
            let after = after.ok_or_else(|| refused("the edits do not fit it".to_owned()))?;
            return self.builder.create(&to, &after, Some(model.file));
        }
        let target = self.target(described, rows, model, key)?;
        let new = if needs_parent {
            let taken = taken_with_parents(described, (&path, &text), &[span], &edits, false);
            taken.map_err(refused)?.into_iter().next().unwrap_or_default()
        } else {
            let from = described.format.editor(&text);
            let from = from.ok_or_else(|| refused("nothing in it can be edited".to_owned()))?;
            let columns = key_columns(described);
            let part = Part { record: span, edits: &edits, whole: true, notes: false, key: &columns };
            from.take(&part).map_err(refused)?
        };
        let place = self.place(described, rows, model, target, key)?;
        self.entries.entry(target).or_default().push((table, new, place));
        Ok(())
    }

    /// Puts all entries into their files.
    fn write(&mut self) -> Result<(), Error> {
        let stack = &self.project.stack;
        for (file, entries) in std::mem::take(&mut self.entries) {
            let path = stack.files()[file].path.clone();
            let Some((table, ..)) = entries.first() else { continue };
            let table = &self.project.schema.tables[*table];
            let refused =
                |reason: String| Error::refused(format!("`{path}`: {reason}"), "nothing was changed");
            let entry = &stack.files()[file];
            let is_over =
                entry.merged && !stack.layers()[entry.layer].is_mod && table.format.adds().is_some();
            if is_over {
                let entries: Vec<NewEntry> = entries.into_iter().map(|(_, entry, _)| entry).collect();
                insert_over(self.project, &mut self.builder, file, table.format.as_ref(), &entries)?;
                continue;
            }
            self.builder.edit_with(file, |text, pending| {
                let Some(mut editor) = table.format.editor(text) else { return Ok(Vec::new()) };
                editor.expect_edits(pending);
                for (_, entry, place) in &entries {
                    editor.insert(entry, *place).map_err(refused)?;
                }
                Ok(editor.finish())
            })?;
        }
        Ok(())
    }
}

/// What a field holds that has nothing: what stands for none, or no value at all.
fn nothing(table: &Table, field: usize) -> Vec<String> {
    let rule = &table.rules[table.fields[field].layout.rules()[0]];
    rule.none.first().cloned().into_iter().collect()
}

/// What heads the file of `model`, and that row alone, with its place.
fn one_row(rows: &Rows, model: &Row, text: &Text<'_>) -> (String, Span) {
    let of_file = rows.rows.iter().filter(|row| row.file == model.file);
    let head_end = of_file.map(|row| row.span.start).min().unwrap_or(model.span.start);
    let head = &text.as_str()[..head_end as usize];
    let row = model.span.of(text.as_str());
    let behind = &text.as_str()[model.span.end as usize..];
    let end = if behind.starts_with("\r\n") { "\r\n" } else { "\n" };
    (format!("{head}{row}{end}"), Span::new(head.len(), head.len() + row.len()))
}

fn taken(table: &Table, key: &str) -> Error {
    Error::refused(
        format!("there is a record {} already", Address::show(&table.name, key)),
        "choose another key; nothing was changed",
    )
}
