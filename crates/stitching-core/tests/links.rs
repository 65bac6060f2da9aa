//! Who uses what, what an address names, what a search finds, and which layer a value comes from.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use stitching_core::checks::finders;
use stitching_core::links::{Address, Index, Labels, Thing, find_table, find_uses, resolve, things_of};
use stitching_core::reading::View;
use stitching_core::reading::{FactsCache, load};
use stitching_core::views::{Matched, Visibility, details, search};
use stitching_core::{Error, Project};
use tempfile::TempDir;

const BUNDLE: &str = r##"=== schema.toml
[table.reaches]
files = "reaches*.txt"
format = { kind = "delimited" }
key = "Reach"
label = "NameKey"
[table.reaches.fields]
Above = { ref = "reaches", none = "-" }
NameKey = { text = "name_{}" }
Layout = { file = "layouts/{}.json", optional = true }
Number = { type = "integer", optional = true }
[table.routes]
files = "routes.csv"
format = { kind = "delimited", delimiter = ";" }
key = "Route"
label = "Title"
[table.routes.fields]
Over = { list = ">", ref = "reaches" }
ByNumber = { ref = "reaches.Number", none = "0" }
Cargo = { list = "|", parts = "{good}:{amount}", good = { ref = "goods" } }
[table.goods]
files = "goods.txt"
format = { kind = "delimited" }
key = "Good"
ignore_case = true
[table.berths]
files = "berths/*.txt"
format = { kind = "delimited" }
key = ["{stem}", "Slot"]
[table.berths.fields]
Reach = { ref = "reaches" }
[table.layouts]
files = "layouts/*.json"
format = { kind = "file" }
key = "{stem}"
[table.objects]
files = "layouts/*.json"
format = { kind = "json", records = "$.objects[*]", comments = true }
key = ["{stem}", "id"]
[table.objects.fields]
"near[*]" = { ref = "reaches" }
[table.texts]
files = "text/{lang}.txt"
format = { kind = "lines", line = '{key} = "{text}"', comment = "#" }
key = "key"
texts = true
=== game/reaches.txt
Reach	Above	NameKey	Layout	Number
old_mill	-	old_mill	old_mill	1
base_only	old_mill	-	-	2
=== mod/reaches.txt
Reach	Above	NameKey	Layout	Number
old_mill	-	old_mill	old_mill	1
frost.cut	old_mill	frost	old_mill	7
=== mod/reaches_more.txt
Reach	Above	NameKey
a:b "c"	frost.cut	none
=== mod/routes.csv
Route;Title;Over;ByNumber;Cargo
r1;"The ""long"" way";old_mill > frost.cut>old_mill;7;Coal:4|COAL:5
r2;"";;0;peat:1
=== game/goods.txt
Good
coal
peat
=== mod/berths/east_wharf.txt
Slot	Reach
1	old_mill
=== game/layouts/old_mill.json
{ "objects": [ // old_mill in a comment
  { "id": "crane", "near": ["old_mill", "fro\u0073t.cut"] } ] }
=== game/text/en.txt
# the old mill stands by the weir
name_old_mill = "Old Mill"
name_frost = "Frostgate Cut"
=== mod/text/de.txt
name_old_mill = "Alte Mühle"
"##;

fn open() -> (TempDir, Project) {
    let folder = support::write(BUNDLE);
    let project = support::open(&folder);
    (folder, project)
}

/// The places that use a record, as `path:line:column`.
fn uses(project: &Project, address: &str) -> Vec<String> {
    let (stack, schema) = (&project.stack, &project.schema);
    let found = resolve(View::top(stack, schema), address).expect("a record");
    let path = &stack.files()[found.places[0].file].path;
    let record = details(View::top(stack, schema), &found).expect("its details");
    let value = |field: usize| {
        let name = &schema.tables[found.table].fields[field].name;
        record.fields.iter().find(|field| field.name == *name).map(|field| field.value.text.clone())
    };
    let things: Vec<Thing> = things_of(schema, found.table, &found.key, path, value);
    let uses = find_uses(View::top(stack, schema), &things).expect("its uses");
    let place = |file: usize, span| load(stack, file).expect("a file").place(span);
    let shown = |one: &stitching_core::links::Use| {
        let place = place(one.file, one.span);
        format!("{}:{}:{}", place.path, place.line, place.column)
    };
    uses.iter().map(shown).collect()
}

