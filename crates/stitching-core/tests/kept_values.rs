//! What is set is what is read, or it is refused: odd values in every format, where a field is there and where it is not. The rest of
//! the file stays, and so do notes.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use stitching_core::changes::{SetRequest, set};
use stitching_core::links::Labels;
use stitching_core::rows::Rows;

/// Values that are something else to one format or another, or to a reader that trims, unquotes or escapes.
const ODD: [&str; 66] = [
    "plain",
    "p ; q",
    "p # q",
    "p // q",
    "# q",
    ";q",
    "a;b",
    "a\"b",
    "a'b",
    " lead",
    "trail ",
    "{x}",
    "a: b",
    "- a",
    "",
    "a\\b",
    "a,b",
    "[x]",
    "&amp;",
    "tab\tx",
    "# ",
    "}",
    "\"q\"",
    "'q'",
    "\"q",
    "~",
    "null",
    "|",
    ">",
    "*a",
    "&a",
    "!t",
    "%d",
    "@x",
    "`x",
    "? a",
    "yes",
    "0x1F",
    "1e5",
    "007",
    "=",
    "a=b",
    "/*",
    "a /* b */",
    "<!--",
    "]]>",
    "<a>",
    "\\n",
    "\\u0041",
    "ü€😀",
    "\"",
    "\"\"",
    "\\",
    "a\\",
    "two\nlines",
    "cr\r\nlf",
    "\u{a0}nb",
    "a b",
    "is x",
    "a is b",
    ": x",
    "\u{feff}x",
    "[",
    "(a)",
    "a|b",
    "-",
];

