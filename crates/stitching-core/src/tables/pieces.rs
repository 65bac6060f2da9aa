//! Taking a value apart: the items of a list, the parts of an item.

use super::{KEY_SEPARATOR, RecordView, path_parts};
use crate::formats::{Cell, Form, decode};
use crate::layers::RelPath;
use crate::schema::{Beside, Field, Item, KeyPart, Layout, NamedBy, Table, ValueRule};
use crate::text::Span;
use std::borrow::Cow;
use std::ops::Range;

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
    /// The position of that cell among those of the record.
    pub at: usize,
    /// Whether the item has the shape its template asks for; if not, the piece is the whole item.
    pub fits: bool,
    /// The parts of the same item, if it has several.
    pub siblings: Siblings<'p>,
}

/// The parts of one item of a value.
#[derive(Debug, Clone, Copy)]
pub struct Siblings<'v> {
    value: &'v str,
    /// The position of the rule of each, and its place in the value (bytes).
    parts: &'v [(usize, Range<usize>)],
}

impl<'v> Siblings<'v> {
    /// Those of an item that has no parts.
    pub const NONE: Siblings<'static> = Siblings { value: "", parts: &[] };

    /// The place in the value, in bytes, of the part with the rule at this position, if the item has it.
    pub fn place(&self, rule: usize) -> Option<Range<usize>> {
        self.parts.iter().find(|(own, _)| *own == rule).map(|(_, within)| within.clone())
    }

    /// The text of that part.
    pub fn text(&self, rule: usize) -> Option<&'v str> {
        self.place(rule).map(|within| &self.value[within])
    }
}

impl<'p> Piece<'p> {
    /// The whole value of the cell at position `at` of a record, with its place in the file and its rule.
    #[inline]
    pub fn whole(rule: usize, text: &'p str, span: Span, cell: &'p Cell, at: usize) -> Piece<'p> {
        Piece { rule, text, span, within: 0..text.len(), cell, at, fits: true, siblings: Siblings::NONE }
    }
}

/// The cell of a value that stands in the path of the file: at the beginning of its text, without a byte there.
const IN_PATH: Cell = Cell { span: Span { start: 0, end: 0 }, form: Form::Plain };

/// Gives all pieces of `field` in `record`, in the order of the file. What stands in the path of the file has its place at
/// the beginning of the text, and no bytes there.
#[inline]
pub fn for_each_piece(record: &RecordView<'_>, field: usize, mut each: impl FnMut(&Piece<'_>)) {
    if record.table.fields[field].of_path.is_some() {
        return in_path(record, field, &mut each);
    }
    let cells = record.cells.iter().enumerate().filter(|(_, cell)| usize::from(cell.column) == field);
    for (at, cell) in cells {
        pieces_of(record.table, &record.table.fields[field], record.text, at, &cell.cell, &mut |piece| {
            each_rule(record, at, piece.rule, piece.siblings, &mut |rule| match rule == piece.rule {
                true => each(piece),
                false => each(&Piece { rule, within: piece.within.clone(), ..*piece }),
            });
        });
    }
}

/// Gives the value that `field` of `record` has in the path of the file, by each of its rules.
#[inline(never)]
fn in_path(record: &RecordView<'_>, field: usize, each: &mut impl FnMut(&Piece<'_>)) {
    let (Some(text), Layout::Whole(rule)) = (record.of_path(field), &record.table.fields[field].layout)
    else {
        return;
    };
    for rule in std::iter::once(rule).chain(&record.table.rules[*rule].also) {
        // It is beside no cell.
        each(&Piece::whole(*rule, text, IN_PATH.span, &IN_PATH, usize::MAX));
    }
}

