//! Reading schema files into [`Schema`].
//!
//! Names may be used before they are described, so tables are read first and what points to other
//! tables is bound at the end.

use super::field::{Field, Layout, Rule, Switch, Target, ValueType};
use super::file_pattern::FilePattern;
use super::pattern::why_not_regex;
use super::table::{KeyPart, Table, Texts};
use super::{List, Pattern, Schema, TableId, dependencies, keys};
use crate::Code;
use crate::Problem;
use crate::formats::read_format;
use crate::layers::RelPath;
use crate::settings::{TomlReader, Value, name_template, plain, template};
use crate::text::{Encoding, Template, nearest_of};
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
    let mut schema = Schema::new(languages);
    let mut readers: Vec<TomlReader<'_>> =
        files.iter().map(|(path, text)| TomlReader::new(Code::BAD_SCHEMA, path, text)).collect();
    let mut unbound = Vec::new();
    // Tables whose description is wrong are there all the same: what refers to them is not to blame.
    let mut failed: Vec<String> = Vec::new();
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
            let mut builder = TableBuilder { others: Vec::new(), reader, file, id, unbound: &mut unbound };
            if let Some(table) = builder.table(name, body, languages) {
                schema.tables.push(table);
            } else {
                failed.push(name.get_ref().to_string());
                unbound.retain(|reference: &Unbound| reference.table != id);
            }
        }
    }
    for reference in unbound {
        let table = reference.name.split('.').next().unwrap_or_default();
        if failed.iter().any(|failed| *failed == reference.name || failed == table) {
            continue;
        }
        bind(&mut schema, &mut readers[reference.file], &reference);
    }
    let mut problems: Vec<Problem> = readers.into_iter().flat_map(|reader| reader.problems).collect();
    problems.sort_by(|a, b| a.order().cmp(&b.order()));
    // A family of columns is described once.
    problems.dedup();
    (schema, problems)
}

