//! The editors of the formats: tables of cases with the bytes expected, one file a format.
//!
//! In a fixture `%` lines describe the table, `#` begins a case, `!` lines are what is done, `|` lines the text before
//! (that of the case above where there are none), `<` lines a text that lies below, and `>` lines what comes out. `\r`
//! and `\t` stand for these characters, `\u` for a byte order mark, and `\z` at the end for a last line without an end.
//! Each case also shows that the reader finds exactly the records meant, and that what can be taken back is taken back
//! to the byte, unless its title has `(not turned back)` in it. `UPDATE_FIXTURES=1` writes what comes out.
#![allow(clippy::expect_used, clippy::panic, reason = "tests fail by panicking")]

mod support;

use proptest::prelude::*;
use rstest::rstest;
use std::fmt::Write as _;
use std::path::PathBuf;
use stitching_core::formats::{Column, Editor, Fault, NewEntry, Part, Place, RawRecord, RecordSink};
use stitching_core::layers::RelPath;
use stitching_core::schema::{KeyPart, Table};
use stitching_core::tables::{Record, read_all};
use stitching_core::text::{Edit, EditSet, Span, Text};

/// A table whose records are edited.
struct Subject {
    table: Table,
    path: RelPath,
}

impl Subject {
    fn new(settings: &str) -> Subject {
        let schema = format!("=== schema.toml\n[table.t]\nfiles = \"t.x\"\n{settings}\n");
        let folder = support::write(&schema);
        let project = support::open(&folder);
        Subject { table: project.schema.tables[0].clone(), path: RelPath::parse("t.x").expect("a path") }
    }

    fn records(&self, text: &str) -> Vec<Record> {
        read_all(&self.table, &self.path, &Text::of_file(text))
    }

    fn keys(&self, text: &str) -> Vec<String> {
        self.records(text).into_iter().map(|record| shown(&record)).collect()
    }

    fn find(&self, text: &str, key: &str) -> Span {
        let records = self.records(text);
        let found = records.iter().find(|record| shown(record) == key);
        found.unwrap_or_else(|| panic!("there is no `{key}` in:\n{text}")).span
    }

    fn key_columns(&self) -> Vec<&str> {
        let name = |part: &KeyPart| match part {
            KeyPart::Field(field) => Some(self.table.fields[*field].name.as_str()),
            _ => None,
        };
        self.table.key.iter().filter_map(name).collect()
    }

