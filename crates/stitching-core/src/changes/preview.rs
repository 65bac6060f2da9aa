//! Showing a change as a unified diff that `git apply` takes.
//!
//! **Limitations.** Files that are not UTF-8 are shown decoded, and entries of archives as if they were
//! files; git cannot apply these.

use super::{Change, FileChange, Source};
use crate::Error;
use crate::layers::RelPath;
use crate::project::Project;
use crate::text::{Edit, Encoding, Span, Text};
use std::collections::{HashMap, VecDeque};
use std::fmt::Write as _;
use std::ops::Range;

/// Lines shown around each difference.
const CONTEXT: usize = 3;

/// The diff of `change`, with paths relative to the project's folder (or, if the mod lies
/// elsewhere, to the mod). A file brought up from the base is a new file.
///
/// # Errors
/// When a file cannot be read again.
pub fn unified_diff(project: &Project, change: &Change) -> Result<String, Error> {
    let mut out = String::new();
    for file in &change.files {
        write_file(project, file, &mut out)?;
    }
    Ok(out)
}

fn write_file(project: &Project, file: &FileChange, out: &mut String) -> Result<(), Error> {
    let declared = file.declared;
    let mut bytes = Vec::new();
    let own = match file.source {
        Source::Own(source) => {
            project.stack.read(source, &mut bytes)?;
            true
        }
        Source::New | Source::CopyOf(_) => {
            bytes.extend_from_slice(&file.after);
            false
        }
    };
    let binary = Encoding::recognise(&bytes, declared).is_none();
    let text = Text::decode(&mut bytes, declared);
    let prefix = prefix(project);
    let path = |path: &Option<RelPath>| format!("{prefix}{}", path.as_ref().map_or("", RelPath::as_str));
    let to = path(if file.to.is_some() { &file.to } else { &file.from });
    let from = if own { path(&file.from) } else { to.clone() };
    let _ = writeln!(out, "diff --git a/{from} b/{to}");
    if !own {
        let _ = writeln!(out, "new file mode 100644");
    } else if file.to.is_none() {
        let _ = writeln!(out, "deleted file mode 100644");
    } else if from != to {
        let _ = writeln!(out, "similarity index 90%\nrename from {from}\nrename to {to}");
    }
    let side = |there: bool, side: &str, path: &str| match there {
        true => format!("{side}/{path}"),
        false => "/dev/null".to_owned(),
    };
    if binary {
        let (old, new) = (side(own, "a", &from), side(file.to.is_some(), "b", &to));
        let _ = writeln!(out, "Binary files {old} and {new} differ");
        return Ok(());
    }
    let hunks = match (own, &file.to) {
        (true, Some(_)) => Hunks::of_edits(text.as_str(), file.edits.edits()),
        (true, None) => {
            let whole = Edit { span: Span::new(0, text.as_str().len()), text: String::new() };
            Hunks::of_edits(text.as_str(), &[whole])
        }
        (false, _) => Hunks::of_new(text.as_str()),
    };
    if !hunks.regions.is_empty() {
        let old = if own { header("a", &from) } else { "/dev/null".to_owned() };
        let new = if file.to.is_some() { header("b", &to) } else { "/dev/null".to_owned() };
        let _ = writeln!(out, "--- {old}\n+++ {new}");
        hunks.write(out);
    }
    Ok(())
}

/// What differs between a text and what edits make of it, in lines. It is told from the edits: the texts are not
/// compared.
struct Hunks<'t> {
    before: &'t str,
    regions: Vec<Region>,
}

/// Some lines and what becomes of them.
struct Region {
    /// The bytes of the lines before; empty where lines come in.
    before: Range<usize>,
    /// The lines after.
    after: String,
}

