//! Editing a file by its entries: the editors of the formats stand beside their readers and share what is here.
//!
//! An [`Editor`] parses a text once, gathers what is asked for, and gives the edits at the end. So it knows what stands
//! beside what in the end: where a separator is needed, where a blank line goes, what a new entry lines up with. What it
//! puts in is written as its neighbours are (`style`); what it does not touch stays to the byte.
//!
//! Notes directly above an entry belong to it and go where it goes. A note behind an entry, on its line, goes with the
//! entry too, but stays where only a value changes.
//!
//! **Limitations.** A container that was empty and on one line, as `[]`, is opened over several lines for an entry that
//! had a line of its own; taking that out again leaves it open.

mod entries;
mod new_entry;
mod render;
mod rows;
mod style;

pub(super) use entries::{Anchor, Entries, EntryNode, Inside};
pub(super) use new_entry::edited;
pub use new_entry::{Head, NewEntry};
pub(super) use rows::{Cells, line_entry, row_entries};
pub(super) use style::{Style, blanks_before, line_content_end};

use super::comment_out::OffStyle;
use crate::text::{Edit, EditSet, Span};

/// Where an entry goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Place {
    /// Before all others of its parent.
    First,
    /// Behind all others of its parent.
    Last,
    /// Directly before the entry at this place.
    Before(Span),
    /// Directly behind the entry at this place.
    After(Span),
}

/// What of a record is taken as a [`NewEntry`].
#[derive(Debug, Clone, Copy)]
pub struct Part<'a> {
    /// The record, as the reader gives its place.
    pub record: Span,
    /// What becomes of its text.
    pub edits: &'a EditSet,
    /// Whether all its values are taken, and not only those that are edited, where single values can be added.
    pub whole: bool,
    /// Whether the notes directly above come along.
    pub notes: bool,
    /// The columns of the key, by which the parents are told apart.
    pub key: &'a [&'a str],
}

/// Why something cannot be done: what is in the way, as the end of a sentence.
pub type Refusal = String;

/// What the editor of one format does in its own way.
pub(super) trait Dialect {
    /// See [`Editor::set`]; `record` is the node of the record, or `None` for the file as a whole.
    fn set(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        value: &str,
    ) -> Result<(), Refusal>;

    /// See [`Editor::take`].
    fn take(&self, entries: &Entries<'_>, record: usize, part: &Part<'_>) -> Result<NewEntry, Refusal>;

    /// How like `node` is to the parent that `head` describes; in formats without nesting there are none.
    fn is_parent(&self, _entries: &Entries<'_>, _node: usize, _head: &Head) -> Likeness {
        Likeness::Other
    }

    /// Itself, for those who take any.
    fn as_dialect(&self) -> &dyn Dialect;

    /// The name of an entry, by which those are told apart that may be parents.
    fn parent_name(&self, _entries: &Entries<'_>, _node: usize) -> String {
        String::new()
    }

    /// The name that a parent must have.
    fn head_name(&self, head: &Head) -> String {
        head.name.clone()
    }

    /// See [`Editor::insert`]; the parents are told apart by [`Dialect::is_parent`].
    fn insert(&self, entries: &mut Entries<'_>, entry: &NewEntry, place: Place) -> Result<(), Refusal> {
        entries.insert(entry, place, self.as_dialect())
    }

    /// See [`Editor::insert_item`].
    fn insert_item(
        &self,
        _entries: &mut Entries<'_>,
        _record: Option<usize>,
        column: &str,
        _item: &str,
        _at: usize,
    ) -> Result<(), Refusal> {
        Err(format!("`{column}` is one value in the file; an item of it is changed with the whole value"))
    }

    /// See [`Editor::insert_list`].
    fn insert_list(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        items: &[String],
    ) -> Result<(), Refusal> {
        self.insert_each(entries, record, column, items)
    }

    /// Puts items one by one before those of a list that is there.
    fn insert_each(
        &self,
        entries: &mut Entries<'_>,
        record: Option<usize>,
        column: &str,
        items: &[String],
    ) -> Result<(), Refusal> {
        items
            .iter()
            .enumerate()
            .try_for_each(|(at, item)| self.insert_item(entries, record, column, item, at))
    }

    /// See [`Editor::remove_item`].
    fn remove_item(
        &self,
        _entries: &mut Entries<'_>,
        _record: Option<usize>,
        column: &str,
        _at: usize,
    ) -> Result<(), Refusal> {
        Err(format!("`{column}` is one value in the file; an item of it is changed with the whole value"))
    }