/// Gives the values that a file at `path`, one of `table`, has in its path, each with its field; the record is one without
/// any cell. Nothing is read.
pub fn for_each_in_path(
    table: &Table,
    path: &RelPath,
    each: &mut impl FnMut(usize, &RecordView<'_>, &Piece<'_>),
) {
    let path_parts = path_parts(table, path);
    let record = RecordView::without_cells(table, path, &path_parts);
    for field in table.path_fields() {
        in_path(&record, field, &mut |piece| each(field, &record, piece));
    }
}

/// Gives the rules that hold for a piece of the cell at position `at` of `record`, of which the first is `rule` if no
/// other value says otherwise.
#[inline]
pub fn each_rule(
    record: &RecordView<'_>,
    at: usize,
    rule: usize,
    siblings: Siblings<'_>,
    each: &mut impl FnMut(usize),
) {
    each(rule_in(record, at, rule, siblings));
    for also in &record.table.rules[rule].also {
        each(rule_in(record, at, *also, siblings));
    }
}

/// The position of the rule that holds for a piece of the cell at position `at` of `record` in place of `rule`, if
/// another value tells.
#[inline]
fn rule_in(record: &RecordView<'_>, at: usize, rule: usize, siblings: Siblings<'_>) -> usize {
    let Some(switch) = &record.table.rules[rule].switch else { return rule };
    let value = |value| match value {
        Beside::Field(field) => match record.of_path(field) {
            Some(value) => Some(Cow::Borrowed(value)),
            None => record.cell_beside(at, field).map(|cell| decode(record.text, cell).text),
        },
        Beside::Part(part) => siblings.text(part).map(Cow::Borrowed),
    };
    switch.rule(record.table, value).unwrap_or(rule)
}

/// The key that `piece` of `record` names by `rule`, as kept in memory; `None` if what holds another part of it is
/// missing.
pub fn key_named<'v>(record: &RecordView<'_>, rule: &ValueRule, piece: &Piece<'v>) -> Option<Cow<'v, str>> {
    let own = match &rule.shape {
        None => Cow::Borrowed(piece.text),
        Some(template) => Cow::Owned(template.fill_one(piece.text)),
    };
    if rule.with.is_empty() {
        return Some(own);
    }
    let mut key = String::new();
    for (number, part) in rule.with.iter().enumerate() {
        if number > 0 {
            key.push(KEY_SEPARATOR);
        }
        match part {
            NamedBy::Value => key.push_str(&own),
            part => match beside(record, piece, record.path, *part) {
                Some(text) => key.push_str(&text),
                None if rule.parts_may_lack => {}
                None => return None,
            },
        }
    }
    Some(Cow::Owned(key))
}

/// The path of the file that `piece` of `record` names by `rule`, as it is made: it need not be one that can be; `None` if the
/// rule is about no file, or what holds another part of the path is missing.
pub fn file_named(record: &RecordView<'_>, rule: &ValueRule, piece: &Piece<'_>) -> Option<String> {
    let of_field = |part: NamedBy| matches!(part, NamedBy::Record(KeyPart::Field(_)));
    rule.file.as_ref()?.fill(piece.text, |part| {
        beside(record, piece, record.path, part).filter(|text| !of_field(part) || !text.is_empty())
    })
}

/// What `part`, which is not the value itself, says for `piece` of `record` if the file of that is at `path`; `None` if it is
/// missing.
pub fn beside<'v>(
    record: &RecordView<'v>,
    piece: &Piece<'v>,
    path: &'v RelPath,
    part: NamedBy,
) -> Option<Cow<'v, str>> {
    Some(match part {
        NamedBy::Value => Cow::Borrowed(piece.text),
        NamedBy::Part(part) => Cow::Borrowed(piece.siblings.text(part)?),
        NamedBy::Folder => Cow::Borrowed(path.folder()),
        NamedBy::Record(KeyPart::Position) => Cow::Owned(record.position.to_string()),
        NamedBy::Record(KeyPart::Field(field)) => {
            decode(record.text, record.cell_beside(piece.at, field)?).text
        }
        NamedBy::Record(part) => Cow::Borrowed(record.table.of_path(part, path).unwrap_or_default()),
    })
}

