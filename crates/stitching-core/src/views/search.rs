//! Searching everything for a few words.

use crate::formats::{Cell, ColumnCell, Form};
use crate::layers::{FileId, RelPath, Stack};
use crate::links::{Labels, Switched, SwitchedBy, label_key, switched};
use crate::reading::View;
use crate::reading::{BytePrefilter, with_text};
use crate::schema::{Schema, Table, TableId, Texts, ValueRule};
use crate::tables::{RecordView, RecordVisitor, all_fields, read_records, read_records_at, shown_key};
use crate::text::{Span, Template, Text};
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
    /// The path of a file of no table.
    Path,
    /// A text, in the language with this code.
    Text(String),
    /// A comment in, beside or directly above the record.
    Comment,
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
    /// The whole record, or the line.
    pub entry: Span,
    /// The table, for records.
    pub table: Option<TableId>,
    /// The key as shown, for records that have one.
    pub key: Option<String>,
    /// The name as the player sees it.
    pub label: Option<String>,
    /// Whether the words stand there as words of their own, not inside longer ones.
    pub whole_words: bool,
    /// Whether it is only like the words.
    pub similar: bool,
    /// Whether the game sees it.
    pub seen: Visibility,
}

/// Whether the game sees a place.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord)]
pub enum Visibility {
    /// In the highest layer.
    Yes,
    /// Yes, but the highest layer does not have it: it comes from a lower one.
    FromBelow,
    /// No: a higher layer has a file of the same path.
    Overridden,
}

/// What has the searched words.
#[derive(Debug, Clone, Default)]
pub struct Search {
    /// The best places, the best first.
    pub hits: Vec<SearchHit>,
    /// How many places there are.
    pub total: usize,
    /// What is switched off and has them.
    pub off: Vec<Switched>,
}

/// Searches all layers through `through` for records and lines that have all `words`, without
/// regard to case; if `similar`, also with some letters wrong. Gives the `most` best; files that cannot be read
/// are passed over.
///
/// Cost: all files are read, or those parts of them that can have the words if the stack has a place to keep what is
/// known of that; records are taken apart only in files of tables that have them.
pub fn search(view: View<'_>, words: &[String], similar: bool, most: usize) -> Search {
    let View { stack, schema, through } = view;
    let words: Vec<String> =
        words.iter().flat_map(|word| word.split_whitespace()).map(str::to_lowercase).collect();
    if words.is_empty() {
        return Search::default();
    }
    let query = SearchQuery::new(view, words, similar);
    let effective: HashSet<FileId> = stack.effective(through).into_iter().collect();
    let files: Vec<FileId> =
        (0..stack.files().len()).filter(|file| stack.files()[*file].layer <= through).collect();
    let mut off = if through == stack.top() { switched(stack, schema) } else { Vec::new() };
    let in_file = |file: &FileId| {
        if query.has_nothing(stack, schema, *file) {
            return Vec::new();
        }
        let mut hits =
            with_text(stack, *file, |text| query.file(stack, schema, *file, text)).unwrap_or_default();
        for hit in &mut hits {
            hit.seen = match (effective.contains(file), stack.files()[*file].layer == through) {
                (false, _) => Visibility::Overridden,
                (true, true) => Visibility::Yes,
                (true, false) => Visibility::FromBelow,
            };
        }
        hits
    };
    let mut hits: Vec<SearchHit> = files.par_iter().with_max_len(1).flat_map_iter(in_file).collect();
    // What is off stands in a comment; it is told as what it would be.
    hits.retain(|hit| {
        let inside = |own: &Switched| {
            matches!(&own.source, SwitchedBy::Marks(file, piece)
            if *file == hit.file && piece.span.start < hit.span.end && hit.span.start < piece.span.end)
        };
        !matches!(hit.matched, Matched::Line | Matched::Comment) || !off.iter().any(inside)
    });
    off.retain(|own| {
        let key = own.what.as_ref().map(|(_, key, _)| shown_key(key)).unwrap_or_default();
        query.has_words(&format!("{key} {}", own.text))
    });
    let path = |hit: &SearchHit| stack.files()[hit.file].path.clone();
    hits.sort_by_cached_key(|hit| {
        let exact = matches!(hit.matched, Matched::Key | Matched::Label);
        let key = hit.key.as_ref().map_or(usize::MAX, String::len);
        let hidden = hit.seen == Visibility::Overridden;
        (hidden, hit.similar, !exact && !hit.whole_words, hit.matched.clone(), key, path(hit), hit.span)
    });
    // What is overridden and the same is no news.
    let shown: HashSet<_> = hits
        .iter()
        .filter(|hit| hit.seen != Visibility::Overridden)
        .map(|hit| (hit.table, hit.key.clone(), path(hit)))
        .collect();
    hits.retain(|hit| {
        hit.seen != Visibility::Overridden || !shown.contains(&(hit.table, hit.key.clone(), path(hit)))
    });
    let total = hits.len();
    hits.truncate(most);
    query.name(view, &mut hits);
    Search { hits, total, off }
}

