//! Reading how records of one table become records of another.

use super::{keys, table_named};
use crate::expressions::Expression;
use crate::schema::Schema;
use crate::schema::transfer::{Transfer, TransferField};
use crate::settings::{TomlReader, Value, plain};
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// More digits than these no number has.
const MOST_DIGITS: u8 = 15;

/// A transfer as it is written, bound once all tables are known.
pub(super) struct UnboundTransfer {
    span: Range<usize>,
    name: Spanned<String>,
    about: Option<String>,
    from: Spanned<String>,
    to: Spanned<String>,
    when: Option<String>,
    key: Vec<String>,
    set: Vec<TransferField>,
    remove: bool,
    among: Option<String>,
    in_step: bool,
}

impl UnboundTransfer {
    /// The tables that it names.
    pub fn tables(&self) -> [&str; 2] {
        [self.from.get_ref(), self.to.get_ref()]
    }
}

/// The transfers that a schema file tells of.
pub(super) fn read<'t>(reader: &mut TomlReader<'t>, top: &DeTable<'t>) -> Vec<UnboundTransfer> {
    let mut out = Vec::new();
    for (span, body) in reader.tables(top, "transfer") {
        reader.check_keys(body, keys::TRANSFER, |_| false);
        let mut needed = |name: &str, example: &str| {
            let found = reader.text(body, name);
            if found.is_none() && !body.contains_key(name) {
                reader.problem(
                    span.clone(),
                    format!("the transfer has no `{name}`"),
                    format!("write {name} = {example}"),
                );
            }
            found
        };
        let name = needed("name", "\"NAME\"");
        let (from, to) = (needed("from", "\"TABLE\""), needed("to", "\"TABLE\""));
        let key = reader.texts(body, "key").unwrap_or_default();
        if key.is_empty() && !body.contains_key("key") {
            let help = "write key = \"EXPRESSION\", which gives the key there of each record";
            reader.problem(span.clone(), "the transfer has no `key`", help);
        }
        let set = fields(reader, body);
        let when = reader.text(body, "where");
        let among = reader.text(body, "among");
        let sources = key.iter().chain(&when).chain(&among);
        let mut is_right = true;
        for source in sources {
            if let Err(error) = Expression::parse(source.get_ref()) {
                reader.problem(source.span(), error.to_string(), "write an expression in CEL");
                is_right = false;
            }
        }
        let remove = reader.flag(body, "remove").unwrap_or_default();
        let in_step = reader.flag(body, "in_step").unwrap_or_default();
        let about = reader.text(body, "about").map(Spanned::into_inner);
        if let (Some(name), Some(from), Some(to), false, true) = (name, from, to, key.is_empty(), is_right) {
            let (when, among) = (when.map(Spanned::into_inner), among.map(Spanned::into_inner));
            let key = plain(key);
            out.push(UnboundTransfer { span, name, about, from, to, when, key, set, remove, among, in_step });
        }
    }
    out
}

/// The fields that are set: an expression each, or a table with `value` and `digits`.
fn fields<'t>(reader: &mut TomlReader<'t>, body: &DeTable<'t>) -> Vec<TransferField> {
    let Some(set) = reader.table(body, "set") else { return Vec::new() };
    let mut out = Vec::new();
    for (name, given) in set {
        let (value, digits) = match given.get_ref() {
            DeValue::String(value) => (Some(Spanned::new(given.span(), value.to_string())), None),
            DeValue::Table(inner) => {
                reader.check_keys(inner, keys::TRANSFER_FIELD, |_| false);
                (reader.text(inner, "value"), inner.get("digits").map(|digits| digits_of(reader, digits)))
            }
            _ => {
                reader.wrong_kind(
                    given,
                    name.get_ref(),
                    "an expression, or a table with `value` and `digits`",
                );
                continue;
            }
        };
        let Some(value) = value else {
            reader.problem(
                given.span(),
                format!("nothing is said of the value of `{}`", name.get_ref()),
                "write value = \"EXPRESSION\"",
            );
            continue;
        };
        if let Err(error) = Expression::parse(value.get_ref()) {
            reader.problem(value.span(), error.to_string(), "write an expression in CEL");
            continue;
        }
        out.push(TransferField {
            name: name.get_ref().to_string(),
            value: value.into_inner(),
            digits: digits.flatten(),
        });
    }
    out
}

fn digits_of(reader: &mut TomlReader<'_>, given: &Value<'_>) -> Option<u8> {
    let number = given.get_ref().as_integer().and_then(|number| number.as_str().parse::<u8>().ok());
    let number = number.filter(|number| *number <= MOST_DIGITS);
    if number.is_none() {
        reader.wrong_kind(given, "digits", "a whole number from 0 to 15");
    }
    number
}

/// Finds the tables that a transfer names.
pub(super) fn bind(schema: &mut Schema, reader: &mut TomlReader<'_>, given: UnboundTransfer) {
    let mut table = |name: &Spanned<String>| table_named(schema, reader, name);
    let (Some(from), Some(to)) = (table(&given.from), table(&given.to)) else { return };
    let parts = schema.tables[to].key.len();
    if parts != given.key.len() {
        let message = match parts {
            0 => format!(
                "the table `{}` has no `key`, so nothing can be found again there",
                given.to.get_ref()
            ),
            _ => format!(
                "the key of `{}` has {parts} parts, and `key` gives {}",
                given.to.get_ref(),
                given.key.len()
            ),
        };
        return reader.problem(given.to.span(), message, "give an expression for each part of the key");
    }
    if from == to {
        let message = format!("`{}` is where the records come from too", given.to.get_ref());
        return reader.problem(given.to.span(), message, "name two tables");
    }
    if schema.transfers.iter().any(|other| other.name == *given.name.get_ref()) {
        let message = format!("there are two transfers `{}`", given.name.get_ref());
        return reader.problem(given.name.span(), message, "give each a name of its own");
    }
    let UnboundTransfer { span, name, about, when, key, set, remove, among, in_step, .. } = given;
    let place = reader.place(span);
    let name = name.into_inner();
    schema.transfers.push(Transfer { name, about, from, when, to, key, set, remove, among, in_step, place });
}
