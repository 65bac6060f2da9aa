//! What people say to the tables that were learned: that one has a better name, that two are one, that one is two.
//!
//! The schema's own reading tells where a table is named ([`Schema::mentions`]), so that no place is forgotten.

use super::corrections::NO;
use super::write::document_of;
use crate::Error;
use crate::checks::AcceptedProblems;
use crate::expressions::asked_tables;
use crate::schema::{MentionKind, Schema, TableMention};
use crate::settings::toml_text;
use std::collections::HashSet;
use toml_edit::{Array, DocumentMut, Item, Key, Table, TableLike, Value};

/// A file with a description: its name as the project has it, and what it says.
pub type DescriptionFile = (String, String);

/// The description files in which the table `old` is called `new`, wherever they name it.
///
/// # Errors
/// When there is such a table already, the name is no word, or a file is no TOML.
pub fn with_table_renamed(
    schema: &Schema,
    files: &[DescriptionFile],
    old: &str,
    new: &str,
) -> Result<Vec<DescriptionFile>, Error> {
    check_new_name(schema, new)?;
    let named = |own: &TableMention, raw: &str, _: &str| with_name(own.kind, raw, old, new);
    let renamed = |(path, text): &DescriptionFile| {
        let text = with_mentions(schema, path, text, old, &named);
        let mut document = document_of(&with_refusals(&text, old, new))?;
        if let Some(tables) = tables_of(&mut document)
            && let Some((_, described)) = tables.remove_entry(old)
        {
            tables.insert_formatted(&Key::new(new), described);
        }
        rename_in_accepted(path, &mut document, old, new);
        Ok((path.clone(), document.to_string()))
    };
    files.iter().map(renamed).collect()
}

/// The description files in which the records of the table `from` are records of `into`: its files, its fields, and what refers
/// to it. What both say of a field stays as `into` has it.
///
/// # Errors
/// When their formats or keys are not the same, or a file is no TOML.
pub fn with_tables_joined(
    schema: &Schema,
    files: &[DescriptionFile],
    into: &str,
    from: &str,
) -> Result<Vec<DescriptionFile>, Error> {
    let named = |own: &TableMention, raw: &str, _: &str| with_name(own.kind, raw, from, into);
    let mut out: Vec<(String, DocumentMut)> = Vec::new();
    let mut taken: Option<Item> = None;
    for (path, text) in files {
        let text = with_mentions(schema, path, text, from, &named);
        let mut document = document_of(&with_refusals(&text, from, into))?;
        for table in tables_of(&mut document).into_iter().flat_map(|tables| tables.iter_mut()) {
            without_doubled_references(table.1);
        }
        rename_in_accepted(path, &mut document, from, into);
        taken = taken.or(tables_of(&mut document).and_then(|tables| tables.remove(from)));
        out.push((path.clone(), document));
    }
    let taken = taken.as_ref().and_then(Item::as_table_like);
    let kept = out.iter_mut().find_map(|(_, document)| tables_of(document)?.get_mut(into));
    let (Some(taken), Some(kept)) = (taken, kept.and_then(Item::as_table_like_mut)) else {
        return Err(Error::refused(
            format!("the schema does not describe `{into}` and `{from}`"),
            "accept them first; nothing was changed",
        ));
    };
    for setting in ["format", "key"] {
        let told = |table: &dyn TableLike| {
            table.get(setting).map(|item| item.to_string().split_whitespace().collect::<String>())
        };
        if told(kept) != told(taken) {
            return Err(Error::refused(
                format!("`{into}` and `{from}` do not have the same `{setting}`"),
                "put it right in one of them first (`learn --key TABLE=FIELD` for the key); nothing was changed",
            ));
        }
    }
    let mut patterns = texts_of(kept.get("files"));
    patterns.extend(texts_of(taken.get("files")));
    let mut seen = HashSet::new();
    patterns.retain(|pattern| seen.insert(pattern.clone()));
    kept.insert("files", Item::Value(list_or_text(&patterns)));
    if let Some(theirs) = taken.get("fields").and_then(Item::as_table_like) {
        if !kept.contains_key("fields") {
            kept.insert("fields", Item::Table(Table::new()));
        }
        if let Some(own) = kept.get_mut("fields").and_then(Item::as_table_like_mut) {
            for (name, item) in theirs.iter().filter(|(name, _)| !own.contains_key(name)).collect::<Vec<_>>()
            {
                own.insert(name, item.clone());
            }
        }
    }
    for (setting, item) in taken.iter().filter(|(setting, _)| *setting != "fields") {
        if !kept.contains_key(setting) {
            kept.insert(setting, item.clone());
        }
    }
    Ok(out.into_iter().map(|(path, document)| (path, document.to_string())).collect())
}

