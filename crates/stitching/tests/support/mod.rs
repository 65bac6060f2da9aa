//! Driving the built program.
#![allow(dead_code, reason = "each test program uses a part of it")]

use assert_cmd::Command;
use std::collections::BTreeMap;
use std::fs;
use std::path::{Path, PathBuf};
use tempfile::TempDir;

/// Where the program keeps what belongs to the user, in tests.
pub const STATE: &str = env!("CARGO_TARGET_TMPDIR");

/// The program, in `folder`, to be started by hand.
pub fn program(folder: &Path, args: &[&str]) -> std::process::Command {
    let mut command = std::process::Command::new(assert_cmd::cargo::cargo_bin("stitching"));
    command.args(args).current_dir(folder).env("XDG_STATE_HOME", STATE).env("COLUMNS", "100");
    command
}

/// What a run of the program gave.
#[derive(Debug, PartialEq, Eq)]
pub struct Run {
    pub status: i32,
    pub out: String,
    pub err: String,
}

pub fn stitching(folder: &Path, args: &[&str]) -> Run {
    run(Command::cargo_bin("stitching").expect("the program").current_dir(folder).args(args))
}

pub fn run(command: &mut Command) -> Run {
    let command = command.env("COLUMNS", "100").env_remove("NO_COLOR").env("XDG_STATE_HOME", STATE);
    let output = command.output().expect("it runs");
    let run = Run {
        status: output.status.code().unwrap_or(-1),
        out: String::from_utf8(output.stdout).expect("UTF-8"),
        err: String::from_utf8_lossy(&output.stderr).into_owned(),
    };
    assert!(!run.err.contains("panicked"), "{}", run.err);
    run
}

pub fn json(folder: &Path, args: &[&str]) -> serde_json::Value {
    let run = stitching(folder, &[args, &["--format", "json"]].concat());
    serde_json::from_str(&run.out).unwrap_or_else(|error| panic!("{error}: {}\n{}", run.out, run.err))
}

/// A copy of the demo; gives the folder that holds it, and that of one of its mods.
pub fn demo(which: &str) -> (TempDir, PathBuf) {
    let folder = tempfile::tempdir().expect("a folder");
    copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo"), folder.path());
    let project = folder.path().join(which);
    (folder, project)
}

fn copy(from: &Path, to: &Path) {
    fs::create_dir_all(to).expect("a folder");
    for entry in fs::read_dir(from).expect("a folder").flatten() {
        let target = to.join(entry.file_name());
        if entry.path().is_dir() {
            copy(&entry.path(), &target);
        } else {
            fs::copy(entry.path(), target).expect("a file");
        }
    }
}

/// All files below a folder, without what the tool keeps for itself.
pub fn tree(folder: &Path) -> BTreeMap<String, Vec<u8>> {
    let mut out = BTreeMap::new();
    let mut open = vec![folder.to_owned()];
    while let Some(next) = open.pop() {
        for entry in fs::read_dir(next).expect("a folder").flatten() {
            let path = entry.path();
            if path.is_dir() && entry.file_name() != ".stitching" && entry.file_name() != ".git" {
                open.push(path);
            } else if path.is_file() {
                let name = path.strip_prefix(folder).expect("below").to_string_lossy().replace('\\', "/");
                out.insert(name, fs::read(&path).expect("a file"));
            }
        }
    }
    out
}

/// A project of one table, `reaches`, in `mod/reaches.txt`, with `more` added to the schema.
pub fn small(more: &str) -> TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    for layer in ["game", "mod"] {
        fs::create_dir(folder.path().join(layer)).expect("a layer");
    }
    let project = "[project]\nschema = \"s.toml\"\n[[layer]]\nname = \"game\"\npath = \"game\"\n[[layer]]\nname = \"mod\"\npath = \"mod\"\n";
    fs::write(folder.path().join("stitching.toml"), project).expect("written");
    let schema = format!(
        "[table.reaches]\nfiles = \"*reaches*.txt\"\nformat = {{ kind = \"delimited\" }}\nkey = \"Reach\"\n[table.reaches.fields]\nAbove = {{ ref = \"reaches\", optional = true }}\n{more}"
    );
    fs::write(folder.path().join("s.toml"), schema).expect("written");
    fs::write(folder.path().join("mod/reaches.txt"), "Reach\tAbove\nmill\t\nfrost\tmill\n").expect("written");
    folder
}

/// Writes a project file over the layer `mod`, with the layer `game` below it if it `has_game`.
pub fn write_project(folder: &Path, has_game: bool) {
    let mut project = "[project]\nname = \"t\"\nschema = \"schema.toml\"\n".to_owned();
    for layer in ["game", "mod"] {
        if has_game || layer == "mod" {
            project += &format!("[[layer]]\nname = \"{layer}\"\npath = \"{layer}\"\n");
            fs::create_dir_all(folder.join(layer)).expect("a folder");
        }
    }
    fs::write(folder.join("stitching.toml"), project).expect("written");
}

/// The words of a command; a word with blanks stands in single quotes.
pub fn words(command: &str) -> Vec<String> {
    let mut words = Vec::new();
    for (at, part) in command.split('\'').enumerate() {
        match at % 2 {
            0 => words.extend(part.split_whitespace().map(str::to_owned)),
            _ => words.push(part.to_owned()),
        }
    }
    words
}

/// What a command prints, and its status if that is not 0.
pub fn answer(folder: &Path, command: &str) -> String {
    let words = words(command);
    let run = stitching(folder, &words.iter().map(String::as_str).collect::<Vec<_>>());
    let mut out = run.out;
    if !run.err.is_empty() {
        out += &format!("--- messages\n{}", run.err);
    }
    if run.status != 0 {
        out += &format!("--- status {}\n", run.status);
    }
    let real = folder.canonicalize().expect("a folder");
    out.replace(&*real.to_string_lossy(), "FOLDER").replace(&*folder.to_string_lossy(), "FOLDER")
}
