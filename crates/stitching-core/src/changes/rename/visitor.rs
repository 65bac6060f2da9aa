//! What one record has to do with the things that get a new name in a round.

use super::refusals::folded_key;
use super::{Hit, Item};
use crate::changes::rewrite::Rewrite;
use crate::formats::decode;
use crate::layers::RelPath;
use crate::links::{ReferenceMatcher, Thing, own_part};
use crate::schema::{Field, KeyPart, Layout, NamedBy, Schema, Table, TableId, ValueRule};
use crate::tables::{KEY_SEPARATOR, Piece, RecordView, beside, file_named, for_each_piece};
use crate::text::{Span, Template};
use std::cmp::Reverse;
use std::collections::HashMap;
use std::ops::Range;

/// The things of a round, to be looked up by what a record is. There may be thousands.
#[derive(Debug)]
pub(in crate::changes) struct ItemIndex<'i> {
    all: &'i [Item],
    records: HashMap<(TableId, String), usize>,
    columns: Vec<&'i Item>,
}

/// A piece of a value that is rewritten.
struct RewrittenPiece {
    field: usize,
    /// Its place in the decoded value, in bytes.
    within: Range<usize>,
    new: String,
}

/// The value `old` of a field with its pieces rewritten.
fn value_with(old: &str, field: usize, rewritten: &[RewrittenPiece]) -> String {
    let mut pieces: Vec<&RewrittenPiece> = rewritten.iter().filter(|piece| piece.field == field).collect();
    pieces.sort_by_key(|piece| Reverse(piece.within.start));
    let mut value = old.to_owned();
    for piece in pieces {
        if value.get(piece.within.clone()).is_some() {
            value.replace_range(piece.within.clone(), &piece.new);
        }
    }
    value
}

impl<'i> ItemIndex<'i> {
    pub(in crate::changes) fn new(schema: &Schema, all: &'i [Item]) -> ItemIndex<'i> {
        let mut records = HashMap::new();
        for (at, item) in all.iter().enumerate() {
            if let Thing::Record(table, key) = &item.thing {
                records.entry((*table, folded_key(&schema.tables[*table], key).into_owned())).or_insert(at);
            }
        }
        let columns = all.iter().filter(|item| matches!(item.thing, Thing::Column(..))).collect();
        ItemIndex { all, records, columns }
    }

    /// What becomes of the record of `table` with `key`.
    fn of_record(&self, table: &Table, id: TableId, key: &str) -> Option<&'i Item> {
        if self.records.is_empty() {
            return None;
        }
        self.records.get(&(id, folded_key(table, key).into_owned())).map(|at| &self.all[*at])
    }
}

/// What one record has to do with the things of a round.
pub(in crate::changes) struct Visitor<'l, 'r> {
    pub(in crate::changes) schema: &'l Schema,
    pub(in crate::changes) items: &'l ItemIndex<'l>,
    pub(in crate::changes) wanted: &'l ReferenceMatcher,
    /// The rules of the table by whose values others refer to its records, besides the key.
    pub(in crate::changes) second_identifiers: &'l [usize],
    /// The files that get another path, and which.
    pub(in crate::changes) moved: &'l HashMap<RelPath, RelPath>,
    pub(in crate::changes) table: TableId,
    pub(in crate::changes) record: &'l RecordView<'r>,
    pub(in crate::changes) hits: &'l mut Vec<Hit>,
}

impl Visitor<'_, '_> {
    /// Adds to the hits what the record gives.
    pub(in crate::changes) fn run(mut self) {
        let key = self.record.key();
        let mut rewritten: Vec<RewrittenPiece> = Vec::new();
        for field in self.wanted.fields(self.schema, self.table) {
            self.references(field, &mut rewritten);
        }
        self.second_identifiers();
        let Some(key) = key else { return };
        if let Some(item) = self.items.of_record(self.record.table, self.table, &key) {
            let item = item.clone();
            self.own_key(&key, &item);
            return;
        }
        // The record's own key has the renamed value as a part: it gets a new key with it.
        let parts = self.record.table.key.iter().zip(key.split(KEY_SEPARATOR));
        let new_parts: Vec<String> = parts
            .map(|(part, old)| match part {
                KeyPart::Field(field) => value_with(old, *field, &rewritten),
                _ => old.to_owned(),
            })
            .collect();
        self.follow_to_file(&key, &rewritten);
        let new_key = new_parts.join(&KEY_SEPARATOR.to_string());
        if new_key != key {
            let thing = Thing::Record(self.table, key);
            self.hits.push(Hit::Also(Item { key_done: true, ..Item::new(thing, new_key) }));
        }
    }

