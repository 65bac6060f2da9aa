//! Tables.

use super::file_pattern::{FilePattern, NewPath};
use super::{Field, FileTemplate, NamedBy, Schema, Switch, TableId, Target, ValueRule};
use crate::formats::Format;
use crate::layers::{LayeringMark, RelPath};
use crate::problem::Place;
use crate::text::Encoding;
use regex::Regex;
use std::collections::HashSet;
use std::sync::Arc;

/// A named set of like records.
#[derive(Debug, Clone)]
pub struct Table {
    /// Its name.
    pub name: String,
    /// What its records are, for people.
    pub about: Option<String>,
    /// Which files hold its records.
    pub files: Vec<FilePattern>,
    /// The name of its format in the schema.
    pub format_name: &'static str,
    /// How its files are laid out.
    pub format: Arc<dyn Format>,
    /// What its keys consist of.
    pub key: Vec<KeyPart>,
    /// The position of the field that names its records for people.
    pub label: Option<usize>,
    /// Its fields.
    pub fields: Vec<Field>,
    /// The rules of all fields, in their order.
    pub rules: Vec<ValueRule>,
    /// Whether its files must begin with a byte order mark, or must not; `None` if it does not matter.
    pub byte_order_mark: Option<bool>,
    /// How the lines of the files must end, if the game minds.
    pub line_ends: Option<LineEnds>,
    /// Whether a name in its records that no field stands for is a problem.
    pub closed: bool,
    /// What the game stumbles over in the files.
    pub forbidden: Vec<Forbidden>,
    /// Of a table of texts, the letters that the game's font lacks: what is not among those it has.
    pub not_letters: Option<Regex>,
    /// What its files are written in, if that is not to be recognised.
    pub encoding: Option<Encoding>,
    /// Whether the files of all layers count together, a higher one overriding single fields.
    pub merged: bool,
    /// The mark of a file that tells whether it replaces those below or counts together with them.
    pub layering_mark: Option<LayeringMark>,
    /// Whether keys that differ only in case are the same key.
    pub ignore_case: bool,
    /// What the texts are, if it is a table of texts.
    pub texts: Option<Texts>,
    /// Whether several records may have one key.
    pub repeated: bool,
    /// What the first record of a file has as its position: 1, or 0.
    pub first: u32,
    /// The fields whose values are its names, if no file declares them; it has no files of its own then.
    pub by_use: Vec<Target>,
    /// Where it is described.
    pub place: Place,
}

/// One part of a key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum KeyPart {
    /// The value of a field, by its position.
    Field(usize),
    /// The file's name without its extension.
    Stem,
    /// The file's name with its extension.
    FileName,
    /// The file's path within its layer.
    Path,
    /// The part of the file's path at this position among [`Table::path_parts`].
    PathPart(usize),
    /// The position of the record among those of its file that have the other parts of the key.
    Position,
}

impl KeyPart {
    /// Whether it is the file's name or path.
    pub fn is_of_file(self) -> bool {
        matches!(self, KeyPart::Stem | KeyPart::FileName | KeyPart::Path)
    }

    /// Whether it is of the path of the file: its name, the path, or a named part of that.
    pub fn is_of_path(self) -> bool {
        self.is_of_file() || matches!(self, KeyPart::PathPart(_))
    }

    /// The file's name or path, by the name that a schema has for it: `{stem}`, `{file}` or `{path}`.
    pub(in crate::schema) fn of_file_called(name: &str) -> Option<KeyPart> {
        match name {
            "{stem}" => Some(KeyPart::Stem),
            "{file}" => Some(KeyPart::FileName),
            "{path}" => Some(KeyPart::Path),
            _ => None,
        }
    }
}

