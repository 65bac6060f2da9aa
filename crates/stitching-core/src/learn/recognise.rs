//! Recognising what a file is by its content: its format with all settings, as the schema writes them.

use super::rows::{separated, spaced, tabs};
use super::shapes::{Place, RecordShape, shapes_of};
use crate::Code;
use crate::formats::{
    self, BlockPath, Blocks, Format, Ini, Json, JsonPath, Outline, Po, RecordSink, Taken, Xml, XmlPath,
};
use crate::formats::{Fault, RawRecord};
use crate::reading::start_of;
use crate::settings::toml_text;
use crate::text::{Template, Text};
use std::collections::HashMap;

/// Only so many bytes at the start of a file are looked at.
pub(super) const SAMPLE_BYTES: usize = 128 * 1024;
/// And of these only so many lines.
const SAMPLE_LINES: usize = 400;
/// What may begin a line that is only a note.
const NOTE_MARKS: [&str; 5] = ["#", ";", "//", "--", "'"];

/// Names and values (as TOML) of settings.
pub(super) type Settings = Vec<(&'static str, String)>;

/// Settings that one of several like files may do without.
pub(super) const MAY_LACK: [&str; 11] = [
    "comment",
    "include",
    "escapes",
    "others",
    "comments",
    "trailing_commas",
    "head",
    "goes_on",
    "trailing",
    "lists",
    "repeated_keys",
];

/// The format with all its settings, as TOML: `{ kind = "json", records = "$[*]" }`.
pub(super) fn format_source(kind: &str, records: Option<&Place>, settings: &Settings) -> String {
    let records = records.map(|(name, path)| format!(", {name} = {}", toml_text(path))).unwrap_or_default();
    let settings: String = settings.iter().map(|(name, value)| format!(", {name} = {value}")).collect();
    format!("{{ kind = {}{records}{settings} }}", toml_text(kind))
}

/// What a file seems to be.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct Recognised {
    /// The name of its format in a schema.
    pub kind: &'static str,
    /// The settings of the format but for the records: names, and values as TOML.
    pub settings: Settings,
    /// The sets of like records in it.
    pub shapes: Vec<RecordShape>,
    /// What may be wrong about this.
    pub doubt: Option<&'static str>,
    /// The name of its root element, in XML.
    pub root: Option<String>,
}

/// As much of `text` as is looked at.
pub(super) fn sample(text: &str) -> &str {
    start_of(text, SAMPLE_BYTES)
}

/// What the file with this content is; `None` for prose and anything unknown.
pub(super) fn recognise(text: &Text<'_>) -> Option<Recognised> {
    let whole = sample(text.as_str());
    let cut = whole.len() < text.as_str().len();
    let content = Text::of_file(whole);
    let body = behind_notes(&whole[content.body()..]);
    match body.chars().next()? {
        '<' => return xml(&content),
        '{' | '[' => {
            if let Some(found) = json(&content, cut) {
                return Some(found);
            }
        }
        _ => {}
    }
    let lines = Lines::of(&whole[content.body()..]);
    po(&lines)
        .or_else(|| tabs(&lines))
        .or_else(|| several_lines(&lines))
        .or_else(|| carried(&lines))
        .or_else(|| ini(&lines))
        .or_else(|| blocks(&content, &lines))
        .or_else(|| separated(&lines))
        .or_else(|| spaced(&lines))
        .or_else(|| template(&lines, true))
}

/// The text behind notes of two kinds that lenient JSON may begin with: `//` and `/* */`.
fn behind_notes(text: &str) -> &str {
    let mut rest = text.trim_start();
    loop {
        let behind = match rest {
            _ if rest.starts_with("//") => rest.find('\n').map(|end| &rest[end..]),
            _ if rest.starts_with("/*") => rest.find("*/").map(|end| &rest[end + 2..]),
            _ => return rest,
        };
        rest = behind.unwrap_or("").trim_start();
    }
}

/// Counts what a format finds.
#[derive(Default)]
struct Counter {
    records: usize,
    faults: Vec<Code>,
    messages: Vec<String>,
}

impl RecordSink for Counter {
    fn record(&mut self, _record: &RawRecord<'_>) {
        self.records += 1;
    }

    fn fault(&mut self, fault: Fault) {
        self.faults.push(fault.code);
        self.messages.push(fault.message);
    }
}

fn xml(text: &Text<'_>) -> Option<Recognised> {
    let format = Xml { records: XmlPath::records("/*").ok()? };
    let mut outline = Outline::default();
    format.outline(text, &mut outline);
    let shapes = shapes_of(&outline, Xml::NAME, 1);
    let root = outline.nodes[*outline.nodes[0].children.first()?].name.clone();
    Some(Recognised { kind: Xml::NAME, settings: Settings::new(), shapes, doubt: None, root: Some(root) })
}

fn json(text: &Text<'_>, cut: bool) -> Option<Recognised> {
    let mut best: Option<(usize, Json)> = None;
    for (comments, trailing_commas) in [(false, false), (true, false), (false, true), (true, true)] {
        let format = Json { records: JsonPath::parse("$").ok()?, comments, trailing_commas };
        let mut found = Counter::default();
        format.read(text, &[], &mut found);
        let faults = found.faults.len();
        if best.as_ref().is_none_or(|(fewest, _)| faults < *fewest) {
            best = Some((faults, format));
        }
        if faults == 0 {
            break;
        }
    }
    let (faults, format) = best?;
    let mut outline = Outline::default();
    format.outline(text, &mut outline);
    let things: u32 = outline.nodes.iter().map(|node| node.met).sum();
    // A sample that is cut has brackets left open.
    let allowed = (things as usize / 50).max(2) + if cut { 20 } else { 0 };
    let members = outline
        .nodes
        .iter()
        .any(|node| node.met > 0 && node.name != crate::formats::ITEM && !node.name.is_empty());
    if faults > allowed || (faults > 0 && !members) {
        return None;
    }
    let mut settings = Settings::new();
    if format.comments {
        settings.push(("comments", "true".to_owned()));
    }
    if format.trailing_commas {
        settings.push(("trailing_commas", "true".to_owned()));
    }
    Some(Recognised {
        kind: Json::NAME,
        settings,
        shapes: shapes_of(&outline, Json::NAME, 1),
        doubt: None,
        root: None,
    })
}

