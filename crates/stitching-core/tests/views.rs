//! The data as people ask for it: expressions over rows, what differs, what depends on what.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::{fixture, rstest};
use stitching_core::links::{Labels, resolve};
use stitching_core::reading::View;
use stitching_core::rows::Others;
use stitching_core::views::{Direction, Graph, How, Query, QueryResult, TypicalValue, difference, usual};
use stitching_core::{Error, Project};
use tempfile::TempDir;

const BUNDLE: &str = r##"=== schema.toml
[table.boats]
files = "boats.csv"
format = { kind = "delimited", delimiter = ";" }
key = "Boat"
[table.boats.fields]
Crew = { ref = "crews", none = "-" }
Sails = { list = ",", ref = "sails" }
Length = { type = "number" }
Fast = { type = "boolean" }
Code = {}

[table.crews]
files = "crews.csv"
format = { kind = "delimited", delimiter = ";" }
key = "Crew"
fields.Lead = { ref = "crews", none = "-" }

[table.sails]
files = "sails.csv"
format = { kind = "delimited", delimiter = ";" }
key = "Sail"
=== game/boats.csv
Boat;Crew;Sails;Length;Fast;Code;Old name
skiff;tow;main,jib;4.5;yes;007;cockle
punt;-;;6;no;010;
yawl;pole;jib;11;true;123;a yawl
hulk;nobody;main;;0;5;
=== game/crews.csv
Crew;Wage;Lead
tow;4;pole
pole;6;-
=== game/sails.csv
Sail;Area
main;20
jib;8
=== mod/crews.csv
Crew;Wage;Lead
tow;5;pole
pole;6;-
drift;1;tow
"##;

#[fixture]
fn project() -> (TempDir, Project) {
    support::project(BUNDLE)
}

fn sheet(project: &Project, table: &str, request: &Query) -> Result<QueryResult, Error> {
    let (stack, schema) = (&project.stack, &project.schema);
    let labels = Labels::read(View::top(stack, schema));
    let others = Others::new(View::top(stack, schema), &labels);
    let rows = others.rows(schema.table(table).expect("a table"))?;
    QueryResult::of(&rows, request, &others)
}

#[rstest]
#[case("Length > 5", "punt yawl")]
#[case("Length == 6", "punt")]
#[case("!(Length > 5)", "skiff hulk")]
#[case("Length == null", "hulk")]
#[case("Length * 2 + 1 > 10.5", "punt yawl")]
#[case("Length / 0 > 1", "")]
#[case("Fast", "skiff yawl")]
#[case("!Fast", "punt hulk")]
#[case("Code == \"007\"", "skiff")]
#[case("Crew.Wage >= 5", "skiff yawl")]
#[case("Crew.Lead.Wage == 6", "skiff")]
#[case("Crew == \"nobody\" && Crew.Wage == null", "hulk")]
#[case("has(Crew.Wage)", "skiff yawl")]
#[case("\"jib\" in Sails", "skiff yawl")]
#[case("size(Sails) == 0", "punt")]
#[case("Sails.exists(s, s == \"main\")", "skiff hulk")]
#[case("Sails.Area.exists(area, area > 10)", "skiff hulk")]
#[case("row[\"Old name\"] == \"cockle\"", "skiff")]
#[case("row[\"Crew\"].Lead.Wage == 6", "skiff")]
#[case("row['Old name'] in ['cockle', 'a yawl']", "skiff yawl")]
#[case("row.Length > 5", "punt yawl")]
#[case("\"Old name\" in row && Fast", "skiff yawl")]
#[case("[\"tow\"].exists(row, row == Crew)", "skiff")]
#[case("key.matches(\"^.u\")", "punt hulk")]
#[case("Crew in [\"tow\", \"pole\"]", "skiff yawl")]
fn conditions_hold_for(#[case] condition: &str, #[case] expected: &str, project: (TempDir, Project)) {
    let request =
        Query { columns: vec!["key".to_owned()], condition: Some(condition.to_owned()), ..Query::default() };
    let found = sheet(&project.1, "boats", &request).expect("a sheet");
    let keys: Vec<String> = found.lines.iter().map(|line| line.cells[0].shown()).collect();
    assert_eq!(keys.join(" "), expected);
}

