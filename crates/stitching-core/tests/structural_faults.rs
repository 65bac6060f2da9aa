//! Structural faults at every place: each sign that holds a file together is taken away, and doubled, one at a time, and
//! `check` is asked what it says.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use rstest::rstest;
use std::fmt::Write;
use std::fs;
use std::path::Path;
use stitching_core::checks::check;
use stitching_core::tables::read_all;
use stitching_core::text::Text;
use stitching_core::{Problem, Project};

/// What came of the faults.
#[derive(Debug, Default)]
struct Outcome {
    faults: usize,
    /// Told at all.
    found: usize,
    /// Told at the line of the fault, or one before or behind it; a sign that closes something also at the line of what it
    /// closes.
    near: usize,
    /// Told by more than two problems.
    many: usize,
    /// With a problem in a record that the fault is not in.
    elsewhere: usize,
    notes: String,
}

/// The lines (1-based) of each record of a file, with the record as it is shown.
fn records(project: &Project, path: &str, text: &str) -> Vec<(std::ops::RangeInclusive<usize>, String)> {
    let line = |at: u32| text[..at as usize].matches('\n').count() + 1;
    let mut out = Vec::new();
    for file in project.stack.files().iter().filter(|file| file.path.as_str() == path) {
        for id in project.schema.tables_of(&file.path) {
            let table = &project.schema.tables[id];
            for record in read_all(table, &file.path, &Text::of_file(text)) {
                let lines = line(record.span.start)..=line(record.span.end.saturating_sub(1));
                out.push((lines, record.key.unwrap_or_default()));
            }
        }
    }
    out
}

/// Puts one fault after another into the file at `path` of a bundle.
fn attack(bundle: &str, path: &str, signs: &str) -> Outcome {
    let (folder, project) = support::project(bundle);
    assert_eq!(
        support::lines(&check(project.view()).problems),
        Vec::<String>::new(),
        "sound without a fault"
    );
    let file = folder.path().join("mod").join(path);
    let text = fs::read_to_string(&file).expect("the file");
    let records = records(&project, path, &text);
    let mut out = Outcome::default();
    for (at, sign) in text.char_indices().filter(|(_, c)| signs.contains(*c)) {
        for change in ["", "doubled"] {
            let replacement = if change.is_empty() { String::new() } else { format!("{sign}{sign}") };
            let broken = format!("{}{replacement}{}", &text[..at], &text[at + sign.len_utf8()..]);
            fs::write(&file, &broken).expect("written");
            let line = text[..at].matches('\n').count() + 1;
            let project = support::open(&folder);
            let problems = check(project.view()).problems;
            let head = if change.is_empty() { head_of(&text, line) } else { line };
            out.judge(&problems, &records, [line, head], &format!("{path}:{line} `{sign}` {change}"));
        }
    }
    out
}

/// The line (1-based) that heads what `line` closes: the nearest before that is indented as far.
fn head_of(text: &str, line: usize) -> usize {
    let lines: Vec<&str> = text.lines().collect();
    let indent = |line: &str| line.len() - line.trim_start().len();
    let own = indent(lines[line - 1]);
    (1..line).rev().find(|before| indent(lines[before - 1]) == own).unwrap_or(line)
}

impl Outcome {
    fn judge(
        &mut self,
        problems: &[Problem],
        records: &[(std::ops::RangeInclusive<usize>, String)],
        [line, head]: [usize; 2],
        fault: &str,
    ) {
        let is_near = |own: usize| own == head || (line.saturating_sub(1)..=line + 1).contains(&own);
        let told = |problem: &Problem| is_near(problem.place.line);
        let sound = |problem: &&Problem| {
            let key = problem.key.as_deref();
            key.is_some_and(|key| records.iter().any(|(lines, own)| own == key && !lines.contains(&line)))
        };
        let elsewhere = problems.iter().filter(sound).count();
        let near = problems.iter().any(told);
        self.faults += 1;
        self.found += usize::from(!problems.is_empty());
        self.near += usize::from(near);
        self.many += usize::from(problems.len() > 2);
        self.elsewhere += usize::from(elsewhere > 0);
        if !near || problems.len() > 2 || elsewhere > 0 {
            writeln!(self.notes, "--- {fault}").expect("written");
            for line in support::lines(problems) {
                writeln!(self.notes, "    {line}").expect("written");
            }
        }
    }
}

/// How many faults there are; how many are told at all, and near to where they are. What is not told is no fault to a
/// reader: a comma in a text, `{` without the sign before it, a text that begins with a quote.
#[rstest]
#[case::blocks("blocks", "convoys.txt", "{}()\"=", [108, 98, 97])]
#[case::by_indent("indent", "gates.yml", ":-[]\"{},", [88, 88, 88])]
#[case::json("json", "gates.json", "{}[]\",:", [220, 220, 220])]
#[case::json_rows("json", "offers.json", "{}[]\",:", [110, 110, 110])]
#[case::xml("xml", "wharves.xml", "<>/\"=", [180, 176, 176])]
#[case::ini("ini", "crews.ini", "[]=\"", [38, 36, 36])]
#[case::delimited("delimited", "reaches.csv", ",\"", [46, 41, 41])]
#[case::texts("lines", "texts.en.txt", "=\"", [18, 9, 9])]
#[case::lines("lines", "route.txt", ",", [6, 6, 6])]
fn a_fault_at_every_place(
    #[case] fixture: &str,
    #[case] path: &str,
    #[case] signs: &str,
    #[case] expected: [usize; 3],
) {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/structural_faults");
    let bundle = fs::read_to_string(folder.join(format!("{fixture}.txt"))).expect("a fixture");
    let outcome = attack(&bundle, path, signs);
    let counts = [outcome.faults, outcome.found, outcome.near];
    assert_eq!(counts, expected, "{}", outcome.notes);
    assert_eq!([outcome.many, outcome.elsewhere], [0, 0], "{}", outcome.notes);
}
