//! The `stitching` command: it turns arguments into calls of the core and shows what comes back.

mod args;
mod commands;
mod exit;
mod interrupt;
mod render;
mod ui;

use args::Cli;
use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    let cli = Cli::parse();
    let ui = ui::Ui::new(&cli.global);
    interrupt::install();
    match commands::run(&cli, &ui) {
        Ok(code) => code,
        Err(error) => exit::report(&error, &cli.global, &ui),
    }
}