    /// Whether `node`, the innermost entry around the value at `cell`, is there for that value alone, so that it can go
    /// without its record.
    fn is_entry_of(&self, _entries: &Entries<'_>, _node: usize, _cell: Span) -> bool {
        false
    }

    /// What must be cut so that the value at `cell` goes from `node`, the innermost entry around it, though it is no entry
    /// of its own.
    fn cut_of_value(&self, _entries: &Entries<'_>, _node: usize, _cell: Span) -> Option<Span> {
        None
    }

    /// Whether nothing is left in `node`, in which something was.
    fn is_emptied(&self, entries: &Entries<'_>, node: usize) -> bool {
        entries.all_go(node)
    }

    /// How an entry is made a note.
    fn off_style(&self) -> OffStyle;

    /// What must be made a note together with the entry at `span`.
    fn wrapped_span(&self, _text: &str, span: Span) -> Span {
        span
    }
}

/// What the key of a record uses of the entries around it: the node, the column as seen from there, and the value.
pub(super) type KeyOfParents = Vec<(usize, String, String)>;

/// What of it is used of `node`: columns and values.
pub(super) fn key_at(all: &KeyOfParents, node: usize) -> Vec<(String, String)> {
    let own = all.iter().filter(|(at, ..)| *at == node);
    own.map(|(_, column, value)| (column.clone(), value.clone())).collect()
}

/// The node that a column begins at, with the rest of the column, for columns that begin further out: each `../` is one
/// step to the parent.
pub(super) fn climb<'c>(entries: &Entries<'_>, record: usize, column: &'c str) -> Option<(usize, &'c str)> {
    let (mut node, mut rest) = (record, column);
    while let Some(deeper) = rest.strip_prefix("../") {
        node = entries.node(node).parent?;
        rest = deeper;
    }
    (rest.len() < column.len()).then_some((node, rest))
}

/// How like a node is to the parent that is wanted.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub(super) enum Likeness {
    /// It is another.
    Other,
    /// It has its name, and nothing more is asked of it.
    Name,
    /// It has what the key uses, or is written in the same way.
    Same,
}

/// Edits one text in one format. Records and entries are named by their place in the text as it was read.
pub struct Editor<'t> {
    entries: Entries<'t>,
    dialect: Box<dyn Dialect + 't>,
}

