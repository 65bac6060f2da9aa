//! What the fuzz targets of the formats share: any bytes as a file of a format. No panic, all places
//! inside the text and on whole characters, and a value written back where it stood is read again as
//! the same value.

pub mod journal_world;

use std::sync::{Arc, OnceLock};
use stitching_core::formats::{Column, ColumnCell, Fault, Form, Format, RawRecord, RecordSink, decode};
use stitching_core::text::{Edit, EditSet, Text, round_trips};

/// A format as a schema describes it, and the columns that are read.
pub type Described = (&'static str, &'static [&'static str]);

/// The formats, made once.
pub type Made = OnceLock<Vec<Arc<dyn Format>>>;

#[derive(Default)]
struct Seen {
    cells: Vec<ColumnCell>,
    faults: Vec<Fault>,
}

impl RecordSink for Seen {
    fn record(&mut self, record: &RawRecord<'_>) {
        self.cells.extend(record.cells);
    }
    fn fault(&mut self, fault: Fault) {
        self.faults.push(fault);
    }
}

fn make(described: &Described) -> Arc<dyn Format> {
    let toml = format!("[table.t]\nfiles = \"t\"\nformat = {}\nkey = \"{{stem}}\"\n", described.0);
    let (mut schema, problems) = stitching_core::schema::read(&[("s.toml".to_owned(), toml)], &["en".to_owned()]);
    assert!(problems.is_empty(), "{problems:?}");
    schema.tables.remove(0).format
}

fn read(format: &dyn Format, text: &Text<'_>, columns: &[&str]) -> Seen {
    let columns: Vec<Column<'_>> = columns.iter().map(|name| Column { name, optional: false, related: false, described: true }).collect();
    let mut seen = Seen::default();
    format.read(text, &columns, &mut seen);
    seen
}

fn values(text: &str, seen: &Seen) -> Vec<(u16, String)> {
    // A structure is shown as it is written, and what is written in it may change.
    let cells = seen.cells.iter().filter(|cell| cell.cell.form != Form::Nested);
    cells.map(|cell| (cell.column, decode(text, &cell.cell).text.into_owned())).collect()
}

/// Tries `data` on one of `described`, which its first byte chooses.
pub fn try_format(described: &[Described], made: &Made, data: &[u8]) {
    let Some((which, rest)) = data.split_first() else { return };
    let which = usize::from(*which) % described.len();
    let format = &made.get_or_init(|| described.iter().map(make).collect())[which];
    let columns = described[which].1;
    let mut bytes = rest.to_vec();
    let text = Text::decode(&mut bytes, None);
    let seen = read(&**format, &text, columns);
    for fault in &seen.faults {
        assert!(fault.span.start <= fault.span.end && fault.span.end as usize <= text.as_str().len());
    }
    let mut edits = Vec::new();
    for cell in &seen.cells {
        assert!(text.as_str().get(cell.cell.span.range()).is_some(), "{cell:?}");
        let value = decode(text.as_str(), &cell.cell).text;
        if cell.cell.form == Form::Nested {
            continue;
        }
        if let Ok(text) = format.encode(&cell.cell, columns[usize::from(cell.column)], &value) {
            edits.push(Edit { span: cell.cell.span, text });
        }
    }
    if !seen.faults.is_empty() || !text.editable() || !round_trips(rest, text.encoding()) {
        return;
    }
    let Ok(edits) = EditSet::new(edits) else { return };
    let Ok(patch) = text.encoding().patch(text.as_str(), &edits) else { return };
    let mut after = patch.apply(rest).expect("inside");
    let again = Text::decode(&mut after, Some(text.encoding()));
    assert_eq!(values(again.as_str(), &read(&**format, &again, columns)), values(text.as_str(), &seen));
}

/// A fuzz target for some formats.
#[macro_export]
macro_rules! fuzz_formats {
    ($($described:expr),+ $(,)?) => {
        static MADE: $crate::Made = $crate::Made::new();
        libfuzzer_sys::fuzz_target!(|data: &[u8]| {
            $crate::try_format(&[$($described),+], &MADE, data);
        });
    };
}
