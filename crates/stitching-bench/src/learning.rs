//! Measures what `learn` finds in made-up games whose schema is known: thirty tables in all formats, with
//! traps: tables that hold the same numbers, names that say nothing, misspelt values, values that stand for
//! "nothing", lists, parts, text keys, file names, tables that add to others, second identifiers, marks, backups.
//!
//! Prints precision and recall by kind. Each seed is another game: other words, other columns, other formats.

use anyhow::{Context, Result};
use clap::Parser;
use std::collections::{BTreeMap, BTreeSet};
use std::fmt::Write;
use std::fs;
use std::path::{Path, PathBuf};
use stitching_bench::Numbers;
use stitching_core::Project;
use stitching_core::learn::{Band, Topic, learn};

/// What `learn` finds in games whose schema is known.
#[derive(Debug, Parser)]
struct Args {
    /// The folder for the games; what is in it is replaced
    dir: PathBuf,
    /// How many games
    #[arg(long, default_value_t = 5)]
    games: u64,
    /// Says what was missed and what was wrong
    #[arg(long)]
    verbose: bool,
}

/// What a column is, and is to be found to be.
#[derive(Debug, Clone, PartialEq)]
enum Truth {
    /// Points nowhere.
    Plain,
    /// Points to one of these tables.
    Link { kind: &'static str, tables: Vec<String> },
    /// Is a text key.
    Text,
    /// Names a file.
    File,
}

/// A column of a made-up table.
struct Column {
    name: String,
    truth: Truth,
    /// The value that stands for "nothing" in it, if there is one.
    none: Option<&'static str>,
    /// Its value in each record; several are a list of the format, if it has such.
    values: Vec<String>,
}

struct Table {
    name: String,
    format: &'static str,
    key: Vec<String>,
    columns: Vec<Column>,
}

/// Syllables of made-up words.
const HEADS: [&str; 24] = [
    "ba", "do", "fe", "gi", "ka", "lo", "mu", "ne", "po", "ri", "sa", "tu", "vo", "we", "zi", "bro", "cle",
    "dra", "fli", "gro", "kne", "sta", "tri", "plo",
];
const TAILS: [&str; 20] = [
    "lan", "mer", "nik", "pol", "rad", "sel", "tum", "vin", "wod", "zar", "bent", "cuff", "dorn", "fist",
    "gulm", "harp", "jolt", "kirn", "lusk", "moss",
];
const WORDS: [&str; 30] = [
    "the", "old", "water", "of", "a", "quiet", "morning", "with", "rope", "and", "stone", "that", "nobody",
    "has", "seen", "since", "winter", "boats", "pass", "here", "slowly", "under", "lamps", "men", "wait",
    "for", "bread", "or", "news", "again",
];
const FORMATS: [&str; 9] = ["tab", "semicolon", "comma", "ini", "xml", "json", "map", "blocks", "blanks"];

struct Game {
    numbers: Numbers,
    words: BTreeSet<String>,
}

impl Game {
    fn below(&mut self, end: usize) -> usize {
        self.numbers.below(end)
    }

    fn chance(&mut self, percent: usize) -> bool {
        self.below(100) < percent
    }

    fn pick<'a, T>(&mut self, from: &'a [T]) -> &'a T {
        let at = self.below(from.len());
        &from[at]
    }

    /// A word that was not there yet.
    fn word(&mut self) -> String {
        loop {
            let mut word = format!("{}{}", self.pick(&HEADS), self.pick(&TAILS));
            if self.words.contains(&word) || self.chance(30) {
                word = format!("{word}{}", self.pick(&TAILS));
            }
            if self.words.insert(word.clone()) {
                return word;
            }
        }
    }

    /// Names of `count` records, in one of the ways in which people name them.
    fn keys(&mut self, count: usize, style: usize) -> Vec<String> {
        let prefix = self.word();
        let mut out = BTreeSet::new();
        while out.len() < count {
            let head = self.word();
            out.insert(match style {
                0 => head,
                1 => format!("{prefix}_{head}"),
                2 => head.to_uppercase(),
                _ => format!("{head}_{}", self.below(9) + 1),
            });
            self.words.remove(&prefix);
        }
        let mut out: Vec<String> = out.into_iter().collect();
        for at in (1..out.len()).rev() {
            let other = self.below(at + 1);
            out.swap(at, other);
        }
        out
    }

    fn prose(&mut self) -> String {
        let count = 6 + self.below(12);
        let words: Vec<&str> = (0..count).map(|_| *self.pick(&WORDS)).collect();
        words.join(" ")
    }
}

