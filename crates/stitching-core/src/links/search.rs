//! Searching everything for a few words.

use super::labels::Labels;
use super::with_text;
use crate::layers::{FileId, LayerId, Stack};
use crate::schema::{Schema, Table, TableId, Texts};
use crate::tables::{Reader, RecordView, all_fields, read_records, shown_key};
use crate::text::{Span, Text};
use rayon::prelude::*;
use std::collections::HashSet;

/// What of a record or a file has the words.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord)]
pub enum Matched {
    /// The key is the searched text.
    Key,
    /// The name as the player sees it is the searched text.
    Label,
    /// The key has the words in it.
    InKey,
    /// The name as the player sees it has the words in it.
    InLabel,
    /// A text, in the language with this code.
    Text(String),
    /// The value of the field with this name.
    Value(String),
    /// A line that belongs to no record: a comment, or a file of no table.
    Line,
}

/// A place that has the searched words.
#[derive(Debug, Clone)]
pub struct SearchHit {
    /// What has them; the smaller, the better.
    pub matched: Matched,
    /// The file.
    pub file: FileId,
    /// The value, or the line.
    pub span: Span,
    /// The table, for records.
    pub table: Option<TableId>,
    /// The key as shown, for records that have one.
    pub key: Option<String>,
    /// The name as the player sees it.
    pub label: Option<String>,
    /// Whether the words stand there as words of their own, not inside longer ones.
    pub whole_words: bool,
    /// Whether a higher layer has a file of the same path, so that the game does not see this one.
    pub overridden: bool,
}

/// Searches all layers through `through` for records and lines that have all `words`, without
/// regard to case. The best come first; files that cannot be read are passed over.
///
/// Cost: all files are read; records are taken apart only in files of tables.
pub fn search(stack: &Stack, schema: &Schema, through: LayerId, words: &[String]) -> Vec<SearchHit> {
    let words: Vec<String> =
        words.iter().flat_map(|word| word.split_whitespace()).map(str::to_lowercase).collect();
    if words.is_empty() {
        return Vec::new();
    }
    let query = Query { phrase: words.join(" "), words, labels: Labels::read(stack, schema, through) };
    let effective: HashSet<FileId> = stack.effective(through).into_iter().collect();
    let files: Vec<FileId> =
        (0..stack.files().len()).filter(|file| stack.files()[*file].layer <= through).collect();
    let in_file = |file: &FileId| {
        let mut hits =
            with_text(stack, *file, |text| query.file(stack, schema, *file, text)).unwrap_or_default();
        for hit in &mut hits {
            hit.overridden = !effective.contains(file);
        }
        hits
    };
    let mut hits: Vec<SearchHit> = files.par_iter().with_max_len(1).flat_map_iter(in_file).collect();
    let path = |hit: &SearchHit| stack.files()[hit.file].path.clone();
    hits.sort_by_cached_key(|hit| {
        let exact = matches!(hit.matched, Matched::Key | Matched::Label);
        let key = hit.key.as_ref().map_or(usize::MAX, String::len);
        (hit.overridden, !exact && !hit.whole_words, hit.matched.clone(), key, path(hit), hit.span)
    });
    // What is overridden and the same is no news.
    let shown: HashSet<_> = hits
        .iter()
        .filter(|hit| !hit.overridden)
        .map(|hit| (hit.table, hit.key.clone(), path(hit)))
        .collect();
    hits.retain(|hit| !hit.overridden || !shown.contains(&(hit.table, hit.key.clone(), path(hit))));
    hits
}

struct Query {
    words: Vec<String>,
    phrase: String,
    labels: Labels,
}

impl Query {
    fn file(&self, stack: &Stack, schema: &Schema, file: FileId, text: &Text<'_>) -> Vec<SearchHit> {
        let path = &stack.files()[file].path;
        let mut hits = Vec::new();
        let mut covered = Vec::new();
        for (id, table) in schema.tables.iter().enumerate().filter(|(_, table)| table.takes(path)) {
            let table = table.widened(&table.format.columns(text));
            let mut finder = Finder { query: self, schema, file, id, hits: &mut hits, covered: &mut covered };
            read_records(&table, path, text, &all_fields(&table), &mut finder);
        }
        covered.sort_unstable();
        let content = text.as_str();
        let mut from = text.body();
        for line in content.get(from..).unwrap_or("").split_inclusive('\n') {
            let span = Span::new(from, from + line.trim_end().len());
            from += line.len();
            let before = covered.partition_point(|other: &Span| other.start < span.end);
            let in_record = covered[..before].iter().rev().take(8).any(|other| other.end > span.start);
            if !in_record && self.in_text(&line.to_lowercase()) {
                hits.push(SearchHit {
                    matched: Matched::Line,
                    file,
                    span,
                    table: None,
                    key: None,
                    label: None,
                    whole_words: true,
                    overridden: false,
                });
            }
        }
        hits
    }

