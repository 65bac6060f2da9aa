//! The settings of the format.

use super::Lines;
use crate::formats::registry::{FormatKind, KIND_SETTING};
use crate::settings::{Setting, TomlReader, Value, note_marks, setting, template};
use crate::text::Template;
use std::sync::Arc;
use toml::de::DeTable;

impl Lines {
    /// What a schema calls the format.
    pub const NAME: &'static str = "lines";
}

/// The format as a schema names it.
pub(in crate::formats) static KIND: FormatKind = FormatKind {
    name: Lines::NAME,
    about: "Lines described by a template.",
    settings: SETTINGS,
    read: |reader, table, value| Some(Arc::new(from_settings(reader, table, value)?)),
};

const SETTINGS: &[Setting] = &[
    KIND_SETTING,
    setting(
        "line",
        "string|array",
        "A template of the line, such as '{key} = \"{text}\"'; or of each line of a record of several.",
    ),
    setting(
        "or",
        "string|array",
        "Other shapes of the line, each of which counts where none before it fits; parts of the same name are the same field.",
    ),
    setting(
        "comment",
        "string|array",
        "What begins a line that is only a note; `/*`, or both marks with a blank between, for notes over several lines.",
    ),
    setting("trailing", "boolean", "A note may stand behind what the template describes."),
    setting(
        "others",
        "boolean",
        "Lines of other shapes are passed over: the table draws on some lines only.",
    ),
    setting(
        "anywhere",
        "boolean",
        "What the template describes may stand anywhere in a line, and several times.",
    ),
    setting("over_lines", "boolean", "A record may go on over the next lines until it fits the template."),
    setting(
        "carry",
        "string|array",
        "Templates of lines whose parts hold for all records after them, such as 'folder {folder}'.",
    ),
];

fn from_settings<'t>(reader: &mut TomlReader<'t>, table: &DeTable<'t>, value: &Value<'t>) -> Option<Lines> {
    reader.check_keys(table, SETTINGS, |_| false);
    if !table.contains_key("line") {
        reader.problem(
            value.span(),
            "the format has no `line`",
            "describe a line, such as line = '{key} = \"{text}\"'",
        );
        return None;
    }
    let (comments, block_comment) = note_marks(reader, table, &[])?;
    let mut shapes = |name: &str| -> Option<Vec<Template>> {
        let texts = reader.texts(table, name).unwrap_or_default();
        texts.into_iter().map(|text| template(reader, text.span(), text.get_ref())).collect()
    };
    let lines = Lines {
        lines: shapes("line")?,
        alternatives: shapes("or")?,
        carried: shapes("carry")?,
        comments,
        block_comment,
        trailing_comments: reader.flag(table, "trailing").unwrap_or(false),
        others: reader.flag(table, "others").unwrap_or(false),
        anywhere: reader.flag(table, "anywhere").unwrap_or(false),
        over_lines: reader.flag(table, "over_lines").unwrap_or(false),
    };
    if lines.lines.len() != 1 && (lines.anywhere || lines.over_lines || lines.lines.is_empty()) {
        let message = "`anywhere` and `over_lines` are for one template in `line`";
        reader.problem(value.span(), message, "a list of templates describes a record of that many lines");
        return None;
    }
    if !lines.alternatives.is_empty() && (lines.lines.len() != 1 || lines.anywhere || lines.over_lines) {
        let message = "`or` is for records of one line each";
        reader.problem(
            value.span(),
            message,
            "leave `anywhere` and `over_lines` out, and give `line` one template",
        );
        return None;
    }
    if lines.lines.iter().all(|template| template.parts().is_empty()) {
        let message = "`line` has no parts, and so its records hold nothing";
        reader.problem(value.span(), message, "name them in braces, such as line = '{key} = \"{text}\"'");
        return None;
    }
    if let Some(empty) = lines.alternatives.iter().find(|template| template.parts().is_empty()) {
        let message = format!("`{}` has no parts, and so its records hold nothing", empty.source());
        reader.problem(value.span(), message, "pass over such lines with `others`");
        return None;
    }
    let alone = lines.lines.iter().take(if lines.lines.len() == 1 { 1 } else { 0 });
    if let Some(alone) = alone.chain(&lines.alternatives).find(|template| template.may_be_missing()) {
        let message = format!("all of the template `{}` may be missing", alone.source());
        reader.problem(value.span(), message, "something in it must always be there");
        return None;
    }
    let mut seen: Vec<&String> = Vec::new();
    let carried = || lines.carried.iter().flat_map(|template| template.parts());
    for part in lines.lines.iter().flat_map(|template| template.parts()) {
        if seen.contains(&part) || carried().any(|carried| carried == part) {
            let message = format!("the part `{{{part}}}` stands in two templates of the format");
            reader.problem(value.span(), message, "give each part its own name");
            return None;
        }
        seen.push(part);
    }
    for part in lines.alternatives.iter().flat_map(|template| template.parts()) {
        if carried().any(|carried| carried == part) {
            let message = format!("the part `{{{part}}}` stands in two templates of the format");
            reader.problem(value.span(), message, "give each part its own name");
            return None;
        }
    }
    Some(lines)
}
