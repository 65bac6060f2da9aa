//! A file of a table that is not clean text.

use super::{Check, Run};
use crate::Code;
use crate::formats::Fault;
use crate::problem::Severity;
use crate::text::TextFault;

pub(super) static CHECK: Check = Check {
    code: Code::NOT_TEXT,
    severity: Severity::Error,
    about: "a file of a table that is not clean text",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A file that a table takes and that is no text, such as a packed file under the wrong name; or
    a text with bytes that its encoding does not have.

Why it matters
    Letters outside a to z come out wrong. The file is still checked as far as it can be read,
    but it is never edited, since its bytes could not be kept.

When to ignore it
    When the pattern in the table's `files` takes in a file by mistake: make it narrower.

Example, wrong
    text/de.txt, half of it saved in UTF-8 and half in an old code page

Example, right
    text/de.txt, all of it in UTF-8
";

/// The words for what is wrong with a file's bytes.
pub(super) fn fault(fault: &TextFault) -> Fault {
    let (span, message) = match fault {
        TextFault::Binary { at } => {
            let fault = Fault::new(CHECK.code, *at, "the file is not text: it has a zero byte");
            return fault.help("the pattern of the table takes it in by mistake, or the file was damaged");
        }
        TextFault::Guessed { first, encoding } => return super::guessed_encoding::fault(*first, encoding),
        TextFault::Invalid { first, count: 1, encoding } => {
            (*first, format!("what stands here is not valid {}", shown(encoding)))
        }
        TextFault::Invalid { first, count, encoding } => (
            *first,
            format!("{count} bytes of the file are not valid {}; the first one is here", shown(encoding)),
        ),
    };
    let help = "give the table its `encoding`, or save the file anew; until then it is read but never edited";
    Fault::new(CHECK.code, span, message).help(help)
}

fn shown(encoding: &str) -> String {
    encoding.to_uppercase()
}
