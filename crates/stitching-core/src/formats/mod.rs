//! How a file's text is laid out: from text to records with byte spans, and back to text for one
//! value at a time.
//!
//! A format never serialises: it tells where each value stands ([`Cell`]) and how a new value must
//! be written to stand there ([`Format::encode`]). Reading is tolerant: what is wrong becomes a
//! [`Fault`] and the reader goes on with the next record.
//!
//! Adding a format: one file (or folder) here with a type that implements [`Format`], one arm in
//! `schema::format`, one page in `docs/formats.md`, one folder of fixtures.

mod blocks;
mod bracket_recovery;
mod comment_out;
mod delimited;
mod editing;
mod flat_tree;
mod ini;
mod json;
mod lines;
mod misplaced;
mod name_pattern;
mod outline;
mod po;
mod registry;
mod whole_file;
mod xml;

pub use blocks::{BlockPath, Blocks, Nesting, Taken};
pub use comment_out::{OFF_MARK, OffPiece, OffStyle, may_have_off};
pub use delimited::{Delimited, Delimiter, Header};
pub use editing::{Editor, Head, NewEntry, Part, Place, Refusal};
pub use ini::{GoesOn, Ini, Repeated};
pub use json::{Json, JsonPath, JsonPathError};
pub use lines::Lines;
pub(crate) use name_pattern::NamePattern;
pub use outline::{ITEM, Outline, OutlineNode};
pub use po::Po;
pub(crate) use registry::read_format;
pub use registry::{FormatKind, KINDS};
pub use whole_file::WholeFile;
pub use xml::{Xml, XmlPath};

use crate::Code;
use crate::text::{Edit, Span, Text};
use std::borrow::Cow;

/// A value's place in the file and the way it is written there.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Cell {
    /// The value without its quotes.
    pub span: Span,
    /// How the bytes of the span stand for the value.
    pub form: Form,
}

/// How bytes stand for a value.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Form {
    /// As they are.
    Plain,
    /// Inside quotes; there is no way to write a quote within.
    Quoted,
    /// Inside quotes; a quote within is doubled.
    Doubled,
    /// Inside single quotes; one within is doubled.
    SingleQuoted,
    /// Inside quotes; a backslash before a quote or another backslash, and `\n`, `\t`, `\r`.
    Backslashed,
    /// Inside a JSON string (RFC 8259, section 7).
    JsonString,
    /// A JSON number, `true` or `false`.
    JsonBare,
    /// Inside the quotes of one or more lines of a PO file.
    PoText,
    /// Text of an XML element: `&` begins a reference (XML 1.0, section 4.1).
    XmlText,
    /// The value of an XML attribute within the quote of this byte.
    XmlAttribute(u8),
    /// A CDATA section of XML: as it is, but it cannot have `]]>` in it.
    XmlCdata,
    /// The name of an XML element, which stands in its end tag too.
    XmlName,
    /// A structure (an object, an array, an element or block with others in it); shown, never taken for a
    /// value.
    Nested,
}

/// What a file of a higher layer can add over one of a lower layer.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Adds {
    /// Whole records.
    Records,
    /// Single values.
    Values,
}

/// Whether several tables may draw on one file.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Sharing {
    /// No: each record is of one table.
    Never,
    /// As far as their records stand at different places of it.
    ByPlace,
    /// Yes.
    Freely,
}

/// A cell and the position of its column in the list of columns that was asked for.
#[derive(Debug, Clone, Copy)]
pub struct ColumnCell {
    /// Position in the `columns` given to [`Format::read`].
    pub column: u16,
    /// How many structures inside the record it is in together with the cell before it: 0 if only the record itself
    /// is around both. Told in formats that nest, for columns that are [related](Column::related); otherwise 0.
    pub shared: u16,
    /// The value. A column may have several cells in one record (the items of a JSON array).
    pub cell: Cell,
}

/// A column that is asked for.
#[derive(Debug, Clone, Copy)]
pub struct Column<'n> {
    /// Its name, as the format understands it.
    pub name: &'n str,
    /// Whether a file may do without it.
    pub optional: bool,
    /// Whether the record's values are told apart by what stands beside them, so that
    /// [`ColumnCell::shared`] is needed.
    pub related: bool,
    /// Whether the schema speaks of it: an element of XML that it does not speak of is shown with its attributes.
    pub described: bool,
}

