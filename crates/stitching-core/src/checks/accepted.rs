//! Problems that one lives with: those in the project's file of accepted ones, and those that a note beside them accepts.

use crate::layers::{FileId, RelPath, Stack, write_whole};
use crate::problem::{Place, Problem, Severity};
use crate::reading::with_text;
use crate::schema::Schema;
use crate::text::Text;
use crate::{Code, Error};
use rayon::prelude::*;
use serde::{Deserialize, Serialize};
use std::collections::HashMap;
use std::path::Path;

/// A problem that one lives with.
#[derive(Debug, Clone, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AcceptedProblem {
    /// The code of the check, or the name of the rule.
    pub code: String,
    /// The path of its file in the layer.
    pub path: String,
    /// The table, if it is about a record.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub table: Option<String>,
    /// The key of the record.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub key: Option<String>,
    /// The field.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub field: Option<String>,
    /// The value.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub value: Option<String>,
    /// What is wrong, where no record says which problem is meant.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub message: Option<String>,
    /// Why one lives with it.
    #[serde(default)]
    pub reason: String,
}

impl AcceptedProblem {
    fn of(problem: &Problem, reason: &str) -> AcceptedProblem {
        AcceptedProblem {
            code: problem.name().to_owned(),
            path: problem.place.path.clone(),
            table: problem.table.clone(),
            key: problem.key.clone(),
            field: problem.field.clone(),
            value: problem.value.clone(),
            message: problem.key.is_none().then(|| problem.message.clone()),
            reason: reason.to_owned(),
        }
    }

    /// What tells it from others: all but the reason.
    fn identity(&self) -> AcceptedProblem {
        AcceptedProblem { reason: String::new(), ..self.clone() }
    }

    /// How it is called in messages.
    pub fn shown(&self) -> String {
        let record = self.table.iter().zip(&self.key).map(|(table, key)| format!(" of {table}:{key}"));
        let record: String = record.collect();
        format!("{}{record} in {}", self.code, self.path)
    }
}

/// The problems that a project lives with.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct AcceptedProblems {
    /// All of them, in order.
    #[serde(default)]
    accepted: Vec<AcceptedProblem>,
}

impl AcceptedProblems {
    /// The name of their file, in the project's folder.
    pub const FILE: &'static str = "accepted.toml";

    /// Those of the project in `folder`; none if it has no such file.
    ///
    /// # Errors
    /// When the file cannot be read, or is no list of accepted problems, with the place.
    pub fn read(folder: &Path) -> Result<AcceptedProblems, Error> {
        let path = folder.join(AcceptedProblems::FILE);
        let bytes = match std::fs::read(&path) {
            Ok(bytes) => bytes,
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
                return Ok(AcceptedProblems::default());
            }
            Err(source) => return Err(Error::io("read", &path, source)),
        };
        let text = String::from_utf8_lossy(&bytes);
        toml::from_str(&text).map_err(|error| {
            let span = error.span().unwrap_or(0..0);
            let lines = crate::text::LineTable::new(&text, 0);
            let span = crate::text::Span::new(span.start, span.end);
            let place = Place::at(&text, &lines, span, AcceptedProblems::FILE, "");
            let message = format!("this is no list of accepted problems: {}", error.message());
            let mut problem = Problem::new(Code::BAD_PROJECT, Severity::Error, message, place);
            problem.help = Some("each is headed [[accepted]], with `code`, `path` and `reason`".into());
            Error::Description(vec![problem])
        })
    }

    /// Writes them to the project in `folder` below `head`, lines of notes: all of the file, or nothing.
    ///
    /// # Errors
    /// When that fails.
    pub fn write(&self, folder: &Path, head: &str) -> Result<(), Error> {
        let path = folder.join(AcceptedProblems::FILE);
        let text =
            toml::to_string(self).map_err(|error| Error::io("write", &path, std::io::Error::other(error)))?;
        write_whole(&path, format!("{head}\n{text}").as_bytes())
    }

    /// Marks those of `problems` that are accepted with the reason; gives the entries that no problem is left for.
    pub fn mark(&self, problems: &mut [Problem]) -> Vec<AcceptedProblem> {
        let mut known: HashMap<AcceptedProblem, (usize, bool)> = HashMap::new();
        for (at, entry) in self.accepted.iter().enumerate() {
            known.entry(entry.identity()).or_insert((at, false));
        }
        if known.is_empty() {
            return Vec::new();
        }
        for problem in problems {
            if let Some((at, used)) = known.get_mut(&AcceptedProblem::of(problem, "")) {
                *used = true;
                problem.accepted.get_or_insert_with(|| self.accepted[*at].reason.clone());
            }
        }
        let mut gone: Vec<usize> = known.into_values().filter(|(_, used)| !used).map(|(at, _)| at).collect();
        gone.sort_unstable();
        gone.into_iter().map(|at| self.accepted[at].clone()).collect()
    }

    /// Adds `problems` with a reason, and takes out those that are `gone`; gives how many are new.
    pub fn accept(&mut self, problems: &[&Problem], reason: &str, gone: &[AcceptedProblem]) -> usize {
        self.accepted.retain(|entry| !gone.contains(entry));
        let mut known: std::collections::HashSet<AcceptedProblem> =
            self.accepted.iter().map(AcceptedProblem::identity).collect();
        let before = self.accepted.len();
        for problem in problems {
            let entry = AcceptedProblem::of(problem, reason);
            if known.insert(entry.identity()) {
                self.accepted.push(entry);
            }
        }
        self.accepted.len() - before
    }
}

