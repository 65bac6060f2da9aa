//! PO files, as the manual of GNU gettext describes them ("The Format of PO Files").
//!
//! The address of a text is its `msgctxt`. Notes of the translator are lines with `#` and a blank, ours with `#.` and `#:`; the flag
//! `fuzzy` marks doubt, `#|` tells what the text said before. What is gone is commented out with `#~`.

use super::{Translation, TranslationError, Unit};
use std::fmt::Write as _;

/// The field of the header with the language that is translated from; other tools keep fields that they do not know.
const SOURCE_LANGUAGE: &str = "X-Source-Language";

/// The file with a translation.
pub(super) fn write(translation: &Translation) -> String {
    let mut out = String::new();
    let own = [
        ("Project-Id-Version", translation.name.as_str()),
        ("Language", &translation.target),
        ("MIME-Version", "1.0"),
        ("Content-Type", "text/plain; charset=UTF-8"),
        ("Content-Transfer-Encoding", "8bit"),
        (SOURCE_LANGUAGE, &translation.source),
    ];
    // What the translator's program wrote stays.
    let theirs = translation.header.fields.iter().map(|(name, value)| (name.as_str(), value.as_str()));
    let theirs = theirs.filter(|(name, _)| own.iter().all(|(own, _)| own != name));
    for note in &translation.header.notes {
        let _ = writeln!(out, "# {note}");
    }
    out.push_str("msgid \"\"\nmsgstr \"\"\n");
    for (name, value) in own.into_iter().chain(theirs) {
        let _ = writeln!(out, "{}", quoted(&format!("{name}: {value}\n")));
    }
    for unit in &translation.units {
        out.push('\n');
        for note in &unit.notes {
            let _ = writeln!(out, "# {note}");
        }
        if !unit.gone {
            for own in &unit.context {
                let _ = writeln!(out, "#. {own}");
            }
            // A blank would end the path.
            let _ = writeln!(out, "#: {}", unit.place.replace(' ', "%20"));
        }
        if unit.in_doubt {
            out.push_str("#, fuzzy\n");
        }
        if let Some(former) = &unit.former {
            keyword(&mut out, "#| ", "msgid", former);
        }
        let before = if unit.gone { "#~ " } else { "" };
        keyword(&mut out, before, "msgctxt", &unit.address);
        keyword(&mut out, before, "msgid", &unit.source);
        keyword(&mut out, before, "msgstr", &unit.target);
    }
    out
}

/// A keyword with its text; one of several lines has a quoted line for each.
fn keyword(out: &mut String, before: &str, keyword: &str, text: &str) {
    if !text.trim_end_matches('\n').contains('\n') {
        let _ = writeln!(out, "{before}{keyword} {}", quoted(text));
        return;
    }
    let _ = writeln!(out, "{before}{keyword} \"\"");
    for line in text.split_inclusive('\n') {
        let _ = writeln!(out, "{before}{}", quoted(line));
    }
}

fn quoted(text: &str) -> String {
    let mut out = String::from("\"");
    for letter in text.chars() {
        match letter {
            '"' => out.push_str("\\\""),
            '\\' => out.push_str("\\\\"),
            '\n' => out.push_str("\\n"),
            '\t' => out.push_str("\\t"),
            '\r' => out.push_str("\\r"),
            other => out.push(other),
        }
    }
    out.push('"');
    out
}

/// An entry while it is read.
#[derive(Default)]
struct Entry {
    unit: Unit,
    context: Option<String>,
    source: Option<String>,
    target: Option<String>,
    former: Option<String>,
    /// Which text goes on in the next line.
    last: Option<Keyword>,
    line: usize,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Keyword {
    Context,
    Source,
    Target,
    Former,
    /// A text that is read over: the context of a former source, or a plural.
    Other,
}

impl Entry {
    fn text(&mut self, keyword: Keyword) -> Option<&mut String> {
        match keyword {
            Keyword::Context => Some(self.context.get_or_insert_default()),
            Keyword::Source => Some(self.source.get_or_insert_default()),
            Keyword::Target => Some(self.target.get_or_insert_default()),
            Keyword::Former => Some(self.former.get_or_insert_default()),
            Keyword::Other => None,
        }
    }

