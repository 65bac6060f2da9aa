//! Files that are records themselves: the key is the path or the stem.

use super::{Adds, Cell, Column, Format, RawRecord, RecordSink};
use crate::text::{Span, Text};

/// One record a file, without fields.
#[derive(Debug, Clone, Copy)]
pub struct WholeFile;

impl Format for WholeFile {
    fn read(&self, text: &Text<'_>, _columns: &[Column<'_>], sink: &mut dyn RecordSink) {
        sink.record(&RawRecord { span: Span::new(text.body(), text.body()), cells: &[] });
    }

    fn columns(&self, _text: &Text<'_>) -> Vec<String> {
        Vec::new()
    }

    fn encode(&self, _cell: &Cell, _column: &str, _value: &str) -> Result<String, String> {
        Err("a table of whole files has no fields to write to".to_owned())
    }

    fn check_column(&self, column: &str) -> Result<(), String> {
        Err(format!("a table of whole files has no field `{column}`"))
    }

    fn adds(&self) -> Option<Adds> {
        None
    }

    fn escape_byte(&self) -> Option<u8> {
        None
    }
}
