//! Changes made one after another as one: the same bytes as if each were written before the next, undone as one.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::collections::BTreeMap;
use stitching_core::changes::{
    AddRequest, Change, ChangeSet, CopyRequest, Join, OnConflict, RemoveRequest, Sequence, SetRequest, Step,
    add, apply, copy, remove, rename, set, switch_off, verify,
};
use stitching_core::journal::{ChangedSince, FileStates};
use stitching_core::reading::View;
use stitching_core::{Error, Project};

const BUNDLE: &str = r#"=== schema.toml
[table.reaches]
files = "reaches.txt"
format = { kind = "delimited" }
key = "Reach"
[table.reaches.fields]
Above  = { ref = "reaches", none = "-" }
Layout = { file = "layouts/{}.json", follows = "{key}" }
[table.layouts]
files = "layouts/*.json"
format = { kind = "json", records = "$" }
key = "{stem}"
[table.layouts.fields]
reach = { ref = "reaches", follows = "{key}" }
[table.offers]
files = "offers.xml"
format = { kind = "xml", records = "/offers/offer" }
key = "@at"
[table.offers.fields]
"@at" = { ref = "reaches" }
=== game/offers.xml
<offers>
  <offer at="mill" factor="2.0"/>
</offers>
=== game/layouts/mill.json
{ "reach": "mill", "crane": true }
=== game/reaches.txt
Reach	Above	Layout
mill	-	mill
=== mod/reaches.txt
Reach	Above	Layout
mill	-	mill
frost	mill	frost
ice	frost	ice
=== mod/layouts/frost.json
{ "reach": "frost", "crane": false }
=== mod/layouts/ice.json
{ "reach": "ice", "crane": false }
"#;

/// One step: `set WORDS`, `add TABLE WORDS`, `copy ADDRESS KEY`, `rename ADDRESS KEY`, `remove ADDRESS` or `off ADDRESS`.
fn step(project: &Project, step: &str) -> Result<Change, Error> {
    let words: Vec<String> = step.split(' ').map(str::to_owned).collect();
    match &words[..] {
        [verb, rest @ ..] if verb == "set" => {
            set(project, &SetRequest { arguments: rest.to_vec(), ..SetRequest::default() })
        }
        [verb, table, key, rest @ ..] if verb == "add" => add(
            project,
            &AddRequest {
                table: table.clone(),
                keys: vec![key.clone()],
                values: rest.to_vec(),
                ..AddRequest::default()
            },
        ),
        [verb, address, new] if verb == "copy" => copy(
            project,
            &CopyRequest {
                address: address.clone(),
                new: new.clone(),
                join: Join::None,
                ..CopyRequest::default()
            },
        ),
        [verb, address, new] if verb == "rename" => rename(project, address, new),
        [verb, address] if verb == "remove" => {
            remove(project, &RemoveRequest { addresses: vec![address.clone()], ..RemoveRequest::default() })
        }
        [verb, address] if verb == "off" => switch_off(project, address),
        _ => panic!("no step: {step}"),
    }
}