/// A comment belongs to the record that follows it after no more than so many lines.
const NEAR: usize = 2;

struct SearchQuery {
    words: Vec<String>,
    phrase: String,
    /// The names in which the words may be: those that have them if it is known which these are, else all.
    labels: Labels,
    similar: bool,
    /// Finds the places without which a file has nothing; none if that cannot be told before it is parsed.
    quick: Option<BytePrefilter>,
}

/// A record of the file that is searched.
struct Entry {
    span: Span,
    table: TableId,
    /// The key as shown.
    key: Option<String>,
    /// What its label field holds.
    label: Option<String>,
}

impl SearchQuery {
    /// Looks first for one word alone, the rarest as far as its looks tell, and for the texts that have the words: a name is
    /// found by its text.
    fn new(view: View<'_>, words: Vec<String>, similar: bool) -> SearchQuery {
        let View { stack, schema, .. } = view;
        let mut query =
            SearchQuery { phrase: words.join(" "), words, labels: Labels::default(), similar, quick: None };
        let has_numbers = |part: &str| part.bytes().any(|byte| byte.is_ascii_digit());
        // A number of many digits is rarer than a word.
        let weight = |part: &&str| part.len() + if has_numbers(part) { 4 } else { 0 };
        let rarest = query.parts().max_by_key(weight).filter(|_| !similar).map(str::to_owned);
        if let Some(word) = rarest.as_deref().and_then(|word| BytePrefilter::new(Some(word), [])) {
            word.prepare(stack, schema);
            let mut labels = Labels::with(view, &word);
            labels.retain(|text| query.has_words(text));
            if labels.keys().count() <= BytePrefilter::MOST {
                // Of several texts of a key the highest counts.
                labels = Labels::of_keys(view, labels.keys());
                labels.retain(|text| query.has_words(text));
                query.quick = needles_of(schema, &labels).and_then(|needles| {
                    BytePrefilter::new(rarest.as_deref(), needles.iter().map(String::as_str))
                });
                query.labels = labels;
            }
        }
        if query.quick.is_none() {
            query.labels = Labels::read(view);
        }
        query
    }

    /// Puts the names of the records in place of what their label fields hold, which is what hits have until then: most of
    /// them are never shown.
    fn name(&self, view: View<'_>, hits: &mut [SearchHit]) {
        let View { schema, .. } = view;
        let values = || hits.iter().filter_map(|hit| Some((hit.table?, hit.label.as_deref()?)));
        let keys: HashSet<String> =
            values().filter_map(|(table, value)| label_key(&schema.tables[table], value)).collect();
        let some = self.quick.is_some().then(|| Labels::of_keys(view, keys.iter().map(String::as_str)));
        let labels = some.as_ref().unwrap_or(&self.labels);
        for hit in hits {
            let value = hit.label.take();
            hit.label =
                hit.table.zip(value).and_then(|(table, value)| labels.name(&schema.tables[table], &value));
        }
    }

    fn is_in_path(&self, path: &RelPath) -> bool {
        let lower = path.as_str().to_lowercase();
        self.parts().any(|part| lower.contains(part))
    }

    /// Whether a file has nothing of what is searched for, as its bytes on the disk tell, without being decoded.
    fn has_nothing(&self, stack: &Stack, schema: &Schema, file: FileId) -> bool {
        let quick = self.quick.as_ref().filter(|_| !self.is_in_path(&stack.files()[file].path));
        quick.is_some_and(|quick| quick.has_nothing(stack, schema, file))
    }

