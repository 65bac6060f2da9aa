//! A table as rows: what the game sees of it, whichever layers its files lie in; and the columns and expressions over
//! its rows.

mod columns;
mod computed;
mod formula;
mod question;

pub use columns::{ColumnPath, Kind, Others};
pub use computed::{ComputedValues, declare_needs as declare_computed, is_same_value};
pub use formula::{Formula, evaluate_alone};

use crate::Error;
use crate::formats::decode;
use crate::help::NextStep;
use crate::layers::{FileId, RelPath, Stack};
use crate::links::{Labels, NameInUse, names_in_use};
use crate::reading::View;
use crate::reading::with_text;
use crate::schema::{KeyPart, Schema, Table, TableId};
use crate::tables::{
    CellOrder, KEY_SEPARATOR, RecordView, RecordVisitor, all_fields, files_of, read_records, shown_key,
    split_value,
};
use crate::text::{Span, nearest_of};
use columns::plain_name;
use compact_str::CompactString;
use hashbrown::HashTable;
use rayon::prelude::*;
use std::borrow::Cow;
use std::collections::{HashMap, HashSet};
use std::sync::OnceLock;
use xxhash_rust::xxh3::xxh3_64;

/// A table, read in full.
#[derive(Debug)]
pub struct Rows {
    /// Which table it is.
    pub id: TableId,
    /// Its description, with a plain field for each column that the schema does not describe.
    pub table: Table,
    /// The names of its columns, in the order of the files and then of the schema.
    pub columns: Vec<String>,
    /// For each column the position of its field in the table's fields.
    pub fields: Vec<usize>,
    /// The records, in the order of the files.
    pub rows: Vec<Row>,
    /// The paths of its files.
    pub paths: HashMap<FileId, RelPath>,
    /// The positions of the rows by their keys, once one is looked for.
    by_key: OnceLock<Keys>,
    /// What the values of each column are taken for, once that was asked for.
    kinds: Vec<OnceLock<Kind>>,
    /// Whether each column holds lists, once that was asked for.
    lists: Vec<OnceLock<bool>>,
}

/// A record as a row.
#[derive(Debug, Clone)]
pub struct Row {
    /// The key as kept in memory, if it has one.
    pub key: Option<String>,
    /// The name as the player sees it.
    pub label: Option<String>,
    /// The cells, one for each column; `None` where the record has nothing there.
    pub cells: Vec<Option<RowCell>>,
    /// The file; in a table whose layers count together, the highest that has a part of it.
    pub file: FileId,
    /// The whole record in that file.
    pub span: Span,
    /// Its position among the records of its file, 1-based.
    pub number: u32,
    /// Its position, as the table counts.
    pub position: u32,
    /// In what order its values stand there, in tables in which fields are related.
    pub order: CellOrder,
}

/// A value of a row.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RowCell {
    /// What it says; of several values of one field the first.
    pub text: CompactString,
    /// The file it stands in.
    pub file: FileId,
    /// Where, without quotes.
    pub span: Span,
    /// The other values of the field.
    pub more: Vec<String>,
}

impl RowCell {
    /// All values of the field.
    pub fn values(&self) -> impl Iterator<Item = &str> {
        std::iter::once(self.text.as_str()).chain(self.more.iter().map(String::as_str))
    }
}

impl Row {
    /// The key as people see it; empty for a record without one.
    pub fn shown_key(&self) -> String {
        self.key.as_deref().map(shown_key).unwrap_or_default()
    }

    /// The text of a cell; empty where there is none. Several values of one field stand with a comma and a
    /// blank between them.
    pub fn text(&self, column: usize) -> Cow<'_, str> {
        match self.cells.get(column).and_then(Option::as_ref) {
            None => Cow::Borrowed(""),
            Some(cell) if cell.more.is_empty() => Cow::Borrowed(&cell.text),
            Some(cell) => Cow::Owned(cell.values().collect::<Vec<_>>().join(", ")),
        }
    }
}

