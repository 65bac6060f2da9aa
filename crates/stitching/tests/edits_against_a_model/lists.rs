//! Records with a list, in seven ways of writing them.

use super::support::{self, write_project};
use super::{Dice, make};
use rstest::rstest;
use serde_json::{Value, json};
use std::collections::BTreeMap;
use std::fs;

/// A way in which records with a list of crews are written.
#[derive(Debug, Clone, Copy)]
struct ListDialect {
    format: &'static str,
    key: &'static str,
    field: &'static str,
    /// What the schema says of the list besides.
    settings: &'static str,
    /// What stands between items as they are shown.
    between: &'static str,
    write: fn(&Lists) -> String,
}

type Lists = Vec<(String, Vec<String>)>;

fn all(lists: &Lists, one: impl Fn(&str, &[String]) -> String) -> String {
    lists.iter().map(|(key, items)| one(key, items)).collect()
}

fn items(items: &[String], one: impl Fn(&str) -> String) -> String {
    items.iter().map(|item| one(item)).collect()
}

const ROWS_WITH_LISTS: ListDialect = ListDialect {
    format: r#"{ kind = "delimited" }"#,
    key: "Id",
    field: "Crews",
    settings: r#", list = ";""#,
    between: ";",
    write: |lists| {
        format!("Id\tHold\tCrews\n{}", all(lists, |key, own| format!("{key}\t3\t{}\n", own.join(";"))))
    },
};

const QUOTED_LISTS: ListDialect = ListDialect {
    format: r#"{ kind = "delimited", delimiter = "," }"#,
    key: "Id",
    field: "Crews",
    settings: r#", list = ",""#,
    between: ",",
    write: |lists| format!("Id,Crews\n{}", all(lists, |key, own| format!("{key},\"{}\"\n", own.join(",")))),
};

const KEYS_AGAIN: ListDialect = ListDialect {
    format: r#"{ kind = "ini" }"#,
    key: "{section}",
    field: "Crew",
    settings: "",
    between: ", ",
    write: |lists| {
        all(lists, |key, own| {
            format!("; one\n[{key}]\nHold=3\n{}\n", items(own, |item| format!("Crew={item}\n")))
        })
    },
};

const ARRAYS: ListDialect = ListDialect {
    format: r#"{ kind = "json", records = "$[*]" }"#,
    key: "Id",
    field: "Crews[*]",
    settings: "",
    between: ", ",
    write: |lists| {
        let objects: Vec<Value> =
            lists.iter().map(|(key, own)| json!({ "Id": key, "Crews": own, "Hold": 3 })).collect();
        format!("{}\n", serde_json::to_string_pretty(&objects).expect("written"))
    },
};

const ELEMENTS_IN_ONE: ListDialect = ListDialect {
    format: r#"{ kind = "xml", records = "/game/boat" }"#,
    key: "@Id",
    field: "Crews/c/@n",
    settings: "",
    between: ", ",
    write: |lists| {
        let one = |key: &str, own: &[String]| {
            let own = items(own, |item| format!("      <c n=\"{item}\" />\n"));
            format!("  <boat Id=\"{key}\">\n    <Crews>\n{own}    </Crews>\n  </boat>\n")
        };
        format!("<game>\n{}</game>\n", all(lists, one))
    },
};

const WORDS_IN_BLOCKS: ListDialect = ListDialect {
    format: r#"{ kind = "blocks", records = "*" }"#,
    key: "{name}",
    field: "crews",
    settings: "",
    between: ", ",
    write: |lists| {
        all(lists, |key, own| {
            format!(
                "{key} = {{\n\thold = 3\n\tcrews = {{\n{}\t}}\n}}\n",
                items(own, |item| format!("\t\t{item}\n"))
            )
        })
    },
};

const ENTRIES_AGAIN: ListDialect = ListDialect {
    format: r#"{ kind = "blocks", records = "*" }"#,
    key: "{name}",
    field: "crew",
    settings: "",
    between: ", ",
    write: |lists| {
        all(lists, |key, own| {
            format!("{key} = {{\n\thold = 3\n{}}}\n", items(own, |item| format!("\tcrew = {item}\n")))
        })
    },
};

