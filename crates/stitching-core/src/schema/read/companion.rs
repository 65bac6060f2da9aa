//! Reading what goes with the records of a table.

use super::{keys, table_named};
use crate::schema::Schema;
use crate::schema::companion::{Companion, CompanionKind, KEY, part_name};
use crate::settings::{TomlReader, name_template};
use crate::text::nearest_of;
use toml::Spanned;
use toml::de::DeTable;

/// A companion as it is written, bound once all tables are known.
pub(super) struct UnboundCompanion {
    table: Spanned<String>,
    kind: CompanionKind,
    name: Spanned<String>,
    required: bool,
}

impl UnboundCompanion {
    /// The table that it names.
    pub fn table_name(&self) -> &str {
        self.table.get_ref()
    }
}

/// The companions that a schema file tells of.
pub(super) fn read<'t>(reader: &mut TomlReader<'t>, top: &DeTable<'t>) -> Vec<UnboundCompanion> {
    let mut out = Vec::new();
    for (span, body) in reader.tables(top, "companion") {
        reader.check_keys(body, keys::COMPANION, |_| false);
        let table = reader.text(body, "table");
        if table.is_none() {
            let help = "write table = \"NAME\", with the table whose records it goes with";
            reader.problem(span.clone(), "the companion names no `table`", help);
        }
        let required = reader.flag(body, "required").unwrap_or(false);
        let mut kinds = Vec::new();
        for (setting, kind) in CompanionKind::NAMES {
            kinds.extend(reader.text(body, setting).map(|name| (kind, name)));
        }
        if kinds.is_empty() {
            let help = "for example file = \"layouts/{key}.json\"";
            reader.problem(span, "the companion is no `text`, `file` or `folder`", help);
        }
        for (kind, name) in kinds {
            out.extend(table.clone().map(|table| UnboundCompanion { table, kind, name, required }));
        }
    }
    out
}

/// Finds the table that a companion goes with, and what its name is made of.
pub(super) fn bind(schema: &mut Schema, reader: &mut TomlReader<'_>, given: UnboundCompanion) {
    let UnboundCompanion { table, kind, name, required } = given;
    let Some(id) = table_named(schema, reader, &table) else { return };
    let described = &schema.tables[id];
    if described.key.is_empty() {
        let message =
            format!("the table `{}` has no `key`, so nothing can be named after its records", described.name);
        return reader.problem(table.span(), message, "say what names a record: key = \"FIELD\"");
    }
    let Some(template) = name_template(reader, name.span(), &name.get_ref().replace('\\', "/")) else {
        return;
    };
    let known: Vec<&str> =
        std::iter::once(KEY).chain(described.key.iter().map(|part| part_name(described, *part))).collect();
    if let Some(part) = template.parts().iter().find(|part| !known.contains(&part.as_str())) {
        let near = nearest_of(part, known.iter().copied());
        let help = match near.first() {
            Some(near) => format!("did you mean `{{{near}}}`?"),
            None => format!("what names a record is {{{}}}", known.join("}, {")),
        };
        let message = format!("`{{{part}}}` is no part of the key of `{}`", described.name);
        return reader.problem(name.span(), message, help);
    }
    if template.parts().is_empty() {
        let message = format!("`{}` is the same for all records", name.get_ref());
        return reader.problem(name.span(), message, "put {key} where the key of the record goes");
    }
    let companion = Companion { table: id, kind, name: template, required, place: reader.place(name.span()) };
    let outside = kind != CompanionKind::Text && companion.path_for(described, "x").is_none();
    if outside && described.key.len() == 1 {
        let message = format!("`{}` leads to no place inside a layer", name.get_ref());
        return reader.problem(name.span(), message, "paths begin at a layer's root: \"sites/{key}/\"");
    }
    schema.companions.push(companion);
}
