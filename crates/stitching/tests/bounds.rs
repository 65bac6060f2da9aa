//! What is odd or endless is bounded: memory and output grow with the input, and what is left out is said.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fs;
use std::path::Path;
use support::{json, small, stitching};
use tempfile::TempDir;

/// A project whose only file has one key many times.
fn one_key(times: usize, format: &str, key: &str, text: impl Fn(usize) -> String) -> TempDir {
    let folder = small("");
    let schema = format!("[table.goods]\nfiles = \"goods\"\nformat = {format}\nkey = \"{key}\"\n");
    fs::write(folder.path().join("s.toml"), schema).expect("written");
    fs::write(folder.path().join("mod/goods"), text(times)).expect("written");
    folder
}

fn rows(times: usize) -> String {
    let rows: String = (0..times).map(|row| format!("coal\t{row}\n")).collect();
    format!("Good\tPrice\n{rows}")
}

fn items(times: usize) -> String {
    let items: Vec<String> =
        (0..times).map(|item| format!("{{\"id\": \"coal\", \"price\": {item}}}")).collect();
    format!("[{}, {{\"id\": \"peat\"}}]\n", items.join(", "))
}

#[rstest]
#[case::a_table(r#"{ kind = "delimited" }"#, "Good", rows)]
#[case::in_one_line(r#"{ kind = "json", records = "$[*]" }"#, "id", items)]
fn a_key_that_thousands_have(#[case] format: &str, #[case] key: &str, #[case] text: fn(usize) -> String) {
    let folder = one_key(4000, format, key, text);
    let shown = stitching(folder.path(), &["show", "goods:coal"]);
    assert_eq!(shown.status, 0, "{}", shown.err);
    assert!(shown.out.contains("the key is there in 3980 more places"), "{}", shown.out);
    assert!(shown.out.len() < 20_000, "{} bytes", shown.out.len());
    assert_eq!(json(folder.path(), &["show", "goods:coal"])["more_places"], 3980);
    let preview = stitching(folder.path(), &["off", "goods:coal", "--preview"]);
    assert!(preview.out.len() < 20 * 4000 * 8, "{} bytes", preview.out.len());
}

