//! Problems put together by file, code or record, a line for each.

use super::human::Paths;
use crate::args::GroupBy;
use crate::ui::{BOLD, DIM, RED, YELLOW, count, styled};
use std::collections::HashMap;
use stitching_core::links::Address;
use stitching_core::{Problem, Severity};

/// The problems in groups, those with most errors first; within a group by place. No more than `limit` of them.
pub fn report(problems: &[&Problem], by: GroupBy, limit: usize, paths: &Paths) -> String {
    let mut groups: Vec<(String, Vec<&Problem>)> = Vec::new();
    let mut known: HashMap<String, usize> = HashMap::new();
    for problem in problems {
        let name = heading(problem, by, paths);
        let group = *known.entry(name.clone()).or_insert_with(|| {
            groups.push((name, Vec::new()));
            groups.len() - 1
        });
        groups[group].1.push(problem);
    }
    let errors =
        |problems: &[&Problem]| problems.iter().filter(|problem| problem.severity == Severity::Error).count();
    groups.sort_by_key(|(_, own)| std::cmp::Reverse((errors(own), own.len())));
    let mut out = String::new();
    let mut left = limit;
    for (name, problems) in &groups {
        let number = styled(DIM, count(problems.len(), "problem"));
        let problems = &problems[..problems.len().min(left)];
        left -= problems.len();
        if problems.is_empty() {
            break;
        }
        out.push_str(&format!("{}  {number}\n", styled(BOLD, name)));
        // What is the same in all of them stands in the heading.
        let lines: Vec<[String; 3]> = problems.iter().map(|problem| line(problem, by, paths)).collect();
        let width = |column: usize| lines.iter().map(|line| line[column].chars().count()).max().unwrap_or(0);
        let (first, second) = (width(0), width(1));
        for (line, problem) in lines.iter().zip(problems) {
            let style = if problem.severity == Severity::Error { RED } else { YELLOW };
            let [place, code, message] = line;
            let code = match code.is_empty() {
                true => styled(style, problem.severity.word()),
                false => styled(style, format!("{code:<second$}")),
            };
            out.push_str(&format!("  {place:<first$}  {code}  {message}\n"));
        }
        out.push('\n');
    }
    out
}

fn heading(problem: &Problem, by: GroupBy, paths: &Paths) -> String {
    match by {
        GroupBy::File => paths.show(&problem.place),
        GroupBy::Code => problem.name().to_owned(),
        GroupBy::Record => match (&problem.table, &problem.key) {
            (Some(table), Some(key)) => {
                let label = problem.label.as_ref().map(|label| format!(" \"{label}\"")).unwrap_or_default();
                format!("{}{label}", Address::show(table, key))
            }
            _ => paths.show(&problem.place),
        },
    }
}

/// The place, the code and the message of a problem, without what its heading says.
fn line(problem: &Problem, by: GroupBy, paths: &Paths) -> [String; 3] {
    let place = match by {
        GroupBy::File if problem.place.line > 0 => {
            format!("{}:{}", problem.place.line, problem.place.column)
        }
        GroupBy::File => String::new(),
        GroupBy::Code | GroupBy::Record => paths.place(&problem.place),
    };
    let code = match by {
        GroupBy::Code => String::new(),
        GroupBy::File | GroupBy::Record => problem.name().to_owned(),
    };
    let mut message = problem.message.lines().collect::<Vec<_>>().join(" ");
    if let Some(reason) = &problem.accepted {
        message.push_str(&format!(" (accepted: {reason})"));
    } else if problem.inherited {
        message.push_str(" (of the base)");
    }
    [place, code, message]
}
