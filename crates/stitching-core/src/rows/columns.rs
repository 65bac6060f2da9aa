//! Columns of a row, and what lies behind them: a reference is followed with a dot, `good.price`.

use super::{Row, Rows};
use crate::Error;
use crate::expressions::{Expression, Value};
use crate::help::{Help, NextStep};
use crate::layers::RelPath;
use crate::links::{Labels, find_table};
use crate::reading::View;
use crate::schema::{Beside, KeyPart, Layout, NamedBy, Schema, Table, TableId, Target, ValueType};
use crate::tables::{KEY_SEPARATOR, path_hash, split_value};
use crate::text::number;
use std::borrow::Cow;
use std::collections::{BTreeSet, HashMap, HashSet};
use std::sync::{Arc, Mutex, OnceLock, PoisonError};

/// The tables that references lead to, each read when it is first asked for.
#[derive(Debug)]
pub struct Others<'p> {
    view: View<'p>,
    labels: &'p Labels,
    read: Mutex<HashMap<TableId, Arc<Rows>>>,
    /// What will be asked for of each table, and the rows that have it.
    needed: Mutex<HashMap<TableId, Needed>>,
    paths: OnceLock<Arc<HashSet<u64>>>,
}

/// What is needed of a table: the beginnings of columns, and the rows that were read with them.
#[derive(Debug, Default)]
struct Needed {
    paths: BTreeSet<String>,
    read: Option<(BTreeSet<String>, Arc<Rows>)>,
}

