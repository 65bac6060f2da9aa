//! How much problems matter, where the schema or the project says otherwise: `[severity]`.

use super::FilePattern;
use crate::problem::{Problem, Severity};

/// How much a problem matters.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Level {
    /// As an error or a warning.
    Told(Severity),
    /// Not at all: it is only counted.
    Off,
}

impl Level {
    /// All of them, by the words of the schema.
    pub const NAMES: [(&'static str, Level); 3] = [
        ("error", Level::Told(Severity::Error)),
        ("warning", Level::Told(Severity::Warning)),
        ("off", Level::Off),
    ];
}

/// How much the problems of a check, or of a rule, matter.
#[derive(Debug, Clone)]
pub struct SeverityRule {
    /// The code of the check, or the name of the rule.
    pub code: String,
    /// Only of records of this table.
    pub table: Option<String>,
    /// Only in these files.
    pub files: Option<FilePattern>,
    /// How much they matter.
    pub level: Level,
}

impl SeverityRule {
    /// Whether it is about `problem`.
    pub fn is_about(&self, problem: &Problem) -> bool {
        let of_table = |table: &String| problem.table.as_ref() == Some(table);
        (self.code == problem.code.as_str() || self.code == problem.name())
            && self.table.as_ref().is_none_or(of_table)
            && self.files.as_ref().is_none_or(|files| files.takes(&problem.place.path))
    }
}
