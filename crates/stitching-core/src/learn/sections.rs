//! Recognising INI: its settings, and what its sections are.

use super::recognise::{Lines, Recognised, Settings};
use super::section_values::{is_like_row, long_values};
use super::shapes::RecordShape;
use crate::formats::Ini;
use std::collections::{BTreeSet, HashMap, HashSet};

pub(super) fn ini(lines: &Lines<'_>) -> Option<Recognised> {
    let (mut sections, mut keys, mut others, mut braces) = (0, 0, 0usize, 0);
    let mut names: HashMap<&str, usize> = HashMap::new();
    let mut quoted = 0;
    let mut has_head = false;
    // How many lines are rows, which are like the one above; the last one, and whether it is a row.
    let (mut rows, mut row, mut in_grid) = (0usize, None, false);
    let is_section = |line: &str| line.trim_start().starts_with('[') && line.contains(']');
    // Without sections brackets are the sign of something else.
    let has_sections = lines.lines.iter().any(|line| is_section(line));
    let long = if has_sections { long_values(&lines.lines) } else { Vec::new() };
    // Those of one line need no setting.
    let (mut brackets, mut commas) = (false, false);
    let mut is_value = vec![false; lines.lines.len()];
    for value in &long {
        brackets |= value.brackets && !value.more.is_empty();
        commas |= !value.brackets;
        is_value[value.more.start - 1..value.more.end].fill(true);
    }
    for (line, is_value) in lines.lines.iter().zip(is_value) {
        let line = line.trim();
        if let (true, Some((key, _))) = (is_value, line.split_once('=')) {
            keys += 1;
            has_head |= sections == 0;
            *names.entry(key.trim()).or_default() += 1;
        }
        if is_value {
            continue;
        }
        if is_section(line) {
            sections += 1;
            (row, in_grid) = (None, false);
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
                if sections > 0 && row.is_some_and(|above| is_like_row(above, line)) {
                    rows += 1 + usize::from(!in_grid);
                    in_grid = true;
                } else {
                    in_grid = false;
                }
                row = Some(line);
            }
        }
    }
    // A value that goes on in the next line.
    let goes_on = lines.lines.iter().filter(|line| line.ends_with('\\')).count();
    others = others.saturating_sub(goes_on);
    let noted = |line: &&&str| line.contains('=') && [" ;", " #"].iter().any(|mark| line.contains(mark));
    let trailing = lines.lines.iter().filter(noted).count();
    let all = lines.lines.len();
    if keys == 0 || braces * 20 > all || others.saturating_sub(rows) * 10 > all {
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
    let ways = [(goes_on > 0, "backslash"), (commas && goes_on == 0, "comma"), (brackets, "brackets")];
    let ways: Vec<String> = ways.iter().filter(|(is, _)| *is).map(|(_, way)| format!("\"{way}\"")).collect();
    match ways.as_slice() {
        [] => {}
        [one] => settings.push(("goes_on", one.clone())),
        several => settings.push(("goes_on", format!("[{}]", several.join(", ")))),
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
        return Some(Recognised::new(Ini::NAME, settings, vec![shape]));
    }
    let mut shape = RecordShape::plain(Some("{section}"));
    shape.columns = names.keys().map(|name| (*name).to_owned()).collect();
    shape.columns.sort();
    let of_line = |line: &&str| Some(line.trim().strip_prefix('[')?.split_once(']')?.0.trim().to_owned());
    let sections: BTreeSet<String> = lines.lines.iter().filter_map(of_line).collect();
    let sections = sections.into_iter().collect();
    Some(Recognised { sections, ..Recognised::new(Ini::NAME, settings, vec![shape]) })
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

/// Sections of one kind.
struct SectionKind<'s> {
    name: &'s str,
    count: usize,
    keys: BTreeSet<&'s str>,
}

/// Sections by what says of which kind they are, in the order in which kinds are met.
fn by_kind_name<'s>(sections: impl Iterator<Item = (&'s str, &'s Vec<&'s str>)>) -> Vec<SectionKind<'s>> {
    let mut kinds: Vec<SectionKind<'s>> = Vec::new();
    let mut places: HashMap<&str, usize> = HashMap::new();
    for (name, keys) in sections {
        let at = *places.entry(name).or_insert_with(|| {
            kinds.push(SectionKind { name, count: 0, keys: BTreeSet::new() });
            kinds.len() - 1
        });
        kinds[at].count += 1;
        kinds[at].keys.extend(keys.iter().copied());
    }
    kinds
}