/// What is known of a table that others point to.
struct Known {
    name: String,
    keys: Vec<String>,
    is_number: bool,
    /// Another column that tells its records apart, with its values.
    other: Option<(String, Vec<String>)>,
}

/// A table whose records are numbered places of those of another.
struct Slots {
    name: String,
    owner: String,
    columns: [String; 2],
    places: Vec<(String, String)>,
}

fn main() -> Result<()> {
    let args = Args::parse();
    let mut total = Scores::default();
    for seed in 1..=args.games {
        let dir = args.dir.join(format!("game{seed}"));
        if dir.exists() {
            fs::remove_dir_all(&dir).with_context(|| format!("removing {}", dir.display()))?;
        }
        let tables = make(seed, &dir)?;
        measure(&dir, &tables, &mut total, args.verbose)?;
    }
    print(&total);
    Ok(())
}

fn make(seed: u64, dir: &Path) -> Result<Vec<Table>> {
    let mut game = Game { numbers: Numbers(seed * 7919), words: BTreeSet::new() };
    let mut known: Vec<Known> = Vec::new();
    let mut tables: Vec<Table> = Vec::new();
    let mut slots: Vec<Slots> = Vec::new();
    let mut texts: Vec<String> = Vec::new();
    let mut files: Vec<String> = Vec::new();
    for number in 0..30 {
        let name = format!("{}s", game.word());
        let format = *game.pick(&FORMATS);
        let count = 25 + game.below(180);
        let is_number = format != "ini" && format != "blocks" && format != "map" && game.chance(25);
        let is_pair = number > 6 && matches!(format, "tab" | "semicolon" | "comma") && game.chance(20);
        let adds = number > 4 && !is_pair && game.chance(12);
        let style = game.below(4);
        let keys = if adds {
            let of = known[game.below(known.len())].keys.clone();
            let cut = of.len() * 4 / 5;
            of[..cut.max(5)].to_vec()
        } else if is_number {
            let start = if game.chance(50) { 1 } else { 1000 * (number + 1) };
            let step = if game.chance(50) { 1 } else { 3 };
            (0..count).map(|at| (start + at * step).to_string()).collect()
        } else {
            let mut own = game.keys(count, style);
            // Some tables speak of the same things as others, and of more.
            let other = if known.is_empty() || !game.chance(20) {
                None
            } else {
                Some(&known[game.below(known.len())])
            };
            if let Some(other) = other.filter(|other| !other.is_number) {
                let shared = other.keys.len().min(own.len()) * 3 / 5;
                own[..shared].clone_from_slice(&other.keys[..shared]);
            }
            own
        };
        let count = keys.len();
        let mut columns: Vec<Column> = Vec::new();
        let own = name.trim_end_matches('s').to_owned();
        let mut key = Vec::new();
        let place = match format {
            "ini" => Some("{section}"),
            "map" => Some("{member}"),
            "blocks" => Some("{name}"),
            _ => None,
        };
        let capital = |name: &str| name[..1].to_uppercase() + &name[1..];
        let camel = game.chance(40);
        let styled = |name: String| if camel { capital(&name) } else { name };
        let mut used: BTreeSet<String> = BTreeSet::new();
        let words: Vec<usize> = (0..known.len()).filter(|at| !known[*at].is_number).collect();
        if is_pair && game.chance(50) && !words.is_empty() {
            let of = &known[*game.pick(&words)];
            let names = [styled(of.name.trim_end_matches('s').to_owned()), styled("slot".to_owned())];
            let mut places = Vec::new();
            for owner in of.keys.iter().take(40) {
                places.extend((1..=1 + game.below(5)).map(|slot| (owner.clone(), slot.to_string())));
            }
            let truths = [Truth::Link { kind: "reference", tables: vec![of.name.clone()] }, Truth::Plain];
            for (at, truth) in truths.into_iter().enumerate() {
                let values =
                    places.iter().map(|own| if at == 0 { own.0.clone() } else { own.1.clone() }).collect();
                key.push(names[at].clone());
                used.insert(names[at].clone());
                columns.push(Column { name: names[at].clone(), truth, none: None, values });
            }
            slots.push(Slots { name: name.clone(), owner: of.name.clone(), columns: names, places });
        } else if is_pair {
            // Two references that together name the record.
            if words.len() < 2 {
                continue;
            }
            let (a, b) = (*game.pick(&words), *game.pick(&words));
            if a == b {
                continue;
            }
            let mut seen = BTreeSet::new();
            let mut rows = Vec::new();
            for _ in 0..count * 2 {
                let pair = (game.below(known[a].keys.len().min(40)), game.below(known[b].keys.len().min(40)));
                if seen.insert(pair) {
                    rows.push(pair);
                }
            }
            for (target, first) in [(a, true), (b, false)] {
                let of = &known[target];
                let column = styled(of.name.trim_end_matches('s').to_owned());
                let values = rows.iter().map(|(x, y)| of.keys[if first { *x } else { *y }].clone()).collect();
                key.push(column.clone());
                used.insert(column.clone());
                let truth = Truth::Link { kind: "reference", tables: vec![of.name.clone()] };
                columns.push(Column { name: column, truth, none: None, values });
            }
        } else {
            let column = match game.below(4) {
                0 => "id".to_owned(),
                1 => own.clone(),
                2 => format!("{own}_id"),
                _ => "name".to_owned(),
            };
            let column = place.map_or(styled(column), str::to_owned);
            key.push(column.clone());
            used.insert(column.clone());
            let owner = known
                .iter()
                .find(|other| adds && other.keys.starts_with(&keys[..5]))
                .map(|other| other.name.clone());
            let truth =
                owner.map_or(Truth::Plain, |owner| Truth::Link { kind: "adds to", tables: vec![owner] });
            columns.push(Column { name: column, truth, none: None, values: keys.clone() });
        }
        // Numbered places of another table's records, and columns that name such a place together.
        let rows = columns[0].values.len();
        if let Some(own) = slots
            .iter()
            .find(|own: &&Slots| !used.contains(&own.columns[0]))
            .filter(|_| !is_pair && game.chance(25))
        {
            let picked: Vec<&(String, String)> = (0..rows).map(|_| game.pick(&own.places)).collect();
            let owner = Truth::Link { kind: "reference", tables: vec![own.owner.clone()] };
            let together = Truth::Link { kind: "together", tables: vec![own.name.clone()] };
            for (at, truth) in [owner, together].into_iter().enumerate() {
                let values =
                    picked.iter().map(|own| if at == 0 { own.0.clone() } else { own.1.clone() }).collect();
                used.insert(own.columns[at].clone());
                columns.push(Column { name: own.columns[at].clone(), truth, none: None, values });
            }
        }
        let more = 4 + game.below(8);
        for _ in 0..more {
            let column = make_column(
                &mut game,
                &known,
                rows,
                format,
                &name,
                &columns[0].values,
                &mut texts,
                &mut files,
                &mut used,
                camel,
            );
            columns.extend(column);
        }
        // A second identifier, which others may use.
        let mut other = None;
        if !is_pair && !adds && game.chance(30) {
            let column = styled(format!("{}_code", game.word()));
            let start = game.word().to_uppercase();
            let values: Vec<String> = (0..rows).map(|at| format!("{start}{:03}", at * 7 % 1000)).collect();
            columns.push(Column {
                name: column.clone(),
                truth: Truth::Plain,
                none: None,
                values: values.clone(),
            });
            other = Some((column, values));
        }
        // Values that are there in the file as they are read.
        if !is_pair && !adds {
            known.push(Known { name: name.clone(), keys, is_number, other });
        }
        tables.push(Table { name, format, key, columns });
    }
    fs::create_dir_all(dir.join("game/data"))?;
    for table in &tables {
        write_table(&dir.join("game/data"), table)?;
    }
    // What somebody kept of two tables before they changed them.
    fs::create_dir_all(dir.join("game/backup"))?;
    for table in tables.iter().filter(|own| own.columns[0].values.len() > 30).take(2) {
        write_table(&dir.join("game/backup"), table)?;
    }
    for code in ["en", "de"] {
        let mut out = String::new();
        for text in &texts {
            let prose = game.prose();
            writeln!(out, "{text} = \"{prose}\"")?;
        }
        fs::create_dir_all(dir.join("game/text"))?;
        fs::write(dir.join(format!("game/text/{code}.txt")), out)?;
    }
    for file in &files {
        let path = dir.join("game").join(file);
        fs::create_dir_all(path.parent().context("a folder")?)?;
        fs::write(path, b"\x00\x01binary")?;
    }
    fs::create_dir_all(dir.join("mod"))?;
    Ok(tables)
}

