//! From what was done by hand to the draft of a recipe.

use super::add::AddRequest;
use super::copy::{CopyRequest, Join, Lacking};
use super::record_place::RecordPlace;
use super::remove::RemoveRequest;
use super::rename::NewKeys;
use super::renumber::Renumbering;
use super::set::SetRequest;
use super::step::Step;
use crate::links::Address;
use crate::settings::toml_text;
use crate::text::with_words_replaced;
use std::fmt::Write as _;

/// A recipe with these steps, as a piece of a schema file. Keys that are named in them become parameters; what a recipe
/// cannot say stands there as a note.
pub fn draft(name: &str, steps: &[Step]) -> String {
    let guessed = guess(steps);
    let mut out = format!("[[recipe]]\nname = {}\nabout = \"...\"\n", toml_text(name));
    for parameter in &guessed {
        let _ = write!(out, "\n[[recipe.parameter]]\nname = {}\n", toml_text(&parameter.name));
        if let Some(table) = &parameter.table {
            let _ = writeln!(out, "table = {}", toml_text(table));
        }
        let _ = writeln!(out, "about = {}", toml_text(&format!("in place of {}", parameter.text)));
    }
    let writer = Writer { parameters: &guessed };
    for step in steps {
        match writer.step(step) {
            Ok(entries) => {
                for entry in entries {
                    out.push_str("\n[[recipe.step]]\n");
                    out.push_str(&entry);
                }
            }
            Err(reason) => {
                let _ = writeln!(out, "\n# Here stood a step that a recipe cannot say: {reason}");
            }
        }
    }
    out
}

/// A parameter that may be meant.
struct Guess {
    name: String,
    /// The table of whose records it is one.
    table: Option<String>,
    /// What stands there now.
    text: String,
}

/// The keys that the steps name: those of what is there already as records, those that are new as texts.
fn guess(steps: &[Step]) -> Vec<Guess> {
    let mut out: Vec<Guess> = Vec::new();
    let mut add = |name: &str, table: Option<String>, text: &str| {
        let is_plain = !text.is_empty() && text != "new" && !text.contains(['/', '{', '"']);
        // What is made of another one follows from it.
        let follows = |own: &Guess| with_words_replaced(text, &own.text, "").is_some();
        if !is_plain || out.iter().any(follows) {
            return;
        }
        let number =
            out.iter().filter(|own| own.name.trim_end_matches(|c: char| c.is_ascii_digit()) == name).count();
        let name = if number == 0 { name.to_owned() } else { format!("{name}{}", number + 1) };
        out.push(Guess { name, table, text: text.to_owned() });
    };
    let record = |address: &str| {
        let address = Address::parse(address).ok()?;
        Some((address.table?, address.key))
    };
    for step in steps {
        match step {
            Step::Copy(CopyRequest { address, new, .. }) | Step::Rename { address, new, .. } => {
                if let Some((table, key)) = record(address) {
                    add("from", Some(table), &key);
                }
                add("key", None, new);
                if let Step::Copy(CopyRequest { name: Some(name), .. }) = step {
                    add("title", None, name);
                }
            }
            Step::Add(AddRequest { keys, name, .. }) => {
                keys.iter().for_each(|key| add("key", None, key));
                name.iter().for_each(|name| add("title", None, name));
            }
            Step::Remove(RemoveRequest { addresses, .. }) => {
                addresses
                    .iter()
                    .filter_map(|address| record(address))
                    .for_each(|(table, key)| add("gone", Some(table), &key));
            }
            Step::Set(SetRequest { arguments, .. }) => {
                let records = arguments.iter().filter(|argument| !argument.contains('='));
                records
                    .filter_map(|address| record(address))
                    .for_each(|(table, key)| add("record", Some(table), &key));
            }
            Step::CopyFolder { from, to } | Step::RenameFolder { from, to, .. } => {
                let names = from.trim_end_matches('/').split('/').zip(to.trim_end_matches('/').split('/'));
                for (old, new) in names.filter(|(old, new)| old != new) {
                    add("from", None, old);
                    add("key", None, new);
                }
            }
            Step::RenameMany { .. } | Step::Renumber { .. } => {}
        }
    }
    out
}

/// Writes steps with parameters in place of what they stand for.
struct Writer<'g> {
    parameters: &'g [Guess],
}

