//! What differs between two states of the data, by record and field.

use crate::Error;
use crate::layers::{FileId, Stack};
use crate::links::Labels;
use crate::reading::View;
use crate::rows::{Row, Rows};
use crate::schema::Texts;
use crate::text::Span;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// What differs between two states.
#[derive(Debug, Clone, Default)]
pub struct Difference {
    /// The tables that differ, in the order of the schema.
    pub tables: Vec<TableDifference>,
    /// Files that differ, but in no record of a table: path, and how. They are files of no table, and those that
    /// differ in what stands around the records.
    pub files: Vec<(String, How)>,
}

/// How something differs.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum How {
    /// It is only in the second state.
    Added,
    /// It is only in the first.
    Removed,
    /// It is in both, and not the same.
    Changed,
}

/// What differs in a table.
#[derive(Debug, Clone, Default)]
pub struct TableDifference {
    /// Its name.
    pub name: String,
    /// The records that differ, in the order of the second state, those removed last.
    pub records: Vec<RecordDifference>,
    /// How many records were compared and are the same. Those of files that are the same to the byte are not
    /// counted.
    pub same: usize,
    /// Columns that only the second state has.
    pub columns_added: Vec<String>,
    /// Columns that only the first state has.
    pub columns_removed: Vec<String>,
}

impl TableDifference {
    /// How many records differ in this way.
    pub fn count(&self, how: How) -> usize {
        self.records.iter().filter(|record| record.how == how).count()
    }
}

/// What differs in a record.
#[derive(Debug, Clone)]
pub struct RecordDifference {
    /// How.
    pub how: How,
    /// Its key as shown; empty for a record without one.
    pub key: String,
    /// The language, for a text.
    pub language: Option<String>,
    /// The name as the player sees it.
    pub label: Option<String>,
    /// Where it is: in the second state, or in the first if it was removed.
    pub file: FileId,
    /// The whole record there.
    pub span: Span,
    /// The fields that differ; of a record that was added or removed all that say something.
    pub fields: Vec<FieldDifference>,
}

/// What differs in a field.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct FieldDifference {
    /// Its name.
    pub name: String,
    /// What it says in the first state, if it is there.
    pub before: Option<String>,
    /// What it says in the second, if it is there.
    pub after: Option<String>,
}

/// What `after` changes against `before`: in all tables, or in those called so. Cost: the files that differ are
/// read and compared; of tables whose layers count together, all.
///
/// # Errors
/// When a file cannot be read.
pub fn difference(before: View<'_>, after: View<'_>, only: &[String]) -> Result<Difference, Error> {
    let mut difference = Difference::default();
    let changed = changed_files(before, after)?;
    let labels_before = Labels::read(before);
    let labels = Labels::read(after);
    let mut asked_for: BTreeSet<&str> = BTreeSet::new();
    let mut with_records: BTreeSet<String> = BTreeSet::new();
    for (id, table) in after.schema.tables.iter().enumerate() {
        let takes = |side: View<'_>, file: FileId| table.takes(&side.stack.files()[file].path);
        let own: Vec<&ChangedFile> = changed
            .iter()
            .filter(|file| {
                file.before.is_some_and(|file| takes(before, file))
                    || file.after.is_some_and(|file| takes(after, file))
            })
            .collect();
        let wanted = only.is_empty() || only.contains(&table.name);
        if wanted {
            asked_for.extend(own.iter().map(|file| file.path.as_str()));
        }
        let Some(id_before) = before.schema.table(&table.name).filter(|_| wanted && !own.is_empty()) else {
            continue;
        };
        let (old, new) = match table.merged {
            true => (Rows::read(before, id_before, &labels_before)?, Rows::read(after, id, &labels)?),
            false => {
                let files =
                    |of: fn(&ChangedFile) -> Option<FileId>| own.iter().filter_map(|file| of(file)).collect();
                (
                    Rows::of_files(
                        before.stack,
                        before.schema,
                        id_before,
                        &labels_before,
                        files(|file| file.before),
                        &[],
                    )?,
                    Rows::of_files(after.stack, after.schema, id, &labels, files(|file| file.after), &[])?,
                )
            }
        };
        let found = of_table((before, &old), (after, &new));
        with_records.extend(found.records.iter().map(|record| {
            let side = if record.how == How::Removed { before } else { after };
            side.stack.files()[record.file].path.to_string()
        }));
        if !found.records.is_empty() || !found.columns_added.is_empty() || !found.columns_removed.is_empty() {
            difference.tables.push(found);
        }
    }
    let others = changed.iter().filter(|file| {
        let wanted = only.is_empty() || asked_for.contains(file.path.as_str());
        wanted && !with_records.contains(&file.path)
    });
    difference.files = others
        .map(|file| {
            let how = match (file.before, file.after) {
                (None, _) => How::Added,
                (_, None) => How::Removed,
                _ => How::Changed,
            };
            (file.path.clone(), how)
        })
        .collect();
    // Where layers count together, several files have one path.
    difference.files.dedup();
    Ok(difference)
}

/// A file that is not the same in both states.
struct ChangedFile {
    path: String,
    before: Option<FileId>,
    after: Option<FileId>,
}

