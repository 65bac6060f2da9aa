//! The stable shapes of the JSON output; `docs/json.md` describes them.

use serde_json::{Map, Value, json};
use stitching_core::checks::Summary;
use stitching_core::{Place, Problem};

/// The members of a place, to be put into a larger object.
pub fn place(place: &Place) -> Map<String, Value> {
    let mut out = Map::new();
    out.insert("path".into(), json!(place.path));
    out.insert("layer".into(), json!(place.layer));
    out.insert("line".into(), json!(place.line));
    out.insert("column".into(), json!(place.column));
    out.insert("start".into(), json!(place.start));
    out.insert("end".into(), json!(place.end));
    out
}

/// `head` with the members of a place behind its own.
pub fn with_place(head: Value, at: &Place) -> Value {
    let mut out = head.as_object().cloned().unwrap_or_default();
    out.extend(place(at));
    Value::Object(out)
}

/// One problem.
pub fn problem(problem: &Problem) -> Value {
    let mut out = Map::new();
    out.insert("code".into(), json!(problem.code));
    out.insert("severity".into(), json!(problem.severity));
    out.insert("message".into(), json!(problem.message));
    out.insert("help".into(), json!(problem.help));
    out.extend(place(&problem.place));
    out.insert("table".into(), json!(problem.table));
    out.insert("key".into(), json!(problem.key));
    out.insert("label".into(), json!(problem.label));
    out.insert("field".into(), json!(problem.field));
    out.insert("value".into(), json!(problem.value));
    out.insert("inherited".into(), json!(problem.inherited));
    let related = problem
        .related
        .iter()
        .map(|related| with_place(json!({ "message": related.message }), &related.place));
    out.insert("related".into(), related.collect());
    out.insert("fixes".into(), problem.fixes.iter().map(|fix| json!({ "title": fix.title })).collect());
    Value::Object(out)
}

/// The result of `check`.
pub fn report(problems: &[&Problem], summary: &Summary) -> Value {
    json!({
        "problems": problems.iter().map(|one| problem(one)).collect::<Vec<_>>(),
        "summary": summary,
    })
}