    fn file(&self, stack: &Stack, schema: &Schema, file: FileId, text: &Text<'_>) -> Vec<SearchHit> {
        let path = &stack.files()[file].path;
        let content = text.as_str();
        let own = schema.tables_of(path);
        let tables = || own.iter().map(|id| (*id, &schema.tables[*id]));
        // A key may be in the path, and what is written with escapes may be anything.
        let in_path = self.is_in_path(path);
        let quick = self.quick.as_ref().filter(|_| !in_path);
        let places = quick.and_then(|quick| quick.places(tables().map(|(_, table)| table), content));
        let mut hits = Vec::new();
        // Where tables take the file, its name is told with its records, if it says anything of them.
        hits.extend(self.path_hit(file, path).filter(|_| own.is_empty()));
        if places.as_ref().is_some_and(Vec::is_empty) {
            return hits;
        }
        let mut entries: Vec<Entry> = Vec::new();
        let mut headers: Vec<Vec<String>> = Vec::new();
        let around = places.as_ref().map(|places| with_lines_after(content, places));
        for (id, table) in tables() {
            let columns = table.format.columns(text);
            let table = table.widened(&columns);
            headers.extend((columns.len() > 1).then_some(columns));
            let mut finder = Finder { query: self, schema, file, id, hits: &mut hits, entries: &mut entries };
            match &around {
                Some(around) => {
                    read_records_at(&table, path, text, &all_fields(&table), around, &mut finder);
                }
                None => read_records(&table, path, text, &all_fields(&table), &mut finder),
            }
        }
        entries.sort_by_key(|entry| entry.span);
        let mut found_in: HashSet<Span> = hits.iter().map(|hit| hit.entry).collect();
        let notes: Vec<String> = tables().filter_map(|(_, table)| table.format.off_style().mark()).collect();
        for (from, line) in lines(content, text.body(), places.as_deref()) {
            let span = Span::new(from, from + line.trim_end().len());
            let Some(similar) = self.likeness(&line.to_lowercase()) else { continue };
            if own.is_empty() && is_no_text(line) {
                continue;
            }
            let before = entries.partition_point(|other| other.span.start < span.end);
            let around = entries[..before].iter().rev().take(8).find(|other| other.span.end > span.start);
            // Of a record that covers the whole line all values have been searched; a note in it is told once.
            if let Some(other) =
                around.filter(|other| other.span.end >= span.end || other.span.start > span.start)
            {
                let covers = other.span.start <= span.start;
                let note = notes.iter().find_map(|mark| line.find(mark.as_str())).map(|at| &line[at..]);
                if covers && note.is_some_and(|note| self.has_words(note)) && found_in.insert(other.span) {
                    hits.push(self.note_hit(file, span, other));
                }
                continue;
            }
            // The names of the columns stand above all records, and belong to none.
            let is_header = headers.iter().any(|names| names.iter().all(|name| line.contains(name.as_str())));
            let near = around.filter(|_| !is_header).or_else(|| {
                let next = entries.get(before)?;
                let between = content.get(span.end as usize..next.span.start as usize)?;
                (between.matches('\n').count() <= NEAR && !is_header).then_some(next)
            });
            let matched = if near.is_some() { Matched::Comment } else { Matched::Line };
            hits.push(SearchHit {
                matched,
                file,
                span,
                entry: near.map_or(span, |entry| entry.span),
                table: near.map(|entry| entry.table),
                key: near.and_then(|entry| entry.key.clone()),
                label: near.and_then(|entry| entry.label.clone()),
                whole_words: !similar,
                similar,
                seen: Visibility::Yes,
            });
        }
        hits
    }

    /// The file itself, if its path has the words.
    fn path_hit(&self, file: FileId, path: &RelPath) -> Option<SearchHit> {
        let lower = path.as_str().to_lowercase();
        let similar = self.likeness(&lower)?;
        let start = Span::new(0, 0);
        Some(SearchHit {
            matched: Matched::Path,
            file,
            span: start,
            entry: start,
            table: None,
            key: None,
            label: None,
            whole_words: self.as_words(&lower),
            similar,
            seen: Visibility::Yes,
        })
    }

    /// A note inside a record.
    fn note_hit(&self, file: FileId, span: Span, entry: &Entry) -> SearchHit {
        SearchHit {
            matched: Matched::Comment,
            file,
            span,
            entry: entry.span,
            table: Some(entry.table),
            key: entry.key.clone(),
            label: entry.label.clone(),
            whole_words: true,
            similar: false,
            seen: Visibility::Yes,
        }
    }

    /// The words; the parts of a key, which is shown with `/` between them, may stand apart.
    fn parts(&self) -> impl Iterator<Item = &str> {
        self.words.iter().flat_map(|word| word.split('/')).filter(|part| !part.is_empty())
    }

