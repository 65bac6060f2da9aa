//! What the journal promises where nothing fails: one writes at a time, nothing is overwritten that was not read,
//! nothing is written through links, rights and times are kept, and undo stays within reach.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

#[path = "support/scenarios.rs"]
mod scenarios;
mod support;

use rstest::rstest;
use scenarios::{Act, BUNDLE, leftovers, recover};
use std::fs;
use std::path::Path;
use std::sync::Mutex;
use std::time::{Duration, SystemTime};
use stitching_core::changes::{Change, rename, switch_off, switch_on};
use stitching_core::journal::{Action, Call, ChangedSince, Journal, KeyFile, NO_HOOK, Notice, Recovered};
use stitching_core::{Error, ErrorKind, Project};
use tempfile::TempDir;

fn project(folder: &TempDir) -> (Project, Change) {
    let project = support::open(folder);
    let change = rename(&project, "reaches:mill", "weir").expect("a change");
    (project, change)
}

fn commit(project: &Project, change: &Change) -> Result<usize, Error> {
    support::journal(&project.folder).commit(&project.stack, change)
}

/// A change that was decided, and of which nothing is in place.
fn interrupt(folder: &Path) {
    let hook = |call: &Call| match call.action {
        Action::Exchange | Action::Link => Err(std::io::ErrorKind::StorageFull.into()),
        _ => Ok(()),
    };
    // Taking back fails as well: from the first failure on nothing is written any more.
    let failed = std::sync::atomic::AtomicBool::new(false);
    let dead = |call: &Call| {
        let result = if failed.load(std::sync::atomic::Ordering::SeqCst) {
            Err(std::io::ErrorKind::StorageFull.into())
        } else {
            hook(call)
        };
        failed.fetch_or(result.is_err(), std::sync::atomic::Ordering::SeqCst);
        result
    };
    let error =
        Act::Rename("reaches:mill", "weir").run(folder, &dead, &Mutex::default()).expect_err("it stopped");
    assert!(matches!(error, Error::Unfinished { .. }), "{error}");
    assert!(
        error.help().expect("what to do").text.contains("the next command puts all of it right"),
        "{error:?}"
    );
}

#[rstest]
fn only_one_writes_at_a_time() {
    let folder = support::write(BUNDLE);
    let before = support::tree(folder.path());
    let (project, change) = project(&folder);
    let held = support::journal(folder.path()).hold().expect("it is free");
    let error = commit(&project, &change).expect_err("refused");
    assert_eq!(error.kind(), ErrorKind::Refused);
    assert!(error.to_string().contains("another stitching is writing"), "{error}");
    assert_eq!(support::tree(folder.path()), before);
    drop(held);
    commit(&project, &change).expect("it is written");
}

/// A writer waits for the one before it, and says so.
#[rstest]
fn a_writer_waits_for_a_short_while() {
    let folder = support::write(BUNDLE);
    let (project, change) = project(&folder);
    let held = support::journal(folder.path()).hold().expect("it is free");
    let told = Mutex::new(Vec::new());
    std::thread::scope(|scope| {
        let (folder, project, change, told) = (folder.path(), &project, &change, &told);
        let second = scope.spawn(move || {
            let note = |notice: &Notice| told.lock().expect("one at a time").push(notice.clone());
            Journal::new(folder, project.stack.mod_root().expect("a mod"), &note)
                .with_key(support::key())
                .commit(&project.stack, change)
        });
        while told.lock().expect("one at a time").is_empty() && !second.is_finished() {
            std::thread::sleep(Duration::from_millis(5));
        }
        drop(held);
        second.join().expect("it ends").expect("its turn comes");
    });
    assert_eq!(told.into_inner().expect("told"), [Notice::WaitingForWriter]);
}

