//! Reading where a table of texts has its texts.

use super::{TableBuilder, list};
use crate::schema::table::{Table, Texts};
use std::ops::Range;
use toml::de::{DeTable, DeValue};

impl<'t> TableBuilder<'_, 't> {
    /// The texts of a table whose records say themselves what language they are in.
    pub(super) fn texts_by_record(
        &mut self,
        table: &mut Table,
        body: &DeTable<'t>,
        text: &str,
        span: Range<usize>,
        languages: &[String],
    ) -> Option<Texts> {
        let field = self.reader.text(body, "language")?;
        let text = self.field_named(table, text, span);
        let language = self.field_named(table, field.get_ref(), field.span());
        let mut names: Vec<(String, usize)> = Vec::new();
        match self.reader.table(body, "languages") {
            None => names.extend(languages.iter().cloned().zip(0..)),
            Some(given) => {
                for (name, code) in given {
                    let found =
                        code.get_ref().as_str().and_then(|code| languages.iter().position(|own| own == code));
                    match found {
                        Some(found) => names.push((name.get_ref().to_string(), found)),
                        None => {
                            let help = format!(
                                "the project's languages are {}",
                                list(languages.iter().map(String::as_str))
                            );
                            self.reader.problem(code.span(), "the project has no such language", help);
                        }
                    }
                }
            }
        }
        Some(Texts::Record { text, language, names })
    }

    pub(super) fn texts(&mut self, table: &mut Table, body: &DeTable<'t>, languages: &[String]) {
        let Some(value) = body.get("texts") else { return };
        let per_file = table.files.iter().any(|pattern| pattern.has_language());
        let mut by_language = Vec::new();
        match value.get_ref() {
            DeValue::Boolean(false) => return,
            DeValue::String(field) => by_language.push((None, field.to_string())),
            DeValue::Boolean(true) if per_file => by_language.push((None, "text".to_owned())),
            DeValue::Boolean(true) => {
                by_language.extend(languages.iter().map(|code| (Some(code.clone()), code.clone())));
            }
            DeValue::Table(fields) => {
                for (code, field) in fields {
                    match field.get_ref().as_str() {
                        Some(field) => by_language.push((Some(code.get_ref().to_string()), field.to_owned())),
                        None => self.reader.wrong_kind(field, code.get_ref(), "the name of a field"),
                    }
                }
            }
            _ => {
                return self.reader.wrong_kind(value, "texts", "true, a field, or a field for each language");
            }
        }
        if let [(None, text)] = &by_language[..]
            && let Some(texts) = self.texts_by_record(table, body, text, value.span(), languages)
        {
            table.texts = Some(texts);
            return;
        }
        let mut fields = Vec::new();
        for (code, name) in by_language {
            let field = self.field_named(table, &name, value.span());
            match code {
                None if per_file => table.texts = Some(Texts::File(field)),
                // One field without languages in the path: the texts are all in the main language.
                None => fields.push((0, field)),
                Some(code) => match languages.iter().position(|language| *language == code) {
                    Some(language) => fields.push((language, field)),
                    None => {
                        let help = format!(
                            "the project's languages are {}",
                            list(languages.iter().map(String::as_str))
                        );
                        self.reader.problem(
                            value.span(),
                            format!("the project has no language `{code}`"),
                            help,
                        );
                    }
                },
            }
        }
        if !fields.is_empty() {
            table.texts = Some(Texts::Fields(fields));
        }
    }
}
