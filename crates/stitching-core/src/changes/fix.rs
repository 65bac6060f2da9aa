//! Making the fixes that problems offer.

use super::builder::Builder;
use super::change::{Change, Note};
use crate::checks::{check, find};
use crate::help::NextStep;
use crate::layers::{FileId, RelPath};
use crate::problem::Problem;
use crate::project::Project;
use crate::schema::Rule;
use crate::text::Edit;
use crate::{Code, Error};
use std::collections::BTreeMap;

/// Which problems are to be fixed.
#[derive(Debug, Clone, Default)]
pub struct FixRequest {
    /// Codes of problems, names of rules, and places: `path:line` or `path:line:column`. Without any, all problems of the mod whose fix is
    /// safe.
    pub which: Vec<String>,
    /// Whether all problems of the mod are meant, also those whose fix should be looked at.
    pub all: bool,
}

/// What one argument means.
enum Which {
    /// The code of a check, or the name of a rule.
    Name(String),
    Place {
        path: String,
        line: usize,
        column: Option<usize>,
    },
}

/// Builds the change that makes the first fix of each problem that is meant.
///
/// # Errors
/// When there is no such code or no problem at the place, when none has a fix, or a file cannot be read or edited.
pub fn fix(project: &Project, request: &FixRequest) -> Result<Change, Error> {
    let which: Vec<Which> = request
        .which
        .iter()
        .map(|which| parse(which, &project.schema.rules))
        .collect::<Result<_, Error>>()?;
    let problems = check(project.view()).problems;
    let own: Vec<&Problem> = problems.iter().filter(|problem| !problem.inherited).collect();
    let named = |problem: &&&Problem| which.iter().any(|which| is_meant(which, problem));
    let meant: Vec<&&Problem> = match which.is_empty() {
        true => own.iter().collect(),
        false => own.iter().filter(named).collect(),
    };
    if meant.is_empty() {
        return Err(match which.is_empty() {
            true => Error::nothing_to_do("the mod has no problems"),
            false => Error::refused(
                format!("the mod has no such problem: {}", request.which.join(" ")),
                NextStep::Check,
            ),
        });
    }
    let only_safe = which.is_empty() && !request.all;
    let title = match (&request.which[..], request.all) {
        ([], false) => "fix what can be fixed safely".to_owned(),
        ([], true) => "fix all that can be fixed".to_owned(),
        (which, _) => format!("fix {}", which.join(" ")),
    };
    let mut builder = Builder::new(project, title);
    let mut by_file: BTreeMap<FileId, Vec<Edit>> = BTreeMap::new();
    let (mut fixed, mut doubtful) = (0, 0);
    for problem in &meant {
        let Some(fix) = problem.fixes.first() else { continue };
        if only_safe && !fix.is_safe {
            doubtful += 1;
            continue;
        }
        if let Some(file) = file_of(project, problem) {
            let edits = by_file.entry(file).or_default();
            // Two problems may want the same bytes: the first one gets them.
            if !fix.edits.edits().iter().any(|edit| overlaps(edits, edit)) {
                edits.extend(fix.edits.edits().iter().cloned());
                fixed += 1;
                if is_structural(problem.code) {
                    builder.may_show_more(&problem.place.path);
                }
            }
        }
    }
    if fixed == 0 {
        return Err(none_fixed(&meant, doubtful));
    }
    builder.count(fixed);
    if doubtful > 0 {
        builder.note(Note::FixesToLookAt(doubtful));
    }
    for (file, edits) in by_file {
        builder.edit(file, edits)?;
    }
    builder.finish()
}

/// Whether a problem may hide what stands behind it.
fn is_structural(code: Code) -> bool {
    [Code::SYNTAX_ERROR, Code::NOT_STRICT_JSON, Code::NOT_STRICT_XML, Code::COLUMN_COUNT].contains(&code)
}

/// Whether an edit wants bytes that one of `edits` wants, and is another one.
fn overlaps(edits: &[Edit], edit: &Edit) -> bool {
    let meets = |other: &Edit| {
        other != edit
            && (other.span.start < edit.span.end && edit.span.start < other.span.end
                || other.span == edit.span)
    };
    edits.iter().any(meets)
}