    /// Whether all words stand in `lower` as words of their own.
    fn as_words(&self, lower: &str) -> bool {
        let own: Vec<&str> = lower.split(|c: char| !c.is_alphanumeric()).collect();
        let in_parts =
            |word: &str| word.split(|c: char| !c.is_alphanumeric()).all(|part| own.contains(&part));
        self.words.iter().all(|word| in_parts(word))
    }

    fn in_text(&self, lower: &str) -> bool {
        self.words.iter().all(|word| lower.contains(word.as_str()))
    }
}

struct Finder<'f> {
    query: &'f Query,
    schema: &'f Schema,
    file: FileId,
    id: TableId,
    hits: &'f mut Vec<SearchHit>,
    covered: &'f mut Vec<Span>,
}

impl Reader for Finder<'_> {
    fn record(&mut self, record: &RecordView<'_>) {
        self.covered.push(record.span);
        let (query, table) = (self.query, record.table);
        let key = record.key().map(|key| shown_key(&key));
        let label_value = table.label.and_then(|field| record.value(field));
        let label = label_value.and_then(|value| query.labels.name(table, &value));
        let lower = |text: &Option<String>| text.as_ref().map(|text| text.to_lowercase()).unwrap_or_default();
        let (key_lower, label_lower) = (lower(&key), lower(&label));
        // Of a key of several parts the last is the record's own; a file's name in it says little.
        let own =
            if table.key.len() > 1 { key_lower.rsplit('/').next().unwrap_or_default() } else { &key_lower };
        let (found, whole_words) = if key_lower == query.phrase || own == query.phrase {
            (Some((Matched::Key, record.span)), true)
        } else if label_lower == query.phrase {
            (Some((Matched::Label, record.span)), true)
        } else if !own.is_empty() && query.in_text(own) {
            (Some((Matched::InKey, record.span)), query.as_words(own))
        } else if !label_lower.is_empty() && query.in_text(&label_lower) {
            (Some((Matched::InLabel, record.span)), query.as_words(&label_lower))
        } else {
            let found = self.in_values(record);
            let found = found.or_else(|| {
                query.in_text(&key_lower).then_some((Matched::Value("{stem}".to_owned()), record.span))
            });
            let whole = |span: &Span| query.as_words(&span.of(record.text).to_lowercase());
            let whole_words = found.as_ref().is_some_and(|(_, span)| *span != record.span && whole(span));
            (found, whole_words)
        };
        if let Some((matched, span)) = found {
            let (file, table) = (self.file, Some(self.id));
            self.hits.push(SearchHit {
                matched,
                file,
                span,
                table,
                key,
                label,
                whole_words,
                overridden: false,
            });
        }
    }
}

impl Finder<'_> {
    /// The first value with the words; if they are spread over several, the first with one.
    fn in_values(&self, record: &RecordView<'_>) -> Option<(Matched, Span)> {
        let mut missing: Vec<&str> = self.query.words.iter().map(String::as_str).collect();
        let mut first = None;
        for cell in record.cells {
            let value = crate::formats::decode(record.text, &cell.cell).text.to_lowercase();
            let all = self.query.in_text(&value);
            let before = missing.len();
            missing.retain(|word| !value.contains(word));
            if all || missing.len() < before && first.is_none() {
                first = Some((self.matched(record.table, usize::from(cell.column), record), cell.cell.span));
            }
            if all {
                return first;
            }
        }
        first.filter(|_| missing.is_empty())
    }

    fn matched(&self, table: &Table, field: usize, record: &RecordView<'_>) -> Matched {
        let language = match &table.texts {
            Some(Texts::File(text)) if *text == field => table.language_of(record.path).map(str::to_owned),
            Some(texts @ Texts::Record { text, language, .. }) if *text == field => {
                let name = record.value(*language).unwrap_or_default();
                texts.language_called(&name).map(|language| self.schema.languages[language].clone())
            }
            Some(Texts::Fields(fields)) => fields
                .iter()
                .find(|(_, text)| *text == field)
                .map(|(language, _)| self.schema.languages[*language].clone()),
            _ => None,
        };
        language.map_or_else(|| Matched::Value(table.fields[field].name.clone()), Matched::Text)
    }
}
