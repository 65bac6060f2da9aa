//! Writing that goes wrong: whatever call fails, once, twice or from some instant on, or wherever the process dies,
//! the mod has all of a change or nothing of it, and after the next command no file is left over.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

#[path = "support/scenarios.rs"]
mod scenarios;
mod support;

use rstest::rstest;
use scenarios::{Act, SCENARIOS, Scenario, Tree, leftovers, recover};
use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::sync::atomic::{AtomicBool, AtomicUsize, Ordering};
use stitching_core::journal::{Action, Call, NO_HOOK, Recovered};
use stitching_core::{Error, ErrorKind};

/// Which calls fail, counted from 0.
#[derive(Debug, Clone, Copy)]
enum Fault {
    Once(usize),
    Twice(usize, usize),
    /// This and all that follow: the disk of a process that is dead at this instant looks the same.
    From(usize),
    /// One, and later all: a process that dies while it takes back what failed.
    OnceThenFrom(usize, usize),
}

impl Fault {
    fn hits(self, call: usize) -> bool {
        match self {
            Fault::Once(at) => call == at,
            Fault::Twice(one, two) => call == one || call == two,
            Fault::From(from) => call >= from,
            Fault::OnceThenFrom(at, from) => call == at || call >= from,
        }
    }
}

/// Runs a scenario with a fault, and looks at what is left: all of the change or nothing. Gives whether it was made.
fn survives(scenario: &Scenario, fault: Fault, before: &Tree, after: &Tree) -> bool {
    let folder = scenario.prepare();
    let count = AtomicUsize::new(0);
    let hook = |_: &Call| match fault.hits(count.fetch_add(1, Ordering::SeqCst)) {
        true => Err(io::ErrorKind::PermissionDenied.into()),
        false => Ok(()),
    };
    let result = scenario.act.run(folder.path(), &hook, &Mutex::default());
    let at = format!("{}, {fault:?}: {result:?}", scenario.name);
    let tree = || without_temporary(support::tree(folder.path()));
    // As long as nothing else is said, what is on disk is what the result says.
    match &result {
        Ok(()) => assert_eq!(&tree(), after, "{at}"),
        Err(Error::Unfinished { .. }) => {}
        Err(error) => {
            assert_eq!(error.kind(), ErrorKind::Io, "{at}");
            assert_eq!(&tree(), before, "{at}");
        }
    }
    let recovered = recover(folder.path(), NO_HOOK).unwrap_or_else(|error| panic!("{at}: {error}"));
    assert_eq!(leftovers(folder.path()), Vec::<String>::new(), "{at}");
    let now = support::tree(folder.path());
    let made = now == *after;
    assert!(made || now == *before, "{at}: {recovered:?}\n{:#?}", shown(&now));
    match recovered {
        Recovered::Finished(_) | Recovered::Cleaned(_) => assert!(made, "{at}"),
        Recovered::TakenBack(_) => assert!(!made, "{at}"),
        Recovered::Nothing => assert_eq!(made, result.is_ok(), "{at}"),
        Recovered::Foreign(_) => panic!("{at}: it is ours"),
    }
    // And it can be done once the cause is gone, or undone.
    let next = match (made, scenario.act) {
        (false, act) => (act, after),
        (true, Act::Undo) => (Act::Redo, before),
        (true, _) => (Act::Undo, before),
    };
    next.0.run(folder.path(), NO_HOOK, &Mutex::default()).unwrap_or_else(|error| panic!("{at}: {error}"));
    assert_eq!(&support::tree(folder.path()), next.1, "{at}");
    made
}

/// A tree as it is told in messages.
fn shown(tree: &Tree) -> BTreeMap<&str, String> {
    tree.iter().map(|(path, bytes)| (path.as_str(), String::from_utf8_lossy(bytes).into_owned())).collect()
}

/// Whether all of a long list of cases is to be tried, and not every few of them: with `EXHAUSTIVE` set.
fn every(few: usize) -> usize {
    if std::env::var_os("EXHAUSTIVE").is_some() { 1 } else { few }
}

