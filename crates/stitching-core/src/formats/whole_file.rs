//! Files that are records themselves: the key is the path or the stem.

use super::registry::{FormatKind, KIND_SETTING};
use super::{Adds, Cell, Column, Format, RawRecord, RecordSink, Sharing};
use crate::text::{Span, Text};
use std::sync::Arc;

/// One record a file, without fields.
#[derive(Debug, Clone, Copy)]
pub struct WholeFile;

impl WholeFile {
    /// What a schema calls the format.
    pub const NAME: &'static str = "file";
}

/// The format as a schema names it.
pub(super) static KIND: FormatKind = FormatKind {
    name: WholeFile::NAME,
    about: "Files that are records themselves.",
    settings: &[KIND_SETTING],
    read: |reader, table, _| {
        reader.check_keys(table, &[KIND_SETTING], |_| false);
        Some(Arc::new(WholeFile))
    },
};

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

    fn sharing(&self) -> Sharing {
        Sharing::Freely
    }

    fn reads_content(&self) -> bool {
        false
    }

    fn adds(&self) -> Option<Adds> {
        None
    }

    fn escape_bytes(&self) -> &'static [u8] {
        b""
    }
}
