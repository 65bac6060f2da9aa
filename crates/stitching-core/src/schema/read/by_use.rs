//! Reading tables whose names are those that certain fields hold.

use super::{TableBuilder, keys};
use crate::formats::read_format;
use crate::schema::MentionKind;
use crate::schema::field::{Field, Layout, Target, ValueRule};
use crate::schema::table::{KeyPart, Table};
use crate::schema::{Schema, Switch, TableId};
use crate::settings::TomlReader;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

/// A field whose values are names of a table, as written; bound once all tables are known.
pub(super) struct FieldWithNames {
    table: TableId,
    pub file: usize,
    pub name: String,
    span: Range<usize>,
}

/// What a table of names in use can say of itself.
const SETTINGS: [&str; 3] = ["about", "by_use", "ignore_case"];

/// The columns of its rows.
const NAME: &str = "Name";
const USES: &str = "Uses";

impl<'t> TableBuilder<'_, 't> {
    /// A table of names in use. It has one row for each name, with the name and how many values hold it.
    pub(super) fn by_use(&mut self, name: &str, span: Range<usize>, body: &DeTable<'t>) -> Option<Table> {
        for (setting, value) in body {
            let setting = setting.get_ref();
            if !SETTINGS.contains(&&**setting) && keys::TABLE.iter().any(|doc| doc.name == &**setting) {
                let message = format!("`{setting}` is for files, and a table with `by_use` has none");
                let help =
                    "remove one of the two; where the names stand is said by the tables of those fields";
                self.reader.problem(value.span(), message, help);
            }
        }
        let fields = self.reader.texts(body, "by_use")?;
        if fields.is_empty() {
            let value = body.get("by_use")?;
            self.reader.problem(value.span(), "`by_use` names no field", "write by_use = [\"TABLE.FIELD\"]");
            return None;
        }
        // It reads nothing: there are no files.
        let format = Spanned::new(span.clone(), DeValue::String("delimited".into()));
        let (_, format) = read_format(self.reader, &format)?;
        let columns = [NAME, USES].iter().enumerate().map(|(rule, name)| Field::plain(name, rule)).collect();
        let rules = (0..2).map(|field| ValueRule { field, ..ValueRule::default() }).collect();
        for field in fields {
            self.names_in_use.push(FieldWithNames {
                table: self.id,
                file: self.file,
                span: field.span(),
                name: field.into_inner(),
            });
        }
        Some(Table {
            name: name.to_owned(),
            about: self.reader.text(body, "about").map(Spanned::into_inner),
            files: Vec::new(),
            format_name: "by use",
            format,
            key: vec![KeyPart::Field(0)],
            label: None,
            fields: columns,
            rules,
            byte_order_mark: None,
            line_ends: None,
            closed: false,
            forbidden: Vec::new(),
            not_letters: None,
            encoding: None,
            merged: false,
            layering_mark: None,
            ignore_case: self.reader.flag(body, "ignore_case").unwrap_or(false),
            texts: None,
            // Many values have one name.
            repeated: true,
            first: 1,
            by_use: Vec::new(),
            place: self.reader.place(span),
        })
    }
}

/// Finds the field that `own` names: its values are names of the table, and refer to it.
pub(super) fn bind(schema: &mut Schema, reader: &mut TomlReader<'_>, own: &FieldWithNames) {
    let name = own.name.as_str();
    let Some((table, field)) = name.split_once('.') else {
        let help = "write the table and the field: \"crews.SetsMood\"";
        return reader.problem(own.span.clone(), format!("`{name}` is no field of a table"), help);
    };
    let Some(id) = schema.table(table) else {
        let near = schema.nearest_table(table);
        let help = near.first().map(|near| format!("did you mean `{near}.{field}`?")).unwrap_or_default();
        return reader.problem(own.span.clone(), format!("there is no table `{table}`"), help);
    };
    reader.names_table(own.span.clone(), table, MentionKind::Name);
    if schema.tables[id].is_by_use() {
        let message = format!("the names of `{table}` are themselves those of other fields");
        return reader.problem(own.span.clone(), message, "name those fields here too");
    }
    let described = &mut schema.tables[id];
    let rule = match rule_of(described, field) {
        Ok(rule) => rule,
        Err(help) => {
            return reader.problem(own.span.clone(), format!("there is no field `{name}`"), help);
        }
    };
    if !described.rules[rule].with.is_empty() {
        let message = format!("`{name}` names something only together with other fields");
        return reader.problem(
            own.span.clone(),
            message,
            "leave `with` out there: a name in use is one value",
        );
    }
    let target = Target { table: own.table, rule: None };
    let rules = match &described.rules[rule].switch {
        None => vec![rule],
        Some(Switch::Where { rule, .. }) => vec![*rule],
        // Where other fields tell what the value is, it is a name in those cases that say nothing else.
        Some(Switch::ByValue { cases, .. }) => {
            let says_nothing = |rule: &usize| described.rules[*rule].refs.iter().all(|own| *own == target);
            cases.iter().map(|(_, rule)| *rule).filter(says_nothing).collect()
        }
    };
    for rule in rules {
        let refs = &mut schema.tables[id].rules[rule].refs;
        if !refs.contains(&target) {
            refs.push(target);
        }
        schema.tables[own.table].by_use.push(Target { table: id, rule: Some(rule) });
    }
}

/// The position of the rule of a field, or of a part of one (`Orders.mood`); else what to do. A field that is not described
/// is described by being named.
fn rule_of(table: &mut Table, name: &str) -> Result<usize, String> {
    let field = table.field(name);
    let (field, part) = match (field, name.rsplit_once('.')) {
        (Some(field), _) => (field, None),
        (None, Some((field, part))) if table.field(field).is_some_and(|at| has_parts(&table.fields[at])) => {
            (table.field(field).unwrap_or_default(), Some(part))
        }
        _ => match table.format.check_column(name) {
            Ok(()) => (table.add_plain_field(name), None),
            Err(_) => return Err(format!("describe it under `{}` first", table.name)),
        },
    };
    let rules = table.fields[field].layout.rules();
    let of_part = |rule: &&usize| table.rules[**rule].part.as_deref() == part;
    rules.iter().find(of_part).copied().ok_or_else(|| {
        let parts = rules.iter().filter_map(|rule| table.rules[*rule].part.as_deref());
        let parts: Vec<String> =
            parts.map(|part| format!("{}.{}.{part}", table.name, table.fields[field].name)).collect();
        format!("its values have parts; name one of them: {}", parts.join(", "))
    })
}

fn has_parts(field: &Field) -> bool {
    !matches!(field.layout, Layout::Whole(_))
}
