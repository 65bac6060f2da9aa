//! Bad input of any kind: a clear message with a place, never a panic, nothing lost.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fs;
use std::path::Path;
use support::{small, stitching, tree};

/// Puts a file into the mod and says what `check` must answer.
#[rstest]
#[case::empty_file("reaches2.txt", b"".to_vec(), 1, "the file is empty")]
#[case::binary("reaches2.txt", b"PK\x03\x04\0\0\0".to_vec(), 1, "it has a zero byte")]
#[case::not_utf8("reaches2.txt", b"Reach\tAbove\nm\xFChle\tmill\n".to_vec(), 0, "not UTF-8; it is read as if it were windows-1252")]
#[case::damaged_utf8("reaches2.txt", b"Reach\tAbove\nm\xC3\xBChle\tmill\nw\xC3\xBC\xFF\tmill\n".to_vec(), 1, "not valid UTF-8")]
#[case::mark("reaches2.txt", b"\xEF\xBB\xBFReach\tAbove\nweir\tmill\n".to_vec(), 0, "no problems")]
#[case::utf16("reaches2.txt", b"\xFF\xFER\0e\0".to_vec(), 1, "has no column `Reach`")]
#[case::long_line("reaches2.txt", [b"Reach\tAbove\n".to_vec(), vec![b'x'; 5_000_000]].concat(), 1, "the row has 1 column")]
#[case::wide_row("reaches2.txt", [b"Reach\tAbove\n".to_vec(), b"x\t".repeat(10_000)].concat(), 1, "the row has 10001 columns")]
#[case::blank_name("my reaches.txt", b"Reach\tAbove\nweir\tmlil\n".to_vec(), 1, "mod/my reaches.txt:2:6")]
#[case::accents("flüsse_reaches.txt", b"Reach\tAbove\nweir\tmlil\n".to_vec(), 1, "mod/flüsse_reaches.txt:2:6")]
#[case::deep_json("deep.json", "[".repeat(100_000).into_bytes(), 1, "500 brackets are open here")]
#[case::deep_closed("deep.json", ("[".repeat(100_000) + &"]".repeat(100_000)).into_bytes(), 1, "500 brackets are open here")]
fn files(#[case] name: &str, #[case] bytes: Vec<u8>, #[case] status: i32, #[case] says: &str) {
    let folder = small(
        "[table.deep]\nfiles = \"*.json\"\nformat = { kind = \"json\", records = \"$..things[*]\" }\nkey = \"id\"\n",
    );
    fs::write(folder.path().join("game/x.json"), "{\"things\": [{\"id\": \"a\"}]}").expect("written");
    fs::write(folder.path().join("mod").join(name), bytes).expect("written");
    let before = tree(folder.path());
    let run = stitching(folder.path(), &["check"]);
    assert_eq!(run.status, status, "{}{}", run.out, run.err);
    assert!(run.out.contains(says), "{}", run.out);
    // The other commands live with it too.
    for args in [&["tables"][..], &["show", "reaches"], &["find", "mill"], &["uses", "reaches:mill"]] {
        let run = stitching(folder.path(), args);
        assert_eq!(run.status, 0, "{args:?}: {}", run.err);
    }
    assert_eq!(tree(folder.path()), before);
    // A rename works, or is refused with nothing changed.
    let rename = stitching(folder.path(), &["rename", "reaches:mill", "weir9"]);
    match rename.status {
        0 => assert_eq!(stitching(folder.path(), &["undo"]).status, 0),
        status => assert_eq!(status, 1, "{}", rename.err),
    }
    assert_eq!(tree(folder.path()), before);
}

