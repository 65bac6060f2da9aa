//! Many commands at once, and another program that saves in between: nothing is lost, and nobody sees half a change.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fs;
use std::process::Output;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use support::{demo, program, stitching, tree};

fn told(output: &Output) -> String {
    format!(
        "{}\n{}\n{}",
        output.status,
        String::from_utf8_lossy(&output.stdout),
        String::from_utf8_lossy(&output.stderr)
    )
}

/// Counts one fewer when it is dropped, also by a failing assertion: who waits for nought would wait for ever.
struct OneFewer<'a>(&'a AtomicUsize);

impl Drop for OneFewer<'_> {
    fn drop(&mut self) {
        self.0.fetch_sub(1, Ordering::SeqCst);
    }
}

/// Sets a flag when it is dropped, also by a failing assertion.
struct SetAtTheEnd<'a>(&'a AtomicBool);

impl Drop for SetAtTheEnd<'_> {
    fn drop(&mut self) {
        self.0.store(true, Ordering::SeqCst);
    }
}

/// Four write and four read. Each change is made, one after the other, and each check finds the mod as consistent as
/// it was.
#[rstest]
fn writers_and_readers_at_once() {
    const ROUNDS: usize = 4;
    const GOODS: [&str; 4] = ["coal", "peat", "lamp_oil", "wool"];
    let (_folder, project) = demo("put-right");
    let before = tree(&project);
    let writing = AtomicUsize::new(GOODS.len());
    let checks = AtomicUsize::new(0);
    std::thread::scope(|scope| {
        for good in GOODS {
            let (project, writing) = (&project, &writing);
            scope.spawn(move || {
                let _at_the_end = OneFewer(writing);
                for round in 0..ROUNDS {
                    let name =
                        |round: usize| if round == 0 { good.to_owned() } else { format!("{good}_{round}") };
                    let (from, to) = (format!("goods:{}", name(round)), name(round + 1));
                    let output = program(project, &["rename", &from, &to]).output().expect("it runs");
                    assert!(output.status.success(), "{}", told(&output));
                }
            });
        }
        for reader in 0..4 {
            let (project, writing, checks) = (&project, &writing, &checks);
            scope.spawn(move || {
                while writing.load(Ordering::SeqCst) > 0 {
                    let args: &[&str] = if reader == 0 { &["show", "offers"] } else { &["check"] };
                    let output = program(project, args).output().expect("it runs");
                    assert!(output.status.success(), "{}", told(&output));
                    checks.fetch_add(1, Ordering::SeqCst);
                }
            });
        }
    });
    assert!(checks.into_inner() > 8, "it was read meanwhile");
    for _ in 0..ROUNDS * GOODS.len() {
        let undone = stitching(&project, &["undo"]);
        assert_eq!(undone.status, 0, "{}", undone.err);
    }
    assert!(tree(&project) == before, "all is undone, to the byte");
}

/// Another program saves a file that each change touches, again and again. What it saved last, or saved at the moment of
/// a change, is there in the end: as the file, or beside it.
#[rstest]
fn another_program_saves_all_the_time() {
    let (_folder, project) = demo("put-right");
    let path = project.join("mod/tables/locks.txt");
    let first = fs::read_to_string(&path).expect("there");
    let done = AtomicBool::new(false);
    let (mut refused, mut made) = (0, 0);
    let saved = std::thread::scope(|scope| {
        let editor = scope.spawn(|| {
            let mut saved = Vec::new();
            while !done.load(Ordering::SeqCst) {
                // An editor reads, adds a line, and saves, in one breath.
                let now = fs::read_to_string(&path).expect("there");
                let line = format!("edited_{}\t", saved.len());
                let new = path.with_extension("tmp");
                fs::write(&new, format!("{}{line}\n", now.trim_end_matches("\t\n"))).expect("written");
                fs::rename(&new, &path).expect("saved");
                saved.push(line);
                std::thread::sleep(std::time::Duration::from_millis(7));
            }
            saved
        });
        let at_the_end = SetAtTheEnd(&done);
        for round in 0..12 {
            let (from, to) = if round % 2 == 0 { ("frost_cut", "ice_cut") } else { ("ice_cut", "frost_cut") };
            let from = if made % 2 == 0 { "frost_cut" } else { from };
            let to = if from == "frost_cut" { "ice_cut" } else { to };
            let args = ["rename", &format!("reaches:{from}"), to, "--allow-errors"];
            let output = program(&project, &args).output().expect("it runs");
            match output.status.code() {
                Some(0) => made += 1,
                Some(1) => refused += 1,
                _ => panic!("{}", told(&output)),
            }
        }
        drop(at_the_end);
        editor.join().expect("it ends")
    });
    assert!(saved.len() > 5 && made + refused == 12, "{} saves, {made} made, {refused} refused", saved.len());
    let now = tree(&project.join("mod"));
    let last = saved.last().expect("a save");
    let versions = now.iter().filter(|(name, _)| name.starts_with("tables/locks.txt"));
    let text: String = versions.map(|(_, bytes)| String::from_utf8_lossy(bytes).into_owned()).collect();
    assert!(text.contains(last.as_str()), "the last save is there");
    assert!(
        text.contains(first.lines().next_back().unwrap_or_default().split('\t').next().unwrap_or_default())
    );
    assert!(!now.keys().any(|name| name.contains(".stitching-")), "no temporary file is left");
}
