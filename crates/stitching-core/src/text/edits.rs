//! Replacing spans of a text, all at once.

use super::Span;
use serde::{Deserialize, Serialize};
use std::ops::Range;

/// One replacement: the bytes of `span` become `text`.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Edit {
    /// What is replaced, in the text as read.
    pub span: Span,
    /// What stands there instead.
    pub text: String,
}

/// Edits of one text: sorted, disjoint, each within the text.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct EditSet {
    edits: Vec<Edit>,
}

/// Why an edit does not fit those already there.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum EditError {
    /// Two edits want the same bytes, or the same place between two bytes, and disagree.
    #[error("two different replacements are asked for: of the bytes {} to {}, and of {} to {}", .0.start, .0.end, .1.start, .1.end)]
    Overlap(Span, Span),
    /// The span reaches past the text.
    #[error("the bytes {} to {} are not in the file", .0.start, .0.end)]
    OutOfBounds(Span),
}

impl EditSet {
    /// Puts `edits` in order. The same edit given twice counts once.
    ///
    /// # Errors
    /// When two edits overlap and are not identical, or a span is turned round.
    pub fn new(edits: Vec<Edit>) -> Result<EditSet, EditError> {
        let mut set = EditSet::default();
        set.add(edits)?;
        Ok(set)
    }

    /// Puts more edits among those that are there. An edit that is there already counts once.
    ///
    /// Cost: sorting all of them.
    ///
    /// # Errors
    /// As [`EditSet::new`]; the set is as it was then.
    pub fn add(&mut self, mut edits: Vec<Edit>) -> Result<(), EditError> {
        edits.extend_from_slice(&self.edits);
        edits.sort_by(|a, b| (a.span, &a.text).cmp(&(b.span, &b.text)));
        edits.dedup();
        for pair in edits.windows(2) {
            if pair[0].span.end > pair[1].span.start || pair[0].span == pair[1].span {
                return Err(EditError::Overlap(pair[0].span, pair[1].span));
            }
        }
        if let Some(edit) = edits.iter().find(|edit| edit.span.start > edit.span.end) {
            return Err(EditError::OutOfBounds(edit.span));
        }
        self.edits = edits;
        Ok(())
    }

    /// The edits, sorted by place.
    pub fn edits(&self) -> &[Edit] {
        &self.edits
    }

    /// Where the new texts of the edits stand when all are made, in the order of the edits.
    pub fn spans_after(&self) -> Vec<Span> {
        let mut shift = 0;
        let after = self.edits.iter().map(|edit| {
            let start = i64::from(edit.span.start) + shift;
            shift += edit.text.len() as i64 - i64::from(edit.span.end - edit.span.start);
            Span::new(
                usize::try_from(start).unwrap_or_default(),
                usize::try_from(start).unwrap_or_default() + edit.text.len(),
            )
        });
        after.collect()
    }

    /// Whether there is nothing to do.
    pub fn is_empty(&self) -> bool {
        self.edits.is_empty()
    }

    /// The bytes after the edits, in one forward copy.
    ///
    /// # Errors
    /// When an edit reaches past `bytes`.
    pub fn apply(&self, bytes: &[u8]) -> Result<Vec<u8>, EditError> {
        let grown: usize = self.edits.iter().map(|edit| edit.text.len()).sum();
        let mut out = Vec::with_capacity(bytes.len() + grown);
        let mut from = 0;
        for edit in &self.edits {
            let kept = bytes.get(from..edit.span.start as usize);
            let (Some(kept), true) = (kept, edit.span.end as usize <= bytes.len()) else {
                return Err(EditError::OutOfBounds(edit.span));
            };
            out.extend_from_slice(kept);
            out.extend_from_slice(edit.text.as_bytes());
            from = edit.span.end as usize;
        }
        out.extend_from_slice(&bytes[from..]);
        Ok(out)
    }

    /// The text after the edits; nothing where one reaches past `text`, or cuts a letter in two.
    pub fn apply_to(&self, text: &str) -> Option<String> {
        String::from_utf8(self.apply(text.as_bytes()).ok()?).ok()
    }

