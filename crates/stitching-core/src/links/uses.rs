//! Who uses a record.

use super::Overrides;
use crate::Error;
use crate::layers::{FileId, RelPath};
use crate::reading::View;
use crate::reading::{Needles, TableScan, glance};
use crate::schema::{FileTemplate, KeyPart, Layout, NamedBy, Schema, Switch, Table, TableId, ValueRule};
use crate::tables::{
    KEY_SEPARATOR, Piece, RecordView, file_named, files_of, for_each_in_path, for_each_piece, key_hash,
    key_named, path_hash, shown_key,
};
use crate::text::Span;
use std::collections::HashMap;

/// Something that values can point to.
#[derive(Debug, Clone, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Thing {
    /// A record, by its table and its key as kept in memory.
    Record(TableId, String),
    /// A value of a column, by table, rule and text.
    Column(TableId, usize, String),
    /// A text key.
    Text(String),
    /// A file.
    File(RelPath),
}

/// A place that points to a thing.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Use {
    /// The file.
    pub file: FileId,
    /// The value, or the part of it, that points there.
    pub span: Span,
    /// The table of the record that has the value.
    pub table: TableId,
    /// The whole record.
    pub record: Span,
    /// The key of that record, as shown, if it has one.
    pub key: Option<String>,
    /// The same as kept in memory.
    pub kept_key: Option<String>,
    /// What the label field of that record holds.
    pub label_value: Option<String>,
    /// The position of the field.
    pub field: usize,
    /// The position of the rule by which it points there.
    pub rule: usize,
    /// Which of the things it points to.
    pub thing: usize,
}

/// What values of each rule of each table point to a list of things.
#[derive(Debug)]
pub struct ReferenceMatcher {
    by_rule: Vec<Vec<WantedValues>>,
}

/// The values of one rule that point to something, each with the position of its thing. There may be thousands.
#[derive(Debug, Default)]
struct WantedValues {
    /// The values that must be there exactly so.
    exact: HashMap<String, usize>,
    /// Those whose case does not matter, in small letters.
    folded: HashMap<String, usize>,
    /// The keys that a value names together with other fields, or in a shape.
    whole: HashMap<String, usize>,
    /// The same where case does not matter, in small letters.
    whole_folded: HashMap<String, usize>,
    /// The text keys that a value makes, with letters of another case.
    texts: HashMap<String, usize>,
    /// The files that a value names.
    paths: HashMap<RelPath, usize>,
    /// What the values themselves must be, as far as that is known.
    needles: Vec<String>,
    /// Whether it is not known of some.
    may_be_any: bool,
}

impl WantedValues {
    fn len(&self) -> usize {
        let whole = self.whole.len() + self.whole_folded.len();
        self.exact.len() + self.folded.len() + whole + self.texts.len() + self.paths.len()
    }

    fn is_empty(&self) -> bool {
        self.len() == 0
    }

    fn add(&mut self, thing: usize, what: PointsTo) {
        let known = match what {
            PointsTo::Exactly(text) => {
                self.needles.push(text.clone());
                self.exact.entry(text).or_insert(thing);
                true
            }
            PointsTo::Folded(text) => {
                self.folded.entry(text.to_lowercase()).or_insert(thing);
                false
            }
            PointsTo::Whole { key, folded: true, .. } => {
                self.whole_folded.entry(key.to_lowercase()).or_insert(thing);
                false
            }
            PointsTo::Whole { key, needle, .. } => {
                let is_known = needle.is_some();
                self.needles.extend(needle);
                self.whole.entry(key).or_insert(thing);
                is_known
            }
            PointsTo::Text(key) => {
                self.texts.entry(key).or_insert(thing);
                false
            }
            // A path may be written with either slash; its stem is there in any case, unless the template supplies it.
            PointsTo::Path(path) => {
                self.paths.entry(path).or_insert(thing);
                false
            }
        };
        self.may_be_any |= !known;
    }

