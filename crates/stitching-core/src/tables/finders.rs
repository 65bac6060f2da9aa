//! What the checks look at while a file is read. The functions stand with their checks; here is what they are given and
//! when.

use super::{LinkKind, Piece, RecordView};
use crate::Code;
use crate::formats::{Cell, Fault};
use crate::schema::{Field, KeyPart, Schema, Table, ValueRule};
use crate::text::{Span, Text};

/// Looks at one value that is not empty and not none; gives what is wrong with it (message, help).
pub type ValueFinder = fn(&ValueRule, &str) -> Option<(String, Option<String>)>;

/// Looks at a file as a whole, before its records.
pub type FileFinder = fn(&Table, &Text<'_>) -> Option<Fault>;

/// Says that a record lacks a part of its key.
pub type KeyFinder = fn(&RecordView<'_>, KeyPart) -> Fault;

/// Says that a value is not there which the rule at this position requires; the place is where it should be.
pub type EmptyFinder = fn(&RecordView<'_>, usize, Span) -> Fault;

/// Looks at a cell of a field that is a structure, a list, or has parts.
pub type CellFinder = fn(&RecordView<'_>, &Field, &Cell) -> Option<Fault>;

/// Says that a piece of a value does not have the shape of its field.
pub type PieceFinder = fn(&RecordView<'_>, &Piece<'_>) -> Option<Fault>;

/// Says that a piece of a value names something, by this rule and in this way, only together with what is missing.
pub type IncompleteFinder = fn(&RecordView<'_>, &ValueRule, &Piece<'_>, LinkKind) -> Option<Fault>;

/// Looks at the fields of a record that the check is about.
#[derive(Debug, Clone, Copy)]
pub struct FieldFinder {
    /// Which fields.
    pub applies: fn(&Field) -> bool,
    /// What is wrong with the field at this position.
    pub find: fn(&RecordView<'_>, usize) -> Option<Fault>,
}

/// All that looks at something while a file is read.
#[derive(Debug, Default)]
pub struct Finders {
    /// For each table, for each rule, what looks at its values.
    pub values: Vec<Vec<Vec<(Code, ValueFinder)>>>,
    /// What looks at files.
    pub files: Vec<FileFinder>,
    /// What tells of keys that are missing.
    pub keys: Vec<KeyFinder>,
    /// What tells of values that are missing.
    pub empty: Vec<EmptyFinder>,
    /// What looks at cells with something in them.
    pub cells: Vec<CellFinder>,
    /// What tells of pieces that do not fit.
    pub pieces: Vec<PieceFinder>,
    /// What tells of pieces that name nothing by themselves.
    pub incomplete: Vec<IncompleteFinder>,
    /// What looks at fields of records.
    pub fields: Vec<FieldFinder>,
}

impl Finders {
    /// None at all, for those who want only the keys and references of files.
    pub fn none(schema: &Schema) -> Finders {
        let values = schema.tables.iter().map(|table| vec![Vec::new(); table.rules.len()]).collect();
        Finders { values, ..Finders::default() }
    }
}