/// Readers and the replacing of files keep each other off; building a change keeps nobody from reading.
#[rstest]
fn readers_see_no_half_of_a_change() {
    let folder = support::write(BUNDLE);
    let (project, change) = project(&folder);
    let (recovered, reading) = support::journal(folder.path()).read_lock().expect("it can be read");
    assert_eq!((recovered, reading.is_some()), (Recovered::Nothing, true));
    let held = support::journal(folder.path()).hold().expect("a change is built while others read");
    let error = held.commit(&project.stack, &change).expect_err("refused");
    assert!(error.to_string().contains("other commands are reading the mod"), "{error}");
    drop(reading);
    assert_eq!(leftovers(folder.path()), Vec::<String>::new());
    commit(&project, &change).expect("it is written");
}

/// Two projects on one mod have locks of their own, but the mod has one.
#[rstest]
fn two_projects_on_one_mod() {
    let folder = support::write(BUNDLE);
    let other = tempfile::tempdir().expect("a folder");
    for name in ["stitching.toml", "schema.toml"] {
        let text = fs::read_to_string(folder.path().join(name)).expect("a file");
        let there = |layer: &str| format!("path = '{}'", folder.path().join(layer).display());
        let text = text.replace("path = \"game\"", &there("game")).replace("path = \"mod\"", &there("mod"));
        fs::write(other.path().join(name), text).expect("written");
    }
    let second = support::open(&other);
    let change = rename(&second, "reaches:mill", "lock").expect("a change");
    let reading = support::journal(folder.path()).read_lock().expect("it can be read");
    let error = commit(&second, &change).expect_err("refused");
    assert!(error.to_string().contains("other commands are reading the mod"), "{error}");
    drop(reading);
    let (first, own) = project(&folder);
    commit(&first, &own).expect("it is written");
    let error = commit(&second, &change).expect_err("refused");
    assert_eq!(error.kind(), ErrorKind::Refused, "{error}");
    assert_eq!(leftovers(folder.path()), Vec::<String>::new());
    assert_eq!(leftovers(other.path()), Vec::<String>::new());
}

/// What an interrupted change left is harmless when nobody knows of it any more.
#[rstest]
fn leftovers_without_a_record_are_not_touched() {
    let folder = support::write(BUNDLE);
    interrupt(folder.path());
    let left = leftovers(folder.path()).len();
    assert!(left > 4, "there are leftovers");
    fs::remove_dir_all(folder.path().join(".stitching")).expect("the docs allow it");
    let (project, change) = project(&folder);
    commit(&project, &change).expect("it is written");
    let tree = support::tree(folder.path());
    assert_eq!(tree["mod/reaches.txt"], b"Reach\tLayout\nweir\tweir\n");
    assert_eq!(tree["mod/locks.txt"], b"Lock\tReach\na\tweir\n");
}

#[rstest]
fn what_was_interrupted_is_told_before_it_is_put_right() {
    let folder = support::write(BUNDLE);
    interrupt(folder.path());
    let notices = Mutex::new(Vec::new());
    let note = |notice: &Notice| {
        assert!(!leftovers(folder.path()).is_empty(), "it comes first");
        notices.lock().expect("one at a time").push(notice.clone());
    };
    let project = support::open(&folder);
    let journal =
        Journal::new(folder.path(), project.stack.mod_root().expect("a mod"), &note).with_key(support::key());
    let (recovered, _lock) = journal.read_lock().expect("it is put right");
    let title = "rename reaches:mill to weir".to_owned();
    assert_eq!(recovered, Recovered::Finished(title.clone()));
    assert_eq!(notices.into_inner().expect("told"), [Notice::Finishing(title)]);
}

/// Somebody edits a file between the crash and the next start: the edit stays where it is.
#[rstest]
#[case::one_that_was_to_be_replaced("mod/locks.txt")]
#[case::one_that_was_to_be_made("mod/layouts/weir.json")]
fn a_file_edited_between_crash_and_restart_stays(#[case] path: &str) {
    let folder = support::write(BUNDLE);
    let mut before = support::tree(folder.path());
    interrupt(folder.path());
    fs::write(folder.path().join(path), "by hand").expect("edited");
    assert!(matches!(recover(folder.path(), NO_HOOK), Ok(Recovered::TakenBack(_))));
    before.insert(path.to_owned(), b"by hand".to_vec());
    assert_eq!(support::tree(folder.path()), before);
    assert_eq!(leftovers(folder.path()), Vec::<String>::new());
}

