//! Reading schema files into [`Schema`].
//!
//! Names may be used before they are described, so tables are read first and what points to other
//! tables is bound at the end.

use super::field::{Field, Layout, Rule, Target, ValueType};
use super::format::{self, template};
use super::table::{FilePattern, KeyPart, Table, Texts};
use super::toml_reader::{TomlReader, Value, plain};
use super::{Pattern, Schema, TableId, keys};
use crate::Problem;
use crate::text::{Encoding, Template, nearest_of};
use globset::GlobBuilder;
use regex::Regex;
use std::ops::Range;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

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
    let mut schema = Schema { tables: Vec::new(), languages: languages.to_vec() };
    let mut readers: Vec<TomlReader<'_>> =
        files.iter().map(|(path, text)| TomlReader::new("bad-schema", path, text)).collect();
    let mut unbound = Vec::new();
    for (file, reader) in readers.iter_mut().enumerate() {
        let top = reader.parse();
        if !reader.problems.is_empty() {
            // What was read past a syntax error is not what was meant.
            continue;
        }
        reader.check_keys(&top, keys::SCHEMA_TOP, |_| false);
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
            let mut builder = TableBuilder { reader, file, id, unbound: &mut unbound };
            if let Some(table) = builder.table(name, body, languages) {
                schema.tables.push(table);
            } else {
                unbound.retain(|reference: &Unbound| reference.table != id);
            }
        }
    }
    for reference in unbound {
        bind(&mut schema, &mut readers[reference.file], &reference);
    }
    let mut problems: Vec<Problem> = readers.into_iter().flat_map(|reader| reader.problems).collect();
    problems.sort_by(|a, b| a.order().cmp(&b.order()));
    (schema, problems)
}

/// Finds the table or column that a reference names. The table's own name is tried first, so that
/// names with dots work.
fn bind(schema: &mut Schema, reader: &mut TomlReader<'_>, reference: &Unbound) {
    let name = reference.name.as_str();
    let target = match schema.table(name) {
        Some(table) => Some(Target { table, rule: None }),
        None => name.split_once('.').and_then(|(table, field)| {
            let table = schema.table(table)?;
            let at = schema.tables[table].field(field)?;
            let of_key = schema.tables[table].key == [KeyPart::Field(at)];
            match schema.tables[table].fields[at].layout {
                _ if of_key => Some(Target { table, rule: None }),
                Layout::Whole(rule) => Some(Target { table, rule: Some(rule) }),
                Layout::Parts(..) => None,
            }
        }),
    };
    if let Some(Target { table, rule: None }) = target
        && schema.tables[table].key.len() > 1
    {
        let message = format!("the key of `{name}` has several parts, and one value cannot name it");
        return reader.problem(
            reference.span.clone(),
            message,
            format!("refer to one of its fields: \"{name}.FIELD\""),
        );
    }
    match target {
        Some(target) => schema.tables[reference.table].rules[reference.rule].refs.push(target),
        None => {
            let near = schema.nearest_table(name);
            let help = match (near.first(), name.split_once('.')) {
                (Some(near), _) => format!("did you mean `{near}`?"),
                (None, Some((table, _))) if schema.table(table).is_some() => {
                    format!("the table `{table}` is there, but the field must be described under it first")
                }
                _ => {
                    format!("the tables are {}", list(schema.tables.iter().map(|table| table.name.as_str())))
                }
            };
            reader.problem(reference.span.clone(), format!("there is no table `{name}` to refer to"), help);
        }
    }
}

struct TableBuilder<'b, 't> {
    reader: &'b mut TomlReader<'t>,
    file: usize,
    id: TableId,
    unbound: &'b mut Vec<Unbound>,
}