impl<'p> Others<'p> {
    /// The tables of a project as they are through layer `through`.
    pub fn new(view: View<'p>, labels: &'p Labels) -> Others<'p> {
        Others { view, labels, read: Mutex::default(), needed: Mutex::default(), paths: OnceLock::new() }
    }

    /// The schema of the tables.
    pub fn schema(&self) -> &'p Schema {
        self.view.schema
    }

    /// All of `table`.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn rows(&self, table: TableId) -> Result<Arc<Rows>, Error> {
        let known = |read: &HashMap<TableId, Arc<Rows>>| read.get(&table).cloned();
        if let Some(rows) = known(&self.read.lock().unwrap_or_else(PoisonError::into_inner)) {
            return Ok(rows);
        }
        let rows = Arc::new(Rows::read(self.view, table, self.labels)?);
        self.read.lock().unwrap_or_else(PoisonError::into_inner).insert(table, Arc::clone(&rows));
        Ok(rows)
    }

    /// All of the table called `name`.
    ///
    /// # Errors
    /// When there is no such table, with the nearest name, or a file cannot be read.
    pub fn rows_of(&self, name: &str) -> Result<Arc<Rows>, Error> {
        self.rows(find_table(self.view.schema, name)?)
    }

    /// Tells that the columns that `paths` begin with will be asked for, and what references among them lead to, so that each table is
    /// read once for all of them.
    pub fn will_need(&self, table: TableId, paths: impl IntoIterator<Item = String>) {
        let own = &self.view.schema.tables[table];
        for path in paths {
            let is_new = {
                let mut needed = self.needed.lock().unwrap_or_else(PoisonError::into_inner);
                needed.entry(table).or_default().paths.insert(path.clone())
            };
            // References lead around in circles.
            if !is_new {
                continue;
            }
            let ends = path.match_indices('.').map(|(at, _)| at);
            let onward = ends.filter_map(|end| {
                let name = &path[..end];
                let field = own
                    .fields
                    .iter()
                    .position(|field| plain_name(&field.name) == name || field.name == name)?;
                Some((field, &path[end + 1..]))
            });
            for (field, rest) in onward.collect::<Vec<_>>() {
                let rules = own.rules.iter().filter(|rule| rule.field == field);
                for target in rules.flat_map(|rule| &rule.refs) {
                    let by = target.rule.map(|rule| field_of(self.view.schema, target.table, rule));
                    self.will_need(target.table, by.into_iter().chain([rest.to_owned()]));
                }
            }
        }
    }

    /// As [`Others::will_need`] of all that the expression `source` over the records of `table` names, and asks of other tables.
    /// What is wrong with it is told by who evaluates it.
    pub fn will_need_of(&self, table: TableId, source: &str) {
        let Ok(expression) = Expression::parse(source) else { return };
        self.will_need(table, expression.all_names());
        for (name, fields) in expression.asked_fields() {
            if let Some(asked) = self.view.schema.table(name) {
                self.will_need(asked, fields);
            }
        }
    }

    /// All records of `table`, with at least the columns that `paths` begin with; all columns if one of them is none. A table that
    /// was read before with these columns is not read again.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn rows_needed(&self, table: TableId, paths: &[String]) -> Result<Arc<Rows>, Error> {
        if let Some(rows) = self.read.lock().unwrap_or_else(PoisonError::into_inner).get(&table) {
            return Ok(Arc::clone(rows));
        }
        let wanted = {
            let mut needed = self.needed.lock().unwrap_or_else(PoisonError::into_inner);
            let needed = needed.entry(table).or_default();
            if let Some((known, rows)) = &needed.read
                && paths.iter().all(|path| known.contains(path))
            {
                return Ok(Arc::clone(rows));
            }
            needed.paths.extend(paths.iter().cloned());
            needed.paths.clone()
        };
        let needs = |column: &str| {
            let plain = plain_name(column);
            let begins = |path: &String| {
                [column, plain].iter().any(|name| {
                    path.strip_prefix(name).is_some_and(|rest| rest.is_empty() || rest.starts_with('.'))
                })
            };
            wanted.iter().any(begins)
        };
        let rows = Arc::new(Rows::read_needed(self.view, table, self.labels, &needs)?);
        if !paths.iter().all(|path| ColumnPath::parse(&rows, path, self).is_ok()) {
            return self.rows(table);
        }
        let mut needed = self.needed.lock().unwrap_or_else(PoisonError::into_inner);
        needed.entry(table).or_default().read = Some((wanted, Arc::clone(&rows)));
        Ok(rows)
    }

    /// The hashes of the paths of all files that the game has.
    pub(super) fn paths(&self) -> Arc<HashSet<u64>> {
        let all = || {
            let files = self.view.stack.effective(self.view.through).into_iter();
            Arc::new(
                files.filter_map(|file| path_hash(self.view.stack.files()[file].path.as_str())).collect(),
            )
        };
        Arc::clone(self.paths.get_or_init(all))
    }

    /// All of `table`, with what stands at those of the paths `names` that the schema does not describe.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn rows_with(&self, table: TableId, names: Vec<String>) -> Result<Arc<Rows>, Error> {
        let rows = self.rows(table)?;
        let described = &self.view.schema.tables[table];
        let mut more = names;
        more.retain(|name| {
            ColumnPath::parse(&rows, name, self).is_err() && described.format.check_column(name).is_ok()
        });
        // Only in a structure there are paths.
        if more.is_empty() || described.format.records_path().is_none() {
            return Ok(rows);
        }
        Ok(Arc::new(Rows::read_with(self.view, table, self.labels, &more)?))
    }
}

/// What the values of a column are taken for.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Kind {
    /// Anything.
    Text,
    /// Numbers, and nothing.
    Number,
    /// True and false, and nothing.
    Truth,
}

