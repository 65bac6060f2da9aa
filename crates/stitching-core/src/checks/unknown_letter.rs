//! A text with a letter that the game's font lacks.

use super::at_places::problems_at;
use super::each_text::each_text;
use super::{Check, Run};
use crate::Code;
use crate::links::Index;
use crate::problem::{Problem, Severity};
use crate::text::marks;
use regex::Regex;

pub(super) static CHECK: Check = Check {
    code: Code::UNKNOWN_LETTER,
    severity: Severity::Warning,
    about: "a text with a letter that the game's font lacks",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A text with a character that is not among the `letters` of its table. Blanks and line ends
    are always allowed, and marks such as {name} or <b> are not looked at.

Why it matters
    The player sees a box or a question mark. Letters that come from a word processor, such as
    curly quotes and long dashes, look right everywhere but in the game.

When to ignore it
    When the mod brings a font that has the letter: add it to `letters`.

Example, wrong
    letters = \"A-Za-z .\", and the text is Slip\u{2019}s end

Example, right
    letters = \"A-Za-z .\'\", and the text is Slip\'s end
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let asked = index.schema.text_tables();
    let asked = asked.filter_map(|id| Some((id, index.schema.tables[id].not_letters.as_ref()?)));
    let found = asked.flat_map(|(id, not_letters)| {
        each_text(index, id, &|own| {
            let message = said(not_letters, own.text, &index.schema.languages[own.language])?;
            let help = "write another letter, or add it to `letters` if the font has it";
            Some(own.found(message, help.to_owned()))
        })
    });
    problems_at(index, &CHECK, found.collect())
}

/// What is said of a text with such letters outside its marks; each letter is named once.
fn said(not_letters: &Regex, text: &str, language: &str) -> Option<String> {
    if !not_letters.is_match(text) {
        return None;
    }
    let mut bare = text.to_owned();
    for mark in marks(text) {
        bare = bare.replacen(mark, " ", 1);
    }
    let mut letters: Vec<String> = Vec::new();
    for found in not_letters.find_iter(&bare) {
        let letter = found.as_str().chars().next()?;
        let shown = format!("`{letter}` (U+{:04X})", u32::from(letter));
        if !letters.contains(&shown) && letters.len() < 5 {
            letters.push(shown);
        }
    }
    let names = letters.join(", ");
    (!letters.is_empty()).then(|| format!("the text in {language} has {names}, which the font lacks"))
}
