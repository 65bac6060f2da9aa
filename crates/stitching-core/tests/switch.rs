//! Switching off and on: everything that can be off comes back to the byte, also after edits around it,
//! and is known while it is off.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fs;
use std::path::Path;
use stitching_core::Code;
use stitching_core::changes::{Change, switch_off, switch_on};
use stitching_core::checks::check;
use stitching_core::journal::ChangedSince;
use stitching_core::links::{Address, switched};
use stitching_core::tables::read_all;
use stitching_core::{Error, Project};
use tempfile::TempDir;

fn commit(project: &Project, change: &Change) {
    support::journal(&project.folder).commit(&project.stack, change).expect("it is written");
}

fn do_it(folder: &TempDir, build: impl Fn(&Project) -> Result<Change, Error>) {
    let project = support::open(folder);
    let change = build(&project).unwrap_or_else(|error| panic!("{error}"));
    commit(&project, &change);
}

const GAME: &str = r##"=== schema.toml
[table.offers]
files = "wharf.xml"
format = { kind = "xml", records = "//offer" }
key = "@good"
[table.offers.fields]
note = {}
[table.barges]
files = "barges.ini"
format = { kind = "ini", goes_on = "indent" }
key = "{section}"
[table.barges.fields]
crew = { ref = "crews" }
needs = { list = "," }
[table.crews]
files = "crews.txt"
format = { kind = "delimited", comment = "#" }
key = "Crew"
[table.goods]
files = "goods.txt"
format = { kind = "delimited" }
key = "Good"
[table.goods.fields]
Price = {}
[table.convoys]
files = "convoys.hold"
format = { kind = "blocks", records = "*" }
key = "{name}"
[table.convoys.fields]
crew = { ref = "crews" }
"cargo" = {}
[table.layouts]
files = "layouts/*.json"
format = { kind = "json", records = "$" }
key = "{stem}"
[table.layouts.fields]
"needs[*]" = {}
wind = {}
[table.moods]
files = "moods.json"
format = { kind = "json", records = "$[*]", comments = true }
key = "id"
[table.moods.fields]
id = {}
[table.texts]
files = "text/{lang}.po"
format = { kind = "po" }
key = "msgid"
texts = "msgstr"
=== mod/wharf.xml crlf
<wharf>
  <offer good="coal"><note>a -- b ~ <!-- kept ---> </note></offer>
  <offer good="peat"/><offer good="salt"/>
</wharf>
=== mod/barges.ini bom
[scow]
; who pulls ;off it
crew = tow
needs = a,
        b
hold = 3

[punt]
crew = tow
=== mod/crews.txt
Crew	Wage
tow	3
# a note
pole	4
=== mod/goods.txt crlf
Good	Price
coal	4
peat	3
salt	9
=== mod/convoys.hold
fleet = {
    crew = tow   # pulls
    cargo = { coal "sea salt" peat }
    legs = {
        # } not closed
        leg = { to = weir }
    }
}
mail = { crew = pole }
=== mod/layouts/mill.json
{
  "needs": ["lamp", "crane", "shed"],
  "wind": 3,
  "last": {"a": [1, 2]}
}
=== mod/moods.json
[
  {"id": "calm"}, // */ tricky
  {"id": "glad"},
  {"id": "sad"}
]
=== mod/text/en.po
msgid "one"
msgstr "One"
"more"

msgid "two"
msgstr "Two"
=== mod/text/de.po
msgid "one"
msgstr "Eins"
"##;

