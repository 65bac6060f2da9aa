//! Renaming on small projects: what changes, what must not, and all the way back.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use proptest::prelude::*;
use rstest::rstest;
use std::fmt::Write as _;
use std::path::PathBuf;
use stitching_core::changes::{Change, rename, unified_diff, verify};
use stitching_core::checks::{Renamed, new_errors};
use stitching_core::journal::{ChangedSince, Journal};
use stitching_core::{Code, Error, Place, Problem, Project, Severity};

fn journal(project: &Project) -> Journal<'static> {
    support::journal(&project.folder)
}

fn describe(project: &Project, result: Result<Change, Error>) -> String {
    match result {
        Ok(change) => {
            let mut out = format!("{}, {} values\n", change.title(), change.values());
            for note in change.notes() {
                let _ = writeln!(out, "{note:?}");
            }
            out + &unified_diff(project, &change).expect("a diff").replace('\r', "␍")
        }
        Err(error) => {
            format!("{error}\nhelp: {}\n", error.help().as_ref().map(support::help_text).unwrap_or_default())
        }
    }
}

/// Each fixture names a record and its new key in the section `command`.
#[rstest]
fn rename_changes_what_it_must(#[files("tests/changes/*.txt")] fixture: PathBuf) {
    let bundle = std::fs::read_to_string(&fixture).expect("a fixture");
    let bundle = bundle.split("\n=== result\n").next().unwrap_or_default();
    let folder = support::write(bundle);
    let before = support::tree(folder.path());
    let project = support::open(&folder);
    let command = String::from_utf8(support::sections(bundle)["command"].clone()).expect("text");
    let (address, new) = command.trim_end().split_once(" -> ").expect("address -> key");
    let result = rename(&project, address, new).and_then(|change| verify(&project, &change).map(|()| change));
    if let Ok(change) = &result {
        let number = journal(&project).commit(&project.stack, change).expect("it is written");
        assert_eq!(number, 1);
        let after = support::tree(folder.path());
        for file in change.files() {
            let root = &project.stack.layers().last().expect("a mod").root;
            let written = support::bytes_at(root, file.path());
            assert_eq!(written, **file.after(), "{} as previewed", file.path());
        }
        for (path, bytes) in before.iter().filter(|(path, _)| path.starts_with("game/")) {
            assert_eq!(after.get(path), Some(bytes), "the base is never written");
        }
        journal(&project).undo(ChangedSince::Refuse).expect("it is undone");
        assert_eq!(support::tree(folder.path()), before, "undone to the byte");
        journal(&project).redo(ChangedSince::Refuse).expect("it is done again");
        assert_eq!(support::tree(folder.path()), after, "done again to the byte");
        journal(&project).undo(ChangedSince::Refuse).expect("it is undone");
    }
    assert_eq!(support::tree(folder.path()), before);
    support::compare(&fixture, "result", &describe(&project, result));
}

const SMALL: &str = r#"=== schema.toml
[table.reaches]
files = "reaches.txt"
format = { kind = "delimited" }
key = "Reach"
[table.reaches.fields]
Above = { ref = "reaches", none = "-" }
[table.objects]
files = "objects.json"
format = { kind = "json", records = "$[*]" }
key = "id"
[table.objects.fields]
reach = { ref = "reaches" }
=== mod/objects.json bare
[{"id": "crane", "reach": "mill"},
 {"id": "l\u0061mp", "reach": "m\u0069ll"}, {"id":"x","reach" : "frost" }]
=== mod/reaches.txt crlf
Reach	Above
mill	-
frost	mill
"#;

#[rstest]
fn a_file_changed_since_it_was_read_is_not_overwritten() {
    let folder = support::write(SMALL);
    let project = support::open(&folder);
    let change = rename(&project, "reaches:mill", "weir").expect("a change");
    let path = folder.path().join("mod/reaches.txt");
    std::fs::write(&path, "Reach\tAbove\nmill\t-\n").expect("written");
    let before = support::tree(folder.path());
    let error = journal(&project).commit(&project.stack, &change).expect_err("refused");
    assert!(error.to_string().contains("`reaches.txt` was changed by another program"), "{error}");
    assert_eq!(support::tree(folder.path()), before);
}

#[rstest]
fn undo_refuses_when_the_file_was_edited_since() {
    let folder = support::write(SMALL);
    let project = support::open(&folder);
    let change = rename(&project, "reaches:mill", "weir").expect("a change");
    journal(&project).commit(&project.stack, &change).expect("written");
    let path = folder.path().join("mod/reaches.txt");
    std::fs::write(&path, "Reach\tAbove\nby hand\t-\n").expect("written");
    let before = support::tree(folder.path());
    let error = journal(&project).undo(ChangedSince::Refuse).expect_err("refused");
    assert!(error.to_string().contains("`reaches.txt` was changed since"), "{error}");
    assert_eq!(support::tree(folder.path()), before, "all or nothing");
}

#[rstest]
fn a_new_change_after_an_undo_drops_what_was_undone() {
    let folder = support::write(SMALL);
    for (new, undo) in [("weir", true), ("pound", false)] {
        let project = support::open(&folder);
        let change = rename(&project, "reaches:mill", new).expect("a change");
        journal(&project).commit(&project.stack, &change).expect("written");
        if undo {
            journal(&project).undo(ChangedSince::Refuse).expect("undone");
        }
    }
    let project = support::open(&folder);
    let history = journal(&project).history().expect("a history");
    assert_eq!(history.len(), 1);
    assert_eq!(history[0].entry.title, "rename reaches:mill to pound");
    assert!(journal(&project).redo(ChangedSince::Refuse).is_err(), "nothing to redo");
    journal(&project).undo(ChangedSince::Refuse).expect("undone");
    assert!(journal(&project).undo(ChangedSince::Refuse).is_err(), "nothing to undo");
}