/// Where a table of texts has its languages.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Texts {
    /// Each file is in one language, named by `{lang}` in its path; the field holds the text.
    File(usize),
    /// Each language has a field: position in the schema's languages, and the field.
    Fields(Vec<(usize, usize)>),
    /// Each record says in a field what language it is in.
    Record {
        /// The field that holds the text.
        text: usize,
        /// The field that names the language.
        language: usize,
        /// What the languages are called there: the name, and the position in the schema's languages.
        names: Vec<(String, usize)>,
    },
}

impl Texts {
    /// The language, as a position in the schema's languages, of a record in which the language is called
    /// `name`.
    pub fn language_called(&self, name: &str) -> Option<usize> {
        let Texts::Record { names, .. } = self else { return None };
        names.iter().find(|(own, _)| own == name).map(|(_, language)| *language)
    }
}

/// How the lines of a file must end.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum LineEnds {
    /// With a line feed.
    Lf,
    /// With a carriage return and a line feed.
    CrLf,
    /// All of a file as its first line.
    Alike,
}

impl LineEnds {
    /// The words of the schema for them.
    pub const NAMES: [(&'static str, LineEnds); 3] =
        [("lf", LineEnds::Lf), ("crlf", LineEnds::CrLf), ("alike", LineEnds::Alike)];
}

/// What a game may stumble over in a file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Forbidden {
    /// A tab.
    Tab,
    /// A blank or tab at the end of a line.
    TrailingBlank,
    /// A line with nothing but blanks in it.
    EmptyLine,
    /// A last line without a line end.
    NoLastLineEnd,
}

impl Forbidden {
    /// The words of the schema for them.
    pub const NAMES: [(&'static str, Forbidden); 4] = [
        ("tab", Forbidden::Tab),
        ("trailing-blank", Forbidden::TrailingBlank),
        ("empty-line", Forbidden::EmptyLine),
        ("no-last-line-end", Forbidden::NoLastLineEnd),
    ];
}

/// Stands between the parts of a key in memory, where `/` could be part of a value.
pub(crate) const KEY_SEPARATOR: char = '\u{1f}';

impl Table {
    /// Whether the file at `path` is one of this table's.
    pub fn takes(&self, path: &RelPath) -> bool {
        self.files.iter().any(|pattern| pattern.takes(path.as_str()))
    }

    /// Whether its names are those that certain fields hold, and not those of records of its own.
    pub fn is_by_use(&self) -> bool {
        self.files.is_empty()
    }

    /// The positions of the rules of the table `of` by which values are names of this one.
    pub fn rules_with_names(&self, of: TableId) -> impl Iterator<Item = usize> + '_ {
        self.by_use.iter().filter(move |target| target.table == of).filter_map(|target| target.rule)
    }

    /// The fields that must be read to tell which values are names of `names`, a table by use: those that hold them, and
    /// those that tell which rule holds. The table itself is at position `id`.
    pub fn fields_of_names(&self, names: &Table, id: TableId) -> Vec<usize> {
        let mut fields: Vec<usize> = names.rules_with_names(id).map(|rule| self.rules[rule].field).collect();
        let switches = self.rules.iter().filter(|rule| fields.contains(&rule.field));
        let telling: Vec<usize> =
            switches.flat_map(|rule| rule.switch.iter().flat_map(Switch::fields)).collect();
        fields.extend(telling);
        fields.sort_unstable();
        fields.dedup();
        fields
    }

    /// The fields whose values are its names, as `table.field`.
    pub fn by_use_names(&self, schema: &Schema) -> Vec<String> {
        let name = |own: &Target| {
            let table = &schema.tables[own.table];
            let rule = own.rule.map(|rule| &table.rules[rule])?;
            let part = rule.part.iter().map(|part| format!(".{part}")).collect::<String>();
            Some(format!("{}.{}{part}", table.name, table.fields[rule.field].name))
        };
        let mut names: Vec<String> = self.by_use.iter().filter_map(name).collect();
        // One field may have several rules.
        names.dedup();
        names
    }

