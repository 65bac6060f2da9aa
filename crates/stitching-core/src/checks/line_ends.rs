//! Lines that do not end as the game wants them.

use super::at_places::{Found, problems_at};
use super::{Check, Run};
use crate::Code;
use crate::links::Index;
use crate::problem::{Problem, Severity};
use crate::reading::with_text;
use crate::schema::LineEnds;
use crate::tables::files_of;
use crate::text::Span;
use rayon::prelude::*;

pub(super) static CHECK: Check = Check {
    code: Code::LINE_ENDS,
    severity: Severity::Warning,
    about: "lines that do not end as the game wants them",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    A file of a table with `line_ends` in which lines end otherwise: with a line feed alone, or
    with a carriage return before it. The first such line is shown, with how many there are.

Why it matters
    Some games take the carriage return for a letter of the last value, or two lines for one.
    Files with both kinds come from two editors at work, and show as changed in every line.

When to ignore it
    When the game reads both: take `line_ends` out of the table.

Example, wrong
    line_ends = \"crlf\", and a file saved by an editor that writes line feeds

Example, right
    line_ends = \"crlf\", and the file saved with Windows line ends
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let asked = index.schema.tables.iter().enumerate();
    let asked = asked.filter_map(|(id, table)| Some((id, table.line_ends?)));
    let mut files = Vec::new();
    for (id, wanted) in asked {
        let of_table = files_of(index.stack, &index.schema.tables[id], index.through);
        files.extend(of_table.into_iter().map(|file| (id, wanted, file)));
    }
    let found = files.par_iter().with_max_len(1).filter_map(|(table, wanted, file)| {
        let found = with_text(index.stack, *file, |text| first_wrong(text.as_str(), *wanted));
        let (span, message) = found.ok().flatten()?;
        let help = "save the file with the same line ends throughout; editors can change them";
        Some(Found {
            file: *file,
            span: Some(span),
            table: *table,
            key: None,
            field: None,
            value: None,
            message,
            help: Some(help.into()),
            ..Found::default()
        })
    });
    let found: Vec<Found> = found.collect();
    problems_at(index, &CHECK, found)
}

/// The first line that does not end as wanted, and what is said of it.
fn first_wrong(text: &str, wanted: LineEnds) -> Option<(Span, String)> {
    let bytes = text.as_bytes();
    let is_crlf = |end: usize| end > 0 && bytes[end - 1] == b'\r';
    let mut ends = memchr::memchr_iter(b'\n', bytes);
    let first = ends.next()?;
    let crlf = match wanted {
        LineEnds::Lf => false,
        LineEnds::CrLf => true,
        LineEnds::Alike => is_crlf(first),
    };
    let mut wrong = std::iter::once(first).chain(ends).filter(|end| is_crlf(*end) != crlf);
    let at = wrong.next()?;
    let others = wrong.count();
    let name = |crlf: bool| if crlf { "CR LF" } else { "LF" };
    let expected = match wanted {
        LineEnds::Alike => format!("the first line with {}", name(crlf)),
        LineEnds::Lf | LineEnds::CrLf => format!("the game wants {}", name(crlf)),
    };
    let mut message = format!("this line ends with {}, and {expected}", name(!crlf));
    match others {
        0 => {}
        1 => message += "; so does one other",
        others => message += &format!("; so do {others} others"),
    }
    Some((Span::new(at, at + 1), message))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::right("a\nb\n", LineEnds::Lf, None)]
    #[case::no_line_end("a", LineEnds::CrLf, None)]
    #[case::wrong("a\r\nb\n", LineEnds::Lf, Some((2, "CR LF, and the game wants LF")))]
    #[case::counted("a\nb\nc\r\nd\n", LineEnds::CrLf, Some((1, "LF, and the game wants CR LF; so do 2 others")))]
    #[case::alike("a\r\nb\r\n", LineEnds::Alike, None)]
    #[case::mixed("a\r\nb\n", LineEnds::Alike, Some((4, "LF, and the first line with CR LF")))]
    #[case::empty_lines("\n\r\n", LineEnds::Alike, Some((2, "CR LF, and the first line with LF")))]
    fn the_first_wrong_line_is_found(
        #[case] text: &str,
        #[case] wanted: LineEnds,
        #[case] expected: Option<(u32, &str)>,
    ) {
        let found = first_wrong(text, wanted);
        let found = found
            .as_ref()
            .map(|(span, message)| (span.start, message.trim_start_matches("this line ends with ")));
        assert_eq!(found, expected);
    }
}