/// Of very many problems of one check the rest is only counted, and of others none is left out.
#[rstest]
fn more_problems_than_can_be_told() {
    let folder = one_key(25_000, r#"{ kind = "delimited" }"#, "Good", |times| rows(times) + "\t9\n");
    let report = json(folder.path(), &["check"]);
    let codes = |code: &str| {
        report["problems"]
            .as_array()
            .expect("a list")
            .iter()
            .filter(|problem| problem["code"] == code)
            .count()
    };
    assert_eq!((codes("duplicate-key"), codes("missing-key")), (10_000, 1));
    assert_eq!(
        (&report["summary"]["errors"], &report["summary"]["left_out"]),
        (&25_000.into(), &14_999.into())
    );
    let told = stitching(folder.path(), &["check"]);
    assert_eq!(told.status, 1);
    assert!(
        told.out.contains("14 999 more of duplicate-key are only counted"),
        "{}",
        &told.out[told.out.len() - 400..]
    );
}

/// What the base has by itself never crowds out what the mod has.
#[rstest]
fn problems_of_the_mod_come_first() {
    let folder = small("");
    let rows: String = (0..12_000).map(|row| format!("base{row}\tnone{row}\n")).collect();
    fs::write(folder.path().join("game/a_reaches.txt"), format!("Reach\tAbove\n{rows}")).expect("written");
    fs::write(folder.path().join("mod/z_reaches.txt"), "Reach\tAbove\nown\tnowhere\n").expect("written");
    let report = json(folder.path(), &["check"]);
    let summary = &report["summary"];
    assert_eq!((&summary["errors"], &summary["inherited"]), (&1.into(), &12_000.into()), "{summary}");
    let own: Vec<_> = report["problems"].as_array().expect("a list").iter().collect();
    assert!(own.iter().any(|problem| problem["value"] == "nowhere"), "{own:?}");
}

#[rstest]
#[case::three_deep("[1].all(a, [2].all(b, [3].all(c, a < b && b < c)))", "more than twice inside each other")]
#[case::a_pattern_that_is_none("Above.matches('(')", "is not a regular expression")]
fn expressions(#[case] expression: &str, #[case] said: &str) {
    let folder = small("");
    let shown = stitching(folder.path(), &["show", "reaches", "--with", &format!("x = {expression}")]);
    assert_eq!(shown.status, 2, "{}", shown.out);
    assert!(shown.err.contains(said), "{}", shown.err);
}

#[rstest]
fn an_expression_over_each_item_with_each_other() {
    let items = |times: usize| {
        let items: Vec<String> = (0..times).map(|item| item.to_string()).collect();
        format!("[{{\"id\": \"coal\", \"at\": [{}]}}]\n", items.join(","))
    };
    let with = "x = at.exists(a, at.exists(b, a + b == 3))";
    for (times, status) in [(3, 0), (2000, 2)] {
        let folder = one_key(times, r#"{ kind = "json", records = "$[*]" }"#, "id", items);
        let schema = fs::read_to_string(folder.path().join("s.toml")).expect("there");
        let fields = "[table.goods.fields]\n\"at[*]\" = { type = \"integer\" }\n";
        fs::write(folder.path().join("s.toml"), schema + fields).expect("written");
        let with = with.replace("at.", "row[\"at[*]\"].");
        let shown = stitching(folder.path(), &["show", "goods", "--with", &with]);
        assert_eq!(shown.status, status, "{}{}", shown.out, shown.err);
        assert_eq!(shown.err.contains("has 2000 items"), status == 2, "{}", shown.err);
    }
}

#[rstest]
fn matches_gives_what_it_should() {
    let folder = small("");
    let shown = stitching(folder.path(), &["show", "reaches", "--where", "Reach.matches('^f')"]);
    assert!(shown.out.contains("frost") && !shown.out.contains("mill\t"), "{}", shown.out);
    let none = stitching(folder.path(), &["show", "reaches", "--where", "Above.matches('^x')"]);
    assert_eq!(none.status, 0, "{}", none.err);
}

#[rstest]
fn a_pattern_that_is_too_large_is_refused() {
    let folder = small("Reach = { pattern = \"((\\\\p{L}{1,50}){1,50}){1,50}\" }\n");
    let run = stitching(folder.path(), &["check"]);
    assert_eq!(run.status, 2, "{}", run.out);
    assert!(run.err.contains("takes more than the 10 MB that an expression may"), "{}", run.err);
}

#[cfg(unix)]
#[rstest]
fn an_endless_document_is_refused() {
    let folder = small("");
    let run = stitching(folder.path(), &["fields", "reaches", "--import", "/dev/zero"]);
    assert_eq!(run.status, 2, "{}", run.err);
    assert!(run.err.contains("`/dev/zero` has more than 64 MB"), "{}", run.err);
}

/// Nesting that is never closed, all in one line.
#[rstest]
#[case::blocks(r#"{ kind = "blocks", records = "*" }"#, "{name}", "r = {")]
#[case::lists(r#"{ kind = "blocks", records = "*", lists = "()" }"#, "{name}", "r = (")]
#[case::bare_lists(r#"{ kind = "blocks", records = "*", lists = "()", assign = "" }"#, "{name}", "a ( b ")]
#[case::closed_and_open(r#"{ kind = "blocks", records = "*", lists = ["()", "[]"] }"#, "{name}", "( [ x ] ")]
#[case::words(r#"{ kind = "blocks", records = "*" }"#, "{name}", "word ")]
#[case::json(r#"{ kind = "json", records = "$.*" }"#, "{member}", "{\"x\":")]
#[case::xml(r#"{ kind = "xml", records = "/a/*" }"#, "@id", "<a>")]
fn what_is_never_closed(
    #[case] format: &str,
    #[case] key: &str,
    #[case] piece: &str,
    #[values("", "\n")] end: &str,
) {
    let folder = one_key(20_000, format, key, |times| format!("{piece}{end}").repeat(times));
    for args in [&["check"][..], &["find", "x"], &["show", "goods:x"], &["off", "goods:x", "--preview"]] {
        let run = stitching(folder.path(), args);
        assert!((0..=2).contains(&run.status), "{args:?}: {}", run.err);
        assert!(run.out.len() < 4 << 20, "{args:?}: {} bytes", run.out.len());
    }
    // And what is learned from it.
    let bare = tempfile::tempdir().expect("a folder");
    fs::copy(folder.path().join("mod/goods"), bare.path().join("goods.txt")).expect("copied");
    assert_eq!(stitching(bare.path(), &["init"]).status, 0);
    assert!(Path::new(&bare.path().join("stitching.toml")).is_file());
}

/// A file is read once for each table that takes it; there are bounds to that.
#[rstest]
fn thousands_of_tables_on_one_file() {
    let folder = small("");
    let table = |number: usize| {
        format!(
            "[table.t{number}]\nfiles = \"reaches.txt\"\nformat = {{ kind = \"delimited\" }}\nkey = \"Reach\"\n"
        )
    };
    fs::write(folder.path().join("s.toml"), (0..3000).map(table).collect::<String>()).expect("written");
    let run = stitching(folder.path(), &["check"]);
    assert_eq!(run.status, 1, "{}", run.err);
    assert!(
        run.out.contains("3000 tables take this file, and only the first 500 of them read it"),
        "{}",
        run.out
    );
    assert!(!run.out.contains("both take this file") && run.out.len() < 1 << 20, "{} bytes", run.out.len());
}
