//! What is learned of files that nobody has described: fixtures with the files and what is proposed.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};
use stitching_core::checks::{check, problems};
use stitching_core::learn::{Band, Learned, Proposal, Topic, confirmed_too, learn, start, tried, written};
use stitching_core::{Project, Severity};

fn learned(project: &Project) -> Learned {
    learn(project.view())
}

/// A proposal on a line, its exceptions on lines below it.
fn line(own: &Proposal) -> String {
    let field = own.field.as_ref().map(|field| format!(".{field}")).unwrap_or_default();
    let settings: Vec<String> =
        own.settings.iter().map(|(name, value)| format!("{name} = {value}")).collect();
    let mut out = format!("{} {}{field}: {}", own.band.name(), own.table, settings.join(", "));
    if own.fit < own.values {
        let _ = write!(out, " ({} of {})", own.fit, own.values);
    }
    if !own.rivals.is_empty() {
        let _ = write!(out, " | as well: {}", own.rivals.join(", "));
    }
    for exception in &own.exceptions {
        let near = exception.near.as_ref().map(|near| format!(", near `{near}`")).unwrap_or_default();
        let place = &exception.place;
        let _ =
            write!(out, "\n    `{}` at {}:{}:{}{near}", exception.text, place.path, place.line, place.column);
    }
    out
}

/// The proposals but for the hidden ones, and what was not recognised.
fn told(learned: &Learned) -> String {
    let shown = learned.proposals.iter().filter(|own| own.band != Band::Hidden);
    let mut out: String = shown.map(|own| line(own) + "\n").collect();
    for path in &learned.unknown {
        let _ = writeln!(out, "not recognised: {path}");
    }
    for (copy, of) in &learned.copies {
        let _ = writeln!(out, "{copy} is a copy of {of}");
    }
    out
}

/// What `start` would write finds no more errors than a sound game has: whatever the data, nobody is greeted by thousands.
#[rstest]
fn what_is_begun_is_silent(#[files("tests/learn/*.txt")] fixture: PathBuf) {
    let bundle = fs::read_to_string(&fixture).expect("a fixture");
    let folder = support::write(&bundle);
    let (game, own) = (folder.path().join("game"), folder.path().join("mod"));
    let has_game = fs::read_dir(&game).is_ok_and(|mut files| files.next().is_some());
    let bases: Vec<PathBuf> = has_game.then_some(game).into_iter().collect();
    let begun = start(&own, &bases, None).expect("a project");
    let project =
        Project::described(&own, &begun.project, &[(begun.schema_name.clone(), begun.schema.clone())])
            .expect("what is written can be read");
    let report = check(project.view());
    let loud = |(table, own): (&stitching_core::schema::Table, &stitching_core::checks::TableSummary)| {
        let is_error = |problem: &&stitching_core::Problem| {
            problem.severity == Severity::Error && problem.table.as_ref() == Some(&table.name)
        };
        let errors = report.problems.iter().filter(is_error).count();
        (errors > (own.records / 20).max(1)).then(|| format!("{}: {errors} of {}", table.name, own.records))
    };
    let loud: Vec<String> = project.schema.tables.iter().zip(&report.tables).filter_map(loud).collect();
    assert!(loud.is_empty(), "{loud:?}\n{}", support::lines(&report.problems).join("\n"));
    // What is still open may become a table of its own, but not one that is there already.
    let again = learned(&project);
    let is_new =
        |own: &&Proposal| own.topic == Topic::Table && own.settings.iter().any(|(name, _)| name == "files");
    let names: Vec<&str> = again.proposals.iter().filter(is_new).map(|own| own.table.as_str()).collect();
    let twice: Vec<&&str> =
        names.iter().filter(|name| project.schema.tables.iter().any(|own| own.name == **name)).collect();
    assert!(twice.is_empty(), "{twice:?}");
}

#[rstest]
fn proposes_exactly_what_is_there(#[files("tests/learn/*.txt")] fixture: PathBuf) {
    let bundle = fs::read_to_string(&fixture).expect("a fixture");
    let folder = support::write(&bundle);
    let schema = folder.path().join("schema.toml");
    if !schema.exists() {
        fs::write(&schema, "").expect("a schema");
    }
    support::compare(&fixture, "proposals", &told(&learned(&support::open(&folder))));
}

fn demo_game() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo/game")
}

/// A newcomer's copy of the demo, of which nothing is described.
fn newcomer(which: &str) -> (tempfile::TempDir, PathBuf) {
    let folder = tempfile::tempdir().expect("a folder");
    let demo = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo").join(which).join("mod");
    let own = folder.path().join("mod");
    support::copy(&demo, &own);
    (folder, own)
}