/// Finds the table or column that a reference names. The table's own name is tried first, so that
/// names with dots work.
fn bind(schema: &mut Schema, reader: &mut TomlReader<'_>, reference: &Unbound) {
    let name = reference.name.as_str();
    let parts = schema.tables[reference.table].rules[reference.rule].with.len();
    let target = match schema.table(name) {
        Some(table) => Some(Target { table, rule: None }),
        None => name.split_once('.').and_then(|(table, field)| {
            let table = schema.table(table)?;
            let at = schema.tables[table].field(field)?;
            let of_key = schema.tables[table].key == [KeyPart::Field(at)];
            match schema.tables[table].fields[at].layout {
                _ if of_key => Some(Target { table, rule: None }),
                Layout::Whole(rule) => Some(Target { table, rule: Some(rule) }),
                Layout::Parts(..) | Layout::Found(..) => None,
            }
        }),
    };
    if let Some(Target { table, rule: None }) = target
        && schema.tables[table].key.len() != parts.max(1)
    {
        let count = schema.tables[table].key.len();
        let message = match parts {
            _ if count == 0 => {
                let help = format!("give it one, or refer to one of its fields: \"{name}.FIELD\"");
                let message =
                    format!("the table `{name}` has no `key`, and nothing can refer to its records");
                return reader.problem(reference.span.clone(), message, help);
            }
            0 => format!("the key of `{name}` has {count} parts, and one value cannot name it"),
            _ => format!("the key of `{name}` has {count} parts, and `with` names {parts}"),
        };
        let help = format!(
            "write with = [...] with the fields that make up the key, and \"{{}}\" for this one; or refer to one of its fields: \"{name}.FIELD\""
        );
        return reader.problem(reference.span.clone(), message, help);
    }
    let ignores_case = schema.tables[reference.table].rules[reference.rule].ignore_case;
    if let (Some(Target { rule: Some(_), .. }), true) = (target, ignores_case) {
        let message = format!("`ignore_case` is for keys, and `{name}` is a field");
        let help = "leave it out, or refer to a table by its key";
        return reader.problem(reference.span.clone(), message, help);
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

/// What a rule says of other fields of its table, bound once all of them are known.
enum OtherFields {
    With(usize, Vec<Spanned<String>>),
    Switch(usize, Spanned<String>, Vec<(Vec<String>, usize)>),
}

struct TableBuilder<'b, 't> {
    others: Vec<OtherFields>,
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
        dependencies::check_table(self.reader, body);
        let shown: &str = name.get_ref();
        if shown.contains([':', '"', '.']) || shown.contains(char::is_whitespace) {
            let message = format!("`{shown}` cannot be the name of a table");
            self.reader.problem(name.span(), message, "addresses are written `table:key.field`, so a table's name has no blanks, dots, colons or quotes");
        }
        for needed in ["files", "format"] {
            if !body.contains_key(needed) {
                let about = keys::TABLE.iter().find(|doc| doc.name == needed).map_or("", |doc| doc.about);
                self.reader.problem(name.span(), format!("the table `{shown}` has no `{needed}`"), about);
            }
        }
        let files = self.files(body)?;
        let (format_name, format) = read_format(self.reader, body.get("format")?)?;
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
            byte_order_mark: self.byte_order_mark(body),
            encoding: self.encoding(body),
            merged: self.merged(body),
            replaces: self.replaces(body),
            first: self.first(body),
            repeated: self.reader.flag(body, "repeated").unwrap_or(false),
            ignore_case: self.reader.flag(body, "ignore_case").unwrap_or(false),
            texts: None,
            place: self.reader.place(name.span()),
        };
        if let Some(fields) = self.reader.table(body, "fields") {
            for (name, value) in fields {
                let span = name.span();
                for name in family(name.get_ref()) {
                    self.field(&mut table, &name, value, span.clone());
                }
            }
            for name in fields.keys() {
                for column in family(name.get_ref()) {
                    self.check_column(&table, &column, name.span());
                }
            }
        }
        self.bind_fields(&mut table);
        if body.contains_key("key") {
            self.key(&mut table, body)?;
        }
        if let Some(label) = self.reader.text(body, "label") {
            table.label = Some(self.field_named(&mut table, label.get_ref(), label.span()));
        }
        self.texts(&mut table, body, languages);
        if table.key.is_empty() {
            self.check_keyless(&table, body);
        }
        if let (Some(value), false) = (body.get("first"), table.counts_positions()) {
            let message = "`first` means nothing without `{position}` in the key";
            self.reader.problem(value.span(), message, "write key = \"{position}\", or remove `first`");
        }
        if let (Some(value), true, true) = (body.get("layering"), table.merged, table.counts_positions()) {
            let message =
                "records that are told apart by their position cannot count together over all layers";
            self.reader.problem(value.span(), message, "give the table another key, or leave `layering` out");
        }
        Some(table)
    }

    fn files(&mut self, body: &DeTable<'t>) -> Option<Vec<FilePattern>> {
        let mut out = Vec::new();
        for pattern in self.reader.texts(body, "files")? {
            match FilePattern::parse(pattern.get_ref()) {
                Ok(parsed) => out.push(parsed),
                Err(error) => self.reader.problem(pattern.span(), error.message, error.help),
            }
        }
        (!out.is_empty()).then_some(out)
    }

    fn merged(&mut self, body: &DeTable<'t>) -> bool {
        let Some(layering) = self.reader.text(body, "layering") else { return false };
        match layering.get_ref().as_str() {
            "merge" => true,
            "replace" => false,
            other => {
                let message = format!("`layering` cannot be \"{other}\"");
                self.reader.problem(layering.span(), message, "it is \"replace\" or \"merge\"");
                false
            }
        }
    }

    fn first(&mut self, body: &DeTable<'t>) -> u32 {
        let Some(value) = body.get("first") else { return 1 };
        match value.get_ref().as_integer().map(|number| number.as_str()) {
            Some("0") => 0,
            Some("1") => 1,
            _ => {
                self.reader.wrong_kind(value, "first", "1 or 0");
                1
            }
        }
    }

    /// What needs records with a key of their own.
    fn check_keyless(&mut self, table: &Table, body: &DeTable<'t>) {
        for (setting, wanted) in [("texts", table.texts.is_some()), ("layering", table.merged)] {
            if let Some(value) = body.get(setting).filter(|_| wanted) {
                let message = format!("the table `{}` has `{setting}` and no `key`", table.name);
                self.reader.problem(value.span(), message, "say what names a record: key = \"FIELD\"");
            }
        }
    }

    fn replaces(&mut self, body: &DeTable<'t>) -> Option<Regex> {
        let given = self.reader.text(body, "replaces")?;
        let regex = regex::RegexBuilder::new(given.get_ref()).multi_line(true).build().ok();
        if regex.is_none() {
            let message = format!("`{}` {}", shortened(given.get_ref()), why_not_regex(given.get_ref()));
            self.reader.problem(given.span(), message, "a line that is just a mark is \"^; replace$\"");
        }
        regex
    }

    fn byte_order_mark(&mut self, body: &DeTable<'t>) -> Option<bool> {
        let given = self.reader.text(body, "byte_order_mark")?;
        match given.get_ref().as_str() {
            "required" => Some(true),
            "forbidden" => Some(false),
            other => {
                let message = format!("`byte_order_mark` cannot be \"{other}\"");
                self.reader.problem(given.span(), message, "it is \"required\" or \"forbidden\"");
                None
            }
        }
    }

    /// The texts of a table whose records say themselves what language they are in.
    fn texts_by_record(
        &mut self,
        table: &mut Table,
        body: &DeTable<'t>,
        text: &str,
        span: Range<usize>,
        languages: &[String],
    ) -> Option<Texts> {
        let field = self.reader.text(body, "language")?;
        let text = self.field_named(table, text, span);
        let language = self.field_named(table, field.get_ref(), field.span());
        let mut names: Vec<(String, usize)> = Vec::new();
        match self.reader.table(body, "languages") {
            None => names.extend(languages.iter().cloned().zip(0..)),
            Some(given) => {
                for (name, code) in given {
                    let found =
                        code.get_ref().as_str().and_then(|code| languages.iter().position(|own| own == code));
                    match found {
                        Some(found) => names.push((name.get_ref().to_string(), found)),
                        None => {
                            let help = format!(
                                "the project's languages are {}",
                                list(languages.iter().map(String::as_str))
                            );
                            self.reader.problem(code.span(), "the project has no such language", help);
                        }
                    }
                }
            }
        }
        Some(Texts::Record { text, language, names })
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

    /// The position of the part `name` of the paths of the table's files, if they have it.
    fn path_part(&mut self, table: &Table, name: &str, span: Range<usize>) -> Option<usize> {
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

    fn path_part_in_braces(&mut self, table: &Table, name: &str, span: Range<usize>) -> Option<usize> {
        let inner = name.strip_prefix('{')?.strip_suffix('}')?;
        self.path_part(table, inner, span)
    }

    /// A key that is written as one text is names in braces with `/` between them, and nothing else.
    fn check_key_template(&mut self, template: &Template, span: Range<usize>) {
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

    fn texts(&mut self, table: &mut Table, body: &DeTable<'t>, languages: &[String]) {
        let Some(value) = body.get("texts") else { return };
        let per_file = table.files.iter().any(|pattern| pattern.has_language());
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
        if let [(None, text)] = &by_language[..]
            && let Some(texts) = self.texts_by_record(table, body, text, value.span(), languages)
        {
            table.texts = Some(texts);
            return;
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
        self.check_column(table, name, span.clone());
        let at = table.add_plain_field(name);
        table.fields[at].place = Some(Box::new(self.reader.place(span)));
        at
    }

    fn check_column(&mut self, table: &Table, name: &str, span: Range<usize>) {
        if let Err(message) = table.format.check_column(name) {
            self.reader.problem(span, message, "");
        }
    }

    fn field(&mut self, table: &mut Table, name: &str, value: &Value<'t>, span: Range<usize>) {
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
        let find = self.find(body);
        let known = [keys::FIELD, keys::RULE].concat();
        let groups = find.iter().flat_map(|regex| regex.capture_names().flatten()).map(str::to_owned);
        let names: Vec<String> =
            parts.iter().flat_map(|parts| parts.parts().to_vec()).chain(groups).collect();
        self.reader.check_keys(body, &known, |key: &str| names.iter().any(|name| name == key));
        dependencies::check_field(self.reader, body);
        let mut field = Field::plain(name, table.rules.len());
        field.place = Some(Box::new(self.reader.place(span)));
        match (parts, find) {
            (None, None) => {
                self.rules(table, index, None, body);
            }
            (Some(parts), _) => {
                let rules =
                    parts.parts().iter().map(|part| self.part_rules(table, index, part, body)).collect();
                field.layout = Layout::Parts(parts, rules);
            }
            (None, Some(regex)) => {
                let named =
                    regex.capture_names().enumerate().filter_map(|(at, name)| Some((at, name?.to_owned())));
                let named: Vec<(usize, String)> = named.collect();
                let groups =
                    named.iter().map(|(at, name)| (*at, self.part_rules(table, index, name, body))).collect();
                field.layout = Layout::Found(regex, groups);
            }
        }
        if !matches!(field.layout, Layout::Whole(_)) {
            // What stands for nothing stands for the whole value, before it is taken apart.
            let none = self.reader.texts(body, "none").map(plain).unwrap_or_default();
            let none_pattern = self.pattern(body, "none_pattern");
            let nothing = Rule { none, none_pattern, ..Rule::default() };
            let first = field.layout.rules()[0];
            for rule in std::iter::once(first).chain(table.rules[first].also.clone()) {
                table.rules[rule].share_none(&nothing);
            }
        }
        field.about = self.reader.text(body, "about").map(Spanned::into_inner);
        field.unit = self.reader.text(body, "unit").map(Spanned::into_inner);
        field.inherit = self.reader.flag(body, "inherit").unwrap_or(false);
        field.note = self.reader.flag(body, "note").unwrap_or(false);
        field.optional = self.reader.flag(body, "optional").unwrap_or(false);
        field.counted = self.reader.flag(body, "counted").unwrap_or(false);
        field.list = self.list(body);
        if let Some(follows) = self.reader.text(body, "follows") {
            let parsed = name_template(self.reader, follows.span(), follows.get_ref());
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

    /// How the items of a list are told apart.
    fn list(&mut self, body: &DeTable<'t>) -> Option<List> {
        let quoted = self.reader.flag(body, "quoted").unwrap_or(false);
        let value = body.get("list")?;
        let is_text = |value: &Value<'_>| value.get_ref().as_str().is_some();
        if !is_text(value) && !value.get_ref().as_array().is_some_and(|items| items.iter().all(is_text)) {
            self.reader.wrong_kind(value, "list", "text in quotes, or several such texts");
            return None;
        }
        let given = self.reader.texts(body, "list")?;
        let at_fault =
            given.iter().find(|own| own.get_ref().is_empty() || (quoted && own.get_ref().contains('"')));
        let at_fault = at_fault.map(|own| (own.span(), own.get_ref().is_empty()));
        let span = body.get("list").map_or(0..0, Value::span);
        let wrong = match at_fault {
            None if given.is_empty() => Some((span, true)),
            fault => fault,
        };
        match wrong {
            Some((span, true)) => {
                self.reader.problem(
                    span,
                    "`list` must say what separates the items",
                    "for example list = \";\"",
                );
                None
            }
            Some((span, false)) => {
                let message = "a quote cannot separate items that stand in quotes";
                self.reader.problem(span, message, "write another separator, or leave `quoted` out");
                None
            }
            None => Some(List { separators: plain(given), quoted }),
        }
    }

    /// The expression that finds parts in a longer text.
    fn find(&mut self, body: &DeTable<'t>) -> Option<Regex> {
        let given = self.reader.text(body, "find")?;
        let regex = match Regex::new(given.get_ref()) {
            Ok(regex) => regex,
            Err(error) => {
                let message = format!("`{}` {}", shortened(given.get_ref()), why_not_regex(given.get_ref()));
                let why = error.to_string();
                let why = why.lines().last().unwrap_or_default().trim().to_owned();
                self.reader.problem(given.span(), message, why);
                return None;
            }
        };
        if regex.capture_names().flatten().next().is_none() {
            let message = "the expression has no named group";
            self.reader.problem(given.span(), message, "name what it finds: 'open (?<lock>\\w+)'");
            return None;
        }
        Some(regex)
    }

    /// Adds the rule of a part of a value, which has its settings under its name; gives its position.
    fn part_rules(&mut self, table: &mut Table, field: usize, part: &str, body: &DeTable<'t>) -> usize {
        match self.reader.table(body, part) {
            Some(body) => {
                self.reader.check_keys(body, keys::RULE, |_| false);
                self.rules(table, field, Some(part.to_owned()), body)
            }
            None => {
                table.rules.push(Rule { field, part: Some(part.to_owned()), ..Rule::default() });
                table.rules.len() - 1
            }
        }
    }

    /// Adds the rule of a value or a part of one, and those that hold in its place where another field
    /// says so; gives the position of the first.
    fn rules(&mut self, table: &mut Table, field: usize, part: Option<String>, body: &DeTable<'t>) -> usize {
        let at = table.rules.len();
        let by = self.reader.text(body, "by");
        let when = self.reader.table(body, "when").map(|when| when.iter().collect::<Vec<_>>());
        let tables = body.get("ref").and_then(|value| value.get_ref().as_table());
        let rule = self.rule(at, field, part.clone(), body);
        let mut bare = Rule { field, part: part.clone(), ..Rule::default() };
        bare.share_none(&rule);
        match (when, by, tables) {
            (Some(when), ..) => {
                let [(name, value)] = when[..] else {
                    let span = body.get("when").map_or(0..0, Value::span);
                    self.reader.problem(
                        span,
                        "`when` must name one field",
                        "for example when = { Kind = \"gate\" }",
                    );
                    table.rules.push(rule);
                    return at;
                };
                let wanted = texts_of(value);
                table.rules.push(bare);
                // What was read for the first position is meant for the second.
                for reference in self.unbound.iter_mut().filter(|own| own.table == self.id && own.rule == at)
                {
                    reference.rule = at + 1;
                }
                for other in &mut self.others {
                    if let OtherFields::With(rule, _) = other
                        && *rule == at
                    {
                        *rule = at + 1;
                    }
                }
                table.rules.push(rule);
                let name = Spanned::new(name.span(), name.get_ref().to_string());
                self.others.push(OtherFields::Switch(at, name, vec![(wanted, at + 1)]));
            }
            (None, Some(by), Some(tables)) => {
                table.rules.push(rule);
                let mut cases = Vec::new();
                for value in tables.keys() {
                    let rule = table.rules.len();
                    for name in self.reader.texts(tables, value.get_ref()).unwrap_or_default() {
                        self.unbound.push(Unbound {
                            table: self.id,
                            rule,
                            file: self.file,
                            span: name.span(),
                            name: name.into_inner(),
                        });
                    }
                    cases.push((vec![value.get_ref().to_string()], rule));
                    let base = table.rules[at].clone();
                    table.rules.push(base);
                }
                self.others.push(OtherFields::Switch(at, by, cases));
            }
            (None, Some(by), None) => {
                let message = "`by` chooses between tables, and `ref` does not give a table for each value";
                self.reader.problem(
                    by.span(),
                    message,
                    "write ref = { crew = \"crews\", barge = \"barges\" }",
                );
                table.rules.push(rule);
            }
            (None, None, Some(_)) => {
                let span = body.get("ref").map_or(0..0, Value::span);
                let message =
                    "`ref` gives a table for each value of another field, and `by` does not name it";
                self.reader.problem(span, message, "write by = \"FIELD\"");
                table.rules.push(rule);
            }
            _ => table.rules.push(rule),
        }
        self.also(table, at, body);
        at
    }

    /// Adds the further rules for the value of the rule at position `at`.
    fn also(&mut self, table: &mut Table, at: usize, body: &DeTable<'t>) {
        let Some(given) = body.get("also") else { return };
        let bodies: Vec<&Value<'t>> = match given.get_ref() {
            DeValue::Array(items) => items.iter().collect(),
            _ => vec![given],
        };
        for value in bodies {
            let Some(body) = value.get_ref().as_table() else {
                self.reader.wrong_kind(value, "also", "a table such as { ref = \"guilds\" }, or several");
                continue;
            };
            self.reader.check_keys(body, keys::RULE, |_| false);
            if let Some(nested) = body.get("also") {
                self.reader.problem(
                    nested.span(),
                    "a rule in `also` has none of its own",
                    "put it into the list: also = [{ ref = \"a\" }, { ref = \"b\" }]",
                );
                continue;
            }
            let (field, part) = (table.rules[at].field, table.rules[at].part.clone());
            let more = self.rules(table, field, part, body);
            let first = table.rules[at].clone();
            table.rules[more].share_none(&first);
            table.rules[at].also.push(more);
        }
    }

    /// Finds the fields that rules speak of.
    fn bind_fields(&mut self, table: &mut Table) {
        for other in std::mem::take(&mut self.others) {
            match other {
                OtherFields::With(rule, names) => {
                    let parts = names.into_iter().map(|name| match name.get_ref().as_str() {
                        "{}" => None,
                        "{stem}" => Some(KeyPart::Stem),
                        "{file}" => Some(KeyPart::FileName),
                        "{path}" => Some(KeyPart::Path),
                        "{position}" => Some(KeyPart::Position),
                        other if let Some(at) = self.path_part_in_braces(table, other, name.span()) => {
                            Some(KeyPart::PathPart(at))
                        }
                        other => Some(KeyPart::Field(self.field_named(table, other, name.span()))),
                    });
                    let parts: Vec<Option<KeyPart>> = parts.collect();
                    table.rules[rule].with = parts;
                }
                OtherFields::Switch(rule, name, cases) => {
                    let field = self.field_named(table, name.get_ref(), name.span());
                    table.rules[rule].switch = Some(Switch { field, cases });
                }
            }
        }
    }

    /// A regular expression that whole values are compared with.
    fn pattern(&mut self, body: &DeTable<'t>, name: &str) -> Option<Pattern> {
        let given = self.reader.text(body, name)?;
        let pattern = Pattern::new(given.get_ref());
        if pattern.is_none() {
            let message = format!("`{}` {}", shortened(given.get_ref()), why_not_regex(given.get_ref()));
            self.reader.problem(given.span(), message, "a plain identifier is \"[a-z][a-z0-9_]*\"");
        }
        pattern
    }

    fn rule(&mut self, at: usize, field: usize, part: Option<String>, body: &DeTable<'t>) -> Rule {
        let (pattern, none_pattern) = (self.pattern(body, "pattern"), self.pattern(body, "none_pattern"));
        let reader = &mut *self.reader;
        dependencies::check_rule(reader, body);
        let mut rule = Rule { field, part, pattern, none_pattern, ..Rule::default() };
        if let Some(value) = body.get("as") {
            match value.get_ref().as_str() {
                Some(text) => rule.shape = one_part(reader, value, text),
                None => reader.wrong_kind(value, "as", "a template such as \"_{}\""),
            }
        }
        if let Some(with) = reader.texts(body, "with") {
            if with.iter().filter(|name| name.get_ref() == "{}").count() != 1 {
                let span = body.get("with").map_or(0..0, Value::span);
                reader.problem(
                    span,
                    "`with` must have one \"{}\", which stands for the value",
                    "for example with = [\"Reach\", \"{}\"]",
                );
            }
            self.others.push(OtherFields::With(at, with));
        }
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
        rule.ignore_case = reader.flag(body, "ignore_case").unwrap_or(false);
        rule.choice = reader.texts(body, "choice").map(plain).unwrap_or_default();
        rule.unique = reader.flag(body, "unique").unwrap_or(false);
        rule.required = reader.flag(body, "required").unwrap_or(false);
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
                Some(text) => rule.file = path_template(reader, value, text),
                None => reader.wrong_kind(value, "file", "a template such as \"layouts/{}.json\""),
            }
        }
        let tables = body.get("ref").is_some_and(|value| value.get_ref().as_table().is_some());
        let names = if tables { None } else { reader.texts(body, "ref") };
        for name in names.unwrap_or_default() {
            self.unbound.push(Unbound {
                table: self.id,
                rule: at,
                file: self.file,
                span: name.span(),
                name: name.into_inner(),
            });
        }
        rule
    }
}

/// The names that a name with a range in it stands for: `Gate{1..4}` is `Gate1` to `Gate4`.
fn family(name: &str) -> Vec<String> {
    const MOST: usize = 1000;
    let parsed = || {
        let (before, rest) = name.split_once('{')?;
        let (range, after) = rest.split_once('}')?;
        let (first, last) = range.split_once("..")?;
        let (from, to): (usize, usize) = (first.parse().ok()?, last.parse().ok()?);
        let width = if first.starts_with('0') { first.len() } else { 1 };
        (from <= to && to - from < MOST)
            .then(|| (from..=to).map(|number| format!("{before}{number:0width$}{after}")).collect())
    };
    parsed().unwrap_or_else(|| vec![name.to_owned()])
}

/// A text, or a list of texts; numbers count as texts.
fn texts_of(value: &Value<'_>) -> Vec<String> {
    let text = |value: &Value<'_>| match value.get_ref() {
        DeValue::String(text) => Some(text.to_string()),
        DeValue::Integer(number) => Some(number.to_string()),
        DeValue::Boolean(flag) => Some(flag.to_string()),
        _ => None,
    };
    match value.get_ref() {
        DeValue::Array(items) => items.iter().filter_map(text).collect(),
        _ => text(value).into_iter().collect(),
    }
}

/// A template with exactly the one nameless part.
fn one_part(reader: &mut TomlReader<'_>, value: &Value<'_>, text: &str) -> Option<Template> {
    let parsed = name_template(reader, value.span(), text)?;
    if parsed.parts() == [""] {
        return Some(parsed);
    }
    let help = match (parsed.parts(), parsed.changes_case()) {
        ([_], true) => "the value has no name here: {|upper}, {|lower} or {|title}",
        _ => "",
    };
    reader.problem(value.span(), format!("`{text}` must have one `{{}}`, where the value goes"), help);
    None
}

/// A template of a path from a layer's root, with one part.
fn path_template(reader: &mut TomlReader<'_>, value: &Value<'_>, text: &str) -> Option<Template> {
    let template = one_part(reader, value, &text.replace('\\', "/"))?;
    if let Err(error) = RelPath::parse(&template.fill_one("x")) {
        reader.problem(value.span(), error.to_string(), "paths begin at a layer's root: \"art/{}.png\"");
    }
    Some(template)
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

fn list<'n>(names: impl Iterator<Item = &'n str>) -> String {
    let names: Vec<String> = names.map(|name| format!("`{name}`")).collect();
    if names.is_empty() { "not described yet".to_owned() } else { names.join(", ") }
}

/// The beginning of a text that may be very long.
fn shortened(text: &str) -> String {
    const SHOWN: usize = 80;
    match text.char_indices().nth(SHOWN) {
        Some((end, _)) => format!("{}...", &text[..end]),
        None => text.to_owned(),
    }
}