impl<'n> Column<'n> {
    /// A column that a file may do without, and of which only the values are wanted.
    pub fn optional(name: &'n str) -> Column<'n> {
        Column { name, optional: true, related: false, described: true }
    }
}

/// One record as the format sees it.
#[derive(Debug)]
pub struct RawRecord<'a> {
    /// The whole record: a line, an object, a file.
    pub span: Span,
    /// The cells of the wanted columns, in the order in which they stand in the file.
    pub cells: &'a [ColumnCell],
}

/// Something wrong in the layout of a file.
#[derive(Debug, Clone)]
pub struct Fault {
    /// The check that stands for it.
    pub code: Code,
    /// Where.
    pub span: Span,
    /// What is wrong: found and expected.
    pub message: String,
    /// What to do.
    pub help: Option<String>,
    /// What would put it right: a title and an edit.
    pub fix: Option<(String, Edit)>,
    /// Whether what that makes is sure to be what was meant.
    pub fix_is_safe: bool,
    /// Whether it is told only where few records of the table have such: it may be meant so.
    pub only_if_rare: bool,
}

impl Fault {
    /// A fault without help or fix.
    pub fn new(code: Code, span: Span, message: impl Into<String>) -> Fault {
        Fault {
            code,
            span,
            message: message.into(),
            help: None,
            fix: None,
            fix_is_safe: true,
            only_if_rare: false,
        }
    }

    /// The same with a line on what to do.
    pub fn help(mut self, help: impl Into<String>) -> Fault {
        self.help = Some(help.into());
        self
    }
}

/// So many things of one file are looked at for its outline.
pub const OUTLINED: usize = 20_000;

/// What a format remembers from one block of a file to the next.
#[derive(Debug, Default)]
pub struct BlockState {
    /// The names in the header, and for each position in a row which of the wanted columns it is.
    header: Option<(Vec<String>, Vec<u16>)>,
}

/// Takes what a format reads.
pub trait RecordSink {
    /// Takes a record. Records come in the order of the file.
    fn record(&mut self, record: &RawRecord<'_>);
    /// Takes a fault.
    fn fault(&mut self, fault: Fault);
}

/// The lines of `span` with their line end, if nothing else stands on them.
fn whole_line(text: &str, span: Span) -> Span {
    let (start, end) = (span.start as usize, span.end as usize);
    let line = text[..start].rfind('\n').map_or(0, |at| at + 1);
    let line = line.max(Text::of_file(text).body());
    let next = memchr::memchr(b'\n', &text.as_bytes()[end..]).map_or(text.len(), |at| end + at + 1);
    let alone = text.get(line..start).is_some_and(|before| before.trim().is_empty())
        && text[end..next].trim().is_empty();
    if alone { Span::new(line, next) } else { span }
}

/// Takes nothing.
struct Ignore;

impl RecordSink for Ignore {
    fn record(&mut self, _record: &RawRecord<'_>) {}
    fn fault(&mut self, _fault: Fault) {}
}

/// One way of laying out records in a text.
pub trait Format: std::fmt::Debug + Send + Sync {
    /// Reads all records of `text` into `sink`, with cells for `columns` only.
    ///
    /// Cost: one pass over the text; nothing is kept.
    fn read(&self, text: &Text<'_>, columns: &[Column<'_>], sink: &mut dyn RecordSink);