impl Rows {
    /// Reads `table` as it is in the effective files through layer `through`. Names are taken from
    /// `labels`. Cost: one pass over the table's files.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn read(view: View<'_>, id: TableId, labels: &Labels) -> Result<Rows, Error> {
        Rows::read_with(view, id, labels, &[])
    }

    /// As [`Rows::read`], with what stands at the paths `more` too, in the format's own way of writing paths. A path at
    /// which no record has anything gives no column, unless the format has such a part by its settings.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn read_with(view: View<'_>, id: TableId, labels: &Labels, more: &[String]) -> Result<Rows, Error> {
        let View { stack, schema, through } = view;
        if schema.tables[id].is_by_use() {
            return Rows::of_names(view, id);
        }
        Rows::of_files(stack, schema, id, labels, files_of(stack, &schema.tables[id], through), more)
    }

    /// The names of a table by use, each with how many values hold it.
    fn of_names(view: View<'_>, id: TableId) -> Result<Rows, Error> {
        let names = names_in_use(view, id, None)?;
        let table = &view.schema.tables[id];
        let values = |own: &NameInUse| {
            let cells = [own.name.clone(), own.uses.to_string()];
            table.fields.iter().zip(cells).map(|(field, cell)| (field.name.clone(), vec![cell])).collect()
        };
        let records: Vec<_> = names.iter().map(values).collect();
        let mut rows = Rows::made_up(table, id, &records);
        for (row, own) in rows.rows.iter_mut().zip(names) {
            (row.file, row.span) = (own.first.file, own.first.span);
            rows.paths.insert(row.file, view.stack.files()[row.file].path.clone());
        }
        Ok(rows)
    }

    /// As [`Rows::read`], with only those columns of which `needs` tells that they are wanted, and those of the key and the
    /// label. Cost in memory: that of these columns.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn read_needed(
        view: View<'_>,
        id: TableId,
        labels: &Labels,
        needs: &dyn Fn(&str) -> bool,
    ) -> Result<Rows, Error> {
        let View { stack, schema, through } = view;
        if schema.tables[id].is_by_use() {
            return Rows::of_names(view, id);
        }
        let files = files_of(stack, &schema.tables[id], through);
        Rows::of_needed(stack, schema, id, labels, files, &[], needs)
    }

    /// Rows of `table` that stand in no file: of each what its fields hold, by their names.
    pub fn made_up(table: &Table, id: TableId, records: &[Vec<(String, Vec<String>)>]) -> Rows {
        let mut columns: Vec<String> = Vec::new();
        for name in records.iter().flatten().map(|(name, _)| name) {
            let described = table.fields.iter().find(|field| plain_name(&field.name) == name);
            let column = described.map_or(name, |field| &field.name);
            if !columns.contains(column) {
                columns.push(column.clone());
            }
        }
        let more = table.fields.iter().map(|field| &field.name).filter(|name| !columns.contains(name));
        let more: Vec<String> = more.cloned().collect();
        columns.extend(more);
        let table = table.widened(&columns);
        columns.retain(|column| table.field(column).is_some());
        let fields = columns.iter().filter_map(|column| table.field(column)).collect();
        let file = FileId::MAX;
        let span = Span::new(0, 0);
        let row = |(at, values): (usize, &Vec<(String, Vec<String>)>)| {
            let cell = |column: &String| {
                let own = values.iter().find(|(name, _)| name == column || plain_name(column) == name);
                let (text, more) = own?.1.split_first()?;
                Some(RowCell { text: text.into(), file, span, more: more.to_vec() })
            };
            let cells: Vec<Option<RowCell>> = columns.iter().map(cell).collect();
            let of_key = |part: &KeyPart| match part {
                KeyPart::Field(field) => {
                    let name = &table.fields[*field].name;
                    let column = columns.iter().position(|own| own == name);
                    column.and_then(|column| cells[column].as_ref()).map(|cell| cell.text.to_string())
                }
                _ => None,
            };
            let key: Option<Vec<String>> = table.key.iter().map(of_key).collect();
            let key = key.filter(|parts| !parts.is_empty());
            Row {
                key: key.map(|parts| parts.join(&KEY_SEPARATOR.to_string())),
                label: None,
                cells,
                file,
                span,
                number: at as u32 + 1,
                position: at as u32 + 1,
                order: CellOrder::default(),
            }
        };
        let made: Vec<Row> = records.iter().enumerate().map(row).collect();
        let mut rows = Rows::without_rows(id, table, columns, fields, HashMap::new());
        made.into_iter().for_each(|row| rows.add(row));
        rows
    }

    /// As [`Rows::read_with`], of these files only, lowest layer first.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn of_files(
        stack: &Stack,
        schema: &Schema,
        id: TableId,
        labels: &Labels,
        files: Vec<FileId>,
        more: &[String],
    ) -> Result<Rows, Error> {
        Rows::of_needed(stack, schema, id, labels, files, more, &|_| true)
    }

    fn of_needed(
        stack: &Stack,
        schema: &Schema,
        id: TableId,
        labels: &Labels,
        files: Vec<FileId>,
        more: &[String],
        needs: &dyn Fn(&str) -> bool,
    ) -> Result<Rows, Error> {
        let described = &schema.tables[id];
        // All files first, since each may have columns of its own.
        let own: Vec<Vec<String>> = files
            .par_iter()
            .with_max_len(1)
            .map(|file| with_text(stack, *file, |text| described.format.columns(text)))
            .collect::<Result<_, _>>()?;
        let mut seen: HashSet<String> = HashSet::new();
        let mut columns: Vec<String> = Vec::new();
        for column in
            own.into_iter().flatten().chain(more.iter().cloned()).filter(|column| !column.is_empty())
        {
            if seen.insert(column.clone()) {
                columns.push(column);
            }
        }
        let table = described.widened(&columns);
        for field in table.fields.iter().filter(|field| field.column != "{member}") {
            if seen.insert(field.column.clone()) {
                columns.push(field.column.clone());
            }
        }
        // What only leads into a structure is no value.
        let field_of = |column: &String| {
            let in_path = || table.path_fields().find(|field| table.fields[*field].name == *column);
            table.field_at(column).or_else(in_path)
        };
        let mut fields: Vec<usize> = columns.iter().filter_map(field_of).collect();
        let number = fields.len();
        // What one field says may depend on any other.
        if !table.relates_fields() {
            let is_own = |field: usize| table.is_key_field(field) || table.label == Some(field);
            fields.retain(|field| is_own(*field) || needs(&table.fields[*field].name));
        }
        // Fields that are no column may tell what others mean.
        let mut read_fields = all_fields(&table);
        if fields.len() < number {
            read_fields.retain(|field| fields.contains(field));
        }
        let columns: Vec<String> = fields.iter().map(|field| table.fields[*field].name.clone()).collect();
        let mut of_field: Vec<Option<usize>> = vec![None; table.fields.len()];
        for (column, field) in fields.iter().enumerate() {
            of_field[*field] = Some(column);
        }
        let path_fields: Vec<usize> = table.path_fields().collect();
        let read: Vec<Vec<Row>> = files
            .par_iter()
            .with_max_len(1)
            .map(|file| {
                let path = &stack.files()[*file].path;
                let (file, width) = (*file, columns.len());
                let (of_field, path_fields) = (&of_field[..], &path_fields[..]);
                let mut builder = RowBuilder { labels, of_field, width, file, path_fields, rows: Vec::new() };
                with_text(stack, file, |text| read_records(&table, path, text, &read_fields, &mut builder))?;
                Ok(builder.rows)
            })
            .collect::<Result<_, Error>>()?;
        let paths = files.iter().map(|file| (*file, stack.files()[*file].path.clone())).collect();
        let mut rows = Rows::without_rows(id, table, columns, fields, paths);
        rows.rows.reserve(read.iter().map(Vec::len).sum());
        for row in read.into_iter().flatten() {
            rows.add(row);
        }
        rows.drop_empty_columns(described.fields.len(), more);
        Ok(rows)
    }

    fn without_rows(
        id: TableId,
        table: Table,
        columns: Vec<String>,
        fields: Vec<usize>,
        paths: HashMap<FileId, RelPath>,
    ) -> Rows {
        let (kinds, lists) = columns.iter().map(|_| (OnceLock::new(), OnceLock::new())).unzip();
        let by_key = OnceLock::new();
        Rows { id, table, columns, fields, rows: Vec::new(), paths, by_key, kinds, lists }
    }

    /// Adds a row; in a table whose layers count together it stands over what lies below.
    fn add(&mut self, row: Row) {
        let Some(key) = &row.key else { return self.rows.push(row) };
        if !self.table.merged {
            return self.rows.push(row);
        }
        let mut keys = self.by_key.take().unwrap_or_default();
        match keys.find(self, key) {
            None => {
                keys.add(&self.table, key, self.rows.len());
                self.rows.push(row);
            }
            Some(below) => {
                let below = &mut self.rows[below];
                for (old, new) in below.cells.iter_mut().zip(row.cells).filter(|(_, new)| new.is_some()) {
                    *old = new;
                }
                below.label = row.label.or(below.label.take());
                (below.file, below.span, below.number) = (row.file, row.span, row.number);
                (below.position, below.order) = (row.position, row.order);
            }
        }
        let _ = self.by_key.set(keys);
    }

    /// Takes out the columns that the schema does not describe (it has `described` fields) and no record has; but for those that
    /// are `asked` for and that the format has by its settings.
    fn drop_empty_columns(&mut self, described: usize, asked: &[String]) {
        let has_some = |column: usize| {
            let name = &self.columns[column];
            let is_asked = || asked.contains(name) && self.table.format.has_part(name);
            self.rows.iter().any(|row| row.cells[column].is_some()) || is_asked()
        };
        let keep: Vec<bool> =
            self.fields.iter().enumerate().map(|(at, field)| *field < described || has_some(at)).collect();
        if keep.iter().all(|keep| *keep) {
            return;
        }
        let kept = |at: usize| keep.get(at).copied().unwrap_or(true);
        let (mut column, mut field) = (0.., 0..);
        self.columns.retain(|_| column.next().is_none_or(kept));
        self.kinds.truncate(self.columns.len());
        self.lists.truncate(self.columns.len());
        self.fields.retain(|_| field.next().is_none_or(kept));
        for row in &mut self.rows {
            let mut cell = 0..;
            row.cells.retain(|_| cell.next().is_none_or(kept));
        }
    }

    /// The first row of each value that there is by `rule`.
    pub fn by_value(&self, rule: usize) -> HashMap<String, usize> {
        let field = self.table.rules[rule].field;
        let mut out = HashMap::new();
        let Some(column) = self.fields.iter().position(|own| *own == field) else { return out };
        for (at, row) in self.rows.iter().enumerate() {
            for value in row.cells[column].iter().flat_map(RowCell::values) {
                split_value(&self.table, &self.table.fields[field], value, &mut |own, within, fits, _| {
                    if own == rule && fits {
                        out.entry(value[within].to_owned()).or_insert(at);
                    }
                });
            }
        }
        out
    }

    /// The first row with this key (as kept in memory).
    pub fn find(&self, key: &str) -> Option<&Row> {
        self.position(key).map(|at| &self.rows[at])
    }

    /// The position of the first row with this key (as kept in memory).
    pub fn position(&self, key: &str) -> Option<usize> {
        let keys = self.by_key.get_or_init(|| {
            let mut keys = Keys::default();
            keys.table.reserve(self.rows.len(), |(hash, _)| *hash);
            for (at, row) in self.rows.iter().enumerate() {
                if let Some(key) = row.key.as_deref().filter(|key| keys.find(self, key).is_none()) {
                    keys.add(&self.table, key, at);
                }
            }
            keys
        });
        keys.find(self, key)
    }

    /// The position of the column called `name`.
    ///
    /// # Errors
    /// When there is none, with the nearest name.
    pub fn column(&self, name: &str) -> Result<usize, Error> {
        self.columns.iter().position(|column| column == name).ok_or_else(|| self.no_column(name))
    }

    /// Whether a column holds lists: by its field, by its name, or since some record has several values in it.
    pub fn is_list(&self, column: usize) -> bool {
        *self.lists[column].get_or_init(|| {
            let has_several =
                |row: &Row| row.cells[column].as_ref().is_some_and(|cell| !cell.more.is_empty());
            self.table.fields[self.fields[column]].list.is_some()
                || self.columns[column].ends_with("[*]")
                || self.rows.iter().any(has_several)
        })
    }

    /// What the values of a column are taken for. Cost: a look at all of them, once.
    pub fn kind(&self, column: usize) -> Kind {
        *self.kinds[column].get_or_init(|| Kind::of(self, column))
    }

    /// What to say of a column that is not there.
    pub fn no_column(&self, name: &str) -> Error {
        const MOST: usize = 30;
        let near = nearest_of(name, self.columns.iter().map(String::as_str));
        let help = match near.first() {
            Some(near) => format!("did you mean `{near}`?").into(),
            None if self.columns.len() > MOST => NextStep::ListFields(self.table.name.clone()).into(),
            None => format!("the columns are {}", self.columns.join(", ")).into(),
        };
        Error::Unknown { what: "column", name: name.to_owned(), help }
    }
}