#[rstest]
fn a_change_that_brings_an_error_is_refused_with_it() {
    // The pattern of the column that must follow the key does not allow what the new key makes.
    let bundle = SMALL.replace(
        "[table.objects]",
        "Code = { follows = \"{key}_x\", pattern = \"[a-z_]*\" }\n[table.objects]",
    );
    let bundle = bundle.replace(
        "Reach\tAbove\nmill\t-\nfrost\tmill",
        "Reach\tAbove\tCode\nmill\t-\tmill_x\nfrost\tmill\tfrost_x",
    );
    let folder = support::write(&bundle);
    let project = support::open(&folder);
    let change = rename(&project, "reaches:mill", "weir2").expect("a change");
    let Err(Error::Refused(refusal)) = verify(&project, &change) else { panic!("it must be refused") };
    assert_eq!(refusal.problems.len(), 1, "only the new error");
    assert_eq!(refusal.problems[0].code, stitching_core::Code::PATTERN_MISMATCH);
    assert_eq!(refusal.problems[0].value.as_deref(), Some("weir2_x"));
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 48, failure_persistence: None, ..ProptestConfig::default() })]
    /// There and back gives the same bytes, whatever the name (escapes in JSON aside: a name that
    /// was written with an escape comes back without it).
    #[test]
    fn rename_there_and_back(new in "[a-zA-Zżó\"\\\\ ._-]{1,12}") {
        let new = new.trim().to_owned();
        prop_assume!(!new.is_empty() && new != "-" && new != "mill" && new != "frost");
        let bundle = SMALL.replace("m\\u0069ll", "mill");
        let folder = support::write(&bundle);
        let before = support::tree(folder.path());
        let project = support::open(&folder);
        let change = rename(&project, "reaches:mill", &new).expect("a change");
        verify(&project, &change).expect("no new errors");
        journal(&project).commit(&project.stack, &change).expect("written");
        prop_assert_ne!(&support::tree(folder.path()), &before);
        let project = support::open(&folder);
        let address = format!("reaches:\"{}\"", new.replace('"', "\"\""));
        let change = rename(&project, &address, "mill").expect("a change");
        journal(&project).commit(&project.stack, &change).expect("written");
        prop_assert_eq!(support::tree(folder.path()), before);
    }
}

fn error(key: &str, field: &str, value: &str) -> Problem {
    let mut problem =
        Problem::new(Code::DANGLING_REFERENCE, Severity::Error, "", Place::file("t.txt", "mod"));
    (problem.table, problem.key) = (Some("t".to_owned()), Some(key.to_owned()));
    (problem.field, problem.value) = (Some(field.to_owned()), Some(value.to_owned()));
    problem
}

/// What was wrong before is told by its record and value, so that the new error is the one that is named, and one that
/// is mended does not make room for another.
#[rstest]
#[case::nothing(&[("a", "x")], &[("a", "x")], &[])]
#[case::another_record(&[("c", "x")], &[("a", "y"), ("c", "x")], &[("a", "y")])]
#[case::mended_and_broken(&[("a", "x")], &[("b", "y")], &[("b", "y")])]
#[case::the_value_follows(&[("a", "x")], &[("a", "y")], &[])]
#[case::one_more_of_the_same(&[("a", "x")], &[("a", "x"), ("a", "z")], &[("a", "z")])]
#[case::the_order_does_not_matter(&[("a", "x")], &[("a", "z"), ("a", "x")], &[("a", "z")])]
#[case::the_record_was_renamed(&[("old", "x")], &[("new", "x")], &[])]
#[case::both_were(&[("old", "old_text")], &[("new", "new_text")], &[])]
fn new_errors_are_told_from_old_ones(
    #[case] before: &[(&str, &str)],
    #[case] after: &[(&str, &str)],
    #[case] new: &[(&str, &str)],
) {
    let problems =
        |all: &[(&str, &str)]| all.iter().map(|(key, value)| error(key, "f", value)).collect::<Vec<_>>();
    let mut renamed = Renamed::default();
    renamed.keys.insert(("t".to_owned(), "new".to_owned()), "old".to_owned());
    let found = new_errors(&problems(before), problems(after), &renamed);
    let found: Vec<(&str, &str)> = found
        .iter()
        .map(|problem| (problem.key.as_deref().unwrap_or(""), problem.value.as_deref().unwrap_or("")))
        .collect();
    assert_eq!(found, new);
}

/// A record that was wrong before can be renamed, though all that tells its error is renamed with it.
#[rstest]
fn a_record_with_an_error_can_be_renamed() {
    let bundle = "=== schema.toml\n[table.piers]\nfiles = \"piers.txt\"\nformat = { kind = \"delimited\" }\nkey = \"Id\"\n[table.piers.fields]\nPlan = { file = \"plans/{}.txt\", follows = \"{key}\" }\nNext = { ref = \"piers\" }\n=== mod/piers.txt\nId\tPlan\tNext\na\ta\tnobody\nb\tb\ta\n";
    let folder = support::write(bundle);
    let project = support::open(&folder);
    let change = rename(&project, "piers:a", "c").expect("a change");
    verify(&project, &change).expect("its errors were there before");
}