/// Gives the pieces of one cell of `field`, at position `at` among those of its record, with the rules that hold if no
/// other field says otherwise.
#[inline]
pub fn pieces_of(
    table: &Table,
    field: &Field,
    text: &str,
    at: usize,
    cell: &Cell,
    each: &mut impl FnMut(&Piece<'_>),
) {
    let decoded = decode(text, cell);
    let value: &str = &decoded.text;
    if let (Layout::Whole(rule), None) = (&field.layout, &field.list) {
        return each(&Piece::whole(*rule, value, cell.span, cell, at));
    }
    split_value(table, field, value, &mut |rule, within, fits, siblings| {
        let span = decoded.span(within.start, within.end);
        each(&Piece { rule, text: &value[within.clone()], span, within, cell, at, fits, siblings });
    });
}

/// Takes a decoded `value` of `field` apart: gives the rule of each piece, its place in the value (bytes), whether it has
/// the shape that its template asks for, and the parts of the same item.
pub fn split_value(
    table: &Table,
    field: &Field,
    value: &str,
    give: &mut impl FnMut(usize, Range<usize>, bool, Siblings<'_>),
) {
    let first_rule = match &field.layout {
        Layout::Whole(rule) => *rule,
        Layout::Parts(_, rules) => rules[0],
        Layout::Found(_, groups) => groups[0].1,
    };
    if table.rules[first_rule].is_none(value) {
        return give(first_rule, 0..value.len(), true, Siblings::NONE);
    }
    let whole = || vec![Item { within: 0..value.len(), is_closed: true }];
    let items = field.list.as_ref().map_or_else(whole, |list| list.items(value));
    for Item { within: item, is_closed } in items.into_iter().skip(usize::from(field.counted)) {
        if !is_closed {
            give(first_rule, item, false, Siblings::NONE);
            continue;
        }
        match &field.layout {
            Layout::Whole(rule) => give(*rule, item, true, Siblings::NONE),
            Layout::Parts(template, rules) => match template.matches(&value[item.clone()]) {
                None => give(first_rule, item, false, Siblings::NONE),
                Some(parts) => {
                    let parts = parts.into_iter().zip(rules);
                    give_parts(
                        value,
                        parts.filter_map(|(part, rule)| Some((*rule, within(&item, part?)))),
                        give,
                    );
                }
            },
            Layout::Found(regex, groups) => {
                for found in regex.captures_iter(&value[item.clone()]) {
                    let part = |group: usize| found.get(group).map(|part| within(&item, part.range()));
                    give_parts(
                        value,
                        groups.iter().filter_map(|(group, rule)| Some((*rule, part(*group)?))),
                        give,
                    );
                }
            }
        }
    }
}

/// The place in the value of a part with this place in `item`.
fn within(item: &Range<usize>, part: Range<usize>) -> Range<usize> {
    item.start + part.start..item.start + part.end
}

/// Gives the parts of one item of `value`.
fn give_parts(
    value: &str,
    parts: impl Iterator<Item = (usize, Range<usize>)>,
    give: &mut impl FnMut(usize, Range<usize>, bool, Siblings<'_>),
) {
    let parts: Vec<(usize, Range<usize>)> = parts.collect();
    for (rule, within) in &parts {
        give(*rule, within.clone(), true, Siblings { value, parts: &parts });
    }
}

/// What is wrong with the count at the start of a counted list, if something is: what it says, how many
/// items follow, and the place of the count within the value.
pub fn wrong_count(field: &Field, value: &str) -> Option<(String, usize, Range<usize>)> {
    let list = field.list.as_ref().filter(|_| field.counted && !value.trim().is_empty())?;
    let items = list.items(value);
    let first = items.first()?.within.clone();
    let said = &value[first.clone()];
    (said.parse() != Ok(items.len() - 1)).then(|| (said.to_owned(), items.len() - 1, first))
}
