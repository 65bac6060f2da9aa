//! A value that names a record which is not there.

use super::{Check, Context, Run, Subject, Words};
use crate::problem::Severity;
use crate::schema::{Schema, Target};
use crate::tables::{KEY_SEPARATOR, LinkKind, shown_key};

pub(super) static CHECK: Check = Check {
    code: "dangling-reference",
    severity: Severity::Error,
    about: "a value that names a record which is not there",
    docs: DOCS,
    run: Run::Link { kind: LinkKind::Reference, describe },
};

const DOCS: &str = "\
What it finds
    A value in a field marked `ref` that is neither a none value nor the key of a record in
    the table it refers to.

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
        words.help = Some(format!("it is switched off, {place}; `stitching on {address}` switches it on"));
        return words;
    }
    let lost = targets
        .iter()
        .filter(|target| target.rule.is_none())
        .find_map(|target| context.overridden(target.table, value));
    if let Some((path, layer)) = lost {
        words.help = Some(format!(
            "the layer `{layer}` has it in `{path}`, and the file that replaces that one does not"
        ));
        return words;
    }
    let keyed = || {
        targets
            .iter()
            .filter(|target| target.rule.is_none())
            .map(|target| context.index.nearest(target.table))
    };
    if let Some(other) = keyed().find_map(|names| names.differs_in_case(value)) {
        words.help = Some(format!("`{other}` differs only in case"));
        words.better = Some(other.to_owned()).filter(|_| subject.named == subject.value);
        return words;
    }
    let mut near: Vec<String> = keyed().flat_map(|names| names.nearest(value)).collect();
    near.dedup();
    if let Some(help) = under_other_parents(context, subject).filter(|_| near.is_empty()) {
        words.help = Some(help);
        return words;
    }
    let elsewhere = context.tables_with_key(value);
    words.help = match (&near[..], &elsewhere[..]) {
        ([], []) => None,
        ([], tables) => Some(format!("it is a key of `{}`", tables.join("`, `"))),
        ([one], _) => Some(format!("did you mean `{one}`?")),
        (several, _) => Some(format!("the nearest are `{}`", several.join("`, `"))),
    };
    if let [one] = &near[..] {
        words.better = Some(one.clone()).filter(|_| subject.named == subject.value);
    }
    words
}

/// Where a name that is valid only within a parent stands, if that is under other ones.
fn under_other_parents(context: &Context<'_>, subject: &Subject<'_>) -> Option<String> {
    /// More are not listed.
    const MOST: usize = 3;
    let rule = subject.rule?;
    let part = rule.with.iter().position(Option::is_none)?;
    let of = |key: &str| key.split(KEY_SEPARATOR).nth(part).map(str::to_owned);
    let own = of(subject.named)?;
    let keys = rule.refs.iter().filter(|target| target.rule.is_none());
    let mut found: Vec<String> = keys
        .flat_map(|target| context.index.keys(target.table))
        .filter(|(_, key)| of(key).as_deref() == Some(&own))
        .map(|(_, key)| format!("`{}`", shown_key(key)))
        .collect();
    found.sort();
    found.dedup();
    let more = match found.len().saturating_sub(MOST) {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    found.truncate(MOST);
    (!found.is_empty()).then(|| format!("`{own}` is there as {}{more}", found.join(", ")))
}

fn target_name(schema: &Schema, target: &Target) -> String {
    let table = &schema.tables[target.table];
    match target.rule {
        None => table.name.clone(),
        Some(rule) => format!("{}.{}", table.name, table.fields[table.rules[rule].field].name),
    }
}