/// The positions of rows by the hashes of their keys.
#[derive(Debug, Default)]
struct Keys {
    table: HashTable<(u64, usize)>,
}

impl Keys {
    fn add(&mut self, table: &Table, key: &str, at: usize) {
        let hash = xxh3_64(folded(table, key).as_bytes());
        self.table.insert_unique(hash, (hash, at), |(hash, _)| *hash);
    }

    /// The first row with this key.
    fn find(&self, rows: &Rows, key: &str) -> Option<usize> {
        let key = folded(&rows.table, key);
        let hash = xxh3_64(key.as_bytes());
        let is_it = |(own, at): &(u64, usize)| {
            let has = |own: &str| folded(&rows.table, own) == key;
            *own == hash && rows.rows[*at].key.as_deref().is_some_and(has)
        };
        self.table.find(hash, is_it).map(|(_, at)| *at)
    }
}

fn folded<'k>(table: &Table, key: &'k str) -> Cow<'k, str> {
    if table.ignore_case { Cow::Owned(key.to_lowercase()) } else { Cow::Borrowed(key) }
}

/// Makes rows of the records of a file.
struct RowBuilder<'b> {
    labels: &'b Labels,
    /// The column of each field, if it is one.
    of_field: &'b [Option<usize>],
    /// How many columns there are.
    width: usize,
    file: FileId,
    /// The fields that are parts of the path.
    path_fields: &'b [usize],
    rows: Vec<Row>,
}

