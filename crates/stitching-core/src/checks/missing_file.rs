//! A value that names a file which is not there.

use super::{Among, Asked, Check, Context, Run, Subject, Words};
use crate::Code;
use crate::layers::{RelPath, RelPathError};
use crate::problem::Severity;
use crate::tables::{LinkKind, SeedDetail};

pub(super) static CHECK: Check = Check {
    code: Code::MISSING_FILE,
    severity: Severity::Error,
    about: "a value that names a file which is not there",
    docs: DOCS,
    run: Run::Link { kind: LinkKind::File, asks, describe },
};

const DOCS: &str = "\
What it finds
    A value in a field marked `file` for which no layer has the file, or has it only under a
    name that differs in upper and lower case. Where none of many files that a field names is
    there, that is one problem: the schema makes other paths, or files are missing.

Why it matters
    The game does not find the file. A difference in case goes unnoticed on Windows and fails
    on other systems, and inside archives.

When to ignore it
    When the file comes with a part of the game that is not among the layers.

Example, wrong
    Layout = frost_cut, and the file is layouts/Frost_Cut.json

Example, right
    Layout = frost_cut, and the file is layouts/frost_cut.json
";

fn path_of(subject: &Subject<'_>) -> Result<RelPath, RelPathError> {
    RelPath::parse(subject.path)
}

fn asks(_: &Context<'_>, subject: &Subject<'_>) -> Vec<Asked> {
    path_of(subject).map(|path| Asked { among: Among::Paths, name: path.to_string() }).into_iter().collect()
}

fn describe(context: &Context<'_>, subject: &Subject<'_>) -> Words {
    let found = match path_of(subject) {
        Ok(found) => found,
        Err(RelPathError::Leaves(path)) => {
            let is_relative =
                subject.rule.and_then(|rule| rule.file.as_ref()).is_some_and(|file| !file.is_plain());
            let help = match is_relative {
                true => "it goes further up than the layer's root",
                false => "paths are relative to the layer's root",
            };
            return Words {
                message: format!("`{path}` leads out of the layer"),
                help: Some(help.into()),
                ..Words::default()
            };
        }
        Err(error) => return Words { message: error.to_string(), ..Words::default() },
    };
    let mut words = Words { message: format!("there is no file `{found}`"), ..Words::default() };
    if let SeedDetail::NoLink(_, count) = subject.seed.detail {
        let field = subject.rule.map_or("", |rule| &subject.table.fields[rule.field].name);
        words.message =
            format!("none of the {count} files that `{field}` names is there; the first is `{found}`");
        let help =
            "`file` in the schema makes other paths than the game, or a layer with these files is missing";
        words.help = Some(help.into());
        return words;
    }
    if !subject.suggest {
        return words;
    }
    let near = context.near(Among::Paths, found.as_str());
    let mut better = None;
    if let Some(other) = near.and_then(|near| near.in_case.as_ref()) {
        words.help = Some(format!("`{other}` differs only in case").into());
        better = Some(other.clone());
    } else if let Some(near) = near.and_then(|near| near.names.first()) {
        words.help = Some(format!("the nearest is `{near}`").into());
        better = Some(near.clone());
    }
    words.better = better.as_deref().and_then(|path| subject.value_for(path));
    words.meant = better;
    words
}