    /// These edits of `before` and then `later`, edits of what they make of it, as edits of `before`. A piece that says
    /// in the end what it said before is no edit.
    ///
    /// # Errors
    /// When an edit reaches past its text.
    pub fn then(&self, later: &EditSet, before: &str) -> Result<EditSet, EditError> {
        let mut middle = Vec::new();
        let mut from = 0;
        for edit in &self.edits {
            let (start, end) = (edit.span.start as usize, edit.span.end as usize);
            if end > before.len() || start < from {
                return Err(EditError::OutOfBounds(edit.span));
            }
            middle.extend([Piece::Kept(from..start), Piece::New(&edit.text)]);
            from = end;
        }
        middle.push(Piece::Kept(from..before.len()));
        let mut composed = Composed { before, edits: Vec::new(), from: 0, new: String::new() };
        let mut rest = middle.into_iter();
        let mut piece = rest.next();
        // How far the text between the two was gone through.
        let mut at = 0;
        for edit in &later.edits {
            let (start, end) = (edit.span.start as usize, edit.span.end as usize);
            while at < end || at < start {
                let Some(own) = piece.take() else { return Err(EditError::OutOfBounds(edit.span)) };
                let stop = if at < start { start } else { end };
                let (first, second) = own.split(stop - at);
                if at < start {
                    composed.add(&first);
                }
                at += first.len();
                piece = second.or_else(|| rest.next());
            }
            composed.new.push_str(&edit.text);
        }
        piece.into_iter().chain(rest).for_each(|piece| composed.add(&piece));
        composed.end_edit(before.len());
        Ok(EditSet { edits: composed.edits })
    }

    /// The edits that turn the result of [`EditSet::apply`] on `before` back into `before`.
    ///
    /// `None` when the replaced bytes are not text (an edit that cut a character in two).
    pub fn reversed(&self, before: &[u8]) -> Option<EditSet> {
        let mut shift = 0i64;
        let mut edits = Vec::with_capacity(self.edits.len());
        for edit in &self.edits {
            let start = (i64::from(edit.span.start) + shift) as usize;
            let old = std::str::from_utf8(before.get(edit.span.range())?).ok()?;
            edits.push(Edit { span: Span::new(start, start + edit.text.len()), text: old.to_owned() });
            shift += edit.text.len() as i64 - edit.span.len() as i64;
        }
        Some(EditSet { edits })
    }
}

/// A piece of an edited text.
enum Piece<'e> {
    /// These bytes of the text before.
    Kept(Range<usize>),
    /// What an edit put there.
    New(&'e str),
}

impl<'e> Piece<'e> {
    /// Its length in bytes.
    fn len(&self) -> usize {
        match self {
            Piece::Kept(range) => range.len(),
            Piece::New(text) => text.len(),
        }
    }

    /// The first `length` bytes of it, or all if it is not longer; and the rest.
    fn split(self, length: usize) -> (Piece<'e>, Option<Piece<'e>>) {
        if length >= self.len() {
            return (self, None);
        }
        match self {
            Piece::Kept(Range { start, end }) => {
                (Piece::Kept(start..start + length), Some(Piece::Kept(start + length..end)))
            }
            Piece::New(text) => (Piece::New(&text[..length]), Some(Piece::New(&text[length..]))),
        }
    }
}

/// Edits of `before`, as its pieces come in order.
struct Composed<'t> {
    before: &'t str,
    edits: Vec<Edit>,
    /// How far `before` was gone through.
    from: usize,
    /// What stands there instead of what comes next.
    new: String,
}

