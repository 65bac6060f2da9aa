//! Mods that are made to do harm: links in the place of everything the tool reads or writes, journals and histories
//! of somebody else, odd names. Whatever command is run, nothing beside the mod changes.
#![cfg(unix)]
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::collections::BTreeMap;
use std::fs;
use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};
use support::{STATE, program, small};
use tempfile::TempDir;

/// A mod, and a home of the user beside it, with things worth losing.
struct World {
    /// The project.
    folder: TempDir,
    home: TempDir,
}

/// All that is below a folder: files with their bytes, links with where they lead, folders.
fn everything(folder: &Path) -> BTreeMap<PathBuf, Vec<u8>> {
    let mut out = BTreeMap::new();
    let mut open = vec![folder.to_owned()];
    while let Some(next) = open.pop() {
        for entry in fs::read_dir(next).expect("a folder").flatten() {
            let path = entry.path();
            let kind = entry.file_type().expect("a type");
            let content = if kind.is_dir() {
                open.push(path.clone());
                b"a folder".to_vec()
            } else if kind.is_symlink() {
                fs::read_link(&path).expect("a link").as_os_str().as_encoded_bytes().to_vec()
            } else {
                fs::read(&path).expect("a file")
            };
            out.insert(path, content);
        }
    }
    out
}

impl World {
    fn new() -> World {
        let folder = small("");
        let home = tempfile::tempdir().expect("a folder");
        fs::write(home.path().join("rc"), "precious\n").expect("written");
        fs::create_dir(home.path().join("documents")).expect("made");
        fs::write(home.path().join("documents/letter"), "dear\n").expect("written");
        World { folder, home }
    }

    fn link(&self, to: &str, at: &str) {
        let path = self.folder.path().join(at);
        fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        let _ = fs::remove_file(&path);
        symlink(self.home.path().join(to), path).expect("linked");
    }

    fn write(&self, at: &str, text: &str) {
        let path = self.folder.path().join(at);
        fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        fs::write(path, text).expect("written");
    }

    /// Runs every sort of command, and looks whether anything beside the mod has changed. Gives what they said.
    fn attack(&self) -> String {
        let (home, game) = (everything(self.home.path()), everything(&self.folder.path().join("game")));
        let mut said = String::new();
        let commands: [&[&str]; 14] = [
            &["check"],
            &["tables"],
            &["show", "reaches"],
            &["find", "mill"],
            &["history"],
            &["off"],
            &["rename", "reaches:mill", "weir"],
            &["undo"],
            &["redo"],
            &["undo", "--leave-changed"],
            &["off", "reaches:frost"],
            &["on", "reaches:frost"],
            &["learn", "--write"],
            &["init"],
        ];
        for command in commands {
            let output = program(self.folder.path(), command)
                .env("STITCHING_TEST_CACHE_ALL", "1")
                .output()
                .expect("it runs");
            let err = String::from_utf8_lossy(&output.stderr);
            assert!(!err.contains("panicked"), "{command:?}: {err}");
            assert!(matches!(output.status.code(), Some(0..=3)), "{command:?}: {}", output.status);
            assert!(everything(self.home.path()) == home, "{command:?} changed the home: {err}");
            assert!(
                everything(&self.folder.path().join("game")) == game,
                "{command:?} changed the base: {err}"
            );
            said += &format!("{command:?} {}: {err}\n", output.status);
        }
        said
    }
}

