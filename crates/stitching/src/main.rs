//! The `stitching` command: it turns arguments into calls of the core and shows what comes back.

mod args;
mod commands;
mod exit;
mod interrupt;
mod next_step;
mod render;
mod sheet;
mod ui;

use args::Cli;
use clap::Parser;
use std::process::ExitCode;

fn main() -> ExitCode {
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(help_or_error) => return tell(&help_or_error),
    };
    let ui = ui::Ui::new(&cli.global);
    interrupt::install();
    let code = match commands::run(&cli, &ui) {
        Ok(code) => code,
        Err(error) => exit::report(&error, &cli.global, &ui),
    };
    ui.finish(code)
}

/// Prints help, the version, or what is wrong with the arguments.
fn tell(help_or_error: &clap::Error) -> ExitCode {
    let code = u8::try_from(help_or_error.exit_code()).unwrap_or(exit::CANNOT_WRITE);
    let text = help_or_error.render().ansi().to_string();
    if help_or_error.use_stderr() {
        // There is nobody to tell if this fails.
        let _ = std::io::Write::write_all(&mut anstream::stderr().lock(), text.as_bytes());
        return ExitCode::from(code);
    }
    match ui::write_out(&text) {
        Err(error) if error.kind() != std::io::ErrorKind::BrokenPipe => {
            let _ = std::io::Write::write_fmt(
                &mut anstream::stderr().lock(),
                format_args!("error: cannot write the result: {error}\n"),
            );
            ExitCode::from(exit::CANNOT_WRITE)
        }
        _ => ExitCode::from(code),
    }
}
