//! A change as records and fields, to be read by people and made elsewhere: on another copy of the data, or on a newer
//! version of it.

mod apply;

pub use apply::{Conflict, OnConflict, apply};

use super::own_records::find_table;
use super::rename::NewKeys;
use super::set::SetRequest;
use super::step::Step;
use crate::Error;
use crate::links::Address;
use crate::reading::View;
use crate::schema::{Schema, Table, TableId};
use crate::settings::toml_text;
use crate::views::{FieldDifference, How, RecordDifference, difference};
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::fmt::Write as _;

/// A change as records and fields.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChangeSet {
    /// What the change does.
    pub title: String,
    /// Files that it changed outside of all records; they are not part of it.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub other_files: Vec<String>,
    /// The conditions that chose records, for the tables that they were asked of.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub condition: Vec<ChosenBy>,
    /// The records that got other keys.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rename: Vec<RenamedRecord>,
    /// The records that it adds, changes and removes.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub record: Vec<ChangedRecord>,
}

/// A condition that chose records of a table.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChosenBy {
    /// The table.
    pub table: String,
    /// The condition, an expression.
    #[serde(rename = "where")]
    pub condition: String,
    /// What became of the fields of those that met it.
    pub values: Vec<String>,
}

/// A record that got another key.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct RenamedRecord {
    /// The table.
    pub table: String,
    /// The key before, as shown.
    pub from: String,
    /// The key after, as shown.
    pub to: String,
}

/// A record that a change adds, changes or removes.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChangedRecord {
    /// The table.
    pub table: String,
    /// The key, as shown.
    pub key: String,
    /// The language, for a text.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub language: Option<String>,
    /// What becomes of it.
    pub how: HowChanged,
    /// The path of its file.
    pub file: String,
    /// The fields that differ, by name; of a record that is added or removed all.
    #[serde(default)]
    pub fields: BTreeMap<String, ChangedField>,
}

/// What becomes of a record.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum HowChanged {
    /// It is new.
    Added,
    /// It holds other values.
    Changed,
    /// It goes.
    Removed,
}

impl HowChanged {
    /// Its word in a change set.
    fn name(self) -> &'static str {
        match self {
            HowChanged::Added => "added",
            HowChanged::Changed => "changed",
            HowChanged::Removed => "removed",
        }
    }
}

/// A field before and after.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ChangedField {
    /// What it held, if it was there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub was: Option<String>,
    /// What it holds, if it is there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub now: Option<String>,
}

impl ChangeSet {
    /// What a change did, from the data before and after it. `steps` are what was asked for, where that is known.
    ///
    /// # Errors
    /// When a file cannot be read.
    pub fn between(
        title: &str,
        steps: &[Step],
        before: View<'_>,
        after: View<'_>,
    ) -> Result<ChangeSet, Error> {
        let difference = difference(before, after, &[])?;
        let mut out = ChangeSet { title: title.to_owned(), ..ChangeSet::default() };
        out.other_files = difference.files.iter().map(|(path, _)| path.clone()).collect();
        for step in steps {
            match step {
                Step::Set(SetRequest { arguments, condition: Some(condition), .. }) => {
                    let (values, tables): (Vec<&String>, Vec<&String>) =
                        arguments.iter().partition(|argument| argument.contains('='));
                    out.condition.extend(tables.first().map(|table| ChosenBy {
                        table: (*table).clone(),
                        condition: condition.clone(),
                        values: values.into_iter().cloned().collect(),
                    }));
                }
                Step::Rename { address, new, .. } => {
                    let address = Address::parse(address)?;
                    out.rename.extend(address.table.map(|table| RenamedRecord {
                        table,
                        from: address.key,
                        to: new.clone(),
                    }));
                }
                Step::RenameMany { table, keys: NewKeys::Pairs(pairs), .. } => {
                    let renamed = |(from, to): &(String, String)| RenamedRecord {
                        table: table.clone(),
                        from: from.clone(),
                        to: to.clone(),
                    };
                    out.rename.extend(pairs.iter().map(renamed));
                }
                _ => {}
            }
        }
        for table in &difference.tables {
            for record in &table.records {
                let side = if record.how == How::Removed { before } else { after };
                out.record.push(changed_record(&table.name, record, side)?);
            }
        }
        out.join_renamed();
        Ok(out)
    }

    /// Makes one changed record of what a rename removed under the old key and added under the new one.
    fn join_renamed(&mut self) {
        for renamed in &self.rename {
            let at = |how: HowChanged, key: &str| {
                let is = |own: &ChangedRecord| own.how == how && own.table == renamed.table && own.key == key;
                self.record.iter().position(is)
            };
            let (Some(old), Some(new)) =
                (at(HowChanged::Removed, &renamed.from), at(HowChanged::Added, &renamed.to))
            else {
                continue;
            };
            let mut was = std::mem::take(&mut self.record[old].fields);
            let joined = &mut self.record[new];
            joined.how = HowChanged::Changed;
            for (name, field) in &mut joined.fields {
                field.was = was.remove(name).and_then(|field| field.was);
            }
            joined.fields.extend(was);
            joined.fields.retain(|_, field| field.was != field.now);
            self.record.remove(old);
        }
        self.record.retain(|record| record.how != HowChanged::Changed || !record.fields.is_empty());
    }

