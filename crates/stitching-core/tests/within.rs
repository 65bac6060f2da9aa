//! Names that are valid only within a file or a parent: seen by checks, uses, trees and expressions alike.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::{fixture, rstest};
use stitching_core::Project;
use stitching_core::checks::problems;
use stitching_core::links::{Labels, find_uses, resolve, things_of};
use stitching_core::reading::View;
use stitching_core::reading::load;
use stitching_core::rows::Others;
use stitching_core::views::{Direction, Graph, Query, QueryResult};
use tempfile::TempDir;

const BUNDLE: &str = r##"=== schema.toml
[table.layouts]
files = "layouts/*.json"
format = { kind = "json", records = "$" }
key = "{stem}"
[table.objects]
files = "layouts/*.json"
format = { kind = "json", records = "$.objects[*]" }
key = ["{stem}", "id"]
[table.objects.fields]
fixed_to = { ref = "objects", with = ["{stem}", "{}"] }
[table.calls]
files = "calls.txt"
format = { kind = "delimited" }
key = "Call"
[table.calls.fields]
Layout = { ref = "layouts" }
At = { ref = "objects", with = ["Layout", "{}"] }
[table.notes]
files = "notes/*.ini"
format = { kind = "ini" }
key = ["{path}", "{section}"]
[table.notes.fields]
after = { ref = "notes", with = ["{path}", "{}"] }
=== mod/layouts/quay.json
{ "objects": [
  { "id": "lamp", "height": 4 },
  { "id": "rope", "height": 1, "fixed_to": "lamp" }
] }
=== mod/layouts/yard.json
{ "objects": [
  { "id": "lamp", "height": 9 },
  { "id": "rope", "height": 1, "fixed_to": "lamp" },
  { "id": "saw", "height": 2, "fixed_to": "lamp" }
] }
=== mod/calls.txt
Call	Layout	At
c1	quay	lamp
c2	yard	lamp
=== mod/notes/a.ini
[one]
text = first
[two]
after = one
=== mod/notes/b.ini
[two]
after = three
[three]
text = last
"##;

#[fixture]
fn project() -> (TempDir, Project) {
    support::project(BUNDLE)
}

#[rstest]
fn nothing_is_wrong_with_them(project: (TempDir, Project)) {
    let found: Vec<String> = problems(&project.1.stack, &project.1.schema)
        .into_iter()
        .map(|own| format!("{} {}", own.place.path, own.message))
        .collect();
    assert_eq!(found, Vec::<String>::new());
}

#[rstest]
#[case("objects:quay/lamp", &["calls.txt:2", "layouts/quay.json:3"])]
#[case("objects:yard/lamp", &["calls.txt:3", "layouts/yard.json:3", "layouts/yard.json:4"])]
#[case("objects:quay/rope", &[])]
#[case("notes:\"notes/a.ini/one\"", &["notes/a.ini:4"])]
#[case("notes:\"notes/b.ini/three\"", &["notes/b.ini:2"])]
fn only_their_own_parent_is_used(
    #[case] address: &str,
    #[case] expected: &[&str],
    project: (TempDir, Project),
) {
    let (stack, schema) = (&project.1.stack, &project.1.schema);
    let found = resolve(View::top(stack, schema), address).expect("a record");
    let path = &stack.files()[found.places[0].file].path;
    let things = things_of(schema, found.table, &found.key, path, |_| None);
    // The file that a record stands in is a record of its own, and is not meant.
    let uses = find_uses(View::top(stack, schema), &things[..1]).expect("uses");
    let place = |file, span| {
        let place = load(stack, file).expect("a file").place(span);
        format!("{}:{}", place.path, place.line)
    };
    let mut places: Vec<String> = uses.iter().map(|own| place(own.file, own.span)).collect();
    places.sort();
    assert_eq!(places, expected);
}

#[rstest]
fn trees_keep_to_the_parent(project: (TempDir, Project)) {
    let (stack, schema) = (&project.1.stack, &project.1.schema);
    let graph = Graph::read(View::top(stack, schema));
    let found = resolve(View::top(stack, schema), "objects:yard/lamp").expect("a record");
    let node = graph.node(&found).expect("a node");
    assert_eq!(graph.tree(node, Direction::Uses, 2).count, 3);
    assert_eq!(graph.tree(node, Direction::Needs, 2).count, 0);
}

#[rstest]
#[case("objects", "fixed_to.height == 9", "yard/rope yard/saw")]
#[case("objects", "fixed_to.height == 4", "quay/rope")]
#[case("calls", "At.height > 5", "c2")]
#[case("notes", "after.text == \"last\"", "notes/b.ini/two")]
fn expressions_follow_them(
    #[case] table: &str,
    #[case] condition: &str,
    #[case] expected: &str,
    project: (TempDir, Project),
) {
    let (stack, schema) = (&project.1.stack, &project.1.schema);
    let labels = Labels::read(View::top(stack, schema));
    let others = Others::new(View::top(stack, schema), &labels);
    let rows = others.rows(schema.table(table).expect("a table")).expect("rows");
    let request =
        Query { columns: vec!["key".to_owned()], condition: Some(condition.to_owned()), ..Query::default() };
    let found = QueryResult::of(&rows, &request, &others).expect("a sheet");
    let keys: Vec<String> = found.lines.iter().map(|line| line.cells[0].shown()).collect();
    assert_eq!(keys.join(" "), expected);
}

#[rstest]
#[case::in_another_file(
    "\"fixed_to\": \"lamp\" }\n] }\n=== mod/layouts/yard",
    "\"fixed_to\": \"saw\" }\n] }\n=== mod/layouts/yard",
    "there is no `quay/saw` in `objects` | `saw` is there as `yard/saw`"
)]
#[case::by_a_field(
    "c1\tquay\tlamp",
    "c1\tquay\tsaw",
    "there is no `quay/saw` in `objects` | `saw` is there as `yard/saw`"
)]
#[case::misspelt(
    "c1\tquay\tlamp",
    "c1\tquay\tlamb",
    "there is no `quay/lamb` in `objects` | did you mean `quay/lamp`?"
)]
#[case::nowhere("c1\tquay\tlamp", "c1\tquay\tanvil", "there is no `quay/anvil` in `objects` | ")]
fn a_name_of_another_parent_is_pointed_out(#[case] text: &str, #[case] put: &str, #[case] expected: &str) {
    assert!(BUNDLE.contains(text));
    let (_folder, project) = support::project(&BUNDLE.replace(text, put));
    let found: Vec<String> = problems(&project.stack, &project.schema)
        .into_iter()
        .map(|own| format!("{} | {}", own.message, own.help.unwrap_or_default().text))
        .collect();
    assert_eq!(found, [expected]);
}
