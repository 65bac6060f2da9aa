//! Reading sheets: delimited text and JSON lines, as `stitching show` prints them and other programs save them.

use std::fs;
use std::path::Path;
use stitching_core::Error;
use stitching_core::changes::{Sheet, SheetLine};

/// The column with the keys of the records.
const KEY: &str = "key";

/// Reads the sheet at `path`: JSON lines if it begins with `{`, else delimited text whose first line names the columns.
///
/// # Errors
/// When it cannot be read, is not in UTF-8, has no column `key`, or a line of it is wrong.
pub fn read(path: &Path) -> Result<Sheet, Error> {
    let bytes = fs::read(path).map_err(|error| Error::io("read", path, error))?;
    let name = path.display().to_string();
    let text =
        String::from_utf8(bytes).map_err(|_| wrong(&name, "it is not in UTF-8", "save it as UTF-8"))?;
    let text = text.strip_prefix('\u{feff}').unwrap_or(&text);
    let lines = match text.trim_start().starts_with('{') {
        true => json_lines(&name, text)?,
        false => delimited(&name, text)?,
    };
    if lines.is_empty() {
        return Err(wrong(&name, "it has no lines with records", "the first line names the columns"));
    }
    Ok(Sheet { name, lines, is_exact: false })
}

fn wrong(name: &str, message: &str, help: &str) -> Error {
    Error::Usage { message: format!("`{name}`: {message}"), help: help.into() }
}

fn wrong_line(name: &str, number: u64, message: &str) -> Error {
    let help = "write it as `stitching show TABLE --format delimited` does; nothing was changed";
    Error::Usage { message: format!("`{name}`, line {number}: {message}"), help: help.into() }
}

/// Text with the delimiter that the first line has most of.
fn delimited(name: &str, text: &str) -> Result<Vec<SheetLine>, Error> {
    let first = text.lines().next().unwrap_or_default();
    let count = |delimiter: &u8| first.bytes().filter(|byte| byte == delimiter).count();
    let delimiter = [b',', b';', b'\t'].into_iter().rev().max_by_key(count).unwrap_or(b',');
    let mut reader = csv::ReaderBuilder::new().delimiter(delimiter).from_reader(text.as_bytes());
    let read = |error: csv::Error| {
        let number = error.position().map_or(1, csv::Position::line);
        wrong_line(name, number, "it has not as many columns as the first line, or a quote is not closed")
    };
    let header: Vec<String> = reader.headers().map_err(read)?.iter().map(str::to_owned).collect();
    let key = header.iter().position(|column| column == KEY);
    let key = key.ok_or_else(|| {
        let help =
            "the keys of the records stand in it, as `stitching show TABLE --format delimited` prints them";
        wrong(name, "its first line names no column `key`", help)
    })?;
    let mut lines = Vec::new();
    for record in reader.records() {
        let record = record.map_err(read)?;
        let number = record.position().map_or(1, csv::Position::line);
        let values = header.iter().zip(record.iter()).enumerate().filter(|(at, _)| *at != key);
        let values = values.map(|(_, (column, value))| (column.clone(), value.to_owned())).collect();
        lines.push(SheetLine { number, key: record.get(key).unwrap_or_default().to_owned(), values });
    }
    Ok(lines)
}

/// One object a line: with the columns under `fields`, or beside the key.
fn json_lines(name: &str, text: &str) -> Result<Vec<SheetLine>, Error> {
    let mut lines = Vec::new();
    for (number, line) in (1..).zip(text.lines()).filter(|(_, line)| !line.trim().is_empty()) {
        let object: serde_json::Map<String, serde_json::Value> =
            serde_json::from_str(line).map_err(|error| wrong_line(name, number, &error.to_string()))?;
        let shown = |value: &serde_json::Value| match value {
            serde_json::Value::String(text) => text.clone(),
            serde_json::Value::Null => String::new(),
            other => other.to_string(),
        };
        let key = object.get(KEY).map(shown).ok_or_else(|| wrong_line(name, number, "it has no `key`"))?;
        let fields = object.get("fields").and_then(serde_json::Value::as_object);
        let own = fields.unwrap_or(&object).iter().filter(|(column, _)| fields.is_some() || *column != KEY);
        let values = own.map(|(column, value)| (column.clone(), shown(value))).collect();
        lines.push(SheetLine { number, key, values });
    }
    Ok(lines)
}