/// A link stands in the place of something.
#[rstest]
#[case::the_own_folder("documents", ".stitching")]
#[case::the_lock("rc", ".stitching/lock")]
#[case::the_record("rc", ".stitching/pending.json")]
#[case::the_beginning_of_a_record("rc", ".stitching/pending.new")]
#[case::a_record_of_what_is_to_be_cleaned("rc", ".stitching/cleaning-0123456789abcdef.json")]
#[case::the_history("documents", ".stitching/history")]
#[case::its_position("rc", ".stitching/history/position.json")]
#[case::an_entry_of_it("rc", ".stitching/history/000001.json")]
#[case::what_it_keeps("documents", ".stitching/history/kept")]
#[case::what_is_off("rc", ".stitching/off.json")]
#[case::the_files_that_are_off("documents", ".stitching/off")]
#[case::a_file_that_is_off("rc", ".stitching/off/00ff")]
#[case::the_cache("documents", ".stitching/cache")]
#[case::a_cache("rc", ".stitching/cache/keys")]
#[case::the_beginning_of_a_cache("rc", ".stitching/cache/keys.new")]
#[case::the_lock_of_the_mod("rc", "mod/.stitching-lock")]
#[case::a_temporary_name_of_old("rc", "mod/.stitching-new-0")]
#[case::another_temporary_name_of_old("rc", "mod/.stitching-old-0")]
#[case::a_data_file("rc", "mod/reaches.txt")]
#[case::a_folder_of_data("documents", "mod/more")]
#[case::the_schema("rc", "s.toml")]
fn links(#[case] to: &str, #[case] at: &str) {
    let world = World::new();
    world.link(to, at);
    world.attack();
    // And a link that leads nowhere yet.
    let world = World::new();
    world.link("not/there", at);
    world.attack();
}

/// A list of what is switched off that came with the mod, with a file of its own that leads out of it.
#[rstest]
#[case::a_path_out("../../HOME/new", "00ff")]
#[case::an_absolute_path("HOME/new", "00ff")]
#[case::a_name_out("reaches2.txt", "../../HOME/rc")]
#[case::an_absolute_name("reaches2.txt", "HOME/rc")]
#[case::no_name("reaches2.txt", "")]
#[case::over_another("reaches.txt", "00ff")]
fn foreign_files_that_are_off(#[case] path: &str, #[case] file: &str) {
    let world = World::new();
    let home = world.home.path().display().to_string();
    let (path, file) = (path.replace("HOME", &home), file.replace("HOME", &home));
    world.write(".stitching/off/00ff", "Reach\tAbove\nbad\t\n");
    let list = serde_json::json!([{
        "path": path, "address": "reaches:frost", "table": "reaches", "key": "frost", "field": null,
        "text": "", "before": "", "after": "", "file": file,
    }]);
    world.write(".stitching/off.json", &list.to_string());
    let said = world.attack();
    assert!(!said.contains("[\"on\", \"reaches:frost\"] exit status: 0"), "{said}");
    assert!(!world.folder.path().join("mod/reaches2.txt").exists());
}

/// The records that earlier versions would have believed: each would delete or move a file outside.
#[rstest]
#[case::taking_back(r#"{"title":"x","phase":"takingback","items":[{"target":{"root":"mod","path":"a"},"staged":null,"kept":"HOME/rc","before":null,"after":null,"made":[]}]}"#)]
#[case::staging(r#"{"title":"x","phase":"staging","items":[{"target":{"root":"mod","path":"a"},"staged":"../../HOME/rc","kept":"k","before":null,"after":null,"made":[]}]}"#)]
#[case::committing(r#"{"title":"x","id":"0123456789abcdef","phase":"committing","items":[{"target":{"root":"mod","path":"HOME/rc"},"before":null,"after":null,"made":[]}]}"#)]
#[case::with_a_mark(r#"{"mark":"0000000000000000000000000000000000000000000000000000000000000000","change":"{\"title\":\"x\",\"id\":\"00\",\"phase\":\"committing\",\"items\":[{\"target\":{\"root\":\"mod\",\"path\":\"reaches.txt\"},\"before\":null,\"after\":null,\"made\":[]}]}"}"#)]
#[case::nonsense("not even JSON")]
#[case::nothing("")]
fn foreign_journals(
    #[case] record: &str,
    #[values("pending.json", "cleaning-0123456789abcdef.json")] name: &str,
) {
    let world = World::new();
    let home = world.home.path().display().to_string();
    world.write(&format!(".stitching/{name}"), &record.replace("HOME", &home));
    let before = everything(&world.folder.path().join("mod"));
    let check = program(world.folder.path(), &["check"]).output().expect("it runs");
    assert_eq!(check.status.code(), Some(0), "{}", String::from_utf8_lossy(&check.stderr));
    assert!(everything(&world.folder.path().join("mod")) == before, "reading changes nothing");
    let said = world.attack();
    if name == "pending.json" {
        let err = String::from_utf8_lossy(&check.stderr);
        assert!(err.contains("was not written by you on this computer"), "{err}");
        assert!(said.contains("Nothing was changed"), "{said}");
        assert_eq!(
            everything(&world.folder.path().join("mod")).get(&world.folder.path().join("mod/reaches.txt")),
            before.get(&world.folder.path().join("mod/reaches.txt")),
        );
    }
}

