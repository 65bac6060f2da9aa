//! The stable shapes of the JSON output; `docs/json.md` describes them. Those of one command alone stand with it.

use crate::next_step::help_text;
use serde::{Serialize, Serializer};
use std::borrow::Cow;
use stitching_core::checks::Summary;
use stitching_core::{Code, Place, Problem, Severity};

/// A place in a file.
#[derive(Debug, Serialize)]
pub struct PlaceShape<'p> {
    path: Cow<'p, str>,
    layer: Cow<'p, str>,
    line: usize,
    column: usize,
    start: u32,
    end: u32,
}

impl<'p> From<&'p Place> for PlaceShape<'p> {
    fn from(place: &'p Place) -> PlaceShape<'p> {
        PlaceShape {
            path: Cow::Borrowed(&place.path),
            layer: Cow::Borrowed(&place.layer),
            line: place.line,
            column: place.column,
            start: place.start,
            end: place.end,
        }
    }
}

impl From<Place> for PlaceShape<'_> {
    fn from(place: Place) -> Self {
        PlaceShape {
            path: Cow::Owned(place.path),
            layer: Cow::Owned(place.layer),
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
pub fn placed<'p, T>(head: T, place: impl Into<PlaceShape<'p>>) -> Placed<'p, T> {
    Placed { head, place: place.into() }
}

/// One problem.
#[derive(Debug, Serialize)]
pub struct ProblemShape<'p> {
    code: Code,
    #[serde(skip_serializing_if = "Option::is_none")]
    rule: Option<&'p str>,
    severity: Severity,
    message: &'p str,
    help: Option<String>,
    #[serde(flatten)]
    place: PlaceShape<'p>,
    table: Option<&'p str>,
    key: Option<&'p str>,
    label: Option<&'p str>,
    field: Option<&'p str>,
    value: Option<&'p str>,
    inherited: bool,
    #[serde(skip_serializing_if = "Option::is_none")]
    accepted: Option<&'p str>,
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
    safe: bool,
}

impl<'p> From<&'p Problem> for ProblemShape<'p> {
    fn from(problem: &'p Problem) -> ProblemShape<'p> {
        let related = problem
            .related
            .iter()
            .map(|related| placed(MessageShape { message: &related.message }, &related.place));
        ProblemShape {
            code: problem.code,
            rule: problem.rule.as_deref(),
            severity: problem.severity,
            message: &problem.message,
            help: problem.help.as_ref().map(help_text),
            place: (&problem.place).into(),
            table: problem.table.as_deref(),
            key: problem.key.as_deref(),
            label: problem.label.as_deref(),
            field: problem.field.as_deref(),
            value: problem.value.as_deref(),
            inherited: problem.inherited,
            accepted: problem.accepted.as_deref(),
            related: related.collect(),
            fixes: problem
                .fixes
                .iter()
                .map(|fix| FixShape { title: &fix.title, safe: fix.is_safe })
                .collect(),
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

/// How often a value is there.
#[derive(Debug, Serialize)]
pub struct CountShape<'p> {
    value: &'p str,
    count: u64,
}

/// Each of `values` with how often it is there.
pub fn counts(values: &[(String, u64)]) -> Vec<CountShape<'_>> {
    values.iter().map(|(value, count)| CountShape { value, count: *count }).collect()
}

/// Pairs of a name and a value as an object, in their order.
#[derive(Debug)]
pub struct MapShape<'p, V>(pub &'p [(String, V)]);

impl<V: Serialize> Serialize for MapShape<'_, V> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.collect_map(self.0.iter().map(|(name, value)| (name, value)))
    }
}

/// `value` on one line.
pub fn line(value: &impl Serialize) -> String {
    serde_json::to_string(value).unwrap_or_default()
}
