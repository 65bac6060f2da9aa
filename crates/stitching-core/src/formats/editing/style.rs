//! House style: how a text is laid out, asked by name.

use super::entries::{Entries, Inside};
use super::new_entry::is_commented_out;
use std::ops::Range;

/// What an editor must know of a format's syntax.
#[derive(Debug, Clone, Default)]
pub(in crate::formats) struct Style {
    /// The sign that must stand between two entries of a container.
    pub separator: Option<char>,
    /// Signs that may stand between them and mean nothing.
    pub optional_separators: Vec<char>,
    /// What begins a note that ends with its line.
    pub marks: Vec<String>,
    /// What opens and closes a note of any length.
    pub wrap: Option<(String, String)>,
    /// What stands between two entries on one line if nothing else is seen.
    pub gap: &'static str,
    /// Blank lines between entries at the top of a file if nothing else is seen.
    pub blank_lines: usize,
    /// Whether a file holds one entry, in which all others stand.
    pub one_root: bool,
    /// Whether the blanks before entries tell what they stand in.
    pub nests_by_indent: bool,
}

/// The start of the line that byte `at` is on.
pub(in crate::formats) fn line_start(text: &str, at: usize) -> usize {
    memchr::memrchr(b'\n', &text.as_bytes()[..at]).map_or(0, |line| line + 1)
}

/// One past the last byte of the line that byte `at` is on, without its line end.
pub(in crate::formats) fn line_content_end(text: &str, at: usize) -> usize {
    let bytes = text.as_bytes();
    let end = memchr::memchr(b'\n', &bytes[at..]).map_or(bytes.len(), |line| at + line);
    if end > at && bytes[end - 1] == b'\r' { end - 1 } else { end }
}

/// The start of the line behind the one that byte `at` is on; the end of the text if there is none.
pub(in crate::formats) fn next_line(text: &str, at: usize) -> usize {
    memchr::memchr(b'\n', &text.as_bytes()[at..]).map_or(text.len(), |line| at + line + 1)
}

/// The blanks before byte `at` on its line, if nothing else stands there.
pub(in crate::formats) fn blanks_before(text: &str, at: usize) -> Option<&str> {
    let before = text.get(line_start(text, at)..at)?.trim_start_matches('\u{feff}');
    before.bytes().all(|byte| byte == b' ' || byte == b'\t').then_some(before)
}

impl Style {
    /// Whether `rest`, what stands behind an entry on its line, is nothing but blanks or a note.
    fn is_note(&self, rest: &str) -> bool {
        let rest = rest.trim();
        let wrapped = |(open, close): &(String, String)| {
            let inside = rest.strip_prefix(open.as_str()).and_then(|rest| rest.strip_suffix(close.as_str()));
            inside.is_some_and(|inside| !inside.contains(close.as_str()))
        };
        rest.is_empty()
            || self.marks.iter().any(|mark| rest.starts_with(mark.as_str()))
            || self.wrap.as_ref().is_some_and(wrapped)
    }

    /// Where the note begins that ends on the line directly before the one that starts at `line`, if there is one that
    /// has its lines for itself and begins at `from` or later.
    fn note_above(&self, text: &str, line: usize, from: usize) -> Option<usize> {
        if line <= from {
            return None;
        }
        let start = line_start(text, line - 1);
        let shown = text[start.max(from)..line].trim();
        let begins = start.max(from);
        if shown.is_empty() {
            return None;
        }
        // Nothing but a byte order mark may stand before it on its line.
        let is_start = |start: usize| start >= from || &text[start..from] == "\u{feff}";
        if self.marks.iter().any(|mark| shown.starts_with(mark.as_str())) {
            return (is_start(start) && !is_commented_out(shown)).then_some(begins);
        }
        let (open, close) = self.wrap.as_ref().map(|(open, close)| (open.as_str(), close.as_str()))?;
        let inside = shown.strip_suffix(close)?;
        let end = begins + text[begins..line].find(inside)? + inside.len();
        let at = from + text[from..end].rfind(open)?;
        let first = line_start(text, at);
        let alone = text[first.max(from)..at].trim().is_empty() && is_start(first);
        (alone && !text[at..end].contains(close) && !is_commented_out(&text[at..end]))
            .then_some(first.max(from))
    }
}

