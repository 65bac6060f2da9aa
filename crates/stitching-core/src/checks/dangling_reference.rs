//! A value that names a record which is not there.

use super::suggestions::WithPart;
use super::{Among, Asked, Check, Context, Run, Subject, Words};
use crate::Code;
use crate::help::{Help, NextStep};
use crate::problem::Severity;
use crate::schema::{NamedBy, Schema, Target};
use crate::tables::{KEY_SEPARATOR, LinkKind, SeedDetail, shown_key};
use crate::text::nearest_of;

pub(super) static CHECK: Check = Check {
    code: Code::DANGLING_REFERENCE,
    severity: Severity::Error,
    about: "a value that names a record which is not there",
    docs: DOCS,
    run: Run::Link { kind: LinkKind::Reference, asks, describe },
};

const DOCS: &str = "\
What it finds
    A value in a field marked `ref` that is neither a none value nor the key of a record in
    the table it refers to. Where none of many values of a field is there, that is one
    problem: the schema is wrong, or files are missing.

Why it matters
    The game looks the name up and finds nothing: it crashes while loading, or leaves the
    entry out without a word.

When to ignore it
    When the value stands for \"nothing\": add it to the field's `none`. When the game has
    names of its own that no file declares, the field is not a `ref`.

Example, wrong
    Reach       Basin
    frost_cut   nroth

Example, right
    Reach       Basin
    frost_cut   north
";

fn describe(context: &Context<'_>, subject: &Subject<'_>) -> Words {
    let (value, schema) = (subject.named, context.index.schema);
    let targets = subject.rule.map_or(&[][..], |rule| &rule.refs);
    let names: Vec<String> =
        targets.iter().map(|target| format!("`{}`", target_name(schema, target))).collect();
    let mut words = Words {
        message: format!("there is no `{}` in {}", shown_key(value), names.join(" or ")),
        ..Words::default()
    };
    if let SeedDetail::NoLink(_, count) = subject.seed.detail {
        let field = subject.rule.map_or("", |rule| &subject.table.fields[rule.field].name);
        words.message = format!(
            "none of the {count} values of `{field}` is in {}; the first is `{}`",
            names.join(" or "),
            shown_key(value)
        );
        let empty = targets.iter().find(|target| context.index.tables[target.table].records == 0);
        words.help = Some(match empty.map(|target| &schema.tables[target.table].name) {
            Some(table) => format!("no record of `{table}` was read: look at its `files`").into(),
            None => {
                "the schema names another table than is meant, or a layer with the game's files is missing"
                    .into()
            }
        });
        return words;
    }
    if !subject.suggest {
        return words;
    }
    let keys = || targets.iter().filter(|target| target.rule.is_none());
    if let Some(off) = keys().find_map(|target| context.switched_off(target.table, value)) {
        let place = match off.place.line {
            0 => format!("kept aside from `{}`", off.place.path),
            line => format!("at {}:{line}", off.place.path),
        };
        let address = off.address(schema).unwrap_or_default();
        words.help =
            Some(Help::from(format!("it is switched off, {place}")).then(NextStep::SwitchOn(address)));
        return words;
    }
    let lost = targets
        .iter()
        .filter(|target| target.rule.is_none())
        .find_map(|target| context.overridden(target.table, value));
    if let Some((path, layer)) = lost {
        words.help = Some(
            format!("the layer `{layer}` has it in `{path}`, and the file that replaces that one does not")
                .into(),
        );
        return words;
    }
    let near = || targets.iter().filter_map(|target| context.near(among(target), value));
    if let Some(other) = near().find_map(|near| near.in_case.as_deref()) {
        words.help = Some(format!("`{}` differs only in case", shown_key(other)).into());
        words.better = Some(other.to_owned()).filter(|_| subject.named == subject.value);
        return words;
    }
    // Of several tables the nearest of all count.
    let slips = near().filter(|near| !near.names.is_empty()).map(|near| near.slips).min();
    let names: Vec<&str> = near().flat_map(|near| near.names.iter().map(String::as_str)).collect();
    let near = nearest_of(value, names);
    // The very name under another parent says more than one that is only a little like it.
    if let Some(help) = under_other_parents(context, subject).filter(|_| slips != Some(1)) {
        words.help = Some(help.into());
        return words;
    }
    let elsewhere = context.tables_with_key(value);
    let shown: Vec<String> = near.iter().map(|key| shown_key(key)).collect();
    words.help = match (&shown[..], &elsewhere[..]) {
        ([], []) => None,
        ([], tables) => Some(format!("it is a key of `{}`", tables.join("`, `")).into()),
        ([one], _) => Some(format!("did you mean `{one}`?").into()),
        (several, _) => Some(format!("the nearest are `{}`", several.join("`, `")).into()),
    };
    if let [one] = &near[..] {
        words.better = Some(one.clone()).filter(|_| subject.named == subject.value);
    }
    words
}

fn asks(_: &Context<'_>, subject: &Subject<'_>) -> Vec<Asked> {
    let targets = subject.rule.map_or(&[][..], |rule| &rule.refs);
    let part = own_part(subject);
    targets
        .iter()
        .flat_map(|target| {
            let near = Asked { among: among(target), name: subject.named.to_owned() };
            let other = part
                .filter(|_| target.rule.is_none())
                .map(|(part, own)| Asked { among: Among::Part(target.table, part), name: own.to_owned() });
            [Some(near), other].into_iter().flatten()
        })
        .collect()
}

/// Among what the names near to a reference by `target` are looked for.
fn among(target: &Target) -> Among {
    match target.rule {
        None => Among::Keys(target.table),
        Some(rule) => Among::Values(target.table, rule),
    }
}

/// Of a name that is valid only within a parent, its part of the key, counted from 0, and the name.
fn own_part<'s>(subject: &Subject<'s>) -> Option<(usize, &'s str)> {
    let part = subject.rule?.with.iter().position(|part| *part == NamedBy::Value)?;
    Some((part, subject.named.split(KEY_SEPARATOR).nth(part)?))
}

/// Where a name that is valid only within a parent stands, if that is under other ones.
fn under_other_parents(context: &Context<'_>, subject: &Subject<'_>) -> Option<String> {
    let (part, own) = own_part(subject)?;
    let keys = subject.rule?.refs.iter().filter(|target| target.rule.is_none());
    let found: Vec<&WithPart> =
        keys.filter_map(|target| context.with_part(Among::Part(target.table, part), own)).collect();
    let keys: Vec<String> =
        found.iter().flat_map(|found| &found.keys).map(|key| format!("`{key}`")).collect();
    let more = match found.iter().map(|found| found.more).sum::<usize>() {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    (!keys.is_empty()).then(|| format!("`{own}` is there as {}{more}", keys.join(", ")))
}

fn target_name(schema: &Schema, target: &Target) -> String {
    let table = &schema.tables[target.table];
    match target.rule {
        None => table.name.clone(),
        Some(rule) => format!("{}.{}", table.name, table.fields[table.rules[rule].field].name),
    }
}
