//! The built program stopped in the middle of a write, by itself and from outside, and two of them
//! at once.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fs;
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};
use support::{program, stitching, tree, write_project};
use tempfile::TempDir;

/// Renaming `mill` edits two files of the mod, moves one, and brings one up from the game.
const FILES: [(&str, &str); 5] = [
    (
        "schema.toml",
        r#"
[table.reaches]
files = "reaches.txt"
format = { kind = "delimited" }
key = "Reach"
[table.reaches.fields]
Layout = { file = "layouts/{}.json", follows = "{key}" }
[table.layouts]
files = "layouts/*.json"
format = { kind = "json", records = "$" }
key = "{stem}"
[table.layouts.fields]
reach = { ref = "reaches" }
[table.tolls]
files = "tolls.ini"
format = { kind = "ini" }
key = "{section}"
[table.tolls.fields]
reach = { ref = "reaches" }
"#,
    ),
    ("mod/reaches.txt", "Reach\tLayout\nmill\tmill\nweir\tweir\n"),
    ("mod/layouts/mill.json", "{ \"reach\": \"mill\" }\n"),
    ("mod/layouts/weir.json", "{ \"reach\": \"weir\" }\n"),
    ("game/tolls.ini", "[quay]\nreach = mill\n"),
];

/// A project with these files.
fn project() -> TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    for (path, text) in FILES {
        let path = folder.path().join(path);
        fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        fs::write(path, text).expect("a file");
    }
    write_project(folder.path(), true);
    folder
}

fn rename(project: &Path) -> Command {
    let mut command = program(project, &["rename", "reaches:mill", "mill_run"]);
    command.stdout(Stdio::null()).stderr(Stdio::piped());
    command
}

/// The program dies at each step in turn (debug builds know how).
#[rstest]
fn dying_at_any_step_leaves_all_or_nothing() {
    let folder = project();
    let project = folder.path();
    let before = tree(project);
    assert!(rename(project).status().expect("it runs").success());
    let after = tree(project);
    stitching(project, &["undo"]);
    let mut outcomes = [0, 0];
    for step in 1.. {
        let status =
            rename(project).env("STITCHING_TEST_DIE_AT", step.to_string()).status().expect("it runs");
        let died = !status.success();
        // The next command puts it right before it does its own work.
        assert_eq!(stitching(project, &["check"]).status, 0);
        let now = tree(project);
        if now == after {
            outcomes[1] += 1;
            assert_eq!(stitching(project, &["undo"]).status, 0);
        } else {
            outcomes[0] += 1;
        }
        assert_eq!(tree(project), before, "step {step}");
        if !died {
            break;
        }
    }
    assert!(outcomes[0] > 10 && outcomes[1] > 5, "{outcomes:?}");
}

/// One call that fails, and all calls from one on: the exit status tells what became of the change, and the next
/// command leaves no temporary file.
#[rstest]
#[case::once("STITCHING_TEST_FAIL_AT")]
#[case::from_there_on("STITCHING_TEST_FAIL_FROM")]
fn a_full_disk_at_any_call(#[case] fault: &str) {
    let folder = project();
    let project = folder.path();
    let before = tree(project);
    assert!(rename(project).status().expect("it runs").success());
    let after = tree(project);
    stitching(project, &["undo"]);
    let (mut warned, mut untouched) = (0, 0);
    for call in (1..).step_by(3) {
        let output = rename(project).env(fault, call.to_string()).output().expect("it runs");
        let err = String::from_utf8_lossy(&output.stderr);
        let (half_made, left) = (err.contains("is half made"), err.contains("temporary files"));
        match output.status.code() {
            Some(0) => warned += usize::from(left),
            Some(3) => {
                assert!(err.contains("disk is full") || err.contains("no storage space"), "{call}: {err}")
            }
            other => panic!("{other:?}: {err}"),
        }
        let next = stitching(project, &["history"]);
        assert_eq!(next.status, 0, "{}", next.err);
        let told = half_made || (left && !output.status.success());
        assert_eq!(next.err.contains("a change that was interrupted"), told, "{call}: {err}\n{}", next.err);
        let now = tree(project);
        if !half_made {
            assert!(
                now == if output.status.success() { after.clone() } else { before.clone() },
                "{call}: {err}"
            );
        }
        if now == after {
            assert_eq!(stitching(project, &["undo"]).status, 0);
        }
        assert!(tree(project) == before, "{call}: {err}");
        // Some calls can be done in other ways; behind the last one there is nothing that could fail.
        untouched = if output.status.success() && !left { untouched + 1 } else { 0 };
        if untouched > 6 {
            break;
        }
    }
    assert!(warned > 0, "what fails while cleaning up is only told");
}

/// How long a rename takes that nobody stops; afterwards it is undone.
fn whole_time(project: &Path) -> Duration {
    let start = Instant::now();
    assert!(rename(project).status().expect("it runs").success());
    let time = start.elapsed();
    assert_eq!(stitching(project, &["undo"]).status, 0);
    time
}

/// Killed from outside at each fortieth of its time, and behind its end.
#[rstest]
fn killing_it_at_any_moment_leaves_all_or_nothing() {
    let folder = project();
    let project = folder.path();
    let before = tree(project);
    rename(project).status().expect("it runs");
    let after = tree(project);
    stitching(project, &["undo"]);
    let whole = whole_time(project);
    for part in 0..48 {
        let wait = whole * part / 40;
        let mut child = rename(project).spawn().expect("it runs");
        std::thread::sleep(wait);
        let _ = child.kill();
        child.wait().expect("it ends");
        stitching(project, &["history"]);
        let now = tree(project);
        assert!(now == before || now == after, "killed after {wait:?}");
        if now == after {
            assert_eq!(stitching(project, &["undo"]).status, 0);
        }
    }
}

#[cfg(unix)]
#[rstest]
fn an_interrupt_ends_it_without_harm() {
    let folder = project();
    let project = folder.path();
    let before = tree(project);
    let whole = whole_time(project);
    for part in 0..12 {
        let mut child = rename(project).spawn().expect("it runs");
        std::thread::sleep(whole * part / 10);
        Command::new("kill").args(["-INT", &child.id().to_string()]).status().expect("kill");
        let status = child.wait().expect("it ends");
        stitching(project, &["history"]);
        if tree(project) != before {
            assert!(status.success() || status.code() == Some(130), "{status}");
            assert_eq!(stitching(project, &["undo"]).status, 0);
        }
        assert_eq!(tree(project), before);
    }
}

#[rstest]
fn two_at_once_do_not_mix() {
    let folder = project();
    let project = folder.path();
    let other = |key: &str, new: &str| {
        let mut command = program(project, &["rename", key, new]);
        command.stdout(Stdio::null()).stderr(Stdio::piped()).spawn().expect("it runs")
    };
    for round in 0..6 {
        let children =
            [other("reaches:mill", &format!("mill{round}")), other("reaches:weir", &format!("weir{round}"))];
        let mut done = 0;
        for child in children {
            let output = child.wait_with_output().expect("it ends");
            let err = String::from_utf8_lossy(&output.stderr);
            match output.status.code() {
                Some(0) => done += 1,
                other => panic!("{other:?} {err}"),
            }
        }
        assert_eq!(done, 2, "one waits for the other");
        let check = stitching(project, &["check"]);
        assert_eq!(check.status, 0, "{}", check.out);
        for _ in 0..done {
            assert_eq!(stitching(project, &["undo"]).status, 0);
        }
    }
}
