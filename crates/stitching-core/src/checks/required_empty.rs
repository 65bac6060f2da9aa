//! An empty value where the game needs one.

use super::{Check, Run};
use crate::Code;
use crate::formats::Fault;
use crate::problem::Severity;
use crate::tables::RecordView;
use crate::text::Span;

pub(super) static CHECK: Check = Check {
    code: Code::REQUIRED_EMPTY,
    severity: Severity::Error,
    about: "an empty value where the game needs one",
    docs: DOCS,
    run: Run::Empty(find),
};

const DOCS: &str = "\
What it finds
    A field marked `required` that is empty, missing, or one of its none values.

Why it matters
    The game has no default for it.

When to ignore it
    When the game does have one: take `required` out of the schema.

Example, wrong
    Reach       Basin
    frost_cut

Example, right
    Reach       Basin
    frost_cut   north
";

/// Says which value is missing.
fn find(record: &RecordView<'_>, rule: usize, span: Span) -> Fault {
    let name = &record.table.fields[record.table.rules[rule].field].name;
    Fault::new(Code::REQUIRED_EMPTY, span, format!("`{name}` is empty, and the game needs a value there"))
}
