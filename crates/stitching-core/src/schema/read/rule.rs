//! Reading the rules of a game.

use super::expression::expression;
use super::{keys, table_named};
use crate::problem::Severity;
use crate::schema::rule::{Example, Message, Requirement, Rule};
use crate::schema::{Schema, TableId};
use crate::settings::{TomlReader, Value, plain, word};
use crate::text::number;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A rule as it is written, bound once all tables are known.
pub(super) struct UnboundRule {
    name: Spanned<String>,
    table: Spanned<String>,
    rule: Rule,
    /// The expressions in it, and whether records are held together where they stand.
    expressions: Vec<(Spanned<String>, bool)>,
}

impl UnboundRule {
    /// The table that it names.
    pub fn table(&self) -> &str {
        self.table.get_ref()
    }
}

/// The settings of which a rule has exactly one: what must hold.
const REQUIREMENTS: [&str; 10] = [
    "assert",
    "unique",
    "sequence",
    "ascending",
    "acyclic",
    "reachable",
    "mutual",
    "apart",
    "at_once",
    "unlike",
];

/// The settings that mean something only beside another one.
const BESIDE: [(&str, &str); 5] = [
    ("first", "sequence"),
    ("from", "reachable"),
    ("distance", "apart"),
    ("waits", "at_once"),
    ("most", "at_once"),
];

/// The rules that a schema file tells of.
pub(super) fn read<'t>(reader: &mut TomlReader<'t>, top: &DeTable<'t>) -> Vec<UnboundRule> {
    let mut out: Vec<UnboundRule> = Vec::new();
    for (span, body) in reader.tables(top, "rule") {
        reader.check_keys(body, keys::GAME_RULE, |_| false);
        let (name, table) = (reader.text(body, "name"), reader.text(body, "table"));
        if name.is_none() {
            let help = "write name = \"NAME\": it is explained and silenced by that";
            reader.problem(span.clone(), "the rule has no `name`", help);
        }
        if table.is_none() {
            reader.problem(span.clone(), "the rule has no `table`", "write table = \"TABLE\"");
        }
        let (Some(name), Some(table)) = (name, table) else { continue };
        out.extend(rule(reader, span, body, name, table));
    }
    out
}

fn rule<'t>(
    reader: &mut TomlReader<'t>,
    span: Range<usize>,
    body: &DeTable<'t>,
    name: Spanned<String>,
    table: Spanned<String>,
) -> Option<UnboundRule> {
    let is_letter = |c: char| c.is_alphanumeric() || c == '_' || c == '-';
    if name.get_ref().is_empty() || !name.get_ref().chars().all(is_letter) {
        let message = format!("`{}` cannot be the name of a rule", name.get_ref());
        reader.problem(name.span(), message, "write one word of letters, digits, `_` and `-`");
        return None;
    }
    if crate::Code::ALL.iter().any(|code| code.as_str() == name.get_ref()) {
        let message = format!("`{}` is the code of a check", name.get_ref());
        reader.problem(name.span(), message, "give the rule a name of its own");
        return None;
    }
    let given: Vec<&str> = REQUIREMENTS.into_iter().filter(|own| body.contains_key(*own)).collect();
    let [setting] = given[..] else {
        let message = match given.len() {
            0 => format!("the rule `{}` says nothing of what must hold", name.get_ref()),
            _ => format!("the rule `{}` says {} things that must hold", name.get_ref(), given.len()),
        };
        let help = format!("write one of {} for each rule", REQUIREMENTS.join(", "));
        reader.problem(span, message, help);
        return None;
    };
    for (extra, of) in BESIDE {
        if let Some(value) = body.get(extra).filter(|_| setting != of) {
            let message = format!("`{extra}` means nothing without `{of}`");
            reader.problem(value.span(), message, format!("leave it out, or write `{of}` too"));
        }
    }
    let by = reader.texts(body, "by").map(plain);
    let holds_together = by.is_some() || setting != "assert";
    let mut expressions: Vec<(Spanned<String>, bool)> = Vec::new();
    let when = reader.text(body, "when");
    expressions.extend(when.clone().map(|source| (source, false)));
    let requirement = requirement(reader, body, setting, &mut expressions, by.is_some())?;
    let in_group = by.is_some() && setting == "assert";
    let message = message(reader, body, &mut expressions, in_group);
    let fix = reader.text(body, "fix");
    expressions.extend(fix.clone().map(|source| (source, in_group)));
    let at = reader.text(body, "at");
    if let (Some(fix), true, false) = (&fix, holds_together, matches!(requirement, Requirement::Assert(_))) {
        let message = format!("`fix` says nothing of a rule with `{setting}`");
        reader.problem(fix.span(), message, "leave it out");
    }
    let severity =
        word(reader, body, "severity", &[("error", Severity::Error), ("warning", Severity::Warning)]);
    let [good, bad] = ["good", "bad"].map(|name| examples(reader, body, name));
    let rule = Rule {
        name: name.get_ref().clone(),
        about: reader.text(body, "about").map(Spanned::into_inner),
        // Bound later.
        table: TableId::MAX,
        when: when.map(Spanned::into_inner),
        by: if holds_together { Some(by.unwrap_or_default()) } else { None },
        requirement,
        message,
        help: reader.text(body, "help").map(Spanned::into_inner),
        severity: severity.unwrap_or(Severity::Error),
        at: at.map(Spanned::into_inner),
        fix: fix.map(Spanned::into_inner),
        good,
        bad,
        asked: Vec::new(),
        place: reader.place(name.span()),
    };
    Some(UnboundRule { name, table, rule, expressions })
}

