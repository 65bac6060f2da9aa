//! Trying a change out in memory before anything is written.

use super::Change;
use crate::checks::{new_errors, problems};
use crate::error::{Error, Refusal};
use crate::help::NextStep;
use crate::problem::Severity;
use crate::project::Project;

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
    let new = new_errors(&before, after, &change.renamed(project));
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