#[rstest]
#[case::no_project_file("stitching.toml", None, 2, "no `stitching.toml`")]
#[case::no_layer(
    "stitching.toml",
    Some("[project]\nschema = \"s.toml\"\n[[layer]]\nname = \"mod\"\npath = \"mdo\"\n"),
    2,
    "there is `mod` beside it"
)]
#[case::layers_inside_each_other(
    "stitching.toml",
    Some(
        "[project]\nschema = \"s.toml\"\n[[layer]]\nname = \"game\"\npath = \".\"\n[[layer]]\nname = \"mod\"\npath = \"mod\"\n"
    ),
    2,
    "lie one inside the other"
)]
#[case::broken_toml("s.toml", Some("[table.reaches\n"), 2, "s.toml:1:15")]
#[case::not_utf8("s.toml", Some("\u{1}"), 2, "s.toml")]
#[case::no_such_column(
    "s.toml",
    Some("[table.reaches]\nfiles = \"*.txt\"\nformat = { kind = \"delimited\" }\nkey = \"Reech\"\n"),
    1,
    "the header has no column `Reech`"
)]
#[case::two_tables(
    "s.toml",
    Some(
        "[table.a]\nfiles = \"*.txt\"\nformat = { kind = \"delimited\" }\nkey = \"Reach\"\n[table.b]\nfiles = \"reaches.txt\"\nformat = { kind = \"delimited\" }\nkey = \"Reach\"\n"
    ),
    0,
    "the tables `a` and `b` both take this file"
)]
fn descriptions(#[case] file: &str, #[case] text: Option<&str>, #[case] status: i32, #[case] says: &str) {
    let folder = small("");
    let path = folder.path().join(file);
    match text {
        Some(text) => fs::write(path, text).expect("written"),
        None => fs::remove_file(path).expect("removed"),
    }
    let run = stitching(folder.path(), &["check", "--project", "."]);
    assert_eq!(run.status, status, "{}{}", run.out, run.err);
    assert!(run.out.contains(says) || run.err.contains(says), "{}{}", run.out, run.err);
}

#[cfg(unix)]
#[rstest]
fn links_and_names_that_are_no_text() {
    use std::os::unix::ffi::OsStrExt;
    let folder = small("");
    let outside = tempfile::tempdir().expect("a folder");
    fs::write(outside.path().join("x.txt"), "Reach\tAbove\nsecret\t\n").expect("written");
    let layer = folder.path().join("mod");
    std::os::unix::fs::symlink(outside.path().join("x.txt"), layer.join("reaches_out.txt")).expect("linked");
    std::os::unix::fs::symlink("nowhere", layer.join("reaches_nowhere.txt")).expect("linked");
    std::os::unix::fs::symlink("reaches.txt", layer.join("inside.lnk")).expect("linked");
    fs::write(layer.join(std::ffi::OsStr::from_bytes(b"reaches_\xFF.txt")), "Reach\tAbove\n")
        .expect("written");
    let run = stitching(folder.path(), &["check"]);
    assert_eq!(run.status, 1);
    assert_eq!(run.out.matches("the link leads out of its layer, or nowhere").count(), 2, "{}", run.out);
    assert_eq!(run.out.matches("the file name is not plain Unicode").count(), 1, "{}", run.out);
    assert!(
        !stitching(folder.path(), &["find", "secret"]).out.contains("Reach"),
        "nothing is read from outside"
    );
}

#[cfg(unix)]
#[rstest]
fn a_read_only_file_or_folder_is_not_written() {
    use std::os::unix::fs::PermissionsExt;
    for (path, mode) in [("mod/reaches.txt", 0o444), ("mod", 0o555)] {
        let folder = small("");
        let before = tree(folder.path());
        fs::set_permissions(folder.path().join(path), fs::Permissions::from_mode(mode)).expect("set");
        let run = stitching(folder.path(), &["rename", "reaches:mill", "weir"]);
        fs::set_permissions(folder.path().join(path), fs::Permissions::from_mode(0o755)).expect("set");
        assert_eq!(run.status, 3, "{}", run.err);
        assert!(run.err.contains("read-only") && run.err.contains("nothing was changed"), "{}", run.err);
        assert_eq!(tree(folder.path()), before);
    }
}

#[rstest]
fn a_reader_that_goes_away_is_no_fault() {
    let folder = small("");
    let rows: String = (0..20_000).map(|n| format!("r{n}\tnone{n}\n")).collect();
    fs::write(folder.path().join("mod/reaches2.txt"), format!("Reach\tAbove\n{rows}")).expect("written");
    let mut child = support::program(folder.path(), &[])
        .arg("check")
        .current_dir(folder.path())
        .stdout(std::process::Stdio::piped())
        .stderr(std::process::Stdio::piped())
        .spawn()
        .expect("it runs");
    drop(child.stdout.take());
    let output = child.wait_with_output().expect("it ends");
    let err = String::from_utf8_lossy(&output.stderr);
    assert!(!err.contains("panicked"), "{err}");
}

#[rstest]
fn help_has_an_example_for_every_command() {
    let help = stitching(Path::new("."), &["--help"]).out;
    for command in
        ["demo", "tables", "show", "find", "uses", "check", "explain", "rename", "history", "undo", "redo"]
    {
        assert!(help.contains(command), "{command}");
        let own = stitching(Path::new("."), &[command, "--help"]).out;
        assert!(own.contains("Example") && own.contains(&format!("stitching {command}")), "{own}");
    }
}
