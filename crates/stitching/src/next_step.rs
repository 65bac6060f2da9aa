//! The steps that the core offers, worded as commands and options of this program.

use stitching_core::help::{Help, NextStep};

/// What `help` says, its step worded as a command.
pub fn help_text(help: &Help) -> String {
    let Some(step) = &help.step else { return help.text.clone() };
    let step = worded(step);
    match help.text.as_str() {
        "" => step,
        question if question.ends_with('?') => format!("{question} {step}"),
        text => format!("{text}; {step}"),
    }
}

fn worded(step: &NextStep) -> String {
    match step {
        NextStep::NameProject => {
            "run it inside a project, or name one with `--project DIR`; `stitching demo` writes one to try"
                .to_owned()
        }
        NextStep::ListTables => "`stitching tables` lists the tables".to_owned(),
        NextStep::ListFields(table) => {
            format!("`stitching fields {table}` lists its columns, what they hold and where they point")
        }
        NextStep::ShowRecord => "`stitching show` tells what it has".to_owned(),
        NextStep::SearchEverything(text) => format!("`stitching find {text}` searches everything"),
        NextStep::Check => "`stitching check` shows all places".to_owned(),
        NextStep::LookAtFixes => {
            "`stitching fix --all --preview` shows them, and without `--preview` makes them".to_owned()
        }
        NextStep::ChooseSide => {
            "`--take ours` leaves these as they are, `--take theirs` writes what the change set says".to_owned()
        }
        NextStep::RefreshComputed => "`stitching refresh` puts it right".to_owned(),
        NextStep::ListCodes => "`stitching explain` lists the codes; a place is `path:line`".to_owned(),
        NextStep::RenameRecord => "`stitching rename` gives a record another key, everywhere".to_owned(),
        NextStep::DetachOrCascade => {
            "`--detach` takes the references out, `--cascade` removes what refers to it too, `--keep TABLE` leaves those of a table".to_owned()
        }
        NextStep::ChooseRecords => {
            "choose its records with `--where EXPR`, or take all with `--all`".to_owned()
        }
        NextStep::PreviewOrAllowErrors => {
            "see what the change does with `--preview`, or make it all the same with `--allow-errors`"
                .to_owned()
        }
        NextStep::BringLacking => {
            "`--with-needed` brings what is lacking along, and `--allow-errors` leaves references that lead nowhere".to_owned()
        }
        NextStep::ListSwitchedOff => "`stitching off` lists what is off".to_owned(),
        NextStep::SwitchOn(address) => format!("`stitching on {address}` switches it on"),
        NextStep::SayKindOfFree => {
            "say with `--as` what is looked for: number, bit, position, colour or name".to_owned()
        }
        NextStep::SayBlock => "`--block` gives another block".to_owned(),
        NextStep::NameSimilar(table) => {
            format!("name one that the new one is to be like: `stitching free {table} --near NAME`")
        }
    }
}
