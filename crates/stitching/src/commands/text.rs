//! `stitching text`

use super::{edit, open_in};
use crate::args::{Global, TextArgs, TextList};
use crate::render::human::{Paths, clean};
use crate::render::table;
use crate::ui::{BOLD, Ui, count, styled, wants_json};
use serde::Serialize;
use std::path::Path;
use std::process::ExitCode;
use stitching_core::changes::{add_missing, take_up};
use stitching_core::layers::write_whole;
use stitching_core::reading::PlaceResolver;
use stitching_core::translation::{Merged, Translation, TranslationFormat};
use stitching_core::views::{Coverage, TextIssue, TextSurvey};
use stitching_core::{Error, Project};

/// The result of `text`.
#[derive(Debug, Serialize)]
struct SurveyShape<'s> {
    languages: Vec<LanguageShape<'s>>,
    coverage: Vec<CoverageShape<'s>>,
    unused: usize,
}

#[derive(Debug, Serialize)]
struct LanguageShape<'s> {
    language: &'s str,
    texts: usize,
    missing: usize,
    empty: usize,
    same: usize,
    marks: usize,
    doubled: usize,
}

#[derive(Debug, Serialize)]
struct CoverageShape<'s> {
    table: &'s str,
    field: Option<&'s str>,
    needed: usize,
    there: Vec<LanguageCount<'s>>,
}

#[derive(Debug, Serialize)]
struct LanguageCount<'s> {
    language: &'s str,
    number: usize,
}

/// The result of `text` with a list.
#[derive(Debug, Serialize)]
struct ListShape<'s> {
    texts: Vec<TextShape<'s>>,
}

#[derive(Debug, Serialize)]
struct TextShape<'s> {
    address: String,
    language: &'s str,
    text: Option<&'s str>,
    main: Option<&'s str>,
    path: Option<String>,
    line: Option<usize>,
    uses: Vec<String>,
}

pub fn run(folder: &Path, args: &TextArgs, global: &Global, ui: &Ui) -> Result<ExitCode, Error> {
    if let Some(language) = &args.stubs {
        let title = format!("text --stubs {language}");
        return edit::run(folder, &args.editing, global, ui, |project| {
            add_missing(project, language, &title)
        });
    }
    if let Some(file) = &args.import {
        let mut translation = read(file)?.ok_or_else(|| missing(file))?;
        if let Some(language) = &args.language {
            refuse_other_language(file, &translation, language)?;
            translation.target.clone_from(language);
        }
        let title = format!("text --import {}", file.display());
        return edit::run(folder, &args.editing, global, ui, |project| {
            take_up(project, &translation, &title)
        });
    }
    if args.editing.preview || args.editing.allow_errors {
        return Err(Error::Usage {
            message: "nothing would be changed".into(),
            help: "`--preview` and `--allow-errors` are for `--import` and `--stubs`".into(),
        });
    }
    let project = open_in(folder, ui)?;
    let survey = ui.progress("reading texts", || TextSurvey::read(project.view()))?;
    let language = args.language.as_deref().map(|code| survey.language(code)).transpose()?;
    match (&args.export, args.list) {
        (Some(file), _) => export(&project, &survey, file, args.language.as_deref().unwrap_or_default(), ui),
        (None, Some(list)) => tell_list(&project, &survey, issue(list), language, global, ui),
        (None, None) => tell_survey(&survey, language, global, ui),
    }
}

fn issue(list: TextList) -> TextIssue {
    match list {
        TextList::Missing => TextIssue::Missing,
        TextList::Unused => TextIssue::Unused,
        TextList::Empty => TextIssue::Empty,
        TextList::Same => TextIssue::Same,
        TextList::Marks => TextIssue::Marks,
        TextList::Doubled => TextIssue::Doubled,
    }
}

/// Refuses a file for translators that is in another language than the one that is meant.
fn refuse_other_language(file: &Path, translation: &Translation, language: &str) -> Result<(), Error> {
    if translation.target.is_empty() || translation.target == language {
        return Ok(());
    }
    Err(Error::Usage {
        message: format!("`{}` is in `{}`, not in `{language}`", file.display(), translation.target),
        help: "name the language that it is in, or another file".into(),
    })
}

