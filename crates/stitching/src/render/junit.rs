//! JUnit XML: a suite for each file, a test case for each problem; the form that build servers read.

use super::human::Paths;
use crate::next_step::help_text;
use std::collections::BTreeMap;
use std::fmt::Write as _;
use stitching_core::checks::Summary;
use stitching_core::text::xml_escaped;
use stitching_core::{Problem, Severity};

/// The whole report. A warning is a test case that passes with a word to say.
pub fn report(problems: &[&Problem], summary: &Summary, paths: &Paths) -> String {
    let mut by_file: BTreeMap<String, Vec<&Problem>> = BTreeMap::new();
    for problem in problems {
        by_file.entry(paths.show(&problem.place)).or_default().push(problem);
    }
    let failures = problems.iter().filter(|problem| problem.severity == Severity::Error).count();
    let mut out = String::from("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n");
    let tests = problems.len().max(1);
    let _ = writeln!(out, "<testsuites name=\"stitching check\" tests=\"{tests}\" failures=\"{failures}\">");
    if problems.is_empty() {
        let name = format!(
            "{} files, {} records, {} references",
            summary.files, summary.records, summary.references
        );
        let _ = writeln!(out, "  <testsuite name=\"stitching check\" tests=\"1\" failures=\"0\">");
        let _ = writeln!(
            out,
            "    <testcase classname=\"stitching\" name=\"{}\"/>\n  </testsuite>",
            xml_escaped(&name)
        );
    }
    for (file, problems) in by_file {
        let failures = problems.iter().filter(|problem| problem.severity == Severity::Error).count();
        let (name, tests) = (xml_escaped(&file), problems.len());
        let _ = writeln!(out, "  <testsuite name=\"{name}\" tests=\"{tests}\" failures=\"{failures}\">");
        for problem in problems {
            case(&mut out, problem, &file);
        }
        out.push_str("  </testsuite>\n");
    }
    out.push_str("</testsuites>\n");
    out
}

fn case(out: &mut String, problem: &Problem, file: &str) {
    let place = &problem.place;
    let at = format!("{file}:{}:{}", place.line, place.column);
    let record = problem.table.iter().zip(&problem.key).map(|(table, key)| format!(" of {table}:{key}"));
    let name = format!("{}{} at {}:{}", problem.name(), record.collect::<String>(), place.line, place.column);
    let help = problem.help.as_ref().map(|help| format!("\n{}", help_text(help))).unwrap_or_default();
    let text = xml_escaped(&format!("{at}: {}{help}\n{}", problem.message, place.source));
    let (name, code) = (xml_escaped(&name), xml_escaped(problem.name()));
    let _ = writeln!(out, "    <testcase classname=\"{code}\" name=\"{name}\">");
    let message = xml_escaped(&problem.message);
    let _ = match problem.severity {
        Severity::Error => {
            writeln!(out, "      <failure message=\"{message}\" type=\"{code}\">{text}</failure>")
        }
        Severity::Warning => writeln!(out, "      <system-out>{text}</system-out>"),
    };
    out.push_str("    </testcase>\n");
}
