//! Running a recipe: its steps, one after another, as one change.

use super::add::AddRequest;
use super::change::Change;
use super::copy::{CopyRequest, CopySource, Join, Lacking};
use super::named::find_named;
use super::record_place::RecordPlace;
use super::remove::RemoveRequest;
use super::renumber::Renumbering;
use super::sequence::Sequence;
use super::set::SetRequest;
use super::step::{Step, is_folder};
use crate::error::{Error, Refusal};
use crate::expressions::Value;
use crate::links::{Address, Labels, resolve};
use crate::project::Project;
use crate::rows::{Formula, Others, evaluate_alone};
use crate::schema::{EachValues, Parameter, ParameterKind, Recipe, RecipeAction, RecipeStep};
use crate::text::{LetterCase, nearest_of, number};
use std::collections::BTreeMap;

/// A step is not repeated more often than this.
const MOST_REPEATS: usize = 100_000;

/// The recipe called `name`.
///
/// # Errors
/// When there is none, with the nearest name.
pub fn find_recipe<'p>(project: &'p Project, name: &str) -> Result<&'p Recipe, Error> {
    find_named(&project.schema.recipes, "recipe", name, |recipe| &recipe.name)
}

/// The value of a parameter: as it is given, if it can be one.
///
/// # Errors
/// When it is no number, no record of the table, or none of the choices.
pub fn parameter_value(project: &Project, parameter: &Parameter, given: &str) -> Result<String, Error> {
    let wrong = |message: String, help: String| Error::Usage { message, help: help.into() };
    let name = &parameter.name;
    match &parameter.kind {
        ParameterKind::Text => Ok(given.to_owned()),
        ParameterKind::Number { whole } => match number(given.trim()) {
            Some(number) if !whole || number.fract() == 0.0 => Ok(given.trim().to_owned()),
            _ => {
                let kind = if *whole { "whole number" } else { "number" };
                Err(wrong(format!("`{name}` is `{given}`, and no {kind}"), format!("write {name}=3")))
            }
        },
        ParameterKind::Choice(choice) if choice.iter().any(|own| own == given) => Ok(given.to_owned()),
        ParameterKind::Choice(choice) => {
            let near = nearest_of(given, choice.iter().map(String::as_str));
            let help = match near.first() {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("it is one of {}", choice.join(", ")),
            };
            Err(wrong(format!("`{name}` cannot be `{given}`"), help))
        }
        ParameterKind::Record(table) => {
            let table = &project.schema.tables[*table].name;
            let found = resolve(project.view(), &Address::show(table, given))?;
            Ok(crate::tables::shown_key(&found.key))
        }
    }
}

/// Builds the change that a recipe makes. `values` are those of its parameters, by name.
///
/// # Errors
/// When a parameter is unknown, missing or wrong, or a step cannot be done, with its place.
pub fn run_recipe(
    project: &Project,
    recipe: &Recipe,
    values: &BTreeMap<String, String>,
) -> Result<Change, Error> {
    let names = Names::of(project, recipe, values)?;
    let given: Vec<String> =
        values.iter().map(|(name, value)| format!("{name}={}", shown_word(value))).collect();
    let title = [vec![format!("recipe {}", recipe.name)], given].concat().join(" ");
    let mut run = Run { sequence: Sequence::new(project, title), names };
    for (number, step) in recipe.steps.iter().enumerate() {
        run.step(step).map_err(|error| of_step(recipe, number, step, error))?;
    }
    let change = run.sequence.finish();
    if change.files().is_empty() {
        return Err(Error::NothingToDo {
            reason: format!("the recipe `{}` changes nothing", recipe.name),
            help: "all is so already, or no step was to be done".into(),
        });
    }
    Ok(change)
}

/// What keeps a step from being done, with the place of the step in the schema.
fn of_step(recipe: &Recipe, number: usize, step: &RecipeStep, error: Error) -> Error {
    let help = error.help().unwrap_or_default();
    let (reason, problems) = match error {
        Error::Refused(refusal) => (refusal.reason, refusal.problems),
        other => (other.to_string(), Vec::new()),
    };
    let (path, line) = (&step.place.path, step.place.line);
    let of_step = format!("step {} of the recipe `{}` ({path}:{line})", number + 1, recipe.name);
    Error::Refused(Box::new(Refusal { reason: format!("{of_step}: {reason}"), help, problems }))
}

/// A value as a word of a command.
fn shown_word(value: &str) -> String {
    if value.is_empty() || value.contains(char::is_whitespace) {
        format!("'{value}'")
    } else {
        value.to_owned()
    }
}

/// The values of parameters and of what was worked out, by name.
#[derive(Debug, Clone, Default)]
struct Names {
    values: BTreeMap<String, NamedValue>,
}