impl Composed<'_> {
    fn add(&mut self, piece: &Piece<'_>) {
        match piece {
            Piece::New(text) => self.new.push_str(text),
            Piece::Kept(range) if range.is_empty() => {}
            Piece::Kept(range) => {
                self.end_edit(range.start);
                self.from = range.end;
            }
        }
    }

    /// Ends the edit of the bytes up to `end`, if anything of them is replaced or something new stands there.
    fn end_edit(&mut self, end: usize) {
        let text = std::mem::take(&mut self.new);
        if self.before[self.from..end] != text {
            self.edits.push(Edit { span: Span::new(self.from, end), text });
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    fn edit(start: usize, end: usize, text: &str) -> Edit {
        Edit { span: Span::new(start, end), text: text.to_owned() }
    }

    #[test]
    fn applies_in_one_pass_and_back() {
        let set = EditSet::new(vec![edit(8, 11, "three"), edit(0, 3, "1")]).expect("disjoint");
        let after = set.apply(b"one two six").expect("inside");
        assert_eq!(after, b"1 two three");
        assert_eq!(
            set.reversed(b"one two six").expect("text").apply(&after).expect("inside"),
            b"one two six"
        );
    }

    #[test]
    fn the_same_edit_twice_counts_once_and_a_rival_is_refused() {
        assert_eq!(EditSet::new(vec![edit(1, 2, "x"), edit(1, 2, "x")]).expect("same").edits().len(), 1);
        assert_eq!(
            EditSet::new(vec![edit(1, 2, "x"), edit(1, 2, "y")]),
            Err(EditError::Overlap(Span::new(1, 2), Span::new(1, 2)))
        );
        assert_eq!(
            EditSet::new(vec![edit(1, 4, "x"), edit(3, 5, "y")]),
            Err(EditError::Overlap(Span::new(1, 4), Span::new(3, 5)))
        );
    }

    #[test]
    fn an_edit_outside_the_text_is_refused() {
        let set = EditSet::new(vec![edit(2, 9, "x")]).expect("sorted");
        assert_eq!(set.apply(b"abc"), Err(EditError::OutOfBounds(Span::new(2, 9))));
    }

    #[rstest]
    #[case::apart(&[(0, 1, "A")], &[(4, 5, "E")], "AbcdE", 2)]
    #[case::within_the_new(&[(1, 2, "xyz")], &[(2, 3, "-")], "ax-zcde", 1)]
    #[case::over_the_edge(&[(1, 2, "xyz")], &[(3, 5, "")], "axyde", 1)]
    #[case::all_of_it(&[(1, 2, "xyz")], &[(0, 7, "q")], "q", 1)]
    #[case::back_again(&[(1, 2, "xyz")], &[(1, 4, "b")], "abcde", 0)]
    #[case::at_the_same_place(&[(2, 2, "x")], &[(2, 2, "y")], "abyxcde", 1)]
    #[case::behind_the_new(&[(2, 2, "x")], &[(3, 3, "y")], "abxycde", 1)]
    #[case::at_the_end(&[(5, 5, "x")], &[(6, 6, "y")], "abcdexy", 1)]
    #[case::taken_out_twice(&[(1, 2, "")], &[(1, 2, "")], "ade", 1)]
    fn edits_one_after_another_are_edits_of_the_first_text(
        #[case] first: &[(usize, usize, &str)],
        #[case] later: &[(usize, usize, &str)],
        #[case] result: &str,
        #[case] number: usize,
    ) {
        let set = |edits: &[(usize, usize, &str)]| {
            EditSet::new(edits.iter().map(|(start, end, text)| edit(*start, *end, text)).collect())
                .expect("disjoint")
        };
        let both = set(first).then(&set(later), "abcde").expect("inside");
        assert_eq!(both.apply(b"abcde").expect("inside"), result.as_bytes());
        assert_eq!(both.edits().len(), number);
    }

    #[test]
    fn a_later_edit_outside_the_text_is_refused() {
        let first = EditSet::new(vec![edit(0, 3, "x")]).expect("sorted");
        let later = EditSet::new(vec![edit(1, 9, "y")]).expect("sorted");
        assert_eq!(first.then(&later, "abcde"), Err(EditError::OutOfBounds(Span::new(1, 9))));
    }

    /// Edits of a text of `length` bytes: gaps, lengths and new texts from `cuts`.
    fn from_cuts(length: usize, cuts: Vec<(usize, usize, String)>) -> EditSet {
        let mut at = 0;
        let mut edits = Vec::new();
        for (gap, len, new) in cuts {
            let (start, end) = (at + gap, at + gap + len);
            if end > length {
                break;
            }
            edits.push(edit(start, end, &new));
            at = end + 1;
        }
        EditSet::new(edits).expect("built disjoint")
    }

    proptest! {
        #[test]
        fn one_after_another_is_the_same_as_both_at_once(
            text in "[a-c\n]{0,40}",
            first in proptest::collection::vec((0usize..12, 0usize..5, "[x-z]{0,3}"), 0..6),
            later in proptest::collection::vec((0usize..12, 0usize..5, "[x-z]{0,3}"), 0..6),
        ) {
            let first = from_cuts(text.len(), first);
            let middle = first.apply(text.as_bytes()).expect("inside");
            let later = from_cuts(middle.len(), later);
            let after = later.apply(&middle).expect("inside");
            let both = first.then(&later, &text).expect("inside");
            prop_assert_eq!(both.apply(text.as_bytes()).expect("inside"), after);
        }

        #[test]
        fn reversing_gives_the_same_bytes(
            text in "[a-c\n]{0,40}",
            cuts in proptest::collection::vec((0usize..40, 0usize..5, "[x-z]{0,3}"), 0..6),
        ) {
            let set = from_cuts(text.len(), cuts);
            let after = set.apply(text.as_bytes()).expect("inside");
            let back = set.reversed(text.as_bytes()).expect("text").apply(&after).expect("inside");
            prop_assert_eq!(back, text.as_bytes());
        }
    }
}
