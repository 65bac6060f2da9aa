//! `check` says the same again, whether or not its report is kept.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use assert_cmd::Command;
use rstest::rstest;
use std::fs;
use std::path::Path;
use support::{Run, demo};

/// Runs a command with caches of small projects too.
fn run(project: &Path, args: &[&str]) -> Run {
    let mut command = Command::cargo_bin("stitching").expect("the program");
    support::run(command.current_dir(project).args(args).env("STITCHING_TEST_CACHE_ALL", "1"))
}

#[rstest]
#[case::plain(&[])]
#[case::json(&["--format", "json"])]
#[case::sarif(&["--format", "sarif"])]
#[case::junit(&["--format", "junit"])]
#[case::github(&["--format", "github"])]
#[case::all(&["--all"])]
#[case::by_record(&["--by", "record"])]
#[case::limited(&["--limit", "2"])]
#[case::of_one_code(&["--code", "dangling-reference"])]
#[case::since_the_last(&["--since-last"])]
#[case::of_the_base(&["--through", "game"])]
#[case::of_the_schema(&["--schema"])]
fn the_same_is_said_again(#[case] args: &[&str]) {
    let (_folder, project) = demo("first-try");
    let args: Vec<&str> = ["check"].iter().chain(args).copied().collect();
    let without: Vec<&str> = args.iter().copied().chain(["--no-cache"]).collect();
    let is_since_last = args.contains(&"--since-last");
    let first = run(&project, &args);
    let again = run(&project, &args);
    let is_kept = project.join(".stitching/cache/report").is_file();
    assert_eq!(is_kept, !args.contains(&"--through") && !args.contains(&"--schema"));
    if is_since_last {
        // The first run knows of no earlier one.
        assert_eq!(run(&project, &args), again);
        return;
    }
    assert_eq!(again, first);
    assert_eq!(run(&project, &without), first);
}

#[rstest]
fn what_one_lives_with_is_read_each_time() {
    let (_folder, project) = demo("first-try");
    let before = run(&project, &["check"]);
    assert_eq!(run(&project, &["check", "--accept", "until the thaw"]).status, 0);
    let after = run(&project, &["check"]);
    assert_ne!(before.out, after.out);
    assert!(after.out.contains("accepted, not counted"), "{}", after.out);
    fs::remove_file(project.join("accepted.toml")).expect("removed");
    assert_eq!(run(&project, &["check"]), before);
}

/// A change made by the tool, and one made by hand.
#[rstest]
fn a_change_is_seen_at_once() {
    let (_folder, project) = demo("put-right");
    let clean = run(&project, &["check"]);
    assert_eq!(clean.status, 0, "{}", clean.out);
    let reaches = project.join("mod/tables/reaches.txt");
    let text = fs::read_to_string(&reaches).expect("a table");
    fs::write(&reaches, text.replace("canal", "cannal")).expect("written");
    assert_eq!(run(&project, &["check"]).status, 1);
    fs::write(&reaches, text).expect("written");
    assert_eq!(run(&project, &["check"]), clean);
    assert_eq!(run(&project, &["rename", "reaches:frost_cut", "ice_cut"]).status, 0);
    assert_eq!(
        run(&project, &["check", "--format", "json"]),
        run(&project, &["check", "--format", "json", "--no-cache"])
    );
}