impl Kind {
    /// The kind of a column: as the schema says; else numbers if all its values are, and none is written with a
    /// zero in front as codes are.
    pub(super) fn of(rows: &Rows, column: usize) -> Kind {
        let field = &rows.table.fields[rows.fields[column]];
        let rules: Vec<_> = field.layout.rules().into_iter().map(|rule| &rows.table.rules[rule]).collect();
        if matches!(field.layout, Layout::Whole(_)) {
            match rules[0].kind {
                ValueType::Integer | ValueType::Number => return Kind::Number,
                ValueType::Boolean => return Kind::Truth,
                ValueType::Text => {}
            }
        }
        let plain = |value: &str| {
            let digits = value.trim_start_matches(['-', '+']).as_bytes();
            let is_code = digits.len() > 1 && digits[0] == b'0' && digits[1] != b'.';
            !is_code && number(value).is_some_and(|number| number.abs() < 9e15)
        };
        let mut some = false;
        let cells = rows.rows.iter().filter_map(|row| row.cells[column].as_ref());
        for value in cells.flat_map(|cell| cell.values()) {
            let items: Vec<&str> = match &field.list {
                Some(list) => list.items(value).into_iter().map(|item| &value[item.within]).collect(),
                None => vec![value],
            };
            for item in items.into_iter().filter(|item| !rules.iter().any(|rule| rule.is_none(item))) {
                if !plain(item) {
                    return Kind::Text;
                }
                some = true;
            }
        }
        if some { Kind::Number } else { Kind::Text }
    }

    /// A value of this kind as a number; `None` if there is none.
    pub fn number(self, text: &str) -> Option<f64> {
        if self == Kind::Number { number(text.trim()) } else { None }
    }
}

/// A column, perhaps with the columns of other tables that its references lead to: `good.price`.
#[derive(Debug, Clone)]
pub struct ColumnPath {
    /// As it was asked for.
    pub name: String,
    at: At,
    kind: Kind,
    /// Whether it holds lists: of the format, or as one text with separators.
    is_list: bool,
    onward: Vec<Onward>,
}

/// Where a reference leads, and what is taken there.
#[derive(Debug, Clone)]
struct Onward {
    target: Target,
    rows: Arc<Rows>,
    /// The rows by the value that a reference names, where that is not the key.
    by_value: HashMap<String, usize>,
    path: ColumnPath,
}

impl Onward {
    /// The row that `named` means.
    fn find(&self, named: &str) -> Option<&Row> {
        match self.target.rule {
            None => self.rows.find(named),
            Some(_) => self.by_value.get(named).map(|row| &self.rows.rows[*row]),
        }
    }
}

#[derive(Debug, Clone, Copy)]
enum At {
    Key,
    Name,
    Cell(usize),
    /// The place among the records of the file, as the table counts if it does.
    Position,
    /// Something of the file that the record stands in.
    File(FilePart),
}

/// What an expression may take of a file.
#[derive(Debug, Clone, Copy)]
enum FilePart {
    Path,
    Folder,
    Name,
    Stem,
    /// A named part of the path, by its position among those of the table.
    Part(usize),
}

impl At {
    /// What `name` means where no column is called so.
    fn special(rows: &Rows, name: &str) -> Option<At> {
        Some(match name {
            "key" => At::Key,
            "name" => At::Name,
            "position" => At::Position,
            "path" => At::File(FilePart::Path),
            "folder" => At::File(FilePart::Folder),
            "file" => At::File(FilePart::Name),
            "stem" => At::File(FilePart::Stem),
            part => At::File(FilePart::Part(rows.table.path_parts().iter().position(|own| own == part)?)),
        })
    }
}

impl FilePart {
    /// What it is for the file at `path`, one of `table`.
    fn of<'p>(self, table: &Table, path: &'p RelPath) -> Option<&'p str> {
        match self {
            FilePart::Path => Some(path.as_str()),
            FilePart::Folder => Some(path.folder()),
            FilePart::Name => Some(path.name()),
            FilePart::Stem => Some(path.stem()),
            FilePart::Part(part) => table.path_part(path, part),
        }
    }
}

