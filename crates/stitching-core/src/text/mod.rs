//! Text with exact places: decoding without losing a byte, spans, lines and columns, edits.
//!
//! **Limitations.** Texts are UTF-8, with or without a byte order mark. Other encodings are
//! reported, not read.

mod edits;
mod line_table;
mod nearest;
mod source;
mod span;
mod template;

pub use edits::{Edit, EditError, EditSet};
pub use line_table::LineTable;
pub use nearest::{NearestIndex, nearest_of};
pub use source::{Text, TextFault};
pub use span::Span;
pub use template::{Template, TemplateError};