#[rstest]
fn a_newcomer_gets_a_schema_that_works() {
    let (_folder, own) = newcomer("put-right");
    let start = start(&own, &[demo_game()], None).expect("a start");
    fs::write(own.join("stitching.toml"), &start.project).expect("written");
    fs::write(own.join(&start.schema_name), &start.schema).expect("written");
    let project = Project::open(&own).expect("it opens");
    let report = check(project.view());
    let errors: Vec<String> = report
        .problems
        .iter()
        .filter(|problem| problem.severity == Severity::Error && !problem.inherited)
        .map(|problem| problem.message.clone())
        .collect();
    assert_eq!(errors, Vec::<String>::new());
    // What was written is not proposed again.
    let again = learned(&project);
    let twice: Vec<String> =
        again.proposals.iter().filter(|own| own.band == Band::Accept).map(line).collect();
    assert_eq!(twice, Vec::<String>::new());
}

#[rstest]
fn mistakes_of_the_mod_do_not_spoil_the_evidence() {
    let (_folder, own) = newcomer("first-try");
    let start = start(&own, &[demo_game()], None).expect("a start");
    fs::write(own.join("stitching.toml"), &start.project).expect("written");
    fs::write(own.join(&start.schema_name), &start.schema).expect("written");
    let project = Project::open(&own).expect("it opens");
    let found: Vec<String> =
        problems(&project.stack, &project.schema).iter().map(|problem| problem.message.clone()).collect();
    for expected in
        ["there is no `nroth` in `basins`", "there is no `sledg` in `crews`", "`1O` is not a whole number"]
    {
        assert!(found.iter().any(|message| message == expected), "{expected}: {found:#?}");
    }
}

#[rstest]
fn a_schema_keeps_its_comments_and_its_order() {
    let text = "# Ours.\n[table.b] # second\nfiles = \"b.txt\"\nformat = \"delimited\"\nkey = \"B\"\nfields.X = { about = \"an X\" } # kept\n\n[table.a]\nfiles = \"a.txt\"\nformat = \"delimited\"\nkey = \"A\"\n";
    let proposal = |table: &str, field: Option<&str>, settings: &[(&str, &str)]| Proposal {
        band: Band::Accept,
        topic: if field.is_some() { Topic::Link } else { Topic::Table },
        table: table.to_owned(),
        field: field.map(str::to_owned),
        says: String::new(),
        needs: Vec::new(),
        settings: settings.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect(),
        values: 1,
        fit: 1,
        distinct: 1,
        none: Vec::new(),
        exceptions: Vec::new(),
        rivals: Vec::new(),
        reasons: vec!["a guess".to_owned()],
    };
    let taken = [
        proposal("b", Some("X"), &[("ref", "\"a\""), ("about", "\"another\"")]),
        proposal("c", None, &[("files", "\"c.txt\""), ("key", "\"C\"")]),
        proposal("c", Some("odd name"), &[("type", "\"integer\"")]),
        proposal("nowhere", Some("Y"), &[("type", "\"integer\"")]),
    ];
    let after = written(text, &taken.iter().collect::<Vec<_>>()).expect("written");
    assert!(after.starts_with("# Ours.\n[table.b] # second\n"), "{after}");
    assert!(after.contains("fields.X = { about = \"an X\", ref = \"a\" } # kept\n"), "{after}");
    assert!(after.contains("\n# a guess\n[table.c]\nfiles = \"c.txt\"\nkey = \"C\"\n"), "{after}");
    assert!(after.contains("\"odd name\" = { type = \"integer\" }"), "{after}");
    assert!(!after.contains("nowhere"), "{after}");
    assert!(written("[table", &[]).is_err());
}

/// Where nothing is wrong in the data, all that is accepted holds when it is written.
#[rstest]
#[case("together.txt")]
#[case("folders.txt")]
#[case("counts.txt")]
#[case("within.txt")]
#[case("lines.txt")]
#[case("copies.txt")]
#[case("plain-files.txt")]
#[case("identifiers.txt")]
fn what_is_accepted_holds(#[case] fixture: &str) {
    let (_folder, project) = accepted(fixture);
    assert!(!project.schema.tables.is_empty());
    let found: Vec<String> =
        problems(&project.stack, &project.schema).iter().map(|problem| problem.message.clone()).collect();
    assert_eq!(found, Vec::<String>::new());
    let again = learned(&project);
    let sure: Vec<String> = again.proposals.iter().filter(|own| own.band == Band::Accept).map(line).collect();
    assert_eq!(sure, Vec::<String>::new(), "what is written is not proposed again");
}