#[rstest]
#[case::in_every_format("reaches:old_mill", &["berths/east_wharf.txt:2:3", "layouts/old_mill.json:2:30", "reaches.txt:3:11", "routes.csv:2:23", "routes.csv:2:44"])]
#[case::written_with_an_escape_and_by_number("reaches:\"frost.cut\"", &["layouts/old_mill.json:2:42", "reaches_more.txt:2:9", "routes.csv:2:34", "routes.csv:2:53"])]
#[case::without_regard_to_case("goods:COAL", &["routes.csv:2:55", "routes.csv:2:62"])]
#[case::a_file("layouts:old_mill", &["reaches.txt:2:21", "reaches.txt:3:26"])]
#[case::a_text("texts:name_frost", &["reaches.txt:3:20"])]
#[case::nothing("routes:r1", &[])]
fn uses_are_found(#[case] address: &str, #[case] expected: &[&str]) {
    let (_folder, project) = open();
    assert_eq!(uses(&project, address), expected);
}

#[rstest]
#[case("reaches:old_mill", Some("reaches"), "old_mill", None)]
#[case("frost.cut", None, "frost.cut", None)]
#[case("reaches:\"frost.cut\"", Some("reaches"), "frost.cut", None)]
#[case("reaches:\"frost.cut\".Above", Some("reaches"), "frost.cut", Some("Above"))]
#[case("reaches:\"a:b \"\"c\"\"\"", Some("reaches"), "a:b \"c\"", None)]
fn addresses_are_taken_apart(
    #[case] text: &str,
    #[case] table: Option<&str>,
    #[case] key: &str,
    #[case] field: Option<&str>,
) {
    let address = Address::parse(text).expect("an address");
    assert_eq!(
        (address.table.as_deref(), address.key.as_str(), address.field.as_deref()),
        (table, key, field)
    );
}

#[rstest]
#[case("reaches", "old_mill", "reaches:old_mill")]
#[case("berths", "east wharf\u{1f}1", "berths:\"east wharf/1\"")]
#[case("reaches", "a:b \"c\"", "reaches:\"a:b \"\"c\"\"\"")]
fn addresses_are_quoted_where_they_must_be(#[case] table: &str, #[case] key: &str, #[case] shown: &str) {
    assert_eq!(Address::show(table, key), shown);
}

/// An address as it is shown leads back to the record.
#[rstest]
#[case("reaches:\"frost.cut\"", "frost.cut", None)]
#[case("reaches:frost.cut", "frost.cut", None)]
#[case("reaches:frost.cut.Above", "frost.cut", Some("Above"))]
#[case("frost.cut", "frost.cut", None)]
#[case("reaches:\"a:b \"\"c\"\"\"", "a:b \"c\"", None)]
#[case("berths:east_wharf/1", "east_wharf\u{1f}1", None)]
#[case("berths:\"east_wharf/1\".Reach", "east_wharf\u{1f}1", Some("Reach"))]
#[case("objects:old_mill/crane", "old_mill\u{1f}crane", None)]
#[case("goods:Coal", "coal", None)]
#[case("layouts:old_mill", "old_mill", None)]
fn records_are_found_by_address(#[case] text: &str, #[case] key: &str, #[case] field: Option<&str>) {
    let (_folder, project) = open();
    let found = resolve(project.view(), text).expect("a record");
    let named = found.field.map(|field| project.schema.tables[found.table].fields[field].name.as_str());
    assert_eq!((found.key.as_str(), named), (key, field));
}