/// What must hold, by the setting that says it.
fn requirement<'t>(
    reader: &mut TomlReader<'t>,
    body: &DeTable<'t>,
    setting: &str,
    expressions: &mut Vec<(Spanned<String>, bool)>,
    has_by: bool,
) -> Option<Requirement> {
    let fields = |reader: &mut TomlReader<'t>| {
        let fields = reader.texts(body, setting).map(plain)?;
        if fields.is_empty() {
            let span = body.get(setting).map_or(0..0, |value| value.span());
            reader.problem(span, format!("`{setting}` names no field"), "name at least one");
        }
        Some(fields).filter(|fields| !fields.is_empty())
    };
    let missing = |reader: &mut TomlReader<'t>, name: &str, example: &str| {
        let span = body.get(setting).map_or(0..0, |value| value.span());
        reader.problem(
            span,
            format!("`{setting}` needs `{name}`"),
            format!("for example {name} = {example}"),
        );
    };
    Some(match setting {
        "assert" => {
            let source = reader.text(body, "assert")?;
            expressions.push((source.clone(), has_by));
            Requirement::Assert(source.into_inner())
        }
        "unique" => Requirement::Unique(fields(reader)?),
        "unlike" => Requirement::Unlike(fields(reader)?),
        "sequence" => {
            let field = reader.text(body, "sequence")?.into_inner();
            let first = match body.get("first").map(|value| (value, whole(value))) {
                None => 1,
                Some((_, Some(first))) => first,
                Some((value, None)) => {
                    reader.wrong_kind(value, "first", "a whole number");
                    return None;
                }
            };
            Requirement::Sequence { field, first }
        }
        "ascending" => Requirement::Ascending(reader.text(body, setting)?.into_inner()),
        "acyclic" => Requirement::Acyclic(reader.text(body, setting)?.into_inner()),
        "reachable" => {
            let field = reader.text(body, setting)?.into_inner();
            let Some(from) = reader.text(body, "from") else {
                missing(reader, "from", "\"Kind == 'harbour'\"");
                return None;
            };
            expressions.push((from.clone(), false));
            Requirement::Reachable { field, from: from.into_inner() }
        }
        "mutual" => match &fields(reader)?[..] {
            [one] => Requirement::Mutual(one.clone(), one.clone()),
            [there, back] => Requirement::Mutual(there.clone(), back.clone()),
            more => {
                let span = body.get(setting).map_or(0..0, |value| value.span());
                let message = format!("`mutual` names {} fields", more.len());
                reader.problem(span, message, "name one field, or the two that lead there and back");
                return None;
            }
        },
        "apart" => {
            let fields = fields(reader)?;
            let distance = match body.get("distance").map(|value| (value, decimal(value))) {
                None => 0.0,
                Some((_, Some(distance))) if distance >= 0.0 => distance,
                Some((value, Some(_))) => {
                    reader.problem(
                        value.span(),
                        "`distance` is below 0",
                        "0 is for places that may not be the same",
                    );
                    return None;
                }
                Some((value, None)) => {
                    reader.wrong_kind(value, "distance", "a number");
                    return None;
                }
            };
            Requirement::Apart { fields, distance }
        }
        _ => {
            let amount = reader.text(body, "at_once")?.into_inner();
            let Some(waits) = reader.text(body, "waits") else {
                missing(reader, "waits", "\"After\"");
                return None;
            };
            let Some(most) = body.get("most").and_then(decimal).filter(|most| most.is_finite()) else {
                missing(reader, "most", "100");
                return None;
            };
            Requirement::AtOnce { amount, waits: waits.into_inner(), most }
        }
    })
}

