//! Archives as layers and in layers: hostile ones do no harm, and editing one entry leaves the bytes of
//! all others.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fs;
use std::io::{Read, Write};
use std::path::Path;
use stitching_core::changes::{Change, rename, switch_off, switch_on};
use stitching_core::checks::check;
use stitching_core::journal::ChangedSince;
use stitching_core::layers::{Archive, EntryChange};
use stitching_core::{Error, Project};
use zip::write::SimpleFileOptions;

const SCHEMA: &str = r#"[table.props]
files = ["props.txt", "**/*.zip/**/*.txt"]
format = { kind = "delimited" }
key = "Prop"
[table.props.fields]
Like = { ref = "props", none = "-" }
"#;

/// A project whose mod has the archive `packs/p.zip` with these bytes.
fn project_with(archive: &[u8]) -> tempfile::TempDir {
    let folder = tempfile::tempdir().expect("a folder");
    fs::create_dir_all(folder.path().join("game")).expect("a layer");
    fs::create_dir_all(folder.path().join("mod/packs")).expect("a layer");
    fs::write(folder.path().join("stitching.toml"), support::PROJECT).expect("written");
    fs::write(folder.path().join("schema.toml"), SCHEMA).expect("written");
    fs::write(folder.path().join("mod/props.txt"), "Prop\tLike\nlamp\t-\n").expect("written");
    fs::write(folder.path().join("mod/packs/p.zip"), archive).expect("written");
    folder
}

fn problems(folder: &tempfile::TempDir) -> Vec<String> {
    let project = support::open(folder);
    support::lines(&check(project.view()).problems)
}

fn entry(name: &str, text: &str) -> (String, Vec<u8>, bool) {
    (name.to_owned(), text.as_bytes().to_vec(), false)
}

/// An archive in which the name `aaaa.txt` is replaced, so that it can be one that no packer writes.
fn with_name(name: &str) -> Vec<u8> {
    let bytes = support::zip(&[
        entry("aaaa.txt", "Prop\tLike\ncrane\t-\n"),
        entry("b.txt", "Prop\tLike\nshed\tcrane\n"),
    ]);
    assert_eq!(name.len(), 8);
    let mut out = bytes.clone();
    for at in bytes.windows(8).enumerate().filter(|(_, window)| *window == b"aaaa.txt").map(|(at, _)| at) {
        out[at..at + 8].copy_from_slice(name.as_bytes());
    }
    out
}

#[rstest]
#[case::parent("../a.txt", "would lead out of the layer")]
#[case::absolute("/aaa.txt", "would lead out of the layer")]
#[case::drive("C:/a.txt", "would lead out of the layer")]
#[case::backslash("a\\\\a.txt", "backslash")]
#[case::dots("a/./.txt", "empty parts or dots")]
fn names_that_lead_out_are_passed_over(#[case] name: &str, #[case] says: &str) {
    let folder = project_with(&with_name(name));
    let before = support::tree(folder.path());
    let found = problems(&folder);
    assert!(found.iter().any(|line| line.contains("unreadable-entry") && line.contains(says)), "{found:#?}");
    // The other entry is read all the same.
    assert!(found.iter().any(|line| line.contains("there is no `crane`")), "{found:#?}");
    assert_eq!(support::tree(folder.path()), before);
}

#[rstest]
fn a_name_that_is_there_twice_is_told_and_the_archive_not_written() {
    let folder = project_with(&{
        let mut bytes = support::zip(&[
            entry("a1.txt", "Prop\tLike\ncrane\tlamp\n"),
            entry("a2.txt", "Prop\tLike\nshed\tlamp\n"),
        ]);
        for at in 0..bytes.len() - 6 {
            if &bytes[at..at + 6] == b"a2.txt" {
                bytes[at + 1] = b'1';
            }
        }
        bytes
    });
    let found = problems(&folder);
    assert!(found.iter().any(|line| line.contains("its name is in the archive twice")), "{found:#?}");
    let project = support::open(&folder);
    let change = rename(&project, "props:lamp", "lantern").expect("it can be worked out");
    let journal = support::journal(&project.folder);
    let before = support::tree(folder.path());
    let error = journal.commit(&project.stack, &change).expect_err("refused");
    assert!(error.to_string().contains("two of its entries have one name"), "{error}");
    assert_eq!(support::tree(folder.path()), before);
}

