//! A text with more letters than there is room for where it is shown.

use super::at_places::problems_at;
use super::each_text::{TextAt, each_text};
use super::{Check, Run};
use crate::Code;
use crate::links::Index;
use crate::problem::{Problem, Severity};
use crate::schema::Table;
use crate::tables::{LinkKind, key_hash};
use std::collections::HashMap;

pub(super) static CHECK: Check = Check {
    code: Code::TEXT_TOO_LONG,
    severity: Severity::Warning,
    about: "a text, in some language, with more letters than there is room for where it is shown",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A text with more characters than `longest` of a field allows that names it. Each language is
    looked at. Marks such as {name} count as they are written.

Why it matters
    What fits in one language is cut off in another, or runs over its button.

When to ignore it
    When it is seen to fit: letters differ in width.

Example, wrong
    NameKey = { text = true, longest = 12 }, and the text is Der Durchstich am Frosttor

Example, right
    NameKey = { text = true, longest = 12 }, and the text is Frosttor
";

/// The least room that a text has, and the field that says so.
type Room<'i> = (usize, &'i Table, usize);

fn find(index: &Index<'_>) -> Vec<Problem> {
    let mut rooms: HashMap<u64, Room<'_>> = HashMap::new();
    for (id, table) in index.schema.tables.iter().enumerate() {
        for (rule, own) in table.rules.iter().enumerate().filter(|(_, own)| own.text.is_some()) {
            let Some(longest) = own.longest else { continue };
            for file in &index.tables[id].files {
                let links = index.facts(file.file, file.slot).links.iter();
                let links = links.filter(|links| links.rule == rule && links.kind == LinkKind::Text);
                for link in links.flat_map(|links| &links.links) {
                    let room = rooms.entry(link.hash).or_insert((longest, table, own.field));
                    if longest < room.0 {
                        *room = (longest, table, own.field);
                    }
                }
            }
        }
    }
    if rooms.is_empty() {
        return Vec::new();
    }
    let too_long = |own: &TextAt<'_>| {
        let (longest, table, field) = rooms.get(&key_hash(own.key, false))?;
        // No text has more characters than bytes.
        let length = if own.text.len() > *longest { own.text.chars().count() } else { 0 };
        let (language, field) = (&index.schema.languages[own.language], &table.fields[*field].name);
        let message = format!(
            "the text in {language} has {length} characters, and there is room for {longest} where `{}.{field}` names it",
            table.name
        );
        (length > *longest).then(|| own.found(message, format!("say it in {longest} characters")))
    };
    let found = index.schema.text_tables().flat_map(|table| each_text(index, table, &too_long));
    problems_at(index, &CHECK, found.collect())
}
