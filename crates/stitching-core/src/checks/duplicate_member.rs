//! A name that an object, a section, an element or a block has twice.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: Code::DUPLICATE_MEMBER,
    severity: Severity::Warning,
    about: "a name that an object, a section, an element or a block has twice",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A JSON object, a section of an INI file, the attributes of an XML element, or a block that
    indentation nests, in which the same name stands twice.

Why it matters
    Most programs keep the last one and drop the first without a word.

When to ignore it
    Never; remove one of the two.

Example, wrong
    { \"x\": 1, \"y\": 2, \"x\": 3 }

Example, right
    { \"x\": 3, \"y\": 2 }
";