#[rstest]
fn a_bomb_is_not_unpacked() {
    let zeros = vec![b'0'; 40 << 20];
    let folder = project_with(&support::zip(&[
        ("big.txt".to_owned(), zeros, false),
        entry("b.txt", "Prop\tLike\nshed\tx\n"),
    ]));
    let found = problems(&folder);
    assert!(found.iter().any(|line| line.contains("as if made to fill the memory")), "{found:#?}");
    assert!(found.iter().any(|line| line.contains("there is no `x`")), "{found:#?}");
}

#[rstest]
fn an_entry_that_lies_about_its_size_is_not_read() {
    let mut bytes = support::zip(&[("b.txt".to_owned(), b"Prop\tLike\nshed\tlamp\n".to_vec(), true)]);
    // The last bytes of the directory's sizes: 24 to 28 behind its signature (4.3.12).
    let at = bytes.windows(4).rposition(|window| window == b"PK\x01\x02").expect("a directory");
    bytes[at + 24] -= 1;
    let found = problems(&project_with(&bytes));
    assert!(
        found.iter().any(|line| line.contains("not those that the archive's directory tells of")),
        "{found:#?}"
    );
}

#[rstest]
fn a_local_header_that_reaches_into_the_next_is_not_written() {
    let mut bytes = support::zip(&[
        entry("a.txt", "Prop\tLike\ncrane\tlamp\n"),
        entry("b.txt", "Prop\tLike\nshed\tlamp\n"),
    ]);
    // The length of the extra field, 28 behind the signature (4.3.7), is a lie: what is read there is no
    // entry, but it must not be taken for one when another is edited either.
    bytes[28] = 40;
    let folder = project_with(&bytes);
    let found = problems(&folder);
    assert!(found.iter().any(|line| line.contains("unreadable-entry")), "{found:#?}");
    let archive =
        Archive::open(&folder.path().join("mod/packs/p.zip"), None, &mut |_, _| {}).expect("a directory");
    let error = archive.patch(&[(0, EntryChange::Replace(b"new".to_vec()))], &[]).expect_err("refused");
    assert!(error.to_string().contains("runs into the next"), "{error}");
}

#[rstest]
fn an_entry_beyond_the_directory_keeps_the_archive_from_being_written() {
    // An entry that cannot be used anyway, and that the directory places behind itself.
    let mut bytes = support::zip(&[
        entry("a.txt", "Prop\tLike\ncrane\tlamp\n"),
        entry("../b.txt", "Prop\tLike\nshed\tlamp\n"),
    ]);
    let at = bytes.windows(4).rposition(|window| window == b"PK\x01\x02").expect("a directory");
    // Its offset (4.3.12).
    bytes[at + 42..at + 46].copy_from_slice(&0x00FF_FFFFu32.to_le_bytes());
    let folder = project_with(&bytes);
    let archive =
        Archive::open(&folder.path().join("mod/packs/p.zip"), None, &mut |_, _| {}).expect("a directory");
    let error = archive.patch(&[(0, EntryChange::Replace(b"new".to_vec()))], &[]).expect_err("refused");
    assert!(error.to_string().contains("its entries share bytes"), "{error}");
}

#[rstest]
fn links_in_archives_are_not_followed() {
    let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    writer.add_symlink("a.txt", "/etc/hostname", SimpleFileOptions::default()).expect("a link");
    let found = problems(&project_with(&writer.finish().expect("an archive").into_inner()));
    assert!(found.iter().any(|line| line.contains("it is a link")), "{found:#?}");
}

/// Any cut and any changed byte: a problem or none, but no panic and no file written.
#[rstest]
fn damaged_archives_do_no_harm() {
    let whole = support::zip(&[
        entry("a.txt", "Prop\tLike\ncrane\tlamp\n"),
        entry("sub/b.txt", "Prop\tLike\nshed\tlamp\n"),
    ]);
    for cut in (0..whole.len()).step_by(7) {
        let found = problems(&project_with(&whole[..cut]));
        assert!(
            found.iter().any(|line| line.contains("cannot be read as a zip archive")),
            "{cut}: {found:#?}"
        );
    }
    let sound = problems(&project_with(&whole));
    for at in 0..whole.len() {
        let mut bytes = whole.clone();
        bytes[at] ^= 0xFF;
        let found = problems(&project_with(&bytes));
        let noticed = found.iter().any(|line| line.contains("[unreadable"));
        assert!(noticed || found == sound, "{at}: {found:#?}");
    }
}