    /// The names of the columns that the file itself tells of, in its order.
    fn columns(&self, text: &Text<'_>) -> Vec<String>;

    /// Gives each name that stands inside the records of `text`, in the order of the file: as a column leads to it, and its
    /// place in the text. Nothing in formats whose records [have no names](Format::has_names) in them.
    ///
    /// Cost: one pass over the text.
    fn names(&self, _text: &Text<'_>, _give: &mut dyn FnMut(&str, Span)) {}

    /// Whether records have names in them, of which a schema may not know some.
    fn has_names(&self) -> bool {
        false
    }

    /// Adds the shape of `text` to `outline`, in formats that nest. At most [`OUTLINED`] things are looked at.
    fn outline(&self, _text: &Text<'_>, _outline: &mut Outline) {}

    /// The bytes to put in place of `cell.span` so that it holds `value`.
    ///
    /// # Errors
    /// Why the value cannot stand there.
    fn encode(&self, cell: &Cell, column: &str, value: &str) -> Result<String, String>;

    /// What `column` is for a record in which it stands nowhere: the name under which something goes that
    /// has none.
    fn absent(&self, _column: &str) -> Option<&str> {
        None
    }

    /// How a piece of a file is switched off.
    fn off_style(&self) -> OffStyle {
        OffStyle::None
    }

    /// What must be made a note together with a record or an entry at `span`: its separator too, where one
    /// too many would be wrong.
    fn wrapped_span(&self, _text: &str, span: Span) -> Span {
        span
    }

    /// What must be taken out of `text` with a record or an entry at `span`, so that what is left is well
    /// formed: its separator, its line end.
    fn with_separator(&self, text: &str, span: Span) -> Span {
        whole_line(text, span)
    }

    /// Whether several tables may draw on one file.
    fn sharing(&self) -> Sharing {
        Sharing::ByPlace
    }

    /// In how many structures inside the record the values of two columns must stand together to belong together: as
    /// many as their paths have in common.
    fn shared_steps(&self, _one: &str, _other: &str) -> u16 {
        0
    }

    /// Whether a text without anything in it but notes is a file of the format.
    fn may_be_empty(&self) -> bool {
        true
    }

    /// Whether the content of the files matters.
    fn reads_content(&self) -> bool {
        true
    }

    /// What edits `text`, if the format has anything to edit.
    fn editor<'t>(&'t self, _text: &Text<'t>) -> Option<Editor<'t>> {
        None
    }

    /// What a file of a higher layer can add over one of a lower layer, where the two count together.
    fn adds(&self) -> Option<Adds> {
        Some(Adds::Records)
    }

    /// The path at which the schema says that records are, in a format that has paths.
    fn records_path(&self) -> Option<&str> {
        None
    }

    /// The column of other records in whose values the records are, if they are rows of a value.
    fn source_column(&self) -> Option<&str> {
        None
    }

    /// Whether `column`, a name in braces such as `{section}`, stands for what the format knows of a record's
    /// place.
    fn knows(&self, _column: &str) -> bool {
        false
    }

    /// Whether the settings of the format give a part of its records this name.
    fn has_part(&self, _name: &str) -> bool {
        false
    }

    /// What is wrong with `column` as a name in this format, if it cannot be one.
    fn check_column(&self, _column: &str) -> Result<(), String> {
        Ok(())
    }

    /// Whether records can be read from blocks of whole lines, one after another.
    fn reads_blocks(&self) -> bool {
        false
    }

    /// Reads the next block of a file whose format [reads blocks](Format::reads_blocks). `state` is
    /// made with `default` for the first block and kept between the blocks. Places are within the
    /// block.
    fn read_block(
        &self,
        text: &Text<'_>,
        columns: &[Column<'_>],
        _state: &mut BlockState,
        sink: &mut dyn RecordSink,
    ) {
        self.read(text, columns, sink);
    }

    /// Tells what can be said only after the last block.
    fn end_blocks(&self, _state: &BlockState, _sink: &mut dyn RecordSink) {}

    /// Reads only the records around the byte `offsets` (sorted), where a search found something.
    /// Gives `false`, and reads nothing, in formats where only the whole file tells.
    fn read_at(
        &self,
        _text: &Text<'_>,
        _columns: &[Column<'_>],
        _offsets: &[usize],
        _sink: &mut dyn RecordSink,
    ) -> bool {
        false
    }

    /// Whether names of columns that differ only in upper and lower case are the same.
    fn folds_columns(&self) -> bool {
        false
    }

    /// Whether a value stands in the file byte for byte as it is, if the file has none of the
    /// returned bytes. Lets a search for a value skip files without parsing them.
    fn escape_bytes(&self) -> &'static [u8];
}

/// How many steps two paths begin with in common, up to where either leads to any depth or out of the record.
fn common_steps<'p>(one: impl Iterator<Item = &'p str>, other: impl Iterator<Item = &'p str>) -> u16 {
    let is_definite = |step: &str| !matches!(step, "" | "**" | ".." | "{parent}");
    let common = one.zip(other).take_while(|(one, other)| one == other && is_definite(one));
    u16::try_from(common.count()).unwrap_or(u16::MAX)
}

/// Refuses a column that leads out of the record, in a format where nothing is around one: in `what`.
pub(crate) fn no_parent(column: &str, what: &str) -> Result<(), String> {
    match column.starts_with("../") {
        true => Err(format!("`{column}` leads out of the record, and in {what} nothing is around one")),
        false => Ok(()),
    }
}

impl ColumnCell {
    /// A cell of the column at this position.
    pub fn new(column: u16, cell: Cell) -> ColumnCell {
        ColumnCell { column, shared: 0, cell }
    }
}

impl Cell {
    /// The value that the cell has in `text`; copied only if it is not there as it is.
    #[inline]
    pub fn value<'t>(&self, text: &'t str) -> Cow<'t, str> {
        self.plain(text).map_or_else(|| decode(text, self).text, Cow::Borrowed)
    }

    /// The same cell in a text that has `bytes` more bytes in front.
    pub fn moved(self, bytes: u32) -> Cell {
        Cell { span: Span { start: self.span.start + bytes, end: self.span.end + bytes }, ..self }
    }

    /// The value, if its bytes in `text` stand for it as they are.
    #[inline]
    pub fn plain<'t>(&self, text: &'t str) -> Option<&'t str> {
        let raw = self.span.of(text);
        let escape = match self.form {
            Form::Plain | Form::Quoted | Form::JsonBare | Form::XmlCdata | Form::XmlName => return Some(raw),
            Form::JsonString | Form::Backslashed => b'\\',
            Form::XmlText | Form::XmlAttribute(_) => b'&',
            Form::Doubled => b'"',
            Form::SingleQuoted => b'\'',
            Form::PoText | Form::Nested => return None,
        };
        (!raw.as_bytes().contains(&escape)).then_some(raw)
    }
}

/// Finds the columns that are just names: where they come in the order that was asked for, as they mostly
/// do, at the first try.
struct Names<'n> {
    names: Vec<(&'n [u8], u16)>,
    next: usize,
}

impl<'n> Names<'n> {
    fn new(names: impl Iterator<Item = (&'n str, u16)>) -> Names<'n> {
        Names { names: names.map(|(name, column)| (name.as_bytes(), column)).collect(), next: 0 }
    }

    #[inline]
    fn find(&mut self, name: &[u8]) -> Option<u16> {
        let (before, after) = self.names.split_at(self.next.min(self.names.len()));
        let found = after.iter().chain(before).position(|(own, _)| *own == name)?;
        let at = (self.next.min(self.names.len()) + found) % self.names.len();
        self.next = at + 1;
        Some(self.names[at].1)
    }
}

/// A decoded value that remembers where its bytes came from.
#[derive(Debug)]
pub struct Decoded<'t> {
    /// The value.
    pub text: Cow<'t, str>,
    start: u32,
    /// For each byte of `text`, and its end, the offset in the file; only if something was escaped.
    map: Option<Vec<u32>>,
}

impl Decoded<'_> {
    /// The place in the file of a byte range of [`Decoded::text`].
    pub fn span(&self, start: usize, end: usize) -> Span {
        match &self.map {
            None => Span::new(self.start as usize + start, self.start as usize + end),
            Some(map) => {
                let at = |offset: usize| map.get(offset).or(map.last()).copied().unwrap_or(self.start);
                Span { start: at(start), end: at(end) }
            }
        }
    }
}

/// Reads the value of `cell` in `text` (the whole file).
#[inline]
pub fn decode<'t>(text: &'t str, cell: &Cell) -> Decoded<'t> {
    let raw = cell.span.of(text);
    let start = cell.span.start;
    match cell.form {
        Form::Doubled if raw.contains('"') => decode_doubled(raw, '"', start),
        Form::SingleQuoted if raw.contains('\'') => decode_doubled(raw, '\'', start),
        Form::JsonString if raw.contains('\\') => json::decode_string(raw, start),
        Form::Backslashed if raw.contains('\\') => decode_by(raw, start, blocks::escape),
        Form::PoText if raw.contains(['\\', '"']) => po::decode(raw, start),
        Form::XmlText | Form::XmlAttribute(_) if raw.contains('&') => decode_by(raw, start, xml::reference),
        _ => Decoded { text: Cow::Borrowed(raw), start, map: None },
    }
}