/// The tree as it is seen by those who read the mod.
fn without_temporary(tree: Tree) -> Tree {
    let hidden = |path: &String| path.rsplit('/').next().is_some_and(|name| name.starts_with(".stitching-"));
    tree.into_iter().filter(|(path, _)| !hidden(path)).collect()
}

#[rstest]
fn one_call_that_fails(#[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16)] scenario: usize) {
    let scenario = &SCENARIOS[scenario];
    let (before, after, calls) = scenario.whole();
    assert!(calls.len() > 25, "the change takes many calls, not {}", calls.len());
    let made = (0..calls.len()).filter(|at| survives(scenario, Fault::Once(*at), &before, &after)).count();
    assert!(made > 2 && made < calls.len(), "both outcomes were seen: {made} of {}", calls.len());
}

#[rstest]
fn death_at_any_call(#[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16)] scenario: usize) {
    let scenario = &SCENARIOS[scenario];
    let (before, after, calls) = scenario.whole();
    let made = (0..calls.len()).filter(|at| survives(scenario, Fault::From(*at), &before, &after)).count();
    assert!(made > 5 && made < calls.len() - 5, "both outcomes were seen: {made} of {}", calls.len());
}

/// The second failure comes while the first is taken back.
#[rstest]
fn two_calls_that_fail(#[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 11)] scenario: usize) {
    let scenario = &SCENARIOS[scenario];
    let (before, after, calls) = scenario.whole();
    for first in (0..calls.len()).step_by(every(13)) {
        for second in (first + 1..first + 40).step_by(every(9)) {
            survives(scenario, Fault::Twice(first, second), &before, &after);
            survives(scenario, Fault::OnceThenFrom(first, second), &before, &after);
        }
    }
}

/// A process that dies while it puts right what another left, again and again.
#[rstest]
fn death_while_putting_right(#[values(0, 1, 5, 7, 8, 11, 12)] scenario: usize) {
    let scenario = &SCENARIOS[scenario];
    let (before, after, calls) = scenario.whole();
    let dead_from = |from: usize| {
        let count = AtomicUsize::new(0);
        move |_: &Call| match count.fetch_add(1, Ordering::SeqCst) >= from {
            true => Err(io::ErrorKind::StorageFull.into()),
            false => Ok(()),
        }
    };
    for died in (0..calls.len()).step_by(every(17)) {
        let folder = scenario.prepare();
        // One that takes back, and one that goes forward.
        let once = AtomicUsize::new(0);
        let fails = |call: &Call| match once.fetch_add(1, Ordering::SeqCst) {
            now if now == died || (died % 2 == 0 && now > died + 4) => dead_from(0)(call),
            _ => Ok(()),
        };
        let _ = scenario.act.run(folder.path(), &fails, &Mutex::default());
        for from in 0.. {
            if recover(folder.path(), &dead_from(from)).is_ok() && leftovers(folder.path()).is_empty() {
                break;
            }
            assert!(from < 500, "it ends");
        }
        let now = support::tree(folder.path());
        assert!(now == before || now == after, "{} {died}", scenario.name);
    }
}

/// Where two names cannot be swapped, or a file has no second name, it is done in other ways.
#[rstest]
#[case::no_exchange(&[Action::Exchange])]
#[case::no_links(&[Action::Exchange, Action::Link])]
fn file_systems_that_cannot_do_all(#[case] missing: &[Action], #[values(0, 2, 5, 8)] scenario: usize) {
    let scenario = &SCENARIOS[scenario];
    let (before, after, _) = scenario.whole();
    let cannot = |call: &Call| match missing.contains(&call.action) {
        true => Err(io::ErrorKind::Unsupported.into()),
        false => Ok(()),
    };
    for at in (0..).step_by(every(7)) {
        let folder = scenario.prepare();
        let count = AtomicUsize::new(0);
        let hook = |call: &Call| match count.fetch_add(1, Ordering::SeqCst) {
            now if now >= at && now < at + 3 && !missing.contains(&call.action) => {
                Err(io::ErrorKind::StorageFull.into())
            }
            _ => cannot(call),
        };
        let result = scenario.act.run(folder.path(), &hook, &Mutex::default());
        let calls = count.into_inner();
        recover(folder.path(), &cannot).expect("it is put right");
        let now = support::tree(folder.path());
        assert!(now == before || now == after, "{} {at} {result:?}", scenario.name);
        assert_eq!(leftovers(folder.path()), Vec::<String>::new());
        if calls <= at {
            assert_eq!(now, after);
            break;
        }
    }
}