/// The description files in which those files of `table` that `pattern` stands for are a table `new` of their own; `rest` are the
/// patterns of the others. What referred to `table` refers to both.
///
/// # Errors
/// When there is a table `new` already, its name is no word, or a file is no TOML.
pub fn with_table_split(
    schema: &Schema,
    files: &[DescriptionFile],
    table: &str,
    (new, pattern): (&str, &str),
    rest: &[String],
) -> Result<Vec<DescriptionFile>, Error> {
    check_new_name(schema, new)?;
    let both = |mention: &TableMention, raw: &str, before: &str| {
        let is_in_list = before.trim_end().ends_with(['[', ',']);
        let other = with_name(mention.kind, raw, table, new);
        match is_in_list {
            _ if mention.kind != MentionKind::Reference => raw.to_owned(),
            true => format!("{raw}, {other}"),
            false => format!("[{raw}, {other}]"),
        }
    };
    let split = |(path, text): &DescriptionFile| {
        let mut document = document_of(&with_mentions(schema, path, text, table, &both))?;
        if let Some(tables) = tables_of(&mut document)
            && let Some(described) = tables.get_mut(table).and_then(Item::as_table_like_mut)
        {
            let mut own = Table::new();
            own.decor_mut().set_prefix("\n");
            own.set_position(Some(LAST));
            for (setting, item) in described.iter() {
                own.insert(setting, unplaced(item));
            }
            own.insert("files", Item::Value(pattern.into()));
            described.insert("files", Item::Value(list_or_text(rest)));
            tables.insert(new, Item::Table(own));
        }
        Ok((path.clone(), document.to_string()))
    };
    files.iter().map(split).collect()
}

/// A copy of an item, at the end of the file and not where it came from.
fn unplaced(item: &Item) -> Item {
    let mut item = item.clone();
    if let Item::Table(table) = &mut item {
        table.set_position(Some(LAST));
        let own: Vec<(String, Item)> =
            table.iter().map(|(name, own)| (name.to_owned(), unplaced(own))).collect();
        own.into_iter().for_each(|(name, own)| {
            table.insert(&name, own);
        });
    }
    item
}

/// A place behind all others in a file.
const LAST: isize = isize::MAX;

fn check_new_name(schema: &Schema, new: &str) -> Result<(), Error> {
    let is_word =
        !new.is_empty() && new.chars().all(|letter| letter.is_alphanumeric() || "_-".contains(letter));
    if !is_word {
        let message = format!("`{new}` cannot be the name of a table");
        return Err(Error::refused(
            message,
            "write one word of letters, digits, `_` and `-`; nothing was changed",
        ));
    }
    if schema.table(new).is_some() {
        let message = format!("there is a table `{new}` already");
        return Err(Error::refused(message, "take another name, or join the two; nothing was changed"));
    }
    Ok(())
}

/// The tables that a schema file describes, by name.
fn tables_of(document: &mut DocumentMut) -> Option<&mut Table> {
    document.get_mut("table").and_then(Item::as_table_mut)
}

/// Gives records of a table their new address in the list of problems that one lives with.
fn rename_in_accepted(path: &str, document: &mut DocumentMut, old: &str, new: &str) {
    let list = document.get_mut("accepted").filter(|_| path == AcceptedProblems::FILE);
    let entries = list.and_then(Item::as_array_of_tables_mut).into_iter().flat_map(|list| list.iter_mut());
    for entry in entries.filter(|entry| entry.get("table").and_then(Item::as_str) == Some(old)) {
        entry.insert("table", toml_edit::value(new));
    }
}

