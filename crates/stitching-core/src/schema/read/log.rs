//! Reading what the game writes into its log.

use super::{keys, table_named};
use crate::schema::Schema;
use crate::schema::log::{LOG_GROUPS, LogPattern};
use crate::schema::pattern::why_not_regex;
use crate::settings::TomlReader;
use crate::text::nearest_of;
use regex::Regex;
use toml::Spanned;
use toml::de::DeTable;

/// A shape of lines as it is written, bound once all tables are known.
pub(super) struct UnboundLog {
    pattern: LogPattern,
    table: Option<Spanned<String>>,
}

/// The shapes of lines that a schema file tells of.
pub(super) fn read<'t>(reader: &mut TomlReader<'t>, top: &DeTable<'t>) -> Vec<UnboundLog> {
    let mut out = Vec::new();
    for (span, body) in reader.tables(top, "log") {
        reader.check_keys(body, keys::LOG, |_| false);
        let Some(source) = reader.text(body, "pattern") else {
            let help = "for example pattern = 'unknown reach \"(?<key>[^\"]+)\"'";
            reader.problem(span, "the lines of the log have no `pattern`", help);
            continue;
        };
        let Ok(regex) = Regex::new(source.get_ref()) else {
            let message = format!("`{}` {}", source.get_ref(), why_not_regex(source.get_ref()));
            reader.problem(source.span(), message, "write \\ before a sign that is meant as such");
            continue;
        };
        let known = |name: &str| LOG_GROUPS.contains(&name);
        let names: Vec<&str> = regex.capture_names().flatten().collect();
        if let Some(other) = names.iter().find(|name| !known(name)) {
            let help = match nearest_of(other, LOG_GROUPS).first() {
                Some(near) => format!("did you mean `{near}`?"),
                None => "the groups are file, line, key and name".to_owned(),
            };
            reader.problem(source.span(), format!("`pattern` has a group `{other}`"), help);
            continue;
        }
        if names.is_empty() {
            let help = "name a group in it: (?<key>...), (?<name>...), (?<file>...), (?<line>...)";
            reader.problem(source.span(), "`pattern` tells of nothing", help);
            continue;
        }
        let table = reader.text(body, "table");
        let place = reader.place(source.span());
        out.push(UnboundLog { pattern: LogPattern { pattern: regex, table: None, place }, table });
    }
    out
}

/// Finds the table.
pub(super) fn bind(schema: &mut Schema, reader: &mut TomlReader<'_>, given: UnboundLog) {
    let UnboundLog { mut pattern, table } = given;
    if let Some(table) = table {
        let Some(found) = table_named(schema, reader, &table) else { return };
        pattern.table = Some(found);
    }
    schema.logs.push(pattern);
}