/// How another program saves a file.
#[derive(Debug, Clone, Copy)]
enum Save {
    /// It writes over the bytes that are there.
    InPlace,
    /// It writes another file, and renames that.
    Renamed,
    /// It removes the file.
    Removed,
}

/// Saves as another program does, where the folder is there; gives whether anything was saved.
fn save(path: &Path, how: Save, bytes: &[u8]) -> bool {
    let Some(folder) = path.parent().filter(|folder| folder.is_dir()) else { return false };
    match how {
        Save::InPlace => std::fs::write(path, bytes).expect("saved"),
        Save::Renamed => {
            let other = folder.join("editor.tmp");
            std::fs::write(&other, bytes).expect("saved");
            std::fs::rename(&other, path).expect("saved");
        }
        Save::Removed => {
            let _ = std::fs::remove_file(path);
            return false;
        }
    }
    true
}

/// Another program saves at each call in turn, at each file that is touched: what it saved is there afterwards, as the
/// file or beside it, and so is everything else, all changed or nothing.
#[rstest]
#[case::over_the_bytes(Save::InPlace)]
#[case::by_a_rename(Save::Renamed)]
#[case::removed(Save::Removed)]
fn another_program_saves_in_between(#[case] how: Save, #[values(0, 1, 2, 5, 7, 8, 11, 12)] scenario: usize) {
    const MINE: &[u8] = b"saved by another program\n";
    let scenario = &SCENARIOS[scenario];
    let (before, after, calls) = scenario.whole();
    let names: BTreeSet<&String> = before.keys().chain(after.keys()).collect();
    let touched: Vec<&String> =
        names.into_iter().filter(|name| before.get(*name) != after.get(*name)).collect();
    for at in 0..calls.len() {
        for (number, name) in touched.iter().enumerate() {
            // Each file at each call takes long; one in three shows the same.
            if (at + number) % every(11) != 0 {
                continue;
            }
            for dies in [false, true] {
                let folder = scenario.prepare();
                let path = folder.path().join(name);
                let (count, saved) = (AtomicUsize::new(0), AtomicBool::new(false));
                let hook = |_: &Call| match count.fetch_add(1, Ordering::SeqCst) {
                    now if now == at => {
                        saved.store(save(&path, how, MINE), Ordering::SeqCst);
                        Ok(())
                    }
                    now if dies && now > at + 5 => Err(io::ErrorKind::StorageFull.into()),
                    _ => Ok(()),
                };
                let notices = Mutex::default();
                let result = scenario.act.run(folder.path(), &hook, &notices);
                let recovered = recover(folder.path(), NO_HOOK).expect("it is put right");
                let context = format!(
                    "{} {name} {how:?} at {at} dies {dies}: {result:?} {recovered:?} {notices:?}",
                    scenario.name
                );
                assert_eq!(leftovers(folder.path()), Vec::<String>::new(), "{context}");
                let mut now = support::tree(folder.path());
                let found = now.iter().any(|(path, bytes)| path.starts_with(name.as_str()) && bytes == MINE);
                if saved.into_inner() {
                    assert!(found, "what was saved is gone: {context}\n{:#?}", shown(&now));
                }
                // Everything else is as it was, or as it is to be; where the other program got in between, what was
                // there before may have been put aside.
                let aside = |path: &str| {
                    path.starts_with(&format!("{name}.theirs")) || path.starts_with(&format!("{name}.before"))
                };
                now.retain(|path, _| path != *name && !aside(path));
                let rest = |tree: &Tree| {
                    tree.iter()
                        .filter(|(path, _)| path != name)
                        .map(|(a, b)| (a.clone(), b.clone()))
                        .collect::<Tree>()
                };
                assert!(now == rest(&before) || now == rest(&after), "{context}\n{:#?}", shown(&now));
                // Where the process dies before it could note that all is in place, a file that somebody removes then
                // looks like one that was never put there: the change is taken back.
                if result.is_ok() && !(dies && matches!(how, Save::Removed)) {
                    assert!(now == rest(&after), "{context}\n{:#?}", shown(&now));
                }
            }
        }
    }
}