/// What a note says that accepts the problems of its line, or of the line below: the codes follow, and perhaps a reason.
const MARK: &str = "stitching: accept ";

/// Marks those of `problems` that a note beside them accepts. Cost: a search of the files with problems that may have notes.
pub(super) fn mark_by_notes(stack: &Stack, schema: &Schema, problems: &mut [Problem]) {
    let mut by_file: HashMap<(&str, &str), Vec<usize>> = HashMap::new();
    for (at, problem) in problems.iter().enumerate().filter(|(_, problem)| problem.place.line > 0) {
        by_file.entry((&problem.place.layer, &problem.place.path)).or_default().push(at);
    }
    let of_file = |((layer, path), own): ((&str, &str), Vec<usize>)| {
        let layer = stack.layers().iter().position(|own| own.name == layer);
        let file = layer.and_then(|layer| stack.find(layer, &RelPath::parse(path).ok()?));
        let own = own.into_iter().map(|at| (at, &problems[at])).collect();
        file.map(|file| accepted_by_notes(stack, schema, file, own)).unwrap_or_default()
    };
    let found: Vec<(usize, String)> = by_file.into_par_iter().flat_map_iter(of_file).collect();
    for (at, reason) in found {
        problems[at].accepted = Some(reason);
    }
}

/// Which of the problems of a file, each with its position, a note accepts, and the reason.
fn accepted_by_notes(
    stack: &Stack,
    schema: &Schema,
    file: FileId,
    problems: Vec<(usize, &Problem)>,
) -> Vec<(usize, String)> {
    let tables = schema.tables_of(&stack.files()[file].path).into_iter();
    let marks: Vec<String> =
        tables.filter_map(|table| schema.tables[table].format.off_style().mark()).collect();
    if marks.is_empty() {
        return Vec::new();
    }
    let search = |text: &Text<'_>| {
        let text = text.as_str();
        if !text.contains(MARK) {
            return Vec::new();
        }
        let lines: Vec<&str> = text.lines().collect();
        let reason = |(at, problem): (usize, &Problem)| {
            let line = problem.place.line;
            let above = line
                .checked_sub(2)
                .and_then(|above| lines.get(above))
                .copied()
                .filter(|above| marks.iter().any(|mark| above.trim_start().starts_with(mark.as_str())));
            // What stands within a value is no note, whatever it looks like.
            let own = lines.get(line - 1).copied().filter(|own| {
                let start = own.as_ptr() as usize - text.as_ptr() as usize;
                let note = own.find(MARK).map(|at| start + at);
                let value = problem.place.in_text.range();
                problem.value.is_none() || note.is_some_and(|at| !value.contains(&at))
            });
            let mut notes = own.into_iter().chain(above);
            Some((at, notes.find_map(|text| accepted_in(text, &marks, problem.name()))?))
        };
        problems.into_iter().filter_map(reason).collect()
    };
    with_text(stack, file, search).unwrap_or_default()
}

/// The reason, if a note in `line` accepts the problems called `name`.
fn accepted_in(line: &str, marks: &[String], name: &str) -> Option<String> {
    let at = line.find(MARK)?;
    if !marks.iter().any(|mark| line[..at].contains(mark.as_str())) {
        return None;
    }
    let rest = line[at + MARK.len()..].trim_end().trim_end_matches("-->").trim_end_matches("*/").trim();
    let (codes, reason) = rest.split_once(':').unwrap_or((rest, ""));
    let is_meant = codes.split([',', ' ']).any(|code| code == name);
    let reason = if reason.trim().is_empty() { "by a note beside it" } else { reason.trim() };
    is_meant.then(|| reason.to_owned())
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::own_line("a;b # stitching: accept not-unique: meant so", Some("meant so"))]
    #[case::no_reason("# stitching: accept not-unique", Some("by a note beside it"))]
    #[case::several("# stitching: accept not-text, not-unique: old", Some("old"))]
    #[case::other_code("# stitching: accept not-text", None)]
    #[case::no_note("stitching: accept not-unique", None)]
    #[case::longer_code("# stitching: accept not-unique-at-all", None)]
    fn a_note_accepts(#[case] line: &str, #[case] reason: Option<&str>) {
        let marks = vec!["#".to_owned()];
        assert_eq!(accepted_in(line, &marks, "not-unique").as_deref(), reason);
    }

    #[test]
    fn a_closed_note_ends_before_its_mark() {
        let marks = vec!["<!--".to_owned()];
        let line = "<!-- stitching: accept not-unique: twins -->";
        assert_eq!(accepted_in(line, &marks, "not-unique").as_deref(), Some("twins"));
    }
}
