//! Adding records to a file of a higher layer, as its neighbours there are written.

use crate::text::{Edit, EditSet, Span, Text};

/// A record of a lower layer that is to be in a file of a higher one too.
#[derive(Debug, Clone, Copy)]
pub struct Addition<'a> {
    /// The file of the lower layer.
    pub below: &'a Text<'a>,
    /// Where the record stands in it.
    pub record: Span,
    /// What becomes of it.
    pub edits: &'a EditSet,
    /// Whether all its values are added, and not only those that are edited.
    pub whole: bool,
    /// Whether the notes directly above what is added come along.
    pub notes: bool,
    /// The content of the higher file; empty if it is not there.
    pub above: &'a str,
}

impl Addition<'_> {
    /// What stands at `span` of the lower file after the edits.
    pub(super) fn edited(&self, span: Span) -> Option<String> {
        let all = self.edits.edits().iter();
        let inside = all.filter(|edit| edit.span.start >= span.start && edit.span.end <= span.end);
        let shifted = inside.map(|edit| Edit {
            span: Span { start: edit.span.start - span.start, end: edit.span.end - span.start },
            text: edit.text.clone(),
        });
        let bytes = EditSet::new(shifted.collect()).ok()?;
        String::from_utf8(bytes.apply(span.of(self.below.as_str()).as_bytes()).ok()?).ok()
    }

    /// The line end that the higher file uses, or, if it has none, the lower one.
    pub(super) fn line_end(&self) -> &'static str {
        let shown = if self.above.contains('\n') { self.above } else { self.below.as_str() };
        if shown.contains("\r\n") { "\r\n" } else { "\n" }
    }
}

/// Adding to a file of a higher layer what is to differ from a lower one, where the two count together.
pub trait AddsOver {
    /// Whether single values can be added; otherwise it is always whole records.
    fn adds_values(&self) -> bool {
        false
    }

    /// The content of the higher file with the record added; `None` if there is no place for it.
    fn add_over(&self, what: &Addition<'_>) -> Option<String>;
}

/// `above` with `lines` added at its end, on lines of their own.
pub(super) fn append(above: &str, lines: &str, end: &str) -> String {
    let gap = if above.is_empty() || above.ends_with('\n') { "" } else { end };
    format!("{above}{gap}{lines}{end}")
}

/// The blanks before byte `at` on its line, if nothing else stands there.
pub(super) fn blanks_before(text: &str, at: usize) -> Option<&str> {
    let start = text[..at].rfind('\n').map_or(0, |line| line + 1);
    let before = text.get(start..at)?.trim_start_matches('\u{feff}');
    before.bytes().all(|byte| byte == b' ' || byte == b'\t').then_some(before)
}

/// `text` with `snippet` put in before byte `close`, where the block around it ends: on a line of its own
/// with the blanks `indent`, if what closes the block has one, otherwise on the same line.
pub(super) fn before_close(text: &str, close: usize, snippet: &str, indent: &str, end: &str) -> String {
    match blanks_before(text, close) {
        Some(blanks) => {
            let line = close - blanks.len();
            format!("{}{indent}{snippet}{end}{}", &text[..line], &text[line..])
        }
        None => {
            let gap = if text[..close].ends_with([' ', '\t', '{', '[', '>']) { "" } else { " " };
            let after = if snippet.ends_with('>') { "" } else { " " };
            format!("{}{gap}{snippet}{after}{}", &text[..close], &text[close..])
        }
    }
}
