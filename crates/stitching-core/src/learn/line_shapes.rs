//! Recognising lines of known shapes: texts under keys, words with values, records of several lines, lines that hold for others.

use super::recognise::{Lines, Recognised, SAMPLE_LINES, Settings};
use super::shapes::RecordShape;
use crate::formats::Lines as LinesFormat;
use crate::text::Template;
use std::collections::{BTreeMap, HashMap, HashSet};

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
pub(super) fn several_lines(lines: &Lines<'_>) -> Option<Recognised> {
    /// Fewer records may be like each other by chance.
    const FEWEST: usize = 3;
    /// A record has at most so many lines.
    const MOST: usize = 24;
    let all: Vec<Headed<'_>> = lines.lines.iter().map(|line| Headed::of(line)).collect::<Option<_>>()?;
    let count = all.iter().skip(1).position(|line| line.word == all[0].word)? + 1;
    let record = &all[..count];
    let different: HashSet<&str> = record.iter().map(|line| line.word).collect();
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
    Some(Recognised::new(LinesFormat::NAME, settings, vec![shape]))
}

/// Lines of one shape below lines of another that hold for those after them: a folder, and the files in it.
pub(super) fn carried(lines: &Lines<'_>) -> Option<Recognised> {
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

/// Lines of so many words each, of which some are always the same: `give coal 3 to tow`. What stands between is called after the word
/// before it.
pub(super) fn words_in_place(lines: &Lines<'_>) -> Option<Recognised> {
    const FEWEST_LINES: usize = 4;
    const WORDS: std::ops::RangeInclusive<usize> = 3..=9;
    let all: Vec<Vec<String>> = lines.lines.iter().map(|line| words_of(line)).collect();
    let count = all.first().map_or(0, Vec::len);
    let fits = |words: &&Vec<String>| words.len() == count && words.iter().all(|word| is_plain_word(word));
    let fitting: Vec<&Vec<String>> = all.iter().filter(fits).collect();
    if !WORDS.contains(&count) || fitting.len() < FEWEST_LINES || fitting.len() * 10 < all.len() * 9 {
        return None;
    }
    let (source, columns) = template_of_words(&fitting)?;
    // A list of numbers, or of words of a sentence, has no word that is always there.
    if columns.len() < 2 || columns.len() == count {
        return None;
    }
    let mut settings: Settings = vec![("line", format!("'{source}'"))];
    settings.extend(lines.comment_setting(&[]));
    if fitting.len() < lines.lines.len() {
        settings.push(("others", "true".to_owned()));
    }
    let shape = RecordShape { columns, ..RecordShape::plain(None) };
    Some(Recognised::new(LinesFormat::NAME, settings, vec![shape]))
}

/// Lines of words that begin with one of a few words, after which as many follow each time: `give owls coal 3`, `open gate`. Each first
/// word is a table of its own.
pub(super) fn commands(lines: &Lines<'_>) -> Option<Recognised> {
    const FEWEST_LINES: usize = 6;
    const MOST_WORDS: usize = 9;
    let mut groups: BTreeMap<&str, Vec<Vec<String>>> = BTreeMap::new();
    for line in &lines.lines {
        let first = line.split_whitespace().next()?;
        groups.entry(first).or_default().push(words_of(line));
    }
    let is_command = |(word, group): &(&str, Vec<Vec<String>>)| {
        let count = group[0].len();
        let is_word = word.chars().all(|next| next.is_alphabetic() || "_-".contains(next));
        let fits = |words: &Vec<String>| words.len() == count && words.iter().all(|word| is_plain_word(word));
        is_word && group.len() > 1 && (2..=MOST_WORDS).contains(&count) && group.iter().all(fits)
    };
    let groups: Vec<(&str, Vec<Vec<String>>)> = groups.into_iter().filter(is_command).collect();
    let covered: usize = groups.iter().map(|(_, group)| group.len()).sum();
    if groups.len() < 2 || covered < FEWEST_LINES || covered * 10 < lines.lines.len() * 8 {
        return None;
    }
    let mut shapes = Vec::new();
    for (word, group) in &groups {
        let (source, columns) = template_of_words(&group.iter().collect::<Vec<_>>())?;
        if columns.is_empty() {
            continue;
        }
        let (records, name) = (Some(("line", source)), Some((*word).to_owned()));
        shapes.push(RecordShape { records, name, columns, ..RecordShape::plain(None) });
    }
    let mut settings: Settings = lines.comment_setting(&[]).into_iter().collect();
    settings.push(("others", "true".to_owned()));
    (!shapes.is_empty()).then(|| Recognised::new(LinesFormat::NAME, settings, shapes))
}

fn words_of(line: &str) -> Vec<String> {
    line.split_whitespace().map(str::to_owned).collect()
}

fn is_plain_word(word: &str) -> bool {
    !word.contains(['"', '\'', '{', '}', '[', ']', '=', '<', '>', ';', ','])
}

/// The template of lines of as many words each, and its parts: a word that is always the same, and what stands between such, called
/// after the word before it.
fn template_of_words(all: &[&Vec<String>]) -> Option<(String, Vec<String>)> {
    let count = all.first()?.len();
    let (mut source, mut columns): (Vec<String>, Vec<String>) = (Vec::new(), Vec::new());
    let mut before: Option<&str> = None;
    for at in 0..count {
        let first = all[0][at].as_str();
        let is_name = first.chars().all(|next| next.is_alphabetic() || "_-".contains(next));
        if is_name && all.iter().all(|words| words[at] == first) {
            source.push(first.to_owned());
            before = Some(first);
            continue;
        }
        let numbers = all.iter().all(|words| crate::text::number(&words[at]).is_some());
        let base = before.take().unwrap_or(if numbers { "amount" } else { "what" }).replace('-', "_");
        let taken = |name: &String| columns.contains(name);
        let name = (1..)
            .map(|n| if n == 1 { base.clone() } else { format!("{base}{n}") })
            .find(|name| !taken(name))?;
        source.push(format!("{{{name}}}"));
        columns.push(name);
    }
    Some((source.join(" "), columns))
}

/// Lines of one shape: texts under keys, or a word with a value. `apart` tells whether what they name must differ.
pub(super) fn template(lines: &Lines<'_>, apart: bool) -> Option<Recognised> {
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
            lines.lines.iter().filter_map(key).collect::<HashSet<_>>().len()
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
            return Some(Recognised::new(LinesFormat::NAME, settings, vec![shape]));
        }
    }
    // A list of names, one a line.
    let name = |line: &&&str| !line.trim().contains([' ', '\t', '{', '<', '=', '"']) && line.len() < 200;
    let names = lines.lines.iter().filter(name).count();
    let different: HashSet<&str> = lines.lines.iter().map(|line| line.trim()).collect();
    (names >= 3 && names == lines.lines.len() && (!apart || different.len() == names)).then(|| {
        let mut shape = RecordShape::plain(Some("value"));
        shape.columns = vec!["value".to_owned()];
        let mut settings: Settings = vec![("line", "'{value}'".to_owned())];
        settings.extend(lines.comment_setting(&[]));
        Recognised::new(LinesFormat::NAME, settings, vec![shape])
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
