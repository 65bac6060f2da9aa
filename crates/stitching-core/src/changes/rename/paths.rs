//! What becomes of the paths of files, and of what lies in these, when the names that stand in them change.
//!
//! Where the whole name of a folder is a part of the path (`sites/{site}/site.json`), the folder moves with all that is in it.

use super::visitor::{other_parts, value_for};
use super::{Item, Work, unfit};
use crate::Error;
use crate::changes::belongings::folders_within;
use crate::layers::{FileId, RelPath};
use crate::links::{ReferenceMatcher, Thing, second_identifiers};
use crate::project::Project;
use crate::reading::{View, with_text};
use crate::schema::{KeyPart, NamedBy, NewPath, Table, TableId};
use crate::tables::{KEY_SEPARATOR, read_all};
use crate::text::Span;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// The key that the records of a file at `path` have in `table`, where that is made of the path alone.
pub(in crate::changes) fn key_of_path(table: &Table, path: &RelPath) -> Option<String> {
    if !table.is_keyed_by_path() {
        return None;
    }
    let parts = table.key.iter().map(|part| table.of_path(*part, path));
    Some(parts.collect::<Option<Vec<_>>>()?.join(&KEY_SEPARATOR.to_string()))
}

/// Whether a part of the key that changes is of the path of the record's file.
pub(super) fn is_in_path(table: &Table, old: &str, new: &str) -> bool {
    let parts = table.key.iter().zip(old.split(KEY_SEPARATOR)).zip(new.split(KEY_SEPARATOR));
    parts.into_iter().any(|((part, old), new)| old != new && part.is_of_path())
}

/// What becomes of the path of a file of `table` when the key of its records is `new` in place of `old`.
///
/// # Errors
/// When the new key makes no path.
pub(in crate::changes) fn path_for_key(
    table: &Table,
    path: &RelPath,
    old: &str,
    new: &str,
) -> Result<NewPath, Error> {
    let parts = table.key.iter().zip(old.split(KEY_SEPARATOR)).zip(new.split(KEY_SEPARATOR));
    let changed = parts.filter(|((_, old), new)| old != new).map(|((part, _), new)| (*part, new));
    let changed: Vec<(KeyPart, String)> = changed.map(|(part, new)| (part, new.to_owned())).collect();
    path_with(table, path, &changed)
}

/// The path of a file of `table` in which these parts have other texts.
fn path_with(table: &Table, path: &RelPath, changed: &[(KeyPart, String)]) -> Result<NewPath, Error> {
    let no_path = |error: &dyn std::fmt::Display| {
        Error::refused(error.to_string(), "choose another key; nothing was changed")
    };
    let of_part = |part: usize| {
        let own = changed.iter().find(|(own, _)| *own == KeyPart::PathPart(part));
        own.map(|(_, new)| new.clone())
    };
    let by_parts = changed.iter().any(|(part, _)| matches!(part, KeyPart::PathPart(_)));
    let mut new = match table.with_path_parts(path, of_part).filter(|_| by_parts) {
        Some(new) => new,
        None => NewPath { path: path.to_string(), folders: Vec::new() },
    };
    for (part, text) in changed {
        let own = RelPath::parse(&new.path).map_err(|error| no_path(&error))?;
        let with_part = match part {
            KeyPart::Path => RelPath::parse(text),
            KeyPart::Stem => own.with_stem(text),
            KeyPart::FileName => own.with_name(text),
            KeyPart::PathPart(_) | KeyPart::Field(_) | KeyPart::Position => continue,
        };
        new.path = with_part.map_err(|error| no_path(&error))?.to_string();
    }
    Ok(new)
}

/// The files that get another path: the new path of each, and the folders that go as a whole.
#[derive(Debug, Default)]
pub(in crate::changes) struct Moves {
    files: BTreeMap<RelPath, String>,
    folders: BTreeSet<(String, String)>,
}

impl Moves {
    /// A folder with all that is in it.
    pub(super) fn of_folder(from: &RelPath, to: &RelPath) -> Moves {
        Moves { folders: BTreeSet::from([(from.to_string(), to.to_string())]), files: BTreeMap::new() }
    }