    fn faults(&self, text: &str) -> Vec<String> {
        struct Faults(Vec<String>);
        impl RecordSink for Faults {
            fn record(&mut self, _record: &RawRecord<'_>) {}
            fn fault(&mut self, fault: Fault) {
                self.0.push(fault.message);
            }
        }
        let columns = self.table.fields.iter().map(|field| Column::optional(&field.name));
        let (columns, mut faults) = (columns.collect::<Vec<_>>(), Faults(Vec::new()));
        self.table.format.read(&Text::of_file(text), &columns, &mut faults);
        faults.0
    }

    /// The record with the parts of its key that differ set to those of `new`.
    fn copy(&self, text: &str, key: &str, new: &str, notes: bool) -> Result<NewEntry, String> {
        let parsed = Text::of_file(text);
        let record = self.find(text, key);
        let mut scratch = self.table.format.editor(&parsed).expect("an editor");
        let columns = self.key_columns();
        let parts = key.split('/').zip(new.split('/')).zip(&columns);
        for ((old, new), column) in parts {
            if old != new {
                scratch.set(record, column, new)?;
            }
        }
        let edits = EditSet::new(scratch.finish()).expect("disjoint");
        let editor = self.table.format.editor(&parsed).expect("an editor");
        editor.take(&Part { record, edits: &edits, whole: true, notes, key: &columns })
    }
}

fn shown(record: &Record) -> String {
    record.key.as_deref().unwrap_or("").replace('\u{1f}', "/")
}

/// Makes what an editor was asked for.
fn apply(text: &str, edits: Vec<Edit>) -> String {
    let edits = EditSet::new(edits).expect("disjoint");
    String::from_utf8(edits.apply(text.as_bytes()).expect("inside")).expect("text")
}

/// Does one thing with `editor`; gives the keys that are there afterwards, and what takes it back.
fn act<'o>(
    subject: &Subject,
    editor: &mut Editor<'_>,
    text: &str,
    below: &str,
    operation: &'o str,
    keys: &mut Vec<String>,
) -> Result<Back<'o>, String> {
    let words: Vec<&str> = operation.split(' ').collect();
    let place = |words: &[&str]| match words {
        ["first"] => Place::First,
        ["last"] => Place::Last,
        ["before", other] => Place::Before(subject.find(text, other)),
        ["after", other] => Place::After(subject.find(text, other)),
        other => panic!("no place: {other:?}"),
    };
    match words.as_slice() {
        ["set", key, column, "=", ..] => {
            let value = operation.split_once(" = ").expect("a value").1;
            let record = subject.find(text, key);
            let column_at = subject.table.field(column);
            let old = subject.records(text).into_iter().find(|record| shown(record) == *key);
            let old = old.and_then(|record| Some(record.value(column_at?)?.text.clone()));
            editor.set(record, column, value)?;
            Ok(old.map_or(Back::Nothing, |old| Back::Set(key, column, old)))
        }
        ["copy", key, "as", new, at @ ..] => {
            let entry = subject.copy(text, key, new, true)?;
            editor.insert(&entry, place(at))?;
            keys.push((*new).to_owned());
            Ok(Back::Remove(new))
        }
        ["over", key, rest @ ..] => {
            let parsed = Text::of_file(below);
            let record = subject.find(below, key);
            let mut scratch = subject.table.format.editor(&parsed).expect("an editor");
            if let [column, "=", value] = rest {
                scratch.set(record, column, value)?;
            }
            let edits = EditSet::new(scratch.finish()).expect("disjoint");
            let from = subject.table.format.editor(&parsed).expect("an editor");
            let columns = subject.key_columns();
            let part = Part { record, edits: &edits, whole: rest.is_empty(), notes: true, key: &columns };
            editor.insert(&from.take(&part)?, Place::Last)?;
            if !keys.iter().any(|own| own == key) {
                keys.push((*key).to_owned());
            }
            Ok(Back::Nothing)
        }
        ["remove", key] => {
            editor.remove(subject.find(text, key))?;
            keys.retain(|own| own != key);
            Ok(Back::Nothing)
        }
        ["move", key, at @ ..] => {
            editor.move_to(subject.find(text, key), place(at))?;
            Ok(Back::Nothing)
        }
        ["off", key] => {
            editor.comment_out(subject.find(text, key))?;
            keys.retain(|own| own != key);
            Ok(Back::On)
        }
        ["item", key, column, item, "at", at] => {
            let at: usize = at.parse().expect("a number");
            editor.insert_item(subject.find(text, key), column, item, at)?;
            Ok(Back::Item(key, column, at))
        }
        ["no-item", key, column, at] => {
            editor.remove_item(subject.find(text, key), column, at.parse().expect("a number"))?;
            Ok(Back::Nothing)
        }
        other => panic!("what is {other:?}?"),
    }
}

/// What takes something back.
enum Back<'o> {
    Nothing,
    Set(&'o str, &'o str, String),
    Remove(&'o str),
    On,
    Item(&'o str, &'o str, usize),
}

impl Back<'_> {
    fn take_back(&self, subject: &Subject, after: &str) -> Option<String> {
        let parsed = Text::of_file(after);
        let mut editor = subject.table.format.editor(&parsed).expect("an editor");
        match self {
            Back::Nothing => return None,
            Back::Set(key, column, old) => {
                // A key that was set has another name now.
                let records = subject.records(after);
                let record = records.iter().find(|record| shown(record) == *key)?;
                editor.set(record.span, column, old).expect("it was there");
            }
            Back::Remove(key) => editor.remove(subject.find(after, key)).expect("it is there"),
            Back::On => {
                let off = subject.table.format.off_style().find_off(after);
                editor.comment_in(off.first().expect("it is off").span).expect("it is off");
            }
            Back::Item(key, column, at) => {
                editor.remove_item(subject.find(after, key), column, *at).expect("it is there");
            }
        }
        Some(apply(after, editor.finish()))
    }
}

