//! Recognising INI: its settings, and what its sections are.

use super::recognise::{Lines, Recognised, Settings};
use super::shapes::RecordShape;
use crate::formats::Ini;
use std::collections::{HashMap, HashSet};

pub(super) fn ini(lines: &Lines<'_>) -> Option<Recognised> {
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
    let mut of_section: HashSet<&str> = HashSet::new();
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
        let mut of_file: HashSet<String> = HashSet::new();
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
