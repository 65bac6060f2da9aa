//! Finding the rows that addresses name, for commands that take many addresses: each table is read once.

use super::assignment::FieldTarget;
use super::own_records::{find_table, resolve};
use crate::Error;
use crate::links::{Address, Labels};
use crate::project::Project;
use crate::reading::View;
use crate::rows::{Others, Rows};
use crate::schema::{Table, TableId, Texts};
use crate::tables::{KEY_SEPARATOR, shown_key};
use rayon::prelude::*;
use std::borrow::Cow;
use std::collections::HashMap;
use std::sync::{Arc, LazyLock, OnceLock};
use xxhash_rust::xxh3::xxh3_64;

/// Names as the player sees them are only asked for where a value is no key.
static NO_LABELS: LazyLock<Labels> = LazyLock::new(Labels::default);

/// Reads the tables that addresses speak of.
pub(super) struct RecordFinder<'p> {
    project: &'p Project,
    others: Others<'p>,
    /// For each table that was asked for its rows by their keys, as shown.
    by_key: HashMap<TableId, RowsByKey>,
    /// The tables that are read with paths that the schema does not describe, and those paths.
    wide: HashMap<TableId, (Vec<String>, Arc<Rows>)>,
    labels: OnceLock<Labels>,
}

/// The rows of a table by their keys as shown.
struct RowsByKey {
    /// Whether keys that differ only in case are the same.
    folds: bool,
    /// The hash of each key, and the position of its row, in order.
    rows: Vec<(u64, u32)>,
}

impl RowsByKey {
    fn of(rows: &Rows, folds: bool) -> RowsByKey {
        let with_key = rows.rows.par_iter().enumerate().filter_map(|(at, row)| {
            let key = as_shown(row.key.as_deref()?, folds);
            Some((xxh3_64(key.as_bytes()), u32::try_from(at).ok()?))
        });
        let mut all: Vec<(u64, u32)> = with_key.collect();
        all.par_sort_unstable();
        RowsByKey { folds, rows: all }
    }

    /// The positions of the rows with this key, in order.
    fn find(&self, rows: &Rows, key: &str) -> Vec<usize> {
        let key = if self.folds { Cow::Owned(key.to_lowercase()) } else { Cow::Borrowed(key) };
        let hash = xxh3_64(key.as_bytes());
        let first = self.rows.partition_point(|(own, _)| *own < hash);
        let alike = self.rows[first..].iter().take_while(|(own, _)| *own == hash);
        let is_key = |at: &usize| {
            let own = rows.rows.get(*at).and_then(|row| row.key.as_deref());
            own.is_some_and(|own| as_shown(own, self.folds) == key)
        };
        alike.map(|(_, at)| *at as usize).filter(is_key).collect()
    }
}

/// A key, kept in memory, as it is shown; in lower case where case says nothing.
fn as_shown(key: &str, folds: bool) -> Cow<'_, str> {
    match (key.contains(KEY_SEPARATOR), folds) {
        (false, false) => Cow::Borrowed(key),
        (_, false) => Cow::Owned(shown_key(key)),
        (_, true) => Cow::Owned(shown_key(key).to_lowercase()),
    }
}

/// What to say where records have no field that names them for people.
pub(super) fn no_label(table: &Table) -> Error {
    Error::Usage {
        message: format!("the records of `{}` have no name for people", table.name),
        help: "say in the schema which field names them: label = \"FIELD\"".into(),
    }
}

/// A row that an address names.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct FoundRow {
    pub table: TableId,
    /// Its position in the rows of the table.
    pub row: usize,
    /// What stands behind the key.
    pub field: Option<String>,
    /// The field that the name of a language stands for, in tables of texts with a file for each.
    text_field: Option<(String, String)>,
}

impl FoundRow {
    /// The name of the field that `name` means.
    pub fn field_name<'n>(&'n self, name: &'n str) -> &'n str {
        match &self.text_field {
            Some((language, field)) if language == name => field,
            _ => name,
        }
    }
}

impl<'p> RecordFinder<'p> {
    pub fn new(project: &'p Project) -> RecordFinder<'p> {
        let view = View::top(&project.stack, &project.schema);
        let others = Others::new(view, &NO_LABELS);
        RecordFinder {
            project,
            others,
            by_key: HashMap::new(),
            wide: HashMap::new(),
            labels: OnceLock::new(),
        }
    }

    /// All of a table, without names.
    pub fn rows(&self, table: TableId) -> Result<Arc<Rows>, Error> {
        match self.wide.get(&table) {
            Some((_, rows)) => Ok(Arc::clone(rows)),
            None => self.others.rows(table),
        }
    }

    /// What `name` means in the rows of a table: in nested files also a path that the schema does not describe, if
    /// something stands there.
    ///
    /// # Errors
    /// When there is no such field, with the nearest name.
    pub fn field(&mut self, table: TableId, name: &str) -> Result<FieldTarget, Error> {
        let rows = self.rows(table)?;
        let missing = match FieldTarget::find(&rows, name) {
            Ok(found) => return Ok(found),
            Err(error) => error,
        };
        let described = &self.project.schema.tables[table];
        let path = match name.strip_suffix(']').and_then(|name| name.rsplit_once('[')) {
            Some((path, number)) if number.bytes().all(|byte| byte.is_ascii_digit()) => path,
            _ => name,
        };
        let paths = [path.to_owned(), format!("{path}[*]")];
        let paths = paths.into_iter().filter(|path| described.format.check_column(path).is_ok());
        if described.format.records_path().is_none() && !described.format.has_part(name) {
            return Err(missing);
        }
        let mut more = self.wide.get(&table).map(|(paths, _)| paths.clone()).unwrap_or_default();
        more.extend(paths);
        let wide = Rows::read_with(self.view(), table, &NO_LABELS, &more)?;
        let found = FieldTarget::find(&wide, name).map_err(|_| missing)?;
        self.wide.insert(table, (more, Arc::new(wide)));
        Ok(found)
    }

    /// What reads the tables.
    pub fn others(&self) -> &Others<'p> {
        &self.others
    }