/// The lines of a sample that are not blank.
pub(super) struct Lines<'t> {
    /// Those that no mark makes notes.
    pub lines: Vec<&'t str>,
    /// The marks of those that are.
    marks: Vec<&'static str>,
    /// The last note above the first line that is none, without its mark.
    pub note_above: Option<&'t str>,
}

impl<'t> Lines<'t> {
    fn of(text: &'t str) -> Lines<'t> {
        let lines: Vec<&str> =
            text.lines().filter(|line| !line.trim().is_empty()).take(SAMPLE_LINES).collect();
        let mut marks = Vec::new();
        for mark in NOTE_MARKS {
            let own = lines.iter().filter(|line| line.trim_start().starts_with(mark));
            let like_notes = own.clone().filter(|line| is_like_a_note(line.trim_start(), mark)).count();
            let count = own.count();
            if count > 0 && count * 2 <= lines.len() && like_notes * 10 >= count * 8 {
                marks.push(mark);
            }
        }
        let without_mark =
            |line: &&'t str| marks.iter().find_map(|mark| line.trim_start().strip_prefix(mark));
        let note_above = lines.iter().map_while(without_mark).last();
        let lines = lines.iter().filter(|line| without_mark(line).is_none()).copied().collect();
        Lines { lines, marks, note_above }
    }

    /// The marks as a setting, but for those that the format knows by itself.
    pub fn comment_setting(&self, known: &[&str]) -> Option<(&'static str, String)> {
        let marks: Vec<String> = self.marks.iter().map(|mark| toml_text(mark)).collect();
        match marks.as_slice() {
            [] => None,
            _ if self.marks.iter().all(|mark| known.contains(mark)) => None,
            [one] => Some(("comment", one.clone())),
            many => Some(("comment", format!("[{}]", many.join(", ")))),
        }
    }
}

/// Whether what follows `mark` reads like a note: a blank, a word, the mark again, but not a directive.
fn is_like_a_note(line: &str, mark: &str) -> bool {
    let rest = &line[mark.len()..];
    mark != "#" || !rest.starts_with("include") && !rest.starts_with("define")
}

fn po(lines: &Lines<'_>) -> Option<Recognised> {
    let with = |word: &str| lines.lines.iter().filter(|line| line.starts_with(word)).count();
    let (ids, texts) = (with("msgid "), with("msgstr"));
    (ids > 0 && texts > 0 && (ids + texts) * 3 > lines.lines.len()).then(|| Recognised {
        kind: Po::NAME,
        settings: Settings::new(),
        shapes: vec![RecordShape::plain(Some("msgid"))],
        doubt: None,
        root: None,
    })
}

fn ini(lines: &Lines<'_>) -> Option<Recognised> {
    let (mut sections, mut keys, mut others, mut braces) = (0, 0, 0usize, 0);
    let mut names: HashMap<&str, usize> = HashMap::new();
    let mut quoted = 0;
    let mut has_head = false;
    for line in &lines.lines {
        let line = line.trim();
        if line.starts_with('[') && line.contains(']') {
            sections += 1;
            continue;
        }
        match line.split_once('=') {
            Some((key, value)) if is_key(key) && !value.starts_with(['>', '=']) => {
                keys += 1;
                has_head |= sections == 0;
                quoted += usize::from(value.trim().starts_with('"'));
                *names.entry(key.trim()).or_default() += 1;
                braces += usize::from(value.contains(['{', '}']));
            }
            _ => {
                braces += usize::from(line.contains(['{', '}']));
                others += 1;
            }
        }
    }
    // A value that goes on in the next line.
    let goes_on = lines.lines.iter().filter(|line| line.ends_with('\\')).count();
    others = others.saturating_sub(goes_on);
    let noted = |line: &&&str| line.contains('=') && [" ;", " #"].iter().any(|mark| line.contains(mark));
    let trailing = lines.lines.iter().filter(noted).count();
    let all = lines.lines.len();
    if keys == 0 || braces * 20 > all || others * 10 > all {
        return None;
    }
    // Without sections other lines are the sign of something else: a program, a text.
    if sections == 0 && others * 20 > all {
        return None;
    }
    if sections == 0 && quoted * 10 >= keys * 9 {
        return None; // Texts: a template says more.
    }
    let mut settings: Settings = lines.comment_setting(&["#", ";"]).into_iter().collect();
    if goes_on > 0 {
        settings.push(("goes_on", "\"backslash\"".to_owned()));
    }
    if trailing > 0 {
        settings.push(("trailing", "true".to_owned()));
    }
    if has_head && sections > 0 {
        settings.push(("head", "\"head\"".to_owned()));
    }
    if others > 0 && sections > 0 {
        settings.push(("others", "true".to_owned()));
    }
    if sections > 0 && has_repeated_keys(lines) {
        settings.push(("repeated_keys", "\"apart\"".to_owned()));
    }
    if sections == 0 {
        // One record a file, if it turns out that several files have the same keys.
        settings.push(("head", "\"main\"".to_owned()));
        let mut shape = RecordShape::plain(Some("{stem}"));
        shape.columns = names.keys().map(|name| (*name).to_owned()).collect();
        shape.columns.sort();
        shape.whole_file = true;
        return Some(Recognised { kind: Ini::NAME, settings, shapes: vec![shape], doubt: None, root: None });
    }
    let mut shape = RecordShape::plain(Some("{section}"));
    shape.columns = names.keys().map(|name| (*name).to_owned()).collect();
    shape.columns.sort();
    Some(Recognised { kind: Ini::NAME, settings, shapes: vec![shape], doubt: None, root: None })
}

/// Whether a key stands twice in one section.
fn has_repeated_keys(lines: &Lines<'_>) -> bool {
    let mut of_section: std::collections::HashSet<&str> = std::collections::HashSet::new();
    lines.lines.iter().any(|line| {
        if line.trim().starts_with('[') {
            of_section.clear();
            return false;
        }
        line.split_once('=').is_some_and(|(key, _)| !of_section.insert(key.trim()))
    })
}

/// The shapes of several INI files that have the same sections: each section is a part of what the file is about. The
/// first of them, or the one that is called after nothing in particular, has no name of its own. `None` if files have
/// sections of their own, or hardly any file has more than one.
pub(super) fn by_file<'t>(texts: impl Iterator<Item = &'t str>) -> Option<Vec<RecordShape>> {
    /// Fewer files may have a section in common by chance.
    const FEWEST: usize = 3;
    const GENERAL: [&str; 8] = ["general", "main", "common", "info", "base", "basic", "header", "settings"];
    let (mut files, mut all) = (0, 0);
    // How many files have a section, and its keys.
    let mut sections: Vec<(String, usize, Vec<String>)> = Vec::new();
    for text in texts {
        files += 1;
        let mut of_file: Vec<usize> = Vec::new();
        for line in Lines::of(text).lines {
            let line = line.trim();
            let name = line.strip_prefix('[').and_then(|rest| Some(rest.split_once(']')?.0.trim()));
            if let Some(name) = name {
                let at = sections.iter().position(|(own, ..)| own == name).unwrap_or_else(|| {
                    sections.push((name.to_owned(), 0, Vec::new()));
                    sections.len() - 1
                });
                if of_file.contains(&at) {
                    return None;
                }
                of_file.push(at);
                (all, sections[at].1) = (all + 1, sections[at].1 + 1);
            } else if let (Some((key, _)), Some(at)) = (line.split_once('='), of_file.last()) {
                let (key, keys) = (key.trim(), &mut sections[*at].2);
                if !keys.iter().any(|own| own == key) {
                    keys.push(key.to_owned());
                }
            }
        }
    }
    let mut common: Vec<(String, usize, Vec<String>)> =
        sections.into_iter().filter(|(_, count, _)| *count >= FEWEST && count * 10 >= files * 6).collect();
    let count: usize = common.iter().map(|(_, count, _)| count).sum();
    let plain = |name: &str| !name.is_empty() && !name.contains(['{', '}', '[', ']']);
    if count * 10 < all * 9 || common.is_empty() || !common.iter().all(|(name, ..)| plain(name)) {
        return None;
    }
    let general = common.iter().position(|(name, ..)| GENERAL.contains(&name.to_lowercase().as_str()));
    let main = common.remove(general.unwrap_or(0));
    let shape = |(section, _, mut columns): (String, usize, Vec<String>), named: bool| {
        columns.sort();
        RecordShape {
            name: named.then(|| section.clone()),
            records: Some(("section", section)),
            columns,
            ..RecordShape::plain(Some("{stem}"))
        }
    };
    Some(std::iter::once(shape(main, false)).chain(common.into_iter().map(|own| shape(own, true))).collect())
}