    /// The files of `table` among `files` whose keys are `old`, to where the key `new` has them.
    ///
    /// # Errors
    /// When the new key makes no path.
    pub(in crate::changes) fn for_key(
        project: &Project,
        table: TableId,
        files: &[FileId],
        old: &str,
        new: &str,
    ) -> Result<Moves, Error> {
        let mut moves = Moves::default();
        for file in files {
            let path = &project.stack.files()[*file].path;
            moves.add(path, path_for_key(&project.schema.tables[table], path, old, new)?);
        }
        Ok(moves)
    }

    /// The files whose paths point to `items`, which get other names, by the rules that `follows` tells.
    ///
    /// # Errors
    /// When a name fits no path.
    pub(in crate::changes) fn in_paths(
        project: &Project,
        items: &[Item],
        wanted: &ReferenceMatcher,
        moved: &HashMap<RelPath, RelPath>,
        follows: &dyn Fn(TableId, usize) -> bool,
    ) -> Result<Moves, Error> {
        let (stack, schema) = (&project.stack, &project.schema);
        let mut moves = Moves::default();
        for (id, table) in schema.tables.iter().enumerate() {
            let mut changed: BTreeMap<FileId, Vec<(KeyPart, String)>> = BTreeMap::new();
            let mut unfit_item: Option<(FileId, usize)> = None;
            wanted.visit_paths(View::top(stack, schema), id, &mut |file, field, record, piece, thing| {
                if !follows(id, piece.rule) {
                    return;
                }
                let (rule, item) = (&table.rules[piece.rule], &items[thing]);
                let parts = changed.entry(file).or_default();
                let others = other_parts(rule, item).filter_map(|(part, new)| match part {
                    NamedBy::Record(part) => Some((part, new.to_owned())),
                    _ => None,
                });
                parts.extend(others);
                match (value_for(record, moved, rule, piece, item), table.fields[field].of_path) {
                    (Some(new), Some(part)) => parts.push((part, new)),
                    _ => unfit_item = Some((file, thing)),
                }
            });
            if let Some((file, thing)) = unfit_item {
                let reason = format!("`{}` does not fit what its path makes of a name", items[thing].new);
                return Err(unfit(project, file, Span { start: 0, end: 0 }, &reason));
            }
            for (file, mut parts) in changed {
                let path = &stack.files()[file].path;
                parts.retain(|(part, new)| table.of_path(*part, path) != Some(new));
                moves.add(path, path_with(table, path, &parts)?);
            }
        }
        Ok(moves)
    }

    fn add(&mut self, path: &RelPath, new: NewPath) {
        self.files.insert(path.clone(), new.path);
        self.folders.extend(new.folders);
    }

    /// Adds what else lies in the folders; gives the files that get another path, with that.
    pub(in crate::changes) fn all(mut self, project: &Project) -> (Vec<(FileId, String)>, Vec<RelPath>) {
        if self.files.is_empty() && self.folders.is_empty() {
            return (Vec::new(), Vec::new());
        }
        let stack = &project.stack;
        let mut out = Vec::new();
        for file in stack.effective(stack.top()) {
            let path = &stack.files()[file].path;
            let new = self.files.remove(path).or_else(|| self.in_folder(path));
            out.extend(new.filter(|new| path.as_str() != new).map(|new| (file, new)));
        }
        let folders = self.folders.iter().filter_map(|(old, _)| RelPath::parse(old).ok());
        (out, folders.collect())
    }

    /// The new path of a file that lies in a folder which goes as a whole: the innermost counts.
    fn in_folder(&self, path: &RelPath) -> Option<String> {
        let inside = self.folders.iter().filter_map(|(old, new)| {
            let rest = path.as_str().strip_prefix(old.as_str())?;
            rest.starts_with('/').then(|| (old.len(), format!("{new}{rest}")))
        });
        inside.max_by_key(|(length, _)| *length).map(|(_, new)| new)
    }
}

