//! Changes made one after another as one: the same bytes as if each were written before the next, undone as one.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use stitching_core::changes::{
    AddRequest, Change, CopyRequest, Join, RemoveRequest, Sequence, SetRequest, add, copy, remove, rename,
    set, switch_off,
};
use stitching_core::journal::ChangedSince;
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
