//! Editing delimited text.

use super::rows::Rows;
use super::{Delimited, Delimiter, Header};
use crate::formats::editing::{
    Cells, Dialect, Editor, Entries, NewEntry, Part, Place, Refusal, Style, edited, row_entries,
};
use crate::formats::{Cell, Form, Format, Ignore, OffStyle, decode};
use crate::text::{Span, Text};

/// What is special about editing delimited text.
struct RowDialect<'t> {
    format: &'t Delimited,
    /// The names of the columns, and where the header is if the file has one.
    names: Vec<String>,
    header: Option<Span>,
    body: usize,
    cells: Cells,
}

/// The editor of a delimited text.
pub(super) fn editor<'t>(format: &'t Delimited, text: &Text<'t>) -> Editor<'t> {
    let (names, header) = match &format.header {
        Header::Named(names) => (names.clone(), None),
        Header::FirstRow => match Rows::new(format, text).header(&mut Ignore) {
            Some(header) => (header.names, Some(header.span)),
            None => (Vec::new(), None),
        },
    };
    let head_end = header.map_or(text.body(), |span| span.end as usize);
    let style = Style { marks: format.comment.iter().cloned().collect(), ..Style::default() };
    let entries = row_entries(format, text, head_end, style);
    Editor::new(entries, RowDialect { format, names, header, body: text.body(), cells: Cells::default() })
}

impl RowDialect<'_> {
    fn text<'t>(&self, entries: &Entries<'t>) -> Text<'t> {
        Text::of_file(entries.text())
    }

    /// How many cells a row has.
    fn count(&self, text: &Text<'_>, row: Span) -> usize {
        let mut rows = Rows::new(self.format, text);
        rows.at = row.start as usize;
        rows.row(&[], &mut Vec::new(), &mut Ignore);
        rows.count
    }

    fn sign(&self) -> String {
        match self.format.delimiter {
            Delimiter::Sign(sign) => sign.to_string(),
            Delimiter::Blanks => " ".to_owned(),
        }
    }

    /// A value as it stands in a cell.
    fn cell(&self, column: &str, value: &str) -> Result<String, Refusal> {
        self.format.encode(&Cell { span: Span::default(), form: Form::Plain }, column, value)
    }

    /// The values of a row that stands alone, by column.
    fn values(&self, row: &str) -> Vec<(String, String)> {
        let alone = Delimited { header: Header::Named(self.names.clone()), ..self.format.clone() };
        let text = Text::of_str(row);
        let mut rows = Rows::new(&alone, &text);
        let (every, mut cells): (Vec<u16>, _) = ((0..self.names.len() as u16).collect(), Vec::new());
        rows.row(&every, &mut cells, &mut Ignore);
        let value = |(name, cell): (&String, &crate::formats::ColumnCell)| {
            (name.clone(), decode(row, &cell.cell).text.into_owned())
        };
        self.names.iter().zip(&cells).map(value).collect()
    }
}

impl Dialect for RowDialect<'_> {
    fn set(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        value: &str,
    ) -> Result<(), Refusal> {
        let row = entries.node(record.ok_or("there is no such row")?).span;
        let text = self.text(entries);
        if let Some(cell) = self.cells.of(self.format, &text, column, row).first() {
            let new = self.format.encode(cell, column, value)?;
            entries.edit(cell.span, new);
            return Ok(());
        }
        let place = self.names.iter().position(|name| name == column);
        let place = place.ok_or_else(|| format!("the file has no column `{column}`"))?;
        let count = self.count(&text, row);
        if self.format.delimiter == Delimiter::Blanks && place > count {
            return Err(format!("the row has no cell before `{column}`"));
        }
        let new =
            format!("{}{}", self.sign().repeat((place + 1).saturating_sub(count)), self.cell(column, value)?);
        entries.edit(Span { start: row.end, end: row.end }, new);
        Ok(())
    }

    fn take(&self, entries: &Entries<'_>, record: usize, part: &Part<'_>) -> Result<NewEntry, Refusal> {
        let text = edited(entries.text(), entries.node(record).span, part.edits);
        Ok(NewEntry {
            prolog: self.header.map_or(String::new(), |header| header.of(entries.text()).to_owned()),
            notes: if part.notes { entries.notes_above(record) } else { Vec::new() },
            values: self.values(&text),
            text,
            indent: Some(String::new()),
            is_rigid: true,
            ..NewEntry::default()
        })
    }

    fn insert(&self, entries: &mut Entries<'_>, entry: &NewEntry, place: Place) -> Result<(), Refusal> {
        let names: Vec<&String> = entry.values.iter().map(|(name, _)| name).collect();
        let as_it_is =
            self.names.iter().take(names.len()).eq(names) || entries.text()[self.body..].trim().is_empty();
        let mut entry = entry.clone();
        if !as_it_is {
            // The columns stand in another order here.
            let value = |name: &String| {
                entry.values.iter().find(|(own, _)| own == name).map_or("", |(_, value)| value.as_str())
            };
            let lost =
                entry.values.iter().find(|(name, value)| !value.is_empty() && !self.names.contains(name));
            if let Some((name, _)) = lost {
                return Err(format!("the file has no column `{name}`"));
            }
            let cells = self.names.iter().map(|name| self.cell(name, value(name)));
            entry.text = cells.collect::<Result<Vec<_>, _>>()?.join(&self.sign());
        }
        entries.insert(&entry, place, self)
    }

    fn as_dialect(&self) -> &dyn Dialect {
        self
    }

    fn off_style(&self) -> OffStyle {
        self.format.off_style()
    }
}