/// Decodes a text in which `escape` tells, where it begins with an escape, what that stands for and how
/// many bytes it takes.
fn decode_by(raw: &str, start: u32, escape: impl Fn(&str) -> Option<(char, usize)>) -> Decoded<'_> {
    let (mut text, mut map) = (String::with_capacity(raw.len()), Vec::with_capacity(raw.len() + 1));
    let mut at = 0;
    while let Some(next) = raw[at..].chars().next() {
        let escaped = escape(&raw[at..]);
        let (meant, len) = escaped.unwrap_or((next, next.len_utf8()));
        let step = u32::from(escaped.is_none());
        map.extend((0..meant.len_utf8() as u32).map(|byte| start + at as u32 + byte * step));
        text.push(meant);
        at += len;
    }
    map.push(start + raw.len() as u32);
    Decoded { text: Cow::Owned(text), start, map: Some(map) }
}

fn decode_doubled(raw: &str, quote: char, start: u32) -> Decoded<'_> {
    let (mut text, mut map) = (String::with_capacity(raw.len()), Vec::with_capacity(raw.len() + 1));
    let mut skip = false;
    for (offset, next) in raw.char_indices() {
        if next == quote && !skip {
            skip = true;
            if raw[offset + 1..].starts_with(quote) {
                continue;
            }
        }
        skip = false;
        for byte in 0..next.len_utf8() {
            map.push(start + (offset + byte) as u32);
        }
        text.push(next);
    }
    map.push(start + raw.len() as u32);
    Decoded { text: Cow::Owned(text), start, map: Some(map) }
}

