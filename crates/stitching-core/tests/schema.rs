//! Reading project files and schemas that are right, and the layers they name.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::collections::BTreeMap;
use std::fs;
use std::sync::Arc;
use stitching_core::help::NextStep;
use stitching_core::layers::RelPath;
use stitching_core::schema::{self, KeyPart, Layout, Schema, Target, Texts, ValueRule, ValueType};
use stitching_core::{Error, ErrorKind, Project};

fn read(text: &str) -> Schema {
    let languages = ["en".to_owned(), "de".to_owned()];
    let (schema, problems) = schema::read(&[("s.toml".to_owned(), text.to_owned())], &languages);
    assert_eq!(support::lines(&problems), Vec::<String>::new());
    schema
}

fn table(more: &str) -> Schema {
    read(&format!("[table.t]\nfiles = \"t/*.txt\"\nformat = {{ kind = \"delimited\" }}\n{more}"))
}

#[rstest]
#[case("key = \"A\"", &["A"])]
#[case("key = [\"A\", \"B\"]", &["A", "B"])]
#[case("key = \"{stem}\"", &["{stem}"])]
#[case("key = \"{file}\"", &["{file}"])]
#[case("key = \"{position}\"", &["{position}"])]
#[case("key = [\"A\", \"{position}\"]", &["A", "{position}"])]
#[case("key = \"{path}\"", &["{path}"])]
#[case("key = [\"{stem}\", \"A\"]", &["{stem}", "A"])]
#[case("key = \"{stem}/{A}\"", &["{stem}", "A"])]
#[case("key = \"stem\"", &["stem"])]
#[case("key = \"{A}\"", &["A"])]
fn keys(#[case] text: &str, #[case] parts: &[&str]) {
    let schema = table(text);
    let found: Vec<&str> =
        schema.tables[0].key.iter().map(|part| schema.tables[0].key_part_name(*part)).collect();
    assert_eq!(found, parts);
    // A field of that name is not the file's name.
    assert_eq!(schema.tables[0].key == [KeyPart::Stem], parts == ["{stem}"]);
}

#[rstest]
#[case("t/a.txt", true)]
#[case("t/a b.txt", true)]
#[case("t/sub/a.txt", false)]
#[case("T/a.txt", false)]
#[case("a.txt", false)]
fn file_patterns(#[case] path: &str, #[case] taken: bool) {
    let schema = table("key = \"A\"");
    assert_eq!(schema.tables[0].takes(&RelPath::parse(path).expect("a path")), taken);
}

#[rstest]
#[case("text/{lang}.txt", "text/en.txt", Some("en"))]
#[case("**/{lang}/names.txt", "a/b/de/names.txt", Some("de"))]
#[case("**/{lang}/names.txt", "de/names.txt", Some("de"))]
#[case("text/*_{lang}.txt", "text/all_the_names_pl.txt", Some("pl"))]
#[case("text/*.txt", "text/en.txt", None)]
fn languages_in_paths(#[case] pattern: &str, #[case] path: &str, #[case] language: Option<&str>) {
    let schema = read(&format!(
        "[table.t]\nfiles = \"{pattern}\"\nformat = {{ kind = \"lines\", line = \"{{key}}={{text}}\" }}\nkey = \"key\"\ntexts = \"text\"\n"
    ));
    let path = RelPath::parse(path).expect("a path");
    assert!(schema.tables[0].takes(&path));
    assert_eq!(schema.tables[0].language_of(&path), language);
}