/// Sets `field` of the record `a` to each value in turn, each time in the file as it was.
#[rstest]
#[case::rows(r#"{ kind = "delimited", delimiter = ",", comment = "\#" }"#, "K", "x", "K,x,y\na,1,n\nb,2,m\n")]
#[case::rows_in_quotes(
    r#"{ kind = "delimited", delimiter = ",", quotes = true }"#,
    "K",
    "x",
    "\"K\",\"x\"\n\"a\",\"1\"\n"
)]
#[case::rows_of_blanks(r#"{ kind = "delimited", delimiter = "blanks" }"#, "K", "x", "K  x  y\na  1  2\n")]
#[case::sections(
    r#"{ kind = "ini", trailing = true, comment = [";", "\#"] }"#,
    "{section}",
    "x",
    "[a]\nx = 1 ; n\n[b]\n"
)]
#[case::sections_without_it(
    r#"{ kind = "ini", trailing = true }"#,
    "{section}",
    "z",
    "[a]\nx = 1 ; n\n; m\n[b]\nz=\"q\"\n"
)]
#[case::keys_in_quotes(r#"{ kind = "ini" }"#, "{section}", "x", "[a]\nx = \"1\"\n")]
#[case::attributes(
    r#"{ kind = "xml", records = "/r/a" }"#,
    "@id",
    "@x",
    "<r>\n<a id=\"a\" x=\"1\"><!-- n --></a>\n</r>\n"
)]
#[case::attributes_in_single_quotes(
    r#"{ kind = "xml", records = "/r/a" }"#,
    "@id",
    "@x",
    "<r><a id='a' x='1'/></r>\n"
)]
#[case::attributes_without_it(
    r#"{ kind = "xml", records = "/r/a" }"#,
    "@id",
    "@z",
    "<r><a id=\"a\" x=\"1\"/><a id=\"b\" z='2'/></r>\n"
)]
#[case::elements(
    r#"{ kind = "xml", records = "/r/a" }"#,
    "@id",
    "t",
    "<r><a id=\"a\"><t>q</t><!-- n --></a></r>\n"
)]
#[case::empty_elements(r#"{ kind = "xml", records = "/r/a" }"#, "@id", "t", "<r><a id=\"a\"><t/></a></r>\n")]
#[case::cdata(
    r#"{ kind = "xml", records = "/r/a" }"#,
    "@id",
    "t",
    "<r><a id=\"a\"><t><![CDATA[q]]></t></a></r>\n"
)]
#[case::json(r#"{ kind = "json", records = "$[*]" }"#, "id", "x", "[{\"id\": \"a\", \"x\": \"1\"}]\n")]
#[case::json_without_it(
    r#"{ kind = "json", records = "$[*]" }"#,
    "id",
    "z",
    "[{\"id\": \"a\", \"x\": 1}, {\"id\": \"b\", \"z\": \"2\"}]\n"
)]
#[case::blocks(
    r#"{ kind = "blocks", records = "*", comment = ["\#", "//"] }"#,
    "{name}",
    "x",
    "a {\n  x = 1 # n\n  t = \"q\"\n}\n"
)]
#[case::blocks_in_quotes(
    r#"{ kind = "blocks", records = "*", comment = ["\#", "//"] }"#,
    "{name}",
    "t",
    "a {\n  x = 1 # n\n  t = \"q\" // m\n}\n"
)]
#[case::blocks_without_it(
    r#"{ kind = "blocks", records = "*", comment = "//" }"#,
    "{name}",
    "z",
    "a { x = 1 }\nb { x = 2 z = q }\n"
)]
#[case::by_indentation(
    r#"{ kind = "blocks", records = "*", comment = "\#", nesting = "indent" }"#,
    "{name}",
    "x",
    "a:\n  x: w # n\n  t: \"q\" # m\nb:\n  x: 1\n"
)]
#[case::by_indentation_in_quotes(
    r#"{ kind = "blocks", records = "*", comment = "\#", nesting = "indent" }"#,
    "{name}",
    "t",
    "a:\n  x: w # n\n  t: \"q\" # m\n"
)]
#[case::by_indentation_single(
    r#"{ kind = "blocks", records = "*", comment = "\#", nesting = "indent" }"#,
    "{name}",
    "t",
    "a:\n  x: w\n  t: 'q'\n"
)]
#[case::lines(
    r#"{ kind = "lines", line = "{k}: {x}[, {y}]", or = "{k} is {x}", comment = "\#", trailing = true }"#,
    "k",
    "x",
    "a: 1 # n\nb is 2\n"
)]
#[case::lines_with_a_part(
    r#"{ kind = "lines", line = "{k}: {x}[, {y}]", or = "{k} is {x}", comment = "\#" }"#,
    "k",
    "y",
    "a: 1\nb is 2\n"
)]
#[case::lines_of_another_shape(
    r#"{ kind = "lines", line = "{k}: {x}[, {y}]", or = "{k} is {x}", comment = "\#", trailing = true }"#,
    "k",
    "y",
    "a is 1 # n\n"
)]
#[case::lines_in_quotes(
    r#"{ kind = "lines", line = '{k} = "{x}"', comment = "\#", trailing = true }"#,
    "k",
    "x",
    "a = \"1\" # n\n"
)]
#[case::po(r#"{ kind = "po" }"#, "msgid", "msgstr", "# n\nmsgid \"a\"\nmsgstr \"1\"\n")]
fn a_value_is_kept_or_refused(
    #[case] format: &str,
    #[case] key: &str,
    #[case] field: &str,
    #[case] text: &str,
    #[values("\n", "\r\n")] line_end: &str,
) {
    let format = format.replace("\\#", "#");
    let schema = format!(
        "=== schema.toml\n[table.t]\nfiles = \"t.x\"\nformat = {format}\nkey = \"{key}\"\n\
         [table.t.fields]\n\"{field}\" = {{ optional = true }}\n=== mod/o.txt\n"
    );
    let folder = support::write(&schema);
    let text = text.replace('\n', line_end);
    std::fs::write(folder.path().join("mod/t.x"), &text).expect("written");
    let project = support::open(&folder);
    let mut kept = 0;
    for value in ODD {
        let arguments = vec!["t:a".to_owned(), format!("{field}={value}")];
        let request = SetRequest { arguments, ..SetRequest::default() };
        let Ok(change) = set(&project, &request) else { continue };
        let stack = change.applied_to(&project.stack);
        let after = project.with_stack(stack);
        let rows = Rows::read(after.view(), 0, &Labels::default()).expect("rows");
        let bytes = change.files()[0].after();
        let shown = || format!("{value:?} in {:?}", String::from_utf8_lossy(bytes));
        let column =
            rows.columns.iter().position(|own| own == field).unwrap_or_else(|| panic!("{}", shown()));
        let row = rows
            .rows
            .iter()
            .find(|row| row.key.as_deref() == Some("a"))
            .unwrap_or_else(|| panic!("{}", shown()));
        assert_eq!(row.text(column), value, "{}", shown());
        // Nothing else changes: neither the other records, nor notes.
        for note in
            ["# n", "; n", "; m", "// m", "# m", "<!-- n -->"].iter().filter(|note| text.contains(**note))
        {
            assert!(String::from_utf8_lossy(bytes).contains(*note), "{}", shown());
        }
        kept += 1;
    }
    assert!(kept > 20, "only {kept} values can be written");
}
