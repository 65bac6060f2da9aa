//! `stitching demo`

use crate::args::{Check, Demo, Editing, Find, Global, Off, On, Rename, Through, Undo, Uses};
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
    let check = Check::default();
    super::check::run(&first, &check, global, ui)?;

    step(
        ui,
        &args.dir.join("first-try"),
        "find frostgate",
        "Where the player's \"Frostgate\" is in the files:",
    );
    super::find::run(
        &first,
        &Find { text: vec!["frostgate".to_owned()], most: 4, similar: false, through: through() },
        global,
        ui,
    )?;

    let folder = args.dir.join("put-right");
    let right = Project::open(&folder)?;
    step(
        ui,
        &folder,
        "uses goods:lamp_oil",
        "Who uses a good, in tables, settings, scripts, XML, JSON and texts:",
    );
    super::uses::run(&right, &Uses::of("goods:lamp_oil"), global, ui)?;

    step(
        ui,
        &folder,
        "rename reaches:frost_cut ice_cut",
        "A new key for the new canal: its row, what refers to it, its layout file and its texts:",
    );
    super::rename::run(&folder, &rename("reaches:frost_cut", "ice_cut"), global, ui)?;
    step(ui, &folder, "check", "The mod is as consistent as before:");
    super::check::run(&Project::open(&folder)?, &check, global, ui)?;
    step(ui, &folder, "undo", "And back again, to the byte:");
    super::history::undo(&folder, &Undo::default(), global, ui)?;

    step(
        ui,
        &folder,
        "rename goods:coal sea_coal",
        "A good of the base game, in every shape its data comes in, an entry of an archive among them:",
    );
    super::rename::run(&folder, &rename("goods:coal", "sea_coal"), global, ui)?;
    step(ui, &folder, "undo", "And back:");
    super::history::undo(&folder, &Undo::default(), global, ui)?;

    step(ui, &folder, "off offers:frost/coal", "One offer less, to see how that plays:");
    let off =
        |address: Option<&str>| Off { address: address.map(str::to_owned), editing: Editing::default() };
    super::switch::off(&folder, &off(Some("offers:frost/coal")), global, ui)?;
    step(ui, &folder, "off", "What is off:");
    super::switch::off(&folder, &off(None), global, ui)?;
    step(ui, &folder, "on offers:frost/coal", "And on again:");
    let on = On { address: "offers:frost/coal".to_owned(), editing: Editing::default() };
    super::switch::on(&folder, &on, global, ui)?;

    ui.out(&format!("\nNow try your own: cd {shown}/first-try && stitching check\n"));
    Ok(ExitCode::SUCCESS)
}

fn rename(address: &str, new: &str) -> Rename {
    Rename {
        address: address.to_owned(),
        new: Some(new.to_owned()),
        with_notes: false,
        also: Vec::new(),
        editing: Editing::default(),
        from: None,
        pattern: Vec::new(),
        prefix: None,
    }
}

/// Shows what came of the step before, and says what the next one is.
fn step(ui: &Ui, folder: &Path, command: &str, about: &str) {
    ui.show();
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
                    .into(),
        });
    }
    std::fs::create_dir_all(dir).map_err(|source| Error::io("write", dir, source))?;
    DEMO.extract(dir).map_err(|source| Error::io("write", dir, source))
}
