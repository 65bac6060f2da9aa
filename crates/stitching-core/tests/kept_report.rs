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

const BUNDLE: &str = r#"=== schema.toml
[table.reaches]
files = "**/reaches*.txt"
format = { kind = "delimited" }
key = "Reach"
fields.Above = { ref = "reaches", none = "-" }
=== game/reaches.txt
Reach	Above
mill	-
weir	mil
=== mod/reaches_new.txt
Reach	Above
lock	wier
=== mod/packs/more.zip/reaches.txt stored
Reach	Above
quay	lock
"#;

/// A small project; gives its folder.
fn project() -> (TempDir, PathBuf) {
    let folder = support::write(BUNDLE);
    let path = folder.path().to_owned();
    (folder, path)
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
    let (_guard, folder) = project();
    let first = check_unless_kept(&open(&folder), settled());
    assert!(first.summary.errors > 0);
    assert!(kept(&folder).is_file());
    // It would be written again if it were found out again.
    let long_ago = SystemTime::UNIX_EPOCH + Duration::from_secs(1_000_000);
    File::options()
        .write(true)
        .open(kept(&folder))
        .and_then(|file| file.set_modified(long_ago))
        .expect("a time");
    let project = open(&folder);
    assert_eq!(check_unless_kept(&project, settled()), first);
    assert_eq!(check(project.view()), first);
    assert_eq!(fs::metadata(kept(&folder)).and_then(|own| own.modified()).expect("a time"), long_ago);
}

#[rstest]
#[case::a_file_of_the_mod("mod/reaches_new.txt", "cut\tlokc\n")]
#[case::a_new_file("mod/units/more.txt", "x\n")]
#[case::a_file_of_the_game("game/data/none_of_ours.txt", "x\n")]
#[case::an_archive("mod/packs/more.zip", "x")]
#[case::the_schema("schema.toml", "\n# a note\n")]
#[case::the_project("stitching.toml", "\n# a note\n")]
fn whatever_changes_makes_a_fresh_check(#[case] name: &str, #[case] text: &str) {
    let (_guard, folder) = project();
    check_unless_kept(&open(&folder), settled());
    let before = fs::read(kept(&folder)).expect("kept");
    append(&folder.join(name), text);
    let project = open(&folder);
    assert_eq!(check_unless_kept(&project, settled()), check(project.view()));
    let after = fs::read(kept(&folder)).expect("kept");
    assert_ne!(before, after, "the report was not made anew");
}

#[test]
fn nothing_is_kept_of_what_may_still_change_unseen() {
    let (_guard, folder) = project();
    append(&folder.join("mod/new.txt"), "x\n");
    check_unless_kept(&open(&folder), SystemTime::now());
    assert!(!kept(&folder).exists());
}

#[test]
fn nothing_is_kept_without_a_place_for_it() {
    let (_guard, folder) = project();
    let project = Project::open(&folder).expect("a project");
    check_unless_kept(&project, settled());
    assert!(!kept(&folder).exists());
}

#[rstest]
#[case::cut_short(|bytes: &mut Vec<u8>| bytes.truncate(bytes.len() / 2))]
#[case::empty(|bytes: &mut Vec<u8>| bytes.clear())]
#[case::longer(|bytes: &mut Vec<u8>| bytes.push(0))]
#[case::another_byte(|bytes: &mut Vec<u8>| *bytes.last_mut().expect("a byte") ^= 1)]
#[case::another_state(|bytes: &mut Vec<u8>| bytes[0] ^= 1)]
fn a_damaged_report_counts_as_none(#[case] damage: fn(&mut Vec<u8>)) {
    let (_guard, folder) = project();
    let first = check_unless_kept(&open(&folder), settled());
    let whole = fs::read(kept(&folder)).expect("kept");
    let mut bytes = whole.clone();
    damage(&mut bytes);
    fs::write(kept(&folder), bytes).expect("written");
    assert_eq!(check_unless_kept(&open(&folder), settled()), first);
    assert_eq!(fs::read(kept(&folder)).expect("kept"), whole);
}

#[test]
fn what_is_switched_off_is_counted_anew() {
    let (_guard, folder) = project();
    let before = check_unless_kept(&open(&folder), settled());
    let aside = r#"[{"path":"a.txt","address":"a:b","table":"a","key":"b","field":null,"text":"x","before":"","after":""}]"#;
    append(&folder.join(".stitching/off.json"), aside);
    let after = check_unless_kept(&open(&folder), settled());
    assert_eq!(after, check(open(&folder).view()));
    assert_ne!(before.summary.off, after.summary.off);
}
