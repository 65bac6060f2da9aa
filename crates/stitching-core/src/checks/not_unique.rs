//! A value that another record has too, where each needs its own.

use super::duplicate_key::first_of;
use super::{Check, Context, Run, Subject, Words};
use crate::Code;
use crate::links::{Index, RecordId};
use crate::problem::Severity;
use crate::tables::{LinkKind, Seed, SeedDetail};
use crate::text::Span;
use hashbrown::HashMap;
use rayon::prelude::*;

pub(super) static CHECK: Check = Check {
    code: Code::NOT_UNIQUE,
    severity: Severity::Error,
    about: "a value that another record has too, where each needs its own",
    docs: DOCS,
    run: Run::Index { find, describe },
};

const DOCS: &str = "\
What it finds
    A value in a field marked `unique` that an earlier record of the table has too. None
    values may repeat.

Why it matters
    Numbers and colours that identify things in saved games or on maps must not be shared: the
    game shows one thing for the other.

When to ignore it
    When two records share the value on purpose: take `unique` out of the schema.

Example, wrong
    Reach       Landing
    old_mill    4
    frost_cut   4

Example, right
    Reach       Landing
    old_mill    4
    frost_cut   5
";

fn find(index: &Index<'_>) -> Vec<(u32, Seed)> {
    (0..index.tables.len())
        .into_par_iter()
        .with_max_len(1)
        .flat_map_iter(|table| in_table(index, table))
        .collect()
}

fn in_table(index: &Index<'_>, table: usize) -> Vec<(u32, Seed)> {
    let (mut seeds, own) = (Vec::new(), &index.tables[table]);
    {
        let rules = index.schema.tables[table].rules.iter().enumerate().filter(|(_, rule)| rule.unique);
        for (rule, _) in rules {
            let mut seen: HashMap<u64, RecordId> = HashMap::with_capacity(own.records);
            for file in &own.files {
                let links = index.facts(file.file, file.slot).links.iter();
                let links = links.filter(|links| links.rule == rule && links.kind == LinkKind::Value);
                for link in links.flat_map(|links| &links.links) {
                    let record = RecordId { file: file.file, slot: file.slot, record: link.record };
                    if index.is_hidden(file.file, file.slot, link.record, rule) {
                        continue;
                    }
                    let first = *seen.entry(link.hash).or_insert(record);
                    if first != record {
                        let seed = Seed {
                            code: CHECK.code,
                            table: Some(table),
                            record: Some(link.record),
                            rule: Some(rule),
                            span: Span { start: link.start, end: link.start },
                            detail: SeedDetail::Same(first.file as usize, first.slot as usize, first.record),
                        };
                        seeds.push((file.file, seed));
                    }
                }
            }
        }
    }
    seeds
}

fn describe(context: &Context<'_>, subject: &Subject<'_>) -> Words {
    let field = subject.rule.map_or("", |rule| subject.table.fields[rule.field].name.as_str());
    let message = format!("another record has the {field} `{}` already", subject.value);
    let Some((first, place)) = first_of(context, subject) else {
        return Words { message, ..Words::default() };
    };
    let other = context.index.key(first).map(crate::tables::shown_key).unwrap_or_default();
    Words {
        message,
        related: Some((format!("it is that of `{other}`, in {place}"), first)),
        ..Words::default()
    }
}
