//! Reading the description of a field.

use super::{TableBuilder, keys};
use crate::schema::field::{Field, Layout, ValueRule};
use crate::schema::pattern::why_not_regex;
use crate::schema::table::Table;
use crate::schema::{List, dependencies};
use crate::settings::{Value, name_template, plain, shortened, template};
use regex::Regex;
use std::ops::Range;
use toml::Spanned;
use toml::de::DeTable;

impl<'t> TableBuilder<'_, 't> {
    /// The position of the field `name`, which is added without rules if it is not described.
    pub(super) fn field_named(&mut self, table: &mut Table, name: &str, span: Range<usize>) -> usize {
        if let Some(field) = table.field(name).or_else(|| table.field_at(name)) {
            return field;
        }
        let of_path = self.of_path(table, name, span.clone());
        if of_path.is_none() {
            self.check_column(table, name, span.clone());
        }
        let at = table.add_plain_field(name);
        table.fields[at].of_path = of_path;
        table.fields[at].place = Some(Box::new(self.reader.place(span)));
        at
    }

    /// The columns that a field, or each of a family of them, stands for: for each those of which the first that is there
    /// counts.
    pub(super) fn columns_of(&mut self, names: &[String], value: &Value<'t>) -> Vec<Vec<Spanned<String>>> {
        let body = value.get_ref().as_table();
        let is_text = |value: &Value<'t>| value.get_ref().as_str().is_some();
        let at = body.and_then(|body| body.get("at"));
        if let Some(at) = at
            .filter(|at| !is_text(at) && !at.get_ref().as_array().is_some_and(|all| all.iter().all(is_text)))
        {
            self.reader.wrong_kind(at, "at", "text in quotes, or several such texts");
            return Vec::new();
        }
        let given = body.and_then(|body| self.reader.texts(body, "at")).unwrap_or_default();
        let at = match (given.as_slice(), names.len()) {
            ([], _) => return names.iter().map(|name| vec![Spanned::new(0..0, name.clone())]).collect(),
            ([at], _) => at.clone(),
            (_, 1) => return vec![given],
            ([first, ..], _) => {
                let message = "several columns of which the first that is there counts are for one field";
                self.reader.problem(first.span(), message, "describe the fields one by one");
                return Vec::new();
            }
        };
        let columns = match names.len() {
            1 => vec![at.get_ref().clone()],
            _ => family(at.get_ref()),
        };
        if columns.len() != names.len() {
            let message = format!("`at` gives {} of the {} columns", columns.len(), names.len());
            self.reader.problem(at.span(), message, "write a range as in the name: at = \"gate{1..4}/@ref\"");
            return Vec::new();
        }
        columns.into_iter().map(|column| vec![Spanned::new(at.span(), column)]).collect()
    }

    pub(super) fn check_column(&mut self, table: &Table, name: &str, span: Range<usize>) {
        if let Err(message) = table.format.check_column(name) {
            self.reader.problem(span, message, "");
        }
    }

    pub(super) fn field(
        &mut self,
        table: &mut Table,
        name: &str,
        columns: Vec<Spanned<String>>,
        value: &Value<'t>,
        span: Range<usize>,
    ) {
        let index = table.fields.len();
        let of_path = self.of_path(table, name, span.clone());
        if let (Some(_), Some(body)) = (of_path, value.get_ref().as_table()) {
            dependencies::check_path_field(self.reader, name, body);
        }
        let mut names: Vec<String> = Vec::new();
        for column in columns {
            let place = if column.span().is_empty() { span.clone() } else { column.span() };
            let column = column.into_inner();
            let other = table.field_at(&column).map(|other| table.fields[other].name.as_str());
            if let Some(other) = other.or_else(|| names.contains(&column).then_some(name)) {
                let message = format!("`{name}` and `{other}` stand for the same column");
                let help = "describe it once; several rules for one value go into `also`";
                self.reader.problem(place.clone(), message, help);
            }
            if of_path.is_none() {
                self.check_column(table, &column, place);
            }
            names.push(column);
        }
        let column = if names.is_empty() { name.to_owned() } else { names.remove(0) };
        let alternatives = names;
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
        field.column = column;
        field.alternatives = alternatives;
        field.of_path = of_path;
        field.place = Some(Box::new(self.reader.place(span)));
        match (parts, find) {
            (None, None) => {
                self.rules(table, index, None, body);
            }
            (Some(parts), _) => {
                let rules =
                    parts.parts().iter().map(|part| self.part_rules(table, index, part, body)).collect();
                field.layout = Layout::Parts(Box::new(parts), rules);
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
            let none_pattern = self.pattern(body, "none_pattern").map(Box::new);
            let nothing = ValueRule { none, none_pattern, ..ValueRule::default() };
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
    pub(super) fn list(&mut self, body: &DeTable<'t>) -> Option<List> {
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
    pub(super) fn find(&mut self, body: &DeTable<'t>) -> Option<Regex> {
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
    pub(super) fn part_rules(
        &mut self,
        table: &mut Table,
        field: usize,
        part: &str,
        body: &DeTable<'t>,
    ) -> usize {
        match self.reader.table(body, part) {
            Some(body) => {
                self.reader.check_keys(body, keys::RULE, |_| false);
                self.rules(table, field, Some(part.to_owned()), body)
            }
            None => {
                table.rules.push(ValueRule { field, part: Some(part.to_owned()), ..ValueRule::default() });
                table.rules.len() - 1
            }
        }
    }
}

/// The names that a name with a range in it stands for: `Gate{1..4}` is `Gate1` to `Gate4`.
pub(super) fn family(name: &str) -> Vec<String> {
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