/// What a record of a table is called.
fn kinds_of(table: &str) -> &str {
    table.trim_end_matches('s')
}

#[allow(clippy::too_many_arguments)]
fn make_column(
    game: &mut Game,
    known: &[Known],
    rows: usize,
    format: &str,
    table: &str,
    keys: &[String],
    texts: &mut Vec<String>,
    files: &mut Vec<String>,
    used: &mut BTreeSet<String>,
    camel: bool,
) -> Vec<Column> {
    let style = |name: String| if camel { name[..1].to_uppercase() + &name[1..] } else { name };
    let kind = game.below(100);
    let target = if known.is_empty() { None } else { Some(&known[game.below(known.len())]) };
    let role = ["owner", "source", "from", "into", "next", "made_by", "gives", "after", "uses"];
    let mut named = |game: &mut Game, of: Option<&str>| -> Option<String> {
        let name = match of {
            Some(of) if game.chance(65) => of.trim_end_matches('s').to_owned(),
            Some(of) if game.chance(40) => format!("{}_{}", game.pick(&role), of.trim_end_matches('s')),
            _ => format!("{}_{}", game.pick(&role), game.below(9)),
        };
        let name = style(name);
        used.insert(name.clone()).then_some(name)
    };
    let one = |name: String, truth: Truth, none: Option<&'static str>, values: Vec<String>| {
        vec![Column { name, truth, none, values }]
    };
    match (kind, target) {
        // The record's own key again.
        (0..3, _) => {
            let name = style("ident".to_owned());
            if !used.insert(name.clone()) {
                return Vec::new();
            }
            one(name, Truth::Plain, None, keys.to_vec())
        }
        // One of two tables.
        (3..6, Some(target)) if !target.is_number => {
            let other = &known[game.below(known.len())];
            if other.is_number || other.name == target.name {
                return Vec::new();
            }
            let Some(name) = named(game, None) else { return Vec::new() };
            let values = (0..rows).map(|_| {
                if game.chance(50) { game.pick(&target.keys).clone() } else { game.pick(&other.keys).clone() }
            });
            let values = values.collect();
            let tables = vec![target.name.clone(), other.name.clone()];
            one(name, Truth::Link { kind: "one of two tables", tables }, None, values)
        }
        // References, some with a value for "nothing", some with a misspelt one.
        (6..38, Some(target)) => {
            let Some(name) = named(game, Some(&target.name)) else { return Vec::new() };
            let none = game
                .chance(35)
                .then(|| *game.pick(&["-", "none", "0", "-1", "nil"]))
                .filter(|none| !target.keys.iter().any(|key| key == none));
            let mut values: Vec<String> = (0..rows)
                .map(|_| match none {
                    Some(none) if game.chance(30) => none.to_owned(),
                    _ => game.pick(&target.keys).clone(),
                })
                .collect();
            if game.chance(15) && !target.is_number && rows > 60 {
                let at = game.below(rows);
                if values[at].len() > 5 {
                    values[at].remove(3);
                }
            }
            let kind = if target.is_number { "number" } else { "reference" };
            one(name, Truth::Link { kind, tables: vec![target.name.clone()] }, none, values)
        }
        // Lists, and lists of parts.
        (38..50, Some(target)) if !target.is_number => {
            let Some(name) = named(game, Some(&target.name)) else { return Vec::new() };
            let sign = match format {
                "semicolon" => *game.pick(&[",", "|"]),
                "comma" => *game.pick(&[";", "|"]),
                _ => *game.pick(&[";", ",", "|"]),
            };
            let sign = if matches!(format, "ini" | "blocks") { "|" } else { sign };
            let parts = game.chance(35);
            let between = *game.pick(&[":", ":", "*", "@", "="]);
            let values = (0..rows).map(|_| {
                let items: Vec<String> = (0..1 + game.below(4))
                    .map(|_| match parts {
                        true => format!("{}{between}{}", game.pick(&target.keys), game.below(90) + 1),
                        false => game.pick(&target.keys).clone(),
                    })
                    .collect();
                items.join(sign)
            });
            let values = values.collect();
            let kind = if parts { "parts" } else { "list" };
            one(name, Truth::Link { kind, tables: vec![target.name.clone()] }, None, values)
        }
        // Columns that belong together.
        (50..54, Some(target)) if !target.is_number => {
            let Some(name) = named(game, Some(&target.name)) else { return Vec::new() };
            let truth = Truth::Link { kind: "family", tables: vec![target.name.clone()] };
            (1..=3)
                .map(|number| Column {
                    name: format!("{name}{number}"),
                    truth: truth.clone(),
                    none: (number > 1).then_some("-"),
                    values: (0..rows)
                        .map(|_| {
                            if number > 1 && game.chance(40) {
                                "-".to_owned()
                            } else {
                                game.pick(&target.keys).clone()
                            }
                        })
                        .collect(),
                })
                .collect()
        }
        (54..60, _) => {
            let name = style(game.pick(&["title", "label_key", "text", "caption"]).to_string());
            if !used.insert(name.clone()) {
                return Vec::new();
            }
            let values: Vec<String> =
                keys.iter().map(|key| format!("{table}_{key}_{}", name.to_lowercase())).collect();
            texts.extend(values.clone());
            one(name, Truth::Text, None, values)
        }
        (60..64, _) => {
            let name = style(game.pick(&["icon", "sound", "picture"]).to_string());
            if !used.insert(name.clone()) {
                return Vec::new();
            }
            let folder = format!("art/{}", game.word());
            let names: Vec<String> = (0..20).map(|_| game.word()).collect();
            files.extend(names.iter().map(|name| format!("{folder}/{name}.img")));
            let whole = game.chance(40);
            let values = (0..rows)
                .map(|_| match whole {
                    true => format!("{folder}/{}.img", game.pick(&names)),
                    false => game.pick(&names).clone(),
                })
                .collect();
            one(name, Truth::File, None, values)
        }
        // One of two tables, or a word, told by another column.
        (64..66, Some(target)) if !target.is_number => {
            let other = &known[game.below(known.len())];
            let teller = style(format!("kind_{}", game.below(9)));
            let Some(name) = named(game, None) else { return Vec::new() };
            if other.is_number || other.name == target.name || !used.insert(teller.clone()) {
                return Vec::new();
            }
            let word = format!("{}x", game.word());
            let kinds = [target.name.trim_end_matches('s'), other.name.trim_end_matches('s'), word.as_str()];
            let kinds: Vec<String> = (0..rows).map(|_| (*game.pick(&kinds)).to_owned()).collect();
            let value = |kind: &String| match kind {
                kind if *kind == kinds_of(&target.name) => game.pick(&target.keys).clone(),
                kind if *kind == kinds_of(&other.name) => game.pick(&other.keys).clone(),
                _ => game.word(),
            };
            let values = kinds.iter().map(value).collect();
            let tables = vec![target.name.clone(), other.name.clone()];
            let truth = Truth::Link { kind: "told by another", tables };
            vec![
                Column { name: teller, truth: Truth::Plain, none: None, values: kinds },
                Column { name, truth, none: None, values },
            ]
        }
        // A list that begins with the number of its items.
        (66..68, Some(target)) if !target.is_number => {
            let Some(name) = named(game, Some(&target.name)) else { return Vec::new() };
            let values = (0..rows).map(|_| {
                let count = 1 + game.below(4);
                let items: Vec<String> = (0..count).map(|_| game.pick(&target.keys).clone()).collect();
                format!("{count}|{}", items.join("|"))
            });
            let values = values.collect();
            one(name, Truth::Link { kind: "counted list", tables: vec![target.name.clone()] }, None, values)
        }
        // A name with something before or behind it.
        (68..70, Some(target)) if !target.is_number => {
            let Some(name) = named(game, Some(&target.name)) else { return Vec::new() };
            let word = game.word();
            let (before, behind) = match game.below(4) {
                0 => ("*".to_owned(), String::new()),
                1 => (format!("{word}_"), String::new()),
                2 => (format!("{word}/"), ".pic".to_owned()),
                _ => (String::new(), format!("_{word}")),
            };
            let values = (0..rows).map(|_| format!("{before}{}{behind}", game.pick(&target.keys))).collect();
            one(name, Truth::Link { kind: "decorated", tables: vec![target.name.clone()] }, None, values)
        }
        // Another column than the key of its table.
        (70..73, Some(target)) if target.other.is_some() => {
            let Some(name) = named(game, Some(&target.name)) else { return Vec::new() };
            let Some((column, codes)) = &target.other else { return Vec::new() };
            let values = (0..rows).map(|_| game.pick(codes).clone()).collect();
            let tables = vec![format!("{}.{column}", target.name)];
            one(name, Truth::Link { kind: "other column", tables }, None, values)
        }
        // A mark before some of the names.
        (73..75, Some(target)) if !target.is_number => {
            let Some(name) = named(game, Some(&target.name)) else { return Vec::new() };
            let mark = *game.pick(&["*", "!", "~"]);
            let values = (0..rows).map(|_| match game.chance(30) {
                true => format!("{mark}{}", game.pick(&target.keys)),
                false => game.pick(&target.keys).clone(),
            });
            let values = values.collect();
            one(name, Truth::Link { kind: "marked", tables: vec![target.name.clone()] }, None, values)
        }
        (64..78, _) => {
            let name = style(format!(
                "{}_{}",
                game.pick(&["size", "cost", "speed", "weight", "level", "count"]),
                game.below(9)
            ));
            if !used.insert(name.clone()) {
                return Vec::new();
            }
            let (most, scale) = (*game.pick(&[3, 10, 100, 5000]), game.chance(20));
            let values = (0..rows)
                .map(|_| match scale {
                    true => format!("{}.{}", game.below(most), game.below(9)),
                    false => game.below(most).to_string(),
                })
                .collect();
            one(name, Truth::Plain, None, values)
        }
        (78..88, _) => {
            let name = style(format!("{}_{}", game.pick(&["kind", "mode", "class", "side"]), game.below(9)));
            if !used.insert(name.clone()) {
                return Vec::new();
            }
            let words: Vec<String> = (0..2 + game.below(5)).map(|_| game.word()).collect();
            let values = (0..rows).map(|_| game.pick(&words).clone()).collect();
            one(name, Truth::Plain, None, values)
        }
        (88..93, _) => {
            let name = style(game.pick(&["enabled", "hidden", "solid"]).to_string());
            if !used.insert(name.clone()) {
                return Vec::new();
            }
            let words = *game.pick(&[["true", "false"], ["yes", "no"], ["1", "0"]]);
            let values = (0..rows).map(|_| (*game.pick(&words)).to_owned()).collect();
            one(name, Truth::Plain, None, values)
        }
        _ => {
            let name = style(game.pick(&["about", "hint", "story"]).to_string());
            if !used.insert(name.clone()) {
                return Vec::new();
            }
            let values = (0..rows).map(|_| game.prose()).collect();
            one(name, Truth::Plain, None, values)
        }
    }
}

