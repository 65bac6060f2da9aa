//! Each command on the demo: what it prints, its JSON, its exit status.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::{Context, rstest};
use serde_json::Value;
use std::fs;
use std::path::PathBuf;
use std::process::Command as System;
use support::{demo, json, stitching, tree};

/// What the main commands print, kept as snapshots to be read like their user would.
#[rstest]
#[case::check_first_try("first-try", "check")]
#[case::check_put_right("put-right", "check")]
#[case::check_all("put-right", "check --all")]
#[case::check_base("put-right", "check --through game")]
#[case::check_one_code("first-try", "check --code missing-file,wrong-type")]
#[case::check_github("first-try", "check --format github")]
#[case::tables("put-right", "tables")]
#[case::show_table("put-right", "show reaches --columns Basin,Depth,Kind --sort Depth --to 8")]
#[case::show_filter("put-right", "show objects --filter frost_cut --columns kind,x,good")]
#[case::show_record("put-right", "show sailings:frost1")]
#[case::show_where(
    "put-right",
    "show reaches --where Basin.Name.startsWith('N')&&Depth%2==0 --columns Basin.*,Dep*"
)]
#[case::show_computed(
    "put-right",
    "show offers --with final=factor*good.Price --sort final --reverse --to 5"
)]
#[case::show_list(
    "put-right",
    "show layouts --where needs.exists(n,n=='lamp') --columns needs.Weight --to 3"
)]
#[case::show_grouped("put-right", "show reaches --group Basin --mean Depth --highest Depth")]
#[case::show_count("put-right", "show reaches --count --where row['Depth']>20")]
#[case::show_transposed("put-right", "show goods --transposed")]
#[case::show_wide("put-right", "show reaches --to 3 --positions")]
#[case::show_markdown("put-right", "show reaches --to 3 --format markdown --columns Depth,Notes")]
#[case::show_delimited("put-right", "show offers --to 4 --format delimited")]
#[case::show_lines(
    "put-right",
    "show reaches --to 2 --format json-lines --with deep=Depth>20 --columns Above.Depth"
)]
#[case::show_usual("put-right", "show reaches:old_mill")]
#[case::find_similar("put-right", "find frostgaet --similar --most 4")]
#[case::find_nothing("put-right", "find lmap_oil")]
#[case::find_columns("put-right", "find remark --most 2")]
#[case::needs("put-right", "needs reaches:frost_cut")]
#[case::needs_nowhere("first-try", "needs reaches:frost_cut --depth 1")]
#[case::needs_nothing("put-right", "needs tolls:north")]
#[case::uses_deep("put-right", "uses basins:north --deep --most 3")]
#[case::unused("put-right", "uses --unused")]
#[case::free_number("put-right", "free reaches.Landing --count 3")]
#[case::free_after("put-right", "free reaches.Landing --after")]
#[case::free_near("put-right", "free reaches.Landing --near 12 --count 3")]
#[case::free_block("put-right", "free reaches.Landing --block 5000..5001 --count 3")]
#[case::free_position("put-right", "free berths.Slot --in frost_cut")]
#[case::free_positions("put-right", "free berths")]
#[case::free_colour("put-right", "free basins.Colour --count 2")]
#[case::free_colour_near("put-right", "free basins.Colour --near #4a7b2c")]
#[case::free_name("put-right", "free objects --near bench_6 --count 2")]
#[case::diff("put-right", "diff --table reaches,barges,texts")]
#[case::diff_summary("put-right", "diff --summary")]
#[case::diff_folders("put-right", "diff ../first-try/mod mod --table reaches,crews")]
#[case::diff_backwards("put-right", "diff mod game --table goods,barges")]
#[case::compare("put-right", "compare reaches:frost_cut reaches:old_mill")]
#[case::compare_layers("put-right", "compare barges:scow --against game")]
#[case::compare_projects("put-right", "compare reaches:frost_cut --against ../first-try")]
#[case::show_text("put-right", "show texts:frost_cut_name")]
#[case::find("put-right", "find ice")]
#[case::find_comment("put-right", "find stretches of water")]
#[case::uses("put-right", "uses reaches:frost_cut")]
#[case::uses_none("put-right", "uses berths:frost_cut/1")]
#[case::explain("put-right", "explain dangling-reference")]
#[case::explain_all("put-right", "explain")]
#[case::preview("put-right", "rename goods:lamp_oil whale_oil --preview")]
#[case::rename("put-right", "rename crews:sledge dog_sledge")]
#[case::rename_base_file("put-right", "rename props:crane derrick")]
#[case::rename_every_shape("put-right", "rename goods:coal sea_coal")]
#[case::rename_in_merged("put-right", "rename crews:dredge digger --with-notes --preview")]
#[case::show_merged("put-right", "show barges:scow")]
#[case::show_merged_table("put-right", "show barges")]
#[case::show_inherited("put-right", "show crew_kinds:hauler")]
#[case::show_in_archive("put-right", "show signs:old_mill_sign")]
#[case::off_refused("put-right", "off convoys:sledge_post")]
#[case::fields("first-try", "fields reaches")]
#[case::one_field("first-try", "fields reaches.Basin")]
#[case::preview_refused("put-right", "off convoys:sledge_post --preview")]
#[case::off_nothing("put-right", "off")]
#[case::rename_text("put-right", "rename texts:frost_cut_name the_cut_name")]
#[case::no_history("put-right", "history")]
fn output(#[case] which: &str, #[case] command: &str, #[context] context: Context) {
    let (_folder, project) = demo(which);
    let args: Vec<&str> = command.split(' ').collect();
    let run = stitching(&project, &args);
    let name = context.description.unwrap_or("output");
    insta::assert_snapshot!(
        name,
        format!("$ stitching {command}\n{}--- messages\n{}--- status {}", run.out, run.err, run.status)
    );
}

