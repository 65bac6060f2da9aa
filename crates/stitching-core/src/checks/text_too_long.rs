//! A text with more letters than there is room for where it is shown.

use super::at_places::{Found, problems_at};
use super::{Check, Run};
use crate::Code;
use crate::links::{Index, language_fields};
use crate::problem::{Problem, Severity};
use crate::reading::{Needles, TableScan, scan};
use crate::schema::{Table, TableId};
use crate::tables::{LinkKind, RecordView, all_fields, key_hash};
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
    let found = index.schema.text_tables().flat_map(|table| of_table(index, table, &rooms));
    problems_at(index, &CHECK, found.collect())
}

fn of_table(index: &Index<'_>, id: TableId, rooms: &HashMap<u64, Room<'_>>) -> Vec<Found> {
    let table = &index.schema.tables[id];
    let mut needles = Needles::default();
    needles.add_any();
    let plan = TableScan { fields: all_fields(table), needles, hashes: None }.alone(index.schema, id);
    let each = |_: TableId, record: &RecordView<'_>, hits: &mut Vec<Found>| {
        let Some(key) = record.key() else { return };
        let Some((longest, owner, field)) = rooms.get(&key_hash(&key, false)) else { return };
        for (language, at) in language_fields(index.schema, table, record.path, |at| record.value(at)) {
            let (Some(text), Some(cell)) = (record.value(at), record.cell(at)) else { continue };
            if text.len() <= *longest {
                continue;
            }
            let length = text.chars().count();
            if length > *longest {
                let language = &index.schema.languages[language];
                let message = format!(
                    "the text in {language} has {length} characters, and there is room for {longest} where `{}.{}` names it",
                    owner.name, owner.fields[*field].name
                );
                hits.push(Found {
                    file: 0,
                    span: Some(cell.span),
                    table: id,
                    key: Some(key.clone()),
                    field: Some(table.fields[at].name.clone()),
                    value: Some(text),
                    message,
                    help: Some(format!("say it in {longest} characters").into()),
                });
            }
        }
    };
    let found = scan(index.view(), &plan, &each).unwrap_or_default();
    let in_file = |of: crate::reading::FileHits<Found>| {
        let file = of.file;
        of.hits.into_iter().map(move |own| Found { file, ..own })
    };
    found.into_iter().flat_map(in_file).collect()
}
