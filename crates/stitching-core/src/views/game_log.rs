//! What the game's log says of the data: each line beside the record that it is about.

use crate::Error;
use crate::layers::FileId;
use crate::links::{Address, Labels};
use crate::problem::{Place, Problem};
use crate::reading::{View, load};
use crate::rows::Rows;
use crate::schema::{Schema, TableId};
use crate::text::{Span, nearest_of};
use regex::RegexSet;
use std::collections::{BTreeMap, HashMap};
use std::io::BufRead;

/// Longer lines are cut, in bytes.
const LONGEST_LINE: usize = 64 << 10;

/// Of more different mentions than these the rest is only counted.
const MOST_MENTIONS: usize = 1000;

/// A line of the log that speaks of the data.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogMention {
    /// The number of the first such line, 1-based.
    pub line: u64,
    /// How many lines say the same of the same.
    pub count: u64,
    /// The first of them.
    pub text: String,
    /// What it is about.
    pub about: LogAbout,
}

/// What a line is about, as far as its pattern tells.
#[derive(Debug, Clone, Default, PartialEq, Eq, Hash)]
pub struct LogAbout {
    /// The position of the pattern among those of the schema.
    pub pattern: usize,
    /// The path of a file, as the log has it.
    pub file: Option<String>,
    /// The line there.
    pub line: Option<usize>,
    /// The key of a record.
    pub key: Option<String>,
    /// What a record is called.
    pub name: Option<String>,
}

/// What was read of a log.
#[derive(Debug, Default, PartialEq, Eq)]
pub struct LogReading {
    /// How many lines it has.
    pub lines: u64,
    /// The lines that speak of the data, each once, in the order in which they came first.
    pub mentions: Vec<LogMention>,
    /// How many lines speak of the data besides, of more different things than are told.
    pub more: u64,
}

/// What was found for a line of the log.
#[derive(Debug)]
pub struct LogFinding<'p> {
    /// The record that it is about.
    pub record: Option<LogRecord>,
    /// Where it is, or the line that the log names.
    pub place: Option<Place>,
    /// What is wrong there.
    pub problems: Vec<&'p Problem>,
    /// What was looked for and is not there.
    pub missing: Option<String>,
    /// The keys most like one that is not there.
    pub near: Vec<String>,
}

/// A record that the log speaks of.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct LogRecord {
    /// Its address.
    pub address: String,
    /// What it is called by people.
    pub label: Option<String>,
}

/// Reads a log by the patterns of `schema`. Memory: one line, and what is told.
///
/// # Errors
/// When it cannot be read.
pub fn read_log(schema: &Schema, log: &mut dyn BufRead) -> std::io::Result<LogReading> {
    let patterns = schema.logs.iter().map(|own| own.pattern.as_str());
    let any = RegexSet::new(patterns).map_err(std::io::Error::other)?;
    let mut reading = LogReading::default();
    let mut known: HashMap<LogAbout, usize> = HashMap::new();
    let mut line = Vec::new();
    while read_line(log, &mut line)? {
        reading.lines += 1;
        let text = String::from_utf8_lossy(&line);
        let text = text.trim_end();
        let Some(pattern) = any.matches(text).into_iter().next() else { continue };
        let Some(found) = schema.logs[pattern].pattern.captures(text) else { continue };
        let group = |name: &str| found.name(name).map(|own| own.as_str().to_owned());
        let about = LogAbout {
            pattern,
            file: group("file"),
            line: group("line").and_then(|line| line.parse().ok()),
            key: group("key"),
            name: group("name"),
        };
        match known.get(&about) {
            Some(mention) => reading.mentions[*mention].count += 1,
            None if reading.mentions.len() >= MOST_MENTIONS => reading.more += 1,
            None => {
                known.insert(about.clone(), reading.mentions.len());
                let text = text.to_owned();
                reading.mentions.push(LogMention { line: reading.lines, count: 1, text, about });
            }
        }
    }
    Ok(reading)
}

/// Reads the next line, of a long one the beginning; false at the end.
fn read_line(log: &mut dyn BufRead, line: &mut Vec<u8>) -> std::io::Result<bool> {
    line.clear();
    let mut some = false;
    loop {
        let part = log.fill_buf()?;
        if part.is_empty() {
            return Ok(some);
        }
        some = true;
        let end = memchr::memchr(b'\n', part);
        let own = &part[..end.unwrap_or(part.len())];
        line.extend_from_slice(&own[..own.len().min(LONGEST_LINE.saturating_sub(line.len()))]);
        let used = end.map_or(part.len(), |end| end + 1);
        log.consume(used);
        if end.is_some() {
            return Ok(true);
        }
    }
}

/// Finds what the lines of a log are about, and what of `problems` is there.
///
/// # Errors
/// When a file cannot be read.
pub fn log_findings<'p>(
    view: View<'_>,
    reading: &LogReading,
    problems: &'p [Problem],
) -> Result<Vec<LogFinding<'p>>, Error> {
    let needs_names = reading.mentions.iter().any(|own| own.about.name.is_some());
    let labels = if needs_names { Labels::read(view) } else { Labels::default() };
    let mut finder = Finder { view, labels, tables: BTreeMap::new(), problems };
    reading.mentions.iter().map(|mention| finder.find(&mention.about)).collect()
}

/// The byte at which a line begins, 1-based; `None` if the text has fewer.
fn line_start(text: &str, line: usize) -> Option<usize> {
    let ends = memchr::memchr_iter(b'\n', text.as_bytes()).map(|end| end + 1);
    let start = std::iter::once(0).chain(ends).nth(line.checked_sub(1)?)?;
    (start < text.len() || start == 0).then_some(start)
}

