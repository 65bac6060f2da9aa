//! Errors and exit statuses: 0 done, 1 problems found or a change refused, 2 wrong use, 3 could
//! not read or write.

use crate::args::{Format, Global};
use crate::next_step::help_text;
use crate::render::human;
use crate::render::json::ProblemShape;
use crate::ui::{BOLD, CYAN, RED, Ui, count, styled};
use serde::Serialize;
use std::process::ExitCode;
use stitching_core::{Error, ErrorKind, Problem};

/// Problems were found, or a change was refused.
pub const PROBLEMS: u8 = 1;
/// Something could not be read or written, standard output among it.
pub const CANNOT_WRITE: u8 = 3;

/// Of more problems that keep a command from its work the first are shown.
const SHOWN: usize = 20;

/// What a command gives that failed.
#[derive(Debug, Serialize)]
struct Failure<'e> {
    error: ErrorShape<'e>,
}

#[derive(Debug, Serialize)]
struct ErrorShape<'e> {
    kind: &'static str,
    message: String,
    help: Option<String>,
    problems: Vec<ProblemShape<'e>>,
}

/// Tells the user what went wrong and what to do; gives the exit status.
pub fn report(error: &Error, global: &Global, ui: &Ui) -> ExitCode {
    let problems = match error {
        Error::Description(problems) => &problems[..],
        Error::Refused(refusal) => &refusal.problems[..],
        _ => &[],
    };
    if global.format == Format::Json {
        let kind = match error.kind() {
            ErrorKind::Refused => "refused",
            ErrorKind::Usage => "usage",
            ErrorKind::Io => "io",
        };
        let problems = problems.iter().map(Into::into).collect();
        let help = error.help().as_ref().map(help_text);
        let error = ErrorShape { kind, message: error.to_string(), help, problems };
        ui.json(&Failure { error });
    }
    let problems: Vec<&Problem> = problems.iter().collect();
    let groups = human::grouped_alike(&problems);
    for (problem, also) in groups.iter().take(SHOWN) {
        ui.err(human::problem(problem, also, &human::Paths::default(), ui).trim_end());
        ui.err("");
    }
    if groups.len() > SHOWN {
        let left: usize = groups[SHOWN..].iter().map(|(_, also)| 1 + also.len()).sum();
        ui.err(&format!("and {} more\n", count(left, "problem")));
    }
    ui.err(&format!("{}{} {error}", styled(RED, "error"), styled(BOLD, ":")));
    if let Some(help) = error.help() {
        ui.err(&format!("{} {}", styled(CYAN, "help:"), help_text(&help)));
    }
    if let Error::ChangedSince { files, .. } = error {
        let stay = if files.len() == 1 { "that file stays as it is" } else { "these files stay as they are" };
        ui.err(&format!(
            "      with `--leave-changed` {stay}, the rest is done, and earlier changes are within reach"
        ));
    }
    ExitCode::from(match error.kind() {
        ErrorKind::Refused => 1,
        ErrorKind::Usage => 2,
        ErrorKind::Io => CANNOT_WRITE,
    })
}