#[rstest]
#[case::element("offers:coal", "wharf.xml")]
#[case::one_of_two_on_a_line("offers:salt", "wharf.xml")]
#[case::child("offers:coal.note", "wharf.xml")]
#[case::section("barges:scow", "barges.ini")]
#[case::key("barges:scow.crew", "barges.ini")]
#[case::key_over_lines("barges:scow.needs", "barges.ini")]
#[case::row("crews:tow", "crews.txt")]
#[case::row_without_notes("goods:peat", "goods.txt")]
#[case::last_row_without_notes("goods:salt", "goods.txt")]
#[case::block("convoys:fleet", "convoys.hold")]
#[case::block_on_a_line("convoys:mail", "convoys.hold")]
#[case::entry("convoys:fleet.crew", "convoys.hold")]
#[case::word("convoys:fleet.cargo=sea salt", "convoys.hold")]
#[case::first_item("layouts:mill.needs[*]=lamp", "layouts/mill.json")]
#[case::last_item("layouts:mill.needs[*]=shed", "layouts/mill.json")]
#[case::member("layouts:mill.wind", "layouts/mill.json")]
#[case::object_with_notes("moods:glad", "moods.json")]
#[case::first_object("moods:calm", "moods.json")]
#[case::last_object("moods:sad", "moods.json")]
#[case::texts("texts:one", "text/en.po")]
#[case::line("barges.ini:3", "barges.ini")]
fn off_and_on_again(#[case] address: &str, #[case] path: &str) {
    let folder = support::write(GAME);
    let before = support::tree(folder.path());
    let file = folder.path().join("mod").join(path);
    let original = fs::read(&file).expect("the file");
    do_it(&folder, |project| switch_off(project, address));
    let off = fs::read(&file).expect("the file");
    assert_ne!(off, original);
    let project = support::open(&folder);
    let all = switched(&project.stack, &project.schema);
    assert!(!all.is_empty(), "it is listed");
    let report = check(project.view());
    assert_eq!(report.summary.off, all.len());
    let faults = report
        .problems
        .iter()
        .filter(|problem| [Code::SYNTAX_ERROR, Code::NOT_STRICT_JSON].contains(&problem.code));
    assert_eq!(support::lines(&faults.cloned().collect::<Vec<_>>()), [""; 0]);
    let listed = all[0].address(&project.schema).unwrap_or_else(|| format!("{path}:{}", all[0].place.line));

    // As it is, and with something else added at the end of the file meanwhile.
    do_it(&folder, |project| switch_on(project, &listed));
    assert_eq!(
        String::from_utf8_lossy(&fs::read(&file).expect("the file")),
        String::from_utf8_lossy(&original)
    );
    let journal = support::journal(folder.path());
    journal.undo(ChangedSince::Refuse).expect("undone");
    assert_eq!(fs::read(&file).expect("the file"), off, "undone to the byte");
    let added = b"\n \n";
    fs::write(&file, [&off[..], added].concat()).expect("written");
    do_it(&folder, |project| switch_on(project, &listed));
    let restored = fs::read(&file).expect("the file");
    assert_eq!(String::from_utf8_lossy(&restored), String::from_utf8_lossy(&[&original[..], added].concat()));
    fs::write(&file, &original).expect("written");
    assert_eq!(support::tree(folder.path()), before, "no other file was touched");
}

#[rstest]
fn a_reference_to_what_is_off_says_so() {
    let folder = support::write(GAME);
    do_it(&folder, |project| switch_off(project, "crews:tow"));
    let project = support::open(&folder);
    let report = check(project.view());
    let dangling: Vec<_> =
        report.problems.iter().filter(|problem| problem.code == Code::DANGLING_REFERENCE).collect();
    assert_eq!(dangling.len(), 3);
    for problem in dangling {
        let help = problem.help.as_ref().map(support::help_text).unwrap_or_default();
        assert_eq!(help, "it is switched off, at crews.txt:2 [SwitchOn(\"crews:tow\")]");
    }
}

#[rstest]
#[case("goods:coal.Price", "cannot be switched off without its record")]
#[case("barges:scow.needs=c", "has no item `c`")]
#[case("barges:nobody", "there is no record")]
#[case("wharf.xml:2", "no syntax that makes a line a note")]
#[case("barges.ini:99", "there is no line")]
fn what_cannot_be_off_is_refused(#[case] address: &str, #[case] says: &str) {
    let folder = support::write(GAME);
    let error = switch_off(&support::open(&folder), address).expect_err("refused");
    assert!(error.to_string().contains(says), "{error}");
}

#[rstest]
fn what_is_not_off_cannot_be_switched_on() {
    let folder = support::write(GAME);
    do_it(&folder, |project| switch_off(project, "crews:tow"));
    let error = switch_on(&support::open(&folder), "crews:tvw").expect_err("refused");
    assert_eq!(error.to_string(), "there is no switched off entry `crews:tvw`");
    assert!(error.help().unwrap_or_default().text.contains("did you mean `crews:tow`?"));
}

/// A record of each table of the demo's mod: off and on again gives the same bytes.
#[rstest]
fn the_demo_comes_back() {
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/put-right");
    let project = Project::open(&demo).expect("the demo");
    let mut tried = 0;
    for file in project.stack.effective(project.stack.top()) {
        let entry = &project.stack.files()[file];
        if !project.stack.layers()[entry.layer].is_mod {
            continue;
        }
        for table in project.schema.tables.iter().filter(|table| table.takes(&entry.path)) {
            let mut before = Vec::new();
            project.stack.read(file, &mut before).expect("the file");
            let records = stitching_core::reading::with_text(&project.stack, file, |text| {
                read_all(table, &entry.path, text)
            });
            for record in records.expect("records").into_iter().step_by(7).take(3) {
                let address = Address::show(&table.name, &record.key.expect("a key"));
                let Ok(change) = switch_off(&project, &address) else { continue };
                let own =
                    change.files().iter().find(|own| own.source().file() == Some(file)).expect("the file");
                // A whole file that is taken out is kept by the project on disk, which there is none of here.
                if own.to().is_none() {
                    continue;
                }
                let staged = change.applied_to(&project.stack);
                let kept = match change.own().first() {
                    Some(own) => {
                        serde_json::from_slice(own.after.as_ref().expect("it stays")).expect("what is kept")
                    }
                    None => Vec::new(),
                };
                let after = Project {
                    folder: demo.clone(),
                    name: String::new(),
                    schema_files: Vec::new(),
                    description: String::new(),
                    stack: staged.with_kept(kept),
                    schema: stitching_schema(&demo),
                };
                let back = switch_on(&after, &address).unwrap_or_else(|error| panic!("{address}: {error}"));
                let restored = back.files().iter().find(|other| other.to() == own.to()).expect("the file");
                assert_eq!(**restored.after(), before, "{address}");
                tried += 1;
            }
        }
    }
    assert!(tried > 20, "{tried}");
}