#[derive(Debug, Clone)]
struct NamedValue {
    text: String,
    is_number: bool,
}

impl Names {
    fn of(project: &Project, recipe: &Recipe, given: &BTreeMap<String, String>) -> Result<Names, Error> {
        let known: Vec<&str> = recipe.parameters.iter().map(|own| own.name.as_str()).collect();
        if let Some(unknown) = given.keys().find(|name| !known.contains(&name.as_str())) {
            let near = nearest_of(unknown, known.iter().copied());
            let help = match near.first() {
                Some(near) => format!("did you mean `{near}`?"),
                None => format!("it has {}", known.join(", ")),
            };
            return Err(Error::Unknown { what: "parameter", name: unknown.clone(), help: help.into() });
        }
        let mut names = Names::default();
        let mut missing = Vec::new();
        for parameter in &recipe.parameters {
            let default = parameter.default.as_ref().map(|default| names.fill(default, Fill::Text));
            match given.get(&parameter.name).or(default.as_ref()) {
                Some(value) => {
                    let text = parameter_value(project, parameter, value)?;
                    let is_number = matches!(parameter.kind, ParameterKind::Number { .. });
                    names.values.insert(parameter.name.clone(), NamedValue { text, is_number });
                }
                None => missing.push(parameter.name.as_str()),
            }
        }
        if !missing.is_empty() {
            let example: Vec<String> = missing.iter().map(|name| format!("{name}=...")).collect();
            return Err(Error::Usage {
                message: format!("the recipe `{}` needs {}", recipe.name, missing.join(", ")),
                help: format!("write {} behind its name", example.join(" ")).into(),
            });
        }
        Ok(names)
    }

    fn set(&mut self, name: &str, text: String, is_number: bool) {
        self.values.insert(name.to_owned(), NamedValue { text, is_number });
    }

    /// A text with the values of names in place of the names in braces; other names stay.
    fn fill(&self, text: &str, how: Fill) -> String {
        let mut out = String::with_capacity(text.len());
        let mut rest = text;
        while let Some(start) = rest.find('{') {
            out.push_str(&rest[..start]);
            let inner = rest[start + 1..].split('}').next().unwrap_or_default();
            let end = start + 1 + inner.len() + 1;
            let (name, case) = inner.split_once('|').map_or((inner, None), |(name, case)| (name, Some(case)));
            let case = case.map(LetterCase::called);
            match self.values.get(name).filter(|_| end <= rest.len() && case != Some(None)) {
                Some(value) => {
                    let text =
                        case.flatten().map_or_else(|| value.text.clone(), |case| case.apply(&value.text));
                    match how {
                        Fill::Text => out.push_str(&text),
                        Fill::Expression if value.is_number => out.push_str(&text),
                        // A text of the expression language is written as one of JSON is.
                        Fill::Expression => out.push_str(&serde_json::Value::from(text).to_string()),
                    }
                    rest = &rest[end..];
                }
                None => {
                    out.push('{');
                    rest = &rest[start + 1..];
                }
            }
        }
        out + rest
    }

    fn text(&self, text: &str) -> String {
        self.fill(text, Fill::Text)
    }

    fn texts(&self, texts: &[String]) -> Vec<String> {
        texts.iter().map(|text| self.text(text)).collect()
    }

    fn expression(&self, text: &str) -> String {
        self.fill(text, Fill::Expression)
    }

    /// Assignments: an expression behind `:=` gets values as an expression has them.
    fn values(&self, texts: &[String]) -> Vec<String> {
        let one = |text: &String| match text.split_once(":=") {
            Some((field, expression)) if !field.contains('=') => {
                format!("{}:={}", self.text(field), self.expression(expression))
            }
            _ => self.text(text),
        };
        texts.iter().map(one).collect()
    }

    /// An address, quoted where the values make that necessary.
    fn address(&self, template: &str) -> String {
        let filled = self.text(template);
        match (template.split_once(':'), filled.split_once(':')) {
            (Some((_, key)), Some((table, filled))) if !key.contains(['"', '.']) && key.contains('{') => {
                Address::show(table, filled)
            }
            _ => filled,
        }
    }

    fn addresses(&self, templates: &[String]) -> Vec<String> {
        templates.iter().map(|template| self.address(template)).collect()
    }
}

/// How values are put into a text.
#[derive(Clone, Copy)]
enum Fill {
    /// As they are.
    Text,
    /// As an expression has them: texts in quotes.
    Expression,
}

/// A recipe while it runs.
struct Run<'p> {
    sequence: Sequence<'p>,
    names: Names,
}

