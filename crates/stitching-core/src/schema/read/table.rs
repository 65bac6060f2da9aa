//! Reading the description of a table.

use super::field::family;
use super::{TableBuilder, keys};
use crate::formats::read_format;
use crate::layers::LayeringMark;
use crate::schema::dependencies;
use crate::schema::file_pattern::FilePattern;
use crate::schema::pattern::why_not_regex;
use crate::schema::table::{Forbidden, LineEnds, Table};
use crate::settings::shortened;
use crate::text::Encoding;
use regex::Regex;
use toml::Spanned;
use toml::de::DeTable;

impl<'t> TableBuilder<'_, 't> {
    pub(super) fn table(
        &mut self,
        name: &Spanned<std::borrow::Cow<'t, str>>,
        body: &DeTable<'t>,
        languages: &[String],
    ) -> Option<Table> {
        self.reader.check_keys(body, keys::TABLE, |_| false);
        dependencies::check_table(self.reader, body);
        let shown: &str = name.get_ref();
        if shown.contains([':', '"', '.']) || shown.contains(char::is_whitespace) {
            let message = format!("`{shown}` cannot be the name of a table");
            self.reader.problem(name.span(), message, "addresses are written `table:key.field`, so a table's name has no blanks, dots, colons or quotes");
        }
        if body.contains_key("by_use") {
            return self.by_use(shown, name.span(), body);
        }
        for needed in ["files", "format"] {
            if !body.contains_key(needed) {
                let about = keys::TABLE.iter().find(|doc| doc.name == needed).map_or("", |doc| doc.about);
                self.reader.problem(name.span(), format!("the table `{shown}` has no `{needed}`"), about);
            }
        }
        let files = self.files(body)?;
        let (format_name, format) = read_format(self.reader, body.get("format")?)?;
        let mut table = Table {
            name: shown.to_owned(),
            about: self.reader.text(body, "about").map(Spanned::into_inner),
            files,
            format_name,
            format,
            key: Vec::new(),
            label: None,
            fields: Vec::new(),
            rules: Vec::new(),
            byte_order_mark: self.byte_order_mark(body),
            line_ends: self.one_of(body, "line_ends", &LineEnds::NAMES),
            closed: self.reader.flag(body, "closed").unwrap_or(false),
            forbidden: self.forbidden(body),
            not_letters: self.letters(body),
            encoding: self.encoding(body),
            merged: self.merged(body),
            layering_mark: self.layering_mark(body),
            first: self.first(body),
            repeated: self.reader.flag(body, "repeated").unwrap_or(false),
            ignore_case: self.reader.flag(body, "ignore_case").unwrap_or(false),
            by_use: Vec::new(),
            texts: None,
            place: self.reader.place(name.span()),
        };
        if let Some(fields) = self.reader.table(body, "fields") {
            for (name, value) in fields {
                let span = name.span();
                let names = family(name.get_ref());
                let columns = self.columns_of(&names, value);
                for (name, column) in names.iter().zip(columns) {
                    self.field(&mut table, name, column, value, span.clone());
                }
            }
        }
        self.bind_fields(&mut table);
        if body.contains_key("key") {
            self.key(&mut table, body)?;
        }
        if let Some(label) = self.reader.text(body, "label") {
            table.label = Some(self.field_named(&mut table, label.get_ref(), label.span()));
        }
        self.texts(&mut table, body, languages);
        if table.key.is_empty() {
            self.check_keyless(&table, body);
        }
        if let (Some(value), true, false) = (body.get("closed"), table.closed, table.format.has_names()) {
            let message =
                "`closed` means nothing here: the records have no names in them that could be unknown";
            self.reader.problem(value.span(), message, "remove it");
        }
        if let (Some(value), false) = (body.get("first"), table.counts_positions()) {
            let message = "`first` means nothing without `{position}` in the key";
            self.reader.problem(value.span(), message, "write key = \"{position}\", or remove `first`");
        }
        if let (Some(value), true, true) = (body.get("layering"), table.merged, table.counts_positions()) {
            let message =
                "records that are told apart by their position cannot count together over all layers";
            self.reader.problem(value.span(), message, "give the table another key, or leave `layering` out");
        }
        Some(table)
    }

    pub(super) fn files(&mut self, body: &DeTable<'t>) -> Option<Vec<FilePattern>> {
        let mut out = Vec::new();
        for pattern in self.reader.texts(body, "files")? {
            match FilePattern::parse(pattern.get_ref()) {
                Ok(parsed) => out.push(parsed),
                Err(error) => self.reader.problem(pattern.span(), error.message, error.help),
            }
        }
        (!out.is_empty()).then_some(out)
    }

    pub(super) fn merged(&mut self, body: &DeTable<'t>) -> bool {
        let Some(layering) = self.reader.text(body, "layering") else { return false };
        match layering.get_ref().as_str() {
            "merge" => true,
            "replace" => false,
            other => {
                let message = format!("`layering` cannot be \"{other}\"");
                self.reader.problem(layering.span(), message, "it is \"replace\" or \"merge\"");
                false
            }
        }
    }

    pub(super) fn first(&mut self, body: &DeTable<'t>) -> u32 {
        let Some(value) = body.get("first") else { return 1 };
        match value.get_ref().as_integer().map(|number| number.as_str()) {
            Some("0") => 0,
            Some("1") => 1,
            _ => {
                self.reader.wrong_kind(value, "first", "1 or 0");
                1
            }
        }
    }

    /// What needs records with a key of their own.
    pub(super) fn check_keyless(&mut self, table: &Table, body: &DeTable<'t>) {
        for (setting, wanted) in [("texts", table.texts.is_some()), ("layering", table.merged)] {
            if let Some(value) = body.get(setting).filter(|_| wanted) {
                let message = format!("the table `{}` has `{setting}` and no `key`", table.name);
                self.reader.problem(value.span(), message, "say what names a record: key = \"FIELD\"");
            }
        }
    }

    pub(super) fn layering_mark(&mut self, body: &DeTable<'t>) -> Option<LayeringMark> {
        let replaces = self.mark(body, "replaces").map(LayeringMark::Replaces);
        let adds = self.mark(body, "adds").map(LayeringMark::Adds);
        replaces.or(adds)
    }

    /// What is looked for in a file: a line that is just a mark, mostly.
    fn mark(&mut self, body: &DeTable<'t>, setting: &str) -> Option<Regex> {
        let given = self.reader.text(body, setting)?;
        let regex = regex::RegexBuilder::new(given.get_ref()).multi_line(true).build().ok();
        if regex.is_none() {
            let message = format!("`{}` {}", shortened(given.get_ref()), why_not_regex(given.get_ref()));
            self.reader.problem(given.span(), message, "a line that is just a mark is \"^; replace$\"");
        }
        regex
    }

    pub(super) fn byte_order_mark(&mut self, body: &DeTable<'t>) -> Option<bool> {
        let given = self.reader.text(body, "byte_order_mark")?;
        match given.get_ref().as_str() {
            "required" => Some(true),
            "forbidden" => Some(false),
            other => {
                let message = format!("`byte_order_mark` cannot be \"{other}\"");
                self.reader.problem(given.span(), message, "it is \"required\" or \"forbidden\"");
                None
            }
        }
    }

    /// The setting of that name, which is one of a few words.
    fn one_of<T: Copy>(&mut self, body: &DeTable<'t>, setting: &str, names: &[(&str, T)]) -> Option<T> {
        let given = self.reader.text(body, setting)?;
        self.called(setting, &given, names)
    }

    fn called<T: Copy>(&mut self, setting: &str, given: &Spanned<String>, names: &[(&str, T)]) -> Option<T> {
        let found = names.iter().find(|(name, _)| name == given.get_ref()).map(|(_, value)| *value);
        if found.is_none() {
            let all: Vec<String> = names.iter().map(|(name, _)| format!("\"{name}\"")).collect();
            let message = format!("`{setting}` cannot be \"{}\"", given.get_ref());
            self.reader.problem(given.span(), message, format!("it is {}", all.join(" or ")));
        }
        found
    }

    fn forbidden(&mut self, body: &DeTable<'t>) -> Vec<Forbidden> {
        let given = self.reader.texts(body, "forbid").unwrap_or_default();
        given.iter().filter_map(|own| self.called("forbid", own, &Forbidden::NAMES)).collect()
    }

    /// What finds a letter that is not among those given.
    fn letters(&mut self, body: &DeTable<'t>) -> Option<Regex> {
        let given = self.reader.text(body, "letters")?;
        let regex = Regex::new(&format!("[^{}\\s]", given.get_ref())).ok();
        if regex.is_none() || given.get_ref().is_empty() {
            let message = format!("`{}` are no letters of a regular expression", shortened(given.get_ref()));
            let help = "write what stands between its brackets: \"A-Za-z0-9 .,!?\"; `-`, `[`, `]` and `\\\\` with `\\\\` before them";
            self.reader.problem(given.span(), message, help);
        }
        regex
    }

    pub(super) fn encoding(&mut self, body: &DeTable<'t>) -> Option<Encoding> {
        let label = self.reader.text(body, "encoding")?;
        let found = Encoding::for_label(label.get_ref());
        if found.is_none() {
            let message = format!("there is no encoding `{}`", label.get_ref());
            let help = "names are those of the Encoding Standard: utf-8, utf-16le, windows-1250, windows-1252, iso-8859-2, shift_jis";
            self.reader.problem(label.span(), message, help);
        }
        found
    }
}
