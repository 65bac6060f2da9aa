//! Each check against a small project: it fires at the right place with the right words, and is
//! silent about everything else in the project.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use stitching_core::Code;
use stitching_core::checks::{CHECKS, check};
use stitching_core::{Error, Project};

#[rstest]
fn finds_exactly_what_is_there(#[files("tests/checks/*.txt")] fixture: PathBuf) {
    let bundle = std::fs::read_to_string(&fixture).expect("a fixture");
    let bundle = bundle.split("\n=== problems\n").next().unwrap_or_default();
    let folder = support::write(bundle);
    let found = match Project::open(folder.path()) {
        Ok(project) => support::lines(&check(project.view()).problems),
        Err(Error::Description(problems)) => support::lines(&problems),
        Err(error) => panic!("{error}"),
    };
    support::compare(&fixture, "problems", &found.iter().map(|line| format!("{line}\n")).collect::<String>());
}

#[rstest]
fn every_check_has_docs_and_a_fixture_in_which_it_fires() {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/checks");
    let mut fired = BTreeSet::new();
    for entry in std::fs::read_dir(folder).expect("fixtures").flatten() {
        let text = std::fs::read_to_string(entry.path()).expect("a fixture");
        let problems = text.split("\n=== problems\n").nth(1).unwrap_or_default().to_owned();
        for check in CHECKS {
            if problems.contains(&format!("[{}]", check.code)) {
                fired.insert(check.code);
            }
        }
    }
    for check in CHECKS {
        let headings =
            ["What it finds", "Why it matters", "When to ignore it", "Example, wrong", "Example, right"];
        let mut rest = check.docs;
        for heading in headings {
            let at = rest
                .find(heading)
                .unwrap_or_else(|| panic!("{}: `{heading}` is missing or out of order", check.code));
            rest = &rest[at + heading.len()..];
        }
        // Links that leave the layer and files without rights are made by other tests.
        assert!(
            fired.contains(&check.code) || check.code == Code::UNREADABLE_ENTRY,
            "{} has no fixture",
            check.code
        );
    }
    assert!(CHECKS.windows(2).all(|pair| pair[0].code < pair[1].code), "the table is sorted by code");
    let codes: Vec<Code> = CHECKS.iter().map(|check| check.code).collect();
    assert_eq!(codes, Code::ALL, "each code has its check");
}

/// The same problems, whatever the number of threads.
#[rstest]
fn one_or_many_threads_find_the_same() {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/first-try");
    let run = |threads: usize| {
        let pool = rayon::ThreadPoolBuilder::new().num_threads(threads).build().expect("a pool");
        pool.install(|| {
            let project = Project::open(&demo).expect("the demo");
            support::lines(&check(project.view()).problems)
        })
    };
    let one = run(1);
    assert!(one.len() > 12, "the newcomer's mod has a dozen mistakes");
    // What one thread waits for must not wait for that thread: many texts, many files with problems, many times.
    for threads in [2, 3, 4, 8, 16] {
        assert_eq!(one, run(threads), "{threads} threads");
    }
}
