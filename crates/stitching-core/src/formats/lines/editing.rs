//! Editing lines described by templates.

use super::Lines;
use crate::formats::editing::{
    Cells, Dialect, Editor, Entries, NewEntry, Part, Place, Refusal, Style, line_entry, row_entries,
};
use crate::formats::{Format, OffStyle, decode};
use crate::text::{Span, Template, Text};

/// What is special about editing lines.
struct LineDialect<'t> {
    format: &'t Lines,
    cells: Cells,
}

/// The editor of a text of lines.
pub(super) fn editor<'t>(format: &'t Lines, text: &Text<'t>) -> Editor<'t> {
    let style = Style { marks: format.comments.clone(), gap: " ", ..Style::default() };
    let entries = row_entries(format, text, text.body(), style);
    Editor::new(entries, LineDialect { format, cells: Cells::default() })
}

impl LineDialect<'_> {
    /// The line of a record with one more of its parts, and what of it is replaced: all but a note behind it.
    fn refilled(
        &self,
        entries: &Entries<'_>,
        line: Span,
        column: &str,
        value: &str,
    ) -> Result<(Span, String), Refusal> {
        let text = Text::of_file(entries.text());
        if self.format.lines.len() > 1 {
            return Err(format!("the record has no `{column}`, and it goes over several lines"));
        }
        let value_of = |part: &str| {
            if part == column {
                return Some(value.to_owned());
            }
            let cells = self.cells.of(self.format, &text, part, line);
            cells.first().map(|cell| decode(entries.text(), cell).text.into_owned())
        };
        let found = self.format.shape_of(line.of(entries.text()));
        let own = found.as_ref().map(|shape| shape.number);
        let end = found.map_or(line.end, |shape| line.start + shape.end as u32);
        let held = self.format.shapes().nth(own.unwrap_or_default()).map_or(&[][..], |shape| shape.parts());
        let held: Vec<&String> = held.iter().filter(|part| value_of(part).is_some()).collect();
        // Its own shape first; then one of the others that has all that the line says.
        let shapes = self.format.shapes().enumerate();
        let mut shapes: Vec<(usize, &Template)> =
            shapes.filter(|(_, shape)| held.iter().all(|part| shape.parts().contains(part))).collect();
        shapes.sort_by_key(|(number, _)| (Some(*number) != own, *number));
        for (number, shape) in &shapes {
            let Ok(filled) = shape.fill(value_of) else { continue };
            if self.format.value_in(&filled, *number, column) == Some(value) {
                return Ok((Span { start: line.start, end }, filled));
            }
        }
        let sources: Vec<String> =
            self.format.shapes().map(|shape| format!("`{}`", shape.source())).collect();
        match &sources[..] {
            [alone] => Err(format!("a line of the shape {alone} cannot hold `{column}` here")),
            all => Err(format!("no line of the shapes {} can hold `{column}` here", all.join(", "))),
        }
    }
}

impl Dialect for LineDialect<'_> {
    fn set(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        value: &str,
    ) -> Result<(), Refusal> {
        let line = entries.node(record.ok_or("there is no such line")?).span;
        let text = Text::of_file(entries.text());
        match self.cells.of(self.format, &text, column, line).as_slice() {
            [] => {
                let (span, new) = self.refilled(entries, line, column, value)?;
                entries.edit(span, new);
            }
            [cell] if cell.span.start >= line.start && cell.span.end <= line.end => {
                let new = self.format.encode(cell, column, value)?;
                entries.edit(cell.span, new);
            }
            [_] => return Err(format!("`{column}` stands on a line that holds for other records too")),
            _ => return Err(format!("`{column}` holds several values")),
        }
        Ok(())
    }

    fn take(&self, entries: &Entries<'_>, record: usize, part: &Part<'_>) -> Result<NewEntry, Refusal> {
        Ok(line_entry(entries, record, part))
    }

    fn insert(&self, entries: &mut Entries<'_>, entry: &NewEntry, place: Place) -> Result<(), Refusal> {
        if matches!(place, Place::First | Place::Last) && self.format.adds().is_none() {
            return Err(
                "what stands above a record tells a part of it, so its place must be named".to_owned()
            );
        }
        entries.insert(entry, place, self)
    }

    fn as_dialect(&self) -> &dyn Dialect {
        self
    }

    fn off_style(&self) -> OffStyle {
        self.format.off_style()
    }
}
