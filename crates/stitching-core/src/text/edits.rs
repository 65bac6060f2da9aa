//! Replacing spans of a text, all at once.

use super::Span;

/// One replacement: the bytes of `span` become `text`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Edit {
    /// What is replaced, in the text as read.
    pub span: Span,
    /// What stands there instead.
    pub text: String,
}

/// Edits of one text: sorted, disjoint, each within the text.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
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

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

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

    proptest! {
        #[test]
        fn reversing_gives_the_same_bytes(
            text in "[a-c\n]{0,40}",
            cuts in proptest::collection::vec((0usize..40, 0usize..5, "[x-z]{0,3}"), 0..6),
        ) {
            let mut at = 0;
            let mut edits = Vec::new();
            for (gap, len, new) in cuts {
                let (start, end) = (at + gap, at + gap + len);
                if end > text.len() { break; }
                edits.push(edit(start, end, &new));
                at = end + 1;
            }
            let set = EditSet::new(edits).expect("built disjoint");
            let after = set.apply(text.as_bytes()).expect("inside");
            let back = set.reversed(text.as_bytes()).expect("text").apply(&after).expect("inside");
            prop_assert_eq!(back, text.as_bytes());
        }
    }
}
