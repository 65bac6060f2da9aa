//! What nearly all records obey: where the few others are, people find faults of their game.

use super::names::plain_name;
use crate::layers::FileId;
use crate::links::Index;
use crate::problem::Place;
use crate::reading::{FactsCache, PlaceResolver, View, with_text};
use crate::schema::{Requirement, Rule, Schema, Table};
use crate::settings::toml_text;
use crate::tables::{
    LinkKind, RecordView, RecordVisitor, all_fields, files_of, key_hash, read_records, shown_key,
};
use crate::text::Span;
use hashbrown::{HashMap, HashSet};
use rayon::prelude::*;
use std::collections::BTreeSet;

/// Something that nearly all records of a table have in common.
#[derive(Debug, Clone)]
pub struct Obeyed {
    /// The table.
    pub table: String,
    /// What it is, in words: "have a lamp".
    pub says: String,
    /// How many records obey it.
    pub obey: usize,
    /// Of how many.
    pub among: usize,
    /// Those that do not: the key, if there is one, and the place.
    pub others: Vec<(Option<String>, Place)>,
    /// The condition of the records it is about; all of the table without it.
    pub when: Option<String>,
    /// The condition that they obey.
    pub assert: String,
}

impl Obeyed {
    /// The rule that asks for it, as TOML, with a made-up name.
    pub fn rule(&self) -> String {
        let name = format!("{}-{}", self.table, plain_name(&self.says).replace('_', "-"));
        let when = self.when.as_ref().map(|when| format!("when = {}\n", toml_text(when))).unwrap_or_default();
        let (name, table, assert) = (toml_text(&name), toml_text(&self.table), toml_text(&self.assert));
        format!("[[rule]]\nname = {name}\ntable = {table}\n{when}assert = {assert}\n")
    }

    /// Whether a rule of the schema asks for it already.
    fn is_asked_by(&self, rule: &Rule, schema: &Schema) -> bool {
        schema.tables[rule.table].name == self.table
            && rule.when == self.when
            && rule.requirement == Requirement::Assert(self.assert.clone())
    }
}

/// Of fewer records nothing is said.
const FEWEST: usize = 20;
/// So many of a hundred must obey.
const NEARLY: usize = 95;
/// More columns than these are not looked at.
const MOST_COLUMNS: usize = 96;
/// A column with more values than these is none that says of what kind a record is.
const MOST_KINDS: usize = 8;
/// More columns of kinds than these are not looked at.
const MOST_KIND_COLUMNS: usize = 12;
/// So many of those that do not obey are kept.
const MOST_OTHERS: usize = 20;

/// A record that lacks something.
type Lacking = (Option<String>, FileId, Span);

/// What nearly all records of the described tables obey, those with the fewest exceptions first. Nothing is said of what the schema
/// asks for already. Cost: two passes over the data, and an index of it.
pub fn obeyed(view: View<'_>) -> Vec<Obeyed> {
    let mut out: Vec<Obeyed> = Vec::new();
    for own in &super::described(view) {
        out.extend(of_columns(view, &own.table));
    }
    out.extend(of_references(view));
    out.retain(|own| !view.schema.rules.iter().any(|rule| own.is_asked_by(rule, view.schema)));
    out.sort_by(|a, b| {
        let order = |own: &Obeyed| (own.among - own.obey, std::cmp::Reverse(own.among));
        order(a).cmp(&order(b)).then_with(|| (&a.table, &a.says).cmp(&(&b.table, &b.says)))
    });
    out
}

/// How often a column has a value, in records of one kind or in all.
#[derive(Debug, Default, Clone)]
struct Presence {
    among: usize,
    have: usize,
    lacking: Vec<Lacking>,
}

impl Presence {
    fn add(&mut self, has: bool, record: &RecordView<'_>, file: FileId) {
        self.among += 1;
        self.have += usize::from(has);
        if !has && self.lacking.len() < MOST_OTHERS {
            self.lacking.push((record.key().as_deref().map(shown_key), file, record.span));
        }
    }

    fn merge(&mut self, other: Presence) {
        self.among += other.among;
        self.have += other.have;
        self.lacking.extend(other.lacking);
        self.lacking.truncate(MOST_OTHERS);
    }

    /// Whether nearly all have it, and some do not.
    fn is_nearly_all(&self) -> bool {
        self.among >= FEWEST && self.have < self.among && self.have * 100 >= self.among * NEARLY
    }
}

/// A column whose few values say of what kind a record is: its position among those looked at, and the values.
type KindColumn = (usize, Vec<String>);

/// What a pass over a table counts.
#[derive(Debug, Clone)]
struct Counted {
    /// For each column how often it has a value, in all records.
    all: Vec<Presence>,
    /// For each column its values, as long as they are few.
    values: Vec<BTreeSet<String>>,
    /// For each kind of each column of kinds how often each column has a value in records of that kind.
    by_kind: Vec<Vec<Presence>>,
}

