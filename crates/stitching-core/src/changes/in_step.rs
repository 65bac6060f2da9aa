//! What depends on what a change touches is put right within the same change: computed fields, derived and paired files.

use super::builder::Builder;
use super::change::{Change, Note};
use super::position_keys::touches_positions;
use super::sequence::Sequence;
use super::set::{ComputedField, compute};
use super::transfer::transfer;
use crate::checks::mistake;
use crate::error::{Error, Refusal};
use crate::layers::{FileId, LayerId, RelPath};
use crate::links::{Address, Labels};
use crate::project::Project;
use crate::reading::View;
use crate::rows::{ComputedValues, Others};
use crate::schema::{Computed, Derived, Paired, TableId, Transfer, WhenChanged};
use crate::text::{Edit, Span};
use std::collections::{BTreeSet, HashMap, HashSet};

/// `change` with all that depends on what it touches put right, references to records by their position among it. A record that was not right before, and of which nothing
/// changes, stays as it is.
///
/// Cost: nothing where the schema describes nothing of the kind; else the tables that are asked, read twice.
///
/// # Errors
/// When a value cannot stand where it should, computed fields depend on each other in a circle, or files that must be equal
/// are given different contents.
pub fn in_step(project: &Project, change: Change) -> Result<Change, Error> {
    let schema = &project.schema;
    let transfers: Vec<&Transfer> = schema.transfers.iter().filter(|own| own.in_step).collect();
    if schema.computed.is_empty()
        && schema.derived.is_empty()
        && schema.paired.is_empty()
        && transfers.is_empty()
        && (change.follows_positions || !touches_positions(schema, &change))
    {
        return Ok(change);
    }
    let mut sequence = Sequence::new(project, change.title.clone());
    let mut touched = paths(&change);
    sequence.push(change)?;
    transferred(&mut sequence, &transfers, &mut touched)?;
    computed_fields(project, &mut sequence, &mut touched)?;
    for paired in &schema.paired {
        paired_files(&mut sequence, paired, &mut touched)?;
    }
    derived_files(&mut sequence, &touched)?;
    Ok(sequence.finish())
}

/// The change that puts right all that depends on something else: computed fields that are not as in the base, derived
/// files that are older than what they are made from, and paired files that differ.
///
/// # Errors
/// As [`in_step`], and when all of it is right already.
pub fn refresh(project: &Project) -> Result<Change, Error> {
    let mut sequence = Sequence::new(project, "put right what follows from the rest");
    let transfers: Vec<&Transfer> = project.schema.transfers.iter().filter(|own| own.in_step).collect();
    let mut all = project.stack.files().iter().map(|file| file.path.clone()).collect();
    transferred(&mut sequence, &transfers, &mut all)?;
    for round in 0.. {
        let top = project.stack.top();
        let (mut fields, mut mistakes) = (Vec::new(), Vec::new());
        for computed in &project.schema.computed {
            let now = match values(sequence.project(), top, computed) {
                Ok(now) => now,
                Err(error) => {
                    mistakes.push(mistake(computed, &error));
                    continue;
                }
            };
            let base = if top > 0 { values(project, top - 1, computed).ok() } else { None };
            fields.extend(wrong_fields(computed, &now, base.as_ref()));
        }
        match (fields.is_empty(), mistakes.is_empty()) {
            (true, true) => break,
            // What cannot be worked out may follow from what is put right first.
            (true, false) => {
                return Err(Error::Refused(Box::new(Refusal {
                    reason: "a value cannot be worked out; nothing was changed".to_owned(),
                    help: "put the schema or the data right and run the command again".into(),
                    problems: mistakes,
                })));
            }
            (false, _) => {}
        }
        refuse_circle(project, round, &fields)?;
        let change = compute(sequence.project(), &fields)?;
        sequence.push(change)?;
    }
    for paired in &project.schema.paired {
        let lead = paired.files.iter().find(|path| file_at(sequence.project(), path).is_some());
        let mut touched: BTreeSet<RelPath> = lead.cloned().into_iter().collect();
        paired_files(&mut sequence, paired, &mut touched)?;
    }
    stale_files(&mut sequence)?;
    let change = sequence.finish();
    if change.files().is_empty() {
        let stale = change.notes().iter().find_map(|note| match note {
            Note::Stale(path) => Some(path),
            _ => None,
        });
        return Err(match stale {
            None => Error::nothing_to_do("everything that follows from the rest is right"),
            Some(path) => Error::refused(
                format!("`{path}` is older than what it is made from, and the rest is right"),
                "make it anew with the game or the tool that makes it",
            ),
        });
    }
    Ok(change)
}

