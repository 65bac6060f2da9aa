//! What the fields of a table hold: which values, how often, where they point, and what is left over.

use crate::Code;
use crate::Error;
use crate::checks::check;
use crate::links::{NameInUse, names_in_use};
use crate::reading::View;
use crate::reading::with_text;
use crate::schema::{Field, Layout, Schema, Table, TableId, ValueType};
use crate::tables::{CellOrder, Record, Value, files_of, read_all, shown_key, split_value};
use crate::text::number;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// What a field holds.
#[derive(Debug, Clone, Default)]
pub struct FieldReport {
    /// Its name.
    pub name: String,
    /// What it means, if the schema says it.
    pub about: Option<String>,
    /// The unit of its numbers.
    pub unit: Option<String>,
    /// The kind of its values: as the schema says, else as they are.
    pub kind: &'static str,
    /// Whether the schema describes it.
    pub described: bool,
    /// Whether it is a part of the key.
    pub is_key: bool,
    /// Where its values point, in words: "goods", "texts", "files layouts/{}.json".
    pub points_to: Vec<String>,
    /// How many values it has that are neither empty nor none. Of a list the items are counted, of a value of
    /// several parts those that point somewhere, here and below.
    pub values: u64,
    /// How many are empty.
    pub empty: u64,
    /// In how many records it is not there at all.
    pub absent: u64,
    /// The values that stand for "nothing", with their counts.
    pub none: Vec<(String, u64)>,
    /// How many different values there are.
    pub distinct: u64,
    /// The commonest values, each with its count and the key of the first record that has it.
    pub commonest: Vec<(String, u64, String)>,
    /// The lowest and the highest number, if all are numbers.
    pub range: Option<(f64, f64)>,
    /// The shortest and the longest value, otherwise.
    pub lengths: Option<(String, String)>,
    /// Values that lead nowhere, with their counts.
    pub left_over: Vec<(String, u64)>,
}

/// The problems that say that a value leads nowhere.
const LEADS_NOWHERE: [Code; 3] = [Code::DANGLING_REFERENCE, Code::MISSING_TEXT, Code::MISSING_FILE];

/// What the fields of `table` hold, those that the schema does not describe too, in the order of the schema and
/// then of the files. `most` of the commonest values are given. Cost: one check, and one pass over the table.
///
/// # Errors
/// When a file cannot be read.
pub fn fields(view: View<'_>, table: TableId, most: usize) -> Result<(u64, Vec<FieldReport>), Error> {
    let View { stack, schema, through } = view;
    let described = &schema.tables[table];
    let files = files_of(stack, described, through);
    let mut columns: Vec<String> = Vec::new();
    let mut seen: BTreeSet<String> = BTreeSet::new();
    for file in &files {
        let own = with_text(stack, *file, |text| described.format.columns(text))?;
        columns.extend(own.into_iter().filter(|column| seen.insert(column.clone())));
    }
    let wide = described.widened(&columns);
    let mut tallies: Vec<Tally> = wide.fields.iter().map(|_| Tally::default()).collect();
    let mut records = 0;
    // Of a record that several layers have a part of, what the game sees is counted, and once.
    let mut merged: Vec<Record> = Vec::new();
    let mut by_key: HashMap<String, usize> = HashMap::new();
    for file in files {
        let path = &stack.files()[file].path;
        for record in with_text(stack, file, |text| read_all(&wide, path, text))? {
            match &record.key {
                Some(key) if wide.merged => {
                    let key = if wide.ignore_case { key.to_lowercase() } else { key.clone() };
                    match by_key.get(&key) {
                        Some(lower) => merged[*lower].lay_over(record),
                        None => {
                            by_key.insert(key, merged.len());
                            merged.push(record);
                        }
                    }
                }
                _ => {
                    records += 1;
                    count(&wide, &record, &mut tallies);
                }
            }
        }
    }
    if described.is_by_use() {
        merged = names_in_use(view, table, None)?.into_iter().map(record_of_name).collect();
    }
    records += merged.len() as u64;
    merged.iter().for_each(|record| count(&wide, record, &mut tallies));
    let mut left: BTreeMap<String, BTreeMap<String, u64>> = BTreeMap::new();
    for problem in check(view).problems {
        let is_here =
            problem.table.as_deref() == Some(&described.name) && LEADS_NOWHERE.contains(&problem.code);
        if let (true, Some(field), Some(value)) = (is_here, problem.field, problem.value) {
            // A part of a value is told as `Cargo{good}`.
            let whole = match described.field(&field) {
                Some(_) => field.as_str(),
                None => field.rsplit_once('{').map_or(field.as_str(), |(whole, _)| whole),
            };
            *left.entry(whole.to_owned()).or_default().entry(value).or_default() += 1;
        }
    }
    let reports = wide.fields.iter().zip(tallies).enumerate().map(|(at, (field, tally))| {
        let left = left.get(&field.name).cloned().unwrap_or_default();
        report(schema, &wide, (at, field), tally, most, left, at < described.fields.len())
    });
    Ok((records, reports.filter(|own| own.described || own.values + own.empty > 0).collect()))
}

