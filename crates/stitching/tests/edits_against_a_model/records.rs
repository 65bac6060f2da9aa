//! Records with plain fields, in twelve ways of writing them, alone and over a base.

use super::support::{self, stitching, write_project};
use super::{Dice, make};
use rstest::rstest;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::fs;
use tempfile::TempDir;

/// What a record holds, by field.
type Record = BTreeMap<String, String>;
/// Records by key, in the order of a file.
type Records = Vec<(String, Record)>;

fn find<'a>(records: &'a mut Records, key: &str) -> Option<&'a mut Record> {
    records.iter_mut().find(|(own, _)| own == key).map(|(_, record)| record)
}

/// A way in which records with plain fields are written.
#[derive(Debug, Clone, Copy)]
struct Dialect {
    name: &'static str,
    format: &'static str,
    key: &'static str,
    /// What stands before the names of fields in the schema.
    sign: &'static str,
    /// Whether each record has all fields.
    full: bool,
    write: fn(&Records) -> String,
}

fn each(records: &Records, one: impl Fn(&str, &Record) -> String) -> String {
    records.iter().map(|(key, record)| one(key, record)).collect()
}

fn fields(record: &Record, one: impl Fn(&str, &str) -> String) -> String {
    record.iter().map(|(field, value)| one(field, value)).collect()
}

fn cell<'r>(record: &'r Record, field: &str) -> &'r str {
    record.get(field).map_or("", String::as_str)
}

fn object(key: Option<&str>, record: &Record) -> Value {
    let key = key.map(|key| ("Id".to_owned(), json!(key)));
    let fields = record.iter().map(|(field, value)| (field.clone(), json!(value)));
    Value::Object(key.into_iter().chain(fields).collect())
}

const TABS: Dialect = Dialect {
    name: "tabs",
    format: r#"{ kind = "delimited" }"#,
    key: "Id",
    sign: "",
    full: true,
    write: |records| {
        let row = |key: &str, own: &Record| format!("{key}\t{}\t{}\n", cell(own, "Hold"), cell(own, "Crew"));
        format!("Id\tHold\tCrew\n{}", each(records, row))
    },
};

const COMMAS: Dialect = Dialect {
    name: "commas",
    format: r#"{ kind = "delimited", delimiter = "," }"#,
    key: "Id",
    sign: "",
    full: true,
    write: |records| {
        let row =
            |key: &str, own: &Record| format!("\"{key}\",{},{}\r\n", cell(own, "Hold"), cell(own, "Crew"));
        format!("Id,Hold,Crew\r\n{}", each(records, row))
    },
};

const SECTIONS: Dialect = Dialect {
    name: "sections",
    format: r#"{ kind = "ini" }"#,
    key: "{section}",
    sign: "",
    full: false,
    write: |records| {
        each(records, |key, own| {
            format!("[{key}]\n{}\n", fields(own, |field, value| format!("{field} = {value}\n")))
        })
    },
};

const SECTIONS_OF_A_KIND: Dialect = Dialect {
    name: "sections of a kind",
    format: r#"{ kind = "ini", section = "boat" }"#,
    key: "Id",
    sign: "",
    full: false,
    write: |records| {
        each(records, |key, own| {
            format!("[boat]\nId={key}\n{}", fields(own, |field, value| format!("{field}={value}\n")))
        })
    },
};

const OBJECTS: Dialect = Dialect {
    name: "objects",
    format: r#"{ kind = "json", records = "$.boats[*]" }"#,
    key: "Id",
    sign: "",
    full: false,
    write: |records| {
        let lines: Vec<String> =
            records.iter().map(|(key, own)| format!("  {}", object(Some(key), own))).collect();
        format!("{{ \"boats\": [\n{}\n] }}\n", lines.join(",\n"))
    },
};

const WIDE_OBJECTS: Dialect = Dialect {
    name: "wide objects",
    format: r#"{ kind = "json", records = "$[*]" }"#,
    key: "Id",
    sign: "",
    full: false,
    write: |records| {
        let all: Vec<Value> = records.iter().map(|(key, own)| object(Some(key), own)).collect();
        format!("{}\n", serde_json::to_string_pretty(&all).expect("written"))
    },
};

const MEMBERS: Dialect = Dialect {
    name: "members",
    format: r#"{ kind = "json", records = "$.*" }"#,
    key: "{member}",
    sign: "",
    full: false,
    write: |records| {
        let lines: Vec<String> =
            records.iter().map(|(key, own)| format!("  \"{key}\": {}", object(None, own))).collect();
        format!("{{\n{}\n}}\n", lines.join(",\n"))
    },
};

const ATTRIBUTES: Dialect = Dialect {
    name: "attributes",
    format: r#"{ kind = "xml", records = "/game/boat" }"#,
    key: "@Id",
    sign: "@",
    full: false,
    write: |records| {
        let one = |key: &str, own: &Record| {
            format!("  <boat Id=\"{key}\"{}/>\n", fields(own, |field, value| format!(" {field}=\"{value}\"")))
        };
        format!("<game>\n{}</game>\n", each(records, one))
    },
};

