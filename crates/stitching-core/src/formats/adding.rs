//! Adding records to a file of a higher layer, as its neighbours there are written.

use crate::text::{Edit, EditSet, Span, Text};

/// How much of a record of a lower layer is added to a higher one.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Added {
    /// All its values, and not only those that are edited.
    pub whole: bool,
    /// The notes directly above what is added too.
    pub notes: bool,
}

/// Adding to a file of a higher layer what is to differ from a lower one, where the two count together.
pub trait AddsOver {
    /// Whether single values can be added; otherwise it is always whole records.
    fn adds_values(&self) -> bool {
        false
    }

    /// The content of the higher file, which is `above` now (empty if it is not there), with a record of
    /// the lower file added: the one at `record` of `below`, with `edits` made. `None` if there is no place
    /// for it in `above`.
    fn add_over(
        &self,
        below: &Text<'_>,
        record: Span,
        edits: &EditSet,
        what: Added,
        above: &str,
    ) -> Option<String>;
}

/// What stands at `span` after `edits`.
pub(super) fn edited(text: &str, span: Span, edits: &EditSet) -> Option<String> {
    let inside =
        edits.edits().iter().filter(|edit| edit.span.start >= span.start && edit.span.end <= span.end);
    let shifted = inside.map(|edit| Edit {
        span: Span { start: edit.span.start - span.start, end: edit.span.end - span.start },
        text: edit.text.clone(),
    });
    let bytes = EditSet::new(shifted.collect()).ok()?.apply(span.of(text).as_bytes()).ok()?;
    String::from_utf8(bytes).ok()
}

/// The line end that `above` uses, or, if it has none, `below`.
pub(super) fn line_end(above: &str, below: &str) -> &'static str {
    let shown = if above.contains('\n') { above } else { below };
    if shown.contains("\r\n") { "\r\n" } else { "\n" }
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