    /// The thing that a piece points to though its value is not just the name; the first of several.
    fn otherwise(&self, record: &RecordView<'_>, rule: &ValueRule, piece: &Piece<'_>) -> Option<usize> {
        let lower = |text: &str| text.to_lowercase();
        let folded = (!self.folded.is_empty()).then(|| self.folded.get(&lower(piece.text))).flatten();
        let named = match self.whole.is_empty() && self.whole_folded.is_empty() {
            true => None,
            false => key_named(record, rule, piece),
        };
        let whole = named.as_deref().and_then(|key| self.whole.get(key));
        let is_folded = named.as_deref().filter(|_| !self.whole_folded.is_empty());
        let whole_folded = is_folded.and_then(|key| self.whole_folded.get(&lower(key)));
        let template = rule.text.as_ref().filter(|_| !self.texts.is_empty());
        let text = template.and_then(|template| self.texts.get(&template.fill_one(piece.text)));
        let path = match self.paths.is_empty() {
            true => None,
            false => file_named(record, rule, piece).and_then(|filled| RelPath::parse(&filled).ok()),
        };
        let path = path.and_then(|path| self.paths.get(&path));
        [folded, whole, whole_folded, text, path].into_iter().flatten().min().copied()
    }
}

impl ReferenceMatcher {
    /// Which thing, by its position, a piece of a value points to.
    #[inline]
    pub fn thing(&self, table: TableId, record: &RecordView<'_>, piece: &Piece<'_>) -> Option<usize> {
        let rule = &record.table.rules[piece.rule];
        let wanted = &self.by_rule[table][piece.rule];
        if wanted.is_empty() {
            return None;
        }
        if !piece.fits || rule.is_none(piece.text) {
            return None;
        }
        let exact = wanted.exact.get(piece.text).copied();
        exact.or_else(|| wanted.otherwise(record, rule, piece))
    }

    /// The fields of the records of `table` that can point to one of the things.
    pub fn fields(&self, schema: &Schema, table: TableId) -> Vec<usize> {
        let (wanted, table) = (&self.by_rule[table], &schema.tables[table]);
        let rules = wanted.iter().enumerate().filter(|(_, values)| !values.is_empty());
        let mut fields: Vec<usize> = rules.map(|(rule, _)| table.rules[rule].field).collect();
        fields.retain(|field| table.fields[*field].of_path.is_none());
        fields.sort_unstable();
        fields.dedup();
        fields
    }

    /// The fields of `table` that must be read to tell whether its values point to one of the things:
    /// those that can, and those that tell which rule holds or have another part of a key.
    pub fn fields_to_read(&self, schema: &Schema, table: TableId) -> Vec<usize> {
        let mut fields = self.fields(schema, table);
        for rule in &schema.tables[table].rules {
            if fields.contains(&rule.field) {
                let others = rule.switch.iter().flat_map(Switch::fields);
                let of_file = rule.file.iter().flat_map(FileTemplate::parts);
                let with = rule.with.iter().chain(of_file).filter_map(|part| match part {
                    NamedBy::Record(KeyPart::Field(field)) => Some(*field),
                    _ => None,
                });
                let others: Vec<usize> = others.chain(with).collect();
                fields.extend(others);
            }
        }
        fields.sort_unstable();
        fields.dedup();
        fields
    }

    /// Gives the files of `table`, up to the layer of the view, in whose paths something points to one of the things: each with
    /// the field that does, a record without cells, the value, and the position of the thing. Nothing is read.
    pub fn visit_paths(
        &self,
        view: View<'_>,
        table: TableId,
        each: &mut impl FnMut(FileId, usize, &RecordView<'_>, &Piece<'_>, usize),
    ) {
        let described = &view.schema.tables[table];
        let is_wanted = |field: usize| {
            let of_field = |rule: &usize| !self.by_rule[table][*rule].is_empty();
            let Layout::Whole(rule) = described.fields[field].layout else { return false };
            of_field(&rule) || described.rules[rule].also.iter().any(of_field)
        };
        if !described.path_fields().any(is_wanted) {
            return;
        }
        for file in files_of(view.stack, described, view.through) {
            for_each_in_path(described, &view.stack.files()[file].path, &mut |field, record, piece| {
                if let Some(thing) = self.thing(table, record, piece) {
                    each(file, field, record, piece, thing);
                }
            });
        }
    }