impl Run<'_> {
    fn step(&mut self, step: &RecipeStep) -> Result<(), Error> {
        let Some(each) = &step.each else { return self.once(step) };
        let values = match &each.values {
            EachValues::Listed(listed) => listed_values(&self.names.texts(listed))?,
            EachValues::Records(table, condition) => {
                let condition = condition.as_ref().map(|source| self.names.expression(source));
                keys_of(self.sequence.project(), &self.names.text(table), condition.as_deref())?
            }
        };
        let before = self.names.values.get(&each.name).cloned();
        for value in values {
            let is_number = number(&value).is_some() && matches!(each.values, EachValues::Listed(_));
            self.names.set(&each.name, value, is_number);
            self.once(step)?;
        }
        self.names.values.remove(&each.name);
        self.names.values.extend(before.map(|before| (each.name.clone(), before)));
        Ok(())
    }

    fn once(&mut self, step: &RecipeStep) -> Result<(), Error> {
        if let Some(when) = &step.when {
            match self.worked_out(when, step.record.as_deref())? {
                Value::Truth(true) => {}
                Value::Truth(false) | Value::Nothing => return Ok(()),
                other => {
                    return Err(Error::refused(
                        format!("the condition gives `{}`, not true or false", other.shown()),
                        "compare it with something",
                    ));
                }
            }
        }
        let names = &self.names;
        let behind = |after: &Option<String>| {
            after.as_ref().map_or(RecordPlace::Fitting, |key| RecordPlace::After(names.text(key)))
        };
        let built = match &step.action {
            RecipeAction::Let { name, value } => {
                let value = self.worked_out(value, step.record.as_deref())?;
                let is_number = matches!(value, Value::Number(_));
                self.names.set(name, value.shown(), is_number);
                return Ok(());
            }
            RecipeAction::Set { records, values, condition, all } => Step::Set(SetRequest {
                arguments: [names.addresses(records), names.values(values)].concat(),
                condition: condition.as_ref().map(|source| names.expression(source)),
                all: *all,
                sheet: None,
            }),
            RecipeAction::Add { table, keys, values, like, after, name } => Step::Add(AddRequest {
                table: names.text(table),
                keys: names.texts(keys),
                values: names.values(values),
                like: like.as_ref().map(|key| names.text(key)),
                place: behind(after),
                name: name.as_ref().map(|name| names.text(name)),
                ..AddRequest::default()
            }),
            RecipeAction::Copy { address, new, .. } if is_folder(address) => {
                Step::CopyFolder { from: names.text(address), to: names.text(new) }
            }
            RecipeAction::Copy { address, new, values, name, join, without, from, with_needed, after } => {
                let lacking = if *with_needed { Lacking::Bring } else { Lacking::Refuse };
                let source = |name: &String| CopySource { name: names.text(name), lacking };
                Step::Copy(CopyRequest {
                    address: names.address(address),
                    new: names.text(new),
                    values: names.values(values),
                    name: name.as_ref().map(|name| names.text(name)),
                    join: Join::of_words(&names.texts(join)),
                    without: names.texts(without),
                    place: behind(after),
                    from: from.as_ref().map(source),
                    also: Vec::new(),
                })
            }
            RecipeAction::Remove { records, detach, cascade, with_unused } => Step::Remove(RemoveRequest {
                addresses: names.addresses(records),
                detach: *detach,
                cascade: *cascade,
                keep: Vec::new(),
                with_unused: *with_unused,
            }),
            RecipeAction::Rename { address, new } if is_folder(address) => {
                Step::RenameFolder { from: names.text(address), to: names.text(new), also: Vec::new() }
            }
            RecipeAction::Rename { address, new } => Step::Rename {
                address: names.address(address),
                new: names.text(new),
                notes: false,
                also: Vec::new(),
            },
            RecipeAction::Renumber { field, group, open } => {
                let whole = names.text(field);
                let no_field =
                    || Error::refused(format!("`{whole}` names no field"), "write \"TABLE.FIELD\"");
                let (table, field) = whole.split_once('.').ok_or_else(no_field)?;
                let open = open.as_ref().map(|text| {
                    let text = names.text(text);
                    let no_number =
                        |_| Error::refused(format!("`{text}` is no whole number"), "write open = 3");
                    text.trim().parse::<i64>().map_err(no_number)
                });
                Step::Renumber {
                    table: table.to_owned(),
                    field: field.to_owned(),
                    group: group.as_ref().map(|group| names.text(group)),
                    how: open.transpose()?.map_or(Renumbering::Close, |number| Renumbering::Open(number, 1)),
                }
            }
        };
        match built.build(self.sequence.project()) {
            Ok(change) => self.sequence.push(change),
            // It is so already.
            Err(Error::NothingToDo { .. }) => Ok(()),
            Err(error) => Err(error),
        }
    }

    /// What an expression gives, over a record if there is one.
    fn worked_out(&self, source: &str, record: Option<&str>) -> Result<Value, Error> {
        let project = self.sequence.project();
        let labels = Labels::default();
        let others = Others::new(project.view(), &labels);
        let source = self.names.expression(source);
        let Some(record) = record else { return evaluate_alone(&source, &others) };
        let found = resolve(project.view(), &self.names.address(record))?;
        let rows = others.rows(found.table)?;
        let gone = || Error::refused(format!("`{record}` is gone"), "name a record that is there");
        let row = rows.find(&found.key).ok_or_else(gone)?;
        Formula::parse(&source, &rows, &[], &others)?.answer(&rows, row, &[])
    }
}