/// The shapes of sections that are there again and again, `[BOAT]`, and so are kinds of records rather than their names: one for
/// each kind. `None` if there is only one, or some section is there once.
fn by_repeated_name(sections: &[(String, Vec<String>)]) -> Option<Vec<RecordShape>> {
    /// Of fewer sections two may have one name by mistake.
    const FEWEST: usize = 3;
    let mut kinds: Vec<(&str, usize, Vec<String>)> = Vec::new();
    for (name, keys) in sections {
        let at = kinds.iter().position(|(own, ..)| own == name).unwrap_or_else(|| {
            kinds.push((name, 0, Vec::new()));
            kinds.len() - 1
        });
        kinds[at].1 += 1;
        for key in keys {
            if !kinds[at].2.contains(key) {
                kinds[at].2.push(key.clone());
            }
        }
    }
    let is_kind =
        |(name, count, _): &(&str, usize, Vec<String>)| *count >= FEWEST && !name.contains(['{', '}']);
    if kinds.len() < 2 || !kinds.iter().all(is_kind) {
        return None;
    }
    let shape = |(name, _, mut columns): (&str, usize, Vec<String>)| {
        columns.sort();
        RecordShape {
            records: Some(("section", name.to_owned())),
            name: Some(name.to_owned()),
            columns,
            kind: true,
            ..RecordShape::plain(None)
        }
    };
    Some(kinds.into_iter().map(shape).collect())
}