    fn has_text(&self) -> bool {
        self.source.is_some()
    }
}

/// The translation in a file.
pub(super) fn read(text: &str) -> Result<Translation, TranslationError> {
    let mut translation = Translation::default();
    let mut entry = Entry::default();
    for (number, line) in text.lines().enumerate() {
        let line_number = number + 1;
        let line = line.trim();
        let fails = |message: String| TranslationError { message, line: line_number };
        let (begins, gone) = match line.strip_prefix("#~") {
            Some(rest) => (rest.trim_start(), true),
            None => (line, false),
        };
        // What stands before the keywords of an entry is the end of the one before.
        let is_note = line.is_empty() || (begins.starts_with('#') && !begins.starts_with("#|"));
        let is_new = begins.starts_with("msgctxt") || (begins.starts_with("msgid ") && entry.has_text());
        if entry.has_text() && (is_note || is_new || begins.starts_with("#|")) {
            finish(&mut translation, std::mem::take(&mut entry))?;
        }
        if begins.is_empty() {
            continue;
        }
        if entry.line == 0 {
            entry.line = line_number;
        }
        entry.unit.gone |= gone;
        let (rest, former) = match begins.strip_prefix("#|") {
            Some(rest) => (rest.trim_start(), true),
            None => (begins, false),
        };
        if !former && rest.starts_with('#') {
            match rest.as_bytes().get(1) {
                Some(b'.') => entry.unit.context.push(rest[2..].trim().to_owned()),
                Some(b':') => entry.unit.place = rest[2..].trim().replace("%20", " "),
                Some(b',') => entry.unit.in_doubt |= rest[2..].split(',').any(|flag| flag.trim() == "fuzzy"),
                _ => entry.unit.notes.push(rest[1..].trim().to_owned()),
            }
            continue;
        }
        let (name, value) = match rest.find('"') {
            Some(at) => (rest[..at].trim(), &rest[at..]),
            None => {
                return Err(fails(format!("`{rest}` is neither a note nor a keyword with a text in quotes")));
            }
        };
        let value = unquoted(value).map_err(fails)?;
        let keyword = match (name, former) {
            ("", _) => entry.last,
            ("msgctxt", false) => Some(Keyword::Context),
            ("msgid", false) => Some(Keyword::Source),
            ("msgid", true) => Some(Keyword::Former),
            ("msgstr" | "msgstr[0]", false) => Some(Keyword::Target),
            ("msgid_plural" | "msgctxt", _) => Some(Keyword::Other),
            (other, false) if other.starts_with("msgstr[") => Some(Keyword::Other),
            _ => {
                return Err(TranslationError {
                    message: format!("`{name}` is no keyword"),
                    line: line_number,
                });
            }
        };
        let Some(keyword) = keyword else {
            return Err(TranslationError {
                message: "a text without a keyword".to_owned(),
                line: line_number,
            });
        };
        entry.last = Some(keyword);
        if let Some(text) = entry.text(keyword) {
            text.push_str(&value);
        }
    }
    if entry.has_text() {
        finish(&mut translation, entry)?;
    }
    Ok(translation)
}

/// Adds an entry that is read to its end.
fn finish(translation: &mut Translation, entry: Entry) -> Result<(), TranslationError> {
    let (source, target) = (entry.source.unwrap_or_default(), entry.target.unwrap_or_default());
    if source.is_empty() && entry.context.is_none() {
        for line in target.lines() {
            let Some((name, value)) = line.split_once(':') else { continue };
            match name.trim() {
                "Language" => translation.target = value.trim().to_owned(),
                SOURCE_LANGUAGE => translation.source = value.trim().to_owned(),
                other => translation.header.fields.push((other.to_owned(), value.trim().to_owned())),
            }
        }
        translation.header.notes = entry.unit.notes;
        return Ok(());
    }
    let Some(address) = entry.context else {
        return Err(TranslationError {
            message: "the entry has no `msgctxt`, which names the text".to_owned(),
            line: entry.line,
        });
    };
    translation.units.push(Unit { address, source, target, former: entry.former, ..entry.unit });
    Ok(())
}

/// The text within quotes.
fn unquoted(text: &str) -> Result<String, String> {
    let inner = text.strip_prefix('"').and_then(|text| text.strip_suffix('"')).filter(|_| text.len() > 1);
    let inner = inner.ok_or_else(|| format!("`{text}` has no quote at its end"))?;
    let mut out = String::with_capacity(inner.len());
    let mut letters = inner.chars();
    while let Some(letter) = letters.next() {
        out.push(match letter {
            '"' => return Err(format!("`{text}` has a quote inside; write `\\\"`")),
            '\\' => match letters.next() {
                Some('n') => '\n',
                Some('t') => '\t',
                Some('r') => '\r',
                Some(other) => other,
                None => return Err(format!("`{text}` ends in a backslash")),
            },
            other => other,
        });
    }
    Ok(out)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[test]
    fn a_file_that_other_tools_wrote_is_read() {
        let text = "# translators: the river\nmsgid \"\"\nmsgstr \"\"\n\"Language: de\\n\"\n\"X-Generator: some tool\\n\"\n\n\
            # a note\n#. from us\n#: text/en.txt:3\n#, c-format, fuzzy\n#| msgid \"Old \"\n#| \"mill\"\nmsgctxt \"texts:mill\"\n\
            msgid \"\"\n\"The \"\n\"mill\"\nmsgstr \"Die Mühle\"\n#~ msgctxt \"texts:gone\"\n#~ msgid \"Gone\"\n#~ msgstr \"Weg\"\n";
        let read = read(text).expect("read");
        assert_eq!(read.target, "de");
        let [mill, gone] = &read.units[..] else { panic!("two units: {:?}", read.units) };
        assert_eq!((mill.source.as_str(), mill.target.as_str()), ("The mill", "Die Mühle"));
        assert_eq!((mill.former.as_deref(), mill.in_doubt), (Some("Old mill"), true));
        assert_eq!(mill.notes, ["a note"]);
        assert_eq!((gone.gone, gone.target.as_str()), (true, "Weg"));
    }

    #[rstest]
    #[case::no_quote("msgid mill", 1)]
    #[case::open_quote("msgctxt \"a\"\nmsgid \"mill", 2)]
    #[case::other_keyword("\n\nmsgfoo \"a\"", 3)]
    #[case::no_context("msgid \"mill\"\nmsgstr \"M\"\n", 1)]
    #[case::text_alone("\"mill\"", 1)]
    fn what_is_no_po_file_is_refused_with_the_line(#[case] text: &str, #[case] line: usize) {
        assert_eq!(read(text).map_err(|error| error.line), Err(line));
    }
}
