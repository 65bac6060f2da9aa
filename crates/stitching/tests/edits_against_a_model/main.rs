//! Random edits by commands, in every format, against a model that is nothing but maps: after each the data is as the model
//! says, the mod has no problems, and `undo` and `redo` are exact to the byte.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod lists;
mod records;
#[path = "../support/mod.rs"]
mod support;

use std::path::Path;
use support::{stitching, tree};

/// The same numbers for the same name.
struct Dice(u64);

impl Dice {
    fn of(name: &str) -> Dice {
        Dice(name.bytes().fold(0x9e37_79b9_7f4a_7c15, |seed, byte| {
            (seed ^ u64::from(byte)).wrapping_mul(0x0100_0000_01b3)
        }))
    }

    fn below(&mut self, end: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) as usize % end.max(1)
    }

    fn one<'a, T>(&mut self, of: &'a [T]) -> &'a T {
        &of[self.below(of.len())]
    }
}

/// Runs an edit, and `undo` and `redo` after it; whether it was made. What is refused changes nothing.
fn make(folder: &Path, words: &[String], may_be_refused: bool) -> bool {
    let words: Vec<&str> = words.iter().map(String::as_str).collect();
    let mod_folder = folder.join("mod");
    let before = tree(&mod_folder);
    let run = stitching(folder, &words);
    let after = tree(&mod_folder);
    if run.status != 0 {
        assert!(may_be_refused && run.status == 1, "{words:?}: {}", run.err);
        assert!(before == after, "{words:?} is refused, and something is changed");
        return false;
    }
    let check = stitching(folder, &["check"]);
    assert_eq!(check.status, 0, "after {words:?}\n{}", check.out);
    assert_eq!(stitching(folder, &["undo"]).status, 0, "{words:?}");
    assert!(tree(&mod_folder) == before, "{words:?} is undone");
    assert_eq!(stitching(folder, &["redo"]).status, 0, "{words:?}");
    assert!(tree(&mod_folder) == after, "{words:?} is made again");
    true
}