    /// What to search for in the files of `table`.
    pub fn needles(&self, table: TableId) -> Needles {
        /// More texts are not worth searching for one by one.
        const MOST: usize = 32;
        let mut needles = Needles::default();
        let wanted = &self.by_rule[table];
        let is_any = wanted.iter().any(|values| values.may_be_any);
        if is_any || wanted.iter().map(WantedValues::len).sum::<usize>() > MOST {
            needles.add_any();
            return needles;
        }
        wanted.iter().flat_map(|values| &values.needles).for_each(|text| needles.add(text));
        needles
    }
}

/// Works out which values point to `things`.
pub fn wanted(schema: &Schema, things: &[Thing]) -> ReferenceMatcher {
    let mut by_rule: Vec<Vec<WantedValues>> = Vec::new();
    for table in &schema.tables {
        let of_rule = |rule: &ValueRule| {
            let mut out = WantedValues::default();
            for (thing, what) in things.iter().enumerate() {
                if let Some(points_to) = points_to(schema, rule, what) {
                    out.add(thing, points_to);
                }
            }
            out
        };
        by_rule.push(table.rules.iter().map(of_rule).collect());
    }
    ReferenceMatcher { by_rule }
}

/// What a value must be to point to a thing.
enum PointsTo {
    /// Exactly this.
    Exactly(String),
    /// This in any case.
    Folded(String),
    /// What names this key together with other fields or in a shape; `needle` is what the value itself must be.
    Whole { key: String, folded: bool, needle: Option<String> },
    /// What makes this text key with letters of another case.
    Text(String),
    /// What names this file.
    Path(RelPath),
}

/// What a value of `rule` must be to point to `thing`; `None` if none does.
fn points_to(schema: &Schema, rule: &ValueRule, thing: &Thing) -> Option<PointsTo> {
    match thing {
        Thing::Record(table, key) => {
            rule.refs.iter().find(|target| target.table == *table && target.rule.is_none())?;
            let folded = rule.ignore_case || schema.tables[*table].ignore_case;
            if rule.shape.is_some() || !rule.with.is_empty() {
                let own = own_part(rule, key);
                let needle = match &rule.shape {
                    None => Some(own.to_owned()),
                    Some(template) => template.extract(own, "").map(str::to_owned),
                };
                let needle = needle.filter(|_| !folded);
                return Some(PointsTo::Whole { key: key.clone(), folded, needle });
            }
            Some(match folded {
                true => PointsTo::Folded(key.clone()),
                false => PointsTo::Exactly(key.clone()),
            })
        }
        Thing::Column(table, column, value) => {
            rule.refs.iter().find(|target| target.table == *table && target.rule == Some(*column))?;
            Some(PointsTo::Exactly(value.clone()))
        }
        Thing::Text(key) if rule.text.as_ref()?.changes_case() => Some(PointsTo::Text(key.clone())),
        Thing::Text(key) => {
            let inner = rule.text.as_ref()?.extract(key, "")?;
            Some(PointsTo::Exactly(inner.to_owned()))
        }
        Thing::File(path) => rule.file.as_ref().map(|_| PointsTo::Path(path.clone())),
    }
}

/// The part of `key` (as kept in memory) that the value of a reference by `rule` stands for.
pub(crate) fn own_part<'k>(rule: &ValueRule, key: &'k str) -> &'k str {
    let own = rule.with.iter().position(|part| *part == NamedBy::Value);
    own.and_then(|own| key.split(KEY_SEPARATOR).nth(own)).unwrap_or(key)
}

/// The things that one record is: itself, the text key or the file that it stands for, and the
/// values of its columns that others may refer to (given by `column`).
pub fn things_of(
    schema: &Schema,
    table: TableId,
    key: &str,
    path: &RelPath,
    column: impl Fn(usize) -> Option<String>,
) -> Vec<Thing> {
    let described: &Table = &schema.tables[table];
    let mut things = vec![Thing::Record(table, key.to_owned())];
    if described.texts.is_some() {
        things.push(Thing::Text(key.to_owned()));
    }
    if described.is_of_files() && (described.is_keyed_by_file() || described.is_keyed_by_path()) {
        things.push(Thing::File(path.clone()));
    }
    for rule in second_identifiers(schema, table) {
        if let Some(value) =
            column(described.rules[rule].field).filter(|value| !described.rules[rule].is_none(value))
        {
            things.push(Thing::Column(table, rule, value));
        }
    }
    things
}

