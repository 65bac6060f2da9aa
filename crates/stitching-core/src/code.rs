//! The codes of problems. Each is the name of one check; a name that is none does not compile.

use serde::{Deserialize, Deserializer, Serialize, Serializer};
use std::fmt;

/// The code of a problem, as `explain` knows it and JSON has it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Code(&'static str);

/// Gives the codes their constants, and lists them.
macro_rules! codes {
    ($($(#[doc = $about:literal])* $name:ident = $code:literal;)*) => {
        impl Code {
            $($(#[doc = $about])* pub const $name: Code = Code($code);)*

            /// All codes, sorted.
            pub const ALL: &[Code] = &[$(Code::$name),*];
        }
    };
}

codes! {
    /// A mistake in stitching.toml.
    BAD_PROJECT = "bad-project";
    /// A mistake in a schema file.
    BAD_SCHEMA = "bad-schema";
    /// A byte order mark that is missing, or should not be there.
    BYTE_ORDER_MARK = "byte-order-mark";
    /// A row with more or fewer cells than the header.
    COLUMN_COUNT = "column-count";
    /// A field that holds something other than what follows from others.
    COMPUTED_DIFFERS = "computed-differs";
    /// A file whose records two tables claim.
    CONTESTED_FILE = "contested-file";
    /// A value that names a record which is not there.
    DANGLING_REFERENCE = "dangling-reference";
    /// A column that the header names twice.
    DUPLICATE_COLUMN = "duplicate-column";
    /// A key that an earlier record of the table has already.
    DUPLICATE_KEY = "duplicate-key";
    /// A name that an object, a section, an element or a block has twice.
    DUPLICATE_MEMBER = "duplicate-member";
    /// A file whose encoding had to be guessed.
    GUESSED_ENCODING = "guessed-encoding";
    /// A value that names something only together with a field that is missing.
    INCOMPLETE_NAME = "incomplete-name";
    /// A value that should be made from the record's key and is not.
    KEY_NOT_FOLLOWED = "key-not-followed";
    /// Lines that do not end as the game wants them.
    LINE_ENDS = "line-ends";
    /// A name that stands at one place alone and is nearly another one.
    LONE_NAME = "lone-name";
    /// Records that another layer adds to a file, and that a higher file in its place lacks.
    LOST_RECORD = "lost-record";
    /// A translation whose marks are not those of the main language.
    MARKS_DIFFER = "marks-differ";
    /// A block or element where it does not seem to belong.
    MISPLACED = "misplaced";
    /// A column that the schema describes and the header lacks.
    MISSING_COLUMN = "missing-column";
    /// A record without the text, file or folder that must go with it.
    MISSING_COMPANION = "missing-companion";
    /// A value that names a file which is not there.
    MISSING_FILE = "missing-file";
    /// A record without a key.
    MISSING_KEY = "missing-key";
    /// A text key that has no text in some language.
    MISSING_TEXT = "missing-text";
    /// A table for which there is no file.
    NO_FILES = "no-files";
    /// A table whose files have no record at the path that the schema gives.
    NO_RECORDS = "no-records";
    /// A value that is not among those allowed.
    NOT_A_CHOICE = "not-a-choice";
    /// A new name or number of the mod outside what the project reserves for it.
    NOT_RESERVED = "not-reserved";
    /// A comment or trailing comma where the game reads strict JSON.
    NOT_STRICT_JSON = "not-strict-json";
    /// XML that strict readers refuse.
    NOT_STRICT_XML = "not-strict-xml";
    /// A file of a table that is not clean text.
    NOT_TEXT = "not-text";
    /// A value that another record has too, where each needs its own.
    NOT_UNIQUE = "not-unique";
    /// A number outside its limits.
    OUT_OF_RANGE = "out-of-range";
    /// Files that must be equal and are not.
    PAIRED_DIFFER = "paired-differ";
    /// Two files whose paths differ only in upper and lower case.
    PATH_CLASH = "path-clash";
    /// A value that does not have the shape asked for.
    PATTERN_MISMATCH = "pattern-mismatch";
    /// An empty value where the game needs one.
    REQUIRED_EMPTY = "required-empty";
    /// A rule of the game that records do not meet.
    RULE_NOT_MET = "rule-not-met";
    /// A file made from others that is missing, empty, or older than these.
    STALE_FILE = "stale-file";
    /// Blanks, tabs or empty lines that the game stumbles over.
    STRAY_BLANK = "stray-blank";
    /// Text that the format cannot read.
    SYNTAX_ERROR = "syntax-error";
    /// A text with more letters than there is room for where it is shown.
    TEXT_TOO_LONG = "text-too-long";
    /// A value with more letters than there is room for.
    TOO_LONG = "too-long";
    /// A name that a closed table does not describe.
    UNKNOWN_COLUMN = "unknown-column";
    /// A number with a flag in it that is none of those known.
    UNKNOWN_FLAG = "unknown-flag";
    /// A text with a letter that the game's font lacks.
    UNKNOWN_LETTER = "unknown-letter";
    /// A file or link in a layer that cannot be used.
    UNREADABLE_ENTRY = "unreadable-entry";
    /// A field that the schema describes and no record has.
    UNUSED_FIELD = "unused-field";
    /// A file that nothing names.
    UNUSED_FILE = "unused-file";
    /// A list that begins with a wrong count.
    WRONG_COUNT = "wrong-count";
    /// A value or item without the parts it should have.
    WRONG_SHAPE = "wrong-shape";
    /// A value of the wrong kind.
    WRONG_TYPE = "wrong-type";
}

impl Code {
    /// The code as it is written.
    pub const fn as_str(self) -> &'static str {
        self.0
    }
}

impl fmt::Display for Code {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.0)
    }
}

impl Serialize for Code {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self.0)
    }
}

impl<'de> Deserialize<'de> for Code {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Code, D::Error> {
        let name = String::deserialize(deserializer)?;
        let known = Code::ALL.iter().find(|code| code.as_str() == name);
        known.copied().ok_or_else(|| serde::de::Error::custom("no code of a problem"))
    }
}
