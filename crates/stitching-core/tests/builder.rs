//! The builder of changes: what it takes, what it refuses with its places, and that all of it can be undone.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::collections::BTreeSet;
use std::path::Path;
use stitching_core::changes::{Builder, FolderChange, Note, Source, unified_diff};
use stitching_core::journal::ChangedSince;
use stitching_core::layers::{FileId, RelPath};
use stitching_core::text::{Edit, Span};
use stitching_core::{Error, Project};

const BUNDLE: &str = r#"=== schema.toml
[table.crews]
files = "crews/*.txt"
format = { kind = "lines", line = "{crew}" }
key = "crew"
=== game/crews/base.txt
tow
=== mod/crews/own.txt
ice
lock
=== mod/crews/Other.txt
haul
"#;

fn path(path: &str) -> RelPath {
    RelPath::parse(path).expect("a path")
}

fn file(project: &Project, wanted: &str) -> FileId {
    let effective = project.stack.effective(project.stack.top());
    effective.into_iter().find(|file| project.stack.files()[*file].path.as_str() == wanted).expect("a file")
}

fn edit(start: usize, end: usize, text: &str) -> Vec<Edit> {
    vec![Edit { span: Span::new(start, end), text: text.to_owned() }]
}

/// All folders below `root`.
fn folders(root: &Path) -> BTreeSet<String> {
    let (mut out, mut open) = (BTreeSet::new(), vec![root.to_owned()]);
    while let Some(next) = open.pop() {
        for entry in std::fs::read_dir(next).expect("a folder").flatten() {
            if entry.path().is_dir() {
                let inside = entry.path().strip_prefix(root).expect("inside").to_string_lossy().into_owned();
                out.insert(inside);
                open.push(entry.path());
            }
        }
    }
    out
}

#[rstest]
fn edits_of_one_file_are_merged_as_they_come() {
    let folder = support::write(BUNDLE);
    let project = support::open(&folder);
    let own = file(&project, "crews/own.txt");
    let mut builder = Builder::new(&project, "edit");
    builder.edit(own, edit(4, 8, "weir")).expect("a place");
    builder.edit(own, edit(0, 3, "frost")).expect("a place");
    builder.edit(own, edit(4, 8, "weir")).expect("the same edit counts once");
    builder.count(2);
    let change = builder.finish().expect("a change");
    assert_eq!((change.files().len(), change.values()), (1, 2));
    assert_eq!(change.files()[0].edits().edits().len(), 2);
    assert_eq!(change.files()[0].after().as_slice(), b"frost\nweir\n");
}

#[rstest]
fn two_edits_of_the_same_bytes_are_refused_with_both_places() {
    let folder = support::write(BUNDLE);
    let project = support::open(&folder);
    let own = file(&project, "crews/own.txt");
    let mut builder = Builder::new(&project, "edit");
    builder.edit(own, edit(0, 5, "x")).expect("a place");
    let error = builder.edit(own, edit(4, 8, "y")).expect_err("they overlap").to_string();
    assert!(error.contains("crews/own.txt:1:1") && error.contains("crews/own.txt:2:1"), "{error}");
    // What was asked for before still stands.
    let change = builder.finish().expect("a change");
    assert_eq!(change.files()[0].after().as_slice(), b"xock\n");
}

#[rstest]
#[case::a_file_that_is_there("crews/own.txt", "there is a file `crews/own.txt` already")]
#[case::one_of_the_base("crews/base.txt", "there is a file `crews/base.txt` already")]
#[case::case_apart("crews/other.txt", "would collide with `crews/Other.txt`")]
#[case::a_name_some_systems_lack("crews/con.txt", "con")]
fn a_move_onto_a_path_that_is_taken_is_refused(#[case] to: &str, #[case] says: &str) {
    let folder = support::write(BUNDLE);
    let project = support::open(&folder);
    let mut builder = Builder::new(&project, "move");
    let moved = if to == "crews/own.txt" { "crews/Other.txt" } else { "crews/own.txt" };
    // Whether a file that is there goes elsewhere is known at the end.
    let error = match builder.move_to(file(&project, moved), &path(to)) {
        Ok(()) => builder.finish().expect_err("the other one stays"),
        Err(error) => error,
    };
    assert!(error.to_string().contains(says), "{error}");
}

