//! A text with a letter that the game's font lacks.

use super::at_places::{Found, problems_at};
use super::{Check, Run};
use crate::Code;
use crate::links::{Index, language_fields};
use crate::problem::{Problem, Severity};
use crate::reading::{FileHits, Needles, TableScan, scan};
use crate::schema::TableId;
use crate::tables::{RecordView, all_fields};
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
    let found = asked.flat_map(|(id, not_letters)| of_table(index, id, not_letters));
    problems_at(index, &CHECK, found.collect())
}

fn of_table(index: &Index<'_>, id: TableId, not_letters: &Regex) -> Vec<Found> {
    let table = &index.schema.tables[id];
    let mut needles = Needles::default();
    needles.add_any();
    let plan = TableScan { fields: all_fields(table), needles, hashes: None }.alone(index.schema, id);
    let each = |_: TableId, record: &RecordView<'_>, hits: &mut Vec<Found>| {
        for (language, at) in language_fields(index.schema, table, record.path, |at| record.value(at)) {
            let (Some(text), Some(cell)) = (record.value(at), record.cell(at)) else { continue };
            let Some(message) = said(not_letters, &text, &index.schema.languages[language]) else { continue };
            hits.push(Found {
                file: 0,
                span: Some(cell.span),
                table: id,
                key: record.key(),
                field: Some(table.fields[at].name.clone()),
                value: Some(text),
                message,
                help: Some("write another letter, or add it to `letters` if the font has it".into()),
            });
        }
    };
    let found = scan(index.view(), &plan, &each).unwrap_or_default();
    let in_file = |of: FileHits<Found>| {
        let file = of.file;
        of.hits.into_iter().map(move |own| Found { file, ..own })
    };
    found.into_iter().flat_map(in_file).collect()
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