#[rstest]
#[case::the_same_file_twice(&["set reaches:frost.Above=-", "set reaches:ice.Above=mill"])]
#[case::the_same_value_twice(&["set reaches:frost.Above=-", "set reaches:frost.Above=ice"])]
#[case::there_and_back(&["set reaches:frost.Above=-", "set reaches:frost.Above=mill", "set reaches:ice.Above=-"])]
#[case::what_was_added(&["add reaches new Layout=ice Above=ice", "set reaches:new.Above=frost"])]
#[case::what_was_added_goes(&["add reaches new Layout=ice Above=ice", "remove reaches:new", "set reaches:ice.Above=-"])]
#[case::a_chain_of_names(&["rename reaches:ice snow", "rename reaches:frost ice2", "rename reaches:snow rime"])]
#[case::a_moved_file_is_edited(&["rename reaches:ice snow", "set layouts:snow.crane=true"])]
#[case::an_edited_file_is_moved(&["set layouts:ice.crane=true", "rename reaches:ice snow"])]
#[case::moved_there_and_back(&["rename reaches:ice snow", "rename reaches:snow ice", "set layouts:ice.crane=true"])]
#[case::a_copy_is_edited(&["copy reaches:frost rime", "set layouts:rime.crane=true"])]
#[case::a_copy_is_copied(&["copy reaches:frost rime", "copy reaches:rime hoar", "set layouts:frost.crane=true"])]
#[case::a_copy_is_moved(&["copy reaches:frost rime", "rename reaches:rime hoar"])]
#[case::a_copy_goes(&["copy reaches:frost rime", "remove reaches:rime", "set layouts:frost.crane=true"])]
#[case::of_the_base(&["set layouts:mill.crane=false", "set offers:mill.@factor=3", "set layouts:mill.crane=true"])]
#[case::a_copy_of_the_base(&["copy reaches:mill weir", "set layouts:weir.crane=false", "rename reaches:weir dam"])]
#[case::an_edited_file_goes(&["set layouts:ice.crane=true", "remove reaches:ice"])]
#[case::a_moved_file_goes(&["rename reaches:ice snow", "remove reaches:snow"])]
#[case::switched_off_in_between(&["set layouts:ice.crane=true", "off layouts:ice.reach", "set reaches:ice.Above=mill"])]
fn steps_at_once_are_the_steps_one_by_one(#[case] steps: &[&str]) {
    let apart = support::write(BUNDLE);
    for words in steps {
        let project = support::open(&apart);
        let change = step(&project, words).unwrap_or_else(|error| panic!("{words}: {error}"));
        support::journal(&project.folder).commit(&project.stack, &change).expect("it is written");
    }
    let at_once = support::write(BUNDLE);
    let before = support::tree(at_once.path());
    let project = support::open(&at_once);
    let mut sequence = Sequence::new(&project, "all of it");
    for words in steps {
        let change = step(sequence.project(), words).expect("as before");
        sequence.push(change).unwrap_or_else(|error| panic!("{words}: {error}"));
    }
    let change = sequence.finish();
    support::journal(&project.folder).commit(&project.stack, &change).expect("it is written");
    let written = |folder: &std::path::Path| {
        let mut tree = support::tree(folder);
        tree.retain(|path, _| !path.starts_with(".stitching"));
        tree
    };
    assert_eq!(written(at_once.path()), written(apart.path()));
    support::journal(&project.folder).undo(ChangedSince::Refuse).expect("it is undone");
    assert_eq!(support::tree(at_once.path()), before, "undone to the byte");
}

#[rstest]
#[case::a_name_that_was_left(&["rename reaches:ice snow", "rename reaches:frost ice"])]
#[case::a_file_that_was_removed(&["remove reaches:ice", "copy reaches:frost ice"])]
fn a_file_in_the_place_of_one_that_went_is_refused(#[case] steps: &[&str]) {
    let folder = support::write(BUNDLE);
    let project = support::open(&folder);
    let mut sequence = Sequence::new(&project, "all of it");
    let mut result = Ok(());
    for words in steps {
        let change = step(sequence.project(), words).expect("it can be built");
        result = sequence.push(change);
    }
    let error = result.expect_err("refused").to_string();
    assert!(error.contains("`layouts/ice.json` would be taken away and made again in one act"), "{error}");
}

/// The files of the mod, with `states` in place of what is on the disk.
fn mod_files(folder: &std::path::Path, states: &FileStates) -> BTreeMap<String, Vec<u8>> {
    let mut tree: BTreeMap<String, Vec<u8>> = support::tree(folder)
        .into_iter()
        .filter_map(|(path, bytes)| Some((path.strip_prefix("mod/")?.to_owned(), bytes)))
        .collect();
    for (path, bytes) in states {
        match bytes {
            Some(bytes) => drop(tree.insert(path.to_string(), bytes.to_vec())),
            None => drop(tree.remove(path.as_str())),
        }
    }
    tree
}

