//! The texts of a project: what there is in which language, what names them, and what is wrong with them.

use crate::Error;
use crate::help::NextStep;
use crate::layers::FileId;
use crate::links::{Address, Labels, language_fields};
use crate::reading::View;
use crate::rows::Rows;
use crate::schema::{CompanionKind, Schema, Table, TableId, Texts};
use crate::tables::{shown_key, split_value};
use crate::text::{Span, marks_that_differ};
use std::collections::{BTreeMap, HashMap};

/// All texts of a project.
#[derive(Debug)]
pub struct TextSurvey {
    /// The codes of the languages, the main one first.
    pub languages: Vec<String>,
    /// The texts by their keys, in order.
    pub texts: Vec<TextRecord>,
    /// How many records of each table need a text in a field, and in how many languages they have it.
    pub coverage: Vec<Coverage>,
}

/// A text in all its languages.
#[derive(Debug)]
pub struct TextRecord {
    /// The table that has it; of a key that is nowhere the first table of texts.
    pub table: TableId,
    /// The key as shown.
    pub key: String,
    /// The text in each language of the project, if it is there.
    pub texts: Vec<Option<TextEntry>>,
    /// What names it.
    pub uses: Vec<TextUse>,
}

/// A text in one language.
#[derive(Debug)]
pub struct TextEntry {
    /// What it says.
    pub text: String,
    /// Its file.
    pub file: FileId,
    /// Where it stands there.
    pub span: Span,
}

/// A record that names a text.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct TextUse {
    /// The address of the record.
    pub address: String,
    /// The field with the name; none for a text that goes with the record.
    pub field: Option<String>,
}

/// How many texts a field of a table needs, and what there is.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Coverage {
    /// The name of the table.
    pub table: String,
    /// The field that names the texts; none for texts that go with the records.
    pub field: Option<String>,
    /// How many texts are needed.
    pub needed: usize,
    /// How many of them there are in each language.
    pub there: Vec<usize>,
}

/// What may be wrong with a text.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum TextIssue {
    /// It is named, and not there.
    Missing,
    /// It is there, and nothing names it.
    Unused,
    /// It is there, and says nothing.
    Empty,
    /// It says the same as in the main language.
    Same,
    /// Marks such as `{name}` differ from those in the main language.
    Marks,
    /// Another text of the same language says the same.
    Doubled,
}

impl TextIssue {
    /// All of them, by name.
    pub const NAMES: [(&'static str, TextIssue); 6] = [
        ("missing", TextIssue::Missing),
        ("unused", TextIssue::Unused),
        ("empty", TextIssue::Empty),
        ("same", TextIssue::Same),
        ("marks", TextIssue::Marks),
        ("doubled", TextIssue::Doubled),
    ];
}

impl TextSurvey {
    /// Reads all texts, and what names them. Cost: a pass over the tables of texts, and over those with fields that name texts.
    ///
    /// # Errors
    /// When the project has no tables of texts, or a file cannot be read.
    pub fn read(view: View<'_>) -> Result<TextSurvey, Error> {
        let schema = view.schema;
        let Some(first) = schema.text_tables().next() else {
            return Err(Error::Usage {
                message: "the schema has no table of texts".into(),
                help: crate::help::Help::from("describe one with texts = \"FIELD\"")
                    .then(NextStep::ListTables),
            });
        };
        let mut survey =
            TextSurvey { languages: schema.languages.clone(), texts: Vec::new(), coverage: Vec::new() };
        let mut by_key: HashMap<String, usize> = HashMap::new();
        for id in schema.text_tables() {
            survey.add_table(view, id, &mut by_key)?;
        }
        let uses = uses(view)?;
        for ((table, field), names) in uses {
            let mut there = vec![0; survey.languages.len()];
            let needed = names.len();
            for (name, address) in names {
                let at = *by_key.entry(name.clone()).or_insert_with(|| {
                    let (texts, uses) = (survey.languages.iter().map(|_| None).collect(), Vec::new());
                    survey.texts.push(TextRecord { table: first, key: shown_key(&name), texts, uses });
                    survey.texts.len() - 1
                });
                let text = &mut survey.texts[at];
                for (there, own) in there.iter_mut().zip(&text.texts) {
                    *there += usize::from(own.is_some());
                }
                text.uses.push(TextUse { address, field: field.clone() });
            }
            let table = schema.tables[table].name.clone();
            survey.coverage.push(Coverage { table, field, needed, there });
        }
        survey.texts.sort_by(|a, b| (a.table, &a.key).cmp(&(b.table, &b.key)));
        Ok(survey)
    }

    /// The position of the language called `code`.
    ///
    /// # Errors
    /// When the project has no such language.
    pub fn language(&self, code: &str) -> Result<usize, Error> {
        self.languages.iter().position(|own| own == code).ok_or_else(|| Error::Unknown {
            what: "language",
            name: code.to_owned(),
            help: format!("the languages of the project are {}", self.languages.join(", ")).into(),
        })
    }