#[rstest]
#[case("reeches:old_mill", "table", "did you mean `reaches`?")]
#[case("reaches:old_mil", "record", "`reaches:old_mill`")]
#[case("reaches:base_only", "record", "")]
#[case("reaches:old_mill.Abuve", "field", "Above")]
fn a_miss_names_the_nearest(#[case] text: &str, #[case] kind: &str, #[case] says: &str) {
    let (_folder, project) = open();
    let error = resolve(project.view(), text).expect_err("no such thing");
    let Error::Unknown { what, help, .. } = &error else { panic!("{error}") };
    assert_eq!(*what, kind);
    assert!(help.text.contains(says), "{help:?}");
}

#[rstest]
fn a_key_of_several_tables_must_be_told_apart() {
    let (_folder, project) = open();
    let error = resolve(project.view(), "old_mill").expect_err("two of them");
    assert_eq!(
        error.help().map(|help| help.text).as_deref(),
        Some("say which: reaches:old_mill, layouts:old_mill")
    );
}

/// The base alone has a record that the mod's file took away.
#[rstest]
fn the_stack_can_end_lower() {
    let (_folder, project) = open();
    let game = project.layer("game").expect("a layer");
    let found = resolve(project.view().until(game), "reaches:base_only").expect("it is there");
    assert_eq!(project.layer_name(found.places[0].file), "game");
    let effective = |through| {
        let stack = &project.stack;
        let path = |file: usize| format!("{} {}", project.layer_name(file), stack.files()[file].path);
        stack.effective(through).into_iter().map(path).collect::<Vec<_>>()
    };
    assert_eq!(
        effective(game),
        ["game goods.txt", "game layouts/old_mill.json", "game reaches.txt", "game text/en.txt"]
    );
    assert!(effective(project.stack.top()).contains(&"mod reaches.txt".to_owned()));
    assert!(!effective(project.stack.top()).contains(&"game reaches.txt".to_owned()));
}

#[rstest]
fn details_follow_references_and_texts() {
    let (_folder, project) = open();
    let (stack, schema) = (&project.stack, &project.schema);
    let found = resolve(View::top(stack, schema), "routes:r1").expect("a record");
    let route = details(View::top(stack, schema), &found).expect("its details");
    assert_eq!(route.label.as_deref(), Some("The \"long\" way"));
    let over = route.fields.iter().find(|field| field.name == "Over").expect("the field");
    let names: Vec<_> =
        over.points_to.iter().map(|(_, key, label)| (key.as_str(), label.as_deref())).collect();
    let mill = ("old_mill", Some("Old Mill"));
    assert_eq!(names, [mill, ("frost.cut", Some("Frostgate Cut")), mill]);
    let found = resolve(View::top(stack, schema), "reaches:frost.cut").expect("a record");
    let reach = details(View::top(stack, schema), &found).expect("its details");
    let name = reach.fields.iter().find(|field| field.name == "NameKey").expect("the field");
    assert_eq!(name.texts, [("en".to_owned(), Some("Frostgate Cut".to_owned())), ("de".to_owned(), None)]);
    assert_eq!((name.place.line, name.place.column), (3, 20));
}

