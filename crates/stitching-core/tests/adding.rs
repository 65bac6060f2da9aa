//! Adding a record of a lower layer to a higher one, format by format: where it goes, how it is written
//! there, and that nothing else moves.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use stitching_core::changes::{rename, verify};

/// The mod's file after `crews:tow` is renamed to `haul`, in a table whose layers count together.
fn added(format: &str, key: &str, field: &str, below: &str, above: Option<&str>) -> Result<String, String> {
    let schema = format!(
        "=== schema.toml\n[table.crews]\nfiles = \"crews.txt\"\nformat = {{ kind = \"lines\", line = \"{{crew}}\" }}\nkey = \"crew\"\n\
         [table.t]\nfiles = \"t.x\"\nlayering = \"merge\"\nformat = {format}\nkey = \"{key}\"\n[table.t.fields]\n\"{field}\" = {{ ref = \"crews\" }}\n\
         === mod/crews.txt\ntow\nice\n"
    );
    let folder = support::write(&schema);
    std::fs::write(folder.path().join("game/t.x"), below).expect("written");
    if let Some(above) = above {
        std::fs::write(folder.path().join("mod/t.x"), above).expect("written");
    }
    let project = support::open(&folder);
    let change = rename(&project, "crews:tow", "haul").map_err(|error| error.to_string())?;
    verify(&project, &change).map_err(|error| error.to_string())?;
    let own = change.files().iter().find(|file| file.path() == "t.x").ok_or("the file is not touched")?;
    Ok(String::from_utf8(own.after().to_vec()).expect("text"))
}

const ROWS: &str = r#"{ kind = "delimited" }"#;
const INI: &str = r#"{ kind = "ini" }"#;
const XML: &str = r#"{ kind = "xml", records = "/game/list/barge" }"#;
const JSON: &str = r#"{ kind = "json", records = "$.barges[*]" }"#;
const MAP: &str = r#"{ kind = "json", records = "$.*" }"#;
const BLOCKS: &str = r#"{ kind = "blocks", records = "barges/*" }"#;
const PO: &str = r#"{ kind = "po" }"#;
const LINES: &str = r#"{ kind = "lines", line = "{id} {crew}" }"#;

