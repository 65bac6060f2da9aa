//! Reading schema files into [`Schema`].
//!
//! Names may be used before they are described, so tables are read first and what points to other
//! tables is bound at the end.

mod by_use;
mod companion;
mod computed;
mod derived;
mod expression;
mod field;
mod key;
mod log;
mod recipe;
mod rule;
pub(crate) mod severity;
mod table;
mod texts;
mod transfer;
mod value_rules;

use self::by_use::FieldWithNames;
use super::field::{Layout, Target};
use super::table::KeyPart;
use super::{MentionKind, Schema, TableId, TableMention, keys};
use crate::Code;
use crate::Problem;
use crate::expressions::Expression;
use crate::settings::TomlReader;
use crate::text::Template;
use std::ops::Range;
use toml::Spanned;

/// A reference as written, bound once all tables are known.
struct Unbound {
    table: TableId,
    rule: usize,
    file: usize,
    name: String,
    span: Range<usize>,
}

/// Reads the schema `files` (path as shown, content) for a project with `languages`, the main one
/// first. Gives what could be understood, and the mistakes with their places.
pub fn read(files: &[(String, String)], languages: &[String]) -> (Schema, Vec<Problem>) {
    let mut schema = Schema::new(languages);
    let mut readers: Vec<TomlReader<'_>> =
        files.iter().map(|(path, text)| TomlReader::new(Code::BAD_SCHEMA, path, text)).collect();
    let mut unbound = Vec::new();
    let mut names_in_use = Vec::new();
    let mut companions = Vec::new();
    let mut computed = Vec::new();
    let mut recipes = Vec::new();
    let mut transfers = Vec::new();
    let mut game_rules = Vec::new();
    let mut severities = Vec::new();
    let mut logs = Vec::new();
    // Tables whose description is wrong are there all the same: what refers to them is not to blame.
    let mut failed: Vec<String> = Vec::new();
    for (file, reader) in readers.iter_mut().enumerate() {
        let top = reader.parse();
        if !reader.problems.is_empty() {
            // What was read past a syntax error is not what was meant.
            continue;
        }
        reader.check_keys(&top, keys::SCHEMA_TOP, |_| false);
        companions.extend(companion::read(reader, &top).into_iter().map(|own| (file, own)));
        computed.extend(computed::read(reader, &top).into_iter().map(|own| (file, own)));
        derived::read(&mut schema, reader, &top);
        transfers.extend(transfer::read(reader, &top).into_iter().map(|own| (file, own)));
        logs.extend(log::read(reader, &top).into_iter().map(|own| (file, own)));
        severities.extend(severity::read(reader, &top).into_iter().map(|own| (file, own)));
        game_rules.extend(rule::read(reader, &top).into_iter().map(|own| (file, own)));
        recipes.extend(recipe::read(reader, &top).into_iter().map(|own| (file, own)));
        let Some(tables) = reader.table(&top, "table") else { continue };
        for (name, value) in tables {
            if schema.table(name.get_ref()).is_some() {
                reader.problem(name.span(), format!("the table `{}` is described twice", name.get_ref()), "");
                continue;
            }
            let Some(body) = value.get_ref().as_table() else {
                reader.wrong_kind(value, name.get_ref(), "a table");
                continue;
            };
            let id = schema.tables.len();
            let mut builder = TableBuilder {
                others: Vec::new(),
                reader,
                file,
                id,
                unbound: &mut unbound,
                names_in_use: &mut names_in_use,
            };
            if let Some(table) = builder.table(name, body, languages) {
                schema.tables.push(table);
            } else {
                failed.push(name.get_ref().to_string());
                unbound.retain(|reference: &Unbound| reference.table != id);
            }
        }
    }
    for reference in unbound {
        let table = reference.name.split('.').next().unwrap_or_default();
        if failed.iter().any(|failed| *failed == reference.name || failed == table) {
            continue;
        }
        bind(&mut schema, &mut readers[reference.file], &reference);
    }
    for field in names_in_use {
        let of_failed = |failed: &String| field.name.starts_with(&format!("{failed}."));
        if !failed.iter().any(of_failed) {
            by_use::bind(&mut schema, &mut readers[field.file], &field);
        }
    }
    for (file, companion) in companions {
        if !failed.iter().any(|failed| *failed == companion.table_name()) {
            companion::bind(&mut schema, &mut readers[file], companion);
        }
    }
    for (file, computed) in computed {
        let of_failed = |failed: &String| computed.field().starts_with(&format!("{failed}."));
        if !failed.iter().any(of_failed) {
            computed::bind(&mut schema, &mut readers[file], computed);
        }
    }
    for (file, transfer) in transfers {
        let is_failed = |name: &&str| failed.iter().any(|failed| failed == name);
        if !transfer.tables().iter().any(is_failed) {
            transfer::bind(&mut schema, &mut readers[file], transfer);
        }
    }
    for (file, rule) in game_rules {
        if !failed.iter().any(|failed| failed == rule.table()) {
            rule::bind(&mut schema, &mut readers[file], rule);
        }
    }
    for (file, own) in logs {
        log::bind(&mut schema, &mut readers[file], own);
    }
    for (file, severity) in severities {
        let bound = severity::bind(&schema, &mut readers[file], severity);
        schema.severities.extend(bound);
    }
    for (file, recipe) in recipes {
        recipe::bind(&mut schema, &mut readers[file], recipe);
    }
    schema.mentions = readers.iter_mut().flat_map(mentions).collect();
    let mut problems: Vec<Problem> = readers.into_iter().flat_map(|reader| reader.problems).collect();
    problems.sort_by(|a, b| a.order().cmp(&b.order()));
    // A family of columns is described once.
    problems.dedup();
    (schema, problems)
}

