//! Text with exact places: decoding without losing a byte, spans, lines and columns, edits.
//!
//! Files may be in any encoding of the Encoding Standard; in memory all text is UTF-8.

mod edits;
mod encoding;
mod lazy_regex;
mod line_table;
mod marks;
mod nearest;
mod number;
mod parsed;
mod patch;
mod path_glob;
mod source;
mod span;
mod template;
mod words;
mod xml;

pub use edits::{Edit, EditError, EditSet};
pub use encoding::{Encoding, Origin, Unencodable, round_trips};
pub(crate) use lazy_regex::LazyRegex;
pub use line_table::LineTable;
pub use marks::{marks, marks_that_differ, may_have_marks};
pub use nearest::{Near, nearest_of, nearest_of_each};
pub use number::{number, shown_number, written_like};
pub use patch::{Patch, PatchedReader, Splice};
pub use path_glob::PathGlob;
pub use source::{LoadedText, Text, TextFault};
pub use span::Span;
pub use template::{LetterCase, Template, TemplateError};
pub use words::{WordEnds, is_word, with_word_replaced, with_words_replaced};
pub use xml::{is_xml, xml_escaped};