/// Refuses to write into a layer: the base is never written, and in the mod only what can be undone.
fn refuse_layers(project: &Project, file: &Path) -> Result<(), Error> {
    let folder = file.parent().filter(|own| !own.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let real = folder.canonicalize().map_err(|source| Error::io("open", folder, source))?;
    let layer = project.stack.layers().iter().find(|layer| real.starts_with(&layer.root));
    layer.map_or(Ok(()), |layer| {
        Err(Error::Usage {
            message: format!("`{}` lies in the layer `{}`", file.display(), layer.name),
            help: "write the file for translators beside the mod; `--import` brings its texts there".into(),
        })
    })
}

fn missing(file: &Path) -> Error {
    Error::io("read", file, std::io::ErrorKind::NotFound.into())
}

/// The translation in a file; `None` if it is not there.
fn read(file: &Path) -> Result<Option<Translation>, Error> {
    let format = TranslationFormat::of_path(file)?;
    let bytes = match std::fs::read(file) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(None),
        Err(source) => return Err(Error::io("read", file, source)),
    };
    let refused = |message: String, line: usize| {
        let place = if line > 0 { format!(":{line}") } else { String::new() };
        let message = format!("{}{place}: {message}", file.display());
        Error::Usage {
            message,
            help: "nothing was changed; put the file right, or write to another one".into(),
        }
    };
    let text = String::from_utf8(bytes).map_err(|_| refused("it is not in UTF-8".to_owned(), 0))?;
    format.read(&text).map(Some).map_err(|error| refused(error.message, error.line))
}

/// Writes a file for translators, with what is in the one that is there.
fn export(
    project: &Project,
    survey: &TextSurvey,
    file: &Path,
    language: &str,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let format = TranslationFormat::of_path(file)?;
    refuse_layers(project, file)?;
    let mut translation = Translation::of(project.view(), survey, &project.name, language)?;
    let mut merged = Merged::default();
    if let Some(earlier) = read(file)? {
        refuse_other_language(file, &earlier, language)?;
        merged = translation.merge(earlier);
    }
    write_whole(file, format.write(&translation).as_bytes())?;
    let left = translation.units.iter().filter(|unit| unit.target.is_empty()).count();
    ui.out(&format!(
        "{}: {}, {} without a translation\n",
        file.display(),
        count(translation.units.len(), "text"),
        left
    ));
    for (number, of, what) in [
        (merged.kept, "translation", "of the file not in the game yet, and kept"),
        (merged.changed, "text", "changed since it was translated, and marked to be looked at again"),
        (merged.gone, "text", "gone from the game, with the translation kept at the end"),
    ] {
        if number > 0 {
            ui.note(&format!("{} {what}", count(number, of)));
        }
    }
    Ok(ExitCode::SUCCESS)
}

fn tell_survey(
    survey: &TextSurvey,
    language: Option<usize>,
    global: &Global,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let issues = TextIssue::NAMES.map(|(_, issue)| survey.with_issue(issue));
    let number = |issue: TextIssue, language: usize| {
        let at = TextIssue::NAMES.iter().position(|(_, own)| *own == issue).unwrap_or(0);
        issues[at].iter().filter(|(_, own)| *own == language).count()
    };
    let languages = survey.languages.iter().enumerate();
    let chosen = languages.filter(|(at, _)| language.is_none_or(|own| own == *at));
    let shapes: Vec<LanguageShape<'_>> = chosen
        .map(|(at, code)| LanguageShape {
            language: code,
            texts: survey.texts.iter().filter(|text| text.texts[at].is_some()).count(),
            missing: number(TextIssue::Missing, at),
            empty: number(TextIssue::Empty, at),
            same: number(TextIssue::Same, at),
            marks: number(TextIssue::Marks, at),
            doubled: number(TextIssue::Doubled, at),
        })
        .collect();
    let unused = survey.with_issue(TextIssue::Unused).len();
    let there = |own: &Coverage| -> Vec<(usize, usize)> {
        own.there
            .iter()
            .copied()
            .enumerate()
            .filter(|(at, _)| language.is_none_or(|own| own == *at))
            .collect()
    };
    if as_json {
        let coverage = survey.coverage.iter().map(|own| CoverageShape {
            table: &own.table,
            field: own.field.as_deref(),
            needed: own.needed,
            there: there(own)
                .into_iter()
                .map(|(at, number)| LanguageCount { language: &survey.languages[at], number })
                .collect(),
        });
        ui.json(&SurveyShape { languages: shapes, coverage: coverage.collect(), unused });
        return Ok(ExitCode::SUCCESS);
    }
    let head = ["language", "texts", "missing", "empty", "same", "marks differ", "doubled"];
    let rows: Vec<Vec<String>> = shapes
        .iter()
        .map(|own| {
            let numbers = [own.texts, own.missing, own.empty, own.same, own.marks, own.doubled];
            std::iter::once(own.language.to_owned()).chain(numbers.map(|number| number.to_string())).collect()
        })
        .collect();
    let mut out = table::aligned(&head, &rows, ui.width());
    if !survey.coverage.is_empty() {
        let mut head = vec!["named by", "texts"];
        head.extend(shapes.iter().map(|own| own.language));
        let row = |own: &Coverage| {
            let field = own.field.as_ref().map_or("(with the record)".to_owned(), Clone::clone);
            let mut row = vec![format!("{}.{field}", own.table), own.needed.to_string()];
            let percent = |number: usize| match own.needed {
                0 => "-".to_owned(),
                needed => format!("{} %", number * 100 / needed),
            };
            row.extend(there(own).into_iter().map(|(_, number)| percent(number)));
            row
        };
        let rows: Vec<Vec<String>> = survey.coverage.iter().map(row).collect();
        out.push_str(&format!("\n{}", table::aligned(&head, &rows, ui.width())));
    }
    if unused > 0 {
        let are = if unused == 1 { "is" } else { "are" };
        out.push_str(&format!(
            "\n{} {are} named by nothing: `stitching text unused`\n",
            count(unused, "text")
        ));
    }
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}

