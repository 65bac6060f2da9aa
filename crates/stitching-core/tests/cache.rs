//! What an earlier run found out is used only as long as it holds, and never changes an answer.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fs;
use std::path::Path;
use stitching_core::Project;
use stitching_core::links::{Address, Index, details, find_uses, resolve, things_of};
use stitching_core::views::usual;
use tempfile::TempDir;

/// A copy of the demo; gives the folder that holds it and the opened project.
fn demo() -> (TempDir, Project) {
    let folder = tempfile::tempdir().expect("a folder");
    support::copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo"), folder.path());
    let project = Project::open(&folder.path().join("put-right")).expect("a project");
    (folder, project)
}

fn again(project: &Project) -> Project {
    Project::open(&project.folder).and_then(Project::with_cache).expect("a project")
}

/// All that is told of a record.
fn told(project: &Project, address: &str) -> String {
    let (stack, schema) = (&project.stack, &project.schema);
    let found = match resolve(stack, schema, stack.top(), address) {
        Ok(found) => found,
        Err(error) => return format!("{error}: {:?}", error.help()),
    };
    let details = details(stack, schema, stack.top(), &found).expect("details");
    let path = &stack.files()[found.places[0].file].path;
    let things = things_of(schema, found.table, &found.key, path, |_| None);
    let uses = find_uses(stack, schema, stack.top(), &things).expect("uses");
    let mut usual: Vec<_> =
        usual(stack, schema, stack.top(), found.table).expect("usual").into_iter().collect();
    usual.sort_by(|a, b| a.0.cmp(&b.0));
    format!("{details:?}\n{uses:?}\n{usual:?}")
}

/// The addresses of all records.
fn addresses(project: &Project) -> Vec<String> {
    let (stack, schema) = (&project.stack, &project.schema);
    let no_checks = schema.tables.iter().map(|table| vec![Vec::new(); table.rules.len()]).collect();
    let index = Index::build(stack, schema, stack.top(), &no_checks, &Default::default());
    let of_table = |table: usize| {
        index.keys(table).map(|(_, key)| Address::show(&schema.tables[table].name, key)).collect::<Vec<_>>()
    };
    (0..schema.tables.len()).flat_map(of_table).collect()
}

#[rstest]
fn every_record_is_told_the_same_with_and_without() {
    let (_folder, project) = demo();
    let first = again(&project);
    told(&first, "goods:coal");
    assert!(first.stack.cache().expect("a cache").troubles().is_empty());
    let second = again(&project);
    let all = addresses(&project);
    assert!(all.len() > 500);
    // A tenth of them, of every table.
    for address in all.iter().step_by(11) {
        assert_eq!(told(&second, address), told(&project, address), "{address}");
    }
    let missing = "reaches:frost_cutt";
    assert_eq!(told(&second, missing), told(&project, missing));
}

/// Tables that are too large to be read for one record, with line ends and notes of several kinds.
fn large() -> (TempDir, Project) {
    let mut bundle = String::from(
        r##"=== schema.toml
[table.boats]
files = "boats.txt"
format = { kind = "delimited", comment = "#" }
key = "Boat"
label = "Name"
[table.boats.fields]
Crew = { ref = "crews", none = "-" }
Name = { text = true }
[table.crews]
files = "crews*.txt"
format = { kind = "delimited", comment = "#" }
key = "Crew"
label = "Called"
[table.crews.fields]
Lead = { ref = "crews", none = "-" }
[table.texts]
files = "text/{lang}.txt"
format = { kind = "lines", line = '{key} = "{text}"' }
key = "key"
texts = true
"##,
    );
    let notes = |count: usize| (0..count).map(|at| format!("# note {at} of many\n")).collect::<String>();
    let mut add = |path: &str, content: String| bundle += &format!("=== {path}\n{content}");
    let boat = |at: usize| format!("boat{at}\tcrew{}\tname{}\tżółw\n", at % 3000, at % 50);
    add("game/boats.txt", format!("Boat\tCrew\tName\tNote\n{}", (0..4000).map(boat).collect::<String>()));
    let crew = |at: usize| format!("crew{at}\tThe {at}th\tcrew{}\n", at / 2);
    let crews: String = (0..3000).map(crew).collect();
    add("mod/crews.txt bom crlf", format!("# a note\nCrew\tCalled\tLead\n{crews}"));
    // More notes than are read of the beginning of a file.
    let odd = |at: usize| format!("odd{at}\tOdd {at}\tcrew{at}\n");
    let odd: String = (0..3000).map(odd).collect();
    add("mod/crews_odd.txt", format!("{}Crew\tCalled\tLead\n{odd}", notes(1500)));
    add("game/text/en.txt", (0..50).map(|at| format!("name{at} = \"Boat number {at}\"\n")).collect());
    let folder = support::write(&bundle);
    let project = Project::open(folder.path()).expect("a project");
    (folder, project)
}

#[rstest]
fn records_of_large_tables_are_told_the_same_from_a_few_lines() {
    let (_folder, project) = large();
    let addresses =
        ["boats:boat0", "boats:boat3999", "crews:crew0", "crews:crew1499", "crews:odd2999", "crews:crew2999"];
    let expected: Vec<String> = addresses.iter().map(|address| told(&project, address)).collect();
    assert!(expected[1].contains("Boat number 49") && expected[1].contains("The 999th"), "{}", expected[1]);
    for _ in 0..2 {
        for (address, expected) in addresses.iter().zip(&expected) {
            assert_eq!(told(&again(&project), address), *expected, "{address}");
        }
    }
}

