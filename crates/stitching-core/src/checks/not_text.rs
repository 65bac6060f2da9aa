//! A file of a table that is not clean text.

use super::{Check, Run};
use crate::formats::Fault;
use crate::problem::Severity;
use crate::text::TextFault;

pub(super) static CHECK: Check = Check {
    code: "not-text",
    severity: Severity::Error,
    about: "a file of a table that is not UTF-8 text",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A file that a table takes and that holds bytes which are not UTF-8 text: a packed file
    under the wrong name, UTF-16, or letters in an old code page.

Why it matters
    Letters outside a to z come out wrong. The file is still checked as far as it can be read,
    but it is never edited, since its bytes could not be kept.

When to ignore it
    When the pattern in the table's `files` takes in a file by mistake: make it narrower.

Example, wrong
    text/de.txt, saved in a Windows code page

Example, right
    text/de.txt, saved as UTF-8
";

/// The words for what is wrong with a file's bytes.
pub(super) fn fault(fault: &TextFault) -> Fault {
    let (span, message, help) = match fault {
        TextFault::Binary { at, utf16: true } => {
            (*at, "the file is UTF-16, which is not read".to_owned(), "save it as UTF-8")
        }
        TextFault::Binary { at, .. } => (
            *at,
            "the file is not text: it has a zero byte".to_owned(),
            "the pattern of the table takes it in by mistake, or the file was damaged",
        ),
        TextFault::Invalid { first, count: 1 } => (
            *first,
            "a byte here is not valid UTF-8".to_owned(),
            "save the file as UTF-8; until then it is read but never edited",
        ),
        TextFault::Invalid { first, count } => (
            *first,
            format!("{count} bytes of the file are not valid UTF-8; the first one is here"),
            "save the file as UTF-8; until then it is read but never edited",
        ),
    };
    Fault::new(CHECK.code, span, message).help(help)
}