/// The places at which a file names tables; they are taken out of its reader.
pub(crate) fn mentions(reader: &mut TomlReader<'_>) -> Vec<TableMention> {
    let names = std::mem::take(&mut reader.table_names);
    let path = reader.path();
    let mention = |(span, table, kind)| TableMention { path: path.to_owned(), span, table, kind };
    names.into_iter().map(mention).collect()
}

/// The table that a setting names; a name of none becomes a problem.
fn table_named(schema: &Schema, reader: &mut TomlReader<'_>, name: &Spanned<String>) -> Option<TableId> {
    let found = schema.table(name.get_ref());
    match found {
        Some(_) => reader.names_table(name.span(), name.get_ref(), MentionKind::Name),
        None => {
            let near = schema.nearest_table(name.get_ref());
            let help =
                near.first().map_or_else(|| known_tables(schema), |near| format!("did you mean `{near}`?"));
            reader.problem(name.span(), format!("there is no table `{}`", name.get_ref()), help);
        }
    }
    found
}

/// Finds the table or column that a reference names. The table's own name is tried first, so that
/// names with dots work.
fn bind(schema: &mut Schema, reader: &mut TomlReader<'_>, reference: &Unbound) {
    let name = reference.name.as_str();
    let parts = schema.tables[reference.table].rules[reference.rule].with.len();
    let target = match schema.table(name) {
        Some(table) => Some(Target { table, rule: None }),
        None => name.split_once('.').and_then(|(table, field)| {
            let table = schema.table(table)?;
            let described = &mut schema.tables[table];
            let at = described.field(field).or_else(|| described.add_path_field(field))?;
            let of_key = schema.tables[table].key == [KeyPart::Field(at)];
            match schema.tables[table].fields[at].layout {
                _ if of_key => Some(Target { table, rule: None }),
                Layout::Whole(rule) => Some(Target { table, rule: Some(rule) }),
                Layout::Parts(..) | Layout::Found(..) => None,
            }
        }),
    };
    if let Some(Target { table, rule: None }) = target
        && schema.tables[table].key.len() != parts.max(1)
    {
        let count = schema.tables[table].key.len();
        let message = match parts {
            _ if count == 0 => {
                let help = format!("give it one, or refer to one of its fields: \"{name}.FIELD\"");
                let message =
                    format!("the table `{name}` has no `key`, and nothing can refer to its records");
                return reader.problem(reference.span.clone(), message, help);
            }
            0 => format!("the key of `{name}` has {count} parts, and one value cannot name it"),
            _ if count == 1 => format!("the key of `{name}` has one part, and `with` names {parts}"),
            _ => format!("the key of `{name}` has {count} parts, and `with` names {parts}"),
        };
        let help = format!(
            "write with = [...] with the fields that make up the key, or with `parts` of one value that does, and \"{{}}\" for this one; or refer to one of its fields: \"{name}.FIELD\""
        );
        return reader.problem(reference.span.clone(), message, help);
    }
    let ignores_case = schema.tables[reference.table].rules[reference.rule].ignore_case;
    if let (Some(Target { rule: Some(_), .. }), true) = (target, ignores_case) {
        let message = format!("`ignore_case` is for keys, and `{name}` is a field");
        let help = "leave it out, or refer to a table by its key";
        return reader.problem(reference.span.clone(), message, help);
    }
    let is_strict = |target: Target| {
        let table = &schema.tables[target.table];
        target.rule.is_none() && table.is_by_use() && !table.ignore_case
    };
    if target.is_some_and(is_strict) && ignores_case {
        let message = format!("`{name}` is a table by use, and minds the case of its names");
        return reader.problem(reference.span.clone(), message, "give `ignore_case` to the table");
    }
    match target {
        Some(target) => {
            let named = &schema.tables[target.table].name;
            reader.names_table(reference.span.clone(), named, MentionKind::Reference);
            let lacks = |part: &KeyPart| match part {
                KeyPart::Field(field) => schema.tables[target.table].fields[*field].optional,
                _ => false,
            };
            let may_lack = schema.tables[target.table].key.iter().any(lacks);
            let rule = &mut schema.tables[reference.table].rules[reference.rule];
            rule.parts_may_lack |= may_lack && !rule.with.is_empty();
            rule.refs.push(target);
        }
        None => {
            let near = schema.nearest_table(name);
            let help = match (near.first(), name.split_once('.')) {
                (Some(near), _) => format!("did you mean `{near}`?"),
                (None, Some((table, _))) if schema.table(table).is_some() => {
                    format!("the table `{table}` is there, but the field must be described under it first")
                }
                _ => known_tables(schema),
            };
            reader.problem(reference.span.clone(), format!("there is no table `{name}` to refer to"), help);
        }
    }
}

