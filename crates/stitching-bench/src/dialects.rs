//! Measures what `init` makes of made-up games in many dialects: what a program writes and what people write, in XML, JSON, INI,
//! blocks and tables, with notes, marks, records that lack fields, files of several kinds, and more.
//!
//! Unlike the other measure of learning, this one knows nothing of how a schema says things: it knows at which byte of which file
//! which record is named, and whether the project that `init` would write leads there. What is right is judged by place.

use anyhow::{Context, Result};
use clap::Parser;
use std::collections::{BTreeMap, BTreeSet, HashMap, HashSet};
use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};
use stitching_bench::Numbers;
use stitching_core::Project;
use stitching_core::checks::{check, finders};
use stitching_core::learn::{Band, Proposal, start, tried};
use stitching_core::links::Index;
use stitching_core::reading::{FactsCache, View};
use stitching_core::tables::LinkKind;

/// What `init` makes of games in many dialects.
#[derive(Debug, Parser)]
struct Args {
    /// The folder for the games; what is in it is replaced
    dir: PathBuf,
    /// How many games of each dialect
    #[arg(long, default_value_t = 5)]
    games: u64,
    /// Says what was missed and what was wrong
    #[arg(long)]
    verbose: bool,
}

/// A value of a field.
enum Value {
    Number(usize),
    Word(&'static str),
    Prose(String),
    /// Names records of the kind at this position, by their positions.
    Names(usize, Vec<usize>),
}

struct Record {
    key: String,
    /// By the positions of the kind's fields; some records lack some.
    values: Vec<Option<Value>>,
}

/// A kind of things in a game.
struct Kind {
    name: String,
    fields: Vec<String>,
    records: Vec<Record>,
}

/// A place at which a record is named: the file, the first byte, the kind and the key.
type TruePlace = (String, u32, usize, String);

/// A game as files, with what is true of them.
struct Files {
    files: BTreeMap<String, String>,
    places: Vec<TruePlace>,
    /// For each kind a file that has records of it.
    homes: Vec<String>,
}

const WORDS: [&str; 40] = [
    "mill", "frost", "weir", "pool", "gate", "north", "south", "ice", "cut", "reach", "old", "new", "sled",
    "coal", "slate", "peat", "salt", "rope", "wool", "lamp", "moor", "fen", "dale", "tarn", "beck", "holm",
    "lund", "garth", "thwaite", "rigg", "scar", "ness", "wick", "hearth", "quay", "lock", "barge", "tow",
    "sail", "punt",
];
const KINDS: [(&str, &[&str]); 8] = [
    ("boat", &["hold", "crew", "goods", "berth", "note"]),
    ("crew", &["size", "leader", "pay", "mood"]),
    ("good", &["price", "weight", "made_from"]),
    ("port", &["depth", "sells", "next", "about"]),
    ("tool", &["weight", "used_by", "wear"]),
    ("route", &["from", "to", "days"]),
    ("guild", &["seat", "master", "rank"]),
    ("master", &["age", "port", "likes"]),
];
const MOODS: [&str; 3] = ["calm", "sour", "merry"];

struct Maker {
    numbers: Numbers,
    used: HashSet<String>,
}

impl Maker {
    fn below(&mut self, end: usize) -> usize {
        self.numbers.below(end)
    }

    fn word(&mut self) -> &'static str {
        WORDS[self.numbers.below(WORDS.len())]
    }

    /// A name that was not there yet, in the way of naming at position `style`.
    fn name(&mut self, kind: &str, style: usize) -> String {
        loop {
            let (one, other) = (self.word(), self.word());
            let capital = |word: &str| word[..1].to_uppercase() + &word[1..];
            let name = match style {
                0 => format!("{one}_{other}"),
                1 => format!("{}{}", capital(one), capital(other)),
                2 => format!("{kind}_{one}_{other}"),
                _ => format!("{}_{}", one.to_uppercase(), other.to_uppercase()),
            };
            let name = if self.below(3) == 0 { format!("{name}{}", self.below(9) + 1) } else { name };
            if self.used.insert(name.to_lowercase()) {
                return name;
            }
        }
    }

    fn prose(&mut self) -> String {
        let count = 6 + self.below(6);
        let words: Vec<&str> = (0..count).map(|_| self.word()).collect();
        format!("The {}.", words.join(" "))
    }

