//! Changes of the demo's mod that take each other back: not one byte differs afterwards. Files of the game that had to come
//! up into the mod stay there, as they are in the game.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use support::{demo, json, stitching, tree};

/// How many records of each table are tried; with `EXHAUSTIVE` set more.
fn of_each() -> usize {
    if std::env::var_os("EXHAUSTIVE").is_some() { 5 } else { 1 }
}

/// A record of the mod: its table, its key, and what its fields hold.
struct Subject {
    table: String,
    key: String,
    fields: BTreeMap<String, String>,
}

impl Subject {
    fn address(&self) -> String {
        format!("{}:\"{}\"", self.table, self.key)
    }

    /// A key that no record has: of one with several parts the last is another.
    fn other_key(&self) -> String {
        let (group, last) =
            self.key.rsplit_once('/').map_or((None, self.key.as_str()), |(a, b)| (Some(a), b));
        let last = if last.parse::<u32>().is_ok() { "7" } else { "zz_other" };
        group.map_or_else(|| last.to_owned(), |group| format!("{group}/{last}"))
    }
}

/// Some records of each table of which the mod has some.
fn subjects(project: &Path) -> Vec<Subject> {
    let tables = json(project, &["tables"]);
    let mut out = Vec::new();
    for table in tables["tables"].as_array().expect("tables") {
        let name = table["table"].as_str().expect("a name").to_owned();
        let lines = stitching(project, &["show", &name, "--format", "json-lines"]);
        let records =
            lines.out.lines().map(|line| -> serde_json::Value { serde_json::from_str(line).expect("JSON") });
        let own = records.filter(|record| record["layer"] == "mod" && record["key"].is_string());
        out.extend(own.take(of_each()).map(|record| {
            Subject {
                table: name.clone(),
                key: record["key"].as_str().expect("a key").to_owned(),
                fields: record["fields"]
                    .as_object()
                    .expect("fields")
                    .iter()
                    .map(|(field, value)| (field.clone(), value.as_str().unwrap_or_default().to_owned()))
                    .collect(),
            }
        }));
    }
    out
}

/// Runs `there` and then `back` on a copy of the demo; gives whether both were done. Not one byte may differ then.
fn there_and_back(project: &Path, there: &[&str], back: &[&str]) -> bool {
    let before = tree(project);
    let first = stitching(project, there);
    if first.status != 0 {
        assert_eq!(tree(project), before, "{there:?} was refused and changed something: {}", first.err);
        return false;
    }
    assert_ne!(tree(project), before, "{there:?} changed nothing");
    let second = stitching(project, back);
    // What has another name now is still there under its old one in the game.
    if back[0] == "rename" && second.err.contains(" already") {
        stitching(project, &["undo"]);
        return false;
    }
    let after = tree(project);
    let game = tree(&project.join("../game"));
    let of_game = |path: &str| path.strip_prefix("mod/").and_then(|path| game.get(path));
    let is_same = |path: &&String| match before.get(*path) {
        Some(bytes) => after.get(*path) == Some(bytes),
        None => after.get(*path) == of_game(path),
    };
    // Of layers that count together the mod goes on saying what it was given; an archive is packed anew.
    let is_told = |path: &&String| !path.starts_with("mod/settings/") && !path.ends_with(".zip");
    let all: BTreeSet<&String> = before.keys().chain(after.keys()).filter(is_told).collect();
    let differs: Vec<&String> = all.into_iter().filter(|path| !is_same(path)).collect();
    let is_same = second.status == 0 && differs.is_empty();
    let seen = (stitching(project, &["undo"]), stitching(project, &["undo"]));
    assert!(is_same, "{there:?}, {back:?}: {differs:?}\n{}\n{}", first.err, second.err);
    assert_eq!(tree(project), before, "undo of {there:?}: {seen:?}");
    true
}

#[test]
fn a_copy_that_is_removed() {
    let (_folder, project) = demo("put-right");
    let mut done = 0;
    for subject in subjects(&project) {
        let other = subject.other_key();
        let copy = format!("{}:\"{other}\"", subject.table);
        done += u32::from(there_and_back(
            &project,
            &["copy", &subject.address(), &other, "--allow-errors"],
            &["remove", &copy, "--allow-errors"],
        ));
    }
    assert!(done >= 12, "only {done} were copied");
}

#[test]
fn a_record_that_is_added_and_removed() {
    let (_folder, project) = demo("put-right");
    let mut done = 0;
    for subject in subjects(&project) {
        let other = subject.other_key();
        let added = format!("{}:\"{other}\"", subject.table);
        done += u32::from(there_and_back(
            &project,
            &["add", &subject.table, &other, "--allow-errors"],
            &["remove", &added, "--allow-errors"],
        ));
    }
    assert!(done >= 10, "only {done} were added");
}

#[test]
fn a_value_that_is_set_and_set_again() {
    let (_folder, project) = demo("put-right");
    let mut done = 0;
    for subject in subjects(&project) {
        for (field, value) in subject.fields.iter().filter(|(_, value)| !value.is_empty()).take(3) {
            let address = subject.address();
            let new = if value.parse::<f64>().is_ok() { "7" } else { "zz_other" };
            done += u32::from(there_and_back(
                &project,
                &["set", &address, &format!("{field}={new}"), "--allow-errors"],
                &["set", &address, &format!("{field}={value}"), "--allow-errors"],
            ));
        }
    }
    assert!(done >= 20, "only {done} were set");
}

#[test]
fn a_rename_that_is_turned_back() {
    let (_folder, project) = demo("put-right");
    let mut done = 0;
    for subject in subjects(&project) {
        let other = subject.other_key();
        let renamed = format!("{}:\"{other}\"", subject.table);
        done += u32::from(there_and_back(
            &project,
            &["rename", &subject.address(), &other, "--allow-errors"],
            &["rename", &renamed, &subject.key, "--allow-errors"],
        ));
    }
    assert!(done >= 5, "only {done} were renamed");
}
