//! Faults of all declared kinds put into made-up games, one at a time: each must be told, by its code and at its line, and
//! nothing else.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod faults;
mod game;
#[path = "../support/mod.rs"]
mod support;

use faults::{Change, Fault, fault};
use game::{Game, SCHEMA};
use rstest::rstest;
use std::fmt::Write;
use std::fs;
use std::path::Path;
use stitching_core::Problem;
use stitching_core::checks::check;

/// The same numbers for the same name.
pub struct Dice(u64);

impl Dice {
    fn of(name: &str) -> Dice {
        Dice(name.bytes().fold(0x9e37_79b9_7f4a_7c15, |seed, byte| {
            (seed ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
        }))
    }

    pub fn below(&mut self, end: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) as usize % end.max(1)
    }

    pub fn one<'a, T>(&mut self, of: &'a [T]) -> &'a T {
        &of[self.below(of.len())]
    }

    pub fn word<'a>(&mut self, of: &[&'a str]) -> &'a str {
        of[self.below(of.len())]
    }

    pub fn name<'a>(&mut self, of: &'a [String]) -> &'a str {
        &of[self.below(of.len())]
    }
}

/// What came of the faults.
#[derive(Default)]
struct Outcome {
    faults: usize,
    /// Told by its code at its line.
    found: usize,
    /// Problems besides.
    others: usize,
    notes: String,
}

/// Makes the changes below `folder`, or, with `back`, what the game had before.
fn make(folder: &Path, changes: &[Change], back: Option<&Game>) {
    for (path, text) in changes {
        let (file, text) = (folder.join("mod").join(path), text.clone());
        let text = match back {
            Some(game) => game.files.contains_key(path).then(|| game.text(path)),
            None => text,
        };
        match text {
            Some(text) => {
                fs::create_dir_all(file.parent().expect("a folder")).expect("a folder");
                fs::write(file, text).expect("written");
            }
            None => fs::remove_file(file).expect("removed"),
        }
    }
}

impl Outcome {
    fn judge(&mut self, fault: &Fault, problems: &[Problem]) {
        self.faults += 1;
        let is_it = |problem: &&Problem| {
            let place = (problem.place.path.clone(), problem.place.line);
            fault.codes.contains(&problem.code) && fault.places.contains(&place)
        };
        let (found, others): (Vec<&Problem>, Vec<&Problem>) = problems.iter().partition(is_it);
        self.found += usize::from(!found.is_empty());
        let besides = others.len() + found.len().saturating_sub(1);
        self.others += besides;
        if found.is_empty() || besides > 0 {
            let told = support::lines(problems).join("\n    ");
            let _ =
                writeln!(self.notes, "{}: {:?} at {:?}\n    {told}", fault.kind, fault.codes, fault.places);
        }
    }
}

#[rstest]
fn each_fault_is_told_where_it_is_and_nothing_else(
    #[values("frost", "thaw", "flood", "drought", "fog", "gale", "dusk", "dawn")] seed: &str,
) {
    // Two thousand in all take more than a minute.
    let faults = if std::env::var_os("EXHAUSTIVE").is_some() { 250 } else { 25 };
    let mut dice = Dice::of(seed);
    let game = Game::of(&mut dice);
    let mut bundle = format!("=== schema.toml\n{SCHEMA}");
    for path in game.files.keys() {
        let _ = write!(bundle, "\n=== mod/{path}\n{}", game.text(path).trim_end_matches('\n'));
    }
    let folder = support::write(&(bundle + "\n"));
    let clean = check(support::open(&folder).view());
    assert_eq!(support::lines(&clean.problems), Vec::<String>::new(), "sound without a fault");
    let mut out = Outcome::default();
    while out.faults < faults {
        let Some(fault) = fault(&game, &mut dice) else { continue };
        make(folder.path(), &fault.changes, None);
        out.judge(&fault, &check(support::open(&folder).view()).problems);
        make(folder.path(), &fault.changes, Some(&game));
    }
    let again = check(support::open(&folder).view());
    assert_eq!(support::lines(&again.problems), Vec::<String>::new(), "all faults are taken back");
    let most = out.faults.div_ceil(100);
    let summary = format!("{} of {} found, {} problems besides", out.found, out.faults, out.others);
    assert!(out.found * 100 >= out.faults * 99 && out.others <= most, "{summary}\n{}", out.notes);
}