fn tell_list(
    project: &Project,
    survey: &TextSurvey,
    issue: TextIssue,
    language: Option<usize>,
    global: &Global,
    ui: &Ui,
) -> Result<ExitCode, Error> {
    let as_json = wants_json(global)?;
    let found = survey.with_issue(issue);
    let found: Vec<_> = found.into_iter().filter(|(_, at)| language.is_none_or(|own| own == *at)).collect();
    let mut places = PlaceResolver::new(&project.stack);
    let mut place = |text: &stitching_core::views::TextRecord, at: usize| {
        // What is missing is shown where the main language has it.
        let entry = text.texts[at].as_ref().or(text.texts[0].as_ref());
        entry.map(|entry| places.place(entry.file, entry.span)).transpose()
    };
    let paths = Paths::of(project);
    if as_json {
        let mut texts = Vec::new();
        for (text, at) in &found {
            let place = place(text, *at)?;
            texts.push(TextShape {
                address: text.address(&project.schema),
                language: &survey.languages[*at],
                text: text.texts[*at].as_ref().map(|own| own.text.as_str()),
                main: text.texts[0].as_ref().map(|own| own.text.as_str()),
                line: place.as_ref().map(|place| place.line),
                path: place.map(|place| place.path),
                uses: text.uses.iter().map(|own| own.address.clone()).collect(),
            });
        }
        ui.json(&ListShape { texts });
        return Ok(ExitCode::SUCCESS);
    }
    let mut out = String::new();
    for (text, at) in &found {
        let address = styled(BOLD, clean(&text.address(&project.schema)));
        let place = place(text, *at)?.map(|place| format!("  {}", paths.place(&place))).unwrap_or_default();
        out.push_str(&format!("{address}  {}{place}\n", survey.languages[*at]));
        if let Some(own) = text.texts[*at].as_ref().filter(|own| !own.text.is_empty()) {
            out.push_str(&format!("    {}\n", clean(&own.text)));
        }
        let main = text.texts[0].as_ref().filter(|_| *at > 0 && issue != TextIssue::Same);
        if let Some(main) = main.filter(|_| matches!(issue, TextIssue::Missing | TextIssue::Marks)) {
            out.push_str(&format!("    {}: {}\n", survey.languages[0], clean(&main.text)));
        }
        if let (Some(first), TextIssue::Missing) = (text.uses.first(), issue) {
            let more = text.uses.len() - 1;
            let more = if more > 0 { format!(" and {more} more") } else { String::new() };
            out.push_str(&format!("    named by {}{more}\n", first.address));
        }
    }
    out.push_str(&format!("{}\n", count(found.len(), "text")));
    ui.out(&out);
    Ok(ExitCode::SUCCESS)
}
