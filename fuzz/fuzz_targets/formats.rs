//! Any bytes as a file of each format: no panic, all places inside the text and on whole
//! characters, and a value written back where it stood is read again as the same value.
#![no_main]

use libfuzzer_sys::fuzz_target;
use std::sync::{Arc, OnceLock};
use stitching_core::formats::{Column, ColumnCell, Fault, Format, RawRecord, RecordSink, decode};
use stitching_core::text::{Edit, EditSet, Text};

const FORMATS: [&str; 6] = [
    r##"{ kind = "delimited", comment = "#" }"##,
    r#"{ kind = "delimited", delimiter = ";", trim = true, closed = true }"#,
    r#"{ kind = "delimited", delimiter = "¦", quotes = true, header = false, columns = ["a", "b"] }"#,
    r#"{ kind = "json", records = "$..*" }"#,
    r#"{ kind = "json", records = "$[*]", comments = true, trailing_commas = true }"#,
    r##"{ kind = "lines", line = '{a} = "{b}"[ # {c}]', comment = ["//"] }"##,
];

fn formats() -> &'static Vec<Arc<dyn Format>> {
    static MADE: OnceLock<Vec<Arc<dyn Format>>> = OnceLock::new();
    MADE.get_or_init(|| {
        let make = |described: &&str| {
            let toml = format!("[table.t]\nfiles = \"t\"\nformat = {described}\nkey = \"{{stem}}\"\n");
            let files = [("s.toml".to_owned(), toml)];
            let (mut schema, problems) = stitching_core::schema::read(&files, &["en".to_owned()]);
            assert!(problems.is_empty(), "{problems:?}");
            schema.tables.remove(0).format
        };
        FORMATS.iter().map(make).collect()
    })
}

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

fn read(format: &dyn Format, text: &Text<'_>) -> Seen {
    let columns = ["a", "b"].map(|name| Column { name, optional: false });
    let mut seen = Seen::default();
    format.read(text, &columns, &mut seen);
    seen
}

fn values(text: &str, seen: &Seen) -> Vec<(u16, String)> {
    seen.cells.iter().map(|cell| (cell.column, decode(text, &cell.cell).text.into_owned())).collect()
}

fuzz_target!(|data: &[u8]| {
    let Some((which, rest)) = data.split_first() else { return };
    let format = &formats()[usize::from(*which) % FORMATS.len()];
    let mut bytes = rest.to_vec();
    let text = Text::decode(&mut bytes, None);
    let seen = read(&**format, &text);
    for fault in &seen.faults {
        assert!(fault.span.start <= fault.span.end && fault.span.end as usize <= text.as_str().len());
    }
    let mut edits = Vec::new();
    for cell in &seen.cells {
        assert!(text.as_str().get(cell.cell.span.range()).is_some(), "{cell:?}");
        let value = decode(text.as_str(), &cell.cell).text;
        if let Ok(text) = format.encode(&cell.cell, ["a", "b"][usize::from(cell.column)], &value) {
            edits.push(Edit { span: cell.cell.span, text });
        }
    }
    if !seen.faults.is_empty() {
        return;
    }
    let Ok(edits) = EditSet::new(edits) else { return };
    let mut after = edits.apply(text.as_str().as_bytes()).expect("inside");
    let again = Text::decode(&mut after, None);
    assert_eq!(values(again.as_str(), &read(&**format, &again)), values(text.as_str(), &seen));
});