/// Files that move, each with where to, and what stands at the paths then; `own.txt` has its first line changed meanwhile.
#[rstest]
#[case::a_swap(&[("own", "Other"), ("Other", "own")], &[("Other", "frost\nlock\n"), ("own", "haul\n")])]
#[case::a_chain(&[("own", "Other"), ("Other", "new")], &[("Other", "frost\nlock\n"), ("new", "haul\n")])]
#[case::a_chain_from_its_end(&[("Other", "new"), ("own", "Other")], &[("Other", "frost\nlock\n"), ("new", "haul\n")])]
#[case::only_its_case(&[("own", "Own")], &[("Other", "haul\n"), ("Own", "frost\nlock\n")])]
#[case::over_the_base(
    &[("own", "base"), ("base", "own")],
    &[("Other", "haul\n"), ("base", "frost\nlock\n"), ("own", "tow\n")]
)]
#[case::one_to_the_base(&[("own", "base"), ("base", "new")], &[("Other", "haul\n"), ("base", "frost\nlock\n"), ("new", "tow\n")])]
fn files_take_the_paths_that_others_leave(#[case] moves: &[(&str, &str)], #[case] expected: &[(&str, &str)]) {
    let folder = support::write(BUNDLE);
    let project = support::open(&folder);
    let root = folder.path().join("mod");
    let mut builder = Builder::new(&project, "swap");
    for (from, to) in moves {
        let own = file(&project, &format!("crews/{from}.txt"));
        builder.move_to(own, &path(&format!("crews/{to}.txt"))).expect("the one there goes elsewhere");
    }
    builder.edit(file(&project, "crews/own.txt"), edit(0, 3, "frost")).expect("a place");
    let change = builder.finish().expect("a change");
    let before = support::tree(&root);
    support::journal(folder.path()).commit(&project.stack, &change).expect("written");
    let after = support::tree(&root);
    let there: Vec<(String, String)> = after
        .iter()
        .map(|(path, bytes)| (path.clone(), String::from_utf8_lossy(bytes).into_owned()))
        .collect();
    let expected: Vec<(String, String)> =
        expected.iter().map(|(name, text)| (format!("crews/{name}.txt"), (*text).to_owned())).collect();
    assert_eq!(there, expected);
    support::journal(folder.path()).undo(ChangedSince::Refuse).expect("undone");
    assert_eq!(support::tree(&root), before);
    support::journal(folder.path()).redo(ChangedSince::Refuse).expect("done again");
    assert_eq!(support::tree(&root), after);
}

/// Bytes of another encoding, or of none, cannot be written as an edit of a text.
#[rstest]
#[case::utf16(b"\xFF\xFEa\0\n\0".as_slice())]
#[case::no_text(b"\x89PIC\0\x01\x02".as_slice())]
fn files_of_two_encodings_do_not_swap(#[case] other: &[u8]) {
    let folder = support::write(BUNDLE);
    std::fs::write(folder.path().join("mod/crews/Other.txt"), other).expect("written");
    let project = support::open(&folder);
    let mut builder = Builder::new(&project, "swap");
    builder.move_to(file(&project, "crews/own.txt"), &path("crews/Other.txt")).expect("it goes elsewhere");
    builder.move_to(file(&project, "crews/Other.txt"), &path("crews/own.txt")).expect("it goes elsewhere");
    let error = builder.finish().expect_err("no text of the same encoding").to_string();
    assert!(error.contains("they are no texts of one encoding"), "{error}");
}

#[rstest]
fn two_files_on_one_path_are_refused() {
    let folder = support::write(BUNDLE);
    let project = support::open(&folder);
    let mut builder = Builder::new(&project, "make");
    builder.create(&path("new.txt"), "a\n", None).expect("a place");
    let error = builder.create(&path("New.txt"), "b\n", None).expect_err("refused").to_string();
    assert!(error.contains("would collide with `new.txt`"), "{error}");
    let error = builder.copy_to(file(&project, "crews/own.txt"), &path("new.txt")).expect_err("refused");
    assert!(error.to_string().contains("there is a file `new.txt` already"), "{error}");
}

#[rstest]
fn a_base_layer_is_never_written() {
    let folder = support::write(BUNDLE);
    let project = support::open(&folder);
    let base = file(&project, "crews/base.txt");
    let error = Builder::new(&project, "remove").remove(base).expect_err("refused").to_string();
    assert!(error.contains("lies in the layer `game`"), "{error}");
    let mut builder = Builder::new(&project, "move");
    builder.move_to(base, &path("crews/up.txt")).expect("a place");
    builder.edit(base, edit(0, 3, "haul")).expect("a place");
    builder.edit_left_behind(base, |_| Ok(edit(0, 3, "left"))).expect("a place");
    let change = builder.finish().expect("a change");
    // What is under the old path would still be seen as it was; it gets edits of its own.
    let files = change.files().iter();
    let files: Vec<(&str, &[u8])> = files.map(|file| (file.path(), &file.after()[..4])).collect();
    assert_eq!(files, [("crews/base.txt", &b"left"[..]), ("crews/up.txt", &b"haul"[..])]);
    assert!(change.files().iter().all(|file| file.source() == Source::CopyOf(base) && file.from().is_none()));
    assert_eq!(change.notes(), [Note::StaysInBase("crews/base.txt".to_owned(), "crews/up.txt".to_owned())]);
}

#[rstest]
fn a_file_that_is_only_read_does_not_change() {
    let folder = support::write(BUNDLE);
    let project = support::open(&folder);
    let mut builder = Builder::new(&project, "look");
    assert_eq!(builder.text(file(&project, "crews/own.txt")).expect("a text").as_str(), "ice\nlock\n");
    assert!(builder.finish().expect("a change").files().is_empty());
}