/// Makes the records anew that come from tables of which a file is `touched`.
fn transferred(
    sequence: &mut Sequence<'_>,
    transfers: &[&Transfer],
    touched: &mut BTreeSet<RelPath>,
) -> Result<(), Error> {
    for own in transfers {
        let from = &sequence.project().schema.tables[own.from];
        if !touched.iter().any(|path| from.takes(path)) {
            continue;
        }
        match transfer(sequence.project(), own) {
            Ok(change) => {
                touched.extend(paths(&change));
                sequence.push(change.with(Note::PutRight(format!("transfer {}", own.name))))?;
            }
            Err(Error::NothingToDo { .. }) => {}
            Err(error) => return Err(error),
        }
    }
    Ok(())
}

/// The paths of the files that a change touches, before and after.
fn paths(change: &Change) -> BTreeSet<RelPath> {
    change.files().iter().flat_map(|file| [file.from(), file.to()]).flatten().cloned().collect()
}

fn values(project: &Project, through: LayerId, computed: &Computed) -> Result<ComputedValues, Error> {
    let labels = Labels::default();
    let view = View { stack: &project.stack, schema: &project.schema, through };
    ComputedValues::of(&project.schema, computed, &Others::new(view, &labels))
}

/// The fields that do not hold what they should, but those that hold and should hold the same in `before`.
fn wrong_fields<'c>(
    computed: &'c Computed,
    now: &ComputedValues,
    before: Option<&ComputedValues>,
) -> Vec<ComputedField<'c>> {
    let before = before.map(ComputedValues::by_key).unwrap_or_default();
    let is_new = |row: usize, wanted: &crate::expressions::Value| {
        let key = now.rows.rows[row].key.as_deref().unwrap_or_default();
        before.get(key).is_none_or(|(held, before)| *held != now.held(row) || *before != wanted.shown())
    };
    let wrong = now.differing().filter(|(row, wanted)| is_new(*row, wanted));
    wrong.map(|(row, _)| ComputedField { computed, row }).collect()
}

/// Puts computed fields right that a change makes wrong, until nothing more follows.
fn computed_fields(
    project: &Project,
    sequence: &mut Sequence<'_>,
    touched: &mut BTreeSet<RelPath>,
) -> Result<(), Error> {
    let schema = &project.schema;
    let top = project.stack.top();
    // What the fields held and should have held before, by the number of the computed field.
    let mut all_before: HashMap<usize, Option<ComputedValues>> = HashMap::new();
    // The fields that were put right, by the field and the key.
    let mut done: HashSet<(usize, String)> = HashSet::new();
    for round in 0.. {
        let tables: HashSet<TableId> = touched.iter().flat_map(|path| schema.tables_of(path)).collect();
        let names: HashSet<&str> = tables.iter().map(|id| schema.tables[*id].name.as_str()).collect();
        let depends = |(_, computed): &(usize, &Computed)| {
            computed.follows
                || tables.contains(&computed.table)
                || computed.asked.iter().any(|table| names.contains(table.as_str()))
        };
        let (mut fields, mut now_done) = (Vec::new(), Vec::new());
        for (number, computed) in schema.computed.iter().enumerate().filter(depends) {
            // An expression that does not work is a mistake in the schema, which checking tells.
            let Ok(now) = values(sequence.project(), top, computed) else { continue };
            let before = all_before.entry(number).or_insert_with(|| values(project, top, computed).ok());
            let known = before.as_ref().map(ComputedValues::by_key).unwrap_or_default();
            let wrong = wrong_fields(computed, &now, before.as_ref()).into_iter();
            // A field that was changed itself, and not what it follows from, is an error to be told.
            let wrong = wrong.filter(|field| {
                let row = &now.rows.rows[field.row];
                let wanted = now.values.iter().find(|(at, _)| *at == field.row);
                let key = row.key.as_deref().unwrap_or_default();
                let known = known.get(key).filter(|_| !done.contains(&(number, key.to_owned())));
                known.is_none_or(|(_, before)| wanted.is_none_or(|(_, wanted)| *before != wanted.shown()))
            });
            for field in wrong {
                now_done.push((number, now.rows.rows[field.row].key.clone().unwrap_or_default()));
                fields.push(field);
            }
        }
        if fields.is_empty() {
            return Ok(());
        }
        done.extend(now_done);
        refuse_circle(project, round, &fields)?;
        let change = compute(sequence.project(), &fields)?;
        touched.extend(paths(&change));
        sequence.push(change)?;
    }
    Ok(())
}