const ELEMENTS: Dialect = Dialect {
    name: "elements",
    format: r#"{ kind = "xml", records = "/game/boat" }"#,
    key: "Id",
    sign: "",
    full: false,
    write: |records| {
        let one = |key: &str, own: &Record| {
            let own = fields(own, |field, value| format!("    <{field}>{value}</{field}>\n"));
            format!("  <boat>\n    <Id>{key}</Id>\n{own}  </boat>\n")
        };
        format!("<game>\n{}</game>\n", each(records, one))
    },
};

const BLOCKS: Dialect = Dialect {
    name: "blocks",
    format: r#"{ kind = "blocks", records = "boats/*" }"#,
    key: "{name}",
    sign: "",
    full: false,
    write: |records| {
        let one = |key: &str, own: &Record| {
            format!("\t{key} = {{\n{}\t}}\n", fields(own, |field, value| format!("\t\t{field} = {value}\n")))
        };
        format!("boats = {{\n{}}}\n", each(records, one))
    },
};

const BLOCKS_WITH_A_KEY: Dialect = Dialect {
    name: "blocks with a key",
    format: r#"{ kind = "blocks", records = "boat" }"#,
    key: "Id",
    sign: "",
    full: false,
    write: |records| {
        each(records, |key, own| {
            format!(
                "boat = {{\n\tId = {key}\n{}}}\n",
                fields(own, |field, value| format!("\t{field} = {value}\n"))
            )
        })
    },
};

const LINES: Dialect = Dialect {
    name: "lines",
    format: r#"{ kind = "lines", line = "boat {Id}: {Hold}, {Crew}" }"#,
    key: "Id",
    sign: "",
    full: true,
    write: |records| {
        each(records, |key, own| format!("boat {key}: {}, {}\n", cell(own, "Hold"), cell(own, "Crew")))
    },
};

/// A project whose boats have a crew, over a game that has some of them too.
struct Boats {
    folder: TempDir,
    dice: Dice,
    dialect: Dialect,
    crews: Vec<String>,
    /// What the game says, and what is seen with the mod over it.
    game: Records,
    seen: Records,
    made: usize,
}

impl Boats {
    fn new(dialect: Dialect, merged: bool, throw: usize) -> Boats {
        let folder = tempfile::tempdir().expect("a folder");
        write_project(folder.path(), true);
        let mut dice = Dice::of(&format!("{} {merged} {throw}", dialect.name));
        let crews: Vec<String> = ["tow", "haul", "ice", "raft"].map(str::to_owned).to_vec();
        let mut record = |full: bool| {
            let mut record = Record::new();
            if full || dice.below(4) > 0 {
                record.insert("Crew".to_owned(), dice.one(&crews).clone());
            }
            if full || record.is_empty() || dice.below(4) > 0 {
                record.insert("Hold".to_owned(), dice.below(100).to_string());
            }
            record
        };
        let mut some = |from: usize, to: usize| -> Records {
            (from..to).map(|number| (format!("b{number}"), record(dialect.full))).collect()
        };
        let game = if merged { some(0, 5) } else { Vec::new() };
        let own = some(3, 8);
        let mut seen = game.clone();
        for (key, record) in &own {
            match find(&mut seen, key) {
                Some(below) => below.extend(record.clone()),
                None => seen.push((key.clone(), record.clone())),
            }
        }
        let write = |path: &str, text: String| fs::write(folder.path().join(path), text).expect("written");
        write("mod/crews.txt", crews.iter().map(|crew| format!("{crew}\n")).collect());
        write("mod/boats.x", (dialect.write)(&own));
        if merged {
            write("game/boats.x", (dialect.write)(&game));
        }
        let layering = if merged { "layering = \"merge\"\n" } else { "" };
        let sign = dialect.sign;
        write(
            "schema.toml",
            format!(
                "[table.boats]\nfiles = \"boats.x\"\nformat = {}\nkey = \"{}\"\n{layering}[table.boats.fields]\n\
                 \"{sign}Crew\" = {{ ref = \"crews\" }}\n\"{sign}Hold\" = {{ type = \"integer\" }}\n\
                 [table.crews]\nfiles = \"crews.txt\"\nformat = {{ kind = \"lines\", line = \"{{crew}}\" }}\nkey = \"crew\"\n",
                dialect.format, dialect.key
            ),
        );
        Boats { folder, dice, dialect, crews, game, seen, made: 0 }
    }