    /// The kinds of a game, with records.
    fn world(&mut self) -> Vec<Kind> {
        let count = 5 + self.below(KINDS.len() - 4);
        let style = self.below(4);
        let sizes: Vec<usize> =
            (0..count).map(|at| if at == 0 { 40 + self.below(120) } else { 4 + self.below(30) }).collect();
        let mut kinds: Vec<Kind> = Vec::new();
        for (at, (name, fields)) in KINDS[..count].iter().enumerate() {
            let records =
                (0..sizes[at]).map(|_| Record { key: self.name(name, style), values: Vec::new() }).collect();
            let fields = fields.iter().map(|field| (*field).to_owned()).collect();
            kinds.push(Kind { name: (*name).to_owned(), fields, records });
        }
        for kind in 0..count {
            for at in 0..sizes[kind] {
                let fields = KINDS[kind].1;
                let values = fields.iter().map(|field| self.value(field, count, &sizes)).collect();
                kinds[kind].records[at].values = values;
            }
        }
        kinds
    }

    /// A value of a field that is called so, of a game with so many kinds; `None` where the record lacks it.
    fn value(&mut self, field: &str, kinds: usize, sizes: &[usize]) -> Option<Value> {
        let target = match field {
            "crew" | "leader" | "used_by" => 1,
            "goods" | "made_from" | "sells" | "likes" => 2,
            "berth" | "next" | "from" | "to" | "seat" | "port" => 3,
            "master" => 7,
            _ => usize::MAX,
        };
        if target < kinds {
            let count = if ["goods", "sells", "likes"].contains(&field) { self.below(4) } else { 1 };
            let lacks = ["leader", "made_from", "next", "master"].contains(&field) && self.below(3) == 0;
            let names: Vec<usize> = (0..count).map(|_| self.below(sizes[target])).collect();
            return (!lacks && !names.is_empty()).then_some(Value::Names(target, names));
        }
        match field {
            "mood" | "rank" => Some(Value::Word(MOODS[self.below(MOODS.len())])),
            "note" | "about" => (self.below(3) > 0).then(|| Value::Prose(self.prose())),
            _ => Some(Value::Number(self.below(12))),
        }
    }
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
type Dialect = (&'static str, fn(&mut Maker, &[Kind]) -> Vec<(String, String)>);

const DIALECTS: [Dialect; 14] = [
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
                        let items: String =
                            all.iter().map(|at| format!("<item>{}</item>", named(kinds, *target, *at))).collect();
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
fn without_marks(kinds: &[Kind], files: Vec<(String, String)>) -> Files {
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

/// What was found in games of a dialect.
#[derive(Debug, Default, Clone, Copy)]
struct Found {
    kinds: usize,
    keys: usize,
    places: usize,
    accepted: usize,
    asked: usize,
    columns: usize,
    wrong: usize,
    errors: usize,
}

/// How a schema does: the kinds whose records have their names, and for each true place whether it is a link.
struct Judged {
    keys: Vec<bool>,
    places: Vec<bool>,
    columns: usize,
    wrong: Vec<String>,
}

fn judge(project: &Project, kinds: &[Kind], files: &Files) -> Judged {
    let view = View::top(&project.stack, &project.schema);
    let index = Index::build(view, &finders(&project.schema), &FactsCache::default());
    let path = |file: u32| project.stack.files()[index.files[file as usize].id].path.as_str();
    let mut keys = Vec::new();
    for (kind, home) in kinds.iter().zip(&files.homes) {
        let wanted: BTreeSet<&str> = kind.records.iter().map(|record| record.key.as_str()).collect();
        let is_right = (0..index.tables.len()).any(|table| {
            let is_home = index.tables[table].files.iter().any(|file| path(file.file) == home);
            let own: Vec<&str> = index.keys(table).map(|(_, key)| key).collect();
            let found: BTreeSet<&str> = own.iter().copied().filter(|key| wanted.contains(key)).collect();
            is_home && found.len() == wanted.len()
        });
        keys.push(is_right);
    }
    let mut starts: HashMap<(&str, u32), bool> = HashMap::new();
    let mut of_columns: BTreeMap<(usize, usize), Vec<(&str, u32)>> = BTreeMap::new();
    for (file, indexed) in index.files.iter().enumerate() {
        for facts in &indexed.facts.tables {
            for links in facts.links.iter().filter(|links| links.kind == LinkKind::Reference) {
                let rule = &project.schema.tables[facts.table].rules[links.rule];
                for link in &links.links {
                    let place = (path(file as u32), link.start);
                    starts.insert(place, index.resolves(rule, links.kind, link));
                    of_columns.entry((facts.table, links.rule)).or_default().push(place);
                }
            }
        }
    }
    let is_true: HashSet<(&str, u32)> =
        files.places.iter().map(|(path, start, ..)| (path.as_str(), *start)).collect();
    let places =
        files.places.iter().map(|(path, start, ..)| starts.get(&(path.as_str(), *start)) == Some(&true));
    let places = places.collect();
    let is_wrong = |all: &Vec<(&str, u32)>| !all.iter().any(|place| is_true.contains(place));
    let columns = of_columns.len();
    let wrong = of_columns.iter().filter(|(_, all)| is_wrong(all)).map(|((table, rule), _)| {
        let table = &project.schema.tables[*table];
        format!("{}.{}", table.name, table.fields[table.rules[*rule].field].name)
    });
    Judged { keys, places, columns, wrong: wrong.collect() }
}

fn measure(args: &Args, number: usize, seed: u64) -> Result<Found> {
    let (name, dialect) = DIALECTS[number];
    let mut maker = Maker { numbers: Numbers(seed * 1000 + number as u64 + 7), used: HashSet::new() };
    let kinds = maker.world();
    let marked = dialect(&mut maker, &kinds);
    let files = without_marks(&kinds, marked);
    let folder = args.dir.join(format!("{number:02}_{seed}"));
    for (path, text) in &files.files {
        let path = folder.join(path);
        fs::create_dir_all(path.parent().unwrap_or(Path::new(".")))?;
        fs::write(path, text)?;
    }
    let mut begun = start(&folder, &[]).with_context(|| format!("{name}, {seed}"))?;
    let schema_name = begun.schema_name.clone();
    let open = |schema: &str| {
        Project::described(&folder, &begun.project, &[(schema_name.clone(), schema.to_owned())])
    };
    let project = open(&begun.schema)?;
    let own = judge(&project, &kinds, &files);
    let summary = check(project.view()).summary;
    // What is a question as well, as far as it holds.
    let described = |taken: &[&Proposal]| open(&stitching_core::learn::written("", taken)?);
    let asked = |_: usize, own: &Proposal| own.band != Band::Hidden;
    let taken =
        tried(&mut begun.learned.proposals, asked, &BTreeSet::new(), &described, &Default::default())?;
    let taken: Vec<&Proposal> = taken.iter().map(|at| &begun.learned.proposals[*at]).collect();
    let all = judge(&described(&taken)?, &kinds, &files);
    if args.verbose {
        for (kind, _) in kinds.iter().zip(&own.keys).filter(|(_, right)| !**right) {
            println!("{name}, game {seed}: no table has the keys of {}", kind.name);
        }
        let mut missed: BTreeMap<(usize, &str), usize> = BTreeMap::new();
        for ((path, _, kind, _), _) in files.places.iter().zip(&all.places).filter(|(_, found)| !**found) {
            *missed.entry((*kind, path)).or_default() += 1;
        }
        for ((kind, path), count) in missed.iter().take(6) {
            println!("{name}, game {seed}: {count} names of {} are missed in {path}", kinds[*kind].name);
        }
        for column in &own.wrong {
            println!("{name}, game {seed}: {column} points nowhere");
        }
    }
    let count = |found: &[bool]| found.iter().filter(|found| **found).count();
    let either: Vec<bool> = own.places.iter().zip(&all.places).map(|(a, b)| *a || *b).collect();
    Ok(Found {
        kinds: kinds.len(),
        keys: count(&own.keys),
        places: files.places.len(),
        accepted: count(&own.places),
        asked: count(&either),
        columns: own.columns,
        wrong: own.wrong.len(),
        errors: summary.errors + summary.warnings,
    })
}

fn main() -> Result<()> {
    let args = Args::parse();
    if args.dir.exists() {
        fs::remove_dir_all(&args.dir).context("the folder could not be emptied")?;
    }
    println!("| dialect | keys right | places found: accept | accept or ask | links right | problems |");
    println!("| --- | ---: | ---: | ---: | ---: | ---: |");
    let mut total = Found::default();
    for (number, (name, _)) in DIALECTS.iter().enumerate() {
        let mut sum = Found::default();
        for seed in 0..args.games {
            let found = measure(&args, number, seed)?;
            for sum in [&mut sum, &mut total] {
                sum.kinds += found.kinds;
                sum.keys += found.keys;
                sum.places += found.places;
                sum.accepted += found.accepted;
                sum.asked += found.asked;
                sum.columns += found.columns;
                sum.wrong += found.wrong;
                sum.errors += found.errors;
            }
        }
        print(name, &sum);
    }
    print("all", &total);
    Ok(())
}

fn print(name: &str, found: &Found) {
    let share = |part: usize, whole: usize| part as f64 / whole.max(1) as f64;
    println!(
        "| {name} | {:.3} of {} | {:.3} of {} | {:.3} | {:.3} of {} | {} |",
        share(found.keys, found.kinds),
        found.kinds,
        share(found.accepted, found.places),
        found.places,
        share(found.asked, found.places),
        share(found.columns - found.wrong, found.columns),
        found.columns,
        found.errors
    );
}
