//! Lines and columns for byte offsets.

/// Where the lines of a text begin. Built once a file; each look-up is a binary search.
#[derive(Debug)]
pub struct LineTable {
    starts: Vec<u32>,
    /// Places within long lines: a byte offset, and the number of characters of the line before it.
    marks: Vec<(u32, usize)>,
    body: usize,
}

/// Marks stand so many bytes apart, so that a file on one line does not cost its length at each look-up.
const BETWEEN_MARKS: usize = 4096;

impl LineTable {
    /// Indexes `text`, whose first line begins at byte `body` (after a byte order mark).
    pub fn new(text: &str, body: usize) -> LineTable {
        let mut starts = vec![body as u32];
        starts.extend(memchr::memchr_iter(b'\n', text.as_bytes()).map(|at| at as u32 + 1));
        let mut marks = Vec::new();
        for (at, start) in starts.iter().enumerate() {
            let start = *start as usize;
            let end = starts.get(at + 1).map_or(text.len(), |next| *next as usize);
            let mut characters = 0;
            for mark in (start..end).step_by(BETWEEN_MARKS).skip(1) {
                characters += count_characters(&text.as_bytes()[mark - BETWEEN_MARKS..mark]);
                marks.push((mark as u32, characters));
            }
        }
        LineTable { starts, marks, body }
    }

    /// The 1-based line and column (in Unicode characters) of byte `offset`.
    ///
    /// An offset past the end counts as the end; one inside a character counts as its start.
    pub fn line_column(&self, text: &str, offset: u32) -> (usize, usize) {
        let offset = (offset as usize).clamp(self.body, text.len().max(self.body));
        let line = self.starts.partition_point(|&start| start as usize <= offset).max(1);
        let start = self.starts[line - 1] as usize;
        let mark = self.marks.partition_point(|(mark, _)| *mark as usize <= offset);
        let (from, before) = match mark.checked_sub(1).map(|at| self.marks[at]) {
            Some((mark, characters)) if mark as usize > start => (mark as usize, characters),
            _ => (start, 0),
        };
        let column = before + text.as_bytes().get(from..offset).map_or(0, count_characters);
        (line, column + 1)
    }

    /// The text of 1-based `line` without its line ending, or `None` past the last line.
    pub fn line<'t>(&self, text: &'t str, line: usize) -> Option<&'t str> {
        let start = *self.starts.get(line.checked_sub(1)?)? as usize;
        let end = self.starts.get(line).map_or(text.len(), |&next| next as usize);
        Some(text.get(start..end)?.trim_end_matches(['\n', '\r']))
    }
}

/// How many characters begin in `bytes` of UTF-8.
fn count_characters(bytes: &[u8]) -> usize {
    bytes.iter().filter(|&&byte| byte & 0xC0 != 0x80).count()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("ab\ncd", 0, 0, (1, 1))]
    #[case("ab\ncd", 0, 3, (2, 1))]
    #[case("ab\r\ncd", 0, 5, (2, 2))]
    #[case("żółw x", 0, 8, (1, 6))]
    #[case("\u{feff}ab\nc", 3, 3, (1, 1))]
    #[case("ab", 0, 99, (1, 3))]
    #[case("", 0, 0, (1, 1))]
    fn places_are_one_based_characters(
        #[case] text: &str,
        #[case] body: usize,
        #[case] offset: u32,
        #[case] expected: (usize, usize),
    ) {
        assert_eq!(LineTable::new(text, body).line_column(text, offset), expected);
    }

    #[test]
    fn a_long_line_counts_as_a_short_one_does() {
        let text = "ab\n".to_owned() + &"żółw x".repeat(3000) + "\nend";
        let table = LineTable::new(&text, 0);
        for (at, _) in text.char_indices().step_by(97) {
            let line = text[..at].matches('\n').count() + 1;
            let start = text[..at].rfind('\n').map_or(0, |end| end + 1);
            let column = text[start..at].chars().count() + 1;
            assert_eq!(table.line_column(&text, at as u32), (line, column));
        }
    }

    #[test]
    fn a_line_comes_without_its_ending() {
        let text = "one\r\ntwo\n";
        let table = LineTable::new(text, 0);
        assert_eq!(table.line(text, 1), Some("one"));
        assert_eq!(table.line(text, 2), Some("two"));
        assert_eq!(table.line(text, 9), None);
    }
}