/// Off, listed, counted, on again.
#[rstest]
fn off_and_on() {
    let (folder, project) = demo("put-right");
    let before = tree(folder.path());
    let run = |command: &str| stitching(&project, &command.split(' ').collect::<Vec<_>>());
    assert_eq!(run("off offers:frost/coal").status, 0);
    assert_eq!(run("off layouts:frost_cut.needs[*]=lamp").status, 0);
    let list = run("off");
    insta::assert_snapshot!("off_list", format!("{}--- status {}", list.out, list.status));
    let listed: Value = serde_json::from_str(&run("off --format json").out).expect("JSON");
    assert_eq!(listed["off"].as_array().map(Vec::len), Some(2));
    assert_eq!(listed["off"][0]["address"], "offers:frost/coal");
    assert_eq!(listed["off"][1]["kept_aside"], true);
    let check = run("check");
    assert!(check.out.contains("2 entries are switched off; `stitching off` lists them"), "{}", check.out);
    assert_eq!(run("on layouts:frost_cut.needs[*]").status, 0);
    assert_eq!(run("on offers:frost/coal").status, 0);
    assert_eq!(tree(folder.path()), before);
    let again = run("on offers:frost/coal");
    assert_eq!(again.status, 2);
    assert!(again.err.contains("there is no switched off entry"), "{}", again.err);
}

