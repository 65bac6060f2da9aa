//! Rows of cells inside sections: a table in the value of a key, or the lines of a section that are no keys.

use super::parser::IniParser;
use super::{Ini, LINES, SECTION};
use crate::formats::delimited::{Delimited, Header, HeaderRow, Rows, UNWANTED};
use crate::formats::editing::{
    Cells, Dialect, Editor, Entries, NewEntry, Part, Place, Refusal, Style, line_entry, row_entries,
};
use crate::formats::{
    Adds, Cell, Column, ColumnCell, Delimiter, Form, Format, Ignore, OffStyle, RawRecord, RecordSink, Sharing,
};
use crate::text::{Span, Text};

/// Rows that stand inside the sections of an INI file. Each is a record; its columns are those of the row, and what
/// is known of the section's name.
#[derive(Debug)]
pub(super) struct IniRows {
    /// How sections are read, and which.
    pub sections: Ini,
    /// The key whose value the rows are; without it they are the lines that are no keys.
    pub of: Option<String>,
    /// How a row is read.
    pub cells: Delimited,
}

/// Takes the cells of a section's name, the places of its rows, and where faults go; says whether it wants more.
type TakeRows<'f> = dyn FnMut(&[ColumnCell], &[Span], &mut dyn RecordSink) -> bool + 'f;

/// So many sections are looked at to learn the columns.
const SAMPLE: usize = 200;

impl IniRows {
    /// The column of a section whose values are the rows.
    fn source(&self) -> &str {
        self.of.as_deref().unwrap_or(LINES)
    }

    /// Whether a column speaks of the section.
    fn is_of_section(&self, column: &str) -> bool {
        let part = column.strip_prefix('{').and_then(|column| column.strip_suffix('}'));
        part.is_some_and(|part| column == SECTION || self.sections.parts().iter().any(|own| own == part))
    }

    /// Gives each section that has rows: the cells of its name as columns of `of_section`, and the places of the rows.
    fn each(
        &self,
        text: &Text<'_>,
        of_section: &[Column<'_>],
        sink: &mut dyn RecordSink,
        each: &mut TakeRows<'_>,
    ) {
        let mut columns = of_section.to_vec();
        columns.push(Column::optional(self.source()));
        let rows = of_section.len() as u16;
        let mut parser = IniParser::new(&self.sections, text, &columns);
        while let Some(section) = parser.section(sink) {
            let name = section.cells.iter().filter(|cell| cell.column != rows).copied();
            let name: Vec<ColumnCell> = name.collect();
            let line = |cell: &ColumnCell| (cell.column == rows).then(|| self.row_span(text, cell.cell.span));
            let lines: Vec<Span> =
                section.cells.iter().filter_map(line).filter(|line| !line.is_empty()).collect();
            if !lines.is_empty() && !each(&name, &lines, sink) {
                return;
            }
            parser.spare = section;
        }
    }

    /// The row in a line of a value: with its quotes, and without the delimiter before its line end.
    fn row_span(&self, text: &Text<'_>, cell: Span) -> Span {
        let content = text.as_str();
        let is_quote = |at: usize| content.as_bytes().get(at) == Some(&b'"');
        let (mut start, mut end) = (cell.start as usize, cell.end as usize);
        if self.cells.quoted && start > 0 && is_quote(start - 1) && is_quote(end) {
            (start, end) = (start - 1, end + 1);
        }
        let row = &content[start..end];
        let row = match self.cells.delimiter {
            Delimiter::Sign(sign) => row.strip_suffix(sign).unwrap_or(row),
            Delimiter::Blanks => row,
        };
        Span::new(start, start + row.trim_end().len())
    }

    /// The row that names the columns, if the rows begin with one.
    fn header(&self, text: &Text<'_>, rows: &[Span], sink: &mut dyn RecordSink) -> Option<HeaderRow> {
        let first = rows.first()?;
        match &self.cells.header {
            Header::Named(names) => {
                let span = Span { end: first.start, ..*first };
                Some(HeaderRow { names: names.clone(), places: Vec::new(), span })
            }
            Header::FirstRow => self.walk(text, *first).header(sink),
        }
    }

    fn walk<'t>(&'t self, text: &Text<'t>, row: Span) -> Rows<'t> {
        Rows::within(&self.cells, text.as_str(), row.start as usize, row.end as usize)
    }
}

fn unnumbered<'n>(columns: &[(u16, Column<'n>)]) -> Vec<Column<'n>> {
    columns.iter().map(|(_, column)| *column).collect()
}