fn text_of(lines: &[String]) -> String {
    let mut out = String::new();
    for line in lines {
        let (line, end) = match line.strip_suffix("\\z") {
            Some(line) => (line, ""),
            None => (line.as_str(), "\n"),
        };
        out.push_str(&line.replace("\\r", "\r").replace("\\t", "\t").replace("\\u", "\u{feff}"));
        out.push_str(end);
    }
    out
}

fn lines_of(text: &str) -> String {
    let mut out = String::new();
    for line in text.split_inclusive('\n') {
        let shown = line.replace('\r', "\\r").replace('\t', "\\t").replace('\u{feff}', "\\u");
        match shown.strip_suffix('\n') {
            Some(line) => writeln!(out, "> {line}").expect("a text"),
            None => writeln!(out, "> {shown}\\z").expect("a text"),
        }
    }
    if text.is_empty() { ">\n".to_owned() } else { out.replace("> \n", ">\n") }
}

#[rstest]
fn cases(#[files("tests/editing/*.txt")] fixture: PathBuf) {
    let source = std::fs::read_to_string(&fixture).expect("a fixture");
    let mut out = String::new();
    let mut settings = String::new();
    let (mut before, mut below): (Vec<String>, Vec<String>) = (Vec::new(), Vec::new());
    let mut count = 0;
    for case in source.split("\n\n").filter(|case| !case.trim().is_empty()) {
        let line = |mark: char| {
            let own = case.lines().filter(move |line| line.starts_with(mark));
            own.map(|line| line[1..].strip_prefix(' ').unwrap_or(&line[1..]).to_owned()).collect::<Vec<_>>()
        };
        let kept: Vec<&str> = case.lines().filter(|line| !line.starts_with('>')).collect();
        out.push_str(&format!("{}\n", kept.join("\n")));
        if !line('%').is_empty() {
            settings = line('%').join("\n");
        }
        if !line('|').is_empty() {
            before = line('|');
        }
        if !line('<').is_empty() {
            below = line('<');
        }
        if line('!').is_empty() {
            out.push('\n');
            continue;
        }
        count += 1;
        let subject = Subject::new(&settings);
        let text = if before == [""] { String::new() } else { text_of(&before) };
        let operations: Vec<String> = line('!').iter().map(|line| line.replace("\\t", "\t")).collect();
        let result = run(&subject, &text, &text_of(&below), &operations, case);
        match result {
            Ok(after) => out.push_str(&lines_of(&after)),
            Err(reason) => out.push_str(&format!("> refused: {reason}\n")),
        }
        out.push('\n');
    }
    assert!(count >= 25, "{count} cases in {}", fixture.display());
    if std::env::var_os("UPDATE_FIXTURES").is_some() {
        std::fs::write(&fixture, out).expect("written");
    } else {
        let expected: Vec<&str> = source.split("\n\n").collect();
        let found: Vec<&str> = out.split("\n\n").collect();
        assert_eq!(expected.len(), found.len(), "as many cases");
        for (expected, found) in expected.iter().zip(&found) {
            assert_eq!(expected.trim_end(), found.trim_end());
        }
    }
}

/// Does what a case asks for, and looks whether it is what was meant.
fn run(
    subject: &Subject,
    text: &str,
    below: &str,
    operations: &[String],
    case: &str,
) -> Result<String, String> {
    let parsed = Text::of_file(text);
    let mut editor = subject.table.format.editor(&parsed).expect("an editor");
    let mut keys = subject.keys(text);
    let mut back = Back::Nothing;
    for operation in operations {
        back = act(subject, &mut editor, text, below, operation, &mut keys)?;
    }
    let after = apply(text, editor.finish());
    let mut found = subject.keys(&after);
    let sets_a_key = operations.iter().any(|operation| {
        let mut words = operation.split(' ');
        words.next() == Some("set")
            && words.nth(1).is_some_and(|column| subject.key_columns().contains(&column))
    });
    found.sort();
    keys.sort();
    if !sets_a_key {
        assert_eq!(found, keys, "other records than meant in\n{case}\nafter:\n{after}");
    }
    let new = subject.faults(&after);
    assert!(new.len() <= subject.faults(text).len(), "new faults {new:?} in\n{case}\nafter:\n{after}");
    let is_one_way = case.contains("(not turned back)");
    if operations.len() == 1
        && !is_one_way
        && let Some(again) = back.take_back(subject, &after)
    {
        assert_eq!(again, text, "not taken back in\n{case}\nafter:\n{after}");
    }
    Ok(after)
}

