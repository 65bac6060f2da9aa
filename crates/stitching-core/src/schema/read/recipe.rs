//! Reading recipes.

use super::{keys, table_named};
use crate::expressions::asked_tables;
use crate::schema::MentionKind;
use crate::schema::Schema;
use crate::schema::recipe::{Each, EachValues, Parameter, ParameterKind, Recipe, RecipeAction, RecipeStep};
use crate::settings::{TomlReader, plain};
use std::ops::Range;
use toml::Spanned;
use toml::de::DeTable;

/// A recipe as it is written, with the tables that its parameters name and where.
pub(super) struct UnboundRecipe {
    recipe: Recipe,
    /// Where its name stands.
    span: Range<usize>,
    tables: Vec<(usize, Spanned<String>)>,
    /// What its steps are about.
    subjects: Vec<Spanned<String>>,
    /// The texts of its steps that may ask tables.
    expressions: Vec<Spanned<String>>,
}

/// The recipes that a schema file tells of.
pub(super) fn read<'t>(reader: &mut TomlReader<'t>, top: &DeTable<'t>) -> Vec<UnboundRecipe> {
    let mut out: Vec<UnboundRecipe> = Vec::new();
    for (span, body) in reader.tables(top, "recipe") {
        reader.check_keys(body, keys::RECIPE, |_| false);
        let Some(name) = reader.text(body, "name") else {
            reader.problem(span, "the recipe has no `name`", "write name = \"NAME\"");
            continue;
        };
        let is_word =
            |text: &str| !text.is_empty() && !text.contains(|c: char| c.is_whitespace() || c == '=');
        if !is_word(name.get_ref()) {
            let message = format!("`{}` cannot be the name of a recipe", name.get_ref());
            reader.problem(name.span(), message, "write one word");
            continue;
        }
        let about = reader.text(body, "about").map(Spanned::into_inner);
        let mut tables = Vec::new();
        let mut parameters: Vec<Parameter> = Vec::new();
        for (span, body) in reader.tables(body, "parameter") {
            let table = parameter(reader, span, body, &mut parameters);
            tables.extend(table.map(|table| (parameters.len() - 1, table)));
        }
        let (mut steps, mut subjects, mut expressions) = (Vec::new(), Vec::new(), Vec::new());
        for (span, body) in reader.tables(body, "step") {
            let read = step(reader, span, body);
            if read.is_some() {
                subjects.extend(step_subjects(reader, body));
                expressions.extend(step_expressions(reader, body));
            }
            steps.extend(read);
        }
        if steps.is_empty() {
            let help = "for example [[recipe.step]] with copy = \"reaches:{from}\" and to = \"{key}\"";
            reader.problem(span, format!("the recipe `{}` has no step that works", name.get_ref()), help);
        }
        let span = name.span();
        let recipe = Recipe { name: name.into_inner(), about, parameters, steps };
        out.push(UnboundRecipe { recipe, span, tables, subjects, expressions });
    }
    out
}

/// Reads a parameter; gives the table that it names.
fn parameter<'t>(
    reader: &mut TomlReader<'t>,
    span: Range<usize>,
    body: &DeTable<'t>,
    out: &mut Vec<Parameter>,
) -> Option<Spanned<String>> {
    reader.check_keys(body, keys::PARAMETER, |_| false);
    let Some(name) = reader.text(body, "name") else {
        reader.problem(span, "the parameter has no `name`", "write name = \"NAME\"");
        return None;
    };
    let is_letter = |c: char| c.is_alphanumeric() || c == '_';
    if name.get_ref().is_empty() || !name.get_ref().chars().all(is_letter) {
        let message = format!("`{}` cannot be the name of a parameter", name.get_ref());
        reader.problem(name.span(), message, "write one word of letters, digits and `_`");
        return None;
    }
    if out.iter().any(|other| other.name == *name.get_ref()) {
        let message = format!("there are two parameters `{}`", name.get_ref());
        reader.problem(name.span(), message, "give each a name of its own");
        return None;
    }
    let (table, choice) = (reader.text(body, "table"), reader.texts(body, "choice").map(plain));
    let kind = reader.text(body, "type");
    let given = usize::from(table.is_some()) + usize::from(choice.is_some()) + usize::from(kind.is_some());
    if given > 1 {
        let message = format!("`{}` has more than one of `table`, `choice` and `type`", name.get_ref());
        reader.problem(name.span(), message, "keep one of them");
    }
    let kind = match (choice, kind.as_ref().map(|kind| kind.get_ref().as_str())) {
        (Some(choice), _) => ParameterKind::Choice(choice),
        (None, None | Some("text")) => ParameterKind::Text,
        (None, Some("integer")) => ParameterKind::Number { whole: true },
        (None, Some("number")) => ParameterKind::Number { whole: false },
        (None, Some(other)) => {
            let message = format!("`{other}` is no type of a parameter");
            let at = kind.map_or(name.span(), |kind| kind.span());
            reader.problem(at, message, "write \"text\", \"integer\" or \"number\"");
            ParameterKind::Text
        }
    };
    let about = reader.text(body, "about").map(Spanned::into_inner);
    let default = reader.texts(body, "default").map(|own| plain(own).join(" "));
    out.push(Parameter { name: name.into_inner(), about, kind, default });
    table
}

