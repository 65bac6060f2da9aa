//! Writing that is cut short: whatever step fails or is never reached, the mod has all of a change
//! or nothing of it, and no file is left over.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::collections::BTreeMap;
use std::io;
use std::path::Path;
use std::sync::atomic::{AtomicUsize, Ordering};
use stitching_core::changes::{Change, rename};
use stitching_core::journal::{Journal, Lock, NO_HOOK, Recovered, Step, own_folder};
use stitching_core::{Error, ErrorKind, Project};
use tempfile::TempDir;

/// A rename that edits two files of the mod, moves one, and brings one up into a new folder.
const BUNDLE: &str = r#"=== schema.toml
[table.reaches]
files = "reaches.txt"
format = { kind = "delimited" }
key = "Reach"
[table.reaches.fields]
Layout = { file = "layouts/{}.json", follows = "{key}" }
[table.layouts]
files = "layouts/*.json"
format = { kind = "json", records = "$" }
key = "{stem}"
[table.layouts.fields]
reach = { ref = "reaches" }
[table.tolls]
files = "far/away/tolls.txt"
format = { kind = "delimited" }
key = "Toll"
[table.tolls.fields]
Reach = { ref = "reaches" }
[table.locks]
files = "locks.txt"
format = { kind = "delimited" }
key = "Lock"
[table.locks.fields]
Reach = { ref = "reaches" }
=== mod/reaches.txt
Reach	Layout
mill	mill
=== mod/locks.txt
Lock	Reach
a	mill
=== mod/layouts/mill.json
{ "reach": "mill" }
=== game/far/away/tolls.txt
Toll	Reach
t	mill
"#;

fn project(folder: &TempDir) -> (Project, Change) {
    let project = support::open(folder);
    let change = rename(&project, "reaches:mill", "weir").expect("a change");
    (project, change)
}

fn commit(
    project: &Project,
    change: &Change,
    hook: &stitching_core::journal::StepHook<'_>,
) -> Result<usize, Error> {
    Journal::new(&project.folder, project.stack.mod_root().expect("a mod"), hook)
        .commit(&project.stack, change)
}

fn recover(folder: &Path) -> Recovered {
    let project = Project::open(folder).expect("the project opens");
    Journal::new(folder, project.stack.mod_root().expect("a mod"), NO_HOOK)
        .recover()
        .expect("it is put right")
}

/// The tree after the change, and how many steps it takes.
fn whole() -> (BTreeMap<String, Vec<u8>>, usize) {
    let folder = support::write(BUNDLE);
    let (project, change) = project(&folder);
    let steps = AtomicUsize::new(0);
    commit(&project, &change, &|_| {
        steps.fetch_add(1, Ordering::SeqCst);
        Ok(())
    })
    .expect("it is written");
    (support::tree(folder.path()), steps.into_inner())
}

#[rstest]
#[case::full_disk(io::ErrorKind::StorageFull)]
#[case::no_right(io::ErrorKind::PermissionDenied)]
fn a_step_that_fails_leaves_everything_as_it_was(#[case] kind: io::ErrorKind) {
    let (after, steps) = whole();
    assert!(steps > 15, "the change takes many steps, not {steps}");
    for fail_at in 0..steps {
        let folder = support::write(BUNDLE);
        let before = support::tree(folder.path());
        let (project, change) = project(&folder);
        let count = AtomicUsize::new(0);
        let result = commit(&project, &change, &|_| match count.fetch_add(1, Ordering::SeqCst) {
            now if now == fail_at => Err(kind.into()),
            _ => Ok(()),
        });
        let error = result.expect_err("the step failed");
        assert_eq!(error.kind(), ErrorKind::Io, "step {fail_at}: {error}");
        assert_eq!(support::tree(folder.path()), before, "step {fail_at}: {error}");
        assert_eq!(recover(folder.path()), Recovered::Nothing, "step {fail_at} was cleaned up");
        // And it works once the cause is gone.
        commit(&project, &change, NO_HOOK).expect("it is written");
        assert_eq!(support::tree(folder.path()), after);
    }
}

#[rstest]
fn a_crash_at_any_step_leaves_all_or_nothing() {
    let (after, steps) = whole();
    let mut outcomes = [0, 0];
    for die_at in 0..steps {
        let folder = support::write(BUNDLE);
        let before = support::tree(folder.path());
        let (project, change) = project(&folder);
        let count = AtomicUsize::new(0);
        // `Interrupted` stands for the process being gone: nothing is cleaned up.
        let result = commit(&project, &change, &|_| {
            if count.fetch_add(1, Ordering::SeqCst) >= die_at {
                Err(io::ErrorKind::Interrupted.into())
            } else {
                Ok(())
            }
        });
        assert!(result.is_err());
        let recovered = recover(folder.path());
        let tree = support::tree(folder.path());
        match recovered {
            Recovered::Finished(_) => {
                assert_eq!(tree, after, "step {die_at}");
                outcomes[1] += 1;
                // It is in the history and can be undone.
                Journal::new(&project.folder, project.stack.mod_root().expect("a mod"), NO_HOOK)
                    .undo()
                    .expect("undone");
                assert_eq!(support::tree(folder.path()), before);
            }
            Recovered::TakenBack(_) | Recovered::Nothing => {
                assert_eq!(tree, before, "step {die_at}");
                outcomes[0] += 1;
            }
        }
    }
    assert!(outcomes[0] > 5 && outcomes[1] > 3, "both outcomes were seen: {outcomes:?}");
}

