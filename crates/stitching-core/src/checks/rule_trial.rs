//! Trying the rules of the schema: on their examples, and whether they are about any record.

use crate::Code;
use crate::links::Labels;
use crate::problem::{Problem, Severity};
use crate::reading::View;
use crate::rows::Others;
use crate::rules::{declare_needs, records_about, try_examples};
use crate::schema::Rule;

/// What is wrong with the rules of the schema. That a rule does not work at all is found where records are held against it.
pub(super) fn trial(view: View<'_>) -> Vec<Problem> {
    let labels = Labels::default();
    let others = Others::new(view, &labels);
    view.schema.rules.iter().for_each(|rule| declare_needs(rule, &others));
    view.schema.rules.iter().flat_map(|rule| of_rule(rule, &others)).collect()
}

fn of_rule(rule: &Rule, others: &Others<'_>) -> Vec<Problem> {
    let of_example = |fault: crate::rules::ExampleFault| {
        let mut problem = Problem::new(Code::BAD_SCHEMA, Severity::Error, fault.message, fault.place);
        problem.rule = Some(rule.name.clone());
        problem.help = fault.help;
        problem
    };
    let mut out: Vec<Problem> = try_examples(rule, others).into_iter().map(of_example).collect();
    if records_about(rule, others).is_ok_and(|records| records == 0) {
        let what = match &rule.when {
            Some(when) => format!("`{when}` holds for none"),
            None => "its table has none".to_owned(),
        };
        let message = format!("the rule `{}` is about no record: {what}", rule.name);
        out.push(Problem::new(Code::BAD_SCHEMA, Severity::Warning, message, rule.place.clone()));
    }
    out
}
