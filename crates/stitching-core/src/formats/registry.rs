//! All formats by the names that they have in a schema.

use super::{Format, blocks, delimited, ini, json, lines, po, whole_file, xml};
use crate::settings::{Setting, TomlReader, Value, setting};
use crate::text::nearest_of;
use std::sync::Arc;
use toml::de::{DeTable, DeValue};

/// A format as a schema names it.
pub struct FormatKind {
    /// Its name.
    pub name: &'static str,
    /// What it is, in one sentence.
    pub about: &'static str,
    /// Its settings, `kind` among them.
    pub settings: &'static [Setting],
    /// Reads the settings; gives nothing, and notes a problem, if they make no sense.
    pub(crate) read: ReadFormat,
}

/// Reads a format from the table of its settings, which is the whole value or stands for it.
pub(crate) type ReadFormat =
    for<'t> fn(&mut TomlReader<'t>, &DeTable<'t>, &Value<'t>) -> Option<Arc<dyn Format>>;

/// The setting that all formats have.
pub(super) const KIND_SETTING: Setting =
    setting("kind", "string", "delimited, ini, xml, json, blocks, lines, po or file.");

/// All formats.
pub static KINDS: &[&FormatKind] = &[
    &delimited::KIND,
    &ini::KIND,
    &xml::KIND,
    &json::KIND,
    &blocks::KIND,
    &lines::KIND,
    &po::KIND,
    &whole_file::KIND,
];

fn names() -> String {
    KINDS.iter().map(|kind| kind.name).collect::<Vec<_>>().join(", ")
}

/// Reads a format; `None` (and a problem) if it makes no sense.
pub(crate) fn read_format<'t>(
    reader: &mut TomlReader<'t>,
    value: &Value<'t>,
) -> Option<(&'static str, Arc<dyn Format>)> {
    let empty = DeTable::new();
    let (kind, kind_span, table) = match value.get_ref() {
        DeValue::String(kind) => (kind.clone().into_owned(), value.span(), &empty),
        DeValue::Table(table) => match reader.text(table, "kind") {
            Some(kind) => (kind.get_ref().clone(), kind.span(), table),
            None => {
                if !table.contains_key("kind") {
                    reader.problem(
                        value.span(),
                        "the format has no `kind`",
                        format!("it is one of {}", names()),
                    );
                }
                return None;
            }
        },
        _ => {
            reader.wrong_kind(value, "format", "a table such as { kind = \"delimited\" }");
            return None;
        }
    };
    let Some(found) = KINDS.iter().find(|own| own.name == kind) else {
        let near = nearest_of(&kind, KINDS.iter().map(|own| own.name));
        let help = match near.first() {
            Some(near) => format!("did you mean `{near}`?"),
            None => format!("it is one of {}", names()),
        };
        reader.problem(kind_span, format!("there is no format `{kind}`"), help);
        return None;
    };
    Some((found.name, (found.read)(reader, table, value)?))
}