/// Wrong use: status 2 and a message that says what to do.
#[rstest]
#[case("check --through gaem", 2, "the layers are game, winter, mod")]
#[case("check --code dangling-refrence", 2, "did you mean `dangling-reference`?")]
#[case("explain nonsense", 2, "`stitching explain` lists them all")]
#[case("show reeches", 2, "did you mean the table `reaches`?")]
#[case("fields reeches", 2, "did you mean `reaches`?")]
#[case("fields reaches.Bassin", 2, "did you mean `reaches.Basin`?")]
#[case("show reaches --columns Basn", 2, "did you mean `Basin`?")]
#[case("show reaches:frost_cut.Depht", 2, "the described fields are")]
#[case("uses frost_cutt", 2, "`reaches:frost_cut`")]
#[case("uses frost_cut", 2, "say which: reaches:frost_cut, layouts:frost_cut")]
#[case("uses reaches:\"frost_cut", 2, "the quote is never closed")]
#[case("rename reaches:frost_cut old_mill", 1, "there is a record reaches:old_mill already")]
#[case("rename reaches:frost_cut Frost", 1, "does not have the shape")]
#[case("rename berths:frost_cut/1 frost_cut", 2, "have 2 parts")]
#[case("rename reaches:frost_cut.Depth 3", 2, "nothing refers to `reaches` by `Depth`")]
#[case("uses", 2, "required arguments were not provided")]
#[case("uses --unused loads", 2, "nothing can refer to `loads`")]
#[case("needs reaches:frost_cutt", 2, "`reaches:frost_cut`")]
#[case("free reaches", 2, "goes by names")]
#[case("free reaches.Lnding", 2, "did you mean `Landing`?")]
#[case("free reaches.Basin --as number", 2, "holds `eastmoor`, which is not a whole number")]
#[case("free reaches.Landing --block 3", 2, "is not a block of numbers")]
#[case("free reaches.Landing --near x", 2, "`x` is not a whole number")]
#[case("free basins.Colour --near blue", 2, "`blue` is not a colour")]
#[case("free reaches.Landing --block 0..0", 1, "no number is free in Landing of `reaches` from 0 to 0")]
#[case("free goods --as position", 2, "do not count records within groups")]
#[case("diff gam", 2, "there is no layer, folder or archive `gam`")]
#[case("diff --table reeches", 2, "did you mean `reaches`?")]
#[case("compare reaches:frost_cut --against game", 2, "no record `reaches:frost_cut` in `game`")]
#[case("compare reaches:frost_cut", 2, "nothing to compare the record with")]
#[case("tables --format sarif", 2, "--format human or --format json")]
#[case("check --format markdown", 2, "--format human or --format json, sarif, github")]
#[case("show reaches --where Dept>3", 2, "did you mean `Depth`?")]
#[case("show reaches --where Depth>", 2, "at character 7: it ends too early")]
#[case("show reaches --where Depth>'x'", 2, "for reaches:old_mill: `23` and `x` cannot be compared")]
#[case("show reaches --where Depth+1", 2, "it gives `24`, not true or false")]
#[case("show reaches --where Depth.x>1", 2, "`Depth` of `reaches` refers to no table")]
#[case("show reaches --where Basin.Nam=='x'", 2, "did you mean `Name`?")]
#[case("show reaches --with Depth=3", 2, "there is a column `Depth` already")]
#[case("show reaches --with 3", 2, "gives no name")]
#[case("show reaches --group Basin --sum Kind", 2, "`Kind` holds no numbers")]
#[case("show reaches --group Basin --sort Depth", 2, "have the columns Basin, count")]
#[case("show reaches --columns Z*", 2, "the columns are Reach, Basin")]
#[case("undo", 1, "there is nothing to undo")]
#[case("redo", 1, "there is nothing to redo")]
#[case("frobnicate", 2, "unrecognized subcommand")]
fn refusals(#[case] command: &str, #[case] status: i32, #[case] says: &str) {
    let (folder, project) = demo("put-right");
    let before = tree(folder.path());
    let args: Vec<&str> = command.split(' ').collect();
    let run = stitching(&project, &args);
    assert_eq!(run.status, status, "{}", run.err);
    assert!(run.err.contains(says), "{}", run.err);
    assert_eq!(tree(folder.path()), before);
}

#[rstest]
fn fields_tells_what_leads_nowhere_in_parts_and_names_structures_once() {
    let (_folder, project) = demo("first-try");
    let cargo = json(&project, &["fields", "sailings.Cargo"]);
    assert_eq!(cargo["fields"][0]["left_over"][0]["value"], "ice_blok");
    let layouts = json(&project, &["fields", "layouts"]);
    let names: Vec<&str> = layouts["fields"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|own| own["field"].as_str())
        .collect();
    assert_eq!(names, ["reach", "needs[*]"]);
}

#[rstest]
fn find_tells_what_is_off_and_what_is_overridden() {
    let (_folder, project) = demo("put-right");
    assert_eq!(stitching(&project, &["off", "offers:north/salt"]).status, 0);
    let found = json(&project, &["find", "north/salt"]);
    let states: Vec<(&str, bool, bool)> = found["hits"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|hit| Some((hit["path"].as_str()?, hit["overridden"].as_bool()?, hit["off"].as_bool()?)))
        .collect();
    assert!(states.contains(&("wharves/north.xml", true, false)), "{states:?}");
    let off = json(&project, &["find", "salt", "--most", "1000"]);
    let off: Vec<&serde_json::Value> =
        off["hits"].as_array().expect("a list").iter().filter(|hit| hit["off"] == true).collect();
    assert_eq!(off.len(), 1);
    assert_eq!(off[0]["address"], "offers:north/salt");
    assert_eq!(json(&project, &["find", "frost_cut", "--most", "1"])["hits"][0]["only_below"], false);
}

