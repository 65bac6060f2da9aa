//! A byte order mark that is missing, or should not be there.

use super::{Check, Run};
use crate::problem::Severity;

pub(super) static CHECK: Check = Check {
    code: "byte-order-mark",
    severity: Severity::Error,
    about: "a byte order mark that is missing, or should not be there",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A file that begins with a byte order mark though its table forbids it, or has none though its
    table requires it.

Why it matters
    Some games take a file without the mark for an old code page, and show wrong letters; others
    take the mark for a part of the first name.

When to ignore it
    Never; change `byte_order_mark` in the table if the game reads both.

Example, wrong
    byte_order_mark = \"required\", and text/de.txt saved as plain UTF-8

Example, right
    byte_order_mark = \"required\", and text/de.txt saved as UTF-8 with a mark
";