    /// The texts that records are named with.
    pub fn labels(&self) -> &Labels {
        self.labels.get_or_init(|| Labels::read(View::top(&self.project.stack, &self.project.schema)))
    }

    fn view(&self) -> View<'p> {
        View::top(&self.project.stack, &self.project.schema)
    }

    /// The rows of `table` that have a key, as shown.
    pub fn rows_with_key(&mut self, table: TableId, key: &str) -> Result<Vec<usize>, Error> {
        let folds = self.project.schema.tables[table].ignore_case;
        let rows = self.others.rows(table)?;
        let by_key = self.by_key.entry(table).or_insert_with(|| RowsByKey::of(&rows, folds));
        Ok(by_key.find(&rows, key))
    }

    /// The record at `address`.
    ///
    /// # Errors
    /// When there is none or several.
    pub fn record(&mut self, address: &str) -> Result<FoundRow, Error> {
        let found = self.find(address, false)?;
        found.map_or_else(|| Err(self.unknown(address)), Ok)
    }

    /// The record and the field at `address`.
    ///
    /// # Errors
    /// When there is no such record, or several, or no field is named.
    pub fn record_with_field(&mut self, address: &str) -> Result<FoundRow, Error> {
        let found = self.find(address, true)?;
        found.map_or_else(|| Err(self.unknown(address)), Ok)
    }

    fn find(&mut self, text: &str, with_field: bool) -> Result<Option<FoundRow>, Error> {
        let address = Address::parse(text)?;
        let Some(name) = &address.table else {
            let found = resolve(self.view(), text)?;
            let key = shown_key(&found.key);
            let rows = self.rows_with_key(found.table, &key)?;
            return self.one(text, found.table, rows, None).map(Some);
        };
        let table = find_table(&self.project.schema, name)?;
        if let (true, Some(field)) = (with_field, &address.field) {
            let rows = self.rows_with_key(table, &address.key)?;
            return if rows.is_empty() {
                Ok(None)
            } else {
                self.one(text, table, rows, Some(field)).map(Some)
            };
        }
        if !with_field {
            let rows = self.rows_with_key(table, &address.key)?;
            return if rows.is_empty() { Ok(None) } else { self.one(text, table, rows, None).map(Some) };
        }
        // A key may have dots in it, and a field too: the longest key that there is counts.
        for (dot, _) in address.key.rmatch_indices('.') {
            let rows = self.rows_with_key(table, &address.key[..dot])?;
            if !rows.is_empty() {
                return self.one(text, table, rows, Some(&address.key[dot + 1..])).map(Some);
            }
        }
        let rows = self.rows_with_key(table, &address.key)?;
        if rows.is_empty() {
            return Ok(None);
        }
        Err(Error::Usage {
            message: format!("`{text}` names no field"),
            help: format!("write it behind the key: {text}.FIELD").into(),
        })
    }

    /// The one of `rows` that is meant; of texts the one in the language that `field` names.
    fn one(
        &self,
        text: &str,
        table: TableId,
        rows: Vec<usize>,
        field: Option<&str>,
    ) -> Result<FoundRow, Error> {
        let described = &self.project.schema.tables[table];
        let all = self.others.rows(table)?;
        let found = |row, field: Option<String>, text_field| Ok(FoundRow { table, row, field, text_field });
        if let [row] = rows[..] {
            let language = all.paths.get(&all.rows[row].file).and_then(|path| described.language_of(path));
            let text_field = match (&described.texts, language) {
                (Some(Texts::File(text)), Some(language)) => {
                    Some((language.to_owned(), described.fields[*text].name.clone()))
                }
                _ => None,
            };
            let own = |name: &str| match &text_field {
                Some((language, text)) if language == name => text.clone(),
                _ => name.to_owned(),
            };
            let field = field.map(own);
            return found(row, field, text_field);
        }
        if let Some(Texts::File(text_field)) = &described.texts {
            let language =
                |row: &usize| Some(described.language_of(all.paths.get(&all.rows[*row].file)?)?.to_owned());
            let own: Vec<usize> =
                rows.iter().copied().filter(|row| language(row).as_deref() == field).collect();
            if let [row] = own[..] {
                return found(row, Some(described.fields[*text_field].name.clone()), None);
            }
            let mut languages: Vec<String> = rows.iter().filter_map(language).collect();
            languages.sort();
            languages.dedup();
            if languages.len() == rows.len() {
                let shown = text.strip_suffix(&format!(".{}", field.unwrap_or_default())).unwrap_or(text);
                return Err(Error::Usage {
                    message: format!("`{text}` is there in {}", languages.join(" and ")),
                    help: format!("name the language as the field: {shown}.{}=...", languages[0]).into(),
                });
            }
        }
        let places = rows.iter().take(3).filter_map(|row| {
            let row = &all.rows[*row];
            Some(format!("`{}`, record {}", all.paths.get(&row.file)?, row.number))
        });
        Err(Error::refused(
            format!("`{text}` names {} records: {}", rows.len(), places.collect::<Vec<_>>().join("; ")),
            "choose them by a condition, or give them keys of their own; nothing was changed",
        ))
    }

    /// What to say of an address that names nothing.
    fn unknown(&self, address: &str) -> Error {
        match resolve(self.view(), address) {
            Err(error) => error,
            Ok(_) => Error::Unknown {
                what: "record",
                name: address.to_owned(),
                help: crate::help::NextStep::SearchEverything(address.to_owned()).into(),
            },
        }
    }
}