impl Writer<'_> {
    /// A text with parameters in it.
    fn text(&self, text: &str) -> String {
        let mut out = text.to_owned();
        for parameter in self.parameters {
            let name = format!("{{{}}}", parameter.name);
            out = with_words_replaced(&out, &parameter.text, &name).unwrap_or(out);
        }
        out
    }

    /// An expression with parameters in it, which stand for texts with their quotes.
    fn expression(&self, source: &str) -> String {
        let mut out = source.to_owned();
        for parameter in self.parameters {
            for quote in ['"', '\''] {
                out = out.replace(
                    &format!("{quote}{}{quote}", parameter.text),
                    &format!("{{{}}}", parameter.name),
                );
            }
        }
        out
    }

    fn value(&self, value: &str) -> String {
        match value.split_once(":=") {
            Some((field, source)) if !field.contains('=') => {
                format!("{}:={}", self.text(field), self.expression(source))
            }
            _ => self.text(value),
        }
    }

    fn list<'t>(&self, texts: impl IntoIterator<Item = &'t String>) -> String {
        let texts: Vec<String> = texts.into_iter().map(|text| toml_text(&self.value(text))).collect();
        format!("[{}]", texts.join(", "))
    }

    /// The lines of a step; several steps where one is said as several.
    fn step(&self, step: &Step) -> Result<Vec<String>, &'static str> {
        let mut out = String::new();
        let mut line = |name: &str, value: String| {
            let _ = writeln!(out, "{name} = {value}");
        };
        let text = |text: &str| toml_text(&self.text(text));
        match step {
            Step::Set(SetRequest { arguments, condition, all, sheet: None }) => {
                let (values, records): (Vec<&String>, Vec<&String>) =
                    arguments.iter().partition(|argument| argument.contains('='));
                line("set", self.list(records));
                line("values", self.list(values));
                if let Some(condition) = condition {
                    line("where", toml_text(&self.expression(condition)));
                }
                if *all {
                    line("all", "true".to_owned());
                }
            }
            Step::Add(AddRequest { table, keys, values, like, place, name, sheet: None, missing: false }) => {
                line("add", text(table));
                line("keys", self.list(keys));
                if !values.is_empty() {
                    line("values", self.list(values));
                }
                like.iter().for_each(|key| line("like", text(key)));
                place_line(place)?.into_iter().for_each(|key| line("after", text(key)));
                name.iter().for_each(|name| line("name", text(name)));
            }
            Step::Copy(CopyRequest { address, new, values, name, join, without, place, from, .. }) => {
                line("copy", text(address));
                line("to", text(new));
                if !values.is_empty() {
                    line("values", self.list(values));
                }
                name.iter().for_each(|name| line("name", text(name)));
                match join {
                    Join::None => {}
                    Join::All => line("join", toml_text("all")),
                    Join::Fields(fields) => line("join", self.list(fields)),
                }
                if !without.is_empty() {
                    line("without", self.list(without));
                }
                if let Some(source) = from {
                    line("from", toml_text(&source.name));
                    if source.lacking == Lacking::Bring {
                        line("with_needed", "true".to_owned());
                    }
                }
                place_line(place)?.into_iter().for_each(|key| line("after", text(key)));
            }
            Step::CopyFolder { from, to } => {
                line("copy", text(&format!("{}/", from.trim_end_matches('/'))));
                line("to", text(to));
            }
            Step::Remove(RemoveRequest { addresses, detach, cascade, keep, with_unused })
                if keep.is_empty() =>
            {
                line("remove", self.list(addresses));
                let flags = [("detach", detach), ("cascade", cascade), ("with_unused", with_unused)];
                flags.iter().filter(|(_, is)| **is).for_each(|(name, _)| line(name, "true".to_owned()));
            }
            Step::Rename { address, new, .. } => {
                line("rename", text(address));
                line("to", text(new));
            }
            Step::RenameFolder { from, to, .. } => {
                line("rename", text(&format!("{}/", from.trim_end_matches('/'))));
                line("to", text(to));
            }
            Step::RenameMany { table, keys: NewKeys::Pairs(pairs), .. } => {
                let entry = |(old, new): &(String, String)| {
                    format!("rename = {}\nto = {}\n", text(&Address::show(table, old)), text(new))
                };
                return Ok(pairs.iter().map(entry).collect());
            }
            Step::Renumber { table, field, group, how } => {
                line("renumber", toml_text(&format!("{table}.{field}")));
                group.iter().for_each(|group| line("in", text(group)));
                match how {
                    Renumbering::Close => {}
                    Renumbering::Open(number, 1) => line("open", number.to_string()),
                    _ => return Err("numbers in another order, or moved as a block"),
                }
            }
            Step::Set(_) | Step::Add(_) => {
                return Err("what comes from a sheet, or is made for what is missing");
            }
            Step::Remove(_) => return Err("references that are left to lead nowhere"),
            Step::RenameMany { .. } => return Err("keys by a pattern or with a prefix"),
        }
        Ok(vec![out])
    }
}
/// The record that a step puts something behind, if a recipe can say where it goes.
fn place_line(place: &RecordPlace) -> Result<Option<&String>, &'static str> {
    match place {
        RecordPlace::After(key) => Ok(Some(key)),
        RecordPlace::Fitting => Ok(None),
        _ => Err("a place that is not behind a record"),
    }
}
