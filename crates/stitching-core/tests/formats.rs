//! Reading: what records, values and places come out of a text, and that nothing is lost when a
//! value is written back.
//!
//! A fixture is a bundle of `format` (a table's format), `columns` (one a line) and `text`; the
//! section `records` has what comes out.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use proptest::prelude::*;
use rstest::rstest;
use std::fmt::Write as _;
use std::path::PathBuf;
use std::sync::Arc;
use stitching_core::formats::{Column, ColumnCell, Fault, Format, RawRecord, RecordSink, decode};
use stitching_core::schema;
use stitching_core::text::{Edit, EditSet, Text};

/// The format that a table with this `format = ...` has.
fn format(described: &str) -> Arc<dyn Format> {
    let toml = format!("[table.t]\nfiles = \"t\"\nformat = {described}\nkey = \"{{stem}}\"\n");
    let (mut schema, problems) = schema::read(&[("schema.toml".to_owned(), toml)], &["en".to_owned()]);
    assert_eq!(problems, [], "{described}");
    schema.tables.remove(0).format
}

#[derive(Default)]
struct Seen {
    records: Vec<Vec<ColumnCell>>,
    faults: Vec<Fault>,
}

impl RecordSink for Seen {
    fn record(&mut self, record: &RawRecord<'_>) {
        self.records.push(record.cells.to_vec());
    }
    fn fault(&mut self, fault: Fault) {
        self.faults.push(fault);
    }
}

fn read(format: &dyn Format, text: &Text<'_>, columns: &[String]) -> Seen {
    let columns: Vec<Column<'_>> = columns
        .iter()
        .map(|name| Column { name, optional: false, related: false, described: true })
        .collect();
    let mut seen = Seen::default();
    format.read(text, &columns, &mut seen);
    seen
}

fn values(text: &str, seen: &Seen) -> Vec<Vec<(u16, String)>> {
    let value = |cell: &ColumnCell| (cell.column, decode(text, &cell.cell).text.into_owned());
    seen.records.iter().map(|cells| cells.iter().map(value).collect()).collect()
}

#[rstest]
fn records_values_and_places(#[files("tests/formats/*/*.txt")] fixture: PathBuf) {
    let bundle = std::fs::read_to_string(&fixture).expect("a fixture");
    let bundle = bundle.split("\n=== records\n").next().unwrap_or_default();
    let mut sections = support::sections(bundle);
    let section = |name: &str| String::from_utf8(sections[name].clone()).expect("text");
    let format = format(section("format").trim());
    let columns: Vec<String> = section("columns").lines().map(str::to_owned).collect();
    let mut bytes = sections.remove("text").expect("a text");
    let text = Text::decode(&mut bytes, None);
    let seen = read(&*format, &text, &columns);
    let mut out = format!("columns: {}\n", format.columns(&text).join(" | "));
    for cells in &seen.records {
        for ColumnCell { column, cell, .. } in cells {
            let raw = &text.as_str()[cell.span.range()];
            let value = decode(text.as_str(), cell).text;
            let shown =
                if raw == value { format!("{value:?}") } else { format!("{value:?} written {raw:?}") };
            let _ = writeln!(
                out,
                "{} {}..{} {:?} {shown}",
                columns[usize::from(*column)],
                cell.span.start,
                cell.span.end,
                cell.form
            );
        }
        out.push_str("--\n");
    }
    for fault in &seen.faults {
        let _ = writeln!(out, "{} {}..{} {}", fault.code, fault.span.start, fault.span.end, fault.message);
    }
    support::compare(&fixture, "records", &out);
}

