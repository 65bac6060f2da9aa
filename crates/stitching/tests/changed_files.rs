//! `check --changed` asks git what differs from a revision.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use std::fs;
use std::path::Path;
use std::process::Command;
use support::{answer, write_project};

fn git(folder: &Path, arguments: &[&str]) {
    let status = Command::new("git")
        .args(["-c", "user.name=a", "-c", "user.email=a@example.org", "-c", "commit.gpgsign=false"])
        .args(arguments)
        .current_dir(folder)
        .output()
        .expect("git runs");
    assert!(status.status.success(), "{arguments:?}: {status:?}");
}

/// A project in a folder of a repository, with a fault in each of two files.
fn repository() -> (tempfile::TempDir, std::path::PathBuf) {
    let folder = tempfile::tempdir().expect("a folder");
    let project = folder.path().join("mods/odd name");
    fs::create_dir_all(project.join("mod")).expect("a folder");
    write_project(&project, false);
    let schema = "[table.reaches]\nfiles = \"*.txt\"\nformat = { kind = \"delimited\" }\nkey = \"Reach\"\n\
        [table.reaches.fields]\nAbove = { ref = \"reaches\" }\n";
    fs::write(project.join("schema.toml"), schema).expect("written");
    fs::write(project.join("mod/old.txt"), "Reach\tAbove\nmill\tmlil\n").expect("written");
    fs::write(project.join("mod/other ü.txt"), "Reach\tAbove\nweir\tmill\n").expect("written");
    git(folder.path(), &["init", "-q"]);
    git(folder.path(), &["add", "-A"]);
    git(folder.path(), &["commit", "-q", "-m", "first"]);
    (folder, project)
}

#[test]
fn only_problems_of_changed_and_new_files_are_told() {
    let (folder, project) = repository();
    let said = answer(&project, "check --changed --by file");
    assert!(said.starts_with("no problems in files changed since HEAD, out of 1 error"), "{said}");
    fs::write(project.join("mod/other ü.txt"), "Reach\tAbove\nweir\tmil\n").expect("written");
    fs::write(project.join("mod/new.txt"), "Reach\tAbove\nlock\tlok\n").expect("written");
    let said = answer(&project, "check --changed --by file");
    assert!(said.contains("mod/other ü.txt  1 problem") && said.contains("mod/new.txt  1 problem"), "{said}");
    assert!(!said.contains("mod/old.txt"), "{said}");
    git(folder.path(), &["add", "-A"]);
    git(folder.path(), &["commit", "-q", "-m", "second"]);
    let said = answer(&project, "check --changed HEAD~1 --by file");
    assert!(said.contains("2 errors in files changed since HEAD~1, out of 3 errors"), "{said}");
}

#[test]
fn what_git_does_not_know_is_told() {
    let (_folder, project) = repository();
    let said = answer(&project, "check --changed nowhere");
    assert!(said.contains("git does not tell what changed") && said.contains("status 2"), "{said}");
    // What looks like an option of git is a revision that is not there.
    let said = answer(&project, "check --changed=--output=x");
    assert!(said.contains("git does not tell what changed"), "{said}");
    assert!(!project.join("x").exists());
}