/// A list is one also with one item or none, and nothing is no text: neither fails a whole command.
#[rstest]
#[case("size(tools) == 1", "a")]
#[case("size(tools) == 0", "c d")]
#[case("tools.exists(tool, tool == \"saw\")", "a b")]
#[case("name.startsWith(parent.name)", "b")]
#[case("name.endsWith(\"bet\") || name.contains(\"lph\")", "a b")]
#[case("size(name) > 5", "b")]
#[case("name.matches(\"^A\")", "a b")]
#[case("!has(parent.name)", "a c d")]
fn lists_and_nothing_in_conditions(#[case] condition: &str, #[case] expected: &str) {
    let bundle = r#"=== schema.toml
[table.piers]
files = "piers.json"
format = { kind = "json", records = "$[*]" }
key = "id"
fields.parent = { ref = "piers" }
=== mod/piers.json
[
  {"id": "a", "name": "Alpha", "tools": ["saw"]},
  {"id": "b", "name": "Alphabet", "parent": "a", "tools": ["saw", "net"]},
  {"id": "c", "tools": []},
  {"id": "d", "parent": "nobody"}
]
"#;
    let (_folder, project) = support::project(bundle);
    let request =
        Query { columns: vec!["key".to_owned()], condition: Some(condition.to_owned()), ..Query::default() };
    let found = sheet(&project, "piers", &request).expect("a sheet");
    let keys: Vec<String> = found.lines.iter().map(|line| line.cells[0].shown()).collect();
    assert_eq!(keys.join(" "), expected);
}

/// Names in braces are those of the schema; a reference to another field than the key is followed like others.
#[rstest]
#[case("piers", "{section} == \"east\"", "east")]
#[case("piers", "\"{section}\" == \"{section}\" && Depth > 3", "west")]
#[case("piers", "[{section}].map(each, each + '{x}') == ['east{x}']", "east")]
#[case("boats", "At.Depth > 3", "tub")]
#[case("boats", "At.section == \"east\"", "skiff")]
#[case("boats", "row[\"At\"].Depth == 3", "skiff")]
fn names_in_braces_and_references_to_other_fields(
    #[case] table: &str,
    #[case] condition: &str,
    #[case] expected: &str,
) {
    let bundle = r#"=== schema.toml
[table.piers]
files = "piers.ini"
format = { kind = "ini" }
key = "{section}"
fields.Code = { unique = true }
[table.boats]
files = "boats.csv"
format = { kind = "delimited", delimiter = ";" }
key = "Boat"
fields.At = { ref = "piers.Code" }
=== mod/piers.ini
[east]
Code = E
Depth = 3
[west]
Code = W
Depth = 4
=== mod/boats.csv
Boat;At
skiff;E
tub;W
"#;
    let (_folder, project) = support::project(bundle);
    let request =
        Query { columns: vec!["key".to_owned()], condition: Some(condition.to_owned()), ..Query::default() };
    let found = sheet(&project, table, &request).expect("a sheet");
    let keys: Vec<String> = found.lines.iter().map(|line| line.cells[0].shown()).collect();
    assert_eq!(keys.join(" "), expected);
}

#[rstest]
#[case("Lenght > 1", "there is no column `Lenght`")]
#[case("Length >", "it ends too early")]
#[case("Code.x", "`Code` of `boats` refers to no table")]
#[case("Crew.Wags > 1", "there is no column `Wags`")]
#[case("Code < 5", "for boats:skiff: `007` and `5` cannot be compared")]
#[case("Length", "it gives `4.5`, not true or false")]
#[case("Crew - 1 == 2", "are not two numbers")]
fn conditions_that_fail_say_why(#[case] condition: &str, #[case] says: &str, project: (TempDir, Project)) {
    let request = Query { condition: Some(condition.to_owned()), ..Query::default() };
    let error = sheet(&project.1, "boats", &request).expect_err("it is wrong").to_string();
    assert!(error.contains(says), "{error}");
}

#[rstest]
fn computed_columns_use_each_other_and_sort_as_numbers(project: (TempDir, Project)) {
    let request = Query {
        columns: vec!["key".to_owned(), "Crew.*".to_owned()],
        with: vec!["half = Length / 2".to_owned(), "more = half + Crew.Wage".to_owned()],
        sort: Some("more".to_owned()),
        ..Query::default()
    };
    let found = sheet(&project.1, "boats", &request).expect("a sheet");
    assert_eq!(found.columns, ["key", "Crew.Crew", "Crew.Wage", "Crew.Lead", "half", "more"]);
    let lines: Vec<String> = found
        .lines
        .iter()
        .map(|line| line.cells.iter().map(|cell| cell.shown()).collect::<Vec<_>>().join("|"))
        .collect();
    assert_eq!(lines, ["punt||||3|", "hulk|||||", "skiff|tow|5|pole|2.25|7.25", "yawl|pole|6|-|5.5|11.5"]);
}

#[rstest]
fn a_difference_tells_records_and_fields(project: (TempDir, Project)) {
    let project = project.1;
    let found = difference(project.view().until(0), project.view().until(1), &[]).expect("a difference");
    let told: Vec<(How, &str, usize)> =
        found.tables[0].records.iter().map(|own| (own.how, own.key.as_str(), own.fields.len())).collect();
    assert_eq!((found.tables.len(), found.tables[0].same), (1, 1));
    assert_eq!(told, [(How::Changed, "tow", 1), (How::Added, "drift", 3)]);
    let back = difference(project.view().until(1), project.view().until(0), &[]).expect("a difference");
    assert_eq!(back.tables[0].count(How::Removed), 1);
    let same = difference(project.view().until(1), project.view().until(1), &[]).expect("a difference");
    assert!(same.tables.is_empty() && same.files.is_empty());
}