/// The formats that the properties are tried on, each with the columns that are read.
const PLAIN: &str = r##"{ kind = "delimited", delimiter = "tab", comment = "#" }"##;
const QUOTED: &str = r#"{ kind = "delimited", delimiter = ";", trim = true }"#;
const STRICT: &str = r#"{ kind = "json", records = "$..*" }"#;
const XML: &str = r#"{ kind = "xml", records = "//*" }"#;
const BLOCKS: &str = r##"{ kind = "blocks", records = "**/*", comment = ["#", "//"], escapes = true }"##;
const INDENT: &str = r##"{ kind = "blocks", nesting = "indent", records = "**/*", escapes = true }"##;
const INI: &str = r#"{ kind = "ini", trailing = true, repeated_keys = "apart", head = "top" }"#;
const PO: &str = r#"{ kind = "po" }"#;
const SHAPE: &str = r#"{ kind = "lines", line = ["{a}", "{b} {c}"] }"#;
const FORMATS: &[(&str, &[&str])] = &[
    (PLAIN, &["a", "b"]),
    (QUOTED, &["a", "b"]),
    (r#"{ kind = "delimited", delimiter = "¦", header = false, columns = ["a", "b"] }"#, &["a", "b"]),
    (r#"{ kind = "delimited", delimiter = "blanks", comment = ";" }"#, &["a", "b"]),
    (STRICT, &["a", "b"]),
    (r##"{ kind = "lines", line = '{a} = "{b}"[ # {c}]', comment = ["//"] }"##, &["a", "b"]),
    (
        r##"{ kind = "lines", line = '{a} = "{b}"', comment = "#", trailing = true, over_lines = true }"##,
        &["a", "b"],
    ),
    (
        r#"{ kind = "lines", line = "{a}:{b}", anywhere = true, others = true, carry = "= {c}" }"#,
        &["a", "b", "c"],
    ),
    (SHAPE, &["a", "b"]),
    (INI, &["a", "b", "{section}"]),
    (
        r#"{ kind = "ini", goes_on = "backslash", repeated_sections = "merge", repeated_keys = "last" }"#,
        &["a", "b"],
    ),
    (
        r#"{ kind = "ini", records = "keys", goes_on = "indent", quotes = false }"#,
        &["{section}", "{key}", "{value}"],
    ),
    (r#"{ kind = "ini", goes_on = ["brackets", "comma"], trailing = true }"#, &["a", "b", "{section}"]),
    (
        r#"{ kind = "ini", records = "rows", of = "a", goes_on = "brackets", header = false, columns = ["a", "b"] }"#,
        &["a", "b", "{section}"],
    ),
    (r#"{ kind = "ini", records = "rows", delimiter = "blanks" }"#, &["a", "b", "{section}"]),
    (XML, &["a", "@b", "."]),
    (r#"{ kind = "xml", records = "/a/*" }"#, &["name()", "../@b", "b/text()"]),
    (BLOCKS, &["a", "{name}", "{label}"]),
    (r#"{ kind = "blocks", entries = "**/*", assign = "", comment = "//" }"#, &["{name}", "{value}"]),
    (r#"{ kind = "blocks", items = "" }"#, &["{value}"]),
    (INDENT, &["a", "{name}", "{label}"]),
    (
        r##"{ kind = "blocks", nesting = "indent", entries = "**/*", assign = "", over_lines = true }"##,
        &["{name}", "{value}"],
    ),
    (PO, &["msgctxt", "msgid", "msgstr"]),
];

fn named(names: &[&str]) -> Vec<String> {
    names.iter().map(|name| (*name).to_owned()).collect()
}

fn words() -> impl Strategy<Value = String> {
    let word = prop_oneof![
        Just("a"),
        Just("b"),
        Just("żó"),
        Just("\t"),
        Just(";"),
        Just("¦"),
        Just("\""),
        Just("\"\""),
        Just("\n"),
        Just("\r\n"),
        Just("#"),
        Just("//"),
        Just("/*"),
        Just("*/"),
        Just("{"),
        Just("}"),
        Just("["),
        Just("]"),
        Just(","),
        Just(":"),
        Just("\"a\""),
        Just("\"b\":"),
        Just("1"),
        Just("-0.5"),
        Just("true"),
        Just("null"),
        Just("\\u0041"),
        Just("\\"),
        Just(" "),
        Just(" = \""),
        Just("a\tb\n"),
        Just("a;b\n"),
        Just("\u{feff}"),
    ];
    let more = prop_oneof![
        Just("<a b=\"1\">"),
        Just("<b>"),
        Just("</a>"),
        Just("</b>"),
        Just("<a b='&amp;'/>"),
        Just("&#65;"),
        Just("<![CDATA["),
        Just("]]>"),
        Just("<!--"),
        Just("-->"),
        Just("[a]\n"),
        Just("\na = b ; "),
        Just(";"),
        Just("\n  "),
        Just("\\\n"),
        Just("a = {"),
        Just("a b {\n"),
        Just("}\n"),
        Just("msgid \"a\"\n"),
        Just("msgstr \"b\"\n\"c\\n\"\n"),
        Just("a:b"),
        Just("\n- "),
        Just("\n  - a: "),
        Just("\n    b: "),
        Just("|\n"),
        Just("'"),
        Just("'a''b'"),
        Just("\n---\n"),
    ];
    proptest::collection::vec(prop_oneof![word, more], 0..40).prop_map(|words| words.concat())
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 2_000, failure_persistence: None, ..ProptestConfig::default() })]

    /// Whatever the text: no panic, all places inside it and on whole characters.
    #[test]
    fn any_text_can_be_read(text in words(), which in 0..FORMATS.len()) {
        let format = format(FORMATS[which].0);
        let columns = named(FORMATS[which].1);
        let mut bytes = text.clone().into_bytes();
        let text = Text::decode(&mut bytes, None);
        let seen = read(&*format, &text, &columns);
        for cell in seen.records.iter().flatten() {
            prop_assert!(text.as_str().get(cell.cell.span.range()).is_some(), "{:?}", cell);
        }
        for fault in &seen.faults {
            prop_assert!(fault.span.start <= fault.span.end && fault.span.end as usize <= text.as_str().len());
        }
    }

    /// A search may pass over files in which a value does not stand byte for byte; where it is written otherwise, the file has one
    /// of the bytes that the format names.
    #[test]
    fn what_is_written_otherwise_has_an_escape(text in words(), which in 0..FORMATS.len()) {
        let format = format(FORMATS[which].0);
        let columns = named(FORMATS[which].1);
        let mut bytes = text.clone().into_bytes();
        let text = Text::decode(&mut bytes, None);
        let has_escape = format.escape_bytes().iter().any(|byte| text.as_str().as_bytes().contains(byte));
        for ColumnCell { cell, .. } in read(&*format, &text, &columns).records.iter().flatten() {
            let is_as_it_stands = decode(text.as_str(), cell).text == cell.span.of(text.as_str());
            prop_assert!(is_as_it_stands || has_escape, "{:?} in {:?}", cell, text.as_str());
        }
    }

    /// Writing each value back as it was changes nothing: the edits say what was there already.
    #[test]
    fn a_value_written_back_is_read_again(text in words(), which in 0..FORMATS.len()) {
        let format = format(FORMATS[which].0);
        let columns = named(FORMATS[which].1);
        let mut bytes = text.clone().into_bytes();
        let text = Text::decode(&mut bytes, None);
        let seen = read(&*format, &text, &columns);
        // Past a fault a reader guesses, and may guess otherwise once an escape is written out.
        if !seen.faults.is_empty() {
            return Ok(());
        }
        let mut edits = Vec::new();
        for ColumnCell { column, cell, .. } in seen.records.iter().flatten() {
            let name = &columns[usize::from(*column)];
            let value = decode(text.as_str(), cell).text;
            if let Ok(written) = format.encode(cell, name, &value) {
                edits.push(Edit { span: cell.span, text: written });
            }
        }
        // Nested JSON is given at every depth; only edits that do not overlap can be made at once.
        let Ok(edits) = EditSet::new(edits) else { return Ok(()) };
        let mut after = edits.apply(text.as_str().as_bytes()).expect("inside");
        let again = Text::decode(&mut after, None);
        prop_assert_eq!(values(again.as_str(), &read(&*format, &again, &columns)), values(text.as_str(), &seen));
    }
}

/// Deep nesting and long lines are read without recursion, and in time in proportion to the text.
#[rstest]
#[case::deep(STRICT, "[".repeat(100_000))]
#[case::deep_and_closed(STRICT, "[".repeat(100_000) + &"]".repeat(100_000))]
#[case::wrong_brackets(STRICT, "[".repeat(100_000) + &"}".repeat(100_000))]
#[case::wrong_brackets_by_line(STRICT, "[\n".repeat(50_000) + &"}\n".repeat(50_000))]
#[case::crossed_brackets(STRICT, "[{\n".repeat(25_000) + &"]\n".repeat(25_000))]
#[case::many_columns(PLAIN, format!("a\tb\n{}", "x\t".repeat(10_000)))]
#[case::one_line(PLAIN, "a".repeat(5_000_000))]
#[case::open_quotes(QUOTED, "a;b\n".to_owned() + &"\"x;y\n".repeat(50_000))]
#[case::deep_xml(XML, "<a>".repeat(20_000))]
#[case::deep_xml_closed(XML, "<a>".repeat(20_000) + &"</a>".repeat(20_000))]
#[case::only_ends(XML, "<a>".to_owned() + &"</b>".repeat(100_000))]
#[case::wrong_tags(XML, "<a>".repeat(100_000) + &"</b>".repeat(100_000))]
#[case::crossed_tags(XML, "<a>\n<b>\n".repeat(25_000) + &"</a>\n".repeat(25_000))]
#[case::unlike_tags(XML, (0..20_000).map(|at| format!("<a{at}>\n")).collect::<String>())]
#[case::many_attributes(XML, format!("<a {}/>", "b=\"1\" ".repeat(100_000)))]
#[case::references(XML, format!("<a>{}</a>", "&".repeat(100_000)))]
#[case::bomb(XML, bomb())]
#[case::deep_blocks(BLOCKS, "a = {\n".repeat(20_000))]
#[case::braces_by_line(BLOCKS, "a = {\n".repeat(50_000) + &"  }\n".repeat(10_000))]
#[case::long_word(BLOCKS, "a = {\n  b\n".to_owned() + &"ż".repeat(1000) + "\n}\n}\n")]
#[case::only_braces(BLOCKS, "}".repeat(100_000))]
#[case::words(BLOCKS, "= ".to_owned() + &"word ".repeat(200_000))]
#[case::deep_lines(INDENT, (0..3_000).map(|at| format!("{}a:\n", " ".repeat(at))).collect::<String>())]
#[case::deep_items(INDENT, "- ".repeat(100_000) + "a")]
#[case::deep_lists(INDENT, "a: ".to_owned() + &"[".repeat(100_000) + &"]".repeat(99_999))]
#[case::open_lists(INDENT, "a: [\n".repeat(50_000))]
#[case::open_lists_inside(INDENT, "a:\n".to_owned() + &" b: [\n".repeat(50_000))]
#[case::wrong_ends(INDENT, "a: [\n}\n".repeat(50_000))]
#[case::open_quotes_by_line(INDENT, "a: \"x\n".repeat(50_000))]
#[case::same_keys(INDENT, "a: 1\n".repeat(100_000))]
#[case::neither(INDENT, "word\n".repeat(100_000))]
#[case::open_sections(INI, "[a\n".repeat(50_000))]
#[case::no_keys(INI, "x\n".repeat(50_000))]
#[case::open_texts(PO, "msgid \"x\n".repeat(20_000))]
#[case::wrong_shapes(SHAPE, "a\nb\n".repeat(20_000))]
fn hostile_texts_give_faults(#[case] described: &str, #[case] text: String) {
    let mut bytes = text.into_bytes();
    let text = Text::decode(&mut bytes, None);
    // A record at every depth has as many values as the depth squared, and is not what this is about.
    let records = match described {
        STRICT => "{ kind = \"json\", records = \"$\" }",
        XML => "{ kind = \"xml\", records = \"/a\" }",
        BLOCKS => "{ kind = \"blocks\", records = \"a\" }",
        INDENT => "{ kind = \"blocks\", nesting = \"indent\", records = \"a\" }",
        other => other,
    };
    let columns = FORMATS.iter().find(|(format, _)| *format == described).map(|(_, columns)| named(columns));
    let seen = read(&*format(records), &text, &columns.expect("a known format"));
    assert!(!seen.faults.is_empty());
    assert!(seen.faults.iter().all(|fault| fault.message.len() < 300), "no message repeats the text");
}

/// Entities that would grow to gigabytes if anyone believed them.
fn bomb() -> String {
    let mut out = String::from("<!DOCTYPE a [<!ENTITY e0 \"x\">");
    for level in 1..40 {
        out += &format!("<!ENTITY e{level} \"&e{};&e{};\">", level - 1, level - 1);
    }
    out + "]><a>&e39;</a><a/>"
}