#[rstest]
fn bytes_that_are_no_text_are_not_edited() {
    let folder = support::write(BUNDLE);
    std::fs::write(folder.path().join("mod/crews/own.txt"), b"caf\xE9\xFF\0").expect("written");
    let project = support::open(&folder);
    let mut builder = Builder::new(&project, "edit");
    let own = file(&project, "crews/own.txt");
    let error = builder.edit(own, edit(0, 1, "x")).expect_err("refused");
    assert!(matches!(error, Error::Refused(_)), "{error}");
    // They can be moved all the same.
    builder.move_to(own, &path("crews/moved.txt")).expect("a place");
    assert_eq!(builder.finish().expect("a change").files()[0].after().as_slice(), b"caf\xE9\xFF\0");
}

#[rstest]
#[case::utf16(b"\xFF\xFEa\0\n\0".as_slice(), "b\n", b"\xFF\xFEb\0\n\0".as_slice())]
#[case::utf8_with_a_mark(b"\xEF\xBB\xBFa\n".as_slice(), "b\n", b"\xEF\xBB\xBFb\n".as_slice())]
fn a_new_file_is_written_as_another_is(#[case] model: &[u8], #[case] text: &str, #[case] bytes: &[u8]) {
    let folder = support::write(BUNDLE);
    std::fs::write(folder.path().join("mod/crews/own.txt"), model).expect("written");
    let project = support::open(&folder);
    let mut builder = Builder::new(&project, "make");
    builder.create(&path("crews/new.txt"), text, Some(file(&project, "crews/own.txt"))).expect("a place");
    assert_eq!(builder.finish().expect("a change").files()[0].after().as_slice(), bytes);
}

#[rstest]
fn files_and_folders_come_and_go_and_come_back() {
    let folder = support::write(BUNDLE);
    let project = support::open(&folder);
    let root = folder.path().join("mod");
    let mut builder = Builder::new(&project, "tidy up");
    builder.create(&path("plans/deep/dock.txt"), "a dock\n", None).expect("a place");
    builder.copy_to(file(&project, "crews/own.txt"), &path("plans/own.txt")).expect("a place");
    builder.edit(file(&project, "crews/own.txt"), edit(0, 3, "frost")).expect("a place");
    builder.remove(file(&project, "crews/Other.txt")).expect("one of the mod");
    builder.make_folder(path("empty/inside"));
    let change = builder.finish().expect("a change");
    assert_eq!(change.folders(), [FolderChange::Make(path("empty/inside"))]);
    let diff = unified_diff(&project, &change).expect("a diff");
    assert!(diff.contains("deleted file mode 100644\n--- a/mod/crews/Other.txt\n+++ /dev/null"), "{diff}");
    assert!(diff.contains("new file mode 100644\n--- /dev/null\n+++ b/mod/plans/deep/dock.txt"), "{diff}");
    let (files_before, folders_before) = (support::tree(&root), folders(&root));
    let journal = || support::journal(folder.path());
    journal().commit(&project.stack, &change).expect("written");
    let (files_after, folders_after) = (support::tree(&root), folders(&root));
    assert_eq!(files_after["plans/own.txt"], b"frost\nlock\n", "a copy has the edits");
    assert!(!files_after.contains_key("crews/Other.txt") && folders_after.contains("empty/inside"));
    journal().undo(ChangedSince::Refuse).expect("undone");
    assert_eq!((support::tree(&root), folders(&root)), (files_before, folders_before));
    journal().redo(ChangedSince::Refuse).expect("done again");
    assert_eq!((support::tree(&root), folders(&root)), (files_after.clone(), folders_after));
    // A folder in which something else lies by now stays.
    std::fs::write(root.join("empty/inside/mine.txt"), "mine").expect("written");
    journal().undo(ChangedSince::Refuse).expect("undone");
    assert_eq!(std::fs::read(root.join("empty/inside/mine.txt")).expect("there"), b"mine");
}

#[rstest]
fn a_folder_goes_only_if_nothing_is_left_in_it() {
    let folder = support::write(BUNDLE);
    let project = support::open(&folder);
    let root = folder.path().join("mod");
    let mut builder = Builder::new(&project, "remove");
    builder.remove(file(&project, "crews/own.txt")).expect("one of the mod");
    builder.remove_folder(path("crews"));
    let change = builder.finish().expect("a change");
    support::journal(folder.path()).commit(&project.stack, &change).expect("written");
    assert!(root.join("crews/Other.txt").is_file());
    let project = support::open(&folder);
    let mut builder = Builder::new(&project, "remove");
    builder.remove(file(&project, "crews/Other.txt")).expect("one of the mod");
    builder.remove_folder(path("crews"));
    let change = builder.finish().expect("a change");
    support::journal(folder.path()).commit(&project.stack, &change).expect("written");
    assert!(!root.join("crews").exists());
    support::journal(folder.path()).undo(ChangedSince::Refuse).expect("undone");
    assert_eq!(std::fs::read(root.join("crews/Other.txt")).expect("back"), b"haul\n");
}