impl Counted {
    fn of(columns: usize, kinds: &[KindColumn]) -> Counted {
        let presence = vec![Presence::default(); columns];
        let count: usize = kinds.iter().map(|(_, values)| values.len()).sum();
        Counted {
            all: presence.clone(),
            values: vec![BTreeSet::new(); columns],
            by_kind: vec![presence; count],
        }
    }

    fn merge(mut self, other: Counted) -> Counted {
        self.all.iter_mut().zip(other.all).for_each(|(own, other)| own.merge(other));
        for (own, other) in self.by_kind.iter_mut().zip(other.by_kind) {
            own.iter_mut().zip(other).for_each(|(own, other)| own.merge(other));
        }
        for (own, other) in self.values.iter_mut().zip(other.values) {
            if own.len() <= MOST_KINDS {
                own.extend(other);
            }
        }
        self
    }
}

/// What nearly all records of a table have, or nearly all of a kind.
fn of_columns(view: View<'_>, table: &Table) -> Vec<Obeyed> {
    let is_asked = |field: &usize| {
        let rules = table.fields[*field].layout.rules();
        !rules.into_iter().any(|rule| table.rules[rule].required) && !table.fields[*field].note
    };
    let columns: Vec<usize> = all_fields(table).into_iter().filter(is_asked).take(MOST_COLUMNS).collect();
    let files = files_of(view.stack, table, view.through);
    let count = |kinds: &[KindColumn]| -> Counted {
        let of_file = |file: &FileId| {
            let path = &view.stack.files()[*file].path;
            let counted = Counted::of(columns.len(), kinds);
            let mut counting = Counting { table, columns: &columns, file: *file, kinds, counted };
            // What cannot be read obeys nothing.
            let _ = with_text(view.stack, *file, |text| {
                read_records(table, path, text, &all_fields(table), &mut counting);
            });
            counting.counted
        };
        let fresh = || Counted::of(columns.len(), kinds);
        files.par_iter().with_max_len(8).map(of_file).reduce(fresh, Counted::merge)
    };
    let first = count(&[]);
    let name = |at: usize| table.fields[columns[at]].name.as_str();
    let mut out: Vec<Obeyed> = Vec::new();
    for (at, presence) in first.all.iter().enumerate().filter(|(_, own)| own.is_nearly_all()) {
        out.push(told(view, table, presence, &format!("have {}", name(at)), name(at), None));
    }
    let is_kind = |values: &BTreeSet<String>| (2..=MOST_KINDS).contains(&values.len());
    let kinds = first.values.iter().enumerate().filter(|(_, values)| is_kind(values));
    let kinds: Vec<KindColumn> =
        kinds.take(MOST_KIND_COLUMNS).map(|(at, values)| (at, values.iter().cloned().collect())).collect();
    if kinds.is_empty() || first.all[0].among < FEWEST {
        return out;
    }
    let second = count(&kinds);
    let all_kinds = kinds.iter().flat_map(|(by, values)| values.iter().map(move |value| (*by, value)));
    for ((by, kind), of_kind) in all_kinds.zip(&second.by_kind) {
        for (at, presence) in of_kind.iter().enumerate().filter(|(at, own)| *at != by && own.is_nearly_all())
        {
            // It says something only where records of other kinds mostly have none.
            let all = &first.all[at];
            let (have, among) = (all.have - presence.have, all.among - presence.among);
            if among >= FEWEST / 2 && have * 5 <= among {
                let says = format!("with {} {kind} have {}", name(by), name(at));
                let when = format!("{} == {}", column(name(by)), quoted(kind));
                out.push(told(view, table, presence, &says, name(at), Some(when)));
            }
        }
    }
    out
}

struct Counting<'c> {
    table: &'c Table,
    columns: &'c [usize],
    file: FileId,
    /// None in the first pass.
    kinds: &'c [KindColumn],
    counted: Counted,
}

impl RecordVisitor for Counting<'_> {
    fn record(&mut self, record: &RecordView<'_>) {
        let value = |field: usize| -> Option<String> {
            let rules = self.table.fields[field].layout.rules();
            let is_none = |value: &str| rules.iter().any(|rule| self.table.rules[*rule].is_none(value));
            record.value(field).filter(|value| !value.is_empty() && !is_none(value))
        };
        let values: Vec<Option<String>> = self.columns.iter().map(|field| value(*field)).collect();
        if self.kinds.is_empty() {
            for (at, value) in values.iter().enumerate() {
                self.counted.all[at].add(value.is_some(), record, self.file);
                let known = &mut self.counted.values[at];
                if let Some(value) =
                    value.as_ref().filter(|value| known.len() <= MOST_KINDS && !known.contains(*value))
                {
                    known.insert(value.clone());
                }
            }
            return;
        }
        let mut before = 0;
        for (by, kinds) in self.kinds {
            let kind = values[*by].as_ref().and_then(|value| kinds.iter().position(|own| own == value));
            if let Some(kind) = kind {
                let of_kind = &mut self.counted.by_kind[before + kind];
                for (presence, value) in of_kind.iter_mut().zip(&values) {
                    presence.add(value.is_some(), record, self.file);
                }
            }
            before += kinds.len();
        }
    }
}