    /// A second identifier gets a new value where the record that has it says so.
    fn second_identifiers(&mut self) {
        for item in self.items.columns.iter().filter(|item| !item.key_done) {
            let Thing::Column(table, rule, old) = &item.thing else { continue };
            let field = self.record.table.rules.get(*rule).map(|rule| rule.field);
            let Some(field) = field.filter(|_| *table == self.table) else { continue };
            if self.record.value(field).is_some_and(|value| value == *old) {
                match names_something(self.record.table, &self.record.table.fields[field]) {
                    true => self.carry(field, old, &item.new),
                    false => self.rewrite_whole(field, &item.new),
                }
            }
        }
    }

    /// What refers to the record by `field` goes along when that becomes `new`; unless others have the old value
    /// too.
    fn following(&self, field: usize, old: &str, new: &str) -> Option<Hit> {
        let Layout::Whole(rule) = self.record.table.fields[field].layout else { return None };
        let follows = old != new && self.second_identifiers.contains(&rule);
        let thing = Thing::Column(self.table, rule, old.to_owned());
        follows.then(|| Hit::IfAlone(Item { key_done: true, ..Item::new(thing, new.to_owned()) }))
    }

    /// A file named after its record, in which a field repeats that name and is rewritten, is renamed too.
    fn follow_to_file(&mut self, key: &str, rewritten: &[RewrittenPiece]) {
        let table = self.record.table;
        if table.key != [KeyPart::Stem] {
            return;
        }
        for RewrittenPiece { field, .. } in rewritten {
            let Some(follows) = &table.fields[*field].follows else { continue };
            let value = self.record.value(*field).filter(|value| *value == follows.fill_one(key));
            let new = value.map(|value| value_with(&value, *field, rewritten));
            let new = new.as_deref().and_then(|new| follows.extract(new, "key"));
            if let Some(new) = new.and_then(|new| self.record.path.with_stem(new).ok()) {
                let thing = Thing::File(self.record.path.clone());
                self.hits.push(Hit::Also(Item::new(thing, new.to_string())));
            }
        }
    }

    /// Rewrites the values of `field` that point to one of the things.
    fn references(&mut self, field: usize, rewritten: &mut Vec<RewrittenPiece>) {
        let (record, wanted, items, table) = (self.record, self.wanted, self.items, self.table);
        let (second_identifiers, moved) = (self.second_identifiers, self.moved);
        let hits = &mut *self.hits;
        for_each_piece(record, field, |piece| {
            let rule = &record.table.rules[piece.rule];
            let Some(item) = wanted.thing(table, record, piece).map(|thing| &items.all[thing]) else {
                return;
            };
            // The other parts of a key stand in other fields of the record, or in the value beside this one.
            for (part, new) in other_parts(rule, item) {
                let place = match part {
                    NamedBy::Record(KeyPart::Field(field)) => record
                        .cell_beside(piece.at, field)
                        .map(|cell| (field, *cell, 0..decode(record.text, cell).text.len())),
                    NamedBy::Part(part) => {
                        piece.siblings.place(part).map(|within| (field, *piece.cell, within))
                    }
                    _ => None,
                };
                if let Some((field, cell, within)) = place {
                    let (record, new) = (merged_record(record), new.to_owned());
                    let needed = !item.stays;
                    hits.push(Hit::Rewrite(Rewrite { table, record, field, cell, within, new, needed }));
                }
            }
            match value_for(record, moved, rule, piece, item) {
                // Only other parts of its key change.
                Some(new) if new == piece.text => {}
                Some(new) => {
                    if let Layout::Whole(whole) = record.table.fields[field].layout
                        && second_identifiers.contains(&whole)
                    {
                        let thing = Thing::Column(table, whole, piece.text.to_owned());
                        hits.push(Hit::Also(Item { key_done: true, ..Item::new(thing, new.clone()) }));
                    }
                    rewritten.push(RewrittenPiece { field, within: piece.within.clone(), new: new.clone() });
                    hits.push(Hit::Rewrite(Rewrite {
                        table,
                        record: merged_record(record),
                        field,
                        cell: *piece.cell,
                        within: piece.within.clone(),
                        new,
                        needed: !item.stays,
                    }));
                }
                None => hits.push(Hit::Unfit(
                    piece.span,
                    format!("`{}` does not fit what this field makes of its value", item.new),
                )),
            }
        });
    }

