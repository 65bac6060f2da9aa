//! Trying a rule on the records that its description gives as good and as bad.

use super::hold_rows;
use crate::Error;
use crate::help::Help;
use crate::problem::Place;
use crate::rows::{ColumnPath, Others, Rows};
use crate::schema::{Example, Rule};

/// An example that shows that a rule does not say what is meant.
#[derive(Debug)]
pub struct ExampleFault {
    /// What is wrong.
    pub message: String,
    /// What to do, if that is known.
    pub help: Option<Help>,
    /// Where the example stands.
    pub place: Place,
}

/// Tries `rule` on its examples; gives those that are not as they are said to be.
pub fn try_examples(rule: &Rule, others: &Others<'_>) -> Vec<ExampleFault> {
    let of = |examples: &[Example], is_good: bool| {
        let tried = examples.iter().filter_map(|example| {
            let met = met(rule, example, others);
            let help = met.as_ref().err().and_then(Error::help);
            let message = match (met, is_good) {
                (Err(error), _) => format!("the rule `{}` cannot be tried on this: {error}", rule.name),
                (Ok((0, _)), _) => {
                    format!("the rule `{}` is not about this example: `when` does not hold", rule.name)
                }
                (Ok((_, None)), false) => {
                    format!("the rule `{}` is met by this example, which is to be bad", rule.name)
                }
                (Ok((_, Some(why))), true) => {
                    format!("the rule `{}` is not met by this example, which is to be good: {why}", rule.name)
                }
                (Ok(_), _) => return None,
            };
            Some(ExampleFault { message, help, place: example.place.clone() })
        });
        tried.collect::<Vec<_>>()
    };
    let mut out = of(&rule.good, true);
    out.extend(of(&rule.bad, false));
    out
}

/// To how many records of an example the rule applies, and what is wrong there.
fn met(rule: &Rule, example: &Example, others: &Others<'_>) -> Result<(usize, Option<String>), Error> {
    let real = others.rows(rule.table)?;
    for (name, _) in example.records.iter().flatten() {
        ColumnPath::parse(&real, name, others)?;
    }
    let rows = Rows::made_up(&others.schema().tables[rule.table], rule.table, &example.records);
    let (records, findings) = hold_rows(rule, &rows, others)?;
    if let Some((error, _)) = findings.failure {
        return Err(error);
    }
    Ok((records, findings.violations.into_iter().next().map(|found| found.message)))
}