/// What a search finds first: address or place, and by what.
#[rstest]
#[case("frost.cut", &[("reaches:frost.cut", "Key")])]
#[case("Old Mill", &[("reaches:old_mill", "Label"), ("layouts:old_mill", "InKey"), ("texts:name_old_mill", "InKey")])]
#[case("alte", &[("texts:name_old_mill", "Text(\"de\")")])]
#[case("weir", &[("texts:name_old_mill", "Comment")])]
#[case("long way", &[("routes:r1", "InLabel")])]
#[case("CRANE", &[("objects:old_mill/crane", "Key")])]
#[case("nothing at all", &[])]
fn searches_rank(#[case] text: &str, #[case] expected: &[(&str, &str)]) {
    let (_folder, project) = open();
    let (stack, schema) = (&project.stack, &project.schema);
    let hits = search(View::top(stack, schema), &[text.to_owned()], false, usize::MAX).hits;
    let shown: Vec<(String, String)> = hits
        .iter()
        .take(expected.len())
        .map(|hit| {
            let address = match (hit.table, &hit.key) {
                (Some(table), Some(key)) => format!("{}:{key}", schema.tables[table].name),
                _ => {
                    let place = load(stack, hit.file).expect("a file").place(hit.span);
                    format!("{}:{}", place.path, place.line)
                }
            };
            (address, format!("{:?}", hit.matched))
        })
        .collect();
    let expected: Vec<(String, String)> =
        expected.iter().map(|(a, b)| ((*a).to_owned(), (*b).to_owned())).collect();
    assert_eq!(shown, expected);
    if expected.is_empty() {
        assert!(hits.is_empty());
    }
}

#[rstest]
fn a_search_sees_what_a_higher_layer_hides() {
    let (_folder, project) = open();
    let hits = search(project.view(), &["base_only".to_owned()], false, 9).hits;
    assert_eq!(hits.len(), 1);
    assert!(hits[0].seen == Visibility::Overridden && hits[0].matched == Matched::Key);
}

#[rstest]
fn the_index_counts_and_finds() {
    let (_folder, project) = open();
    let (stack, schema) = (&project.stack, &project.schema);
    let index = Index::build(View::top(stack, schema), &finders(schema), &FactsCache::default());
    let table = |name: &str| find_table(schema, name).expect("a table");
    assert_eq!(index.tables[table("reaches")].records, 3);
    let found = index.find(table("reaches"), "frost.cut").expect("a record");
    assert_eq!(index.key(found), Some("frost.cut"));
    assert_eq!(index.find(table("reaches"), "base_only"), None, "the mod's file hides it");
    assert_eq!(index.find(table("goods"), "COAL").and_then(|record| index.key(record)), Some("coal"));
    assert_eq!(index.find_all(table("texts"), "name_old_mill").len(), 2, "one in each language");
    assert!(index.tables[table("texts")].duplicates.is_empty());
    let keys: Vec<&str> = index.keys(table("goods")).map(|(_, key)| key).collect();
    assert_eq!(keys, ["coal", "peat"]);
    let keys: Vec<&str> = index.keys(table("goods")).map(|(_, key)| key).collect();
    assert_eq!(stitching_core::text::nearest_of_each(&["coul"], &keys)[0].names, ["coal"]);
}

/// A cache of facts is used for files that did not change, and the result is the same.
#[rstest]
fn facts_are_shared_between_views() {
    let (_folder, project) = open();
    let (stack, schema) = (&project.stack, &project.schema);
    let (checks, cache) = (finders(schema), FactsCache::default());
    let first = Index::build(View::top(stack, schema), &checks, &cache);
    let second = Index::build(View::top(stack, schema), &checks, &cache);
    for (a, b) in first.files.iter().zip(&second.files) {
        assert!(std::sync::Arc::ptr_eq(&a.facts, &b.facts));
    }
    assert_eq!(first.counts(), second.counts());
}

