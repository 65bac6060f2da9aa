//! Settings that mean nothing without another one, or beside it: they are refused, not ignored.

use super::keys::RULE;
use crate::settings::TomlReader;
use toml::de::{DeTable, DeValue};

/// A setting, the one that it needs beside it, and what to write.
type Needs = (&'static str, &'static str, &'static str);

const OF_TABLE: [Needs; 5] = [
    ("letters", "texts", "the letters are those of texts"),
    ("language", "texts", "`texts` names the field that holds the text"),
    ("languages", "language", "`language` names the field that holds what is translated here"),
    ("replaces", "layering", "write layering = \"merge\"; otherwise a file replaces those below anyway"),
    ("adds", "layering", "write layering = \"merge\"; otherwise no file counts together with those below"),
];

const OF_FIELD: [Needs; 3] = [
    ("counted", "list", "`list` says what separates the items"),
    ("quoted", "list", "`list` says what separates the items"),
    ("inherit", "ref", "`ref` says in which table the record is that it names"),
];

const OF_RULE: [Needs; 5] = [
    ("as", "ref", "`ref` says whose key is made from the value"),
    ("ignore_case", "ref", "`ref` says which keys are compared"),
    ("with", "ref", "`ref` says whose key these are the parts of"),
    ("owner", "ref", "`ref` says to what the record belongs"),
    ("on_remove", "ref", "`ref` says whose removal is meant"),
];

/// Refuses settings of a table that need others.
pub(super) fn check_table(reader: &mut TomlReader<'_>, body: &DeTable<'_>) {
    check(reader, body, &OF_TABLE);
    let replace = body.get("layering").and_then(|value| value.get_ref().as_str()) == Some("replace");
    for setting in ["replaces", "adds"] {
        if let (Some(given), true) = (body.get(setting), replace) {
            let message = format!("`{setting}` means nothing where layering is \"replace\"");
            reader.problem(given.span(), message, "remove one of them");
        }
    }
    if let (Some(given), true) = (body.get("adds"), body.contains_key("replaces")) {
        let message = "`adds` and `replaces` both tell which files count together with those below";
        reader.problem(given.span(), message, "remove one of them");
    }
}

/// Refuses settings of a field that need others, or that its parts should have.
pub(super) fn check_field(reader: &mut TomlReader<'_>, body: &DeTable<'_>) {
    check(reader, body, &OF_FIELD);
    if let (Some(find), true) = (body.get("find"), body.contains_key("parts")) {
        reader.problem(find.span(), "`find` and `parts` both take the value apart", "remove one of them");
    }
    let Some(apart) = ["parts", "find"].into_iter().find(|name| body.contains_key(*name)) else { return };
    // What stands for nothing does so before the value is taken apart.
    for setting in RULE.iter().filter(|setting| !["none", "none_pattern"].contains(&setting.name)) {
        if let Some(given) = body.get(setting.name) {
            let message = format!("`{}` says nothing of a value that `{apart}` takes apart", setting.name);
            let help = format!("give it to one of the parts: PART = {{ {} = ... }}", setting.name);
            reader.problem(given.span(), message, help);
        }
    }
}

/// The settings of a field that a part of the path cannot have: all records of the file have it, as it stands there.
const NOT_OF_PATH: [&str; 16] = [
    "at",
    "list",
    "quoted",
    "counted",
    "find",
    "parts",
    "follows",
    "inherit",
    "note",
    "optional",
    "by",
    "when",
    "unique",
    "required",
    "longest",
    "on_remove",
];

/// Refuses settings of `name`, a part of the path, that mean nothing there.
pub(super) fn check_path_field(reader: &mut TomlReader<'_>, name: &str, body: &DeTable<'_>) {
    let also = body.get("also").into_iter().flat_map(|value| match value.get_ref() {
        DeValue::Array(rules) => rules.iter().collect(),
        _ => vec![value],
    });
    let rules = also.filter_map(|rule| rule.get_ref().as_table());
    for body in std::iter::once(body).chain(rules) {
        for setting in NOT_OF_PATH {
            if let Some(given) = body.get(setting) {
                let message =
                    format!("`{setting}` means nothing for `{name}`, which stands in the path of the file");
                let help = "it may have `ref`, `with`, `as`, `type`, `range`, `choice`, `pattern`, `owner`, `text` and `file`";
                reader.problem(given.span(), message, help);
            }
        }
    }
}

/// Refuses settings of a rule that need others, or contradict them.
pub(super) fn check_rule(reader: &mut TomlReader<'_>, body: &DeTable<'_>) {
    check(reader, body, &OF_RULE);
    let kind = body.get("type").and_then(|value| value.get_ref().as_str());
    if let (Some(range), Some(kind @ ("text" | "boolean"))) = (body.get("range"), kind) {
        let message = format!("`range` is for numbers, and `type` is \"{kind}\"");
        reader.problem(range.span(), message, "write type = \"number\", or remove one of them");
    }
    if let (Some(flags), Some(kind)) = (body.get("flags"), kind.filter(|kind| *kind != "integer")) {
        let message = format!("`flags` are in whole numbers, and `type` is \"{kind}\"");
        reader.problem(flags.span(), message, "write type = \"integer\", or remove one of them");
    }
}

fn check(reader: &mut TomlReader<'_>, body: &DeTable<'_>, needs: &[Needs]) {
    for (name, needed, help) in needs {
        let given = body.get(*name).filter(|value| !matches!(value.get_ref(), DeValue::Boolean(false)));
        if let (Some(given), false) = (given, body.contains_key(*needed)) {
            reader.problem(given.span(), format!("`{name}` means nothing without `{needed}`"), *help);
        }
    }
}