#[rstest]
fn fields_and_their_rules() {
    let schema = table(
        r#"key = "A"
[table.t.fields]
A = { pattern = "[a-z]+", about = "the key" }
B = { ref = ["t", "u", "u.N"], none = ["-", 0, -1.5], required = true }
C = { list = ";", parts = "{x}:{y}", x = { ref = "u" }, y = { type = "integer", range = [1, inf] } }
D = { text = true, follows = "{key}_d" }
E = { file = 'maps\{}.bmp', unit = "px", note = true, optional = true }
F = { type = "boolean", choice = ["yes", "no"], unique = true }
[table.u]
files = "u.txt"
format = { kind = "delimited", header = false, columns = ["K", "N"] }
key = "K"
[table.u.fields]
N = { type = "integer" }
"#,
    );
    let table = &schema.tables[0];
    let rule = |name: &str| match table.fields[table.field(name).expect("a field")].layout {
        Layout::Whole(rule) => &table.rules[rule],
        _ => panic!("{name} is taken apart"),
    };
    let (t, u) = (Target { table: 0, rule: None }, Target { table: 1, rule: None });
    assert_eq!(rule("B").refs[..2], [t, u]);
    assert!(rule("B").refs[2].rule.is_some());
    assert_eq!(rule("B").none, ["-", "0", "-1.5"]);
    assert!(rule("B").required && rule("B").is_none("") && rule("B").is_none("0") && !rule("B").is_none("x"));
    let c = &table.fields[table.field("C").expect("a field")];
    let Layout::Parts(template, rules) = &c.layout else { panic!("C has parts") };
    assert_eq!(template.parts(), ["x", "y"]);
    assert_eq!((&table.rules[rules[0]].refs[..], table.rules[rules[1]].kind), (&[u][..], ValueType::Integer));
    assert_eq!(table.rules[rules[1]].range, Some((1.0, f64::INFINITY)));
    let file = |rule: &ValueRule| rule.file.as_ref().and_then(|file| file.fill("a", |_| None));
    assert_eq!(file(rule("E")).as_deref(), Some("maps/a.bmp"));
    let e = &table.fields[table.field("E").expect("a field")];
    assert!(e.note && e.optional && e.unit.as_deref() == Some("px"));
    assert!(rule("F").unique && rule("F").kind == ValueType::Boolean);
    let widened = table.widened(&["A".to_owned(), "New".to_owned(), String::new()]);
    assert_eq!(widened.fields.len(), table.fields.len() + 1, "only what is not described is added");
}

#[rstest]
#[case("texts = true", Texts::Fields(vec![(0, 1), (1, 2)]))]
#[case("texts = { de = \"German\" }", Texts::Fields(vec![(1, 1)]))]
#[case("texts = \"Text\"", Texts::Fields(vec![(0, 1)]))]
fn tables_of_texts(#[case] texts: &str, #[case] expected: Texts) {
    let schema = table(&format!("key = \"A\"\n{texts}"));
    assert_eq!(schema.tables[0].texts, Some(expected));
    assert_eq!(schema.text_tables().collect::<Vec<_>>(), [0]);
}

#[rstest]
fn several_schema_files_speak_of_each_other() {
    let folder = support::write(
        r#"=== stitching.toml bom crlf
[project]
name = "two"
schema = ["a.toml", "more/b.toml"]
[[layer]]
path = "game"
[[layer]]
name = "own"
path = "./mod"
=== a.toml
[table.a]
files = "a.txt"
format = { kind = "delimited" }
key = "K"
[table.a.fields]
B = { ref = "b" }
=== more/b.toml
[table.b]
files = "b.txt"
format = { kind = "delimited" }
key = "K"
=== game/b.txt
K
x
=== mod/a.txt
K	B
k	x
"#,
    );
    let project = support::open(&folder);
    assert_eq!(project.schema.tables.len(), 2);
    let layers: Vec<(&str, bool)> =
        project.stack.layers().iter().map(|layer| (layer.name.as_str(), layer.is_mod)).collect();
    assert_eq!(layers, [("game", false), ("own", true)]);
    assert_eq!(project.schema.languages, ["en"], "one language unless others are named");
    assert_eq!(stitching_core::checks::problems(&project.stack, &project.schema), []);
    // The project is found from any folder inside it.
    let inner = folder.path().join("mod");
    assert_eq!(Project::find(&inner).expect("found").canonicalize().ok(), folder.path().canonicalize().ok());
}

#[rstest]
fn without_a_project_there_is_a_hint() {
    let folder = tempfile::tempdir().expect("a folder");
    let error = Project::find(folder.path()).expect_err("none");
    assert_eq!(error.kind(), ErrorKind::Usage);
    assert_eq!(error.help().and_then(|help| help.step), Some(NextStep::NameProject), "{error}");
    assert!(matches!(Project::open(folder.path()), Err(Error::NoProject(_))));
}

