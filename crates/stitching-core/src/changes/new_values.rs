//! Records that get other values, and the edits that write them: in place where a value is there, as the neighbours have
//! it where it is not.

use super::builder::Builder;
use super::change::Note;
use super::list_edit::{Step, steps};
use super::overlay::{Added, add_records_over};
use super::rewrite::changed_meanwhile;
use crate::Error;
use crate::formats::{Cell, Editor, Form, decode};
use crate::layers::{FileId, RelPath};
use crate::links::Address;
use crate::project::Project;
use crate::schema::Table;
use crate::tables::{RecordView, RecordVisitor, read_records_at};
use crate::text::{Edit, LineTable, Span, Text};
use std::collections::{BTreeMap, HashMap, HashSet};

/// A record and what it gets.
#[derive(Debug, Clone)]
pub(super) struct NewValues {
    /// Its place in the file.
    pub record: Span,
    /// Its key as kept in memory, for messages.
    pub key: Option<String>,
    /// By the position of a field in the table's fields, all values that it is to have.
    pub fields: Vec<(usize, Vec<String>)>,
    /// Whether nothing else of it is to be left: notes go, and what becomes empty.
    pub is_bare: bool,
}

/// Gives records of `table` new values. `table` may have more fields than the schema's. Records of a base layer in a table
/// whose layers count together get what changes in the mod's file over it.
///
/// # Errors
/// When a file cannot be read, or is another than it was when the records were looked for; when a value cannot stand where
/// it should.
pub(super) fn write_values(
    project: &Project,
    builder: &mut Builder<'_>,
    table: &Table,
    by_file: BTreeMap<FileId, Vec<NewValues>>,
) -> Result<(), Error> {
    let stack = &project.stack;
    let is_over = |file: &FileId| {
        let entry = &stack.files()[*file];
        table.merged && !stack.layers()[entry.layer].is_mod && table.format.adds().is_some()
    };
    let (over, plain): (Vec<_>, Vec<_>) = by_file.into_iter().partition(|(file, _)| is_over(file));
    builder.edit_all(&plain, |file, text, records| {
        value_edits(table, &stack.files()[file].path, text, records)
    })?;
    for (file, records) in over {
        let path = &stack.files()[file].path;
        for key in records.iter().filter_map(|record| record.key.as_deref()) {
            builder.note(Note::Added(Address::show(&table.name, key), path.to_string()));
        }
        let text = builder.text(file)?;
        let edits = value_edits(table, path, &text, &records)?;
        let columns = |record: &NewValues| {
            let fields = record.fields.iter().map(|(field, _)| table.fields[*field].column.clone());
            fields.collect::<Vec<_>>()
        };
        let added: Vec<Added> =
            records.iter().map(|record| Added { record: record.record, columns: columns(record) }).collect();
        add_records_over(project, builder, table, file, edits, &added)?;
    }
    Ok(())
}

/// The edits that give `records` of the file at `path` their new values.
pub(super) fn value_edits(
    table: &Table,
    path: &RelPath,
    text: &Text<'_>,
    records: &[NewValues],
) -> Result<Vec<Edit>, Error> {
    let mut fields: Vec<usize> =
        records.iter().flat_map(|record| record.fields.iter().map(|(field, _)| *field)).collect();
    crate::tables::add_key_fields(table, &mut fields);
    fields.sort_unstable();
    fields.dedup();
    let mut offsets: Vec<usize> = records.iter().map(|record| record.record.start as usize).collect();
    offsets.sort_unstable();
    let mut reader = CellsOf {
        wanted: records.iter().map(|record| record.record).collect(),
        found: HashMap::with_capacity(records.len()),
    };
    read_records_at(table, path, text, &fields, &offsets, &mut reader);
    let (mut out, mut editor) = (Vec::new(), None);
    for record in records {
        let cells = reader.found.get(&record.record).ok_or_else(|| changed_meanwhile(path))?;
        for (field, values) in &record.fields {
            if table.fields[*field].of_path.is_some() {
                let name = &table.fields[*field].name;
                return Err(Error::refused(
                    format!("`{path}`: `{name}` stands in the path of the file, and not in the record"),
                    "rename the file or its folder; nothing was changed",
                ));
            }
            let own: Vec<Cell> = cells.iter().filter(|(at, _)| at == field).map(|(_, cell)| *cell).collect();
            let mut writer = Writer { table, text, editor: &mut editor, edits: &mut out };
            writer.write(record.record, &table.fields[*field].column, &own, values).map_err(|reason| {
                let at = own.first().map_or(record.record.start, |cell| cell.span.start);
                let (line, column) =
                    LineTable::new(text.as_str(), text.body()).line_column(text.as_str(), at);
                let name = &table.fields[*field].name;
                Error::refused(format!("{path}:{line}:{column}: `{name}`: {reason}"), "nothing was changed")
            })?;
        }
    }
    for record in records.iter().filter(|record| record.is_bare) {
        let mut writer = Writer { table, text, editor: &mut editor, edits: &mut out };
        let stripped = writer.editor().and_then(|editor| editor.strip(record.record));
        stripped.map_err(|reason| Error::refused(format!("`{path}`: {reason}"), "nothing was changed"))?;
    }
    out.extend(editor.map_or(Vec::new(), Editor::finish));
    Ok(out)
}