#[rstest]
fn fields_counts_the_items_of_lists_and_the_parts_that_point_somewhere() {
    let (_folder, project) = demo("put-right");
    let trades = json(&project, &["fields", "crews.Trades"]);
    let commonest: Vec<&str> = trades["fields"][0]["commonest"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|own| own["value"].as_str())
        .collect();
    assert!(commonest.contains(&"ice_block"), "{commonest:?}");
    let cargo = json(&project, &["fields", "sailings.Cargo"]);
    assert!(
        cargo["fields"][0]["commonest"]
            .as_array()
            .expect("a list")
            .iter()
            .all(|own| { own["value"].as_str().is_some_and(|value| !value.contains([':', ';'])) })
    );
}

#[rstest]
fn fields_takes_descriptions_from_a_document() {
    let (folder, project) = demo("put-right");
    let notes = folder.path().join("notes.md");
    std::fs::write(&notes, "# Goods\n\n| name | meaning |\n| --- | --- |\n| `Weight` | in *stones*, packed |\n\nPrice: what a barge pays\n").expect("written");
    let path = notes.display().to_string();
    let args = ["fields", "goods", "--import", &path];
    let before = tree(folder.path());
    let found = json(&project, &args);
    assert_eq!(tree(folder.path()), before);
    let found: Vec<(&str, &str)> = found["found"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|own| Some((own["field"].as_str()?, own["about"].as_str()?)))
        .collect();
    assert_eq!(found, [("Weight", "in *stones*, packed"), ("Price", "what a barge pays")]);
    let run = stitching(&project, &[&args[..], &["--write"]].concat());
    assert_eq!(run.status, 0, "{}", run.err);
    assert_eq!(json(&project, &["fields", "goods.Price"])["fields"][0]["about"], "what a barge pays");
    // What is described is not described again.
    assert_eq!(json(&project, &args)["found"].as_array().map(Vec::len), Some(0));
    let missing = stitching(&project, &["fields", "goods", "--import", "nowhere.md"]);
    assert_eq!(missing.status, 3, "{}", missing.err);
}

#[rstest]
fn free_keeps_to_the_numbers_reserved_for_the_mod() {
    let (_folder, project) = demo("put-right");
    let file = project.join("stitching.toml");
    let described = std::fs::read_to_string(&file).expect("it is there");
    let reserved =
        |line: &str| std::fs::write(&file, format!("{described}\n[reserved]\n{line}\n")).expect("written");
    reserved("\"reaches.Landing\" = [500, 599]");
    let run = stitching(&project, &["free", "reaches.Landing"]);
    assert_eq!((run.out.as_str(), run.status), ("500\n", 0), "{}", run.err);
    assert!(run.err.contains("500 to 599 reserved for this mod"), "{}", run.err);
    for (line, says) in [
        ("\"reeches.Landing\" = [500, 599]", "`reeches.Landing` is no table of the schema, and no field"),
        ("\"reaches.Landing\" = 500", "a list of the first and the last number"),
        ("\"reaches.Landing\" = [5, 4]", "a list of the first and the last number"),
    ] {
        reserved(line);
        let run = stitching(&project, &["free", "reaches.Landing"]);
        assert_eq!(run.status, 2);
        assert!(run.err.contains(says), "{}", run.err);
    }
}

/// A mod's folder over the demo's game, of which nothing is described.
fn newcomer() -> (tempfile::TempDir, PathBuf) {
    let (folder, project) = demo("put-right");
    let own = project.join("mod");
    (folder, own)
}

#[rstest]
fn init_starts_a_project_and_overwrites_nothing() {
    let (_folder, own) = newcomer();
    let before = tree(&own);
    let first = stitching(&own, &["init", "--base", "../../game"]);
    insta::assert_snapshot!(
        "init",
        format!("{}--- messages\n{}--- status {}", first.out, first.err, first.status)
    );
    let mut after = tree(&own);
    assert!(after.remove("stitching.toml").is_some() && after.remove("game.schema.toml").is_some());
    assert_eq!(after, before, "only the two files are new");
    let check = stitching(&own, &["check"]);
    assert_eq!(check.status, 0, "{}", check.out);
    // Again: nothing is written, and only what is still a question is shown.
    let before = tree(&own);
    let again = stitching(&own, &["init", "--base", "../../game"]);
    assert_eq!(again.status, 0, "{}", again.err);
    assert!(again.err.contains("is here already and stays as it is"), "{}", again.err);
    assert!(!again.out.contains(" accept "), "{}", again.out);
    assert_eq!(tree(&own), before);
}