/// In the order of the paths; several of one path where layers count together.
fn changed_files(before: View<'_>, after: View<'_>) -> Result<Vec<ChangedFile>, Error> {
    let by_path = |side: View<'_>| {
        let mut out: BTreeMap<String, Vec<FileId>> = BTreeMap::new();
        for file in side.stack.effective(side.through) {
            out.entry(side.stack.files()[file].path.to_string()).or_default().push(file);
        }
        out
    };
    let (old, mut new) = (by_path(before), by_path(after));
    let mut changed = Vec::new();
    let mut pairs: Vec<(String, Vec<FileId>, Vec<FileId>)> = Vec::new();
    for (path, files) in old {
        let others = new.remove(&path).unwrap_or_default();
        pairs.push((path, files, others));
    }
    pairs.extend(new.into_iter().map(|(path, files)| (path, Vec::new(), files)));
    pairs.sort_by(|a, b| a.0.cmp(&b.0));
    for (path, old, new) in pairs {
        for at in 0..old.len().max(new.len()) {
            let (one, other) = (old.get(at).copied(), new.get(at).copied());
            if let (Some(one), Some(other)) = (one, other)
                && same_bytes(before.stack, one, after.stack, other)?
            {
                continue;
            }
            changed.push(ChangedFile { path: path.clone(), before: one, after: other });
        }
    }
    Ok(changed)
}

fn same_bytes(stack: &Stack, one: FileId, other_stack: &Stack, other: FileId) -> Result<bool, Error> {
    let (a, b) = (&stack.files()[one], &other_stack.files()[other]);
    if std::ptr::eq(stack, other_stack) && one == other {
        return Ok(true);
    }
    if a.size != b.size {
        return Ok(false);
    }
    let (mut left, mut right) = (Vec::new(), Vec::new());
    stack.read(one, &mut left)?;
    other_stack.read(other, &mut right)?;
    Ok(left == right)
}

/// What tells the records of a table apart: the key, the language of a text, and which of several it is.
type Identity = (Option<String>, Option<String>, usize);

fn identities(side: View<'_>, rows: &Rows) -> Vec<Identity> {
    let by_file = matches!(rows.table.texts, Some(Texts::File(_)));
    let mut seen: HashMap<(Option<String>, Option<String>), usize> = HashMap::new();
    let identity = |row: &Row| {
        let path = &side.stack.files()[row.file].path;
        let language = by_file.then(|| rows.table.language_of(path)).flatten().map(str::to_owned);
        let count = seen.entry((row.key.clone(), language.clone())).or_default();
        *count += 1;
        (row.key.clone(), language, *count)
    };
    rows.rows.iter().map(identity).collect()
}

fn of_table((before, old): (View<'_>, &Rows), (after, new): (View<'_>, &Rows)) -> TableDifference {
    let old_identities = identities(before, old);
    let mut at: HashMap<&Identity, usize> =
        old_identities.iter().enumerate().map(|(at, identity)| (identity, at)).collect();
    let both: Vec<(Option<usize>, usize)> = {
        let old = old.columns.iter().enumerate().map(|(at, name)| (name.as_str(), at));
        let old: HashMap<&str, usize> = old.collect();
        new.columns.iter().enumerate().map(|(at, name)| (old.get(name.as_str()).copied(), at)).collect()
    };
    let lost: Vec<usize> =
        (0..old.columns.len()).filter(|at| !new.columns.contains(&old.columns[*at])).collect();
    let names =
        |rows: &Rows, columns: Vec<usize>| columns.into_iter().map(|at| rows.columns[at].clone()).collect();
    let gained = both.iter().filter(|(old, _)| old.is_none()).map(|(_, new)| *new).collect();
    let mut out = TableDifference { name: new.table.name.clone(), ..TableDifference::default() };
    if !old.rows.is_empty() && !new.rows.is_empty() {
        (out.columns_added, out.columns_removed) = (names(new, gained), names(old, lost.clone()));
    }
    let text = |row: &Row, column: usize| row.cells[column].as_ref().map(|_| row.text(column).into_owned());
    let record =
        |how: How, row: &Row, language: &Option<String>, fields: Vec<FieldDifference>| RecordDifference {
            how,
            key: row.shown_key(),
            language: language.clone(),
            label: row.label.clone(),
            file: row.file,
            span: row.span,
            fields,
        };
    for (row, identity) in new.rows.iter().zip(identities(after, new)) {
        let partner = at.remove(&identity).map(|at| &old.rows[at]);
        let mut fields = Vec::new();
        for (old_column, column) in &both {
            let before = old_column.and_then(|column| partner.and_then(|row| text(row, column)));
            let after = text(row, *column);
            if before != after && !(partner.is_none() && after.as_deref() == Some("")) {
                fields.push(FieldDifference { name: new.columns[*column].clone(), before, after });
            }
        }
        for column in &lost {
            if let Some(before) = partner.and_then(|row| text(row, *column)) {
                let name = old.columns[*column].clone();
                fields.push(FieldDifference { name, before: Some(before), after: None });
            }
        }
        match partner {
            None => out.records.push(record(How::Added, row, &identity.1, fields)),
            Some(_) if fields.is_empty() => out.same += 1,
            Some(_) => out.records.push(record(How::Changed, row, &identity.1, fields)),
        }
    }
    for (row, identity) in
        old.rows.iter().zip(&old_identities).filter(|(_, identity)| at.contains_key(identity))
    {
        let field = |(column, name): (usize, &String)| {
            let before = text(row, column).filter(|before| !before.is_empty())?;
            Some(FieldDifference { name: name.clone(), before: Some(before), after: None })
        };
        let fields = old.columns.iter().enumerate().filter_map(field).collect();
        out.records.push(record(How::Removed, row, &identity.1, fields));
    }
    out
}
