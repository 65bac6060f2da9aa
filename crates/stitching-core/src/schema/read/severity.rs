//! Reading how much problems matter.

use super::{keys, table_named};
use crate::Code;
use crate::schema::severity::{Level, SeverityRule};
use crate::schema::{FilePattern, Schema};
use crate::settings::{TomlReader, Value, word};
use crate::text::nearest_of;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// How much problems matter as it is written, bound once all rules are known.
#[derive(Debug)]
pub(crate) struct UnboundSeverity {
    rule: SeverityRule,
    code: Range<usize>,
    table: Option<Spanned<String>>,
}

/// What `[severity]` says in a schema or project file.
pub(crate) fn read<'t>(reader: &mut TomlReader<'t>, top: &DeTable<'t>) -> Vec<UnboundSeverity> {
    let mut out = Vec::new();
    let Some(severities) = reader.table(top, "severity") else { return out };
    for (code, value) in severities {
        let name = code.get_ref().to_string();
        let entries: Vec<&Value<'_>> = match value.get_ref() {
            DeValue::Array(entries) => entries.iter().collect(),
            _ => vec![value],
        };
        for entry in entries {
            out.extend(one(reader, name.clone(), code.span(), entry));
        }
    }
    out
}

fn one<'t>(
    reader: &mut TomlReader<'t>,
    code: String,
    span: Range<usize>,
    value: &Value<'t>,
) -> Option<UnboundSeverity> {
    if let Some(text) = value.get_ref().as_str() {
        let Some((_, level)) = Level::NAMES.iter().find(|(name, _)| *name == text) else {
            let message = format!("`{text}` is no severity");
            reader.problem(value.span(), message, "write \"error\", \"warning\" or \"off\"");
            return None;
        };
        let rule = SeverityRule { code, table: None, files: None, level: *level };
        return Some(UnboundSeverity { rule, code: span, table: None });
    }
    let Some(body) = value.get_ref().as_table() else {
        reader.wrong_kind(
            value,
            &code,
            "\"error\", \"warning\", \"off\", or a list of { severity = ..., table = ... }",
        );
        return None;
    };
    reader.check_keys(body, keys::SEVERITY, |_| false);
    let level = word(reader, body, "severity", &Level::NAMES);
    if !body.contains_key("severity") {
        reader.problem(value.span(), "nothing is said of the `severity`", "write severity = \"warning\"");
    }
    let table = reader.text(body, "table");
    let mut files = None;
    if let Some(given) = reader.text(body, "files") {
        match FilePattern::parse(given.get_ref()) {
            Ok(pattern) => files = Some(pattern),
            Err(error) => {
                reader.problem(given.span(), error.message, error.help);
                return None;
            }
        }
    }
    let rule =
        SeverityRule { code, table: table.as_ref().map(|own| own.get_ref().clone()), files, level: level? };
    Some(UnboundSeverity { rule, code: span, table })
}

/// Checks that what is named is there; gives what holds.
pub(crate) fn bind(
    schema: &Schema,
    reader: &mut TomlReader<'_>,
    given: UnboundSeverity,
) -> Option<SeverityRule> {
    let UnboundSeverity { rule, code, table } = given;
    let names = || {
        let codes = Code::ALL.iter().map(|code| code.as_str());
        codes.chain(schema.rules.iter().map(|rule| rule.name.as_str()))
    };
    if !names().any(|name| name == rule.code) {
        let near = nearest_of(&rule.code, names());
        let help = near.first().map_or(String::new(), |near| format!("did you mean `{near}`?"));
        reader.problem(code, format!("there is no check and no rule `{}`", rule.code), help);
        return None;
    }
    match table {
        Some(table) => table_named(schema, reader, &table).map(|_| rule),
        None => Some(rule),
    }
}