    /// The record itself gets a new key: its key cells, and what carries the key.
    fn own_key(&mut self, key: &str, item: &Item) {
        let table = self.record.table;
        let (old_parts, new_parts) = (key.split(KEY_SEPARATOR), item.new.split(KEY_SEPARATOR));
        for ((part, old), new) in table.key.iter().zip(old_parts).zip(new_parts) {
            if let (KeyPart::Field(field), true) = (part, old != new) {
                if !item.key_done {
                    if self.record.cell(*field).is_none() {
                        let reason =
                            format!("`{old}` is a name that the schema gives; it stands nowhere in the file");
                        self.hits.push(Hit::Unfit(self.record.span, reason));
                    }
                    self.rewrite_whole(*field, new);
                }
                // What the key itself names goes along.
                if names_something(table, &table.fields[*field]) {
                    self.carry(*field, old, new);
                }
            }
        }
        let last = |key: &str| key.rsplit(KEY_SEPARATOR).next().unwrap_or_default().to_owned();
        let (old, new) = (last(key), last(&item.new));
        for field in 0..table.fields.len() {
            if table.is_key_field(field) {
                continue;
            }
            let Some(value) = self.record.value(field) else { continue };
            let Some((old_value, new_value)) = carried(table, &table.fields[field], &value, &old, &new)
            else {
                continue;
            };
            if old_value == new_value {
                continue;
            }
            self.carry(field, &old_value, &new_value);
        }
    }

    /// A value that is made from the key: it is rewritten, and what it names, as a whole or in its parts, is renamed.
    fn carry(&mut self, field: usize, old: &str, new: &str) {
        let table = self.record.table;
        let (template, rules) = match &table.fields[field].layout {
            Layout::Whole(rule) => return self.carry_part(field, *rule, 0..old.len(), old, new),
            Layout::Parts(template, rules) => (template, rules),
            Layout::Found(..) => return,
        };
        let (Some(before), Some(after)) = (template.matches(old), template.matches(new)) else {
            return self.rewrite_whole(field, new);
        };
        for (rule, (before, after)) in rules.iter().zip(before.into_iter().zip(after)) {
            let (Some(before), Some(after)) = (before, after) else { continue };
            if old[before.clone()] != new[after.clone()] {
                self.carry_part(field, *rule, before.clone(), &old[before], &new[after]);
            }
        }
    }

    /// As [`Visitor::carry`], for the part of a value that is `within` it.
    fn carry_part(&mut self, field: usize, rule: usize, within: Range<usize>, old: &str, new: &str) {
        let named = self.named_by(field, rule, old, new);
        // What is named is looked for in the next round, and this value found with the others.
        if named.is_empty() && self.record.table.rules[rule].refs.is_empty() {
            self.rewrite(field, within, new);
        }
        for (thing, name) in named {
            let value = Some(new.to_owned());
            self.hits.push(Hit::Also(Item { value, ..Item::new(thing, name) }));
        }
    }

    /// The text and the file that `old` names in a field by a rule, each with what `new` names.
    fn named_by(&self, field: usize, rule: usize, old: &str, new: &str) -> Vec<(Thing, String)> {
        let described = &self.record.table.rules[rule];
        let text = described.text.as_ref();
        let text = text.map(|template| (Thing::Text(template.fill_one(old)), template.fill_one(new)));
        let file = || {
            let (at, cell) =
                self.record.cells.iter().enumerate().find(|(_, cell)| usize::from(cell.column) == field)?;
            let path = |value: &str| {
                file_named(self.record, described, &Piece::whole(rule, value, cell.cell.span, &cell.cell, at))
            };
            Some((Thing::File(RelPath::parse(&path(old)?).ok()?), path(new)?))
        };
        text.into_iter().chain(file()).collect()
    }

    /// Rewrites all of a value; where others refer to the values of its field, they go along.
    fn rewrite_whole(&mut self, field: usize, new: &str) {
        if let Some(cell) = self.record.cell(field) {
            let whole = 0..decode(self.record.text, cell).text.len();
            self.rewrite(field, whole, new);
        }
    }

    /// Rewrites what is `within` a value.
    fn rewrite(&mut self, field: usize, within: Range<usize>, new: &str) {
        let Some(cell) = self.record.cell(field) else { return };
        let old = decode(self.record.text, cell).text;
        if within == (0..old.len()) {
            self.hits.extend(self.following(field, &old, new));
        }
        let record = merged_record(self.record);
        let (table, cell, new) = (self.table, *cell, new.to_owned());
        self.hits.push(Hit::Rewrite(Rewrite { table, record, field, cell, within, new, needed: false }));
    }
}