fn write_table(dir: &Path, table: &Table) -> Result<()> {
    let rows = table.columns[0].values.len();
    let mut out = String::new();
    let own = table.name.trim_end_matches('s');
    let named: &[Column] = match table.format {
        "ini" | "map" | "blocks" => &table.columns[1..],
        _ => &table.columns,
    };
    let ending = match table.format {
        "tab" | "blanks" => "txt",
        "semicolon" | "comma" => "csv",
        "ini" => "ini",
        "xml" => "xml",
        "json" | "map" => "json",
        _ => "dat",
    };
    let json = |value: &str| match value.parse::<i64>() {
        Ok(number) if number.to_string() == value => value.to_owned(),
        _ => format!("\"{value}\""),
    };
    match table.format {
        "tab" | "semicolon" | "comma" => {
            let sign = match table.format {
                "tab" => "\t",
                "semicolon" => ";",
                _ => ",",
            };
            let header: Vec<&str> = named.iter().map(|column| column.name.as_str()).collect();
            writeln!(out, "{}", header.join(sign))?;
            for row in 0..rows {
                let cells: Vec<&str> = named.iter().map(|column| column.values[row].as_str()).collect();
                writeln!(out, "{}", cells.join(sign))?;
            }
        }
        "blanks" => {
            let cell = |value: &str| match value.contains(' ') || value.is_empty() {
                true => format!("\"{value}\""),
                false => value.to_owned(),
            };
            // The names of the columns stand in a note above every other such table.
            write!(out, "{}", if table.name.len().is_multiple_of(2) { "# " } else { "" })?;
            let header: Vec<&str> = named.iter().map(|column| column.name.as_str()).collect();
            writeln!(out, "{}", header.join("   "))?;
            for row in 0..rows {
                let cells: Vec<String> =
                    named.iter().map(|column| format!("{:<12}", cell(&column.values[row]))).collect();
                writeln!(out, "{}", cells.join(" ").trim_end())?;
            }
        }
        "ini" => {
            for row in 0..rows {
                writeln!(out, "[{}]", table.columns[0].values[row])?;
                for column in named {
                    writeln!(out, "{} = {}", column.name, column.values[row])?;
                }
                writeln!(out)?;
            }
        }
        "xml" => {
            writeln!(out, "<?xml version=\"1.0\"?>\n<{}>", table.name)?;
            for row in 0..rows {
                let (attributes, inside) = named.split_at(named.len().div_ceil(2));
                write!(out, "  <{own}")?;
                for column in attributes {
                    write!(out, " {}=\"{}\"", column.name, column.values[row])?;
                }
                writeln!(out, ">")?;
                for column in inside {
                    writeln!(out, "    <{0}>{1}</{0}>", column.name, column.values[row])?;
                }
                writeln!(out, "  </{own}>")?;
            }
            writeln!(out, "</{}>", table.name)?;
        }
        "json" | "map" => {
            let map = table.format == "map";
            writeln!(out, "{}", if map { "{" } else { "[" })?;
            for row in 0..rows {
                let members: Vec<String> = named
                    .iter()
                    .map(|column| format!("\"{}\": {}", column.name, json(&column.values[row])))
                    .collect();
                let name =
                    if map { format!("\"{}\": ", table.columns[0].values[row]) } else { String::new() };
                writeln!(
                    out,
                    "  {name}{{ {} }}{}",
                    members.join(", "),
                    if row + 1 < rows { "," } else { "" }
                )?;
            }
            writeln!(out, "{}", if map { "}" } else { "]" })?;
        }
        _ => {
            writeln!(out, "{} = {{", table.name)?;
            for row in 0..rows {
                writeln!(out, "    {} = {{", table.columns[0].values[row])?;
                for column in named {
                    let value = &column.values[row];
                    let quoted = value.contains([' ', ':', '|', '/', '*', '@', '=', '!', '~']);
                    let value = if quoted { format!("\"{value}\"") } else { value.clone() };
                    writeln!(out, "        {} = {value}", column.name)?;
                }
                writeln!(out, "    }}")?;
            }
            writeln!(out, "}}")?;
        }
    }
    fs::write(dir.join(format!("{}.{ending}", table.name)), out)?;
    Ok(())
}

