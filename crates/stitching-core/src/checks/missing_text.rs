//! A text key without a text in some language.

use super::{Among, Asked, Check, Context, Run, Subject, Words};
use crate::Code;
use crate::problem::Severity;
use crate::tables::{LinkKind, key_hash};
use crate::text::nearest_of;

pub(super) static CHECK: Check = Check {
    code: Code::MISSING_TEXT,
    severity: Severity::Error,
    about: "a text key that has no text in some language",
    docs: DOCS,
    run: Run::Link { kind: LinkKind::Text, asks, describe },
};

const DOCS: &str = "\
What it finds
    A value in a field marked `text` for which there is no text in one of the project's
    languages. It is a warning as long as the main language has the text.

Why it matters
    The player sees an empty name, or the key itself.

When to ignore it
    While a translation is still to come. A language the mod does not support can be left out
    of `[languages]`.

Example, wrong
    NameKey = frost_cut_name, and text/de.txt has no such line

Example, right
    frost_cut_name = \"Frosttor-Durchstich\"
";

fn text_key(subject: &Subject<'_>) -> String {
    let template = subject.rule.and_then(|rule| rule.text.as_ref());
    template.map_or_else(|| subject.value.to_owned(), |template| template.fill_one(subject.value))
}

fn asks(context: &Context<'_>, subject: &Subject<'_>) -> Vec<Asked> {
    let name = text_key(subject);
    if context.index.text_languages(key_hash(&name, false)) & context.index.all_languages() != 0 {
        return Vec::new();
    }
    let tables = context.index.schema.text_tables();
    tables.map(|table| Asked { among: Among::Keys(table), name: name.clone() }).collect()
}

fn describe(context: &Context<'_>, subject: &Subject<'_>) -> Words {
    let index = context.index;
    let key = text_key(subject);
    let there = index.text_languages(key_hash(&key, false));
    let languages = index.schema.languages.iter().enumerate();
    let missing: Vec<&str> =
        languages.filter(|(at, _)| there & (1 << at) == 0).map(|(_, code)| code.as_str()).collect();
    if there & index.all_languages() != 0 {
        return Words {
            message: format!("the text `{key}` is missing in {}", missing.join(", ")),
            help: Some(if there & 1 == 0 {
                format!("`{}` is the main language: names are shown in it", index.schema.languages[0]).into()
            } else {
                format!("add it to the texts of {}", missing.join(", ")).into()
            }),
            severity: (there & 1 != 0).then_some(Severity::Warning),
            ..Words::default()
        };
    }
    let mut words =
        Words { message: format!("there is no text `{key}` in any language"), ..Words::default() };
    if subject.suggest {
        let near = || index.schema.text_tables().filter_map(|table| context.near(Among::Keys(table), &key));
        let same = near().find_map(|near| near.in_case.as_deref());
        let near: Vec<&str> = near().flat_map(|near| near.names.iter().map(String::as_str)).collect();
        words.help = match (same, nearest_of(&key, near).first()) {
            (Some(same), _) => Some(format!("`{same}` differs only in case").into()),
            (None, Some(near)) => Some(format!("the nearest text key is `{near}`").into()),
            (None, None) => Some(format!("add it to the texts of {}", missing.join(", ")).into()),
        };
    }
    words
}
