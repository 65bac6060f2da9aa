//! Indentation as a witness: where brackets or tags do not match, it tells which one is missing.

/// How many blanks stand before byte `at` on its line, if nothing else does; a tab counts as eight at most.
pub(super) fn indent(text: &str, at: usize) -> Option<usize> {
    let line = &text.as_bytes()[line_start(text, at)..at];
    let (column, blanks) = measure(line);
    (blanks == line.len()).then_some(column)
}

/// How many blanks the line begins with on which byte `at` stands.
pub(super) fn line_indent(text: &str, at: usize) -> usize {
    let rest = &text.as_bytes()[line_start(text, at)..];
    measure(rest).0
}

/// The 1-based number of the line on which byte `at` stands.
pub(super) fn line_number(text: &str, at: usize) -> usize {
    1 + memchr::memchr_iter(b'\n', &text.as_bytes()[..at]).count()
}

fn line_start(text: &str, at: usize) -> usize {
    let start = memchr::memrchr(b'\n', &text.as_bytes()[..at]).map_or(0, |found| found + 1);
    if start == 0 && text.starts_with('\u{feff}') { 3.min(at) } else { start }
}

/// The column that the blanks at the start of `line` lead to, and how many bytes they are.
fn measure(line: &[u8]) -> (usize, usize) {
    let (mut column, mut blanks) = (0, 0);
    for byte in line {
        match byte {
            b' ' => column += 1,
            b'\t' => column = (column / 8 + 1) * 8,
            _ => break,
        }
        blanks += 1;
    }
    (column, blanks)
}