/// What the columns of a file without a header are is a question, so that what is sure of its columns is not written either.
#[rstest]
fn learn_writes_nothing_of_tables_that_are_a_question() {
    let folder = tempfile::tempdir().expect("a folder");
    let game = folder.path().join("game");
    let own = folder.path().join("mod");
    fs::create_dir_all(&game).expect("a folder");
    fs::create_dir_all(&own).expect("a folder");
    let ways: String = (0..30).map(|at| format!("w{at},{}\n", at % 4)).collect();
    fs::write(game.join("ways.txt"), ways).expect("a file");
    fs::write(game.join("goods.txt"), "Good\tPrice\ncoal\t3\npeat\t2\nsalt\t2\n").expect("a file");
    assert_eq!(stitching(&own, &["init", "--base", "../game"]).status, 0);
    fs::write(own.join("game.schema.toml"), "").expect("an empty schema");
    let shown = stitching(&own, &["learn"]);
    assert!(shown.err.contains("but not those of tables that are a question"), "{}{}", shown.out, shown.err);
    assert_eq!(stitching(&own, &["learn", "--write"]).status, 0);
    let schema = fs::read_to_string(own.join("game.schema.toml")).expect("a schema");
    assert!(schema.contains("[table.goods]") && !schema.contains("[table.ways]"), "{schema}");
    assert_eq!(stitching(&own, &["check"]).status, 0);
}

#[rstest]
fn learn_shows_its_evidence_and_writes_what_is_accepted() {
    let (_folder, own) = newcomer();
    assert_eq!(stitching(&own, &["init", "--base", "../../game"]).status, 0);
    fs::write(own.join("game.schema.toml"), "# ours\n").expect("an empty schema");
    let one = stitching(&own, &["learn", "exchange"]);
    insta::assert_snapshot!("learn_table", format!("{}--- status {}", one.out, one.status));
    let all = json(&own, &["learn"]);
    let proposals = all["proposals"].as_array().expect("a list");
    let from = proposals
        .iter()
        .find(|own| own["table"] == "exchange" && own["field"] == "From")
        .expect("a proposal");
    assert_eq!(
        (&from["band"], &from["about"], &from["settings"]["ref"]),
        (&"ask".into(), &"link".into(), &"\"goods\"".into())
    );
    assert_eq!((&from["values"], &from["fit"]), (&19.into(), &18.into()));
    assert_eq!(
        (&from["exceptions"][0]["value"], &from["exceptions"][0]["layer"]),
        (&"tallow".into(), &"game".into())
    );
    // One by its number brings its table along.
    let number = from["number"].to_string();
    let accepted = stitching(&own, &["learn", "--accept", &number]);
    assert_eq!(accepted.status, 0, "{}", accepted.err);
    let schema = fs::read_to_string(own.join("game.schema.toml")).expect("the schema");
    assert!(schema.starts_with("# ours\n"), "{schema}");
    assert!(schema.contains("[table.goods]"), "what it points to comes along: {schema}");
    assert!(schema.contains("[table.exchange]") && schema.contains("From = { ref = \"goods\" }"), "{schema}");
}

/// What cannot be done says why, and leaves everything as it is.
#[rstest]
#[case("learn reeches", 2, "did you mean `reaches`?")]
#[case("learn --accept 9999", 2, "there is no proposal 9999")]
#[case("learn --accept 0", 2, "there is no proposal 0")]
fn learn_refuses(#[case] command: &str, #[case] status: i32, #[case] says: &str) {
    let (_folder, own) = newcomer();
    assert_eq!(stitching(&own, &["init", "--base", "../../game"]).status, 0);
    let before = tree(&own);
    let run = stitching(&own, &command.split(' ').collect::<Vec<_>>());
    assert_eq!(run.status, status, "{}", run.err);
    assert!(run.err.contains(says), "{}", run.err);
    assert_eq!(tree(&own), before);
}

#[rstest]
#[case("../nowhere", "has no folder or archive")]
#[case("..", "lie one inside the other")]
fn init_refuses(#[case] base: &str, #[case] says: &str) {
    let (_folder, own) = newcomer();
    let before = tree(&own);
    let run = stitching(&own, &["init", "--base", base]);
    assert_eq!(run.status, 2, "{}", run.err);
    assert!(run.err.contains(says), "{}", run.err);
    assert_eq!(tree(&own), before);
}

