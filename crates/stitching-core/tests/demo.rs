//! The whole of the demo put through what must hold for every record of any project.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use stitching_core::changes::{FileChange, Note, rename, verify};
use stitching_core::checks::{check, problems};
use stitching_core::formats::{Column, ColumnCell, Fault, RawRecord, RecordSink};
use stitching_core::links::{Address, Thing, find_uses, resolve};
use stitching_core::reading::View;
use stitching_core::reading::with_text;
use stitching_core::schema::KeyPart;
use stitching_core::tables::{
    RecordView, RecordVisitor, all_fields, for_each_piece, key_named, read_all, read_records, shown_key,
};
use stitching_core::text::{Span, Text};
use stitching_core::{Project, Severity};

fn demo(which: &str) -> Project {
    Project::open(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(which))
        .expect("the demo opens")
}

/// All records of the effective files: table, key as kept in memory, and the file.
fn records(project: &Project) -> Vec<(usize, String, usize)> {
    let (stack, schema) = (&project.stack, &project.schema);
    let mut out = Vec::new();
    for file in stack.effective(stack.top()) {
        let path = &stack.files()[file].path;
        for (id, table) in schema.tables.iter().enumerate().filter(|(_, table)| table.takes(path)) {
            let found = with_text(stack, file, |text| read_all(table, path, text)).expect("a file");
            out.extend(found.into_iter().filter_map(|record| Some((id, record.key?, file))));
        }
    }
    out
}

/// Every place that refers to a record, found the slow way: by reading everything.
struct Slow<'s> {
    project: &'s Project,
    table: usize,
    file: usize,
    found: &'s mut BTreeMap<(usize, String), BTreeSet<(usize, Span)>>,
}

impl RecordVisitor for Slow<'_> {
    fn record(&mut self, record: &RecordView<'_>) {
        for field in 0..record.table.fields.len() {
            for_each_piece(record, field, |piece| {
                let rule = &self.project.schema.tables[self.table].rules[piece.rule];
                let Some(named) = key_named(record, rule, piece) else { return };
                for target in rule.refs.iter().filter(|_| piece.fits && !rule.is_none(piece.text)) {
                    let place = (self.file, piece.span);
                    self.found.entry((target.table, named.clone().into_owned())).or_default().insert(place);
                }
            });
        }
    }
}

/// The quick way to the uses of a record, a text search first, finds what reading everything finds.
#[rstest]
#[case("first-try")]
#[case("put-right")]
fn the_text_search_misses_nothing(#[case] which: &str) {
    let project = demo(which);
    let (stack, schema) = (&project.stack, &project.schema);
    let mut slow = BTreeMap::new();
    for file in stack.effective(stack.top()) {
        let path = &stack.files()[file].path;
        for (id, table) in schema.tables.iter().enumerate().filter(|(_, table)| table.takes(path)) {
            let mut reader = Slow { project: &project, table: id, file, found: &mut slow };
            with_text(stack, file, |text| read_records(table, path, text, &all_fields(table), &mut reader))
                .expect("a file");
        }
    }
    let keys: BTreeSet<(usize, String)> =
        records(&project).into_iter().map(|(table, key, _)| (table, key)).collect();
    assert!(keys.len() > 500);
    let mut used = 0;
    for (table, key) in keys {
        let quick =
            find_uses(View::top(stack, schema), &[Thing::Record(table, key.clone())]).expect("its uses");
        let quick: BTreeSet<(usize, Span)> = quick.into_iter().map(|one| (one.file, one.span)).collect();
        let slow = slow.get(&(table, key.clone())).cloned().unwrap_or_default();
        assert_eq!(quick, slow, "{}:{key}", schema.tables[table].name);
        used += usize::from(!quick.is_empty());
    }
    assert!(used > 50, "many records are used");
}

/// Renaming any record to a fresh key is possible, brings no error, and leaves the counts of
/// records and references as they were.
#[rstest]
fn any_record_can_be_renamed() {
    let project = demo("put-right");
    let schema = &project.schema;
    let before = check(View::top(&project.stack, schema)).summary;
    let mut done: BTreeMap<usize, usize> = BTreeMap::new();
    let (of_each, of_the_mod) = if std::env::var_os("EXHAUSTIVE").is_some() { (9, 99) } else { (1, 3) };
    for (table, key, file) in records(&project) {
        let count = done.entry(table).or_default();
        // One of each table, and a few that are the mod's own: with EXHAUSTIVE set many more.
        let own = project.layer_name(file) == "mod" && key.contains("frost");
        if *count >= if own { of_the_mod } else { of_each } {
            continue;
        }
        *count += 1;
        let described = &schema.tables[table];
        let address = Address::show(&described.name, &key);
        let mut parts: Vec<String> = shown_key(&key).split('/').map(str::to_owned).collect();
        let last = parts.last_mut().expect("a part");
        *last = match described.key.last() {
            // Slots are numbers up to 8, and so may places be.
            Some(KeyPart::Field(field))
                if ["Slot", "Place"].contains(&described.fields[*field].name.as_str()) =>
            {
                "8".to_owned()
            }
            // What names a file keeps its ending.
            _ => match last.rsplit_once('.') {
                Some((stem, ending)) => format!("{stem}_new.{ending}"),
                None => format!("{last}_new"),
            },
        };
        let new = parts.join("/");
        let refers = described.key.iter().any(|part| match part {
            KeyPart::Field(field) => {
                described.rules.iter().any(|rule| rule.field == *field && !rule.refs.is_empty())
            }
            _ => false,
        });
        let change = rename(&project, &address, &new).unwrap_or_else(|error| panic!("{address}: {error}"));
        if refers {
            // A key that is itself a reference would dangle: that is an error, and refused.
            assert!(
                verify(&project, &change).is_err() || parts.last().is_some_and(|last| last == "8"),
                "{address}"
            );
            continue;
        }
        verify(&project, &change).unwrap_or_else(|error| panic!("{address} -> {new}: {error}"));
        let after = change.applied_to(&project.stack);
        let summary = check(View::top(&after, schema)).summary;
        let path = |file: &FileChange| file.source().file().map(|file| &project.stack.files()[file].path);
        let texts_of_the_base = change.files().iter().any(|file| file.is_copy() && path(file) != file.to());
        // A text or layout renamed by itself no longer follows the key of its record: a warning.
        assert_eq!(summary.errors, before.errors, "{address}");
        // A record of the base that the mod only adds to stays there as it is.
        let adds = change.notes().iter().any(|note| matches!(note, Note::Added(..)));
        if !texts_of_the_base && !adds {
            assert_eq!(
                (summary.records, summary.references),
                (before.records, before.references),
                "{address} -> {new}"
            );
        }
        assert!(resolve(View::top(&after, schema), &Address::show(&described.name, &new)).is_ok());
        // Nothing outside the edits moved: the lengths add up.
        for file in change.files() {
            let grown =
                file.patch().splices.iter().map(|one| one.bytes.len() as i64 - (one.end - one.start) as i64);
            let grown: i64 = grown.sum();
            let Some(source) = file.source().file() else { continue };
            let before = project.stack.files()[source].size;
            assert_eq!(file.after().len() as i64, before as i64 + grown);
        }
    }
    assert!(done.len() >= 30, "all tables took part: {done:?}");
}

