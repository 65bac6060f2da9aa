//! Reading which fields follow from others.

use super::expression::expression;
use super::keys;
use crate::schema::MentionKind;
use crate::schema::Schema;
use crate::schema::computed::Computed;
use crate::settings::TomlReader;
use toml::Spanned;
use toml::de::DeTable;

/// A computed field as it is written, bound once all tables are known.
pub(super) struct UnboundComputed {
    field: Spanned<String>,
    record: Option<String>,
    when: Option<Spanned<String>>,
    value: Spanned<String>,
}

impl UnboundComputed {
    /// The field that it names, with its table.
    pub fn field(&self) -> &str {
        self.field.get_ref()
    }
}

/// The computed fields that a schema file tells of.
pub(super) fn read<'t>(reader: &mut TomlReader<'t>, top: &DeTable<'t>) -> Vec<UnboundComputed> {
    let mut out = Vec::new();
    for (span, body) in reader.tables(top, "computed") {
        reader.check_keys(body, keys::COMPUTED, |_| false);
        let (field, value) = (reader.text(body, "field"), reader.text(body, "value"));
        let (record, when) = (reader.text(body, "record"), reader.text(body, "when"));
        if field.is_none() {
            reader.problem(
                span.clone(),
                "the computed value has no `field`",
                "write field = \"TABLE.FIELD\"",
            );
        }
        if value.is_none() {
            let help = "for example value = \"count(berths, b, b.Reach == Reach)\"";
            reader.problem(span, "nothing is said of the `value`", help);
        }
        let record = record.map(Spanned::into_inner);
        out.extend(field.zip(value).map(|(field, value)| UnboundComputed { field, record, when, value }));
    }
    out
}

/// Finds the table and the field, and understands the expressions as far as that is possible without the data.
pub(super) fn bind(schema: &mut Schema, reader: &mut TomlReader<'_>, given: UnboundComputed) {
    let UnboundComputed { field, record, when, value } = given;
    let name = field.get_ref().as_str();
    let found =
        name.rmatch_indices('.').find_map(|(at, _)| Some((schema.table(&name[..at])?, &name[at + 1..])));
    let Some((table, own)) = found else {
        let table = name.split('.').next().unwrap_or(name);
        let near = schema.nearest_table(table);
        let help = match near.first() {
            Some(near) => format!("did you mean `{near}`?"),
            None => "write it with its table: field = \"TABLE.FIELD\"".to_owned(),
        };
        return reader.problem(field.span(), format!("`{name}` is no field of a table of the schema"), help);
    };
    let described = &schema.tables[table];
    reader.names_table(field.span(), &described.name, MentionKind::Name);
    if described.key.is_empty() {
        let message = format!("the table `{}` has no `key`, so its fields cannot be written", described.name);
        return reader.problem(field.span(), message, "say what names a record: key = \"FIELD\"");
    }
    if described.field(own).is_some_and(|at| described.is_key_field(at)) {
        let message = format!("`{own}` is part of what names the records of `{}`", described.name);
        return reader.problem(
            field.span(),
            message,
            "a key does not follow from other fields; leave it out",
        );
    }
    let is_same = |other: &&Computed| other.table == table && other.field == own && other.record == record;
    if let Some(other) = schema.computed.iter().find(is_same) {
        let line = other.place.line;
        let message = format!("what `{name}` should hold is told twice, first in line {line}");
        return reader.problem(field.span(), message, "leave one of them out");
    }
    let mut asked: Vec<String> = Vec::new();
    let mut follows = false;
    for source in when.iter().chain([&value]) {
        let Some(expression) = expression(schema, reader, source, false, &mut asked) else { return };
        follows |= expression.names().iter().any(|name| name.contains('.'));
    }
    schema.computed.push(Computed {
        table,
        field: own.to_owned(),
        record,
        when: when.map(Spanned::into_inner),
        place: reader.place(value.span()),
        value: value.into_inner(),
        asked,
        follows,
    });
}