    /// What `show` tells of the boats.
    fn shown(&self) -> BTreeMap<String, Record> {
        let shown = support::json(self.folder.path(), &["show", "boats"]);
        let record = |own: &Value| {
            let fields = own["fields"].as_object().expect("fields").iter();
            let fields = fields.filter_map(|(name, value)| {
                let name = name.trim_start_matches('@');
                let value = value.as_str().filter(|value| !value.is_empty())?;
                ["Hold", "Crew"].contains(&name).then(|| (name.to_owned(), value.to_owned()))
            });
            (own["key"].as_str().expect("a key").to_owned(), fields.collect())
        };
        shown["records"].as_array().expect("records").iter().map(record).collect()
    }

    /// An edit: its command, what is seen after it, and whether it may be refused.
    fn edit(&mut self) -> (Vec<String>, Records, bool) {
        let (sign, mut seen) = (self.dialect.sign, self.seen.clone());
        self.made += 1;
        let new = format!("n{}", self.made);
        let at = self.dice.below(seen.len());
        let key = seen[at].0.clone();
        let below = self.game.iter().find(|(own, _)| *own == key).map(|(_, record)| record.clone());
        let own = format!("boats:{key}");
        let words = |words: &[&str]| words.iter().map(|word| (*word).to_owned()).collect::<Vec<_>>();
        let crew = self.dice.one(&self.crews).clone();
        let hold = (100 + self.dice.below(900)).to_string();
        match self.dice.below(8) {
            0 => {
                seen[at].1.insert("Hold".to_owned(), hold.clone());
                (words(&["set", &own, &format!("{sign}Hold={hold}")]), seen, false)
            }
            1 => {
                let is_so = seen[at].1.insert("Crew".to_owned(), crew.clone()).is_some_and(|old| old == crew);
                (words(&["set", &own, &format!("{sign}Crew={crew}")]), seen, is_so)
            }
            2 => {
                let record = seen[at].1.clone();
                match &below {
                    // It is still there, as the game has it.
                    Some(below) => {
                        seen[at].1 = below.clone();
                        seen.push((new.clone(), record));
                    }
                    None => seen[at].0 = new.clone(),
                }
                // What the game says then may refer to what has another name by now.
                (words(&["rename", &own, &format!("boats:{new}")]), seen, below.is_some())
            }
            3 => {
                for record in seen.iter_mut().map(|(_, record)| record) {
                    record
                        .values_mut()
                        .filter(|value| **value == crew)
                        .for_each(|value| *value = new.clone());
                }
                (words(&["rename", &format!("crews:{crew}"), &new]), seen, false)
            }
            4 => {
                let fields = [("Hold", &hold), ("Crew", &crew)];
                let record =
                    fields.map(|(field, value)| (field.to_owned(), value.clone())).into_iter().collect();
                seen.push((new.clone(), record));
                let (hold, crew) = (format!("{sign}Hold={hold}"), format!("{sign}Crew={crew}"));
                (words(&["add", "boats", &new, &hold, &crew]), seen, false)
            }
            5 => {
                let record = seen[at].1.clone();
                seen.push((new.clone(), record));
                (words(&["copy", &own, &new]), seen, false)
            }
            number => {
                let command = if number == 6 { "remove" } else { "off" };
                match below.clone() {
                    Some(below) => seen[at].1 = below,
                    None => drop(seen.remove(at)),
                }
                (words(&[command, &own]), seen, below.is_some())
            }
        }
    }

    fn run(&mut self, edits: usize) {
        for _ in 0..edits {
            let crews = self.crews.clone();
            let (words, seen, may_be_refused) = self.edit();
            if !make(self.folder.path(), &words, may_be_refused) {
                continue;
            }
            let expected: BTreeMap<String, Record> = seen.iter().cloned().collect();
            assert_eq!(self.shown(), expected, "{words:?} of {crews:?}\n{}", self.text());
            if words[0] == "off" {
                let on = stitching(self.folder.path(), &["on", &words[1]]);
                assert_eq!(on.status, 0, "{}", on.err);
                let before: BTreeMap<String, Record> = self.seen.iter().cloned().collect();
                assert_eq!(self.shown(), before, "on again: {words:?}\n{}", self.text());
                continue;
            }
            if words[0] == "rename" && words[1].starts_with("crews:") {
                let own = self.crews.iter_mut().find(|crew| words[1].ends_with(&format!(":{crew}")));
                own.expect("one of them").clone_from(&words[2]);
            }
            self.seen = seen;
            if self.seen.is_empty() {
                return;
            }
        }
    }

    fn text(&self) -> String {
        fs::read_to_string(self.folder.path().join("mod/boats.x")).unwrap_or_default()
    }
}

#[rstest]
fn records(
    #[values(
        TABS,
        COMMAS,
        SECTIONS,
        SECTIONS_OF_A_KIND,
        OBJECTS,
        WIDE_OBJECTS,
        MEMBERS,
        ATTRIBUTES,
        ELEMENTS,
        BLOCKS,
        BLOCKS_WITH_A_KEY,
        LINES
    )]
    dialect: Dialect,
    #[values(false, true)] merged: bool,
) {
    Boats::new(dialect, merged, 0).run(7);
}