/// Reads a step.
fn step<'t>(reader: &mut TomlReader<'t>, span: Range<usize>, body: &DeTable<'t>) -> Option<RecipeStep> {
    const ACTIONS: [&str; 7] = ["set", "add", "copy", "remove", "rename", "renumber", "let"];
    let given: Vec<&str> = ACTIONS.into_iter().filter(|action| body.contains_key(*action)).collect();
    let [action] = given[..] else {
        let message = match given.len() {
            0 => "the step says nothing of what is done".to_owned(),
            _ => format!("the step does {} things", given.len()),
        };
        let help = format!("write one of {} for each step", ACTIONS.join(", "));
        reader.problem(span, message, help);
        return None;
    };
    let known = keys::step(action);
    reader.check_keys(body, &known, |_| false);
    let texts =
        |reader: &mut TomlReader<'t>, name: &str| reader.texts(body, name).map(plain).unwrap_or_default();
    let text = |reader: &mut TomlReader<'t>, name: &str| reader.text(body, name).map(Spanned::into_inner);
    let flag = |reader: &mut TomlReader<'t>, name: &str| reader.flag(body, name).unwrap_or_default();
    let needed = |reader: &mut TomlReader<'t>, name: &str| {
        let found = reader.text(body, name).map(Spanned::into_inner);
        if found.is_none() && !body.contains_key(name) {
            reader.problem(
                span.clone(),
                format!("`{action}` needs `{name}`"),
                format!("write {name} = \"...\""),
            );
        }
        found
    };
    let action = match action {
        "set" => RecipeAction::Set {
            records: texts(reader, "set"),
            values: texts(reader, "values"),
            condition: text(reader, "where"),
            all: flag(reader, "all"),
        },
        "add" => RecipeAction::Add {
            table: needed(reader, "add")?,
            keys: texts(reader, "keys"),
            values: texts(reader, "values"),
            like: text(reader, "like"),
            after: text(reader, "after"),
            name: text(reader, "name"),
        },
        "copy" => RecipeAction::Copy {
            address: needed(reader, "copy")?,
            new: needed(reader, "to")?,
            values: texts(reader, "values"),
            name: text(reader, "name"),
            join: texts(reader, "join"),
            without: texts(reader, "without"),
            from: text(reader, "from"),
            with_needed: flag(reader, "with_needed"),
            after: text(reader, "after"),
        },
        "remove" => RecipeAction::Remove {
            records: texts(reader, "remove"),
            detach: flag(reader, "detach"),
            cascade: flag(reader, "cascade"),
            with_unused: flag(reader, "with_unused"),
        },
        "rename" => RecipeAction::Rename { address: needed(reader, "rename")?, new: needed(reader, "to")? },
        "renumber" => RecipeAction::Renumber {
            field: needed(reader, "renumber")?,
            group: text(reader, "in"),
            open: reader.texts(body, "open").map(|own| plain(own).join(" ")),
        },
        _ => RecipeAction::Let { name: needed(reader, "let")?, value: needed(reader, "value")? },
    };
    let each = reader.table(body, "each").and_then(|body| each(reader, span.clone(), body));
    let (when, record) = (text(reader, "when"), text(reader, "record"));
    Some(RecipeStep { action, when, record, each, place: reader.place(span) })
}