/// What is told of a column that nearly all records have.
fn told(
    view: View<'_>,
    table: &Table,
    presence: &Presence,
    says: &str,
    field: &str,
    when: Option<String>,
) -> Obeyed {
    Obeyed {
        table: table.name.clone(),
        says: says.to_owned(),
        obey: presence.have,
        among: presence.among,
        others: placed(view, &presence.lacking),
        when,
        assert: has_value(table, field),
    }
}

/// The condition that a field has a value that does not stand for "nothing".
fn has_value(table: &Table, field: &str) -> String {
    let rules = table.field(field).map(|at| table.fields[at].layout.rules()).unwrap_or_default();
    let mut none: Vec<&str> = vec![""];
    none.extend(rules.iter().flat_map(|rule| &table.rules[*rule].none).map(String::as_str));
    let name = column(field);
    let conditions: Vec<String> = none.iter().map(|none| format!("{name} != {}", quoted(none))).collect();
    conditions.join(" && ")
}

fn placed(view: View<'_>, lacking: &[Lacking]) -> Vec<(Option<String>, Place)> {
    let mut places = PlaceResolver::new(view.stack);
    let mut place = |file: FileId, span: Span| {
        let entry = &view.stack.files()[file];
        let whole = || Place::file(entry.path.as_str(), &view.stack.layers()[entry.layer].name);
        places.place(file, span).unwrap_or_else(|_| whole())
    };
    lacking.iter().map(|(key, file, span)| (key.clone(), place(*file, *span))).collect()
}

/// A column in an expression: its name, or behind `row` where that is no name there.
fn column(name: &str) -> String {
    if is_plain(name) { name.to_owned() } else { format!("row[{}]", quoted(name)) }
}

/// Whether a name can stand in an expression as it is.
fn is_plain(name: &str) -> bool {
    name.starts_with(|first: char| first.is_ascii_alphabetic() || first == '_')
        && name.chars().all(|next| next.is_ascii_alphanumeric() || next == '_')
}

/// A text in an expression.
fn quoted(text: &str) -> String {
    format!("'{}'", text.replace('\\', "\\\\").replace('\'', "\\'"))
}

/// Tables of which nearly all records are named by a field of others.
fn of_references(view: View<'_>) -> Vec<Obeyed> {
    let index = Index::build(view, &crate::checks::finders(view.schema), &FactsCache::default());
    let mut named: HashMap<(usize, usize), HashSet<u64>> = HashMap::new();
    let facts = index.files.iter().flat_map(|file| &file.facts.tables);
    for (table, links) in facts.flat_map(|facts| facts.links.iter().map(move |links| (facts.table, links))) {
        if links.kind == LinkKind::Reference {
            let hashes = links.links.iter().map(|link| link.hash);
            named.entry((table, links.rule)).or_default().extend(hashes);
        }
    }
    let mut out: Vec<Obeyed> = Vec::new();
    for ((from, rule), hashes) in named {
        let (source, own) = (&view.schema.tables[from], &view.schema.tables[from].rules[rule]);
        // Where a value is made into another key, or of several tables one is meant, it is not that simple.
        let [target] = own.refs.as_slice() else { continue };
        let plain = own.shape.is_none() && own.with.is_empty() && own.part.is_none() && target.rule.is_none();
        let table = &view.schema.tables[target.table];
        let records = index.tables[target.table].records;
        let field = &source.fields[own.field];
        if !plain
            || table.key.len() != 1
            || field.list.is_some()
            || !is_plain(&field.name)
            || !is_plain(&source.name)
        {
            continue;
        }
        let mut presence = Presence::default();
        for (record, key) in index.keys(target.table) {
            let is_named = hashes.contains(&key_hash(key, table.ignore_case));
            presence.among += 1;
            presence.have += usize::from(is_named);
            if !is_named && presence.lacking.len() < MOST_OTHERS {
                let facts = index.facts(record.file, record.slot);
                let start = facts.starts.get(record.record as usize).copied().unwrap_or(0);
                let file = index.files[record.file as usize].id;
                presence.lacking.push((Some(shown_key(key)), file, Span { start, end: start }));
            }
        }
        if !presence.is_nearly_all() || presence.among != records {
            continue;
        }
        let says = format!("are named by {} of {}", field.name, source.name);
        let assert = format!("exists({}, other, other.{} == key)", source.name, field.name);
        out.push(Obeyed {
            table: table.name.clone(),
            obey: presence.have,
            among: presence.among,
            others: placed(view, &presence.lacking),
            when: None,
            assert,
            says,
        });
    }
    out
}