impl SectionKind<'_> {
    /// Their shape, if the template of their names is `section`. With a name for each it is the part `{name}`.
    fn shape(&self, section: String, named: bool) -> RecordShape {
        let place = named.then_some("{name}");
        RecordShape {
            records: Some(("section", section)),
            name: Some(self.name.to_owned()),
            columns: place.into_iter().chain(self.keys.iter().copied()).map(str::to_owned).collect(),
            kind: true,
            ..RecordShape::plain(place)
        }
    }
}

/// The shapes of INI files whose sections say of what kind they are, `[boat scow]` or `[boat:scow]`, or just `[BOAT]` again and
/// again: one for each kind. `None` if they do not.
pub(super) fn by_kind<'t>(texts: impl Iterator<Item = &'t str>) -> Option<Vec<RecordShape>> {
    /// Of fewer sections two may have one name, or begin with one word, by chance.
    const FEWEST: usize = 3;
    let mut sections: Vec<(&str, Vec<&str>)> = Vec::new();
    let mut again = 0;
    for text in texts {
        let mut of_file: HashSet<&str> = HashSet::new();
        for line in text.lines().map(str::trim).filter(|line| !line.starts_with([';', '#'])) {
            if let Some((name, _)) = line.strip_prefix('[').and_then(|rest| rest.split_once(']')) {
                again += usize::from(!of_file.insert(name.trim()));
                sections.push((name.trim(), Vec::new()));
            } else if let (Some((key, _)), Some(own)) = (line.split_once('='), sections.last_mut()) {
                own.1.push(key.trim());
            }
        }
    }
    if again * 2 > sections.len() {
        let kinds = by_kind_name(sections.iter().map(|(name, keys)| (*name, keys)));
        let is_kind = |own: &SectionKind<'_>| own.count >= FEWEST && !own.name.contains(['{', '}']);
        if kinds.len() > 1 && kinds.iter().all(is_kind) {
            return Some(kinds.iter().map(|own| own.shape(own.name.to_owned(), false)).collect());
        }
    }
    let is_word = |word: &str| word.chars().all(|next| next.is_alphanumeric() || next == '_' || next == '-');
    [" ", ":", "/", "."].into_iter().find_map(|sign| {
        let parted = sections.iter().filter_map(|(section, keys)| {
            let (kind, name) = section.split_once(sign)?;
            let is_named = !name.trim().is_empty() && !name.contains(['{', '}', '[']);
            (is_named && !kind.is_empty() && is_word(kind)).then_some((kind, keys))
        });
        let kinds = by_kind_name(parted);
        let several: usize = kinds.iter().map(|own| own.count).filter(|count| *count >= FEWEST).sum();
        let is_rule = several > 0 && several * 10 >= sections.len() * 9;
        is_rule
            .then(|| kinds.iter().map(|own| own.shape(format!("{}{sign}{{name}}", own.name), true)).collect())
    })
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

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::kind_and_name(
        &["[boat a]\nx=1\n[boat b]\ny=2\n[crew c]\nz=1\n[boat d]\n[crew e]\n[crew f]\n"],
        "boat {name}: {name} x y | crew {name}: {name} z"
    )]
    #[case::with_another_sign(&["[boat:a]\nx=1\n[boat:b]\n[boat:c]\n"], "boat:{name}: {name} x")]
    #[case::over_files(&["[boat a]\nx=1\n", "[boat b]\n", "[boat c]\n"], "boat {name}: {name} x")]
    #[case::again_and_again(
        &["[BOAT]\nID=a\n[BOAT]\nID=b\n[CREW]\nID=c\n[BOAT]\n[CREW]\n[CREW]\n"],
        "BOAT: ID | CREW: ID"
    )]
    #[case::one_of_a_name_in_each_file(&["[x]\na=1\n[y]\n", "[x]\n[y]\n", "[x]\n[y]\n"], "none")]
    #[case::names_alone(&["[a]\nx=1\n[b]\nx=1\n[c]\nx=1\n[d]\n"], "none")]
    #[case::few(&["[boat a]\nx=1\n[boat b]\nx=1\n"], "none")]
    #[case::some_without_kind(&["[boat a]\n[boat b]\n[boat c]\n[x]\n[y]\n"], "none")]
    #[case::notes(&["; [boat x]\n[a]\n# [boat y]\n[b]\n; [boat z]\n"], "none")]
    fn kinds_of_sections(#[case] texts: &[&str], #[case] expected: &str) {
        let shown = |shape: &RecordShape| {
            let section = shape.records.as_ref().map_or("", |(_, section)| section.as_str());
            format!("{section}: {}", shape.columns.join(" "))
        };
        let found = by_kind(texts.iter().copied());
        let told = found.map(|own| own.iter().map(shown).collect::<Vec<_>>().join(" | "));
        assert_eq!(told.as_deref().unwrap_or("none"), expected);
    }
}
