//! Editing PO files.

use super::{KEYWORDS, Po};
use crate::formats::editing::{
    Cells, Dialect, Editor, Entries, NewEntry, Part, Refusal, Style, edited, row_entries,
};
use crate::formats::{Cell, Form, Format, OffStyle};
use crate::text::{Span, Text};

/// What is special about editing PO files.
struct PoDialect {
    cells: Cells,
}

/// The editor of a PO file.
pub(super) fn editor<'t>(text: &Text<'t>) -> Editor<'t> {
    let style = Style { marks: vec!["#".to_owned()], blank_lines: 1, ..Style::default() };
    let entries = row_entries(&Po, text, settings_end(text), style);
    Editor::new(entries, PoDialect { cells: Cells::default() })
}

/// One past the first entry, if its `msgid` is empty: it holds settings.
fn settings_end(text: &Text<'_>) -> usize {
    let (mut at, mut end, mut is_settings) = (text.body(), text.body(), false);
    for line in text.as_str()[text.body()..].split_inclusive('\n') {
        let shown = line.trim();
        let is_first = shown.starts_with("msgid ");
        if is_settings && (shown.is_empty() || is_first) {
            break;
        }
        if is_first && !shown.ends_with("\"\"") {
            return text.body();
        }
        is_settings |= is_first;
        if is_settings {
            end = at + line.trim_end().len();
        }
        at += line.len();
    }
    // A `msgid` that only begins empty goes on on the next line.
    let first =
        text.as_str()[text.body()..end].lines().skip_while(|line| !line.trim().starts_with("msgid ")).nth(1);
    if first.is_some_and(|line| line.trim().starts_with('"')) { text.body() } else { end }
}

impl Dialect for PoDialect {
    fn set(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        value: &str,
    ) -> Result<(), Refusal> {
        Po.check_column(column)?;
        let entry = entries.node(record.ok_or("there is no such entry")?).span;
        let text = Text::of_file(entries.text());
        if let Some(cell) = self.cells.of(&Po, &text, column, entry).first() {
            let new = Po.encode(cell, column, value)?;
            entries.edit(cell.span, new);
            return Ok(());
        }
        let end = entries.line_end(false);
        let form = Cell { span: Span::default(), form: Form::PoText };
        let new = format!("{column} \"{}\"", Po.encode(&form, column, value)?);
        if column == KEYWORDS[0] {
            entries.edit(Span { start: entry.start, end: entry.start }, format!("{new}{end}"));
        } else {
            // Behind the keyword that comes before it.
            let own = KEYWORDS.iter().position(|keyword| *keyword == column).unwrap_or(KEYWORDS.len());
            let before = KEYWORDS[..own].iter().rev().find_map(|keyword| {
                self.cells.of(&Po, &text, keyword, entry).last().map(|cell| cell.span.end + 1)
            });
            let at = before.unwrap_or(entry.end);
            entries.edit(Span { start: at, end: at }, format!("{end}{new}"));
        }
        Ok(())
    }

    fn take(&self, entries: &Entries<'_>, record: usize, part: &Part<'_>) -> Result<NewEntry, Refusal> {
        Ok(NewEntry {
            notes: if part.notes { entries.notes_above(record) } else { Vec::new() },
            text: edited(entries.text(), entries.node(record).span, part.edits),
            indent: Some(String::new()),
            ..NewEntry::default()
        })
    }

    fn as_dialect(&self) -> &dyn Dialect {
        self
    }

    fn off_style(&self) -> OffStyle {
        Po.off_style()
    }
}