impl ColumnPath {
    /// What `name` means in `rows`: a column (the `@` of an attribute, the `[*]` of a list and the braces of `{section}` may be left out); `key`, `name`, `position`, `path`, `folder`, `file`, `stem` or a named part of the path where no column is called so; or one of these,
    /// a dot, and what it means in the tables that its references lead to.
    ///
    /// # Errors
    /// When there is no such column (with the nearest), when it leads to no table, or when a file of such a
    /// table cannot be read.
    pub fn parse(rows: &Rows, name: &str, others: &Others<'_>) -> Result<ColumnPath, Error> {
        // An attribute may go without its mark, a list without its brackets and `{section}` without its braces: no
        // name in an expression has such.
        let is = |column: &&String, name: &str| plain_name(column) == name;
        let own = |name: &str| match (rows.columns.iter())
            .position(|column| column == name)
            .or_else(|| rows.columns.iter().position(|column| is(&column, name)))
        {
            Some(column) => Some(At::Cell(column)),
            None => At::special(
                rows,
                name.strip_prefix('{').and_then(|name| name.strip_suffix('}')).unwrap_or(name),
            ),
        };
        // A column's name may have dots in it; the longest that there is counts.
        let ends = name.rmatch_indices('.').map(|(at, _)| at);
        let found = std::iter::once(name.len()).chain(ends);
        let found = found.filter_map(|end| own(&name[..end]).map(|at| (at, name.get(end + 1..)))).next();
        let Some((at, rest)) = found else {
            return Err(rows.no_column(name.split('.').next().unwrap_or(name)));
        };
        let kind = if let At::Cell(column) = at { rows.kind(column) } else { Kind::Text };
        let is_list = matches!(at, At::Cell(column) if rows.is_list(column));
        let mut path = ColumnPath { name: name.to_owned(), at, kind, is_list, onward: Vec::new() };
        let Some(rest) = rest else { return Ok(path) };
        let targets = path.targets(rows);
        let first = &name[..name.len() - rest.len() - 1];
        if targets.is_empty() {
            return Err(Error::Usage {
                message: format!(
                    "`{name}` cannot be followed: `{first}` of `{}` refers to no table",
                    rows.table.name
                ),
                help: Help::from("describe the reference with `ref` in the schema")
                    .then(NextStep::ListFields(rows.table.name.clone())),
            });
        }
        let mut missing = None;
        for target in targets {
            let by = target.rule.map(|rule| field_of(others.schema(), target.table, rule));
            let needed: Vec<String> = by.into_iter().chain([rest.to_owned()]).collect();
            let rows = others.rows_needed(target.table, &needed)?;
            // Of several tables one that has the column is enough.
            match ColumnPath::parse(&rows, rest, others) {
                Ok(onward) => {
                    let by_value = target.rule.map(|rule| rows.by_value(rule)).unwrap_or_default();
                    path.onward.push(Onward { target, rows, by_value, path: onward });
                }
                Err(error) => missing = missing.or(Some(error)),
            }
        }
        match (path.onward.is_empty(), missing) {
            (true, Some(error)) => Err(error),
            _ => Ok(path),
        }
    }

    /// What the references of its first column lead to.
    fn targets(&self, rows: &Rows) -> Vec<Target> {
        let At::Cell(column) = self.at else { return Vec::new() };
        let field = rows.fields[column];
        let mut targets: Vec<Target> = Vec::new();
        for rule in rows.table.rules.iter().filter(|rule| rule.field == field) {
            for target in &rule.refs {
                if !targets.contains(target) {
                    targets.push(*target);
                }
            }
        }
        targets
    }

    /// The columns of the tables that it leads to.
    ///
    /// # Errors
    /// When a file of such a table cannot be read.
    pub fn onward_columns(&self, rows: &Rows, others: &Others<'_>) -> Result<Vec<String>, Error> {
        let mut columns = Vec::new();
        if self.onward.is_empty() {
            for target in self.targets(rows) {
                columns.extend(others.rows(target.table)?.columns.iter().cloned());
            }
        }
        for onward in &self.onward {
            columns.extend(onward.path.onward_columns(&onward.rows, others)?);
        }
        Ok(columns)
    }

    /// Whether it is a column of the table itself; its position.
    pub fn own_column(&self) -> Option<usize> {
        match self.at {
            At::Cell(column) if self.onward.is_empty() => Some(column),
            _ => None,
        }
    }