    /// The change set that takes this one back.
    pub fn reversed(&self) -> ChangeSet {
        let field = |(name, own): (&String, &ChangedField)| {
            (name.clone(), ChangedField { was: own.now.clone(), now: own.was.clone() })
        };
        let key = |record: &ChangedRecord| {
            let is = |own: &&RenamedRecord| own.table == record.table && own.to == record.key;
            self.rename.iter().find(is).map_or_else(|| record.key.clone(), |own| own.from.clone())
        };
        let record = |own: &ChangedRecord| ChangedRecord {
            key: key(own),
            how: match own.how {
                HowChanged::Added => HowChanged::Removed,
                HowChanged::Removed => HowChanged::Added,
                HowChanged::Changed => HowChanged::Changed,
            },
            fields: own.fields.iter().map(field).collect(),
            ..own.clone()
        };
        let renamed = |own: &RenamedRecord| RenamedRecord {
            table: own.table.clone(),
            from: own.to.clone(),
            to: own.from.clone(),
        };
        ChangeSet {
            title: self.title.clone(),
            other_files: self.other_files.clone(),
            condition: Vec::new(),
            rename: self.rename.iter().rev().map(renamed).collect(),
            record: self.record.iter().map(record).collect(),
        }
    }

    /// As text (TOML, <https://toml.io/en/v1.0.0>), to be read by people and by [`ChangeSet::parse`]: a line for each field.
    pub fn to_text(&self) -> String {
        let list = |texts: &[String]| toml::Value::from(texts.to_vec()).to_string();
        let mut out = format!("title = {}\n", toml_text(&self.title));
        if !self.other_files.is_empty() {
            let _ = writeln!(out, "other_files = {}", list(&self.other_files));
        }
        for ChosenBy { table, condition, values } in &self.condition {
            let (table, condition, values) = (toml_text(table), toml_text(condition), list(values));
            let _ = write!(out, "\n[[condition]]\ntable = {table}\nwhere = {condition}\nvalues = {values}\n");
        }
        for RenamedRecord { table, from, to } in &self.rename {
            let (table, from, to) = (toml_text(table), toml_text(from), toml_text(to));
            let _ = write!(out, "\n[[rename]]\ntable = {table}\nfrom = {from}\nto = {to}\n");
        }
        for record in &self.record {
            let (table, key, file) =
                (toml_text(&record.table), toml_text(&record.key), toml_text(&record.file));
            let how = record.how.name();
            let _ = write!(out, "\n[[record]]\nhow = \"{how}\"\ntable = {table}\nkey = {key}\n");
            if let Some(language) = &record.language {
                let _ = writeln!(out, "language = {}", toml_text(language));
            }
            let _ = writeln!(out, "file = {file}");
            if !record.fields.is_empty() {
                out.push_str("[record.fields]\n");
            }
            for (name, ChangedField { was, now }) in &record.fields {
                let side = |word: &str, value: &Option<String>| {
                    value.as_ref().map(|value| format!("{word} = {}", toml_text(value)))
                };
                let sides: Vec<String> = side("was", was).into_iter().chain(side("now", now)).collect();
                let _ = writeln!(out, "{} = {{ {} }}", toml_text(name), sides.join(", "));
            }
        }
        out
    }

    /// Reads what [`ChangeSet::to_text`] wrote; `name` is that of the file, for messages.
    ///
    /// # Errors
    /// When it is no change set, with the place.
    pub fn parse(name: &str, text: &str) -> Result<ChangeSet, Error> {
        toml::from_str(text).map_err(|error| {
            let line =
                error.span().map_or(1, |span| text[..span.start.min(text.len())].matches('\n').count() + 1);
            Error::Usage {
                message: format!("`{name}`, line {line}: {}", error.message()),
                help: "a change set is written from a change of the history".into(),
            }
        })
    }
}

fn changed_record(table: &str, record: &RecordDifference, side: View<'_>) -> Result<ChangedRecord, Error> {
    let id = find_table(side.schema, table)?;
    let own = record.fields.iter().filter(|field| !holds_records(side.schema, id, &field.name));
    let field = |own: &FieldDifference| {
        (own.name.clone(), ChangedField { was: own.before.clone(), now: own.after.clone() })
    };
    Ok(ChangedRecord {
        table: table.to_owned(),
        key: record.key.clone(),
        language: record.language.clone(),
        how: match record.how {
            How::Added => HowChanged::Added,
            How::Removed => HowChanged::Removed,
            How::Changed => HowChanged::Changed,
        },
        file: side.stack.files()[record.file].path.to_string(),
        fields: own.map(field).collect(),
    })
}

/// Whether the field called `name` holds records of another table, which has them as its own.
fn holds_records(schema: &Schema, table: TableId, name: &str) -> bool {
    let own = &schema.tables[table];
    let Some(outer) = own.format.records_path() else { return false };
    let lies_there = |other: &&Table| {
        let shares = || other.files.iter().any(|file| own.files.iter().any(|own| own.source == file.source));
        let inner =
            other.format.records_path().and_then(|inner| inner.strip_prefix(outer).map(str::to_owned));
        let inner = inner.filter(|inner| !inner.is_empty());
        let of_field = |inner: &String| {
            let inner = inner.trim_start_matches(['/', '.']);
            inner.strip_prefix(name).is_some_and(|rest| rest.is_empty() || rest.starts_with(['/', '.', '[']))
        };
        inner.as_ref().is_some_and(of_field) && shares()
    };
    schema.tables.iter().enumerate().filter(|(id, _)| *id != table).any(|(_, other)| lies_there(&other))
}