/// A journal that another computer, or another user, has written is not believed.
#[rstest]
fn a_journal_of_somebody_else_is_left_alone() {
    let folder = support::write(BUNDLE);
    interrupt(folder.path());
    let before = support::tree(folder.path());
    let elsewhere = tempfile::tempdir().expect("a folder");
    let journal = || support::journal(folder.path()).with_key(KeyFile::in_folder(elsewhere.path()));
    let pending = folder.path().join(".stitching/pending.json");
    assert_eq!(journal().recover().expect("it is read"), Recovered::Foreign(pending.clone()));
    let error = journal().undo(ChangedSince::Refuse).expect_err("refused");
    assert!(error.to_string().contains("was not written by you on this computer"), "{error}");
    assert_eq!(support::tree(folder.path()), before);
    fs::remove_file(pending).expect("it is deleted, as the message says");
    let error = journal().undo(ChangedSince::Refuse).expect_err("there is nothing");
    assert!(error.to_string().contains("nothing to undo"), "{error}");
}

#[rstest]
fn a_read_only_file_is_not_replaced() {
    let folder = support::write(BUNDLE);
    let before = support::tree(folder.path());
    let (project, change) = project(&folder);
    let path = folder.path().join("mod/locks.txt");
    let mut rights = fs::metadata(&path).expect("there").permissions();
    rights.set_readonly(true);
    fs::set_permissions(&path, rights).expect("set");
    let error = commit(&project, &change).expect_err("refused");
    assert_eq!(error.kind(), ErrorKind::Io);
    assert!(error.to_string().contains("locks.txt"), "{error}");
    assert_eq!(support::tree(folder.path()), before);
}

#[cfg(unix)]
#[rstest]
fn links_out_of_the_mod_are_neither_read_nor_written() {
    let folder = support::write(BUNDLE);
    let outside = tempfile::tempdir().expect("a folder");
    fs::write(outside.path().join("tolls.txt"), "Toll\tReach\nt\tmill\n").expect("written");
    fs::create_dir_all(folder.path().join("mod/far")).expect("made");
    std::os::unix::fs::symlink(outside.path(), folder.path().join("mod/far/away")).expect("linked");
    let (project, change) = project(&folder);
    let problems = stitching_core::checks::problems(&project.stack, &project.schema);
    assert!(
        problems.iter().any(|problem| problem.code == stitching_core::Code::UNREADABLE_ENTRY
            && problem.place.path == "far/away")
    );
    let before = support::tree(&folder.path().join("game"));
    let error = commit(&project, &change).expect_err("refused");
    assert!(error.to_string().contains("nothing is read or written through links"), "{error}");
    assert_eq!(support::tree(&folder.path().join("game")), before);
    assert_eq!(fs::read_dir(outside.path()).expect("there").count(), 1, "nothing was put there");
}