impl Format for IniRows {
    fn read(&self, text: &Text<'_>, columns: &[Column<'_>], sink: &mut dyn RecordSink) {
        let numbered = || columns.iter().enumerate().map(|(at, column)| (at as u16, *column));
        let (of_section, of_row): (Vec<_>, Vec<_>) =
            numbered().partition(|(_, column)| self.is_of_section(column.name));
        let row_columns = unnumbered(&of_row);
        let mut cells = Vec::with_capacity(columns.len());
        self.each(text, &unnumbered(&of_section), sink, &mut |name, rows, sink| {
            let Some(header) = self.header(text, rows, sink) else { return true };
            let positions = self.cells.bind(&header, &row_columns, sink);
            let last_wanted = positions.iter().rposition(|column| *column != UNWANTED).map_or(0, |at| at + 1);
            let is_data = usize::from(matches!(self.cells.header, Header::FirstRow));
            for row in &rows[is_data..] {
                let mut reader = self.walk(text, *row);
                let Some(span) = reader.row(&positions[..last_wanted], &mut cells, sink) else { continue };
                self.cells.check_count(reader.count, &header.names, span, sink);
                cells.iter_mut().for_each(|cell| cell.column = of_row[usize::from(cell.column)].0);
                let named = |cell: &ColumnCell| ColumnCell {
                    column: of_section[usize::from(cell.column)].0,
                    ..*cell
                };
                cells.splice(0..0, name.iter().map(named));
                sink.record(&RawRecord { span, cells: &cells });
            }
            true
        });
    }

    fn columns(&self, text: &Text<'_>) -> Vec<String> {
        let mut names = self.sections.name_columns();
        let mut looked_at = 0;
        self.each(text, &[], &mut Ignore, &mut |_, rows, sink| {
            for name in self.header(text, rows, sink).map_or_else(Vec::new, |header| header.names) {
                if !names.contains(&name) {
                    names.push(name);
                }
            }
            looked_at += 1;
            looked_at < SAMPLE
        });
        names
    }

    fn encode(&self, cell: &Cell, column: &str, value: &str) -> Result<String, String> {
        if self.is_of_section(column) {
            return self.sections.encode(cell, column, value);
        }
        if value.contains(['\n', '\r']) {
            return Err("it has a line end in it".to_owned());
        }
        let new = self.cells.encode(cell, column, value)?;
        // What a whole line would be taken for is tried on the line that has nothing else.
        let is_plain = cell.form == Form::Plain;
        let is_note = self.sections.comments.iter().any(|mark| new.starts_with(mark.as_str()));
        match is_plain && (is_note || new.contains(['{', '}', '[', ']', '(', ')'])) {
            false => Ok(new),
            true if self.cells.quoted => Ok(format!("\"{}\"", new.replace('"', "\"\""))),
            true => Err("it would be read as a note or a bracket".to_owned()),
        }
    }

    fn source_column(&self) -> Option<&str> {
        self.of.as_deref()
    }

    fn knows(&self, column: &str) -> bool {
        self.is_of_section(column)
    }

    fn check_column(&self, column: &str) -> Result<(), String> {
        match column.starts_with('{') {
            true if self.is_of_section(column) => Ok(()),
            true => Err(format!("the rows of an INI file have no column `{column}`")),
            false => self.cells.check_column(column),
        }
    }

    fn sharing(&self) -> Sharing {
        Sharing::Freely
    }

    fn adds(&self) -> Option<Adds> {
        // Its section tells a part of a row, so its place matters.
        None
    }

    fn absent(&self, column: &str) -> Option<&str> {
        self.sections.absent(column)
    }

    fn off_style(&self) -> OffStyle {
        self.sections.off_style()
    }

    fn escape_bytes(&self) -> &'static [u8] {
        self.cells.escape_bytes()
    }

    fn editor<'t>(&'t self, text: &Text<'t>) -> Option<Editor<'t>> {
        let style = Style { marks: self.sections.comments.clone(), ..Style::default() };
        let entries = row_entries(self, text, text.body(), style);
        Some(Editor::new(entries, RowDialect { format: self, cells: Cells::default() }))
    }
}