impl<'t> Entries<'t> {
    /// The line end of the text. If it has none, `crlf` tells whether that is to begin with a carriage return.
    pub fn line_end(&self, crlf: bool) -> &'static str {
        let crlf = if self.text.contains('\n') { self.text.contains("\r\n") } else { crlf };
        if crlf { "\r\n" } else { "\n" }
    }

    /// Where the separator of an entry stands, if it has one: of those that must be there anywhere before the next
    /// entry, of others only on its line.
    pub fn separator_of(&self, node: usize) -> Option<Range<usize>> {
        let end = self.nodes[node].span.end as usize;
        let limit = self.limit(node);
        match self.style.separator {
            Some(sign) => {
                let at = self.past_trivia(end, limit);
                self.text[at..limit].starts_with(sign).then(|| at..at + sign.len_utf8())
            }
            None => {
                let line = &self.text[end..limit.min(line_content_end(self.text, end)).max(end)];
                let shown = line.trim_start_matches([' ', '\t']);
                let sign =
                    shown.chars().next().filter(|sign| self.style.optional_separators.contains(sign))?;
                let at = end + line.len() - shown.len();
                Some(at..at + sign.len_utf8())
            }
        }
    }

    /// Passes over blanks and notes from `at` on, up to `limit`.
    fn past_trivia(&self, mut at: usize, limit: usize) -> usize {
        loop {
            let rest = &self.text[at..limit.max(at)];
            let shown = rest.trim_start();
            at += rest.len() - shown.len();
            let wrapped = self.style.wrap.as_ref().filter(|(open, _)| shown.starts_with(open.as_str()));
            if let Some((open, close)) = wrapped {
                match shown[open.len()..].find(close.as_str()) {
                    Some(end) => at += open.len() + end + close.len(),
                    None => return at,
                }
            } else if self.style.marks.iter().any(|mark| shown.starts_with(mark.as_str())) {
                at += shown.find('\n').unwrap_or(shown.len());
            } else {
                return at;
            }
        }
    }

    /// One past the last byte that can belong to an entry: where its next sibling begins, or its parent ends.
    fn limit(&self, node: usize) -> usize {
        let own = &self.nodes[node];
        match self.nodes.get(own.end).filter(|next| next.parent == own.parent) {
            Some(next) => next.span.start as usize,
            None => self.inside_end(own.parent),
        }
        .max(own.span.end as usize)
    }

    /// One past the last byte inside a container.
    pub fn inside_end(&self, container: Option<usize>) -> usize {
        match container.map(|node| (&self.nodes[node].inside, self.nodes[node].span)) {
            Some((Inside::Bracketed(span), _)) => span.end as usize,
            Some((_, span)) => span.end as usize,
            None => self.text.len(),
        }
    }

    /// The first byte inside a container.
    pub fn inside_start(&self, container: Option<usize>) -> usize {
        match container.map(|node| (&self.nodes[node].inside, self.nodes[node].span)) {
            Some((Inside::Bracketed(span), _)) => span.start as usize,
            Some((Inside::Below(at), _)) => *at,
            Some((_, span)) => span.end as usize,
            None => self.head_end,
        }
    }

    /// Where an entry begins with the notes directly above it; the start of a line if it has its lines for itself.
    pub fn lead(&self, node: usize) -> usize {
        let start = self.nodes[node].span.start as usize;
        if blanks_before(self.text, start).is_none() {
            return start;
        }
        let from = self.lead_limit(node);
        let mut line = line_start(self.text, start).max(self.body);
        while let Some(above) = self.style.note_above(self.text, line, from) {
            line = above;
        }
        line
    }

    /// Before this byte stands what belongs to something else: the entry before, or what opens the container.
    fn lead_limit(&self, node: usize) -> usize {
        let parent = self.nodes[node].parent;
        let before = match self.previous_sibling(node) {
            Some(previous) => next_line(self.text, self.nodes[previous].span.end as usize),
            None => match self.inside_start(parent) {
                at if at == self.body && parent.is_none() => at,
                at => next_line(self.text, at),
            },
        };
        before.min(line_start(self.text, self.nodes[node].span.start as usize).max(self.body))
    }

    /// Whether nothing stands before an entry on its line.
    pub fn has_own_start(&self, node: usize) -> bool {
        blanks_before(self.text, self.nodes[node].span.start as usize).is_some()
    }

    /// Whether an entry has its lines for itself, but for its separator and a note behind it.
    pub fn has_own_lines(&self, node: usize) -> bool {
        self.has_own_start(node) && self.is_last_on_line(node)
    }

    /// Whether nothing but a separator and a note stands behind an entry on its last line.
    pub fn is_last_on_line(&self, node: usize) -> bool {
        let end = self.behind(node);
        self.style.is_note(&self.text[end..line_content_end(self.text, end)])
    }

    /// Whether nothing but a note stands behind byte `at` on its line.
    pub fn is_line_over(&self, at: usize) -> bool {
        self.style.is_note(&self.text[at..line_content_end(self.text, at)])
    }

    /// One past an entry with its separator, if that is on the same line.
    pub fn behind(&self, node: usize) -> usize {
        let end = self.nodes[node].span.end as usize;
        let same_line = |range: &Range<usize>| !self.text[end..range.start].contains('\n');
        self.separator_of(node).filter(same_line).map_or(end, |range| range.end)
    }

    /// Whether the entries of a container have lines of their own.
    pub fn is_multiline(&self, container: Option<usize>) -> bool {
        let has_no_bracket = match container {
            None => true,
            Some(node) => matches!(self.nodes[node].inside, Inside::Below(_)),
        };
        let own_line =
            |child: usize| blanks_before(self.text, self.nodes[child].span.start as usize).is_some();
        if has_no_bracket {
            return true;
        }
        let mut children = self.children(container).peekable();
        match children.peek() {
            Some(_) => children.any(own_line),
            None => self.text[self.inside_start(container)..self.inside_end(container)].contains('\n'),
        }
    }

    /// The blanks before the entries of a container: those before the neighbour, or what the depth calls for.
    pub fn indent_within(&self, container: Option<usize>, neighbour: Option<usize>) -> Option<String> {
        let of = |node: usize| blanks_before(self.text, self.nodes[node].span.start as usize);
        let children = || self.children(container).filter_map(of);
        let found = neighbour.and_then(of).or_else(|| children().last()).map(str::to_owned);
        let first = || self.children(container).next().filter(|_| self.style.nests_by_indent);
        found.or_else(|| first().map(|first| self.blanks_below(first)))
    }

    /// Blanks as far as an entry begins on its line, whatever stands before it there.
    fn blanks_below(&self, node: usize) -> String {
        let start = self.nodes[node].span.start as usize;
        let before = self.text[line_start(self.text, start)..start].trim_start_matches('\u{feff}');
        before.chars().map(|next| if next == '\t' { '\t' } else { ' ' }).collect()
    }

    /// The blanks before a container on its line, if it has a line of its own.
    pub fn indent_of(&self, container: Option<usize>) -> Option<&str> {
        match container {
            None => Some(""),
            Some(node) => blanks_before(self.text, self.nodes[node].span.start as usize),
        }
    }

    /// By how much what is inside something is indented further than that is.
    pub fn indent_unit(&self) -> Option<&str> {
        let of = |node: usize| blanks_before(self.text, self.nodes[node].span.start as usize);
        let deeper = |node: usize| {
            let parent = self.nodes[node].parent?;
            of(node)?.strip_prefix(of(parent)?).filter(|unit| !unit.is_empty())
        };
        *self.unit.get_or_init(|| (0..self.nodes.len()).find_map(deeper))
    }

    /// How many blank lines stand before an entry and its notes.
    pub fn blank_lines_before(&self, node: usize) -> usize {
        let lead = self.lead(node);
        let from = self.lead_limit(node).min(lead);
        let shown = self.text[from..lead].trim_end();
        self.text[from + shown.len()..lead]
            .matches('\n')
            .count()
            .saturating_sub(usize::from(!shown.is_empty()))
    }

    /// How many blank lines stand between the entries of a container around where a new one goes, between
    /// `before` and `after`.
    pub fn blank_lines_between(
        &self,
        container: Option<usize>,
        before: Option<usize>,
        after: Option<usize>,
    ) -> usize {
        let of = |node: Option<usize>| {
            let node = node.filter(|node| self.previous_sibling(*node).is_some())?;
            self.has_own_lines(node).then(|| self.blank_lines_before(node))
        };
        let next = || after.or(before).and_then(|node| self.next_sibling(node));
        match (of(before), of(after)) {
            (Some(a), Some(b)) => a.min(b),
            (Some(own), None) | (None, Some(own)) => own,
            (None, None) => of(next()).unwrap_or(match container {
                None => self.style.blank_lines,
                Some(_) => 0,
            }),
        }
    }

    /// Whether a separator stands behind the last entry too, by what the file does elsewhere.
    pub fn has_trailing_separator(&self, container: Option<usize>) -> bool {
        match self.children(container).last() {
            Some(last) => self.separator_of(last).is_some(),
            None => {
                let has = |node: usize| {
                    self.nodes[node].inside.holds()
                        && self
                            .children(Some(node))
                            .last()
                            .is_some_and(|last| self.separator_of(last).is_some())
                };
                let some = || (0..self.nodes.len()).any(has);
                self.style.separator.is_some() && *self.some_trailing.get_or_init(some)
            }
        }
    }

    /// The sign that stands behind the entries of a container though it need not.
    pub fn optional_separator(&self, container: Option<usize>) -> &str {
        let last = self.children(container).last();
        last.and_then(|last| self.separator_of(last)).map_or("", |range| &self.text[range])
    }

    /// What stands between two entries on one line.
    pub fn inline_gap(&self, container: Option<usize>) -> String {
        let children: Vec<usize> = self.children(container).take(3).collect();
        let between = children.windows(2).rev().find_map(|pair| {
            let from = match self.style.separator {
                Some(_) => self.behind(pair[0]),
                None => self.nodes[pair[0]].span.end as usize,
            };
            let gap = self.text.get(from..self.nodes[pair[1]].span.start as usize)?;
            let is_gap = |next: char| next.is_whitespace() || self.style.optional_separators.contains(&next);
            (gap.chars().all(is_gap) && !gap.contains('\n')).then(|| gap.to_owned())
        });
        // One alone shows it by the blanks before it.
        let padding = children.first().filter(|_| self.style.gap.is_empty()).and_then(|first| {
            let before =
                self.text.get(self.inside_start(container)..self.nodes[*first].span.start as usize)?;
            before.chars().all(|next| next == ' ' || next == '\t').then(|| before.to_owned())
        });
        between.or(padding).unwrap_or_else(|| self.style.gap.to_owned())
    }
}