/// How a generated file is laid out.
#[derive(Debug, Clone)]
struct Trivia {
    end: &'static str,
    mark: bool,
    last_end: bool,
    unit: &'static str,
    blank: bool,
    /// For each record, whether it has a note above, and one behind.
    notes: Vec<(bool, bool)>,
    one_line: bool,
    padded: bool,
}

fn trivia() -> impl Strategy<Value = Trivia> {
    let notes = proptest::collection::vec((any::<bool>(), any::<bool>()), 6);
    let ends = prop_oneof![Just("\n"), Just("\r\n")];
    let units = prop_oneof![Just("  "), Just("    "), Just("\t")];
    (ends, any::<bool>(), any::<bool>(), units, any::<bool>(), notes, any::<bool>(), any::<bool>()).prop_map(
        |(end, mark, last_end, unit, blank, notes, one_line, padded)| Trivia {
            end,
            mark,
            last_end,
            unit,
            blank,
            notes,
            one_line,
            padded,
        },
    )
}

const FORMATS: [(&str, &str); 10] = [
    (r#"{ kind = "json", records = "$[*]", comments = true }"#, "id"),
    (r#"{ kind = "json", records = "$.*", comments = true, trailing_commas = true }"#, "{member}"),
    (r#"{ kind = "xml", records = "/quay/pier" }"#, "@id"),
    (r##"{ kind = "blocks", records = "piers/*" }"##, "{name}"),
    (r##"{ kind = "ini", comment = "#", trailing = true }"##, "{section}"),
    (r##"{ kind = "delimited", comment = "#" }"##, "id"),
    (r##"{ kind = "lines", line = "{id} {depth}", comment = "#", trailing = true }"##, "id"),
    (r#"{ kind = "po" }"#, "msgid"),
    (r#"{ kind = "blocks", nesting = "indent", records = "piers/*" }"#, "{name}"),
    (r#"{ kind = "blocks", nesting = "indent", records = "piers/*" }"#, "id"),
];

/// The column that is set in each of [`FORMATS`].
const COLUMNS: [&str; 10] =
    ["depth", "depth", "@depth", "depth", "depth", "depth", "depth", "msgstr", "depth", "depth"];

/// A file with the records `keys` in the format with this number.
fn generated(format: usize, keys: &[String], trivia: &Trivia) -> String {
    let Trivia { end, unit, .. } = trivia;
    let by_indent = format >= 8;
    let nested = format < 4 || by_indent;
    let one_line = trivia.one_line && nested && !by_indent;
    let pad = if trivia.padded { " " } else { "" };
    let (open, close) = match format {
        0 => ("[", "]"),
        1 => ("{", "}"),
        2 => ("<quay>", "</quay>"),
        3 => ("piers = {", "}"),
        5 => ("id\tdepth", ""),
        7 => ("msgid \"\"\nmsgstr \"Language: en\\n\"", ""),
        8 | 9 => ("piers:", ""),
        _ => ("", ""),
    };
    let entry = |key: &str| match format {
        0 => format!("{{\"id\": \"{key}\", \"depth\": 3}}"),
        1 => format!("\"{key}\": {{\"depth\": 3}}"),
        2 => format!("<pier id=\"{key}\" depth=\"3\"/>"),
        3 => format!("{key} = {{ depth = 3 }}"),
        4 => format!("[{key}]{end}depth = 3"),
        5 => format!("{key}\t3"),
        6 => format!("{key} 3"),
        8 => format!("{key}:{end}{unit}{unit}depth: 3"),
        9 => format!("- id: {key}{end}{unit}  depth: 3"),
        _ => format!("msgid \"{key}\"{end}msgstr \"3\""),
    };
    let separator = |last: bool| match (format, last) {
        (0, false) | (1, false) => ",",
        (1, true) if !one_line => ",",
        _ => "",
    };
    if one_line {
        let all: Vec<String> = keys.iter().map(|key| entry(key)).collect();
        let between = if format < 2 {
            ", "
        } else if format == 3 {
            " "
        } else {
            pad
        };
        let pad = if format == 3 { " " } else { pad };
        return format!("{open}{pad}{}{pad}{close}", all.join(between));
    }
    let note = |text: &str| match format {
        0 | 1 => format!("// {text}"),
        2 => format!("<!-- {text} -->"),
        _ => format!("# {text}"),
    };
    let has_note_behind = ![5, 7].contains(&format);
    let indent = if nested { unit } else { &"" };
    let mut lines: Vec<String> = Vec::new();
    if !open.is_empty() {
        lines.extend(open.lines().map(str::to_owned));
        if format == 7 {
            lines.push(String::new());
        }
    }
    for (at, key) in keys.iter().enumerate() {
        let (above, behind) = trivia.notes[at];
        if at > 0 && (trivia.blank || format == 7) {
            lines.push(String::new());
        }
        if above {
            lines.push(format!("{indent}{}", note("above")));
        }
        let behind = if behind && has_note_behind { format!(" {}", note("behind")) } else { String::new() };
        let separator = separator(at + 1 == keys.len());
        lines.extend(format!("{indent}{}{separator}{behind}", entry(key)).split(end).map(str::to_owned));
    }
    if !close.is_empty() {
        lines.push(close.to_owned());
    }
    let text = lines.join(end) + if trivia.last_end { end } else { "" };
    if trivia.mark { format!("\u{feff}{text}") } else { text }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 400, failure_persistence: None, ..ProptestConfig::default() })]

    #[test]
    fn what_is_done_and_undone_leaves_no_trace(
        format in 0usize..10,
        count in 2usize..6,
        which in 0usize..6,
        place in 0usize..4,
        trivia in trivia(),
    ) {
        let (kind, key) = FORMATS[format];
        let column = COLUMNS[format];
        let fields = format!("[table.t.fields]\n\"{column}\" = {{}}");
        let subject = Subject::new(&format!("format = {kind}\nkey = \"{key}\"\n{fields}"));
        let keys: Vec<String> = (0..count).map(|number| format!("k{number}")).collect();
        let which = which % count;
        let text = generated(format, &keys, &trivia);
        prop_assert_eq!(subject.keys(&text), keys.clone(), "the generator is wrong:\n{}", text);
        let span = |text: &str, key: &str| subject.find(text, key);
        let edited = |text: &str, act: &dyn Fn(&mut Editor<'_>)| {
            let parsed = Text::of_file(text);
            let mut editor = subject.table.format.editor(&parsed).expect("an editor");
            act(&mut editor);
            apply(text, editor.finish())
        };
        let other = &keys[which];
        let at = |text: &str, other: &str| match place {
            0 => Place::First,
            1 => Place::Last,
            2 => Place::Before(span(text, other)),
            _ => Place::After(span(text, other)),
        };

        // A new one comes and goes.
        let new = subject.copy(&text, other, "new", true).expect("a copy");
        let more = edited(&text, &|editor| editor.insert(&new, at(&text, other)).expect("a place"));
        let mut expected = keys.clone();
        let index = match place {
            0 => 0,
            1 => count,
            2 => which,
            _ => which + 1,
        };
        expected.insert(index, "new".to_owned());
        prop_assert_eq!(subject.keys(&more), expected, "after inserting:\n{}", more);
        let back = edited(&more, &|editor| editor.remove(span(&more, "new")).expect("it is there"));
        prop_assert_eq!(&back, &text, "inserted and removed");

        // One goes and comes back.
        let taken = subject.copy(&text, other, other, true).expect("a copy");
        let less = edited(&text, &|editor| editor.remove(span(&text, other)).expect("it is there"));
        let mut expected = keys.clone();
        expected.remove(which);
        prop_assert_eq!(subject.keys(&less), expected, "after removing:\n{}", less);
        let back = edited(&less, &|editor| {
            let place = match which {
                0 => Place::First,
                _ => Place::After(span(&less, &keys[which - 1])),
            };
            editor.insert(&taken, place).expect("a place");
        });
        // Of two, one is left, which does not tell whether blank lines stand between them.
        if count > 2 || trivia.blank == (format == 4) || format == 7 {
            prop_assert_eq!(&back, &text, "removed and inserted:\n{}", less);
        }

        // A value changes there and back.
        let there = edited(&text, &|editor| editor.set(span(&text, other), column, "77").expect("a place"));
        prop_assert_eq!(subject.keys(&there), keys.clone());
        let back = edited(&there, &|editor| editor.set(span(&there, other), column, "3").expect("a place"));
        prop_assert_eq!(&back, &text, "set there and back");

        // One is moved and moved back.
        if count > 2 && which > 0 {
            let moved = edited(&text, &|editor| editor.move_to(span(&text, other), Place::First).expect("a place"));
            let back = edited(&moved, &|editor| {
                let before = Place::After(span(&moved, &keys[which - 1]));
                editor.move_to(span(&moved, other), before).expect("a place");
            });
            prop_assert_eq!(&back, &text, "moved there and back:\n{}", moved);
        }

        // One is commented out and in.
        let off = edited(&text, &|editor| { let _ = editor.comment_out(span(&text, other)); });
        let found = subject.table.format.off_style().find_off(&off);
        if let Some(piece) = found.first() {
            let back = edited(&off, &|editor| editor.comment_in(piece.span).expect("it is off"));
            prop_assert_eq!(&back, &text, "commented out and in:\n{}", off);
        }
    }

    #[test]
    fn many_things_at_once_leave_a_sound_file(
        format in 0usize..8,
        count in 0usize..6,
        acts in proptest::collection::vec((0usize..3, 0usize..6, 0usize..4), 1..8),
        trivia in trivia(),
        other_trivia in trivia(),
    ) {
        let (kind, key) = FORMATS[format];
        let column = COLUMNS[format];
        let fields = format!("[table.t.fields]\n\"{column}\" = {{}}");
        let subject = Subject::new(&format!("format = {kind}\nkey = \"{key}\"\n{fields}"));
        let keys: Vec<String> = (0..count).map(|number| format!("k{number}")).collect();
        let text = if count == 0 { String::new() } else { generated(format, &keys, &trivia) };
        let others: Vec<String> = (0..6).map(|number| format!("n{number}")).collect();
        let below = generated(format, &others, &other_trivia);
        let parsed = Text::of_file(&text);
        let mut editor = subject.table.format.editor(&parsed).expect("an editor");
        let mut expected = keys.clone();
        let mut known = std::collections::HashSet::new();
        for (act, which, place) in acts {
            let other = keys.get(which % count.max(1));
            let (new, own) = (format!("n{which}"), format!("k{}", which % count.max(1)));
            match act {
                // From another file, laid out in another way.
                0 if known.insert(new.clone()) => {
                    let entry = subject.copy(&below, &new, &new, place % 2 == 0).expect("a copy");
                    let place = match (place, other) {
                        (0, _) => Place::First,
                        (1, Some(other)) => Place::Before(subject.find(&text, other)),
                        (2, Some(other)) => Place::After(subject.find(&text, other)),
                        _ => Place::Last,
                    };
                    editor.insert(&entry, place).expect("a place");
                    expected.push(new);
                }
                1 if expected.contains(&own) && known.insert(own.clone()) => {
                    editor.remove(subject.find(&text, &own)).expect("it is there");
                    expected.retain(|key| *key != own);
                }
                2 if expected.contains(&own) && known.insert(own.clone()) => {
                    editor.set(subject.find(&text, &own), column, "12").expect("a place");
                }
                _ => {}
            }
        }
        let after = apply(&text, editor.finish());
        let (mut found, before) = (subject.keys(&after), subject.faults(&text));
        found.sort();
        expected.sort();
        prop_assert_eq!(found, expected, "before:\n{}\nafter:\n{}", text, after);
        let faults = subject.faults(&after);
        prop_assert!(faults.len() <= before.len(), "{:?} before:\n{}\nafter:\n{}", faults, text, after);
    }
}