fn bytes_of(place: &Path) -> Vec<(String, Vec<u8>, u32)> {
    let mut archive = zip::ZipArchive::new(fs::File::open(place).expect("an archive")).expect("an archive");
    let entries = 0..archive.len();
    entries
        .map(|at| {
            let mut entry = archive.by_index_raw(at).expect("an entry");
            let mut raw = Vec::new();
            entry.read_to_end(&mut raw).expect("its bytes");
            let name = String::from_utf8(entry.name_raw().to_vec()).expect("a name");
            (name, raw, entry.crc32())
        })
        .collect()
}

/// Order, names, times, methods, comments and raw bytes of the other entries stay, with data
/// descriptors or without.
#[rstest]
fn editing_an_entry_leaves_the_others(#[values(false, true)] descriptors: bool) {
    let options = SimpleFileOptions::default().compression_method(zip::CompressionMethod::Deflated);
    let mut bytes = Vec::new();
    {
        let fill = |writer: &mut dyn FnMut(&str, &[u8], SimpleFileOptions)| {
            writer("z.bin", &[7; 300], options);
            writer("props/a.txt", b"Prop\tLike\ncrane\tlamp\n", options);
            writer("c.bin", b"stored", options.compression_method(zip::CompressionMethod::Stored));
            writer("props/d.txt", b"Prop\tLike\nshed\t-\n", options);
        };
        if descriptors {
            let mut writer = zip::ZipWriter::new_stream(&mut bytes);
            fill(&mut |name, data, options| {
                writer.start_file(name, options).expect("an entry");
                writer.write_all(data).expect("its bytes");
            });
            writer.finish().expect("an archive");
        } else {
            let mut writer = zip::ZipWriter::new(std::io::Cursor::new(&mut bytes));
            writer.set_comment("winter props").expect("a comment");
            fill(&mut |name, data, options| {
                writer.start_file(name, options).expect("an entry");
                writer.write_all(data).expect("its bytes");
            });
            writer.finish().expect("an archive");
        }
    }
    let folder = project_with(&bytes);
    let place = folder.path().join("mod/packs/p.zip");
    let before = bytes_of(&place);
    let project = support::open(&folder);
    let change = rename(&project, "props:lamp", "lantern").expect("it can be renamed");
    let journal = || support::journal(folder.path());
    journal().commit(&project.stack, &change).expect("written");
    let after = bytes_of(&place);
    assert_eq!(after.len(), before.len());
    for (old, new) in before.iter().zip(&after) {
        assert_eq!(old.0, new.0, "names and their order");
        assert_eq!(old == new, old.0 != "props/a.txt", "{}", old.0);
    }
    let mut archive = zip::ZipArchive::new(fs::File::open(&place).expect("an archive")).expect("an archive");
    assert_eq!(archive.comment(), if descriptors { &b""[..] } else { b"winter props" });
    let mut text = String::new();
    archive.by_name("props/a.txt").expect("an entry").read_to_string(&mut text).expect("text");
    assert_eq!(text, "Prop\tLike\ncrane\tlantern\n");
    // An archive changed by someone else meanwhile is not overwritten, and not taken back over.
    journal().undo(ChangedSince::Refuse).expect("undone");
    assert_eq!(fs::read(&place).expect("it is there"), bytes, "undone to the byte");
    journal().redo(ChangedSince::Refuse).expect("done again");
    fs::write(&place, &bytes).expect("written");
    assert!(matches!(journal().undo(ChangedSince::Refuse), Err(Error::ChangedSince { .. })));
    let project: Project = support::open(&folder);
    assert_eq!(check(project.view()).summary.errors, 1);
}