fn message<'t>(
    reader: &mut TomlReader<'t>,
    body: &DeTable<'t>,
    expressions: &mut Vec<(Spanned<String>, bool)>,
    in_group: bool,
) -> Option<Message> {
    let given = reader.text(body, "message")?;
    match Message::parse(given.get_ref()) {
        Ok(message) => {
            let sources = message.expressions();
            expressions.extend(sources.map(|own| (Spanned::new(given.span(), own.to_owned()), in_group)));
            Some(message)
        }
        Err(error) => {
            reader.problem(given.span(), format!("the message does not work: {error}"), "");
            None
        }
    }
}

/// The examples of a rule: each a table of fields, or a list of such tables that are held together.
fn examples<'t>(reader: &mut TomlReader<'t>, body: &DeTable<'t>, name: &str) -> Vec<Example> {
    let Some(given) = body.get(name) else { return Vec::new() };
    let Some(list) = given.get_ref().as_array() else {
        reader.wrong_kind(given, name, "a list of records: [{ FIELD = VALUE }]");
        return Vec::new();
    };
    let mut out = Vec::new();
    for one in list.iter() {
        let records: Vec<&Value<'_>> = match one.get_ref() {
            DeValue::Array(records) => records.iter().collect(),
            _ => vec![one],
        };
        let place = reader.place(one.span());
        let records: Option<Vec<_>> =
            records.into_iter().map(|record| example(reader, record, name)).collect();
        out.extend(records.map(|records| Example { records, place }));
    }
    out
}

/// The fields of a record, as they would be written in a file.
fn example(reader: &mut TomlReader<'_>, given: &Value<'_>, name: &str) -> Option<Vec<(String, Vec<String>)>> {
    let Some(fields) = given.get_ref().as_table() else {
        reader.wrong_kind(given, name, "a list of records: [{ FIELD = VALUE }]");
        return None;
    };
    let text = |value: &DeValue<'_>| match value {
        DeValue::String(text) => Some(text.to_string()),
        DeValue::Integer(number) => Some(number.to_string()),
        DeValue::Float(number) => Some(number.to_string()),
        DeValue::Boolean(truth) => Some(truth.to_string()),
        _ => None,
    };
    let mut out = Vec::new();
    for (field, value) in fields {
        let values: Option<Vec<String>> = match value.get_ref() {
            DeValue::Array(items) => items.iter().map(|item| text(item.get_ref())).collect(),
            one => text(one).map(|text| vec![text]),
        };
        let Some(values) = values else {
            reader.wrong_kind(value, field.get_ref(), "a text, a number, true or false, or a list of these");
            return None;
        };
        out.push((field.get_ref().to_string(), values));
    }
    Some(out)
}

fn whole(value: &Value<'_>) -> Option<i64> {
    value.get_ref().as_integer().and_then(|number| number.to_string().parse().ok())
}

fn decimal(value: &Value<'_>) -> Option<f64> {
    match value.get_ref() {
        DeValue::Integer(own) => number(&own.to_string()),
        DeValue::Float(own) => number(&own.to_string()),
        _ => None,
    }
}

/// Finds the table, and understands the expressions as far as that is possible without the data.
pub(super) fn bind(schema: &mut Schema, reader: &mut TomlReader<'_>, given: UnboundRule) {
    let UnboundRule { name, table, mut rule, expressions } = given;
    if let Some(other) = schema.rules.iter().find(|other| other.name == *name.get_ref()) {
        let line = other.place.line;
        let message = format!("there are two rules `{}`, the first in line {line}", name.get_ref());
        return reader.problem(name.span(), message, "give each a name of its own");
    }
    let Some(id) = table_named(schema, reader, &table) else { return };
    rule.table = id;
    for (source, in_group) in &expressions {
        if expression(schema, reader, source, *in_group, &mut rule.asked).is_none() {
            return;
        }
    }
    schema.rules.push(rule);
}
