//! Files that get the path of another one which itself goes elsewhere, as in a swap: the bytes of the one take the place of those
//! of the other, so that no path is taken away and made again.

use super::builder::{made, read_draft};
use super::change::{FileChange, Source};
use crate::Error;
use crate::layers::RelPath;
use crate::project::Project;
use crate::text::{Edit, EditSet, LoadedText, Span};
use std::collections::{HashMap, HashSet};
use std::sync::Arc;

/// The same changes of files, of which none moves to a path that another one leaves.
///
/// # Errors
/// When a file cannot be read, or the bytes of one cannot take the place of those of another: they are no texts of one encoding.
pub(super) fn with_places_taken(project: &Project, files: Vec<FileChange>) -> Result<Vec<FileChange>, Error> {
    let mut leaving: HashMap<RelPath, FileChange> = HashMap::new();
    for file in files.iter().filter(|file| file.to != file.from) {
        leaving.extend(file.from.clone().map(|from| (from, file.clone())));
    }
    let arrives = |file: &FileChange| file.to.clone().filter(|to| file.from.as_ref() != Some(to));
    let taken: HashSet<RelPath> =
        files.iter().filter_map(arrives).filter(|to| leaving.contains_key(to)).collect();
    if taken.is_empty() {
        return Ok(files);
    }
    let mut out = Vec::new();
    for file in files {
        let occupant = arrives(&file).and_then(|to| leaving.get(&to));
        let leaves_taken =
            file.from.as_ref().is_some_and(|from| file.to != file.from && taken.contains(from));
        match occupant {
            Some(occupant) => {
                out.push(in_place_of(project, occupant, &file)?);
                if file.from.is_some() && !leaves_taken {
                    out.push(FileChange {
                        to: None,
                        edits: EditSet::default(),
                        after: Arc::default(),
                        ..file
                    });
                }
            }
            // It is somewhere else now, and another one at its path.
            None if leaves_taken && file.to.is_some() => {
                let source = file.source.file().map_or(Source::New, Source::CopyOf);
                out.push(FileChange { source, former: file.from.clone(), from: None, ..file });
            }
            None if leaves_taken => {}
            None => out.push(file),
        }
    }
    Ok(out)
}

/// The file at the path of `occupant`, with the bytes that `file` has after the change.
fn in_place_of(project: &Project, occupant: &FileChange, file: &FileChange) -> Result<FileChange, Error> {
    let (Some(source), Some(path)) = (occupant.source.file(), occupant.from.clone()) else {
        return Ok(file.clone());
    };
    let loaded = read_draft(project, source)?.loaded;
    let new = LoadedText::new(file.after.to_vec(), file.declared);
    let whole =
        Edit { span: Span::new(0, loaded.text().as_str().len()), text: new.text().as_str().to_owned() };
    let former = file.source.file().map(|own| project.stack.files()[own].path.clone());
    let edits = EditSet::new(vec![whole]).unwrap_or_default();
    let changed = made(project, source, &loaded, &edits, vec![(Some(path.clone()), true)]);
    let changed = changed.ok().and_then(|made| made.into_iter().next());
    let fits = changed.filter(|changed| changed.after == file.after);
    if let Some(changed) = fits {
        return Ok(FileChange { former, ..changed });
    }
    let own = former.as_ref().map_or("a new file", RelPath::as_str);
    let reason =
        format!("`{own}` cannot take the place of `{path}` in one act: they are no texts of one encoding");
    Err(Error::refused(reason, "rename one after the other, by way of a third name; nothing was changed"))
}