#[rstest]
fn a_schema_in_a_base_layer_is_not_written() {
    let (folder, own) = newcomer();
    let game = folder.path().join("slackwater/game");
    let game = if game.exists() { game } else { own.join("../../game") };
    fs::write(game.join("game.schema.toml"), "").expect("a schema");
    let described = "[project]\nschema = \"../../game/game.schema.toml\"\n[[layer]]\nname = \"game\"\npath = \"../../game\"\n[[layer]]\nname = \"mod\"\npath = \".\"\n";
    fs::write(own.join("stitching.toml"), described).expect("a project");
    let run = stitching(&own, &["learn", "--write"]);
    assert_eq!(run.status, 1, "{}", run.err);
    assert!(run.err.contains("which is never written"), "{}", run.err);
    assert_eq!(fs::read(game.join("game.schema.toml")).expect("the schema"), b"");
}

#[rstest]
fn fields_json_counts_every_record_once() {
    let (_folder, project) = demo("put-right");
    let report = json(&project, &["fields", "locks"]);
    let records = report["records"].as_u64().expect("a count");
    for own in report["fields"].as_array().expect("a list") {
        let number = |name: &str| own[name].as_u64().expect("a count");
        let none: u64 =
            own["none"].as_array().expect("a list").iter().filter_map(|none| none["count"].as_u64()).sum();
        assert_eq!(number("values") + number("empty") + number("absent") + none, records, "{own}");
    }
    let gate = &report["fields"]
        .as_array()
        .expect("a list")
        .iter()
        .find(|own| own["field"] == "Gate3")
        .expect("a gate");
    assert_eq!((&gate["points_to"][0], &gate["none"][0]["value"]), (&"reaches".into(), &"-".into()));
    let lift = &report["fields"]
        .as_array()
        .expect("a list")
        .iter()
        .find(|own| own["field"] == "LiftDm")
        .expect("a lift");
    assert_eq!((&lift["lowest"], &lift["highest"], &lift["unit"]), (&9.0.into(), &39.0.into(), &"dm".into()));
}

#[rstest]
fn check_json_has_the_documented_shape() {
    let (_folder, project) = demo("first-try");
    let report = json(&project, &["check"]);
    let problems = report["problems"].as_array().expect("a list");
    let one = problems.iter().find(|problem| problem["value"] == "nroth").expect("the misspelt basin");
    assert_eq!(one["code"], "dangling-reference");
    assert_eq!(one["severity"], "error");
    assert_eq!(
        (&one["table"], &one["key"], &one["field"]),
        (&"reaches".into(), &"frost_cut".into(), &"Basin".into())
    );
    assert_eq!((&one["path"], &one["layer"]), (&"tables/reaches.txt".into(), &"mod".into()));
    assert_eq!(one["fixes"][0]["title"], "write `north`");
    assert!(one["help"].as_str().is_some_and(|help| help.contains("`north`")));
    // Place and bytes agree with the file.
    let text = fs::read_to_string(project.join("mod/tables/reaches.txt")).expect("a table");
    let (start, end) =
        (one["start"].as_u64().expect("bytes") as usize, one["end"].as_u64().expect("bytes") as usize);
    assert_eq!(&text[start..end], "nroth");
    let line = text.lines().nth(one["line"].as_u64().expect("a line") as usize - 1).expect("the line");
    assert_eq!(
        line.chars().skip(one["column"].as_u64().expect("a column") as usize - 1).take(5).collect::<String>(),
        "nroth"
    );
    let related = problems.iter().find(|problem| problem["code"] == "duplicate-key").expect("a duplicate");
    assert!(related["related"][0]["line"].as_u64().is_some_and(|line| line > 0));
    let summary = &report["summary"];
    let count =
        |severity: &str| problems.iter().filter(|problem| problem["severity"] == severity).count() as u64;
    assert_eq!(summary["errors"].as_u64(), Some(count("error")));
    assert_eq!(summary["warnings"].as_u64(), Some(count("warning")));
    for name in ["files", "records", "references", "inherited"] {
        assert!(summary[name].as_u64().is_some_and(|number| number > 0), "{name}");
    }
    let all = json(&project, &["check", "--all"]);
    let inherited: Vec<&Value> =
        all["problems"].as_array().expect("a list").iter().filter(|one| one["inherited"] == true).collect();
    assert_eq!(inherited.len() as u64, summary["inherited"].as_u64().expect("a number"));
}