#[rstest]
fn trees_follow_references_both_ways_and_tell_each_record_once(project: (TempDir, Project)) {
    let project = project.1;
    let (stack, schema) = (&project.stack, &project.schema);
    let graph = Graph::read(View::top(stack, schema));
    let node = |address: &str| {
        graph.node(&resolve(View::top(stack, schema), address).expect("a record")).expect("a node")
    };
    let uses = graph.tree(node("crews:pole"), Direction::Uses, 3);
    // The yawl, and tow; below that the skiff and drift.
    assert_eq!(uses.count, 2);
    assert_eq!(uses.below.iter().map(|own| own.count).sum::<usize>(), 2);
    let needs = graph.tree(node("boats:skiff"), Direction::Needs, 1);
    assert_eq!((needs.count, needs.nowhere), (3, 0));
    assert_eq!(graph.tree(node("boats:hulk"), Direction::Needs, 1).nowhere, 1);
    let unused: Vec<usize> = graph.unused().iter().map(|(_, _, records)| records.len()).collect();
    assert_eq!(unused, [1, 0]);
}

/// Records of several files; of each is told how many there are, and how many are of which kind: `10 canal=6`. The kinds
/// of the rest differ.
fn of_kinds(files: &[&str]) -> (TempDir, Project) {
    let mut bundle = String::from(
        "=== schema.toml\n[table.reaches]\nfiles = \"reaches*.txt\"\nformat = { kind = \"delimited\" }\nkey = \"Reach\"\n",
    );
    for (at, told) in files.iter().enumerate() {
        let mut words = told.split(' ');
        let number = |word: &str| word.parse::<usize>().expect("a number");
        let records = number(words.next().expect("how many"));
        let kinds = words.map(|word| word.split_once('=').expect("a kind"));
        let mut kinds: Vec<String> =
            kinds.flat_map(|(kind, count)| vec![kind.to_owned(); number(count)]).collect();
        kinds.extend((kinds.len()..records).map(|other| format!("other_{other}")));
        let rows = kinds.iter().enumerate().map(|(row, kind)| format!("reach_{at}_{row}\t{kind}\n"));
        bundle += &format!("=== game/reaches{at}.txt\nReach\tKind\n{}", rows.collect::<String>());
    }
    support::project(&bundle)
}

#[rstest]
#[case::one_file(&["10 canal=6"], Some(("canal", 6, 10)))]
#[case::too_few(&["12 canal=3"], None)]
#[case::two_alike(&["10 canal=4 river=4"], None)]
#[case::alone(&["1 canal=1"], None)]
// It is counted where it is rare, too.
#[case::rare_in_a_file(&["100 canal=60", "200 canal=1", "100 canal=50"], Some(("canal", 111, 400)))]
#[case::beaten_by_others(&["100 canal=40", "300 river=120 canal=2"], Some(("river", 120, 400)))]
#[case::after_many_others(&["9000 canal=4000", "9000 river=10 canal=2000"], Some(("canal", 6000, 18000)))]
fn what_most_have_is_counted_over_all_files(
    #[case] files: &[&str],
    #[case] expected: Option<(&str, u64, u64)>,
) {
    let (_folder, project) = of_kinds(files);
    let names = ["Reach".to_owned(), "Kind".to_owned(), "Missing".to_owned()].into();
    let ask = |project: &Project| usual(project.view(), 0, &names).expect("what most have");
    let expected: Vec<(String, TypicalValue)> = expected
        .map(|(value, count, of)| ("Kind".to_owned(), TypicalValue { value: value.to_owned(), count, of }))
        .into_iter()
        .collect();
    let plain: Vec<_> = ask(&project).into_iter().collect();
    assert_eq!(plain, expected);
    for _ in 0..2 {
        let cached = Project::open(&project.folder).map(Project::with_cache).expect("a project");
        assert_eq!(ask(&cached).into_iter().collect::<Vec<_>>(), expected);
    }
}

/// A record that two layers have a part of is one, with the values that the game sees.
#[rstest]
fn fields_of_merged_layers_are_counted_once() {
    let bundle = r#"=== schema.toml
[table.barges]
files = "barges.ini"
layering = "merge"
format = { kind = "ini" }
key = "{section}"
[table.barges.fields]
hold = { type = "integer" }
=== game/barges.ini
[scow]
hold = 3
crew = tow
[lighter]
hold = 5
=== mod/barges.ini
[scow]
hold = 9
"#;
    let (_folder, project) = support::project(bundle);
    let table = project.schema.table("barges").expect("a table");
    let (records, reports) = stitching_core::fields::fields(project.view(), table, 9).expect("reports");
    let hold = reports.iter().find(|report| report.name == "hold").expect("the field");
    assert_eq!((records, hold.values, hold.range), (2, 2, Some((5.0, 9.0))));
    let crew = reports.iter().find(|report| report.name == "crew").expect("the field");
    assert_eq!((crew.values, crew.absent), (1, 1));
}