    /// Whether all words stand in `text`, in whatever case.
    fn has_words(&self, text: &str) -> bool {
        self.in_text(&text.to_lowercase())
    }

    /// Whether all words stand in `lower`, and if so whether only with letters wrong.
    fn likeness(&self, lower: &str) -> Option<bool> {
        if self.in_text(lower) {
            return Some(false);
        }
        (self.similar && self.is_like(lower)).then_some(true)
    }

    /// Whether all words stand in `lower`, some perhaps with letters wrong.
    fn is_like(&self, lower: &str) -> bool {
        let identifier = |c: char| c.is_alphanumeric() || matches!(c, '_' | '-');
        let parts = || {
            let whole = lower.split(move |c| !identifier(c));
            whole.chain(lower.split(|c: char| !c.is_alphanumeric())).filter(|part| !part.is_empty())
        };
        let is_like = |word: &String| {
            // Short words are like too many others.
            let slips = match word.chars().count() {
                0..=3 => 0,
                4..=7 => 1,
                _ => 2,
            };
            lower.contains(word.as_str())
                || parts().any(|part| {
                    part.len().abs_diff(word.len()) <= slips * 4 && strsim::osa_distance(part, word) <= slips
                })
        };
        self.words.iter().all(is_like)
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

/// Whether a line holds what no text has: it is a piece of a picture, a sound or a program.
fn is_no_text(line: &str) -> bool {
    line.chars().any(|next| next == '\u{fffd}' || (next.is_control() && !matches!(next, '\t' | '\r' | '\n')))
}

/// The keys of texts as they may stand in label fields: whole, or the part that is written there. `None` if that cannot
/// be told.
fn needles_of(schema: &Schema, labels: &Labels) -> Option<Vec<String>> {
    let is_label = |table: &Table, rule: &ValueRule| {
        Some(rule.field) == table.label && rule.text.as_ref().is_some_and(Template::changes_case)
    };
    if schema.tables.iter().any(|table| table.rules.iter().any(|rule| is_label(table, rule))) {
        return None;
    }
    let mut needles = Vec::new();
    for key in labels.keys() {
        needles.push(key.to_owned());
        for table in &schema.tables {
            let rules = table.rules.iter().filter(|rule| Some(rule.field) == table.label);
            let inner = rules.filter_map(|rule| rule.text.as_ref()?.extract(key, ""));
            needles.extend(inner.map(str::to_owned));
        }
    }
    Some(needles)
}

/// The places, and the beginnings of the lines that follow: the record that a comment is about.
fn with_lines_after(content: &str, places: &[usize]) -> Vec<usize> {
    let mut out = Vec::with_capacity(places.len() * 2);
    // The places of one line have the same lines behind them.
    let (mut from, mut following): (usize, Vec<usize>) = (usize::MAX, Vec::new());
    for place in places {
        out.push(*place);
        let same = from <= *place && following.first().is_none_or(|next| place < next);
        if !same {
            let lines = memchr::memchr_iter(b'\n', &content.as_bytes()[*place..]).take(NEAR + 1);
            following = lines.map(|line| place + line + 1).collect();
            from = *place;
            out.extend(following.iter().copied().filter(|line| *line < content.len()));
        }
    }
    out.sort_unstable();
    out.dedup();
    out
}

/// The lines from byte `body` on, each with where it begins; only those with one of `places` (sorted), if these are
/// given.
fn lines<'t>(
    content: &'t str,
    body: usize,
    places: Option<&[usize]>,
) -> Box<dyn Iterator<Item = (usize, &'t str)> + 't> {
    let Some(places) = places else {
        let lines = content.get(body..).unwrap_or("").split_inclusive('\n');
        return Box::new(lines.scan(body, |from, line| {
            let start = *from;
            *from += line.len();
            Some((start, line))
        }));
    };
    let (mut found, mut end) = (Vec::new(), body);
    for place in places {
        // Of a line with many places one is enough.
        if *place < end && !found.is_empty() {
            continue;
        }
        let before = memchr::memrchr(b'\n', &content.as_bytes()[..*place]);
        let start = before.map_or(body, |at| at + 1);
        let rest = &content[start..];
        let line = &rest[..memchr::memchr(b'\n', rest.as_bytes()).map_or(rest.len(), |end| end + 1)];
        end = start + line.len();
        found.push((start, line));
    }
    Box::new(found.into_iter())
}

struct Finder<'f> {
    query: &'f SearchQuery,
    schema: &'f Schema,
    file: FileId,
    id: TableId,
    hits: &'f mut Vec<SearchHit>,
    entries: &'f mut Vec<Entry>,
}

impl RecordVisitor for Finder<'_> {
    fn record(&mut self, record: &RecordView<'_>) {
        let (query, table) = (self.query, record.table);
        let key = record.key().map(|key| shown_key(&key));
        let label = table.label.and_then(|field| record.value(field));
        let name = label.as_ref().and_then(|value| query.labels.name(table, value));
        let lower = |text: &Option<String>| text.as_ref().map(|text| text.to_lowercase()).unwrap_or_default();
        let (key_lower, label_lower) = (lower(&key), lower(&name));
        // Of a key of several parts the last is the record's own; a file's name in it says little.
        let own =
            if table.key.len() > 1 { key_lower.rsplit('/').next().unwrap_or_default() } else { &key_lower };
        let mut similar = false;
        let (found, whole_words) = if key_lower == query.phrase || own == query.phrase {
            (Some((Matched::Key, record.span)), true)
        } else if label_lower == query.phrase {
            (Some((Matched::Label, record.span)), true)
        } else if !own.is_empty() && query.in_text(own) {
            (Some((Matched::InKey, record.span)), query.as_words(own))
        } else if !label_lower.is_empty() && query.in_text(&label_lower) {
            (Some((Matched::InLabel, record.span)), query.as_words(&label_lower))
        } else if let Some((matched, cell)) = self.in_values(record) {
            let whole_words = query.as_words(&cell.span.of(record.text).to_lowercase());
            (Some((matched, self.place_in(record.text, &cell))), whole_words)
        } else if query.in_text(&key_lower) {
            (Some((Matched::Value("{stem}".to_owned()), record.span)), false)
        } else if query.similar {
            similar = true;
            let found = match () {
                () if query.is_like(own) => Some((Matched::InKey, record.span)),
                () if query.is_like(&label_lower) => Some((Matched::InLabel, record.span)),
                () => self.like_value(record),
            };
            (found, false)
        } else {
            (None, false)
        };
        let entry = Entry { span: record.span, table: self.id, key, label };
        if let Some((matched, span)) = found {
            self.hits.push(SearchHit {
                matched,
                file: self.file,
                span,
                entry: entry.span,
                table: Some(entry.table),
                key: entry.key.clone(),
                label: entry.label.clone(),
                whole_words,
                similar,
                seen: Visibility::Yes,
            });
        }
        self.entries.push(entry);
    }
}

