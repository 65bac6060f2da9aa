//! SARIF 2.1.0 (OASIS), the exchange format of checking tools: the subset that is filled here.

use super::explanation;
use crate::next_step::help_text;
use serde_json::{Value, json};
use stitching_core::checks::CHECKS;
use stitching_core::schema::Rule;
use stitching_core::text::Edit;
use stitching_core::{Fix, Place, Problem};

/// The whole log. `prefix` is put in front of each path, so that it starts at the project.
pub fn report(problems: &[&Problem], rules: &[Rule], prefix: impl Fn(&Place) -> String) -> Value {
    let checks = CHECKS.iter().map(|check| {
        json!({
            "id": check.code,
            "shortDescription": { "text": check.about },
            "fullDescription": { "text": explanation::what_it_finds(check.docs) },
            "help": { "text": check.docs },
            "defaultConfiguration": { "level": check.severity.word() },
        })
    });
    let of_schema = rules.iter().map(|rule| {
        json!({
            "id": rule.name,
            "shortDescription": { "text": explanation::headline(rule) },
            "fullDescription": { "text": explanation::headline(rule) },
            "help": { "text": explanation::of_rule(rule) },
            "defaultConfiguration": { "level": rule.severity.word() },
        })
    });
    let described: Vec<Value> = checks.chain(of_schema).collect();
    let number = |problem: &Problem| match &problem.rule {
        None => CHECKS.iter().position(|check| check.code == problem.code),
        Some(name) => Some(CHECKS.len() + rules.iter().position(|rule| rule.name == *name)?),
    };
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
            let fixes = problem.fixes.iter().filter_map(|fix| sarif_fix(problem, fix, &prefix));
            let mut result = json!({
                "ruleId": problem.name(),
                "ruleIndex": number(problem),
                "level": problem.severity.word(),
                "message": { "text": format!("{}{help}", problem.message) },
                "locations": [location(&problem.place)],
                "relatedLocations": related.collect::<Vec<_>>(),
            });
            if let Some(reason) = &problem.accepted {
                result["suppressions"] = json!([{ "kind": "external", "justification": reason }]);
            }
            let fixes: Vec<Value> = fixes.collect();
            if !fixes.is_empty() {
                result["fixes"] = json!(fixes);
            }
            result
        })
        .collect();
    json!({
        "$schema": "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json",
        "version": "2.1.0",
        "runs": [{
            "tool": { "driver": { "name": "Stitching", "version": env!("CARGO_PKG_VERSION"), "rules": described } },
            "columnKind": "unicodeCodePoints",
            "results": results,
        }],
    })
}

/// A fix (3.55). The places of edits are those of a file in UTF-8; of other files no fix is told.
fn sarif_fix(problem: &Problem, fix: &Fix, prefix: &impl Fn(&Place) -> String) -> Option<Value> {
    let place = &problem.place;
    if place.start != place.in_text.start || place.end != place.in_text.end {
        return None;
    }
    let replacement = |edit: &Edit| {
        json!({
            "deletedRegion": { "byteOffset": edit.span.start, "byteLength": edit.span.end - edit.span.start },
            "insertedContent": { "text": edit.text },
        })
    };
    let replacements: Vec<Value> = fix.edits.edits().iter().map(replacement).collect();
    Some(json!({
        "description": { "text": fix.title },
        "artifactChanges": [{
            "artifactLocation": { "uri": uri(&format!("{}{}", prefix(place), place.path)) },
            "replacements": replacements,
        }],
    }))
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