/// What is asked of columns inside structures is asked still when the schema describes the table.
#[rstest]
fn columns_inside_structures_are_still_asked_for_when_others_are_described() {
    let stages: Vec<String> = (1..=12)
        .map(|id| {
            let next = id % 12 + 1;
            format!("stage = {{ id = {id} way = {{ next = {next} good = coal_{} }} }}\n", id % 4)
        })
        .collect();
    let goods = "Good\ncoal_0\ncoal_1\ncoal_2\ncoal_3\n";
    let schema = "[table.stages]\nfiles = \"stages.hold\"\nformat = { kind = \"blocks\", records = \"stage\" }\nkey = \"id\"\n\
         [table.stages.fields]\n\"way/good\" = { ref = \"goods\" }\n\
         [table.goods]\nfiles = \"goods.txt\"\nformat = { kind = \"delimited\" }\nkey = \"Good\"\n";
    let bundle = format!(
        "=== game/stages.hold\n{}=== game/goods.txt\n{goods}=== schema.toml\n{schema}",
        stages.concat()
    );
    let folder = support::write(&bundle);
    let told = told(&learned(&support::open(&folder)));
    assert!(told.contains("ask stages.way/next: ref = \"stages\""), "{told}");
}

/// A copy of what the schema describes is a copy still.
#[rstest]
fn what_was_left_out_as_a_copy_stays_out() {
    let (_folder, project) = accepted("copies.txt");
    let again = learned(&project);
    let copies: Vec<&str> = again.copies.iter().map(|(copy, _)| copy.as_str()).collect();
    assert_eq!(copies, ["backup/goods.txt", "tables/goods_old.txt"]);
    assert!(again.proposals.iter().all(|own| own.topic != Topic::Table), "{}", told(&again));
}

/// A project of a fixture, with all that is accepted in it written into its schema.
fn accepted(fixture: &str) -> (tempfile::TempDir, Project) {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/learn").join(fixture);
    let folder = support::write(&fs::read_to_string(path).expect("a fixture"));
    let schema = folder.path().join("schema.toml");
    fs::write(&schema, "").expect("a schema");
    let learned = learned(&support::open(&folder));
    let accepted: Vec<&Proposal> = learned.proposals.iter().filter(|own| own.band == Band::Accept).collect();
    fs::write(&schema, written("", &accepted).expect("a schema")).expect("written");
    let project = support::open(&folder);
    (folder, project)
}

#[rstest]
fn what_numbers_mean_is_still_asked_when_their_type_is_written() {
    let (folder, project) = accepted("counts.txt");
    let asked = |project: &Project| -> Vec<String> {
        let learned = learned(project);
        let asked = learned.proposals.iter().filter(|own| own.band == Band::Ask);
        asked.filter(|own| ["about", "flags"].contains(&own.settings[0].0.as_str())).map(line).collect()
    };
    let before = asked(&project);
    let about: Vec<&str> =
        before.iter().filter_map(|line| line.split_once(": ").map(|(head, _)| head)).collect();
    assert_eq!(
        about,
        [
            "ask layouts.count",
            "ask layouts.next",
            "ask world.{value}",
            "ask posts.signals",
            "ask reaches.berths"
        ]
    );
    // What is said once is not asked again.
    let schema = folder.path().join("schema.toml");
    let text = fs::read_to_string(&schema).expect("a schema");
    let signals = text.find("signals = { type = \"integer\"").expect("a field");
    let end = signals + text[signals..].find('}').expect("its end");
    fs::write(&schema, format!("{}, about = \"Lights.\" {}", text[..end].trim_end(), &text[end..]))
        .expect("written");
    let after = asked(&support::open(&folder));
    assert_eq!(after.len() + 1, before.len());
    assert!(!after.iter().any(|line| line.contains("signals")), "{after:#?}");
}

#[rstest]
fn a_number_that_differs_by_chance_is_no_name_where_columns_before_it_are() {
    let folder = support::write(
        "=== game/slots.txt\nroute\tslot\tpay\nra\t1\t70\nra\t2\t31\nra\t3\t12\nrb\t1\t55\nrb\t2\t90\nrc\t1\t8\nrc\t2\t44\n",
    );
    fs::write(folder.path().join("schema.toml"), "").expect("a schema");
    let learned = learned(&support::open(&folder));
    let table = learned.proposals.iter().find(|own| own.topic == Topic::Table).expect("a table");
    assert_eq!(table.settings.last(), Some(&("key".to_owned(), "[\"route\", \"slot\"]".to_owned())));
}

#[rstest]
fn records_are_counted_though_nothing_is_left_to_say() {
    let folder = support::write(
        "=== schema.toml\n[table.stays]\nfiles = \"stays/*.txt\"\nformat = \"delimited\"\nkey = \"{stem}\"\nfields.Host = { ref = \"stays\" }\n=== game/stays/a.txt\nHost\nb\n=== game/stays/b.txt\nHost\na\n",
    );
    let learned = learned(&support::open(&folder));
    assert_eq!((learned.tables, learned.records, learned.proposals.len()), (1, 2, 0));
}

