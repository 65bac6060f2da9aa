//! Writing a game down in one of many ways, and taking note of where which record is named.

use crate::world::{Kind, Maker, Record, Value, WORDS};
use std::collections::BTreeMap;
use std::fmt::Write;

/// A place at which a record is named: the file, the first byte, the kind and the key.
pub type TruePlace = (String, u32, usize, String);

/// A game as files, with what is true of them.
pub struct Files {
    pub files: BTreeMap<String, String>,
    pub places: Vec<TruePlace>,
    /// For each kind a file that has records of it.
    pub homes: Vec<String>,
}

/// Stand around the name of a record in a text that is being made, with the kind behind the first.
const OPEN: char = '\u{1}';
const CLOSE: char = '\u{2}';

/// The name of a record where it is named.
fn named(kinds: &[Kind], kind: usize, at: usize) -> String {
    format!("{OPEN}{kind} {}{CLOSE}", kinds[kind].records[at].key)
}

/// A value as it is written, several with `between` between them.
fn shown(kinds: &[Kind], value: &Value, between: &str) -> String {
    match value {
        Value::Number(number) => number.to_string(),
        Value::Word(word) => (*word).to_owned(),
        Value::Prose(text) => text.clone(),
        Value::Names(kind, all) => {
            all.iter().map(|at| named(kinds, *kind, *at)).collect::<Vec<_>>().join(between)
        }
    }
}

/// The dialects, each with what makes files of a game in it: paths, and texts in which names are marked.
pub type Dialect = (&'static str, fn(&mut Maker, &[Kind]) -> Vec<(String, String)>);

pub const DIALECTS: [Dialect; 14] = [
    ("xml, kinds of elements", xml_kinds),
    ("xml, a file each", xml_files),
    ("xml, attributes", xml_attributes),
    ("json, lists", json_lists),
    ("json, a file each", json_files),
    ("json, maps", json_maps),
    ("ini, kinds in names", ini_kinds),
    ("ini, repeated sections", ini_repeated),
    ("ini, with a remainder", ini_rest),
    ("blocks, kinds", block_kinds),
    ("blocks, names", block_names),
    ("blocks, heads and brackets", block_heads),
    ("rows, as a program writes", rows_plain),
    ("rows, as people write", rows_by_hand),
];

/// The fields that a record has, with their values.
fn fields_of<'k>(kind: &'k Kind, record: &'k Record) -> impl Iterator<Item = (&'k str, &'k Value)> {
    let fields = kind.fields.iter().map(String::as_str).zip(&record.values);
    fields.filter_map(|(field, value)| Some((field, value.as_ref()?)))
}

fn capital(word: &str) -> String {
    word[..1].to_uppercase() + &word[1..]
}

/// Elements of several kinds in one root, in several folders, with a record to inherit from that has no name.
fn xml_kinds(maker: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let mut out: BTreeMap<String, String> = BTreeMap::new();
    for (number, kind) in kinds.iter().enumerate() {
        let element = format!("{}_kind", kind.name);
        for (at, record) in kind.records.iter().enumerate() {
            let path = match number {
                0 => format!("world/boats/part_{}/boats_{}.xml", at % 3, at % 5),
                1 | 2 => "world/people.xml".to_owned(),
                _ => format!("world/rest_{}.xml", number % 2),
            };
            let text = out.entry(path).or_default();
            if at == 0 && number == 0 {
                let _ = writeln!(text, "  <{element} name=\"Base\"><hold>1</hold></{element}>");
            }
            let _ = writeln!(text, "  <{element}>\n    <key>{}</key>", record.key);
            for (field, value) in fields_of(kind, record) {
                match value {
                    Value::Names(target, all) if all.len() > 1 || field.ends_with('s') => {
                        let items: String = all
                            .iter()
                            .map(|at| format!("<item>{}</item>", named(kinds, *target, *at)))
                            .collect();
                        let _ = writeln!(text, "    <{field}>{items}</{field}>");
                    }
                    value => {
                        let _ = writeln!(text, "    <{field}>{}</{field}>", shown(kinds, value, ""));
                    }
                }
            }
            let _ = writeln!(text, "  </{element}>");
        }
    }
    let wrapped = |(path, text): (String, String)| {
        let note = if maker.below(2) == 0 { "  <!-- by hand -->\n" } else { "" };
        (path, format!("<?xml version=\"1.0\" encoding=\"utf-8\"?>\n<world>\n{note}{text}</world>\n"))
    };
    out.into_iter().map(wrapped).collect()
}