/// `text` with each value that names `table` replaced by what `put` makes of it and of the text before it.
fn with_mentions(
    schema: &Schema,
    path: &str,
    text: &str,
    table: &str,
    put: &dyn Fn(&TableMention, &str, &str) -> String,
) -> String {
    let is_own = |own: &&TableMention| own.table == table && own.path == path.replace('\\', "/");
    let mut mentions: Vec<&TableMention> = schema.mentions.iter().filter(is_own).collect();
    mentions.sort_by_key(|own| own.span.start);
    // A family of columns is described once, and an expression may ask a table twice.
    mentions.dedup_by_key(|own| &own.span);
    let (mut out, mut at) = (String::new(), 0);
    for own in mentions {
        let span = &own.span;
        let (Some(before), Some(raw)) = (text.get(at..span.start), text.get(span.clone())) else { continue };
        out += before;
        out += &put(own, raw, &text[..span.start]);
        at = span.end;
    }
    out + &text[at..]
}

/// A TOML value that names a table, with another name in it.
fn with_name(kind: MentionKind, raw: &str, old: &str, new: &str) -> String {
    let mut out = raw.to_owned();
    let first = raw.find(old).map(|at| at..at + old.len());
    let places = match kind {
        MentionKind::Expression => asked_tables(raw),
        MentionKind::Name | MentionKind::Reference => first.into_iter().collect(),
    };
    for place in places.into_iter().rev().filter(|place| &raw[place.clone()] == old) {
        out.replace_range(place, new);
    }
    out
}

/// The notes of what is not to be proposed again, with another name for a table.
fn with_refusals(text: &str, old: &str, new: &str) -> String {
    let whole = (toml_text(old), toml_text(new));
    let field = (format!("\"{old}."), format!("\"{new}."));
    let of_line = |line: &str| match line.trim_start().starts_with(NO) {
        true => line.replace(&whole.0, &whole.1).replace(&field.0, &field.1),
        false => line.to_owned(),
    };
    text.split_inclusive('\n').map(of_line).collect()
}

/// Takes out of the references of a table what is there twice.
fn without_doubled_references(table: &mut Item) {
    let Some(fields) = table.get_mut("fields").and_then(Item::as_table_like_mut) else { return };
    for (_, field) in fields.iter_mut() {
        let Some(target) = field.as_table_like_mut().and_then(|field| field.get_mut("ref")) else { continue };
        match target.as_table_like_mut() {
            // The targets by the value of another field.
            Some(cases) => cases.iter_mut().for_each(|(_, target)| each_once(target)),
            None => each_once(target),
        }
    }
}

/// Takes out of a list of texts what is there twice.
fn each_once(list: &mut Item) {
    let texts = texts_of(Some(list));
    let mut seen = HashSet::new();
    let once: Vec<String> = texts.iter().filter(|text| seen.insert(*text)).cloned().collect();
    if list.is_array() && once.len() < texts.len() {
        *list = Item::Value(list_or_text(&once));
    }
}

/// A setting of one text, or of several.
fn texts_of(item: Option<&Item>) -> Vec<String> {
    let Some(item) = item else { return Vec::new() };
    match (item.as_str(), item.as_array()) {
        (Some(text), _) => vec![text.to_owned()],
        (None, Some(list)) => list.iter().filter_map(Value::as_str).map(str::to_owned).collect(),
        _ => Vec::new(),
    }
}

/// One text by itself, several as a list.
fn list_or_text(texts: &[String]) -> Value {
    match texts {
        [one] => Value::from(one.as_str()),
        many => Value::Array(many.iter().map(String::as_str).collect::<Array>()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::schema::read;
    use rstest::rstest;

    const BOATS: &str =
        "[table.boats]\nfiles = \"b/*.txt\" # all\nformat = { kind = \"delimited\" }\nkey = \"Boat\"\n";
    const CREWS: &str =
        "[table.crews]\nfiles = \"c.txt\"\nformat = { kind = \"delimited\" }\nkey = \"Crew\"\n";

    fn described(more: &str) -> (Schema, Vec<DescriptionFile>) {
        let files = vec![("s.toml".to_owned(), format!("{BOATS}{CREWS}{more}"))];
        let (schema, problems) = read(&files, &[]);
        assert_eq!(problems, []);
        (schema, files)
    }

    /// What follows the two tables.
    fn end_of(files: &[DescriptionFile]) -> &str {
        let (_, text) = files.first().expect("a file");
        text.split_once("\nkey = \"Crew\"\n").expect("two tables").1
    }

    #[rstest]
    #[case::a_reference(
        r#"fields.A = { ref = "boats" } # "boats""#,
        r#"fields.A = { ref = "barges" } # "boats""#
    )]
    #[case::in_a_list("fields.A = { ref = ['crews', 'boats'] }", "fields.A = { ref = ['crews', 'barges'] }")]
    #[case::by_a_kind(
        r#"fields.A = { ref = { "boats" = "boats", crew = "crews" }, by = "B" }"#,
        r#"fields.A = { ref = { "boats" = "barges", crew = "crews" }, by = "B" }"#
    )]
    #[case::a_family(r#"fields."A{1..3}" = { ref = "boats" }"#, r#"fields."A{1..3}" = { ref = "barges" }"#)]
    #[case::no_table(
        r#"fields.A = { choice = ["boats"], none = "boats" }"#,
        r#"fields.A = { choice = ["boats"], none = "boats" }"#
    )]
    #[case::more_of_it("[table.boats.fields]\nA.ref = 'boats'", "[table.barges.fields]\nA.ref = 'barges'")]
    #[case::by_use(
        "[table.moods]\nby_use = ['boats.Mood', 'crews.Mood']",
        "[table.moods]\nby_use = ['barges.Mood', 'crews.Mood']"
    )]
    #[case::a_companion(
        "[[companion]]\ntable = 'boats'\nfile = 'boats/{key}'",
        "[[companion]]\ntable = 'barges'\nfile = 'boats/{key}'"
    )]
    #[case::an_expression(
        r#"[[computed]]
