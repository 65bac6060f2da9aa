//! A list that begins with its count, and the count is wrong.

use super::{Check, Run};
use crate::Code;
use crate::formats::{Cell, Fault, decode};
use crate::problem::Severity;
use crate::schema::Field;
use crate::tables::{RecordView, wrong_count};
use crate::text::Edit;

pub(super) static CHECK: Check = Check {
    code: Code::WRONG_COUNT,
    severity: Severity::Error,
    about: "a list that begins with a wrong count",
    docs: DOCS,
    run: Run::Cell(find),
};

const DOCS: &str = "\
What it finds
    A list whose first item is the number of those that follow, and the number is another one.

Why it matters
    The game reads as many items as it is told: it loses some, or takes what follows for items.

When to ignore it
    Never.

Example, wrong
    stops = 3, weir, old_mill

Example, right
    stops = 2, weir, old_mill
";

/// Compares the count at the start of a list with the items that follow.
fn find(record: &RecordView<'_>, field: &Field, cell: &Cell) -> Option<Fault> {
    if !field.counted {
        return None;
    }
    let decoded = decode(record.text, cell);
    if record.table.rules[field.layout.rules()[0]].is_none(&decoded.text) {
        return None;
    }
    let (said, count, place) = wrong_count(field, &decoded.text)?;
    let message = format!("`{}` begins with the count `{said}`, and {count} follow", field.name);
    let span = decoded.span(place.start, place.end);
    let mut fault = Fault::new(Code::WRONG_COUNT, span, message);
    // An item may have been lost, and the count be right.
    fault.fix = Some((format!("write `{count}`"), Edit { span, text: count.to_string() }));
    fault.fix_is_safe = false;
    Some(fault.help(format!("write `{count}`, or look for a lost item")))
}