/// The shapes of INI files whose sections say of what kind they are, `[boat scow]` or `[boat:scow]`: one for each kind. `None`
/// if they do not.
pub(super) fn by_kind<'t>(texts: impl Iterator<Item = &'t str>) -> Option<Vec<RecordShape>> {
    /// Of fewer sections two may begin with the same word by chance.
    const FEWEST: usize = 3;
    let mut sections: Vec<(String, Vec<String>)> = Vec::new();
    let mut again = 0;
    for text in texts {
        let mut of_file: std::collections::HashSet<String> = std::collections::HashSet::new();
        for line in text.lines().map(str::trim).filter(|line| !line.starts_with([';', '#'])) {
            if let Some(name) = line.strip_prefix('[').and_then(|rest| Some(rest.split_once(']')?.0)) {
                again += usize::from(!of_file.insert(name.trim().to_owned()));
                sections.push((name.trim().to_owned(), Vec::new()));
            } else if let (Some((key, _)), Some(own)) = (line.split_once('='), sections.last_mut()) {
                own.1.push(key.trim().to_owned());
            }
        }
    }
    if let Some(found) = by_repeated_name(&sections).filter(|_| again * 2 > sections.len()) {
        return Some(found);
    }
    let is_word = |word: &str| word.chars().all(|next| next.is_alphanumeric() || next == '_' || next == '-');
    for sign in [" ", ":", "/", "."] {
        let mut kinds: Vec<(&str, Vec<&str>, Vec<String>)> = Vec::new();
        let mut others = 0;
        for (section, keys) in &sections {
            let Some((kind, name)) = section.split_once(sign).filter(|(kind, name)| {
                !kind.is_empty()
                    && is_word(kind)
                    && !name.trim().is_empty()
                    && !name.contains(['{', '}', '['])
            }) else {
                others += 1;
                continue;
            };
            let at = kinds.iter().position(|(own, ..)| *own == kind).unwrap_or_else(|| {
                kinds.push((kind, Vec::new(), Vec::new()));
                kinds.len() - 1
            });
            kinds[at].1.push(name);
            for key in keys {
                if !kinds[at].2.contains(key) {
                    kinds[at].2.push(key.clone());
                }
            }
        }
        let several =
            kinds.iter().filter(|(_, names, _)| names.len() >= FEWEST).map(|(_, names, _)| names.len());
        if several.sum::<usize>() * 10 < sections.len() * 9
            || others * 10 > sections.len()
            || kinds.is_empty()
        {
            continue;
        }
        let shape = |(kind, _, mut columns): (&str, Vec<&str>, Vec<String>)| {
            columns.sort();
            columns.insert(0, "{name}".to_owned());
            RecordShape {
                records: Some(("section", format!("{kind}{sign}{{name}}"))),
                name: Some(kind.to_owned()),
                columns,
                kind: true,
                ..RecordShape::plain(Some("{name}"))
            }
        };
        return Some(kinds.into_iter().map(shape).collect());
    }
    None
}

/// The shape of INI files with sections: a key that stands in many sections is a field of records; if
/// hardly any does, each key is a record of its own.
pub(super) fn by_key_or_section<'t>(texts: impl Iterator<Item = &'t str>) -> RecordShape {
    let mut names: HashMap<String, usize> = HashMap::new();
    let (mut sections, mut keys) = (0, 0);
    for text in texts {
        for line in Lines::of(text).lines {
            match line.trim().split_once('=') {
                Some((key, _)) if !line.trim().starts_with('[') => {
                    keys += 1;
                    *names.entry(key.trim().to_owned()).or_default() += 1;
                }
                _ => sections += 1,
            }
        }
    }
    let common: usize = names.values().filter(|count| **count > 1).sum();
    if sections < 2 || common * 2 < keys {
        return RecordShape {
            records: Some(("records", "keys".to_owned())),
            ..RecordShape::plain(Some("{section}/{key}"))
        };
    }
    let mut shape = RecordShape::plain(Some("{section}"));
    shape.columns = names.into_keys().collect();
    shape.columns.sort();
    shape
}

/// Whether `key` can stand before a `=`: short, and without signs of other formats.
fn is_key(key: &str) -> bool {
    let key = key.trim();
    !key.is_empty()
        && key.len() <= 80
        && !key.contains(['{', '}', '"', '\'', '(', ';', ',', '|', '\t'])
        && key.split_whitespace().count() <= 4
}

/// The brackets around lists of words: those that stand behind a blank or a sign, and are closed as often as they are opened.
fn lists_in(lines: &Lines<'_>) -> Vec<(char, char)> {
    let is_list = |(open, close): &(char, char)| {
        let text = || lines.lines.iter().flat_map(|line| std::iter::once(' ').chain(line.chars()));
        let opened = text().zip(text().skip(1)).filter(|(_, next)| next == open);
        let (mut count, mut apart) = (0usize, 0usize);
        for (before, _) in opened {
            count += 1;
            apart += usize::from(before.is_whitespace() || "=:,([".contains(before));
        }
        let closed = text().filter(|next| next == close).count();
        count > 0 && count == closed && apart * 10 >= count * 9
    };
    [('(', ')'), ('[', ']')].into_iter().filter(is_list).collect()
}

/// Whether the lines are those of a program: statements that end with a semicolon or open a body after brackets, with words
/// that programs use.
fn is_code(lines: &Lines<'_>) -> bool {
    const WORDS: [&str; 30] = [
        "function",
        "return",
        "var",
        "let",
        "const",
        "local",
        "import",
        "export",
        "class",
        "struct",
        "public",
        "private",
        "static",
        "void",
        "int",
        "def",
        "fn",
        "pub",
        "use",
        "namespace",
        "using",
        "package",
        "foreach",
        "for",
        "while",
        "switch",
        "case",
        "throw",
        "try",
        "if",
    ];
    let is_statement = |line: &&&str| {
        let line = line.trim();
        line.ends_with(';') || line.ends_with("){") || line.ends_with(") {") || line.ends_with("});")
    };
    let has_word = |line: &&&str| {
        let (word, rest) =
            line.trim().split_at(line.trim().find([' ', '(', ';']).unwrap_or(line.trim().len()));
        WORDS.contains(&word) && !rest.trim_start().starts_with(['=', '{'])
    };
    let count = |wanted: &dyn Fn(&&&str) -> bool| lines.lines.iter().filter(|line| wanted(line)).count();
    let calls = |line: &&&str| line.contains('(') && line.contains(')');
    let all = lines.lines.len();
    count(&is_statement) * 4 >= all && count(&has_word) * 10 >= all && count(&calls) * 10 >= all
}