impl<'t> TableBuilder<'_, 't> {
    fn table(
        &mut self,
        name: &Spanned<std::borrow::Cow<'t, str>>,
        body: &DeTable<'t>,
        languages: &[String],
    ) -> Option<Table> {
        self.reader.check_keys(body, keys::TABLE, |_| false);
        let shown: &str = name.get_ref();
        if shown.contains([':', '"', '.']) || shown.contains(char::is_whitespace) {
            let message = format!("`{shown}` cannot be the name of a table");
            self.reader.problem(name.span(), message, "addresses are written `table:key.field`, so a table's name has no blanks, dots, colons or quotes");
        }
        for needed in ["files", "format", "key"] {
            if !body.contains_key(needed) {
                let about = keys::TABLE.iter().find(|doc| doc.name == needed).map_or("", |doc| doc.about);
                self.reader.problem(name.span(), format!("the table `{shown}` has no `{needed}`"), about);
            }
        }
        let files = self.files(body)?;
        let (format_name, format) = format::read(self.reader, body.get("format")?)?;
        let mut table = Table {
            name: shown.to_owned(),
            about: self.reader.text(body, "about").map(Spanned::into_inner),
            files,
            format_name,
            format,
            key: Vec::new(),
            label: None,
            fields: Vec::new(),
            rules: Vec::new(),
            encoding: self.encoding(body),
            ignore_case: self.reader.flag(body, "ignore_case").unwrap_or(false),
            texts: None,
            place: self.reader.place(name.span()),
        };
        if let Some(fields) = self.reader.table(body, "fields") {
            for (name, value) in fields {
                self.check_column(&table, name.get_ref(), name.span());
                self.field(&mut table, name.get_ref(), value);
            }
        }
        self.key(&mut table, body)?;
        if let Some(label) = self.reader.text(body, "label") {
            table.label = Some(self.field_named(&mut table, label.get_ref(), label.span()));
        }
        self.texts(&mut table, body, languages);
        Some(table)
    }

    fn files(&mut self, body: &DeTable<'t>) -> Option<Vec<FilePattern>> {
        let mut out = Vec::new();
        for pattern in self.reader.texts(body, "files")? {
            let span = pattern.span();
            let Some(template) = template(self.reader, span.clone(), pattern.get_ref()) else { continue };
            if let Some(part) = template.parts().iter().find(|part| *part != "lang") {
                let message = format!("`files` cannot have a part `{{{part}}}`");
                self.reader.problem(span, message, "`*` stands for any name; `{lang}` for a language");
                continue;
            }
            let glob = GlobBuilder::new(&template.glob()).literal_separator(true).build();
            match glob {
                Ok(glob) => out.push(FilePattern {
                    language: language_of(pattern.get_ref()),
                    source: pattern.into_inner(),
                    matcher: glob.compile_matcher(),
                }),
                Err(error) => {
                    let message =
                        format!("`{}` is not a pattern for files: {}", pattern.get_ref(), error.kind());
                    self.reader.problem(span, message, "use `*` within a name and `**` for any folders");
                }
            }
        }
        (!out.is_empty()).then_some(out)
    }

    fn encoding(&mut self, body: &DeTable<'t>) -> Option<Encoding> {
        let label = self.reader.text(body, "encoding")?;
        let found = Encoding::for_label(label.get_ref());
        if found.is_none() {
            let message = format!("there is no encoding `{}`", label.get_ref());
            let help = "names are those of the Encoding Standard: utf-8, utf-16le, windows-1250, windows-1252, iso-8859-2, shift_jis";
            self.reader.problem(label.span(), message, help);
        }
        found
    }

    fn key(&mut self, table: &mut Table, body: &DeTable<'t>) -> Option<()> {
        for part in self.reader.texts(body, "key")? {
            let name = part.get_ref().as_str();
            let template = Template::parse(name).ok().filter(|template| !template.parts().is_empty());
            let names = match &template {
                Some(template) => template.parts().to_vec(),
                None => vec![name.to_owned()],
            };
            for name in &names {
                let part = match (template.is_some(), name.as_str()) {
                    (true, "stem" | "file") => KeyPart::Stem,
                    (true, "path") => KeyPart::Path,
                    // What the format knows of the record's place: `{section}`, `{name}`, `{member}`.
                    (true, part_name) if table.format.check_column(&format!("{{{part_name}}}")).is_ok() => {
                        KeyPart::Field(self.field_named(table, &format!("{{{part_name}}}"), part.span()))
                    }
                    _ => KeyPart::Field(self.field_named(table, name, part.span())),
                };
                table.key.push(part);
            }
        }
        (!table.key.is_empty()).then_some(())
    }

    fn texts(&mut self, table: &mut Table, body: &DeTable<'t>, languages: &[String]) {
        let Some(value) = body.get("texts") else { return };
        let per_file = table.files.iter().any(|pattern| pattern.language.is_some());
        let mut by_language = Vec::new();
        match value.get_ref() {
            DeValue::Boolean(false) => return,
            DeValue::String(field) => by_language.push((None, field.to_string())),
            DeValue::Boolean(true) if per_file => by_language.push((None, "text".to_owned())),
            DeValue::Boolean(true) => {
                by_language.extend(languages.iter().map(|code| (Some(code.clone()), code.clone())));
            }
            DeValue::Table(fields) => {
                for (code, field) in fields {
                    match field.get_ref().as_str() {
                        Some(field) => by_language.push((Some(code.get_ref().to_string()), field.to_owned())),
                        None => self.reader.wrong_kind(field, code.get_ref(), "the name of a field"),
                    }
                }
            }
            _ => {
                return self.reader.wrong_kind(value, "texts", "true, a field, or a field for each language");
            }
        }
        let mut fields = Vec::new();
        for (code, name) in by_language {
            let field = self.field_named(table, &name, value.span());
            match code {
                None if per_file => table.texts = Some(Texts::File(field)),
                // One field without languages in the path: the texts are all in the main language.
                None => fields.push((0, field)),
                Some(code) => match languages.iter().position(|language| *language == code) {
                    Some(language) => fields.push((language, field)),
                    None => {
                        let help = format!(
                            "the project's languages are {}",
                            list(languages.iter().map(String::as_str))
                        );
                        self.reader.problem(
                            value.span(),
                            format!("the project has no language `{code}`"),
                            help,
                        );
                    }
                },
            }
        }
        if !fields.is_empty() {
            table.texts = Some(Texts::Fields(fields));
        }
    }

    /// The position of the field `name`, which is added without rules if it is not described.
    fn field_named(&mut self, table: &mut Table, name: &str, span: Range<usize>) -> usize {
        if let Some(field) = table.field(name) {
            return field;
        }
        self.check_column(table, name, span);
        table.add_plain_field(name)
    }

    fn check_column(&mut self, table: &Table, name: &str, span: Range<usize>) {
        if let Err(message) = table.format.check_column(name) {
            self.reader.problem(span, message, "");
        }
    }

    fn field(&mut self, table: &mut Table, name: &str, value: &Value<'t>) {
        let index = table.fields.len();
        let Some(body) = value.get_ref().as_table() else {
            return self.reader.wrong_kind(value, name, "a table such as { type = \"integer\" }");
        };
        let parts = self.reader.text(body, "parts").and_then(|text| {
            let parts = template(self.reader, text.span(), text.get_ref())?;
            if parts.parts().is_empty() {
                self.reader.problem(
                    text.span(),
                    "the template has no parts",
                    "name them in braces: \"{good},{share}\"",
                );
                return None;
            }
            Some(parts)
        });
        let known = [keys::FIELD, keys::RULE].concat();
        let is_part =
            |key: &str| parts.as_ref().is_some_and(|parts| parts.parts().iter().any(|part| part == key));
        self.reader.check_keys(body, &known, is_part);
        let mut field = Field::plain(name, table.rules.len());
        match parts {
            None => {
                let rule = self.rule(table, index, None, body);
                table.rules.push(rule);
            }
            Some(parts) => {
                let mut rules = Vec::new();
                for part in parts.parts() {
                    let rule = match self.reader.table(body, part) {
                        Some(body) => {
                            self.reader.check_keys(body, keys::RULE, |_| false);
                            self.rule(table, index, Some(part.clone()), body)
                        }
                        None => Rule { field: index, part: Some(part.clone()), ..Rule::default() },
                    };
                    rules.push(table.rules.len());
                    table.rules.push(rule);
                }
                field.layout = Layout::Parts(parts, rules);
            }
        }
        field.about = self.reader.text(body, "about").map(Spanned::into_inner);
        field.unit = self.reader.text(body, "unit").map(Spanned::into_inner);
        field.note = self.reader.flag(body, "note").unwrap_or(false);
        field.optional = self.reader.flag(body, "optional").unwrap_or(false);
        if let Some(list) = self.reader.text(body, "list") {
            if list.get_ref().is_empty() {
                self.reader.problem(
                    list.span(),
                    "`list` must say what separates the items",
                    "for example list = \";\"",
                );
            } else {
                field.list = Some(list.into_inner());
            }
        }
        if let Some(follows) = self.reader.text(body, "follows") {
            let parsed = template(self.reader, follows.span(), follows.get_ref());
            if parsed.as_ref().is_some_and(|template| template.parts() != ["key"]) {
                self.reader.problem(
                    follows.span(),
                    "`follows` must have the one part `{key}`",
                    "for example follows = \"{key}_name\"",
                );
            } else {
                field.follows = parsed;
            }
        }
        table.fields.push(field);
    }

    fn rule(&mut self, table: &Table, field: usize, part: Option<String>, body: &DeTable<'t>) -> Rule {
        let reader = &mut *self.reader;
        let mut rule = Rule { field, part, ..Rule::default() };
        if let Some(kind) = reader.text(body, "type") {
            let names = ValueType::NAMES.map(|(name, _)| name);
            match ValueType::NAMES.iter().find(|(name, _)| name == kind.get_ref()) {
                Some((_, kind)) => rule.kind = *kind,
                None => {
                    let near = nearest_of(kind.get_ref(), names);
                    let help = near.first().map_or(format!("it is one of {}", names.join(", ")), |near| {
                        format!("did you mean `{near}`?")
                    });
                    reader.problem(kind.span(), format!("there is no type `{}`", kind.get_ref()), help);
                }
            }
        }
        rule.none = reader.texts(body, "none").map(plain).unwrap_or_default();
        rule.choice = reader.texts(body, "choice").map(plain).unwrap_or_default();
        rule.unique = reader.flag(body, "unique").unwrap_or(false);
        rule.required = reader.flag(body, "required").unwrap_or(false);
        if let Some(pattern) = reader.text(body, "pattern") {
            match Pattern::new(pattern.get_ref()) {
                Some(pattern) => rule.pattern = Some(pattern),
                None => reader.problem(
                    pattern.span(),
                    format!("`{}` is not a regular expression", pattern.get_ref()),
                    "a plain identifier is \"[a-z][a-z0-9_]*\"",
                ),
            }
        }
        if let Some(value) = body.get("range") {
            rule.range = range(value);
            if rule.range.is_none() {
                reader.wrong_kind(value, "range", "the lowest and the highest number, as [0, 63]");
            }
        }
        if let Some(value) = body.get("text") {
            rule.text = match value.get_ref() {
                DeValue::Boolean(true) => Template::parse("{}").ok(),
                DeValue::Boolean(false) => None,
                DeValue::String(text) => one_part(reader, value, text),
                _ => {
                    reader.wrong_kind(value, "text", "true, or a template such as \"name_{}\"");
                    None
                }
            };
        }
        if let Some(value) = body.get("file") {
            match value.get_ref().as_str() {
                // Paths are compared with `/` between the folders.
                Some(text) => rule.file = one_part(reader, value, &text.replace('\\', "/")),
                None => reader.wrong_kind(value, "file", "a template such as \"layouts/{}.json\""),
            }
        }
        for name in reader.texts(body, "ref").unwrap_or_default() {
            self.unbound.push(Unbound {
                table: self.id,
                rule: table.rules.len(),
                file: self.file,
                span: name.span(),
                name: name.into_inner(),
            });
        }
        rule
    }
}

