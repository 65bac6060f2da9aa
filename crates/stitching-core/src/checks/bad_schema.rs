//! A mistake in a schema file.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: Code::BAD_SCHEMA,
    severity: Severity::Error,
    about: "a mistake in a schema file",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A setting in a schema that is not known, a pattern or template that cannot be read, a
    reference to a table that is not described.

Why it matters
    A rule that is misread would stay silent where it should speak.

When to ignore it
    Never: nothing else runs until it is put right.

Example, wrong
    Basin = { ref = \"basin\" }      (the table is called basins)

Example, right
    Basin = { ref = \"basins\" }
";
