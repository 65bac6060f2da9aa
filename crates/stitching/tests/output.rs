//! Standard output that cannot be written, or that nobody reads.
#![cfg(target_os = "linux")]
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fs::File;
use std::process::Stdio;
use support::{demo, program, stitching};

#[rstest]
#[case::help(&["--help"])]
#[case::version(&["--version"])]
#[case::help_of_a_command(&["rename", "--help"])]
#[case::tables(&["tables"])]
#[case::show(&["show", "reaches"])]
#[case::show_a_record(&["show", "reaches:frost_cut"])]
#[case::fields(&["fields", "reaches"])]
#[case::find(&["find", "frost"])]
#[case::uses(&["uses", "reaches:frost_cut"])]
#[case::free(&["free", "reaches.Landing"])]
#[case::compare(&["compare", "reaches:frost_cut", "reaches:old_mill"])]
#[case::diff(&["diff"])]
#[case::needs(&["needs", "reaches:frost_cut"])]
#[case::check(&["check"])]
#[case::explain(&["explain", "dangling-reference"])]
#[case::learn(&["learn"])]
#[case::preview(&["rename", "reaches:frost_cut", "ice_cut", "--preview"])]
#[case::off(&["off"])]
#[case::history(&["history"])]
#[case::json(&["check", "--format", "json"])]
fn a_full_disk_is_told(#[case] args: &[&str]) {
    let (_folder, project) = demo("put-right");
    let full = || Stdio::from(File::options().write(true).open("/dev/full").expect("Linux has it"));
    let output = program(&project, args).stdout(full()).output().expect("it runs");
    let err = String::from_utf8_lossy(&output.stderr);
    assert_eq!(output.status.code(), Some(3), "{err}");
    assert!(err.contains("cannot write the result"), "{err}");
    assert!(!err.contains("panicked") && !err.contains("only its output is missing"), "{err}");
}

/// A change that is made is made, and that is said.
#[rstest]
fn a_change_whose_output_is_lost_is_made() {
    let (_folder, project) = demo("put-right");
    let full = || Stdio::from(File::options().write(true).open("/dev/full").expect("Linux has it"));
    for args in [&["rename", "reaches:frost_cut", "ice_cut"][..], &["undo"], &["redo"]] {
        let output = program(&project, args).stdout(full()).output().expect("it runs");
        let err = String::from_utf8_lossy(&output.stderr);
        assert_eq!(output.status.code(), Some(3), "{err}");
        assert!(err.contains("only its output is missing"), "{err}");
    }
    assert!(stitching(&project, &["history"]).out.contains("rename reaches:frost_cut to ice_cut"));
    assert_eq!(stitching(&project, &["undo"]).status, 0);
}

#[rstest]
#[case(&["show", "offers"])]
#[case(&["check"])]
#[case(&["--help"])]
fn a_pipe_that_is_closed_ends_quietly(#[case] args: &[&str]) {
    let (_folder, project) = demo("put-right");
    let mut child =
        program(&project, args).stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().expect("it runs");
    drop(child.stdout.take());
    let output = child.wait_with_output().expect("it ends");
    assert!(output.status.success(), "{output:?}");
    assert!(!String::from_utf8_lossy(&output.stderr).contains("error"), "{output:?}");
}

/// What is said behind a result stands behind it, where both go to one place.
#[rstest]
fn results_and_messages_keep_their_order() {
    let (_folder, project) = demo("put-right");
    let both = project.join("both.txt");
    let file = File::create(&both).expect("made");
    let mut command = program(&project, &["rename", "reaches:frost_cut", "ice_cut"]);
    let status = command.stdout(file.try_clone().expect("a handle")).stderr(file).status().expect("it runs");
    assert!(status.success());
    let said = std::fs::read_to_string(both).expect("there");
    let at = |text: &str| said.find(text).unwrap_or_else(|| panic!("{text} is missing in {said}"));
    assert!(at("15 values in 9 files") < at("takes it back"), "{said}");
}
