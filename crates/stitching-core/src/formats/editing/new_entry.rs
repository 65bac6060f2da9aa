//! An entry that is to be put somewhere, and the parents it needs there.

use crate::formats::OFF_MARK;
use crate::text::{Edit, EditSet, Span};

/// An entry that is to be put into a text.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct NewEntry {
    /// What an empty file needs before everything else: a header row, a declaration.
    pub prolog: String,
    /// The parents, the outermost first.
    pub heads: Vec<Head>,
    /// Whether the lines where it comes from end with a carriage return and a line feed.
    pub crlf: bool,
    /// The lines of notes above it, without their indentation.
    pub notes: Vec<String>,
    /// The entry, without the blanks before it and without a separator. Its further lines have the indentation that
    /// they had.
    pub text: String,
    /// The note behind it on its line, with the blanks before it.
    pub note_behind: String,
    /// The blanks before it, where it had a line of its own.
    pub indent: Option<String>,
    /// Whether its further lines must stay as they are: a value goes over several of them.
    pub is_rigid: bool,
    /// Its values by name, in formats in which its text alone does not tell them.
    pub values: Vec<(String, String)>,
    /// Its values as entries of their own, in formats that can add single values, by name.
    pub parts: Vec<(String, NewEntry)>,
}

/// A parent of an entry.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
pub struct Head {
    /// What opens it.
    pub open: String,
    /// What closes it; empty where nothing does.
    pub close: String,
    /// Its name, as written.
    pub name: String,
    /// What the key of the record uses of it: columns as seen from it, and their values.
    pub key: Vec<(String, String)>,
    /// The entries within it in which these values stand, as written.
    pub key_entries: Vec<String>,
    /// The blanks before it, where it had a line of its own.
    pub indent: Option<String>,
}

/// What stands at `span` of `text` after those of `edits` that lie within it.
pub(in crate::formats) fn edited(text: &str, span: Span, edits: &EditSet) -> String {
    // They are sorted; a file may have very many.
    let first = edits.edits().partition_point(|edit| edit.span.start < span.start);
    let near = edits.edits()[first..].iter().take_while(|edit| edit.span.start <= span.end);
    let inside = near.filter(|edit| edit.span.end <= span.end);
    let shifted = inside.map(|edit| Edit {
        span: Span { start: edit.span.start - span.start, end: edit.span.end - span.start },
        text: edit.text.clone(),
    });
    let whole = span.of(text);
    let after = EditSet::new(shifted.collect()).ok().and_then(|edits| edits.apply_to(whole));
    after.unwrap_or_else(|| whole.to_owned())
}

/// Whether a note holds something that was commented out, and so belongs to no entry.
pub(super) fn is_commented_out(note: &str) -> bool {
    note.contains(OFF_MARK)
}