struct Writer<'w, 't> {
    table: &'t Table,
    text: &'w Text<'t>,
    editor: &'w mut Option<Editor<'t>>,
    edits: &'w mut Vec<Edit>,
}

impl<'t> Writer<'_, 't> {
    /// What edits the file by its entries; made when it is first needed.
    fn editor(&mut self) -> Result<&mut Editor<'t>, String> {
        if self.editor.is_none() {
            *self.editor = self.table.format.editor(self.text);
        }
        self.editor.as_mut().ok_or_else(|| "there is nothing to edit in files of this format".to_owned())
    }

    /// Gives `column` of `record`, which has `cells` there, the `values`.
    fn write(&mut self, record: Span, column: &str, cells: &[Cell], values: &[String]) -> Result<(), String> {
        let text = self.text.as_str();
        let by_entry = cells.iter().any(|cell| cell.form == Form::XmlName);
        if let ([_] | [], [value], true) | ([], [value], _) = (cells, values, by_entry)
            && !column.ends_with("[*]")
        {
            return self.editor()?.set(record, column, value);
        }
        if !values.is_empty() && cells.iter().any(|cell| cell.form == Form::Nested) {
            return Err("it holds other values".to_owned());
        }
        if cells.is_empty() && values.len() > 1 {
            return self.editor()?.insert_list(record, column, values);
        }
        let old: Vec<String> = cells.iter().map(|cell| decode(text, cell).text.into_owned()).collect();
        for step in steps(&old, values) {
            match step {
                Step::Replace(at, value) => {
                    let cell = cells.get(at).ok_or("it is not where it was")?;
                    self.edits.push(self.replaced(cell, column, &old[at], &value)?);
                }
                Step::Remove(at) => self.remove(record, column, cells, at)?,
                Step::Insert(at, value) => self.editor()?.insert_item(record, column, &value, at)?,
            }
        }
        Ok(())
    }

    /// Takes the value with the number `at` out with what is there for it alone; in formats of rows it is left empty.
    fn remove(&mut self, record: Span, column: &str, cells: &[Cell], at: usize) -> Result<(), String> {
        let cell = cells.get(at).ok_or("it is not where it was")?;
        let editor = self.editor()?;
        // One value of a list goes as an item, and the others stay.
        let removed = editor.remove_item(record, column, at);
        if removed.is_ok() || editor.remove_value(cell.span) {
            return Ok(());
        }
        if cells.len() > 1 || column.ends_with("[*]") {
            return removed;
        }
        let text = self.table.format.encode(cell, column, "")?;
        self.edits.push(Edit { span: cell.span, text });
        Ok(())
    }

    /// The edit that puts `new` in place of `old`, which is what `cell` says.
    fn replaced(&self, cell: &Cell, column: &str, old: &str, new: &str) -> Result<Edit, String> {
        let encode = |value: &str| self.table.format.encode(cell, column, value);
        let is_as_it_stands = cell.form != Form::Plain || encode(old).is_ok_and(|text| text == old);
        if is_as_it_stands {
            return Ok(Edit { span: cell.span, text: encode(new)? });
        }
        // It could not be written so anew, as one line of several that ends with a blank: only what differs is.
        let begins = old.chars().zip(new.chars()).take_while(|(old, new)| old == new);
        let start: usize = begins.map(|(same, _)| same.len_utf8()).sum();
        let ends = old[start..].chars().rev().zip(new[start..].chars().rev());
        let end: usize = ends.take_while(|(old, new)| old == new).map(|(same, _)| same.len_utf8()).sum();
        let text = &new[start..new.len() - end];
        if !text.is_empty() && encode(text.trim())? != text.trim() {
            return Err(format!("`{text}` cannot be put into the middle of it"));
        }
        let from = cell.span.start as usize + start;
        Ok(Edit { span: Span::new(from, cell.span.end as usize - end), text: text.to_owned() })
    }
}

/// The cells of the records at some places.
struct CellsOf {
    wanted: HashSet<Span>,
    found: HashMap<Span, Vec<(usize, Cell)>>,
}

impl RecordVisitor for CellsOf {
    fn record(&mut self, record: &RecordView<'_>) {
        if self.wanted.contains(&record.span) {
            let cells = record.cells.iter().map(|cell| (usize::from(cell.column), cell.cell));
            self.found.insert(record.span, cells.collect());
        }
    }
}