impl Finder<'_> {
    /// The first value that is like the words.
    fn like_value(&self, record: &RecordView<'_>) -> Option<(Matched, Span)> {
        let is_like = |cell: &&ColumnCell| {
            self.query.is_like(&crate::formats::decode(record.text, &cell.cell).text.to_lowercase())
        };
        let cell = record.cells.iter().find(is_like)?;
        Some((self.matched(record.table, usize::from(cell.column), record), cell.cell.span))
    }

    /// The first value with the words; if they are spread over several, the first with one.
    fn in_values(&self, record: &RecordView<'_>) -> Option<(Matched, Cell)> {
        let mut missing: Vec<&str> = self.query.words.iter().map(String::as_str).collect();
        let mut first = None;
        for cell in record.cells {
            let value = crate::formats::decode(record.text, &cell.cell).text.to_lowercase();
            let all = self.query.in_text(&value);
            let before = missing.len();
            missing.retain(|word| !value.contains(word));
            if all || missing.len() < before && first.is_none() {
                first = Some((self.matched(record.table, usize::from(cell.column), record), cell.cell));
            }
            if all {
                return first;
            }
        }
        first.filter(|_| missing.is_empty())
    }

    /// Where in a cell the words stand: in a structure at the first of them, and else the whole of it.
    fn place_in(&self, text: &str, cell: &Cell) -> Span {
        if cell.form != Form::Nested {
            return cell.span;
        }
        let lower = cell.span.of(text).to_ascii_lowercase();
        let phrase = std::iter::once(self.query.phrase.as_str());
        let words = phrase.chain(self.query.words.iter().map(String::as_str));
        let found = words.into_iter().find_map(|word| Some((lower.find(word)?, word.len())));
        found.map_or(cell.span, |(at, len)| {
            let start = cell.span.start as usize + at;
            Span::new(start, start + len)
        })
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