#[rstest]
fn uses_json_has_the_documented_shape() {
    let (_folder, project) = demo("put-right");
    let found = json(&project, &["uses", "goods:lamp_oil"]);
    assert_eq!(found["record"]["label"], "Lamp Oil");
    assert_eq!(found["record"]["path"], "tables/goods.txt");
    let uses = found["uses"].as_array().expect("a list");
    assert_eq!(found["counts"]["total"], uses.len());
    let tables = found["counts"]["tables"].as_object().expect("by table");
    assert_eq!(tables.values().filter_map(Value::as_u64).sum::<u64>(), uses.len() as u64);
    for one in uses {
        assert!(one["text"].as_str().is_some_and(|text| text.contains("lamp_oil")), "{one}");
        assert_eq!(
            one["end"].as_u64().expect("bytes") - one["start"].as_u64().expect("bytes"),
            "lamp_oil".len() as u64
        );
    }
}

/// Every command that reads gives one JSON document, also when it fails.
#[rstest]
#[case("tables")]
#[case("show goods")]
#[case("show goods:coal")]
#[case("find coal")]
#[case("explain")]
#[case("explain wrong-type")]
#[case("history")]
#[case("rename goods:coal charcoal --preview")]
#[case("rename goods:coal charcoal")]
#[case("show nothing_like_it")]
fn json_is_one_document(#[case] command: &str) {
    let (_folder, project) = demo("put-right");
    let value = json(&project, &command.split(' ').collect::<Vec<_>>());
    assert!(value.is_object() || value.is_array());
}

#[rstest]
fn sarif_names_rules_and_places() {
    let (_folder, project) = demo("first-try");
    let run = stitching(&project, &["check", "--format", "sarif"]);
    assert_eq!(run.status, 1);
    let log: Value = serde_json::from_str(&run.out).expect("JSON");
    assert_eq!(log["version"], "2.1.0");
    let rules = log["runs"][0]["tool"]["driver"]["rules"].as_array().expect("rules");
    for rule in rules {
        let full = rule["fullDescription"]["text"].as_str().expect("a description");
        assert!(full.len() > 20 && !full.contains("What it finds"), "{}: {full}", rule["id"]);
    }
    for result in log["runs"][0]["results"].as_array().expect("results") {
        let rule = &rules[result["ruleIndex"].as_u64().expect("an index") as usize];
        assert_eq!(rule["id"], result["ruleId"]);
        let uri =
            result["locations"][0]["physicalLocation"]["artifactLocation"]["uri"].as_str().expect("a place");
        assert!(
            project.join(uri).is_file()
                || ["tables/tolls", "scripts/"].iter().any(|base| uri.starts_with(base)),
            "{uri}"
        );
    }
}

#[rstest]
fn sarif_suppresses_what_is_accepted() {
    let (_folder, project) = demo("first-try");
    let accept = ["check", "--code", "dangling-reference", "--accept", "so it is"];
    assert_eq!(stitching(&project, &accept).status, 0);
    let run = stitching(&project, &["check", "--all", "--format", "sarif"]);
    let log: Value = serde_json::from_str(&run.out).expect("JSON");
    let results = log["runs"][0]["results"].as_array().expect("results");
    let (accepted, others): (Vec<&Value>, Vec<&Value>) =
        results.iter().partition(|result| result.get("suppressions").is_some());
    assert!(!accepted.is_empty() && !others.is_empty());
    for result in accepted {
        assert_eq!(result["ruleId"], "dangling-reference");
        assert_eq!(result["suppressions"][0]["kind"], "external");
        assert_eq!(result["suppressions"][0]["justification"], "so it is");
    }
}

#[rstest]
fn the_preview_is_a_patch_that_git_applies() {
    let (_folder, project) = demo("put-right");
    let git = |args: &[&str]| System::new("git").args(args).current_dir(&project).output().expect("git");
    git(&["init", "-q"]);
    for rename in [["reaches:frost_cut", "ice_cut"], ["props:crane", "derrick"]] {
        let before = tree(&project);
        let preview = stitching(&project, &["rename", rename[0], rename[1], "--preview"]);
        assert_eq!(tree(&project), before, "a preview writes nothing");
        stitching(&project, &["rename", rename[0], rename[1]]);
        let after = tree(&project);
        stitching(&project, &["undo"]);
        assert_eq!(tree(&project), before);
        let patch = tempfile::NamedTempFile::new().expect("a file");
        fs::write(patch.path(), &preview.out).expect("written");
        let applied = git(&["apply", "--whitespace=nowarn", &patch.path().to_string_lossy()]);
        assert!(applied.status.success(), "{}", String::from_utf8_lossy(&applied.stderr));
        assert_eq!(tree(&project), after, "the patch does what the command does");
        git(&["apply", "-R", "--whitespace=nowarn", &patch.path().to_string_lossy()]);
        assert_eq!(tree(&project), before);
    }
}

