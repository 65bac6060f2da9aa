//! The entries of a text as the editors see them, and what is to become of them.

use super::new_entry::{Head, NewEntry, edited};
use super::style::{Style, blanks_before, line_content_end, line_start};
use super::{Dialect, Likeness, Place, Refusal};
use crate::formats::flat_tree::{FlatNode, ancestors, children};
use crate::formats::{Cell, decode};
use crate::text::{Edit, EditSet, Span};
use std::cell::OnceCell;
use std::collections::{BTreeMap, BTreeSet, HashMap};

/// An entry: a record, a value with its name, a container of others.
#[derive(Debug, Clone)]
pub(in crate::formats) struct EntryNode {
    /// Its place as the reader gives it.
    pub value: Span,
    /// All of it, without a separator: with its name, its quotes.
    pub span: Span,
    /// Where others stand in it.
    pub inside: Inside,
    /// The entry that it stands in; `None` at the top of the file.
    pub parent: Option<usize>,
    /// One past the last entry below this one.
    pub end: usize,
}

/// Where the entries within another one stand.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(in crate::formats) enum Inside {
    /// It can hold none.
    Nothing,
    /// Between its brackets or tags.
    Bracketed(Span),
    /// Behind this byte, where its head ends; nothing closes it.
    Below(usize),
    /// It has no inside, but gets one if these bytes become the two texts with something between them.
    Closed(Span, &'static str, String),
}

impl Inside {
    /// Whether others can stand in it.
    pub fn holds(&self) -> bool {
        *self != Inside::Nothing
    }
}

impl FlatNode for EntryNode {
    fn parent(&self) -> Option<usize> {
        self.parent
    }

    fn end(&self) -> usize {
        self.end
    }

    fn span(&self) -> Span {
        self.span
    }
}

/// Where among its siblings something new goes.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(in crate::formats) enum Anchor {
    First,
    Last,
    Before(usize),
    After(usize),
}

/// Something that comes in.
#[derive(Debug)]
pub(super) enum New {
    Leaf(NewEntry),
    /// A parent with what is in it.
    Container(Head, Vec<usize>),
}

/// The entries of a text, with what is to become of them.
#[derive(Debug)]
pub(in crate::formats) struct Entries<'t> {
    pub(super) text: &'t str,
    /// The first byte behind a byte order mark.
    pub(super) body: usize,
    /// One past what heads the file: the first byte where entries can stand.
    pub(super) head_end: usize,
    /// In the order of the text, each before what is in it.
    pub(super) nodes: Vec<EntryNode>,
    previous: Vec<Option<usize>>,
    pub(super) style: Style,
    pub(super) gone: BTreeSet<usize>,
    /// What comes into each container, in the order in which it was asked for.
    pub(super) added: BTreeMap<Option<usize>, Vec<(Anchor, usize)>>,
    pub(super) new: Vec<New>,
    /// What an empty file gets first.
    pub(super) prolog: String,
    /// Edits within entries that stay.
    pub(super) edits: Vec<Edit>,
    /// Edits that the text gets besides.
    pub(super) expected: EditSet,
    /// Parents that were looked for.
    parents: HashMap<(Option<usize>, Head), Option<usize>>,
    /// The entries in a container that can hold others, by name.
    by_name: HashMap<Option<usize>, HashMap<String, Vec<usize>>>,
    /// Parents that came in, by what they are in and what they are.
    made: HashMap<(Option<usize>, Option<usize>, Head), usize>,
    /// By how much what is inside something is indented further, once it has been looked for.
    pub(super) unit: OnceCell<Option<&'t str>>,
    /// Whether a separator stands behind the last entry of some container, once it has been looked for.
    pub(super) some_trailing: OnceCell<bool>,
}