/// Items come, go, and get other names; the lists are as long as the model's, in its order.
#[rstest]
fn lists(
    #[values(
        ROWS_WITH_LISTS,
        QUOTED_LISTS,
        KEYS_AGAIN,
        ARRAYS,
        ELEMENTS_IN_ONE,
        WORDS_IN_BLOCKS,
        ENTRIES_AGAIN
    )]
    dialect: ListDialect,
    #[values(0, 1)] throw: usize,
) {
    let folder = tempfile::tempdir().expect("a folder");
    write_project(folder.path(), false);
    let mut dice = Dice::of(&format!("{}{}{throw}", dialect.field, dialect.format));
    let mut crews: Vec<String> = ["tow", "haul", "ice", "raft", "oar"].map(str::to_owned).to_vec();
    let mut lists: Lists = (0..4).map(|number| (format!("b{number}"), crews[..number].to_vec())).collect();
    let write = |path: &str, text: String| fs::write(folder.path().join(path), text).expect("written");
    write("mod/crews.txt", crews.iter().map(|crew| format!("{crew}\n")).collect());
    write("mod/boats.x", (dialect.write)(&lists));
    write(
        "schema.toml",
        format!(
            "[table.boats]\nfiles = \"boats.x\"\nformat = {}\nkey = \"{}\"\n[table.boats.fields]\n\
             \"{}\" = {{ ref = \"crews\", none = \"\"{} }}\n[table.crews]\nfiles = \"crews.txt\"\n\
             format = {{ kind = \"lines\", line = \"{{crew}}\" }}\nkey = \"crew\"\n",
            dialect.format, dialect.key, dialect.field, dialect.settings
        ),
    );
    let shown = || -> BTreeMap<String, Vec<String>> {
        let shown = support::json(folder.path(), &["show", "boats"]);
        let list = |value: &Value| match value {
            Value::String(own) => own.split(dialect.between).map(|item| item.trim().to_owned()).collect(),
            _ => Vec::new(),
        };
        let record = |own: &Value| {
            let items: Vec<String> = list(&own["fields"][dialect.field]);
            let items = items.into_iter().filter(|item| !item.is_empty()).collect();
            (own["key"].as_str().expect("a key").to_owned(), items)
        };
        shown["records"].as_array().expect("records").iter().map(record).collect()
    };
    let text = || fs::read_to_string(folder.path().join("mod/boats.x")).unwrap_or_default();
    assert_eq!(shown(), lists.iter().cloned().collect(), "{}", text());
    for edit in 0..9 {
        let mut expected = lists.clone();
        let at = dice.below(lists.len());
        let (key, own) = lists[at].clone();
        let (field, boat) = (dialect.field, format!("boats:{key}"));
        let free: Vec<String> = crews.iter().filter(|crew| !own.contains(crew)).cloned().collect();
        let place = dice.below(own.len() + 1);
        let words = match dice.below(6) {
            0 | 1 if !free.is_empty() => {
                let item = dice.one(&free).clone();
                expected[at].1.insert(place, item.clone());
                let place = if place == own.len() { String::new() } else { format!("@{}", place + 1) };
                vec!["set".to_owned(), boat, format!("{field}+={item}{place}")]
            }
            2 if !own.is_empty() => {
                let item = expected[at].1.remove(dice.below(own.len()));
                vec!["set".to_owned(), boat, format!("{field}-={item}")]
            }
            3 if !own.is_empty() && !free.is_empty() => {
                let (place, item) = (dice.below(own.len()), dice.one(&free).clone());
                expected[at].1[place].clone_from(&item);
                vec!["set".to_owned(), boat, format!("{field}[{}]={item}", place + 1)]
            }
            4 => {
                let new = format!("n{edit}");
                expected.push((new.clone(), own));
                vec!["copy".to_owned(), boat, new]
            }
            _ => {
                let (new, which) = (format!("c{edit}"), dice.below(crews.len()));
                let old = std::mem::replace(&mut crews[which], new.clone());
                let all = expected.iter_mut().flat_map(|(_, own)| own);
                all.filter(|item| **item == old).for_each(|item| item.clone_from(&new));
                vec!["rename".to_owned(), format!("crews:{old}"), new]
            }
        };
        assert!(make(folder.path(), &words, false));
        assert_eq!(shown(), expected.iter().cloned().collect(), "{words:?}\n{}", text());
        lists = expected;
    }
}