/// Refuses to go on where more rounds are needed than there are computed fields.
fn refuse_circle(project: &Project, round: usize, fields: &[ComputedField<'_>]) -> Result<(), Error> {
    if round <= project.schema.computed.len() {
        return Ok(());
    }
    let address = |field: &ComputedField<'_>| {
        let table = &project.schema.tables[field.computed.table].name;
        let of = field.computed.record.as_ref().map(|record| Address::show(table, record));
        format!("{}.{}", of.unwrap_or_else(|| table.clone()), field.computed.field)
    };
    let names: BTreeSet<String> = fields.iter().map(address).collect();
    let names: Vec<String> = names.into_iter().collect();
    Err(Error::refused(
        format!("the computed fields {} depend on each other in a circle", names.join(" and ")),
        "put the schema right; nothing was changed",
    ))
}

/// The effective file at `path`.
fn file_at(project: &Project, path: &RelPath) -> Option<FileId> {
    (0..=project.stack.top()).rev().find_map(|layer| project.stack.find(layer, path))
}

/// Gives files that must be equal what the one of them that is `touched` holds.
fn paired_files(
    sequence: &mut Sequence<'_>,
    paired: &Paired,
    touched: &mut BTreeSet<RelPath>,
) -> Result<(), Error> {
    let project = sequence.project();
    let (leading, following): (Vec<&RelPath>, Vec<&RelPath>) =
        paired.files.iter().partition(|path| touched.contains(*path));
    let Some(first) = leading.first() else { return Ok(()) };
    let mut builder = Builder::new(project, "");
    let lead = file_at(project, first);
    let mut text = |path: &RelPath| -> Result<Option<String>, Error> {
        let Some(file) = file_at(project, path) else { return Ok(None) };
        Ok(Some(builder.text(file)?.as_str().to_owned()))
    };
    let wanted = text(first)?;
    for other in &leading[1..] {
        if text(other)? != wanted {
            return Err(Error::refused(
                format!("`{first}` and `{other}` must be equal, and would differ"),
                "change only one of them; nothing was changed",
            ));
        }
    }
    let mut held = Vec::new();
    for path in following {
        held.push((path, text(path)?));
    }
    let mut is_changed = false;
    for (path, held) in held {
        match (&held, &wanted, file_at(project, path)) {
            (Some(held), Some(wanted), Some(file)) if held != wanted => {
                builder.edit(file, vec![difference(held, wanted)])?;
            }
            (None, Some(_), _) => {
                let Some(lead) = lead else { continue };
                builder.copy_to(lead, path)?;
            }
            (Some(_), None, Some(file)) if is_of_mod(project, file) => builder.remove(file)?,
            _ => continue,
        }
        is_changed = true;
        builder.note(Note::PutRight(path.to_string()));
        touched.insert(path.clone());
    }
    if is_changed {
        let change = builder.finish()?;
        sequence.push(change)?;
    }
    Ok(())
}