/// A document for each record, in a folder for each kind.
fn xml_files(_: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let mut out = Vec::new();
    for kind in kinds {
        for (at, record) in kind.records.iter().enumerate() {
            let mut text = format!("<{} name=\"{}\">\n", kind.name, record.key);
            for (field, value) in fields_of(kind, record) {
                match value {
                    Value::Names(target, all) => all.iter().for_each(|at| {
                        let _ = writeln!(text, "  <{field} ref=\"{}\"/>", named(kinds, *target, *at));
                    }),
                    value => {
                        let _ = writeln!(text, "  <{field}>{}</{field}>", shown(kinds, value, ""));
                    }
                }
            }
            out.push((
                format!("data/{}s/{}{at:03}.xml", kind.name, &kind.name[..1]),
                format!("{text}</{}>\n", kind.name),
            ));
        }
    }
    out
}

/// All values in attributes, lists in one of them.
fn xml_attributes(_: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let of_kind = |kind: &Kind| {
        let mut text = format!("<{}s version=\"2\" made=\"by hand\">\n", kind.name);
        for record in &kind.records {
            let _ = write!(text, "\t<{} id='{}'", kind.name, record.key);
            for (field, value) in fields_of(kind, record) {
                let _ = write!(text, " {field}=\"{}\"", shown(kinds, value, ","));
            }
            text += "/>\n";
        }
        (format!("{}s.xml", kind.name), format!("{text}</{}s>\n", kind.name))
    };
    kinds.iter().map(of_kind).collect()
}

/// A value in JSON.
fn json_value(kinds: &[Kind], field: &str, value: &Value) -> String {
    let quoted = |text: String| format!("\"{text}\"");
    match value {
        Value::Number(number) => number.to_string(),
        Value::Names(target, all) if all.len() > 1 || field.ends_with('s') => {
            let items: Vec<String> = all.iter().map(|at| quoted(named(kinds, *target, *at))).collect();
            format!("[{}]", items.join(", "))
        }
        value => quoted(shown(kinds, value, "")),
    }
}

/// A list of records in a file for each kind, beside a number that says nothing.
fn json_lists(_: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let of_kind = |kind: &Kind| {
        let record = |record: &Record| {
            let values = fields_of(kind, record)
                .map(|(field, value)| format!(",\n      \"{field}\": {}", json_value(kinds, field, value)));
            format!("    {{\n      \"id\": \"{}\"{}\n    }}", record.key, values.collect::<String>())
        };
        let records: Vec<String> = kind.records.iter().map(record).collect();
        let text =
            format!("{{\n  \"version\": 3,\n  \"{}s\": [\n{}\n  ]\n}}\n", kind.name, records.join(",\n"));
        (format!("data/{}s.json", kind.name), text)
    };
    kinds.iter().map(of_kind).collect()
}

/// A file for each record, with values one step down.
fn json_files(_: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let mut out = Vec::new();
    for kind in kinds {
        for record in &kind.records {
            let values: Vec<String> = fields_of(kind, record)
                .map(|(field, value)| format!("\"{field}\": {}", json_value(kinds, field, value)))
                .collect();
            let text = format!("{{\"id\": \"{}\", \"is\": {{{}}}}}\n", record.key, values.join(", "));
            out.push((format!("content/{}/{}.json", kind.name, record.key.to_lowercase()), text));
        }
    }
    out
}

/// Records under their names, with notes and commas behind the last one.
fn json_maps(_: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let of_kind = |kind: &Kind| {
        let mut text = format!("// all {}s\n{{\n", kind.name);
        for record in &kind.records {
            let _ = writeln!(text, "  \"{}\": {{", record.key);
            for (field, value) in fields_of(kind, record) {
                let _ = writeln!(text, "    \"{field}\": {},", json_value(kinds, field, value));
            }
            text += "  },\n";
        }
        (format!("{}.json", kind.name), text + "}\n")
    };
    kinds.iter().map(of_kind).collect()
}

/// The keys of a section.
fn ini_body(kinds: &[Kind], kind: &Kind, record: &Record, between: &str) -> String {
    let line = |(field, value): (&str, &Value)| format!("{field} = {}\n", shown(kinds, value, between));
    fields_of(kind, record).map(line).collect()
}

/// `[boat mill]` in files of several kinds.
fn ini_kinds(maker: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let mut out: BTreeMap<String, String> = BTreeMap::new();
    for (number, kind) in kinds.iter().enumerate() {
        for record in &kind.records {
            let path = if number < 2 { format!("{}.cfg", kind.name) } else { "world.cfg".to_owned() };
            let note = if maker.below(9) == 0 { "; looked at\n" } else { "" };
            let text = out.entry(path).or_default();
            let body = ini_body(kinds, kind, record, ", ");
            let _ = write!(text, "{note}[{} {}]\n{body}\n", capital(&kind.name), record.key);
        }
    }
    out.into_iter().collect()
}

