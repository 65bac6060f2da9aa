//! Reading which files depend on others.

use super::keys;
use crate::layers::RelPath;
use crate::schema::derived::{Asset, Derived, Paired, WhenChanged};
use crate::schema::{FilePattern, Schema};
use crate::settings::TomlReader;
use toml::Spanned;
use toml::de::DeTable;

/// Reads the derived and the paired files that a schema file tells of.
pub(super) fn read<'t>(schema: &mut Schema, reader: &mut TomlReader<'t>, top: &DeTable<'t>) {
    for (span, body) in reader.tables(top, "derived") {
        reader.check_keys(body, keys::DERIVED, |_| false);
        let (files, from) = (reader.text(body, "files"), reader.texts(body, "from").unwrap_or_default());
        if files.is_none() || from.is_empty() {
            let help = "write files = \"cache/*.bin\" and from = [\"maps/*.txt\"]";
            reader.problem(span, "derived files need `files` and `from`", help);
            continue;
        }
        let when_changed = when_changed(reader, body);
        let required = reader.flag(body, "required").unwrap_or(false);
        let files: Vec<FilePattern> = files.iter().filter_map(|own| pattern(reader, own)).collect();
        let from: Vec<FilePattern> = from.iter().filter_map(|own| pattern(reader, own)).collect();
        if let (Some(files), Some(when_changed)) = (files.into_iter().next(), when_changed) {
            let derived = Derived { files, from, when_changed, required };
            if let (Some(given), false) = (body.get("required").filter(|_| required), derived.can_be_named())
            {
                let message = "the name of a derived file does not follow from those that it is made from";
                let help = "`files` has no `*`, and only parts in braces that one of `from` has too";
                reader.problem(given.span(), message, help);
            }
            schema.derived.push(derived);
        }
    }
    for (span, body) in reader.tables(top, "asset") {
        reader.check_keys(body, keys::ASSET, |_| false);
        let files = reader.texts(body, "files").unwrap_or_default();
        if files.is_empty() {
            reader.problem(span, "the asset names no `files`", "write files = \"layouts/*.json\"");
        }
        schema
            .assets
            .extend(files.iter().filter_map(|own| pattern(reader, own)).map(|files| Asset { files }));
    }
    for (span, body) in reader.tables(top, "paired") {
        reader.check_keys(body, keys::PAIRED, |_| false);
        let given = reader.texts(body, "files").unwrap_or_default();
        if given.len() < 2 {
            reader.problem(
                span,
                "paired files need two paths",
                "write files = [\"a.json\", \"info/a.json\"]",
            );
            continue;
        }
        let mut files: Vec<RelPath> = Vec::new();
        for own in &given {
            match RelPath::parse(own.get_ref()) {
                Ok(path) if files.contains(&path) => {
                    reader.problem(own.span(), format!("`{path}` stands there twice"), "name each file once");
                }
                Ok(path) => files.push(path),
                Err(error) => reader.problem(own.span(), error.to_string(), "paths begin at a layer's root"),
            }
        }
        if files.len() == given.len() {
            schema.paired.push(Paired { files });
        }
    }
}

fn when_changed<'t>(reader: &mut TomlReader<'t>, body: &DeTable<'t>) -> Option<WhenChanged> {
    let Some(given) = reader.text(body, "when_changed") else { return Some(WhenChanged::Report) };
    let found = WhenChanged::NAMES.into_iter().find(|(name, _)| name == given.get_ref());
    if found.is_none() {
        let names = WhenChanged::NAMES.map(|(name, _)| format!("\"{name}\""));
        let help = format!("write {}", names.join(" or "));
        reader.problem(
            given.span(),
            format!("`{}` is nothing that can become of a file", given.get_ref()),
            help,
        );
    }
    found.map(|(_, when)| when)
}

fn pattern(reader: &mut TomlReader<'_>, source: &Spanned<String>) -> Option<FilePattern> {
    match FilePattern::parse(source.get_ref()) {
        Ok(pattern) => Some(pattern),
        Err(error) => {
            reader.problem(source.span(), error.message, error.help);
            None
        }
    }
}