#[cfg(unix)]
#[rstest]
fn rights_and_times_are_kept() {
    use std::os::unix::fs::PermissionsExt;
    let bundle = BUNDLE.replace("{ \"reach\": \"mill\" }", "{ }");
    let folder = support::write(&bundle);
    let long_ago = SystemTime::UNIX_EPOCH + Duration::from_secs(1_000_000_000);
    let set = |path: &str, mode: u32| {
        let path = folder.path().join("mod").join(path);
        fs::set_permissions(&path, fs::Permissions::from_mode(mode)).expect("set");
        fs::File::options().write(true).open(path).and_then(|file| file.set_modified(long_ago)).expect("set");
    };
    set("locks.txt", 0o640);
    set("layouts/mill.json", 0o660);
    fs::write(folder.path().join("mod/other.txt"), "untouched").expect("written");
    set("other.txt", 0o600);
    let now = |path: &str| {
        let metadata = fs::metadata(folder.path().join("mod").join(path)).expect("there");
        (metadata.permissions().mode() & 0o777, metadata.modified().expect("a time") == long_ago)
    };
    let (project, change) = project(&folder);
    commit(&project, &change).expect("it is written");
    assert_eq!(now("locks.txt"), (0o640, false));
    assert_eq!(now("layouts/weir.json"), (0o660, true), "a file that is only moved is the same file");
    assert_eq!(now("other.txt"), (0o600, true));
    support::journal(folder.path()).undo(ChangedSince::Refuse).expect("undone");
    assert_eq!(now("locks.txt"), (0o640, false));
    assert_eq!(now("layouts/mill.json"), (0o660, true));
    assert_eq!(now("other.txt"), (0o600, true));
}

/// A whole file that is switched off and on again is the same file, and what is kept meanwhile is no more open than it.
#[cfg(unix)]
#[rstest]
fn rights_and_times_of_a_file_that_is_off_are_kept() {
    use std::os::unix::fs::PermissionsExt;
    let folder = support::write(&BUNDLE.replace("Reach\tLayout\nmill\tmill\n", "Reach\tLayout\n"));
    let path = folder.path().join("mod/layouts/mill.json");
    let long_ago = SystemTime::UNIX_EPOCH + Duration::from_secs(1_000_000_000);
    fs::set_permissions(&path, fs::Permissions::from_mode(0o600)).expect("set");
    fs::File::options().write(true).open(&path).and_then(|file| file.set_modified(long_ago)).expect("set");
    let now = |path: &std::path::Path| {
        let metadata = fs::metadata(path).expect("there");
        (metadata.permissions().mode() & 0o777, metadata.modified().expect("a time") == long_ago)
    };
    let project = support::open(&folder);
    commit(&project, &switch_off(&project, "layouts:mill").expect("a change")).expect("it is written");
    assert!(!path.exists());
    let kept: Vec<_> = fs::read_dir(folder.path().join(".stitching/off")).expect("there").flatten().collect();
    assert_eq!(kept.len(), 1);
    assert_eq!(now(&kept[0].path()), (0o600, true));
    let project = support::open(&folder);
    commit(&project, &switch_on(&project, "layouts:mill").expect("a change")).expect("it is written");
    assert_eq!(now(&path), (0o600, true));
    for _ in 0..2 {
        support::journal(folder.path()).undo(ChangedSince::Refuse).expect("undone");
    }
    assert_eq!(now(&path), (0o600, true));
    assert!(
        fs::read_dir(folder.path().join(".stitching/off")).map_or(true, |mut left| left.next().is_none())
    );
}

/// A file that a change made, and that undo removed, has its rights back when it is made again.
#[cfg(unix)]
#[rstest]
fn rights_of_a_file_that_was_made_are_kept() {
    use std::os::unix::fs::PermissionsExt;
    let folder = support::write(BUNDLE);
    let (project, change) = project(&folder);
    commit(&project, &change).expect("it is written");
    let path = folder.path().join("mod/far/away/tolls.txt");
    fs::set_permissions(&path, fs::Permissions::from_mode(0o604)).expect("set");
    support::journal(folder.path()).undo(ChangedSince::Refuse).expect("undone");
    assert!(!path.exists());
    support::journal(folder.path()).redo(ChangedSince::Refuse).expect("done again");
    assert_eq!(fs::metadata(&path).expect("there").permissions().mode() & 0o777, 0o604);
}