/// A name of a table by use as a record.
fn record_of_name(own: NameInUse) -> Record {
    let span = own.first.span;
    let texts = [own.name.clone(), own.uses.to_string()].into_iter().enumerate();
    let values = texts.map(|(field, text)| Value { field, text, span, nested: false }).collect();
    let order = CellOrder::default();
    Record { index: 0, key: Some(own.name), span, values, position: 0, order }
}

/// The values of one field.
#[derive(Default)]
struct Tally {
    /// Each value with its count and the key of the first record that has it.
    values: BTreeMap<String, (u64, String)>,
    empty: u64,
    absent: u64,
}

fn count(table: &Table, record: &Record, tallies: &mut [Tally]) {
    for (field, tally) in tallies.iter_mut().enumerate() {
        let mut there = false;
        for value in record.values.iter().filter(|value| value.field == field) {
            there = true;
            if value.nested {
                continue;
            }
            if value.text.is_empty() {
                tally.empty += 1;
                continue;
            }
            let key = || record.key.as_deref().map(shown_key).unwrap_or_default();
            each_told(table, field, &value.text, &mut |piece| {
                tally.values.entry(piece.to_owned()).or_insert_with(|| (0, key())).0 += 1;
            });
        }
        tally.absent += u64::from(!there && table.format.absent(&table.fields[field].column).is_none());
    }
}

/// Gives what is counted of a value: the value; of a list its items; of what has several parts those that point
/// somewhere, if any do.
fn each_told(table: &Table, field: usize, value: &str, each: &mut dyn FnMut(&str)) {
    let described = &table.fields[field];
    let points = |rule: usize| table.rules[rule].points();
    let parts = !matches!(described.layout, Layout::Whole(_));
    if (!parts && described.list.is_none()) || (parts && !described.layout.rules().into_iter().any(points)) {
        return each(value);
    }
    split_value(table, described, value, &mut |rule, within, fits, _| {
        if !value[within.clone()].is_empty() && (!parts || !fits || points(rule)) {
            each(&value[within]);
        }
    });
}

fn report(
    schema: &Schema,
    table: &Table,
    (at, field): (usize, &Field),
    tally: Tally,
    most: usize,
    left: BTreeMap<String, u64>,
    described: bool,
) -> FieldReport {
    let rules: Vec<_> = field.layout.rules().into_iter().map(|rule| &table.rules[rule]).collect();
    let is_none = |value: &str| rules.iter().any(|rule| rule.is_none(value));
    let (none, values): (Vec<_>, Vec<_>) = tally.values.into_iter().partition(|(value, _)| is_none(value));
    let by_count = |list: BTreeMap<String, u64>| {
        let mut list: Vec<(String, u64)> = list.into_iter().collect();
        list.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
        list
    };
    let numbers: Option<Vec<f64>> = values.iter().map(|(value, _)| number(value)).collect();
    let range = numbers.filter(|numbers| !numbers.is_empty()).map(|numbers| {
        let low = numbers.iter().copied().fold(f64::INFINITY, f64::min);
        (low, numbers.iter().copied().fold(f64::NEG_INFINITY, f64::max))
    });
    let length = |value: &&String| value.chars().count();
    let texts = || values.iter().map(|(value, _)| value);
    let lengths = match (range, texts().min_by_key(length), texts().max_by_key(length)) {
        (None, Some(short), Some(long)) => Some((short.clone(), long.clone())),
        _ => None,
    };
    let mut points_to: Vec<String> = Vec::new();
    for rule in &rules {
        points_to.extend(rule.refs.iter().map(|target| schema.tables[target.table].name.clone()));
        points_to.extend(rule.text.as_ref().map(|_| "texts".to_owned()));
        points_to.extend(rule.file.as_ref().map(|template| format!("files {}", template.source())));
    }
    let said = rules.iter().find(|rule| rule.kind != ValueType::Text);
    let kind = match (&field.layout, said) {
        (Layout::Parts(..) | Layout::Found(..), _) => "parts",
        _ if field.list.is_some() => "list",
        (_, Some(rule)) => {
            ValueType::NAMES.iter().find(|(_, kind)| *kind == rule.kind).map_or("text", |(name, _)| name)
        }
        _ if values.is_empty() => "",
        _ if texts().all(|value| ValueType::Integer.accepts(value)) => "integer",
        _ if range.is_some() => "number",
        _ => "text",
    };
    let total = values.iter().map(|(_, (count, _))| count).sum();
    let distinct = values.len() as u64;
    let mut commonest: Vec<(String, u64, String)> =
        values.into_iter().map(|(value, (count, key))| (value, count, key)).collect();
    commonest.sort_by(|a, b| b.1.cmp(&a.1).then_with(|| a.0.cmp(&b.0)));
    commonest.truncate(most);
    FieldReport {
        name: field.name.clone(),
        about: field.about.clone(),
        unit: field.unit.clone(),
        kind,
        described,
        is_key: table.is_key_field(at),
        points_to,
        values: total,
        empty: tally.empty,
        absent: tally.absent,
        none: by_count(none.into_iter().map(|(value, (count, _))| (value, count)).collect()),
        distinct,
        commonest,
        range,
        lengths,
        left_over: by_count(left),
    }
}
