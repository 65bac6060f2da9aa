//! `stitching recipe`

use super::{edit, open_in, with_journal};
use crate::args::{Global, Recipe};
use crate::next_step::help_text;
use crate::render::human::clean;
use crate::ui::{BOLD, DIM, Ui, styled, wants_json};
use serde::Serialize;
use std::collections::BTreeMap;
use std::io::{BufRead, IsTerminal};
use std::path::Path;
use std::process::ExitCode;
use stitching_core::changes::{Step, draft, find_recipe, parameter_value, run_recipe};
use stitching_core::links::Labels;
use stitching_core::rows::Rows;
use stitching_core::schema::{self, Parameter, ParameterKind};
use stitching_core::{Error, Project};

/// The result of `recipe` without a name.
#[derive(Debug, Serialize)]
struct List<'s> {
    recipes: Vec<RecipeShape<'s>>,
}

/// A recipe.
#[derive(Debug, Serialize)]
struct RecipeShape<'s> {
    name: &'s str,
    about: Option<&'s str>,
    parameters: Vec<ParameterShape<'s>>,
    steps: usize,
}

/// A parameter of a recipe.
#[derive(Debug, Serialize)]
struct ParameterShape<'s> {
    name: &'s str,
    about: Option<&'s str>,
    /// What its values are: "text", "integer", "number", "record" or "choice".
    kind: &'static str,
    table: Option<&'s str>,
    choice: &'s [String],
    default: Option<&'s str>,
}

/// The result of `recipe --from-history`.
#[derive(Debug, Serialize)]
struct DraftShape<'s> {
    draft: &'s str,
}

pub fn run(folder: &Path, args: &Recipe, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    if !args.from_history.is_empty() {
        return from_history(folder, args, global, ui);
    }
    let Some(name) = &args.name else { return list(&open_in(folder, ui)?, global, ui) };
    let mut values = BTreeMap::new();
    for given in &args.values {
        let Some((name, value)) = given.split_once('=') else {
            return Err(Error::Usage {
                message: format!("`{given}` gives no parameter a value"),
                help: "write PARAMETER=VALUE".into(),
            });
        };
        if values.insert(name.to_owned(), value.to_owned()).is_some() {
            return Err(Error::Usage {
                message: format!("`{name}` is given twice"),
                help: "give each parameter one value".into(),
            });
        }
    }
    if std::io::stdin().is_terminal() && std::io::stderr().is_terminal() {
        let project = open_in(folder, ui)?;
        for parameter in &find_recipe(&project, name)?.parameters {
            if parameter.default.is_none() && !values.contains_key(&parameter.name) {
                values.insert(parameter.name.clone(), ask(&project, parameter, ui)?);
            }
        }
        // What writes waits for those who read.
        ui.keep_locked(None);
    }
    edit::run(folder, &args.editing, global, ui, |project| {
        run_recipe(project, find_recipe(project, name)?, &values)
    })
}

fn list(project: &Project, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let recipes = &project.schema.recipes;
    if wants_json(global)? {
        let recipes = recipes.iter().map(|recipe| shape(project, recipe)).collect();
        ui.json(&List { recipes });
        return Ok(ExitCode::SUCCESS);
    }
    if recipes.is_empty() {
        ui.out("no recipes: the schema describes them as [[recipe]]\n");
        return Ok(ExitCode::SUCCESS);
    }
    let mut out = String::new();
    for recipe in recipes {
        out += &styled(BOLD, &recipe.name).to_string();
        for parameter in &recipe.parameters {
            match parameter.default {
                None => out += &format!(" {}=", parameter.name),
                Some(_) => out += &format!(" [{}=]", parameter.name),
            }
        }
        out.push('\n');
        if let Some(about) = &recipe.about {
            out += &format!("    {}\n", clean(about));
        }
        let width = recipe.parameters.iter().map(|own| own.name.chars().count()).max().unwrap_or_default();
        for parameter in &recipe.parameters {
            let mut said: Vec<String> = parameter.about.iter().map(|about| clean(about)).collect();
            said.extend(kind_of(project, parameter));
            said.extend(parameter.default.iter().map(|default| format!("else {}", clean(default))));
            out += &format!("    {:<width$}  {}\n", parameter.name, styled(DIM, said.join("; ")));
        }
    }
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}

