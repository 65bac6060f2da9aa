//! Showing a change as a unified diff that `git apply` takes.
//!
//! **Limitations.** Files that are not UTF-8 are shown decoded, and entries of archives as if they were
//! files; git cannot apply these.

use super::{Change, FileChange};
use crate::Error;
use crate::project::Project;
use crate::text::{Encoding, Text};
use similar::TextDiff;
use std::fmt::Write as _;

/// Lines shown around each difference.
const CONTEXT: usize = 3;

/// The diff of `change`, with paths relative to the project's folder (or, if the mod lies
/// elsewhere, to the mod). A file brought up from the base is a new file.
///
/// # Errors
/// When a file cannot be read again.
pub fn unified_diff(project: &Project, change: &Change) -> Result<String, Error> {
    let mut out = String::new();
    for file in &change.files {
        write_file(project, file, &mut out)?;
    }
    Ok(out)
}

fn write_file(project: &Project, file: &FileChange, out: &mut String) -> Result<(), Error> {
    let mut before = Vec::new();
    if file.in_mod {
        project.stack.read(file.source, &mut before)?;
    }
    let declared = project.stack.files()[file.source].encoding;
    let mut after = file.after.to_vec();
    let binary = [&before, &after].into_iter().any(|bytes| Encoding::recognise(bytes, declared).is_none());
    let before = Text::decode(&mut before, declared).as_str().to_owned();
    let after = Text::decode(&mut after, declared).as_str().to_owned();
    let prefix = prefix(project);
    let (from, to) = (format!("{prefix}{}", file.from), format!("{prefix}{}", file.to));
    let from = if file.in_mod { from } else { to.clone() };
    let _ = writeln!(out, "diff --git a/{from} b/{to}");
    if !file.in_mod {
        let _ = writeln!(out, "new file mode 100644");
    } else if from != to {
        let _ = writeln!(out, "similarity index 90%\nrename from {from}\nrename to {to}");
    }
    if binary {
        let old = if file.in_mod { format!("a/{from}") } else { "/dev/null".to_owned() };
        let _ = writeln!(out, "Binary files {old} and b/{to} differ");
        return Ok(());
    }
    let diff = TextDiff::from_lines(before.as_str(), after.as_str());
    let old = if file.in_mod { header("a", &from) } else { "/dev/null".to_owned() };
    let mut unified = diff.unified_diff();
    unified.context_radius(CONTEXT).header(&old, &header("b", &to));
    let _ = write!(out, "{unified}");
    if !out.ends_with('\n') {
        out.push('\n');
    }
    Ok(())
}

/// A path in a diff's header; one with blanks is closed by a tab, as git does.
fn header(side: &str, path: &str) -> String {
    let end = if path.contains(' ') { "\t" } else { "" };
    format!("{side}/{path}{end}")
}

/// The mod's folder as seen from the project's, with a slash behind it.
fn prefix(project: &Project) -> String {
    let Some(layer) = project.stack.layers().last() else { return String::new() };
    let folder = project.folder.canonicalize().unwrap_or_else(|_| project.folder.clone());
    let Ok(below) = layer.root.strip_prefix(folder) else { return String::new() };
    let parts: Vec<String> =
        below.components().map(|part| part.as_os_str().to_string_lossy().into_owned()).collect();
    parts.iter().map(|part| format!("{part}/")).collect()
}
