//! What an earlier run found out is used only as long as it holds, and never changes an answer.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fs;
use std::path::Path;
use stitching_core::Project;
use stitching_core::links::{Address, Index, find_uses, resolve, things_of};
use stitching_core::reading::View;
use stitching_core::views::usual;
use stitching_core::views::{details, search};
use tempfile::TempDir;

/// A copy of the demo; gives the folder that holds it and the opened project.
fn demo() -> (TempDir, Project) {
    let folder = tempfile::tempdir().expect("a folder");
    support::copy(&Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo"), folder.path());
    let project = Project::open(&folder.path().join("put-right")).expect("a project");
    (folder, project)
}

fn again(project: &Project) -> Project {
    Project::open(&project.folder).map(Project::with_cache).expect("a project")
}

/// All that has the words.
fn found(project: &Project, words: &str) -> String {
    let (stack, schema) = (&project.stack, &project.schema);
    format!("{:#?}", search(View::top(stack, schema), &[words.to_owned()], false, usize::MAX))
}

/// All that is told of a record, and all that has its key.
fn told(project: &Project, address: &str) -> String {
    let (stack, schema) = (&project.stack, &project.schema);
    let found = match resolve(View::top(stack, schema), address) {
        Ok(found) => found,
        Err(error) => return format!("{error}: {:?}", error.help()),
    };
    let found_of_key = self::found(project, &found.key);
    let details = details(View::top(stack, schema), &found).expect("details");
    let path = &stack.files()[found.places[0].file].path;
    let things = things_of(schema, found.table, &found.key, path, |_| None);
    let uses = find_uses(View::top(stack, schema), &things).expect("uses");
    let names = details.fields.iter().map(|field| field.name.clone()).collect();
    let mut usual: Vec<_> =
        usual(View::top(stack, schema), found.table, &names).expect("typical-values").into_iter().collect();
    usual.sort_by(|a, b| a.0.cmp(&b.0));
    format!("{details:?}\n{uses:?}\n{usual:?}\n{found_of_key}")
}

/// The addresses of all records.
fn addresses(project: &Project) -> Vec<String> {
    let (stack, schema) = (&project.stack, &project.schema);
    let no_checks = stitching_core::tables::Finders::none(schema);
    let index = Index::build(View::top(stack, schema), &no_checks, &Default::default());
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

/// Large files of every kind that has texts in more than one form.
fn of_many_forms() -> (TempDir, Project) {
    let mut bundle = String::from(
        r##"=== schema.toml
[table.boats]
files = "boats.json"
format = { kind = "json", records = "$.boats[*]" }
key = "Boat"
[table.crews]
files = "crews.xml"
format = { kind = "xml", records = "/Crews/Crew" }
key = "@Name"
[table.docks]
files = "docks*.txt"
format = { kind = "delimited" }
key = "Dock"
"##,
    );
    let mut add = |path: &str, content: String| bundle += &format!("=== {path}\n{content}");
    // One escape far from all others, one that hides a letter of what is looked for.
    let boat = |at: usize| match at {
        700 => "{ \"Boat\": \"peat_b\\u0061rge\", \"Note\": \"far down\" }".to_owned(),
        _ => format!("{{ \"Boat\": \"barge_{at}\", \"Note\": \"a plain note of {at} words\" }}"),
    };
    let boats: Vec<String> = (0..1000).map(boat).collect();
    add("game/boats.json", format!("{{ \"boats\": [\n{}\n] }}\n", boats.join(",\n")));
    let crew = |at: usize| format!("<Crew Name=\"crew_{at}\"><Saying>salt &amp; tar {at}</Saying></Crew>\n");
    add("game/crews.xml", format!("<Crews>\n{}</Crews>\n", (0..500).map(crew).collect::<String>()));
    let dock = |at: usize| format!("dock_{at}\tbollard {}\n", at % 7);
    let docks: String = (0..2000).map(dock).collect();
    add("game/docks_far.txt", format!("Dock\tHas\n{docks}dock_K\t\u{212a}edge anchor, lo\u{17f}t\n"));
    add("mod/docks_wide.txt in=utf-16le", format!("Dock\tHas\nwide_dock\tquay crane\n{docks}"));
    add("mod/notes.txt crlf", format!("{}a lantern in the fog\n", "nothing to see here\n".repeat(1500)));
    let folder = support::write(&bundle);
    let project = Project::open(folder.path()).expect("a project");
    (folder, project)
}

#[rstest]
// With how many places there are at least.
#[case::key("barge_999", 1)]
#[case::key_in_another_case("BARGE_999", 1)]
#[case::part_of_many("barge_99", 11)]
#[case::behind_an_escape("peat_barge", 1)]
#[case::with_an_escape_between("salt & tar 17", 1)]
#[case::two_words("bollard dock_1999", 1)]
#[case::for_kelvin("kedge anchor", 1)]
#[case::for_a_long_s("dock_k", 1)]
#[case::wide_characters("quay crane", 1)]
#[case::at_the_end_of_a_file_of_no_table("lantern", 1)]
#[case::too_short_to_be_kept("fog", 1)]
#[case::not_there("frost_cutter", 0)]
fn words_are_found_the_same_with_and_without(#[case] words: &str, #[case] least: usize) {
    let (_folder, project) = of_many_forms();
    let expected = found(&project, words);
    assert!(expected.matches("matched:").count() >= least, "{expected}");
    assert_eq!(expected.contains("matched:"), least > 0, "{expected}");
    for _ in 0..2 {
        assert_eq!(found(&again(&project), words), expected);
    }
}

#[rstest]
fn usual_values_are_not_counted_again() {
    let (_folder, project) = demo();
    // Of these two tables one draws on the files of the other.
    let asked = ["goods:coal", "wharves:north", "offers:\"north/coal\""];
    asked.iter().for_each(|address| drop(told(&again(&project), address)));
    let kept = || fs::read(project.folder.join(".stitching/cache/typical-values")).expect("a cache");
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
    // Found by its text too, where it stood before and where it stands now.
    let (_other, large) = of_many_forms();
    assert!(found(&again(&large), "lantern").contains("Line"));
    let notes = large.folder.join("mod/notes.txt");
    let before = fs::metadata(&notes).expect("a file").modified().expect("a time");
    fs::write(&notes, fs::read_to_string(&notes).expect("a text").replace("lantern", "bugle x"))
        .expect("written");
    fs::File::options().write(true).open(&notes).and_then(|file| file.set_modified(before)).expect("set");
    assert!(!found(&again(&large), "lantern").contains("Line"));
    assert!(found(&again(&large), "bugle").contains("Line"));
    // New files, and files that are gone.
    fs::remove_file(project.folder.join("mod/scripts/convoys_frost.hold")).expect("removed");
    fs::write(project.folder.join("mod/scripts/convoys_new.hold"), "convoy new_one {\n  crew sledge\n}\n")
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
    let damage = |project: &Project, name: &str| {
        let file = project.folder.join(".stitching/cache").join(name);
        let mut bytes = fs::read(&file).expect("a cache");
        damage(&mut bytes);
        fs::write(&file, bytes).expect("written");
    };
    let (_other, large) = of_many_forms();
    found(&again(&large), "barge_999");
    damage(&large, "signatures");
    for words in ["barge_999", "peat_barge", "lantern"] {
        assert_eq!(found(&again(&large), words), found(&large, words));
    }
    let (_folder, project) = demo();
    told(&again(&project), "goods:coal");
    damage(&project, "links");
    damage(&project, "typical-values");
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