/// What is special about editing rows in sections.
struct RowDialect<'t> {
    format: &'t IniRows,
    cells: Cells,
}

impl RowDialect<'_> {
    /// Puts a cell behind those that a row has, with empty ones before it where some are missing.
    fn add_cell(
        &self,
        entries: &mut Entries<'_>,
        row: Span,
        column: &str,
        value: &str,
    ) -> Result<(), Refusal> {
        let text = Text::of_file(entries.text());
        let mut place = None;
        self.format.each(&text, &[], &mut Ignore, &mut |_, rows, sink| {
            let is_here = rows.contains(&row);
            if is_here && let Some(header) = self.format.header(&text, rows, sink) {
                place = header.names.iter().position(|name| name == column);
            }
            !is_here
        });
        let place = place.ok_or_else(|| format!("the row has no column `{column}`"))?;
        let mut cells = self.format.walk(&text, row);
        cells.row(&[], &mut Vec::new(), &mut Ignore);
        let missing = (place + 1).saturating_sub(cells.count);
        let sign = match self.format.cells.delimiter {
            Delimiter::Sign(sign) if missing > 0 => sign.to_string(),
            Delimiter::Blanks if missing == 1 => " ".to_owned(),
            _ => return Err(format!("the row has no cell before `{column}`")),
        };
        // A blank stands behind the others' delimiters too.
        let blank = if row.of(entries.text()).contains(&format!("{sign} ")) { " " } else { "" };
        let is_quoted = self.format.cells.quoted && row.of(entries.text()).ends_with('"');
        let form = if is_quoted { Form::Doubled } else { Form::Plain };
        let new = self.format.encode(&Cell { span: Span::default(), form }, column, value)?;
        let quote = if is_quoted { "\"" } else { "" };
        let text = format!("{}{blank}{quote}{new}{quote}", sign.repeat(missing));
        entries.edit(Span { start: row.end, end: row.end }, text);
        Ok(())
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
        let text = Text::of_file(entries.text());
        match self.cells.of(self.format, &text, column, row).as_slice() {
            [cell] if cell.span.start >= row.start && cell.span.end <= row.end => {
                let new = self.format.encode(cell, column, value)?;
                entries.edit(cell.span, new);
                Ok(())
            }
            [_] => Err(format!("`{column}` is the name of the section, which holds for its other rows too")),
            _ => self.add_cell(entries, row, column, value),
        }
    }

    fn take(&self, entries: &Entries<'_>, record: usize, part: &Part<'_>) -> Result<NewEntry, Refusal> {
        Ok(line_entry(entries, record, part))
    }

    fn insert(&self, entries: &mut Entries<'_>, entry: &NewEntry, place: Place) -> Result<(), Refusal> {
        match place {
            Place::First | Place::Last => {
                Err("its section tells a part of a row, so its place must be named".to_owned())
            }
            Place::Before(_) | Place::After(_) => entries.insert(entry, place, self),
        }
    }

    fn as_dialect(&self) -> &dyn Dialect {
        self
    }

    fn off_style(&self) -> OffStyle {
        self.format.off_style()
    }
}
