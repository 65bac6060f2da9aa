//! Problems of places that a check found by reading files once more.

use super::Check;
use crate::help::Help;
use crate::layers::FileId;
use crate::links::Index;
use crate::problem::{Fix, Place, Problem};
use crate::reading::{LoadedFile, load};
use crate::schema::TableId;
use crate::tables::shown_key;
use crate::text::Span;

/// A place at which something is wrong.
#[derive(Debug, Clone, Default)]
pub(super) struct Found {
    /// The file.
    pub file: FileId,
    /// Where in its text; nothing for the file as a whole.
    pub span: Option<Span>,
    /// The table of the record.
    pub table: TableId,
    /// The key of the record as kept in memory.
    pub key: Option<String>,
    /// The name of the field.
    pub field: Option<String>,
    /// The value found.
    pub value: Option<String>,
    /// What is wrong.
    pub message: String,
    /// What to do.
    pub help: Option<Help>,
    /// What would put it right, if that is known.
    pub fix: Option<Fix>,
    /// The column that is most likely meant.
    pub meant: Option<String>,
}

/// The problems of `check` at these places, sorted. Each file is loaded once.
pub(super) fn problems_at(index: &Index<'_>, check: &Check, mut found: Vec<Found>) -> Vec<Problem> {
    found.sort_by_key(|own| (own.file, own.span));
    let mut out = Vec::with_capacity(found.len());
    let mut loaded: Option<(FileId, LoadedFile)> = None;
    for own in found {
        if own.span.is_some() && loaded.as_ref().is_none_or(|(file, _)| *file != own.file) {
            loaded = load(index.stack, own.file).ok().map(|of_file| (own.file, of_file));
        }
        let place = match (own.span, &loaded) {
            (Some(span), Some((_, of_file))) => of_file.place(span),
            _ => file_place(index, own.file),
        };
        let mut problem = Problem::new(check.code, check.severity, own.message, place);
        problem.help = own.help;
        problem.fixes.extend(own.fix);
        problem.meant = own.meant;
        problem.table = Some(index.schema.tables[own.table].name.clone());
        problem.key = own.key.as_deref().map(shown_key);
        problem.field = own.field;
        problem.value = own.value;
        out.push(problem);
    }
    out.sort_by(|a, b| a.order().cmp(&b.order()));
    out
}

/// A file as a whole.
pub(super) fn file_place(index: &Index<'_>, file: FileId) -> Place {
    let entry = &index.stack.files()[file];
    Place::file(entry.path.as_str(), &index.stack.layers()[entry.layer].name)
}
