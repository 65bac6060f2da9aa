//! The built program stopped in the middle of a write, by itself and from outside, and two of them
//! at once.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::Duration;
use support::{demo, stitching, tree};

fn rename(project: &Path) -> Command {
    let mut command = Command::new(assert_cmd::cargo::cargo_bin("stitching"));
    command.args(["rename", "reaches:frost_cut", "ice_cut"]).current_dir(project);
    command.stdout(Stdio::null()).stderr(Stdio::piped());
    command
}

/// The program dies at each step in turn (debug builds know how).
#[rstest]
fn dying_at_any_step_leaves_all_or_nothing() {
    let (_folder, project) = demo("put-right");
    let before = tree(&project);
    assert!(rename(&project).status().expect("it runs").success());
    let after = tree(&project);
    stitching(&project, &["undo"]);
    let mut outcomes = [0, 0];
    for step in 1.. {
        let status =
            rename(&project).env("STITCHING_TEST_DIE_AT", step.to_string()).status().expect("it runs");
        let died = !status.success();
        // The next command puts it right before it does its own work.
        assert_eq!(stitching(&project, &["check"]).status, 0);
        let now = tree(&project);
        if now == after {
            outcomes[1] += 1;
            assert_eq!(stitching(&project, &["undo"]).status, 0);
        } else {
            outcomes[0] += 1;
        }
        assert_eq!(tree(&project), before, "step {step}");
        if !died {
            break;
        }
    }
    assert!(outcomes[0] > 10 && outcomes[1] > 5, "{outcomes:?}");
}

#[rstest]
fn a_full_disk_at_any_step_changes_nothing() {
    let (_folder, project) = demo("put-right");
    let before = tree(&project);
    for step in (1..).step_by(3) {
        let output =
            rename(&project).env("STITCHING_TEST_FAIL_AT", step.to_string()).output().expect("it runs");
        if output.status.success() {
            break;
        }
        assert_eq!(output.status.code(), Some(3));
        assert!(String::from_utf8_lossy(&output.stderr).contains("the disk is full"));
        assert_eq!(tree(&project), before, "step {step}");
    }
}

/// Killed from outside after ever longer waits.
#[rstest]
fn killing_it_at_any_moment_leaves_all_or_nothing() {
    let (_folder, project) = demo("put-right");
    let before = tree(&project);
    rename(&project).status().expect("it runs");
    let after = tree(&project);
    stitching(&project, &["undo"]);
    for wait in (0..60).step_by(3) {
        let mut child = rename(&project).spawn().expect("it runs");
        std::thread::sleep(Duration::from_millis(wait));
        let _ = child.kill();
        child.wait().expect("it ends");
        stitching(&project, &["history"]);
        let now = tree(&project);
        assert!(now == before || now == after, "killed after {wait} ms");
        if now == after {
            assert_eq!(stitching(&project, &["undo"]).status, 0);
        }
    }
}

#[cfg(unix)]
#[rstest]
fn an_interrupt_ends_it_without_harm() {
    let (_folder, project) = demo("put-right");
    let before = tree(&project);
    for wait in [1, 5, 10, 20] {
        let mut child = rename(&project).spawn().expect("it runs");
        std::thread::sleep(Duration::from_millis(wait));
        Command::new("kill").args(["-INT", &child.id().to_string()]).status().expect("kill");
        let status = child.wait().expect("it ends");
        stitching(&project, &["history"]);
        if tree(&project) != before {
            assert!(status.success() || status.code() == Some(130), "{status}");
            assert_eq!(stitching(&project, &["undo"]).status, 0);
        }
        assert_eq!(tree(&project), before);
    }
}

#[rstest]
fn two_at_once_do_not_mix() {
    let (_folder, project) = demo("put-right");
    let other = |key: &str, new: &str| {
        let mut command = rename(&project);
        let mut fresh = Command::new(command.get_program());
        fresh.args(["rename", key, new]).current_dir(&project).stdout(Stdio::null()).stderr(Stdio::piped());
        command = fresh;
        command.spawn().expect("it runs")
    };
    for round in 0..6 {
        let children =
            [other("goods:coal", &format!("coal{round}")), other("goods:peat", &format!("peat{round}"))];
        let mut done = 0;
        for child in children {
            let output = child.wait_with_output().expect("it ends");
            let err = String::from_utf8_lossy(&output.stderr);
            match output.status.code() {
                Some(0) => done += 1,
                Some(1) => assert!(
                    err.contains("another stitching") || err.contains("was changed by another program"),
                    "{err}"
                ),
                other => panic!("{other:?} {err}"),
            }
        }
        assert!(done >= 1, "one of them gets through");
        let check = stitching(&project, &["check"]);
        assert_eq!(check.status, 0, "{}", check.out);
        for _ in 0..done {
            assert_eq!(stitching(&project, &["undo"]).status, 0);
        }
    }
}