    /// Adds the texts of a table.
    fn add_table(
        &mut self,
        view: View<'_>,
        id: TableId,
        by_key: &mut HashMap<String, usize>,
    ) -> Result<(), Error> {
        let labels = Labels::default();
        let rows = Rows::read(view, id, &labels)?;
        let column = |field: usize| rows.fields.iter().position(|own| *own == field);
        for row in &rows.rows {
            let (Some(key), Some(path)) = (&row.key, rows.paths.get(&row.file)) else { continue };
            let value = |field: usize| Some(row.text(column(field)?).into_owned());
            let at = *by_key.entry(key.clone()).or_insert_with(|| {
                let (texts, uses) = (self.languages.iter().map(|_| None).collect(), Vec::new());
                self.texts.push(TextRecord { table: id, key: shown_key(key), texts, uses });
                self.texts.len() - 1
            });
            for (language, field) in language_fields(view.schema, &rows.table, path, value) {
                let Some(cell) = column(field).and_then(|column| row.cells[column].as_ref()) else {
                    continue;
                };
                // A cell that is empty is how such a table lacks a text.
                if cell.text.is_empty() && matches!(rows.table.texts, Some(Texts::Fields(_))) {
                    continue;
                }
                // What comes later lies higher.
                self.texts[at].texts[language] =
                    Some(TextEntry { text: cell.text.to_string(), file: cell.file, span: cell.span });
            }
        }
        Ok(())
    }

    /// The texts with an issue, each with the position of the language; of unused texts that of the first language they are in.
    pub fn with_issue(&self, issue: TextIssue) -> Vec<(&TextRecord, usize)> {
        let mut out = Vec::new();
        let doubled = if issue == TextIssue::Doubled { self.doubled() } else { HashMap::new() };
        for text in &self.texts {
            if issue == TextIssue::Unused {
                let first = text.texts.iter().position(Option::is_some);
                out.extend(first.filter(|_| text.uses.is_empty()).map(|language| (text, language)));
                continue;
            }
            let has = |language: &usize| {
                let own = text.texts[*language].as_ref();
                let main = text.texts[0].as_ref().filter(|_| *language > 0);
                match (issue, own) {
                    (TextIssue::Missing, None) => {
                        !text.uses.is_empty() || text.texts[0].is_some() || *language == 0
                    }
                    (TextIssue::Empty, Some(own)) => own.text.trim().is_empty(),
                    (TextIssue::Same, Some(own)) => {
                        main.is_some_and(|main| main.text == own.text && has_letters(&own.text))
                    }
                    (TextIssue::Marks, Some(own)) => main.is_some_and(|main| {
                        let (lacks, besides) = marks_that_differ(&main.text, &own.text);
                        !lacks.is_empty() || !besides.is_empty()
                    }),
                    (TextIssue::Doubled, Some(own)) => {
                        doubled.get(&(*language, own.text.as_str())).is_some_and(|number| *number > 1)
                    }
                    _ => false,
                }
            };
            out.extend((0..text.texts.len()).filter(has).map(|language| (text, language)));
        }
        out
    }

    /// How often each text is there in a language.
    fn doubled(&self) -> HashMap<(usize, &str), usize> {
        let mut out: HashMap<(usize, &str), usize> = HashMap::new();
        for text in &self.texts {
            for (language, own) in text.texts.iter().enumerate() {
                if let Some(own) = own.as_ref().filter(|own| has_letters(&own.text)) {
                    *out.entry((language, own.text.as_str())).or_default() += 1;
                }
            }
        }
        out
    }
}

impl TextRecord {
    /// The address of the text.
    pub fn address(&self, schema: &Schema) -> String {
        Address::show(&schema.tables[self.table].name, &self.key)
    }
}

fn has_letters(text: &str) -> bool {
    text.chars().any(char::is_alphabetic)
}

/// What names texts: by table and field the key of each text, with the address of the record.
type Uses = BTreeMap<(TableId, Option<String>), Vec<(String, String)>>;

fn uses(view: View<'_>) -> Result<Uses, Error> {
    let schema = view.schema;
    let labels = Labels::default();
    let mut out = Uses::new();
    for (id, table) in schema.tables.iter().enumerate() {
        let companions: Vec<_> =
            schema.companions_of(id).filter(|own| own.kind == CompanionKind::Text).collect();
        let names_texts =
            |field: usize| table.rules.iter().any(|rule| rule.field == field && rule.text.is_some());
        let fields: Vec<usize> = (0..table.fields.len()).filter(|field| names_texts(*field)).collect();
        if companions.is_empty() && fields.is_empty() {
            continue;
        }
        let wanted = |name: &str| fields.iter().any(|field| table.fields[*field].name == name);
        let rows = Rows::read_needed(view, id, &labels, &wanted)?;
        for row in &rows.rows {
            let address = Address::show(&table.name, &row.shown_key());
            for companion in &companions {
                let Some(key) = &row.key else { continue };
                let name = companion.name_for(table, key);
                out.entry((id, None)).or_default().push((name, address.clone()));
            }
            for field in &fields {
                let column = rows.fields.iter().position(|own| own == field);
                let Some(cell) = column.and_then(|column| row.cells[column].as_ref()) else { continue };
                for value in cell.values() {
                    each_text(&rows.table, *field, value, &mut |name| {
                        let own = (id, Some(table.fields[*field].name.clone()));
                        out.entry(own).or_default().push((name, address.clone()));
                    });
                }
            }
        }
    }
    Ok(out)
}

/// Gives the keys of the texts that a value of a field names.
fn each_text(table: &Table, field: usize, value: &str, each: &mut dyn FnMut(String)) {
    split_value(table, &table.fields[field], value, &mut |rule, within, fits, _| {
        let (rule, text) = (&table.rules[rule], &value[within]);
        if let Some(template) = rule.text.as_ref().filter(|_| fits && !rule.is_none(text)) {
            each(template.fill_one(text));
        }
    });
}