#[cfg(test)]
mod tests {
    use super::{BlockPath, Blocks, Format, Json, JsonPath, Nesting, Taken, Xml, XmlPath};
    use rstest::rstest;

    fn json() -> Box<dyn Format> {
        let records = JsonPath::parse("$[*]").expect("a path");
        Box::new(Json { records, comments: false, trailing_commas: false })
    }

    fn xml() -> Box<dyn Format> {
        Box::new(Xml { records: XmlPath::records("/r/a").expect("a path") })
    }

    fn blocks() -> Box<dyn Format> {
        Box::new(Blocks {
            records: BlockPath::parse("*", false).expect("a path"),
            taken: Taken::Blocks,
            nesting: Nesting::Braces,
            assign: Some('='),
            comments: Vec::new(),
            block_comment: None,
            separators: Vec::new(),
            lists: Vec::new(),
            bare_entries: false,
            escapes: false,
            over_lines: false,
            include: None,
        })
    }

    #[rstest]
    #[case::siblings(json(), "steps[*].name", "steps[*].kind", 2)]
    #[case::around(json(), "steps[*].name", "kind", 0)]
    #[case::deeper(json(), "steps[*].needs[*]", "steps[*].kind", 2)]
    #[case::names_of_members(json(), "prices.*.{member}", "prices.*", 1)]
    #[case::below_named_members(json(), "prices.*.{member}", "prices.*.good", 1)]
    #[case::around_the_record(json(), "{parent}.a", "{parent}.b", 0)]
    #[case::any_depth(json(), "$..a.x", "$..a.y", 0)]
    #[case::from_the_record(json(), "$.steps[*].name", "steps[*].kind", 2)]
    #[case::attributes(xml(), "step/@name", "step/@kind", 1)]
    #[case::text_and_attribute(xml(), "step", "step/@kind", 1)]
    #[case::side_by_side(xml(), "name", "kind", 0)]
    #[case::around_the_element(xml(), "../@a", "../@b", 0)]
    #[case::entries(blocks(), "at/step/x", "at/step/kind", 2)]
    #[case::words(blocks(), "step/{1}", "step/{2}", 1)]
    #[case::any_blocks(blocks(), "**/x", "**/y", 0)]
    fn what_stands_together(
        #[case] format: Box<dyn Format>,
        #[case] one: &str,
        #[case] other: &str,
        #[case] steps: u16,
    ) {
        assert_eq!(format.shared_steps(one, other), steps);
        assert_eq!(format.shared_steps(other, one), steps);
    }
}
