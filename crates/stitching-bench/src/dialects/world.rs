//! A made-up game: kinds of things with records that name each other.

use std::collections::HashSet;
use stitching_bench::Numbers;

/// A value of a field.
pub enum Value {
    Number(usize),
    Word(&'static str),
    Prose(String),
    /// Names records of the kind at this position, by their positions.
    Names(usize, Vec<usize>),
}

pub struct Record {
    pub key: String,
    /// By the positions of the kind's fields; some records lack some.
    pub values: Vec<Option<Value>>,
}

/// A kind of things in a game.
pub struct Kind {
    pub name: String,
    pub fields: Vec<String>,
    pub records: Vec<Record>,
}

pub const WORDS: [&str; 40] = [
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

pub struct Maker {
    pub numbers: Numbers,
    pub used: HashSet<String>,
}

impl Maker {
    pub fn below(&mut self, end: usize) -> usize {
        self.numbers.below(end)
    }

    pub fn word(&mut self) -> &'static str {
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
    pub fn world(&mut self) -> Vec<Kind> {
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
