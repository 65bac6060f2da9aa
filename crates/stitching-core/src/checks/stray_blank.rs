//! Blanks, tabs and empty lines that the game stumbles over.

use super::at_places::{Found, problems_at};
use super::{Check, Run};
use crate::Code;
use crate::links::Index;
use crate::problem::{Problem, Severity};
use crate::reading::with_text;
use crate::schema::Forbidden;
use crate::tables::files_of;
use crate::text::Span;
use rayon::prelude::*;

pub(super) static CHECK: Check = Check {
    code: Code::STRAY_BLANK,
    severity: Severity::Warning,
    about: "blanks, tabs or empty lines that the game stumbles over",
    docs: DOCS,
    run: Run::Stack(find),
};

const DOCS: &str = "\
What it finds
    What a table has in `forbid`, in one of its files: a tab, blanks at the end of a line, an
    empty line, a last line that is not ended. The first of each kind is shown, with how many
    there are.

Why it matters
    Nobody sees them, and a simple reader takes a blank for a part of the name before it, an
    empty line for a record, and leaves out a last line that has no end.

When to ignore it
    When the game does not mind: take it out of `forbid`.

Example, wrong
    forbid = \"trailing-blank\", and the line `tow = old_mill `

Example, right
    forbid = \"trailing-blank\", and the line `tow = old_mill`
";

fn find(index: &Index<'_>) -> Vec<Problem> {
    let mut files = Vec::new();
    for (id, table) in index.schema.tables.iter().enumerate().filter(|(_, own)| !own.forbidden.is_empty()) {
        let of_table = files_of(index.stack, table, index.through);
        files.extend(of_table.into_iter().map(|file| (id, file)));
    }
    let of_file = |(id, file): &(usize, usize)| {
        let forbidden = &index.schema.tables[*id].forbidden;
        let found = with_text(index.stack, *file, |text| {
            let found = forbidden.iter().filter_map(|kind| first_of(text.as_str(), *kind));
            found.collect::<Vec<_>>()
        });
        let found = found.unwrap_or_default().into_iter().map(|(span, message, help)| Found {
            file: *file,
            span: Some(span),
            table: *id,
            key: None,
            field: None,
            value: None,
            message,
            help: Some(help.into()),
            ..Found::default()
        });
        found.collect::<Vec<_>>()
    };
    let found: Vec<Vec<Found>> = files.par_iter().with_max_len(1).map(of_file).collect();
    problems_at(index, &CHECK, found.into_iter().flatten().collect())
}

/// The first place of a kind in a text, what is said of it with the number of others, and what to do.
fn first_of(text: &str, kind: Forbidden) -> Option<(Span, String, &'static str)> {
    if kind == Forbidden::NoLastLineEnd {
        let span = Span::new(text.len(), text.len());
        let is_open = !text.is_empty() && !text.ends_with('\n');
        let help = "press Enter at the end of the file";
        return is_open.then(|| (span, "the last line has no line end".to_owned(), help));
    }
    let mut at = 0;
    let lines = text.split_inclusive('\n').map(|line| {
        let start = at;
        at += line.len();
        (start, line.trim_end_matches(['\r', '\n']))
    });
    let in_line = |(start, line): (usize, &str)| {
        let kept = line.trim_end_matches([' ', '\t']).len();
        let found = match kind {
            Forbidden::Tab => line.find('\t').map(|at| (at, at + 1)),
            Forbidden::TrailingBlank => (kept < line.len() && kept > 0).then_some((kept, line.len())),
            Forbidden::EmptyLine => (kept == 0).then_some((0, line.len())),
            Forbidden::NoLastLineEnd => None,
        };
        found.map(|(from, to)| Span::new(start + from, start + to))
    };
    let mut found = lines.filter_map(in_line);
    let first = found.next()?;
    let others = found.count();
    let (what, help) = match kind {
        Forbidden::Tab => ("a tab, where the game wants none", "write blanks in its place"),
        Forbidden::TrailingBlank => ("blanks at the end of the line", "remove them"),
        Forbidden::EmptyLine | Forbidden::NoLastLineEnd => ("an empty line", "remove it"),
    };
    let more = match others {
        0 => String::new(),
        1 => "; another line has such".to_owned(),
        others => format!("; {others} other lines have such"),
    };
    Some((first, format!("{what}{more}"), help))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::tab("a b\nc\td\te\n", Forbidden::Tab, Some((5, 6)))]
    #[case::no_tab("a b\n", Forbidden::Tab, None)]
    #[case::trailing("a\nb \t\r\nc", Forbidden::TrailingBlank, Some((3, 5)))]
    #[case::line_of_blanks("a\n  \n", Forbidden::TrailingBlank, None)]
    #[case::blank_within("a b\n", Forbidden::TrailingBlank, None)]
    #[case::empty("a\n\nb\n", Forbidden::EmptyLine, Some((2, 2)))]
    #[case::line_of_blanks_is_empty("a\n  \r\n", Forbidden::EmptyLine, Some((2, 4)))]
    #[case::end_of_file_is_no_line("a\n", Forbidden::EmptyLine, None)]
    #[case::open("a\nb", Forbidden::NoLastLineEnd, Some((3, 3)))]
    #[case::ended("a\r\n", Forbidden::NoLastLineEnd, None)]
    #[case::nothing("", Forbidden::NoLastLineEnd, None)]
    fn the_first_is_found(#[case] text: &str, #[case] kind: Forbidden, #[case] expected: Option<(u32, u32)>) {
        let found = first_of(text, kind).map(|(span, _, _)| (span.start, span.end));
        assert_eq!(found, expected);
    }
}
