//! A mistake in stitching.toml.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: Code::BAD_PROJECT,
    severity: Severity::Error,
    about: "a mistake in stitching.toml",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A setting in stitching.toml that is not known, has the wrong kind of value, or names a
    folder or file that is not there.

Why it matters
    Without layers and a schema there is nothing to check against.

When to ignore it
    Never: nothing else runs until it is put right.

Example, wrong
    [[layer]]
    nmae = \"mod\"
    path = \"mod\"

Example, right
    [[layer]]
    name = \"mod\"
    path = \"mod\"
";
