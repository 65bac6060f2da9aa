//! Taking a value apart: the items of a list, the parts of an item.

use super::RecordView;
use crate::formats::{Cell, decode};
use crate::schema::{Field, Layout, Table};
use crate::text::Span;

/// The smallest unit that has a rule: a whole value, an item of a list, or a part of one.
#[derive(Debug)]
pub struct Piece<'p> {
    /// The position of its rule in the table's rules.
    pub rule: usize,
    /// Its text.
    pub text: &'p str,
    /// Its place in the file.
    pub span: Span,
    /// Its place in the decoded value, in bytes.
    pub within: std::ops::Range<usize>,
    /// The cell it is part of.
    pub cell: &'p Cell,
    /// Whether the item has the shape its template asks for; if not, the piece is the whole item.
    pub fits: bool,
}

/// Gives all pieces of `field` in `record`, in the order of the file.
#[inline]
pub fn for_each_piece(record: &RecordView<'_>, field: usize, mut each: impl FnMut(&Piece<'_>)) {
    let cells = record.cells.iter().filter(|cell| usize::from(cell.column) == field);
    for cell in cells {
        pieces_of(record.table, &record.table.fields[field], record.text, &cell.cell, &mut each);
    }
}

/// Gives the pieces of one cell of `field`.
#[inline]
pub fn pieces_of(table: &Table, field: &Field, text: &str, cell: &Cell, each: &mut impl FnMut(&Piece<'_>)) {
    let decoded = decode(text, cell);
    let value: &str = &decoded.text;
    if let (Layout::Whole(rule), None) = (&field.layout, &field.list) {
        let span = cell.span;
        return each(&Piece { rule: *rule, text: value, span, within: 0..value.len(), cell, fits: true });
    }
    let mut give = |rule: usize, within: std::ops::Range<usize>, fits: bool| {
        let span = decoded.span(within.start, within.end);
        each(&Piece { rule, text: &value[within.clone()], span, within, cell, fits });
    };
    let first_rule = match &field.layout {
        Layout::Whole(rule) => *rule,
        Layout::Parts(_, rules) => rules[0],
    };
    if table.rules[first_rule].is_none(value) {
        return give(first_rule, 0..value.len(), true);
    }
    for item in items(value, field.list.as_deref()) {
        match &field.layout {
            Layout::Whole(rule) => give(*rule, item, true),
            Layout::Parts(template, rules) => match template.matches(&value[item.clone()]) {
                None => give(first_rule, item, false),
                Some(parts) => {
                    for (part, rule) in parts.into_iter().zip(rules) {
                        if let Some(part) = part {
                            give(*rule, item.start + part.start..item.start + part.end, true);
                        }
                    }
                }
            },
        }
    }
}

/// The items of a list, blanks around them left out; a separator at the very end adds none.
fn items(value: &str, separator: Option<&str>) -> Vec<std::ops::Range<usize>> {
    let mut out = Vec::new();
    let Some(separator) = separator else {
        out.push(0..value.len());
        return out;
    };
    let mut from = 0;
    for item in value.split(separator) {
        let lead = item.len() - item.trim_start().len();
        let start = from + lead;
        out.push(start..start + item.trim().len());
        from += item.len() + separator.len();
    }
    if out.last().is_some_and(|last| last.is_empty()) {
        out.pop();
    }
    out
}