    /// The language code in the path of a file of texts.
    pub fn language_of<'p>(&self, path: &'p RelPath) -> Option<&'p str> {
        self.files.iter().find_map(|pattern| pattern.language(path.as_str()))
    }

    /// Whether each record must have a key: not if that is one field which some do not have.
    pub fn needs_key(&self) -> bool {
        match self.key.as_slice() {
            [KeyPart::Field(field)] => !self.fields[*field].optional,
            _ => true,
        }
    }

    /// The names of the parts that all patterns for its files have.
    pub fn path_parts(&self) -> &[String] {
        self.files.first().map_or(&[], |pattern| pattern.parts())
    }

    /// The text that the part at this position among [`Table::path_parts`] has in the path of one of its files.
    pub fn path_part<'p>(&self, path: &'p RelPath, part: usize) -> Option<&'p str> {
        let name = self.path_parts().get(part)?;
        self.files.iter().find_map(|pattern| {
            let at = pattern.parts().iter().position(|own| own == name)?;
            pattern.values(path.as_str()).filter(|_| pattern.takes(path.as_str()))?.get(at).copied()
        })
    }

    /// What `part` of a key is for the file at `path`, one of the table's; `None` for parts that are not of the path.
    pub fn of_path<'p>(&self, part: KeyPart, path: &'p RelPath) -> Option<&'p str> {
        match part {
            KeyPart::Stem => Some(path.stem()),
            KeyPart::FileName => Some(path.name()),
            KeyPart::Path => Some(path.as_str()),
            KeyPart::PathPart(part) => self.path_part(path, part),
            KeyPart::Field(_) | KeyPart::Position => None,
        }
    }

    /// The path of one of its files in which the part at this position among [`Table::path_parts`] has another text, as far as
    /// `new` gives one.
    pub fn with_path_parts(&self, path: &RelPath, new: impl Fn(usize) -> Option<String>) -> Option<NewPath> {
        let pattern = self.files.iter().find(|pattern| pattern.takes(path.as_str()))?;
        // Another pattern may have the parts in another order.
        let position = |part: usize| self.path_parts().iter().position(|own| *own == pattern.parts()[part]);
        pattern.with_values(path.as_str(), |part| new(position(part)?))
    }

    /// Whether its keys consist of parts of the path alone, so that all records of a file have one key.
    pub fn is_keyed_by_path(&self) -> bool {
        !self.key.is_empty() && self.key.iter().all(|part| part.is_of_path())
    }

    /// The fields that are parts of the paths of its files.
    pub fn path_fields(&self) -> impl Iterator<Item = usize> + '_ {
        self.fields.iter().enumerate().filter(|(_, field)| field.of_path.is_some()).map(|(at, _)| at)
    }

    /// The position of the field called `name`.
    pub fn field(&self, name: &str) -> Option<usize> {
        self.fields.iter().position(|field| field.name == name)
    }

    /// The position of the field at `column`, as the format understands it.
    pub fn field_at(&self, column: &str) -> Option<usize> {
        self.fields.iter().position(|field| field.columns().any(|own| own == column))
    }

    /// The table with a plain field added for each of `columns` that it does not describe, as far as
    /// the format can read them. What leads into a structure is described by the fields inside it.
    pub fn widened(&self, columns: &[String]) -> Table {
        // One item of a list says nothing of the others.
        let is_item =
            |rest: &str| rest.starts_with('[') && rest[1..].starts_with(|next: char| next.is_ascii_digit());
        let inside = |field: &str, column: &str| {
            let rest = field.strip_prefix(column).filter(|rest| !is_item(rest));
            rest.is_some_and(|rest| rest.starts_with(['[', '.', '/']))
        };
        // Where any name may stand, no name is a field of its own.
        let is_any = |field: &str, column: &str| {
            let (mut field, mut column) = (field.split(['.', '/']), column.split(['.', '/']));
            field.clone().any(|step| step == "*")
                && field.clone().count() == column.clone().count()
                && field.all(|step| column.next().is_some_and(|own| step == "*" || step == own))
        };
        let mut table = self.clone();
        let folded = |name: &str| self.format.folds_columns().then(|| name.to_lowercase());
        let mut known: HashSet<String> =
            self.fields.iter().filter_map(|field| folded(&field.column)).collect();
        for column in columns {
            if table.field(column).is_none()
                && table.field_at(column).is_none()
                && folded(column).is_none_or(|name| known.insert(name))
                && !self.fields.iter().any(|field| is_any(&field.column, column))
                && !self.fields.iter().any(|field| inside(&field.column, column))
                && table.format.check_column(column).is_ok()
                && !column.is_empty()
            {
                table.add_plain_field(column);
            }
        }
        table
    }

    /// Adds a field of which nothing is known but its name; gives its position.
    pub(in crate::schema) fn add_plain_field(&mut self, name: &str) -> usize {
        let field = self.fields.len();
        self.rules.push(ValueRule { field, ..ValueRule::default() });
        self.fields.push(Field::plain(name, self.rules.len() - 1));
        field
    }

    /// Adds the field called `name` if it is a part of the paths of all files; gives its position.
    pub(in crate::schema) fn add_path_field(&mut self, name: &str) -> Option<usize> {
        let named = || {
            let name = name.strip_prefix('{')?.strip_suffix('}')?;
            let has = |pattern: &FilePattern| pattern.parts().iter().any(|part| part == name);
            let position = self.path_parts().iter().position(|part| part == name)?;
            self.files.iter().all(has).then_some(KeyPart::PathPart(position))
        };
        let part = KeyPart::of_file_called(name).or_else(named)?;
        let at = self.add_plain_field(name);
        self.fields[at].of_path = Some(part);
        Some(at)
    }

    /// Whether what a value says depends on another field of the record: on what stands beside it, where a record has
    /// several of both.
    pub fn relates_fields(&self) -> bool {
        let by_field = |part: &NamedBy| matches!(part, NamedBy::Record(KeyPart::Field(_)));
        self.rules.iter().any(|rule| {
            let of_file = rule.file.iter().flat_map(FileTemplate::parts);
            rule.switch.is_some() || rule.with.iter().chain(of_file).any(by_field)
        })
    }

    /// Whether `field` is part of the key.
    pub fn is_key_field(&self, field: usize) -> bool {
        self.key.contains(&KeyPart::Field(field))
    }

    /// Whether a part of the key stands in what lies around the records: a new one needs the same around it.
    pub fn stands_around(&self, part: KeyPart) -> bool {
        matches!(part, KeyPart::Field(field) if self.fields[field].column.starts_with("../"))
    }

    /// Whether the records know their position in the file, so that all of them must be read to tell of one.
    pub fn counts_positions(&self) -> bool {
        let named = NamedBy::Record(KeyPart::Position);
        let of_file = |rule: &ValueRule| rule.file.as_ref().is_some_and(|file| file.parts().contains(&named));
        self.key.contains(&KeyPart::Position)
            || self.rules.iter().any(|rule| rule.with.contains(&named) || of_file(rule))
    }

    /// Whether the records can be read from blocks of whole lines, one after another.
    pub fn reads_blocks(&self) -> bool {
        self.format.reads_blocks() && !self.counts_positions()
    }

    /// The name of a part of the key, for messages.
    pub fn key_part_name(&self, part: KeyPart) -> &str {
        match part {
            KeyPart::Field(field) => &self.fields[field].name,
            KeyPart::Stem => "{stem}",
            KeyPart::FileName => "{file}",
            KeyPart::Path => "{path}",
            KeyPart::PathPart(part) => self.path_parts().get(part).map_or("", String::as_str),
            KeyPart::Position => "{position}",
        }
    }

    /// Whether the key has the name of the file as a part.
    pub fn is_keyed_by_file(&self) -> bool {
        self.key.iter().any(|part| part.is_of_file())
    }

    /// Whether the records are whole files.
    pub fn is_of_files(&self) -> bool {
        !self.format.reads_content()
    }
}
