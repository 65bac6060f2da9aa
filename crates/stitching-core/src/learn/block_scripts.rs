//! Recognising nested scripts with braces, and telling them from programs.

use super::recognise::{Counter, Lines, Recognised, Settings};
use super::shapes::shapes_of;
use crate::formats::{BlockPath, Blocks, Format, Nesting, Outline, Taken};
use crate::settings::toml_text;
use crate::text::Text;

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

/// Whether each brace of a line stands around a name and nothing else, as in a text with `{count}` in it.
fn opens_only_names(line: &str) -> bool {
    let is_name = |rest: &str| {
        rest.split_once('}')
            .is_some_and(|(name, _)| !name.is_empty() && name.chars().all(char::is_alphanumeric))
    };
    line.split('{').skip(1).all(is_name)
}

pub(super) fn blocks(text: &Text<'_>, lines: &Lines<'_>) -> Option<Recognised> {
    let opened = lines.lines.iter().filter(|line| line.contains('{')).count();
    let closed = lines.lines.iter().filter(|line| line.contains('}')).count();
    if lines.lines.iter().all(|line| opens_only_names(line)) {
        return None;
    }
    if opened == 0 || closed == 0 || (opened + closed) * 20 < lines.lines.len() || is_code(lines) {
        return None;
    }
    // A comparison, as conditions have it, gives nothing a value.
    let of_equals = |line: &&&str| {
        let line =
            ["==", "<=", ">=", "!="].iter().fold((**line).to_owned(), |line, sign| line.replace(sign, ""));
        line.contains('=')
    };
    let of_colon = |line: &&&str| {
        line.trim().split_once(':').is_some_and(|(name, _)| {
            !name.is_empty() && name.chars().all(|next| next.is_alphanumeric() || "_-.\"".contains(next))
        })
    };
    let equals = lines.lines.iter().filter(of_equals).count();
    let colons = lines.lines.iter().filter(of_colon).count();
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
        nesting: Nesting::Braces,
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
    nests.then_some(Recognised::new(Blocks::NAME, settings, shapes))
}
