//! SARIF 2.1.0 (OASIS), the exchange format of checking tools: the subset that is filled here.

use crate::next_step::help_text;
use serde_json::{Value, json};
use stitching_core::checks::CHECKS;
use stitching_core::{Place, Problem};

/// The whole log. `prefix` is put in front of each path, so that it starts at the project.
pub fn report(problems: &[&Problem], prefix: impl Fn(&Place) -> String) -> Value {
    let rules: Vec<Value> = CHECKS
        .iter()
        .map(|check| {
            json!({
                "id": check.code,
                "shortDescription": { "text": check.about },
                "help": { "text": check.docs },
                "defaultConfiguration": { "level": check.severity.word() },
            })
        })
        .collect();
    let location = |place: &Place| {
        let mut physical =
            json!({ "artifactLocation": { "uri": uri(&format!("{}{}", prefix(place), place.path)) } });
        if place.line > 0 {
            physical["region"] = json!({
                "startLine": place.line,
                "startColumn": place.column,
                "byteOffset": place.start,
                "byteLength": place.end.saturating_sub(place.start),
            });
        }
        json!({ "physicalLocation": physical })
    };
    let results: Vec<Value> = problems
        .iter()
        .map(|problem| {
            let help =
                problem.help.as_ref().map(|help| format!(" ({})", help_text(help))).unwrap_or_default();
            let related = problem.related.iter().enumerate().map(|(id, related)| {
                let mut place = location(&related.place);
                place["id"] = json!(id);
                place["message"] = json!({ "text": related.message });
                place
            });
            json!({
                "ruleId": problem.code,
                "ruleIndex": CHECKS.iter().position(|check| check.code == problem.code),
                "level": problem.severity.word(),
                "message": { "text": format!("{}{help}", problem.message) },
                "locations": [location(&problem.place)],
                "relatedLocations": related.collect::<Vec<_>>(),
            })
        })
        .collect();
    json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": { "name": "Stitching", "version": env!("CARGO_PKG_VERSION"), "rules": rules } },
            "columnKind": "unicodeCodePoints",
            "results": results,
        }],
    })
}

/// A path as a relative URI (RFC 3986): what is neither plain nor a slash is percent-encoded.
fn uri(path: &str) -> String {
    let mut out = String::new();
    for byte in path.bytes() {
        match byte {
            b'a'..=b'z' | b'A'..=b'Z' | b'0'..=b'9' | b'-' | b'.' | b'_' | b'~' | b'/' => {
                out.push(byte as char)
            }
            other => out.push_str(&format!("%{other:02X}")),
        }
    }
    out
}
