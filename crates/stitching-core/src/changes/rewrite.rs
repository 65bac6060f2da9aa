//! Values that get another text, and the edits that write it.

use crate::Error;
use crate::formats::{Cell, Form, decode};
use crate::layers::RelPath;
use crate::schema::{Field, Table, TableId};
use crate::tables::pieces_of;
use crate::text::{Edit, EditSet, Span, Text};
use std::ops::Range;

/// A value to be rewritten: a part of a cell.
#[derive(Clone)]
pub(super) struct Rewrite {
    pub table: TableId,
    /// The record it belongs to, and its key, in tables whose layers count together.
    pub record: Option<(Span, String)>,
    pub field: usize,
    pub cell: Cell,
    pub within: Range<usize>,
    pub new: String,
    /// Whether it leads nowhere if it is left alone: it points to something that is not there under its old name any more.
    pub needed: bool,
}

/// The rewrites in groups of one cell each, without repetitions.
pub(super) fn by_cell(rewrites: &[Rewrite]) -> Vec<Vec<&Rewrite>> {
    let mut sorted: Vec<&Rewrite> = rewrites.iter().collect();
    sorted.sort_by_key(|rewrite| (rewrite.cell.span, rewrite.within.start, rewrite.within.end, &rewrite.new));
    sorted.dedup_by(|a, b| a.cell == b.cell && a.within == b.within && a.new == b.new);
    let mut out: Vec<Vec<&Rewrite>> = Vec::new();
    for rewrite in sorted {
        match out.last_mut() {
            Some(own) if own[0].cell.span == rewrite.cell.span => own.push(rewrite),
            _ => out.push(vec![rewrite]),
        }
    }
    out
}

/// The edits of one cell: only the parts that change, unless the whole must be quoted now.
pub(super) fn cell_edits(
    table: &Table,
    text: &Text<'_>,
    rewrites: Vec<&Rewrite>,
) -> Result<Vec<Edit>, String> {
    let (cell, field) = (rewrites[0].cell, &table.fields[rewrites[0].field]);
    let decoded = decode(text.as_str(), &cell);
    let parts = rewrites.iter().map(|rewrite| Edit {
        span: Span::new(rewrite.within.start, rewrite.within.end),
        text: rewrite.new.clone(),
    });
    let parts = EditSet::new(parts.collect()).map_err(|error| error.to_string())?;
    let whole = parts.apply(decoded.text.as_bytes()).map_err(|error| error.to_string())?;
    let whole = String::from_utf8(whole).map_err(|error| error.to_string())?;
    if shape(table, field, &whole) != shape_after(table, field, &decoded.text, &parts) {
        return Err(format!(
            "`{}` cannot hold `{}`: it would be taken apart in another way",
            field.name, rewrites[0].new
        ));
    }
    let encoded = table
        .format
        .encode(&cell, &field.column, &whole)
        .map_err(|reason| format!("`{}`: {reason}", rewrites[0].new))?;
    let by_part = match cell.form {
        Form::Plain => encoded == whole,
        Form::JsonBare | Form::Nested => false,
        _ => true,
    };
    if !by_part {
        return Ok(vec![Edit { span: cell.span, text: encoded }]);
    }
    let encode = |edit: &Edit| {
        let text = table.format.encode(&cell, &field.column, &edit.text)?;
        Ok(Edit { span: decoded.span(edit.span.start as usize, edit.span.end as usize), text })
    };
    parts.edits().iter().map(encode).collect()
}

/// The pieces of a decoded value, as texts.
fn shape(table: &Table, field: &Field, value: &str) -> Vec<(usize, String)> {
    let cell = Cell { span: Span::new(0, value.len()), form: Form::Plain };
    let mut out = Vec::new();
    pieces_of(table, field, value, 0, &cell, &mut |piece| out.push((piece.rule, piece.text.to_owned())));
    out
}

/// The pieces as they should be after `parts` are replaced.
fn shape_after(table: &Table, field: &Field, value: &str, parts: &EditSet) -> Vec<(usize, String)> {
    let cell = Cell { span: Span::new(0, value.len()), form: Form::Plain };
    let mut out = Vec::new();
    pieces_of(table, field, value, 0, &cell, &mut |piece| {
        let edit = parts.edits().iter().find(|edit| edit.span.range() == piece.within);
        out.push((piece.rule, edit.map_or(piece.text, |edit| edit.text.as_str()).to_owned()));
    });
    out
}

/// Says that a file is not the one that was searched.
pub(super) fn changed_meanwhile(path: &RelPath) -> Error {
    Error::refused(
        format!("`{path}` was changed by another program meanwhile"),
        "run the command again; nothing was changed",
    )
}