/// The signature of the end record in the archive's own comment is not taken for the record.
#[rstest]
fn a_comment_that_looks_like_an_end_record_stays_one() {
    let mut bytes = support::zip(&[entry("a.txt", "Prop\tLike\ncrane\tlamp\n")]);
    let comment = b"PK\x05\x06 odd";
    let at = bytes.len() - 2;
    bytes[at] = comment.len() as u8;
    bytes.extend_from_slice(comment);
    let folder = project_with(&bytes);
    let place = folder.path().join("mod/packs/p.zip");
    let archive = Archive::open(&place, None, &mut |_, _| {}).expect("a directory");
    let patch = archive.patch(&[(0, EntryChange::Replace(b"new".to_vec()))], &[]).expect("it can be written");
    let after = patch.apply(&bytes).expect("inside");
    assert!(after.ends_with(comment));
    fs::write(&place, &after).expect("written");
    let mut text = String::new();
    let mut again = zip::ZipArchive::new(fs::File::open(&place).expect("it is there")).expect("an archive");
    again.by_name("a.txt").expect("an entry").read_to_string(&mut text).expect("text");
    assert_eq!(text, "new");
}

/// An archive with one text packed as no one packs it here: with least effort.
fn packed_fast(text: &str) -> Vec<u8> {
    let mut writer = zip::ZipWriter::new(std::io::Cursor::new(Vec::new()));
    for (name, text) in [("a.txt", text), ("b.txt", "Prop\tLike\nshed\tlamp\n")] {
        let options = SimpleFileOptions::default()
            .compression_method(zip::CompressionMethod::Deflated)
            .compression_level(Some(1));
        writer.start_file(name, options).expect("begun");
        writer.write_all(text.as_bytes()).expect("in memory");
    }
    writer.finish().expect("in memory").into_inner()
}

/// Props that refer to `lamp`, so many that how hard they are packed makes a difference.
fn many_props() -> String {
    (0..2000).map(|number| format!("prop{}_{number}\tlamp\n", number * 7919 % 2003)).collect::<String>()
}

/// Makes and writes what `build` gives, on the project as it is.
fn commit(folder: &tempfile::TempDir, build: impl Fn(&Project) -> Result<Change, Error>) {
    let project = support::open(folder);
    let change = build(&project).expect("it can be worked out");
    support::journal(&project.folder).commit(&project.stack, &change).expect("written");
}

#[rstest]
#[case::off_and_on(&["off props:prop0_0", "on props:prop0_0"])]
#[case::two_off_and_the_last_on_first(&["off props:prop0_0", "off props:shed", "on props:shed", "on props:prop0_0"])]
#[case::renamed_there_and_back(&["rename props:prop0_0 props:new", "rename props:new props:prop0_0"])]
#[case::with_a_change_elsewhere_between(&["off props:shed", "rename props:lamp lantern", "rename props:lantern lamp", "on props:shed"])]
fn what_goes_back_to_what_an_archive_held_gives_it_its_own_bytes_back(#[case] steps: &[&str]) {
    let folder = project_with(&packed_fast(&format!("Prop\tLike\n{}", many_props())));
    let path = folder.path().join("mod/packs/p.zip");
    let before = fs::read(&path).expect("there");
    for step in steps {
        let words: Vec<&str> = step.split(' ').collect();
        commit(&folder, |project| match words[0] {
            "off" => switch_off(project, words[1]),
            "on" => switch_on(project, words[1]),
            _ => rename(project, words[1], words[2].trim_start_matches("props:")),
        });
        if step != steps.last().expect("some") {
            assert_ne!(fs::read(&path).expect("there"), before, "{step}");
        }
    }
    assert_eq!(fs::read(&path).expect("there"), before);
    // And all of it can be taken back, step by step.
    let project = support::open(&folder);
    let journal = support::journal(&project.folder);
    for _ in steps {
        journal.undo(ChangedSince::Refuse).expect("undone");
    }
    assert_eq!(fs::read(&path).expect("there"), before);
}

#[rstest]
fn without_the_history_what_is_switched_on_again_is_packed_anew() {
    let folder = project_with(&packed_fast(&format!("Prop\tLike\n{}", many_props())));
    let path = folder.path().join("mod/packs/p.zip");
    let before = fs::read(&path).expect("there");
    commit(&folder, |project| switch_off(project, "props:prop0_0"));
    fs::remove_dir_all(folder.path().join(".stitching/history")).expect("removed");
    commit(&folder, |project| switch_on(project, "props:prop0_0"));
    assert_ne!(fs::read(&path).expect("there"), before, "else the tests before this one show nothing");
    let project = support::open(&folder);
    assert!(support::lines(&check(project.view()).problems).is_empty());
}