#[rstest]
#[case::rows_new(ROWS, "Id", "Crew", "Id\tCrew\na\ttow\nb\tice\n", None, "Id\tCrew\na\thaul\n")]
#[case::rows_at_the_end(
    ROWS,
    "Id",
    "Crew",
    "Id\tCrew\na\ttow\n",
    Some("Id\tCrew\r\nc\tice"),
    "Id\tCrew\r\nc\tice\r\na\thaul"
)]
#[case::lines(LINES, "id", "crew", "a tow\nb ice\n", Some("c ice\n"), "c ice\na haul\n")]
#[case::ini_new(INI, "{section}", "crew", "[a]\nhold = 3\ncrew=tow\n", None, "[a]\ncrew=haul\n")]
#[case::ini_section(
    INI,
    "{section}",
    "crew",
    "[a]\ncrew = tow\n",
    Some("[b]\nx = 1\n"),
    "[b]\nx = 1\n\n[a]\ncrew = haul\n"
)]
#[case::ini_key(
    INI,
    "{section}",
    "crew",
    "[a]\ncrew = tow\n",
    Some("[a]\nx = 1\n\n[b]\n"),
    "[a]\nx = 1\ncrew = haul\n\n[b]\n"
)]
#[case::po(
    PO,
    "msgid",
    "msgstr",
    "msgid \"a\"\nmsgstr \"tow\"\n",
    Some("msgid \"b\"\nmsgstr \"ice\"\n"),
    "msgid \"b\"\nmsgstr \"ice\"\n\nmsgid \"a\"\nmsgstr \"haul\"\n"
)]
#[case::xml_new(
    XML,
    "@id",
    "@crew",
    "<?xml version='1.0'?>\n<game v=\"2\">\n <list>\n  <barge id='a' crew='tow'/>\n </list>\n</game>\n",
    None,
    "<?xml version='1.0'?>\n<game v=\"2\">\n <list>\n  <barge id='a' crew='haul'/>\n </list>\n</game>\n"
)]
#[case::xml_beside(
    XML,
    "@id",
    "@crew",
    "<game><list><barge id='a' crew='tow'/></list></game>",
    Some("<game>\n    <list>\n        <barge id='c'/>\n    </list>\n</game>\n"),
    "<game>\n    <list>\n        <barge id='c'/>\n        <barge id='a' crew='haul'/>\n    </list>\n</game>\n"
)]
#[case::xml_on_one_line(
    XML,
    "@id",
    "@crew",
    "<game><list><barge id='a' crew='tow'/></list></game>",
    Some("<game><list><barge id='c'/></list></game>"),
    "<game><list><barge id='c'/><barge id='a' crew='haul'/></list></game>"
)]
#[case::json_new(
    JSON,
    "id",
    "crew",
    "{\n  \"barges\": [\n    {\"id\": \"a\", \"crew\": \"tow\"},\n    {\"id\": \"b\"}\n  ]\n}\n",
    None,
    "{\n  \"barges\": [\n    {\"id\": \"a\", \"crew\": \"haul\"}\n  ]\n}\n"
)]
#[case::json_with_comma(
    JSON,
    "id",
    "crew",
    "{\"barges\": [{\"id\": \"a\", \"crew\": \"tow\"}]}",
    Some("{\n\t\"barges\": [\n\t\t{\"id\": \"c\"}\n\t]\n}\n"),
    "{\n\t\"barges\": [\n\t\t{\"id\": \"c\"},\n\t\t{\"id\": \"a\", \"crew\": \"haul\"}\n\t]\n}\n"
)]
#[case::json_into_empty(
    JSON,
    "id",
    "crew",
    "{\"barges\": [{\"id\": \"a\", \"crew\": \"tow\"}]}",
    Some("{\"barges\": []}"),
    "{\"barges\": [{\"id\": \"a\", \"crew\": \"haul\"}]}"
)]
#[case::json_member(
    MAP,
    "{member}",
    "crew",
    "{\"a\": {\"crew\": \"tow\"}}",
    Some("{\n \"c\": {}\n}\n"),
    "{\n \"c\": {},\n \"a\": {\"crew\": \"haul\"}\n}\n"
)]
#[case::blocks_new(
    BLOCKS,
    "{name}",
    "crew",
    "barges = { # all\n    a = { crew = tow }\n    b = { crew = ice }\n}\n",
    None,
    "barges = {\n    a = { crew = haul }\n}\n"
)]
#[case::blocks_beside(
    BLOCKS,
    "{name}",
    "crew",
    "barges {\n a {\n  crew = tow\n }\n}\n",
    Some("barges = {\n\tc = { }\n}\n"),
    "barges = {\n\tc = { }\n\ta {\n\t\tcrew = haul\n\t}\n}\n"
)]
#[case::blocks_without_the_block(
    BLOCKS,
    "{name}",
    "crew",
    "barges = {\n    a = { crew = tow }\n}\n",
    Some("other = { }\n"),
    "other = { }\nbarges = {\n    a = { crew = haul }\n}\n"
)]
#[case::rows_in_another_order(
    ROWS,
    "Id",
    "Crew",
    "Id\tHold\tCrew\na\t3\ttow\n",
    Some("Crew\tId\tHold\nice\tc\t1\n"),
    "Crew\tId\tHold\nice\tc\t1\nhaul\ta\t3\n"
)]
#[case::xml_without_the_parent(
    XML,
    "@id",
    "@crew",
    "<game><list><barge id='a' crew='tow'/></list></game>",
    Some("<game/>"),
    "<game><list><barge id='a' crew='haul'/></list></game>"
)]
#[case::xml_part_is_there(
    XML,
    "@id",
    "@crew",
    "<game><list><barge id='a' crew='tow' hold='3'/></list></game>",
    Some("<game><list><barge id='a'/></list></game>"),
    "<game><list><barge id='a' crew='haul'/></list></game>"
)]
#[case::json_part_is_there(
    JSON,
    "id",
    "crew",
    "{\"barges\": [{\"id\": \"a\", \"hold\": {\"n\": 3}, \"crew\": \"tow\"}]}",
    Some("{\"barges\": [{\"id\": \"c\"}, {\"id\": \"a\", \"size\": 2}]}"),
    "{\"barges\": [{\"id\": \"c\"}, {\"id\": \"a\", \"size\": 2, \"crew\": \"haul\"}]}"
)]
#[case::ini_told_apart_by_a_key(
    INI,
    "id",
    "crew",
    "[barge]\nid = b\ncrew = ice\n\n[barge]\nid = \"a\"\nhold = 3\ncrew = tow\n",
    Some("[barge]\nid = c\n\n[barge]\nid = a\nsize = 2\n\n[raft]\nid = a2\n"),
    "[barge]\nid = c\n\n[barge]\nid = a\nsize = 2\ncrew = haul\n\n[raft]\nid = a2\n"
)]
#[case::ini_made_with_its_key(
    INI,
    "id",
    "crew",
    "[barge]\nid = b\ncrew = ice\n\n[barge]\nid = a\nhold = 3\ncrew = tow\n",
    Some("[barge]\nid = c\ncrew = ice\n"),
    "[barge]\nid = c\ncrew = ice\n\n[barge]\nid = a\ncrew = haul\n"
)]
fn as_its_neighbours_are_written(
    #[case] format: &str,
    #[case] key: &str,
    #[case] field: &str,
    #[case] below: &str,
    #[case] above: Option<&str>,
    #[case] expected: &str,
) {
    assert_eq!(added(format, key, field, below, above).as_deref(), Ok(expected));
}

#[rstest]
#[case::column_is_missing(
    ROWS,
    "Id",
    "Crew",
    "Id\tCrew\tHold\na\ttow\t3\n",
    "Crew\tId\nice\tc\n",
    "no column `Hold`"
)]
#[case::another_root(
    XML,
    "@id",
    "@crew",
    "<game><list><barge id='a' crew='tow'/></list></game>",
    "<other/>",
    "no place in it"
)]
fn what_has_no_place_is_refused(
    #[case] format: &str,
    #[case] key: &str,
    #[case] field: &str,
    #[case] below: &str,
    #[case] above: &str,
    #[case] says: &str,
) {
    let error = added(format, key, field, below, Some(above)).expect_err("refused");
    assert!(error.contains(says), "{error}");
}