field = "crews.n"
value = "count(boats, b, b.boats == boats) + count( boats , c, 'count(boats)' != c.x)""#,
        r#"[[computed]]
field = "crews.n"
value = "count(barges, b, b.boats == boats) + count( barges , c, 'count(boats)' != c.x)""#
    )]
    #[case::its_own_field(
        "[[computed]]\nfield = 'boats.boats'\nvalue = 'boats'",
        "[[computed]]\nfield = 'barges.boats'\nvalue = 'boats'"
    )]
    #[case::a_rule(
        "[[rule]]\nname = 'boats'\ntable = \"boats\"\nunique = 'boats'",
        "[[rule]]\nname = 'boats'\ntable = \"barges\"\nunique = 'boats'"
    )]
    #[case::a_severity(
        "[severity]\nmissing-text = [{ severity = 'off', table = 'boats' }]",
        "[severity]\nmissing-text = [{ severity = 'off', table = 'barges' }]"
    )]
    #[case::a_log(
        "[[log]]\npattern = 'boats (?<key>.+)'\ntable = 'boats'",
        "[[log]]\npattern = 'boats (?<key>.+)'\ntable = 'barges'"
    )]
    #[case::a_transfer(
        "[[transfer]]\nname = 'boats'\nfrom = 'boats'\nto = 'crews'\nkey = 'Boat'",
        "[[transfer]]\nname = 'boats'\nfrom = 'barges'\nto = 'crews'\nkey = 'Boat'"
    )]
    #[case::steps(
        r#"[[recipe]]
name = "boats"
[[recipe.step]]
add = "boats"
keys = ["boats"]
[[recipe.step]]
set = ["boats:boats", "crews:boats"]
values = ["boats:=count(boats, b, b.n > {n})", "n=boats:1"]
[[recipe.step]]
renumber = "boats.boats"
each = { name = "boats", table = "boats", where = "max(boats, b, b.n) > 1" }"#,
        r#"[[recipe]]