    /// The position of its first column among those of the table, if it begins with one.
    pub fn first_column(&self) -> Option<usize> {
        match self.at {
            At::Cell(column) => Some(column),
            _ => None,
        }
    }

    /// Whether its values are taken for numbers.
    pub fn is_number(&self) -> bool {
        match self.onward.first() {
            Some(onward) => onward.path.is_number(),
            None => self.kind == Kind::Number,
        }
    }

    /// What it holds in `row`, one of `rows`.
    pub fn held(&self, rows: &Rows, row: &Row) -> Value {
        if !self.onward.is_empty() {
            let At::Cell(column) = self.at else { return Value::Nothing };
            let mut found: Vec<Value> = Vec::new();
            each_reference(rows, row, column, &mut |target, named| {
                for onward in self.onward.iter().filter(|onward| onward.target == *target) {
                    found.extend(onward.find(named).map(|row| onward.path.held(&onward.rows, row)));
                }
            });
            let is_list = rows.table.fields[rows.fields[column]].list.is_some();
            return match (found.len(), is_list) {
                (1, false) => found.remove(0),
                (0, false) => Value::Nothing,
                _ => Value::List(found),
            };
        }
        let column = match self.at {
            At::Key => return Value::Text(row.shown_key()),
            At::Name => return row.label.clone().map_or(Value::Nothing, Value::Text),
            At::Position => {
                let counted = if row.position > 0 { row.position } else { row.number };
                return Value::Number(f64::from(counted));
            }
            At::File(part) => {
                let path = rows.paths.get(&row.file);
                let text = path.and_then(|path| part.of(&rows.table, path));
                return text.map_or(Value::Nothing, |text| Value::Text(text.to_owned()));
            }
            At::Cell(column) => column,
        };
        let field = &rows.table.fields[rows.fields[column]];
        let one = |text: &str| {
            let none = field.layout.rules().iter().any(|rule| rows.table.rules[*rule].is_none(text));
            match self.kind {
                Kind::Text => Value::Text(text.to_owned()),
                _ if none => Value::Nothing,
                Kind::Number => number(text.trim()).map_or(Value::Nothing, Value::Number),
                Kind::Truth => match text.to_ascii_lowercase().as_str() {
                    "true" | "yes" | "1" => Value::Truth(true),
                    "false" | "no" | "0" => Value::Truth(false),
                    _ => Value::Nothing,
                },
            }
        };
        match (&row.cells[column], &field.list) {
            (None, _) if self.is_list => Value::List(Vec::new()),
            (None, _) => one(""),
            (Some(cell), Some(list)) => {
                let of_value = |value| list.items(value).into_iter().map(|item| &value[item.within]);
                let items = cell.values().flat_map(of_value);
                Value::List(items.filter(|item| !item.is_empty()).map(one).collect())
            }
            (Some(cell), None) if cell.more.is_empty() && !self.is_list => one(&cell.text),
            (Some(cell), None) => Value::List(cell.values().map(one).collect()),
        }
    }

    /// Whether it is a column with references to the records of `table`.
    pub fn refers_to(&self, rows: &Rows, table: TableId) -> bool {
        self.onward.is_empty()
            && self.targets(rows).iter().any(|target| target.table == table && target.rule.is_none())
    }

    /// The rows of the same table, by their positions, that its references in `row` lead to. It must be a column of `rows`.
    pub fn referred_rows(&self, rows: &Rows, row: &Row) -> Vec<usize> {
        let At::Cell(column) = self.at else { return Vec::new() };
        let mut out = Vec::new();
        each_reference(rows, row, column, &mut |target, named| {
            if target.table == rows.id && target.rule.is_none() {
                out.extend(rows.position(named));
            }
        });
        out
    }

    /// What it holds, as it is written or shown.
    pub fn shown(&self, rows: &Rows, row: &Row) -> String {
        match self.at {
            At::Cell(column) if self.onward.is_empty() => row.text(column).into_owned(),
            _ => self.held(rows, row).shown(),
        }
    }
}

