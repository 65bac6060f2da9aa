//! One fault in a large file costs at most the record it stands in, or two at a fault in the nesting.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

use rstest::rstest;
use std::collections::BTreeSet;
use stitching_core::layers::RelPath;
use stitching_core::schema::{self, Table};
use stitching_core::tables::read_all;
use stitching_core::text::Text;

/// How many records a file has.
const RECORDS: usize = 300;
/// The record in which the fault stands.
const BROKEN: usize = 150;

fn table(format: &str, key: &str) -> Table {
    let toml = format!("[table.t]\nfiles = \"t\"\nformat = {format}\nkey = \"{key}\"\n");
    let (mut schema, problems) = schema::read(&[("s.toml".to_owned(), toml)], &["en".to_owned()]);
    assert_eq!(problems, [], "{format}");
    schema.tables.remove(0)
}

fn keys(table: &Table, text: &str) -> BTreeSet<String> {
    let path = RelPath::parse("t").expect("a path");
    read_all(table, &path, &Text::of_str(text)).into_iter().filter_map(|record| record.key).collect()
}

/// Takes each character of one record away, doubles it, and puts another in its place; each time all other
/// keys must still be there, but for `lost` of them.
fn survives(format: &str, key: &str, record: &str, around: (&str, &str), between: &str, lost: usize) {
    let table = table(format, key);
    let records: Vec<String> =
        (0..RECORDS).map(|number| record.replace('@', &format!("k{number:03}"))).collect();
    let head = format!("{}{}{between}", around.0, records[..BROKEN].join(between));
    let tail = format!("{between}{}{}", records[BROKEN + 1..].join(between), around.1);
    let whole = keys(&table, &format!("{head}{}{tail}", records[BROKEN]));
    assert_eq!(whole.len(), RECORDS, "{format}");
    let own = &records[BROKEN];
    let name = format!("k{BROKEN:03}");
    // A fault in the indentation itself leaves nothing to go by.
    let indented = |at: usize| own[..at].rsplit('\n').next().is_some_and(|line| line.trim().is_empty());
    for (at, old) in own.char_indices().filter(|(at, old)| *old != ' ' || !indented(*at)) {
        let rest = &own[at + old.len_utf8()..];
        let faults = [
            "".to_owned(),
            format!("{old}{old}"),
            "x".to_owned(),
            "\"".to_owned(),
            "<".to_owned(),
            "}".to_owned(),
        ];
        for new in faults {
            let broken = format!("{head}{}{new}{rest}{tail}", &own[..at]);
            let found = keys(&table, &broken);
            let missing: Vec<&String> = whole.difference(&found).filter(|key| **key != name).collect();
            assert!(
                missing.len() <= lost,
                "{format}\n{}{new}{rest}\nloses {} others: {missing:?}",
                &own[..at],
                missing.len()
            );
        }
    }
}

#[rstest]
#[case::tabs(r#"{ kind = "delimited" }"#, "Key", "@\tb\tc", ("Key\tB\tC\n", "\n"), "\n", 0)]
#[case::quotes(r#"{ kind = "delimited", delimiter = ";" }"#, "Key", "@;\"b c\";\"d\"", ("Key;B;C\n", "\n"), "\n", 1)]
#[case::ini(r#"{ kind = "ini", trailing = true }"#, "{section}", "[@]\na = 1\nb = \"two\" ; note", ("", "\n"), "\n\n", 0)]
#[case::keys(r#"{ kind = "ini", records = "keys" }"#, "{key}", "@ = 1", ("[a]\n", "\n"), "\n", 0)]
#[case::lines(r#"{ kind = "lines", line = '{key} = "{text}"', comment = "//" }"#, "key", "@ = \"text\"", ("", "\n"), "\n", 0)]
#[case::shapes(r#"{ kind = "lines", line = ["{key}", "{a} {b}", "[{c}]"] }"#, "key", "@\n1 2\nlist", ("", "\n"), "\n\n", 1)]
#[case::po(r#"{ kind = "po" }"#, "msgid", "msgid \"@\"\nmsgstr \"text\"", ("", "\n"), "\n\n", 0)]
#[case::xml(
    r#"{ kind = "xml", records = "/all/one" }"#, "@id",
    "  <one id=\"@\">\n    <a b='c'>text &amp; more</a>\n    <d/>\n  </one>", ("<all>\n", "\n</all>\n"), "\n", 1
)]
#[case::json(
    r#"{ kind = "json", records = "$[*]" }"#, "id",
    "  {\n    \"id\": \"@\",\n    \"list\": [1, \"two\", {\"a\": true}]\n  }", ("[\n", "\n]\n"), ",\n", 1
)]
#[case::blocks(
    r#"{ kind = "blocks", records = "all/*" }"#, "{name}",
    "    @ = {\n        a = \"text\"\n        b = { c = 1 }\n        d = { e f }\n    }", ("all = {\n", "\n}\n"), "\n", 1
)]
fn a_fault_costs_its_record(
    #[case] format: &str,
    #[case] key: &str,
    #[case] record: &str,
    #[case] around: (&str, &str),
    #[case] between: &str,
    #[case] lost: usize,
) {
    survives(format, key, record, around, between, lost);
}
