//! Workflow commands of GitHub Actions, which show problems beside the lines of a pull request.

use crate::next_step::help_text;
use std::fmt::Write as _;
use stitching_core::{Problem, Severity};

/// One line a problem. `prefix` is put in front of each path, so that it starts at the repository.
pub fn report(problems: &[&Problem], prefix: impl Fn(&Problem) -> String) -> String {
    let mut out = String::new();
    for problem in problems {
        let command = match problem.severity {
            Severity::Error => "error",
            Severity::Warning => "warning",
        };
        let place = &problem.place;
        let file = format!("{}{}", prefix(problem), place.path);
        let help = problem.help.as_ref().map(|help| format!("\n{}", help_text(help))).unwrap_or_default();
        let _ = writeln!(
            out,
            "::{command} file={},line={},col={},title={}::{}",
            property(&file),
            place.line.max(1),
            place.column.max(1),
            property(problem.name()),
            data(&format!("{}{help}", problem.message)),
        );
    }
    out
}

fn data(text: &str) -> String {
    text.replace('%', "%25").replace('\r', "%0D").replace('\n', "%0A")
}

fn property(text: &str) -> String {
    data(text).replace(':', "%3A").replace(',', "%2C")
}