impl<'t> Hunks<'t> {
    /// A text that was not there before.
    fn of_new(after: &str) -> Hunks<'static> {
        let region = Region { before: 0..0, after: after.to_owned() };
        Hunks { before: "", regions: if after.is_empty() { Vec::new() } else { vec![region] } }
    }

    fn of_edits(before: &'t str, edits: &[Edit]) -> Hunks<'t> {
        let line_start = |at: usize| before[..at].rfind('\n').map_or(0, |line| line + 1);
        let line_end = |at: usize| before[at..].find('\n').map_or(before.len(), |line| at + line + 1);
        let mut regions: Vec<Region> = Vec::new();
        let mut next = 0;
        while let Some(first) = edits.get(next) {
            let start = line_start(first.span.start as usize);
            let (mut after, mut copied, mut end) = (String::new(), start, start);
            // An edit may reach into further lines, on which the next one begins. The end of a last line without a
            // line end belongs to it.
            let is_within = |at: usize, end: usize| at < end || (at == end && !before[..end].ends_with('\n'));
            while let Some(edit) =
                edits.get(next).filter(|edit| end == start || is_within(edit.span.start as usize, end))
            {
                let (from, to) = (edit.span.start as usize, edit.span.end as usize);
                after.push_str(&before[copied..from]);
                after.push_str(&edit.text);
                (copied, end) = (to, end.max(line_end(to)));
                next += 1;
                if end == start {
                    break;
                }
            }
            after.push_str(&before[copied..end]);
            for region in differing(before, Region { before: start..end, after }) {
                match regions.last_mut() {
                    // Of lines that follow each other those before are shown first, then those after.
                    Some(Region { before: last, after }) if last.end == region.before.start => {
                        last.end = region.before.end;
                        after.push_str(&region.after);
                    }
                    _ => regions.push(region),
                }
            }
        }
        Hunks { before, regions }
    }

    fn write(&self, out: &mut String) {
        let lines = |text: &str| text.split_inclusive('\n').count();
        // The number of lines in front of a byte, counted on from the last one asked for.
        let (mut counted, mut known) = (0, 0);
        let mut line_of = |at: usize| {
            known += memchr::memchr_iter(b'\n', &self.before.as_bytes()[counted..at]).count();
            counted = at;
            known
        };
        let mut grown = 0isize;
        let mut next = 0;
        while next < self.regions.len() {
            let first = &self.regions[next];
            let head = context_before(self.before, first.before.start);
            let (mut body, mut old, mut new) = (String::new(), 0, 0);
            let mut at = head;
            let mut last;
            loop {
                let region = &self.regions[next];
                let between = &self.before[at..region.before.start];
                put(&mut body, ' ', between);
                put(&mut body, '-', &self.before[region.before.clone()]);
                put(&mut body, '+', &region.after);
                let (taken, given) = (lines(&self.before[region.before.clone()]), lines(&region.after));
                old += lines(between) + taken;
                new += lines(between) + given;
                at = region.before.end;
                last = context_behind(self.before, at);
                next += 1;
                match self.regions.get(next) {
                    // Hunks whose context would touch are one.
                    Some(follows) if context_before(self.before, follows.before.start) <= last => {}
                    _ => break,
                }
            }
            let tail = &self.before[at..last];
            put(&mut body, ' ', tail);
            old += lines(tail);
            new += lines(tail);
            let start = line_of(head);
            let place = |start: usize, len: usize| match len {
                0 => format!("{start},0"),
                1 => format!("{}", start + 1),
                _ => format!("{},{len}", start + 1),
            };
            let start_after = start.saturating_add_signed(grown);
            let _ = writeln!(out, "@@ -{} +{} @@", place(start, old), place(start_after, new));
            out.push_str(&body);
            grown += new as isize - old as isize;
        }
    }
}

