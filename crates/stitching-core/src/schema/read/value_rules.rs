//! Reading the rules of a value.

use super::{OtherFields, TableBuilder, Unbound, keys};
use crate::expressions::{Expression, WHOLE};
use crate::layers::RelPath;
use crate::schema::field::{OnRemove, ValueRule, ValueType};
use crate::schema::pattern::why_not_regex;
use crate::schema::table::{KeyPart, Table};
use crate::schema::{Beside, Condition, FileTemplate, NamedBy, Pattern, Switch, dependencies};
use crate::settings::{TomlReader, Value, name_template, plain, shortened};
use crate::text::{Template, nearest_of};
use std::ops::Range;
use std::sync::Arc;
use toml::Spanned;
use toml::de::{DeTable, DeValue};

impl<'t> TableBuilder<'_, 't> {
    /// Adds the rule of a value or a part of one, and those that hold in its place where another field
    /// says so; gives the position of the first.
    pub(super) fn rules(
        &mut self,
        table: &mut Table,
        field: usize,
        part: Option<String>,
        body: &DeTable<'t>,
    ) -> usize {
        let at = table.rules.len();
        let by = self.reader.text(body, "by");
        let when = body.get("when");
        let tables = body.get("ref").and_then(|value| value.get_ref().as_table());
        let rule = self.rule(at, field, part.clone(), body);
        let mut bare = ValueRule { field, part: part.clone(), ..ValueRule::default() };
        bare.share_none(&rule);
        match (when, by, tables) {
            (Some(when), Some(_), _) => {
                let message = "`when` and `by` cannot both say which rule holds";
                self.reader.problem(when.span(), message, "put one of them into `also`");
                table.rules.push(rule);
            }
            (Some(when), None, _) => {
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
                let own = self.when(at, when);
                self.others.extend(own);
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

    /// What must hold for the rule behind the one at position `at`.
    fn when(&mut self, at: usize, when: &Value<'t>) -> Option<OtherFields> {
        match when.get_ref() {
            DeValue::String(source) => match Expression::parse(source) {
                Ok(expression) if expression.asks_beyond() => {
                    let message =
                        "the condition of a rule speaks of the record alone, and not of other tables";
                    self.reader.problem(when.span(), message, "name fields of the record only");
                    None
                }
                Ok(expression) => Some(OtherFields::Condition(at, when.span(), expression)),
                Err(error) => {
                    let help = "write a condition such as \"Kind == 'gate' && Depth > 5\"";
                    self.reader.problem(when.span(), error.to_string(), help);
                    None
                }
            },
            DeValue::Table(fields) if fields.len() == 1 => {
                let (name, value) = fields.iter().next()?;
                let name = Spanned::new(name.span(), name.get_ref().to_string());
                Some(OtherFields::Switch(at, name, vec![(texts_of(value), at + 1)]))
            }
            DeValue::Table(_) => {
                let help = "for example when = { Kind = \"gate\" }, or a condition: when = \"Kind == 'gate' && Depth > 5\"";
                self.reader.problem(when.span(), "`when` must name one field", help);
                None
            }
            _ => {
                self.reader.wrong_kind(when, "when", "a table such as { Kind = \"gate\" }, or a condition");
                None
            }
        }
    }

    /// Adds the further rules for the value of the rule at position `at`.
    pub(super) fn also(&mut self, table: &mut Table, at: usize, body: &DeTable<'t>) {
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
    pub(super) fn bind_fields(&mut self, table: &mut Table) {
        for other in std::mem::take(&mut self.others) {
            match other {
                OtherFields::With(rule, names) => {
                    let parts = names.into_iter().map(|name| match name.get_ref().as_str() {
                        "{}" => NamedBy::Value,
                        own @ "{position}" => {
                            self.refuse_beside_path(table, rule, own, name.span());
                            NamedBy::Record(KeyPart::Position)
                        }
                        other => match self.of_path(table, other, name.span()) {
                            Some(part) => NamedBy::Record(part),
                            None => {
                                self.refuse_beside_path(table, rule, other, name.span());
                                self.beside(table, rule, other, name.span()).into()
                            }
                        },
                    });
                    let parts: Vec<NamedBy> = parts.collect();
                    table.rules[rule].with = parts;
                }
                OtherFields::File(rule, span, template) => {
                    let parts = template.parts().iter();
                    let mut of_name = |name: &String| {
                        let part = self.part_of_path(table, rule, name, span.clone());
                        if matches!(part, NamedBy::Record(KeyPart::Field(_))) {
                            self.refuse_beside_path(table, rule, name, span.clone());
                        }
                        part
                    };
                    let parts = parts.map(&mut of_name).collect();
                    table.rules[rule].file = Some(FileTemplate::new(template, parts));
                }
                OtherFields::Switch(rule, name, cases) => {
                    let by = self.beside(table, rule, name.get_ref(), name.span());
                    // The parts of the key are the same in all cases.
                    for (_, case) in &cases {
                        if table.rules[*case].with.is_empty() {
                            table.rules[*case].with = table.rules[rule].with.clone();
                        }
                    }
                    table.rules[rule].switch = Some(Switch::ByValue { by, cases });
                }
                OtherFields::Condition(rule, span, expression) => {
                    let names = expression.names().to_vec();
                    let has_row = table.field(WHOLE).is_some();
                    if names.iter().any(|name| name == WHOLE) && !has_row {
                        let message = format!("`{WHOLE}` without a field means nothing here");
                        self.reader.problem(span, message, "name the fields: row[\"a name\"]");
                        continue;
                    }
                    let value = |name: &String| {
                        // `row.Depth` is `Depth`, unless a field is called `row`.
                        let own = name.strip_prefix(WHOLE).and_then(|rest| rest.strip_prefix('.'));
                        let name = own.filter(|_| !has_row).unwrap_or(name);
                        self.beside(table, rule, name, span.clone())
                    };
                    let values = names.iter().map(value).collect();
                    let condition = Arc::new(Condition { expression, values });
                    table.rules[rule].switch = Some(Switch::Where { condition, rule: rule + 1 });
                }
            }
        }
    }

    /// What `name` stands for in the rule at this position: another part of the same value, or else a field, which is added
    /// if it is not described.
    fn beside(&mut self, table: &mut Table, rule: usize, name: &str, span: Range<usize>) -> Beside {
        let own = &table.rules[rule];
        let layout = &table.fields[own.field].layout;
        let part = layout.rules().into_iter().find(|part| table.rules[*part].part.as_deref() == Some(name));
        match part.filter(|_| own.part.as_deref().is_some_and(|own| own != name)) {
            Some(part) => Beside::Part(part),
            None => Beside::Field(self.field_named(table, name, span)),
        }
    }

    /// Refuses that a rule for a part of the path asks for `name`, which each record has for itself.
    fn refuse_beside_path(&mut self, table: &Table, rule: usize, name: &str, span: Range<usize>) {
        let field = &table.fields[table.rules[rule].field];
        if field.of_path.is_some() {
            let message = format!(
                "`{}` stands in the path of the file, and `{name}` in each of its records: they do not go together",
                field.name
            );
            self.reader.problem(span, message, "name parts of the path only");
        }
    }

    /// What the part `name` of a path stands for that the rule at this position makes.
    fn part_of_path(&mut self, table: &mut Table, rule: usize, name: &str, span: Range<usize>) -> NamedBy {
        // A field or a part that is called so goes before what is known of the file.
        let is_known = table.field(name).is_some() || table.format.has_part(name);
        match name {
            "" => NamedBy::Value,
            _ if is_known => self.beside(table, rule, name, span).into(),
            "folder" => NamedBy::Folder,
            "stem" => NamedBy::Record(KeyPart::Stem),
            "file" => NamedBy::Record(KeyPart::FileName),
            "path" => NamedBy::Record(KeyPart::Path),
            _ => match self.path_part(table, name, span.clone()) {
                Some(part) => NamedBy::Record(KeyPart::PathPart(part)),
                None => self.beside(table, rule, name, span).into(),
            },
        }
    }

    /// A regular expression that whole values are compared with.
    pub(super) fn pattern(&mut self, body: &DeTable<'t>, name: &str) -> Option<Pattern> {
        let given = self.reader.text(body, name)?;
        let pattern = Pattern::new(given.get_ref());
        if pattern.is_none() {
            let message = format!("`{}` {}", shortened(given.get_ref()), why_not_regex(given.get_ref()));
            self.reader.problem(given.span(), message, "a plain identifier is \"[a-z][a-z0-9_]*\"");
        }
        pattern
    }

    pub(super) fn rule(
        &mut self,
        at: usize,
        field: usize,
        part: Option<String>,
        body: &DeTable<'t>,
    ) -> ValueRule {
        let (pattern, none_pattern) =
            (self.pattern(body, "pattern"), self.pattern(body, "none_pattern").map(Box::new));
        let reader = &mut *self.reader;
        dependencies::check_rule(reader, body);
        let mut rule = ValueRule { field, part, pattern, none_pattern, ..ValueRule::default() };
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
        if let Some(value) = body.get("longest") {
            rule.longest = value.get_ref().as_integer().and_then(|own| own.as_str().parse().ok());
            if rule.longest.is_none_or(|longest| longest == 0) {
                reader.wrong_kind(value, "longest", "the number of characters at most, as 24");
            }
        }
        rule.unique = reader.flag(body, "unique").unwrap_or(false);
        rule.required = reader.flag(body, "required").unwrap_or(false);
        rule.owner = reader.flag(body, "owner").unwrap_or(false);
        if let Some(given) = reader.text(body, "on_remove") {
            match OnRemove::NAMES.iter().find(|(name, _)| name == given.get_ref()) {
                Some((_, what)) => rule.on_remove = *what,
                None => {
                    let names = OnRemove::NAMES.map(|(name, _)| name);
                    let near = nearest_of(given.get_ref(), names);
                    let help = near.first().map_or(format!("it is one of {}", names.join(", ")), |near| {
                        format!("did you mean `{near}`?")
                    });
                    let message = format!("`on_remove` cannot be \"{}\"", given.get_ref());
                    reader.problem(given.span(), message, help);
                }
            }
        }
        if let Some(value) = body.get("range") {
            rule.range = range(value);
            if rule.range.is_none() {
                reader.wrong_kind(value, "range", "the lowest and the highest number, as [0, 63]");
            }
        }
        if let Some(value) = body.get("flags") {
            rule.flags = flags(value).unwrap_or_default();
            if rule.flags.is_empty() {
                reader.wrong_kind(value, "flags", "whole numbers from 1 to 2^53, as [1, 2, 4]");
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
                Some(text) => {
                    let template = path_template(reader, value, text);
                    self.others
                        .extend(template.map(|template| OtherFields::File(at, value.span(), template)));
                }
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

/// A template of a path from a layer's root, with one part for the value.
fn path_template(reader: &mut TomlReader<'_>, value: &Value<'_>, text: &str) -> Option<Template> {
    let text = text.replace('\\', "/");
    let template = name_template(reader, value.span(), &text)?;
    if !template.parts().iter().any(String::is_empty) {
        let help = match template.changes_case() {
            true => "the value has no name here: {|upper}, {|lower} or {|title}",
            false => {
                "the parts with names are fields, or `{folder}`, `{stem}` and parts of the path of the record's file"
            }
        };
        let message = format!("`{text}` must have one `{{}}`, where the value goes");
        reader.problem(value.span(), message, help);
        return None;
    }
    if let Err(error) = RelPath::parse(&template.fill_one("x")) {
        reader.problem(value.span(), error.to_string(), "paths begin at a layer's root: \"art/{}.png\"");
    }
    Some(template)
}

/// The largest whole number up to which all are kept exactly.
const LARGEST_FLAG: u64 = 1 << 53;

fn flags(value: &Value<'_>) -> Option<Vec<u64>> {
    let flag = |value: &Value<'_>| {
        let number = value.get_ref().as_integer()?;
        // Larger numbers are not told apart.
        let flag = u64::from_str_radix(number.as_str(), number.radix()).ok();
        flag.filter(|flag| (1..=LARGEST_FLAG).contains(flag))
    };
    value.get_ref().as_array()?.iter().map(flag).collect()
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
