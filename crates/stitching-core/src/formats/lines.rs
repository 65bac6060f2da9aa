//! Lines of one shape, told by a template: `{key} = "{text}"`.
//!
//! The parts of the template are the columns. Blank lines and comment lines are passed over; any
//! other line that does not fit is a fault.

use super::{Cell, Column, ColumnCell, Fault, Form, Format, RawRecord, RecordSink};
use crate::text::{Span, Template, Text};

/// The settings of a file of like lines.
#[derive(Debug, Clone)]
pub struct Lines {
    /// What a line looks like.
    pub line: Template,
    /// Marks at the start of a line (after blanks) that make it a comment.
    pub comments: Vec<String>,
}

impl Format for Lines {
    fn read(&self, text: &Text<'_>, columns: &[Column<'_>], sink: &mut dyn RecordSink) {
        let parts = self.line.parts();
        let wanted: Vec<Option<u16>> = parts
            .iter()
            .map(|part| columns.iter().position(|column| column.name == *part).map(|at| at as u16))
            .collect();
        let content = text.as_str();
        let mut cells = Vec::with_capacity(parts.len());
        for (line, start) in lines(text) {
            let shown = line.trim_start();
            if shown.is_empty() || self.comments.iter().any(|mark| shown.starts_with(mark.as_str())) {
                continue;
            }
            let start = start + (line.len() - shown.len());
            let shown = shown.trim_end();
            let span = Span::new(start, start + shown.len());
            let Some(found) = self.line.matches(span.of(content)) else {
                let message = format!("this line does not have the shape `{}`", self.line.source());
                sink.fault(Fault::new("syntax-error", span, message).help(self.shape_help()));
                continue;
            };
            cells.clear();
            for (range, column) in found.into_iter().zip(&wanted) {
                if let (Some(range), Some(column)) = (range, *column) {
                    let span = Span::new(start + range.start, start + range.end);
                    cells.push(ColumnCell { column, cell: Cell { span, form: Form::Plain } });
                }
            }
            sink.record(&RawRecord { span, cells: &cells });
        }
    }

    fn columns(&self, _text: &Text<'_>) -> Vec<String> {
        self.line.parts().to_vec()
    }

    fn encode(&self, _cell: &Cell, column: &str, value: &str) -> Result<String, String> {
        let filled = self.line.fill(|part| Some(if part == column { value } else { "x" }.to_owned()));
        let filled = filled.unwrap_or_default();
        let starts_comment = self.comments.iter().any(|mark| filled.starts_with(mark.as_str()));
        let fits = !value.contains(['\n', '\r']) && self.line.extract(&filled, column) == Some(value);
        if fits && !starts_comment {
            Ok(value.to_owned())
        } else {
            Err(format!("a line of the shape `{}` cannot hold it as {column}", self.line.source()))
        }
    }

    fn check_column(&self, column: &str) -> Result<(), String> {
        if self.line.parts().iter().any(|part| part == column) {
            return Ok(());
        }
        let parts: Vec<String> = self.line.parts().iter().map(|part| format!("`{part}`")).collect();
        Err(format!("the line template has no part `{column}`; its parts are {}", parts.join(", ")))
    }

    fn escape_byte(&self) -> Option<u8> {
        None
    }
}

impl Lines {
    fn shape_help(&self) -> String {
        match self.comments.first() {
            Some(mark) => format!("a line that is a note begins with `{mark}`"),
            None => "look for a quote, sign or part that is missing".to_owned(),
        }
    }
}

/// The lines of `text` without their `\n`, each with its byte offset.
fn lines<'t>(text: &Text<'t>) -> impl Iterator<Item = (&'t str, usize)> {
    let content = text.as_str();
    let mut from = text.body();
    std::iter::from_fn(move || {
        if from >= content.len() {
            return None;
        }
        let end = memchr::memchr(b'\n', &content.as_bytes()[from..]).map_or(content.len(), |at| from + at);
        let line = (&content[from..end], from);
        from = end + 1;
        Some(line)
    })
}