/// The parts of a region that differ, without the lines that stay between them. An edit may be of many lines of which
/// only a few are others.
fn differing(before: &str, region: Region) -> Vec<Region> {
    let mut places: HashMap<&str, VecDeque<usize>> = HashMap::new();
    let new: Vec<&str> = region.after.split_inclusive('\n').collect();
    for (at, line) in new.iter().enumerate() {
        places.entry(line).or_default().push_back(at);
    }
    let mut out: Vec<Region> = Vec::new();
    let (mut at, mut next) = (region.before.start, 0);
    let mut open = Region { before: at..at, after: String::new() };
    for line in before[region.before.clone()].split_inclusive('\n') {
        let own = places.get_mut(line);
        let same = own.and_then(|own| {
            while own.front().is_some_and(|place| *place < next) {
                own.pop_front();
            }
            own.pop_front()
        });
        match same {
            Some(place) => {
                new[next..place].iter().for_each(|line| open.after.push_str(line));
                next = place + 1;
                at += line.len();
                out.push(std::mem::replace(&mut open, Region { before: at..at, after: String::new() }));
            }
            None => {
                at += line.len();
                open.before.end = at;
            }
        }
    }
    new[next..].iter().for_each(|line| open.after.push_str(line));
    out.push(open);
    out.retain(|region| !region.before.is_empty() || !region.after.is_empty());
    out
}

/// Where the lines begin that are shown before byte `at`, which begins a line.
fn context_before(text: &str, at: usize) -> usize {
    let mut start = at;
    for _ in 0..CONTEXT {
        if start == 0 {
            break;
        }
        start = text[..start - 1].rfind('\n').map_or(0, |line| line + 1);
    }
    start
}

/// Where the lines end that are shown from byte `at` on, which begins a line.
fn context_behind(text: &str, at: usize) -> usize {
    let mut end = at;
    for _ in 0..CONTEXT {
        end = text[end..].find('\n').map_or(text.len(), |line| end + line + 1);
    }
    end
}

/// Adds lines with a mark before each.
fn put(out: &mut String, mark: char, lines: &str) {
    for line in lines.split_inclusive('\n') {
        out.push(mark);
        out.push_str(line);
        if !line.ends_with('\n') {
            out.push_str("\n\\ No newline at end of file\n");
        }
    }
}

/// A path in a diff's header; one with blanks is closed by a tab, as git does.
fn header(side: &str, path: &str) -> String {
    let end = if path.contains(' ') { "\t" } else { "" };
    format!("{side}/{path}{end}")
}