/// Values as they are listed; `1..4` stands for the numbers from 1 to 4.
fn listed_values(listed: &[String]) -> Result<Vec<String>, Error> {
    let mut out = Vec::new();
    for text in listed {
        let range = text.split_once("..").and_then(|(first, last)| {
            Some((first.trim().parse::<i64>().ok()?, last.trim().parse::<i64>().ok()?))
        });
        let Some((first, last)) = range else {
            out.push(text.clone());
            continue;
        };
        if last.saturating_sub(first) >= MOST_REPEATS as i64 {
            return Err(Error::refused(
                format!("`{text}` repeats the step too often"),
                format!("at most {MOST_REPEATS} times"),
            ));
        }
        out.extend((first..=last).map(|number| number.to_string()));
    }
    Ok(out)
}

/// The keys, as shown, of the records of a table that meet a condition.
fn keys_of(project: &Project, table: &str, condition: Option<&str>) -> Result<Vec<String>, Error> {
    let labels = Labels::default();
    let others = Others::new(project.view(), &labels);
    let rows = others.rows_of(table)?;
    let condition = condition.map(|source| Formula::parse(source, &rows, &[], &others)).transpose()?;
    let mut out = Vec::new();
    for row in rows.rows.iter().filter(|row| row.key.is_some()) {
        let holds = condition.as_ref().map(|condition| condition.holds(&rows, row, &[])).transpose()?;
        if holds.unwrap_or(true) {
            out.push(row.shown_key());
        }
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::plain("reaches", Fill::Text, "reaches")]
    #[case::name("reaches:{key}/{n}", Fill::Text, "reaches:frost cut/3")]
    #[case::case("{key|upper}_DESC", Fill::Text, "FROST CUT_DESC")]
    #[case::other_name("world:a.{value}={n}", Fill::Text, "world:a.{value}=3")]
    #[case::other_case("{key|loud}", Fill::Text, "{key|loud}")]
    #[case::open("{key", Fill::Text, "{key")]
    #[case::json("{\"a\": {n}}", Fill::Text, "{\"a\": 3}")]
    #[case::in_an_expression(
        "Reach == {key} && Depth > {n}",
        Fill::Expression,
        "Reach == \"frost cut\" && Depth > 3"
    )]
    #[case::quotes_in_an_expression("Name == {odd}", Fill::Expression, "Name == \"a \\\"b\\\"\"")]
    fn names_in_braces_are_filled_in(#[case] text: &str, #[case] how: Fill, #[case] filled: &str) {
        let mut names = Names::default();
        names.set("key", "frost cut".to_owned(), false);
        names.set("n", "3".to_owned(), true);
        names.set("odd", "a \"b\"".to_owned(), false);
        assert_eq!(names.fill(text, how), filled);
    }

    #[rstest]
    #[case::blank("reaches:{key}", "reaches:\"frost cut\"")]
    #[case::part("berths:{key}/{n}", "berths:\"frost cut/3\"")]
    #[case::field("reaches:{n}.Depth", "reaches:3.Depth")]
    #[case::no_table("{n}", "3")]
    #[case::no_name("reaches:old_mill", "reaches:old_mill")]
    fn addresses_are_quoted_where_values_need_it(#[case] template: &str, #[case] address: &str) {
        let mut names = Names::default();
        names.set("key", "frost cut".to_owned(), false);
        names.set("n", "3".to_owned(), true);
        assert_eq!(names.address(template), address);
    }

    #[rstest]
    #[case::list(&["a", "b"], &["a", "b"])]
    #[case::range(&["2..4", "9"], &["2", "3", "4", "9"])]
    #[case::empty_range(&["3..2"], &[])]
    #[case::no_range(&["a..b"], &["a..b"])]
    fn ranges_stand_for_their_numbers(#[case] listed: &[&str], #[case] values: &[&str]) {
        let listed: Vec<String> = listed.iter().map(|text| (*text).to_owned()).collect();
        assert_eq!(listed_values(&listed).expect("few"), values);
    }

    #[test]
    fn endless_ranges_are_refused() {
        assert!(listed_values(&["1..9000000000".to_owned()]).is_err());
    }
}