struct Finder<'f, 'p> {
    view: View<'f>,
    labels: Labels,
    /// The keys and labels of tables that were asked for.
    tables: BTreeMap<TableId, Rows>,
    problems: &'p [Problem],
}

impl<'p> Finder<'_, 'p> {
    fn find(&mut self, about: &LogAbout) -> Result<LogFinding<'p>, Error> {
        let mut finding =
            LogFinding { record: None, place: None, problems: Vec::new(), missing: None, near: Vec::new() };
        let table = self.view.schema.logs[about.pattern].table;
        if let Some(path) = &about.file {
            match self.file(path) {
                None => finding.missing = Some(format!("there is no file `{path}`")),
                Some(file) => self.in_file(file, about.line, &mut finding)?,
            }
        }
        if about.key.is_some() || about.name.is_some() {
            self.by_name(about, table, &mut finding)?;
        }
        Ok(finding)
    }

    /// The effective file whose path ends as `path` does, whatever sign stands between its folders, and its case.
    fn file(&self, path: &str) -> Option<FileId> {
        let wanted = path.replace('\\', "/").to_lowercase();
        let wanted = wanted.trim_start_matches("./");
        let stack = self.view.stack;
        let ends = |own: &str, end: &str| {
            own.strip_suffix(end).is_some_and(|before| before.is_empty() || before.ends_with('/'))
        };
        let is_it = |file: &FileId| {
            let own = stack.files()[*file].path.as_str().to_lowercase();
            ends(&own, wanted) || ends(wanted, &own)
        };
        stack.effective(self.view.through).into_iter().find(is_it)
    }

    /// The record at a line of a file, and what is wrong there.
    fn in_file(
        &mut self,
        file: FileId,
        line: Option<usize>,
        finding: &mut LogFinding<'p>,
    ) -> Result<(), Error> {
        let loaded = load(self.view.stack, file)?;
        let path = loaded.path.as_str().to_owned();
        let Some(line) = line else {
            finding.place =
                Some(Place::file(&path, &self.view.stack.layers()[self.view.stack.files()[file].layer].name));
            finding.problems = self.problems.iter().filter(|own| own.place.path == path).collect();
            return Ok(());
        };
        let Some(start) = line_start(loaded.text(), line) else {
            finding.missing = Some(format!("`{path}` has no line {line}"));
            return Ok(());
        };
        let span = Span::new(start, start + loaded.line(line).len());
        finding.place = Some(loaded.place(span));
        let is_there = |own: &&Problem| own.place.path == path && own.place.line == line;
        finding.problems = self.problems.iter().filter(is_there).collect();
        for table in self.view.schema.tables_of(&loaded.path) {
            let rows = self.rows(table)?;
            let covers = |own: &Span| {
                own.start < span.end.max(span.start + 1) && span.start < own.end.max(own.start + 1)
            };
            let mut found = rows.rows.iter().filter(|row| row.file == file && covers(&row.span));
            if let Some(row) = found.next() {
                let address = Address::show(&rows.table.name, &row.shown_key());
                finding.record = Some(LogRecord { address, label: row.label.clone() });
                return Ok(());
            }
        }
        Ok(())
    }

    /// The record with a key or a name, and what is wrong with it.
    fn by_name(
        &mut self,
        about: &LogAbout,
        table: Option<TableId>,
        finding: &mut LogFinding<'p>,
    ) -> Result<(), Error> {
        let tables: Vec<TableId> =
            table.map_or_else(|| (0..self.view.schema.tables.len()).collect(), |own| vec![own]);
        let mut near: Vec<String> = Vec::new();
        for id in tables {
            let rows = self.rows(id)?;
            let is_it = |row: &&crate::rows::Row| {
                let by_key = about.key.as_ref().map(|key| row.shown_key() == *key);
                let by_name = about.name.as_ref().map(|name| row.label.as_ref() == Some(name));
                by_key.or(by_name) == Some(true)
            };
            if let Some(row) = rows.rows.iter().find(is_it) {
                let (file, span) = (row.file, row.span);
                let (key, label) = (row.shown_key(), row.label.clone());
                let name = rows.table.name.clone();
                finding.record = Some(LogRecord { address: Address::show(&name, &key), label });
                finding.place = Some(load(self.view.stack, file)?.place(span));
                let of_record =
                    |own: &&Problem| own.table.as_deref() == Some(&name) && own.key.as_deref() == Some(&key);
                finding.problems = self.problems.iter().filter(of_record).collect();
                return Ok(());
            }
            if let Some(key) = &about.key {
                let keys: Vec<String> = rows.rows.iter().map(crate::rows::Row::shown_key).collect();
                near.extend(nearest_of(key, keys.iter().map(String::as_str)));
            }
        }
        // A name that leads nowhere is what a value says: the places are told.
        let key = about.key.as_deref().or(about.name.as_deref()).unwrap_or_default();
        let says = |own: &&Problem| own.value.as_deref() == Some(key);
        finding.problems.extend(self.problems.iter().filter(says));
        let of = table.map(|id| format!(" of `{}`", self.view.schema.tables[id].name)).unwrap_or_default();
        finding.missing = Some(format!("there is no record `{key}`{of}"));
        finding.near = near;
        Ok(())
    }

    fn rows(&mut self, table: TableId) -> Result<&Rows, Error> {
        if !self.tables.contains_key(&table) {
            let rows = Rows::read_needed(self.view, table, &self.labels, &|_| false)?;
            self.tables.insert(table, rows);
        }
        Ok(&self.tables[&table])
    }
}