#[rstest]
fn a_confirmation_takes_equally_named_fields_along() {
    let link = |table: &str, field: &str, target: &str, fit: u64| Proposal {
        band: Band::Ask,
        topic: Topic::Link,
        table: table.to_owned(),
        field: Some(field.to_owned()),
        says: String::new(),
        needs: vec![target.to_owned()],
        settings: vec![("ref".to_owned(), format!("\"{target}\""))],
        values: 5,
        fit,
        distinct: 3,
        none: Vec::new(),
        exceptions: Vec::new(),
        rivals: Vec::new(),
        reasons: Vec::new(),
    };
    let all = [
        link("a", "Crew", "crews", 5),
        link("b", "Crew", "crews", 5),
        link("c", "Crew", "crews", 4),
        link("d", "Crew", "barges", 5),
        link("e", "Team", "crews", 5),
    ];
    assert_eq!(confirmed_too(&all, &[0]), [1]);
    assert_eq!(confirmed_too(&all, &[4]), Vec::<usize>::new());
}

/// What cannot be read as a schema, or brings problems, is left out with a reason; what needs it goes too, and the rest stays.
#[rstest]
#[case::it_cannot_be_read("hold", "parts = \"{a} {a}\"", "it cannot be written")]
#[case::it_has_no_such_setting("hold", "lenght = 3", "it cannot be written")]
#[case::it_brings_problems(
    "hold",
    "type = \"integer\"",
    "tried, it brings `wrong-type` 12 times among 24 values: `x0`"
)]
fn what_does_not_hold_is_left_out(#[case] field: &str, #[case] setting: &str, #[case] says: &str) {
    let rows: String = (0..24)
        .map(|at| {
            format!("b{at};{};t{}\n", if at % 2 == 0 { format!("x{at}") } else { at.to_string() }, at % 3)
        })
        .collect();
    let folder = support::write(&format!("=== schema.toml\n\n=== mod/boats.csv\nboat;hold;crew\n{rows}"));
    let described = fs::read_to_string(folder.path().join("stitching.toml")).expect("a project");
    let proposal = |field: Option<&str>, settings: &[(&str, &str)]| Proposal {
        band: Band::Accept,
        topic: if field.is_some() { Topic::Values } else { Topic::Table },
        table: "boats".to_owned(),
        field: field.map(str::to_owned),
        says: String::new(),
        needs: Vec::new(),
        settings: settings.iter().map(|(name, value)| ((*name).to_owned(), (*value).to_owned())).collect(),
        values: 24,
        fit: 24,
        distinct: 24,
        none: Vec::new(),
        exceptions: Vec::new(),
        rivals: Vec::new(),
        reasons: Vec::new(),
    };
    let format = "{ kind = \"delimited\", delimiter = \";\" }";
    let table = [("files", "\"boats.csv\""), ("format", format), ("key", "\"boat\"")];
    let mut proposals = vec![
        proposal(None, &table),
        proposal(Some(field), &[setting.split_once(" = ").expect("a setting")]),
        proposal(Some("crew"), &[("type", "\"text\"")]),
    ];
    let open = |taken: &[&Proposal]| {
        let schema = written("", taken)?;
        Project::described(folder.path(), &described, &[("schema.toml".to_owned(), schema)])
    };
    let found = tried(&mut proposals, |_, _| true, &Default::default(), &open, &Default::default());
    let found = found.expect("the rest holds");
    assert_eq!(found.taken, [0, 2]);
    assert!(matches!(&found.left[..], [(1, reason)] if reason.contains(says)), "{:?}", found.left);
    assert_eq!(
        (proposals[0].band, proposals[1].band, proposals[2].band),
        (Band::Accept, Band::Ask, Band::Accept)
    );
    assert!(proposals[1].reasons.concat().contains(says), "{:?}", proposals[1].reasons);
}

/// What the data says cannot end a note in the schema, whatever the reason tells of it.
#[rstest]
#[case::a_line_end("a\nkey = \"x\"")]
#[case::both("a\r\n[table.evil]")]
#[case::a_control_sign("a\u{1}b")]
fn reasons_stay_notes(#[case] said: &str) {
    let folder = support::write("=== schema.toml\n\n=== mod/boats.csv\nboat;hold\na;1\n");
    let project = support::open(&folder);
    let mut learned = learned(&project);
    learned.proposals[0].reasons.push(format!("no `{said}` here"));
    let text = written("", &[&learned.proposals[0]]).expect("a schema");
    let (schema, problems) = stitching_core::schema::read(&[("s.toml".to_owned(), text.clone())], &[]);
    assert_eq!(problems.len(), 0, "{text}");
    assert_eq!(schema.tables.len(), 1, "{text}");
    assert!(text.lines().any(|line| line.starts_with("# no `a")), "{text}");
}
