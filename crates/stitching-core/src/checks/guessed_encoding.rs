//! A file whose encoding had to be guessed.

use super::{Check, Run};
use crate::Code;
use crate::formats::Fault;
use crate::problem::Severity;
use crate::text::Span;

pub(super) static CHECK: Check = Check {
    code: Code::GUESSED_ENCODING,
    severity: Severity::Warning,
    about: "a file whose encoding had to be guessed",
    docs: DOCS,
    run: Run::Reading,
};

const DOCS: &str = "\
What it finds
    A file of a table that is not UTF-8 and says nothing of its encoding. It is read in the code
    page that its letters look most like.

Why it matters
    A wrong guess shows wrong letters. Until the encoding is declared, only letters of ASCII are
    written into the file.

When to ignore it
    When all names and keys in the file are ASCII, and only notes are not.

Example, wrong
    [table.texts]
    files = \"text/{lang}.txt\"

Example, right
    [table.texts]
    files    = \"text/{lang}.txt\"
    encoding = \"windows-1250\"
";

/// The words for a file whose first letter outside ASCII is at `first`.
pub(super) fn fault(first: Span, encoding: &str) -> Fault {
    let message = format!("the file is not UTF-8; it is read as if it were {encoding}, which is a guess");
    let fault = Fault::new(CHECK.code, first, message);
    fault.help(format!("write the right one into the table: encoding = \"{encoding}\""))
}
