//! Faults: what kept the tool from doing its work. What is wrong in the user's data is a
//! [`Problem`], a value, and never an error.

use crate::Problem;
use crate::help::{Help, NextStep};
use std::io;
use std::path::{Path, PathBuf};

/// Why a command could not do what was asked.
#[derive(Debug, thiserror::Error)]
pub enum Error {
    /// The file system said no.
    #[error("cannot {action} `{path}`: {source}", path = path.display())]
    Io {
        /// What was being tried, as a verb: `read`, `write`, `list`.
        action: &'static str,
        /// The file or folder.
        path: PathBuf,
        /// What the system answered.
        source: io::Error,
    },
    /// The project file or the schema is wrong; each problem has a place.
    #[error("the project cannot be opened: {} in its description", count(.0.len()))]
    Description(Vec<Problem>),
    /// No `stitching.toml` here or above.
    #[error("no `stitching.toml` in `{path}` or any folder above it", path = .0.display())]
    NoProject(PathBuf),
    /// A name that is not there.
    #[error("there is no {what} `{name}`")]
    Unknown {
        /// What was looked for: `table`, `record`, `problem code`.
        what: &'static str,
        /// The name as given.
        name: String,
        /// What to say next: the nearest names, or how to list them.
        help: Help,
    },
    /// A name or option that cannot be understood.
    #[error("{message}")]
    Usage {
        /// What is wrong with it.
        message: String,
        /// What to do instead.
        help: Help,
    },
    /// The change was not made, and why.
    #[error("{}", .0.reason)]
    Refused(Box<Refusal>),
    /// Nothing would change.
    #[error("{reason}")]
    NothingToDo {
        /// Why.
        reason: String,
        /// What to do instead, if there is anything.
        help: Help,
    },
    /// A change of the history was not undone or made again, since files that it touched were changed since.
    #[error("{} changed since; `{title}` cannot be undone or made again as a whole", were(files))]
    ChangedSince {
        /// What the change did.
        title: String,
        /// The files, by their paths in the mod.
        files: Vec<String>,
    },
    /// A change stopped half way, and what was there before could not be put back at once.
    #[error("{source}; `{title}` is half made")]
    Unfinished {
        /// What went wrong first.
        source: Box<Error>,
        /// What the change does.
        title: String,
        /// What went wrong when it was to be taken back.
        second: String,
    },
}

/// Why a change was not made.
#[derive(Debug, Clone, Default)]
pub struct Refusal {
    /// The reason, in one sentence.
    pub reason: String,
    /// What to do about it.
    pub help: Help,
    /// The problems the change would bring, or the places that stand in its way.
    pub problems: Vec<Problem>,
}

/// What sort of failure an [`Error`] is; the exit status follows from it.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ErrorKind {
    /// A change was refused (exit status 1).
    Refused,
    /// Wrong use: options, project file, unknown name (exit status 2).
    Usage,
    /// Could not read or write (exit status 3).
    Io,
}

impl Error {
    /// An I/O fault while trying to `action` the file at `path`.
    pub fn io(action: &'static str, path: impl AsRef<Path>, source: io::Error) -> Error {
        Error::Io { action, path: path.as_ref().to_owned(), source }
    }

    /// A refusal with its `reason` and what to do about it.
    pub fn refused(reason: impl Into<String>, help: impl Into<Help>) -> Error {
        Error::Refused(Box::new(Refusal { reason: reason.into(), help: help.into(), problems: Vec::new() }))
    }

    /// What to say where nothing would change.
    pub fn nothing_to_do(reason: impl Into<String>) -> Error {
        Error::NothingToDo { reason: reason.into(), help: "nothing to do".into() }
    }

    /// What sort of failure this is.
    pub fn kind(&self) -> ErrorKind {
        match self {
            Error::Io { .. } | Error::Unfinished { .. } => ErrorKind::Io,
            Error::Refused(_) | Error::NothingToDo { .. } | Error::ChangedSince { .. } => ErrorKind::Refused,
            Error::Description(_) | Error::NoProject(_) | Error::Unknown { .. } | Error::Usage { .. } => {
                ErrorKind::Usage
            }
        }
    }

    /// What to do next, if there is more to say than the message does.
    pub fn help(&self) -> Option<Help> {
        let help = match self {
            Error::Io { action, source, .. } => return io_help(action, source),
            Error::Description(_) => "put the description right and run the command again".into(),
            Error::NoProject(_) => NextStep::NameProject.into(),
            Error::Unknown { help, .. } | Error::Usage { help, .. } | Error::NothingToDo { help, .. } => {
                help.clone()
            }
            Error::Refused(refusal) => refusal.help.clone(),
            Error::ChangedSince { .. } => {
                "put the files back as they were, or leave them out; nothing was changed".into()
            }
            Error::Unfinished { second, .. } => Help::from(format!(
                "it could not be taken back ({second}). Nothing is lost: the files as they were, and as they are to be, lie \
                 beside each other as `.stitching-*`. Once the cause is gone, the next command puts all of it right; until \
                 then do not delete these files or `.stitching`"
            )),
        };
        (!help.is_empty()).then_some(help)
    }
}

fn io_help(action: &str, source: &io::Error) -> Option<Help> {
    let help: Help = match source.kind() {
        io::ErrorKind::PermissionDenied => {
            format!("you have no right to {action} it: make it writable, or close the program that holds it")
                .into()
        }
        io::ErrorKind::StorageFull => {
            "the disk is full: free some space and run the command again; nothing was changed".into()
        }
        io::ErrorKind::NotFound => "check the path; a layer's path is relative to `stitching.toml`".into(),
        _ => return None,
    };
    Some(help)
}

/// "`a.txt` was", "`a.txt`, `b.txt` and 3 more were".
fn were(files: &[String]) -> String {
    const SHOWN: usize = 4;
    let shown: Vec<String> = files.iter().take(SHOWN).map(|file| format!("`{file}`")).collect();
    let list = match (files.len().saturating_sub(SHOWN), &shown[..]) {
        (0, [first @ .., last]) if !first.is_empty() => format!("{} and {last}", first.join(", ")),
        (0, _) => shown.concat(),
        (more, _) => format!("{} and {more} more", shown.join(", ")),
    };
    format!("{list} {}", if files.len() == 1 { "was" } else { "were" })
}

fn count(problems: usize) -> String {
    if problems == 1 { "one problem".to_owned() } else { format!("{problems} problems") }
}

#[cfg(test)]
mod tests {
    use super::were;
    use rstest::rstest;

    #[rstest]
    #[case(&["a"], "`a` was")]
    #[case(&["a", "b"], "`a` and `b` were")]
    #[case(&["a", "b", "c"], "`a`, `b` and `c` were")]
    #[case(&["a", "b", "c", "d", "e", "f"], "`a`, `b`, `c`, `d` and 2 more were")]
    fn lists_of_files(#[case] files: &[&str], #[case] shown: &str) {
        let files: Vec<String> = files.iter().map(|file| (*file).to_owned()).collect();
        assert_eq!(were(&files), shown);
    }
}
