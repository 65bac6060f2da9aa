//! A byte order mark that is missing, or should not be there.

use super::{Check, Run};
use crate::Code;
use crate::formats::Fault;
use crate::problem::Severity;
use crate::schema::Table;
use crate::text::{Edit, Span, Text};

pub(super) static CHECK: Check = Check {
    code: Code::BYTE_ORDER_MARK,
    severity: Severity::Error,
    about: "a byte order mark that is missing, or should not be there",
    docs: DOCS,
    run: Run::File(find),
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

/// Compares how a file begins with what its table says.
fn find(table: &Table, text: &Text<'_>) -> Option<Fault> {
    let (message, title, mark) = match (table.byte_order_mark?, text.body() > 0) {
        (true, false) => ("the file does not begin with a byte order mark", "add the mark", "\u{feff}"),
        (false, true) => ("the file begins with a byte order mark", "remove the mark", ""),
        _ => return None,
    };
    let span = Span::new(0, text.body());
    let mut fault = Fault::new(Code::BYTE_ORDER_MARK, span, message);
    fault.fix = Some((title.to_owned(), Edit { span, text: mark.to_owned() }));
    Some(fault.help("save it the other way; the game reads it wrongly as it is"))
}