fn blocks(text: &Text<'_>, lines: &Lines<'_>) -> Option<Recognised> {
    let opened = lines.lines.iter().filter(|line| line.contains('{')).count();
    let closed = lines.lines.iter().filter(|line| line.contains('}')).count();
    if opened == 0 || closed == 0 || (opened + closed) * 20 < lines.lines.len() || is_code(lines) {
        return None;
    }
    let with = |sign: char| lines.lines.iter().filter(|line| line.contains(sign)).count();
    let of_colon = |line: &&&str| {
        line.trim().split_once(':').is_some_and(|(name, _)| {
            !name.is_empty() && name.chars().all(|next| next.is_alphanumeric() || "_-.\"".contains(next))
        })
    };
    let (equals, colons) = (with('='), lines.lines.iter().filter(of_colon).count());
    let (assigned, sign) = if colons > equals { (colons, ':') } else { (equals, '=') };
    let mut comments: Vec<String> = lines.marks.iter().map(|mark| (*mark).to_owned()).collect();
    let include =
        lines.lines.iter().find_map(|line| line.trim().strip_prefix('#')?.split_whitespace().next());
    let include = include.filter(|word| word.chars().all(char::is_alphabetic)).map(|word| format!("#{word}"));
    if comments.is_empty() {
        comments.push(if include.is_some() { "//" } else { "#" }.to_owned());
    }
    let assign = (assigned * 5 >= lines.lines.len()).then_some(sign);
    let lists = lists_in(lines);
    let escapes = text.as_str().contains("\\\"");
    let format = Blocks {
        records: BlockPath::parse("*", false).ok()?,
        taken: Taken::Blocks,
        assign,
        comments: comments.clone(),
        block_comment: None,
        separators: vec![',', ';'],
        lists: lists.clone(),
        bare_entries: false,
        escapes,
        over_lines: false,
        include: include.clone(),
    };
    let mut found = Counter::default();
    format.read(text, &[], &mut found);
    // In a small file one brace that is missing weighs much; it is no other format for that.
    let mostly_braces = (opened + closed) * 4 > lines.lines.len();
    let allowed = (lines.lines.len() / 20).max(usize::from(mostly_braces));
    if found.faults.len() > allowed {
        return None;
    }
    let mut outline = Outline::default();
    format.outline(text, &mut outline);
    let mut settings = Settings::new();
    match assign {
        Some('=') => {}
        Some(sign) => settings.push(("assign", toml_text(&sign.to_string()))),
        None => settings.push(("assign", "\"\"".to_owned())),
    }
    let shown: Vec<String> = lists.iter().map(|(open, close)| toml_text(&format!("{open}{close}"))).collect();
    match shown.as_slice() {
        [] => {}
        [one] => settings.push(("lists", one.clone())),
        many => settings.push(("lists", format!("[{}]", many.join(", ")))),
    }
    if comments != ["#"] {
        let shown: Vec<String> = comments.iter().map(|mark| toml_text(mark)).collect();
        settings.push(match shown.as_slice() {
            [one] => ("comment", one.clone()),
            many => ("comment", format!("[{}]", many.join(", "))),
        });
    }
    if escapes {
        settings.push(("escapes", "true".to_owned()));
    }
    if let Some(include) = include {
        settings.push(("include", toml_text(&include)));
    }
    let shapes = shapes_of(&outline, Blocks::NAME, 1);
    // Names with brackets in them are none: these are signs that say something else there.
    let is_sign = |name: &str| name != crate::formats::ITEM && name.contains(['[', ']', '(', ')']);
    if outline.nodes.iter().any(|node| !node.children.is_empty() && is_sign(&node.name)) {
        return None;
    }
    let nests = outline.nodes.iter().any(|node| !node.children.is_empty() && !node.name.is_empty());
    nests.then_some(Recognised { kind: Blocks::NAME, settings, shapes, doubt: None, root: None })
}

/// A line that is a word with a value: `length 20`, `crew = "tow"`.
struct Headed<'t> {
    word: &'t str,
    /// What stands between them.
    sign: &'t str,
    value: &'t str,
}