/// For a kind of truth: how many there are, and how many were found in each band.
#[derive(Default)]
struct Found {
    all: usize,
    accept: usize,
    ask: usize,
}

#[derive(Default)]
struct Scores {
    by_kind: BTreeMap<&'static str, Found>,
    /// Links proposed in each band, and how many of them are true.
    proposed: [(usize, usize); 2],
    tables: usize,
    keys: usize,
    none: Found,
    none_proposed: usize,
    none_of_keys: usize,
}

/// A column as the proposals name it: without the signs of its format.
fn bare(name: &str) -> &str {
    name.trim_start_matches('@').trim_end_matches("[*]")
}

fn measure(dir: &Path, tables: &[Table], scores: &mut Scores, verbose: bool) -> Result<()> {
    let described = "[project]\nschema = \"s.toml\"\n[[layer]]\nname = \"game\"\npath = \"game\"\n[[layer]]\nname = \"mod\"\npath = \"mod\"\n";
    let project = Project::described(dir, described, &[("s.toml".to_owned(), String::new())])?;
    let learned = learn(project.view());
    let game = dir.file_name().map(|name| name.to_string_lossy().into_owned()).unwrap_or_default();
    let setting = |settings: &[(String, String)], name: &str| -> Option<String> {
        settings.iter().find(|(own, _)| own == name).map(|(_, value)| value.clone())
    };
    for table in tables {
        scores.tables += 1;
        let own: Vec<_> = learned.proposals.iter().filter(|own| own.table == table.name).collect();
        let key =
            own.iter().find(|own| own.topic == Topic::Table).and_then(|own| setting(&own.settings, "key"));
        let found: BTreeSet<String> = key
            .iter()
            .flat_map(|key| key.split('"'))
            .map(|part| bare(part).to_owned())
            .filter(|part| !part.contains([',', '[', ']', ' ']) && !part.is_empty())
            .collect();
        let expected: BTreeSet<String> = table.key.iter().cloned().collect();
        if found == expected {
            scores.keys += 1;
        } else if verbose {
            println!("{game} {} ({}): key {found:?}, not {expected:?}", table.name, table.format);
        }
        for column in &table.columns {
            let links = own.iter().filter(|own| {
                own.topic == Topic::Link && own.field.as_deref().map(bare) == Some(&column.name)
            });
            let mut best: Option<Band> = None;
            for link in links.filter(|own| own.band != Band::Hidden) {
                let leads = format!("{:?}", link.settings);
                let is_true = match &column.truth {
                    Truth::Plain => false,
                    Truth::Link { tables, .. } => {
                        tables.iter().all(|table| leads.contains(&format!("\\\"{table}\\\"")))
                    }
                    Truth::Text => setting(&link.settings, "text").is_some(),
                    Truth::File => setting(&link.settings, "file").is_some(),
                };
                let band = usize::from(link.band != Band::Accept);
                scores.proposed[band].0 += 1;
                scores.proposed[band].1 += usize::from(is_true);
                if is_true {
                    best = Some(best.map_or(link.band, |best| best.min(link.band)));
                } else if verbose {
                    println!(
                        "{game} {}.{} ({}): {:?} {} {:?}, not {:?}",
                        table.name,
                        column.name,
                        table.format,
                        link.band,
                        link.says,
                        link.settings,
                        column.truth
                    );
                }
            }
            let kind = match &column.truth {
                Truth::Plain => "",
                Truth::Link { kind, .. } => kind,
                Truth::Text => "text",
                Truth::File => "file",
            };
            if !kind.is_empty() {
                let found = scores.by_kind.entry(kind).or_default();
                found.all += 1;
                found.accept += usize::from(best == Some(Band::Accept));
                found.ask += usize::from(best.is_some());
                if best.is_none() && verbose {
                    println!(
                        "{game} {}.{} ({}): missed {:?}, e.g. {:?}",
                        table.name,
                        column.name,
                        table.format,
                        column.truth,
                        &column.values[..3]
                    );
                }
            }
            let none: Vec<&(String, u64)> = own
                .iter()
                .filter(|own| {
                    own.band != Band::Hidden && own.field.as_deref().map(bare) == Some(&column.name)
                })
                .flat_map(|own| &own.none)
                .collect();
            scores.none_proposed += none.len();
            if let Some(expected) = column.none {
                scores.none.all += 1;
                let ok = none.iter().any(|(none, _)| none == expected);
                scores.none.accept += usize::from(ok);
                if !ok && verbose {
                    println!("{game} {}.{}: none {expected} not found", table.name, column.name);
                }
            }
            if let Truth::Link { tables: targets, .. } = &column.truth {
                let keys = tables
                    .iter()
                    .filter(|other| targets.contains(&other.name))
                    .flat_map(|other| &other.columns[0].values);
                let keys: BTreeSet<&String> = keys.collect();
                scores.none_of_keys += none.iter().filter(|(none, _)| keys.contains(none)).count();
            }
        }
    }
    Ok(())
}