/// A crash while an interrupted change is being finished, again and again.
#[rstest]
fn a_crash_while_putting_right_is_put_right_too() {
    let (after, _) = whole();
    let folder = support::write(BUNDLE);
    let (project, change) = project(&folder);
    let decided = |step| if step == Step::Replace { Err(io::ErrorKind::Interrupted.into()) } else { Ok(()) };
    commit(&project, &change, &decided).expect_err("it died");
    for die_at in 1.. {
        let count = AtomicUsize::new(0);
        let hook = |_| {
            if count.fetch_add(1, Ordering::SeqCst) >= die_at {
                Err(io::ErrorKind::Interrupted.into())
            } else {
                Ok(())
            }
        };
        let journal = Journal::new(&project.folder, project.stack.mod_root().expect("a mod"), &hook);
        if let Ok(recovered) = journal.recover() {
            assert!(matches!(recovered, Recovered::Finished(_)), "{recovered:?}");
            break;
        }
    }
    assert_eq!(support::tree(folder.path()), after);
}

#[rstest]
fn a_file_edited_between_crash_and_restart_is_kept() {
    let folder = support::write(BUNDLE);
    let (project, change) = project(&folder);
    let decided = |step| if step == Step::Replace { Err(io::ErrorKind::Interrupted.into()) } else { Ok(()) };
    commit(&project, &change, &decided).expect_err("it died");
    let edited = folder.path().join("mod/locks.txt");
    std::fs::write(&edited, "by hand").expect("edited");
    let journal = Journal::new(&project.folder, project.stack.mod_root().expect("a mod"), NO_HOOK);
    let error = journal.recover().expect_err("refused");
    assert!(error.to_string().contains("`locks.txt` was edited since"), "{error}");
    assert_eq!(std::fs::read(&edited).expect("there"), b"by hand");
}

#[rstest]
fn only_one_writes_at_a_time() {
    let folder = support::write(BUNDLE);
    let before = support::tree(folder.path());
    let (project, change) = project(&folder);
    let lock = Lock::try_take(&own_folder(folder.path())).expect("a lock").expect("it is free");
    let error = commit(&project, &change, NO_HOOK).expect_err("refused");
    assert_eq!(error.kind(), ErrorKind::Refused);
    assert!(error.to_string().contains("another stitching is writing"), "{error}");
    assert_eq!(support::tree(folder.path()), before);
    drop(lock);
    commit(&project, &change, NO_HOOK).expect("it is written");
}

#[rstest]
fn a_read_only_file_is_not_replaced() {
    let folder = support::write(BUNDLE);
    let before = support::tree(folder.path());
    let (project, change) = project(&folder);
    let path = folder.path().join("mod/locks.txt");
    let mut rights = std::fs::metadata(&path).expect("there").permissions();
    rights.set_readonly(true);
    std::fs::set_permissions(&path, rights).expect("set");
    let error = commit(&project, &change, NO_HOOK).expect_err("refused");
    assert_eq!(error.kind(), ErrorKind::Io);
    assert!(error.to_string().contains("locks.txt"), "{error}");
    assert_eq!(support::tree(folder.path()), before);
}

#[cfg(unix)]
#[rstest]
fn links_out_of_the_mod_are_neither_read_nor_written() {
    let folder = support::write(BUNDLE);
    let outside = tempfile::tempdir().expect("a folder");
    std::fs::write(outside.path().join("tolls.txt"), "Toll\tReach\nt\tmill\n").expect("written");
    std::fs::create_dir_all(folder.path().join("mod/far")).expect("made");
    std::os::unix::fs::symlink(outside.path(), folder.path().join("mod/far/away")).expect("linked");
    let (project, change) = project(&folder);
    let problems = stitching_core::checks::problems(&project.stack, &project.schema);
    assert!(
        problems.iter().any(|problem| problem.code == "unreadable-entry" && problem.place.path == "far/away")
    );
    let before = support::tree(&folder.path().join("game"));
    let error = commit(&project, &change, NO_HOOK).expect_err("refused");
    assert!(error.to_string().contains("leads out of the mod layer"), "{error}");
    assert_eq!(support::tree(&folder.path().join("game")), before);
    assert_eq!(std::fs::read_dir(outside.path()).expect("there").count(), 1, "nothing was put there");
}

#[cfg(unix)]
#[rstest]
fn rights_of_a_file_are_kept() {
    use std::os::unix::fs::PermissionsExt;
    let folder = support::write(BUNDLE);
    let path = folder.path().join("mod/locks.txt");
    std::fs::set_permissions(&path, std::fs::Permissions::from_mode(0o640)).expect("set");
    let (project, change) = project(&folder);
    commit(&project, &change, NO_HOOK).expect("it is written");
    assert_eq!(std::fs::metadata(&path).expect("there").permissions().mode() & 0o777, 0o640);
}