/// A journal of this user, but of another project: it holds for what lies in the project, and nothing else.
#[rstest]
fn a_journal_from_another_project_stays_inside() {
    let first = World::new();
    let died = program(first.folder.path(), &["rename", "reaches:mill", "weir"])
        .env("STITCHING_TEST_DIE_AT", "30")
        .output()
        .expect("it runs");
    assert!(!died.status.success());
    let second = World::new();
    let record = fs::read_to_string(first.folder.path().join(".stitching/pending.json")).expect("a record");
    second.write(".stitching/pending.json", &record);
    second.attack();
    first.attack();
}

/// Histories that come with a mod.
#[rstest]
#[case::out_of_the_mod(r#"{"in_force":1,"made":1}"#, r#"{"number":1,"time":0,"title":"x","values":1,"files":[{"from":null,"to":"../../HOME/rc","before":null,"after":{"bytes":"HASH"},"undo":[],"redo":[]}]}"#)]
#[case::an_absolute_path(r#"{"in_force":1,"made":1}"#, r#"{"number":1,"time":0,"title":"x","values":1,"files":[{"from":null,"to":"HOME/rc","before":null,"after":{"bytes":"HASH"},"undo":[],"redo":[]}]}"#)]
#[case::into_its_own_folder(r#"{"in_force":1,"made":1}"#, r#"{"number":1,"time":0,"title":"x","values":1,"files":[{"is_own":true,"from":null,"to":"../s.toml","before":null,"after":{"bytes":"HASH"},"undo":[],"redo":[]}]}"#)]
#[case::another_hash_as_a_path(r#"{"in_force":0,"made":1}"#, r#"{"number":1,"time":0,"title":"x","values":1,"files":[{"from":null,"to":"new.txt","before":null,"after":{"bytes":"../../../HOME/rc"},"undo":[],"redo":[]}]}"#)]
#[case::the_highest_number(r#"{"in_force":18446744073709551615,"made":18446744073709551615}"#, "{}")]
#[case::very_many(r#"{"in_force":1,"made":18446744073709551614}"#, "{}")]
#[case::more_than_made(r#"{"in_force":2,"made":1}"#, "{}")]
#[case::a_patch_that_does_not_fit(r#"{"in_force":1,"made":1}"#, r#"{"number":1,"time":0,"title":"x","values":1,"files":[{"from":"reaches.txt","to":"reaches.txt","before":{"bytes":"00"},"after":{"bytes":"HASH"},"undo":[{"start":18446744073709551615,"end":18446744073709551615,"bytes":"x"}],"redo":[]}]}"#)]
#[case::a_title_with_orders_for_the_terminal(
    r#"{"in_force":1,"made":1}"#,
    "{\"number\":1,\"time\":0,\"title\":\"\\u001b]0;owned\\u0007\\u001b[2J\",\"values\":1,\"files\":[]}"
)]
fn foreign_histories(#[case] position: &str, #[case] entry: &str) {
    let world = World::new();
    let hash = blake3_of(&world.folder.path().join("mod/reaches.txt"));
    let entry = entry.replace("HOME", &world.home.path().display().to_string()).replace("HASH", &hash);
    world.write(".stitching/history/position.json", position);
    world.write(".stitching/history/000001.json", &entry);
    let listed = program(world.folder.path(), &["history", "--color", "never"]).output().expect("it runs");
    assert!(!listed.stdout.contains(&0x1b), "{}", String::from_utf8_lossy(&listed.stdout));
    let schema = fs::read(world.folder.path().join("s.toml")).expect("there");
    world.attack();
    assert_eq!(fs::read(world.folder.path().join("s.toml")).expect("there"), schema);
}

