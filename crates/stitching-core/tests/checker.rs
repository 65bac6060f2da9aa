//! Checking again and again finds what a fresh check finds, whatever changed in between.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

use rstest::rstest;
use std::fs::{self, File};
use std::path::Path;
use std::time::{Duration, SystemTime};
use stitching_core::Project;
use stitching_core::checks::{Checker, Report, check};

const SCHEMA: &str = r#"
[table.reaches]
files = "*.txt"
format = { kind = "delimited" }
key = "Reach"
[table.reaches.fields]
Above = { ref = "reaches" }
"#;

/// A time at which what the tests wrote was written long ago: what was written just now is always read.
fn settled() -> SystemTime {
    SystemTime::now() + Duration::from_secs(10)
}

/// Writes a file as if that had been `age` seconds ago.
fn write(folder: &Path, name: &str, text: &str, age: u64) {
    let path = folder.join(name);
    fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
    fs::write(&path, text).expect("written");
    let file = File::options().write(true).open(&path).expect("opened");
    file.set_modified(SystemTime::now() - Duration::from_secs(age)).expect("a time");
}

fn project(folder: &Path, schema: &str) -> Project {
    let project = "[project]\nname = \"p\"\nschema = \"schema.toml\"\n\
        [[layer]]\nname = \"game\"\npath = \"game\"\n[[layer]]\nname = \"mod\"\npath = \"mod\"\n";
    fs::write(folder.join("stitching.toml"), project).expect("written");
    fs::write(folder.join("schema.toml"), schema).expect("written");
    Project::open(folder).expect("opened")
}

fn told(report: &Report) -> Vec<String> {
    let line = |own: &stitching_core::Problem| {
        format!("{}:{}: {} {}", own.place.path, own.place.line, own.name(), own.message)
    };
    report.problems.iter().map(line).collect()
}

/// What changes between two checks: a file and what it has then, or nothing if it goes.
type Step = (&'static str, Option<&'static str>);

#[rstest]
#[case::a_slip_and_back(&[("mod/a.txt", Some("Reach\tAbove\nmill\tnowhere\n")), ("mod/a.txt", Some("Reach\tAbove\nmill\tsea\n"))])]
#[case::what_others_refer_to_goes(&[("game/base.txt", Some("Reach\tAbove\nsky\t\n")), ("game/base.txt", None)])]
#[case::a_new_file_shifts_the_others(&[("mod/0.txt", Some("Reach\tAbove\nweir\tmlil\n")), ("mod/0.txt", None)])]
#[case::a_copy_over_the_base(&[("mod/base.txt", Some("Reach\tAbove\nsea\tsae\n")), ("mod/base.txt", None)])]
#[case::same_size_other_text(&[("mod/a.txt", Some("Reach\tAbove\nmill\tsae\n")), ("mod/a.txt", Some("Reach\tAbove\nmill\taes\n"))])]
fn a_check_again_finds_what_a_fresh_one_finds(#[case] steps: &[Step]) {
    let folder = tempfile::tempdir().expect("a folder");
    let folder = folder.path();
    write(folder, "game/base.txt", "Reach\tAbove\nsea\t\n", 1000);
    write(folder, "mod/a.txt", "Reach\tAbove\nmill\tsea\n", 1000);
    write(folder, "mod/b.txt", "Reach\tAbove\nlock\tmill\n", 1000);
    let mut checker = Checker::default();
    let first = checker.check(&project(folder, SCHEMA), settled());
    assert_eq!(told(&first), Vec::<String>::new());
    for (number, (name, text)) in steps.iter().enumerate() {
        match text {
            Some(text) => write(folder, name, text, 900 - number as u64),
            None => fs::remove_file(folder.join(name)).expect("removed"),
        }
        let project = project(folder, SCHEMA);
        let again = checker.check(&project, settled());
        let fresh = check(project.view());
        assert_eq!(told(&again), told(&fresh), "after {name}");
        assert_eq!(again.summary, fresh.summary, "after {name}");
    }
}

#[test]
fn another_schema_makes_nothing_known() {
    let folder = tempfile::tempdir().expect("a folder");
    let folder = folder.path();
    write(folder, "game/base.txt", "Reach\tAbove\nsea\t\n", 1000);
    write(folder, "mod/a.txt", "Reach\tAbove\nmill\tsae\n", 1000);
    let mut checker = Checker::default();
    let first = checker.check(&project(folder, SCHEMA), settled());
    assert_eq!(told(&first).len(), 1);
    let other = SCHEMA.replace("{ ref = \"reaches\" }", "{ choice = [\"sea\"] }");
    let project = project(folder, &other);
    let again = checker.check(&project, settled());
    assert_eq!(told(&again), told(&check(project.view())));
    assert!(told(&again)[0].contains("not-a-choice"), "{:?}", told(&again));
}

#[test]
fn what_did_not_change_is_not_read_again() {
    let folder = tempfile::tempdir().expect("a folder");
    let folder = folder.path();
    write(folder, "game/base.txt", "Reach\tAbove\nsea\t\n", 1000);
    write(folder, "mod/a.txt", "Reach\tAbove\nmill\tmill\n", 1000);
    let mut checker = Checker::default();
    checker.check(&project(folder, SCHEMA), SystemTime::now());
    assert_eq!(checker.files_read(), 2);
    // What was written just now could change unseen.
    checker.check(&project(folder, SCHEMA), settled());
    assert_eq!(checker.files_read(), 2);
    checker.check(&project(folder, SCHEMA), settled());
    assert_eq!(checker.files_read(), 0);
    write(folder, "mod/a.txt", "Reach\tAbove\nmill\tmlil\n", 900);
    let again = checker.check(&project(folder, SCHEMA), settled());
    assert_eq!(checker.files_read(), 1);
    assert_eq!(told(&again).len(), 1);
}

/// A copy of an older version has an older time, and a program may set any; when anything about a file changed nobody sets.
#[cfg(unix)]
#[test]
fn a_change_with_the_same_size_and_time_is_seen() {
    let folder = tempfile::tempdir().expect("a folder");
    let folder = folder.path();
    fs::create_dir_all(folder.join("game")).expect("a folder");
    write(folder, "mod/a.txt", "Reach\tAbove\nmill\tmill\n", 1000);
    let time = fs::metadata(folder.join("mod/a.txt")).and_then(|own| own.modified()).expect("a time");
    let mut checker = Checker::default();
    checker.check(&project(folder, SCHEMA), settled());
    // Longer than a tick of the clock.
    std::thread::sleep(Duration::from_millis(50));
    fs::write(folder.join("mod/a.txt"), "Reach\tAbove\nmill\tmlil\n").expect("written");
    let file = File::options().write(true).open(folder.join("mod/a.txt")).expect("opened");
    file.set_modified(time).expect("a time");
    let again = checker.check(&project(folder, SCHEMA), settled());
    assert_eq!(told(&again).len(), 1);
}