/// A file much larger than a block: places, counts and duplicates are those of the whole file.
#[rstest]
#[case::blocks("")]
#[case::at_once(", quotes = true")]
fn large_files_are_read_in_blocks(#[case] how: &str) {
    let schema = format!(
        "=== schema.toml\n[table.t]\nfiles = \"t.txt\"\nformat = {{ kind = \"delimited\", comment = \"#\"{how} }}\nkey = \"K\"\n[table.t.fields]\nR = {{ ref = \"t\", none = \"-\" }}\nN = {{ type = \"integer\", unique = true }}\n"
    );
    let folder = support::write(&schema);
    let mut text = format!("\u{feff}{}K\tR\tN\r\n", "# a long note before the header\n".repeat(10_000));
    for row in 0..40_000 {
        text.push_str(&match row {
            20_000 => "żółw\tnowhere\t20000\n".to_owned(),
            30_000 => "k7\t-\t30000\n".to_owned(),
            35_000 => "k35000\tk1\t7\n".to_owned(),
            39_998 => "k39998\tk1\tx\n".to_owned(),
            39_999 => "k39999\tk1\t39999\textra".to_owned(),
            _ => format!("k{row}\tk{}\t{row}\n", (row + 1) % 20_000),
        });
    }
    assert!(text.len() > 1_000_000);
    std::fs::write(folder.path().join("mod/t.txt"), &text).expect("written");
    let project = support::open(&folder);
    let report = stitching_core::checks::check(project.view());
    assert_eq!((report.summary.records, report.summary.references), (40_000, 39_999));
    let found: Vec<(&str, usize, usize, Option<&str>)> = report
        .problems
        .iter()
        .map(|problem| {
            (problem.code.as_str(), problem.place.line, problem.place.column, problem.value.as_deref())
        })
        .collect();
    let expected = [
        ("dangling-reference", 30_002, 6, Some("nowhere")),
        ("duplicate-key", 40_002, 1, Some("k7")),
        ("not-unique", 45_002, 11, Some("7")),
        ("column-count", 50_001, 1, None),
        ("wrong-type", 50_000, 11, Some("x")),
    ];
    assert_eq!(found.len(), expected.len(), "{found:?}");
    for one in expected {
        assert!(found.contains(&one), "{one:?} in {found:?}");
    }
    assert!(report.problems[1].related[0].place.line < 11_000, "the first k7 is near the top");
    let start = report.problems[0].place.start as usize;
    assert_eq!(&text[start..start + 7], "nowhere");
}

/// Where the texts of all layers count together, a record is called what the highest says, however it is looked up.
#[rstest]
fn of_several_texts_the_highest_counts() {
    let bundle = r##"=== schema.toml
[table.reaches]
files = "reaches.txt"
format = { kind = "delimited" }
key = "Reach"
label = "Name"
[table.reaches.fields]
Name = { text = true }
Above = { ref = "reaches", optional = true }
[table.texts]
files = "text/{lang}.txt"
format = { kind = "lines", line = '{key} = "{text}"' }
key = "key"
texts = true
layering = "merge"
=== game/reaches.txt
Reach	Name	Above
weir	weir_name	mill
mill	mill_name
=== game/text/en.txt
weir_name = "The weir"
mill_name = "The mill"
=== mod/text/en.txt
mill_name = "The burnt mill"
"##;
    let folder = support::write(bundle);
    let project = support::open(&folder);
    let (stack, schema) = (&project.stack, &project.schema);
    let of = |address: &str| {
        let found = resolve(View::top(stack, schema), address).expect("a record");
        details(View::top(stack, schema), &found).expect("details")
    };
    let mill = of("reaches:mill");
    assert_eq!(mill.label.as_deref(), Some("The burnt mill"));
    let texts: Vec<Option<&str>> =
        mill.fields.iter().flat_map(|field| &field.texts).map(|(_, text)| text.as_deref()).collect();
    assert_eq!(texts, [Some("The burnt mill"), None], "there is none in the other language");
    let weir = of("reaches:weir");
    let above = weir.fields.iter().find(|field| field.name == "Above").expect("a field");
    assert_eq!(above.points_to[0].2.as_deref(), Some("The burnt mill"));
    let table = &schema.tables[weir.table];
    let all = Labels::read(View::top(stack, schema));
    let some = Labels::of_values(View::top(stack, schema), [(weir.table, "mill_name")].into_iter());
    for labels in [all, some] {
        assert_eq!(labels.name(table, "mill_name").as_deref(), Some("The burnt mill"));
    }
}