impl<'t> Headed<'t> {
    fn of(line: &'t str) -> Option<Headed<'t>> {
        let line = line.trim();
        let is_part = |next: char| next.is_alphanumeric() || next == '_' || next == '-';
        let (word, rest) = line.split_at(line.find(|next| !is_part(next))?);
        let value = rest.trim_start_matches([' ', '=', ':']);
        let sign = &rest[..rest.len() - value.len()];
        let plain = sign.chars().filter(|next| *next != ' ').count() < 2;
        let is_line = word.starts_with(char::is_alphabetic)
            && !(sign.is_empty() || value.is_empty())
            && !line.contains(['{', '}', '<', ';']);
        (plain && is_line).then_some(Headed { word, sign, value })
    }

    fn is_quoted(&self) -> bool {
        self.value.len() > 1 && self.value.starts_with('"') && self.value.ends_with('"')
    }

    /// A template of such lines, whose part is called as the word.
    fn template(&self, quoted: bool) -> String {
        let sign = match self.sign.trim() {
            "" => " ".to_owned(),
            _ => self.sign.to_owned(),
        };
        let quote = if quoted { "\"" } else { "" };
        format!("{}{sign}{quote}{{{}}}{quote}", self.word, self.word)
    }
}

/// Records of several lines: words that come again and again in the same order, each with a value.
fn several_lines(lines: &Lines<'_>) -> Option<Recognised> {
    /// Fewer records may be like each other by chance.
    const FEWEST: usize = 3;
    /// A record has at most so many lines.
    const MOST: usize = 24;
    let all: Vec<Headed<'_>> = lines.lines.iter().map(|line| Headed::of(line)).collect::<Option<_>>()?;
    let count = all.iter().skip(1).position(|line| line.word == all[0].word)? + 1;
    let record = &all[..count];
    let different: std::collections::HashSet<&str> = record.iter().map(|line| line.word).collect();
    if !(2..=MOST).contains(&count) || all.len() < count * FEWEST || different.len() < count {
        return None;
    }
    let is_like = |(at, line): (usize, &Headed<'_>)| {
        line.word == record[at % count].word && line.sign.trim() == record[at % count].sign.trim()
    };
    // A sample of a long file may end within a record.
    if !all.iter().enumerate().all(is_like) || (!all.len().is_multiple_of(count) && all.len() < SAMPLE_LINES)
    {
        return None;
    }
    let templates: Vec<String> = (0..count)
        .map(|at| {
            let quoted = all.iter().skip(at).step_by(count).all(Headed::is_quoted);
            record[at].template(quoted)
        })
        .collect();
    let shown: Vec<String> = templates.iter().map(|template| format!("'{template}'")).collect();
    let mut settings: Settings = vec![("line", format!("[{}]", shown.join(", ")))];
    settings.extend(lines.comment_setting(&[]));
    let mut shape = RecordShape::plain(Some(record[0].word));
    shape.columns = record.iter().map(|line| line.word.to_owned()).collect();
    Some(Recognised { kind: formats::Lines::NAME, settings, shapes: vec![shape], doubt: None, root: None })
}

/// Lines of one shape below lines of another that hold for those after them: a folder, and the files in it.
fn carried(lines: &Lines<'_>) -> Option<Recognised> {
    let first = Headed::of(lines.lines.first()?)?;
    let is_head = |line: &&&str| {
        Headed::of(line).is_some_and(|line| line.word == first.word && line.sign.trim() == first.sign.trim())
    };
    let heads: Vec<&str> = lines.lines.iter().filter(is_head).copied().collect();
    let rest: Vec<&str> = lines.lines.iter().filter(|line| !is_head(line)).copied().collect();
    let one_after_another = lines.lines.windows(2).any(|two| two.iter().all(|line| is_head(&line)));
    if heads.len() < 2 || rest.len() < heads.len() * 2 || one_after_another {
        return None;
    }
    let below = Lines { lines: rest, marks: lines.marks.clone(), note_above: None };
    let mut found = template(&below, false)?;
    let shape = found.shapes.first_mut()?;
    let all_fit = !found.settings.iter().any(|(name, _)| *name == "others");
    if !all_fit || shape.columns.iter().any(|column| column == first.word) {
        return None;
    }
    let is_quoted = heads.iter().all(|line| Headed::of(line).is_some_and(|line| line.is_quoted()));
    found.settings.push(("carry", format!("'{}'", first.template(is_quoted))));
    shape.columns.insert(0, first.word.to_owned());
    Some(found)
}

/// Lines of one shape: texts under keys, or a word with a value. `apart` tells whether what they name must differ.
fn template(lines: &Lines<'_>, apart: bool) -> Option<Recognised> {
    // Nested things are no lines.
    let nested = lines.lines.iter().filter(|line| line.trim_end().ends_with(['{', '}'])).count();
    if nested * 5 > lines.lines.len() {
        return None;
    }
    let word = first_word(&lines.lines);
    let mut tried: Vec<String> = [
        "{key} = \"{text}\"",
        "{key}=\"{text}\"",
        "{key}: \"{text}\"",
        "{key} \"{text}\"",
        "\"{key}\" = \"{text}\"",
        "\"{key}\" \"{text}\"",
    ]
    .map(str::to_owned)
    .to_vec();
    if let Some(word) = word {
        let of_word = [format!("{word} \"{{value}}\""), format!("{word} {{value}}")];
        // Where names may come again, so may the word: it is none of them.
        let at = if apart { tried.len() } else { 0 };
        tried.splice(at..at, of_word);
    }
    tried.push("{key} = {text}".to_owned());
    tried.push("{key}: {text}".to_owned());
    for source in tried {
        let template = Template::parse(&source).ok()?;
        let fits =
            |line: &&&str| template.matches(line.trim()).is_some_and(|parts| key_is_short(line, &parts));
        let fitting = lines.lines.iter().filter(fits).count();
        let different = || {
            let key = |line: &&str| {
                template
                    .matches(line.trim())
                    .and_then(|parts| Some(line.trim().get(parts.first()?.clone()?)?.to_owned()))
            };
            lines.lines.iter().filter_map(key).collect::<std::collections::HashSet<_>>().len()
        };
        if fitting >= 2
            && fitting * 10 >= lines.lines.len() * 8
            && (!apart || different() * 10 >= fitting * if template.parts().len() > 1 { 5 } else { 9 })
        {
            let key = template.parts().first().cloned().unwrap_or_default();
            let mut settings: Settings = vec![("line", format!("'{source}'"))];
            settings.extend(lines.comment_setting(&[]));
            if fitting < lines.lines.len() {
                settings.push(("others", "true".to_owned()));
            }
            let mut shape = RecordShape::plain(Some(&key));
            shape.columns = template.parts().to_vec();
            return Some(Recognised {
                kind: formats::Lines::NAME,
                settings,
                shapes: vec![shape],
                doubt: None,
                root: None,
            });
        }
    }
    // A list of names, one a line.
    let name = |line: &&&str| !line.trim().contains([' ', '\t', '{', '<', '=', '"']) && line.len() < 200;
    let names = lines.lines.iter().filter(name).count();
    let different: std::collections::HashSet<&str> = lines.lines.iter().map(|line| line.trim()).collect();
    (names >= 3 && names == lines.lines.len() && (!apart || different.len() == names)).then(|| {
        let mut shape = RecordShape::plain(Some("value"));
        shape.columns = vec!["value".to_owned()];
        let mut settings: Settings = vec![("line", "'{value}'".to_owned())];
        settings.extend(lines.comment_setting(&[]));
        Recognised { kind: formats::Lines::NAME, settings, shapes: vec![shape], doubt: None, root: None }
    })
}

fn key_is_short(line: &str, parts: &[Option<std::ops::Range<usize>>]) -> bool {
    let key = parts.first().and_then(|part| line.trim().get(part.clone()?));
    key.is_some_and(|key| key.len() <= 80 && (parts.len() == 1 || !key.contains(' ')))
}

/// The word that most lines begin with, if it is one word.
fn first_word<'t>(lines: &[&'t str]) -> Option<&'t str> {
    let mut counts: HashMap<&str, usize> = HashMap::new();
    for line in lines {
        *counts.entry(line.split_whitespace().next()?).or_default() += 1;
    }
    let (word, count) = counts.into_iter().max_by_key(|(word, count)| (*count, *word))?;
    let plain = word.chars().all(|next| next.is_alphanumeric() || "_#-".contains(next));
    (plain && count >= 3 && count * 10 >= lines.len() * 8).then_some(word)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// What a text is recognised as: its format, and the columns and key of its first shape.
    fn told(text: &str) -> String {
        let Some(what) = recognise(&Text::of_file(text)) else { return "nothing".to_owned() };
        let shape = what.shapes.first().cloned().unwrap_or_default();
        let format = format_source(what.kind, shape.records.as_ref(), &what.settings);
        format!("{format} [{}] {}", shape.columns.join(" "), shape.key.unwrap_or_default())
    }

    #[rstest]
    #[case::each_has_the_same(&["[cargo]\na = 1\n[General]\nb = 2\n"; 3], "General=b, cargo as cargo=a")]
    #[case::one_lacks_one(
        &["[x]\na = 1\n[y]\nb = 2\n", "[x]\na = 1\n[y]\nb = 2\n", "[x]\na = 1\n", "[x]\nc = 1\n[y]\nb = 2\n"],
        "x=a c, y as y=b"
    )]
    #[case::sections_of_their_own(&["[p]\na = 1\n[q]\na = 2\n", "[r]\na = 1\n", "[s]\na = 1\n"], "none")]
    #[case::too_few_files(&["[x]\na = 1\n[y]\nb = 2\n"; 2], "none")]
    #[case::the_same_twice_in_a_file(&["[x]\na = 1\n[x]\na = 2\n"; 3], "none")]
    fn sections_that_all_files_have(#[case] texts: &[&str], #[case] expected: &str) {
        let shown = |shape: RecordShape| {
            let name = shape.name.map(|name| format!(" as {name}")).unwrap_or_default();
            format!(
                "{}{name}={}",
                shape.records.map(|(_, section)| section).unwrap_or_default(),
                shape.columns.join(" ")
            )
        };
        let found = by_file(texts.iter().copied());
        let told = found.map(|own| own.into_iter().map(shown).collect::<Vec<_>>().join(", "));
        assert_eq!(told.as_deref().unwrap_or("none"), expected);
    }

    #[rstest]
    #[case::tabs("A\tB\n1\tx\n2\ty\n", r#"{ kind = "delimited" } [A B] "#)]
    #[case::notes_in_tabs("# all\nA\tB\n1\tx\n2\ty\n", r##"{ kind = "delimited", comment = "#" } [A B] "##)]
    #[case::quotes("A;B\n\"x;y\";2\nz;3\n", r#"{ kind = "delimited", delimiter = ";" } [A B] "#)]
    #[case::no_header(
        "n,1\nm,2\no,3\np,4\n",
        r#"{ kind = "delimited", delimiter = ",", header = false, columns = ["A", "B"] } [A B] "#
    )]
    #[case::a_header_in_a_note(
        "# from|to|days\na|b|1\nc|d|2\ne|f|3\na|f|4\n",
        r##"{ kind = "delimited", delimiter = "|", comment = "#", header = false, columns = ["from", "to", "days"] } [from to days] "##
    )]
    #[case::texts_without_header(
        "door.a\tThe gate\ndoor.b\tA lock\ndoor.c\tSome pier\ndoor.d\tQuay\n",
        r#"{ kind = "delimited", header = false, columns = ["A", "B"] } [A B] "#
    )]
    #[case::blanks_with_a_header(
        "id  name   depth\n1   mill   2\n2   cut    3.5\n3   weir   1\n",
        r#"{ kind = "delimited", delimiter = "blanks" } [id name depth] "#
    )]
    #[case::a_row_of_types(
        "Boat,Hold,Crew\nstring,int,crew\nmill,3,tow\nweir,4,sail\npool,2,tow\n",
        r#"{ kind = "delimited", delimiter = ",", comment = "string,int,crew" } [Boat Hold Crew] "#
    )]
    #[case::a_row_of_types_among_notes(
        "# all\nBoat;Hold\nText;Int\nmill;3\nweir;4\npool;2\n",
        r##"{ kind = "delimited", delimiter = ";", comment = ["#", "Text;Int"] } [Boat Hold] "##
    )]
    #[case::cells_with_an_equals_sign(
        "Good,Cargo\na,x=1\nb,y=2\nc,x=2;y=1\n",
        r#"{ kind = "delimited", delimiter = "," } [Good Cargo] "#
    )]
    #[case::blanks_and_words(
        "# id kind home\na  x  p\nb  y  q\nc  x  p\nd  y  q\ne  x  p\nf  y  q\ng  x  p\nh  y  q\n",
        r##"{ kind = "delimited", delimiter = "blanks", comment = "#", header = false, columns = ["id", "kind", "home"] } [id kind home] "##
    )]
    #[case::one_word_in_front(
        "load a x\nload b y\nload c x\nload d y\nload e x\nload f y\nload g x\nload h y\n",
        r#"{ kind = "lines", line = 'load {value}' } [value] value"#
    )]
    #[case::blanks_with_a_note(
        "; id x name\n1   12.5  mill\n2   3     cut\n30  8.25  weir\n4   7     lock\n",
        r#"{ kind = "delimited", delimiter = "blanks", comment = ";", header = false, columns = ["id", "x", "name"] } [id x name] "#
    )]
    #[case::sections("[a]\nx = 1\n[b]\nx = 2\n", r#"{ kind = "ini" } [x] {section}"#)]
    #[case::more_lines(
        "[a]\nx = 1, \\\n  2\n[b]\nx = 2 ; two\n",
        r#"{ kind = "ini", goes_on = "backslash", trailing = true } [x] {section}"#
    )]
    #[case::texts(
        "a_b = \"One\"\nc_d = \"Two of them\"\n",
        r#"{ kind = "lines", line = '{key} = "{text}"' } [key text] key"#
    )]
    #[case::words(
        "load \"a/b\"\nload \"c/d\"\nload \"e/f\"\n",
        r#"{ kind = "lines", line = 'load "{value}"' } [value] value"#
    )]
    #[case::records_of_several_lines(
        "barge coal_hopper\nlength 20\nname \"Old one\"\nbarge ice_sled\nlength 9\nname \"New\"\nbarge punt\nlength 4\nname \"-\"\n",
        r#"{ kind = "lines", line = ['barge {barge}', 'length {length}', 'name "{name}"'] } [barge length name] barge"#
    )]
    #[case::records_of_several_lines_with_signs(
        "barge = a\n  crew = x y\nbarge = b\n  crew = z\nbarge = c\n  crew = x\n",
        r#"{ kind = "lines", line = ['barge = {barge}', 'crew = {crew}'] } [barge crew] barge"#
    )]
    #[case::one_that_is_cut_short_is_none(
        "barge a\ncrew x\nbarge b\ncrew y\nbarge c\ncrew x\nbarge d\n",
        "nothing"
    )]
    #[case::lines_that_hold_for_others(
        "folder sounds/low\nfile \"a.wav\"\nfile \"b.wav\"\nfolder sounds/high\nfile \"a.wav\"\nfile \"c.wav\"\n",
        r#"{ kind = "lines", line = 'file "{value}"', carry = 'folder {folder}' } [folder value] value"#
    )]
    #[case::names("coal\npeat\nsalt\n", r#"{ kind = "lines", line = '{value}' } [value] value"#)]
    #[case::po("msgid \"a\"\nmsgstr \"b\"\n", r#"{ kind = "po" } [] msgid"#)]
    #[case::list("[{\"a\": 1, \"b\": {\"c\": 2}}]", r#"{ kind = "json", records = "$[*]" } [a b.c] "#)]
    #[case::lenient(
        "[{\"a\": 1,}, // one\n{\"a\": 2}]",
        r#"{ kind = "json", records = "$[*]", comments = true, trailing_commas = true } [a] "#
    )]
    #[case::map(
        "{\"x\": {\"a\": 1}, \"y\": {\"a\": 2}, \"z\": {\"a\": 3}}",
        r#"{ kind = "json", records = "$.*" } [{member} a] {member}"#
    )]
    #[case::one_record(
        "{\"a\": 1, \"b\": [\"x\", \"y\"]}",
        r#"{ kind = "json", records = "$" } [a b[*]] {stem}"#
    )]
    #[case::names_that_vary(
        r#"[{"id": 1, "cost": {"a": 1, "b": 2}}, {"id": 2, "cost": {"c": 1, "d": 2}}, {"id": 3, "cost": {"e": 1}}]"#,
        r#"{ kind = "json", records = "$[*]" } [id cost.*.{member} cost.*] "#
    )]
    #[case::names_that_vary_in_a_map(
        r#"{"x": {"a": 1, "b": 2}, "y": {"c": 1, "d": 2}, "z": {"e": 1}}"#,
        r#"{ kind = "json", records = "$.*" } [{member} *.{member} *] {member}"#
    )]
    #[case::fields_that_some_lack(
        r#"[{"at": {"x": 1, "y": 2, "z": 1}}, {"at": {"x": 3, "y": 1, "w": 1}}, {"at": {"x": 1, "v": 2}}]"#,
        r#"{ kind = "json", records = "$[*]" } [at.x at.y at.z at.w at.v] "#
    )]
    #[case::names_that_vary_in_blocks(
        "a = { cost = { p = 1 q = 2 } }\nb = { cost = { r = 1 s = 1 } }\nc = { cost = { t = 3 } }\n",
        r#"{ kind = "blocks", records = "*" } [{name} cost/*/{name} cost/*] {name}"#
    )]
    #[case::records_inside_records(
        "<h><quay name=\"a\"><berth id=\"1\"/><berth id=\"2\"/></quay><quay name=\"b\"><berth id=\"3\"/></quay></h>",
        r#"{ kind = "xml", records = "/h/quay" } [@name berth/@id] "#
    )]
    #[case::elements(
        "<r><e id=\"1\"><n>x</n></e><e id=\"2\"/></r>",
        r#"{ kind = "xml", records = "/r/e" } [@id n] "#
    )]
    #[case::nested_elements(
        "<r><e id=\"1\"><e id=\"2\"/></e></r>",
        r#"{ kind = "xml", records = "//e" } [@id] "#
    )]
    #[case::blocks(
        "t = {\n a = {\n x = 1\n }\n b = {\n x = 2\n }\n}\n",
        r#"{ kind = "blocks", records = "t/*" } [{name} x] {name}"#
    )]
    #[case::a_brace_is_missing(
        "t = {\n  a = {\n    x = 1\n    y = { 1 2 }\n  b = {\n    x = 2\n  }\n}\n",
        r#"{ kind = "blocks", records = "t/*" } [{name} x y] {name}"#
    )]
    #[case::labels(
        "gate north {\n cost 3\n}\ngate south {\n cost 4\n}\n",
        r#"{ kind = "blocks", records = "gate", assign = "" } [{label} cost] "#
    )]
    #[case::prose("It was a quiet day.\nNobody came, and nothing was said.\n", "nothing")]
    #[case::empty("", "nothing")]
    #[case::one_line("Lonely\tRow\n", "nothing")]
    fn by_content(#[case] text: &str, #[case] expected: &str) {
        assert_eq!(told(text), expected);
    }
}