/// `[BOAT]` again and again, with the name inside.
fn ini_repeated(_: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let mut out: BTreeMap<String, String> = BTreeMap::new();
    for (number, kind) in kinds.iter().enumerate() {
        for record in &kind.records {
            let text = out.entry(format!("part{}.ini", number % 2)).or_default();
            let body = ini_body(kinds, kind, record, ",").to_uppercase_keys();
            let _ = write!(text, "[{}]\nID = {}\n{body}\n", kind.name.to_uppercase(), record.key);
        }
    }
    out.into_iter().collect()
}

/// Lines whose keys are in capitals.
trait UppercaseKeys {
    fn to_uppercase_keys(&self) -> String;
}

impl UppercaseKeys for String {
    fn to_uppercase_keys(&self) -> String {
        let line = |line: &str| match line.split_once(" = ") {
            Some((key, value)) => format!("{} = {value}\n", key.to_uppercase()),
            None => format!("{line}\n"),
        };
        self.lines().map(line).collect()
    }
}

/// A section for each record, lists as keys that are there several times, and words by themselves.
fn ini_rest(maker: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let of_kind = |kind: &Kind| {
        let mut text = String::new();
        for record in &kind.records {
            let _ = writeln!(text, "[{}]", record.key);
            for (field, value) in fields_of(kind, record) {
                match value {
                    Value::Names(target, all) => all.iter().for_each(|at| {
                        let _ = writeln!(text, "{field}={}", named(kinds, *target, *at));
                    }),
                    value => {
                        let _ = writeln!(text, "{field}={}", shown(kinds, value, ""));
                    }
                }
            }
            if maker.below(12) == 0 {
                text += "FLOATS\n";
            }
            text.push('\n');
        }
        (format!("rules/{}s.ini", kind.name), text)
    };
    kinds.iter().map(of_kind).collect()
}

/// The entries of a block.
fn block_body(kinds: &[Kind], kind: &Kind, record: &Record, assign: &str, indent: &str) -> String {
    let quoted = |value: &Value| match value {
        Value::Prose(text) => format!("\"{text}\""),
        value => shown(kinds, value, " "),
    };
    let entry = |(field, value): (&str, &Value)| match value {
        Value::Names(_, all) if all.len() > 1 || field.ends_with('s') => {
            format!("{indent}{field}{assign}{{ {} }}\n", quoted(value))
        }
        value => format!("{indent}{field}{assign}{}\n", quoted(value)),
    };
    fields_of(kind, record).map(entry).collect()
}

/// `boat = { id = mill ... }`, several kinds in a file, in many files.
fn block_kinds(maker: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let mut out: BTreeMap<String, String> = BTreeMap::new();
    for kind in kinds {
        for record in &kind.records {
            let path = format!("common/{}.txt", WORDS[maker.below(9)]);
            let text = out.entry(path).or_insert_with(|| "# of the game\n".to_owned());
            let body = block_body(kinds, kind, record, " = ", "\t");
            let _ = write!(text, "{} = {{\n\tid = {}\n{body}}}\n", kind.name, record.key);
        }
    }
    out.into_iter().collect()
}

/// `mill = { ... }` in a file or several for each kind.
fn block_names(maker: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let mut out: BTreeMap<String, String> = BTreeMap::new();
    for kind in kinds {
        for record in &kind.records {
            let path = format!("{}s/{}_{}.txt", kind.name, maker.below(2), kind.name);
            let text = out.entry(path).or_default();
            let body = block_body(kinds, kind, record, " = ", "\t");
            let _ = write!(text, "{} = {{\n{body}}}\n\n", record.key);
        }
    }
    out.into_iter().collect()
}

/// `define boat "mill" { ... }` with lists in round brackets and notes behind two strokes.
fn block_heads(_: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let of_kind = |kind: &Kind| {
        let mut text = format!("// {}s\n", kind.name);
        for record in &kind.records {
            let _ = writeln!(text, "define {} \"{}\"\n{{", kind.name, record.key);
            for (field, value) in fields_of(kind, record) {
                let shown = match value {
                    Value::Names(_, all) if all.len() > 1 || field.ends_with('s') => {
                        format!("( {} )", shown(kinds, value, " "))
                    }
                    Value::Number(number) => number.to_string(),
                    value => format!("\"{}\"", shown(kinds, value, " ")),
                };
                let _ = writeln!(text, "    {field} {shown};");
            }
            text += "}\n\n";
        }
        (format!("defs/{}.scr", kind.name), text)
    };
    kinds.iter().map(of_kind).collect()
}