/// What a rule says of other fields of its table, bound once all of them are known.
enum OtherFields {
    With(usize, Vec<Spanned<String>>),
    Switch(usize, Spanned<String>, Vec<(Vec<String>, usize)>),
    Condition(usize, Range<usize>, Expression),
    File(usize, Range<usize>, Template),
}

/// Builds a table from its description.
struct TableBuilder<'b, 't> {
    others: Vec<OtherFields>,
    reader: &'b mut TomlReader<'t>,
    file: usize,
    id: TableId,
    unbound: &'b mut Vec<Unbound>,
    names_in_use: &'b mut Vec<FieldWithNames>,
}

/// Which tables there are, of many the first, for a name that is none of them.
fn known_tables(schema: &Schema) -> String {
    const SHOWN: usize = 20;
    let names = list(schema.tables.iter().take(SHOWN).map(|table| table.name.as_str()));
    match schema.tables.len().saturating_sub(SHOWN) {
        0 => format!("the tables are {names}"),
        more => format!("the tables are {names} and {more} more"),
    }
}

/// Names as a list in messages.
fn list<'n>(names: impl Iterator<Item = &'n str>) -> String {
    let names: Vec<String> = names.map(|name| format!("`{name}`")).collect();
    if names.is_empty() { "not described yet".to_owned() } else { names.join(", ") }
}