#[rstest]
fn usual_values_are_not_counted_again() {
    let (_folder, project) = demo();
    // Of these two tables one draws on the files of the other.
    let asked = ["goods:coal", "wharves:north", "offers:\"north/coal\""];
    asked.iter().for_each(|address| drop(told(&again(&project), address)));
    let kept = || fs::read(project.folder.join(".stitching/cache/usual")).expect("a cache");
    let before = kept();
    asked.iter().for_each(|address| drop(told(&again(&project), address)));
    // Each writing tells its time in the head.
    assert!(before == kept(), "it was written though nothing changed");
}

#[rstest]
fn a_file_that_changed_is_noticed_though_it_looks_the_same() {
    let (_folder, project) = demo();
    told(&again(&project), "goods:coal");
    let file = project.folder.join("mod/tables/reaches.txt");
    let before = fs::metadata(&file).expect("a file");
    let text = fs::read_to_string(&file).expect("a text");
    assert!(text.contains("ice_gate\tnorth\tfrost_cut"));
    fs::write(&file, text.replace("ice_gate\tnorth\tfrost_cut", "ice_gate\tnorth\theron_cut"))
        .expect("written");
    let opened = fs::File::options().write(true).open(&file).expect("a file");
    opened.set_modified(before.modified().expect("a time")).expect("set");
    drop(opened);
    let after = fs::metadata(&file).expect("a file");
    assert_eq!((after.len(), after.modified().ok()), (before.len(), before.modified().ok()));
    let plain = Project::open(&project.folder).expect("a project");
    let uses = |project: &Project| told(project, "reaches:frost_cut").matches("ice_gate").count();
    assert!(uses(&plain) < uses(&demo().1));
    assert_eq!(told(&again(&project), "reaches:frost_cut"), told(&plain, "reaches:frost_cut"));
    // New files, and files that are gone.
    fs::remove_file(project.folder.join("mod/scripts/convoys_frost.blk")).expect("removed");
    fs::write(project.folder.join("mod/scripts/convoys_new.blk"), "convoy new_one {\n  crew sledge\n}\n")
        .expect("written");
    let plain = Project::open(&project.folder).expect("a project");
    for address in ["convoys:new_one", "convoys:ice_train", "crews:sledge"] {
        assert_eq!(told(&again(&project), address), told(&plain, address));
    }
}

#[rstest]
#[case::truncated(|bytes: &mut Vec<u8>| bytes.truncate(bytes.len() / 2))]
#[case::head_only(|bytes: &mut Vec<u8>| bytes.truncate(40))]
#[case::empty(|bytes: &mut Vec<u8>| bytes.clear())]
#[case::foreign(|bytes: &mut Vec<u8>| *bytes = b"something else altogether, and long enough to have a head".to_vec())]
#[case::bit_in_the_head(|bytes: &mut Vec<u8>| bytes[60] ^= 1)]
#[case::bits_in_the_middle(|bytes: &mut Vec<u8>| {
    let from = bytes.len() / 2;
    for byte in &mut bytes[from..] {
        *byte ^= 0x55;
    }
})]
#[case::huge_length(|bytes: &mut Vec<u8>| bytes[16..24].fill(0xff))]
fn a_damaged_cache_changes_nothing(#[case] damage: fn(&mut Vec<u8>)) {
    let (_folder, project) = demo();
    told(&again(&project), "goods:coal");
    for name in ["links", "usual"] {
        let file = project.folder.join(".stitching/cache").join(name);
        let mut bytes = fs::read(&file).expect("a cache");
        damage(&mut bytes);
        fs::write(&file, bytes).expect("written");
    }
    for address in ["goods:coal", "reaches:frost_cut", "offers:\"north/coal\""] {
        assert_eq!(told(&again(&project), address), told(&project, address));
    }
}

#[rstest]
fn a_cache_of_another_schema_is_made_anew() {
    let (_folder, project) = demo();
    told(&again(&project), "goods:coal");
    let schema = project.folder.join("../slackwater.schema.toml");
    let text = fs::read_to_string(&schema).expect("a schema");
    fs::write(&schema, format!("{text}\n# a note\n")).expect("written");
    let second = again(&project);
    assert_eq!(told(&second, "goods:coal"), told(&project, "goods:coal"));
    let troubles = second.stack.cache().expect("a cache").troubles();
    assert!(troubles.iter().any(|trouble| trouble.contains("another description")), "{troubles:?}");
}

#[rstest]
fn a_cache_that_cannot_be_written_is_done_without() {
    let (_folder, project) = demo();
    fs::create_dir_all(project.folder.join(".stitching")).expect("a folder");
    fs::write(project.folder.join(".stitching/cache"), "a file in its place").expect("written");
    let second = again(&project);
    assert_eq!(told(&second, "goods:coal"), told(&project, "goods:coal"));
    assert!(!second.stack.cache().expect("a cache").troubles().is_empty());
}
