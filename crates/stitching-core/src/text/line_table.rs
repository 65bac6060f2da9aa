//! Lines and columns for byte offsets.

/// Where the lines of a text begin. Built once a file, by counting; each look-up reads one block of the text.
#[derive(Debug)]
pub struct LineTable {
    blocks: Vec<Block>,
    body: usize,
}

/// What stands before a block of the text.
#[derive(Debug, Clone, Copy)]
struct Block {
    /// The number of line ends.
    line_ends: usize,
    /// The byte offset at which the line begins that the block begins in.
    line_start: usize,
    /// The number of characters between that and the block.
    characters: usize,
}

/// The bytes of a block: so that neither many lines nor a file on one line cost much at each look-up.
const BLOCK: usize = 4096;

impl LineTable {
    /// Indexes `text`, whose first line begins at byte `body` (after a byte order mark).
    pub fn new(text: &str, body: usize) -> LineTable {
        let mut next = Block { line_ends: 0, line_start: body, characters: 0 };
        let mut blocks = vec![next];
        let bytes = text.as_bytes().get(body..).unwrap_or_default();
        for (number, block) in bytes.chunks_exact(BLOCK).enumerate() {
            match memchr::memrchr(b'\n', block) {
                None => next.characters += count_characters(block),
                Some(last) => {
                    next.line_ends += memchr::memchr_iter(b'\n', block).count();
                    next.line_start = body + number * BLOCK + last + 1;
                    next.characters = count_characters(&block[last + 1..]);
                }
            }
            blocks.push(next);
        }
        LineTable { blocks, body }
    }

    /// The 1-based line and column (in Unicode characters) of byte `offset`.
    ///
    /// An offset past the end counts as the end; one inside a character counts as its start.
    pub fn line_column(&self, text: &str, offset: u32) -> (usize, usize) {
        let offset = (offset as usize).clamp(self.body, text.len().max(self.body));
        let (block, from) = self.block_of(offset);
        let before = text.as_bytes().get(from..offset).unwrap_or_default();
        let (line_ends, characters) = match memchr::memrchr(b'\n', before) {
            None => (0, block.characters + count_characters(before)),
            Some(last) => (memchr::memchr_iter(b'\n', before).count(), count_characters(&before[last + 1..])),
        };
        (block.line_ends + line_ends + 1, characters + 1)
    }

    /// The text of 1-based `line` without its line ending, or `None` past the last line.
    pub fn line<'t>(&self, text: &'t str, line: usize) -> Option<&'t str> {
        let start = self.line_start(text, line)?;
        let rest = text.get(start..)?;
        let end = memchr::memchr(b'\n', rest.as_bytes()).unwrap_or(rest.len());
        Some(rest[..end].trim_end_matches('\r'))
    }

    /// The byte offset at which 1-based `line` begins, or `None` past the last line.
    fn line_start(&self, text: &str, line: usize) -> Option<usize> {
        let line_ends = line.checked_sub(1)?;
        if line_ends == 0 {
            return Some(self.body);
        }
        let number = self.blocks.partition_point(|block| block.line_ends < line_ends).checked_sub(1)?;
        let from = self.body + number * BLOCK;
        let before = self.blocks[number].line_ends;
        let bytes = text.as_bytes().get(from..)?;
        memchr::memchr_iter(b'\n', bytes).nth(line_ends - before - 1).map(|at| from + at + 1)
    }

    /// The block in which byte `offset` is, and where it begins.
    fn block_of(&self, offset: usize) -> (Block, usize) {
        let number = (offset.saturating_sub(self.body) / BLOCK).min(self.blocks.len() - 1);
        (self.blocks[number], self.body + number * BLOCK)
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

    #[rstest]
    #[case::a_long_line("ab\n".to_owned() + &"żółw x".repeat(3000) + "\nend", 0)]
    #[case::many_lines("żółw\r\nx\n\n".repeat(3000), 0)]
    #[case::a_mark("\u{feff}".to_owned() + &"weir\n".repeat(3000), 3)]
    #[case::a_line_end_at_the_end_of_a_block("x".repeat(BLOCK - 1) + "\n" + &"y".repeat(BLOCK) + "\n", 0)]
    #[case::a_line_end_at_the_start_of_a_block("x".repeat(BLOCK) + "\n" + &"y".repeat(2 * BLOCK - 1), 0)]
    fn each_place_is_that_found_by_counting(#[case] text: String, #[case] body: usize) {
        let table = LineTable::new(&text, body);
        for (at, _) in text.char_indices().filter(|(at, _)| *at >= body && (at % 97 == 0 || at % BLOCK < 2)) {
            let before = &text[body..at];
            let start = before.rfind('\n').map_or(0, |end| end + 1);
            let line = before.matches('\n').count() + 1;
            assert_eq!(table.line_column(&text, at as u32), (line, before[start..].chars().count() + 1));
            assert_eq!(table.line(&text, line), text[body..].lines().nth(line - 1), "line {line}");
        }
        assert_eq!(table.line(&text, text.matches('\n').count() + 2), None);
        assert_eq!(table.line(&text, 0), None);
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
