//! A key that an earlier record has already.

use super::{Check, Context, Run, Subject, Words};
use crate::Code;
use crate::links::{Index, RecordId};
use crate::problem::Severity;
use crate::schema::KeyPart;
use crate::tables::{Seed, SeedDetail, shown_key};
use crate::text::Span;

pub(super) static CHECK: Check = Check {
    code: Code::DUPLICATE_KEY,
    severity: Severity::Error,
    about: "a key that an earlier record of the table has already",
    docs: DOCS,
    run: Run::Index { find, describe },
};

const DOCS: &str = "\
What it finds
    A record whose key another record of the same table has too: in the same file, in another
    file, or in a file of another layer.

Why it matters
    The game keeps one of the two, and which one depends on the order in which it reads.

When to ignore it
    When a later declaration adds to an earlier one on purpose.

Example, wrong
    Reach       Basin
    frost_cut   north
    frost_cut   south

Example, right
    Reach        Basin
    frost_cut    north
    frost_cut2   south
";

fn find(index: &Index<'_>) -> Vec<(u32, Seed)> {
    let mut seeds = Vec::new();
    for (table, own) in index.tables.iter().enumerate() {
        let key_rule = index.schema.tables[table].key.iter().find_map(|part| match part {
            KeyPart::Field(field) => {
                index.schema.tables[table].rules.iter().position(|rule| rule.field == *field)
            }
            _ => None,
        });
        for (later, first) in &own.duplicates {
            seeds.push((later.file, same_seed(index, CHECK.code, table, key_rule, *later, *first)));
        }
    }
    seeds
}

/// A problem about the record `later`, which has something that `first` has already.
pub(super) fn same_seed(
    index: &Index<'_>,
    code: Code,
    table: usize,
    rule: Option<usize>,
    later: RecordId,
    first: RecordId,
) -> Seed {
    let start = index.facts(later.file, later.slot).starts[later.record as usize];
    Seed {
        code,
        table: Some(table),
        record: Some(later.record),
        rule,
        span: Span { start, end: start },
        detail: SeedDetail::Same(first.file as usize, first.slot as usize, first.record),
    }
}

/// The earlier record that a seed of this kind names, and where it is in words.
pub(super) fn first_of(context: &Context<'_>, subject: &Subject<'_>) -> Option<(RecordId, String)> {
    let SeedDetail::Same(file, slot, record) = subject.seed.detail else { return None };
    let index = context.index;
    let entry = &index.stack.files()[index.files[file].id];
    let first = RecordId { file: file as u32, slot: slot as u32, record };
    Some((first, format!("`{}` of the layer `{}`", entry.path, index.stack.layers()[entry.layer].name)))
}

fn describe(context: &Context<'_>, subject: &Subject<'_>) -> Words {
    let key = subject.key.map(shown_key).unwrap_or_default();
    let message = format!("another record of `{}` has the key `{key}` already", subject.table.name);
    let Some((first, place)) = first_of(context, subject) else {
        return Words { message, ..Words::default() };
    };
    let help = match subject.table.key.iter().all(|part| part.is_of_file()) {
        true => {
            "the file's name as the key is for files that are one record each: take the whole file as the record, or put a field \
             into the key"
        }
        false => "give one of them another key, or remove it",
    };
    Words {
        message,
        help: Some(help.into()),
        related: Some((format!("the first one is in {place}"), first)),
        ..Words::default()
    }
}