name = "boats"
[[recipe.step]]
add = "barges"
keys = ["boats"]
[[recipe.step]]
set = ["barges:boats", "crews:boats"]
values = ["boats:=count(barges, b, b.n > {n})", "n=boats:1"]
[[recipe.step]]
renumber = "barges.boats"
each = { name = "boats", table = "barges", where = "max(barges, b, b.n) > 1" }"#
    )]
    #[case::a_refusal(
        "# no: \"boats.crew\" { ref = \"crews\" }\n# no: table \"boats\"\n# boats\n",
        "# no: \"barges.crew\" { ref = \"crews\" }\n# no: table \"barges\"\n# boats\n"
    )]
    fn a_table_is_renamed_wherever_it_is_named(#[case] before: &str, #[case] after: &str) {
        let (schema, files) = described(before);
        let there = with_table_renamed(&schema, &files, "boats", "barges").expect("renamed");
        assert_eq!(end_of(&there).trim_end(), after.trim_end());
        let (schema, problems) = read(&there, &[]);
        assert_eq!(problems, []);
        let back = with_table_renamed(&schema, &there, "barges", "boats").expect("renamed back");
        assert_eq!(end_of(&back).trim_end(), before.trim_end());
    }

    #[rstest]
    #[case("crews", "there is a table `crews` already")]
    #[case("", "`` cannot be the name of a table")]
    #[case("a.b", "`a.b` cannot be the name of a table")]
    fn names_that_no_table_can_have(#[case] new: &str, #[case] expected: &str) {
        let (schema, files) = described("");
        let error = with_table_renamed(&schema, &files, "boats", new).expect_err("refused");
        assert_eq!(error.to_string(), expected);
    }

    #[rstest]
    #[case::a_reference("fields.A = { ref = \"boats\" }", "fields.A = { ref = [\"boats\", \"barges\"] }")]
    #[case::in_a_list(
        "fields.A = { ref = ['boats','crews'] }",
        "fields.A = { ref = ['boats', 'barges','crews'] }"
    )]
    #[case::to_a_field(
        "fields.A = { ref = 'boats.No' }\n[table.boats.fields]\nNo = { }",
        "fields.A = { ref = ['boats.No', 'barges.No'] }\n[table.boats.fields]\nNo = { }"
    )]
    #[case::by_a_kind(
        "fields.A = { ref = { b = 'boats', c = 'crews' }, by = 'B' }",
        "fields.A = { ref = { b = ['boats', 'barges'], c = 'crews' }, by = 'B' }"
    )]
    fn what_referred_to_a_table_refers_to_both(#[case] before: &str, #[case] after: &str) {
        let (schema, files) = described(before);
        let rest = ["b/a.txt".to_owned(), "b/b.txt".to_owned()];
        let split = with_table_split(&schema, &files, "boats", ("barges", "b/c*.txt"), &rest).expect("split");
        assert!(split[0].1.contains("files = [\"b/a.txt\", \"b/b.txt\"]"), "{}", split[0].1);
        assert_eq!(end_of(&split).split("\n[table.barges]").next().expect("a part").trim_end(), after);
        let (schema, problems) = read(&split, &[]);
        assert_eq!(problems, []);
        let joined = with_tables_joined(&schema, &split, "boats", "barges").expect("joined");
        let (schema, problems) = read(&joined, &[]);
        assert_eq!(problems, []);
        assert_eq!(schema.tables[0].files.len(), 3);
        assert!(!joined[0].1.contains("barges"), "{}", joined[0].1);
        // What referred to both refers to one again.
        let plain = |text: &str| text.replace(' ', "").replace('\'', "\"").trim_end().to_owned();
        assert_eq!(plain(end_of(&joined)), plain(before));
    }

    #[rstest]
    #[case::a_key(
        "[table.b]\nfiles = 'b.txt'\nformat = { kind = \"delimited\" }\nkey = 'Other'",
        Some("`boats` and `b` do not have the same `key`")
    )]
    #[case::a_format(
        "[table.b]\nfiles = 'b.txt'\nformat = { kind = 'ini' }\nkey = 'Boat'",
        Some("`boats` and `b` do not have the same `format`")
    )]
    #[case::blanks_do_not_matter(
        "[table.b]\nfiles = ['b.txt']\nformat = {kind=\"delimited\"}\nkey=\"Boat\"",
        None
    )]
    fn tables_that_are_not_alike(#[case] more: &str, #[case] expected: Option<&str>) {
        let (schema, files) = described(more);
        let error = with_tables_joined(&schema, &files, "boats", "b").err().map(|error| error.to_string());
        assert_eq!(error.as_deref(), expected);
    }

    #[test]
    fn fields_of_both_are_kept_and_the_first_has_the_last_word() {
        let more = "fields.A = { ref = 'crews' }\n[table.boats.fields]\nA = { optional = true }\n[table.b]\nfiles = 'b.txt'\nformat = { kind = \"delimited\" }\nkey = \"Boat\"\n[table.b.fields]\nA = { type = 'integer' }\nB = { ref = 'b' }\n";
        let (schema, files) = described(more);
        let joined = with_tables_joined(&schema, &files, "boats", "b").expect("joined");
        let (schema, problems) = read(&joined, &[]);
        assert_eq!(problems, []);
        assert!(
            joined[0].1.contains("[table.boats.fields]\nA = { optional = true }\nB = { ref = 'boats' }"),
            "{}",
            joined[0].1
        );
        assert_eq!(schema.tables.len(), 2);
    }
}