/// What a step that was read is about: addresses, tables and fields.
fn step_subjects<'t>(reader: &mut TomlReader<'t>, body: &DeTable<'t>) -> Vec<Spanned<String>> {
    let lists = ["set", "remove", "without"].into_iter().filter_map(|name| reader.texts(body, name));
    let mut out: Vec<Spanned<String>> = lists.flatten().collect();
    out.extend(["add", "copy", "rename", "renumber"].into_iter().filter_map(|name| reader.text(body, name)));
    let each = body.get("each").and_then(|each| each.get_ref().as_table());
    out.extend(each.and_then(|each| reader.text(each, "table")));
    out
}

/// The texts of a step that was read which may ask tables.
fn step_expressions<'t>(reader: &mut TomlReader<'t>, body: &DeTable<'t>) -> Vec<Spanned<String>> {
    let mut out = reader.texts(body, "values").unwrap_or_default();
    out.extend(["where", "when", "value"].into_iter().filter_map(|name| reader.text(body, name)));
    let each = body.get("each").and_then(|each| each.get_ref().as_table());
    out.extend(each.and_then(|each| reader.text(each, "where")));
    out
}

fn each<'t>(reader: &mut TomlReader<'t>, span: Range<usize>, body: &DeTable<'t>) -> Option<Each> {
    reader.check_keys(body, keys::EACH, |_| false);
    let name = reader.text(body, "name").map(Spanned::into_inner);
    let (values, table) = (reader.texts(body, "values").map(plain), reader.text(body, "table"));
    let condition = reader.text(body, "where").map(Spanned::into_inner);
    let values = match (values, table) {
        (Some(values), None) => Some(EachValues::Listed(values)),
        (None, Some(table)) => Some(EachValues::Records(table.into_inner(), condition)),
        _ => None,
    };
    match (name, values) {
        (Some(name), Some(values)) => Some(Each { name, values }),
        _ => {
            let help = "write each = { name = \"n\", values = [\"1..4\"] }, or with table = \"NAME\" and where = \"...\"";
            reader.problem(span, "`each` needs a `name`, and either `values` or a `table`", help);
            None
        }
    }
}

/// Finds the tables that the parameters of a recipe name.
pub(super) fn bind(schema: &mut Schema, reader: &mut TomlReader<'_>, given: UnboundRecipe) {
    let UnboundRecipe { mut recipe, span, tables, subjects, expressions } = given;
    for (at, table) in tables {
        if let Some(id) = table_named(schema, reader, &table) {
            recipe.parameters[at].kind = ParameterKind::Record(id);
        }
    }
    for subject in subjects {
        let at = subject.span();
        let (table, is_address) = match subject.get_ref().split_once(':') {
            Some((table, _)) => (table, true),
            None => (subject.get_ref().as_str(), false),
        };
        // `set` and `remove` take keys alone too, and `renumber` a field; what a parameter says is known later.
        let of_field = table.match_indices('.').map(|(end, _)| &table[..end]);
        let named = std::iter::once(table).chain(of_field).find(|name| schema.table(name).is_some());
        match named {
            Some(named) => reader.names_table(at, named, MentionKind::Name),
            None if is_address && table.chars().all(|c| c.is_alphanumeric() || "_-".contains(c)) => {
                let _ = table_named(schema, reader, &Spanned::new(at, table.to_owned()));
            }
            None => {}
        }
    }
    for expression in expressions {
        for asked in asked_tables(expression.get_ref()) {
            if let Some(id) = schema.table(&expression.get_ref()[asked]) {
                reader.names_table(expression.span(), &schema.tables[id].name, MentionKind::Expression);
            }
        }
    }
    if schema.recipes.iter().any(|own| own.name == recipe.name) {
        let message = format!("there are two recipes `{}`", recipe.name);
        return reader.problem(span, message, "give each a name of its own");
    }
    schema.recipes.push(recipe);
}