/// The one replacement that makes `new` of `old`.
fn difference(old: &str, new: &str) -> Edit {
    let same = |(a, b): &(char, char)| a == b;
    let start: usize = old.chars().zip(new.chars()).take_while(same).map(|(a, _)| a.len_utf8()).sum();
    let (old_rest, new_rest) = (&old[start..], &new[start..]);
    let ends = old_rest.chars().rev().zip(new_rest.chars().rev());
    let end: usize = ends.take_while(same).map(|(a, _)| a.len_utf8()).sum();
    Edit { span: Span::new(start, old.len() - end), text: new_rest[..new_rest.len() - end].to_owned() }
}

fn is_of_mod(project: &Project, file: FileId) -> bool {
    project.stack.layers()[project.stack.files()[file].layer].is_mod
}

/// Removes, empties or tells the derived files that are made from one that is `touched`.
fn derived_files(sequence: &mut Sequence<'_>, touched: &BTreeSet<RelPath>) -> Result<(), Error> {
    let is_stale = |derived: usize, file: FileId| {
        let project = sequence.project();
        let (derived, path) = (&project.schema.derived[derived], &project.stack.files()[file].path);
        !touched.contains(path) && touched.iter().any(|changed| derived.is_stale(path, changed))
    };
    let found = derived_where(sequence.project(), is_stale);
    drop_derived(sequence, &found)
}

/// As [`derived_files`], for those that are older than what they are made from, by their times.
fn stale_files(sequence: &mut Sequence<'_>) -> Result<(), Error> {
    let project = sequence.project();
    let stack = &project.stack;
    let of = |derived: &Derived| derived.older_files(stack, stack.top()).into_iter().map(|(file, _)| file);
    let older: Vec<HashSet<FileId>> =
        project.schema.derived.iter().map(|derived| of(derived).collect()).collect();
    let is_stale = |derived: usize, file: FileId| older[derived].contains(&file);
    let found = derived_where(project, is_stale);
    drop_derived(sequence, &found)
}

/// The effective files that are derived and of which `is_stale` holds, which is given the position of the first
/// `[[derived]]` that takes the file; with what is to become of each.
fn derived_where(project: &Project, is_stale: impl Fn(usize, FileId) -> bool) -> Vec<(RelPath, WhenChanged)> {
    let stack = &project.stack;
    let mut out = Vec::new();
    if project.schema.derived.is_empty() {
        return out;
    }
    for file in stack.effective(stack.top()) {
        let path = &stack.files()[file].path;
        let derived = project.schema.derived.iter().enumerate().find(|(at, derived)| {
            // One that is empty already can be no staler.
            let is_done = derived.when_changed == WhenChanged::Empty && stack.files()[file].size == 0;
            derived.files.takes(path.as_str()) && !is_done && is_stale(*at, file)
        });
        out.extend(derived.map(|(_, derived)| (path.clone(), derived.when_changed)));
    }
    out
}

fn drop_derived(sequence: &mut Sequence<'_>, found: &[(RelPath, WhenChanged)]) -> Result<(), Error> {
    if found.is_empty() {
        return Ok(());
    }
    let project = sequence.project();
    let mut builder = Builder::new(project, "");
    for (path, when_changed) in found {
        let Some(file) = file_at(project, path) else { continue };
        match when_changed {
            WhenChanged::Delete if is_of_mod(project, file) => {
                builder.remove(file)?;
                builder.note(Note::DerivedRemoved(path.to_string()));
            }
            WhenChanged::Empty => {
                let length = builder.text(file)?.as_str().len();
                builder.edit(file, vec![Edit { span: Span::new(0, length), text: String::new() }])?;
                builder.note(Note::DerivedEmptied(path.to_string()));
            }
            WhenChanged::Delete | WhenChanged::Report => builder.note(Note::Stale(path.to_string())),
        }
    }
    let change = builder.finish()?;
    sequence.push(change)
}