#[rstest]
fn the_history_knows_what_was_before_and_after_each_change() {
    let steps = [
        "set reaches:frost.Above=-",
        "copy reaches:frost rime",
        "rename reaches:ice snow",
        "set layouts:snow.crane=true",
        "remove reaches:rime",
        "rename reaches:snow ice",
        "off layouts:ice.reach",
        "set layouts:mill.crane=false",
        "add reaches new Layout=ice Above=ice",
    ];
    let folder = support::write(BUNDLE);
    let mut trees = vec![mod_files(folder.path(), &FileStates::new())];
    for words in steps {
        let project = support::open(&folder);
        let change = step(&project, words).unwrap_or_else(|error| panic!("{words}: {error}"));
        support::journal(&project.folder).commit(&project.stack, &change).expect("it is written");
        trees.push(mod_files(folder.path(), &FileStates::new()));
    }
    for (at, words) in steps.iter().enumerate() {
        let states = support::journal(folder.path()).states(at + 1).expect("it is known");
        assert_eq!(mod_files(folder.path(), &states.before), trees[at], "before {words}");
        assert_eq!(mod_files(folder.path(), &states.after), trees[at + 1], "after {words}");
    }
    let unknown = support::journal(folder.path()).states(steps.len() + 1).expect_err("there is none");
    assert_eq!(unknown.to_string(), "there is no change 10 in force; the last one is 9");
    // What was changed by something else since is told.
    std::fs::write(folder.path().join("mod/reaches.txt"), "Reach\tAbove\tLayout\n").expect("written");
    let changed = support::journal(folder.path()).states(1).expect_err("it was changed");
    assert!(matches!(changed, Error::ChangedSince { .. }), "{changed}");
}

#[rstest]
#[case::values(&["set reaches:frost.Above=-", "set layouts:ice.crane=true"])]
#[case::a_record_with_its_file(&["copy reaches:frost rime", "set layouts:rime.crane=true"])]
#[case::a_name(&["rename reaches:ice snow"])]
#[case::a_name_and_a_value(&["rename reaches:ice snow", "set reaches:snow.Above=mill"])]
#[case::a_removal(&["remove reaches:ice"])]
#[case::several_names(&["rename reaches:ice snow", "rename reaches:frost rime"])]
#[case::of_the_base(&["set layouts:mill.crane=false", "set offers:mill.@factor=3"])]
fn a_change_set_makes_the_same_change_elsewhere_and_back(#[case] steps: &[&str]) {
    let (here, there) = (support::write(BUNDLE), support::write(BUNDLE));
    let project = support::open(&here);
    let mut sequence = Sequence::new(&project, "all of it");
    for words in steps {
        let words: Vec<String> = words.split(' ').map(str::to_owned).collect();
        let request = match &words[..] {
            [verb, address, new] if verb == "rename" => {
                Step::Rename { address: address.clone(), new: new.clone(), notes: false, also: Vec::new() }
                    .build(sequence.project())
            }
            _ => step(sequence.project(), &words.join(" ")),
        };
        sequence.push(request.expect("it can be built")).expect("they fit");
    }
    let change = sequence.finish();
    support::journal(&project.folder).commit(&project.stack, &change).expect("it is written");
    let states = support::journal(here.path()).states(1).expect("it is known");
    let project = support::open(&here);
    let (before, after) =
        (project.stack.with_staged(&states.before), project.stack.with_staged(&states.after));
    let (before, after) = (View::top(&before, &project.schema), View::top(&after, &project.schema));
    let set = ChangeSet::between("all of it", change.steps(), before, after).expect("it can be read");
    let read = ChangeSet::parse("a.toml", &set.to_text()).expect("it is as it was written");
    assert_eq!(read, set);
    // There: the same records; and back: those from before.
    let rows = |folder: &tempfile::TempDir| {
        let project = support::open(folder);
        let difference = stitching_core::views::difference(project.view().until(0), project.view(), &[]);
        let tables = difference.expect("it can be read").tables.into_iter();
        let mut lines: Vec<String> = tables
            .flat_map(|table| table.records)
            .map(|own| format!("{:?} {} {:?}", own.how, own.key, own.fields))
            .collect();
        lines.sort();
        lines
    };
    let untouched = rows(&there);
    let project = support::open(&there);
    let applied = apply(&project, &read, "there", OnConflict::Refuse).expect("it fits");
    verify(&project, &applied).expect("nothing is wrong");
    support::journal(&project.folder).commit(&project.stack, &applied).expect("it is written");
    assert_eq!(rows(&there), rows(&here));
    let project = support::open(&there);
    assert!(
        matches!(apply(&project, &read, "again", OnConflict::Refuse), Err(Error::NothingToDo { .. })),
        "it is so already"
    );
    let back = apply(&project, &read.reversed(), "back", OnConflict::Refuse).expect("it fits");
    support::journal(&project.folder).commit(&project.stack, &back).expect("it is written");
    assert_eq!(rows(&there), untouched);
}
