//! A file that nothing names.

use super::at_places::file_place;
use super::{Check, Run};
use crate::Code;
use crate::links::Index;
use crate::problem::{Problem, Severity};
use crate::schema::CompanionKind;
use crate::tables::{LinkKind, path_hash};
use std::collections::HashSet;

pub(super) static CHECK: Check = Check {
    code: Code::UNUSED_FILE,
    severity: Severity::Warning,
    about: "a file that nothing names, though its kind is there to be named",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A file of an [[asset]] that no value of a `file` field names, and that goes with no record by a
    [[companion]].

Why it matters
    It is a leftover of something removed, or, more often, the name that should lead to it is
    misspelt where the game has another file of that name.

When to ignore it
    When the program itself loads it: make the pattern of the [[asset]] narrower.

Example, wrong
    layouts/old_cut.json, and no Layout says old_cut

Example, right
    a record with Layout = old_cut, or the file removed
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let assets = &index.schema.assets;
    if assets.is_empty() {
        return Vec::new();
    }
    let is_asset = |path: &str| assets.iter().any(|asset| asset.files.takes(path));
    let named = Named::of(index);
    let mut problems = Vec::new();
    for file in &index.files {
        let path = &index.stack.files()[file.id].path;
        if is_asset(path.as_str()) && !named.has(path.as_str()) {
            let message = "nothing names this file";
            let mut problem = Problem::new(CHECK.code, CHECK.severity, message, file_place(index, file.id));
            problem.help = Some("name it in a record, or remove it".into());
            problems.push(problem);
        }
    }
    problems
}

/// What values name and what goes with records, by the hashes of paths.
struct Named {
    files: HashSet<u64>,
    folders: HashSet<u64>,
}

impl Named {
    fn of(index: &Index<'_>) -> Named {
        let mut files: HashSet<u64> = HashSet::new();
        let links = index.files.iter().flat_map(|file| &file.facts.tables).flat_map(|facts| &facts.links);
        for links in links.filter(|links| links.kind == LinkKind::File) {
            files.extend(links.links.iter().map(|link| link.hash));
        }
        let mut folders = HashSet::new();
        for companion in &index.schema.companions {
            let into = match companion.kind {
                CompanionKind::Text => continue,
                CompanionKind::File => &mut files,
                CompanionKind::Folder => &mut folders,
            };
            let table = &index.schema.tables[companion.table];
            let paths = index.keys(companion.table).filter_map(|(_, key)| companion.path_for(table, key));
            into.extend(paths.filter_map(|path| path_hash(path.as_str())));
        }
        Named { files, folders }
    }

    fn has(&self, path: &str) -> bool {
        let is_in =
            |hashes: &HashSet<u64>, path: &str| path_hash(path).is_some_and(|hash| hashes.contains(&hash));
        let mut folders = path.match_indices('/').map(|(end, _)| &path[..end]);
        is_in(&self.files, path) || folders.any(|folder| is_in(&self.folders, folder))
    }
}
