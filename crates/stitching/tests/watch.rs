//! `watch` tells what came and what went after each save, in its own time: nothing here depends on how long that is.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use std::fs;
use std::io::{BufRead, BufReader};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::sync::mpsc::{Receiver, channel};
use std::time::Duration;
use support::write_project;

/// So long a line is waited for before the test gives up.
const LONGEST: Duration = Duration::from_secs(60);

struct Watched {
    child: Child,
    lines: Receiver<String>,
}

impl Watched {
    fn start(folder: &Path, more: &[&str]) -> Watched {
        let mut child = Command::new(env!("CARGO_BIN_EXE_stitching"))
            .arg("watch")
            .args(more)
            .current_dir(folder)
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()
            .expect("started");
        let out = child.stdout.take().expect("its output");
        let (sender, lines) = channel();
        std::thread::spawn(move || {
            for line in BufReader::new(out).lines().map_while(Result::ok) {
                if sender.send(line).is_err() {
                    return;
                }
            }
        });
        Watched { child, lines }
    }

    /// The lines up to the first with this text.
    fn until(&self, text: &str) -> Vec<String> {
        let mut seen: Vec<String> = Vec::new();
        loop {
            let line = self.lines.recv_timeout(LONGEST);
            let line = line.unwrap_or_else(|_| panic!("no line with `{text}` after {seen:?}"));
            seen.push(line);
            if seen.last().is_some_and(|line| line.contains(text)) {
                return seen;
            }
        }
    }
}

impl Drop for Watched {
    fn drop(&mut self) {
        let _ = self.child.kill();
        let _ = self.child.wait();
    }
}

const SCHEMA: &str = "[table.reaches]\nfiles = \"reaches.txt\"\nformat = { kind = \"delimited\" }\nkey = \"Reach\"\n\
    [table.reaches.fields]\nAbove = { ref = \"reaches\" }\n";

fn project() -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    write_project(folder.path(), false);
    fs::create_dir_all(folder.path().join("mod")).expect("a folder");
    fs::write(folder.path().join("schema.toml"), SCHEMA).expect("written");
    fs::write(folder.path().join("mod/reaches.txt"), "Reach\tAbove\nmill\t\nweir\tmill\n").expect("written");
    folder
}

#[test]
fn what_comes_and_what_goes_is_told() {
    let folder = project();
    let watched = Watched::start(folder.path(), &[]);
    watched.until("no problems; waiting for changes");
    let file = folder.path().join("mod/reaches.txt");
    fs::write(&file, "Reach\tAbove\nmill\t\nweir\tmlil\n").expect("written");
    let seen = watched.until("1 came, 0 went");
    assert!(seen.iter().any(|line| line.contains("there is no `mlil`")), "{seen:?}");
    fs::write(&file, "Reach\tAbove\nmill\t\nweir\tmill\n").expect("written");
    let seen = watched.until("0 came, 1 went");
    assert!(seen.iter().any(|line| line.contains("gone")), "{seen:?}");
    // A schema that is being edited ends nothing.
    fs::write(folder.path().join("schema.toml"), "[table.reaches]\nfiles = ").expect("written");
    watched.until("not checked");
    fs::write(folder.path().join("schema.toml"), SCHEMA).expect("written");
    watched.until("no problems");
    assert!(!folder.path().join(".stitching/cache").exists());
}

#[test]
fn each_check_is_a_line_of_json() {
    let folder = project();
    let watched = Watched::start(folder.path(), &["--format", "json", "--poll"]);
    watched.until("\"errors\":0");
    fs::write(folder.path().join("mod/reaches.txt"), "Reach\tAbove\nmill\tnowhere\n").expect("written");
    let seen = watched.until("\"errors\":1");
    let last = seen.last().expect("a line");
    let value: serde_json::Value = serde_json::from_str(last).expect("JSON");
    assert_eq!(value["came"][0]["code"], "dangling-reference", "{last}");
    assert_eq!(value["changed"][0], "reaches.txt", "{last}");
}
