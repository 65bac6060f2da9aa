//! What the program answers on small projects. Each file in `tests/answers` has the files of one project and commands
//! with what they print; `UPDATE_FIXTURES=1` writes that anew. Commands run one after another, on what those before left.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fs;
use std::path::{Path, PathBuf};
use support::{answer, write_project};

/// What stands before the name of a file, and before a command.
const FILE: &str = "=== ";
const COMMAND: &str = "$ stitching ";

/// Writes the files of a fixture, with a project file over those of the layers `game` and `mod` that there are.
fn write(folder: &Path, files: &str) {
    write_project(folder, files.contains(&format!("{FILE}game/")));
    for file in files.split(FILE).skip(1) {
        let (name, text) = file.split_once('\n').expect("a name and a text");
        let path = folder.join(name.trim());
        fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
        match text.strip_prefix("link to ") {
            Some(target) => link(target.trim(), &path),
            None => fs::write(path, text).expect("written"),
        }
    }
}

#[cfg(unix)]
fn link(target: &str, path: &Path) {
    std::os::unix::fs::symlink(target, path).expect("linked");
}

#[cfg(not(unix))]
fn link(_: &str, path: &Path) {
    panic!("`{}` cannot be made here", path.display());
}

#[rstest]
fn it_answers(#[files("tests/answers/*.txt")] fixture: PathBuf) {
    let expected = fs::read_to_string(&fixture).expect("a fixture");
    if cfg!(not(unix)) && expected.contains("\nlink to ") {
        return;
    }
    let (files, commands) = expected.split_once(&format!("\n{COMMAND}")).expect("files and commands");
    let folder = tempfile::tempdir().expect("a folder");
    write(folder.path(), &format!("{files}\n"));
    let mut found = files.to_owned();
    for command in commands.split(&format!("\n{COMMAND}")) {
        let command = command.lines().next().expect("a command");
        let answer = answer(folder.path(), command);
        found += &format!("\n{COMMAND}{command}\n{answer}");
    }
    if std::env::var_os("UPDATE_FIXTURES").is_some() {
        fs::write(&fixture, &found).expect("written");
    }
    assert_eq!(found.trim_end(), expected.trim_end(), "{}", fixture.display());
}
