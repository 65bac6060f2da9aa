//! `stitching learn N`, `--no` and `--key`: one proposal whole, and what a person says to what was learned.

use super::learn::{ProposalShape, proposals_text, shape};
use super::schema_files::{ChangedSchema, schema_files};
use crate::render::human::Paths;
use crate::ui::{Ui, count};
use serde::Serialize;
use std::process::ExitCode;
use stitching_core::checks::{FaultCounts, FaultGroup, fault_counts};
use stitching_core::learn::{
    Proposal, Topic, counts_of_sound_data, more_faults, needed_with, with_key, with_refusal,
};
use stitching_core::links::find_table;
use stitching_core::{Error, Project};

/// One proposal, whole.
#[derive(Debug, Serialize)]
struct OneShape<'p> {
    #[serde(flatten)]
    proposal: ProposalShape<'p>,
    /// What goes with it: the tables and columns that it needs.
    needs: Vec<usize>,
    /// What `check` would tell besides.
    brings: Vec<BroughtShape<'p>>,
    /// Why no schema can say it, if none can.
    refused: Option<String>,
}

/// Problems that a proposal would bring.
#[derive(Debug, Serialize)]
struct BroughtShape<'p> {
    code: &'static str,
    table: Option<&'p str>,
    field: Option<&'p str>,
    count: usize,
    first: String,
}

/// Files of the schema that were written.
#[derive(Debug, Serialize)]
struct CorrectedShape<'p> {
    files: Vec<&'p str>,
}

/// Shows the proposal at position `at`: with all its exceptions, and what `check` would tell if it were accepted.
pub fn show(
    project: &Project,
    all: &[Proposal],
    at: usize,
    as_json: bool,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let own = &all[at];
    let needed: Vec<usize> = needed_with(all, at);
    let taken: Vec<&Proposal> = needed.iter().map(|at| &all[*at]).collect();
    let others: Vec<usize> = needed.iter().copied().filter(|other| *other != at).collect();
    let brought = ui.progress("trying it on the data", || {
        let before = match project.schema.tables.is_empty() {
            true => FaultCounts::default(),
            false => fault_counts(project.view()),
        };
        let after = ChangedSchema::with_proposals(project, &taken)?.described(project)?;
        Ok::<_, Error>(more_faults(&before, &fault_counts(after.view())))
    });
    let (brings, refused) = match brought {
        Ok(brings) => (brings, None),
        Err(Error::Description(problems)) => {
            (Vec::new(), problems.into_iter().next().map(|problem| problem.message))
        }
        Err(other) => return Err(other),
    };
    let paths = Paths::of(project);
    let first =
        |group: &FaultGroup| format!("{}: {}", paths.place(&group.example.place), group.example.message);
    if as_json {
        let shapes = brings.iter().map(|group| BroughtShape {
            code: group.code.as_str(),
            table: group.table.as_deref(),
            field: group.field.as_deref(),
            count: group.count,
            first: first(group),
        });
        ui.json(&OneShape {
            proposal: shape(at + 1, own),
            needs: others.iter().map(|other| other + 1).collect(),
            brings: shapes.collect(),
            refused,
        });
        return Ok(ExitCode::SUCCESS);
    }
    let mut out = proposals_text(&[(at + 1, own)], usize::MAX);
    out += "\nthe schema would say\n";
    let settings: Vec<String> =
        own.settings.iter().map(|(name, value)| format!("{name} = {value}")).collect();
    match &own.field {
        Some(field) => out += &format!("    {field} = {{ {} }}\n", settings.join(", ")),
        None if own.topic == Topic::Companion => {
            out += &format!("    [[companion]]\n    table = \"{}\"\n", own.table);
            out += &settings.iter().map(|line| format!("    {line}\n")).collect::<String>();
        }
        None => out += &settings.iter().map(|line| format!("    {line}\n")).collect::<String>(),
    }
    if !others.is_empty() {
        out += "with it go\n";
        for other in &others {
            let own = &all[*other];
            let field = own.field.as_deref().map(|field| format!(".{field}")).unwrap_or_default();
            out += &format!("    {}  {}{field}  {}\n", other + 1, own.table, own.says);
        }
    }
    match &refused {
        Some(why) => out += &format!("it cannot be written: {why}\n"),
        None if brings.is_empty() => out += "`check` would tell nothing more\n",
        None => out += "`check` would tell besides\n",
    }
    for group in &brings {
        out += &format!("    {} {}, the first at {}\n", group.count, group.code, first(group));
    }
    ui.out(&out);
    let number = at + 1;
    ui.note(&format!(
        "`stitching learn --accept {number}` writes it, `stitching learn --no {number}` has it never proposed again"
    ));
    Ok(ExitCode::SUCCESS)
}