fn print(scores: &Scores) {
    let share = |part: usize, whole: usize| if whole == 0 { 1.0 } else { part as f64 / whole as f64 };
    println!("| kind | in the games | found: accept | accept or ask |\n| --- | ---: | ---: | ---: |");
    let (mut all, mut accept, mut ask) = (0, 0, 0);
    for (kind, found) in &scores.by_kind {
        println!(
            "| {kind} | {} | {:.3} | {:.3} |",
            found.all,
            share(found.accept, found.all),
            share(found.ask, found.all)
        );
        (all, accept, ask) = (all + found.all, accept + found.accept, ask + found.ask);
    }
    println!("| all | {all} | {:.3} | {:.3} |\n", share(accept, all), share(ask, all));
    let [(accepted, accepted_true), (asked, asked_true)] = scores.proposed;
    println!("| measure | figure | aim |\n| --- | ---: | ---: |");
    println!(
        "| precision, accept | {:.3} ({accepted_true} of {accepted}) | 0.97 |",
        share(accepted_true, accepted)
    );
    println!("| recall, accept | {:.3} | 0.75 |", share(accept, all));
    println!(
        "| precision, accept and ask | {:.3} | 0.80 |",
        share(accepted_true + asked_true, accepted + asked)
    );
    println!("| recall, accept and ask | {:.3} | 0.92 |", share(ask, all));
    println!("| key right | {:.3} (of {} tables) | 0.97 |", share(scores.keys, scores.tables), scores.tables);
    println!(
        "| none values found | {:.3} (of {}) | 0.90 |",
        share(scores.none.accept, scores.none.all),
        scores.none.all
    );
    println!("| keys taken for none | {} | 0 |", scores.none_of_keys);
}
