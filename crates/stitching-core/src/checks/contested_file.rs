//! A file whose records two tables claim.

use super::{Check, Run};
use crate::Code;
use crate::formats::Sharing;
use crate::links::Index;
use crate::problem::{Place, Problem, Related, Severity};
use crate::schema::{MOST_TABLES_OF_A_FILE, Table, TableId};
use std::collections::HashMap;

pub(super) static CHECK: Check = Check {
    code: Code::CONTESTED_FILE,
    severity: Severity::Warning,
    about: "a file whose records two tables claim",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A file that the patterns of two tables take in, so that the same text would be records of
    both: with formats that cannot share a file, or with paths that lead to the same records.
    Tables of whole files, and tables that take different records out of one file, do not get
    in each other's way.

Why it matters
    One of the two reads the file with the wrong columns, and reports what is no problem.

When to ignore it
    Never; make the pattern of one of them narrower, or let its path lead elsewhere.

Example, wrong
    [table.reaches]  files = \"tables/*.txt\"
    [table.locks]    files = \"tables/locks.txt\"

Example, right
    [table.reaches]  files = \"tables/reaches.txt\"
    [table.locks]    files = \"tables/locks.txt\"
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let mut problems = Vec::new();
    let tables = &index.schema.tables;
    let forms: Vec<String> = tables.iter().map(|table| format!("{:?}", table.format)).collect();
    for (at, file) in index.files.iter().enumerate() {
        let entry = &index.stack.files()[file.id];
        let claims = index.schema.all_tables_of(&entry.path);
        if claims.len() > MOST_TABLES_OF_A_FILE {
            let place = Place::file(entry.path.as_str(), &index.stack.layers()[entry.layer].name);
            let message = format!(
                "{} tables take this file, and only the first {MOST_TABLES_OF_A_FILE} of them read it",
                claims.len()
            );
            let mut problem = Problem::new(CHECK.code, Severity::Error, message, place);
            problem.help = Some("make the patterns in `files` narrower".into());
            problems.push(problem);
            continue;
        }
        let by_form = contests(tables, &forms, &claims);
        let by_records = same_records(index, at as u32, &by_form);
        let all = by_form.iter().map(|pair| (pair, false)).chain(by_records.iter().map(|pair| (pair, true)));
        for (&(first, later), same) in all {
            let place = Place::file(entry.path.as_str(), &index.stack.layers()[entry.layer].name);
            let names = format!("the tables `{}` and `{}`", first.name, later.name);
            let (message, help) = match same {
                true => (
                    format!("{names} read the same records of this file"),
                    "leave one of them out, or let its path lead to other records",
                ),
                false => (
                    format!("{names} both take this file"),
                    "make the pattern in `files` of one of them narrower",
                ),
            };
            let mut problem = Problem::new(CHECK.code, CHECK.severity, message, place);
            problem.help = Some(help.into());
            problem.table = Some(later.name.clone());
            for table in [first, later] {
                let message = format!("`{}` is described here", table.name);
                problem.related.push(Related { message, place: table.place.clone() });
            }
            problems.push(problem);
        }
    }
    problems
}

/// Each table that shares a format with an earlier one and takes the same records out of the file at position `at`, though by another
/// path; those that are `told` are left out. Cost: a look at each record of files that several tables share.
fn same_records<'t>(index: &Index<'t>, at: u32, told: &[(&Table, &Table)]) -> Vec<(&'t Table, &'t Table)> {
    let tables = &index.schema.tables;
    let slots = index.files[at as usize].facts.tables.len() as u32;
    let shares = |slot: &u32| {
        let table = &tables[index.facts(at, *slot).table];
        // A file that is a record as a whole begins where its first part does; and a part of the records, by what they say, may be a
        // table of its own.
        let path = table.format.records_path().unwrap_or_default();
        let is_certain = !["$", "."].contains(&path) && !path.contains("[@");
        table.format.sharing() == Sharing::ByPlace && is_certain
    };
    let slots: Vec<u32> = (0..slots).filter(shares).collect();
    let mut out = Vec::new();
    for (number, later) in slots.iter().enumerate() {
        let own = index.facts(at, *later);
        let table = &tables[own.table];
        if own.starts.is_empty() || told.iter().any(|(_, other)| other.name == table.name) {
            continue;
        }
        let same = slots[..number].iter().find(|first| {
            let other = index.facts(at, **first);
            tables[other.table].format_name == table.format_name && own.starts == other.starts
        });
        out.extend(same.map(|first| (&tables[index.facts(at, *first).table], table)));
    }
    out
}

/// Each table that contests the file with an earlier one, behind the first of these. One file may hold several kinds
/// of records in different places of it; `forms` tells tables with the same places.
fn contests<'t>(tables: &'t [Table], forms: &[String], claims: &[TableId]) -> Vec<(&'t Table, &'t Table)> {
    let mut out = Vec::new();
    // The first of each format, and of each form, by their positions in `claims`.
    let mut by_name: Vec<(&str, usize)> = Vec::new();
    let mut by_form: HashMap<&str, usize> = HashMap::new();
    for (at, id) in claims.iter().enumerate() {
        let later = &tables[*id];
        if later.format.sharing() == Sharing::Freely {
            continue;
        }
        let of_other = by_name
            .iter()
            .filter(|(name, _)| *name != later.format_name || later.format.sharing() == Sharing::Never);
        let same = by_form.get(forms[*id].as_str()).copied();
        if let Some(first) = of_other.map(|(_, at)| *at).chain(same).min() {
            out.push((&tables[claims[first]], later));
        }
        if !by_name.iter().any(|(name, _)| *name == later.format_name) {
            by_name.push((later.format_name, at));
        }
        by_form.entry(&forms[*id]).or_insert(at);
    }
    out
}
