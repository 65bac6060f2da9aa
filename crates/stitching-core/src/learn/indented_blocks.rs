//! Recognising blocks that the indentation of their lines nests.

use super::recognise::{Counter, Lines, Recognised, Settings};
use super::shapes::shapes_of;
use crate::formats::{BlockPath, Blocks, Format, Nesting, Outline, Taken};
use crate::settings::toml_text;
use crate::text::Text;

/// So long a key is a sentence.
const LONGEST_KEY: usize = 60;

/// What a line is, as far as it can be told alone.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    /// A key and nothing behind it.
    Head,
    /// A key with its value.
    Entry,
    /// The mark of an item, with a key behind it.
    ItemWithKey,
    /// The mark of an item, with anything else behind it.
    Item,
    /// Two marks: the beginning of a document, or a setting of it.
    Mark,
    Other,
}

fn kind_of(line: &str) -> Kind {
    let line = line.trim();
    if let Some(item) = line.strip_prefix("- ") {
        return match kind_of(item) {
            Kind::Head | Kind::Entry | Kind::ItemWithKey => Kind::ItemWithKey,
            _ => Kind::Item,
        };
    }
    if line == "---" || line.starts_with('%') {
        return Kind::Mark;
    }
    let behind = match line.strip_prefix('"').and_then(|rest| rest.find('"')) {
        Some(end) => end + 2,
        None => 0,
    };
    let Some(sign) = line[behind..].find(':').map(|at| behind + at) else { return Kind::Other };
    let (key, value) = (&line[..sign], &line[sign + 1..]);
    let is_key = !key.is_empty()
        && key.len() <= LONGEST_KEY
        && !key.starts_with(['{', '[', '<', '}'])
        && (behind > 0 || !key.contains(['"', '(', ';', '=']));
    match (is_key, value.trim(), value.starts_with([' ', '\t'])) {
        (true, "", _) => Kind::Head,
        // What ends with a semicolon or opens a brace is a script.
        (true, value, true) if !value.ends_with([';', '{']) || value.contains('"') => Kind::Entry,
        _ => Kind::Other,
    }
}

fn indent(line: &str) -> usize {
    line.len() - line.trim_start().len()
}

/// A file whose lines are keys with values, nested by their indentation.
pub(super) fn indented(text: &Text<'_>, lines: &Lines<'_>) -> Option<Recognised> {
    let kinds: Vec<Kind> = lines.lines.iter().map(|line| kind_of(line)).collect();
    let count = |wanted: &[Kind]| kinds.iter().filter(|kind| wanted.contains(kind)).count();
    let with_key = count(&[Kind::Head, Kind::Entry, Kind::ItemWithKey]);
    // Further lines of a text are indented below its key.
    let mut depth = 0;
    let mut odd = 0;
    for (line, kind) in lines.lines.iter().zip(&kinds) {
        match kind {
            Kind::Other if indent(line) <= depth => odd += 1,
            Kind::Other => {}
            _ => depth = indent(line),
        }
    }
    let nests = lines.lines.windows(2).zip(&kinds).any(|(pair, kind)| {
        let deeper = indent(pair[1]) > indent(pair[0]);
        *kind == Kind::ItemWithKey || (*kind == Kind::Head && (deeper || pair[1].trim().starts_with("- ")))
    });
    if !nests || with_key * 2 < lines.lines.len() || odd * 20 > lines.lines.len() {
        return None;
    }
    let comments = match lines.marks.as_slice() {
        [] => vec!["#".to_owned()],
        // A mark of items is none of notes.
        marks => marks
            .iter()
            .filter(|mark| **mark != "--" && **mark != "'")
            .map(|mark| (*mark).to_owned())
            .collect(),
    };
    let escapes = text.as_str().contains("\\\"");
    let format = by_indentation(Some(':'), comments.clone(), escapes)?;
    let mut found = Counter::default();
    format.read(text, &[], &mut found);
    if found.faults.len() > lines.lines.len() / 25 {
        return None;
    }
    let mut outline = Outline::default();
    format.outline(text, &mut outline);
    let mut settings: Settings = vec![("nesting", toml_text("indent"))];
    if comments != ["#"] && !comments.is_empty() {
        let shown: Vec<String> = comments.iter().map(|mark| toml_text(mark)).collect();
        settings.push((
            "comment",
            match shown.as_slice() {
                [one] => one.clone(),
                many => format!("[{}]", many.join(", ")),
            },
        ));
    }
    if escapes {
        settings.push(("escapes", "true".to_owned()));
    }
    Some(Recognised::new(Blocks::NAME, settings, shapes_of(&outline, Blocks::NAME, 1)))
}

/// The format of blocks that indentation nests.
fn by_indentation(assign: Option<char>, comments: Vec<String>, escapes: bool) -> Option<Blocks> {
    Some(Blocks {
        records: BlockPath::parse("*", false).ok()?,
        taken: Taken::Blocks,
        nesting: Nesting::Indent,
        assign,
        comments,
        block_comment: None,
        separators: Vec::new(),
        lists: Vec::new(),
        bare_entries: false,
        escapes,
        over_lines: false,
        include: None,
    })
}

/// A file whose lines are a word with its values, nested by their indentation: `trip long`, below it `stop mill`.
pub(super) fn indented_words(text: &Text<'_>, lines: &Lines<'_>) -> Option<Recognised> {
    /// A longer line is a sentence.
    const MOST_WORDS: usize = 8;
    let all = lines.lines.len();
    let is_plain = |line: &&&str| {
        let first = line.split_whitespace().next().unwrap_or_default();
        let is_word = first.starts_with(|next: char| next.is_alphabetic() || next == '_')
            && first.chars().all(|next| next.is_alphanumeric() || "_-.".contains(next));
        is_word
            && line.split_whitespace().count() <= MOST_WORDS
            && !line.trim_end().ends_with([':', ';', ','])
            && !line.contains(['=', '(', ')', '{', '}', '<', '>'])
    };
    let deeper = |pair: &&[&str]| indent(pair[1]) > indent(pair[0]);
    let heads: Vec<&str> = lines.lines.windows(2).filter(deeper).map(|pair| pair[0]).collect();
    // The lines on top are heads of like blocks, each with a name.
    let top: Vec<&&str> = lines.lines.iter().filter(|line| indent(line) == 0).collect();
    let has_name = |line: &&&str| line.split_whitespace().count() == 2;
    let are_heads = top.iter().all(|line| heads.contains(line))
        && top.iter().filter(|line| has_name(line)).count() * 10 >= top.len() * 9;
    let nested = all - top.len();
    if top.is_empty()
        || !are_heads
        || nested * 2 < all
        || lines.lines.iter().filter(is_plain).count() * 20 < all * 19
    {
        return None;
    }
    let comments: Vec<String> = lines.marks.iter().map(|mark| (*mark).to_owned()).collect();
    let format = by_indentation(None, comments, false)?;
    let mut found = Counter::default();
    format.read(text, &[], &mut found);
    if found.faults.len() > all / 25 {
        return None;
    }
    let mut outline = Outline::default();
    format.outline(text, &mut outline);
    let mut settings: Settings = vec![("nesting", toml_text("indent")), ("assign", toml_text(""))];
    settings.extend(lines.comment_setting(&["#"]));
    Some(Recognised::new(Blocks::NAME, settings, shapes_of(&outline, Blocks::NAME, 1)))
}