/// The mod's folder as seen from the project's, with a slash behind it.
fn prefix(project: &Project) -> String {
    let Some(layer) = project.stack.layers().last() else { return String::new() };
    let folder = project.folder.canonicalize().unwrap_or_else(|_| project.folder.clone());
    let Ok(below) = layer.root.strip_prefix(folder) else { return String::new() };
    let parts: Vec<String> =
        below.components().map(|part| part.as_os_str().to_string_lossy().into_owned()).collect();
    parts.iter().map(|part| format!("{part}/")).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::text::{EditSet, Span};
    use proptest::prelude::*;
    use rstest::rstest;

    fn diff(before: &str, edits: &[(usize, usize, &str)]) -> String {
        let edits = edits
            .iter()
            .map(|(from, to, text)| Edit { span: Span::new(*from, *to), text: (*text).to_owned() });
        let edits = EditSet::new(edits.collect()).expect("disjoint");
        let mut out = String::new();
        Hunks::of_edits(before, edits.edits()).write(&mut out);
        out
    }

    #[rstest]
    #[case::within_a_line("a\nb\nc\n", &[(2, 3, "x")], "@@ -1,3 +1,3 @@\n a\n-b\n+x\n c\n")]
    #[case::a_line_goes("a\nb\nc\n", &[(2, 4, "")], "@@ -1,3 +1,2 @@\n a\n-b\n c\n")]
    #[case::a_line_comes("a\nc\n", &[(2, 2, "b\n")], "@@ -1,2 +1,3 @@\n a\n+b\n c\n")]
    #[case::two_on_one_line("abc\n", &[(0, 1, "x"), (2, 3, "z")], "@@ -1 +1 @@\n-abc\n+xbz\n")]
    #[case::neighbours("a\nb\n", &[(0, 1, "x"), (2, 3, "y")], "@@ -1,2 +1,2 @@\n-a\n-b\n+x\n+y\n")]
    #[case::lines_join("a\nb\nc\n", &[(1, 2, "")], "@@ -1,3 +1,2 @@\n-a\n-b\n+ab\n c\n")]
    #[case::no_line_end("a", &[(1, 1, "\nb")], "@@ -1 +1,2 @@\n-a\n\\ No newline at end of file\n+a\n+b\n\\ No newline at end of file\n")]
    #[case::into_nothing("", &[(0, 0, "a\n")], "@@ -0,0 +1 @@\n+a\n")]
    #[case::all_goes("a\n", &[(0, 2, "")], "@@ -1 +0,0 @@\n-a\n")]
    #[case::nothing_differs("a\n", &[(0, 1, "a")], "")]
    #[case::windows_line_ends("a\r\nb\r\n", &[(3, 4, "x")], "@@ -1,2 +1,2 @@\n a\r\n-b\r\n+x\r\n")]
    fn hunks(#[case] before: &str, #[case] edits: &[(usize, usize, &str)], #[case] expected: &str) {
        assert_eq!(diff(before, edits), expected);
    }

    #[test]
    fn hunks_far_apart_have_headers_of_their_own() {
        let before: String = (1..=20).map(|line| format!("{line}\n")).collect();
        let at = |line: &str| before.find(line).expect("a line");
        let shown = diff(&before, &[(at("4\n"), at("4\n"), "x\n"), (at("15\n"), at("15\n") + 3, "")]);
        assert!(shown.starts_with("@@ -1,6 +1,7 @@\n 1\n"), "{shown}");
        assert!(shown.contains("@@ -12,7 +13,6 @@\n 12\n"), "{shown}");
    }

    /// What a hunk says, done by hand.
    fn patched(before: &str, diff: &str) -> String {
        let old: Vec<&str> = before.split_inclusive('\n').collect();
        let (mut out, mut at) = (String::new(), 0);
        let mut lines = diff.split_inclusive('\n').peekable();
        while let Some(line) = lines.next() {
            if let Some(head) = line.strip_prefix("@@ -") {
                let (start, rest) = head.split_at(head.find([',', ' ']).expect("a place"));
                let none = rest.starts_with(",0");
                let start: usize = start.parse::<usize>().expect("a number") - usize::from(!none);
                old[at..start].iter().for_each(|line| out.push_str(line));
                at = start;
                continue;
            }
            let bare = lines.peek().is_some_and(|next| next.starts_with('\\'));
            let text = if bare { line[1..].trim_end_matches('\n') } else { &line[1..] };
            match line.as_bytes()[0] {
                b' ' | b'-' => {
                    assert_eq!(old[at], text);
                    at += 1;
                    if line.starts_with(' ') {
                        out.push_str(text);
                    }
                }
                b'+' => out.push_str(text),
                _ => {}
            }
        }
        old[at..].iter().for_each(|line| out.push_str(line));
        out
    }

    proptest! {
        #[test]
        fn a_diff_done_by_hand_gives_the_text_after(
            before in "[ab\n]{0,40}",
            cuts in proptest::collection::vec((0usize..6, 0usize..4, "[xa\n]{0,3}"), 0..5),
        ) {
            let (mut at, mut edits) = (0, Vec::new());
            for (gap, len, text) in cuts {
                let (from, to) = (at + gap, at + gap + len);
                if to > before.len() { break; }
                edits.push(Edit { span: Span::new(from, to), text });
                at = to + 1;
            }
            let edits = EditSet::new(edits).expect("disjoint");
            let after = String::from_utf8(edits.apply(before.as_bytes()).expect("inside")).expect("text");
            let mut shown = String::new();
            Hunks::of_edits(&before, edits.edits()).write(&mut shown);
            prop_assert_eq!(patched(&before, &shown), after);
        }
    }
}
