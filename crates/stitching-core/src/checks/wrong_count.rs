//! A list that begins with its count, and the count is wrong.

use super::{Check, Run};
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: "wrong-count",
    severity: Severity::Error,
    about: "a list that begins with a wrong count",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A list whose first item is the number of those that follow, and the number is another one.

Why it matters
    The game reads as many items as it is told: it loses some, or takes what follows for items.

When to ignore it
    Never.

Example, wrong
    stops = 3, weir, old_mill

Example, right
    stops = 2, weir, old_mill
";