impl Item {
    /// A thing with its new name, of which nothing is done yet.
    pub(in crate::changes) fn new(thing: Thing, new: String) -> Item {
        Item { thing, new, value: None, key_done: false, stays: false }
    }

    /// The value of which `template` makes the new name of a text.
    fn value_for(&self, template: &Template) -> Option<String> {
        let made = || self.value.clone().filter(|value| template.fill_one(value) == self.new);
        template.extract(&self.new, "").map(str::to_owned).or_else(made)
    }
}

/// The parts of the key that a value of `rule` names by other means than itself, as far as they change for `item`: where each
/// stands, and its new text.
pub(super) fn other_parts<'i>(
    rule: &'i ValueRule,
    item: &'i Item,
) -> impl Iterator<Item = (NamedBy, &'i str)> {
    let old = match &item.thing {
        Thing::Record(_, old) => Some(old),
        _ => None,
    };
    let keys = old.into_iter().flat_map(|old| old.split(KEY_SEPARATOR).zip(item.new.split(KEY_SEPARATOR)));
    let changed = rule.with.iter().copied().zip(keys);
    let changed = changed.filter(|(part, (old, new))| *part != NamedBy::Value && old != new);
    changed.map(|(part, (_, new))| (part, new))
}

/// What `piece` of `record`, which points to a thing by `rule`, is to be when that is called as `item` says, and files have
/// `moved`; `None` where no value leads there.
pub(super) fn value_for(
    record: &RecordView<'_>,
    moved: &HashMap<RelPath, RelPath>,
    rule: &ValueRule,
    piece: &Piece<'_>,
    item: &Item,
) -> Option<String> {
    match &item.thing {
        Thing::Text(_) => rule.text.as_ref().and_then(|template| item.value_for(template)),
        Thing::File(_) => value_after(record, moved, rule, piece, item),
        Thing::Record(_, old) => {
            let own = if rule.with.is_empty() { item.new.as_str() } else { own_part(rule, &item.new) };
            if !rule.with.is_empty() && own == own_part(rule, old) {
                return Some(piece.text.to_owned());
            }
            let value = rule.shape.as_ref().map_or(Some(own), |template| template.extract(own, ""));
            value.map(str::to_owned)
        }
        Thing::Column(..) => Some(item.new.clone()),
    }
}

/// What `piece` of `record`, which names a file by `rule`, is to be when that is called as `item` says, and files have moved.
fn value_after(
    record: &RecordView<'_>,
    moved: &HashMap<RelPath, RelPath>,
    rule: &ValueRule,
    piece: &Piece<'_>,
    item: &Item,
) -> Option<String> {
    let file = rule.file.as_ref()?;
    let path = moved.get(record.path).unwrap_or(record.path);
    let other = |part| beside(record, piece, path, part);
    let made = |value: &String| file.fill(value, other).as_deref() == Some(item.new.as_str());
    let found = file.extract(&item.new, piece.text, other);
    // Another field may change that is a part of the path too.
    let unchanged = || file.may_name(&item.new, piece.text).then(|| piece.text.to_owned());
    found.or_else(|| item.value.clone().filter(made)).or_else(unchanged)
}

/// What must be remembered of a record in a table whose layers count together.
fn merged_record(record: &RecordView<'_>) -> Option<(Span, String)> {
    record.table.merged.then(|| record.key()).flatten().map(|key| (record.span, key))
}

/// If `value` of `field` carries the key `old`, the value and what it becomes with the key `new`.
fn carried(table: &Table, field: &Field, value: &str, old: &str, new: &str) -> Option<(String, String)> {
    if let Some(follows) = &field.follows {
        return (value == follows.fill_one(old)).then(|| (value.to_owned(), follows.fill_one(new)));
    }
    (names_something(table, field) && value == old).then(|| (old.to_owned(), new.to_owned()))
}

/// Whether the values of `field` name texts or files.
fn names_something(table: &Table, field: &Field) -> bool {
    let names = |rule: &usize| table.rules[*rule].text.is_some() || table.rules[*rule].file.is_some();
    match &field.layout {
        Layout::Whole(rule) => names(rule),
        Layout::Parts(_, rules) => rules.iter().any(names),
        Layout::Found(..) => false,
    }
}
