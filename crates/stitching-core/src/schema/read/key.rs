//! Reading what names the records of a table.

use super::TableBuilder;
use crate::schema::file_pattern::FilePattern;
use crate::schema::table::{KeyPart, Table};
use crate::settings::template;
use crate::text::Template;
use std::ops::Range;
use toml::de::DeTable;

impl<'t> TableBuilder<'_, 't> {
    pub(super) fn key(&mut self, table: &mut Table, body: &DeTable<'t>) -> Option<()> {
        for part in self.reader.texts(body, "key")? {
            let name = part.get_ref().as_str();
            // A path that begins further out is one part, also with braces in it.
            let is_path = name.starts_with("../") || name.starts_with("{parent}.");
            let template = match is_path || !name.contains('{') {
                true => None,
                false => Some(template(self.reader, part.span(), name)?),
            };
            let template = template.filter(|template| !template.parts().is_empty());
            if let Some(template) = &template {
                self.check_key_template(template, part.span());
            }
            let names = match &template {
                Some(template) => template.parts().to_vec(),
                None => vec![name.to_owned()],
            };
            for name in &names {
                let part = match (template.is_some(), name.as_str()) {
                    (true, "stem") => KeyPart::Stem,
                    (true, "file") => KeyPart::FileName,
                    (true, "path") => KeyPart::Path,
                    (true, "position") => KeyPart::Position,
                    (true, part_name) if let Some(at) = self.path_part(table, part_name, part.span()) => {
                        KeyPart::PathPart(at)
                    }
                    // What the format knows of the record's place: `{section}`, `{name}`, `{member}`.
                    (true, part_name) if table.format.knows(&format!("{{{part_name}}}")) => {
                        KeyPart::Field(self.field_named(table, &format!("{{{part_name}}}"), part.span()))
                    }
                    _ => KeyPart::Field(self.field_named(table, name, part.span())),
                };
                table.key.push(part);
            }
        }
        if let (Some(value), true) = (body.get("key"), table.key.is_empty()) {
            self.reader.problem(
                value.span(),
                "`key` names nothing",
                "leave it out if nothing refers to the records",
            );
        }
        (!table.key.is_empty()).then_some(())
    }

    /// What of the path of the table's files a field is that is called `name`: `{stem}`, `{file}`, `{path}`, or a named part
    /// of them; `None` for fields of the records.
    pub(super) fn of_path(&mut self, table: &Table, name: &str, span: Range<usize>) -> Option<KeyPart> {
        KeyPart::of_file_called(name)
            .or_else(|| self.path_part_in_braces(table, name, span).map(KeyPart::PathPart))
    }

    /// The position of the part `name` of the paths of the table's files, if they have it.
    pub(super) fn path_part(&mut self, table: &Table, name: &str, span: Range<usize>) -> Option<usize> {
        let has = |pattern: &FilePattern| pattern.parts().iter().any(|part| part == name);
        if !table.files.iter().any(has) {
            return None;
        }
        if let Some(lacking) = table.files.iter().find(|pattern| !has(pattern)) {
            let message =
                format!("`{{{name}}}` is a part of some of `files`, and not of `{}`", lacking.source);
            self.reader.problem(span, message, "name it in all of them");
        }
        table.path_parts().iter().position(|part| part == name)
    }

    pub(super) fn path_part_in_braces(
        &mut self,
        table: &Table,
        name: &str,
        span: Range<usize>,
    ) -> Option<usize> {
        let inner = name.strip_prefix('{')?.strip_suffix('}')?;
        self.path_part(table, inner, span)
    }

    /// A key that is written as one text is names in braces with `/` between them, and nothing else.
    pub(super) fn check_key_template(&mut self, template: &Template, span: Range<usize>) {
        let filled = template.fill(|_| Some("\0".to_owned())).unwrap_or_default();
        let literals: Vec<&str> = filled.split('\0').collect();
        let [first, between @ .., last] = &literals[..] else { return };
        if first.is_empty() && last.is_empty() && between.iter().all(|text| *text == "/") {
            return;
        }
        let names: Vec<String> = template.parts().iter().map(|part| format!("{{{part}}}")).collect();
        let source = template.source();
        let message = format!("the key `{source}` has other text than names in braces with `/` between them");
        self.reader.problem(span, message, format!("write \"{}\"", names.join("/")));
    }
}
