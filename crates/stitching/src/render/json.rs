//! The stable shapes of the JSON output; `docs/json.md` describes them. Those of one command alone stand with it.

use serde::Serialize;
use stitching_core::checks::Summary;
use stitching_core::{Code, Place, Problem, Severity};

/// A place in a file.
#[derive(Debug, Serialize)]
pub struct PlaceShape<'p> {
    path: &'p str,
    layer: &'p str,
    line: usize,
    column: usize,
    start: u32,
    end: u32,
}

impl<'p> From<&'p Place> for PlaceShape<'p> {
    fn from(place: &'p Place) -> PlaceShape<'p> {
        PlaceShape {
            path: &place.path,
            layer: &place.layer,
            line: place.line,
            column: place.column,
            start: place.start,
            end: place.end,
        }
    }
}

/// Something with the members of its place behind its own.
#[derive(Debug, Serialize)]
pub struct Placed<'p, T> {
    #[serde(flatten)]
    head: T,
    #[serde(flatten)]
    place: PlaceShape<'p>,
}

/// `head` with its place.
pub fn placed<T>(head: T, place: &Place) -> Placed<'_, T> {
    Placed { head, place: place.into() }
}

/// One problem.
#[derive(Debug, Serialize)]
pub struct ProblemShape<'p> {
    code: Code,
    severity: Severity,
    message: &'p str,
    help: Option<&'p str>,
    #[serde(flatten)]
    place: PlaceShape<'p>,
    table: Option<&'p str>,
    key: Option<&'p str>,
    label: Option<&'p str>,
    field: Option<&'p str>,
    value: Option<&'p str>,
    inherited: bool,
    related: Vec<Placed<'p, MessageShape<'p>>>,
    fixes: Vec<FixShape<'p>>,
}

#[derive(Debug, Serialize)]
struct MessageShape<'p> {
    message: &'p str,
}

#[derive(Debug, Serialize)]
struct FixShape<'p> {
    title: &'p str,
}

impl<'p> From<&'p Problem> for ProblemShape<'p> {
    fn from(problem: &'p Problem) -> ProblemShape<'p> {
        let related = problem
            .related
            .iter()
            .map(|related| placed(MessageShape { message: &related.message }, &related.place));
        ProblemShape {
            code: problem.code,
            severity: problem.severity,
            message: &problem.message,
            help: problem.help.as_deref(),
            place: (&problem.place).into(),
            table: problem.table.as_deref(),
            key: problem.key.as_deref(),
            label: problem.label.as_deref(),
            field: problem.field.as_deref(),
            value: problem.value.as_deref(),
            inherited: problem.inherited,
            related: related.collect(),
            fixes: problem.fixes.iter().map(|fix| FixShape { title: &fix.title }).collect(),
        }
    }
}

/// The result of `check`.
#[derive(Debug, Serialize)]
pub struct ReportShape<'p> {
    problems: Vec<ProblemShape<'p>>,
    summary: &'p Summary,
}

/// The result of `check`, of which these problems are shown.
pub fn report<'p>(problems: &[&'p Problem], summary: &'p Summary) -> ReportShape<'p> {
    ReportShape { problems: problems.iter().map(|problem| (*problem).into()).collect(), summary }
}

/// `head` with the members of a place behind its own, where its shape is not fixed.
pub fn with_place(head: serde_json::Value, at: &Place) -> serde_json::Value {
    serde_json::to_value(placed(head, at)).unwrap_or_default()
}