fn blake3_of(path: &Path) -> String {
    blake3::hash(&fs::read(path).expect("a file")).to_hex().to_string()
}

/// Names and kinds of files that are no data.
#[rstest]
fn odd_names_and_kinds() {
    let world = World::new();
    let long = "x".repeat(250);
    for name in [
        "mod/a\\b reaches.txt",
        "mod/ reaches .txt",
        "mod/-reaches.txt",
        "mod/con reaches.txt",
        &format!("mod/{long}"),
        "mod/reaches\u{1b}[2J.txt",
        "mod/..reaches.txt",
    ] {
        world.write(name, "Reach\tAbove\nodd\tmill\n");
    }
    let pipes = [
        "mod/reaches_pipe.txt",
        ".stitching/off.json",
        ".stitching/pending.json",
        ".stitching/history/position.json",
        ".stitching/lock",
    ];
    for pipe in pipes {
        let path = world.folder.path().join(pipe);
        fs::create_dir_all(path.parent().expect("a folder")).expect("made");
        let made = std::process::Command::new("mkfifo").arg(&path).status();
        assert!(made.is_ok_and(|status| status.success()), "a pipe");
    }
    let home = everything(world.home.path());
    for command in [&["check"][..], &["history"], &["rename", "reaches:mill", "weir"], &["undo"]] {
        let output = program(world.folder.path(), command).output().expect("it ends");
        assert!(matches!(output.status.code(), Some(0..=3)), "{command:?}");
    }
    assert!(everything(world.home.path()) == home);
}

/// What `init` and `demo` find in the place of what they write.
#[rstest]
#[case::a_link_out("rc")]
#[case::a_link_that_leads_nowhere("not/there")]
fn init_leaves_nothing_behind(#[case] to: &str, #[values("stitching.toml", "hold.schema.toml")] at: &str) {
    let world = World::new();
    let folder = world.folder.path().join("hold");
    fs::create_dir(&folder).expect("made");
    fs::write(folder.join("reaches.txt"), "Reach\tAbove\nmill\t\nfrost\tmill\nweir\tmill\nlow\tmill\n")
        .expect("written");
    world.link(to, &format!("hold/{at}"));
    let (before, home) = (everything(&folder), everything(world.home.path()));
    let output = program(&folder, &["init"]).output().expect("it runs");
    assert_ne!(output.status.code(), Some(0), "{}", String::from_utf8_lossy(&output.stderr));
    assert!(everything(&folder) == before, "{:#?}", everything(&folder).keys());
    assert!(everything(world.home.path()) == home);
}

/// Reading writes nothing at all, but for the cache of large projects.
#[rstest]
fn commands_that_read_write_nothing() {
    let world = World::new();
    let before = everything(world.folder.path());
    let state = everything(Path::new(STATE)).len();
    for command in [
        &["check"][..],
        &["tables"],
        &["show", "reaches"],
        &["find", "mill"],
        &["uses", "reaches:mill"],
        &["history"],
        &["off"],
        &["learn"],
        &["diff"],
        &["rename", "reaches:mill", "weir", "--preview"],
    ] {
        let output = program(world.folder.path(), command).output().expect("it runs");
        assert_eq!(output.status.code(), Some(0), "{command:?}: {}", String::from_utf8_lossy(&output.stderr));
        assert!(everything(world.folder.path()) == before, "{command:?}");
    }
    assert!(everything(Path::new(STATE)).len() >= state);
}