#[rstest]
fn demo_writes_walks_and_leaves_the_mod_as_it_was() {
    let folder = tempfile::tempdir().expect("a folder");
    let run = stitching(folder.path(), &["demo"]);
    assert_eq!(run.status, 0, "{}", run.err);
    for said in [
        "stitching check",
        "stitching find frostgate",
        "did you mean `north`?",
        "undone: rename reaches:frost_cut to ice_cut",
    ] {
        assert!(run.out.contains(said), "{said}");
    }
    let source = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    assert_eq!(
        tree(&folder.path().join("slackwater")),
        tree(&source),
        "byte for byte what is in the repository"
    );
    let again = stitching(folder.path(), &["demo"]);
    assert_eq!(again.status, 2);
    assert!(again.err.contains("`slackwater` is there already"), "{}", again.err);
    // The newcomer's mod has a dozen different mistakes.
    let report = json(&folder.path().join("slackwater/first-try"), &["check"]);
    let codes: std::collections::BTreeSet<&str> = report["problems"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|one| one["code"].as_str())
        .collect();
    assert!(codes.len() >= 12, "{codes:?}");
}

#[rstest]
fn colours_are_only_added() {
    let (_folder, project) = demo("first-try");
    let plain = stitching(&project, &["check"]).out;
    let always = stitching(&project, &["check", "--color", "always"]).out;
    assert!(!plain.contains('\u{1b}') && always.contains('\u{1b}'));
    let stripped = regex_free_strip(&always);
    assert_eq!(stripped, plain);
}

/// Drops colour sequences (`ESC [ ... m`).
fn regex_free_strip(text: &str) -> String {
    let mut out = String::new();
    for part in text.split('\u{1b}') {
        out.push_str(
            part.strip_prefix('[').and_then(|rest| rest.split_once('m')).map_or(part, |(_, rest)| rest),
        );
    }
    out
}

#[rstest]
fn history_lists_what_was_done_and_undone() {
    let (_folder, project) = demo("put-right");
    stitching(&project, &["rename", "goods:coal", "charcoal"]);
    stitching(&project, &["rename", "goods:peat", "turf"]);
    stitching(&project, &["undo"]);
    let changes = json(&project, &["history"]);
    let undone: Vec<bool> = changes["changes"]
        .as_array()
        .expect("a list")
        .iter()
        .filter_map(|one| one["undone"].as_bool())
        .collect();
    assert_eq!(undone, [false, true]);
    assert!(stitching(&project, &["history"]).out.contains("undone  rename goods:peat to turf"));
}

/// The JSON Schemas for editors say what the reader of these files knows.
#[rstest]
fn json_schemas_are_up_to_date() {
    let folder = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/json-schema");
    let (project, schema) = stitching_core::schema::json_schema();
    for (name, value) in [("project.json", project), ("schema.json", schema)] {
        let text = serde_json::to_string_pretty(&value).expect("JSON") + "\n";
        let path = folder.join(name);
        if std::env::var_os("UPDATE_FIXTURES").is_some() {
            fs::create_dir_all(&folder).expect("a folder");
            fs::write(&path, &text).expect("written");
        }
        assert_eq!(
            fs::read_to_string(&path).unwrap_or_default(),
            text,
            "{name}: run the tests with UPDATE_FIXTURES=1"
        );
    }
}

/// The page of checks has what `explain` says.
#[rstest]
fn the_page_of_checks_is_up_to_date() {
    let path = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/checks.md");
    let mut page = String::from(
        "# Checks\n\nWhat `check` finds by itself, as `stitching explain` tells it. Rules of a game are written in its \
         [schema](schema.md#rules-of-the-game).\n",
    );
    for check in stitching_core::checks::CHECKS {
        page += &format!(
            "\n## {}\n\n{}: {}.\n\n```text\n{}```\n",
            check.code,
            check.severity.word(),
            check.about,
            check.docs
        );
    }
    if std::env::var_os("UPDATE_FIXTURES").is_some() {
        fs::write(&path, &page).expect("written");
    }
    assert_eq!(fs::read_to_string(&path).unwrap_or_default(), page, "run the tests with UPDATE_FIXTURES=1");
}