fn shape<'s>(project: &'s Project, recipe: &'s schema::Recipe) -> RecipeShape<'s> {
    let parameter = |own: &'s Parameter| {
        let (kind, table, choice): (_, _, &[String]) = match &own.kind {
            ParameterKind::Text => ("text", None, &[]),
            ParameterKind::Number { whole: true } => ("integer", None, &[]),
            ParameterKind::Number { whole: false } => ("number", None, &[]),
            ParameterKind::Record(table) => {
                ("record", Some(project.schema.tables[*table].name.as_str()), &[])
            }
            ParameterKind::Choice(choice) => ("choice", None, choice),
        };
        let (about, default) = (own.about.as_deref(), own.default.as_deref());
        ParameterShape { name: &own.name, about, kind, table, choice, default }
    };
    RecipeShape {
        name: &recipe.name,
        about: recipe.about.as_deref(),
        parameters: recipe.parameters.iter().map(parameter).collect(),
        steps: recipe.steps.len(),
    }
}

/// What the values of a parameter are, in words.
fn kind_of(project: &Project, parameter: &Parameter) -> Option<String> {
    match &parameter.kind {
        ParameterKind::Text => None,
        ParameterKind::Number { whole: true } => Some("a whole number".to_owned()),
        ParameterKind::Number { whole: false } => Some("a number".to_owned()),
        ParameterKind::Record(table) => Some(format!("one of {}", project.schema.tables[*table].name)),
        ParameterKind::Choice(choice) => Some(choice.join(" | ")),
    }
}

/// Asks on the terminal for the value of a parameter, until it can be one.
fn ask(project: &Project, parameter: &Parameter, ui: &Ui) -> Result<String, Error> {
    const SHOWN: usize = 12;
    let said = parameter.about.iter().map(|about| clean(about)).chain(kind_of(project, parameter));
    ui.err(&format!("{}: {}", styled(BOLD, &parameter.name), said.collect::<Vec<_>>().join("; ")));
    if let ParameterKind::Record(table) = parameter.kind {
        let rows = Rows::read(project.view(), table, &Labels::read(project.view()))?;
        let line = |row: &stitching_core::rows::Row| match &row.label {
            Some(label) => format!("    {} \"{}\"", clean(&row.shown_key()), clean(label)),
            None => format!("    {}", clean(&row.shown_key())),
        };
        // The latest are those of the mod.
        let keyed: Vec<_> = rows.rows.iter().filter(|row| row.key.is_some()).collect();
        let left = keyed.len().saturating_sub(SHOWN);
        keyed.iter().skip(left).for_each(|row| ui.err(&line(row)));
        if left > 0 {
            ui.err(&format!("    and {left} more"));
        }
    }
    let mut lines = std::io::stdin().lock().lines();
    loop {
        eprint!("> ");
        let read = lines
            .next()
            .transpose()
            .map_err(|source| Error::io("read", Path::new("the terminal"), source))?;
        let Some(line) = read else {
            return Err(Error::Usage {
                message: format!("`{}` is missing", parameter.name),
                help: format!("write {}=... behind the name of the recipe", parameter.name).into(),
            });
        };
        match parameter_value(project, parameter, line.trim()) {
            Ok(value) => return Ok(value),
            Err(error) => {
                let help = error.help().map(|help| format!(" ({})", help_text(&help)));
                ui.err(&format!("{error}{}", help.unwrap_or_default()));
            }
        }
    }
}

/// Prints a recipe that does what changes of the history did.
fn from_history(folder: &Path, args: &Recipe, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    open_in(folder, ui)?;
    let items = with_journal(folder, ui, |journal| journal.history())?;
    let first = args.from_history[0];
    let last = args.from_history.get(1).copied().unwrap_or(first);
    if first == 0 || last < first || last > items.len() {
        return Err(Error::Usage {
            message: match last == first {
                true => format!("there is no change {first}; the history has {}", items.len()),
                false => format!("there are no changes {first} to {last}; the history has {}", items.len()),
            },
            help: "`stitching history` lists them with their numbers".into(),
        });
    }
    let mut steps: Vec<Step> = Vec::new();
    for item in &items[first - 1..last] {
        if item.entry.steps.is_empty() {
            return Err(Error::Usage {
                message: format!(
                    "what change {} was asked for is not known: {}",
                    item.entry.number, item.entry.title
                ),
                help: "only what `set`, `add`, `copy`, `remove`, `rename`, `renumber` and recipes did can be a step".into(),
            });
        }
        steps.extend(item.entry.steps.iter().cloned());
    }
    let text = draft(args.name.as_deref().unwrap_or("my-recipe"), &steps);
    if as_json {
        ui.json(&DraftShape { draft: &text });
    } else {
        ui.out(&text);
        ui.note("put it into the schema, and look at what the parameters are called and stand for");
    }
    Ok(ExitCode::SUCCESS)
}
