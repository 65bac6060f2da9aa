//! The page of shapes, `docs/shapes.md`: each shape is written into a folder, and its commands are run there.
//! `UPDATE_FIXTURES=1` writes their answers and the index of the page anew.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};
use stitching_core::schema::schema_sections;
use support::{answer, write_project};

const COMMAND: &str = "$ stitching ";
const INDEX: [&str; 2] = ["<!-- index -->\n", "<!-- end of index -->\n"];

fn page() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/shapes.md")
}

/// A piece of the page.
#[derive(Debug, PartialEq)]
enum Piece<'p> {
    /// Anything else, as it is written.
    Prose(&'p str),
    /// A block of code that is a file: all of it, the name in the line before, and the content.
    File(&'p str, &'p str, &'p str),
    /// A block of commands with what they answer.
    Commands(&'p str),
}

/// The pieces of a section.
fn pieces(section: &str) -> Vec<Piece<'_>> {
    let mut out = Vec::new();
    let mut rest = section;
    while let Some(start) = rest.find("\n```") {
        let code = rest[start + 1..].find('\n').expect("an end of the line") + start + 2;
        let end = rest[code..].find("\n```").expect("an end of the block") + code + 1;
        let all = end + "```\n".len();
        let language = rest[start + 4..code].trim();
        match (language, rest[..start].trim_end().rsplit('\n').next().unwrap_or_default()) {
            ("console", _) => {
                out.push(Piece::Prose(&rest[..code]));
                out.push(Piece::Commands(&rest[code..end]));
                out.push(Piece::Prose(&rest[end..all]));
            }
            (_, name) => {
                let name = name.trim().trim_matches('`');
                assert!(
                    name.contains('.') && !name.contains(' '),
                    "no name of a file before {code:?} in {section}"
                );
                out.push(Piece::File(&rest[..all], name, &rest[code..end]));
            }
        }
        rest = &rest[all..];
    }
    out.push(Piece::Prose(rest));
    out
}

/// The section as it should be: its files written to a folder, its commands answered one after another.
fn answered(section: &str) -> String {
    let folder = tempfile::tempdir().expect("a folder");
    write_project(folder.path(), section.contains("`game/"));
    let mut out = String::new();
    for piece in pieces(section) {
        match piece {
            Piece::Prose(text) => out += text,
            Piece::File(all, name, content) => {
                let path = folder.path().join(name);
                fs::create_dir_all(path.parent().expect("a folder")).expect("a folder");
                fs::write(path, content).expect("written");
                out += all;
            }
            Piece::Commands(block) => {
                let commands = block.lines().filter_map(|line| line.strip_prefix(COMMAND));
                let answers = commands.map(|command| {
                    let answer = answer(folder.path(), command);
                    format!("{COMMAND}{command}\n{}\n", answer.trim_end())
                });
                out += &answers.collect::<Vec<_>>().join("\n");
            }
        }
    }
    out
}

/// The links to all sections, by group.
fn index(page: &str) -> String {
    let mut out = String::new();
    for line in page.lines() {
        match (line.strip_prefix("## "), line.strip_prefix("### ")) {
            (Some(group), _) => write!(out, "\n**{group}**\n\n").expect("written"),
            (_, Some(shape)) => {
                let kept = shape.to_lowercase().replace(' ', "-");
                let anchor: String = kept.chars().filter(|c| c.is_alphanumeric() || *c == '-').collect();
                writeln!(out, "- [{shape}](#{anchor})").expect("written");
            }
            _ => {}
        }
    }
    format!("{}\n", out.trim_start_matches('\n'))
}

/// The page with `index` in place of its own.
fn with_index(page: &str, index: &str) -> String {
    let (head, rest) = page.split_once(INDEX[0]).expect("an index");
    let (_, tail) = rest.split_once(INDEX[1]).expect("the end of the index");
    format!("{head}{}\n{index}{}{tail}", INDEX[0], INDEX[1])
}

#[test]
fn the_page_says_what_happens() {
    let written = fs::read_to_string(page()).expect("the page");
    let mut found = String::new();
    for (number, section) in written.split("\n### ").enumerate() {
        let section = if number == 0 { section.to_owned() } else { format!("\n### {section}") };
        found += &if number == 0 { section } else { answered(&section) };
    }
    let found = with_index(&found, &index(&found));
    if std::env::var_os("UPDATE_FIXTURES").is_some() {
        fs::write(page(), &found).expect("written");
    }
    for (found, written) in found.split("\n### ").zip(written.split("\n### ")) {
        assert_eq!(found, written);
    }
    assert_eq!(found.len(), written.len());
}

/// All schemas of the page.
fn schemas() -> String {
    let page = fs::read_to_string(page()).expect("the page");
    let of_section = |section: &str| {
        let files = pieces(section).into_iter().filter_map(|piece| match piece {
            Piece::File(_, "schema.toml", content) => Some(content.to_owned()),
            _ => None,
        });
        files.collect::<String>()
    };
    page.split("\n### ").skip(1).map(|section| of_section(&format!("\n### {section}"))).collect()
}

#[test]
fn every_setting_of_the_schema_has_a_shape() {
    let schemas = schemas();
    let mut missing = Vec::new();
    for (section, settings) in schema_sections() {
        let kind = section.split('"').nth(1).filter(|_| section.starts_with("format"));
        for setting in settings {
            let is_there = |line: &str| {
                let of_kind = kind.is_none_or(|kind| line.contains(&format!("kind = \"{kind}\"")));
                let before = |at: usize| line[..at].chars().next_back().is_none_or(|c| " .{".contains(c));
                let after = |at: usize| line[at..].trim_start().starts_with(['=', '.', ']']);
                let mut found = line.match_indices(setting.name);
                of_kind && found.any(|(at, name)| before(at) && after(at + name.len()))
            };
            if setting.name != "kind" && !schemas.lines().any(is_there) {
                missing.push(format!("{section}: {}", setting.name));
            }
        }
    }
    assert!(missing.is_empty(), "docs/shapes.md has no example of\n{}", missing.join("\n"));
}

#[rstest]
#[case(
    "## B\n### A list, in \"quotes\"\n### By {x}\n",
    "**B**\n\n- [A list, in \"quotes\"](#a-list-in-quotes)\n- [By {x}](#by-x)\n\n"
)]
#[case("# Title\n", "\n")]
fn anchors(#[case] page: &str, #[case] expected: &str) {
    assert_eq!(index(page), expected);
}
