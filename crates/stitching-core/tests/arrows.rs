//! The way through the core: a module uses those before it in this list, never those behind it.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

use std::path::{Path, PathBuf};

/// The modules in their order; ARCHITECTURE.md draws them.
const ORDER: [&str; 23] = [
    "code",
    "help",
    "text",
    "problem",
    "error",
    "expressions",
    "settings",
    "layers",
    "formats",
    "schema",
    "tables",
    "reading",
    "project",
    "links",
    "rows",
    "rules",
    "checks",
    "fields",
    "views",
    "translation",
    "changes",
    "journal",
    "learn",
];

/// What `lib.rs` gives again under a shorter name, and the module it comes from.
const SHORT: [(&str, &str); 10] = [
    ("Code", "code"),
    ("Error", "error"),
    ("ErrorKind", "error"),
    ("Refusal", "error"),
    ("Fix", "problem"),
    ("Place", "problem"),
    ("Problem", "problem"),
    ("Related", "problem"),
    ("Severity", "problem"),
    ("Project", "project"),
];

fn files(folder: &Path, out: &mut Vec<PathBuf>) {
    for entry in std::fs::read_dir(folder).expect("a folder") {
        let path = entry.expect("an entry").path();
        match path.is_dir() {
            true => files(&path, out),
            false => out.push(path),
        }
    }
}

/// The modules that a file names behind `crate::`, its tests apart.
fn named(source: &str) -> Vec<String> {
    let source = source.split("#[cfg(test)]").next().unwrap_or_default();
    let code: String =
        source.lines().filter(|line| !line.trim_start().starts_with("//")).collect::<Vec<_>>().join("\n");
    let mut out = Vec::new();
    for after in code.split("crate::").skip(1) {
        let names: Vec<&str> = match after.strip_prefix('{') {
            Some(list) => list.split('}').next().unwrap_or_default().split(',').collect(),
            None => vec![after],
        };
        for name in names {
            let end = |next: char| !(next.is_alphanumeric() || next == '_');
            out.push(name.trim().split(end).next().unwrap_or_default().to_owned());
        }
    }
    out
}

#[test]
fn no_arrow_runs_back() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut all = Vec::new();
    files(&root, &mut all);
    let rank = |module: &str| ORDER.iter().position(|own| *own == module);
    let mut wrong = Vec::new();
    for path in all {
        let inside = path.strip_prefix(&root).expect("inside").to_string_lossy().replace('\\', "/");
        let module = inside.split(['/', '.']).next().unwrap_or_default().to_owned();
        if module == "lib" {
            continue;
        }
        let own = rank(&module).unwrap_or_else(|| panic!("`{module}` has no place in the order"));
        let source = std::fs::read_to_string(&path).expect("a source file");
        for name in named(&source) {
            let name =
                SHORT.iter().find(|(short, _)| *short == name).map_or(name.as_str(), |(_, module)| module);
            match rank(name) {
                Some(other) if other > own => wrong.push(format!("{inside} uses {name}")),
                Some(_) => {}
                None => wrong.push(format!("{inside} uses `{name}`, which has no place in the order")),
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}

/// Which command does something is the program's matter: the core offers a `NextStep`.
#[test]
fn no_text_names_a_command_or_an_option() {
    let root = Path::new(env!("CARGO_MANIFEST_DIR")).join("src");
    let mut all = Vec::new();
    files(&root, &mut all);
    let mut wrong = Vec::new();
    for path in all {
        let source = std::fs::read_to_string(&path).expect("a source file");
        for (at, line) in source.lines().enumerate() {
            let code = !line.trim_start().starts_with("//");
            if code && (line.contains("`stitching ") || line.contains("`--")) {
                wrong.push(format!("{}:{}: {}", path.display(), at + 1, line.trim()));
            }
        }
    }
    assert!(wrong.is_empty(), "{wrong:#?}");
}
