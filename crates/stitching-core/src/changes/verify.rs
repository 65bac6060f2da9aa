//! Trying a change out in memory before anything is written.

use super::{Change, Note};
use crate::Code;
use crate::checks::{new_errors, problems};
use crate::error::{Error, Refusal};
use crate::help::NextStep;
use crate::problem::{Problem, Severity};
use crate::project::Project;

/// Whether a problem only says that a file of a base layer, which stays, and its copy under another name have the same
/// value.
fn is_of_copy(change: &Change, problem: &Problem) -> bool {
    let copies = |one: &str, other: &str| {
        change
            .notes()
            .iter()
            .any(|note| matches!(note, Note::StaysInBase(from, to) if from == one && to == other))
    };
    let path = problem.place.path.as_str();
    let other = problem.related.first().map_or("", |related| related.place.path.as_str());
    problem.code == Code::NOT_UNIQUE && (copies(path, other) || copies(other, path))
}

/// Whether a problem is a reference that was to be left, although it leads nowhere.
fn is_left(change: &Change, problem: &Problem) -> bool {
    let of_target = [Code::DANGLING_REFERENCE, Code::MISSING_TEXT, Code::MISSING_FILE];
    of_target.contains(&problem.code)
        && problem.table.as_deref().is_some_and(|table| change.leaves_dangling(table))
}

/// Checks the project as it would be after `change`.
///
/// Cost: one check; a second one, of the state before, only if the first finds errors.
///
/// # Errors
/// A refusal with the errors that the change would bring.
pub fn verify(project: &Project, change: &Change) -> Result<(), Error> {
    let after = problems(&change.applied_to(&project.stack), &project.schema);
    if !after.iter().any(|problem| problem.severity == Severity::Error) {
        return Ok(());
    }
    let before = problems(&project.stack, &project.schema);
    let mut new = new_errors(&before, after, &change.renamed(project));
    new.retain(|problem| {
        let shows_only_now = change.may_show_more(&problem.place.path);
        !is_of_copy(change, problem) && !is_left(change, problem) && !shows_only_now
    });
    if new.is_empty() {
        return Ok(());
    }
    let count = if new.len() == 1 { "an error".to_owned() } else { format!("{} errors", new.len()) };
    Err(Error::Refused(Box::new(Refusal {
        reason: format!("the change would bring {count}; nothing was written"),
        help: NextStep::PreviewOrAllowErrors.into(),
        problems: new,
    })))
}