/// Trying a change out shows its files without touching the disk.
#[rstest]
fn a_stack_can_be_looked_at_as_it_would_be() {
    let folder =
        support::write("=== schema.toml\n=== game/a.txt\nbase\n=== mod/b.txt\nown\n=== mod/c.txt\ngone\n");
    let project = support::open(&folder);
    let path = |text: &str| RelPath::parse(text).expect("a path");
    let mut staged = BTreeMap::new();
    staged.insert(path("a.txt"), Some(Arc::new(b"brought up".to_vec())));
    staged.insert(path("c.txt"), None);
    let after = project.stack.with_staged(&staged);
    let content = |text: &str| {
        let effective = after.effective(after.top());
        let file = effective.into_iter().find(|file| after.files()[*file].path == path(text))?;
        let mut bytes = Vec::new();
        after.read(file, &mut bytes).expect("read");
        String::from_utf8(bytes).ok()
    };
    assert_eq!(content("a.txt").as_deref(), Some("brought up"));
    assert_eq!(content("b.txt").as_deref(), Some("own\n"));
    assert_eq!(content("c.txt"), None);
    assert_eq!(fs::read(folder.path().join("game/a.txt")).expect("there"), b"base\n");
}

/// Version control, the tool's own files and folders are no data.
#[rstest]
fn what_is_no_data_is_not_listed() {
    let folder = support::write(
        "=== schema.toml\n=== mod/.git/config\nx\n=== mod/.stitching/lock\nx\n=== mod/a/.stitching-new-1\nx\n=== mod/a/b.txt\nx\n=== mod/.hidden\nx\n",
    );
    let project = support::open(&folder);
    let paths: Vec<&str> = project.stack.files().iter().map(|file| file.path.as_str()).collect();
    assert_eq!(paths, [".hidden", "a/b.txt"]);
}

/// Each setting of a format that is described is read: given as something that it cannot be, it is named.
#[rstest]
fn each_setting_of_a_format_is_read() {
    for kind in stitching_core::formats::KINDS {
        for setting in kind.settings.iter().filter(|setting| setting.name != "kind") {
            // What a format cannot do without is there; a date is never right.
            let more = match (kind.name, setting.name) {
                ("lines", name) if name != "line" => ", line = \"{a}\"",
                ("xml", name) if name != "records" => ", records = \"/a\"",
                ("blocks", name) if !["records", "entries", "items"].contains(&name) => ", records = \"/a\"",
                ("ini", "of" | "delimiter" | "header" | "columns" | "short_rows") => ", records = \"rows\"",
                _ => "",
            };
            let text = format!(
                "[table.t]\nfiles = \"t/*.txt\"\nkey = \"a\"\nformat = {{ kind = \"{}\", {} = 2026-11-28{more} }}\n",
                kind.name, setting.name
            );
            let (_, problems) = schema::read(&[("s.toml".to_owned(), text)], &[]);
            let named = problems
                .iter()
                .any(|problem| problem.message.contains(&format!("`{}` must be", setting.name)));
            assert!(
                named,
                "`{}` of {} is not read: {:?}",
                setting.name,
                kind.name,
                support::lines(&problems)
            );
        }
    }
}

/// Each setting of tables, fields and rules stands in some fixture or test, so that something fails if it is lost.
#[rstest]
fn each_setting_is_used_by_a_test() {
    let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("tests");
    let (mut all, mut open) = (String::new(), vec![root]);
    while let Some(folder) = open.pop() {
        for entry in fs::read_dir(folder).expect("a folder").flatten() {
            match entry.path() {
                path if path.is_dir() => open.push(path),
                path => all.push_str(&String::from_utf8_lossy(&fs::read(path).expect("a file"))),
            }
        }
    }
    for (heading, settings) in schema::schema_sections() {
        for setting in settings {
            let written = [" = ", "="].iter().any(|sign| all.contains(&format!("{}{sign}", setting.name)));
            let heads = all.contains(&format!(".{}]]", setting.name));
            assert!(written || heads, "no test has `{}` of {heading}", setting.name);
        }
    }
}