impl<'t> Editor<'t> {
    pub(super) fn new(entries: Entries<'t>, dialect: impl Dialect + 't) -> Editor<'t> {
        Editor { entries, dialect: Box::new(dialect) }
    }

    /// Tells of edits that the text gets besides: parents are told apart by what they will be.
    pub fn expect_edits(&mut self, edits: &EditSet) {
        self.entries.expected = edits.clone();
    }

    /// The node of a record; `None` where the record is the file as a whole.
    fn record(&self, record: Span) -> Result<Option<usize>, Refusal> {
        match self.entries.find(record) {
            Ok(node) if self.entries.goes(node) => Err("it is taken out or moved at once".to_owned()),
            Ok(node) => Ok(Some(node)),
            Err(_) if self.entries.is_whole(record) => Ok(None),
            Err(refusal) => Err(refusal),
        }
    }

    /// Gives `column` of `record` the value, also where it has none yet: the new one is written as those of other
    /// records are, and goes where they have it.
    ///
    /// # Errors
    /// When the value cannot be written, the record has several values there, or the column cannot be made.
    pub fn set(&mut self, record: Span, column: &str, value: &str) -> Result<(), Refusal> {
        let record = self.record(record)?;
        self.dialect.set(&mut self.entries, record, column, value)
    }

    /// What is to be put at another place, or into another file of the same format.
    ///
    /// # Errors
    /// When there is no such record.
    pub fn take(&self, part: &Part<'_>) -> Result<NewEntry, Refusal> {
        let node = self.entries.find(part.record)?;
        let mut entry = self.dialect.take(&self.entries, node, part)?;
        entry.crlf = self.entries.line_end(false) == "\r\n";
        for (_, own) in &mut entry.parts {
            own.crlf = entry.crlf;
        }
        if part.notes {
            entry.note_behind = self.entries.note_behind(node).to_owned();
        }
        Ok(entry)
    }

    /// Puts an entry in. [`Place::First`] and [`Place::Last`] mean the parent that its key calls for; parents that are
    /// not there are made, with nothing else in them.
    ///
    /// # Errors
    /// When there is no place for it.
    pub fn insert(&mut self, entry: &NewEntry, place: Place) -> Result<(), Refusal> {
        self.dialect.insert(&mut self.entries, entry, place)
    }

    /// Takes an entry out: with its separator, its line, the notes directly above and the one behind it.
    ///
    /// # Errors
    /// When there is no such entry.
    pub fn remove(&mut self, entry: Span) -> Result<(), Refusal> {
        let node = self.entries.find(entry)?;
        self.entries.remove(node);
        Ok(())
    }

    /// Moves an entry to another place within its parent, with its notes.
    ///
    /// # Errors
    /// When there is no such entry, or the place is not within its parent.
    pub fn move_to(&mut self, entry: Span, place: Place) -> Result<(), Refusal> {
        let node = self.entries.find(entry)?;
        self.entries.move_to(node, place)
    }

    /// Makes an entry a note, which [`Editor::comment_in`] turns back to the byte.
    ///
    /// # Errors
    /// When the format has no note that can hold it.
    pub fn comment_out(&mut self, entry: Span) -> Result<(), Refusal> {
        let text = self.entries.text();
        let wrapped = self.dialect.wrapped_span(text, entry);
        let edits = self.dialect.off_style().switch_off(text, wrapped);
        self.entries.edit_all(edits.ok_or("no note of the format can hold it")?);
        Ok(())
    }

    /// Turns the note at `span` that holds what was commented out back into what it was.
    ///
    /// # Errors
    /// When there is no such note.
    pub fn comment_in(&mut self, span: Span) -> Result<(), Refusal> {
        let all = self.dialect.off_style().find_off(self.entries.text());
        let piece = all.into_iter().find(|piece| piece.span == span);
        self.entries.edit_all(piece.ok_or("nothing is commented out there")?.edits);
        Ok(())
    }

    /// The whole entry in which the value at `cell` stands: its key, element or member with it. `None` if it cannot be
    /// there without its record.
    pub fn entry_around(&self, cell: Span) -> Option<Span> {
        let node = self.entries.innermost(cell)?;
        self.dialect.is_entry_of(&self.entries, node, cell).then(|| self.entries.node(node).span)
    }

    /// Takes the value at `cell` out with what is there for it alone: its key, element, member or attribute. Gives whether
    /// that can be: in formats of rows a value has its place.
    pub fn remove_value(&mut self, cell: Span) -> bool {
        let Some(node) = self.entries.innermost(cell) else { return false };
        if self.dialect.is_entry_of(&self.entries, node, cell) {
            self.entries.remove(node);
            return true;
        }
        let cut = self.dialect.cut_of_value(&self.entries, node, cell);
        cut.inspect(|cut| self.entries.edit(*cut, "")).is_some()
    }

    /// Takes out of `record` what is left empty although something was in it, and all notes.
    ///
    /// # Errors
    /// When there is no such record.
    pub fn strip(&mut self, record: Span) -> Result<(), Refusal> {
        if let Some(node) = self.record(record)? {
            self.entries.strip(node, self.dialect.as_ref());
        }
        Ok(())
    }

    /// Puts `item` into the list that `column` of `record` is, so that it is the one with the number `at`, from 0 on.
    ///
    /// # Errors
    /// When the column is no list in the format, or the item cannot be written.
    pub fn insert_item(&mut self, record: Span, column: &str, item: &str, at: usize) -> Result<(), Refusal> {
        let record = self.record(record)?;
        self.dialect.insert_item(&mut self.entries, record, column, item, at)
    }

    /// Gives `record`, which has no list `column` or an empty one, a list of `items`.
    ///
    /// # Errors
    /// As [`Editor::insert_item`].
    pub fn insert_list(&mut self, record: Span, column: &str, items: &[String]) -> Result<(), Refusal> {
        let record = self.record(record)?;
        self.dialect.insert_list(&mut self.entries, record, column, items)
    }

    /// Takes the item with the number `at`, from 0 on, out of the list that `column` of `record` is.
    ///
    /// # Errors
    /// When the column is no list in the format, or has no such item.
    pub fn remove_item(&mut self, record: Span, column: &str, at: usize) -> Result<(), Refusal> {
        let record = self.record(record)?;
        self.dialect.remove_item(&mut self.entries, record, column, at)
    }

    /// The edits that make all of it; none where nothing was asked for.
    pub fn finish(self) -> Vec<Edit> {
        self.entries.finish()
    }
}