/// A template with exactly the one nameless part.
fn one_part(reader: &mut TomlReader<'_>, value: &Value<'_>, text: &str) -> Option<Template> {
    let parsed = template(reader, value.span(), text)?;
    if parsed.parts() == [""] {
        return Some(parsed);
    }
    reader.problem(value.span(), format!("`{text}` must have one `{{}}`, where the value goes"), "");
    None
}

fn range(value: &Value<'_>) -> Option<(f64, f64)> {
    let number = |value: &Value<'_>| match value.get_ref() {
        DeValue::Integer(number) => number.to_string().parse().ok(),
        DeValue::Float(number) => number.to_string().parse::<f64>().ok(),
        _ => None,
    };
    let items = value.get_ref().as_array()?;
    let bounds: Vec<f64> = items.iter().filter_map(number).collect();
    (bounds.len() == 2 && items.len() == 2 && bounds[0] <= bounds[1]).then(|| (bounds[0], bounds[1]))
}

/// What takes the language out of a path that fits `pattern`, if it has `{lang}`.
fn language_of(pattern: &str) -> Option<Regex> {
    let (before, after) = pattern.split_once("{lang}")?;
    let part = |text: &str| {
        let escaped = regex::escape(text);
        escaped.replace("\\*\\*/", "(?:.*/)?").replace("\\*", "[^/]*").replace("\\?", "[^/]")
    };
    Regex::new(&format!("^{}([^/]+?){}$", part(before), part(after))).ok()
}

fn list<'n>(names: impl Iterator<Item = &'n str>) -> String {
    let names: Vec<String> = names.map(|name| format!("`{name}`")).collect();
    if names.is_empty() { "not described yet".to_owned() } else { names.join(", ") }
}