fn stitching_schema(demo: &Path) -> stitching_core::schema::Schema {
    Project::open(demo).expect("the demo").schema
}

/// What stands in a tag or a head goes only with its record; nothing around it goes instead.
#[rstest]
#[case(
    r#"{ kind = "xml", records = "/quay/stall/offer" }"#,
    "@good",
    "@price",
    "<quay><stall><offer good='coal' price='3'/></stall></quay>\n"
)]
#[case(
    r#"{ kind = "blocks", records = "offers/*" }"#,
    "{name}",
    "{label}",
    "offers = {\n  coal big {\n    price = 3\n  }\n}\n"
)]
#[case(r#"{ kind = "delimited" }"#, "good", "price", "good\tprice\ncoal\t3\n")]
fn a_value_that_cannot_be_without_its_record(
    #[case] format: &str,
    #[case] key: &str,
    #[case] field: &str,
    #[case] text: &str,
) {
    let bundle = format!(
        "=== schema.toml\n[table.goods]\nfiles = \"goods\"\nformat = {format}\nkey = \"{key}\"\n[table.goods.fields]\n\"{field}\" = {{}}\n=== mod/goods\n{text}"
    );
    let folder = support::write(&bundle);
    let error = switch_off(&support::open(&folder), &format!("goods:coal.{field}")).expect_err("refused");
    assert!(error.to_string().contains("cannot be switched off without its record"), "{error}");
}

/// A structure within a record is switched off alone.
#[rstest]
fn a_structure_is_switched_off_alone() {
    let bundle = "=== schema.toml\n[table.goods]\nfiles = \"goods\"\nformat = { kind = \"xml\", records = \"/quay/offer\" }\nkey = \"@good\"\n[table.goods.fields]\nat = {}\n=== mod/goods\n<quay>\n  <offer good='coal'><at><x>1</x></at></offer>\n</quay>\n";
    let folder = support::write(bundle);
    let change = switch_off(&support::open(&folder), "goods:coal.at").expect("a change");
    let after = String::from_utf8(change.files()[0].after().to_vec()).expect("text");
    assert!(after.contains("<offer good='coal'><!--~off: <at><x>1</x></at> --></offer>"), "{after}");
}

/// A comma may stand behind notes, and goes with the value that it separates.
#[rstest]
#[case(
    "a",
    "[\n  /*~off: {\"id\": \"a\"} /* one, x *~/, */\n  {\"id\": \"b\"} // two, y\n  , {\"id\": \"c\"} /* z, */\n]\n"
)]
#[case(
    "b",
    "[\n  {\"id\": \"a\"} /* one, x */,\n  /*~off: {\"id\": \"b\"} // two, y\n  , */ {\"id\": \"c\"} /* z, */\n]\n"
)]
#[case(
    "c",
    "[\n  {\"id\": \"a\"} /* one, x */,\n  {\"id\": \"b\"} // two, y\n  /*~off: , {\"id\": \"c\"} */ /* z, */\n]\n"
)]
fn commas_behind_notes(#[case] key: &str, #[case] expected: &str) {
    let bundle = r#"=== schema.toml
[table.moods]
files = "moods.json"
format = { kind = "json", records = "$[*]", comments = true }
key = "id"
=== mod/moods.json
[
  {"id": "a"} /* one, x */,
  {"id": "b"} // two, y
  , {"id": "c"} /* z, */
]
"#;
    let folder = support::write(bundle);
    let before = support::tree(folder.path());
    do_it(&folder, |project| switch_off(project, &format!("moods:{key}")));
    let path = folder.path().join("mod/moods.json");
    assert_eq!(fs::read_to_string(&path).expect("the file"), expected);
    assert!(check(support::open(&folder).view()).problems.is_empty());
    do_it(&folder, |project| switch_on(project, &format!("moods:{key}")));
    assert_eq!(fs::read(&path).expect("the file"), before["mod/moods.json"]);
}
