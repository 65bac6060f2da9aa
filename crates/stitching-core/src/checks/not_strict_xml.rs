//! XML that strict readers refuse.

use super::{Check, Run};
use crate::Code;
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: Code::NOT_STRICT_XML,
    severity: Severity::Warning,
    about: "XML that strict readers refuse",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A `&` that begins no reference, a reference to an entity that nothing declares, or a second
    root element.

Why it matters
    Some readers pass over such things, others stop at the place, and the rest of the file is
    lost without a word.

When to ignore it
    When the game's own files have it and the game reads them.

Example, wrong
    <offer good=\"salt & coal\" />

Example, right
    <offer good=\"salt &amp; coal\" />
";