/// Notes in the schema that these are not to be proposed again.
pub fn refuse(project: &Project, refused: &[&Proposal], as_json: bool, ui: &Ui) -> Result<ExitCode, Error> {
    let Some(file) = schema_files(project)?.pop() else { return Ok(ExitCode::SUCCESS) };
    let name = file.name;
    let after = refused.iter().fold(file.text.clone(), |text, own| with_refusal(&text, own));
    ChangedSchema::of_file(file, after).write(project, ui)?;
    if as_json {
        ui.json(&CorrectedShape { files: vec![name] });
    } else {
        ui.out(&format!("{} refused in {name}\n", count(refused.len(), "proposal")));
        ui.note("a note at its end says so; remove the note to have it proposed again");
    }
    Ok(ExitCode::SUCCESS)
}

/// Gives a table of the schema another key; `given` is `TABLE=FIELD,...`. What would bring errors is refused.
pub fn set_key(project: &Project, given: &str, as_json: bool, ui: &Ui) -> Result<ExitCode, Error> {
    let Some((table, parts)) = given.split_once('=') else {
        return Err(Error::Usage {
            message: format!("`{given}` names no field"),
            help: "write `--key TABLE=FIELD`, or several fields with commas".into(),
        });
    };
    let parts: Vec<String> =
        parts.split(',').map(str::trim).filter(|part| !part.is_empty()).map(str::to_owned).collect();
    let id = find_table(&project.schema, table)?;
    let home = &project.schema.tables[id].place.path;
    let Some(file) = schema_files(project)?.into_iter().find(|file| file.name == home) else {
        return Err(Error::refused(format!("no schema file has the table `{table}`"), "nothing was changed"));
    };
    let after = with_key(&file.text, table, &parts)?;
    let written = ChangedSchema::of_file(file, after);
    let described = written.described(project)?;
    let (brought, records) = ui.progress("trying it on the data", || {
        let after = counts_of_sound_data(&described);
        let records = after.records.get(table).copied().unwrap_or(0);
        (more_faults(&counts_of_sound_data(project), &after), records)
    });
    let is_about = |group: &&FaultGroup, codes: &[&str]| {
        codes.contains(&group.code.as_str()) && group.table.as_deref() == Some(table)
    };
    if let Some(group) = brought.iter().find(|group| is_about(group, &["missing-column", "unused-field"])) {
        return Err(Error::refused(
            group.example.message.clone(),
            "`stitching fields TABLE` lists the fields; nothing was changed",
        ));
    }
    let of_key = |group: &&FaultGroup| is_about(group, &["duplicate-key", "missing-key"]);
    let bad: usize = brought.iter().filter(of_key).map(|group| group.count).sum();
    if let Some(first) = brought.iter().find(of_key).filter(|_| bad * 20 > records) {
        let place = Paths::of(project).place(&first.example.place);
        return Err(Error::refused(
            format!(
                "{bad} of {records} records of `{table}` would have no key of their own, the first at {place}: {}",
                first.example.message
            ),
            "name further fields with commas, or none (`TABLE=`); nothing was changed",
        ));
    }
    written.write(project, ui)?;
    if as_json {
        ui.json(&CorrectedShape { files: written.names() });
        return Ok(ExitCode::SUCCESS);
    }
    let key = if parts.is_empty() { "no key".to_owned() } else { format!("the key {}", parts.join("/")) };
    ui.out(&format!("{table} has {key} now\n"));
    for group in brought.iter().filter(|group| !of_key(group)) {
        let code = group.code.as_str();
        ui.note(&format!("{} more {code}, the first: {}", group.count, group.example.message));
    }
    Ok(ExitCode::SUCCESS)
}