fn none_fixed(meant: &[&&Problem], doubtful: usize) -> Error {
    match doubtful {
        0 => {
            let reason = match meant.len() {
                1 => "the problem offers no fix".to_owned(),
                number => format!("none of the {number} problems offers a fix"),
            };
            Error::refused(reason, NextStep::Check)
        }
        number => {
            let reason = format!("none of the fixes is sure to be right, and {number} can be looked at");
            Error::refused(reason, NextStep::LookAtFixes)
        }
    }
}

fn parse(which: &str, rules: &[Rule]) -> Result<Which, Error> {
    if find(which).is_some() || rules.iter().any(|rule| rule.name == which) {
        return Ok(Which::Name(which.to_owned()));
    }
    let mut parts = which.rsplitn(3, ':');
    let numbers: Vec<&str> = parts.by_ref().take(2).collect();
    let number = |text: &str| text.parse::<usize>().ok().filter(|number| *number > 0);
    let rest = parts.next();
    match (&numbers[..], rest) {
        ([column, line], Some(path)) if number(column).is_some() && number(line).is_some() => {
            Ok(Which::Place {
                path: path.to_owned(),
                line: number(line).unwrap_or(1),
                column: number(column),
            })
        }
        ([line, path], None) if number(line).is_some() => {
            Ok(Which::Place { path: (*path).to_owned(), line: number(line).unwrap_or(1), column: None })
        }
        ([line, between], Some(path)) if number(line).is_some() => Ok(Which::Place {
            path: format!("{path}:{between}"),
            line: number(line).unwrap_or(1),
            column: None,
        }),
        _ => Err(Error::Unknown {
            what: "problem code or place",
            name: which.to_owned(),
            help: NextStep::ListCodes.into(),
        }),
    }
}

fn is_meant(which: &Which, problem: &Problem) -> bool {
    match which {
        Which::Name(name) => problem.code.as_str() == name || problem.name() == name,
        Which::Place { path, line, column } => {
            let place = &problem.place;
            // Paths are shown from where the command runs.
            let is_path = place.path == *path
                || path.strip_suffix(place.path.as_str()).is_some_and(|before| before.ends_with('/'));
            is_path && place.line == *line && column.is_none_or(|column| place.column == column)
        }
    }
}

fn file_of(project: &Project, problem: &Problem) -> Option<FileId> {
    let stack = &project.stack;
    let path = RelPath::parse(&problem.place.path).ok()?;
    let layer = stack.layers().iter().position(|layer| layer.name == problem.place.layer)?;
    stack.find(layer, &path)
}

#[cfg(test)]
mod tests {
    use super::{Which, parse};
    use rstest::rstest;

    #[rstest]
    #[case("text/en.txt:3", "text/en.txt", 3, None)]
    #[case("text/en.txt:3:14", "text/en.txt", 3, Some(14))]
    #[case("odd:name.txt:3", "odd:name.txt", 3, None)]
    #[case("12:3:14", "12", 3, Some(14))]
    #[case("odd:name.txt:3:14", "odd:name.txt", 3, Some(14))]
    fn a_place_is_a_path_a_line_and_a_column(
        #[case] text: &str,
        #[case] path: &str,
        #[case] line: usize,
        #[case] column: Option<usize>,
    ) {
        let Ok(Which::Place { path: found, line: at, column: own }) = parse(text, &[]) else {
            panic!("`{text}` is a place")
        };
        assert_eq!((found.as_str(), at, own), (path, line, column));
    }

    #[test]
    fn the_name_of_a_problem_is_a_code() {
        assert!(matches!(parse("dangling-reference", &[]), Ok(Which::Name(_))));
    }

    #[rstest]
    #[case("text/en.txt")]
    #[case("text/en.txt:0")]
    #[case("text/en.txt:x")]
    #[case("text/en.txt:-3")]
    #[case("dangling-referense")]
    #[case("")]
    fn all_else_is_refused(#[case] text: &str) {
        assert!(parse(text, &[]).is_err(), "`{text}`");
    }
}