/// The rules of `table` whose values others refer to, besides the key; in order.
pub fn second_identifiers(schema: &Schema, table: TableId) -> Vec<usize> {
    let targets = schema.tables.iter().flat_map(|table| &table.rules).flat_map(|rule| &rule.refs);
    let mut rules: Vec<usize> =
        targets.filter(|target| target.table == table).filter_map(|target| target.rule).collect();
    rules.sort_unstable();
    rules.dedup();
    rules
}

/// All places in the effective files through layer `through` that point to one of `things`, in
/// the order of path and place. Cost: a text search of all files, and parsing those that hit.
///
/// # Errors
/// When a file cannot be read.
pub fn find_uses(view: View<'_>, things: &[Thing]) -> Result<Vec<Use>, Error> {
    let View { stack, schema, .. } = view;
    let wanted = wanted(schema, things);
    let hashes: Vec<u64> = things.iter().flat_map(looked_up_as).collect();
    let plan: Vec<Option<TableScan>> = (0..schema.tables.len())
        .map(|table| {
            let mut fields = wanted.fields_to_read(schema, table);
            if fields.is_empty() {
                return None;
            }
            crate::tables::add_key_fields(&schema.tables[table], &mut fields);
            fields.extend(schema.tables[table].label.filter(|label| !fields.contains(label)));
            Some(TableScan { fields, needles: wanted.needles(table), hashes: Some(hashes.clone()) })
        })
        .collect();
    let fields: Vec<Vec<usize>> =
        (0..schema.tables.len()).map(|table| wanted.fields(schema, table)).collect();
    let each = |table: usize, record: &RecordView<'_>, hits: &mut Vec<Use>| {
        for &field in &fields[table] {
            for_each_piece(record, field, |piece| {
                if let Some(thing) = wanted.thing(table, record, piece) {
                    let kept_key = record.key();
                    let key = kept_key.as_deref().map(shown_key);
                    let label_value = record.table.label.and_then(|label| record.value(label));
                    hits.push(Use {
                        file: 0,
                        span: piece.span,
                        table,
                        record: record.span,
                        key,
                        kept_key,
                        label_value,
                        field,
                        rule: piece.rule,
                        thing,
                    });
                }
            });
        }
    };
    let moving = |hit: &mut Use, in_file: &dyn Fn(Span) -> Span| {
        (hit.span, hit.record) = (in_file(hit.span), in_file(hit.record));
    };
    let found = glance(view, &plan, &each, &moving)?;
    let overrides = Overrides::read(view);
    let mut uses = Vec::new();
    for table in 0..schema.tables.len() {
        wanted.visit_paths(view, table, &mut |file, field, _, piece, thing| {
            let nowhere = Span { start: 0, end: 0 };
            uses.push(Use {
                file,
                span: nowhere,
                table,
                record: nowhere,
                key: None,
                kept_key: None,
                label_value: None,
                field,
                rule: piece.rule,
                thing,
            });
        });
    }
    for (file, mut hits) in found {
        let layer = stack.files()[file].layer;
        hits.retain(|hit| {
            let key = hit.kept_key.as_deref().filter(|_| schema.tables[hit.table].merged);
            key.is_none_or(|key| !overrides.hides(schema, hit.table, key, layer, hit.field))
        });
        let own = hits.into_iter().map(|hit| Use { file, ..hit });
        uses.extend(own);
    }
    let place = |hit: &Use| (&stack.files()[hit.file].path, stack.files()[hit.file].layer);
    let within = |hit: &Use| (hit.span, hit.table, hit.rule);
    uses.sort_by(|a, b| match a.file == b.file {
        true => within(a).cmp(&within(b)),
        false => place(a).cmp(&place(b)),
    });
    Ok(uses)
}

/// The hashes by which values that point to a thing are looked up.
fn looked_up_as(thing: &Thing) -> Vec<u64> {
    match thing {
        Thing::Record(_, key) | Thing::Column(_, _, key) | Thing::Text(key) => {
            vec![key_hash(key, false), key_hash(key, true)]
        }
        Thing::File(path) => path_hash(path.as_str()).into_iter().collect(),
    }
}
