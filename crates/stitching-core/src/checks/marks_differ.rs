//! Marks in a translation that are not those of the main language.

use super::{Check, Run};
use crate::Code;
use crate::layers::FileId;
use crate::links::{Index, language_fields};
use crate::problem::{Problem, Severity};
use crate::reading::{load, with_text};
use crate::schema::{Schema, TableId};
use crate::tables::{RecordView, RecordVisitor, all_fields, files_of, key_hash, read_records, shown_key};
use crate::text::{Span, marks_that_differ, may_have_marks};
use rayon::prelude::*;
use std::collections::{HashMap, HashSet};

pub(super) static CHECK: Check = Check {
    code: Code::MARKS_DIFFER,
    severity: Severity::Warning,
    about: "a translation whose marks, such as {name} or %d, are not those of the main language",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A text in another language that lacks a mark of the main language, or has one more: a name or
    number in braces, `%d` and the like, `$NAME$`, a tag such as <b>.

Why it matters
    The game puts something in the place of the mark, or obeys it. A mark that is misspelt is shown
    as it is, one that is missing loses what should stand there; with `%d` some games stop.

When to ignore it
    When the language needs it so: a name that is not said twice.

Example, wrong
    en: {boat} needs {number} tows
    de: {boat} braucht {nummer} Schlepper

Example, right
    de: {boat} braucht {number} Schlepper
";

/// A text with marks in some language.
#[derive(Debug, Clone)]
struct Marked {
    table: TableId,
    key: String,
    language: usize,
    text: String,
    file: FileId,
    span: Span,
}

fn find(index: &Index<'_>) -> Vec<Problem> {
    if index.schema.languages.len() < 2 {
        return Vec::new();
    }
    index.schema.text_tables().flat_map(|table| of_table(index, table)).collect()
}

fn of_table(index: &Index<'_>, id: TableId) -> Vec<Problem> {
    let marked = texts(index, id, &|_, text| may_have_marks(text));
    if marked.is_empty() {
        return Vec::new();
    }
    // Which texts there are without a mark, though that of another language has one: they are not known yet.
    let known: HashSet<(&str, usize)> = marked.iter().map(|own| (own.key.as_str(), own.language)).collect();
    let languages = 0..index.schema.languages.len();
    let unknown: HashSet<String> = marked
        .iter()
        .filter(|own| {
            let there = index.text_languages(key_hash(&own.key, index.schema.tables[id].ignore_case));
            let mut others = languages.clone();
            others.any(|at| there & (1 << at) != 0 && !known.contains(&(own.key.as_str(), at)))
        })
        .map(|own| own.key.clone())
        .collect();
    let mut by_key: HashMap<String, Vec<Option<Marked>>> = HashMap::new();
    let plain = match unknown.is_empty() {
        true => Vec::new(),
        false => texts(index, id, &|key, text| !may_have_marks(text) && unknown.contains(key)),
    };
    // What comes later lies higher.
    for own in marked.into_iter().chain(plain) {
        let of_key = by_key.entry(own.key.clone()).or_insert_with(|| vec![None; languages.len()]);
        let language = own.language;
        let lies_lower = of_key[language].as_ref().is_some_and(|other| other.file > own.file);
        if !lies_lower {
            of_key[language] = Some(own);
        }
    }
    let differing = by_key.values().flat_map(|texts| {
        let main = texts[0].as_ref();
        texts[1..].iter().flatten().filter_map(move |own| {
            let (lacks, besides) = marks_that_differ(&main?.text, &own.text);
            let differs = !lacks.is_empty() || !besides.is_empty();
            differs.then(|| (own, said(&lacks, &besides)))
        })
    });
    let mut out: Vec<Problem> =
        differing.filter_map(|(own, message)| problem(index, own, &message)).collect();
    out.sort_by(|a, b| a.order().cmp(&b.order()));
    out
}

/// What is lacking and what is there besides, in words.
fn said(lacks: &[&str], besides: &[&str]) -> String {
    let list = |marks: &[&str]| marks.iter().map(|mark| format!("`{mark}`")).collect::<Vec<_>>().join(", ");
    match (lacks, besides) {
        (lacks, []) => format!("it lacks {}", list(lacks)),
        ([], besides) => format!("it has {} besides", list(besides)),
        (lacks, besides) => format!("it has {} in place of {}", list(besides), list(lacks)),
    }
}

fn problem(index: &Index<'_>, own: &Marked, message: &str) -> Option<Problem> {
    let place = load(index.stack, own.file).ok()?.place(own.span);
    let (language, main) = (&index.schema.languages[own.language], &index.schema.languages[0]);
    let message = format!("the text in {language} has other marks than that in {main}: {message}");
    let mut problem = Problem::new(CHECK.code, CHECK.severity, message, place);
    problem.help = Some("write the marks as they are in the main language".into());
    problem.table = Some(index.schema.tables[own.table].name.clone());
    problem.key = Some(shown_key(&own.key));
    problem.value = Some(own.text.clone());
    Some(problem)
}

/// The texts of a table that `wanted` holds of, by key and text.
fn texts(index: &Index<'_>, id: TableId, wanted: &(dyn Fn(&str, &str) -> bool + Sync)) -> Vec<Marked> {
    let table = &index.schema.tables[id];
    let fields = all_fields(table);
    let of_file = |file: &FileId| {
        let path = &index.stack.files()[*file].path;
        let mut collector =
            Collector { schema: index.schema, table: id, file: *file, wanted, out: Vec::new() };
        let read = with_text(index.stack, *file, |text| {
            read_records(table, path, text, &fields, &mut collector);
        });
        read.map(|()| collector.out).unwrap_or_default()
    };
    let files = files_of(index.stack, table, index.through);
    let found: Vec<Vec<Marked>> = files.par_iter().with_max_len(1).map(of_file).collect();
    found.into_iter().flatten().collect()
}

struct Collector<'c> {
    schema: &'c Schema,
    table: TableId,
    file: FileId,
    wanted: &'c (dyn Fn(&str, &str) -> bool + Sync),
    out: Vec<Marked>,
}

impl RecordVisitor for Collector<'_> {
    fn record(&mut self, record: &RecordView<'_>) {
        let Some(key) = record.key() else { return };
        let value = |field: usize| record.value(field);
        for (language, field) in language_fields(self.schema, record.table, record.path, value) {
            let (Some(text), Some(cell)) = (record.value(field), record.cell(field)) else { continue };
            if (self.wanted)(&key, &text) {
                self.out.push(Marked {
                    table: self.table,
                    key: key.clone(),
                    language,
                    text,
                    file: self.file,
                    span: cell.span,
                });
            }
        }
    }
}