impl Work<'_> {
    /// Puts files that move on the list, with the others in the folders that do.
    pub(super) fn take_moves(&mut self, moves: Moves) -> Result<(), Error> {
        let stack = &self.project.stack;
        let (files, folders) = moves.all(self.project);
        let paths: Vec<&RelPath> = files.iter().map(|(file, _)| &stack.files()[*file].path).collect();
        for folder in folders.iter().flat_map(|folder| folders_within(folder, &paths)) {
            self.builder.remove_folder(folder);
        }
        for (file, new) in files {
            let path = stack.files()[file].path.clone();
            match self.new_paths.get(&path) {
                Some(known) if known.as_str() != new => {
                    let reason = format!("`{path}` would have to be `{known}` and `{new}` at once");
                    return Err(Error::refused(reason, "rename one after the other; nothing was changed"));
                }
                Some(_) => {}
                None => {
                    // A file of a base layer is there under its old path too.
                    let stays = !self.is_in_mod(file);
                    self.add(Item { stays, ..Item::new(Thing::File(path), new) })?;
                }
            }
        }
        Ok(())
    }

    /// Puts on the list what gets another key, or another value by which others refer to it, since its file moves from `old`
    /// to `new`. With `stays` it is there under its old path too.
    pub(super) fn follow_moved_file(
        &mut self,
        old: &RelPath,
        new: &RelPath,
        stays: bool,
    ) -> Result<(), Error> {
        for item in named_by_path(self.project, old, new)? {
            self.add(Item { stays, ..item })?;
        }
        Ok(())
    }
}

/// What gets another name with a file that has the path `new` in place of `old`: its records whose keys have parts of the path,
/// and values of the path by which others refer to records.
///
/// # Errors
/// When the file cannot be read.
pub(in crate::changes) fn named_by_path(
    project: &Project,
    old: &RelPath,
    new: &RelPath,
) -> Result<Vec<Item>, Error> {
    let schema = &project.schema;
    let mut out = Vec::new();
    for (id, table) in schema.tables.iter().enumerate().filter(|(_, table)| table.takes(old)) {
        for (before, after) in keys_in(project, table, old, new)? {
            out.push(Item { key_done: true, ..Item::new(Thing::Record(id, before), after) });
        }
        for rule in second_identifiers(schema, id) {
            let Some(part) = table.fields[table.rules[rule].field].of_path else { continue };
            if let (Some(before), Some(after)) = (table.of_path(part, old), table.of_path(part, new))
                && before != after
            {
                let thing = Thing::Column(id, rule, before.to_owned());
                out.push(Item { key_done: true, ..Item::new(thing, after.to_owned()) });
            }
        }
    }
    Ok(out)
}

/// The keys of the records of `table` in the file at `old`, and what they are when it lies at `new`, as far as they change.
fn keys_in(
    project: &Project,
    table: &Table,
    old: &RelPath,
    new: &RelPath,
) -> Result<Vec<(String, String)>, Error> {
    if let (Some(before), Some(after)) = (key_of_path(table, old), key_of_path(table, new)) {
        return Ok(if before == after { Vec::new() } else { vec![(before, after)] });
    }
    let changes = |part: &KeyPart| {
        table.of_path(*part, old).is_some_and(|before| table.of_path(*part, new) != Some(before))
    };
    let stack = &project.stack;
    let file = stack.effective(stack.top()).into_iter().find(|file| stack.files()[*file].path == *old);
    let (true, true, Some(file)) = (table.key.iter().any(changes), table.takes(new), file) else {
        return Ok(Vec::new());
    };
    let records = with_text(stack, file, |text| read_all(table, old, text))?;
    let after = |key: String| {
        let parts = table.key.iter().zip(key.split(KEY_SEPARATOR));
        let parts = parts.map(|(part, own)| table.of_path(*part, new).unwrap_or(own));
        let after = parts.collect::<Vec<_>>().join(&KEY_SEPARATOR.to_string());
        (key, after)
    };
    Ok(records.into_iter().filter_map(|record| record.key).map(after).collect())
}