impl<'t> Entries<'t> {
    /// The entries of `text`, whose first byte behind a byte order mark is `body`, and in which entries can stand from
    /// `head_end` on.
    pub fn new(
        text: &'t str,
        body: usize,
        head_end: usize,
        nodes: Vec<EntryNode>,
        style: Style,
    ) -> Entries<'t> {
        let mut last: Vec<Option<usize>> = vec![None; nodes.len() + 1];
        let mut previous = Vec::with_capacity(nodes.len());
        for (at, node) in nodes.iter().enumerate() {
            let slot = &mut last[node.parent.map_or(0, |parent| parent + 1)];
            previous.push(slot.replace(at));
        }
        Entries {
            text,
            body,
            head_end,
            nodes,
            previous,
            style,
            gone: BTreeSet::new(),
            added: BTreeMap::new(),
            new: Vec::new(),
            prolog: String::new(),
            edits: Vec::new(),
            expected: EditSet::default(),
            parents: HashMap::new(),
            by_name: HashMap::new(),
            made: HashMap::new(),
            unit: OnceCell::new(),
            some_trailing: OnceCell::new(),
        }
    }

    /// The text.
    pub fn text(&self) -> &'t str {
        self.text
    }

    /// The first byte behind a byte order mark.
    pub fn body(&self) -> usize {
        self.body
    }

    /// The entry with this number.
    pub fn node(&self, node: usize) -> &EntryNode {
        &self.nodes[node]
    }

    /// The numbers of all entries.
    pub fn numbers(&self) -> std::ops::Range<usize> {
        0..self.nodes.len()
    }

    /// The entries directly in `container`, or at the top.
    pub fn children(&self, container: Option<usize>) -> impl Iterator<Item = usize> + '_ {
        children(&self.nodes, container)
    }

    /// The entry before this one in the same container.
    pub fn previous_sibling(&self, node: usize) -> Option<usize> {
        self.previous[node]
    }

    /// The entry behind this one in the same container.
    pub fn next_sibling(&self, node: usize) -> Option<usize> {
        let next = self.nodes[node].end;
        self.nodes.get(next).filter(|other| other.parent == self.nodes[node].parent).map(|_| next)
    }

    /// The entry at a place that the reader gave, or whose whole is there.
    ///
    /// # Errors
    /// When there is none.
    pub fn find(&self, place: Span) -> Result<usize, Refusal> {
        let from = self
            .nodes
            .partition_point(|node| node.value.start < place.start && node.span.start < place.start);
        let near = self.nodes[from..].iter().take_while(|node| node.span.start <= place.start);
        let found = near.enumerate().find(|(_, node)| node.value == place);
        let found = found.or_else(|| {
            let near = self.nodes[from..].iter().take_while(|node| node.span.start <= place.start);
            near.enumerate().find(|(_, node)| node.span == place)
        });
        found.map(|(at, _)| from + at).ok_or_else(|| {
            let line = self.text.get(..place.start as usize).unwrap_or(self.text).matches('\n').count() + 1;
            format!("there is no entry at line {line}")
        })
    }

    /// What will stand at `span`, with the edits that the text gets besides.
    pub fn expected(&self, span: Span) -> String {
        edited(self.text, span, &self.expected)
    }

    /// The value that `cell` will have, with the edits that the text gets besides.
    pub fn expected_value(&self, cell: &Cell) -> String {
        let raw = self.expected(cell.span);
        decode(&raw, &Cell { span: Span::new(0, raw.len()), form: cell.form }).text.into_owned()
    }

    /// The innermost entry around a place.
    pub fn innermost(&self, place: Span) -> Option<usize> {
        let last = self.nodes.partition_point(|node| node.span.start <= place.start).checked_sub(1);
        std::iter::successors(last, |node| self.nodes[*node].parent)
            .find(|node| self.nodes[*node].span.end >= place.end)
    }

    /// Whether a place is all of the text.
    pub fn is_whole(&self, place: Span) -> bool {
        place.start as usize <= self.body && place.end as usize == self.text.len()
    }

    /// The entries that `node` stands in, the outermost first.
    pub fn ancestors(&self, node: usize) -> Vec<usize> {
        ancestors(&self.nodes, node)
    }

    /// Replaces what stands at `span`, within an entry that stays.
    pub fn edit(&mut self, span: Span, text: impl Into<String>) {
        self.edits.push(Edit { span, text: text.into() });
    }

    /// Makes edits within entries that stay.
    pub fn edit_all(&mut self, edits: Vec<Edit>) {
        self.edits.extend(edits);
    }

    /// Takes an entry out.
    pub fn remove(&mut self, node: usize) {
        self.gone.insert(node);
    }

    /// Whether an entry, or one that it stands in, goes or is moved: nothing in it can be changed then.
    pub fn goes(&self, node: usize) -> bool {
        std::iter::successors(Some(node), |node| self.nodes[*node].parent)
            .any(|node| self.gone.contains(&node))
    }

    /// Whether something within an entry is to change.
    fn changes_within(&self, node: usize) -> bool {
        let (span, below) = (self.nodes[node].span, node..self.nodes[node].end);
        self.edits.iter().any(|edit| edit.span.start >= span.start && edit.span.end <= span.end)
            || self.added.keys().flatten().any(|container| below.contains(container))
            || self.gone.range(below).next().is_some()
    }

    /// Puts something new in.
    pub fn add(&mut self, container: Option<usize>, anchor: Anchor, entry: NewEntry) {
        self.add_new(container, anchor, New::Leaf(entry));
    }

    fn add_new(&mut self, container: Option<usize>, anchor: Anchor, new: New) -> usize {
        self.new.push(new);
        let number = self.new.len() - 1;
        self.added.entry(container).or_default().push((anchor, number));
        number
    }

    /// An entry of this text as something new, with the notes above it.
    pub fn copy(&self, node: usize) -> NewEntry {
        let own = &self.nodes[node];
        NewEntry {
            notes: self.notes_above(node),
            text: own.span.of(self.text).to_owned(),
            indent: blanks_before(self.text, own.span.start as usize).map(str::to_owned),
            ..NewEntry::default()
        }
    }

    /// The lines of the notes directly above an entry, without their indentation.
    pub fn notes_above(&self, node: usize) -> Vec<String> {
        let start = self.nodes[node].span.start as usize;
        let lead = self.lead(node);
        if lead == start {
            return Vec::new();
        }
        let indent = blanks_before(self.text, start).unwrap_or("");
        let lines = self.text[lead..line_start(self.text, start).max(lead)].lines();
        lines
            .map(|line| line.strip_prefix(indent).unwrap_or(line.trim_start()).trim_end().to_owned())
            .collect()
    }

    /// Moves an entry within its parent.
    ///
    /// # Errors
    /// When the place is not within its parent.
    pub fn move_to(&mut self, node: usize, place: Place) -> Result<(), Refusal> {
        if self.goes(node) || self.changes_within(node) {
            return Err("it is changed and moved at once".to_owned());
        }
        let parent = self.nodes[node].parent;
        let anchor = self.anchor(place)?;
        if let Anchor::Before(other) | Anchor::After(other) = anchor {
            if self.nodes[other].parent != parent {
                return Err("it would come into another parent".to_owned());
            }
            let stays = other == node
                || (anchor == Anchor::Before(other) && self.next_sibling(node) == Some(other))
                || (anchor == Anchor::After(other) && self.previous_sibling(node) == Some(other));
            if stays {
                return Ok(());
            }
        }
        let stays = match anchor {
            Anchor::First => self.previous_sibling(node).is_none(),
            Anchor::Last => self.next_sibling(node).is_none(),
            _ => false,
        };
        if stays {
            return Ok(());
        }
        let copy = NewEntry { note_behind: self.note_behind(node).to_owned(), ..self.copy(node) };
        self.remove(node);
        self.add(parent, anchor, copy);
        Ok(())
    }

    /// Takes out what is left empty within `node` although something was in it, and the notes within it, those behind its
    /// head too.
    pub fn strip(&mut self, node: usize, dialect: &dyn Dialect) {
        for inner in (node + 1..self.nodes[node].end).rev() {
            if !self.goes(inner) && dialect.is_emptied(self, inner) {
                let span = self.nodes[inner].span;
                self.edits.retain(|edit| edit.span.start < span.start || edit.span.end > span.end);
                self.gone.insert(inner);
            }
        }
        let mut notes = Vec::new();
        if let Inside::Below(head) = self.nodes[node].inside
            && self.is_line_over(head)
        {
            notes.push(head..line_content_end(self.text, head));
        }
        for inner in node + 1..self.nodes[node].end {
            if self.goes(inner) {
                continue;
            }
            let start = self.nodes[inner].span.start as usize;
            notes.push(self.lead(inner)..line_start(self.text, start).max(self.lead(inner)));
            if self.is_last_on_line(inner) {
                let end = self.behind(inner);
                notes.push(end..line_content_end(self.text, end));
            }
        }
        let is_note = |place: &std::ops::Range<usize>| !self.text[place.clone()].trim().is_empty();
        let notes: Vec<Span> =
            notes.into_iter().filter(is_note).map(|place| Span::new(place.start, place.end)).collect();
        for note in notes {
            let known = self.edits.iter().any(|edit| edit.span == note);
            if !known {
                self.edit(note, "");
            }
        }
    }

    /// Whether all entries of a container go, and there were some.
    pub fn all_go(&self, container: usize) -> bool {
        let mut children = self.children(Some(container)).peekable();
        children.peek().is_some()
            && children.all(|child| self.gone.contains(&child))
            && !self.added.contains_key(&Some(container))
    }

    /// Whether what stands at `span` is cut.
    pub fn is_cut(&self, span: Span) -> bool {
        let covers = |edit: &&Edit| edit.span.start <= span.start && span.end <= edit.span.end;
        self.edits.iter().any(|edit| covers(&edit) && edit.text.is_empty())
    }

    /// The note behind an entry on its line, with the blanks before it.
    pub fn note_behind(&self, node: usize) -> &str {
        let end = self.behind(node);
        if self.is_last_on_line(node) { &self.text[end..line_content_end(self.text, end)] } else { "" }
    }

    /// Where something new goes, as it was asked for.
    ///
    /// # Errors
    /// When the entry that it names is not there.
    pub fn anchor(&self, place: Place) -> Result<Anchor, Refusal> {
        Ok(match place {
            Place::First => Anchor::First,
            Place::Last => Anchor::Last,
            Place::Before(other) => Anchor::Before(self.find(other)?),
            Place::After(other) => Anchor::After(self.find(other)?),
        })
    }

    /// Puts `entry` in, beside the entry that `place` names or into the parent that its heads call for. Parents that are
    /// not there are made.
    ///
    /// # Errors
    /// When there is no place for it.
    pub fn insert(&mut self, entry: &NewEntry, place: Place, dialect: &dyn Dialect) -> Result<(), Refusal> {
        let anchor = self.anchor(place)?;
        if let Anchor::Before(other) | Anchor::After(other) = anchor {
            self.add(self.nodes[other].parent, anchor, entry.clone());
            return Ok(());
        }
        if self.nodes.is_empty() && self.new.is_empty() {
            self.prolog = entry.prolog.clone();
        }
        let (mut container, mut missing) = (None, entry.heads.as_slice());
        while let [head, rest @ ..] = missing {
            let Some(found) = self.parent(container, head, dialect) else { break };
            container = Some(found);
            missing = rest;
        }
        if container.is_none() && !self.nodes.is_empty() && !entry.heads.is_empty() && self.style.one_root {
            return Err("what all entries of the file stand in is another".to_owned());
        }
        // Parents that came in before are used again.
        let (mut anchor, mut within): (Anchor, Option<usize>) = (anchor, None);
        for head in missing {
            let place = (container, within, head.clone());
            within = Some(match self.made.get(&place).copied() {
                Some(new) => new,
                None => {
                    let new =
                        self.push_new(container, within, anchor, New::Container(head.clone(), Vec::new()));
                    for text in &head.key_entries {
                        let own = NewEntry { text: text.clone(), is_rigid: true, ..NewEntry::default() };
                        self.push_new(container, Some(new), Anchor::Last, New::Leaf(own));
                    }
                    self.made.insert(place, new);
                    new
                }
            });
            anchor = Anchor::Last;
        }
        self.push_new(container, within, anchor, New::Leaf(entry.clone()));
        Ok(())
    }

    /// The entry in `container` that is the parent which `head` describes: the one that is most like it.
    ///
    /// Cost: looking through the container once, then through those of the same name.
    pub fn parent(&mut self, container: Option<usize>, head: &Head, dialect: &dyn Dialect) -> Option<usize> {
        if let Some(known) = self.parents.get(&(container, head.clone())) {
            return *known;
        }
        if !self.by_name.contains_key(&container) {
            let mut names: HashMap<String, Vec<usize>> = HashMap::new();
            for node in self.children(container).filter(|node| self.nodes[*node].inside.holds()) {
                names.entry(dialect.parent_name(self, node)).or_default().push(node);
            }
            self.by_name.insert(container, names);
        }
        let named = self.by_name.get(&container).and_then(|names| names.get(&dialect.head_name(head)));
        let mut best: Option<(Likeness, usize)> = None;
        for node in named.into_iter().flatten() {
            let own = dialect.is_parent(self, *node, head);
            if own > best.map_or(Likeness::Other, |(own, _)| own) {
                best = Some((own, *node));
                if own == Likeness::Same {
                    break;
                }
            }
        }
        let found = best.map(|(_, node)| node);
        self.parents.insert((container, head.clone()), found);
        found
    }

    fn push_new(
        &mut self,
        container: Option<usize>,
        within: Option<usize>,
        anchor: Anchor,
        new: New,
    ) -> usize {
        let Some(parent) = within else { return self.add_new(container, anchor, new) };
        self.new.push(new);
        let number = self.new.len() - 1;
        if let New::Container(_, children) = &mut self.new[parent] {
            children.push(number);
        }
        number
    }

    /// The whole texts of those of the entries in `container` that `is_wanted`.
    pub fn texts_of(&self, container: usize, is_wanted: impl Fn(usize) -> bool) -> Vec<String> {
        let wanted = self.children(Some(container)).filter(|child| is_wanted(*child));
        wanted.map(|child| self.nodes[child].span.of(self.text).to_owned()).collect()
    }

    /// Where the value `name` goes in `record`, and the one of another record that shows how it is written: behind the
    /// one that others have before it, or before the one they have behind it. `name_of` tells the name of a value.
    pub fn field_place<'e>(
        &'e self,
        record: Option<usize>,
        name: &str,
        name_of: impl Fn(usize) -> Option<&'e str>,
    ) -> (Anchor, Option<usize>) {
        let has = |other: usize| self.children(Some(other)).find(|child| name_of(*child) == Some(name));
        let own = |name: Option<&str>| {
            name.and_then(|name| self.children(record).find(|child| name_of(*child) == Some(name)))
        };
        let place = |model: usize| {
            let before =
                std::iter::successors(self.previous_sibling(model), |node| self.previous_sibling(*node));
            let behind = std::iter::successors(self.next_sibling(model), |node| self.next_sibling(*node));
            let before = before.take(NEAR).find_map(|node| own(name_of(node))).map(Anchor::After);
            before.or_else(|| behind.take(NEAR).find_map(|node| own(name_of(node))).map(Anchor::Before))
        };
        let models: Vec<usize> =
            record.into_iter().flat_map(|record| self.near(record)).filter_map(has).take(MODELS).collect();
        let decided = models.iter().find_map(|model| Some((place(*model)?, Some(*model))));
        decided.unwrap_or((Anchor::Last, models.first().copied()))
    }

    /// Other entries that may show how one is written: its neighbours first, then all that hold something.
    pub fn near(&self, node: usize) -> impl Iterator<Item = usize> + '_ {
        let before = std::iter::successors(self.previous_sibling(node), |node| self.previous_sibling(*node));
        let behind = std::iter::successors(self.next_sibling(node), |node| self.next_sibling(*node));
        let all = self.numbers().filter(|other| self.nodes[*other].inside.holds()).take(10 * NEAR);
        before.take(NEAR).chain(behind.take(NEAR)).chain(all).filter(move |other| *other != node)
    }
}

/// So many other records are asked where a value goes.
const MODELS: usize = 10;
/// So many neighbours are looked at for how something is written.
const NEAR: usize = 100;