#[rstest]
fn undo_names_what_was_changed_since_and_can_leave_it_out() {
    let folder = support::write(BUNDLE);
    let first = support::tree(folder.path());
    let (one, change) = project(&folder);
    commit(&one, &change).expect("written");
    let two = support::open(&folder);
    let change = rename(&two, "reaches:weir", "lock").expect("a change");
    commit(&two, &change).expect("written");
    let edited = folder.path().join("mod/locks.txt");
    let mine = [&fs::read(&edited).expect("there")[..], b"b\tlock\n"].concat();
    fs::write(&edited, &mine).expect("edited");
    let journal = || support::journal(folder.path());
    let error = journal().undo(ChangedSince::Refuse).expect_err("refused");
    assert!(matches!(&error, Error::ChangedSince { files, .. } if files == &["locks.txt"]), "{error:?}");
    assert_eq!(error.kind(), ErrorKind::Refused);
    let turned = journal().undo(ChangedSince::Leave).expect("the rest is undone");
    assert_eq!(turned.left, ["locks.txt"]);
    assert_eq!(fs::read(&edited).expect("there"), mine, "it stays as it is");
    assert_eq!(
        fs::read(folder.path().join("mod/reaches.txt")).expect("there"),
        b"Reach\tLayout\nweir\tweir\n"
    );
    // The change before is within reach, too.
    assert_eq!(journal().undo(ChangedSince::Leave).expect("undone").left, ["locks.txt"]);
    let mut expected = first;
    expected.insert("mod/locks.txt".to_owned(), mine);
    assert_eq!(support::tree(folder.path()), expected);
    assert_eq!(leftovers(folder.path()), Vec::<String>::new());
}

/// A key that is there twice in a file is switched off, and on, in one change of that file.
#[rstest]
#[case::as_notes(r#"{ kind = "ini" }"#, "{section}", "[coal]\na = 1\n[peat]\na = 2\n[coal]\na = 3\n")]
#[case::in_a_table(
    r##"{ kind = "delimited", comment = "#" }"##,
    "Good",
    "Good\tA\ncoal\t1\npeat\t2\ncoal\t3\n"
)]
#[case::in_a_table_without_notes(r#"{ kind = "delimited" }"#, "Good", "Good\tA\ncoal\t1\npeat\t2\ncoal\t3\n")]
#[case::neighbours(
    r#"{ kind = "json", records = "$[*]" }"#,
    "id",
    "[{\"id\": \"peat\"}, {\"id\": \"coal\"}, {\"id\": \"coal\"}]\n"
)]
#[case::all_around(
    r#"{ kind = "json", records = "$[*]" }"#,
    "id",
    "[{\"id\": \"coal\"}, {\"id\": \"peat\"}, {\"id\": \"coal\"}]\n"
)]
fn a_key_that_is_there_twice(#[case] format: &str, #[case] key: &str, #[case] text: &str) {
    let bundle = format!(
        "=== schema.toml\n[table.goods]\nfiles = \"goods\"\nformat = {format}\nkey = \"{key}\"\n=== mod/goods\n{text}"
    );
    let folder = support::write(&bundle);
    let path = folder.path().join("mod/goods");
    let project = support::open(&folder);
    let change = switch_off(&project, "goods:coal").expect("a change");
    assert_eq!(change.files().len(), 1);
    commit(&project, &change).expect("written");
    let off = fs::read_to_string(&path).expect("there");
    let keys = |text: &str| {
        let table = &support::open(&folder).schema.tables[0].clone();
        let path = stitching_core::layers::RelPath::parse("goods").expect("a path");
        let records =
            stitching_core::tables::read_all(table, &path, &stitching_core::text::Text::of_str(text));
        records.into_iter().filter_map(|record| record.key).collect::<Vec<_>>()
    };
    assert_eq!(keys(&off), ["peat"], "{off}");
    support::journal(folder.path()).undo(ChangedSince::Refuse).expect("undone");
    assert_eq!(fs::read_to_string(&path).expect("there"), text);
    support::journal(folder.path()).redo(ChangedSince::Refuse).expect("done again");
    assert_eq!(fs::read_to_string(&path).expect("there"), off);
    Act::On("goods:coal").run(folder.path(), NO_HOOK, &Mutex::default()).expect("on again");
    assert_eq!(fs::read_to_string(&path).expect("there"), text);
}