impl RecordVisitor for RowBuilder<'_> {
    fn record(&mut self, record: &RecordView<'_>) {
        let mut cells: Vec<Option<RowCell>> = vec![None; self.width];
        for own in record.cells {
            let Some(column) = self.of_field[usize::from(own.column)] else { continue };
            let text = decode(record.text, &own.cell).text;
            match &mut cells[column] {
                Some(cell) => cell.more.push(text.into_owned()),
                empty => {
                    let (text, span) = (CompactString::from(text), own.cell.span);
                    *empty = Some(RowCell { text, file: self.file, span, more: Vec::new() });
                }
            }
        }
        for field in self.path_fields {
            let (Some(column), Some(text)) = (self.of_field[*field], record.of_path(*field)) else {
                continue;
            };
            let (text, span) = (CompactString::from(text), Span { start: 0, end: 0 });
            cells[column] = Some(RowCell { text, file: self.file, span, more: Vec::new() });
        }
        let label = record.table.label.and_then(|field| record.value(field));
        let order = match record.table.relates_fields() {
            true => CellOrder::of(record.cells),
            false => CellOrder::default(),
        };
        self.rows.push(Row {
            key: record.key(),
            label: label.and_then(|value| self.labels.name(record.table, &value)),
            cells,
            file: self.file,
            span: record.span,
            number: record.index + 1,
            position: record.position,
            order,
        });
    }
}