/// Commas, all columns in each row, lists with bars.
fn rows_plain(_: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let of_kind = |kind: &Kind| {
        let mut text = format!("{}_id,{}\r\n", kind.name, kind.fields.join(","));
        for record in &kind.records {
            let values = record
                .values
                .iter()
                .map(|value| value.as_ref().map_or(String::new(), |value| shown(kinds, value, "|")));
            let values: Vec<String> = values.collect();
            let _ = write!(text, "{},{}\r\n", record.key, values.join(","));
        }
        (format!("tables/{}s.csv", kind.name), text)
    };
    kinds.iter().map(of_kind).collect()
}

/// Tabs, a name for people first, `-` for nothing, notes among the rows, lists in columns with numbers.
fn rows_by_hand(maker: &mut Maker, kinds: &[Kind]) -> Vec<(String, String)> {
    let mut out = Vec::new();
    for kind in kinds {
        let is_list = |field: &String| ["goods", "sells", "likes"].contains(&field.as_str());
        let columns: Vec<String> = kind
            .fields
            .iter()
            .flat_map(|field| match is_list(field) {
                true => (1..=3).map(|number| format!("{}{number}", capital(field))).collect::<Vec<_>>(),
                false => vec![capital(field)],
            })
            .collect();
        let mut text = format!("Name\tCode\t{}\n", columns.join("\t"));
        for record in &kind.records {
            if maker.below(15) == 0 {
                text += "# to be looked at\n";
            }
            let mut cells: Vec<String> = Vec::new();
            for (field, value) in kind.fields.iter().zip(&record.values) {
                match value {
                    Some(Value::Names(target, all)) if is_list(field) => {
                        let one =
                            |at: usize| all.get(at).map_or("-".to_owned(), |at| named(kinds, *target, *at));
                        cells.extend((0..3).map(one));
                    }
                    None if is_list(field) => cells.extend(["-".to_owned(), "-".to_owned(), "-".to_owned()]),
                    Some(value) => cells.push(shown(kinds, value, "")),
                    None => cells.push("-".to_owned()),
                }
            }
            let name = format!("{} {}", capital(maker.word()), capital(maker.word()));
            let _ = writeln!(text, "{name}\t{}\t{}", record.key, cells.join("\t"));
        }
        out.push((format!("{}s.txt", capital(&kind.name)), text));
    }
    out
}

/// Takes the marks out of the texts, and takes note of where they stood.
pub fn without_marks(kinds: &[Kind], files: Vec<(String, String)>) -> Files {
    let mut out =
        Files { files: BTreeMap::new(), places: Vec::new(), homes: vec![String::new(); kinds.len()] };
    for (path, marked) in files {
        let mut text = String::new();
        for (number, part) in marked.split(OPEN).enumerate() {
            match (number, part.split_once(CLOSE)) {
                (1.., Some((name, rest))) => {
                    let (kind, key) = name.split_once(' ').unwrap_or_default();
                    let kind = kind.parse().unwrap_or(0);
                    out.places.push((path.clone(), text.len() as u32, kind, key.to_owned()));
                    text += key;
                    text += rest;
                }
                _ => text += part,
            }
        }
        for (kind, home) in kinds.iter().zip(&mut out.homes) {
            if home.is_empty()
                && kind.records.first().is_some_and(|record| declares(&text, &path, kind, record))
            {
                home.clone_from(&path);
            }
        }
        out.files.insert(path, text);
    }
    out
}

/// Whether a file seems to be where a record is described: of the ways of the dialects one names it there.
fn declares(text: &str, path: &str, kind: &Kind, record: &Record) -> bool {
    let key = &record.key;
    let ways = [
        format!("<key>{key}</key>"),
        format!("<{} name=\"{key}\">", kind.name),
        format!("<{} id='{key}'", kind.name),
        format!("\"id\": \"{key}\""),
        format!("\"{key}\": {{"),
        format!("[{} {key}]", capital(&kind.name)),
        format!("ID = {key}\n"),
        format!("[{key}]\n"),
        format!("id = {key}\n"),
        format!("{key} = {{"),
        format!("define {} \"{key}\"", kind.name),
    ];
    let in_rows = || {
        text.lines().any(|line| line.starts_with(&format!("{key},")) || line.contains(&format!("\t{key}\t")))
    };
    let of_kind = path.to_lowercase().contains(&kind.name);
    ways.iter().any(|way| text.contains(way.as_str())) || of_kind && in_rows()
}
