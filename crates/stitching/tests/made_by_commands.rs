//! The demo's mod made from nothing by commands alone: `demo/made-by-commands`, line by line.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use std::fs;
use support::{demo, stitching, tree, words};

#[test]
fn each_command_leaves_a_sound_mod() {
    let (_folder, model) = demo("put-right");
    let made = model.with_file_name("made");
    fs::create_dir_all(made.join("mod")).expect("a folder");
    fs::copy(model.join("stitching.toml"), made.join("stitching.toml")).expect("a project");
    let script = fs::read_to_string(model.with_file_name("made-by-commands")).expect("the script");
    let commands = script.lines().filter(|line| !line.is_empty() && !line.starts_with('#'));
    let mut done = 0;
    for line in commands {
        let words = words(line);
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let run = stitching(&made, &words);
        assert_eq!(run.status, 0, "{line}\n{}", run.err);
        // What is made although it brings errors is taken back by the next line.
        if !words.contains(&"--allow-errors") {
            let check = stitching(&made, &["check"]);
            assert_eq!(check.status, 0, "after {line}\n{}", check.out);
        }
        done += 1;
    }
    assert!(done > 25, "only {done} commands");
    // All of it can be taken back, up to the empty folder.
    while stitching(&made, &["undo"]).status == 0 {}
    assert_eq!(tree(&made.join("mod")).len(), 0);
}
