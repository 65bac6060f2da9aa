//! The report of the last check is told again only as long as a fresh check would find the same.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fs::{self, File};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};
use stitching_core::Project;
use stitching_core::checks::{check, check_unless_kept};
use tempfile::TempDir;

/// A time at which what the tests wrote was written long ago.
fn settled() -> SystemTime {
    SystemTime::now() + Duration::from_secs(10)
}

/// A copy of the demo; gives the folder that holds it, and the one of the project, whose mod has mistakes.
fn demo() -> (TempDir, PathBuf) {
    let folder = tempfile::tempdir().expect("a folder");
    support::copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo"), folder.path());
    let project = folder.path().join("first-try");
    (folder, project)
}

fn open(folder: &Path) -> Project {
    Project::open(folder).map(Project::with_cache).expect("a project")
}

/// Where the report is kept.
fn kept(project: &Path) -> PathBuf {
    project.join(".stitching/cache/report")
}

/// Appends to a file, or makes it.
fn append(file: &Path, text: &str) {
    let mut all = fs::read(file).unwrap_or_default();
    all.extend(text.as_bytes());
    fs::create_dir_all(file.parent().expect("a folder")).expect("made");
    fs::write(file, all).expect("written");
}

#[test]
fn the_same_report_is_told_again() {
    let (_folder, demo) = demo();
    let first = check_unless_kept(&open(&demo), settled());
    assert!(first.summary.errors > 0);
    assert!(kept(&demo).is_file());
    // It would be written again if it were found out again.
    let long_ago = SystemTime::UNIX_EPOCH + Duration::from_secs(1_000_000);
    File::options()
        .write(true)
        .open(kept(&demo))
        .and_then(|file| file.set_modified(long_ago))
        .expect("a time");
    let project = open(&demo);
    assert_eq!(check_unless_kept(&project, settled()), first);
    assert_eq!(check(project.view()), first);
    assert_eq!(fs::metadata(kept(&demo)).and_then(|own| own.modified()).expect("a time"), long_ago);
}

#[rstest]
#[case::a_file_of_the_mod("first-try/mod", "units/more.txt", "x\n")]
#[case::a_file_of_the_game("game", "data/none_of_ours.txt", "x\n")]
#[case::an_archive("packs", "winter_props.zip", "x")]
#[case::the_schema("", "slackwater.schema.toml", "\n# a note\n")]
#[case::the_project("first-try", "stitching.toml", "\n# a note\n")]
fn whatever_changes_makes_a_fresh_check(#[case] folder: &str, #[case] name: &str, #[case] text: &str) {
    let (home, demo) = demo();
    check_unless_kept(&open(&demo), settled());
    let before = fs::read(kept(&demo)).expect("kept");
    append(&home.path().join(folder).join(name), text);
    let project = open(&demo);
    assert_eq!(check_unless_kept(&project, settled()), check(project.view()));
    let after = fs::read(kept(&demo)).expect("kept");
    assert_ne!(before, after, "the report was not made anew");
}

#[test]
fn nothing_is_kept_of_what_may_still_change_unseen() {
    let (_folder, demo) = demo();
    append(&demo.join("mod/new.txt"), "x\n");
    check_unless_kept(&open(&demo), SystemTime::now());
    assert!(!kept(&demo).exists());
}

#[test]
fn nothing_is_kept_without_a_place_for_it() {
    let (_folder, demo) = demo();
    let project = Project::open(&demo).expect("a project");
    check_unless_kept(&project, settled());
    assert!(!kept(&demo).exists());
}

#[rstest]
#[case::cut_short(|bytes: &mut Vec<u8>| bytes.truncate(bytes.len() / 2))]
#[case::empty(|bytes: &mut Vec<u8>| bytes.clear())]
#[case::longer(|bytes: &mut Vec<u8>| bytes.push(0))]
#[case::another_byte(|bytes: &mut Vec<u8>| *bytes.last_mut().expect("a byte") ^= 1)]
#[case::another_state(|bytes: &mut Vec<u8>| bytes[0] ^= 1)]
fn a_damaged_report_counts_as_none(#[case] damage: fn(&mut Vec<u8>)) {
    let (_folder, demo) = demo();
    let first = check_unless_kept(&open(&demo), settled());
    let whole = fs::read(kept(&demo)).expect("kept");
    let mut bytes = whole.clone();
    damage(&mut bytes);
    fs::write(kept(&demo), bytes).expect("written");
    assert_eq!(check_unless_kept(&open(&demo), settled()), first);
    assert_eq!(fs::read(kept(&demo)).expect("kept"), whole);
}

#[test]
fn what_is_switched_off_is_counted_anew() {
    let (_folder, demo) = demo();
    let before = check_unless_kept(&open(&demo), settled());
    let aside = r#"[{"path":"a.txt","address":"a:b","table":"a","key":"b","field":null,"text":"x","before":"","after":""}]"#;
    append(&demo.join(".stitching/off.json"), aside);
    let after = check_unless_kept(&open(&demo), settled());
    assert_eq!(after, check(open(&demo).view()));
    assert_ne!(before.summary.off, after.summary.off);
}
