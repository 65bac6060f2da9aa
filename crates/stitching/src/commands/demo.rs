//! `stitching demo`

use crate::args::{Check, Demo, Editing, Find, Global, Rename, Through, Uses};
use crate::ui::{BOLD, DIM, Ui, styled};
use include_dir::{Dir, include_dir};
use std::path::Path;
use std::process::ExitCode;
use stitching_core::{Error, Project};

/// The made-up game Slackwater and the mod Frostgate Cut, as a newcomer left it and put right.
static DEMO: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../demo");

pub fn run(args: &Demo, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    write(&args.dir)?;
    let shown = args.dir.display();
    ui.out(&format!(
        "The folder {shown} now has a made-up game and a mod for it:\n\n\
         \x20   {shown}/game         the game's own files, which are never written\n\
         \x20   {shown}/first-try    the mod Frostgate Cut as a newcomer left it: a dozen mistakes\n\
         \x20   {shown}/put-right    the same mod without them\n\n\
         Here is a walk through them. Each command can be run again by hand.\n"
    ));
    let first = Project::open(&args.dir.join("first-try"))?;
    let through = || Through { through: None };

    step(
        ui,
        &args.dir.join("first-try"),
        "check",
        "What is wrong with the mod, where, and what would put it right:",
    );
    let check = Check { all: false, codes: Vec::new(), through: through() };
    super::check::run(&first, &check, global, ui)?;

    step(
        ui,
        &args.dir.join("first-try"),
        "find frostgate",
        "Where the player's \"Frostgate\" is in the files:",
    );
    super::find::run(
        &first,
        &Find { text: vec!["frostgate".to_owned()], most: 4, through: through() },
        global,
        ui,
    )?;

    let right = Project::open(&args.dir.join("put-right"))?;
    step(
        ui,
        &args.dir.join("put-right"),
        "uses goods:lamp_oil",
        "Who uses a good, in tables, JSON and texts:",
    );
    super::uses::run(&right, &Uses { address: "goods:lamp_oil".to_owned(), through: through() }, global, ui)?;

    step(
        ui,
        &args.dir.join("put-right"),
        "rename reaches:frost_cut ice_cut",
        "A new key for the new canal: its row, what refers to it, its layout file and its texts:",
    );
    let rename = Rename {
        address: "reaches:frost_cut".to_owned(),
        new: "ice_cut".to_owned(),
        with_notes: false,
        editing: Editing::default(),
    };
    super::rename::run(&right, &rename, global, ui)?;

    let right = Project::open(&args.dir.join("put-right"))?;
    step(ui, &args.dir.join("put-right"), "check", "The mod is as consistent as before:");
    super::check::run(&right, &check, global, ui)?;

    step(ui, &args.dir.join("put-right"), "undo", "And back again, to the byte:");
    super::history::undo(&right, global, ui)?;

    ui.out(&format!("\nNow try your own: cd {shown}/first-try && stitching check\n"));
    Ok(ExitCode::SUCCESS)
}

fn step(ui: &Ui, folder: &Path, command: &str, about: &str) {
    let prompt = styled(DIM, format!("{}$", folder.display()));
    ui.out(&format!("\n{about}\n\n{prompt} {}\n\n", styled(BOLD, format!("stitching {command}"))));
}

/// Writes the demo into `dir`, which must not be there, or be an empty folder.
fn write(dir: &Path) -> Result<(), Error> {
    let taken = dir.symlink_metadata().is_ok();
    let empty = std::fs::read_dir(dir).is_ok_and(|mut entries| entries.next().is_none());
    if taken && !empty {
        return Err(Error::Usage {
            message: format!("`{}` is there already", dir.display()),
            help:
                "the demo is never written over anything: name a new folder, as in `stitching demo another`"
                    .to_owned(),
        });
    }
    std::fs::create_dir_all(dir).map_err(|source| Error::io("write", dir, source))?;
    DEMO.extract(dir).map_err(|source| Error::io("write", dir, source))
}