#[rstest]
fn the_mod_put_right_has_no_problems_of_its_own() {
    let project = demo("put-right");
    let report = check(project.view());
    assert_eq!((report.summary.errors, report.summary.warnings, report.summary.inherited), (0, 0, 2));
    let all = problems(&project.stack, &project.schema);
    assert_eq!(all.len(), 2);
    assert!(all.iter().any(|problem| problem.severity == Severity::Error), "the base has a fault of its own");
}

#[derive(Default)]
struct Rows(Vec<(Span, Vec<(u16, Span)>)>);

impl RecordSink for Rows {
    fn record(&mut self, record: &RawRecord<'_>) {
        let cell = |cell: &ColumnCell| (cell.column, cell.cell.span);
        self.0.push((record.span, record.cells.iter().map(cell).collect()));
    }
    fn fault(&mut self, _fault: Fault) {}
}

/// Reading only the rows around some offsets gives the same rows as reading all of them.
#[rstest]
fn rows_around_offsets_are_those_of_the_whole() {
    let project = demo("put-right");
    let (stack, schema) = (&project.stack, &project.schema);
    let mut compared = 0;
    for file in stack.effective(stack.top()) {
        let path = &stack.files()[file].path;
        for table in schema.tables.iter().filter(|table| table.takes(path)) {
            with_text(stack, file, |text| {
                let columns: Vec<Column<'_>> = table
                    .fields
                    .iter()
                    .map(|field| Column {
                        name: &field.name,
                        optional: field.optional,
                        related: false,
                        described: true,
                    })
                    .collect();
                let mut whole = Rows::default();
                table.format.read(text, &columns, &mut whole);
                for step in [1, 7, 50] {
                    let offsets: Vec<usize> = (text.body()..text.as_str().len()).step_by(step).collect();
                    let mut some = Rows::default();
                    if !table.format.read_at(text, &columns, &offsets, &mut some) {
                        continue;
                    }
                    let hit = |span: &Span| {
                        offsets.iter().any(|at| span.range().contains(at) || span.end as usize == *at)
                    };
                    let expected: Vec<_> = whole.0.iter().filter(|(span, _)| hit(span)).cloned().collect();
                    let found: Vec<_> = some.0.iter().filter(|(span, _)| hit(span)).cloned().collect();
                    assert_eq!(found, expected, "{path} by {step}");
                    compared += found.len();
                }
            })
            .expect("a file");
        }
    }
    assert!(compared > 300, "{compared}");
}

/// The demo's texts come with a byte order mark and CRLF in one file; the places in it are right.
#[rstest]
fn places_hold_in_a_file_with_a_mark_and_crlf() {
    let project = demo("put-right");
    let (stack, schema) = (&project.stack, &project.schema);
    let found = resolve(View::top(stack, schema), "texts:frost_cut_name").expect("a text");
    let german = found.places.iter().find(|place| stack.files()[place.file].path.as_str() == "text/de.txt");
    let german = german.expect("a German text");
    let mut bytes = Vec::new();
    stack.read(german.file, &mut bytes).expect("a file");
    assert!(bytes.starts_with(b"\xEF\xBB\xBF") && bytes.windows(2).any(|pair| pair == b"\r\n"));
    assert_eq!(&bytes[german.span.range()], "frost_cut_name = \"Frosttor-Durchstich\"".as_bytes());
    assert_eq!(Text::decode(&mut bytes.clone(), None).body(), 3);
}

/// All patterns tried at once take the same files as one after the other.
#[rstest]
fn a_file_is_taken_by_the_same_tables_either_way() {
    let project = demo("put-right");
    let (stack, schema) = (&project.stack, &project.schema);
    let mut taken = 0;
    for file in stack.files() {
        let one_by_one: Vec<usize> =
            (0..schema.tables.len()).filter(|id| schema.tables[*id].takes(&file.path)).collect();
        assert_eq!(schema.tables_of(&file.path), one_by_one, "{}", file.path);
        taken += one_by_one.len();
    }
    assert!(taken > 100);
}