/// The name of the field of a rule.
fn field_of(schema: &Schema, table: TableId, rule: usize) -> String {
    let table = &schema.tables[table];
    table.fields[table.rules[rule].field].name.clone()
}

/// The name of a column as an expression may write it: without the `@` of an attribute, the `[*]` of a list and the braces of
/// `{section}`.
pub(super) fn plain_name(column: &str) -> &str {
    let inner = column.strip_prefix('{').and_then(|column| column.strip_suffix('}'));
    let bare = inner.or(column.strip_prefix('@')).unwrap_or(column);
    bare.strip_suffix("[*]").unwrap_or(bare)
}

/// Gives what the value of `column` in `row` refers to: where it is looked for, and the key (as kept in memory) or
/// the value that it names.
fn each_reference(rows: &Rows, row: &Row, column: usize, each: &mut dyn FnMut(&Target, &str)) {
    let (field, Some(cell)) = (rows.fields[column], &row.cells[column]) else { return };
    let own = rows.fields[column];
    let mut known: Vec<(usize, Vec<Option<usize>>)> = Vec::new();
    // What another field says beside the value of this number.
    let mut beside = |number: usize, field: usize| {
        if !known.iter().any(|(other, _)| *other == field) {
            let fields = &rows.table.fields;
            let needed = rows.table.format.shared_steps(&fields[own].column, &fields[field].column);
            known.push((field, row.order.beside(own, field, needed)));
        }
        let found = known.iter().find(|(other, _)| *other == field);
        match found.and_then(|(_, found)| found.get(number)) {
            Some(Some(found)) => of_field(rows, row, field, *found),
            Some(None) => "",
            // A value that another layer has.
            None => of_field(rows, row, field, 0),
        }
    };
    for (number, value) in cell.values().enumerate() {
        split_value(&rows.table, &rows.table.fields[field], value, &mut |rule, within, fits, siblings| {
            let text = &value[within];
            let also = rows.table.rules[rule].also.iter().copied();
            for rule in std::iter::once(rule).chain(also) {
                let switch = rows.table.rules[rule].switch.as_ref();
                let told = |value| match value {
                    Beside::Field(field) => Some(Cow::Borrowed(beside(number, field))),
                    Beside::Part(part) => siblings.text(part).map(Cow::Borrowed),
                };
                let case = switch.and_then(|switch| switch.rule(&rows.table, told));
                let rule = &rows.table.rules[case.unwrap_or(rule)];
                if !fits || rule.is_none(text) {
                    continue;
                }
                let own =
                    rule.shape.as_ref().map_or_else(|| text.to_owned(), |template| template.fill_one(text));
                let key = match rule.with.is_empty() {
                    true => own,
                    false => {
                        let path = rows.paths.get(&row.file);
                        let position = row.position.to_string();
                        let parts = rule.with.iter().map(|part| match part {
                            NamedBy::Value => own.as_str(),
                            NamedBy::Part(part) => siblings.text(*part).unwrap_or(""),
                            NamedBy::Record(KeyPart::Field(field)) => beside(number, *field),
                            NamedBy::Record(KeyPart::Position) => position.as_str(),
                            NamedBy::Record(part) => {
                                path.and_then(|path| rows.table.of_path(*part, path)).unwrap_or("")
                            }
                            NamedBy::Folder => path.map_or("", RelPath::folder),
                        });
                        parts.collect::<Vec<_>>().join(&KEY_SEPARATOR.to_string())
                    }
                };
                for target in &rule.refs {
                    each(target, &key);
                }
            }
        });
    }
}

/// The value of this number (0-based) of a field of the table, or its first one; empty where there is none.
fn of_field<'r>(rows: &Rows, row: &'r Row, field: usize, number: usize) -> &'r str {
    let column = rows.fields.iter().position(|own| *own == field);
    let cell = column.and_then(|column| row.cells[column].as_ref());
    cell.map_or("", |cell| cell.values().nth(number).unwrap_or(cell.text.as_str()))
}
