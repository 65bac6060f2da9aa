//! Reading expressions, as far as they can be understood without the data.

use crate::expressions::{Expression, GROUP};
use crate::schema::MentionKind;
use crate::schema::Schema;
use crate::settings::TomlReader;
use crate::text::nearest_of;
use toml::Spanned;

/// Compiles `source` and finds the tables that it asks, whose names are added to `asked`; a mistake becomes a problem. `in_group`
/// tells whether there are records that are held together.
pub(super) fn expression(
    schema: &Schema,
    reader: &mut TomlReader<'_>,
    source: &Spanned<String>,
    in_group: bool,
    asked: &mut Vec<String>,
) -> Option<Expression> {
    let expression = match Expression::parse(source.get_ref()) {
        Ok(expression) => expression,
        Err(error) => {
            reader.problem(source.span(), error.to_string(), "write an expression in CEL");
            return None;
        }
    };
    for (table, _) in expression.asked_fields() {
        if schema.table(table).is_some() {
            asked.push(table.to_owned());
            reader.names_table(source.span(), table, MentionKind::Expression);
        } else if table != GROUP {
            let near = nearest_of(table, schema.tables.iter().map(|own| own.name.as_str()));
            let help = near.first().map_or(String::new(), |near| format!("did you mean `{near}`?"));
            reader.problem(source.span(), format!("there is no table `{table}`"), help);
            return None;
        } else if !in_group {
            let help = "records are held together in a [[rule]] with `by`; elsewhere name a table";
            reader.problem(source.span(), "there is no `group` here", help);
            return None;
        }
    }
    Some(expression)
}