/// What is on the disk for sure, told from the calls alone: bytes once their file was synced, names once their folder
/// was. At the instant of decision every new byte must be there under its temporary name, and before anything that was
/// replaced is removed, every file under its own.
#[rstest]
fn what_must_last_is_synced_in_time(
    #[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10, 11, 12, 13, 14, 15, 16)] scenario: usize,
) {
    let scenario = &SCENARIOS[scenario];
    let (_, _, calls) = scenario.whole();
    // What was changed and not synced since: the bytes of files, and the names in folders.
    let (mut bytes, mut names) = (BTreeSet::<PathBuf>::new(), BTreeMap::<PathBuf, BTreeSet<PathBuf>>::new());
    let mut decisions = 0;
    let mut removed = 0;
    for call in &calls {
        let path = call.path.clone();
        let folder = path.parent().unwrap_or(Path::new("")).to_owned();
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        match call.action {
            Action::CreateFile | Action::CreateFolder => {
                names.entry(folder).or_default().insert(path.clone());
                if call.action == Action::CreateFile {
                    bytes.insert(path);
                }
            }
            Action::Write | Action::SetAttributes => {
                bytes.insert(path);
            }
            Action::SyncFile => {
                bytes.remove(&path);
            }
            Action::SyncFolder => {
                names.remove(&path);
            }
            Action::Rename if name == "pending.json" || name.starts_with("cleaning-") => {
                decisions += 1;
                assert_eq!(bytes, BTreeSet::new(), "all bytes are on the disk when phase {decisions} begins");
                names.retain(|folder, _| folder != Path::new(".stitching"));
                assert_eq!(names, BTreeMap::new(), "and all names");
                names.entry(folder).or_default().insert(path);
            }
            Action::Rename | Action::Link | Action::Exchange => {
                assert!(decisions >= 2, "nothing is put in place before the decision");
                names.entry(folder).or_default().insert(path);
            }
            Action::RemoveFile if name.ends_with(".old") => {
                removed += 1;
                assert!(decisions >= 3, "nothing that was there is removed before all is in place");
            }
            Action::RemoveFile | Action::RemoveFolder => {}
        }
    }
    assert_eq!(decisions, 3, "staging, committing, cleaning");
    assert!(removed > 0 || scenario.act == Act::Redo, "files were replaced");
}

/// The staged file is gone after the decision, as if the disk had lied: what is there is not called finished.
#[rstest]
fn a_staged_file_that_is_lost_takes_the_change_back(#[values(0, 1, 5, 7, 11, 12)] scenario: usize) {
    let scenario = &SCENARIOS[scenario];
    let (before, after, calls) = scenario.whole();
    let decided = calls
        .iter()
        .enumerate()
        .filter(|(_, call)| call.action == Action::Rename && call.path.ends_with("pending.json"))
        .nth(1)
        .expect("the decision")
        .0;
    for died in (decided + 2..calls.len()).step_by(every(3)) {
        let folder = scenario.prepare();
        let count = AtomicUsize::new(0);
        let hook = |_: &Call| match count.fetch_add(1, Ordering::SeqCst) >= died {
            true => Err(io::ErrorKind::StorageFull.into()),
            false => Ok(()),
        };
        let _ = scenario.act.run(folder.path(), &hook, &Mutex::default());
        let staged: Vec<String> = leftovers(folder.path())
            .into_iter()
            .filter(|path| path.ends_with(".new") && !path.contains("pending"))
            .collect();
        let lost = staged.first().cloned();
        if let Some(lost) = &lost {
            std::fs::remove_file(lost).expect("it is lost");
        }
        recover(folder.path(), NO_HOOK).expect("it is put right");
        let now = support::tree(folder.path());
        assert!(
            now == before || (now == after),
            "{} died at {died}, {lost:?} lost\n{:#?}",
            scenario.name,
            shown(&now)
        );
    }
}
